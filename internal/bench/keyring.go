package bench

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"

	"zealousferry/core"
	packs "zealousferry/core/pack"
	"zealousferry/core/run"
	"zealousferry/core/trust"
)

// keyring is the keys whose signatures count, as this bench holds them: it was told them by the
// service whose key it has pinned, and takes no older list than the one it has. What it writes
// is held against them, whoever served it the bytes.
type keyring struct {
	mu      sync.Mutex
	path    string
	service *pinned
	log     *slog.Logger
	list    trust.KeyList
}

func openKeyring(dir string, service *pinned, log *slog.Logger) (*keyring, error) {
	k := &keyring{path: filepath.Join(dir, "keys.json"), service: service, log: log}
	raw, err := os.ReadFile(k.path)
	if errors.Is(err, fs.ErrNotExist) {
		return k, nil
	}
	if err != nil {
		return nil, err
	}
	var s trust.SignedKeys
	if err := json.Unmarshal(raw, &s); err == nil {
		for _, by := range service.get().Any() { // it was signed when it came
			if k.list, err = s.Open(by); err == nil {
				return k, nil
			}
		}
	}
	return nil, core.Fail(core.BadFile, "%s, the keys that this bench holds, was changed or is damaged", k.path).Do("Move it away: the bench fetches the list anew. Find out who has changed it.")
}

func (k *keyring) number() uint64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.list.Number
}

// take puts a newer list in place of the one that is held. An older one, or one that somebody
// else has signed, changes nothing.
func (k *keyring) take(s trust.SignedKeys) error {
	l, err := s.Open(k.service.get().Now)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if l.Number < k.list.Number {
		return core.Fail(core.NotAllowed, "the service gives an older list of trusted keys, %d, than this bench holds, %d", l.Number, k.list.Number).
			Do("Where its database was put back from a dump, a lead says again what has changed since; or move %s away.", k.path)
	}
	if l.Number == k.list.Number {
		return nil
	}
	raw, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := replace(k.path, raw); err != nil {
		return err
	}
	k.log.Info("trusted keys", "number", l.Number, "keys", len(l.Keys))
	k.list = l
	return nil
}

// vouched holds the release of a run against the keys that this bench holds.
func (b *Bench) vouched(ctx context.Context, o *run.Opened) error {
	if o.Kind != run.Flash {
		return nil // what a restore writes is what a record names
	}
	if o.Word == nil && b.keys.number() == 0 && !b.SignedOnly {
		return nil // a service from before it told
	}
	err := b.wordOf(ctx, o)
	var e *core.Error
	if err != nil && !errors.As(err, &e) {
		err = core.Fail(core.NotAllowed, "%w", err)
	}
	if err != nil {
		return core.Fail(core.KindOf(err), "this bench does not write release %s: %w", o.Version, err).Unit("nothing was changed").Do("A lead looks at the keys that the team trusts, and at who vouches for the release.")
	}
	return nil
}

func (b *Bench) wordOf(ctx context.Context, o *run.Opened) error {
	w := o.Word
	switch {
	case w == nil:
		return core.Fail(core.NotAllowed, "nobody vouches for it")
	case w.How == trust.ByPeople && b.SignedOnly:
		return core.Fail(core.NotAllowed, "people vouch for it, and this bench writes only what a key that it holds has signed")
	case w.How == trust.ByPeople:
		return nil // the service has signed the order, and with it whose word this is
	}
	b.keys.mu.Lock()
	held := b.keys.list.Keys
	b.keys.mu.Unlock()
	if w.How == trust.BySignature && w.Signed != o.Release {
		return core.Fail(core.NotAllowed, "its signature is of something else")
	}
	signed, err := b.blob(ctx, w.Signed)
	if err != nil {
		return err
	}
	if err := w.Check(held, signed); err != nil {
		return err
	}
	if w.How == trust.ByPack {
		return packs.Names(signed, o.Release)
	}
	return nil
}

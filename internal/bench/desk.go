package bench

import (
	"context"
	"errors"
	"os"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/link"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/core/shelf"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// What core/run needs of a bench.

// Open opens one of the job's links.
func (j *job) Open(ctx context.Context, name string) (link.Link, error) {
	if p := j.port(name); p != nil {
		return p.open(ctx, j.bench.Clock)
	}
	return nil, core.Fail(core.NotFound, "the run has no link %s", name)
}

// port is the job's port for a link as the run calls it, BENCH/NAME; without a name the first.
// What the bench is called does not matter: it may have another name since.
func (j *job) port(name string) *port {
	_, link, _ := strings.Cut(name, "/")
	for _, p := range j.ports {
		if name == "" || p.Name == link {
			return p
		}
	}
	return nil
}

// Blob looks on the bench's shelf, then asks the service.
func (j *job) Blob(ctx context.Context, name core.Digest) ([]byte, error) {
	return j.bench.blob(ctx, name)
}

// Held gets a piece that lies on this bench's shelf.
func (j *job) Held(name core.Digest) ([]byte, error) {
	raw, ok, err := j.bench.pack.get(name)
	if err == nil && !ok {
		err = core.Fail(core.NotFound, "piece %s is not on this bench", name.Short())
	}
	return raw, err
}

func (b *Bench) blob(ctx context.Context, name core.Digest) ([]byte, error) {
	if raw, ok, err := b.pack.get(name); ok || err != nil {
		return raw, err
	}
	call, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	raw, err := b.client.Blob(call, name)
	if err != nil {
		return nil, err
	}
	return raw, b.pack.put([]shelf.Piece{{Name: name, Data: raw}})
}

// Missing tells which pieces neither this bench nor the service holds.
func (j *job) Missing(ctx context.Context, names []core.Digest) ([]core.Digest, error) {
	var unknown []core.Digest
	for _, n := range names {
		if !j.bench.pack.has(n) {
			unknown = append(unknown, n)
		}
	}
	if len(unknown) == 0 {
		return nil, nil
	}
	call, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	missing, err := j.bench.client.Missing(call, unknown)
	if err != nil && ctx.Err() == nil {
		return unknown, nil // what cannot be asked for is read from the unit
	}
	return missing, err
}

// Keep puts pieces on this bench's shelf.
func (j *job) Keep(pieces []shelf.Piece) error { return j.bench.pack.put(pieces) }

// askLasts is how long the first erase waits for the service's word; without it
// what the bench heard last counts.
const askLasts = 3 * time.Second

// MayWrite asks the service whether the release was withdrawn meanwhile, and holds it once more
// against the keys of this bench.
func (j *job) MayWrite(ctx context.Context, o *run.Opened) error {
	call, cancel := context.WithTimeout(ctx, askLasts)
	defer cancel()
	j.bench.mu.Lock()
	bars := j.bench.withdrawn[o.Run]
	j.bench.mu.Unlock()
	if m, err := j.bench.client.MayWrite(call, o.Run); err == nil {
		bars = core.Said{ID: m.BarsID, Params: m.BarsParams, Text: m.Bars}
	}
	if bars.Text != "" {
		return bars.Fail(core.DoesNotFit).Unit("nothing was changed").Go(words.Fit(o.Serial).To("Choose another release"))
	}
	if o.Word == nil {
		return nil // it was opened before benches were told, or nobody would have begun it
	}
	j.bench.joinFresh(call) // a key may have been revoked meanwhile; out of reach, what was heard last counts
	return j.bench.vouched(ctx, o)
}

// secretLasts is how long a unit is kept waiting for what opens it: without it the run
// cannot go on, and a slow service is no reason to leave a unit half written.
const secretLasts = 20 * time.Second

// Secret asks the service, which gives it for a run that is open on this bench.
func (j *job) Secret(ctx context.Context, o *run.Opened, name string) (string, error) {
	call, cancel := context.WithTimeout(ctx, secretLasts)
	defer cancel()
	if err := j.handOver(call); err != nil { // the service knows the run by its events
		return "", secretAway(name, err)
	}
	s, err := j.bench.client.BenchSecret(call, client.WantSecret{Run: o.Run, Name: name})
	return s, secretAway(name, err)
}

// secretAway says of a service that is out of reach what that means for whoever wants a
// secret of it.
func secretAway(name string, err error) error {
	if core.KindOf(err) != core.NotAnswering && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return core.Fail(core.NotAnswering, "the unit is locked, and the secret %q that opens it never leaves the service, which is out of reach: %w", name, err).
		Do("Go on once the bench is in touch with the service again.")
}

// SeedKey asks the service, which makes it for a run that is open on this bench.
func (j *job) SeedKey(ctx context.Context, o *run.Opened, name string, level byte, seed []byte) ([]byte, error) {
	call, cancel := context.WithTimeout(ctx, secretLasts)
	defer cancel()
	if err := j.handOver(call); err != nil { // the service knows the run by its events
		return nil, secretAway(name, err)
	}
	key, err := j.bench.client.BenchKey(call, client.WantKey{WantSecret: client.WantSecret{Run: o.Run, Name: name}, Level: level, Seed: seed})
	return key, secretAway(name, err)
}

// SettingsKey asks the service once, and keeps the key beside the journal until the run
// closes: a service that is away later does not keep settings from going back.
func (j *job) SettingsKey(ctx context.Context, o *run.Opened) (settings.Safe, error) {
	name := j.bench.keyFile(o.Run)
	if raw, err := os.ReadFile(name); err == nil && len(raw) == settings.KeyBytes {
		return raw, nil
	}
	call, cancel := context.WithTimeout(ctx, secretLasts)
	defer cancel()
	if err := j.handOver(call); err != nil { // the service knows the run by its events
		return nil, err
	}
	key, err := j.bench.client.SettingsKey(call, o.Run)
	if err != nil {
		return nil, err
	}
	return key, replace(name, key)
}

// Store hands over the pieces that the service lacks and has it keep the backup.
func (j *job) Store(ctx context.Context, o *run.Opened, all []run.Reading) (run.Stored, error) {
	call, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	if err := j.handOver(call); err != nil { // the service knows the run by its events
		return run.Stored{}, err
	}
	get := shelf.Each(func(d core.Digest) ([]byte, error) { return j.bench.blob(call, d) })
	stow := client.Stow{Run: o.Run, Running: j.journal.State().Fact(core.FactRunning), Taken: j.bench.Clock.Now().UnixMicro()}
	var names []core.Digest
	for _, r := range all {
		pieces, err := r.Pieces(get)
		if err != nil {
			return run.Stored{}, err
		}
		names = append(names, pieces...)
		stow.Sections = append(stow.Sections, client.StowSection{Section: r.Section, Main: r.Main, Files: r.Files, Manifest: r.Manifest, How: r.How})
		if r.Main || stow.How == "" {
			stow.Manifest, stow.How = r.Manifest, r.How
		}
	}
	missing, err := j.bench.client.Missing(call, names)
	if err != nil {
		return run.Stored{}, err
	}
	if err := j.bench.putPieces(call, missing); err != nil {
		return run.Stored{}, err
	}
	kept := history.Kept{Bench: j.bench.id.Bench, Run: o.Run, Running: stow.Running, Taken: stow.Taken}
	for _, x := range stow.Sections {
		kept.Sections = append(kept.Sections, history.KeptSection{Section: x.Section, Main: x.Main, Files: x.Files, Manifest: x.Manifest, How: x.How})
	}
	stow.Signed = kept.Encode()
	stow.Signature = j.bench.key.Sign(history.KeptDomain, stow.Signed)
	return j.bench.client.StoreBackup(call, stow)
}

func (b *Bench) putPieces(ctx context.Context, names []core.Digest) error {
	var pieces []shelf.Piece
	bytes := 0
	for i, n := range names {
		raw, ok, err := b.pack.get(n)
		if err != nil {
			return err
		}
		if !ok {
			return core.Fail(core.NotFound, "neither the service nor this bench holds the piece %s", n.Short())
		}
		pieces = append(pieces, shelf.Piece{Name: n, Data: raw})
		bytes += len(raw)
		if bytes > 1<<20 || i == len(names)-1 {
			if err := b.client.PutPieces(ctx, pieces); err != nil {
				return err
			}
			pieces, bytes = nil, 0
		}
	}
	return nil
}

// Seal signs a record and chains it to this bench's one before.
func (j *job) Seal(record func(previous core.Digest) []byte, put func(record, signature []byte) error) error {
	b := j.bench
	b.seal.Lock()
	defer b.seal.Unlock()
	raw := record(b.record)
	if err := put(raw, b.key.Sign(history.RecordDomain, raw)); err != nil {
		return err
	}
	b.record = core.DigestOf(raw)
	return nil
}

// Changed wakes the hand-over.
func (j *job) Changed() { j.changed() }

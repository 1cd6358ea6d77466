package benches

import (
	"context"
	"encoding/base64"
	"errors"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// forgedEvery is how often it is told of one and the same bench that it is not believed.
const forgedEvery = time.Minute

// forgeries is when it was told last that a bench is not believed, by bench.
type forgeries struct {
	mu   sync.Mutex
	told map[string]time.Time
}

// What the audit log keeps of benches that are not believed.
const (
	auditForged   = "bench-forged"
	auditConflict = "events-differ"
)

// Said refuses what a bench says where its key has not signed it. A bench from before benches
// signed may go on until it has signed once.
func (v *Benches) Said(ctx context.Context, raw []byte) error {
	c := frame.Who(ctx)
	b, err := v.benchRow(ctx, c.Bench)
	if err != nil {
		return err
	}
	if c.Signed == "" {
		if b.Signs.Valid {
			return v.forged(ctx, b, "what it said was not signed")
		}
		return nil
	}
	signature, _ := base64.StdEncoding.DecodeString(c.Signed) // what is no signature holds for nothing
	err = v.believed(ctx, b, func(b store.Bench) error {
		if !trust.Public(b.PublicKey).Verify(history.SaidDomain, history.Said(c.Method, c.Path, raw), signature) {
			return errors.New("what it said was signed with another key, or changed on the way")
		}
		return nil
	})
	if err == nil && !b.Signs.Valid {
		return v.store.BenchSigns(ctx, b.ID, v.clock.Now())
	}
	return err
}

// benchRow is a bench's row as it was a moment ago: each thing that it says is held against its key.
// Whether it may speak at all is asked each time, with its token.
func (v *Benches) benchRow(ctx context.Context, id string) (store.Bench, error) {
	all, err := v.Rows(ctx)
	if err != nil {
		return store.Bench{}, err
	}
	if b, ok := all[id]; ok && b.Signs.Valid {
		return b, nil
	}
	return v.store.BenchBy(ctx, id) // it is new, or has not signed yet, or is not believed
}

// believed refuses what does not hold by a bench's row, nor by the row as it is now: the bench may
// have renewed its key at another service. A database that is away is no forgery.
func (v *Benches) believed(ctx context.Context, b store.Bench, holds func(store.Bench) error) error {
	if holds(b) == nil {
		return nil
	}
	b, err := v.store.BenchBy(ctx, b.ID)
	if err != nil {
		return err
	}
	if why := holds(b); why != nil {
		return v.forged(ctx, b, why.Error())
	}
	return nil
}

// forged tells the leads, once a minute at most, and refuses.
func (v *Benches) forged(ctx context.Context, b store.Bench, why string) error {
	refused := core.Fail(core.NotAllowed, "bench %s is not believed: %s", b.Name, why).Do("If this is the bench itself, its folder holds another bench's key: enrol it anew. Else revoke it; somebody has its token.")
	v.forgeries.mu.Lock()
	again := v.clock.Now().Sub(v.forgeries.told[b.ID]) < forgedEvery
	if !again {
		v.forgeries.told[b.ID] = v.clock.Now()
	}
	v.forgeries.mu.Unlock()
	if again {
		return refused
	}
	if err := v.People.Audit(ctx, auditForged, "", "%s, from %s: %s", b.Name, frame.Who(ctx).Address, why); err != nil {
		return err
	}
	return refused
}

// posted holds a batch of events against the signature of its bench.
func (v *Benches) posted(ctx context.Context, p store.Posted) error {
	if len(p.Events) == 0 {
		return nil
	}
	b, err := v.benchRow(ctx, p.Bench)
	if err != nil {
		return err
	}
	if len(p.Signature) == 0 && !b.Signs.Valid {
		return nil
	}
	return v.believed(ctx, b, func(b store.Bench) error {
		if !p.Verify(trust.Public(b.PublicKey), p.Signature) {
			return errors.New("the events of run " + p.Run + " are not signed by it")
		}
		return nil
	})
}

// conflict keeps an event that came again with other content, tells the leads, and refuses.
func (v *Benches) conflict(ctx context.Context, r store.Run, epoch uint64, body []byte) error {
	news, err := v.store.AddConflict(ctx, r.ID, epoch, body, v.clock.Now())
	if err != nil {
		return err
	}
	if news {
		if err := v.People.Audit(ctx, auditConflict, "", "run %s: an event came again with other content; it is kept as evidence", r.ID); err != nil {
			return err
		}
	}
	return core.Fail(core.NotAllowed, "an event of run %s is here already, with other content", r.ID).Do("The first one counts. A lead finds what was refused in the audit log.")
}

// keptBy holds a backup that is to be stored against the signature of its bench: the manifests
// are those that the bench has read.
func (v *Benches) keptBy(ctx context.Context, s client.Stow) error {
	b, err := v.benchRow(ctx, frame.Who(ctx).Bench)
	if err != nil || len(s.Signature) == 0 && !b.Signs.Valid {
		return err
	}
	return v.believed(ctx, b, func(b store.Bench) error {
		return units.IsKept(b, s.Run, s.Signed, s.Signature, s.Manifest, s.Sections)
	})
}

package bench

import (
	"context"
	"sync"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// pinned is the key of the service that has enrolled this bench, with those that were in force
// before. It changes only where the one in force has signed which follows.
type pinned struct {
	mu   sync.Mutex
	line history.Line
}

// pin holds the keys that a bench's folder names.
func pin(id identity) *pinned {
	return &pinned{line: history.Line{Now: id.ServiceKey, Before: id.Before}}
}

func (p *pinned) get() history.Line {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.line
}

// follow takes the service's new key, and puts it down in the bench's folder. It tells whether
// there is one.
func (b *Bench) follow(told []history.SignedSuccession) (bool, error) {
	is := b.service.get()
	next, err := is.Follow(told)
	if err != nil || len(next.Before) == len(is.Before) {
		return false, err
	}
	id, err := readIdentity(b.dir)
	if err != nil {
		return false, err
	}
	id.ServiceKey, id.Before = next.Now, next.Before
	if err := id.write(b.dir); err != nil {
		return false, err
	}
	b.service.mu.Lock()
	b.service.line = next
	b.service.mu.Unlock()
	b.Log.Info("the service has another key, as the one before has signed", "was", is.Now.ID(), "is", next.Now.ID())
	return true, nil
}

// keepHead keeps a head of a unit's history. Where the key that is held has not signed it, the
// service is asked first whether it has another.
func (b *Bench) keepHead(ctx context.Context, h history.Head) {
	if !h.Verify(b.service.get().Now) {
		if err := b.join(ctx); err != nil {
			b.Log.Warn("the service cannot be asked for its key", "error", err)
		}
	}
	b.witness.keepHead(h)
}

// RenewKey has the bench whose folder this is sign with another key from its next start on. Where
// it has stopped in the middle, it goes on.
func RenewKey(ctx context.Context, dir string, clock core.Clock) (is trust.Public, err error) {
	if _, err := readIdentity(dir); err != nil {
		return nil, err
	}
	f, err := lock(dir)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	id, err := readIdentity(dir) // as whoever had the folder before has left it
	if err != nil {
		return nil, err
	}
	old, err := trust.DecodeKey(id.Key)
	if err != nil {
		return nil, err
	}
	c := client.New(id.Service, id.Token, clock)
	c.PinTo(id.Pins)
	defer c.Close()
	if id.Next == "" { // put down first, so that it is not lost once the service knows it
		if err := Believed(ctx, dir); err != nil { // a bench that is on its own goes on as it is
			return nil, core.Fail(core.KindOf(err), "the key is not renewed: %w", err).Unit("nothing was changed")
		}
		next, err := trust.NewKey()
		if err != nil {
			return nil, err
		}
		id.Next = next.Encode()
		if err := id.write(dir); err != nil {
			return nil, err
		}
	}
	next, err := trust.DecodeKey(id.Next)
	if err != nil {
		return nil, err
	}
	x, err := history.Succession{At: clock.Now().UTC()}.Sign(old, next)
	if err != nil {
		return nil, err
	}
	if err := c.RenewBenchKey(ctx, x); err != nil {
		return nil, err
	}
	id.Key, id.Next = id.Next, ""
	return next.Public(), id.write(dir)
}

// halfRenewed refuses to work with a key of which the bench cannot tell whether it still counts.
func (id identity) halfRenewed() error {
	if id.Next == "" {
		return nil
	}
	return core.Fail(core.Interrupted, "the renewal of this bench's key has stopped in the middle").Unit("nothing is lost").Go(words.RenewBenchKey().To("Go on with it"))
}

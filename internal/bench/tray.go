package bench

import (
	"context"
	"slices"

	"zealousferry/core"
	"zealousferry/internal/client"
)

// settled is when a link of a tray was asked last, and somebody answered: it is asked again
// once a person has said that the next unit is on it, or once it was away.
type settled struct {
	tray string
	mark uint64
}

// askTrays asks, on the free links of trays that may begin a unit, who is there, and tells the
// service. It is called each time that the bench has joined; a link is asked by one at a time.
func (b *Bench) askTrays(ctx context.Context) {
	b.mu.Lock()
	trays := b.trays
	b.mu.Unlock()
	if len(trays) == 0 {
		return
	}
	absent := map[string]bool{}
	for _, l := range b.joined() {
		absent[l.Name] = l.Absent != ""
	}
	b.mu.Lock()
	names := b.inForce
	b.mu.Unlock()
	known, err := b.briefs(ctx, names)
	if err != nil {
		return
	}
	for _, t := range trays {
		i := slices.IndexFunc(known, func(x brief) bool { return x.Model == t.Model })
		if i < 0 {
			continue
		}
		asks := known[i].Answers
		for name, mark := range t.Marks {
			if (asks || slices.Contains(t.Put, name)) && b.toAsk(t, name, mark, absent[name], known[i].Quiet) {
				go b.askTray(ctx, t, name, mark, asks)
			}
		}
	}
}

// toAsk tells whether a link is to be asked now, and puts down that it is.
func (b *Bench) toAsk(t client.BenchTray, name string, mark uint64, absent, quiet bool) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	p := b.ports[name]
	last, answered := b.settled[name]
	switch {
	case p == nil || len(p.held) > 0 || b.asking[name]:
		return false
	case absent:
		delete(b.settled, name)
		return false
	case answered && last == (settled{t.ID, mark}) && !quiet:
		return false
	}
	b.asking[name] = true
	return true
}

func (b *Bench) askTray(ctx context.Context, t client.BenchTray, name string, mark uint64, asks bool) {
	defer func() {
		b.mu.Lock()
		delete(b.asking, name)
		b.mu.Unlock()
	}()
	var r client.Result
	var err error
	if asks {
		r, err = b.identify(ctx, client.Order{Kind: client.OrderIdentify, Link: name, Model: t.Model, Named: true, Stays: t.Stays})
	}
	switch kind := core.KindOf(err); {
	case kind == core.NotAnswering || kind == core.Busy || ctx.Err() != nil:
		return // nobody is there yet
	case err != nil:
		r = client.Result{Error: refuse(err)}
	}
	told, err := b.client.TraySeen(ctx, t.ID, client.TraySeen{Link: name, Result: r})
	if err != nil {
		b.Log.Warn("the service could not be told who is on a link of a tray", "link", name, "error", err)
		return
	}
	if told.Settled {
		b.mu.Lock()
		b.settled[name] = settled{t.ID, mark}
		b.mu.Unlock()
	}
}

package diagnose

import (
	"context"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
)

// pings are how often an adapter is asked for itself.
const pings = 20

// Module proves the way to a module of a vehicle by harmless questions. Where an adapter is
// in between, it is asked for itself too: what it takes alone is no fault of the module, and
// what a module takes within its own times (P2 of ISO 14229-2) is no fault at all. What else
// is in the way (the bus, its rate, the gateway) has been said by whoever opened the session.
func Module(ctx context.Context, l link.Link, s loader.Session, kind string, clock core.Clock, tell Tell) (Seen, error) {
	seen := Seen{Kind: kind, Loader: true}
	var err error
	if seen.Proof, err = loader.Prove(ctx, s, questions, patience, clock, tell.asked); err != nil {
		return seen, err
	}
	if p, ok := l.(Pinger); ok {
		if seen.Adapter, err = middle(ctx, p, pings); err != nil {
			seen.Adapter = 0 // it does not tell
		}
	}
	if p, ok := l.(interface{ Beneath() link.Stream }); ok {
		if server, ok := p.Beneath().(Pinger); ok {
			if seen.Server, err = middle(ctx, server, pings/4); err != nil {
				seen.Server = 0
			}
		}
	}
	if ctx.Err() != nil {
		return seen, core.Fail(core.Interrupted, "the check was ended; questions asked until then: %d: %w", seen.Proof.Asked, ctx.Err())
	}
	seen.Due = seen.Proof.Median
	if seen.Adapter > late {
		seen.Due = max(0, seen.Proof.Median-seen.Adapter)
	}
	return seen, nil
}

// middle is the middle of so many answers' times.
func middle(ctx context.Context, p Pinger, n int) (time.Duration, error) {
	var times []time.Duration
	for range n {
		d, err := p.Ping(ctx)
		if err != nil {
			return 0, err
		}
		times = append(times, d)
	}
	slices.Sort(times)
	return times[len(times)/2], nil
}

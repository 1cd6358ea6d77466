// Package links is where units are plugged in: links of benches and what is on them, adapters and their
// wires, what is asked on a link and what came of it.
package links

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

// Links is the room of links.
type Links struct {
	*frame.Frame
	*people.People
	store *store.Store
	key   trust.Key
	clock core.Clock
	newer func(context.Context, store.Unit) (string, error)

	Written   frame.Bell  // something that streams tell was written by this process: an order, the end of a run
	OrderEnds frame.Bells // one was ended, by its id
}

// New makes the room. key signs orders; newer is the version that a unit should have in place of its
// own, if there is one: another room knows.
func New(p *people.People, s *store.Store, key trust.Key, newer func(context.Context, store.Unit) (string, error)) *Links {
	return &Links{Frame: p.Frame, People: p, store: s, key: key, clock: p.Clock, newer: newer}
}

// Package links is where units are plugged in: links of benches and what is on them, adapters and their
// wires, what is asked on a link and what came of it.
package links

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// Links is the room of links.
type Links struct {
	*frame.Frame
	store *store.Store
	key   trust.Key
	clock core.Clock
	newer func(context.Context, store.Unit) (string, error)

	Written   frame.Bell  // something that streams tell was written by this process: an order, the end of a run
	OrderEnds frame.Bells // one was ended, by its id
}

// New makes the room. key signs orders; newer is the version that a unit should have in place of its
// own, if there is one: another room knows.
func New(f *frame.Frame, s *store.Store, key trust.Key, newer func(context.Context, store.Unit) (string, error)) *Links {
	return &Links{Frame: f, store: s, key: key, clock: f.Clock, newer: newer}
}

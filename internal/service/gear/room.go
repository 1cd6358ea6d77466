// Package gear is what the team has to work with: cables, software, entitlements and adapters, and
// what of it is at hand on a bench.
package gear

import (
	"zealousferry/core"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// Gear is the room of what the team has.
type Gear struct {
	*frame.Frame
	store *store.Store
	clock core.Clock
}

// New makes the room.
func New(f *frame.Frame, s *store.Store) *Gear {
	return &Gear{Frame: f, store: s, clock: f.Clock}
}

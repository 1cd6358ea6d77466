// Package rounds is what goes through many runs: rounds of a vehicle, from as found to as left, and trays
// of units that get the same release.
package rounds

import (
	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/service/evidence"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/runs"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// Rounds is the room of rounds and trays.
type Rounds struct {
	*frame.Frame
	Evidence *evidence.Evidence
	Links    *links.Links
	Units    *units.Units
	Runs     *runs.Runs
	store    *store.Store
	key      trust.Key
	clock    core.Clock
}

// New makes the room.
func New(r *runs.Runs, s *store.Store, key trust.Key) *Rounds {
	return &Rounds{Frame: r.Frame, Evidence: r.Evidence, Links: r.Links, Units: r.Units, Runs: r,
		store: s, key: key, clock: r.Clock}
}

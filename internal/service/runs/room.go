// Package runs is what is done to units: whether a run may begin and all that stops it, its page and its
// live stream, its settings, a second person's leave, close-out, trouble, rehearsal, the card and the
// support file.
package runs

import (
	"log/slog"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/service/catalogue"
	"zealousferry/internal/service/evidence"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/gear"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/people"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// Runs is the room of runs.
type Runs struct {
	*frame.Frame
	People    *people.People
	Evidence  *evidence.Evidence
	Gear      *gear.Gear
	Catalogue *catalogue.Catalogue
	Links     *links.Links
	Units     *units.Units
	store     *store.Store
	key       trust.Key
	clock     core.Clock
	log       *slog.Logger

	Follower *Follower // of all live streams
}

// New makes the room.
func New(e *evidence.Evidence, u *units.Units, s *store.Store, key trust.Key) *Runs {
	return &Runs{Frame: u.Frame, People: e.People, Evidence: e, Gear: u.Gear, Catalogue: u.Catalogue, Links: u.Links, Units: u,
		store: s, key: key, clock: u.Clock, log: u.Log,
		Follower: &Follower{store: s, clock: u.Clock, tails: map[string]*tail{}, boxes: map[string]*Box{}, bell: &u.Links.Written}}
}

// Package units is what is known of each unit: the register, facts, sites, what is in it now, which
// release it should have and why, holds, jobs, backups as ways back, what runs have left at it.
package units

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
	"zealousferry/internal/store"
)

// Units is the room of the register.
type Units struct {
	*frame.Frame
	*people.People
	*evidence.Evidence
	*gear.Gear
	*catalogue.Catalogue
	*links.Links
	store *store.Store
	key   trust.Key
	clock core.Clock
	log   *slog.Logger
}

// New makes the room.
func New(p *people.People, e *evidence.Evidence, g *gear.Gear, c *catalogue.Catalogue, l *links.Links, s *store.Store, key trust.Key) *Units {
	return &Units{Frame: p.Frame, People: p, Evidence: e, Gear: g, Catalogue: c, Links: l, store: s, key: key, clock: p.Clock, log: p.Log}
}

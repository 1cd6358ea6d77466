// Package units is what is known of each unit: the register, facts, sites, what is in it now, which
// release it should have and why, holds, jobs, backups as ways back, what runs have left at it.
package units

import (
	"log/slog"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/service/catalogue"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/gear"
	"zealousferry/internal/service/links"
	"zealousferry/internal/store"
)

// Units is the room of the register.
type Units struct {
	*frame.Frame
	Gear      *gear.Gear
	Catalogue *catalogue.Catalogue
	Links     *links.Links
	store     *store.Store
	key       trust.Key
	clock     core.Clock
	log       *slog.Logger
}

// New makes the room.
func New(g *gear.Gear, c *catalogue.Catalogue, l *links.Links, s *store.Store, key trust.Key) *Units {
	return &Units{Frame: c.Frame, Gear: g, Catalogue: c, Links: l, store: s, key: key, clock: c.Clock, log: c.Log}
}

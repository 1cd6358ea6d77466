// Package catalogue is what the team may put into units: models and their sheets, images, releases,
// packs and targets, and who vouches for them.
package catalogue

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/gear"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

// Catalogue is the room of models and releases.
type Catalogue struct {
	*frame.Frame
	People *people.People
	Gear   *gear.Gear
	store  *store.Store
	key    trust.Key
	clock  core.Clock
	shows  func(context.Context, []store.Unit) ([]client.Unit, error)
}

// New makes the room. key seals the secrets of models; shows is how units are shown, of which another
// room knows more.
func New(p *people.People, g *gear.Gear, s *store.Store, key trust.Key, shows func(context.Context, []store.Unit) ([]client.Unit, error)) *Catalogue {
	return &Catalogue{Frame: p.Frame, People: p, Gear: g, store: s, key: key, clock: p.Clock, shows: shows}
}

// Package evidence is what stands behind what is said: the histories of units and the audit log, the
// tree over all of them and its checkpoints, what audits find, photos and how long they are kept.
package evidence

import (
	"log/slog"
	"sync"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

// Evidence is the room of histories.
type Evidence struct {
	*frame.Frame
	People  *people.People
	store   *store.Store
	key     trust.Key
	clock   core.Clock
	log     *slog.Logger
	growing sync.Mutex
	checked checkedChains
}

// New makes the room. key signs heads and checkpoints.
func New(p *people.People, s *store.Store, key trust.Key) *Evidence {
	return &Evidence{Frame: p.Frame, People: p, store: s, key: key, clock: p.Clock, log: p.Log}
}

// Package benches is what benches say and are told: how they enrol, join and follow their orders, the
// events and backups that they hand over, and whether they are believed.
package benches

import (
	"context"
	"log/slog"
	"time"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/service/evidence"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/people"
	"zealousferry/internal/service/rounds"
	"zealousferry/internal/service/runs"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// Benches is the room of benches.
type Benches struct {
	*frame.Frame
	People   *people.People
	Evidence *evidence.Evidence
	Links    *links.Links
	Units    *units.Units
	Runs     *runs.Runs
	Rounds   *rounds.Rounds
	store    *store.Store
	key      trust.Key
	clock    core.Clock
	log      *slog.Logger

	reading   reading
	benches   frame.Shared[map[string]store.Bench]
	sheets    frame.Shared[sheetList]
	forgeries forgeries
}

// New makes the room.
func New(r *rounds.Rounds, s *store.Store, key trust.Key) *Benches {
	return &Benches{Frame: r.Frame, People: r.Runs.People, Evidence: r.Evidence, Links: r.Links, Units: r.Units, Runs: r.Runs, Rounds: r,
		store: s, key: key, clock: r.Clock, log: r.Log,
		forgeries: forgeries{told: map[string]time.Time{}}}
}

// Rows are the rows of all benches by their ids, as they were a moment ago.
func (v *Benches) Rows(ctx context.Context) (map[string]store.Bench, error) {
	return v.benches.Get(ctx, v.Frame, v.store.BenchesByID)
}

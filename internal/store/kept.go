package store

import (
	"context"
	"math"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
)

// KeptRuns is what is kept of some runs, read together: against it the records of a page of a
// history are held.
type KeptRuns struct {
	rows   map[string]Run
	events map[string][][]byte
	spoilt map[string]error // why the events of one cannot be read
}

// togetherRuns is how many runs are read at once.
const togetherRuns = 25

// KeptOf reads some runs with their events; those that are not there are left out.
func (s *Store) KeptOf(ctx context.Context, ids []string) (k KeptRuns, err error) {
	k = KeptRuns{rows: map[string]Run{}, events: map[string][][]byte{}, spoilt: map[string]error{}}
	for len(ids) > 0 {
		some := ids[:min(togetherRuns, len(ids))]
		ids = ids[len(some):]
		q, args, err := sqlx.In(`SELECT `+runColumns+` FROM run r JOIN bench b ON b.id = r.bench WHERE r.id IN (?)`, some)
		if err != nil {
			return k, err
		}
		var rows []Run
		if err := s.db.SelectContext(ctx, &rows, q, args...); err != nil {
			return k, err
		}
		for _, r := range rows {
			k.rows[r.ID] = r
		}
		if q, args, err = sqlx.In(`SELECT `+storedColumns+` FROM run_event e JOIN run_line l ON `+onLine+` WHERE e.run IN (?) ORDER BY e.run, e.n`, some); err != nil {
			return k, err
		}
		var raw []stored
		if err := s.db.SelectContext(ctx, &raw, q, args...); err != nil {
			return k, err
		}
		of := map[string][]stored{}
		for _, x := range raw {
			of[x.Run] = append(of[x.Run], x)
		}
		for id, rows := range of {
			if k.events[id], err = unpacked(id, rows, 1, math.MaxInt32); err != nil {
				k.spoilt[id] = err
			}
		}
	}
	return k, nil
}

// Run is one of them.
func (k KeptRuns) Run(_ context.Context, id string) (Run, error) {
	r, ok := k.rows[id]
	if !ok {
		return r, core.Fail(core.NotFound, "there is no run %q", id)
	}
	return r, nil
}

// RawEvents are the events of one of them, behind the first after.
func (k KeptRuns) RawEvents(_ context.Context, id string, after uint64, most int) ([][]byte, error) {
	if err := k.spoilt[id]; err != nil {
		return nil, err
	}
	all := k.events[id]
	all = all[min(after, uint64(len(all))):]
	return all[:min(most, len(all))], nil
}

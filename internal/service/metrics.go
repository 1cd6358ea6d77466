package service

import (
	"context"
	"net/http"
	"time"

	"github.com/VictoriaMetrics/metrics"

	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// standingWaits is how long the database may take; without its answer what it would tell is left out.
const standingWaits = 3 * time.Second

// metrics writes what this process has counted, and how benches, runs and units stand in the database: what
// is worth an alert and happens elsewhere.
func (v *Service) metrics(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
	v.WriteCounted(w)
	ctx, cancel := context.WithTimeout(r.Context(), standingWaits)
	defer cancel()
	gauge := func(name string, v int, labels ...string) {
		metrics.WriteGaugeUint64(w, frame.Labelled(name, labels...), uint64(v))
	}
	counts, err := v.store.Counts(ctx)
	if err != nil {
		gauge("ferry_database_up", 0)
		return
	}
	gauge("ferry_database_up", 1)
	if benches, err := v.Benches.Rows(ctx); err == nil {
		in, away := 0, 0
		for _, b := range benches {
			switch {
			case b.Revoked.Valid:
			case v.Links.Online(b.Seen, b.Revoked):
				in++
			default:
				away++
			}
		}
		gauge("ferry_benches", in, "state", "in-touch")
		gauge("ferry_benches", away, "state", "away")
	}
	gauge("ferry_runs_open", counts.Open, "state", store.RunOpen)
	gauge("ferry_runs_open", counts.Paused, "state", store.RunPaused)
	gauge("ferry_units", counts.HalfDone, "state", store.UnitHalfDone)
	gauge("ferry_units", counts.NotProven, "state", store.UnitNotProven)
	gauge("ferry_entries_waiting", counts.Waiting)
}

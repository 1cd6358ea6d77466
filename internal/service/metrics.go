package service

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"zealousferry/internal/store"
)

// standing tells, when it is asked for metrics, how benches, runs and units stand in the
// database: what is worth an alert and happens elsewhere than in this process.
type standing struct {
	v       *Service
	up      *prometheus.Desc
	benches *prometheus.Desc
	runs    *prometheus.Desc
	units   *prometheus.Desc
	tree    *prometheus.Desc
}

// standingWaits is how long the database may take; without its answer the gauges are left out.
const standingWaits = 3 * time.Second

func newStanding(v *Service) *standing {
	return &standing{v: v,
		up:      prometheus.NewDesc("ferry_database_up", "1 while the database answers.", nil, nil),
		benches: prometheus.NewDesc("ferry_benches", "Benches that were not revoked, by whether they are in touch.", []string{"state"}, nil),
		runs:    prometheus.NewDesc("ferry_runs_open", "Runs that are not closed: open or paused.", []string{"state"}, nil),
		units:   prometheus.NewDesc("ferry_units", "Units that must not be used as they are: half-done, not-proven.", []string{"state"}, nil),
		tree:    prometheus.NewDesc("ferry_entries_waiting", "Entries of histories that have no place in the tree of all yet; they get one within moments.", nil, nil)}
}

func (s *standing) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{s.up, s.benches, s.runs, s.units, s.tree} {
		out <- d
	}
}

func (s *standing) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), standingWaits)
	defer cancel()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	counts, err := s.v.store.Counts(ctx)
	if err != nil {
		gauge(s.up, 0)
		return
	}
	gauge(s.up, 1)
	benches, err := s.v.Benches.Rows(ctx)
	if err == nil {
		in, away := 0, 0
		for _, b := range benches {
			switch {
			case b.Revoked.Valid:
			case s.v.Links.Online(b.Seen, b.Revoked):
				in++
			default:
				away++
			}
		}
		gauge(s.benches, float64(in), "in-touch")
		gauge(s.benches, float64(away), "away")
	}
	gauge(s.runs, float64(counts.Open), store.RunOpen)
	gauge(s.runs, float64(counts.Paused), store.RunPaused)
	gauge(s.units, float64(counts.HalfDone), store.UnitHalfDone)
	gauge(s.units, float64(counts.NotProven), store.UnitNotProven)
	gauge(s.tree, float64(counts.Waiting))
}

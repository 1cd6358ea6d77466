// Package frame is what every room of the service stands in: calls and their bounds, who calls,
// problems as answers, live streams and what ends them, answers that are shared. It knows nothing
// of units, runs or people.
package frame

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync/atomic"
	"time"

	"github.com/VictoriaMetrics/metrics"
	"golang.org/x/sync/semaphore"

	"zealousferry/core"
	"zealousferry/internal/store"
)

// Frame is what calls are registered in.
type Frame struct {
	Options
	door    *door
	changes atomic.Uint64 // by people, in this process
	counted *metrics.Set
	turns   turns
	bodies  *semaphore.Weighted
}

// Options are what a frame is told by the rooms that stand in it.
type Options struct {
	Clock  core.Clock
	Log    *slog.Logger
	Secure bool // cookies only over TLS

	// Good tells which of the sessions and tokens still count.
	Good func(context.Context, []core.Digest) (map[core.Digest]bool, error)
	// Within refuses a technician what is outside of the benches and sites to which their token or
	// account is bound; param gives what is called by name.
	Within func(ctx context.Context, param func(string) string) error
	// Hears refuses what a bench says where its key has not signed it.
	Hears func(ctx context.Context, raw []byte) error
}

// New makes a frame.
func New(o Options) *Frame {
	return &Frame{Options: o, door: &door{clock: o.Clock, log: o.Log, good: o.Good}, counted: metrics.NewSet(),
		turns: turns{limits: Usual(), of: map[turnKey]*turn{}}, bodies: semaphore.NewWeighted(roomForBodies)}
}

// Counter is one that the service's metrics show: with labels, each a name and its value.
func (v *Frame) Counter(name string, labels ...string) *metrics.Counter {
	return v.counted.GetOrCreateCounter(Labelled(name, labels...))
}

// Labelled is the name of a metric with its labels, as metrics are written in text.
func Labelled(name string, labels ...string) string {
	var all []string
	for i := 0; i < len(labels); i += 2 {
		all = append(all, fmt.Sprintf("%s=%q", labels[i], labels[i+1]))
	}
	if len(all) == 0 {
		return name
	}
	return name + "{" + strings.Join(all, ",") + "}"
}

// WriteCounted writes what was counted here, in the text format of Prometheus.
func (v *Frame) WriteCounted(w io.Writer) { v.counted.WritePrometheus(w) }

// GiveBack gives a work of the background back, so that another service begins at once.
func (v *Frame) GiveBack(s *store.Store, work, me string) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if _, err := s.Lease(ctx, work, me, -time.Second); err != nil {
		v.Log.Warn("a work of the background could not be given back; the next service begins it when it is over", "work", work, "error", err)
	}
}

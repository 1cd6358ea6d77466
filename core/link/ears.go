package link

import (
	"context"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"zealousferry/core"
)

// earHolds is how many frames wait for whoever is slow to take them.
const earHolds = 4096

// Ears hands frames that come off a bus to all who hear them. A link with frames holds one.
type Ears struct {
	Clock core.Clock
	mu    sync.Mutex
	all   []*ear
	gone  error
}

type ear struct {
	of       *Ears
	extended bool
	ids      []uint32
	frames   chan Frame
	ended    chan struct{}
	lost     atomic.Uint64
}

// Hear adds an ear.
func (e *Ears) Hear(extended bool, ids ...uint32) Ear {
	x := &ear{of: e, extended: extended, ids: ids, frames: make(chan Frame, earHolds), ended: make(chan struct{})}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.gone != nil {
		close(x.ended)
		return x
	}
	e.all = append(e.all, x)
	return x
}

// Give hands a frame to each ear that it is for.
func (e *Ears) Give(f Frame) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, x := range e.all {
		if len(x.ids) > 0 && (x.extended != f.Extended || !slices.Contains(x.ids, f.ID)) {
			continue
		}
		select {
		case x.frames <- f:
		default:
			x.lost.Add(1)
		}
	}
}

// End tells all ears that the bus is gone, and why.
func (e *Ears) End(why error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.gone != nil {
		return
	}
	e.gone = why
	for _, x := range e.all {
		close(x.ended)
	}
	e.all = nil
}

func (x *ear) Next(ctx context.Context, by time.Time) (Frame, error) {
	select { // what is there already goes before the end of the time
	case f := <-x.frames:
		return f, nil
	default:
	}
	left := by.Sub(x.of.Clock.Now())
	if left <= 0 && ctx.Err() == nil && !x.over() {
		return Frame{}, os.ErrDeadlineExceeded
	}
	select {
	case f := <-x.frames:
		return f, nil
	case <-x.ended:
		x.of.mu.Lock()
		defer x.of.mu.Unlock()
		if x.of.gone == nil {
			return Frame{}, core.Fail(core.NotAnswering, "nobody hears this bus any more")
		}
		return Frame{}, x.of.gone
	case <-ctx.Done():
		return Frame{}, core.Fail(core.Interrupted, "it was stopped while it waited for a frame: %w", ctx.Err())
	case <-x.of.Clock.After(left):
		return Frame{}, os.ErrDeadlineExceeded
	}
}

// over tells whether the bus is gone.
func (x *ear) over() bool {
	select {
	case <-x.ended:
		return true
	default:
		return false
	}
}

func (x *ear) Lost() uint64 { return x.lost.Load() }

func (x *ear) Close() {
	x.of.mu.Lock()
	defer x.of.mu.Unlock()
	if i := slices.Index(x.of.all, x); i >= 0 {
		x.of.all = slices.Delete(x.of.all, i, i+1)
		close(x.ended)
	}
}

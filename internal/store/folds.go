package store

import (
	"sync"

	"zealousferry/core"
	"zealousferry/core/run"
)

// mostFolds is how many runs' states are kept. One takes some 150 bytes for each sector of its plan,
// 100 KB where a memory of 2 MiB has sectors of 4 KiB.
const mostFolds = 200

// folds keeps what the events of runs at work add up to, so that a batch costs its own events and not
// all those before it. A state counts only behind the very events that its bench has signed: another
// service may have taken some in between, and a transaction that was given up leaves none behind.
type folds struct {
	mu sync.Mutex
	of map[string]fold
}

// fold is what a run's events add up to at one of them; the state may not be known.
type fold struct {
	epoch, last uint64
	chain       core.Digest // of the epoch's events
	state       *run.State
}

// take gives the state that is kept at an event, and keeps it no longer: whoever has it applies more
// to it.
func (f *folds) take(id string, at fold) *run.State {
	f.mu.Lock()
	defer f.mu.Unlock()
	was := f.of[id]
	delete(f.of, id)
	if was.state == nil || was.epoch != at.epoch || was.last != at.last || was.chain != at.chain {
		return nil
	}
	return was.state
}

// chained is what the events of a run's epoch add up to at one of them, as far as that is remembered;
// else zeros, with which an epoch begins.
func (f *folds) chained(id string, epoch, last uint64) core.Digest {
	f.mu.Lock()
	defer f.mu.Unlock()
	if was := f.of[id]; was.epoch == epoch && was.last == last {
		return was.chain
	}
	return core.Digest{}
}

func (f *folds) keep(id string, at fold) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.of == nil {
		f.of = map[string]fold{}
	}
	for other := range f.of {
		if len(f.of) < mostFolds {
			break
		}
		delete(f.of, other)
	}
	f.of[id] = at
}

package service

import (
	"context"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/internal/store"
)

// follower looks into the database for all live streams of runs together: one query
// at each turn, however many watch, and one more for a run that has something new.
// It rests while nobody watches.
type follower struct {
	store   *store.Store
	clock   core.Clock
	mu      sync.Mutex
	tails   map[string]*tail
	looking bool
}

// tail is a run that somebody watches.
type tail struct {
	watchers int
	events   []run.Event
	row      store.Standing
	err      error
	news     chan struct{} // closed when there is any
}

// lookLasts is how long one look into the database takes at most.
const lookLasts = 10 * time.Second

// watch begins to follow a run, until leave is called.
func (f *follower) watch(id string) (t *tail, leave func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	t = f.tails[id]
	if t == nil {
		t = &tail{news: make(chan struct{})}
		f.tails[id] = t
	}
	t.watchers++
	if !f.looking {
		f.looking = true
		go f.look()
	}
	return t, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if t.watchers--; t.watchers == 0 {
			delete(f.tails, id)
		}
	}
}

// after gives the events behind the first n, how the run's row stands, and what
// is closed when there is more. The row is empty before the first look.
func (f *follower) after(t *tail, n int) ([]run.Event, store.Standing, <-chan struct{}, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return t.events[n:len(t.events):len(t.events)], t.row, t.news, t.err
}

// look follows until nobody watches any more.
func (f *follower) look() {
	for {
		f.mu.Lock()
		seen := map[string]uint64{}
		ids := make([]string, 0, len(f.tails))
		for id, t := range f.tails {
			ids = append(ids, id)
			if n := len(t.events); n > 0 {
				seen[id] = t.events[n-1].N
			}
		}
		f.looking = len(ids) > 0
		f.mu.Unlock()
		if len(ids) == 0 {
			return
		}
		f.turn(ids, seen)
		<-f.clock.After(lookEvery)
	}
}

// turn looks once.
func (f *follower) turn(ids []string, seen map[string]uint64) {
	ctx, end := context.WithTimeout(context.Background(), lookLasts)
	defer end()
	rows, err := f.store.Standings(ctx, ids)
	for _, id := range ids {
		row, found := rows[id]
		var events []run.Event
		one := err
		if one == nil && !found {
			one = core.Fail(core.NotFound, "there is no run %s", id)
		}
		if one == nil && row.Last > seen[id] {
			events, one = f.store.Events(ctx, id, seen[id])
		}
		f.mu.Lock()
		if t := f.tails[id]; t != nil && (len(events) > 0 || row != t.row || one != nil) {
			t.events, t.row, t.err = append(t.events, events...), row, one
			close(t.news)
			t.news = make(chan struct{})
		}
		f.mu.Unlock()
	}
}

package runs

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/store"
)

// Follower looks into the database for all live streams together, those of runs and
// those of orders: one query for each of the two at each turn, however many listen, and
// one more for a run that has something new. It rests while nobody listens.
type Follower struct {
	store   *store.Store
	clock   core.Clock
	bell    *frame.Bell // something was written by this process: it looks at once
	mu      sync.Mutex
	tails   map[string]*tail
	boxes   map[string]*Box
	looking bool
	asked   time.Time // when it last asked which benches were revoked
}

// Box is a bench that waits for orders.
type Box struct {
	listeners int
	orders    []store.Order
	revoked   bool
	err       error
	news      chan struct{} // closed when there is any
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
func (f *Follower) watch(id string) (t *tail, leave func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	t = f.tails[id]
	if t == nil {
		t = &tail{news: make(chan struct{})}
		f.tails[id] = t
	}
	t.watchers++
	f.begin()
	return t, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if t.watchers--; t.watchers == 0 {
			delete(f.tails, id)
		}
	}
}

// begin sees to it that somebody looks.
func (f *Follower) begin() {
	if !f.looking {
		f.looking = true
		go f.look()
	}
}

// Listen begins to follow the orders of a bench, until leave is called.
func (f *Follower) Listen(bench string) (b *Box, leave func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	b = f.boxes[bench]
	if b == nil {
		b = &Box{news: make(chan struct{})}
		f.boxes[bench] = b
	}
	b.listeners++
	f.begin()
	f.bell.Ring()
	return b, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if b.listeners--; b.listeners == 0 {
			delete(f.boxes, bench)
		}
	}
}

// Open gives the orders that have not ended, whether the bench was revoked, and what is
// closed when either changes.
func (f *Follower) Open(b *Box) ([]store.Order, bool, <-chan struct{}, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return b.orders, b.revoked, b.news, b.err
}

// after gives the events behind the first n, how the run's row stands, and what
// is closed when there is more. The row is empty before the first look.
func (f *Follower) after(t *tail, n int) ([]run.Event, store.Standing, <-chan struct{}, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return t.events[n:len(t.events):len(t.events)], t.row, t.news, t.err
}

// look follows until nobody watches any more.
func (f *Follower) look() {
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
		benches := slices.Collect(maps.Keys(f.boxes))
		f.looking = len(ids)+len(benches) > 0
		f.mu.Unlock()
		if len(ids)+len(benches) == 0 {
			return
		}
		news := f.bell.Wait()
		if len(ids) > 0 {
			f.turn(ids, seen)
		}
		if len(benches) > 0 {
			f.orders(benches)
		}
		select {
		case <-news:
		case <-f.clock.After(lookEvery):
		}
	}
}

// orders looks once for orders.
func (f *Follower) orders(benches []string) {
	ctx, end := context.WithTimeout(context.Background(), lookLasts)
	defer end()
	open, err := f.store.OpenOrders(ctx, benches)
	var revoked map[string]bool
	if now := f.clock.Now(); err == nil && now.Sub(f.asked) > links.Away/4 {
		f.asked = now
		revoked, err = f.store.Revoked(ctx, benches)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, id := range benches {
		b := f.boxes[id]
		if b == nil {
			continue
		}
		gone := b.revoked || revoked[id]
		if slices.EqualFunc(b.orders, open[id], func(x, y store.Order) bool { return x.ID == y.ID }) && gone == b.revoked && err == nil {
			continue
		}
		b.orders, b.revoked, b.err = open[id], gone, err
		close(b.news)
		b.news = make(chan struct{})
	}
}

// turn looks once.
func (f *Follower) turn(ids []string, seen map[string]uint64) {
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

package run

import (
	"context"
	"sync"

	"zealousferry/core"
	"zealousferry/core/procedure"
	"zealousferry/core/words"
)

// desk is where orders and answers of people wait for the engine. It may be used
// from any goroutine.
type desk struct {
	mu     sync.Mutex
	stop   *Stop
	aside  *LaidAside
	lent   []Borrowed // that are not in the journal yet
	waits  string     // id of the item that a person must answer
	answer chan given
	over   chan struct{} // closed once the run no longer works
	ends   sync.Once
	id     string
	nudged chan struct{}
}

func newDesk(id string) desk {
	return desk{id: id, answer: make(chan given), over: make(chan struct{}), nudged: make(chan struct{}, 1)}
}

func (d *desk) leaveDesk() { d.ends.Do(func() { close(d.over) }) }

func (d *desk) nudge() {
	select {
	case d.nudged <- struct{}{}:
	default:
	}
}

// Stop orders the run to end after the action in hand.
func (d *desk) Stop(by string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.stop == nil {
		d.stop = &Stop{By: by}
	}
	d.nudge()
}

// LayAside orders the run to wait, after the action in hand, with the unit where a.Place
// says.
func (d *desk) LayAside(a LaidAside) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.aside == nil {
		d.aside = &a
	}
	d.nudge()
}

// Borrow notes a change for a while, after the action in hand: the run closes once it is
// taken back, or left by name.
func (d *desk) Borrow(b Borrowed) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.lent = append(d.lent, b)
	d.nudge()
}

// note puts what was borrowed into the journal.
func (r *Run) noteLent() error {
	r.desk.mu.Lock()
	lent := r.lent
	r.lent = nil
	r.desk.mu.Unlock()
	for _, b := range lent {
		if err := r.append(KindBorrowed, b, true); err != nil {
			return err
		}
	}
	return nil
}

func (d *desk) orders() (*Stop, *LaidAside) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.stop, d.aside
}

// ordered puts waiting orders into the journal.
func (r *Run) ordered() error {
	_, err := r.stopped()
	return err
}

// stopped puts a waiting order to stop or to lay the run aside into the journal, and
// tells whether there is one.
func (r *Run) stopped() (bool, error) {
	if r.journal.State().Closed == nil {
		if err := r.noteLent(); err != nil {
			return true, err
		}
	}
	stop, aside := r.orders()
	s := r.journal.State()
	switch {
	case s.Stopped || s.LaidBy != nil || s.Closed != nil:
		return true, nil
	case aside != nil:
		return true, r.append(KindLaidAside, aside, true)
	case stop != nil:
		return true, r.append(KindStopOrdered, stop, true)
	}
	return false, nil
}

// PutAside lays a run aside that is not at work.
func (r *Run) PutAside(a LaidAside) error {
	if r.journal.State().Closed != nil { // whoever stopped it was quicker
		return core.Fail(core.NotFound, "the run is closed, and cannot wait").Go(words.RunShow(r.id).To("See its record"))
	}
	return r.append(KindLaidAside, a, true)
}

// given is an answer on its way to the engine.
type given struct {
	procedure.Answer
	taken chan error
}

// Answer hands a person's answer to the run. A run that does not wait for that item
// says so, and takes nothing.
func (d *desk) Answer(ctx context.Context, a procedure.Answer) error {
	d.mu.Lock()
	waits := d.waits
	d.mu.Unlock()
	if waits == "" || waits != a.Item {
		return d.notNow(a.Item)
	}
	g := given{a, make(chan error, 1)}
	select {
	case d.answer <- g:
		return <-g.taken
	case <-d.over:
		return d.notNow(a.Item)
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (d *desk) notNow(item string) error {
	return core.Fail(core.NotFound, "the run does not wait for %q now", item).Go(words.RunShow(d.id).To("See what it waits for"))
}

func (d *desk) wait(id string) {
	d.mu.Lock()
	d.waits = id
	d.mu.Unlock()
}

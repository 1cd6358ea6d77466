package coretest

import (
	"sync"
	"time"
)

// Patience is how long a test waits for something that comes at its own time. It
// ends a test that hangs and says nothing of speed: a loaded machine may take long.
const Patience = 3 * time.Minute

// Clock is a clock that a test moves. What waits on it fires when it is moved
// past its time.
type Clock struct {
	mu    sync.Mutex
	now   time.Time
	waits []wait
	more  *sync.Cond // somebody waits on it
}

type wait struct {
	at time.Time
	c  chan time.Time
}

// NewClock starts at a time.
func NewClock(at time.Time) *Clock {
	c := &Clock{now: at}
	c.more = sync.NewCond(&c.mu)
	return c
}

// Awaited returns once somebody waits on the clock, so that moving it is not in vain.
func (c *Clock) Awaited() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for len(c.waits) == 0 {
		c.more.Wait()
	}
}

// Now is the clock's time.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

// After fires once the clock was moved by d.
func (c *Clock) After(d time.Duration) <-chan time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	w := wait{c.now.Add(d), make(chan time.Time, 1)}
	if d <= 0 {
		w.c <- c.now
		return w.c
	}
	c.waits = append(c.waits, w)
	c.more.Broadcast()
	return w.c
}

// Move moves the clock on.
func (c *Clock) Move(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
	left := c.waits[:0]
	for _, w := range c.waits {
		if w.at.After(c.now) {
			left = append(left, w)
			continue
		}
		w.c <- c.now
	}
	c.waits = left
}

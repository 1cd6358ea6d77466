package uds

import (
	"sync"
	"time"

	"zealousferry/core/link"
)

// upkeep sends "tester present" again and again, which keeps modules in the session in which
// they were taken.
type upkeep struct {
	mu      sync.Mutex
	stop    chan struct{}
	stopped sync.WaitGroup
}

// begin calls send each time that so long has passed; once it has begun, it changes nothing.
func (u *upkeep) begin(p link.Pace, every time.Duration, send func()) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.stop != nil {
		return
	}
	stop := make(chan struct{})
	u.stop = stop
	u.stopped.Add(1)
	go func() {
		defer u.stopped.Done()
		for {
			select {
			case <-stop:
				return
			case <-p.Clock.After(p.Scaled(every)):
				send()
			}
		}
	}()
}

// end returns once nothing more is sent.
func (u *upkeep) end() {
	u.mu.Lock()
	stop := u.stop
	u.stop = nil
	u.mu.Unlock()
	if stop != nil {
		close(stop)
		u.stopped.Wait()
	}
}

package bench

import (
	"context"
	"sync"
)

// sharing does one piece of work at a time for all who ask for it. Whoever comes while it is
// under way may have come for what is newer than that, and shares the next one with the others
// who wait.
type sharing struct {
	mu      sync.Mutex
	working bool
	next    *shared
}

type shared struct {
	done chan struct{}
	err  error
}

// do gives what came of a piece of work that began after the call; the work goes on where
// whoever asks does not wait for it.
func (s *sharing) do(ctx context.Context, work func() error) error {
	s.mu.Lock()
	mine := s.next
	if mine == nil {
		mine = &shared{done: make(chan struct{})}
		s.next = mine
		if !s.working {
			s.working = true
			go s.work(work)
		}
	}
	s.mu.Unlock()
	select {
	case <-mine.done:
		return mine.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// work works until nobody waits.
func (s *sharing) work(work func() error) {
	for {
		s.mu.Lock()
		now := s.next
		s.next = nil
		s.working = now != nil
		s.mu.Unlock()
		if now == nil {
			return
		}
		now.err = work()
		close(now.done)
	}
}

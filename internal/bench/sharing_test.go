package bench

import (
	"context"
	"errors"
	"sync"
	"testing"
)

// TestSharing: many who ask at once are served by two pieces of work, the second of which began
// after all of them had asked; nobody is served by one that was under way already.
func TestSharing(t *testing.T) {
	var s sharing
	began, may := make(chan int), make(chan struct{})
	n := 0
	work := func() error {
		n++
		began <- n
		<-may
		if n == 2 {
			return errors.New("the second")
		}
		return nil
	}
	first := make(chan error)
	go func() { first <- s.do(context.Background(), work) }()
	<-began
	const many = 20
	var all sync.WaitGroup
	errs := make([]error, many)
	for i := range many {
		all.Add(1)
		go func() { defer all.Done(); errs[i] = s.do(context.Background(), work) }()
	}
	for { // until one of them waits, which the others share
		s.mu.Lock()
		waits := s.next != nil
		s.mu.Unlock()
		if waits {
			break
		}
	}
	may <- struct{}{}
	if err := <-first; err != nil {
		t.Fatal(err)
	}
	served := make(chan struct{})
	go func() { all.Wait(); close(served) }()
	for {
		select {
		case <-began:
			may <- struct{}{}
			continue
		case <-served:
		}
		break
	}
	if n < 2 || n > 4 { // those who came late may have needed one more
		t.Errorf("%d pieces of work for %d who asked", n, many+1)
	}
	if errs[0] == nil && n == 2 {
		t.Error("what came of the work is not told")
	}
}

// TestSharingIsLeft: whoever does not wait any longer is let go, and the work goes on for others.
func TestSharingIsLeft(t *testing.T) {
	var s sharing
	may, over := make(chan struct{}), make(chan struct{})
	ctx, end := context.WithCancel(context.Background())
	left := make(chan error)
	began := make(chan struct{})
	go func() {
		left <- s.do(ctx, func() error { close(began); <-may; close(over); return nil })
	}()
	<-began
	end()
	if err := <-left; !errors.Is(err, context.Canceled) {
		t.Errorf("got %v", err)
	}
	close(may)
	<-over
}

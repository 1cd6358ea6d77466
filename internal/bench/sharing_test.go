package bench

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
)

// TestSharing: many who ask at once are served by two pieces of work, the second of which began
// after all of them had asked; nobody is served by one that was under way already.
func TestSharing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var s sharing
		may := make(chan struct{})
		n := 0
		work := func() error {
			n++
			<-may
			if n == 2 {
				return errors.New("the second")
			}
			return nil
		}
		const many = 20
		errs := make(chan error, many)
		first := make(chan error, 1)
		go func() { first <- s.do(t.Context(), work) }()
		synctest.Wait() // the first piece of work is under way
		for range many {
			go func() { errs <- s.do(t.Context(), work) }()
		}
		synctest.Wait() // all of them wait
		if n != 1 || len(errs) > 0 {
			t.Fatalf("%d pieces of work, %d who were served by the one that was under way", n, len(errs))
		}
		may <- struct{}{}
		if err := <-first; err != nil {
			t.Fatal(err)
		}
		may <- struct{}{}
		synctest.Wait()
		for range many {
			if err := <-errs; err == nil || err.Error() != "the second" {
				t.Errorf("what came of the work is told as %v", err)
			}
		}
		if n != 2 {
			t.Errorf("%d pieces of work for %d who asked", n, many+1)
		}
	})
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

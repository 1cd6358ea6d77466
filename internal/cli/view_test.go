package cli

import (
	"strings"
	"sync"
	"testing"
	"time"

	"zealousferry/core/run"
	"zealousferry/internal/client"
)

// told is a writer that closes seen once a text has been written.
type told struct {
	mu   sync.Mutex
	all  strings.Builder
	text string
	seen chan struct{}
	once sync.Once
}

func (w *told) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.all.Write(p)
	if strings.Contains(w.all.String(), w.text) {
		w.once.Do(func() { close(w.seen) })
	}
	return len(p), nil
}

// A person's turn is drawn when it comes alone, without an event that says anything,
// right after another turn.
func TestTheNextTurnIsDrawn(t *testing.T) {
	w := &told{text: "Fit the strap.", seen: make(chan struct{})}
	a := &app{live: true, err: w}
	v := a.newView(client.Run{ID: "r", Kind: run.Flash})
	defer v.close()
	turn := func(says string) client.Progress {
		return client.Progress{View: run.View{Board: run.BoardHandsOn, Step: run.PhaseHands, Hands: &run.Hands{Item: says, Says: says}}}
	}
	v.show(turn("Pull the plug."))
	v.draw("")
	v.show(turn("Fit the strap."))
	select {
	case <-w.seen:
	case <-time.After(time.Minute):
		t.Errorf("the second turn was never drawn:\n%s", w.all.String())
	}
}

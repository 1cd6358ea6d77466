package cli

import (
	"strings"
	"sync"
	"testing"
	"time"

	"zealousferry/core/run"
	"zealousferry/internal/client"
)

// heard is a writer that closes seen once a text has been written.
type heard struct {
	mu   sync.Mutex
	all  strings.Builder
	text string
	seen chan struct{}
	once sync.Once
}

func (w *heard) Write(p []byte) (int, error) {
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
	w := &heard{text: "Fit the strap.", seen: make(chan struct{})}
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

// A view that has heard nothing for a while says so, and shows no figure as if it
// counted on.
func TestAViewThatHearsNothingSaysSo(t *testing.T) {
	var out strings.Builder
	a := &app{err: &out}
	v := a.newView(client.Run{ID: "r", Kind: run.Flash, Bench: "van"})
	p := client.Progress{View: run.View{Board: run.BoardHandsOff, Step: run.PhaseChange, Touch: 42_000_000}}
	v.show(p)
	if s := v.below(); !strings.Contains(s, "0:42") || strings.Contains(s, "no word") {
		t.Errorf("just heard: %s", s)
	}
	v.heard = time.Now().Add(-20 * time.Second)
	if s := v.below(); strings.Contains(s, "0:42") || !strings.Contains(s, "no word for 20 s") {
		t.Errorf("silent for 20 s: %s", s)
	}
	v.away = true
	if s := v.below(); !strings.Contains(s, "No word from bench van since "+v.heard.Local().Format("15:04:05")) {
		t.Errorf("out of touch: %s", s)
	}
}

// The way back is offered where there is one and something to go back from.
func TestTheWayBackIsOfferedWhereThereIsOne(t *testing.T) {
	for _, x := range []struct {
		touched bool
		back    string
		want    bool
	}{{false, run.BackNone, false}, {false, run.BackFull, false}, {true, run.BackNone, false}, {true, run.BackFull, true}} {
		var out strings.Builder
		a := &app{out: &out}
		r := client.Run{ID: "r", State: "paused", Outcome: string(run.Interrupted)}
		r.Unit.Serial, r.Progress.View.Touched, r.Progress.View.WayBack = "S-0001", x.touched, x.back
		a.ending(r)
		if s := out.String(); strings.Contains(s, "ferry restore S-0001") != x.want || !strings.Contains(s, "ferry run resume r") {
			t.Errorf("changed %v, way back %q: %s", x.touched, x.back, s)
		}
	}
}

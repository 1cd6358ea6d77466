package monitor_test

import (
	"context"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/monitor"
	"zealousferry/sim"
)

// until waits for something that comes at its own time.
func until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(coretest.Patience); !holds(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("waited for %s", what)
		}
	}
}

func TestAnEarHearsWithoutAGap(t *testing.T) {
	u, _, err := coretest.SmallUnitOf("gangway", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer u.Close()
	l, err := coretest.Dial(context.Background(), u)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	over := make(chan struct{})
	e, err := monitor.Listen(l.(link.Stream), link.Default(115200), core.System{}, func() { close(over) })
	if err != nil {
		t.Fatal(err)
	}
	text, n := "", 0
	take := func() bool {
		h, err := e.Take()
		if err != nil {
			t.Fatal(err)
		}
		text += h.Text
		n += h.Bytes
		return n > 0
	}
	if err := e.Say("V?\r"); err != nil {
		t.Fatal(err)
	}
	until(t, "the program's word", func() bool { take(); return text == "program 1.0.0\n" })
	for range 5 { // each start is heard, whenever it comes
		n = 0
		u.Power(false)
		u.Power(true)
		until(t, "the banner", func() bool { take(); return n >= 30 })
	}
	u.Set(sim.Faults{Wiring: sim.Wiring{Parity: "even"}})
	faults := uint64(0)
	until(t, "the wrong parity to be told", func() bool {
		u.Power(false)
		u.Power(true)
		h, err := e.Take()
		if err != nil {
			t.Fatal(err)
		}
		faults += h.Signs.Parity + h.Signs.Framing
		return faults > 0
	})
	e.Stop()
	<-over
	e.Stop() // a second time does no harm
}

// clocked is a clock that a test moves.
type clocked struct {
	core.System
	now chan time.Time
}

func (c clocked) Now() time.Time {
	t := <-c.now
	c.now <- t
	return t
}

// Nobody asks any more: the link is given up by itself. It is gone: that is told.
func TestAnEarEndsByItself(t *testing.T) {
	u, _, err := coretest.SmallUnitOf("gangway", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer u.Close()
	open := func(clock core.Clock) (*monitor.Ear, link.Link) {
		l, err := coretest.Dial(context.Background(), u)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		e, err := monitor.Listen(l.(link.Stream), link.Default(115200), clock, func() {})
		if err != nil {
			t.Fatal(err)
		}
		return e, l
	}
	c := clocked{now: make(chan time.Time, 1)}
	c.now <- time.Now()
	e, l := open(c)
	select {
	case <-e.Over():
		t.Fatal("over at once")
	case <-time.After(50 * time.Millisecond):
	}
	<-c.now
	c.now <- time.Now().Add(time.Hour)
	<-e.Over()
	l.Close()
	e, _ = open(core.System{})
	u.Close()
	<-e.Over()
	if _, err := e.Take(); core.KindOf(err) != core.NotAnswering {
		t.Errorf("a link that is gone: %v", err)
	}
}

func TestReadable(t *testing.T) {
	for raw, want := range map[string]string{"": "", "V?\r\n": "V?\n", "a\x00b\xff": "a·b·", "ä €": "ä €"} {
		if got := monitor.Readable([]byte(raw)); got != want {
			t.Errorf("%q reads %q, expected %q", raw, got, want)
		}
	}
}

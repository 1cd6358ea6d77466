package frame

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/internal/store"
)

// TestTurns: a burst, then so many a second; so many that are not over; each caller and each sort
// for itself.
func TestTurns(t *testing.T) {
	t.Parallel()
	x := turns{limits: Limits{Looks: {Burst: 3, PerSecond: 2}, Streams: {Burst: 100, PerSecond: 100, AtOnce: 2}}, of: map[turnKey]*turn{}}
	now := time.Unix(1e9, 0)
	a, b := turnKey{"a", Looks}, turnKey{"b", Looks}
	for i := range 3 {
		if leave, _, err := x.enter(a, now); err != nil {
			t.Fatalf("call %d: %v", i, err)
		} else {
			leave()
		}
	}
	_, wait, err := x.enter(a, now)
	if core.KindOf(err) != core.Busy || wait != 500*time.Millisecond {
		t.Errorf("the fourth at once: %v, %v", wait, err)
	}
	if _, _, err := x.enter(b, now); err != nil {
		t.Errorf("somebody else: %v", err)
	}
	if _, _, err := x.enter(a, now.Add(wait)); err != nil {
		t.Errorf("after the wait: %v", err)
	}
	if _, _, err := x.enter(turnKey{"a", Changes}, now); err != nil {
		t.Errorf("a sort without a limit: %v", err)
	}
	first, _, _ := x.enter(turnKey{"a", Streams}, now)
	x.enter(turnKey{"a", Streams}, now)
	if _, _, err := x.enter(turnKey{"a", Streams}, now); core.KindOf(err) != core.Busy {
		t.Errorf("a third stream: %v", err)
	}
	first()
	if _, _, err := x.enter(turnKey{"a", Streams}, now); err != nil {
		t.Errorf("a third stream, once one is over: %v", err)
	}
}

// TestTurnsOfMany: whoever has called once and rested is forgotten; whoever makes callers up by
// the thousand makes all that come newly share one turn, and nobody's who was there before.
func TestTurnsOfMany(t *testing.T) {
	t.Parallel()
	x := turns{limits: Limits{Nobodys: {Burst: 2, PerSecond: 1}}, of: map[turnKey]*turn{}}
	now := time.Unix(1e9, 0)
	call := func(caller string) error {
		_, _, err := x.enter(turnKey{caller, Nobodys}, now)
		return err
	}
	once := func(caller string) error {
		leave, _, err := x.enter(turnKey{caller, Nobodys}, now)
		if err == nil {
			leave()
		}
		return err
	}
	for i := range mostTurns {
		once(fmt.Sprint("made up ", i))
	}
	if call("new"); call("newer") != nil || core.KindOf(call("newest")) != core.Busy {
		t.Error("beyond the bound not all others are one")
	}
	if err := call("made up 7"); err != nil {
		t.Errorf("who was there before: %v", err)
	}
	if len(x.of) > mostTurns+1 {
		t.Errorf("%d are counted", len(x.of))
	}
	now = now.Add(time.Minute)
	if err := once("later"); err != nil || len(x.of) > 10 {
		t.Errorf("a minute later: %v, %d are counted", err, len(x.of))
	}
}

func TestNamesOfCallers(t *testing.T) {
	t.Parallel()
	for want, c := range map[string]Caller{
		"person p":          {Person: store.Person{ID: "p"}, Address: "192.0.2.7"},
		"bench b":           {Bench: "b", Address: "192.0.2.7"},
		"192.0.2.7":         {Address: "192.0.2.7"},
		"2001:db8:1:2::/64": {Address: "2001:db8:1:2:3:4:5:6"},
		"192.0.2.8":         {Address: "::ffff:192.0.2.8"},
		"fe80::/64":         {Address: "fe80::1%eth0"},
		"":                  {},
	} {
		if got := c.name(); got != want {
			t.Errorf("%+v: %q, want %q", c, got, want)
		}
	}
}

func TestLimitsTimes(t *testing.T) {
	t.Parallel()
	l := Limits{Files: {Burst: 10, PerSecond: 4, AtOnce: 3}, Says: {Burst: 5, PerSecond: 1}}
	if got := l.Times(0.1); got[Files] != (Limit{1, 0.4, 1}) || got[Says] != (Limit{1, 0.1, 0}) {
		t.Errorf("a tenth: %v", got)
	}
	if got := l.Times(3); got[Files] != (Limit{30, 12, 9}) {
		t.Errorf("three times: %v", got)
	}
	if got := l.Times(0); len(got) != 0 {
		t.Errorf("none: %v", got)
	}
}

// TestEveryAnswerOfLaterSaysWhen: in whole seconds, rounded up, and never none.
func TestEveryAnswerOfLaterSaysWhen(t *testing.T) {
	t.Parallel()
	for after, want := range map[time.Duration]string{0: "1", time.Millisecond: "1", 1001 * time.Millisecond: "2", time.Hour: "3600"} {
		if got := Later(after, core.Fail(core.Busy, "x")).GetHeaders().Get("Retry-After"); got != want {
			t.Errorf("%v: %s, want %s", after, got, want)
		}
	}
	if err := error(Later(0, core.Fail(core.Busy, "x"))); core.KindOf(err) != core.Busy {
		t.Errorf("whoever asks inside what came of a call is not told that it was too soon: %v", core.KindOf(err))
	}
	if h := PlainProblem(404, "x", errors.New("y")).GetHeaders(); len(h) != 0 {
		t.Errorf("%v", h)
	}
}

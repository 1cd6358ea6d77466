package link

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
)

// wooden is a stream whose far end says what it was given.
type wooden struct {
	says  string
	asked string
	lines []string
	modes []Mode
}

func (w *wooden) Generation() uint64              { return 1 }
func (w *wooden) Close() error                    { return nil }
func (w *wooden) SetReadDeadline(time.Time) error { return nil }
func (w *wooden) SetMode(m Mode) error            { w.modes = append(w.modes, m); return nil }
func (w *wooden) Purge() error                    { return nil }
func (w *wooden) Write(p []byte) (int, error)     { w.asked += string(p); return len(p), nil }
func (w *wooden) SetLine(l Line, on bool) error {
	w.lines = append(w.lines, map[bool]string{true: "+", false: "-"}[on]+string(l))
	return nil
}

func (w *wooden) Read(p []byte) (int, error) {
	if w.says == "" {
		return 0, os.ErrDeadlineExceeded
	}
	n := copy(p, w.says[:min(len(w.says), 7)])
	w.says = w.says[n:]
	return n, nil
}

// hasty is a clock on which time passes by being asked for.
type hasty struct{ now time.Time }

func (h *hasty) Now() time.Time { h.now = h.now.Add(50 * time.Millisecond); return h.now }
func (h *hasty) After(time.Duration) <-chan time.Time {
	c := make(chan time.Time, 1)
	c <- h.now
	return c
}

var app = Application{Baud: 9600, Ask: "V?\r", Answer: `program ([0-9.]+)\r`, Wait: 2 * time.Second}

func TestTheProgramIsAskedUntilItAnswers(t *testing.T) {
	w := &wooden{says: "\r\nU starting\r\nprogram 4.2.1\r\n"}
	v, err := AskVersion(context.Background(), w, app, []Hand{{Line: RTS}, {Line: DTR, On: true}, {Wait: time.Second}, {Line: DTR}}, Pace{Clock: &hasty{}})
	if err != nil || v != "4.2.1" || w.asked != "V?\r" || strings.Join(w.lines, " ") != "-rts +dtr -dtr" || w.modes[0].Baud != 9600 {
		t.Errorf("%q %v, asked %q, lines %v", v, err, w.asked, w.lines)
	}
}

// purging is a stream that forgets what has arrived when it is told to.
type purging struct{ *wooden }

func (p purging) Purge() error { p.says = ""; return nil }

// What a program says at its start, before anybody asks, counts where it was just
// started, and is old news where it was not.
func TestWhatAProgramSaysAtItsStart(t *testing.T) {
	if v, err := HearVersion(context.Background(), purging{&wooden{says: "\r\nprogram 4.2.1\r\n"}}, app, nil, Pace{Clock: &hasty{}}); err != nil || v != "4.2.1" {
		t.Errorf("%q %v", v, err)
	}
	if v, err := AskVersion(context.Background(), purging{&wooden{says: "\r\nprogram 4.2.1\r\n"}}, app, nil, Pace{Clock: &hasty{}}); core.KindOf(err) != core.NotAnswering {
		t.Errorf("%q %v", v, err)
	}
}

func TestAProgramThatDoesNotAnswer(t *testing.T) {
	for name, says := range map[string]string{"nothing": "", "something else": "hello\r\n", "without an end": strings.Repeat("x", maxChatter+10)} {
		if v, err := AskVersion(context.Background(), &wooden{says: says}, app, nil, Pace{Clock: &hasty{}}); core.KindOf(err) != core.NotAnswering {
			t.Errorf("%s: %q %v", name, v, err)
		}
	}
	bad := app
	bad.Answer = "no group"
	if _, err := AskVersion(context.Background(), &wooden{}, bad, nil, Pace{Clock: &hasty{}}); core.KindOf(err) != core.BadFile {
		t.Errorf("a pattern without a group: %v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := AskVersion(ctx, &wooden{}, app, nil, Pace{Clock: &hasty{}}); err != context.Canceled {
		t.Errorf("ended from outside: %v", err)
	}
}

func TestCharactersOnTheLine(t *testing.T) {
	for bits, m := range map[int]Mode{10: Default(9600), 11: {Bits: 8, Parity: "even", Stop: "1"}, 12: {Bits: 8, Parity: "odd", Stop: "2"}, 9: {Bits: 7, Parity: "none", Stop: "1"}} {
		if got := m.CharacterBits(); got != bits {
			t.Errorf("%+v has %d bits, want %d", m, got, bits)
		}
	}
	if p := (Pace{}); p.Scaled(time.Second) != time.Second {
		t.Error("a pace of nothing is not the true one")
	}
}

package trace_test

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"zealousferry/core/link"
	"zealousferry/core/link/recording"
	"zealousferry/core/link/recording/trace"
)

// hands is a clock that a test moves.
type hands struct{ now time.Time }

func (h *hands) Now() time.Time                       { return h.now }
func (h *hands) After(time.Duration) <-chan time.Time { return nil }

// echo is a stream that gives what it was told to.
type echo struct {
	recording.Stream
	next []byte
}

func (e *echo) Read(p []byte) (int, error)  { return copy(p, e.next), nil }
func (e *echo) Write(p []byte) (int, error) { return len(p), nil }

// text is what a ring holds, as a person reads it.
func text(t *testing.T, r *trace.Ring) string {
	t.Helper()
	var b bytes.Buffer
	said := recording.Recording{Pieces: r.Taken()}
	if err := said.Write(&b); err != nil {
		t.Fatal(err)
	}
	if again, err := recording.Read(&b); len(said.Pieces) > 0 && (err != nil || len(again.Pieces) != len(said.Pieces)) {
		t.Errorf("what was written cannot be read: %v", err)
	}
	b.Reset()
	said.Write(&b)
	return strings.TrimPrefix(b.String(), "ferry-recording 1\n")
}

func TestWhatATraceKeeps(t *testing.T) {
	h := &hands{now: time.Unix(0, 0)}
	r := trace.New(h)
	e := &echo{}
	s := r.Over(e).(link.Stream)
	hear := func(b string) { e.next = []byte(b); s.Read(make([]byte, 4096)) }
	tick := func(d time.Duration) { h.now = h.now.Add(d) }

	s.SetMode(link.Default(9600))
	s.SetLine(link.RTS, true)
	tick(50 * time.Millisecond)
	s.Write([]byte("who\r"))
	tick(30 * time.Millisecond)
	hear("tide ")
	tick(time.Millisecond)
	hear("gauge\n") // goes on with the one before
	tick(time.Second)
	r.Keep(trace.Memory)
	hear(strings.Repeat("m", 100))
	hear(strings.Repeat("m", 100))
	tick(time.Second)
	loud := link.Hush(link.OneWire(s, link.Default(9600), h))
	s.Write([]byte("password\r"))
	tick(time.Second)
	s.Write([]byte("password\r"))
	loud()
	loud() // twice does no harm
	tick(time.Second)
	s.Write([]byte("out\r"))
	want := `+0.000 > line/9600/8/none/1 ""
+0.000 > rts/on ""
+0.050 > "who\r"
+0.080 < "tide gauge\n"
+1.081 < "mmmmmmmmmmmm" +188
+2.081 > "" +9
+3.081 > "" +9
+4.081 > "out\r"
`
	if got := text(t, r); got != want {
		t.Errorf("kept\n%swant\n%s", got, want)
	}
	if got := text(t, r); got != "" {
		t.Errorf("taken twice: %s", got)
	}
}

// What was said while nothing was to be kept stays unknown, also where the same piece goes
// on when that is over.
func TestNothingOfASecretJoinsWhatIsKept(t *testing.T) {
	h := &hands{now: time.Unix(0, 0)}
	r := trace.New(h)
	s := r.Over(&echo{}).(link.Stream)
	loud := link.Hush(s)
	s.Write([]byte("low wa"))
	loud()
	s.Write([]byte("ter\r"))
	if got := text(t, r); strings.Contains(got, "ter") {
		t.Errorf("kept %s", got)
	}
}

// A ring holds the newest pieces, in their order.
func TestTheOldestGo(t *testing.T) {
	h := &hands{now: time.Unix(0, 0)}
	r := trace.New(h)
	s := r.Over(&echo{}).(link.Stream)
	const n = 3*trace.Pieces + 7
	for i := range n {
		h.now = h.now.Add(time.Second)
		s.Write(fmt.Appendf(nil, "%d", i))
	}
	all := r.Taken()
	if len(all) != trace.Pieces {
		t.Fatalf("%d pieces", len(all))
	}
	for i, p := range all {
		if want := fmt.Sprint(n - trace.Pieces + i); string(p.Data) != want {
			t.Fatalf("piece %d is %q, want %s", i, p.Data, want)
		}
	}
}

// bus and gateway give back what they are sent.
type bus struct{ link.Frames }

func (bus) SendFrame(context.Context, link.Frame) error { return nil }
func (bus) Hear(bool, ...uint32) link.Ear               { return ear{} }

type ear struct{ link.Ear }

func (ear) Next(context.Context, time.Time) (link.Frame, error) {
	return link.NewFrame(0x64A, false, []byte{2, 0x50, 3}), nil
}

type gateway struct{ link.Messages }

func (gateway) Talk(context.Context, uint16) (link.Conversation, error) { return talk{}, nil }

type talk struct{ link.Conversation }

func (talk) Send(context.Context, []byte) error { return nil }
func (talk) Receive(context.Context, time.Time) ([]byte, error) {
	return []byte{0x50, 3}, nil
}

func TestTracesOfModules(t *testing.T) {
	ctx := context.Background()
	r := trace.New(&hands{now: time.Unix(0, 0)})
	b := r.Over(bus{}).(link.Frames)
	b.SendFrame(ctx, link.NewFrame(0x642, false, []byte{2, 0x10, 3}))
	b.Hear(false).Next(ctx, time.Time{})
	c, err := r.Over(gateway{}).(link.Messages).Talk(ctx, 0x42)
	if err != nil {
		t.Fatal(err)
	}
	c.Send(ctx, []byte{0x10, 3})
	c.Receive(ctx, time.Time{})
	want := `+0.000 > 642 "\x02\x10\x03"
+0.000 < 64A "\x02P\x03"
+0.000 > 0042 "\x10\x03"
+0.000 < 0042 "P\x03"
`
	if got := text(t, r); got != want {
		t.Errorf("kept\n%swant\n%s", got, want)
	}
}

// BenchmarkTrace is what a trace adds to a read of 512 bytes; at 921600 baud the line takes
// 5.6 ms for them.
func BenchmarkTrace(b *testing.B) {
	r := trace.New(clock{})
	r.Keep(trace.Memory)
	e := &echo{next: make([]byte, 512)}
	s := r.Over(e).(link.Stream)
	p := make([]byte, 512)
	b.SetBytes(512)
	for b.Loop() {
		s.Read(p)
	}
}

type clock struct{}

func (clock) Now() time.Time                       { return time.Now() }
func (clock) After(time.Duration) <-chan time.Time { return nil }

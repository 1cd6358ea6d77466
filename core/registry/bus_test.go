package registry_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/canline"
	"zealousferry/core/link/isotp"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/link/uds"
	"zealousferry/sim"
)

var ctx = context.Background()

func bus(t *testing.T, kind string, rate string, change func(*sim.Spec)) (link.Frames, *sim.Unit, error) {
	t.Helper()
	u, _, err := coretest.SmallUnitOf(kind, change)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	l, err := canline.Kind{Net: rfc2217.Kind{}}.Open(ctx, link.Settings{"address": u.Address(), "rate": rate}, core.System{})
	if err != nil {
		return nil, u, err
	}
	t.Cleanup(func() { l.Close() })
	return l.(link.Frames), u, nil
}

func ask(b link.Frames) error {
	c := uds.New(isotp.Talk(b, isotp.Address{Request: sim.CanRequest, Response: sim.CanResponse}, isotp.Config{}, core.System{}), link.Pace{Clock: core.System{}}, 0)
	defer c.Close()
	return c.Present(ctx)
}

func TestAnAdapterAndItsBus(t *testing.T) {
	t.Parallel()
	b, u, err := bus(t, "module", "500000", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := ask(b); err != nil {
		t.Error(err)
	}
	u.Power(false)
	for range 40 { // more than may be on their way
		if err = ask(b); core.KindOf(err) != core.NotAnswering {
			t.Fatalf("a module without power: %v", err)
		}
		if strings.Contains(err.Error(), "could not put") {
			break
		}
	}
	if !strings.Contains(err.Error(), "could not put") {
		t.Errorf("nobody takes the frames: %v", err)
	}
	u.Power(true)
	for range 3 {
		if err = ask(b); err == nil {
			break
		}
	}
	if err != nil {
		t.Errorf("with power again: %v", err)
	}
	if err := b.SendFrame(ctx, link.Frame{ID: 0x800}); core.KindOf(err) != core.BadFile {
		t.Errorf("an identifier of 12 bits: %v", err)
	}
}

func TestWhatIsWrongWithABusIsSaid(t *testing.T) {
	t.Parallel()
	if _, _, err := bus(t, "module", "fast", nil); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "500000") {
		t.Errorf("a rate that is none: %v", err)
	}
	if _, _, err := bus(t, "module", "123456", nil); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "250000") {
		t.Errorf("a rate that no adapter has: %v", err)
	}
	if _, _, err := bus(t, "gangway", "500000", nil); core.KindOf(err) != core.NotAnswering || !strings.Contains(err.Error(), "no CAN adapter answers") {
		t.Errorf("no adapter: %v", err)
	}
	b, _, err := bus(t, "module", "500000", func(s *sim.Spec) { s.Bus = 250_000 })
	if err != nil {
		t.Fatal(err)
	}
	for range 2 { // the second time the adapter has said that it could not send
		err = ask(b)
	}
	if core.KindOf(err) != core.NotAnswering || !strings.Contains(core.AsError(err, "").Next, "its rate is right") {
		t.Errorf("another rate on the bus: %v", err)
	}
}

// A module that wants to be asked again after each two frames, and messages of all sizes.
func TestMessagesOverABus(t *testing.T) {
	t.Parallel()
	b, u, err := bus(t, "module", "500000", func(s *sim.Spec) { s.BlockSize, s.Password = 2, "" })
	if err != nil {
		t.Fatal(err)
	}
	c := uds.New(isotp.Talk(b, isotp.Address{Request: sim.CanRequest, Response: sim.CanResponse}, isotp.Config{BlockSize: 3}, core.System{}), link.Pace{Clock: core.System{}}, 0)
	defer c.Close()
	if err := c.Session(ctx, uds.ExtendedSession); err != nil {
		t.Fatal(err)
	}
	if err := c.Session(ctx, uds.ProgrammingSession); err != nil {
		t.Fatal(err)
	}
	want := u.Memory()
	for _, n := range []int{1, 6, 7, 8, 255, 1024} {
		got := make([]byte, n)
		if err := c.Memory(ctx, uds.Format{Address: 4, Length: 2}, 0x1000, got); err != nil || string(got) != string(want[0x1000:][:n]) {
			t.Errorf("%d bytes: %v", n, err)
		}
		if err := c.PutData(ctx, 0xF15A, got); err != nil {
			t.Errorf("%d bytes to it: %v", n, err)
		}
		if back, err := c.Data(ctx, 0xF15A); err != nil || string(back) != string(got) {
			t.Errorf("%d bytes back: %d, %v", n, len(back), err)
		}
	}
	if _, err := isotp.Talk(b, isotp.Address{Request: 1, Response: 2}, isotp.Config{}, core.System{}).Receive(ctx, time.Now()); err == nil {
		t.Error("somebody speaks who is not there")
	}
}

package gangway_test

import (
	"bytes"
	"context"
	"errors"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/loader"
	"zealousferry/sim"
)

// session opens the loader of a small board.
func session(t testing.TB, u *sim.Unit) (loader.Session, link.Link) {
	t.Helper()
	s, l, err := tryOpen(u)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close(); l.Close() })
	return s, l
}

func tryOpen(u *sim.Unit) (loader.Session, link.Link, error) {
	l, err := rfc2217.Kind{}.Open(context.Background(), link.Settings{"address": u.Address()}, core.System{})
	if err != nil {
		return nil, nil, err
	}
	sheet := coretest.SmallSheet()
	s, err := coretest.Session(context.Background(), l, sheet.Main(), 0.2)
	if err != nil {
		l.Close()
	}
	return s, l, err
}

func board(t testing.TB, change func(*sim.Spec)) *sim.Unit {
	t.Helper()
	u, _, err := coretest.SmallUnit(change)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	return u
}

// change writes a sector and reads it back.
func change(ctx context.Context, s loader.Session, address uint64, data []byte) error {
	ops := []loader.Op{{N: 0, Erase: true, Address: address, Length: 1024}, {N: 1, Address: address, Length: uint64(len(data)), Data: data}}
	acked := 0
	err := s.Change(ctx, func() (loader.Op, bool, error) {
		if len(ops) == 0 {
			return loader.Op{}, false, nil
		}
		op := ops[0]
		ops = ops[1:]
		return op, true, nil
	}, func(op loader.Op) error {
		if op.N != acked {
			return errors.New("acknowledged out of order")
		}
		acked++
		return nil
	})
	if err != nil {
		return err
	}
	if acked != 2 {
		return errors.New("not everything was acknowledged")
	}
	got := make([]byte, len(data))
	if err := s.Read(ctx, address, got, nil); err != nil {
		return err
	}
	if !bytes.Equal(got, data) {
		return errors.New("the memory holds other bytes")
	}
	return nil
}

func TestEverythingOnAGoodLine(t *testing.T) {
	u := board(t, nil)
	s, _ := session(t, u)
	ctx := context.Background()
	facts, err := s.Identify(ctx)
	if err != nil || len(facts) != 8 {
		t.Fatalf("%v %v", facts, err)
	}
	if err := change(ctx, s, 0x1000, bytes.Repeat([]byte{0, 1, 0xFF, 0xC0}, 256)); err != nil {
		t.Fatal(err)
	}
	d, err := s.Digest(ctx, 0x1000, 2048, 1024)
	if err != nil || len(d) != 2 || d[0] != core.DigestOf(bytes.Repeat([]byte{0, 1, 0xFF, 0xC0}, 256)) {
		t.Errorf("digests %v %v", d, err)
	}
	if err := s.Restart(ctx, true); err != nil {
		t.Error(err)
	}
}

// A line that loses and flips bytes costs time, never content.
func TestABadLineIsSurvivedOrRefusedInWords(t *testing.T) {
	for name, x := range map[string]struct {
		faults  sim.Faults
		survive bool
	}{
		"one bit in 3000 flipped": {sim.Faults{Noise: 0.0003}, true},
		"one byte in 3000 lost":   {sim.Faults{Loss: 0.0003}, true},
		"both":                    {sim.Faults{Noise: 0.0002, Loss: 0.0002}, true},
		"every third byte lost":   {sim.Faults{Loss: 0.3}, false},
	} {
		t.Run(name, func(t *testing.T) {
			u := board(t, nil)
			s, _ := session(t, u)
			u.Set(x.faults)
			data := make([]byte, 1024)
			for i := range data {
				data[i] = byte(i * 7)
			}
			for sector := range uint64(6) {
				err := change(context.Background(), s, 0x1000+sector*1024, data)
				if x.survive && err != nil {
					t.Fatal(err)
				}
				if !x.survive {
					if core.KindOf(err) != core.NotAnswering {
						t.Errorf("got %v", err)
					}
					return
				}
			}
		})
	}
}

func TestASilentUnitIsNotAnswering(t *testing.T) {
	u := board(t, nil)
	u.Set(sim.Faults{Silent: true})
	if _, _, err := tryOpen(u); core.KindOf(err) != core.NotAnswering {
		t.Errorf("got %v", err)
	}
}

func TestAUnitThatComesBackHasForgottenTheSession(t *testing.T) {
	u := board(t, nil)
	s, l := session(t, u)
	before := l.Generation()
	u.Power(false)
	u.Power(true)
	err := change(context.Background(), s, 0x1000, make([]byte, 1024))
	if k := core.KindOf(err); k != core.NotAnswering && k != core.Interrupted {
		t.Errorf("got %v", err)
	}
	if l.Generation() == before {
		t.Error("the link says nothing of a unit that went away")
	}
}

func TestTheUnitsRefusals(t *testing.T) {
	stuck := uint64(0x1400)
	u := board(t, func(s *sim.Spec) { s.NoDigest = true })
	s, _ := session(t, u)
	ctx := context.Background()
	if err := s.Can(loader.Digest); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("an ability it does not have: %v", err)
	}
	if err := s.Can(loader.Write); err != nil {
		t.Errorf("an ability it has: %v", err)
	}
	if err := change(ctx, s, 0x0000, make([]byte, 1024)); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("the closed loader: %v", err)
	}
	if err := change(ctx, s, 0x100000, make([]byte, 1024)); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("outside the memory: %v", err)
	}
	u.Set(sim.Faults{Stuck: &stuck})
	if err := change(ctx, s, stuck, make([]byte, 1024)); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("a stuck sector: %v", err)
	}
	u.Set(sim.Faults{})
	if err := change(ctx, s, 0x1000, make([]byte, 1024)); err != nil {
		t.Errorf("after all refusals: %v", err)
	}
}

func TestTheEndOfTheContextEndsTheExchange(t *testing.T) {
	u := board(t, nil)
	s, _ := session(t, u)
	u.Set(sim.Faults{Silent: true})
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	if err := s.Read(ctx, 0, make([]byte, 64), nil); core.KindOf(err) != core.Interrupted {
		t.Errorf("got %v", err)
	}
}

// SPEED: both ends go on at the other speed; a reset brings back the first one.
func TestTheSpeedChangesAtBothEnds(t *testing.T) {
	u := board(t, nil)
	s, l := session(t, u)
	ctx := context.Background()
	faster, ok := s.(interface {
		Hurry(ctx context.Context, baud int) error
	})
	if !ok {
		t.Fatal("a Gangway session cannot change its speed")
	}
	if err := faster.Hurry(ctx, 460800); err != nil {
		t.Fatal(err)
	}
	if err := change(ctx, s, 0x1000, bytes.Repeat([]byte{7}, 1024)); err != nil {
		t.Error(err)
	}
	if err := faster.Hurry(ctx, 10); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("10 baud: %v", err)
	}
	s.Close()
	if _, err := coretest.Session(ctx, l, coretest.SmallSheet().Main(), 0.2); err != nil {
		t.Errorf("after a reset at the first speed: %v", err)
	}
}

func TestAFastLoaderIsOpenedFast(t *testing.T) {
	u := board(t, nil)
	l, err := rfc2217.Kind{}.Open(context.Background(), link.Settings{"address": u.Address()}, core.System{})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	sheet := coretest.SmallSheet()
	sheet.Main().Loader = sheet.Main().Loader.With("fast", 921600)
	s, err := coretest.Session(context.Background(), l, sheet.Main(), 0.2)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := change(context.Background(), s, 0x1000, make([]byte, 1024)); err != nil {
		t.Error(err)
	}
}

// CONSOLE passes a line to the program's console.
func TestTheConsoleAnswers(t *testing.T) {
	s, _ := session(t, board(t, nil))
	talker, ok := s.(loader.Talker)
	if !ok || s.Can(loader.Talk) != nil {
		t.Fatal("no console")
	}
	if said, err := talker.Say(context.Background(), "V?"); err != nil || said != "program 1.0.0\r\n" {
		t.Errorf("said %q, %v", said, err)
	}
	if said, err := talker.Say(context.Background(), "what?"); err != nil || said != "" {
		t.Errorf("said %q, %v", said, err)
	}
}

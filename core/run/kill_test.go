package run_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"testing"

	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/sim"
)

// trials is how many of a growing matrix are tried: all under FERRY_TRIALS=full.
func trials(sample, full int) int {
	if os.Getenv("FERRY_TRIALS") == "full" {
		return full
	}
	return sample
}

// work carries a run on in a goroutine that may die in the middle; it reports
// whether the run got to its own end.
func work(ctx context.Context, r *run.Run) (ended bool, err error) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		err = r.Work(ctx)
		ended = true
	}()
	<-done
	return ended, err
}

// killAt flashes, kills the bench right after event n has been written, forgets
// what was not flushed, and takes the run up again until it ends. It returns how
// many events there were without a kill before n.
func killAt(b *bench, disk *coretest.Disk, n int) (*run.State, error) {
	count := 0
	b.OnChange = func() {
		if count++; count == n {
			runtime.Goexit() // the process is gone: nothing after this happens
		}
	}
	j, err := run.OpenJournal(disk)
	if err != nil {
		return nil, err
	}
	b.journal = j
	var r *run.Run
	opened := make(chan struct{})
	go func() {
		defer close(opened)
		r, err = run.New(j, b.laid(b.open), b, b.pace)
	}()
	<-opened
	b.run = r
	if r != nil {
		if ended, err := work(context.Background(), r); ended && err != nil {
			return nil, err
		}
	}
	b.OnChange = nil
	disk.Forget()
	for range 3 {
		if j, err = run.OpenJournal(disk); err != nil {
			return nil, err
		}
		b.journal = j
		if j.State().Opened == nil {
			r, err = run.New(j, b.laid(b.open), b, b.pace)
		} else {
			r, err = run.TakeUp(j, run.TakenUp{By: "p", Label: b.open.Label, Why: "killed"}, b, b.pace)
		}
		if err != nil {
			return nil, err
		}
		b.run = r
		if err := r.Work(context.Background()); err != nil {
			return nil, err
		}
		if j.State().Closed != nil {
			return j.State(), nil
		}
	}
	return j.State(), fmt.Errorf("not closed after three times: %+v", j.State().Fault)
}

// TestKilledAtEveryEvent is law 3 for the bench: at every event of a run, on a
// disk that forgets everything not flushed, with every loader.
func TestKilledAtEveryEvent(t *testing.T) {
	t.Parallel()
	for _, name := range coretest.Loaders {
		b := newBenchOf(t, name, nil)
		events := 0
		b.OnChange = func() { events++ }
		if s := b.flash(t, b.open); s.Closed == nil || s.Closed.Outcome != run.Done {
			t.Fatalf("%s: closed %+v, fault %+v", name, s.Closed, s.Fault)
		}
		step := 1
		if name != "gangway" {
			step = trials(4, 1)
		}
		for n := 1; n <= events; n += step {
			t.Run(fmt.Sprintf("%s after event %d", name, n), func(t *testing.T) {
				t.Parallel()
				b := newBenchOf(t, name, nil)
				before := b.unit.Memory()
				s, err := killAt(b, &coretest.Disk{}, n)
				if err != nil {
					t.Fatal(err)
				}
				ended(t, b, s, before)
			})
		}
	}
}

// ended checks that a unit has ended right, in all its bytes.
func ended(t *testing.T, b *bench, s *run.State, before []byte) {
	t.Helper()
	if s.Closed == nil || s.Closed.Outcome != run.Done && s.Closed.Outcome != run.NothingToDo {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	rightlyWritten(t, b, before)
}

// rightlyWritten checks that all of the release is in the unit, and nothing else has changed.
func rightlyWritten(t *testing.T, b *bench, before []byte) {
	t.Helper()
	want := bytes.Clone(before)
	copy(want[0x1000:], coretest.SmallProgram("2.0.0"))
	if !bytes.Equal(b.unit.Memory(), want) {
		t.Error("the memory is not what it should be")
	}
}

// TestTheLinkCutAt200RandomBytes is law 3 for the cable: wherever it is cut, the
// run ends right when taken up, or the backup can be restored.
func TestTheLinkCutAt200RandomBytes(t *testing.T) {
	t.Parallel()
	cutSomewhere(t, "gangway", 200, func(n int64) sim.Faults { return sim.Faults{CutLead: n} })
}

// TestThePowerCutAtRandomBytes: the unit loses its power in the middle of an
// erase or of a page, which leaves a ruin.
func TestThePowerCutAtRandomBytes(t *testing.T) {
	t.Parallel()
	cutSomewhere(t, "gangway", trials(60, 1000), func(n int64) sim.Faults { return sim.Faults{CutPower: n} })
}

// TestCutsWithTheOtherLoaders does both to each of them.
func TestCutsWithTheOtherLoaders(t *testing.T) {
	t.Parallel()
	for _, name := range coretest.Loaders[1:] {
		t.Run(name+", lead", func(t *testing.T) {
			t.Parallel()
			cutSomewhere(t, name, trials(8, 200), func(n int64) sim.Faults { return sim.Faults{CutLead: n} })
		})
		t.Run(name+", power", func(t *testing.T) {
			t.Parallel()
			cutSomewhere(t, name, trials(8, 200), func(n int64) sim.Faults { return sim.Faults{CutPower: n} })
		})
	}
}

func cutSomewhere(t *testing.T, name string, times int, fault func(int64) sim.Faults) {
	whole := newBenchOf(t, name, nil)
	whole.flash(t, whole.open)
	bytesOfARun := whole.unit.Received()
	r := rand.New(rand.NewPCG(20261124, 1))
	for i := range times {
		n := 1 + r.Int64N(bytesOfARun)
		t.Run(fmt.Sprintf("%d at byte %d", i, n), func(t *testing.T) {
			t.Parallel()
			b := newBenchOf(t, name, func(s *sim.Spec) { s.Seed = uint64(i) })
			before := b.unit.Memory()
			disk := &coretest.Disk{}
			j, _ := run.OpenJournal(disk)
			b.journal = j
			u, err := run.New(j, b.laid(b.open), b, b.pace)
			if err != nil {
				t.Fatal(err)
			}
			b.unit.Set(fault(n))
			for range 4 {
				if err := u.Work(context.Background()); err != nil {
					t.Fatal(err)
				}
				b.unit.Set(sim.Faults{})
				b.unit.Power(true)
				if j.State().Closed != nil {
					break
				}
				if j.State().Outcome() != run.Interrupted {
					t.Fatalf("open, but %q", j.State().Outcome())
				}
				if u, err = run.TakeUp(j, run.TakenUp{By: "p", Label: b.open.Label}, b, b.pace); err != nil {
					t.Fatal(err)
				}
			}
			s := j.State()
			if s.Closed != nil && s.Closed.Outcome == run.Failed && !s.Closed.Touched {
				if !bytes.Equal(b.unit.Memory(), before) {
					t.Error("nothing was to be changed, and something was")
				}
				b.flash(t, b.open) // the same link works again
				return
			}
			if s.Closed != nil && s.Closed.Outcome == run.NotProven && s.Main().Verified != nil && (s.Main().Started == nil || !s.Main().Started.Proven) { // all was there, and the cut came before its program could say so
				rightlyWritten(t, b, before)
				return
			}
			ended(t, b, s, before)
		})
	}
}

// TestADiskThatFailsStopsBeforeTheNextChange: whichever flush fails, nothing is
// changed after it that the journal does not know.
func TestADiskThatFailsStopsBeforeTheNextChange(t *testing.T) {
	t.Parallel()
	for n := 1; n < 40; n += trials(3, 1) {
		t.Run(fmt.Sprintf("flush %d", n), func(t *testing.T) {
			t.Parallel()
			b := newBench(t, nil)
			before := b.unit.Memory()
			flushes := 0
			disk := &coretest.Disk{Fail: func() error {
				if flushes++; flushes >= n {
					return fmt.Errorf("no room")
				}
				return nil
			}}
			j, _ := run.OpenJournal(disk)
			r, err := run.New(j, b.laid(b.open), b, b.pace)
			if err == nil {
				err = r.Work(context.Background())
			}
			if err == nil {
				t.Fatal("the run went on")
			}
			disk.Fail = nil
			disk.Forget()
			if j, err = run.OpenJournal(disk); err != nil {
				t.Fatal(err)
			}
			if j.State().Opened == nil {
				if !bytes.Equal(b.unit.Memory(), before) {
					t.Fatal("changed without a journal")
				}
				return
			}
			if !j.State().Touched() && !bytes.Equal(b.unit.Memory(), before) {
				t.Fatal("memory changed, and the journal does not know")
			}
			if r, err = run.TakeUp(j, run.TakenUp{By: "p", Label: b.open.Label}, b, b.pace); err != nil {
				t.Fatal(err)
			}
			if err := r.Work(context.Background()); err != nil {
				t.Fatal(err)
			}
			ended(t, b, j.State(), before)
		})
	}
}

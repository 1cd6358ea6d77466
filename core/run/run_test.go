package run_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/coretest/terminal"
	"zealousferry/core/link"
	"zealousferry/core/link/serial"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/sim"
)

// bench is a small board with a bench and a release to flash.
type bench struct {
	*coretest.Alone
	unit    *sim.Unit
	open    run.Opened
	pace    link.Pace
	spoil   bool // hands out a wrong image
	journal *run.Journal
	run     *run.Run
	port    string                   // a serial port, in place of the network
	hand    func()                   // of whoever stands beside
	links   func() map[string]string // further links, by the name that the sheet gives them
	sheet   *model.Sheet
}

// Changed has the hand act, then the test.
func (b *bench) Changed() {
	b.hand()
	b.Alone.Changed()
}

func (b *bench) Open(ctx context.Context, name string) (link.Link, error) {
	if b.port != "" {
		return serial.Kind{}.Open(ctx, link.Settings{"path": b.port}, core.System{})
	}
	return b.Alone.Open(ctx, name)
}

// wired puts the bench's unit behind a pseudo-terminal, which has no modem lines:
// a person has set its strap and started it in its loader.
func (b *bench) wired(t *testing.T) {
	t.Helper()
	far, near := terminal.Raw(t)
	l, err := b.Alone.Open(context.Background(), "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	s := l.(link.Stream)
	if err := link.Play(context.Background(), s, coretest.SmallSheet().Main().Loader.Serial().Enter, b.pace); err != nil {
		t.Fatal(err)
	}
	go io.Copy(s, far)
	go io.Copy(far, s)
	b.port = near.Name()
}

func TestAWholeRunOverASerialPortWithoutModemLines(t *testing.T) {
	b := newBench(t, nil)
	b.wired(t)
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || s.Main().Started.Version != "2.0.0" {
		t.Fatalf("closed %+v, fault %+v, started %+v", s.Closed, s.Fault, s.Main().Started)
	}
	want := coretest.SmallProgram("2.0.0")
	if !bytes.Equal(b.unit.Memory()[0x1000:][:len(want)], want) {
		t.Error("the program in memory is not the image")
	}
}

// Blob hands out what is on the shelf; a spoilt bench gives other bytes for
// anything as large as a program.
func (b *bench) Blob(ctx context.Context, d core.Digest) ([]byte, error) {
	raw, err := b.Alone.Blob(ctx, d)
	if b.spoil && len(raw) == 20<<10 {
		raw = bytes.Clone(raw)
		raw[100] ^= 1
	}
	return raw, err
}

// onEvent calls do once, in the middle of the run, as soon as when holds.
func (b *bench) onEvent(when func(*run.Journal) bool, do func()) {
	done := false
	b.OnChange = func() {
		if !done && b.journal != nil && b.run != nil && when(b.journal) {
			done = true
			do()
		}
	}
}

func newBench(t testing.TB, change func(*sim.Spec)) *bench {
	t.Helper()
	return newBenchOf(t, "gangway", change)
}

// newBenchOf is the same with another of coretest.Loaders. What such a unit cannot
// do is waived, its label is read, its power applied when it is called for.
func newBenchOf(t testing.TB, name string, change func(*sim.Spec)) *bench {
	t.Helper()
	u, sheet, err := coretest.SmallUnitOf(name, change)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	a := coretest.NewAlone(u)
	b := &bench{Alone: a, unit: u, pace: link.Pace{Clock: core.System{}, Scale: 1}}
	b.open = run.Opened{Run: "run-1", Kind: run.Flash, Unit: "unit-1", Model: sheet.Model, Serial: "S-0001", Bench: "b", Link: "b/l", By: "p",
		Sheet: a.Put(coretest.SmallSheetOf(name)), Version: "2.0.0", Deadline: time.Second}
	if name != "gangway" && name != "one-wire" {
		b.open.Label = "S-0001"
		b.open.Noted = []core.Fact{{Name: core.FactRevision, Value: "D", Source: core.FromLabel, At: time.Now()}}
		b.open.Waivers = []run.Waiver{{Gate: run.GateBackup, Reason: "it cannot be read", By: "lead", Role: "lead"}}
	}
	b.hand = func() {
		if b.journal != nil && b.journal.State().Hands != nil && b.journal.State().Hands.Calling {
			u.Power(false)
			u.Power(true)
		}
	}
	b.open.Release = a.Release(sheet, "2.0.0", 0x1000, coretest.SmallProgram("2.0.0"), map[string][]string{"revision": {"D"}})
	return b
}

// laid is the opening event of a run with its sections and its itinerary.
func (b *bench) laid(o run.Opened) run.Opened {
	raw, err := b.Alone.Blob(context.Background(), o.Sheet)
	if err != nil {
		panic(err)
	}
	sheet, err := model.ReadSheet(raw)
	if err != nil {
		panic(err)
	}
	var release *model.Release
	if !o.Release.IsZero() {
		raw, err := b.Alone.Blob(context.Background(), o.Release)
		if err != nil {
			panic(err)
		}
		release = new(model.Release)
		if err := json.Unmarshal(raw, release); err != nil {
			panic(err)
		}
	}
	var links map[string]string
	if b.links != nil {
		links = b.links()
	}
	if err := o.Lay(sheet, release, links); err != nil {
		panic(err)
	}
	return o
}

// flash opens a run and works it to its end.
func (b *bench) flash(t testing.TB, o run.Opened) *run.State {
	t.Helper()
	return b.flashFor(t, context.Background(), o)
}

// flashFor is the same, at most as long as the context lasts.
func (b *bench) flashFor(t testing.TB, ctx context.Context, o run.Opened) *run.State {
	t.Helper()
	j, err := run.OpenJournal(&coretest.Disk{})
	if err != nil {
		t.Fatal(err)
	}
	b.journal = j
	r, err := run.New(j, b.laid(o), b, b.pace)
	if err != nil {
		t.Fatal(err)
	}
	b.run = r
	if err := r.Work(ctx); err != nil {
		t.Fatalf("%v, after %d events", err, len(j.Events()))
	}
	return j.State()
}

func TestFlashWritesVerifiesAndStarts(t *testing.T) {
	b := newBench(t, nil)
	before := b.unit.Memory()
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	after := b.unit.Memory()
	want := coretest.SmallProgram("2.0.0")
	if !bytes.Equal(after[0x1000:][:len(want)], want) {
		t.Error("the program in memory is not the image")
	}
	if !bytes.Equal(after[:0x1000], before[:0x1000]) || !bytes.Equal(after[0x7000:], before[0x7000:]) {
		t.Error("memory outside the image changed")
	}
	if s.Main().Started.Version != "2.0.0" {
		t.Errorf("runs %q after the run (%s)", s.Main().Started.Version, s.Main().Started.Note)
	}
	if s.Main().Verified.How != "unit-digest" || len(b.Stored) != 1 {
		t.Errorf("verified %+v, stored %d backups", s.Main().Verified, len(b.Stored))
	}
}

func marshal(t testing.TB, e run.Event) []byte {
	t.Helper()
	raw, err := json.Marshal(e)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// A sector that seems to differ is read again before anybody calls it wrong: a reading
// that flickered is no reason to set a unit apart, a byte that stays wrong is one.
func TestASectorThatSeemsToDifferIsReadAgain(t *testing.T) {
	at := uint64(0x2345)
	for _, name := range []string{"gangway", "keel"} {
		for what, right := range map[string]bool{"the reading": true, "the memory": false} {
			b := newBenchOf(t, name, nil)
			done := false
			b.onEvent(func(j *run.Journal) bool {
				if done || !allWritten(j) {
					return false
				}
				done = true
				return true
			}, func() {
				if right {
					b.unit.Set(sim.Faults{Flicker: &at})
					return
				}
				b.unit.Write(at, []byte{b.unit.Memory()[at] ^ 0x10})
			})
			s := b.flash(t, b.open)
			if right && (s.Closed == nil || s.Closed.Outcome != run.Done) || !right && (s.Fault == nil || s.Fault.Kind != core.VerifyDiffers) {
				t.Errorf("%s, %s is wrong: closed %+v, fault %+v", name, what, s.Closed, s.Fault)
			}
		}
	}
}

// allWritten tells whether all of the plan is done and nothing verified yet.
func allWritten(j *run.Journal) bool {
	all := j.Events()
	last := all[len(all)-1]
	return last.Kind == run.KindDone && j.State().View().Right == j.State().View().Changes
}

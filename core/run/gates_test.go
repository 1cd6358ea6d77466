package run_test

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/sim"
)

// TestGates: whatever a gate refuses, the memory is untouched and the record says why.
func TestGates(t *testing.T) {
	fitsC := map[string][]string{"revision": {"C"}}
	fitsD := map[string][]string{"revision": {"D"}}
	for name, x := range map[string]struct {
		spec    func(*sim.Spec)
		prepare func(b *bench)
		kind    core.Kind
		outcome run.Outcome
		step    run.Phase
		words   string
	}{
		"image for the other revision": {nil, func(b *bench) {
			b.open.Release = b.Release(coretest.SmallSheet(), "2.0.0", 0x1000, coretest.SmallProgram("2.0.0"), fitsC)
		}, core.DoesNotFit, run.Refused, run.PhaseJudge, "It is for revision C; this unit is revision D (wire)"},
		"a fact that nobody answered": {func(s *sim.Spec) { s.Revision = "" }, nil, core.CannotTell, run.Refused, run.PhaseJudge, "The revision is not known"},
		"wire and label disagree": {nil, func(b *bench) {
			b.open.Noted = []core.Fact{{Name: "revision", Value: "C", Source: core.FromLabel}}
		}, core.CannotTell, run.Refused, run.PhaseJudge, "The wire says revision D, the label says C"},
		"image larger than the memory": {nil, func(b *bench) {
			b.open.Release = b.Release(coretest.SmallSheet(), "2.0.0", 0x1000, make([]byte, 60<<10), fitsD)
		}, core.DoesNotFit, run.Refused, run.PhaseJudge, "the memory has 32 KiB"},
		"over the boot loader": {nil, func(b *bench) {
			b.open.Release = b.Release(coretest.SmallSheet(), "2.0.0", 0x0800, make([]byte, 4<<10), fitsD)
		}, core.DoesNotFit, run.Refused, run.PhaseJudge, "would overwrite region loader"},
		"another unit on the link":                   {func(s *sim.Spec) { s.Serial = "S-0999" }, nil, core.WrongUnit, run.Refused, run.PhaseIdentify, "the run is for unit S-0001; on the link is S-0999"},
		"another model on the link":                  {func(s *sim.Spec) { s.Says = "OTHER" }, nil, core.WrongUnit, run.Refused, run.PhaseIdentify, `on the link is "OTHER"`},
		"no serial on the wire, label not confirmed": {func(s *sim.Spec) { s.Serial = "" }, nil, core.CannotTell, run.Refused, run.PhaseIdentify, "nobody has confirmed"},
		"a silent link":                              {nil, func(b *bench) { b.unit.Set(sim.Faults{Silent: true}) }, core.NotAnswering, run.Failed, run.PhaseIdentify, "does not answer"},
		"memory that cannot be read":                 {func(s *sim.Spec) { s.NoRead = true }, nil, core.Protected, run.Refused, run.PhaseKeep, "reading is locked"},
		"withdrawn while the memory was read":        {nil, func(b *bench) { b.Withdrawn = "release 2.0.0 was withdrawn: loses the tray" }, core.DoesNotFit, run.Refused, run.PhaseSame, "release 2.0.0 was withdrawn: loses the tray"},
		"an image that is not the named":             {nil, func(b *bench) { b.spoil = true }, core.BadFile, run.Refused, run.PhasePlan, "is not the one that the release names"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, x.spec)
			if x.prepare != nil {
				x.prepare(b)
			}
			before := b.unit.Memory()
			s := b.flash(t, b.open)
			if s.Closed == nil || s.Closed.Outcome != x.outcome || s.Fault == nil || s.Fault.Kind != x.kind || s.Fault.Step != x.step {
				t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
			}
			if !strings.Contains(s.Fault.Message, x.words) || s.Fault.State != "nothing was changed" || s.Fault.StateID != "nothing-was-changed" || s.Fault.Next == "" {
				t.Errorf("a technician reads %+v, want %q", s.Fault, x.words)
			}
			if !bytes.Equal(b.unit.Memory(), before) {
				t.Error("memory was changed")
			}
			record, err := history.DecodeRecord(s.Closed.Record)
			if err != nil || record.Outcome != string(x.outcome) || record.Reason != s.Fault.Message {
				t.Errorf("record %+v %v", record, err)
			}
		})
	}
}

// Law 2: a unit that is exchanged between identify and erase is not written.
func TestAUnitSwappedBeforeTheErase(t *testing.T) {
	for name, serial := range map[string]string{"another serial": "S-0002", "no serial on the wire": ""} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, func(s *sim.Spec) {
				if serial == "" {
					s.Serial = ""
				}
			})
			b.open.Label = "S-0001"
			b.onEvent(func(j *run.Journal) bool { return j.State().Main().Planned != nil && !j.State().Main().Same }, func() {
				b.unit.Swap(serial, "D", nil)
			})
			before := b.unit.Memory()
			s := b.flash(t, b.open)
			if s.Closed == nil || s.Closed.Outcome == run.Done || s.Touched() {
				t.Fatalf("closed %+v", s.Closed)
			}
			if k := s.Fault.Kind; k != core.WrongUnit && k != core.Interrupted && k != core.NotAnswering {
				t.Errorf("fault %+v", s.Fault)
			}
			if !bytes.Equal(b.unit.Memory(), before) {
				t.Error("the other unit was written")
			}
		})
	}
}

// Law 1: until the service has the backup nothing is erased; the run waits, and a
// person may stop it.
func TestTheRunWaitsForTheBackupToBeStored(t *testing.T) {
	b := newBench(t, nil)
	away := true
	b.Away = func() bool { return away }
	b.open.Deadline = time.Minute
	before := b.unit.Memory()
	b.onEvent(func(j *run.Journal) bool { return j.State().Waits != "" }, func() {
		if !bytes.Equal(b.unit.Memory(), before) || b.journal.State().Outcome() != run.Waiting {
			t.Error("it does not wait")
		}
		away = false
	})
	if s := b.flash(t, b.open); s.Closed.Outcome != run.Done || len(b.Stored) != 1 {
		t.Errorf("closed %+v %+v", s.Closed, s.Fault)
	}
	b = newBench(t, nil)
	b.Away = func() bool { return true }
	b.open.Deadline = time.Minute
	before = b.unit.Memory()
	b.onEvent(func(j *run.Journal) bool { return j.State().Waits != "" }, func() { b.run.Stop("p") })
	if s := b.flash(t, b.open); s.Closed.Outcome != run.Abandoned || !bytes.Equal(b.unit.Memory(), before) {
		t.Errorf("closed %+v %+v", s.Closed, s.Fault)
	}
	b = newBench(t, nil)
	b.Away = func() bool { return true }
	b.open.Deadline = 0
	if s := b.flash(t, b.open); s.Closed.Outcome != run.Failed || s.Fault.Kind != core.NotAnswering || s.Fault.Step != run.PhaseStore {
		t.Errorf("closed %+v %+v", s.Closed, s.Fault)
	}
}

// TestNothingToDoAndNotPassed: a unit that runs the release already, and whose job's test was
// not passed, is not proven: the test stays with the unit, as it does after a write.
func TestNothingToDoAndNotPassed(t *testing.T) {
	for value, want := range map[string]struct {
		outcome run.Outcome
		says    string
		state   string
	}{
		procedure.Yes:       {run.NothingToDo, "runs this version already", ""},
		procedure.No:        {run.NotProven, `"It pairs.": as seen`, run.OweExcused},
		procedure.Elsewhere: {run.NotProven, "Edda Rooke answers it by 2027-01-31", run.OweHanded},
	} {
		b := handed(t, map[string]string{"test-of-job-7": value})
		b.open.Sheet = b.Put(coretest.SmallSheetOf("gangway"))
		b.open.Release = b.Release(coretest.SmallSheet(), "1.0.0", 0x1000, coretest.SmallProgram("1.0.0"), map[string][]string{"revision": {"D"}})
		b.open.Job = &run.Job{Number: 7, Reason: "does not pair", Test: "It pairs."}
		s := b.flash(t, b.open)
		if s.Closed == nil || s.Touched() || s.Closed.Outcome != want.outcome || !strings.Contains(s.Closed.Reason, want.says) {
			t.Fatalf("%s: %+v %+v", value, s.Closed, s.Fault)
		}
		if want.state != "" && (len(s.Closed.Owed) != 1 || s.Closed.Owed[0].Kind != run.OweTest || s.Closed.Owed[0].State != want.state) || want.state == "" && len(s.Closed.Owed) != 0 {
			t.Errorf("%s: owed %+v", value, s.Closed.Owed)
		}
		if got := run.StandingOf(s.Closed.Outcome, s.Closed.Touched, s.Closed.Owed, ""); (got == run.InService) != (want.state == "") {
			t.Errorf("%s: it stands %s", value, got)
		}
	}
}

func TestNothingToDo(t *testing.T) {
	b := newBench(t, nil)
	b.open.Release = b.Release(coretest.SmallSheet(), "1.0.0", 0x1000, coretest.SmallProgram("1.0.0"), map[string][]string{"revision": {"D"}})
	s := b.flash(t, b.open)
	if s.Closed.Outcome != run.NothingToDo || s.Main().BackedUp != nil || b.unit.Version() != "1.0.0" {
		t.Errorf("closed %+v", s.Closed)
	}
	b.open.Again = true
	if s = b.flash(t, b.open); s.Closed.Outcome != run.NothingToDo || s.Main().Planned == nil || s.Touched() {
		t.Errorf("bytes that are there already: %+v %+v", s.Closed, s.Fault)
	}
}

// Law 4: a sector that does not hold what was written is found, and the record
// does not say done.
func TestVerifyFindsWhatDiffers(t *testing.T) {
	b := newBench(t, nil)
	b.onEvent(func(j *run.Journal) bool {
		s := j.State()
		return s.Touched() && s.Main().Verified == nil && s.Next().Phase == run.PhaseVerify
	}, func() { b.unit.Write(0x1403, []byte{0x55, 0x66}) })
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Failed || s.Fault.Kind != core.VerifyDiffers || s.Fault.Sector == nil || !strings.Contains(s.Fault.Message, "0x001400") {
		t.Fatalf("closed %+v fault %+v", s.Closed, s.Fault)
	}
	if s.View().Board != run.BoardStopped || !strings.Contains(s.Strip(), string(run.CellDiffers)) {
		t.Errorf("board %+v strip %s", s.View(), s.Strip())
	}
}

// A stuck sector ends the run; the next one goes by the first one's backup, since
// ruins are not read again.
func TestAStuckSectorThenARestoreByTheFirstBackup(t *testing.T) {
	b := newBench(t, nil)
	before := b.unit.Memory()
	stuck := uint64(0x1800)
	b.unit.Set(sim.Faults{Stuck: &stuck})
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Failed || s.Fault.Kind != core.RefusedByUnit || !s.Closed.Touched {
		t.Fatalf("closed %+v fault %+v", s.Closed, s.Fault)
	}
	b.unit.Set(sim.Faults{})
	o := b.open
	o.Run, o.Kind, o.Release, o.Version = "run-2", run.Restore, core.Digest{}, "1.0.0"
	o.Source = &run.Source{Backup: "b", Manifest: s.Main().BackedUp.Manifest, Run: "run-1", Unit: "unit-1"}
	o.Covered = o.Source
	s = b.flash(t, o)
	if s.Closed.Outcome != run.Done || s.Main().BackedUp != nil || s.Main().Covered == nil {
		t.Fatalf("closed %+v fault %+v", s.Closed, s.Fault)
	}
	if !bytes.Equal(b.unit.Memory(), before) || s.Main().Started.Version != "1.0.0" {
		t.Error("the restore is not bit for bit")
	}
}

// A flash after a write that was cut off mends what that write ruined, also where
// the new image does not reach.
func TestAFlashAfterACutWriteMendsWhatItRuined(t *testing.T) {
	b := newBench(t, nil)
	before := b.unit.Memory()
	stuck := uint64(0x5800)
	b.unit.Set(sim.Faults{Stuck: &stuck})
	first := b.flash(t, b.open)
	if first.Closed == nil || first.Closed.Outcome != run.Failed || !first.Closed.Touched {
		t.Fatalf("closed %+v fault %+v", first.Closed, first.Fault)
	}
	b.unit.Set(sim.Faults{})
	small := coretest.SmallProgram("3.0.0")[:8<<10]
	o := b.open
	o.Run, o.Version = "run-2", "3.0.0"
	o.Release = b.Release(coretest.SmallSheet(), "3.0.0", 0x1000, small, map[string][]string{"revision": {"D"}})
	o.Covered = &run.Source{Backup: "b", Manifest: first.Main().BackedUp.Manifest, Run: "run-1", Unit: "unit-1"}
	s := b.flash(t, o)
	if s.Closed == nil || s.Closed.Outcome != run.NotProven { // half a program does not say its version
		t.Fatalf("closed %+v fault %+v", s.Closed, s.Fault)
	}
	want := bytes.Clone(before)
	copy(want[0x1000:], small)
	if !bytes.Equal(b.unit.Memory(), want) {
		t.Error("what the first write ruined behind the image is still ruined")
	}
}

func TestABackupOfAnotherUnitIsRefused(t *testing.T) {
	b := newBench(t, nil)
	o := b.open
	o.Kind, o.Release, o.Source = run.Restore, core.Digest{}, &run.Source{Backup: "b", Unit: "unit-2"}
	if s := b.flash(t, o); s.Closed.Outcome != run.Refused || s.Fault.Kind != core.NotAllowed {
		t.Errorf("closed %+v fault %+v", s.Closed, s.Fault)
	}
}

func TestAUnitWithoutDigestsIsReadTwiceAndReadBack(t *testing.T) {
	b := newBench(t, func(s *sim.Spec) { s.NoDigest = true })
	s := b.flash(t, b.open)
	if s.Closed.Outcome != run.Done || s.Main().BackedUp.How != "read-twice" || s.Main().Verified.How != "read-back" {
		t.Errorf("closed %+v fault %+v", s.Closed, s.Fault)
	}
}

func TestABackupReadsOnlyWhatNoShelfHolds(t *testing.T) {
	b := newBench(t, nil)
	o := b.open
	o.Kind, o.Release = run.BackUp, core.Digest{}
	first := b.flash(t, o)
	b.unit.Write(0x7010, []byte("other"))
	o.Run = "run-2"
	second := b.flash(t, o)
	wire := func(s *run.State) (n uint64) {
		for _, x := range s.Main().BackedUp.Obtained {
			if x.How == "wire" {
				n += x.Bytes
			}
		}
		return n
	}
	if wire(first) < 24<<10 || wire(second) != 2048 {
		t.Errorf("read %d bytes, then %d; want all that differs, then one chunk", wire(first), wire(second))
	}
	if second.Main().Started.Version != "1.0.0" || second.Closed.Outcome != run.Done {
		t.Errorf("closed %+v", second.Closed)
	}
}

// TestSectorsFollowFromWhatLiesHere: what each sector holds is worked out from the pieces that lie on
// the bench; of pieces that only the service holds, or that are damaged, the unit is asked once more.
func TestSectorsFollowFromWhatLiesHere(t *testing.T) {
	sheet, err := model.ReadSheet(coretest.Small)
	if err != nil {
		t.Fatal(err)
	}
	m := &sheet.Main().Memory
	said := map[string]int64{}
	for name, far := range map[string]func(core.Digest) bool{
		"all here": nil, "some here": func(d core.Digest) bool { return d[0] < 0x40 }, "none here": func(core.Digest) bool { return true },
	} {
		b := newBench(t, nil)
		b.Far = far
		o := b.open
		o.Kind, o.Release = run.BackUp, core.Digest{}
		memory := b.unit.Memory()
		s := b.flash(t, o)
		now := s.Main().BackedUp.Now
		if len(now) != len(m.Sectors()) || len(now) == 0 {
			t.Fatalf("%s: %d digests of %d sectors", name, len(now), len(m.Sectors()))
		}
		for i, x := range m.Sectors() {
			if from := x.Address - m.Regions[0].Address; now[i] != core.DigestOf(memory[from:from+x.Length]) {
				t.Errorf("%s: the sector at 0x%X", name, x.Address)
			}
		}
		said[name] = b.unit.Received()
	}
	if said["all here"] >= said["some here"] || said["some here"] > said["none here"] {
		t.Errorf("the unit was told %v bytes", said)
	}
}

func TestStopInTheMiddleLeavesAPausedRun(t *testing.T) {
	b := newBench(t, nil)
	before := b.unit.Memory()
	b.onEvent(func(j *run.Journal) bool { return j.State().View().Right == 5 }, func() { b.run.Stop("p") })
	s := b.flash(t, b.open)
	if s.Closed != nil || s.Outcome() != run.Interrupted || s.View().Board != run.BoardStopped {
		t.Fatalf("%+v", s.View())
	}
	b.OnChange = nil
	r, err := run.TakeUp(b.journal, run.TakenUp{By: "p"}, b, b.pace)
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Work(context.Background()); err != nil {
		t.Fatal(err)
	}
	ended(t, b, b.journal.State(), before)
	record, _ := history.DecodeRecord(b.journal.State().Closed.Record)
	if record.Halves != 2 {
		t.Errorf("the record shows %d halves", record.Halves)
	}
}

// Another unit on the link when a run is taken up leaves it paused, unwritten.
func TestTakenUpWithAnotherUnit(t *testing.T) {
	b := newBench(t, nil)
	b.onEvent(func(j *run.Journal) bool { return j.State().View().Right == 5 }, func() { b.run.Stop("p") })
	b.flash(t, b.open)
	b.OnChange = nil
	b.unit.Swap("S-0002", "D", bytes.Repeat([]byte{0xAB}, 32<<10))
	r, err := run.TakeUp(b.journal, run.TakenUp{By: "p"}, b, b.pace)
	if err != nil {
		t.Fatal(err)
	}
	r.Work(context.Background())
	s := b.journal.State()
	if s.Outcome() != run.Interrupted || s.Fault.Kind != core.WrongUnit || !bytes.Equal(b.unit.Memory(), bytes.Repeat([]byte{0xAB}, 32<<10)) {
		t.Errorf("%s %+v", s.Outcome(), s.Fault)
	}
}

package advise_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/advise"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/visit"
	"zealousferry/sim"
)

// bench is a small board with a bench, whose run stops in some way.
type bench struct {
	*coretest.Alone
	t       *testing.T
	unit    *sim.Unit
	tool    *sim.Unit // helper tool at the programming header, once it is clipped on
	other   *sim.Unit // that hangs on the lead in its place
	journal *run.Journal
	run     *run.Run
	pace    link.Pace
	sheet   *model.Sheet
	good    core.Digest // a release that is known to run
	fault   func(b *bench)
	at      func(s *run.State) bool
	tried   []advise.Try
	before  int
	hurries bool
}

func (b *bench) Open(ctx context.Context, name string) (link.Link, error) {
	u := b.unit
	if b.tool != nil && name == "" { // the run's own link is the helper tool's
		u = b.tool
	}
	if b.other != nil {
		u = b.other
	}
	return coretest.Dial(ctx, u)
}

func (b *bench) Changed() {
	if b.journal == nil {
		return
	}
	s := b.journal.State()
	if b.fault != nil && b.at(s) {
		b.fault(b)
		b.fault = nil
	}
	if h := s.Hands; h != nil && !h.Calling && b.run != nil {
		r, item := b.run, h.Item
		go func() { r.Answer(context.Background(), procedure.Answer{Item: item, Value: procedure.Yes, By: "p"}) }()
	}
}

// begin opens a run of a kind and works it.
func (b *bench) begin(o run.Opened, release *model.Release) *run.State {
	b.t.Helper()
	j, err := run.OpenJournal(&coretest.Disk{})
	if err != nil {
		b.t.Fatal(err)
	}
	if err := o.Lay(b.sheet, release, nil); err != nil {
		b.t.Fatal(err)
	}
	b.journal, b.run = j, nil
	if b.run, err = run.New(j, o, b, b.pace); err != nil {
		b.t.Fatal(err)
	}
	if err := b.run.Work(context.Background()); err != nil {
		b.t.Fatal(err)
	}
	return j.State()
}

func (b *bench) release(d core.Digest) *model.Release {
	raw, err := b.Blob(context.Background(), d)
	if err != nil {
		b.t.Fatal(err)
	}
	r := new(model.Release)
	if err := json.Unmarshal(raw, r); err != nil {
		b.t.Fatal(err)
	}
	return r
}

func opened(b *bench) run.Opened {
	return run.Opened{Run: "run-1", Kind: run.Flash, Unit: "unit-1", Model: b.sheet.Model, Serial: "S-0001", Bench: "b", Link: "b/l", By: "p", Sheet: b.sheet.Digest, Version: "2.0.0", Deadline: time.Second}
}

// ask asks who is on the line, as a check of the link does.
func (b *bench) ask(slower bool) *advise.Line {
	l, err := b.Open(context.Background(), "")
	if err != nil {
		return &advise.Line{}
	}
	defer l.Close()
	open := visit.OpenNow
	if slower {
		open = visit.OpenSlower
	}
	s, err := open(context.Background(), l, b.sheet.Main(), link.Pace{Clock: core.System{}, Scale: 0.1})
	if err != nil {
		return &advise.Line{}
	}
	defer s.Close()
	facts, err := s.Identify(context.Background())
	line := &advise.Line{Answers: err == nil, At: time.Now().UnixMicro()}
	for _, f := range facts {
		if f.Name == core.FactSerial {
			line.Serial = f.Value
		}
	}
	return line
}

// quick is the sheet of a small board that is called at 57 600 baud and goes on at another
// speed.
func quick(baud int) []byte {
	raw := strings.Replace(string(coretest.Small), "baud: 115200", fmt.Sprintf("baud: 57600\n  fast: %d", baud), 1)
	return []byte(strings.Replace(raw, "baud: 115200", "baud: 57600", 1))
}

func planned(s *run.State) bool { return s.Main().Planned != nil }

func half(s *run.State) bool { return s.View().Right >= 5 }

// stuck makes one sector of the program refuse for ever.
func stuck(b *bench) { at := uint64(0x1800); b.unit.Set(sim.Faults{Stuck: &at}) }

// troubles are what stops a run, what a person finds at which rung and does there, the choice
// that is to be first once it was asked, and how the unit ends.
var troubles = []struct {
	name   string
	at     func(*run.State) bool
	fault  func(*bench)
	found  string       // the rung at which the hand finds what is wrong; empty: it is mended by itself
	mend   func(*bench) // what the hand does there
	first  string       // choice, when nobody has looked yet
	then   string       // choice, once it answers or nothing does
	taken  string       // why the release was withdrawn meanwhile
	ends   string       // released, restored, good, apart
	change func(*sim.Spec)
	hand   string
	good   bool
	hurry  int // its loader goes on at this speed
}{
	{name: "the lead slips in the middle, and is pushed home", fault: func(b *bench) { b.unit.Set(sim.Faults{CutLead: 1}) }, found: "plug", mend: whole, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "the supply fails in the middle", fault: func(b *bench) { b.unit.Power(false) }, found: "restart", mend: func(b *bench) { b.unit.Power(true) }, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "the lead is broken: another one helps", fault: func(b *bench) { b.unit.Set(sim.Faults{Wiring: sim.Wiring{OpenToBench: true}}) }, found: "lead", mend: whole, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "the adapter has died", fault: func(b *bench) { b.unit.Set(sim.Faults{Wiring: sim.Wiring{DeadAdapter: true}}) }, found: "adapter", mend: whole, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "somebody holds its reset", fault: func(b *bench) { b.unit.Set(sim.Faults{Wiring: sim.Wiring{HeldReset: true}}) }, found: "plug", mend: whole, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "it is switched off before anything was erased", at: func(s *run.State) bool { return s.Main().Planned != nil }, fault: func(b *bench) { b.unit.Power(false) }, found: "restart", mend: func(b *bench) { b.unit.Power(true) }, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "another unit hangs on the lead: to go on would be wrong", fault: func(b *bench) {
		b.unit.Set(sim.Faults{CutLead: 1})
		b.other = stranger(b.t)
	}, found: "unit", mend: func(b *bench) { b.other = nil; whole(b) }, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "its memory refuses one piece for ever: neither to go on nor to restore is of use", at: planned, fault: stuck, then: advise.Apart, ends: "apart"},
	{name: "the release is withdrawn while it is half done: to go on would be wrong", fault: func(b *bench) { b.unit.Set(sim.Faults{CutLead: 1}) }, found: "plug", mend: whole, taken: "it forgets the head", first: advise.Look, then: advise.Restore, ends: "restored"},
	{name: "nothing ever answers again", fault: func(b *bench) { b.unit.Set(sim.Faults{Silent: true}) }, first: advise.Look, then: advise.Apart, ends: "apart"},
	{name: "it answers only when it is called by hand", fault: func(b *bench) { b.unit.Set(sim.Faults{Wiring: sim.Wiring{HeldReset: true}}) }, found: advise.ByHand, mend: whole, hand: "Bridge the two pads beside the plug, and switch it on.", first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "the supply gives way whenever it is asked for much", fault: func(b *bench) { b.unit.Set(sim.Faults{Wiring: sim.Wiring{Weak: 8}}) }, found: "lead", mend: whole, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "the wire to the unit is off", fault: func(b *bench) { b.unit.Set(sim.Faults{Wiring: sim.Wiring{OpenToUnit: true}}) }, found: "plug", mend: whole, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "the ground is off, and nothing that is asked comes back", fault: func(b *bench) { b.unit.Set(sim.Faults{Wiring: sim.Wiring{OpenGround: true}}) }, found: "lead", mend: whole, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "withdrawn, and its memory refuses a piece: nothing can be put into it", at: planned, fault: stuck, taken: "it forgets the head", then: advise.Apart, ends: "apart"},
	{name: "its lead is too long for the speed at which the loader goes on", hurry: 115200, fault: func(b *bench) { b.unit.Set(sim.Faults{Wiring: sim.Wiring{Slow: 57600}}) }, first: advise.Look, then: advise.GoOn, ends: "released"},
	{name: "locked, lost in the middle, and there is no backup", change: func(s *sim.Spec) { s.Locked = true }, fault: func(b *bench) { b.unit.Set(sim.Faults{CutLead: 1}) }, found: "plug", mend: whole, first: advise.Look, then: advise.GoOn, ends: "released"},
}

func whole(b *bench) { b.unit.Set(sim.Faults{}); b.unit.Power(false); b.unit.Power(true) }

func stranger(t *testing.T) *sim.Unit {
	u, _, err := coretest.SmallUnit(func(s *sim.Spec) { s.Serial = "S-0002" })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	return u
}

// TestTroubles: in each the advice, followed from its first choice on, brings back all that
// can be brought back, and makes nothing worse.
func TestTroubles(t *testing.T) {
	for _, x := range troubles {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			u, sheet, err := coretest.SmallUnit(func(s *sim.Spec) {
				if x.change != nil {
					x.change(s)
				}
				if x.hurry > 0 {
					s.Baud = 57600
				}
			})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(u.Close)
			b := &bench{Alone: coretest.NewAlone(u), t: t, unit: u, sheet: sheet, fault: x.fault, at: x.at, pace: link.Pace{Clock: core.System{}, Scale: 0.3}}
			if b.at == nil {
				b.at = half
			}
			sheet.Digest = b.Put(coretest.Small)
			if x.hurry > 0 {
				raw := quick(x.hurry)
				if b.sheet, err = model.ReadSheet(raw); err != nil {
					t.Fatal(err)
				}
				sheet, b.hurries = b.sheet, visit.Hurries(b.sheet.Main())
				sheet.Digest = b.Put(raw)
			}
			o := opened(b)
			if x.change != nil {
				o.Noted = []core.Fact{{Name: core.FactRevision, Value: "D", Source: core.FromLabel, At: time.Now()}}
				o.Waivers = []run.Waiver{{Gate: run.GateProtection, Reason: "it must", By: "lead", Role: "lead"}}
			}
			o.Release = b.Release(sheet, "2.0.0", 0x1000, coretest.SmallProgram("2.0.0"), map[string][]string{"revision": {"D"}})
			before := u.Memory()
			s := b.begin(o, b.release(o.Release))
			if s.Closed != nil && s.Closed.Outcome == run.Done {
				t.Fatalf("nothing went wrong")
			}
			if x.then == advise.Apart && s.SameFault == 1 { // the same once more
				b.before = 1
			}
			var line *advise.Line
			first := true
			for range 12 {
				in := advise.Input{State: s, Open: s.Closed == nil, Line: line, Tried: b.tried, Withdrawn: x.taken, ByHand: x.hand, Unit: "S-0001", Link: "b/l", Before: b.before, Hurries: b.hurries}
				a := advise.Of(in)
				if len(a.Choices) == 0 || len(a.Ladder) == 0 || a.Why.Text == "" {
					t.Fatalf("no advice: %+v", a)
				}
				do := a.Choices[0].Do
				if first && x.first != "" && do != x.first {
					t.Fatalf("nobody has looked, and the first choice is %s: %s", do, a.Why.Text)
				}
				first = false
				switch do {
				case advise.Look, advise.ByHand:
					rung := advise.ByHand
					if line != nil && line.Serial != "" && line.Serial != "S-0001" {
						rung = "unit"
					} else if do == advise.Look {
						i := slices.IndexFunc(a.Ladder, func(r advise.Rung) bool { return r.State == "next" })
						if i < 0 {
							t.Fatalf("no rung is next: %+v", a.Ladder)
						}
						rung = a.Ladder[i].Rung
					}
					if x.found == rung {
						x.mend(b)
					}
					line = b.ask(rung == advise.Slower)
					if rung != "unit" {
						b.tried = append(b.tried, advise.Try{Rung: rung, Answered: line.Answers})
					}
				case advise.GoOn:
					if !slices.Contains([]string{x.then}, do) {
						t.Fatalf("%s is advised, expected %s: %s", do, x.then, a.Why.Text)
					}
					if s.Closed != nil {
						o := opened(b)
						o.Release = b.Release(sheet, "2.0.0", 0x1000, coretest.SmallProgram("2.0.0"), map[string][]string{"revision": {"D"}})
						s = b.begin(o, b.release(o.Release))
					} else {
						again, err := run.TakeUp(b.journal, run.TakenUp{By: "p", Slower: a.Choices[0].Slower}, b, b.pace)
						if err != nil {
							t.Fatal(err)
						}
						b.run = again
						if err := again.Work(context.Background()); err != nil {
							t.Fatal(err)
						}
						s = b.journal.State()
					}
					if s.Closed != nil && s.Closed.Outcome == run.Done {
						b.ended(x.ends, before)
						return
					}
					line = nil
				case advise.Restore:
					if x.then != do {
						t.Fatalf("%s is advised, expected %s: %s", do, x.then, a.Why.Text)
					}
					o := opened(b)
					o.Kind, o.Release, o.Version, o.Run = run.Restore, core.Digest{}, "1.0.0", "run-2"
					o.Source = &run.Source{Backup: "k", Manifest: s.Main().BackedUp.Manifest, Run: "run-1", Unit: "unit-1"}
					o.Covered = o.Source
					if s = b.begin(o, nil); s.Closed == nil || s.Closed.Outcome != run.Done {
						t.Fatalf("%+v %+v", s.Closed, s.Fault)
					}
					b.ended(x.ends, before)
					return
				case advise.Apart:
					if x.then != do {
						t.Fatalf("%s is advised, expected %s: %s", do, x.then, a.Why.Text)
					}
					if x.ends != "apart" {
						t.Fatalf("it is set apart, and could have been %s", x.ends)
					}
					return
				default:
					t.Fatalf("nobody carries out %s", do)
				}
			}
			t.Fatal("the advice leads nowhere")
		})
	}
}

// TestABootLoaderThatIsGone: in the middle of a write over its own lead a board loses its
// boot loader. Nothing that a hand can do brings an answer; the way around it does, and a
// stop on that way is gone on with.
func TestABootLoaderThatIsGone(t *testing.T) {
	boot := sim.Program("boot 1", 4096, 9, 9)
	u, tool, err := coretest.PlateUnit(boot, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	t.Cleanup(tool.Close)
	sheet, err := model.ReadSheet(coretest.Plate)
	if err != nil {
		t.Fatal(err)
	}
	b := &bench{Alone: coretest.NewAlone(u), t: t, unit: u, sheet: sheet, at: half, pace: link.Pace{Clock: core.System{}, Scale: 0.3}}
	b.fault = func(b *bench) {
		b.unit.Power(false)
		b.unit.Write(0, make([]byte, 4096))
		b.unit.Power(true)
	}
	sheet.Digest = b.Put(coretest.Plate)
	o := opened(b)
	o.Serial = "L-0001"
	o.Release = b.ReleaseOf(sheet, "2.0.0", coretest.PartOf{Section: "main", Data: boot}, coretest.PartOf{Section: "main", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")})
	before := u.Memory()
	s := b.begin(o, b.release(o.Release))
	in := advise.Input{State: s, Open: true, Header: sheet.Main().Header.Title.In("en"), Heals: []string{"2.0.0"}, Unit: "L-0001", Link: "b/l"}
	for range len(advise.Rungs) - 1 { // its loader works at the speed at which it is called
		a := advise.Of(in)
		if a.Choices[0].Do != advise.Look {
			t.Fatalf("%+v", a.Choices)
		}
		i := slices.IndexFunc(a.Ladder, func(r advise.Rung) bool { return r.State == "next" })
		in.Line = b.ask(false)
		in.Tried = append(in.Tried, advise.Try{Rung: a.Ladder[i].Rung, Answered: in.Line.Answers})
	}
	if a := advise.Of(in); a.Choices[0].Do != advise.Header || a.Choices[1].Do != advise.Apart {
		t.Fatalf("%+v", a.Choices)
	}

	// The run over its own lead is given up; what it kept stands for a backup.
	through := o
	through.Run, through.Link, through.Own, through.Label = "run-2", "b/clip", "b/own", "L-0001"
	through.Noted = []core.Fact{{Name: core.FactRevision, Value: "D", Source: core.FromRecord, At: time.Now()}}
	through.Covered = &run.Source{Backup: "k", Manifest: s.Main().BackedUp.Manifest, Run: "run-1", Unit: "unit-1"}
	b.tool, b.fault = tool, func(b *bench) { b.tool.Set(sim.Faults{CutLead: 1}) }
	s = b.begin(through, b.release(o.Release))
	if s.Closed != nil {
		t.Fatalf("%+v", s.Closed)
	}
	if a := advise.Of(advise.Input{State: s, Open: true, Unit: "L-0001", Link: "b/clip"}); a.Choices[0].Do != advise.GoOn || len(a.Ladder) != 0 {
		t.Fatalf("%+v", a)
	}
	tool.Set(sim.Faults{})
	if b.run, err = run.TakeUp(b.journal, run.TakenUp{By: "p", Label: "L-0001"}, b, b.pace); err != nil {
		t.Fatal(err)
	}
	if err := b.run.Work(context.Background()); err != nil {
		t.Fatal(err)
	}
	if s = b.journal.State(); s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	copy(before[0x1000:], coretest.SmallProgram("2.0.0"))
	if !bytes.Equal(u.Memory(), before) || u.Version() != "2.0.0" {
		t.Error("the memory is not what it should be")
	}
}

// ended checks what is in the unit.
func (b *bench) ended(how string, before []byte) {
	b.t.Helper()
	now := b.unit.Memory()
	program := coretest.SmallProgram("2.0.0")
	switch how {
	case "released":
		if !bytes.Equal(now[0x1000:][:len(program)], program) {
			b.t.Error("the program is not the release")
		}
	case "restored":
		if !bytes.Equal(now, before) {
			b.t.Error("the memory is not as it was")
		}
	}
}

// TestChoices: what stands first, and what is said with it, by what is known.
func TestChoices(t *testing.T) {
	open := func(kinds ...run.Event) *run.State {
		o := run.Opened{Run: "r", Kind: run.Flash, Unit: "u", Serial: "S-1", Version: "2.0.0", Sections: []run.Place{{Name: "a", Main: true, Part: true}}, Itinerary: run.Lay(run.Flash, []run.Place{{Name: "a", Main: true, Part: true}})}
		raw, _ := json.Marshal(o)
		all := []run.Event{{Schema: run.Schema, N: 1, Epoch: 1, At: 1, Kind: run.KindOpened, Body: raw}}
		for i, e := range kinds {
			e.Schema, e.N, e.Epoch, e.At = run.Schema, uint64(i)+2, 1, int64(i)+2
			all = append(all, e)
		}
		s, err := run.Fold(all)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	event := func(kind, section string, body any) run.Event {
		raw, _ := json.Marshal(body)
		return run.Event{Kind: kind, Section: section, Body: raw}
	}
	sector := 3
	differs := event(run.KindFault, "a", run.Fault{Kind: core.VerifyDiffers, Sector: &sector, Section: "a", Then: run.ThenLater})
	saved := event(run.KindBackedUp, "a", run.BackedUp{Manifest: core.Digest{1}})
	half := open(saved, event(run.KindAboutTo, "a", run.Act{Sector: 3}), differs)
	twice := open(saved, event(run.KindAboutTo, "a", run.Act{Sector: 3}), differs, event(run.KindTakenUp, "", run.TakenUp{Epoch: 1}), event(run.KindAboutTo, "a", run.Act{Sector: 3}), differs)
	elsewhere := 5
	moved := open(saved, event(run.KindAboutTo, "a", run.Act{Sector: 3}), differs, event(run.KindTakenUp, "", run.TakenUp{Epoch: 1}), event(run.KindFault, "a", run.Fault{Kind: core.VerifyDiffers, Sector: &elsewhere, Section: "a", Then: run.ThenLater}))
	bare := open(event(run.KindWaived, "a", run.Waiver{Gate: run.GateBackup}), event(run.KindAboutTo, "a", run.Act{}), event(run.KindFault, "a", run.Fault{Kind: core.NotAnswering, Then: run.ThenLater}))
	yes, no := &advise.Line{Answers: true}, &advise.Line{}
	var tried []advise.Try
	for _, r := range advise.Rungs {
		tried = append(tried, advise.Try{Rung: r})
	}
	for name, x := range map[string]struct {
		in   advise.Input
		want string
	}{
		"nobody has looked":               {advise.Input{State: half, Open: true}, "look go-on restore set-apart"},
		"it answers":                      {advise.Input{State: half, Open: true, Line: yes}, "go-on restore set-apart"},
		"it is silent":                    {advise.Input{State: half, Open: true, Line: no, Good: []string{"1.9"}}, "look go-on restore known-good set-apart"},
		"silent, with a way by hand":      {advise.Input{State: half, Open: true, Line: no, ByHand: "Fit the strap."}, "look by-hand go-on restore set-apart"},
		"every rung tried":                {advise.Input{State: half, Open: true, Line: no, Tried: tried}, "set-apart go-on restore look"},
		"every rung tried, not the hand":  {advise.Input{State: half, Open: true, Line: no, Tried: tried, ByHand: "Fit the strap."}, "by-hand go-on restore look set-apart"},
		"silent, with a header":           {advise.Input{State: half, Open: true, Line: no, Header: "J4.", Heals: []string{"2.1"}}, "look go-on restore header set-apart"},
		"every rung tried, but a header":  {advise.Input{State: half, Open: true, Line: no, Tried: tried, Header: "J4.", Heals: []string{"2.1"}}, "header set-apart go-on restore look"},
		"a header, and nothing to put in": {advise.Input{State: half, Open: true, Line: no, Tried: tried, Header: "J4."}, "set-apart go-on restore look"},
		"it answers, and has a header":    {advise.Input{State: half, Open: true, Line: yes, Header: "J4.", Heals: []string{"2.1"}}, "go-on restore set-apart"},
		"withdrawn":                       {advise.Input{State: half, Open: true, Line: yes, Withdrawn: "it burns", Good: []string{"1.9"}}, "restore known-good set-apart"},
		"the same piece twice":            {advise.Input{State: twice, Open: true, Line: yes, Good: []string{"1.9"}}, "set-apart look"},
		"another piece":                   {advise.Input{State: moved, Open: true, Line: yes}, "go-on restore set-apart"},
		"no backup":                       {advise.Input{State: bare, Open: true, Line: yes, Good: []string{"1.9"}}, "go-on known-good set-apart"},
	} {
		a := advise.Of(x.in)
		var got []string
		for _, c := range a.Choices {
			got = append(got, c.Do)
			if c.Says.Text == "" || c.Risks.Text == "" || c.Needs.Text == "" || len(c.Steps) == 0 {
				t.Errorf("%s: %s says too little: %+v", name, c.Do, c)
			}
			if c.Do == advise.KnownGood && c.Grave != (name == "no backup") {
				t.Errorf("%s: grave is %v", name, c.Grave)
			}
		}
		if strings.Join(got, " ") != x.want {
			t.Errorf("%s: %s, want %s", name, strings.Join(got, " "), x.want)
		}
	}
}

// TestLadder: what was tried stands first, the next rung is one that has helped on this model
// before, and each rung stands there once.
func TestLadder(t *testing.T) {
	s := &run.State{Opened: &run.Opened{}}
	a := advise.Of(advise.Input{State: s, Line: &advise.Line{}, Tried: []advise.Try{{Rung: "plug"}, {Rung: "plug", Class: "held-low"}}, Past: map[string]advise.Count{"adapter": {Helped: 4, All: 5}, "lead": {Helped: 1, All: 9}}})
	var got []string
	for _, r := range a.Ladder {
		got = append(got, r.Rung+" "+r.State)
	}
	if want := "plug tried, plug tried, adapter next, ask ahead, restart ahead, lead ahead, stop ahead"; strings.Join(got, ", ") != want {
		t.Errorf("%s, want %s", strings.Join(got, ", "), want)
	}
	if a.Ladder[1].Tried.Says.Text != "no answer: held low" || a.Ladder[2].Past.Helped != 4 {
		t.Errorf("%+v", a.Ladder[:3])
	}
}

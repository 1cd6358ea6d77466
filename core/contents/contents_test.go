package contents_test

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"slices"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/contents"
	"zealousferry/core/coretest"
	"zealousferry/core/image"
	"zealousferry/core/link"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/sim"
)

// site is a unit with all that happened to it.
type site struct {
	t       *testing.T
	a       *coretest.Alone
	unit    *sim.Unit
	sheet   *model.Sheet
	raw     []byte
	serial  string
	before  []contents.Happened
	release map[string]*model.Release // by run
	stop    func(*run.Journal) bool   // ends the run in the middle
	checks  int
	asked   int // how often the shelf was
}

func newSite(t *testing.T, u *sim.Unit, sheet []byte, serial string) *site {
	t.Helper()
	t.Cleanup(u.Close)
	s, err := model.ReadSheet(sheet)
	if err != nil {
		t.Fatal(err)
	}
	return &site{t: t, a: coretest.NewAlone(u), unit: u, sheet: s, raw: sheet, serial: serial, release: map[string]*model.Release{}}
}

func (s *site) source() contents.Source {
	return contents.Source{
		Get: func(names []core.Digest) ([][]byte, error) {
			s.asked++
			return shelf.Each(func(d core.Digest) ([]byte, error) { return s.a.Blob(context.Background(), d) })(names)
		},
		Images: func(id, section string) (all []*image.Image, err error) {
			x, _ := s.sheet.Section(section)
			for _, p := range s.sheet.In(s.release[id], x) {
				raw, err := s.a.Blob(context.Background(), p.Image)
				if err != nil {
					return nil, err
				}
				im, _, err := registry.Decode(raw, p)
				if err != nil {
					return nil, err
				}
				all = append(all, im)
			}
			return all, nil
		},
	}
}

// now is the answer, with the run at work as it stands.
func (s *site) now(at *run.State) map[string]*contents.Part {
	s.t.Helper()
	all := s.before
	if at != nil {
		all = append(slices.Clone(all), contents.Happened{State: at, Sheet: s.sheet})
	}
	parts, err := contents.Of(s.sheet, all, s.source())
	if err != nil {
		s.t.Fatal(err)
	}
	return parts
}

// check holds all that is said to be known against the unit itself.
func (s *site) check(at *run.State) {
	s.t.Helper()
	memory := s.unit.Memory()
	tree := s.unit.Tree()
	base := s.sheet.Main().Memory.Regions[0].Address
	if s.sheet.Model == "wide" {
		base = 0
	}
	for name, p := range s.now(at) {
		for _, sector := range p.Section.Memory.Sectors() {
			want, ok := p.Sectors[sector.Address]
			is := memory[sector.Address-base:][:sector.Length]
			if ok && core.DigestOf(is) != want {
				s.t.Errorf("%s at 0x%X is said to be known, and is something else", name, sector.Address)
			}
			data := make([]byte, sector.Length)
			known, err := p.Content(sector.Address, data)
			if err != nil || known && !bytes.Equal(data, is) {
				s.t.Errorf("%s at 0x%X: the content is laid out wrongly (%v)", name, sector.Address, err)
			}
			if ok && !known && (at == nil || at.Opened.Covered == nil) {
				s.t.Errorf("%s at 0x%X: its digest is known, and its content is not found", name, sector.Address)
			}
			if ok {
				s.checks++
			}
		}
		for path, f := range p.Files {
			if is, ok := tree[path]; !f.Digest.IsZero() && (!ok || core.DigestOf([]byte(is)) != f.Digest || len(is) != int(f.Length)) {
				s.t.Errorf("file %s is said to be known, and is something else", path)
			}
		}
		if p.Section.Files != nil && !p.Partly() && len(p.Files) != len(tree) {
			s.t.Errorf("%d files are said to be there: %v, not %v", len(p.Files), slices.Sorted(maps.Keys(p.Files)), slices.Sorted(maps.Keys(tree)))
		}
	}
}

// work carries a run out, and checks the answer at each of its events.
func (s *site) work(o run.Opened) *run.State {
	s.t.Helper()
	o.Unit, o.Model, o.Serial, o.Bench, o.Link, o.By, o.Sheet, o.Deadline = "u", s.sheet.Model, s.serial, "b", "b/l", "p", s.a.Put(s.raw), time.Second
	var release *model.Release
	if o.Kind == run.Flash {
		release = s.release[o.Run]
	}
	o.Lay(s.sheet, release, nil)
	j, err := run.OpenJournal(&coretest.Disk{})
	if err != nil {
		s.t.Fatal(err)
	}
	ctx, end := context.WithCancel(context.Background())
	defer end()
	var r *run.Run
	s.a.OnChange = func() {
		if r == nil {
			return
		}
		state := j.State()
		s.check(state)
		if s.stop != nil && s.stop(j) {
			s.stop = nil
			s.unit.Set(sim.Faults{Silent: true})
			end()
		}
		if h := state.Hands; h != nil && !h.Calling {
			if h.Item == "cycle" {
				s.unit.Power(false)
				s.unit.Power(true)
			}
			item := h.Item
			go func() {
				for core.KindOf(r.Answer(ctx, procedure.Answer{Item: item, Value: procedure.Yes, By: "p"})) == core.NotFound && ctx.Err() == nil {
					time.Sleep(time.Millisecond) // the run is on its way to the question
				}
			}()
		}
	}
	if r, err = run.New(j, o, s.a, link.Pace{Clock: core.System{}, Scale: 0.5}); err != nil {
		s.t.Fatal(err)
	}
	r.Work(ctx)
	s.a.OnChange = nil
	s.unit.Set(sim.Faults{})
	s.before = append(s.before, contents.Happened{State: j.State(), Sheet: s.sheet})
	return j.State()
}

func (s *site) flash(id, version string, parts ...coretest.PartOf) *run.State {
	s.t.Helper()
	d := s.a.ReleaseOf(s.sheet, version, parts...)
	raw, err := s.a.Blob(context.Background(), d)
	if err != nil {
		s.t.Fatal(err)
	}
	s.release[id] = &model.Release{}
	if err := json.Unmarshal(raw, s.release[id]); err != nil {
		s.t.Fatal(err)
	}
	return s.work(run.Opened{Run: id, Kind: run.Flash, Release: d, Version: version, Again: true})
}

// midway ends a run when some of a section is changed and some is not.
func midway(section string) func(*run.Journal) bool {
	return func(j *run.Journal) bool {
		x := j.State().Section(section)
		return x != nil && x.Touched && len(x.Right) > 0 && len(x.Remaining()) > 0
	}
}

func programPart(version string) coretest.PartOf {
	return coretest.PartOf{Section: "main", Address: 0x1000, Data: coretest.SmallProgram(version)}
}

// One memory is backed up, flashed, left half done, restored: at every event what is
// said to be known is what is in the unit.
func TestWhatIsKnownIsSoAtEveryEvent(t *testing.T) {
	u, _, err := coretest.SmallUnit(nil)
	if err != nil {
		t.Fatal(err)
	}
	s := newSite(t, u, coretest.Small, "S-0001")
	if len(s.now(nil)) != 0 {
		t.Fatal("something is known of a unit to which nothing has happened")
	}
	backup := s.work(run.Opened{Run: "r1", Kind: run.BackUp})
	if p := s.now(nil)["main"]; p == nil || p.Partly() || p.Backup != "r1" || len(p.Runs) != 0 {
		t.Fatalf("after a backup: %+v", p)
	}
	if x := s.flash("r2", "2.0.0", programPart("2.0.0")); x.Closed == nil || x.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", x.Closed, x.Fault)
	}
	p := s.now(nil)["main"]
	if p.Partly() || !slices.Equal(p.Runs, []string{"r2"}) {
		t.Fatalf("after a flash: partly %v, runs %v", p.Partly(), p.Runs)
	}
	s.asked = 0
	sectors := p.Section.Memory.Sectors()
	first, last := sectors[0].Address, sectors[len(sectors)-1].End()
	if known, err := p.Content(first, make([]byte, last-first)); err != nil || !known || s.asked > 5 { // its pieces at once, not sector by sector
		t.Fatalf("all of it: known %v, %v; the shelf was asked %d times", known, err, s.asked)
	}
	s.stop = midway("main")
	s.flash("r3", "3.0.0", programPart("3.0.0"))
	p = s.now(nil)["main"]
	if !p.Partly() || len(p.Unknown()) == len(p.Section.Memory.Sectors()) {
		t.Fatalf("in the middle of a write: %d sectors are not known", len(p.Unknown()))
	}
	chunks, err := p.Chunks()
	if err != nil || len(chunks) == 0 || len(chunks) >= 9 {
		t.Fatalf("%d pieces of the grid are known: %v", len(chunks), err)
	}
	for _, c := range chunks {
		if core.DigestOf(u.Memory()[c.Address:][:c.Length]) != c.Chunks[0] {
			t.Errorf("the piece at 0x%X is named wrongly", c.Address)
		}
	}
	source := &run.Source{Backup: "r1", Run: "r1", Unit: "u", Manifest: backup.Main().BackedUp.Manifest}
	if x := s.work(run.Opened{Run: "r4", Kind: run.Restore, Version: "1.0.0", Source: source, Covered: source}); x.Closed == nil || x.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", x.Closed, x.Fault)
	}
	if p = s.now(nil)["main"]; p.Partly() {
		t.Fatalf("after the restore %d sectors are not known", len(p.Unknown()))
	}
	if got := u.Version(); got != "1.0.0" || s.checks < 500 {
		t.Fatalf("the unit runs %s; %d checks", got, s.checks)
	}
}

// Several parts with a tree of files, ended in the middle of the files.
func TestPartsAndFilesAreKnownByTheirDigests(t *testing.T) {
	u, err := coretest.WideUnit(nil)
	if err != nil {
		t.Fatal(err)
	}
	s := newSite(t, u, coretest.Wide, "W-0001")
	parts := []coretest.PartOf{{Section: "boot", Data: sim.Program("boot 2.0.0", 4096, 9, 10)},
		{Section: "program", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")}, {Section: "fonts", Files: coretest.Fonts("2.0.0")}}
	s.stop = midway("fonts")
	s.flash("r1", "2.0.0", parts...)
	now := s.now(nil)
	if len(now) != 3 || now["boot"].Partly() || now["program"].Partly() || !now["fonts"].Partly() {
		t.Fatalf("in the middle of the files: %+v", now)
	}
	if x := s.flash("r2", "2.0.0", parts...); x.Closed == nil || x.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", x.Closed, x.Fault)
	}
	now = s.now(nil)
	files, err := registry.Tree(registry.Bytes(registry.PackTree(coretest.Fonts("2.0.0")), ""))
	if err != nil || now["fonts"].Partly() || core.DigestOf(now["fonts"].Tree().Encode()) != registry.TreeContent(files) {
		t.Fatalf("at the end: %+v", now["fonts"].Files)
	}
}

// A lock that was lifted erases all: nothing from before is believed any more.
func TestWhatALiftedLockErasedIsNotKnown(t *testing.T) {
	sheet := coretest.SmallSheet()
	var planned []plan.Sector
	digests := []core.Digest{}
	for _, x := range sheet.Main().Memory.Sectors() {
		digests = append(digests, core.DigestOf([]byte{byte(x.Address >> 10)}))
		planned = append(planned, plan.Sector{Address: x.Address, Length: x.Length, State: plan.Change, Want: core.DigestOf([]byte("new"))})
	}
	read := &run.State{Opened: &run.Opened{Run: "r1"}, OpenedAt: 1, LastAt: 2}
	read.Sections = []*run.Section{{Place: run.Place{Name: "main", Main: true}, Kept: run.Kept{BackedUp: &run.BackedUp{Now: digests, Manifest: core.DigestOf([]byte("m"))}}}}
	write := &run.State{Opened: &run.Opened{Run: "r2", Kind: run.Flash}, OpenedAt: 3, LastAt: 4}
	write.Sections = []*run.Section{{Place: run.Place{Name: "main", Main: true}, Change: run.Change{Touched: true, Unlocked: true, Planned: &run.Planned{Sectors: planned}, Right: map[int]bool{4: true}}}}
	all := []contents.Happened{{State: read, Sheet: sheet}, {State: write, Sheet: sheet}}
	parts, err := contents.Of(sheet, all, contents.Source{})
	if err != nil {
		t.Fatal(err)
	}
	p := parts["main"]
	if len(p.Sectors) != 1 || p.Sectors[planned[4].Address] != planned[4].Want || len(p.Unknown()) != len(planned)-1 {
		t.Errorf("known: %v", p.Sectors)
	}
}

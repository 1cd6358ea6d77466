package rehearse

import (
	"bytes"
	"context"
	"slices"
	"sort"
	"time"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/shelf"
)

// Held is what a unit's backup has of a section.
type Held struct {
	Manifest core.Digest // of its memory, or of its tree of files
	Settings []loader.Setting
}

// twin stands in for a unit: what its backup holds, behind loaders that can what those of
// its kind can. It keeps the rules of its memory: what was not erased before it is written
// comes out wrong, as it would there.
type twin struct {
	clock    *clock
	facts    []core.Fact // as the unit told them last
	sections map[string]*part
	bytes    Moved
	trouble  Trouble // still to come
	dark     bool    // its program does not start
}

// Moved is what went over the line.
type Moved struct {
	Read    uint64 `json:"read"`
	Written uint64 `json:"written"`
	Erased  uint64 `json:"erased"`
}

// part is a section of a twin.
type part struct {
	of       *model.Section
	main     bool // it has the unit's own program
	base     uint64
	memory   []byte
	covered  []bool // by region of the map: the backup has it
	before   []byte // memory as the backup has it
	files    map[string][]byte
	had      map[string]bool // files of the backup
	settings []loader.Setting
	runs     string // before anything was written
	then     []aim
}

// aim is what a program says of itself once an image is in memory.
type aim struct {
	version string
	holds   func(p *part) bool
}

// newTwin makes the twin of a unit from its backup.
func newTwin(clock *clock, sheet *model.Sheet, held map[string]Held, facts []core.Fact, get shelf.Get) (*twin, error) {
	t := &twin{clock: clock, facts: facts, sections: map[string]*part{}}
	for i := range sheet.Sections {
		x := &sheet.Sections[i]
		h, ok := held[x.Name]
		if !ok {
			continue
		}
		p := &part{of: x, main: x.Name == sheet.Main().Name, settings: slices.Clone(h.Settings)}
		p.runs = t.fact(p, core.FactRunning)
		raw, err := get.One(h.Manifest)
		if err != nil {
			return nil, err
		}
		if x.Files != nil {
			err = p.fill(raw, get)
		} else {
			err = p.load(raw, get)
		}
		if err != nil {
			return nil, err
		}
		t.sections[x.Name] = p
	}
	return t, nil
}

func (p *part) fill(raw []byte, get shelf.Get) error {
	tree, err := shelf.DecodeTree(raw)
	if err != nil {
		return err
	}
	p.files, p.had = map[string][]byte{}, map[string]bool{}
	for _, f := range tree.Files {
		if p.files[f.Path], err = shelf.ReadFile(get, f); err != nil {
			return err
		}
		p.had[f.Path] = true
	}
	return nil
}

// load lays the backup's memory out. What it does not cover is as if it were erased.
func (p *part) load(raw []byte, get shelf.Get) error {
	m, err := shelf.DecodeManifest(raw)
	if err != nil {
		return err
	}
	regions := p.of.Memory.Regions
	end := regions[len(regions)-1].End()
	p.base = regions[0].Address
	if end-p.base > shelf.MaxBytes {
		return core.Fail(core.CannotTell, "the memory reaches over %d bytes, more than is rehearsed with", end-p.base)
	}
	p.memory = bytes.Repeat([]byte{p.of.Memory.Erased}, int(end-p.base))
	for _, r := range regions {
		err := m.Read(get, r.Address, p.at(r.Address, r.Length))
		if err != nil && core.KindOf(err) != core.NoWayBack {
			return err
		}
		p.covered = append(p.covered, err == nil)
	}
	p.before = bytes.Clone(p.memory)
	return nil
}

func (p *part) at(address, length uint64) []byte { return p.memory[address-p.base:][:length] }

// fact is one that the unit told of a section.
func (t *twin) fact(p *part, name string) string {
	for _, f := range t.facts {
		if f.Name == name && p.main || f.Name == p.of.Name+"."+name && !p.main {
			return f.Value
		}
	}
	return ""
}

func (t *twin) Generation() uint64 { return 1 }
func (t *twin) Close() error       { return nil }

func (t *twin) OpenSection(x *model.Section) (loader.Session, error) {
	p := t.sections[x.Name]
	if p == nil {
		return nil, core.Fail(core.CannotTell, "the backup has nothing of section %s", x.Name)
	}
	kind, err := registry.Loader(x.Loader.Kind)
	if err != nil {
		return nil, err
	}
	return &session{t, p, kind.Limits(x.Loader.Own), kind.Pace(x.Loader.Own)}, nil
}

// Version is told by what memory holds: a twin runs no program.
func (t *twin) Version(x *model.Section) (string, error) {
	p := t.sections[x.Name]
	if p == nil {
		return "", core.Fail(core.NotAnswering, "the backup has nothing of section %s", x.Name)
	}
	if t.dark && p.main && !p.asBefore() {
		t.trouble = ""
		return "", core.Fail(core.NotAnswering, "nothing comes from %s", x.Name)
	}
	for _, a := range p.then {
		if a.holds(p) {
			return a.version, nil
		}
	}
	if p.runs != "" && p.asBefore() {
		return p.runs, nil
	}
	return "", core.Fail(core.NotAnswering, "what is in memory is neither the release nor what was there before")
}

// asBefore tells whether the program's memory is as the backup has it.
func (p *part) asBefore() bool {
	for _, r := range p.of.Memory.Regions {
		if r.Use == memory.Program && !bytes.Equal(p.at(r.Address, r.Length), p.before[r.Address-p.base:][:r.Length]) {
			return false
		}
	}
	return true
}

// session is a loader of the twin.
type session struct {
	twin   *twin
	part   *part
	limits loader.Limits
	pace   float64 // bytes a second that its line carries at best
}

// breaks tells whether the line breaks now, if that is what is practised: once, with the first
// piece that is written.
func (t *twin) breaks() error {
	if t.trouble != LineBreaks {
		return nil
	}
	t.trouble = ""
	return core.Fail(core.NotAnswering, "nothing comes from the unit any more")
}

// line lets so many bytes go over the line.
func (s *session) line(n int) {
	if s.pace > 0 {
		s.twin.clock.move(time.Duration(float64(n) / s.pace * float64(time.Second)))
	}
}

// Identify tells what the unit told last, but for its version, which memory tells.
func (s *session) Identify(context.Context) ([]core.Fact, error) {
	if s.limits.Identity == loader.ByEye {
		return nil, nil
	}
	x := s.part.of
	at := s.twin.clock.Now().UTC()
	facts := []core.Fact{{Name: core.FactModel, Value: x.Loader.Says, Source: core.FromWire, At: at}}
	version, _ := s.twin.Version(x)
	for _, f := range s.twin.facts {
		name := f.Name
		if !s.part.main {
			name = name[min(len(name), len(x.Name)+1):]
		}
		if s.twin.fact(s.part, name) != f.Value || name == core.FactModel || name == core.FactChip || s.limits.Identity == loader.ThisKind && name == core.FactSerial {
			continue
		}
		f.Name, f.At = name, at
		if name == core.FactRunning {
			f.Value = version
		}
		if f.Value != "" {
			facts = append(facts, f)
		}
	}
	return facts, nil
}

func (s *session) Can(a loader.Ability) error {
	if s.limits.Has(a) {
		return nil
	}
	return core.Fail(core.RefusedByUnit, "such a loader has not the ability %s", a)
}

func (s *session) Probe(context.Context) error { return nil }
func (s *session) Close() error                { return nil }

func (s *session) Restart(context.Context, bool) error {
	s.twin.clock.move(restart)
	return nil
}

// restart is what a restart takes where nobody knows.
const restart = time.Second

func (s *session) within(address, length uint64) error {
	p := s.part
	if address < p.base || address-p.base > uint64(len(p.memory)) || length > uint64(len(p.memory))-(address-p.base) {
		return core.Fail(core.RefusedByUnit, "%d bytes at 0x%X are not in the memory of section %s", length, address, p.of.Name)
	}
	return nil
}

func (s *session) Read(_ context.Context, address uint64, p []byte, got func(int)) error {
	if err := s.within(address, uint64(len(p))); err != nil {
		return err
	}
	copy(p, s.part.at(address, uint64(len(p))))
	s.twin.bytes.Read += uint64(len(p))
	s.line(len(p))
	if got != nil {
		got(len(p))
	}
	return nil
}

func (s *session) Digest(_ context.Context, address, length, piece uint64) ([]core.Digest, error) {
	if err := s.within(address, length); err != nil {
		return nil, err
	}
	var all []core.Digest
	for at := address; at < address+length; at += piece {
		all = append(all, core.DigestOf(s.part.at(at, piece)))
	}
	s.line(32 * len(all))
	return all, nil
}

func (s *session) Change(ctx context.Context, next func() (loader.Op, bool, error), acked func(loader.Op) error) error {
	for {
		op, ok, err := next()
		if err != nil || !ok {
			return err
		}
		if err := s.within(op.Address, op.Length); err != nil {
			return err
		}
		cells, erased := s.part.at(op.Address, op.Length), s.part.of.Memory.Erased
		switch {
		case op.Erase:
			for i := range cells {
				cells[i] = erased
			}
			s.twin.bytes.Erased += op.Length
		default:
			broke := s.twin.breaks()
			if broke != nil { // with half of it written
				op.Data = op.Data[:len(op.Data)/2]
			}
			for i, b := range op.Data { // a cell that was not erased takes no bit back
				if erased == 0xFF {
					cells[i] &= b
				} else {
					cells[i] |= b
				}
			}
			s.twin.bytes.Written += uint64(len(op.Data))
			s.line(len(op.Data))
			if broke != nil {
				return broke
			}
		}
		if err := acked(op); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

func (s *session) Settings(context.Context) ([]loader.Setting, error) {
	return slices.Clone(s.part.settings), nil
}

func (s *session) PutSetting(_ context.Context, v loader.Setting) error {
	for _, p := range s.part.savers() {
		if v.Name == p {
			return nil
		}
	}
	i := slices.IndexFunc(s.part.settings, func(x loader.Setting) bool { return x.Name == v.Name })
	if i < 0 {
		s.part.settings = append(s.part.settings, v)
		return nil
	}
	s.part.settings[i] = v
	return nil
}

// savers are the names that save a page, and set nothing.
func (p *part) savers() (all []string) {
	if p.of.Settings != nil {
		for _, page := range p.of.Settings.Pages {
			all = append(all, page.Save, page.Keep)
		}
	}
	return all
}

func (s *session) DropSetting(_ context.Context, name string) error {
	s.part.settings = slices.DeleteFunc(s.part.settings, func(x loader.Setting) bool { return x.Name == name })
	return nil
}

// A unit whose memory was read was not locked then.
func (s *session) Locked(context.Context) (bool, error) { return false, nil }
func (s *session) Unlock(context.Context) error         { return nil }
func (s *session) Lock(context.Context) error           { return nil }

func (s *session) Files(context.Context) ([]loader.FileInfo, error) {
	var all []loader.FileInfo
	for name, data := range s.part.files {
		all = append(all, loader.FileInfo{Path: name, Length: uint64(len(data)), Digest: core.DigestOf(data)})
	}
	sort.Slice(all, func(i, j int) bool { return all[i].Path < all[j].Path })
	s.line(64 * len(all))
	return all, nil
}

func (s *session) GetFile(_ context.Context, path string, p []byte, got func(int)) error {
	data, ok := s.part.files[path]
	if !ok || len(data) < len(p) {
		return core.Fail(core.NotFound, "the unit has no file %s of %d bytes", path, len(p))
	}
	copy(p, data)
	s.twin.bytes.Read += uint64(len(p))
	s.line(len(p))
	if got != nil {
		got(len(p))
	}
	return nil
}

func (s *session) PutFile(_ context.Context, path string, data []byte, sent func(int)) error {
	if err := s.twin.breaks(); err != nil {
		return err
	}
	s.part.files[path] = bytes.Clone(data)
	s.twin.bytes.Written += uint64(len(data))
	s.line(len(data))
	if sent != nil {
		sent(len(data))
	}
	return nil
}

func (s *session) RemoveFile(_ context.Context, path string) error {
	delete(s.part.files, path)
	return nil
}

// Package contents answers what is in a unit now, section by section: what its newest
// backup read, and what runs have changed since, as far as they are known to have got.
// It is the one answer to that question; what is not known is left open, never taken
// from before.
package contents

import (
	"maps"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
)

// Happened is a run of the unit, with the sheet that it went by.
type Happened struct {
	State *run.State
	Sheet *model.Sheet
}

// Source reads what the answer rests on.
type Source struct {
	Get shelf.Get // a piece by its name
	// Images are those that a run's release has for a section, in their order.
	Images func(run, section string) ([]*image.Image, error)
}

// Part is what a section holds. Exactly one of Sectors and Files is used.
type Part struct {
	Section *model.Section
	At      time.Time              // of the newest word on it
	Backup  string                 // run whose reading it goes back to; empty where it was never read
	Base    core.Digest            // manifest of that reading
	Read    time.Time              // when it was read
	Sectors map[uint64]core.Digest // what is known, by address
	Files   map[string]File        // by path
	Runs    []string               // that changed it since, the oldest first

	lengths map[uint64]uint64
	layers  []layer
	over    map[uint64]int // sector to the number of layers that count for it
	asRead  bool           // what no layer covers is what the reading says
	src     Source
	raw     map[core.Digest][]byte
	read    map[core.Digest]*shelf.Manifest
	near    map[place]bool // what was fetched ahead
}

// File is a file of a tree; a zero digest says that nobody knows what it holds, or
// whether it is there.
type File struct {
	Digest core.Digest
	Length uint64
}

// layer is what one run has put over what was there.
type layer struct {
	run    string
	source core.Digest // manifest that it restored; zero where it put images in
	images []*image.Image
	asked  bool
}

// Of adds up what happened to a unit, in the order of happening, by section of the
// sheet in force. A section of which nothing is known is not in it.
func Of(sheet *model.Sheet, all []Happened, src Source) (map[string]*Part, error) {
	parts := map[string]*Part{}
	for _, h := range all {
		if h.State.Opened == nil {
			continue
		}
		for _, x := range h.State.Sections {
			now, ok := sheet.Section(x.Name)
			if !ok || now.Files != nil != x.Files {
				continue // the sheet in force knows no such section
			}
			was, ok := h.Sheet.Section(x.Name)
			if !ok {
				continue
			}
			p := parts[x.Name]
			if p == nil {
				p = &Part{Section: now, src: src, Sectors: map[uint64]core.Digest{}, Files: map[string]File{}, lengths: map[uint64]uint64{}, over: map[uint64]int{}, raw: map[core.Digest][]byte{}, read: map[core.Digest]*shelf.Manifest{}, near: map[place]bool{}}
			}
			if err := p.take(h.State, x, was); err != nil {
				return nil, err
			}
			if !p.At.IsZero() {
				parts[x.Name] = p
			}
		}
	}
	return parts, nil
}

// take adds what one run says of the section.
func (p *Part) take(s *run.State, x *run.Section, was *model.Section) error {
	switch {
	case x.Stored != nil: // what was read and not stored is on no shelf
		if err := p.begin(s, x.BackedUp.Manifest, x.BackedUp.Now, was, true); err != nil {
			return err
		}
	case x.Covered != nil: // an earlier reading stands for this one, and what it reads now may differ
		if err := p.begin(s, x.Covered.Of(x), x.Covered.Now, was, false); err != nil {
			return err
		}
	}
	if !x.Touched {
		return nil
	}
	p.At = time.UnixMicro(s.LastAt).UTC()
	p.Runs = append(p.Runs, s.Opened.Run)
	l := layer{run: s.Opened.Run}
	if s.Opened.Kind == run.Restore {
		l.source = s.Opened.Source.Of(x)
	}
	p.layers = append(p.layers, l)
	if x.Unlocked { // the unit erased all that it may
		p.forget()
	}
	if x.Planned == nil {
		return nil
	}
	for i, piece := range x.Planned.Sectors {
		if piece.State != plan.Change {
			continue
		}
		if piece.Path != "" {
			switch {
			case x.Right[i] && piece.Want.IsZero():
				delete(p.Files, piece.Path)
			case x.Right[i]:
				p.Files[piece.Path] = File{piece.Want, piece.Length}
			default:
				p.Files[piece.Path] = File{}
			}
			continue
		}
		delete(p.Sectors, piece.Address)
		if x.Right[i] {
			p.Sectors[piece.Address], p.over[piece.Address] = piece.Want, len(p.layers)
			p.lengths[piece.Address] = piece.Length
		}
	}
	return nil
}

// forget lets go of all that was known of the content.
func (p *Part) forget() {
	clear(p.Sectors)
	for path := range p.Files {
		p.Files[path] = File{}
	}
}

// begin takes a reading in place of all that was known. now are the digests of the
// sectors, or of the tree's files; without them each sector is one chunk of the
// manifest.
func (p *Part) begin(s *run.State, manifest core.Digest, now []core.Digest, was *model.Section, whole bool) error {
	if whole || p.Base.IsZero() {
		p.Base, p.Backup, p.Read = manifest, s.Opened.Run, time.UnixMicro(s.OpenedAt).UTC()
		if !whole {
			p.Backup = s.Opened.Covered.Run
		}
		p.Runs, p.layers = nil, nil
		clear(p.over)
	}
	p.At, p.asRead = time.UnixMicro(s.OpenedAt).UTC(), whole
	if was.Files != nil {
		clear(p.Files)
		tree, err := p.tree(manifest)
		if err != nil {
			return err
		}
		for i, f := range tree.Files {
			p.Files[f.Path] = File{f.Digest, f.Length}
			if i < len(now) {
				p.Files[f.Path] = File{now[i], f.Length}
			}
		}
		return nil
	}
	clear(p.Sectors)
	chunks := map[uint64]core.Digest{}
	if len(now) == 0 {
		stretches, err := p.chunks(manifest)
		if err != nil {
			return err
		}
		for _, c := range stretches {
			chunks[c.Address] = c.Chunks[0]
		}
	}
	for i, sector := range was.Memory.Sectors() {
		p.lengths[sector.Address] = sector.Length
		if i < len(now) {
			p.Sectors[sector.Address] = now[i]
		} else if d, ok := chunks[sector.Address]; ok && len(now) == 0 {
			p.Sectors[sector.Address] = d
		}
	}
	return nil
}

func (p *Part) tree(name core.Digest) (*shelf.Tree, error) {
	raw, err := p.src.Get.One(name)
	if err != nil {
		return nil, err
	}
	return shelf.DecodeTree(raw)
}

func (p *Part) chunks(name core.Digest) ([]shelf.Stretch, error) {
	m, err := p.manifest(name)
	if err != nil {
		return nil, err
	}
	return m.Chunks(p.src.Get)
}

func (p *Part) manifest(name core.Digest) (*shelf.Manifest, error) {
	if m, ok := p.read[name]; ok {
		return m, nil
	}
	raw, err := p.src.Get.One(name)
	if err != nil {
		return nil, err
	}
	m, err := shelf.DecodeManifest(raw)
	if err == nil {
		p.read[name] = m
	}
	return m, err
}

// Unknown are the sectors, by the map in force, of which nobody knows what they hold.
func (p *Part) Unknown() (all []memory.Sector) {
	for _, s := range p.sectors() {
		if _, ok := p.Sectors[s.Address]; !ok || p.lengths[s.Address] != s.Length {
			all = append(all, s)
		}
	}
	return all
}

// Partly tells whether some of it is not known.
func (p *Part) Partly() bool {
	if p.Section.Files == nil {
		return len(p.Unknown()) > 0
	}
	for _, f := range p.Files {
		if f.Digest.IsZero() {
			return true
		}
	}
	return false
}

// Tree lists the files that are known, by content alone.
func (p *Part) Tree() *shelf.Tree {
	t := &shelf.Tree{}
	for _, path := range slices.Sorted(maps.Keys(p.Files)) {
		if f := p.Files[path]; !f.Digest.IsZero() {
			t.Files = append(t.Files, shelf.File{Path: path, Length: f.Length, Digest: f.Digest})
		}
	}
	return t
}

func (p *Part) sectors() []memory.Sector {
	if p.Section.Files != nil {
		return nil
	}
	return p.Section.Memory.Sectors()
}

// Content lays out what a stretch holds as far as it can be told: the reading, and
// over it what runs have put in. known tells whether all of it is what the digests
// say.
func (p *Part) Content(address uint64, into []byte) (known bool, err error) {
	end, known := address+uint64(len(into)), true
	for _, s := range p.sectors() {
		if s.End() <= address || s.Address >= end {
			continue
		}
		data, right, err := p.sector(s)
		if err != nil {
			return false, err
		}
		known = known && right
		from, to := max(s.Address, address), min(s.End(), end)
		copy(into[from-address:to-address], data[from-s.Address:])
	}
	return known, nil
}

// sector is the content of a sector, and whether its digest is the one that is known.
func (p *Part) sector(s memory.Sector) ([]byte, bool, error) {
	data := make([]byte, s.Length)
	for i := range data {
		data[i] = p.Section.Memory.Erased
	}
	if !p.Base.IsZero() {
		if err := p.fill(p.Base, s, data); err != nil {
			return nil, false, err
		}
	}
	for i := range p.layers[:p.over[s.Address]] {
		l := &p.layers[i]
		if !l.source.IsZero() {
			if err := p.fill(l.source, s, data); err != nil {
				return nil, false, err
			}
			continue
		}
		if !l.asked {
			var err error
			if l.images, err = p.src.Images(l.run, p.Section.Name); err != nil {
				return nil, false, err
			}
			l.asked = true
		}
		for _, im := range l.images {
			im.Overlay(s.Address, data)
		}
	}
	want, ok := p.Sectors[s.Address]
	return data, ok && core.DigestOf(data) == want, nil
}

// fill takes what a manifest has of a sector; one that it lacks stays as it is.
func (p *Part) fill(name core.Digest, s memory.Sector, data []byte) error {
	m, err := p.manifest(name)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(m.Ranges, func(r shelf.Range) bool { return r.Address <= s.Address && s.End() <= r.Address+r.Length })
	if i < 0 {
		return nil
	}
	pieces := p.src.Get.Through(p.raw)
	// Whoever asks for one sector asks for those beside it next: they are fetched with it, if
	// they are there.
	r := m.Ranges[i]
	from := max(s.Address/window*window, r.Address)
	if at := (place{name, from}); !p.near[at] {
		p.near[at] = true
		if err := m.Read(pieces, from, make([]byte, min(from+window, r.Address+r.Length)-from)); err != nil && core.KindOf(err) != core.NotFound {
			return err
		}
	}
	return m.Read(pieces, s.Address, data)
}

// window is how much of a backup is fetched at once.
const window = 256 << 10

// place is an address in a backup.
type place struct {
	manifest core.Digest
	address  uint64
}

// Chunks names what is known by the pieces of the shelf's grid, for recognising it.
func (p *Part) Chunks() ([]shelf.Stretch, error) {
	read := map[uint64]shelf.Stretch{}
	if !p.Base.IsZero() {
		stretches, err := p.chunks(p.Base)
		if err != nil {
			return nil, err
		}
		for _, s := range stretches {
			read[s.Address] = s
		}
	}
	var all []shelf.Stretch
	sectors := p.sectors()
	for i, at := 0, uint64(0); i < len(sectors); i++ {
		s := sectors[i]
		for _, g := range shelf.Grid(s.Address/shelf.ChunkSize*shelf.ChunkSize, (s.End()+shelf.ChunkSize-1)/shelf.ChunkSize*shelf.ChunkSize-s.Address/shelf.ChunkSize*shelf.ChunkSize) {
			if g.Address < at { // the sector before has been in this piece
				continue
			}
			at = g.End()
			one, ok, err := p.chunk(g, sectors, read)
			if err != nil {
				return nil, err
			}
			if ok {
				all = append(all, one)
			}
		}
	}
	return all, nil
}

// chunk names a piece of the grid, if all sectors in it are known.
func (p *Part) chunk(g memory.Sector, sectors []memory.Sector, read map[uint64]shelf.Stretch) (shelf.Stretch, bool, error) {
	i, _ := slices.BinarySearchFunc(sectors, g.Address, func(s memory.Sector, at uint64) int {
		if s.End() <= at {
			return -1
		}
		return 1
	})
	as, from, to := p.asRead, g.End(), g.Address // as: it is what the reading says
	for ; i < len(sectors) && sectors[i].Address < g.End(); i++ {
		s := sectors[i]
		if _, ok := p.Sectors[s.Address]; !ok || p.lengths[s.Address] != s.Length {
			return shelf.Stretch{}, false, nil
		}
		as = as && p.over[s.Address] == 0
		from, to = min(from, max(s.Address, g.Address)), max(to, min(s.End(), g.End()))
	}
	if c, ok := read[from]; ok && as && c.Length == to-from {
		return c, true, nil
	}
	if from >= to {
		return shelf.Stretch{}, false, nil
	}
	data := make([]byte, to-from)
	known, err := p.Content(from, data)
	return shelf.Stretch{Address: from, Length: to - from, Chunks: []core.Digest{core.DigestOf(data)}}, known, err
}

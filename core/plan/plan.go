// Package plan turns what a section shall hold and what is in it now into a list of
// typed actions, each resumed as a whole. Of a memory only sectors that differ are
// touched, and what no image covers is carried over from the backup unless its
// region says erase; of a tree only files that differ are put.
package plan

import (
	"fmt"

	"github.com/fxamacker/cbor/v2"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
)

// State is what becomes of a sector.
type State string

// The states of a sector in a plan.
const (
	Already State = "already" // right as it is
	Change  State = "change"  // to erase and write
	Kept    State = "kept"    // no image speaks of it
)

// Sector is one piece of the plan: a sector of a memory, or a file.
type Sector struct {
	Address uint64      `json:"address" cbor:"a"`
	Length  uint64      `json:"length" cbor:"l"`
	Region  string      `json:"region" cbor:"r"`
	Path    string      `json:"path,omitempty" cbor:"p,omitempty"` // of a file: it is the piece then
	State   State       `json:"state" cbor:"s"`
	Want    core.Digest `json:"want" cbor:"w"` // SHA-256 it must have at the end
}

// Kind is what an action does.
type Kind string

// The kinds of action, with the piece at which each is resumed.
const (
	Erase      Kind = "erase"       // a sector
	Write      Kind = "write"       // its sector, with the erase
	SendFile   Kind = "send-file"   // the whole memory, as one file
	PutFile    Kind = "put-file"    // a file
	RemoveFile Kind = "remove-file" // a file
)

// Action is one change; it is resumed as a whole.
type Action struct {
	N       int
	Kind    Kind
	Sector  int // the piece that it belongs to
	Address uint64
	Length  uint64
	Data    core.Digest // of the bytes that it writes
	Path    string      // of a file
}

// Plan is the pieces and the actions in their order.
type Plan struct {
	Sectors []Sector
	Actions []Action
	content func(sector int) ([]byte, error)
	whole   func() ([]byte, error)

	last     int // the piece whose content was laid out last
	lastData []byte
}

// Input is what a plan is made of.
type Input struct {
	Map *memory.Map
	// Images are laid over each other in the order of the parts.
	Images []*image.Image
	// Now gives the digest of what is in each sector, by address; sectors that are
	// missing are taken to differ.
	Now map[uint64]core.Digest
	// Base reads the backup.
	Base func(address uint64, p []byte) error
	// Whole makes the backup itself the target: every sector that may be written.
	Whole bool
	// Mend lays the images over the backup in every sector that may be written: an
	// earlier write was cut off, and may have ruined sectors that no image covers.
	Mend bool
	// Whole file: the loader takes the images as one file, and nothing less.
	Send bool
}

// Build makes the plan. Bytes that it would need and does not have, and writes
// outside the map or into a read-only region, are errors.
func Build(in Input) (*Plan, error) {
	p := &Plan{last: -1}
	sectors := in.Map.Sectors()
	p.content = func(i int) ([]byte, error) { return in.wanted(sectors[i]) }
	if err := in.check(); err != nil {
		return nil, err
	}
	for i, s := range sectors {
		out := Sector{Address: s.Address, Length: s.Length, Region: s.Region.Name, State: Kept}
		if in.touches(s) {
			data, err := in.wanted(s)
			if err != nil {
				return nil, err
			}
			out.Want, out.State = core.DigestOf(data), Change
			if now, known := in.Now[s.Address]; known && now == out.Want {
				out.State = Already
			} else {
				in.change(p, i, s, data)
			}
		} else {
			out.Want = in.Now[s.Address]
		}
		p.Sectors = append(p.Sectors, out)
	}
	if in.Send && len(p.Actions) > 0 {
		data := in.file()
		p.Actions = nil
		p.add(Action{Kind: SendFile, Length: uint64(len(data)), Data: core.DigestOf(data)})
		p.whole = func() ([]byte, error) { return data, nil }
	}
	return p, nil
}

// file lays the images out as one file, from its first byte to its last.
func (in *Input) file() []byte {
	from, to := in.Images[0].Extent()
	for _, im := range in.Images[1:] {
		a, b := im.Extent()
		from, to = min(from, a), max(to, b)
	}
	data := make([]byte, to-from)
	for i := range data {
		data[i] = in.Map.Erased
	}
	for _, im := range in.Images {
		im.Overlay(from, data)
	}
	return data
}

func (in *Input) check() error {
	for _, im := range in.Images {
		for _, s := range im.Segments {
			for at := s.Address; at < s.End(); {
				r, ok := in.Map.At(at)
				if !ok {
					return core.Fail(core.DoesNotFit, "the image has bytes at 0x%X, where the model has no memory", at).Unit("nothing was changed")
				}
				if r.ReadOnly {
					return core.Fail(core.DoesNotFit, "the image has bytes at 0x%X, in region %s, which is never written", at, r.Name).Unit("nothing was changed")
				}
				at = r.End()
			}
		}
	}
	return nil
}

func (in *Input) touches(s memory.Sector) bool {
	if s.Region.ReadOnly {
		return false
	}
	if in.Whole || in.Mend {
		return true
	}
	for _, im := range in.Images {
		for _, seg := range im.Segments {
			if seg.Address < s.End() && seg.End() > s.Address {
				return true
			}
		}
	}
	return false
}

// wanted is what the sector shall hold.
func (in *Input) wanted(s memory.Sector) ([]byte, error) {
	data := make([]byte, s.Length)
	if in.Whole {
		return data, in.Base(s.Address, data)
	}
	covered := 0
	for _, im := range in.Images {
		covered += im.Overlay(s.Address, data)
	}
	if covered < len(data) {
		if s.Region.Uncovered == memory.Erase && (covered > 0 || !in.Mend) {
			for i := range data {
				data[i] = in.Map.Erased
			}
		} else if err := in.Base(s.Address, data); err != nil {
			return nil, core.Fail(core.NoWayBack, "the sector at 0x%X is only partly covered by the image, and the rest is not in the backup: %w", s.Address, err).
				Unit("nothing was changed")
		}
		for _, im := range in.Images {
			im.Overlay(s.Address, data)
		}
	}
	return data, nil
}

// change adds the erase of a sector and the writes of what is not blank after it.
func (in *Input) change(p *Plan, i int, s memory.Sector, data []byte) {
	p.add(Action{Kind: Erase, Sector: i, Address: s.Address, Length: s.Length})
	for _, run := range written(data, in.Map.Write, in.Map.Erased) {
		p.add(Action{Kind: Write, Sector: i, Address: s.Address + run[0], Length: run[1] - run[0], Data: core.DigestOf(data[run[0]:run[1]])})
	}
}

func (p *Plan) add(a Action) {
	a.N = len(p.Actions)
	p.Actions = append(p.Actions, a)
}

// written finds the runs of write granules that hold more than erased bytes; a
// gap under 1 KiB is written through.
func written(data []byte, granule uint64, erased byte) [][2]uint64 {
	var runs [][2]uint64
	for at := uint64(0); at < uint64(len(data)); at += granule {
		blank := true
		for _, c := range data[at : at+granule] {
			if c != erased {
				blank = false
				break
			}
		}
		if blank {
			continue
		}
		if n := len(runs); n > 0 && at-runs[n-1][1] < 1<<10 {
			runs[n-1][1] = at + granule
		} else {
			runs = append(runs, [2]uint64{at, at + granule})
		}
	}
	return runs
}

// Op makes the loader's op of an erase or a write.
func (p *Plan) Op(n int) (loader.Op, error) {
	a := p.Actions[n]
	op := loader.Op{N: n, Erase: a.Kind == Erase, Address: a.Address, Length: a.Length}
	if op.Erase {
		return op, nil
	}
	data, err := p.laid(a.Sector)
	if err != nil {
		return op, err
	}
	op.Data = data[a.Address-p.Sectors[a.Sector].Address:][:a.Length]
	return op, a.holds(op.Data)
}

// File gives the bytes that an action sends or puts.
func (p *Plan) File(n int) ([]byte, error) {
	a := p.Actions[n]
	get := p.whole
	if a.Kind != SendFile {
		get = func() ([]byte, error) { return p.laid(a.Sector) }
	}
	data, err := get()
	if err != nil {
		return nil, err
	}
	return data, a.holds(data)
}

// Piece is what a piece of memory should hold; kept reads what was in those that nobody is to touch.
// It is not given where it would not have the digest that is wanted.
func (p *Plan) Piece(i int, kept func(address uint64, p []byte) error) ([]byte, bool) {
	x := p.Sectors[i]
	data, err := make([]byte, x.Length), error(nil)
	if x.State == Kept {
		err = kept(x.Address, data)
	} else {
		data, err = p.content(i)
	}
	return data, err == nil && core.DigestOf(data) == x.Want
}

// laid is the content of a piece, laid out once for all its actions.
func (p *Plan) laid(piece int) ([]byte, error) {
	if p.last != piece {
		data, err := p.content(piece)
		if err != nil {
			return nil, err
		}
		p.last, p.lastData = piece, data
	}
	return p.lastData, nil
}

// holds refuses bytes that are not those that were planned.
func (a Action) holds(data []byte) error {
	if core.DigestOf(data) == a.Data {
		return nil
	}
	where := a.Path
	if where == "" {
		where = fmt.Sprintf("0x%X", a.Address)
	}
	return core.Fail(core.VerifyDiffers, "the bytes for %s are not those that were planned; the image or the backup on the shelf changed", where)
}

// Last tells whether an action is the last of its piece.
func (p *Plan) Last(n int) bool {
	return n == len(p.Actions)-1 || p.Actions[n+1].Sector != p.Actions[n].Sector
}

// Bytes counts the bytes to write.
func (p *Plan) Bytes() (n uint64) {
	for _, a := range p.Actions {
		if a.Kind != Erase && a.Kind != RemoveFile {
			n += a.Length
		}
	}
	return n
}

// Count counts the sectors in a state.
func (p *Plan) Count(s State) (n int) {
	for _, x := range p.Sectors {
		if x.State == s {
			n++
		}
	}
	return n
}

// encoded is the form of an action whose digest names the plan. Erases and writes
// have the form that plans had before there were other kinds.
type encoded struct {
	N       int         `cbor:"n"`
	Sector  int         `cbor:"s"`
	Erase   bool        `cbor:"e"`
	Address uint64      `cbor:"a"`
	Length  uint64      `cbor:"l"`
	Data    core.Digest `cbor:"d"`
	Kind    Kind        `cbor:"k,omitempty"`
	Path    string      `cbor:"p,omitempty"`
}

// Digest names the plan: SHA-256 of its deterministic CBOR.
func (p *Plan) Digest() core.Digest {
	out := struct {
		Sectors []Sector  `cbor:"sectors"`
		Actions []encoded `cbor:"actions"`
	}{Sectors: p.Sectors}
	for _, a := range p.Actions {
		e := encoded{a.N, a.Sector, a.Kind == Erase, a.Address, a.Length, a.Data, a.Kind, a.Path}
		if a.Kind == Erase || a.Kind == Write {
			e.Kind = ""
		}
		out.Actions = append(out.Actions, e)
	}
	mode, err := cbor.CoreDetEncOptions().EncMode()
	if err != nil {
		panic(err)
	}
	b, err := mode.Marshal(out)
	if err != nil {
		panic(err)
	}
	return core.DigestOf(b)
}

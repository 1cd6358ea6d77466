// Package plan turns images and what is in the memory now into the changes to
// make: only sectors that differ are touched, and what no image covers is
// carried over from the backup unless its region says erase.
package plan

import (
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

// Sector is one sector of the plan.
type Sector struct {
	Address uint64      `json:"address" cbor:"a"`
	Length  uint64      `json:"length" cbor:"l"`
	Region  string      `json:"region" cbor:"r"`
	State   State       `json:"state" cbor:"s"`
	Want    core.Digest `json:"want" cbor:"w"` // SHA-256 it must have at the end
}

// Action is one change; it is resumed as a whole.
type Action struct {
	N       int         `json:"n" cbor:"n"`
	Sector  int         `json:"sector" cbor:"s"`
	Erase   bool        `json:"erase" cbor:"e"`
	Address uint64      `json:"address" cbor:"a"`
	Length  uint64      `json:"length" cbor:"l"`
	Data    core.Digest `json:"data" cbor:"d"` // of a write's bytes
}

// Plan is the sectors and the actions in their order.
type Plan struct {
	Sectors []Sector `json:"sectors" cbor:"sectors"`
	Actions []Action `json:"actions" cbor:"actions"`
	memory  *memory.Map
	content func(sector int) ([]byte, error)
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
}

// Build makes the plan. Bytes that it would need and does not have, and writes
// outside the map or into a read-only region, are errors.
func Build(in Input) (*Plan, error) {
	p := &Plan{memory: in.Map}
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
				p.change(i, s, data)
			}
		} else {
			out.Want = in.Now[s.Address]
		}
		p.Sectors = append(p.Sectors, out)
	}
	return p, nil
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
func (p *Plan) change(i int, s memory.Sector, data []byte) {
	p.add(Action{Sector: i, Erase: true, Address: s.Address, Length: s.Length})
	for _, run := range written(data, p.memory.Write, p.memory.Erased) {
		p.add(Action{Sector: i, Address: s.Address + run[0], Length: run[1] - run[0], Data: core.DigestOf(data[run[0]:run[1]])})
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

// Op makes the loader's op of an action.
func (p *Plan) Op(n int) (loader.Op, error) {
	a := p.Actions[n]
	op := loader.Op{N: n, Erase: a.Erase, Address: a.Address, Length: a.Length}
	if a.Erase {
		return op, nil
	}
	data, err := p.content(a.Sector)
	if err != nil {
		return op, err
	}
	s := p.Sectors[a.Sector]
	op.Data = data[a.Address-s.Address:][:a.Length]
	if core.DigestOf(op.Data) != a.Data {
		return op, core.Fail(core.VerifyDiffers, "the bytes for 0x%X are not those that were planned; the image or the backup on the shelf changed", a.Address)
	}
	return op, nil
}

// Bytes counts the bytes to write.
func (p *Plan) Bytes() (n uint64) {
	for _, a := range p.Actions {
		if !a.Erase {
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

// Digest names the plan: SHA-256 of its deterministic CBOR.
func (p *Plan) Digest() core.Digest {
	mode, err := cbor.CoreDetEncOptions().EncMode()
	if err != nil {
		panic(err)
	}
	b, err := mode.Marshal(p)
	if err != nil {
		panic(err)
	}
	return core.DigestOf(b)
}

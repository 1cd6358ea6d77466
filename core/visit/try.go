package visit

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
	"zealousferry/core/model"
)

// Tried is what came of trying a section of a sheet on a real unit.
type Tried struct {
	Turns []loader.Turn `json:"turns" nullable:"false" doc:"Each step of the dialogue, where the loader talks in text."`
	Facts []core.Fact   `json:"facts" nullable:"false" doc:"What the unit would be known by."`
	Did   []Did         `json:"did" nullable:"false" doc:"What was tried, in order."`
}

// Whole tells whether all of it went well and nothing had to be left out.
func (t Tried) Whole() bool {
	return t.Well() && !slices.ContainsFunc(t.Did, func(d Did) bool { return d.Left })
}

// Did is one thing that was tried.
type Did struct {
	What  string `json:"what"`
	Came  string `json:"came,omitempty" doc:"What came of it, in words."`
	Left  bool   `json:"left,omitempty" doc:"It could not be tried here, which is no fault of the sheet's."`
	Error string `json:"error,omitempty"`
}

// Well tells whether all that was tried went well.
func (t Tried) Well() bool {
	for _, d := range t.Did {
		if d.Error != "" {
			return false
		}
	}
	return len(t.Did) > 0
}

// Try plays a section of a sheet on a link: it reaches the loader, asks who is there, and
// uses each ability that changes nothing. With write, it also erases the last sector that
// a program may fill and writes back what was there.
func Try(ctx context.Context, l link.Link, x *model.Section, p link.Pace, write bool, note func(sent bool, b []byte)) Tried {
	t := Tried{Turns: []loader.Turn{}, Facts: []core.Fact{}, Did: []Did{}}
	did := func(what, came string, err error) bool {
		d := Did{What: what, Came: came}
		if core.KindOf(err) == core.NotAllowed { // no fault of the sheet's
			d.Came, d.Left = "not tried: "+err.Error(), true
		} else if err != nil {
			d.Error = err.Error()
			if next := core.AsError(err, "").Next; next != "" {
				d.Error += ". " + next
			}
		}
		t.Did = append(t.Did, d)
		return err == nil
	}
	s, err := Open(ctx, l, x, p, Hooks{Watch: func(turn loader.Turn) { t.Turns = append(t.Turns, turn) }, Note: note})
	if !did("reach the loader", "it is there", err) {
		return t
	}
	defer Leave(ctx, s, l, x, p)
	if said, ok := s.(interface{ Said() []core.Fact }); ok { // a dialogue has asked on its way in
		t.Facts = said.Said()
	} else {
		t.Facts, err = s.Identify(ctx)
	}
	if t.Facts == nil {
		t.Facts = []core.Fact{}
	}
	says := model.Calls(t.Facts)
	if err == nil && len(t.Facts) > 0 && says != x.Loader.Says {
		err = core.Fail(core.WrongUnit, "it calls itself %q, the sheet says %q", says, x.Loader.Says)
	}
	if !did("ask who it is", fmt.Sprintf("%d facts", len(t.Facts)), err) {
		return t
	}
	if g, ok := s.(loader.Guarded); ok && s.Can(loader.Guard) == nil {
		locked, err := g.Locked(ctx)
		did("ask for the lock", map[bool]string{true: "locked against reading", false: "open"}[locked], err)
	}
	if k, ok := s.(loader.Keeper); ok && s.Can(loader.Keep) == nil {
		all, err := k.Settings(ctx)
		did("list the settings", fmt.Sprintf("%d settings", len(all)), err)
	}
	if c, ok := s.(loader.Cabinet); ok && s.Can(loader.Files) == nil {
		all, err := c.Files(ctx)
		did("list the files", fmt.Sprintf("%d files", len(all)), err)
	}
	if len(x.Memory.Regions) == 0 || s.Can(loader.Read) != nil {
		return t
	}
	at := x.Memory.Regions[0].Address
	head := make([]byte, min(64, x.Memory.Regions[0].Length))
	if !did(fmt.Sprintf("read %d bytes at 0x%X", len(head), at), "", s.Read(ctx, at, head, nil)) {
		return t
	}
	t.Did[len(t.Did)-1].Came = fmt.Sprintf("% X …", head[:min(16, len(head))])
	if s.Can(loader.Digest) == nil {
		d, err := s.Digest(ctx, at, uint64(len(head)), uint64(len(head)))
		if err == nil && (len(d) != 1 || d[0] != core.DigestOf(head)) {
			err = core.Fail(core.VerifyDiffers, "the digest that the unit gives is not that of what was read")
		}
		did("have it compute a digest", "it is that of what was read", err)
	}
	if write {
		t.writeBack(ctx, s, &x.Memory, did)
	}
	return t
}

// writeBack erases the last sector of the program's region and writes what it held.
func (t *Tried) writeBack(ctx context.Context, s loader.Session, m *memory.Map, did func(what, came string, err error) bool) {
	var last *memory.Sector
	for _, x := range m.Sectors() {
		if x.Region.Use == memory.Program && !x.Region.ReadOnly {
			last = &x
		}
	}
	if last == nil {
		return
	}
	for _, a := range []loader.Ability{loader.Erase, loader.Write} {
		if err := s.Can(a); err != nil {
			did("change memory", "", err)
			return
		}
	}
	held := make([]byte, last.Length)
	if !did(fmt.Sprintf("read the sector at 0x%X", last.Address), fmt.Sprintf("%d bytes", last.Length), s.Read(ctx, last.Address, held, nil)) {
		return
	}
	ops := []loader.Op{{Erase: true, Address: last.Address, Length: last.Length}, {N: 1, Address: last.Address, Length: last.Length, Data: held}}
	n := 0
	err := loader.Change(ctx, s, m, func() (loader.Op, bool, error) {
		if n == len(ops) {
			return loader.Op{}, false, nil
		}
		n++
		return ops[n-1], true, nil
	}, nil, func(loader.Op) error { return nil })
	if !did("erase it and write back what it held", "done", err) {
		return
	}
	back := make([]byte, len(held))
	err = s.Read(ctx, last.Address, back, nil)
	if err == nil && !bytes.Equal(back, held) {
		err = core.Fail(core.VerifyDiffers, "what is read back is not what was written")
	}
	did("read it back", "it is what it held", err)
}

package visit

import (
	"bytes"
	"cmp"
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
	What       string   `json:"what"`
	WhatID     string   `json:"whatId,omitempty" doc:"Of that message, as docs/messages.md lists it."`
	WhatParams []string `json:"whatParams,omitempty" doc:"What was put into it, in order."`
	Came       string   `json:"came,omitempty" doc:"What came of it, in words."`
	CameID     string   `json:"cameId,omitempty" doc:"Of that message, as docs/messages.md lists it."`
	CameParams []string `json:"cameParams,omitempty" doc:"What was put into it, in order."`
	Left       bool     `json:"left,omitempty" doc:"It could not be tried here, which is no fault of the sheet's."`
	Error      string   `json:"error,omitempty" doc:"What went wrong, and what to do."`
	// Of that message and what was put into it, and the steps.
	ErrorID     string      `json:"errorId,omitempty" doc:"Of that message, as docs/messages.md lists it."`
	ErrorParams []string    `json:"errorParams,omitempty" doc:"What was put into it, in order."`
	Steps       []core.Step `json:"steps,omitempty"`
}

// did is one thing that was tried, and what came of it.
func did(what, came core.Said) Did {
	return Did{What: what.Text, WhatID: what.ID, WhatParams: what.Params, Came: came.Text, CameID: came.ID, CameParams: came.Params}
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

// Held is what a sector held before a trial erased it, and of which unit it is.
type Held struct {
	Unit    string `json:"unit"` // its serial, where it tells one
	Section string `json:"section"`
	Says    string `json:"says"` // what it calls itself
	Address uint64 `json:"address"`
	Data    []byte `json:"data"`
}

// Keeper keeps what a sector held for as long as the unit may have lost it.
type Keeper interface {
	// Kept is what an earlier trial has left here, if its end is not known.
	Kept() (*Held, error)
	// Keep has it on disk when it returns; nil forgets it.
	Keep(*Held) error
}

// Try plays a section of a sheet on a link: it reaches the loader, asks who is there, and
// uses each ability that changes nothing. With a keeper, it also erases the last sector
// that a program may fill and writes back what was there; what an earlier trial was kept
// from writing back goes first.
func Try(ctx context.Context, l link.Link, x *model.Section, p link.Pace, keeper Keeper, note func(sent bool, b []byte)) Tried {
	t := Tried{Turns: []loader.Turn{}, Facts: []core.Fact{}, Did: []Did{}}
	did := func(what, came core.Said, err error) bool {
		d := did(what, came)
		if core.KindOf(err) == core.NotAllowed { // no fault of the sheet's
			d = did(what, core.Say("not tried: %s", err))
			d.Left = true
		} else if err != nil {
			e := core.AsError(err, "")
			d.Error, d.ErrorID, d.ErrorParams, d.Steps = e.Message, e.ID, e.Params, e.Steps
			if e.Next != "" {
				d.Error += ". " + e.Next
			}
		}
		t.Did = append(t.Did, d)
		return err == nil
	}
	s, err := Open(ctx, l, x, p, Hooks{Watch: func(turn loader.Turn) { t.Turns = append(t.Turns, turn) }, Note: note})
	if !did(core.Say("reach the loader"), core.Say("it is there"), err) {
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
	if !did(core.Say("ask who it is"), core.Say("%d facts", len(t.Facts)), err) {
		return t
	}
	if g, ok := s.(loader.Guarded); ok && s.Can(loader.Guard) == nil {
		locked, err := g.Locked(ctx)
		is := core.Say("open")
		if locked {
			is = core.Say("locked against reading")
		}
		did(core.Say("ask for the lock"), is, err)
	}
	if k, ok := s.(loader.Keeper); ok && s.Can(loader.Keep) == nil {
		all, err := k.Settings(ctx)
		did(core.Say("list the settings"), core.Say("%d settings", len(all)), err)
	}
	if c, ok := s.(loader.Cabinet); ok && s.Can(loader.Files) == nil {
		all, err := c.Files(ctx)
		did(core.Say("list the files"), core.Say("%d files", len(all)), err)
	}
	if len(x.Memory.Regions) == 0 || s.Can(loader.Read) != nil {
		return t
	}
	at := x.Memory.Regions[0].Address
	head := make([]byte, min(64, x.Memory.Regions[0].Length))
	if !did(core.Say("read %d bytes at 0x%X", len(head), at), core.Said{}, s.Read(ctx, at, head, nil)) {
		return t
	}
	t.Did[len(t.Did)-1].Came = fmt.Sprintf("% X …", head[:min(16, len(head))])
	if s.Can(loader.Digest) == nil {
		d, err := s.Digest(ctx, at, uint64(len(head)), uint64(len(head)))
		if err == nil && (len(d) != 1 || d[0] != core.DigestOf(head)) {
			err = core.Fail(core.VerifyDiffers, "the digest that the unit gives is not that of what was read")
		}
		did(core.Say("have it compute a digest"), core.Say("it is that of what was read"), err)
	}
	if keeper != nil {
		w := writing{s: s, m: &x.Memory, keeper: keeper, did: did, who: Held{Unit: serialOf(t.Facts), Section: x.Name, Says: says}}
		w.all(ctx)
	}
	return t
}

func serialOf(facts []core.Fact) string {
	for _, f := range facts {
		if f.Name == core.FactSerial {
			return f.Value
		}
	}
	return ""
}

// writing is the part of a trial that changes memory.
type writing struct {
	s      loader.Session
	m      *memory.Map
	keeper Keeper
	did    func(what, came core.Said, err error) bool
	who    Held
}

func (w writing) all(ctx context.Context) {
	for _, a := range []loader.Ability{loader.Erase, loader.Write} {
		if err := w.s.Can(a); err != nil {
			w.did(core.Say("change memory"), core.Said{}, err)
			return
		}
	}
	left, err := w.keeper.Kept()
	if err != nil {
		w.did(core.Say("look for what an earlier trial has left"), core.Said{}, err)
		return
	}
	if left != nil {
		if what := core.Say("put back what the sector at 0x%X held before the last trial", left.Address); !w.did(what, core.Say("done"), w.putBack(ctx, left)) {
			return
		}
	}
	var last *memory.Sector
	for _, x := range w.m.Sectors() {
		if x.Region.Use == memory.Program && !x.Region.ReadOnly {
			last = &x
		}
	}
	if last == nil {
		return
	}
	held := w.who
	held.Address, held.Data = last.Address, make([]byte, last.Length)
	if !w.did(core.Say("read the sector at 0x%X", held.Address), core.Say("%d bytes", last.Length), w.s.Read(ctx, held.Address, held.Data, nil)) {
		return
	}
	if !w.did(core.Say("keep what it holds at the bench"), core.Say("it is on its disk"), w.keeper.Keep(&held)) {
		return
	}
	if err = w.write(ctx, &held); err != nil {
		err = core.AsError(err, "").Do("What it held is kept at the bench: try it with writing once more on this unit, and that is put back first.")
	}
	w.did(core.Say("erase it and write back what it held"), core.Say("it is read back as it was"), err)
}

// write erases a sector, writes what it held, reads it again, and lets the keeper forget.
func (w writing) write(ctx context.Context, h *Held) error {
	length := uint64(len(h.Data))
	ops := []loader.Op{{Erase: true, Address: h.Address, Length: length}, {N: 1, Address: h.Address, Length: length, Data: h.Data}}
	n := 0
	err := loader.Change(ctx, w.s, w.m, func() (loader.Op, bool, error) {
		if n == len(ops) {
			return loader.Op{}, false, nil
		}
		n++
		return ops[n-1], true, nil
	}, nil, func(loader.Op) error { return nil })
	if err != nil {
		return err
	}
	back := make([]byte, len(h.Data))
	if err := w.s.Read(ctx, h.Address, back, nil); err != nil {
		return err
	}
	if !bytes.Equal(back, h.Data) {
		return core.Fail(core.VerifyDiffers, "what is read back is not what was written")
	}
	return w.keeper.Keep(nil)
}

// putBack writes what an earlier trial has left, if this is its unit. A unit that tells no
// serial is it only where the sector looks as an erase or a write of it leaves one: each
// byte is erased, or what it was.
func (w writing) putBack(ctx context.Context, h *Held) error {
	other := core.Fail(core.WrongUnit, "an earlier trial on this link was kept from writing back the sector at 0x%X of %s, and this is another", h.Address, cmp.Or(h.Unit, "a unit that calls itself "+h.Says)).
		Do("Plug that one in and try it with writing once more.")
	if h.Unit != w.who.Unit || h.Section != w.who.Section || h.Says != w.who.Says {
		return other
	}
	now := make([]byte, len(h.Data))
	if err := w.s.Read(ctx, h.Address, now, nil); err != nil {
		return err
	}
	if bytes.Equal(now, h.Data) {
		return w.keeper.Keep(nil)
	}
	if h.Unit == "" {
		for i := range now {
			if now[i] != h.Data[i] && now[i] != w.m.Erased {
				return other
			}
		}
	}
	return w.write(ctx, h)
}

package run

import (
	"context"
	"fmt"
	"slices"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/shelf"
	"zealousferry/core/visit"
)

// survey finds out what an interrupted change has left: planned pieces that hold
// what they should are done, all others are begun again. A unit that takes a whole
// file gets it from its start; one that is locked still gets all.
func (r *Run) survey(ctx context.Context, x *Section) error {
	session, err := r.connect(ctx, x)
	if err != nil {
		return err
	}
	var v Surveyed
	if session.Can(loader.Read) == nil {
		now, _, err := r.holds(ctx, x, nil, nil)
		if err != nil {
			return err
		}
		for i, piece := range x.Planned.Sectors {
			if piece.State == plan.Change && now[i] == piece.Want {
				v.Right = append(v.Right, i)
			}
		}
	}
	return r.note(x, KindSurveyed, v)
}

// unlock lifts the protection that a waiver was given for. It erases, so it is a
// change like any other.
func (r *Run) unlock(ctx context.Context, x *Section) error {
	session, err := r.connect(ctx, x)
	if err != nil {
		return err
	}
	g, ok := session.(loader.Guarded)
	if !ok {
		return core.Fail(core.RefusedByUnit, "the loader cannot lift the lock")
	}
	if err := r.note(x, KindAboutTo, Act{Unlock: true}); err != nil {
		return err
	}
	if err := g.Unlock(ctx); err != nil {
		return err
	}
	return r.note(x, KindDone, Act{Unlock: true})
}

// change carries out the actions of the pieces that are not right yet.
func (r *Run) change(ctx context.Context, x *Section, pieces []int) error {
	p, err := r.planned(ctx, x)
	if err != nil {
		return err
	}
	session, err := r.connect(ctx, x)
	if err != nil {
		return err
	}
	left := map[int]bool{}
	for _, i := range pieces {
		left[i] = true
	}
	var todo []int
	for _, a := range p.Actions {
		if left[a.Sector] || a.Kind == plan.SendFile {
			todo = append(todo, a.N)
		}
	}
	for _, i := range pieces {
		if d, err := r.of(x); err == nil && d.Files == nil && d.Memory.Private(p.Sectors[i].Address, p.Sectors[i].Length) {
			defer r.hush(x)()
			break
		}
	}
	if len(todo) == 0 {
		return core.Fail(core.VerifyDiffers, "the plan has no action for what is still to be changed")
	}
	switch p.Actions[todo[0]].Kind {
	case plan.SendFile:
		return r.sendFile(ctx, x, p, session)
	case plan.PutFile, plan.RemoveFile:
		return r.changeFiles(ctx, x, p, session, todo)
	}
	return r.changeMemory(ctx, x, p, session, todo)
}

func (r *Run) changeMemory(ctx context.Context, x *Section, p *plan.Plan, session loader.Session, todo []int) error {
	for _, need := range []loader.Ability{loader.Erase, loader.Write} {
		if err := session.Can(need); err != nil {
			return err
		}
	}
	note := func(n int) Act {
		a := p.Actions[n]
		return Act{N: a.N, Sector: a.Sector, Erase: a.Kind == plan.Erase, Bytes: a.Length, Last: p.Last(n)}
	}
	next := func() (loader.Op, bool, error) {
		if len(todo) == 0 {
			return loader.Op{}, false, nil
		}
		if stop, err := r.stopped(); stop || err != nil {
			return loader.Op{}, false, err
		}
		n := todo[0]
		todo = todo[1:]
		op, err := p.Op(n)
		return op, err == nil, err
	}
	d, err := r.of(x)
	if err != nil {
		return err
	}
	told := func(kind string) func(loader.Op) error {
		return func(op loader.Op) error { return r.note(x, kind, note(op.N)) }
	}
	done := func(op loader.Op) error {
		if err := r.note(x, KindDone, note(op.N)); err != nil {
			return err
		}
		return r.keepWatch(ctx, x, session)
	}
	return loader.Change(ctx, session, &d.Memory, next, told(KindAboutTo), done)
}

// sendFile sends the images as one file, from its first byte.
func (r *Run) sendFile(ctx context.Context, x *Section, p *plan.Plan, session loader.Session) error {
	f, ok := session.(loader.Filer)
	if !ok {
		return core.Fail(core.RefusedByUnit, "the loader takes no file")
	}
	data, err := p.File(0)
	if err != nil {
		return err
	}
	a := Act{File: true, Bytes: uint64(len(data))}
	if err := r.note(x, KindAboutTo, a); err != nil {
		return err
	}
	if err := r.telling(x, func(sent func(int)) error { return f.SendFile(ctx, r.sheet.Model+".bin", data, sent) }, 0, a.Bytes); err != nil {
		return err
	}
	return r.note(x, KindDone, a)
}

// changeFiles puts and removes files, one after the other.
func (r *Run) changeFiles(ctx context.Context, x *Section, p *plan.Plan, session loader.Session, todo []int) error {
	c, ok := session.(loader.Cabinet)
	if !ok {
		return core.Fail(core.RefusedByUnit, "the loader holds no files")
	}
	if err := session.Can(loader.Files); err != nil {
		return err
	}
	for _, n := range todo {
		if stop, err := r.stopped(); stop || err != nil {
			return err
		}
		a := p.Actions[n]
		act := Act{N: a.N, Sector: a.Sector, Bytes: a.Length, Path: a.Path, Last: true}
		if err := r.note(x, KindAboutTo, act); err != nil {
			return err
		}
		if a.Kind == plan.RemoveFile {
			act.Erase = true
			if err := c.RemoveFile(ctx, a.Path); err != nil {
				return err
			}
		} else {
			data, err := p.File(n)
			if err != nil {
				return err
			}
			if err := r.telling(x, func(sent func(int)) error { return c.PutFile(ctx, a.Path, data, sent) }, x.Written, x.Planned.Bytes); err != nil {
				return err
			}
		}
		if err := r.note(x, KindDone, act); err != nil {
			return err
		}
	}
	return nil
}

// telling does something that takes long, and writes how far it is. done bytes of the
// section were written before.
func (r *Run) telling(x *Section, do func(sent func(n int)) error, done, total uint64) error {
	var told error
	err := do(func(n int) {
		if told == nil {
			told = r.progress(x, KindSending, Amount{done + uint64(n), total})
		}
	})
	return first(err, told)
}

// verify holds every piece of the section against what it should be: the ones
// written, the ones right before, and the ones that nobody was to touch.
func (r *Run) verify(ctx context.Context, x *Section) error {
	now, how, err := r.holds(ctx, x, r.expected(x), func(a Amount) error { return r.progress(x, KindVerifying, a) })
	if err != nil {
		return err
	}
	v := Verified{How: how}
	for i, piece := range x.Planned.Sectors {
		switch {
		case now[i] == piece.Want || piece.Want.IsZero() && piece.State != plan.Change:
			v.Sectors++
		case piece.State == plan.Kept && r.journal.State().Halves > 1:
			v.Changed = append(v.Changed, i)
		default:
			same, err := r.readAgain(ctx, x, piece)
			if err != nil {
				return err
			}
			if same { // the reading was wrong, and not the memory
				v.Sectors++
				continue
			}
			where := piece.Path
			if where == "" {
				where = "the sector at " + hex6(piece.Address)
			}
			e := core.Fail(core.VerifyDiffers, "%s (%s, %s) holds other bytes than it should", where, piece.Region, piece.State).
				Unit("it is written, but not right; it stays in its loader").
				Do("It was read twice. Write it again; if the same sector differs then too, set the unit apart.")
			return &differs{i, e}
		}
	}
	return r.note(x, KindVerified, v)
}

// readAgain reads a sector byte by byte that seemed to differ, before anybody calls it
// wrong.
func (r *Run) readAgain(ctx context.Context, x *Section, piece plan.Sector) (same bool, err error) {
	session, err := r.connect(ctx, x)
	if err != nil || piece.Path != "" || piece.Want.IsZero() || session.Can(loader.Read) != nil {
		return false, err
	}
	held := make([]byte, piece.Length)
	if err := r.read(ctx, x, session, piece.Address, held, nil); err != nil {
		return false, err
	}
	return core.DigestOf(held) == piece.Want, nil
}

// lock sets the protection again that was on before.
func (r *Run) lock(ctx context.Context, x *Section) error {
	session, err := r.connect(ctx, x)
	if err != nil {
		return err
	}
	g, ok := session.(loader.Guarded)
	if !ok {
		return core.Fail(core.RefusedByUnit, "the loader cannot lock the memory again")
	}
	if err := g.Lock(ctx); err != nil {
		return err
	}
	return r.note(x, KindLocked, struct{}{})
}

// start lets the program run and asks it for its version. A unit that took a file
// has started it already.
func (r *Run) start(ctx context.Context, x *Section) error {
	x = r.lead(ctx, x)
	d, err := r.of(x)
	if err != nil {
		return err
	}
	sent := x.Verified != nil && x.Verified.How == "transfer"
	if l := r.lines[x.Link]; sent && l != nil && l.session != nil { // that loader is over
		l.session.Close()
		l.session = nil
	}
	if !sent {
		if _, err := r.connect(ctx, x); err != nil {
			return err
		}
	}
	on, err := r.plugIn(ctx, x)
	if err != nil {
		return err
	}
	stream, _ := on.Link.(link.Stream)
	var refused error
	asked := false
	if l := r.lines[x.Link]; l.session != nil {
		if stream != nil {
			if err := stream.Purge(); err != nil {
				return err
			}
		}
		asked, refused = visit.Restart(ctx, l.session, on.Link, d)
		l.session.Close()
		l.session = nil
	}
	if !d.Tells() { // its content was verified, and there is no program that could say more
		if stream != nil {
			link.Play(ctx, stream, d.Loader.Serial().Leave, r.pace)
		}
		st := Started{Proven: refused == nil}
		if refused != nil {
			st.note(core.Say("the unit did not take the order to start its program: %s", refused))
		}
		return r.note(x, KindStarted, st)
	}
	version, err := visit.AskProgram(ctx, on.Link, d, asked, r.pace)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	st := Started{Version: version}
	expect := r.expects(x)
	switch {
	case err != nil && x.Touched:
		st.note(core.Say("the program does not say that it is %s: %s", expect, err))
		if expect == "" {
			st.note(core.Say("the program is not heard: %s", err))
		}
	case err != nil: // it was not touched; whether its program runs is not this run's doing
	case x.Touched && expect != "" && version != expect && sent:
		return &ends{core.Fail(core.VerifyDiffers, "the program says that it is %q, expected %s, and nothing else proves what was written", version, expect).
			Unit("a file was sent whole; what runs is not known").Do("Look at the unit's signs; then send the file again.")}
	case x.Touched && expect != "" && version != expect:
		st.note(core.Say("the program says that it is %s, expected %s", version, expect))
	default:
		st.Proven = true
	}
	return r.note(x, KindStarted, st)
}

// expects is what the section's program should say at the end; empty where that is
// not known.
func (r *Run) expects(x *Section) string {
	if x.Expect != "" || r.journal.State().Opened.Kind == BackUp {
		return x.Expect
	}
	if x.Main {
		return r.journal.State().Opened.Version
	}
	return ""
}

// holds gives the SHA-256 of each piece that the section holds, in the order of the
// plan's, or of the map's where there is no plan yet; and how it was found out. A
// file that is not there has none.
func (r *Run) holds(ctx context.Context, x *Section, expected func(n, count int) [][]byte, tell func(Amount) error) ([]core.Digest, string, error) {
	session, err := r.connect(ctx, x)
	if err != nil {
		return nil, "", err
	}
	d, err := r.of(x)
	if err != nil {
		return nil, "", err
	}
	if d.Files != nil {
		return r.holdsFiles(ctx, x, session)
	}
	return r.holdsMemory(ctx, x, session, d, expected, tell)
}

// expected gives the pieces of memory from the nth on as they should be, as far as that is known at
// this bench; nil where it is not.
func (r *Run) expected(x *Section) func(n, count int) [][]byte {
	p := r.plans[x.Name]
	if p == nil || x.Planned == nil || p.Digest() != x.Planned.Plan {
		return nil
	}
	base := x.plannedOn()
	var manifest *shelf.Manifest
	kept := func(address uint64, into []byte) error {
		if manifest == nil {
			raw, err := r.bench.Held(base)
			if err != nil {
				return err
			}
			if manifest, err = shelf.DecodeManifest(raw); err != nil {
				return err
			}
		}
		return manifest.Read(shelf.Each(r.bench.Held), address, into)
	}
	return func(n, count int) (all [][]byte) {
		for i := n; i < n+count; i++ {
			data, ok := p.Piece(i, kept)
			if !ok {
				return nil
			}
			all = append(all, data)
		}
		return all
	}
}

func (r *Run) holdsFiles(ctx context.Context, x *Section, session loader.Session) ([]core.Digest, string, error) {
	files, err := listFiles(ctx, session)
	if err != nil {
		return nil, "", err
	}
	now := map[string]core.Digest{}
	for _, f := range files {
		now[f.Path] = f.Digest
	}
	var all []core.Digest
	for _, piece := range x.Planned.Sectors {
		all = append(all, now[piece.Path])
	}
	return all, byUnit, nil
}

func listFiles(ctx context.Context, session loader.Session) ([]loader.FileInfo, error) {
	c, ok := session.(loader.Cabinet)
	if !ok {
		return nil, core.Fail(core.RefusedByUnit, "the loader holds no files")
	}
	if err := session.Can(loader.Files); err != nil {
		return nil, err
	}
	return c.Files(ctx)
}

func (r *Run) holdsMemory(ctx context.Context, x *Section, session loader.Session, d *model.Section, expected func(n, count int) [][]byte, tell func(Amount) error) ([]core.Digest, string, error) {
	if tell == nil {
		tell = func(Amount) error { return nil }
	}
	m := &d.Memory
	a := Amount{Total: m.Bytes()}
	var all []core.Digest
	how := byUnit
	for _, region := range m.Regions {
		for _, part := range stretches(region, 256<<10) {
			if session.Can(loader.Digest) == nil {
				d, err := digests(ctx, session, part, region.Sector, len(all), expected)
				if err != nil {
					return nil, "", err
				}
				all = append(all, d...)
			} else {
				how = readBack
				buf := make([]byte, part.Length)
				if err := r.read(ctx, x, session, part.Address, buf, nil); err != nil {
					return nil, "", err
				}
				for at := uint64(0); at < part.Length; at += region.Sector {
					all = append(all, core.DigestOf(buf[at:at+region.Sector]))
				}
			}
			a.Done += part.Length
			if err := tell(a); err != nil {
				return nil, "", err
			}
		}
	}
	if want := len(m.Sectors()); len(all) != want {
		return nil, "", core.Fail(core.RefusedByUnit, "the unit gave %d digests for %d sectors", len(all), want)
	}
	return all, how, nil
}

// digests asks the unit for the digest of each sector of a part of its memory, of which the first is
// the nth. Where it is known what should be there, the unit digests long pieces, and only one that is
// not as it should be is asked for sector by sector.
func digests(ctx context.Context, session loader.Session, part memory.Sector, sector uint64, n int, expected func(n, count int) [][]byte) ([]core.Digest, error) {
	count, each := int(part.Length/sector), 1
	if w, ok := session.(loader.Wider); ok && expected != nil {
		for each = max(int(w.Widest()/sector), 1); count%each != 0; each-- {
		}
	}
	var should [][]byte
	if each > 1 {
		should = expected(n, count)
	}
	if should == nil {
		return session.Digest(ctx, part.Address, part.Length, sector)
	}
	long := sector * uint64(each)
	wide, err := session.Digest(ctx, part.Address, part.Length, long)
	if err != nil {
		return nil, err
	}
	if len(wide)*each != count {
		return nil, core.Fail(core.RefusedByUnit, "the unit gave %d digests for %d pieces", len(wide), count/each)
	}
	var all []core.Digest
	for i, d := range wide {
		pieces := should[i*each : (i+1)*each]
		if core.DigestOf(slices.Concat(pieces...)) != d {
			one, err := session.Digest(ctx, part.Address+uint64(i)*long, long, sector)
			if err != nil {
				return nil, err
			}
			all = append(all, one...)
			continue
		}
		for _, p := range pieces {
			all = append(all, core.DigestOf(p))
		}
	}
	return all, nil
}

// stretches cuts a region at whole sectors into parts of about size bytes.
func stretches(r memory.Region, size uint64) []memory.Sector {
	size = max(size/r.Sector, 1) * r.Sector
	var all []memory.Sector
	for at := r.Address; at < r.End(); at += size {
		all = append(all, memory.Sector{Address: at, Length: min(size, r.End()-at)})
	}
	return all
}

// hex6 writes an address.
func hex6(n uint64) string { return fmt.Sprintf("0x%06X", n) }

func first(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

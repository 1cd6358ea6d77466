package run

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/history"
	"zealousferry/core/image"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/shelf"
)

// identify asks the unit who it is and holds it against the unit that the run
// was opened for.
func (r *Run) identify(ctx context.Context) error {
	before, err := r.beforehand(ctx)
	if err != nil {
		return err
	}
	if err := r.connect(ctx); err != nil {
		return err
	}
	facts, err := r.session.Identify(ctx)
	if err != nil {
		return err
	}
	id := Identified{Facts: append(facts, before...), Strength: StrengthOf(facts), Generation: r.link.Generation()}
	if err := r.append(KindIdentified, id, true); err != nil {
		return err
	}
	return r.isUnit(facts)
}

// StrengthOf says how sure an identity is that rests on these facts of the wire.
func StrengthOf(facts []core.Fact) string {
	switch {
	case value(facts, core.FactSerial) != "":
		return ThisUnit
	case len(facts) > 0:
		return ThisKind
	}
	return ByEye
}

// beforehand is Beforehand, once for a connection.
func (r *Run) beforehand(ctx context.Context) ([]core.Fact, error) {
	if err := r.load(ctx); err != nil {
		return nil, err
	}
	if r.session != nil {
		return nil, nil
	}
	if err := r.plugIn(ctx); err != nil {
		return nil, err
	}
	return Beforehand(ctx, r.link, r.sheet, r.pace)
}

// Beforehand asks the program for its version, where the model's loader does not
// tell it. A program that is silent is no fault.
func Beforehand(ctx context.Context, l link.Link, sheet *model.Sheet, p link.Pace) ([]core.Fact, error) {
	kind, err := registry.Loader(sheet.Loader.Kind)
	if err != nil || kind.Limits().Identity == ThisUnit {
		return nil, err
	}
	s, err := loader.Stream(l, kind.Name())
	if err != nil {
		return nil, err
	}
	a := sheet.Application
	a.Wait = time.Second
	version, err := link.AskVersion(ctx, s, a, nil, p)
	if core.KindOf(err) == core.NotAnswering && ctx.Err() == nil {
		return nil, nil
	}
	return []core.Fact{{Name: core.FactRunning, Value: version, Source: core.FromWire, At: p.Clock.Now().UTC()}}, err
}

// isUnit refuses any unit but the run's own.
func (r *Run) isUnit(facts []core.Fact) error {
	s := r.journal.State()
	o := s.Opened
	if says := model.Calls(facts); len(facts) > 0 && says != r.sheet.Loader.Says {
		return core.Fail(core.WrongUnit, "the run is for a %s, which calls itself %q; on the link is %q", o.Model, r.sheet.Loader.Says, says).
			Do("Identify what is on the link: ferry identify " + o.Link + ".")
	}
	serial, label := value(facts, core.FactSerial), o.Label
	if s.TakenUp != nil { // what hangs on the lead may have changed meanwhile
		label = s.TakenUp.Label
	}
	switch {
	case serial == "" && label != o.Serial:
		return core.Fail(core.CannotTell, "the unit does not tell its serial, and nobody has confirmed that its label says %s", o.Serial).
			Do("Read the label and say what it says: --label SERIAL.")
	case serial != "" && serial != o.Serial:
		return core.Fail(core.WrongUnit, "the run is for unit %s; on the link is %s", o.Serial, serial).
			Do("Plug in " + o.Serial + ", or begin anew with the unit that is there: ferry identify " + o.Link + ".")
	}
	return nil
}

func value(facts []core.Fact, name string) string {
	for _, f := range facts {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

// judge asks whether the release fits this unit. A restore must be of this
// unit's own backup.
func (r *Run) judge(ctx context.Context) error {
	if err := r.load(ctx); err != nil {
		return err
	}
	s := r.journal.State()
	switch o := s.Opened; o.Kind {
	case Restore:
		if o.Source == nil || o.Source.Unit != o.Unit {
			return core.Fail(core.NotAllowed, "the backup was taken from another unit").Do("Choose a backup of this unit: ferry history " + o.Serial + ".")
		}
	case Flash:
		all := append(append([]core.Fact(nil), o.Noted...), s.Identified.Facts...)
		if s.Carded != nil { // what a person has just seen counts too
			all = append(all, procedure.Facts(s.Carded.Items, s.Answers)...)
		}
		if value(s.Identified.Facts, core.FactModel) == "" { // isUnit has held its chip, or a person its label, against the register
			all = append(all, core.Fact{Name: core.FactModel, Value: r.sheet.Model, Source: core.FromRecord, At: r.pace.Clock.Now()})
		}
		v := fit.Evaluate(r.sheet, r.release, fit.Prepare(r.sheet, all, r.pace.Clock.Now()))
		j := Judged{Verdict: &v, NothingToDo: v.Answer == fit.Fits && v.Current && !o.Again}
		if err := r.append(KindJudged, j, true); err != nil {
			return err
		}
		return v.Err()
	}
	return r.append(KindJudged, Judged{}, true)
}

// store hands the backup to the service, and waits for it as long as the run
// was told to: nothing has been changed yet.
func (r *Run) store(ctx context.Context) error {
	s := r.journal.State()
	end := r.pace.Clock.Now().Add(s.Opened.Deadline)
	for {
		stored, err := r.bench.Store(ctx, s.Opened, s.BackedUp)
		if err == nil {
			return r.append(KindStored, stored, true)
		}
		if core.KindOf(err) != core.NotAnswering || r.pace.Clock.Now().After(end) {
			return err
		}
		if s.Waits == "" {
			if err := r.append(KindWaiting, Waits{For: "the service, to store the backup"}, true); err != nil {
				return err
			}
		}
		if stop, err := r.stopped(); stop || err != nil {
			return err
		}
		select {
		case <-r.pace.Clock.After(500 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// makePlan lays the images over the memory. Everything that the plan needs is on
// this bench's disk when it ends, and there is room for the whole journal.
func (r *Run) makePlan(ctx context.Context) error {
	s := r.journal.State()
	if s.Covered == nil && s.BackedUp == nil && s.Waived == nil {
		return core.Fail(core.NoWayBack, "there is no backup to plan with")
	}
	p, err := r.build(ctx)
	if err != nil {
		return err
	}
	const perEvent, others = 320, 64 << 10
	if err := r.journal.file.Reserve(int64(2*len(p.Actions)*perEvent + len(p.Sectors)*200 + others)); err != nil {
		return core.Fail(core.NoSpace, "there is no room on the bench's disk for this run's journal: %w", err).Do("Make room, then begin again.")
	}
	return r.append(KindPlanned, Planned{Plan: p.Digest(), Sectors: p.Sectors, Actions: len(p.Actions), Bytes: p.Bytes(),
		Pace: r.sheet.Loader.Pace()}, true)
}

// build makes the plan out of what the journal names, the same each time.
func (r *Run) build(ctx context.Context) (*plan.Plan, error) {
	if r.plan != nil {
		return r.plan, nil
	}
	if err := r.load(ctx); err != nil {
		return nil, err
	}
	var err error
	s := r.journal.State()
	in := plan.Input{Map: &r.sheet.Memory, Now: map[uint64]core.Digest{}, Whole: s.Opened.Kind == Restore}
	base := core.Digest{}
	if s.BackedUp != nil {
		base = s.BackedUp.Manifest
		if in.Now, err = r.now(ctx, s.BackedUp); err != nil {
			return nil, err
		}
	} else if s.Covered != nil {
		base, in.Mend = s.Covered.Manifest, true
		for i, sector := range r.sheet.Memory.Sectors() {
			if i < len(s.Covered.Now) {
				in.Now[sector.Address] = s.Covered.Now[i]
			}
		}
	}
	if in.Whole {
		base = s.Opened.Source.Manifest
	}
	if s.Waived != nil && !in.Whole { // what is not in an image is erased: by the unlocking, or by the unit itself
		in.Base = func(_ uint64, p []byte) error {
			for i := range p {
				p[i] = r.sheet.Memory.Erased
			}
			return nil
		}
		if in.Images, err = r.images(ctx); err != nil {
			return nil, err
		}
		p, err := plan.Build(in)
		if err == nil {
			r.plan = p
		}
		return p, err
	}
	raw, err := r.bench.Blob(ctx, base)
	if err != nil {
		return nil, err
	}
	manifest, err := shelf.DecodeManifest(raw)
	if err != nil {
		return nil, err
	}
	in.Base = func(address uint64, p []byte) error {
		return manifest.Read(func(d core.Digest) ([]byte, error) { return r.bench.Blob(ctx, d) }, address, p)
	}
	if !in.Whole {
		if in.Images, err = r.images(ctx); err != nil {
			return nil, err
		}
	}
	p, err := plan.Build(in)
	if err == nil {
		r.plan = p
	}
	return p, err
}

// now gives the digest of each sector, by address, as it was at the backup.
func (r *Run) now(ctx context.Context, b *BackedUp) (map[uint64]core.Digest, error) {
	now := map[uint64]core.Digest{}
	if len(b.Now) > 0 {
		for i, sector := range r.sheet.Memory.Sectors() {
			if i < len(b.Now) {
				now[sector.Address] = b.Now[i]
			}
		}
		return now, nil
	}
	raw, err := r.bench.Blob(ctx, b.Manifest)
	if err != nil {
		return nil, err
	}
	manifest, err := shelf.DecodeManifest(raw)
	if err != nil {
		return nil, err
	}
	chunks, err := manifest.Chunks(func(d core.Digest) ([]byte, error) { return r.bench.Blob(ctx, d) })
	for _, c := range chunks {
		now[c.Address] = c.Chunks[0]
	}
	return now, err
}

func (r *Run) images(ctx context.Context) ([]*image.Image, error) {
	var all []*image.Image
	for _, part := range r.release.Parts {
		raw, err := r.bench.Blob(ctx, part.Image)
		if err != nil {
			return nil, err
		}
		if core.DigestOf(raw) != part.Image {
			return nil, core.Fail(core.BadFile, "the file of part %s is not the one that the release names", part.Name)
		}
		im, _, err := registry.Decode(raw, part.Format, part.Address)
		if err != nil {
			return nil, err
		}
		if im.Content() != part.Content {
			return nil, core.Fail(core.BadFile, "part %s holds other bytes than the release says", part.Name)
		}
		all = append(all, im)
	}
	return all, nil
}

// same identifies the unit again, immediately before its memory is changed. A
// unit whose serial cannot be read must not have left the link since.
func (r *Run) same(ctx context.Context) error {
	fresh := r.session == nil
	if err := r.connect(ctx); err != nil {
		return err
	}
	s := r.journal.State()
	facts, err := r.session.Identify(ctx)
	if err != nil {
		return err
	}
	if err := r.isUnit(facts); err != nil {
		return err
	}
	for _, name := range []string{core.FactModel, core.FactSerial, core.FactRevision, core.FactChip, core.FactRegion} {
		if was, is := s.Fact(name), value(facts, name); was != is {
			return core.Fail(core.WrongUnit, "this is not the unit that was identified: its %s was %q, now it is %q", name, was, is).
				Do("Plug in " + s.Opened.Serial + " again.")
		}
	}
	if value(facts, core.FactSerial) == "" && !fresh && r.link.Generation() != s.Identified.Generation {
		return core.Fail(core.WrongUnit, "the unit left the link since it was identified, and it does not tell its serial").
			Do("Read the label again and begin anew with --label SERIAL.")
	}
	if s.Opened.Kind == Flash && !s.Dangerous {
		if err := r.bench.MayWrite(ctx, s.Opened); err != nil {
			return err
		}
	}
	return r.append(KindSame, Identified{Facts: facts, Strength: s.Identified.Strength, Generation: r.link.Generation()}, true)
}

// survey finds out what an interrupted write has left: planned sectors that hold
// what they should are done, all others begin with their erase again. A unit that
// takes a whole file gets it from its start; one that is locked still gets all.
func (r *Run) survey(ctx context.Context) error {
	if err := r.connect(ctx); err != nil {
		return err
	}
	if r.session.Can(loader.Read) != nil {
		return r.append(KindSurveyed, Surveyed{}, true)
	}
	now, _, err := r.digests(ctx, nil)
	if err != nil {
		return err
	}
	var v Surveyed
	for i, x := range r.journal.State().Planned.Sectors {
		if x.State == plan.Change && now[i] == x.Want {
			v.Right = append(v.Right, i)
		}
	}
	return r.append(KindSurveyed, v, true)
}

// write carries out the actions of the sectors that are not right yet.
func (r *Run) write(ctx context.Context) error {
	p, err := r.build(ctx)
	if err != nil {
		return err
	}
	s := r.journal.State()
	if p.Digest() != s.Planned.Plan {
		return core.Fail(core.VerifyDiffers, "the plan made from this run's backup and release is not the one in its journal")
	}
	if err := r.connect(ctx); err != nil {
		return err
	}
	if err := r.unlock(ctx); err != nil {
		return err
	}
	if f, ok := r.session.(loader.Filer); ok && r.session.Can(loader.File) == nil {
		return r.sendFile(ctx, p, f)
	}
	for _, need := range []loader.Ability{loader.Erase, loader.Write} {
		if err := r.session.Can(need); err != nil {
			return err
		}
	}
	left := map[int]bool{}
	for _, i := range s.remaining() {
		left[i] = true
	}
	last := map[int]int{}
	for _, a := range p.Actions {
		last[a.Sector] = a.N
	}
	act := func(a plan.Action) Act {
		return Act{N: a.N, Sector: a.Sector, Erase: a.Erase, Bytes: a.Length, Last: last[a.Sector] == a.N}
	}
	at := 0
	next := func() (loader.Op, bool, error) {
		for at < len(p.Actions) && !left[p.Actions[at].Sector] {
			at++
		}
		if at == len(p.Actions) {
			return loader.Op{}, false, nil
		}
		if stop, err := r.stopped(); stop || err != nil {
			return loader.Op{}, false, err
		}
		op, err := p.Op(at)
		if err != nil {
			return op, false, err
		}
		a := act(p.Actions[at])
		at++
		return op, true, r.append(KindAboutTo, a, true)
	}
	return r.session.Change(ctx, next, func(op loader.Op) error {
		return r.append(KindDone, act(p.Actions[op.N]), true)
	})
}

// connectTo is connect, but only plugs in where a file was sent: the loader of
// such a unit is over then.
func (r *Run) connectTo(ctx context.Context) error {
	if err := r.load(ctx); err != nil {
		return err
	}
	c := r.journal.State().Carded
	if c == nil || c.Limits == nil || !c.Limits.Has(loader.File) || !r.journal.State().Dangerous {
		return r.connect(ctx)
	}
	if r.session != nil {
		r.session.Close()
		r.session = nil
	}
	return r.plugIn(ctx)
}

// unlock lifts the protection that a waiver was given for. It erases, so it is an
// action like any other.
func (r *Run) unlock(ctx context.Context) error {
	s := r.journal.State()
	if s.Waived == nil || s.Waived.Gate != GateProtection {
		return nil
	}
	g, ok := r.session.(loader.Guarded)
	if !ok {
		return nil
	}
	locked, err := g.Locked(ctx)
	if err != nil || !locked {
		return err
	}
	if err := r.append(KindAboutTo, Act{Unlock: true}, true); err != nil {
		return err
	}
	if err := g.Unlock(ctx); err != nil {
		return err
	}
	return r.append(KindDone, Act{Unlock: true}, true)
}

// lock sets the protection again that was on before.
func (r *Run) lock(ctx context.Context) error {
	if err := r.connect(ctx); err != nil {
		return err
	}
	g, ok := r.session.(loader.Guarded)
	if !ok {
		return core.Fail(core.RefusedByUnit, "the loader cannot lock the memory again")
	}
	if err := g.Lock(ctx); err != nil {
		return err
	}
	return r.append(KindLocked, struct{}{}, true)
}

// sendFile sends the images as one file, from its first byte. It is one action,
// and resumed as a whole.
func (r *Run) sendFile(ctx context.Context, p *plan.Plan, f loader.Filer) error {
	images, err := r.images(ctx)
	if err != nil {
		return err
	}
	from, to := images[0].Extent()
	for _, im := range images[1:] {
		a, b := im.Extent()
		from, to = min(from, a), max(to, b)
	}
	data := make([]byte, to-from)
	for i := range data {
		data[i] = r.sheet.Memory.Erased
	}
	for _, im := range images {
		im.Overlay(from, data)
	}
	name := r.sheet.Loader.File
	if name == "" {
		name = r.sheet.Model + ".bin"
	}
	act := Act{File: true, Bytes: uint64(len(data))}
	if err := r.append(KindAboutTo, act, true); err != nil {
		return err
	}
	var told error
	err = f.SendFile(ctx, name, data, func(n int) {
		if told == nil {
			told = r.progress(KindSending, Amount{uint64(n), act.Bytes})
		}
	})
	if err := first(err, told); err != nil {
		return err
	}
	return r.append(KindDone, act, true)
}

type differs struct {
	sector int
	cause  *core.Error
}

func (d *differs) Error() string { return d.cause.Error() }
func (d *differs) Unwrap() error { return d.cause }

func asDiffers(err error, to **differs) bool { return errors.As(err, to) }

// verify holds every sector of the memory against what it should be: the ones
// written, the ones right before, and the ones that nobody was to touch.
func (r *Run) verify(ctx context.Context) error {
	if err := r.connectTo(ctx); err != nil {
		return err
	}
	if c := r.journal.State().Carded; r.session == nil && c != nil && c.Limits != nil { // the unit has left its loader with the last block
		return r.append(KindVerified, Verified{How: "transfer", Sectors: len(r.journal.State().Planned.Sectors)}, true)
	}
	now, how, err := r.digests(ctx, func(a Amount) error { return r.progress(KindVerifying, a) })
	if err != nil {
		return err
	}
	s := r.journal.State()
	v := Verified{How: how}
	for i, x := range s.Planned.Sectors {
		switch {
		case x.Want.IsZero() || now[i] == x.Want:
			v.Sectors++
		case x.State == plan.Kept && s.Halves > 1:
			v.Changed = append(v.Changed, i)
		default:
			e := core.Fail(core.VerifyDiffers, "the sector at 0x%06X (%s, %s) holds other bytes than it should", x.Address, x.Region, x.State).
				Unit("it is written, but not right; it stays in its loader").
				Do("Write it again; if the same sector differs twice, set the unit apart.")
			return &differs{i, e}
		}
	}
	return r.append(KindVerified, v, true)
}

// start lets the program run and asks it for its version. A unit that took a file
// has started it already.
func (r *Run) start(ctx context.Context) error {
	if err := r.connectTo(ctx); err != nil {
		return err
	}
	stream, err := loader.Stream(r.link, r.sheet.Loader.Kind)
	if err != nil {
		return err
	}
	if r.session != nil {
		restart(ctx, r.session, stream, r.sheet)
		r.session.Close()
		r.session = nil
	}
	version, err := link.AskVersion(ctx, stream, r.sheet.Application, r.sheet.Loader.Leave, r.pace)
	st := Started{Version: version}
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		st.Note = err.Error()
	}
	s := r.journal.State()
	if s.Verified != nil && s.Verified.How == "transfer" && st.Version != s.Opened.Version {
		said := core.Fail(core.VerifyDiffers, "the program says that it is %q, expected %s, and nothing else proves what was written", st.Version, s.Opened.Version)
		if st.Version == "" {
			said = core.Fail(core.NotAnswering, "the program does not say that it is %s, and nothing else proves what was written", s.Opened.Version)
		}
		return said.Unit("a file was sent whole; what runs is not known").Do("Look at the unit's signs; then send the file again.")
	}
	if st.Version == "" && s.Verified == nil {
		st.Note = "" // it was not touched; whether its program runs is not this run's doing
	}
	return r.append(KindStarted, st, true)
}

// close makes the run's record, has it signed and ends the journal.
func (r *Run) close(ctx context.Context) error {
	s := r.journal.State()
	if !s.Dangerous {
		r.leave(ctx)
	}
	outcome, reason := s.closing()
	if outcome == Done && s.Started != nil && s.Started.Note != "" {
		reason = s.Started.Note
	}
	if t := s.Settled; outcome == Done && t != nil && len(t.Differ) > 0 {
		reason = strings.TrimSpace(fmt.Sprintf("%s these settings were not taken: %s", reason, strings.Join(t.Differ, ", ")))
	}
	return r.bench.Seal(func(previous core.Digest) []byte {
		return r.record(outcome, reason, previous).Encode()
	}, func(record, signature []byte) error {
		return r.append(KindClosed, Closed{Outcome: outcome, Reason: reason, Touched: s.Dangerous, Record: record, Signature: signature}, true)
	})
}

// Abandon closes an open run by a person's word, without touching the unit.
func (r *Run) Abandon(reason string) error {
	return r.bench.Seal(func(previous core.Digest) []byte {
		return r.record(Abandoned, reason, previous).Encode()
	}, func(record, signature []byte) error {
		return r.append(KindClosed, Closed{Outcome: Abandoned, Reason: reason, Touched: r.journal.state.Dangerous, Record: record, Signature: signature}, true)
	})
}

func (r *Run) record(outcome Outcome, reason string, previous core.Digest) *history.Record {
	s := r.journal.State()
	o := s.Opened
	h := &history.Record{Run: o.Run, Kind: o.Kind, Unit: o.Unit, Model: o.Model, Serial: o.Serial, By: o.By, Bench: o.Bench, Link: o.Link,
		From: s.Fact(core.FactRunning), Outcome: string(outcome), Reason: reason, Halves: s.Halves, Opened: s.OpenedAt,
		Closed: r.pace.Clock.Now().UnixMicro(), Events: uint64(len(r.journal.events)), Journal: r.journal.Digest(), Previous: previous}
	h.To = h.From
	if s.Dangerous {
		h.To = ""
	}
	if s.Started != nil && s.Started.Version != "" {
		h.To = s.Started.Version
	}
	if s.Identified != nil {
		h.Identity, h.Facts = s.Identified.Strength, s.Identified.Facts
	}
	if r.release != nil {
		h.Release = r.release.ID
		for _, p := range r.release.Parts {
			h.Images = append(h.Images, p.Image)
		}
	}
	switch {
	case s.BackedUp != nil:
		h.Backup, h.Obtained = s.BackedUp.Manifest, s.BackedUp.Obtained
	case s.Covered != nil:
		h.Backup = s.Covered.Manifest
	}
	if s.Planned != nil {
		h.Plan = s.Planned.Plan
		h.WayBack, h.Reference = s.WayBack(), s.Reference()
	}
	if w := s.Waived; w != nil {
		h.Waivers = append(h.Waivers, fmt.Sprintf("%s, %s: %s", w.Gate, w.By, w.Reason))
	}
	if o.Adapter != nil {
		h.Adapter = o.Adapter.Serial
	}
	if c := s.Carded; c != nil && c.Procedure != "" {
		h.Card = fmt.Sprintf("%s/%d", c.Procedure, c.Edition)
	}
	for _, u := range s.UndoList() {
		if u.State != "undone" {
			h.Undone = append(h.Undone, u.Says+" "+u.State+": "+u.Note)
		}
	}
	if s.Verified != nil {
		h.Verified = s.Verified.How
	}
	return h
}

// digests gives the SHA-256 of each sector in order: from the unit, or by
// reading it all where the unit computes none.
func (r *Run) digests(ctx context.Context, tell func(Amount) error) ([]core.Digest, string, error) {
	if err := r.connect(ctx); err != nil {
		return nil, "", err
	}
	if tell == nil {
		tell = func(Amount) error { return nil }
	}
	m := &r.sheet.Memory
	a := Amount{Total: m.Bytes()}
	var all []core.Digest
	how := "unit-digest"
	for _, region := range m.Regions {
		for _, part := range stretches(region, 256<<10) {
			if r.session.Can(loader.Digest) == nil {
				d, err := r.session.Digest(ctx, part.Address, part.Length, region.Sector)
				if err != nil {
					return nil, "", err
				}
				all = append(all, d...)
			} else {
				how = "read-back"
				buf := make([]byte, part.Length)
				if err := r.session.Read(ctx, part.Address, buf, nil); err != nil {
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

// stretches cuts a region at whole sectors into parts of about size bytes.
func stretches(r memory.Region, size uint64) []memory.Sector {
	size = max(size/r.Sector, 1) * r.Sector
	var all []memory.Sector
	for at := r.Address; at < r.End(); at += size {
		all = append(all, memory.Sector{Address: at, Length: min(size, r.End()-at)})
	}
	return all
}

package service

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/diagnose"
	"zealousferry/core/fit"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
	"zealousferry/internal/store"
)

// held are the versions of a model whose images the catalogue holds and that were
// not withdrawn: one of them is a way back for a unit that runs it.
func (v *Service) held(ctx context.Context, model string) (all []string, err error) {
	rows, err := v.store.Releases(ctx, model)
	for _, r := range rows {
		if r.Withdrawn == nil {
			all = append(all, r.Version)
		}
	}
	return all, err
}

func answered(s *run.State, names map[string]string) []client.Answered {
	out := []client.Answered{}
	if s.Carded == nil {
		return out
	}
	for _, a := range s.Answers {
		out = append(out, answer(a, s.Carded.Items, names))
	}
	return out
}

func answer(a procedure.Answer, items []model.Item, names map[string]string) client.Answered {
	x := client.Answered{Item: a.Item, Value: a.Value, Note: a.Note, Wires: a.Wires, By: cmp.Or(names[a.By], "the tool"), At: time.UnixMicro(a.At).UTC()}
	if a.Photo != nil {
		x.Photo = a.Photo.String()
	}
	for _, i := range items {
		if i.ID == a.Item {
			x.Says, x.Stage = i.Says.In("en"), i.At
		}
	}
	return x
}

// sides are what was found beside what was left.
func sides(s *run.State, names map[string]string) []client.Sides {
	out := []client.Sides{}
	if s.Carded == nil {
		return out
	}
	of := func(a *procedure.Answer) *client.Answered {
		if a == nil {
			return nil
		}
		x := answer(*a, s.Carded.Items, names)
		return &x
	}
	for _, x := range procedure.Sides(s.Carded.Items, s.Answers) {
		out = append(out, client.Sides{Says: x.Says, Do: x.Do, Found: of(x.Found), Left: of(x.Left), Other: x.Other})
	}
	return out
}

type answerIn struct {
	RunPath
	Body client.NewAnswer
}

// answerRun hands an answer to the bench and waits until it is in the journal.
func (v *Service) answerRun(ctx context.Context, in *answerIn) (client.Run, error) {
	r, err := v.open(ctx, in.Run)
	if err != nil {
		return client.Run{}, err
	}
	a := procedure.Answer{Item: in.Body.Item, Value: in.Body.Value, Note: in.Body.Note, Wires: in.Body.Wires, By: who(ctx).person.ID}
	if in.Body.Photo != "" {
		d, err := core.ParseDigest(in.Body.Photo)
		if err != nil {
			return client.Run{}, err
		}
		if _, err := v.store.Evidence(ctx, d); err != nil {
			return client.Run{}, err
		}
		a.Photo = &d
	}
	if a.Value == procedure.Excused && who(ctx).person.Role != Lead {
		return client.Run{}, core.Fail(core.NotAllowed, "only a lead leaves something undone").Do("Do it, or ask a lead.")
	}
	if _, err := v.ask(ctx, client.Order{Kind: client.OrderAnswer, Link: r.Link, Run: r.ID, By: a.By, Answer: &a}, r.Bench, orderLasts); err != nil {
		return client.Run{}, err
	}
	if len(a.Wires) > 0 {
		p, err := v.find(ctx, r.BenchName+"/"+r.Link)
		if err == nil {
			err = v.sawWires(ctx, p.Link, a.Wires)
		}
		if err != nil {
			return client.Run{}, err
		}
	}
	return v.run(ctx, r.ID)
}

type portsIn struct {
	Bench string `path:"bench"`
}

func (v *Service) listPorts(ctx context.Context, in *portsIn) (client.Ports, error) {
	benches, err := v.store.Benches(ctx)
	if err != nil {
		return client.Ports{}, err
	}
	for _, b := range benches {
		if b.Name != in.Bench && b.ID != in.Bench {
			continue
		}
		if !v.online(b.Seen, b.Revoked) {
			return client.Ports{}, core.Fail(core.NotAnswering, "bench %s is not in touch with the service", b.Name).Do("Start it: ferry bench.")
		}
		r, err := v.ask(ctx, client.Order{Kind: client.OrderPorts}, b.ID, orderLasts)
		out := client.Ports{Bench: b.Name, Ports: r.Ports}
		if out.Ports == nil {
			out.Ports = out.Ports[:0:0]
		}
		return out, err
	}
	return client.Ports{}, core.Fail(core.NotFound, "there is no bench %q", in.Bench).Do("See which there are: ferry bench list.")
}

type checkIn struct{ Body client.NewCheck }

// check has the bench look at a link, or takes the answer to the test that the
// last look proposed, and keeps what came of it as evidence.
func (v *Service) check(ctx context.Context, in *checkIn) (client.Check, error) {
	p, err := v.find(ctx, in.Body.At)
	if err != nil {
		return client.Check{}, err
	}
	if p.Run.Valid {
		return client.Check{}, core.Fail(core.Busy, "link %s is in use by run %s", p.FullName(), p.Run.String).Do("Look at it: ferry run show " + p.Run.String + ".")
	}
	row := store.LinkCheck{ID: store.NewID(), Bench: p.Bench, Link: p.Name, Adapter: p.Adapter, Model: cmp.Or(in.Body.Model, p.Model), Unplugged: in.Body.Unplugged, By: who(ctx).person.ID, At: v.clock.Now()}
	var seen diagnose.Seen
	if in.Body.Answer != nil {
		last, err := v.store.Checks(ctx, p.Bench, p.Name, 1)
		if err != nil {
			return client.Check{}, err
		}
		if len(last) == 0 || v.clock.Now().Sub(last[0].At) > time.Hour {
			return client.Check{}, core.Fail(core.NotFound, "there is no fresh check of %s whose test could be answered", p.FullName()).Do("Check it first: ferry check " + p.FullName() + ".")
		}
		if err := json.Unmarshal([]byte(last[0].Seen), &seen); err != nil {
			return client.Check{}, err
		}
		row.Model = last[0].Model
	} else {
		r, err := v.ask(ctx, client.Order{Kind: client.OrderCheck, Link: p.Name, Model: row.Model}, p.Bench, identifyLasts)
		if err != nil {
			return client.Check{}, err
		}
		if r.Seen == nil {
			return client.Check{}, core.Fail(core.Interrupted, "the bench ended the order without an answer")
		}
		seen, row.Model = *r.Seen, r.Model
	}
	class := diagnose.Classify(seen)
	row.Class = string(class)
	if class != diagnose.Sound && !row.Unplugged && (in.Body.Answer != nil || !diagnose.Needs(class)) {
		var a diagnose.Answer
		if in.Body.Answer != nil {
			a = *in.Body.Answer
		}
		f, err := diagnose.Name(seen, a)
		if err != nil {
			return client.Check{}, err
		}
		row.Fault = f.Name
		if class == diagnose.Silent && p.Adapter != "" {
			if err := v.store.TestedAdapter(ctx, p.Adapter, a.Came["adapter"], row.At); err != nil {
				return client.Check{}, err
			}
		}
	}
	raw, err := json.Marshal(seen)
	if err != nil {
		return client.Check{}, err
	}
	row.Seen = string(raw)
	if err := v.store.AddCheck(ctx, row); err != nil {
		return client.Check{}, err
	}
	switch class {
	case diagnose.Sound, diagnose.Late, diagnose.Lossy, diagnose.Program:
	default: // whoever was identified here does not answer any more
		if err := v.store.OffLink(ctx, p.Bench, p.Name); err != nil {
			return client.Check{}, err
		}
	}
	return checked(row, p.FullName(), who(ctx).person.Name)
}

// checked is a check as faces show it.
func checked(row store.LinkCheck, link, by string) (client.Check, error) {
	out := client.Check{ID: row.ID, Link: link, Model: row.Model, Class: row.Class, Fault: row.Fault, Unplugged: row.Unplugged, By: by, At: row.At}
	if err := json.Unmarshal([]byte(row.Seen), &out.Seen); err != nil {
		return out, err
	}
	class := diagnose.Class(row.Class)
	out.Words = out.Seen.Words()
	out.Passed = class == diagnose.Sound
	if row.Unplugged {
		out.Passed = class == diagnose.Silent || class == diagnose.HeldLow
		return out, nil
	}
	if t, ok := diagnose.Tests[class]; ok {
		out.Test = &t
		out.Asks = diagnose.Needs(class) && row.Fault == ""
	}
	if f, ok := diagnose.Faults[row.Fault]; ok {
		out.Says, out.Do = f.Says, f.Do
	}
	return out, nil
}

type checksIn struct {
	At string `query:"at" minLength:"1" maxLength:"120"`
}

func (v *Service) listChecks(ctx context.Context, in *checksIn) (client.Checks, error) {
	p, err := v.find(ctx, in.At)
	if err != nil {
		return client.Checks{}, err
	}
	rows, err := v.store.Checks(ctx, p.Bench, p.Name, 20)
	if err != nil {
		return client.Checks{}, err
	}
	names, err := v.store.Names(ctx)
	out := client.Checks{Checks: []client.Check{}}
	for _, r := range rows {
		c, err := checked(r, p.FullName(), names[r.By])
		if err != nil {
			return out, err
		}
		out.Checks = append(out.Checks, c)
	}
	return out, err
}

type echoIn struct{ Body client.Echo }

func (v *Service) echo(ctx context.Context, in *echoIn) (client.Echoed, error) {
	p, err := v.find(ctx, in.Body.At)
	if err != nil {
		return client.Echoed{}, err
	}
	r, err := v.ask(ctx, client.Order{Kind: client.OrderEcho, Link: p.Name, Baud: in.Body.Baud}, p.Bench, orderLasts)
	return client.Echoed{Came: r.Came}, err
}

type cardIn struct {
	At      string `query:"at" minLength:"1" maxLength:"120" doc:"A unit's serial or id, or a link."`
	Release string `query:"release" maxLength:"64" doc:"Version that the job is about; the recommended one where it is empty."`
	Adapter string `query:"adapter" maxLength:"80" doc:"Name of the adapter at hand."`
}

// getCard lays out what a person needs to know and to do for a unit.
func (v *Service) getCard(ctx context.Context, in *cardIn) (client.Card, error) {
	u, link, err := v.unitAt(ctx, in.At)
	if err != nil {
		return client.Card{}, err
	}
	if link == "" {
		l, err := v.find(ctx, u.Serial)
		if err == nil {
			link = l.FullName()
		}
	}
	j, err := v.judge(ctx, u)
	if err != nil {
		return client.Card{}, err
	}
	kind, err := registry.Loader(j.sheet.Main().Loader.Kind)
	if err != nil {
		return client.Card{}, err
	}
	limits := kind.Limits()
	out := client.Card{Unit: u.ID, Serial: u.Serial, Site: u.Site, Model: u.Model, ModelName: j.sheet.Name.In("en"), Revision: u.Revision, Running: u.Running, Link: link,
		Loader: kind.Name(), Identity: limits.Identity, Verify: limits.Verify, Instead: limits.Instead, WayBack: run.BackFull, Flaws: []string{}, Adapters: []string{}, Fates: []client.Fate{}, Made: v.clock.Now().UTC()}
	lock, known := j.known.Best(core.FactLock)
	if out.Locked = known && lock.Value == "locked"; out.Locked || !limits.Has(loader.Read) {
		held, err := v.held(ctx, u.Model)
		if err != nil {
			return out, err
		}
		if slices.Contains(held, u.Running) {
			out.Reference = u.Running
		}
		switch {
		case limits.Has(loader.Keep):
			out.WayBack = run.BackSettings
		case out.Reference != "":
			out.WayBack = run.BackImage
		default:
			out.WayBack = run.BackNone
		}
		out.Fates = fates(j.sheet, out.Locked, out.WayBack)
	}
	for _, f := range j.sheet.Flaws {
		if yes, _ := j.known.Judge(j.sheet, f.When); yes {
			out.Flaws = append(out.Flaws, f.Says.In("en"))
		}
	}
	release := ""
	if chosen, ok := fit.Chosen(j.verdicts); ok && in.Release == "" {
		release = chosen.Release
	} else if in.Release != "" {
		r, err := v.releaseFor(ctx, u, in.Release)
		if err != nil {
			return out, err
		}
		release = r.ID
	}
	if err := v.cardNeeds(ctx, j, release, &out); err != nil {
		return out, err
	}
	return out, v.cardItems(ctx, j, in.Adapter, &out)
}

// fates are what becomes of each region of a memory that cannot be saved: lifting a
// lock erases all that is not read-only; a unit that takes a file erases what the
// sheet does not keep.
func fates(sheet *model.Sheet, locked bool, back string) (all []client.Fate) {
	for _, r := range sheet.Main().Memory.Regions {
		f := client.Fate{Name: r.Name, Use: string(r.Use), Bytes: r.Length, Fate: "lost"}
		switch {
		case r.ReadOnly:
			f.Fate = "stays"
		case r.Use == memory.Program:
			f.Fate = "written"
		case r.Use == memory.Settings && back == run.BackSettings:
			f.Fate = "put-back"
		case !locked && r.Uncovered == memory.Keep:
			f.Fate = "stays"
		}
		all = append(all, f)
	}
	return all
}

func (v *Service) cardNeeds(ctx context.Context, j *judged, release string, out *client.Card) error {
	gear, err := v.gear(ctx)
	if err != nil {
		return err
	}
	out.Needs = []fit.Need{}
	i := slices.IndexFunc(j.releases, func(r *model.Release) bool { return r.ID == release })
	if i < 0 {
		out.Needs = append(out.Needs, fit.Needs(j.sheet, nil, j.known, gear, v.clock.Now(), 1)...)
		return nil
	}
	r := j.releases[i]
	out.Release, out.Reason = r.Version, r.Cures.In("en")
	out.Needs = append(out.Needs, fit.Needs(j.sheet, r, j.known, gear, v.clock.Now(), 1)...)
	return nil
}

func (v *Service) cardItems(ctx context.Context, j *judged, adapter string, out *client.Card) error {
	holds := func(rules []model.Rule) (bool, bool) { return j.known.Judge(j.sheet, rules) }
	out.Items = []model.Item{}
	p, err := procedure.Pick(j.sheet, holds)
	if err != nil || p == nil {
		return err
	}
	out.Procedure, out.Edition, out.Place, out.Minutes = p.Name, p.Edition, p.Place, int(p.Duration().Minutes()+0.5)
	took, err := v.store.Took(ctx, j.sheet.Model, p.Name)
	if err != nil {
		return err
	}
	if len(took) > 0 {
		slices.Sort(took)
		out.Took = &client.Took{Runs: len(took), Seconds: int(took[len(took)/2] + 0.5)}
	}
	out.Meanwhile, out.Test, out.Supply = p.Meanwhile.In("en"), p.Test.In("en"), p.Supply
	out.Standing, out.StandingSays = procedure.Standing(p, holds)
	out.Items = procedure.Due(p, holds)
	for _, w := range p.Wiring {
		out.Adapters = append(out.Adapters, w.Adapter)
	}
	if out.Wiring = procedure.WiringFor(p, adapter); adapter != "" && out.Wiring == nil {
		return core.Fail(core.NotFound, "procedure %s has no wiring for adapter %q; it has %s", p.Name, adapter, strings.Join(out.Adapters, ", "))
	}
	if err := v.asJoined(ctx, p, out); err != nil {
		return err
	}
	if out.Wiring == nil && len(p.Wiring) > 0 {
		out.Wiring = &p.Wiring[0]
	}
	return nil
}

// asJoined lays the wires of the link over the sheet's: the adapter that is there,
// and the colours that somebody saw last.
func (v *Service) asJoined(ctx context.Context, p *model.Procedure, out *client.Card) error {
	if out.Link == "" {
		return nil
	}
	l, err := v.find(ctx, out.Link)
	if core.KindOf(err) == core.NotAnswering { // a bench that is away: the sheet's own
		return nil
	}
	if err != nil {
		return err
	}
	on, err := v.adapterOn(ctx, l.Link)
	if err != nil {
		return err
	}
	if on != nil {
		w := procedure.WiringFor(p, on.Name)
		if err := on.Suits(w); err != nil {
			e := core.AsError(err, core.DoesNotFit)
			out.Unsuited = e.Message + ". " + e.Next
		}
		if out.Wiring == nil {
			out.Wiring = w
		}
	}
	seen, err := v.wires(ctx, l.Link)
	if core.KindOf(err) == core.NotFound {
		return nil
	}
	if err != nil {
		return err
	}
	out.Wires = &seen
	if out.Wiring == nil && len(p.Wiring) > 0 {
		out.Wiring = &p.Wiring[0]
	}
	if out.Wiring != nil {
		w := *out.Wiring
		w.Wires = slices.Clone(w.Wires)
		for n, x := range w.Wires {
			w.Wires[n].Colour = cmp.Or(seen.Wires[strconv.Itoa(x.Unit)], x.Colour)
		}
		out.Wiring = &w
	}
	return nil
}

// printed is a document for a printer.
type printed struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func (v *Service) printCard(ctx context.Context, in *cardIn) (*printed, error) {
	c, err := v.getCard(ctx, in)
	if err != nil {
		return nil, err
	}
	pdf, err := paper.Card(c)
	return &printed{"application/pdf", pdf}, err
}

package units

import (
	"context"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/visit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/store"
)

// ScanLasts is how long a bench may take to ask all modules, of which some may be silent.
const ScanLasts = time.Minute

type scanIn struct{ Body client.NewScan }

// scan has a bench ask all modules of an assembly who is there, and enters what they said.
func (v *Units) scan(ctx context.Context, in *scanIn) (client.Scanned, error) {
	p, sheet, err := v.ToScan(ctx, in.Body.At, in.Body.Model)
	if err != nil {
		return client.Scanned{}, err
	}
	r, err := v.Slots(ctx, p, sheet, false)
	if err != nil {
		return client.Scanned{}, err
	}
	s, err := v.EnterAll(ctx, p, sheet, r.Slots, "")
	s.Gateway, s.Warn = r.Gateway, disturbs(r)
	return s, err
}

// disturbs is what may disturb a write, of what a gateway says of itself, and of what was
// heard on a bus.
func disturbs(r client.Result) []string {
	all := []string{}
	if r.Strangers > 0 {
		all = append(all, core.Say("Another tester asks modules on this bus: %d of its requests were heard meanwhile. Whatever it does may disturb a write; end or unplug it first.", r.Strangers).Text)
	}
	g := r.Gateway
	if g == nil {
		return all
	}
	if g.Others > 0 {
		all = append(all, core.Say("Other testers are connected to its gateway now: %d. Whatever they do may disturb a write; end or unplug them first.", g.Others).Text)
	}
	if g.Power == string(link.PowerNotReady) {
		all = append(all, core.Say("It says that it is not ready for diagnosis: switch the key on.").Text)
	}
	return all
}

// ToScan is a free link to an assembly, and the assembly's sheet.
func (v *Units) ToScan(ctx context.Context, at, named string) (p links.Place, sheet *model.Sheet, err error) {
	if p, err = v.Links.Find(ctx, at); err != nil {
		return p, nil, err
	}
	if err := p.Free(); err != nil {
		return p, nil, err
	}
	sheet, err = v.assembly(ctx, named, p.Model)
	return p, sheet, err
}

// Slots has a bench ask all modules of an assembly; one in which nothing answers at all is
// an error.
func (v *Units) Slots(ctx context.Context, p links.Place, sheet *model.Sheet, deep bool) (client.Result, error) {
	r, err := v.Links.Ask(ctx, client.Order{Kind: client.OrderScan, Link: p.Name, Model: sheet.Model, Deep: deep}, p.Bench, ScanLasts)
	if err != nil {
		return r, err
	}
	if len(r.Slots) != len(sheet.Holds)+1 {
		return r, core.Fail(core.Interrupted, "the bench asked %d slots, the sheet of %s in force has %d", max(len(r.Slots)-1, 0), sheet.Model, len(sheet.Holds)).Do("Ask again once the bench has the sheet, which it gets within seconds.")
	}
	answers := func(s visit.InSlot) bool { return !s.Silent }
	if slot := r.Slots[0]; !slices.ContainsFunc(r.Slots, answers) { // nobody passes anything on
		return r, core.Fail(core.NotAnswering, "no module of a %s answers on %s: %s", sheet.Name.In("en"), p.FullName(), slot.Error).Unit("nothing was changed").Go(core.Step{Says: slot.Next})
	}
	return r, nil
}

// EnterAll enters what modules said into the register, and says how they stand.
func (v *Units) EnterAll(ctx context.Context, p links.Place, sheet *model.Sheet, slots []visit.InSlot, said string) (client.Scanned, error) {
	if err := v.Explain(ctx, slots); err != nil {
		return client.Scanned{}, err
	}
	out := client.Scanned{Link: p.FullName(), Model: sheet.Model, ModelName: sheet.Name.In("en"), Modules: []client.Module{}}
	for i, s := range slots {
		m := InSlot(p.FullName(), sheet.Holds, out.ModelName, i, s)
		if s.Model != "" {
			if err := v.met(ctx, &m, s, out.Serial, said); err != nil {
				return client.Scanned{}, err
			}
			if err := v.store.OnLink(ctx, p.Bench, p.Name, m.Slot, m.Unit, m.Model, v.clock.Now()); err != nil {
				return client.Scanned{}, err
			}
		}
		if i == 0 {
			out.Serial, out.Unit = m.Serial, m.Unit
		}
		if m.Silent && !m.Empty {
			out.Silent++
		}
		if m.Newer != "" {
			out.Behind++
		}
		out.Faults += len(m.Codes)
		out.Modules = append(out.Modules, m)
	}
	out.Conditions = Conditions(sheet, slots[0].Facts)
	return out, nil
}

// InSlot is what a slot says of itself; the first is the assembly's own section.
func InSlot(at string, holds []model.Slot, own string, i int, s visit.InSlot) client.Module {
	if s.Slot != "" {
		at += "/" + s.Slot
	}
	m := client.Module{Bulletins: []client.Bulletin{}, Slot: s.Slot, At: at, Title: own, Model: s.Model, Codes: s.Codes, Silent: s.Silent, Error: s.Error, Next: s.Next, Boot: s.Bare,
		Serial: visit.Value(s.Facts, core.FactSerial), Revision: visit.Value(s.Facts, core.FactRevision), Running: visit.Value(s.Facts, core.FactRunning)}
	if m.Codes == nil {
		m.Codes = []loader.Code{}
	}
	if i > 0 {
		slot := holds[i-1]
		m.Title, m.Bus, m.Empty = slot.Title.In("en"), slot.Bus.In("en"), s.Silent && slot.Empty
	}
	return m
}

// Conditions are what the assembly tells of itself that changes while one looks on, such as
// where its key stands.
func Conditions(sheet *model.Sheet, facts []core.Fact) []core.Fact {
	all := []core.Fact{}
	for _, f := range facts {
		if sheet.Facts[f.Name].Changes {
			all = append(all, f)
		}
	}
	return all
}

// assembly is the sheet of what is to be scanned: the one that was named, the one last
// seen on the link, or the only one that names slots and is spoken to over such a link.
func (v *Units) assembly(ctx context.Context, named, seen string) (*model.Sheet, error) {
	var all []string
	var found *model.Sheet
	if named != "" {
		if s, err := v.store.Sheet(ctx, named); err == nil && len(s.Holds) == 0 {
			return nil, core.Fail(core.NotUnderstood, "the sheet of %s names no slots for modules", named).Do("Name the vehicle's model.")
		}
	}
	sheets, err := v.store.WithSlots(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range sheets {
		kind, err := registry.Loader(s.Main().Loader.Kind)
		if err != nil || kind.Limits(s.Main().Loader.Own).Shape != link.Addressed {
			continue
		}
		if s.Model == named || named == "" && s.Model == seen {
			return s, nil
		}
		found, all = s, append(all, s.Model)
	}
	switch {
	case named != "":
		return nil, core.Fail(core.NotFound, "there is no model %q whose modules could be scanned; there are %s", named, strings.Join(append(all, "no others"), ", "))
	case len(all) == 1:
		return found, nil
	case len(all) == 0:
		return nil, core.Fail(core.NotFound, "no sheet in force names slots for vehicle modules").Go(words.ModelAdd().To("A lead adds one"))
	}
	return nil, core.Fail(core.CannotTell, "it could be one of %s", strings.Join(all, ", ")).Do("Name its model.")
}

// met enters a module into the register, and says how it stands.
func (v *Units) met(ctx context.Context, m *client.Module, s visit.InSlot, of, said string) error {
	sheet, err := v.store.Sheet(ctx, s.Model)
	if err != nil {
		return err
	}
	m.ModelName = sheet.Name.In("en")
	if m.Serial == "" {
		return nil
	}
	u, err := v.store.MeetUnit(ctx, v.key, s.Model, m.Serial, "", frame.Who(ctx).Person.ID, v.clock.Now())
	if err != nil {
		return err
	}
	facts := s.Facts
	if of != "" && len(facts) > 0 {
		facts = append(facts, core.Fact{Name: core.FactAssembly, Value: of, Source: core.FromWire, At: facts[0].At})
	}
	if err := v.store.AddFacts(ctx, u.ID, facts); err != nil {
		return err
	}
	return v.ModuleStands(ctx, m, u, said)
}

// ModuleStands says how the unit in a slot stands in the register, what should go in, and
// which bulletins speak to it; said is what is said of the whole assembly.
func (v *Units) ModuleStands(ctx context.Context, m *client.Module, u store.Unit, said string) error {
	m.Unit, m.State = u.ID, u.State
	j, err := v.Judge(ctx, u)
	if err != nil {
		return err
	}
	var why core.Said
	m.Newer, why, m.Current = recommended(j)
	m.Verdict, m.VerdictID, m.VerdictParams = why.Text, why.ID, why.Params
	own, err := v.Complaint(ctx, u.ID)
	if err != nil {
		return err
	}
	m.Bulletins, err = v.Speaking(ctx, j, shownBy(*m, said+". "+own))
	return err
}

// recommended is the version that should go in, if it is not there already, and why.
func recommended(j *Judged) (version string, why core.Said, current bool) {
	for _, x := range j.Verdicts {
		switch {
		case x.Recommended && x.Current:
			return "", core.Say("nothing newer fits"), true
		case x.Recommended:
			if len(x.Reasons) > 0 {
				why = x.Reasons[0].Said
			}
			return x.Version, why, false
		}
	}
	for _, x := range j.Verdicts {
		if x.Answer == fit.CannotTell && len(x.Reasons) > 0 {
			return "", core.Say("cannot tell yet: %s", x.Reasons[0].Text), false
		}
	}
	return "", core.Say("no release fits"), false
}

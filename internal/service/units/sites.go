package units

import (
	"context"
	"encoding/json"
	"regexp"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

func oneSite(s store.Site, names map[string]string) client.Site {
	return client.Site{Name: s.Name, Customer: s.Customer, Contact: s.Contact, Note: s.Note, Facts: s.Profile(), By: names[s.By], At: s.At}
}

type sitesIn struct {
	Begins string `query:"q" maxLength:"120" doc:"How the name begins."`
	After  string `query:"after" doc:"What the page before has ended with."`
	Size   int    `query:"size" minimum:"1" maximum:"200" default:"100"`
}

func (v *Units) listSites(ctx context.Context, in *sitesIn) (client.Sites, error) {
	rows, p, err := v.store.FindSites(ctx, in.Begins, in.After, in.Size)
	out := client.Sites{Sites: []client.Site{}, Paged: frame.Paged(p)}
	if err != nil {
		return out, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	found, err := v.addresses(ctx, rows)
	for _, s := range rows {
		one := oneSite(s, names)
		one.Addresses = found[s.Name]
		out.Sites = append(out.Sites, one)
	}
	return out, err
}

type newSiteIn struct{ Body client.NewSite }

var factName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func (v *Units) putSite(ctx context.Context, in *newSiteIn) (client.Site, error) {
	b := in.Body
	for name, value := range b.Facts {
		if !factName.MatchString(name) || len(value) > 120 || strings.TrimSpace(value) == "" {
			return client.Site{}, core.Fail(core.NotUnderstood, "%s=%s is no fact: a name in small letters, and a value of at most 120 letters", name, value)
		}
	}
	facts, err := json.Marshal(b.Facts)
	if err != nil || b.Facts == nil {
		facts = []byte("{}")
	}
	s := store.Site{Name: strings.TrimSpace(b.Name), Customer: strings.TrimSpace(b.Customer), Contact: strings.TrimSpace(b.Contact), Note: strings.TrimSpace(b.Note), Facts: string(facts), By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()}
	return oneSite(s, map[string]string{s.By: frame.Who(ctx).Person.Name}), v.store.PutSite(ctx, s)
}

// SiteInfo is the site that a unit is at; nil where nobody has entered one.
func (v *Units) SiteInfo(ctx context.Context, u store.Unit, names map[string]string) (*client.Site, error) {
	s, err := v.store.SiteOf(ctx, u.Site)
	if err != nil || s == nil {
		return nil, err
	}
	x := oneSite(*s, names)
	return &x, nil
}

// ofSite adds what holds for every unit at the site, where the sheet asks for it and
// nobody has said anything of this unit.
func ofSite(s *store.Site, sheet *model.Sheet, facts []core.Fact) []core.Fact {
	if s == nil {
		return facts
	}
	known := map[string]bool{}
	for _, f := range facts {
		known[f.Name] = true
	}
	for name, value := range s.Profile() {
		rule, asked := sheet.Facts[name]
		fits := len(rule.Values) == 0
		for _, x := range rule.Values {
			fits = fits || x == value
		}
		if asked && fits && !known[name] {
			facts = append(facts, core.Fact{Name: name, Value: value, Source: core.FromSite, At: s.At, By: s.By})
		}
	}
	return facts
}

type joinIn struct {
	frame.UnitPath
	Body client.Join
}

// joinUnit says that a unit was entered twice.
func (v *Units) joinUnit(ctx context.Context, in *joinIn) (client.UnitPage, error) {
	double, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.UnitPage{}, err
	}
	kept, err := v.store.Unit(ctx, in.Body.Into)
	if err != nil {
		return client.UnitPage{}, err
	}
	switch {
	case double.ID == kept.ID:
		return client.UnitPage{}, core.Fail(core.NotUnderstood, "%s and %s are one entry already", in.Unit, in.Body.Into)
	case double.SameAs.Valid || kept.SameAs.Valid:
		return client.UnitPage{}, core.Fail(core.NotAllowed, "one of them was joined with another unit already").Go(words.History(kept.Serial).To("See with which"))
	case double.Run.Valid || kept.Run.Valid:
		return client.UnitPage{}, core.Fail(core.Busy, "one of them has an open run").Do("Close it first.")
	case double.State == store.UnitHalfDone || kept.State == store.UnitHalfDone:
		return client.UnitPage{}, core.Fail(core.NotAllowed, "one of them is half done").Do("Bring it to a good end first.")
	}
	if err := v.store.JoinUnit(ctx, v.key, double, kept, strings.TrimSpace(in.Body.Reason), frame.Who(ctx).Person.ID, v.clock.Now()); err != nil {
		return client.UnitPage{}, err
	}
	return v.GetUnit(ctx, &frame.UnitPath{Unit: kept.ID})
}

type mistakeIn struct {
	frame.UnitPath
	Body client.Reason
}

// markMistake says that a unit was never there. One that was read on a wire was.
func (v *Units) markMistake(ctx context.Context, in *mistakeIn) (client.Unit, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.Unit{}, err
	}
	runs, _, err := v.store.Runs(ctx, store.RunQuery{Unit: u.ID, Size: 1})
	if err != nil {
		return client.Unit{}, err
	}
	if len(runs) > 0 {
		return client.Unit{}, core.Fail(core.NotAllowed, "unit %s had a run, %s: it was there", u.Serial, runs[0].ID).Go(words.History(u.Serial).To("Look at what happened"))
	}
	if err := v.store.MarkMistake(ctx, v.key, u, strings.TrimSpace(in.Body.Reason), frame.Who(ctx).Person.ID, v.clock.Now()); err != nil {
		return client.Unit{}, err
	}
	a, err := v.Surroundings(ctx, u)
	u.Mistake = in.Body.Reason
	return a.Unit(u), err
}

// addresses lists where the units of each site are found on its network.
func (v *Units) addresses(ctx context.Context, sites []store.Site) (map[string][]client.SiteAddress, error) {
	sheets, err := v.store.WithSettings(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	of := map[string]*model.Sheet{}
	for _, sheet := range sheets {
		of[sheet.Model] = sheet
		for i := range sheet.Sections {
			if x := sheet.Sections[i].Settings; x != nil {
				for _, def := range x.Values {
					if def.Network != "" && !slices.Contains(names, def.Name) {
						names = append(names, def.Name)
					}
				}
			}
		}
	}
	rows, err := v.store.Networked(ctx, names)
	if err != nil {
		return nil, err
	}
	out := map[string][]client.SiteAddress{}
	units := map[string]store.Unit{}
	for _, r := range rows {
		u, ok := units[r.Unit]
		if !ok {
			if u, err = v.store.Unit(ctx, r.Unit); err != nil {
				return nil, err
			}
			units[r.Unit] = u
		}
		sheet := of[u.Model]
		if sheet == nil {
			continue
		}
		x, _ := sheet.Section(r.Section)
		if x == nil {
			continue
		}
		def := x.Settings.Value(r.Name)
		if def == nil || def.Network == "" {
			continue
		}
		for _, s := range sites {
			if s.Covers(u.Site) {
				out[s.Name] = append(out[s.Name], client.SiteAddress{Serial: u.Serial, Place: u.Site, Title: def.Says(), Value: r.Value, Public: r.Public, At: r.At})
			}
		}
	}
	return out, nil
}

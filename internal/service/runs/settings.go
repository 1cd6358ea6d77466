package runs

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// What the service's key is bent to: for the secret settings of a run, and for those in a
// profile.
const (
	settingsPurpose = "ferry-run-settings/1"
	profilePurpose  = "ferry-profile/1"
)

// masked stands for a value that is not shown, always as long.
const masked = "••••••••"

func (v *Runs) safeOf(id string) (settings.Safe, error) { return v.key.KeyFor(settingsPurpose, id) }

// benchSettingsKey gives the bench that works on an open run the key under which that run
// seals secret settings.
func (v *Runs) benchSettingsKey(ctx context.Context, in *frame.RawIn) (client.GivenKey, error) {
	w, err := frame.Decode[client.WantSettingsKey](in.RawBody)
	if err != nil {
		return client.GivenKey{}, err
	}
	r, err := v.store.Run(ctx, w.Run)
	if err != nil {
		return client.GivenKey{}, err
	}
	if r.Bench != frame.Who(ctx).Bench || r.State == store.RunClosed {
		return client.GivenKey{}, core.Fail(core.NotAllowed, "the key of a run's settings is given to the bench that works on it alone")
	}
	key, err := v.safeOf(r.ID)
	return client.GivenKey{Key: key}, err
}

// fill gathers what people, another unit and profiles have for the settings of a run, what
// counts most first. Secret values are sealed for the run.
func (v *Runs) fill(ctx context.Context, n client.NewRun, a *asked) error {
	if n.Kind != run.Flash && n.Kind != run.SetUp {
		if len(n.Set) > 0 || n.Like != "" {
			return core.Fail(core.NotUnderstood, "a run that puts nothing in sets nothing")
		}
		return nil
	}
	if n.Reset && n.Kind != run.SetUp {
		return core.Fail(core.NotUnderstood, "a reset to defaults is a run of its own").Go(words.SettingsReset(a.unit.Serial).To("Begin it"))
	}
	a.Opened.Reset = n.Reset
	safe, err := v.safeOf(a.row.ID)
	if err != nil {
		return err
	}
	o := &a.Opened
	add := func(f settings.Fill, secret bool) error {
		if secret && !f.Sealed {
			sealed, err := safe.Seal(f.Name, f.Value)
			if err != nil {
				return err
			}
			f.Value, f.Sealed = sealed, true
		}
		o.Fill = append(o.Fill, f)
		return nil
	}
	if err := v.fillSaid(n, a, add); err != nil {
		return err
	}
	if n.Like != "" {
		if err := v.fillLike(ctx, n.Like, a, add); err != nil {
			return err
		}
	}
	if !slices.ContainsFunc(a.Sheet.Sections, func(x model.Section) bool { return x.Settings != nil }) {
		return nil // there is nothing that a profile could fill in
	}
	site, err := v.store.SiteOf(ctx, a.unit.Site)
	if err != nil {
		return err
	}
	if site != nil {
		values, err := v.store.Profile(ctx, store.ProfileSite, site.Name)
		if err != nil {
			return err
		}
		if err := v.fillFrom(values, site.Name, n.ProfileWins, a, (*model.Setting).Key, add); err != nil {
			return err
		}
	}
	values, err := v.store.Profile(ctx, store.ProfileModel, a.unit.Model)
	if err != nil {
		return err
	}
	return v.fillFrom(values, "the template of "+a.Sheet.Name.Or(a.unit.Model), n.ProfileWins, a, func(s *model.Setting) string { return s.Name }, add)
}

// fillSaid takes what somebody said for this run.
func (v *Runs) fillSaid(n client.NewRun, a *asked, add func(settings.Fill, bool) error) error {
	names := make([]string, 0, len(n.Set))
	for name := range n.Set {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		var def *model.Setting
		var known []string
		section := ""
		for i := range a.Sheet.Sections {
			x := &a.Sheet.Sections[i]
			if d := x.Settings.Value(name); d != nil && def == nil {
				def, section = d, x.Name
			}
			if x.Settings != nil {
				for _, d := range x.Settings.Values {
					known = append(known, d.Name)
				}
			}
		}
		switch {
		case len(known) == 0:
			return core.Fail(core.NotFound, "the sheet of %s knows no settings", a.unit.Model)
		case def == nil:
			return core.Fail(core.NotFound, "the sheet of %s knows no setting %q; it knows %s", a.unit.Model, name, strings.Join(known, ", "))
		}
		if err := def.Check(n.Set[name]); err != nil {
			return err
		}
		if def.IsPublic(n.Set[name]) {
			return core.Fail(core.NotAllowed, "everybody knows that value of %s", def.Says()).Do("Take another one.")
		}
		if err := add(settings.Fill{Name: name, Section: section, Value: n.Set[name], From: a.Opened.By, Of: settings.OfPerson, First: true}, def.Secret); err != nil {
			return err
		}
	}
	return nil
}

// fillLike takes what another unit of the model is set to; where it is on its network stays
// its own.
func (v *Runs) fillLike(ctx context.Context, like string, a *asked, add func(settings.Fill, bool) error) error {
	other, err := v.store.Unit(ctx, like)
	if err != nil {
		return err
	}
	if other.Model != a.unit.Model {
		return core.Fail(core.DoesNotFit, "%s is a %s, and this unit a %s", other.Serial, other.Model, a.unit.Model).Do("Name a unit of the same model.")
	}
	rows, err := v.store.UnitSettings(ctx, other.ID)
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return core.Fail(core.NotFound, "nobody has read the settings of %s", other.Serial).Go(words.Settings(other.Serial).To("See what is known of them"))
	}
	for _, r := range rows {
		x, _ := a.Sheet.Section(r.Section)
		if x == nil {
			continue
		}
		def := x.Settings.Value(r.Name)
		if def == nil || def.Network != "" || r.Public {
			continue
		}
		f := settings.Fill{Name: r.Name, Section: x.Name, Value: r.Value, From: other.Serial, First: true}
		if r.Sealed {
			if f.Value, err = v.openSetting(r); err != nil {
				return err
			}
		}
		if err := add(f, def.Secret); err != nil {
			return err
		}
	}
	return nil
}

// fillFrom takes what a profile has for the settings that the sheet knows.
func (v *Runs) fillFrom(values []store.ProfileValue, from string, wins bool, a *asked, key func(*model.Setting) string, add func(settings.Fill, bool) error) error {
	for i := range a.Sheet.Sections {
		x := &a.Sheet.Sections[i]
		if x.Settings == nil {
			continue
		}
		for n := range x.Settings.Values {
			def := &x.Settings.Values[n]
			for _, p := range values {
				if p.Name != key(def) {
					continue
				}
				value := p.Value
				if p.Sealed != nil {
					raw, err := v.key.OpenFor(profilePurpose, p.Kind+" "+p.Owner+" "+p.Name, p.Sealed)
					if err != nil {
						return err
					}
					value = string(raw)
				}
				if err := add(settings.Fill{Name: def.Name, Section: x.Name, Value: value, From: from, First: wins}, def.Secret || p.Sealed != nil); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// openSetting opens a secret setting of a unit.
func (v *Runs) openSetting(u store.UnitSetting) (string, error) {
	safe, err := v.safeOf(u.Run)
	if err != nil {
		return "", err
	}
	return safe.Open(u.Name, u.Value)
}

// resealed are settings that an earlier run kept, sealed for the run that puts them back.
func (v *Runs) resealed(all []settings.Value, from, to string) ([]settings.Value, error) {
	was, err := v.safeOf(from)
	if err != nil {
		return nil, err
	}
	now, err := v.safeOf(to)
	if err != nil {
		return nil, err
	}
	all = slices.Clone(all)
	for i := range all {
		if !all[i].Sealed {
			continue
		}
		plain, err := was.Open(all[i].Name, all[i].Value)
		if err != nil {
			return nil, err
		}
		if all[i].Value, err = now.Seal(all[i].Name, plain); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// setup says how the settings of a run stand.
func (v *Runs) setup(s *run.State, sheet *model.Sheet, names map[string]string) *client.Setup {
	if s.Opened == nil || sheet == nil {
		return nil
	}
	out := client.Setup{Lines: []client.SettingLine{}, Pages: []client.SettingPage{}}
	found, wanted, gone, fresh := 0, 0, 0, 0
	next := s.Closed == nil
	for _, x := range s.Sections {
		lines := s.Wanted(x)
		d, ok := sheet.Section(x.Name)
		if !ok || d.Settings == nil || len(lines) == 0 {
			continue
		}
		saved := map[string]bool{}
		for _, l := range lines {
			one := v.settingLine(s, x, d, l, names)
			if len(s.Sections) > 1 {
				one.Section = x.Title.Or(x.Name)
			}
			switch one.Left {
			case run.LeftAlike, run.LeftGone:
				out.Alike++
				saved[one.Page] = true
			case run.LeftOther:
				out.Other++
			default:
				out.Ahead++
			}
			if l.Found != nil {
				found++
			} else {
				fresh++
			}
			if l.How == settings.Gone {
				gone++
			} else {
				wanted++
			}
			out.Lines = append(out.Lines, one)
		}
		for _, p := range append([]model.Page{{}}, d.Settings.Pages...) {
			n := 0
			for _, l := range lines {
				if l.Page == p.Name {
					n++
				}
			}
			if n == 0 {
				continue
			}
			page := client.SettingPage{Name: p.Name, Title: p.Title.Or(p.Name), Says: reach(p, n, d.Settings.By), Lines: n, State: "later"}
			switch {
			case x.Saved[p.Name]:
				page.State = "saved"
			case x.Settled != nil:
				page.State = "nothing"
			case next:
				page.State, next = "next", false
			}
			out.Pages = append(out.Pages, page)
		}
	}
	if len(out.Lines) == 0 {
		return nil
	}
	out.Head = settingsHead(s, &out)
	out.Count = core.Say("%d found, %d wanted, %d given up, %d new: all of them", found, wanted, gone, fresh)
	return &out
}

// settingsHead says how far the settings are.
func settingsHead(s *run.State, out *client.Setup) core.Said {
	asked := 0
	for _, l := range out.Lines {
		if l.How == settings.Asked {
			asked++
		}
	}
	switch {
	case out.Ahead == 0 && out.Other == 0:
		return core.Say("All are read back alike.")
	case out.Ahead == 0:
		return core.Say("%d are not as they should be.", out.Other)
	case s.Closed != nil && !s.Touched():
		return core.Say("They stay as they were found.")
	case s.Closed != nil:
		return core.Say("They were not put back.")
	case asked == 1:
		return core.Say("One is to be said by a person.")
	case asked > 0:
		return core.Say("%d are to be said by a person.", asked)
	}
	for _, p := range out.Pages {
		if p.State == "next" && p.Title != "" {
			return core.Say("Page %s is next.", p.Title)
		}
	}
	return core.Say("They are put back after the write.")
}

// reach says what one save of a page reaches.
func reach(p model.Page, n int, by string) core.Said {
	switch {
	case by == model.SettingsOnDisplay:
		return core.Say("By hand, at the unit's display.")
	case p.Keep != "" && p.Restart > 0:
		return core.Say("All %d together, then a restart, %s. It goes back by itself unless it is kept within %s; the tool does that.", n, lasts(p.Restart), lasts(p.Within))
	case p.Keep != "":
		return core.Say("All %d together. It goes back by itself unless it is kept within %s; the tool does that.", n, lasts(p.Within))
	case p.Restart > 0:
		return core.Say("All %d together, then a restart, %s.", n, lasts(p.Restart))
	case p.Save != "" && !p.Each:
		return core.Say("All %d together, one save.", n)
	case p.Each:
		return core.Say("Each is saved alone.")
	}
	return core.Say("Each is kept as it is put.")
}

// lasts is a duration in words.
func lasts(d time.Duration) string {
	if d >= 2*time.Minute {
		return fmt.Sprintf("%g min", d.Minutes())
	}
	return fmt.Sprintf("%g s", d.Seconds())
}

func (v *Runs) settingLine(s *run.State, x *run.Section, d *model.Section, l settings.Line, names map[string]string) client.SettingLine {
	def := d.Settings.Value(l.Name)
	was := def
	if l.Was != "" {
		was = d.Settings.Value(l.Was)
	}
	shows := func(of *model.Setting, value *settings.Value) string {
		switch {
		case value == nil:
			return ""
		case value.Sealed || l.Secret:
			return masked
		case of == nil:
			return value.Value
		}
		return of.Shows(value.Value)
	}
	out := client.SettingLine{Page: l.Page, Name: l.Name, Title: l.Title, Was: l.Was, Found: shows(was, l.Found), Want: shows(def, l.Want), How: l.How, Why: l.Why, From: l.From,
		Other: shows(def, l.Other), Whose: l.Whose, Secret: l.Secret, Public: l.Public}
	if name, ok := names[l.From]; ok {
		out.From = name
	}
	out.Left = s.LeftOf(x, l)
	if out.Left == run.LeftOther {
		i := slices.IndexFunc(x.Settled.Now, func(v settings.Value) bool { return v.Name == l.Name })
		if i >= 0 {
			out.Now = shows(def, &x.Settled.Now[i])
		}
	}
	return out
}

// unitSettings lists what a unit is set to.
func (v *Runs) unitSettings(ctx context.Context, in *frame.UnitPath) (client.UnitSettings, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.UnitSettings{}, err
	}
	out := client.UnitSettings{Unit: u.Serial, Settings: []client.UnitSetting{}}
	rows, err := v.store.UnitSettings(ctx, u.ID)
	if err != nil {
		return out, err
	}
	sheet, err := v.store.Sheet(ctx, u.Model)
	if err != nil {
		return out, err
	}
	for _, r := range rows {
		x, _ := sheet.Section(r.Section)
		one := client.UnitSetting{Section: r.Section, Name: r.Name, Title: r.Name, Value: r.Value, Secret: r.Sealed, Public: r.Public, Shows: r.Shows, Run: r.Run, At: r.At}
		if x != nil {
			if def := x.Settings.Value(r.Name); def != nil {
				one.Title, one.Page, one.Network, one.Value = def.Says(), def.Page, def.Network, def.Shows(r.Value)
				one.Secret = one.Secret || def.Secret
			}
		}
		if one.Secret {
			one.Value = masked
		}
		out.Settings = append(out.Settings, one)
	}
	place := func(x client.UnitSetting) (at [3]int) { // as the sheet has them
		d, _ := sheet.Section(x.Section)
		if d == nil || d.Settings == nil {
			return at
		}
		at[0] = slices.IndexFunc(sheet.Sections, func(s model.Section) bool { return s.Name == x.Section })
		at[1] = slices.IndexFunc(d.Settings.Pages, func(p model.Page) bool { return p.Name == x.Page })
		at[2] = slices.IndexFunc(d.Settings.Values, func(v model.Setting) bool { return v.Name == x.Name })
		return at
	}
	slices.SortStableFunc(out.Settings, func(a, b client.UnitSetting) int {
		x, y := place(a), place(b)
		return slices.Compare(x[:], y[:])
	})
	return out, nil
}

type showSettingIn struct {
	frame.UnitPath
	Body client.ShowSetting
}

// showSetting gives the value of a secret setting: once to whoever comes first after it was
// set, later to a lead who says why. Each time is noted.
func (v *Runs) showSetting(ctx context.Context, in *showSettingIn) (client.ShownSetting, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.ShownSetting{}, err
	}
	rows, err := v.store.UnitSettings(ctx, u.ID)
	if err != nil {
		return client.ShownSetting{}, err
	}
	i := slices.IndexFunc(rows, func(r store.UnitSetting) bool {
		return r.Name == in.Body.Name && (in.Body.Section == "" || in.Body.Section == r.Section)
	})
	if i < 0 || !rows[i].Sealed {
		return client.ShownSetting{}, core.Fail(core.NotFound, "%s has no secret setting %q", u.Serial, in.Body.Name).Go(words.Settings(u.Serial).To("See what it is set to"))
	}
	r, person, reason := rows[i], frame.Who(ctx).Person, strings.TrimSpace(in.Body.Reason)
	title := r.Name
	if sheet, err := v.store.Sheet(ctx, u.Model); err == nil {
		if x, ok := sheet.Section(r.Section); ok {
			if def := x.Settings.Value(r.Name); def != nil {
				title = def.Says()
			}
		}
	}
	if r.Shows > 0 || reason != "" {
		switch {
		case person.Role != frame.Lead:
			return client.ShownSetting{}, core.Fail(core.NotAllowed, "%s was shown once already; a lead may see it again", title).Do("Ask a lead.")
		case len(reason) < 3:
			return client.ShownSetting{}, core.Fail(core.NotAllowed, "%s was shown once already; to see it again wants a reason", title).Do("Say why.")
		}
	}
	value, err := v.openSetting(r)
	if err != nil {
		return client.ShownSetting{}, err
	}
	return client.ShownSetting{Name: r.Name, Title: title, Value: value}, v.store.NoteShown(ctx, v.key, r, title, person.ID, reason, v.clock.Now())
}

type profileIn struct {
	Kind string `query:"kind" enum:"site,model" required:"true"`
	Of   string `query:"of" required:"true" maxLength:"120"`
}

// getProfile tells what a site, or the template of a model, has for settings.
func (v *Runs) getProfile(ctx context.Context, in *profileIn) (client.Profile, error) {
	out := client.Profile{Kind: in.Kind, Of: in.Of, Values: []client.ProfileValue{}, Asks: []client.ProfileAsk{}}
	if err := v.ownerOf(ctx, in.Kind, &out.Of); err != nil {
		return out, err
	}
	rows, err := v.store.Profile(ctx, in.Kind, out.Of)
	if err != nil {
		return out, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	for _, r := range rows {
		one := client.ProfileValue{Name: r.Name, Value: r.Value, Secret: r.Sealed != nil, By: names[r.By], At: r.At}
		if one.Secret {
			one.Value = masked
		}
		out.Values = append(out.Values, one)
	}
	out.Asks, err = v.profileAsks(ctx, in.Kind, out.Of)
	return out, err
}

// ownerOf finds the site or the model that a profile is of, as it is entered.
func (v *Runs) ownerOf(ctx context.Context, kind string, of *string) error {
	if kind == store.ProfileModel {
		_, err := v.store.Sheet(ctx, *of)
		return err
	}
	site, err := v.store.SiteOf(ctx, *of)
	if err != nil {
		return err
	}
	if site == nil || !strings.EqualFold(site.Name, strings.TrimSpace(*of)) {
		return core.Fail(core.NotFound, "nobody has entered a site %s", *of).Go(words.Sites().To("See the sites"))
	}
	*of = site.Name
	return nil
}

// profileAsks lists what sheets look for in a profile.
func (v *Runs) profileAsks(ctx context.Context, kind, of string) ([]client.ProfileAsk, error) {
	sheets, err := v.store.WithSettings(ctx)
	all := []client.ProfileAsk{}
	for _, sheet := range sheets {
		if kind == store.ProfileModel && sheet.Model != of {
			continue
		}
		for i := range sheet.Sections {
			x := sheet.Sections[i].Settings
			if x == nil {
				continue
			}
			for n := range x.Values {
				def := &x.Values[n]
				name := def.Name
				if kind == store.ProfileSite {
					if def.Profile == "" { // no other model means the same by this name
						continue
					}
					name = def.Profile
				}
				at := slices.IndexFunc(all, func(a client.ProfileAsk) bool { return a.Name == name })
				if at < 0 {
					all = append(all, client.ProfileAsk{Name: name, Title: def.Says(), Models: sheet.Name.Or(sheet.Model), Secret: def.Secret})
					continue
				}
				all[at].Secret = all[at].Secret || def.Secret
				if !strings.Contains(all[at].Models, sheet.Name.Or(sheet.Model)) {
					all[at].Models += ", " + sheet.Name.Or(sheet.Model)
				}
			}
		}
	}
	return all, err
}

type newProfileIn struct{ Body client.NewProfile }

// putProfile changes a profile. What a sheet calls secret is sealed, and never shown again.
func (v *Runs) putProfile(ctx context.Context, in *newProfileIn) (client.Profile, error) {
	b := in.Body
	if err := v.ownerOf(ctx, b.Kind, &b.Of); err != nil {
		return client.Profile{}, err
	}
	asks, err := v.profileAsks(ctx, b.Kind, b.Of)
	if err != nil {
		return client.Profile{}, err
	}
	var put []store.ProfileValue
	var drop []string
	for name, value := range b.Values {
		i := slices.IndexFunc(asks, func(a client.ProfileAsk) bool { return a.Name == name })
		if value == "" {
			drop = append(drop, name)
			continue
		}
		if i < 0 {
			var known []string
			for _, a := range asks {
				known = append(known, a.Name)
			}
			return client.Profile{}, core.Fail(core.NotFound, "no sheet looks for %q in this profile; they look for %s", name, strings.Join(known, ", "))
		}
		if strings.ContainsAny(value, "\r\n\x00") || len(value) > model.MaxSetting {
			return client.Profile{}, core.Fail(core.NotUnderstood, "a value is one line of at most %d bytes", model.MaxSetting)
		}
		one := store.ProfileValue{Kind: b.Kind, Owner: b.Of, Name: name, Value: value, By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()}
		if asks[i].Secret {
			if one.Sealed, err = v.key.SealFor(profilePurpose, b.Kind+" "+b.Of+" "+name, []byte(value)); err != nil {
				return client.Profile{}, err
			}
			one.Value = ""
		}
		put = append(put, one)
	}
	if err := v.store.PutProfile(ctx, b.Kind, b.Of, put, drop); err != nil {
		return client.Profile{}, err
	}
	return v.getProfile(ctx, &profileIn{Kind: b.Kind, Of: b.Of})
}

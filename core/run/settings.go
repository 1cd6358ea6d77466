package run

import (
	"context"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/history"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/settings"
)

// book is where the settings of a section stand.
type book interface {
	read(ctx context.Context) ([]settings.Value, error)
	// put makes a page hold these values; gone are names that shall be there no longer.
	put(ctx context.Context, p model.Page, values []settings.Value, gone []string) error
}

// book opens the settings of a section; nil where the unit gives none.
func (r *Run) book(ctx context.Context, x *Section, d *model.Section) (book, error) {
	by := model.SettingsByLoader
	if d.Settings != nil {
		by = d.Settings.By
	}
	if by == model.SettingsOnDisplay {
		return onDisplay{r, x, d}, nil
	}
	session, err := r.connect(ctx, x)
	if err != nil {
		return nil, err
	}
	switch by {
	case model.SettingsInFile:
		if err := session.Can(loader.Files); err != nil {
			return nil, err
		}
		return inFile{r, x, d}, nil
	case model.SettingsInMemory:
		if session.Can(loader.Read) != nil || session.Can(loader.Write) != nil {
			return nil, nil
		}
		return inMemory{r, x, d}, nil
	}
	if _, ok := session.(loader.Keeper); !ok || session.Can(loader.Keep) != nil {
		return nil, nil
	}
	return byLoader{r, x}, nil
}

// readSettings keeps what the unit tells of its settings, if it does; the secret ones
// sealed.
func (r *Run) readSettings(ctx context.Context, x *Section, d *model.Section) error {
	defer r.hush(x)()
	if x.Settings != nil {
		return nil
	}
	b, err := r.book(ctx, x, d)
	if err != nil || b == nil {
		return err
	}
	all, err := b.read(ctx)
	if err != nil || len(all) == 0 && !x.Set {
		return err
	}
	if all, err = r.sealed(ctx, d, all); err != nil {
		return err
	}
	return r.note(x, KindSettings, Settings{all})
}

// readAlone is readSettings for a run of nothing else: a unit that tells none is an end.
func (r *Run) readAlone(ctx context.Context, x *Section) error {
	d, err := r.of(x)
	if err != nil {
		return err
	}
	if err := r.readSettings(ctx, x, d); err != nil {
		return err
	}
	if x.Settings == nil {
		return core.Fail(core.RefusedByUnit, "the unit gives no settings, though its sheet describes them").Do("Look whether it has the loader that the sheet names.")
	}
	return nil
}

// safe is where the run keeps secret values.
func (r *Run) safe(ctx context.Context) (settings.Safe, error) {
	return r.bench.SettingsKey(ctx, r.journal.State().Opened)
}

// sealed seals the secret ones of values, and notes which of them everybody knows.
func (r *Run) sealed(ctx context.Context, d *model.Section, all []settings.Value) ([]settings.Value, error) {
	for i := range all {
		v := &all[i]
		def := d.Settings.Value(v.Name)
		if def == nil {
			continue
		}
		v.Public = def.IsPublic(v.Value)
		if !def.Secret || v.Sealed {
			continue
		}
		safe, err := r.safe(ctx)
		if err != nil {
			return nil, err
		}
		if v.Value, err = safe.Seal(v.Name, v.Value); err != nil {
			return nil, err
		}
		v.Sealed = true
	}
	return all, nil
}

// plain opens a value.
func (r *Run) plain(ctx context.Context, v settings.Value) (settings.Value, error) {
	if !v.Sealed {
		return v, nil
	}
	safe, err := r.safe(ctx)
	if err != nil {
		return v, err
	}
	v.Value, err = safe.Open(v.Name, v.Value)
	v.Sealed = false
	return v, err
}

// laySettings says what each setting is to be, and makes the items by which a person is
// asked what nothing else tells.
func (r *Run) laySettings(ctx context.Context, x *Section) error {
	d, err := r.of(x)
	if err != nil {
		return err
	}
	s := r.journal.State()
	all := append([]core.Fact(nil), s.Opened.Noted...)
	if x.Identified != nil {
		all = append(all, x.Identified.Facts...)
	}
	all = append(all, procedure.Facts(s.items(), s.Answers)...)
	known := fit.Prepare(r.sheet, all, r.pace.Clock.Now())
	in := settings.Input{Sheet: d.Settings, Found: x.Settings.Settings, Fill: s.Opened.Fill, Holds: func(rules []model.Rule) (bool, bool) { return known.Judge(r.sheet, rules) }}
	in.Fill = slices.DeleteFunc(slices.Clone(in.Fill), func(f settings.Fill) bool { return f.Section != "" && f.Section != x.Name })
	in.Reset = s.Opened.Reset
	if err := r.unknownSetting(in, d); err != nil {
		return err
	}
	if s.Opened.Kind == Flash {
		running := s.Fact(core.FactRunning)
		if running == "" {
			running, _ = seenBefore(s.Opened.Noted)
		}
		in.Carry = r.release.CarryFrom(running)
	}
	out := LaidOut{Lines: settings.Lay(in), Made: map[string]string{}}
	for i := range out.Lines {
		l := &out.Lines[i]
		def := d.Settings.Value(l.Name)
		if def == nil {
			def = &model.Setting{Name: l.Name, As: "text", Secret: l.Secret}
		}
		if l.How != settings.Asked {
			continue
		}
		if def.Secret {
			safe, err := r.safe(ctx)
			if err != nil {
				return err
			}
			if out.Made[l.Name], err = safe.Seal(l.Name, settings.Make()); err != nil {
				return err
			}
		}
		out.Items = append(out.Items, askFor(x, l, def))
	}
	if look := lookAt(x, out.Lines, in.Reset); look != nil {
		out.Items = append(out.Items, *look)
	}
	if d.Settings.By == model.SettingsOnDisplay {
		out.Items = append(out.Items, x.enterAll(d.Settings, out.Lines)...)
	}
	return r.note(x, KindLaid, out)
}

// unknownSetting refuses a value that somebody said for a setting that the program which runs
// does not have, where its loader lists all that it has.
func (r *Run) unknownSetting(in settings.Input, d *model.Section) error {
	if r.journal.State().Opened.Kind != SetUp || !d.Settings.Is(model.SettingsByLoader) {
		return nil
	}
	var has []string
	for _, f := range in.Found {
		has = append(has, f.Name)
	}
	for _, f := range in.Fill {
		if f.Of == settings.OfPerson && !slices.Contains(has, f.Name) {
			return core.Fail(core.NotUnderstood, "the program that runs has no setting %q; it has %s", f.Name, strings.Join(has, ", ")).Unit("nothing was changed").
				Do("Begin again with one of those, or put in a release that has it.")
		}
	}
	return nil
}

// settingItem is the id of an item about a setting.
func settingItem(x *Section, what, name string) string {
	if x.Main {
		return what + "-" + name
	}
	return what + "-" + x.Name + "-" + name
}

// askFor is the item by which a person says what a setting is to be.
func askFor(x *Section, l *settings.Line, def *model.Setting) model.Item {
	i := model.Item{ID: settingItem(x, "set", l.Name), Do: model.Enter, At: model.AtSet, Section: x.Name, Setting: l.Name, Secret: l.Secret, Offers: l.Secret, Unit: def.Unit,
		Leaves: l.Public}
	var why []core.Said
	switch {
	case l.Found == nil:
		why = append(why, core.Say("It is new."))
	case l.Public:
		why = append(why, core.Say("It was found with a value that everybody knows."))
	case !l.Secret:
		why = append(why, core.Say("It was %s.", def.Shows(l.Found.Value)))
	}
	if l.Why != nil && !l.Public {
		says := *l.Why
		says.Text = capital(strings.TrimSuffix(says.Text, ".")) + "."
		why = append(why, says)
	}
	if l.Secret {
		why = append(why, core.Say("One was made for it; it is shown once, and kept with the team's secrets."))
	}
	i = i.Saying(core.Say("What is %s to be?", l.Title), why...)
	if def.As == "choice" {
		i.Do = model.Choose
		for _, c := range def.Choices {
			if !slices.ContainsFunc(def.Suits, func(s model.Suit) bool {
				return slices.Contains(s.Not, c.Value) && l.Why != nil && s.Why.In("en") == l.Why.Text
			}) {
				i.Choices = append(i.Choices, c)
			}
		}
	}
	return i
}

// lookAt is the item by which a person sees what becomes other than it was, where it is
// more than the release's own renaming.
func lookAt(x *Section, lines []settings.Line, reset bool) *model.Item {
	var other, gone, differ []string
	for _, l := range lines {
		switch {
		case l.How == settings.Gone:
			gone = append(gone, l.Title)
		case l.How == settings.Filled || l.How == settings.ByRule || l.How == settings.Said || reset && l.How == settings.Default:
			other = append(other, l.Title)
		case l.Other != nil:
			differ = append(differ, l.Title)
		}
	}
	if len(other)+len(gone)+len(differ) == 0 {
		return nil
	}
	var why []core.Said
	if len(other) > 0 {
		why = append(why, core.Say("Not as they were found: %s.", strings.Join(other, ", ")))
	}
	if len(gone) > 0 {
		why = append(why, core.Say("Not carried over: %s.", strings.Join(gone, ", ")))
	}
	if len(differ) > 0 {
		why = append(why, core.Say("As they were, though a profile has another value: %s.", strings.Join(differ, ", ")))
	}
	i := model.Item{ID: settingItem(x, "look", "at-settings"), Do: model.Confirm, At: model.AtSet, Section: x.Name}.
		Saying(core.Say("Look at the settings. Are they to be so?"), why...)
	return &i
}

// asks is the item about the settings of a section that a person is to do next.
func (s *State) asks(x *Section) *model.Item {
	if x.Laid == nil || x.Settled != nil {
		return nil
	}
	return procedure.Next(x.Laid.Items, s.Answers, model.AtSet)
}

// Wanted is what the settings of a section are to be, with what people have answered.
func (s *State) Wanted(x *Section) []settings.Line {
	if x.Laid == nil {
		return nil
	}
	lines := slices.Clone(x.Laid.Lines)
	for _, a := range s.Answers {
		i := slices.IndexFunc(x.Laid.Items, func(i model.Item) bool { return i.ID == a.Item && i.At == model.AtSet })
		if i < 0 || x.Laid.Items[i].Setting == "" {
			continue
		}
		item := x.Laid.Items[i]
		switch a.Value {
		case procedure.Excused:
			settings.Leave(lines, item.Setting, a.By)
		case procedure.Offered:
			settings.Answer(lines, item.Setting, settings.Value{Value: x.Laid.Made[item.Setting], Sealed: true}, settings.Made, a.By)
		default:
			settings.Answer(lines, item.Setting, settings.Value{Value: a.Value, Sealed: item.Secret}, settings.Said, a.By)
		}
	}
	return lines
}

// toSet tells whether the unit is to have other settings than it has.
func (s *State) toSet(x *Section) bool {
	if x.Laid == nil || x.Settled != nil || !s.goes() || s.asks(x) != nil {
		return false
	}
	return slices.ContainsFunc(s.Wanted(x), func(l settings.Line) bool { return l.Changes() || l.How == settings.Gone })
}

// fittingSetting refuses a value that the setting cannot have, and seals one that is
// secret.
func (r *Run) fittingSetting(ctx context.Context, item *model.Item, a *procedure.Answer) error {
	if item.Setting == "" || a.Value == procedure.Excused || a.Value == procedure.Offered || a.Value == procedure.Back {
		return nil
	}
	x := r.journal.State().Section(item.Section)
	if x == nil {
		return nil
	}
	d, err := r.of(x)
	if err != nil {
		return err
	}
	if a.Sealed { // it came so
		safe, err := r.safe(ctx)
		if err != nil {
			return err
		}
		if a.Value, err = safe.Open(item.Setting, a.Value); err != nil {
			return err
		}
	}
	def := d.Settings.Value(item.Setting)
	if def != nil {
		if err := def.Check(a.Value); err != nil {
			return err
		}
		if item.At == model.AtSet && def.IsPublic(a.Value) {
			return core.Fail(core.NotAllowed, "everybody knows that value of %s", def.Says()).Do("Take another one, or leave it as it is by name, with a reason.")
		}
		if item.At == model.AtSet && d.Settings.By == model.SettingsInMemory {
			if _, err := settings.ToBytes(def, a.Value); err != nil {
				return err
			}
		}
	}
	if item.Secret {
		safe, err := r.safe(ctx)
		if err != nil {
			return err
		}
		if a.Value, err = safe.Seal(item.Setting, a.Value); err != nil {
			return err
		}
	}
	return nil
}

// settle makes the unit have the settings that it is to have, page by page, and reads them
// again. What the unit does not take is said; it ends nothing, because the program is
// written and right.
func (r *Run) settle(ctx context.Context, x *Section) error {
	d, err := r.of(x)
	if err != nil {
		return err
	}
	b, err := r.book(ctx, x, d)
	if err != nil {
		return err
	}
	if b == nil {
		return core.Fail(core.RefusedByUnit, "the loader no longer takes settings")
	}
	want, gone, err := r.toPut(ctx, x)
	if err != nil {
		return err
	}
	has, err := b.read(ctx)
	if err != nil {
		return err
	}
	var out Settled
	for _, p := range pagesOf(d.Settings) {
		if x.Saved[p.Name] {
			continue
		}
		put := slices.DeleteFunc(slices.Clone(want), func(v settings.Value) bool { return pageOf(d.Settings, v.Name) != p.Name || slices.Contains(has, v) })
		drop := slices.DeleteFunc(slices.Clone(gone), func(name string) bool {
			return pageOf(d.Settings, name) != p.Name || !slices.ContainsFunc(has, func(v settings.Value) bool { return v.Name == name })
		})
		if len(put)+len(drop) == 0 {
			continue
		}
		if err := r.note(x, KindSaving, Page{Page: p.Name}); err != nil {
			return err
		}
		if err := b.put(ctx, p, put, drop); err != nil {
			return err
		}
		kept, err := r.sealed(ctx, d, slices.Clone(put))
		if err != nil {
			return err
		}
		if err := r.note(x, KindSaved, Page{Page: p.Name, Put: kept}); err != nil {
			return err
		}
	}
	if has, err = b.read(ctx); err != nil {
		return err
	}
	for _, v := range want {
		if slices.Contains(has, v) {
			out.Back++
		} else {
			out.Differ = append(out.Differ, v.Name)
		}
	}
	if x.Set {
		if out.Now, err = r.sealed(ctx, d, has); err != nil {
			return err
		}
	}
	return r.note(x, KindSettled, out)
}

// toPut is what the unit is to have, opened, and the names that it is to have no longer.
func (r *Run) toPut(ctx context.Context, x *Section) (want []settings.Value, gone []string, err error) {
	if x.Laid == nil { // a run that saved them for want of a backup, and a sheet that says nothing of them
		for _, v := range x.Settings.Settings {
			if v, err = r.plain(ctx, v); err != nil {
				return nil, nil, err
			}
			want = append(want, settings.Value{Name: v.Name, Value: v.Value})
		}
		return want, nil, nil
	}
	for _, l := range r.journal.State().Wanted(x) {
		if l.Was != "" {
			gone = append(gone, l.Was)
		}
		if l.How == settings.Gone {
			gone = append(gone, l.Name)
		}
		if l.Want == nil {
			continue
		}
		v, err := r.plain(ctx, *l.Want)
		if err != nil {
			return nil, nil, err
		}
		want = append(want, settings.Value{Name: l.Name, Value: v.Value})
	}
	stays := func(name string) bool {
		return slices.ContainsFunc(want, func(v settings.Value) bool { return v.Name == name })
	}
	return want, slices.DeleteFunc(gone, stays), nil
}

// pageOf is the page on which a setting is saved.
func pageOf(s *model.Settings, name string) string {
	if def := s.Value(name); def != nil {
		return def.Page
	}
	return ""
}

// pagesOf lists the pages in the order in which they are saved: what is on none comes first.
func pagesOf(s *model.Settings) []model.Page {
	all := []model.Page{{}}
	if s != nil {
		all = append(all, s.Pages...)
	}
	return all
}

// byLoader is a book that the loader keeps.
type byLoader struct {
	run *Run
	of  *Section
}

func (b byLoader) keeper(ctx context.Context) (loader.Keeper, error) {
	session, err := b.run.connect(ctx, b.of)
	if err != nil {
		return nil, err
	}
	k, ok := session.(loader.Keeper)
	if !ok {
		return nil, core.Fail(core.RefusedByUnit, "the loader no longer takes settings")
	}
	return k, nil
}

func (b byLoader) read(ctx context.Context) (all []settings.Value, err error) {
	k, err := b.keeper(ctx)
	if err != nil {
		return nil, err
	}
	now, err := k.Settings(ctx)
	for _, v := range now {
		all = append(all, settings.Value{Name: v.Name, Value: v.Value})
	}
	return all, err
}

// put sends the values, saves the page as its sheet says, and keeps it. A value that the
// unit refuses is found when they are read again.
func (b byLoader) put(ctx context.Context, p model.Page, values []settings.Value, gone []string) error {
	k, err := b.keeper(ctx)
	if err != nil {
		return err
	}
	send := func(name, value string) error {
		if err := k.PutSetting(ctx, loader.Setting{Name: name, Value: value}); err != nil && core.KindOf(err) != core.RefusedByUnit {
			return err
		}
		return nil
	}
	save := func() error {
		if p.Save == "" {
			return nil
		}
		if err := send(p.Save, procedure.Yes); err != nil {
			return err
		}
		if p.Restart > 0 {
			if k, err = b.restarted(ctx, p); err != nil {
				return err
			}
		}
		if p.Keep == "" {
			return nil
		}
		return send(p.Keep, procedure.Yes)
	}
	if d, ok := k.(loader.Dropper); ok {
		for _, name := range gone {
			if err := d.DropSetting(ctx, name); err != nil && core.KindOf(err) != core.RefusedByUnit {
				return err
			}
		}
	}
	for _, v := range values {
		if err := send(v.Name, v.Value); err != nil {
			return err
		}
		if p.Each {
			if err := save(); err != nil {
				return err
			}
		}
	}
	if p.Each {
		return nil
	}
	return save()
}

// restarted waits until the unit is back after a save that wants a restart.
func (b byLoader) restarted(ctx context.Context, p model.Page) (loader.Keeper, error) {
	r := b.run
	l := r.lines[b.of.Link]
	if err := l.session.Restart(ctx, true); err != nil && core.KindOf(err) != core.NotAnswering {
		return nil, err
	}
	l.session.Close()
	l.session = nil
	end := r.pace.Clock.Now().Add(r.pace.Scaled(p.Restart))
	for {
		k, err := b.keeper(ctx)
		if err == nil || core.KindOf(err) != core.NotAnswering || r.pace.Clock.Now().After(end) {
			return k, err
		}
	}
}

// inFile is a book in a file of the unit.
type inFile struct {
	run *Run
	of  *Section
	d   *model.Section
}

func (b inFile) text(ctx context.Context) (data []byte, cabinet loader.Cabinet, err error) {
	session, err := b.run.connect(ctx, b.of)
	if err != nil {
		return nil, nil, err
	}
	cabinet = session.(loader.Cabinet)
	files, err := listFiles(ctx, session)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range files {
		if f.Path != b.d.Settings.File {
			continue
		}
		if f.Length > 64<<10 {
			return nil, nil, core.Fail(core.RefusedByUnit, "file %s has %d bytes, too many for settings", f.Path, f.Length)
		}
		data = make([]byte, f.Length)
		err = cabinet.GetFile(ctx, f.Path, data, nil)
		if err == nil && core.DigestOf(data) != f.Digest {
			err = core.Fail(core.VerifyDiffers, "the settings in file %s came otherwise than the unit's digest says", f.Path).Do("Try it again.")
		}
	}
	return data, cabinet, err
}

func (b inFile) read(ctx context.Context) ([]settings.Value, error) {
	data, _, err := b.text(ctx)
	if err != nil {
		return nil, err
	}
	return settings.ReadText(data)
}

func (b inFile) put(ctx context.Context, _ model.Page, values []settings.Value, gone []string) error {
	data, cabinet, err := b.text(ctx)
	if err != nil {
		return err
	}
	return cabinet.PutFile(ctx, b.d.Settings.File, settings.WriteText(data, values, gone), nil)
}

// inMemory is a book of bytes in the section's memory.
type inMemory struct {
	run *Run
	of  *Section
	d   *model.Section
}

func (b inMemory) read(ctx context.Context) (all []settings.Value, err error) {
	session, err := b.run.connect(ctx, b.of)
	if err != nil {
		return nil, err
	}
	for i := range b.d.Settings.Values {
		def := &b.d.Settings.Values[i]
		data := make([]byte, def.At.Length)
		if err := session.Read(ctx, def.At.Address, data, nil); err != nil {
			return nil, err
		}
		if v, ok := settings.FromBytes(def, data, b.d.Memory.Erased); ok {
			all = append(all, settings.Value{Name: def.Name, Value: v})
		}
	}
	return all, nil
}

// put writes the sectors in which the values stand. What else they hold comes out of this
// run's backup: the unit may have been cut off with a sector erased.
func (b inMemory) put(ctx context.Context, _ model.Page, values []settings.Value, gone []string) error {
	base := core.Digest{}
	switch {
	case b.of.BackedUp != nil:
		base = b.of.BackedUp.Manifest
	case b.of.Covered != nil:
		base = b.of.Covered.Of(b.of)
	default:
		return core.Fail(core.NoWayBack, "there is no backup out of which the rest of the settings' sectors could be made")
	}
	manifest, err := b.run.manifest(ctx, base)
	if err != nil {
		return err
	}
	session, err := b.run.connect(ctx, b.of)
	if err != nil {
		return err
	}
	has, err := b.read(ctx)
	if err != nil {
		return err
	}
	for _, v := range has { // what an earlier page of this run has put is not in the backup
		if b.of.Saved[pageOf(b.d.Settings, v.Name)] && !slices.ContainsFunc(values, func(w settings.Value) bool { return w.Name == v.Name }) {
			values = append(values, v)
		}
	}
	for _, sector := range b.d.Memory.Sectors() {
		data, touched := make([]byte, sector.Length), false
		if err := manifest.Read(b.run.get(ctx), sector.Address, data); err != nil {
			return err
		}
		for i := range b.d.Settings.Values {
			def := &b.d.Settings.Values[i]
			if def.At.Address < sector.Address || def.At.Address >= sector.End() {
				continue
			}
			at := slices.IndexFunc(values, func(v settings.Value) bool { return v.Name == def.Name })
			cells := data[def.At.Address-sector.Address:][:def.At.Length]
			switch {
			case at >= 0:
				raw, err := settings.ToBytes(def, values[at].Value)
				if err != nil {
					return err
				}
				copy(cells, raw)
			case slices.Contains(gone, def.Name):
				for n := range cells {
					cells[n] = b.d.Memory.Erased
				}
			default:
				continue
			}
			touched = true
		}
		if touched {
			if err := b.run.sector(ctx, session, b.d, sector.Address, data); err != nil {
				return err
			}
		}
	}
	return nil
}

// sector erases one sector and writes it anew.
func (r *Run) sector(ctx context.Context, session loader.Session, d *model.Section, address uint64, data []byte) error {
	ops := []loader.Op{{N: 0, Erase: true, Address: address, Length: uint64(len(data))}, {N: 1, Address: address, Length: uint64(len(data)), Data: data}}
	n := 0
	return loader.Change(ctx, session, &d.Memory, func() (loader.Op, bool, error) {
		if n == len(ops) {
			return loader.Op{}, false, nil
		}
		n++
		return ops[n-1], true, nil
	}, nil, func(loader.Op) error { return nil })
}

// onDisplay is a book that only a person can read, at the unit itself.
type onDisplay struct {
	run *Run
	of  *Section
	d   *model.Section
}

func (b onDisplay) read(context.Context) (all []settings.Value, err error) {
	s := b.run.journal.State()
	for _, what := range []string{"found", "left"} {
		for i := range b.d.Settings.Values {
			def := &b.d.Settings.Values[i]
			for _, a := range s.Answers {
				if a.Item != settingItem(b.of, what, def.Name) || a.Value == procedure.Excused || a.Value == "" {
					continue
				}
				all = slices.DeleteFunc(all, func(v settings.Value) bool { return v.Name == def.Name })
				all = append(all, settings.Value{Name: def.Name, Value: a.Value})
			}
		}
	}
	return all, nil
}

func (b onDisplay) put(context.Context, model.Page, []settings.Value, []string) error { return nil }

// typedAt are the items by which a person reads the settings off the unit's display.
func typedAt(x *Place, d *model.Section) (all []model.Item) {
	if d.Settings == nil || d.Settings.By != model.SettingsOnDisplay {
		return nil
	}
	for i := range d.Settings.Values {
		def := &d.Settings.Values[i]
		if def.Secret { // no display shows it
			continue
		}
		one := model.Item{ID: settingItem(&Section{Place: *x}, "found", def.Name), Do: model.Enter, At: model.AtFound, Section: x.Name, Setting: def.Name, Unit: def.Unit}.
			Saying(core.Say("What does its display show for %s?", def.Says()), core.Say("It goes back after the write. A picture helps."))
		if def.As == "choice" {
			one.Do, one.Choices = model.Choose, def.Choices
		}
		all = append(all, one)
	}
	return all
}

// enterAll are the items by which a person puts the settings in at the unit itself.
func (x *Section) enterAll(of *model.Settings, lines []settings.Line) (all []model.Item) {
	for _, l := range lines {
		def := of.Value(l.Name)
		if def == nil || l.How == settings.Gone {
			continue
		}
		says := core.Say("Set %s at its display as you have said, and say what it shows.", l.Title)
		if l.Want != nil && !l.Want.Sealed {
			says = core.Say("Set %s to %s at its display, and say what it shows.", l.Title, def.Shows(l.Want.Value))
		}
		if l.Secret {
			says = core.Say("Enter %s at its display.", l.Title)
		}
		one := model.Item{ID: settingItem(x, "left", l.Name), Do: model.Enter, At: model.AtLeft, Setting: l.Name, Unit: def.Unit}.Saying(says)
		if l.Secret {
			one.Do, one.Setting = model.Confirm, ""
		}
		if def.As == "choice" && !l.Secret {
			one.Do, one.Choices = model.Choose, def.Choices
		}
		all = append(all, one)
	}
	return all
}

// How a setting was read back.
const (
	LeftNotYet = "not-yet"
	LeftAlike  = "alike"
	LeftOther  = "other"
	LeftGone   = "gone" // it was not to be there, and is not
)

// LeftOf says how a setting was read back.
func (s *State) LeftOf(x *Section, l settings.Line) string {
	if x.Settled == nil {
		return LeftNotYet
	}
	there := slices.ContainsFunc(x.Settled.Now, func(v settings.Value) bool { return v.Name == l.Name })
	switch {
	case l.How == settings.Gone && !there:
		return LeftGone
	case l.How == settings.Gone || slices.Contains(x.Settled.Differ, l.Name) || !there:
		return LeftOther
	}
	return LeftAlike
}

// recordSettings is what the record says of a section's settings.
func (s *State) recordSettings(x *Section) (all []history.Setting) {
	for _, l := range s.Wanted(x) {
		one := history.Setting{Section: x.Name, Name: l.Name, Was: l.Was, How: string(l.How), Back: s.LeftOf(x, l), Secret: l.Secret}
		if !l.Secret && l.Found != nil {
			one.Found = l.Found.Value
		}
		if x.Settled != nil && !l.Secret {
			for _, v := range x.Settled.Now {
				if v.Name == l.Name {
					one.Left = v.Value
				}
			}
		}
		all = append(all, one)
	}
	return all
}

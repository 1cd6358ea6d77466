package runs

import (
	"context"
	"maps"
	"runtime"
	"slices"
	"sync"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/advise"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/rehearse"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/links"
	"zealousferry/internal/store"
)

type rehearseIn struct {
	Body client.NewRehearsal
}

// rehearse does a run on a twin of the unit. Nothing is opened, and no unit hears of it.
func (v *Runs) rehearse(ctx context.Context, in *rehearseIn) (client.Rehearsal, error) {
	u, _, err := v.Links.UnitAt(ctx, in.Body.At)
	if err != nil {
		return client.Rehearsal{}, err
	}
	out, err := v.rehearsed(ctx, u, in.Body, v.gets(ctx))
	if err != nil {
		return out, err
	}
	if out.Result == nil {
		no := core.Fail(core.Kind(out.Kind), "%s", out.No).Unit("nothing was changed")
		if no.Kind == core.NoWayBack {
			no = no.Go(words.Backup(u.Serial).To("Take one first"))
		}
		return out, no
	}
	return out, nil
}

// atOnce bounds rehearsals at work: each holds a unit's memory twice.
var atOnce = make(chan struct{}, runtime.NumCPU())

// rehearsed is a rehearsal; that no twin can be made is part of it, and no error.
func (v *Runs) rehearsed(ctx context.Context, u store.Unit, n client.NewRehearsal, get shelf.Get) (client.Rehearsal, error) {
	out := client.Rehearsal{Unit: u.Serial, ID: u.ID, Site: u.Site, Bars: []admit.Bar{}}
	select {
	case atOnce <- struct{}{}:
		defer func() { <-atOnce }()
	case <-ctx.Done():
		return out, ctx.Err()
	}
	sheet, err := sheetOf(u, n.Sheet)
	if err != nil {
		return out, err
	}
	a, err := v.askedBy(ctx, client.NewRun{Kind: run.Flash, Release: n.Release, Again: n.Again}, u, links.Place{}, sheet)
	if err != nil {
		return out, err
	}
	if sheet != nil {
		out.Sheet, get = sheet.Digest.String(), with(get, sheet.Digest, []byte(n.Sheet))
	}
	answers := make([]procedure.Answer, len(n.Answers))
	for i, x := range n.Answers {
		if answers[i], err = v.answerOf(ctx, x); err != nil {
			return out, err
		}
	}
	_, bars := admit.Admit(a.Input)
	for _, b := range bars {
		if b.Rule != "link" && b.Rule != "label" && b.Rule != "reason" {
			out.Bars = append(out.Bars, b)
		}
	}
	out.Version = a.Opened.Version
	began := v.clock.Now()
	advises := func(adv *advise.Input) error { return v.knownOf(ctx, a.row, u, adv) }
	result, err := v.onTwin(ctx, a, get, &out, rehearse.Input{ByHand: n.ByHand, Answers: answers, Trouble: n.Trouble, Advise: advises})
	if err != nil {
		if ctx.Err() != nil || len(n.Answers) > 0 { // what was answered will not do
			return out, err
		}
		e := core.AsError(err, core.CannotTell)
		out.No, out.Kind = e.Message, string(e.Kind)
		return out, nil
	}
	out.Result, out.Well, out.Took = &result, result.Well(), v.clock.Now().Sub(began).Milliseconds()
	return out, nil
}

// sheetOf reads a sheet that is not in force; nil where none is given.
func sheetOf(u store.Unit, text string) (*model.Sheet, error) {
	if text == "" {
		return nil, nil
	}
	sheet, err := registry.Sheet([]byte(text))
	if err == nil && sheet.Model != u.Model {
		return nil, core.Fail(core.DoesNotFit, "the sheet is of model %s, and %s is a %s", sheet.Model, u.Serial, u.Model).Unit("nothing was changed").Do("Give a sheet of its model, or a unit of the sheet's.")
	}
	return sheet, err
}

// with reads one thing more.
func with(get shelf.Get, name core.Digest, b []byte) shelf.Get {
	return func(names []core.Digest) ([][]byte, error) {
		at := slices.Index(names, name)
		if at < 0 {
			return get(names)
		}
		all, err := get(slices.Delete(slices.Clone(names), at, at+1))
		if err != nil {
			return nil, err
		}
		return slices.Insert(all, at, b), nil
	}
}

// onTwin makes the twin of the unit's newest backup, and does the run on it.
func (v *Runs) onTwin(ctx context.Context, a *asked, get shelf.Get, out *client.Rehearsal, in rehearse.Input) (rehearse.Result, error) {
	if lock, known := a.Known.Best(core.FactLock); known && lock.Value == "locked" {
		return rehearse.Result{}, core.Fail(core.CannotTell, "the memory of %s is locked, and a backup from before does not say what lifting that would do", a.unit.Serial)
	}
	b, err := v.Units.BackupFor(ctx, a.unit, "")
	if err != nil {
		return rehearse.Result{}, err
	}
	out.Backup, out.From = b.ID, b.Running
	in.Opened, in.Sheet, in.Release, in.Held, in.Now, in.Get = a.Opened, a.Sheet, a.Release, map[string]rehearse.Held{}, v.clock.Now(), get
	in.Opened.Covered, in.Opened.Link, in.Opened.Beside = nil, "twin/"+a.unit.Serial, nil
	in.Links = map[string]string{}
	for _, name := range a.Sheet.Links() {
		in.Links[name] = "twin/" + name
	}
	if in.Safe, err = v.safeOf(in.Opened.Run); err != nil {
		return rehearse.Result{}, err
	}
	sections, err := v.store.BackupSections(ctx, b.ID)
	if err != nil {
		return rehearse.Result{}, err
	}
	in.Held[a.Sheet.Main().Name] = rehearse.Held{Manifest: core.Digest(b.Manifest)}
	for _, x := range sections {
		in.Held[x.Section] = rehearse.Held{Manifest: core.Digest(x.Manifest)}
	}
	if err := v.heldSettings(ctx, a, in.Held); err != nil {
		return rehearse.Result{}, err
	}
	facts, err := v.store.Facts(ctx, a.unit.ID)
	if err != nil {
		return rehearse.Result{}, err
	}
	for _, f := range facts {
		if f.Source == core.FromWire {
			if f.Name == core.FactRunning { // of the backup, which may be older than what runs now
				f.Value = b.Running
			}
			in.Facts = append(in.Facts, f)
		}
	}
	result, err := rehearse.Of(ctx, in)
	if a.HalfDone {
		result.Assumed = append(result.Assumed, core.Say("it is taken as it was before the write that broke off"))
	}
	if a.Running != "" && a.Running != b.Running {
		result.Assumed = append(result.Assumed, core.Say("it runs %s now; its newest backup has %s", a.Running, b.Running))
	}
	return result, err
}

// heldSettings adds what the unit's loaders keep of its settings, as they were read last.
func (v *Runs) heldSettings(ctx context.Context, a *asked, held map[string]rehearse.Held) error {
	rows, err := v.store.UnitSettings(ctx, a.unit.ID)
	if err != nil {
		return err
	}
	for _, r := range rows {
		x, ok := a.Sheet.Section(r.Section)
		h, has := held[r.Section]
		if !ok || !has || x.Settings != nil && x.Settings.By != model.SettingsByLoader {
			continue
		}
		value := r.Value
		if r.Sealed {
			safe, err := v.safeOf(r.Run)
			if err != nil {
				return err
			}
			if value, err = safe.Open(r.Name, r.Value); err != nil {
				return err
			}
		}
		h.Settings = append(h.Settings, loader.Setting{Name: r.Name, Value: value})
		held[r.Section] = h
	}
	return nil
}

// gets reads content of backups and releases. What it has read it keeps, for several rehearsals
// of one release.
func (v *Runs) gets(ctx context.Context) shelf.Get {
	near := map[core.Digest][]byte{}
	var mu sync.Mutex
	return func(names []core.Digest) ([][]byte, error) {
		mu.Lock()
		var lacks []core.Digest
		for _, n := range names {
			if _, ok := near[n]; !ok {
				lacks = append(lacks, n)
			}
		}
		mu.Unlock()
		found, err := v.store.Pieces(ctx, lacks)
		if err != nil {
			return nil, err
		}
		for _, n := range lacks {
			if _, ok := found[n]; !ok { // of a release
				if found[n], err = v.store.Image(ctx, n); err != nil {
					return nil, err
				}
			}
		}
		mu.Lock()
		defer mu.Unlock()
		maps.Copy(near, found)
		all := make([][]byte, 0, len(names))
		for _, n := range names {
			all = append(all, near[n])
		}
		return all, nil
	}
}

type rehearseFleetIn struct {
	Release string `path:"release"`
	Body    client.RehearseFleet
}

// rehearseRelease rehearses a release over the backups of its model's units, some at a time.
func (v *Runs) rehearseRelease(ctx context.Context, in *rehearseFleetIn) (client.Rehearsals, error) {
	r, err := v.Catalogue.FindRelease(ctx, in.Release)
	if err != nil {
		return client.Rehearsals{}, err
	}
	limit := in.Body.Limit
	if limit == 0 {
		limit = 10
	}
	out := client.Rehearsals{Version: r.Version, Model: r.Release.Model, Rehearsals: []client.Rehearsal{}}
	units, total, err := v.store.UnitsAfter(ctx, r.Release.Model, in.Body.After, limit)
	if err != nil {
		return out, err
	}
	out.Units = total
	if len(units) == limit {
		out.Next = units[len(units)-1].ID
	}
	out.Rehearsals = make([]client.Rehearsal, len(units))
	errs := make([]error, len(units))
	get := v.gets(ctx)
	var all sync.WaitGroup
	for i, u := range units {
		all.Go(func() {
			out.Rehearsals[i], errs[i] = v.rehearsed(ctx, u, client.NewRehearsal{Release: r.ID}, get)
		})
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

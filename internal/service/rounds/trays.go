package rounds

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/run"
	"zealousferry/core/tray"
	"zealousferry/core/visit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// TraysIn asks for a page of trays.
type TraysIn struct {
	Open  bool   `query:"open" doc:"Only those that are not closed."`
	After string `query:"after" maxLength:"200" doc:"Next of the page before."`
	Size  int    `query:"size" minimum:"1" maximum:"200" default:"50"`
}

// ListTrays gives open trays first, then the newest.
func (v *Rounds) ListTrays(ctx context.Context, in *TraysIn) (client.Trays, error) {
	out := client.Trays{Trays: []client.TrayRow{}}
	rows, p, err := v.store.Trays(ctx, "", in.Open, in.After, in.Size)
	if err != nil {
		return out, err
	}
	for _, r := range rows {
		t, err := v.readTray(ctx, r)
		if err != nil {
			return out, err
		}
		one, err := v.trayRow(ctx, t)
		if err != nil {
			return out, err
		}
		out.Trays = append(out.Trays, one)
	}
	out.Paged = frame.Paged(p)
	return out, nil
}

// aTray is a tray as its events and its runs add up.
type aTray struct {
	store.Tray
	*tray.State
	runs map[string]tray.Run
	rows map[string]store.Run
}

func (v *Rounds) readTray(ctx context.Context, r store.Tray) (*aTray, error) {
	events, err := v.store.TrayEvents(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	s, err := tray.Fold(events)
	if err != nil {
		return nil, core.Fail(core.BadFile, "tray %s cannot be read: %w", r.ID, err)
	}
	t := &aTray{r, s, map[string]tray.Run{}, map[string]store.Run{}}
	var ids []string
	for _, p := range s.Places {
		if p.Run != "" {
			ids = append(ids, p.Run)
		}
	}
	rows, err := v.store.RunsBy(ctx, ids)
	for _, x := range rows {
		t.rows[x.ID] = x
		t.runs[x.ID] = tray.Run{State: x.State, Outcome: run.Outcome(x.Outcome), View: x.Brief().View}
	}
	return t, err
}

func (v *Rounds) trayRow(ctx context.Context, t *aTray) (out client.TrayRow, err error) {
	out = client.TrayRow{ID: t.ID, Bench: t.BenchName, Model: t.Model, Release: t.Firmware, Version: t.Version, Job: t.Job, Reason: t.Opened.Why, At: t.Tray.At,
		Closed: frame.TimeOf(t.Tray.Closed), Units: len(t.Places), Count: map[string]int{}}
	for _, p := range t.Places {
		out.Count[p.Stands(t.runs)]++
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	out.By = names[t.Tray.By]
	benches, err := v.store.Benches(ctx)
	if err != nil {
		return out, err
	}
	for _, b := range benches {
		if b.ID == t.Bench {
			out.Online = v.Links.Online(b.Seen, b.Revoked)
		}
	}
	sheet, err := v.store.Sheet(ctx, t.Model)
	if err == nil {
		out.ModelName = sheet.Name.In("en")
	}
	return out, err
}

type newTrayIn struct{ Body client.NewTray }

// openTray opens a tray: its units, its links, its rules. Nothing is changed by that; the
// bench asks who is on the links, and whoever belongs to it is begun.
func (v *Rounds) openTray(ctx context.Context, in *newTrayIn) (client.Tray, error) {
	b := in.Body
	sheet, err := v.store.Sheet(ctx, b.Model)
	if err != nil {
		return client.Tray{}, err
	}
	r, err := v.Units.ReleaseFor(ctx, store.Unit{Model: b.Model}, b.Release)
	if err != nil {
		return client.Tray{}, err
	}
	if len(sheet.Holds) > 0 || sheet.Links() != nil {
		return client.Tray{}, core.Fail(core.NotAllowed, "a unit of model %s is on several links, or holds others; a tray has one link for each unit", b.Model).Do("Put the release in one by one.")
	}
	now, by := v.clock.Now(), frame.Who(ctx).Person.ID
	t := store.Tray{ID: store.NewID(), Model: b.Model, Firmware: r.ID, Job: b.Job, By: by, At: now}
	o := tray.Opened{Tray: t.ID, Model: b.Model, Release: r.ID, Version: r.Version, Units: []tray.Unit{}, Any: b.Any, Alone: b.Alone, Stop: b.Stop, Waive: b.Waive, Why: strings.TrimSpace(b.Reason)}
	var links []string
	for _, at := range b.Links {
		p, err := v.Links.Find(ctx, at)
		switch {
		case err != nil && core.KindOf(err) != core.NotAnswering: // one that is not plugged in may still come
			return client.Tray{}, err
		case p.Slot != "":
			return client.Tray{}, core.Fail(core.NotUnderstood, "%s is a place behind a link; a tray has whole links", at)
		case t.Bench != "" && t.Bench != p.Bench:
			return client.Tray{}, core.Fail(core.NotAllowed, "link %s is on another bench than the rest; one bench works on a tray", p.FullName()).Do("Open a tray for each bench.")
		case slices.Contains(o.Links, p.FullName()):
			continue
		}
		t.Bench = p.Bench
		o.Links, links = append(o.Links, p.FullName()), append(links, p.Name)
	}
	if o.Units, err = v.trayUnits(ctx, b, r.Version); err != nil {
		return client.Tray{}, err
	}
	if b.InOrder && (len(o.Units) != len(b.Units) || len(b.Units) > len(o.Links)) {
		return client.Tray{}, core.Fail(core.NotUnderstood, "%d units cannot be on %d links in this order: name each unit once, and a link for each", len(b.Units), len(o.Links)).Unit("nothing was changed").Do("Leave the order out, or name them all.")
	}
	var own *store.Job
	var scope []store.JobUnit
	if b.Job != 0 {
		j, err := v.Units.OpenJob(ctx, b.Job)
		if err != nil {
			return client.Tray{}, err
		}
		o.Why = j.Reason
	} else {
		if len(o.Why) < 3 {
			return client.Tray{}, core.Fail(core.NotUnderstood, "a tray wants a reason: what was ordered, and why").Unit("nothing was changed").Do("Say why, or name a job.")
		}
		own = &store.Job{Reason: o.Why, Asked: strings.TrimSpace(b.Asked), Test: strings.TrimSpace(b.Test), By: by, At: now.UTC()}
		for _, u := range o.Units {
			scope = append(scope, store.JobUnit{Unit: u.Unit, By: by, At: now.UTC()})
		}
	}
	if err := v.store.OpenTray(ctx, t, links, own, scope, func(job uint64) ([]tray.Event, error) {
		o.Job = job
		e, err := v.trayEvent(0, by, tray.KindOpened, o)
		events := []tray.Event{e}
		for i, u := range o.Units {
			if err != nil || !b.InOrder {
				break
			}
			e, err = v.trayEvent(uint64(i+1), by, tray.KindPut, tray.Put{Link: o.Links[i], Unit: &u})
			events = append(events, e)
		}
		return events, err
	}); err != nil {
		return client.Tray{}, err
	}
	return v.getTray(ctx, &TrayPath{t.ID})
}

// trayUnits are the units that a tray expects: those that are named, those of a site, those that are
// due its release, those of its job.
func (v *Rounds) trayUnits(ctx context.Context, b client.NewTray, version string) ([]tray.Unit, error) {
	all := []tray.Unit{}
	add := func(u store.Unit) {
		x := tray.Unit{Unit: u.ID, Serial: u.Serial}
		if !slices.Contains(all, x) {
			all = append(all, x)
		}
	}
	var unknown []string
	for _, name := range b.Units {
		u, err := v.store.Unit(ctx, name)
		if core.KindOf(err) == core.NotFound {
			unknown = append(unknown, name)
			continue
		}
		if err != nil {
			return nil, err
		}
		if u.Model != b.Model {
			return nil, core.Fail(core.WrongUnit, "%s is a %s; the tray is for %s", u.Serial, u.Model, b.Model).Unit("nothing was changed").Do("Leave it out, or open a tray for its model.")
		}
		add(u)
	}
	if len(unknown) > 0 {
		return nil, core.Fail(core.NotFound, "not in the register: %s", strings.Join(unknown, ", ")).Unit("nothing was changed").Go(words.UnitAdd().To("Look at the serials again, or enter them"))
	}
	if site := strings.TrimSpace(b.Site); site != "" || b.Behind {
		q := store.UnitQuery{Model: b.Model, Site: site, Size: mostTray}
		if b.Behind {
			waits, err := v.Units.JudgeNow(ctx, b.Model)
			if err != nil {
				return nil, err
			}
			if waits {
				return nil, core.Fail(core.Busy, "something has changed on which it hangs which units of model %s are due %s, and they are being judged by it", b.Model, version).
					Unit("nothing was changed").Do("Open the tray in some seconds, or name its units.")
			}
			q.Due = version
		}
		rows, p, err := v.store.Units(ctx, q)
		if err != nil {
			return nil, err
		}
		switch {
		case p.Total <= mostTray && p.Total > 0:
		case b.Behind && site == "":
			return nil, core.Fail(core.NotUnderstood, "%d units of model %s are due %s; a tray has 1 to %d", p.Total, b.Model, version, mostTray).Unit("nothing was changed").
				Go(words.UnitsBehind(b.Model).To("See who is behind, and what each is due"))
		case b.Behind:
			return nil, core.Fail(core.NotUnderstood, "%d units of model %s at %q are due %s; a tray has 1 to %d", p.Total, b.Model, site, version, mostTray).Unit("nothing was changed").
				Go(words.UnitsBehind(b.Model).To("See who is behind, and what each is due"))
		default:
			return nil, core.Fail(core.NotUnderstood, "the register has %d units of model %s at %q; a tray has 1 to %d", p.Total, b.Model, site, mostTray)
		}
		for _, u := range rows {
			add(u)
		}
	}
	if b.Job != 0 && len(all) == 0 {
		scope, err := v.store.Scope(ctx, b.Job)
		if err != nil {
			return nil, err
		}
		for _, x := range scope {
			u, err := v.store.Unit(ctx, x.Unit)
			if err != nil {
				return nil, err
			}
			if x.Part == "" && !x.LeftOut && u.Model == b.Model {
				add(u)
			}
		}
	}
	if len(all) == 0 && !b.Any {
		return nil, core.Fail(core.NotUnderstood, "a tray wants units: by serial, of a site, of a job, or whatever is plugged in").Unit("nothing was changed").Do("Name them.")
	}
	return all, nil
}

// mostTray is how many units a tray has at most.
const mostTray = 500

func (v *Rounds) trayEvent(after uint64, by, kind string, body any) (tray.Event, error) {
	raw, err := json.Marshal(body)
	return tray.Event{N: after + 1, At: v.clock.Now().UnixMicro(), By: by, Kind: kind, Body: raw}, err
}

// TrayPath is a tray in a path.
type TrayPath struct {
	Tray string `path:"tray" maxLength:"64"`
}

func (v *Rounds) theTray(ctx context.Context, id string) (*aTray, error) {
	r, err := v.store.Tray(ctx, id)
	if err != nil {
		return nil, err
	}
	return v.readTray(ctx, r)
}

func (v *Rounds) getTray(ctx context.Context, in *TrayPath) (out client.Tray, err error) {
	t, err := v.theTray(ctx, in.Tray)
	if err != nil {
		return out, err
	}
	if out, err = v.showTray(ctx, t); err == nil {
		out.Tree, err = v.Evidence.NewestTree(ctx)
	}
	return out, err
}

// printTray is the sheet of a tray.
func (v *Rounds) printTray(ctx context.Context, in *TrayPath) (*frame.File, error) {
	t, err := v.getTray(ctx, in)
	if err != nil {
		return nil, err
	}
	pdf, err := paper.Tray(t, v.clock.Now())
	return &frame.File{ContentType: "application/pdf", Body: pdf}, err
}

type labelsIn struct {
	TrayPath
	On string `query:"on" enum:"roll,sheet" default:"roll" doc:"A label printer's roll, 62 by 29 mm, or A4 sheets of 24 labels."`
}

// printLabels are the labels of the units of a tray that run its release.
func (v *Rounds) printLabels(ctx context.Context, in *labelsIn) (*frame.File, error) {
	t, err := v.getTray(ctx, &in.TrayPath)
	if err != nil {
		return nil, err
	}
	pdf, err := paper.Labels(t, in.On, v.clock.Now())
	return &frame.File{ContentType: "application/pdf", Body: pdf}, err
}

func (v *Rounds) showTray(ctx context.Context, t *aTray) (out client.Tray, err error) {
	if out.TrayRow, err = v.trayRow(ctx, t); err != nil {
		return out, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	out.Any, out.Alone, out.Stop, out.Stopped, out.Closing = t.Opened.Any, t.Opened.Alone, t.Opened.Stop, t.Stopped, t.Closing
	out.Places, out.Links, out.Failures, out.Open, out.Hands = []client.TrayPlace{}, []client.TrayLink{}, numbers(t.Failures(t.runs)), numbers(t.State.Open(t.runs)), []client.TrayItem{}
	if p := t.State.Opener(t.runs); p != nil {
		out.Opener = p.N
	}
	if out.Now, out.Todo = t.Now(t.runs); !out.Online && !t.State.Closed { // nobody knows how it stands now
		out.Now = core.Say("Bench %s is not in touch with the service: what stands here is what it said last, and nobody is begun.", t.BenchName)
		out.Todo = core.Todos(words.BenchStart().To("Start it"))
	}
	if err := t.Gate(t.runs); err != nil && !t.State.Closed && (t.Stopped != "" || t.Comes(t.runs)) {
		e := core.AsError(err, core.Busy)
		out.Gate = &core.Said{ID: e.ID, Params: e.Params, Text: e.Message}
	}
	for _, p := range t.Places {
		out.Places = append(out.Places, t.place(p, names))
	}
	if err := v.trayHands(ctx, t, &out); err != nil {
		return out, err
	}
	places, err := v.store.PlacesAt(ctx, t.Opened.Links...)
	for _, at := range t.Opened.Links {
		l := client.TrayLink{Link: at}
		if m, ok := t.Met[at]; ok {
			seen := time.UnixMicro(m.At).UTC()
			l.Says, l.Seen = &m.Why, &seen
		}
		for _, x := range places {
			if x.At() != at {
				continue
			}
			l.Absent = x.Absent
			if p := t.Find(x.Unit.String); p != nil && x.Unit.Valid {
				l.Place = p.N
			}
		}
		if on, ok := t.On[at]; ok {
			l.Place = t.Find(on.Unit).N
		}
		if l.Place == 0 && l.Says == nil && !v.mayAsk(ctx, t.Model) {
			said := core.Say("A unit of this model cannot be asked who it is: say which one is on the link.")
			l.Says = &said
		}
		out.Links = append(out.Links, l)
	}
	return out, err
}

// mayAsk tells whether a bench can ask units of a model who they are at any time.
func (v *Rounds) mayAsk(ctx context.Context, name string) bool {
	sheet, err := v.store.Sheet(ctx, name)
	return err == nil && visit.Answers(sheet.Main())
}

func numbers(all []*tray.Place) []int {
	out := []int{}
	for _, p := range all {
		out = append(out, p.N)
	}
	return out
}

// place is how a place stands, in words.
func (t *aTray) place(p *tray.Place, names map[string]string) client.TrayPlace {
	out := client.TrayPlace{N: p.N, Unit: p.Unit.Unit, Serial: p.Unit.Serial, Link: p.Link, State: p.Stands(t.runs), Run: p.Run, By: names[p.By]}
	if p.At > 0 {
		at := time.UnixMicro(p.At).UTC()
		out.Changed = &at
	}
	row, ran := t.rows[p.Run]
	brief := row.Brief()
	view := brief.View
	if ran {
		out.From, out.Step = brief.From, view.At
	}
	switch out.State {
	case tray.NotSeen:
		if t.Gate(t.runs) != nil {
			out.Says = core.Say("Not seen yet; just now nobody is begun.")
			break
		}
		out.Says = core.Say("Plug it in, and it is begun after checks of its own.")
	case tray.Current:
		out.Says = core.Say("It runs %s already, and says so itself. Nothing was written.", t.Version)
		if !p.Right {
			out.Says = view.Sentence
		}
	case tray.Again:
		if out.Says = core.Say("It may be begun once more: plug it in."); t.Gate(t.runs) != nil {
			out.Says = core.Say("It may be begun once more, when the tray goes on.")
		}
	case tray.LeftOut:
		out.Says = core.Say("Left out: %s", p.Left)
	case tray.Waits:
		out.Says, out.Hands = core.Said{Text: view.Hands.Says}, view.Hands
	case tray.AtWork, tray.HandsOff:
		out.Says, out.Done, out.Total, out.Touch = view.Sentence, view.Done, view.Total, view.Touch
	case tray.Barred:
		if p.Refuse != nil {
			out.Says = p.Refuse.Why
			break
		}
		fallthrough
	default:
		out.Says = view.Sentence
		if f := brief.Fault; f != nil && out.State != tray.IsDone && out.State != tray.NotProven {
			out.Says = core.Said{ID: f.ID, Params: f.Params, Text: f.Message}
		}
	}
	return out
}

// trayHands says what hands are wanted, and which first.
func (v *Rounds) trayHands(ctx context.Context, t *aTray, out *client.Tray) error {
	for _, p := range t.Places {
		if p.Stands(t.runs) != tray.Waits {
			continue
		}
		view := t.runs[p.Run].View
		i := slices.IndexFunc(out.Hands, func(x client.TrayItem) bool { return x.Turn == view.Turn && x.Says == view.Hands.Says })
		if i < 0 {
			i = len(out.Hands)
			out.Hands = append(out.Hands, client.TrayItem{Says: view.Hands.Says, Turn: view.Turn})
		}
		out.Hands[i].Waits = append(out.Hands[i].Waits, p.N)
	}
	slices.SortStableFunc(out.Hands, func(a, b client.TrayItem) int { return a.Turn - b.Turn })
	p := t.Hand(t.runs)
	if p == nil {
		return nil
	}
	s, err := v.Units.Folded(ctx, p.Run) // rows do not keep the item itself
	if err != nil {
		return err
	}
	if view := s.View(); view.Hands != nil {
		out.Hand = &client.TrayHand{Place: p.N, Run: p.Run, Hands: *view.Hands, Item: view.Item, Turn: view.Turn, Turns: view.Turns, Back: view.Back}
	}
	return nil
}

type trayStepIn struct {
	TrayPath
	Body client.TrayStep
}

// stepTray takes a person's word about a tray.
func (v *Rounds) stepTray(ctx context.Context, in *trayStepIn) (client.Tray, error) {
	t, err := v.theTray(ctx, in.Tray)
	if err != nil {
		return client.Tray{}, err
	}
	b := in.Body
	b.Reason = strings.TrimSpace(b.Reason)
	if t.State.Closed {
		return client.Tray{}, core.Fail(core.NotAllowed, "the tray is closed").Unit("nothing was changed").Do("Open another one.")
	}
	if b.Do == "next" {
		err = v.trayNext(ctx, t, b)
	} else {
		err = v.trayNamed(ctx, t, b)
	}
	if err != nil {
		return client.Tray{}, err
	}
	return v.getTray(ctx, &in.TrayPath)
}

// trayNext takes a person's word that the next unit is on a link. The bench then asks who it
// is; one that is told by its label alone is begun as what the person says, and its run asks.
func (v *Rounds) trayNext(ctx context.Context, t *aTray, b client.TrayStep) error {
	if b.Link == "" && len(t.Opened.Links) == 1 {
		b.Link = t.Opened.Links[0]
	}
	if !slices.Contains(t.Opened.Links, b.Link) {
		return core.Fail(core.NotUnderstood, "%q is not a link of this tray; it has %s", b.Link, strings.Join(t.Opened.Links, ", "))
	}
	if t.Busy(b.Link, t.runs) {
		return core.Fail(core.Busy, "a run of this tray is at work on %s", b.Link).Unit("nothing was changed").Do("Wait for it.")
	}
	put := tray.Put{Link: b.Link}
	if b.Unit != "" {
		u, err := v.store.Unit(ctx, b.Unit)
		if err != nil {
			return err
		}
		put.Unit = &tray.Unit{Unit: u.ID, Serial: u.Serial}
		if u.Model != t.Model {
			return core.Fail(core.WrongUnit, "%s is a %s; the tray is for %s", u.Serial, u.Model, t.Model).Unit("nothing was changed").Do("Leave it out, or open a tray for its model.")
		}
		if err := t.May(*put.Unit, t.runs); err != nil && core.KindOf(err) != core.Busy {
			return err
		}
	}
	return v.trayPut(ctx, t, frame.Who(ctx).Person.ID, tray.KindPut, put)
}

func (v *Rounds) trayPut(ctx context.Context, t *aTray, by, kind string, body any) error {
	e, err := v.trayEvent(t.N, by, kind, body)
	if err != nil {
		return err
	}
	return v.store.AddTrayEvent(ctx, t.ID, e, nil)
}

// trayNamed takes a person's word about one unit, or about the whole tray.
func (v *Rounds) trayNamed(ctx context.Context, t *aTray, b client.TrayStep) error {
	n := tray.Named{Reason: b.Reason}
	kind := map[string]string{"leave": tray.KindLeft, "again": tray.KindAgain, "stop": tray.KindStopped, "go-on": tray.KindGoesOn, "close": tray.KindClosed}[b.Do]
	by := frame.Who(ctx).Person.ID
	if b.Do == "leave" || b.Do == "again" {
		i := slices.IndexFunc(t.Places, func(p *tray.Place) bool { return p.Unit.Unit == b.Unit || strings.EqualFold(p.Unit.Serial, b.Unit) })
		if i < 0 {
			return core.Fail(core.NotFound, "%q is not on this tray", b.Unit).Unit("nothing was changed")
		}
		p := t.Places[i]
		n.Unit = p.Unit.Unit
		switch st := p.Stands(t.runs); {
		case st == tray.AtWork || st == tray.HandsOff || st == tray.Waits:
			return core.Fail(core.Busy, "%s is at work", p.Unit.Serial).Unit("nothing was changed").Do("Wait for its run, or stop that.")
		case b.Do == "again" && (st == tray.IsDone || st == tray.Current):
			return core.Fail(core.NotAllowed, "%s is done: a tray does nobody twice", p.Unit.Serial).Unit("nothing was changed").Do("Put the release in once more by a run of its own.")
		case b.Do == "again" && st == tray.HalfDone:
			return core.Fail(core.Busy, "the run of %s is interrupted and still open", p.Unit.Serial).Unit("half done").Do("Go on with that run, or give it up.")
		}
	}
	if b.Do != "close" && len(b.Reason) < 3 {
		return core.Fail(core.NotUnderstood, "this wants a reason").Unit("nothing was changed").Do("Say why.")
	}
	if b.Do == "go-on" {
		if err := t.Gate(t.runs); err == nil {
			return core.Fail(core.NotAllowed, "nothing stops the tray").Do("Plug in the next one.")
		}
		for _, p := range t.Failures(t.runs) {
			n.Over = append(n.Over, p.Unit.Unit)
		}
	}
	e, err := v.trayEvent(t.N, by, kind, n)
	if err != nil {
		return err
	}
	var ends *store.Job
	if b.Do == "close" {
		if err := t.Close(b.Reason, t.runs); err != nil {
			return err
		}
		if ends, err = v.trayEnds(ctx, t, b.Reason); err != nil {
			return err
		}
	}
	return v.store.AddTrayEvent(ctx, t.ID, e, ends)
}

// trayEnds is the job that ends with a tray: one whose units are all done, or that is closed
// with a reason.
func (v *Rounds) trayEnds(ctx context.Context, t *aTray, reason string) (*store.Job, error) {
	j, err := v.store.Job(ctx, t.Job)
	if err != nil || j.Closed.Valid {
		return nil, err
	}
	page, err := v.Units.GetJob(ctx, &units.JobPath{Job: j.Number})
	if err != nil || page.Open > 0 && reason == "" {
		return nil, err
	}
	j.Closer, j.Closing = frame.Who(ctx).Person.ID, cmp.Or(reason, fmt.Sprintf("closed with its tray, %s %s", t.Model, t.Version))
	j.Closed = sql.NullTime{Time: v.clock.Now().UTC(), Valid: true}
	return &j, nil
}

// trayBegin opens the run of a tray's unit, in the name of the person whose context it is. What
// stops it is put down in the unit's place; that something is busy is not.
func (v *Rounds) trayBegin(ctx context.Context, t *aTray, p links.Place, u store.Unit, label string) error {
	by := frame.Who(ctx).Person.ID
	x := tray.Unit{Unit: u.ID, Serial: u.Serial}
	if t.Opened.Any && t.Find(u.ID) == nil {
		j, err := v.Units.OpenJob(ctx, t.Job)
		if err == nil {
			err = v.store.ChangeJob(ctx, j, []store.JobUnit{{Unit: u.ID, By: by, At: v.clock.Now().UTC()}})
		}
		if err != nil {
			return err
		}
	}
	a, err := v.Runs.AskedOf(ctx, client.NewRun{Kind: run.Flash, At: p.FullName(), Release: t.Firmware, Label: label, Job: t.Job, Waive: t.Opened.Waive, Reason: t.Opened.Why}, u, p)
	if err == nil {
		err = v.Runs.Begin(ctx, a, func(ctx context.Context, r store.Run, links, uses []string, order store.Order) error {
			e, err := v.trayEvent(t.N, by, tray.KindBegan, tray.Began{Unit: x, Link: p.FullName(), Run: r.ID})
			if err != nil {
				return err
			}
			return v.store.OpenRunOn(ctx, t.ID, e, r, links, uses, order)
		})
	}
	switch kind := core.KindOf(err); {
	case err == nil || kind == core.Busy || kind == "" || kind == core.NotAnswering:
		return err
	}
	e := core.AsError(err, core.NotAllowed)
	if err := v.trayPut(ctx, t, by, tray.KindRefused, tray.Refused{Unit: x, Link: p.FullName(), Kind: e.Kind, Why: core.Said{ID: e.ID, Params: e.Params, Text: e.Message}}); err != nil {
		return err
	}
	return e
}

type traySeenIn struct {
	TrayPath
	RawBody []byte
}

// traySeen takes a bench's word of who is on a link of a tray, and begins that unit's run if
// it may begin, in the name of the person who opened the tray.
func (v *Rounds) traySeen(ctx context.Context, in *traySeenIn) (out client.TrayTold, err error) {
	seen, err := frame.Decode[client.TraySeen](in.RawBody)
	if err != nil {
		return out, err
	}
	for try := 0; ; try++ {
		out, err = v.traySaw(ctx, in.Tray, seen)
		if !errors.Is(err, store.ErrTrayMoved) || try == 10 { // two may be seen at once
			return out, err
		}
	}
}

func (v *Rounds) traySaw(ctx context.Context, id string, seen client.TraySeen) (out client.TrayTold, err error) {
	t, err := v.theTray(ctx, id)
	if err != nil {
		return out, err
	}
	at := t.BenchName + "/" + seen.Link
	if t.Bench != frame.Who(ctx).Bench || !slices.Contains(t.Opened.Links, at) {
		return out, core.Fail(core.NotAllowed, "this tray is not at this bench, or the link is not one of the tray's")
	}
	if _, put := t.On[at]; seen.Result.Found == nil && seen.Result.Error == nil && !put {
		return out, core.Fail(core.NotUnderstood, "nobody answered, and nobody has said who is there")
	}
	if t.Gate(t.runs) != nil || t.Busy(at, t.runs) {
		return out, nil
	}
	person, err := v.store.Person(ctx, t.Tray.By)
	if err != nil {
		return out, err
	}
	ctx = frame.As(ctx, frame.Caller{Person: person})
	err = v.traySeat(ctx, t, at, seen.Result)
	switch kind := core.KindOf(err); {
	case errors.Is(err, store.ErrTrayMoved):
		return out, err
	case kind == core.Busy || kind == core.NotAnswering:
		return out, nil
	case err != nil && kind == "":
		return out, err
	}
	out.Settled = true
	return out, nil
}

// traySeat finds out who it is, and begins it or says why not.
func (v *Rounds) traySeat(ctx context.Context, t *aTray, at string, result client.Result) error {
	p, err := v.Links.Find(ctx, at)
	if err != nil {
		return err
	}
	on := t.On[at]
	id := client.Identity{Unit: on.Unit, Serial: on.Serial, Model: t.Model}
	switch {
	case result.Error != nil:
		err = result.Error.Err()
	case result.Found != nil:
		id, err = v.Links.Welcome(ctx, p, result, on.Serial, false)
	default:
		err = v.store.OnLink(ctx, p.Bench, p.Name, "", on.Unit, t.Model, v.clock.Now())
	}
	switch {
	case err != nil:
	case id.Model != t.Model:
		err = core.Fail(core.WrongUnit, "a %s is on %s; the tray is for %s", id.Model, at, t.Model).Unit("nothing was changed").Do("Plug in the next one.")
	case id.Unit == "":
		err = core.Fail(core.CannotTell, "a unit is on %s that does not tell its serial", at).Unit("nothing was changed").Do("Say which one it is: read its label.")
	default:
		err = t.May(tray.Unit{Unit: id.Unit, Serial: id.Serial}, t.runs)
	}
	if err == nil {
		u, err := v.store.Unit(ctx, id.Unit)
		if err != nil {
			return err
		}
		if p, err = v.Links.Find(ctx, at); err != nil {
			return err
		}
		if result.Found != nil {
			right, err := v.trayRight(ctx, t, u)
			if err != nil {
				return err
			}
			if right {
				return v.trayPut(ctx, t, frame.Who(ctx).Person.ID, tray.KindCurrent, tray.Seen{Unit: tray.Unit{Unit: u.ID, Serial: u.Serial}, Link: at})
			}
		}
		return v.trayBegin(ctx, t, p, u, on.Serial)
	}
	e := core.AsError(err, "")
	if e.Kind == "" || e.Kind == core.Busy || t.Met[at].Why.Text == e.Message {
		return err
	}
	if err := v.trayPut(ctx, t, frame.Who(ctx).Person.ID, tray.KindMet, tray.Met{Link: at, Why: core.Said{ID: e.ID, Params: e.Params, Text: e.Message}}); err != nil {
		return err
	}
	return e
}

// trayRight tells whether a unit that was just asked runs the tray's release, and nothing is
// open with it: then no hand is moved for it.
func (v *Rounds) trayRight(ctx context.Context, t *aTray, u store.Unit) (bool, error) {
	if u.State != store.UnitDone && u.State != store.UnitKnown || u.Owed != "" && u.Owed != "[]" {
		return false, nil
	}
	j, err := v.Units.Judge(ctx, u)
	if err != nil {
		return false, err
	}
	x := j.On(t.Firmware)
	return x != nil && x.Answer == fit.Fits && x.Current, nil
}

// mostTrays is how many open trays of a bench are told of.
const mostTrays = 50

// BenchTrays are the trays of a bench that may begin a unit now, with the links on which it
// asks who is there.
func (v *Rounds) BenchTrays(ctx context.Context, bench string) (out []client.BenchTray, err error) {
	rows, _, err := v.store.Trays(ctx, bench, true, "", mostTrays)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	stays, err := v.store.HalfDone(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		t, err := v.readTray(ctx, r)
		if err != nil {
			return nil, err
		}
		if t.Gate(t.runs) != nil || !t.Comes(t.runs) {
			continue
		}
		b := client.BenchTray{ID: t.ID, Model: t.Model, Stays: stays, Marks: map[string]uint64{}}
		for _, at := range t.Opened.Links {
			if !t.Busy(at, t.runs) {
				_, name, _ := strings.Cut(at, "/")
				b.Marks[name] = t.Marks[at]
				if _, put := t.On[at]; put {
					b.Put = append(b.Put, name)
				}
			}
		}
		out = append(out, b)
	}
	return out, nil
}

package units

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/fit"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

type holdsIn struct {
	frame.PageIn
	Model string `query:"model" maxLength:"63"`
}

func (v *Units) listHolds(ctx context.Context, in *holdsIn) (client.Holds, error) {
	out := client.Holds{Holds: []client.Hold{}}
	rows, p, err := v.store.HoldsPage(ctx, in.Model, v.clock.Now(), in.After, in.Size)
	if err != nil {
		return out, err
	}
	var ids []string
	for _, h := range rows {
		ids = append(ids, h.Unit)
	}
	units, err := v.store.UnitsBy(ctx, ids)
	if err != nil {
		return out, err
	}
	serials := map[string]string{}
	for _, u := range units {
		serials[u.ID] = u.Serial
	}
	names, err := v.store.Names(ctx)
	for _, h := range rows {
		one := oneHold(h, names)
		one.Serial = serials[h.Unit]
		out.Holds = append(out.Holds, one)
	}
	out.Paged = frame.Paged(p)
	return out, err
}

func oneHold(h store.Hold, names map[string]string) client.Hold {
	out := client.Hold{Unit: h.Unit, Model: h.Model, Revision: h.Revision, Release: h.Firmware, Version: h.Version, Reason: h.Reason, By: names[h.By], At: h.At}
	if h.Until.Valid {
		out.Until = h.Until.Time.UTC().Format(time.DateOnly)
	}
	return out
}

// holdOf is what holds a unit; what was said of the unit itself goes before what was
// said of its model and revision.
func holdOf(holds []store.Hold, u store.Unit) (found store.Hold, ok bool) {
	for _, h := range holds {
		switch {
		case h.Unit == u.ID:
			return h, true
		case h.Unit == "" && h.Model == u.Model && h.Revision != "" && h.Revision == u.Revision:
			found, ok = h, true
		}
	}
	return found, ok
}

// heldSays is a hold in words.
func heldSays(h client.Hold) string {
	s := h.Version + ", " + h.Reason + " (" + h.By + ", " + h.At.UTC().Format(time.DateOnly)
	if h.Until != "" {
		s += ", until " + h.Until
	}
	return s + ")."
}

// Until reads the last day of something; empty is the given time.
func (v *Units) Until(day string, otherwise sql.NullTime) (sql.NullTime, error) {
	if day == "" {
		return otherwise, nil
	}
	d, err := v.Day(day)
	if err != nil {
		return otherwise, err
	}
	if !d.After(v.clock.Now()) {
		return otherwise, core.Fail(core.NotUnderstood, "%s is over already", day)
	}
	return sql.NullTime{Time: d, Valid: true}, nil
}

type newHoldIn struct{ Body client.NewHold }

func (v *Units) putHold(ctx context.Context, in *newHoldIn) (client.Hold, error) {
	b := in.Body
	h, of, err := v.heldThing(ctx, b.Unit, b.Model, b.Revision)
	if err != nil {
		return client.Hold{}, err
	}
	r, err := v.store.ReleaseOf(ctx, h.Model, b.Version)
	if err != nil {
		return client.Hold{}, err
	}
	if r.Withdrawn != nil {
		return client.Hold{}, core.Fail(core.DoesNotFit, "release %s was withdrawn: %s", r.Version, r.Withdrawn.Reason).Do("Choose another one.")
	}
	if err := v.couldHave(ctx, of, r.Version); err != nil {
		return client.Hold{}, err
	}
	h.ID, h.Firmware, h.Version, h.Reason, h.By, h.At = store.NewID(), r.ID, r.Version, strings.TrimSpace(b.Reason), frame.Who(ctx).Person.ID, v.clock.Now().UTC()
	if h.Until, err = v.Until(b.Until, sql.NullTime{}); err != nil {
		return client.Hold{}, err
	}
	out := oneHold(h, map[string]string{h.By: frame.Who(ctx).Person.Name})
	out.Serial = of.Serial
	says := "held at " + r.Version + ": " + h.Reason
	if out.Until != "" {
		says += ", until " + out.Until
	}
	return out, v.store.PutHold(ctx, v.key, h, says)
}

// couldHave says why a unit could never have a release, by what it is and whatever it runs: at
// such a one it is not held. Of a model and revision nothing is asked.
func (v *Units) couldHave(ctx context.Context, u store.Unit, version string) error {
	if u.ID == "" {
		return nil
	}
	j, err := v.Judge(ctx, u)
	if err != nil {
		return err
	}
	for _, x := range j.Verdicts {
		for _, r := range x.Reasons {
			if x.Version == version && !x.Current && r.Answer == fit.DoesNotFit && slices.Contains([]string{fit.RuleModel, fit.RuleValue, fit.RuleMemory, fit.RuleRegion, fit.RuleFlaw}, r.Rule) {
				return core.Fail(core.DoesNotFit, "release %s does not fit %s, so it cannot be held at it: %s", version, u.Serial, strings.TrimSuffix(r.Text, ".")).Go(words.Fit(u.Serial).To("See which fit"))
			}
		}
	}
	return nil
}

// heldThing finds what is to be held: a unit, or a model and revision.
func (v *Units) heldThing(ctx context.Context, unit, modelName, revision string) (h store.Hold, u store.Unit, err error) {
	if unit != "" {
		u, err = v.store.Unit(ctx, unit)
		return store.Hold{Unit: u.ID, Model: u.Model}, u, err
	}
	sheet, err := v.store.Sheet(ctx, modelName)
	if err != nil {
		return h, u, err
	}
	if values := sheet.Facts[core.FactRevision].Values; !slices.Contains(values, revision) {
		return h, u, core.Fail(core.NotUnderstood, "%s has no revision %q; it has %s", modelName, revision, strings.Join(values, ", "))
	}
	return store.Hold{Model: modelName, Revision: revision}, u, nil
}

type holdEndIn struct{ Body client.HoldEnd }

func (v *Units) endHold(ctx context.Context, in *holdEndIn) (frame.None, error) {
	h, _, err := v.heldThing(ctx, in.Body.Unit, in.Body.Model, in.Body.Revision)
	if err != nil {
		return frame.None{}, err
	}
	says := "held no longer"
	if r := strings.TrimSpace(in.Body.Reason); r != "" {
		says += ": " + r
	}
	return frame.None{}, v.store.EndHold(ctx, v.key, h, frame.Who(ctx).Person.ID, says, v.clock.Now())
}

// consentLasts is how long a lead's consent holds where no end is said.
const consentLasts = 7 * 24 * time.Hour

type newConsentIn struct {
	frame.UnitPath
	Body client.NewConsent
}

func (v *Units) consent(ctx context.Context, in *newConsentIn) (client.Consent, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.Consent{}, err
	}
	now := v.clock.Now().UTC()
	end, err := v.Until(in.Body.Until, sql.NullTime{Time: now.Add(consentLasts), Valid: true})
	if err != nil {
		return client.Consent{}, err
	}
	c := store.Consent{ID: store.NewID(), Unit: u.ID, What: in.Body.For, Reason: strings.TrimSpace(in.Body.Reason), By: frame.Who(ctx).Person.ID, At: now, Until: end.Time.UTC()}
	says := words.Permits.In(c.What) + ": " + c.Reason + ", until " + c.Until.Format(time.DateOnly)
	return oneConsent(c, map[string]string{c.By: frame.Who(ctx).Person.Name}), v.store.PutConsent(ctx, v.key, c, says)
}

func oneConsent(c store.Consent, names map[string]string) client.Consent {
	return client.Consent{For: c.What, Reason: c.Reason, By: names[c.By], At: c.At, Until: c.Until}
}

// Consents are those of a unit, for its page and for admission.
func (v *Units) Consents(ctx context.Context, unit string) ([]store.Consent, []admit.Consent, error) {
	rows, err := v.store.Consents(ctx, unit, v.clock.Now())
	var all []admit.Consent
	for _, c := range rows {
		all = append(all, admit.Consent{For: c.What, By: c.By, Reason: c.Reason})
	}
	return rows, all, err
}

// OwedTo reads what earlier runs have handed on to a unit.
func OwedTo(u store.Unit) (all []run.Obligation, err error) {
	if u.Owed == "" {
		return nil, nil
	}
	err = json.Unmarshal([]byte(u.Owed), &all)
	return all, err
}

// OpenTests are the finishing tests that a unit has still to pass.
func OpenTests(u store.Unit, names map[string]string, now time.Time) []client.OpenTest {
	out := []client.OpenTest{}
	all, _ := OwedTo(u) // what cannot be read is told where a run is opened
	for _, o := range all {
		if o.Kind != run.OweTest || o.State == run.OweDischarged {
			continue
		}
		out = append(out, client.OpenTest{Unit: u.ID, Serial: u.Serial, Site: u.Site, Item: o.Item, Says: o.Says, State: o.State, Whose: o.Whose, Due: o.Due,
			Late: o.Due != "" && now.UTC().Format(time.DateOnly) > o.Due, By: names[o.By], Reason: o.Reason, Since: time.UnixMicro(o.Since).UTC(), Run: o.Run})
	}
	return out
}

type testIn struct {
	frame.UnitPath
	Body client.TestAnswer
}

// answerTest takes the answer to a finishing test that an earlier run left open.
func (v *Units) answerTest(ctx context.Context, in *testIn) (client.UnitPage, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.UnitPage{}, err
	}
	if u.Run.Valid {
		return client.UnitPage{}, core.Fail(core.Busy, "unit %s has an open run, %s, which asks it itself", u.Serial, u.Run.String).Go(words.RunShow(u.Run.String).To("Look at it"))
	}
	owed, err := OwedTo(u)
	if err != nil {
		return client.UnitPage{}, err
	}
	i, err := theTest(u, owed, in.Body.Item)
	if err != nil {
		return client.UnitPage{}, err
	}
	b, by := in.Body, frame.Who(ctx).Person
	a := procedure.Answer{Item: owed[i].Item, Value: b.Value, Note: strings.TrimSpace(b.Note), Whose: strings.TrimSpace(b.Whose), Due: b.Due, By: by.ID}
	if err := procedure.Judge(&model.Item{ID: a.Item, Do: model.Confirm, At: model.AtLeft, Test: true}, a); err != nil {
		return client.UnitPage{}, err
	}
	if a.Value == procedure.Elsewhere {
		if _, err := v.Until(a.Due, sql.NullTime{}); err != nil {
			return client.UnitPage{}, err
		}
	}
	says := fmt.Sprintf("%q: %s", owed[i].Says, words.Answers.In(a.Value))
	if a.Value == procedure.Elsewhere {
		says += fmt.Sprintf("; %s answers it by %s", a.Whose, a.Due)
	}
	if a.Note != "" {
		says += ". " + a.Note
	}
	return v.SeenTo(ctx, u, history.Tested, run.Answered(owed, a), says)
}

// SeenTo keeps what a unit is still owed once somebody has seen to a part of it.
func (v *Units) SeenTo(ctx context.Context, u store.Unit, kind string, owed []run.Obligation, says string) (client.UnitPage, error) {
	raw := ""
	if len(owed) > 0 {
		b, err := json.Marshal(owed)
		if err != nil {
			return client.UnitPage{}, err
		}
		raw = string(b)
	}
	state := u.State
	if record, err := v.LastChange(ctx, u.ID); err != nil {
		return client.UnitPage{}, err
	} else if record != nil && u.State != store.UnitHalfDone {
		state = store.StateOf(run.StandingAfter(record, owed, run.Standing(u.Decided)))
	}
	if err := v.store.SeeTo(ctx, v.key, kind, u, raw, state, frame.Who(ctx).Person.ID, says, v.clock.Now()); err != nil {
		return client.UnitPage{}, err
	}
	return v.GetUnit(ctx, &frame.UnitPath{Unit: u.ID})
}

// theTest finds the open test that is meant.
func theTest(u store.Unit, owed []run.Obligation, item string) (int, error) {
	found, n := -1, 0
	var all []string
	for i, o := range owed {
		if o.Kind != run.OweTest || o.State == run.OweDischarged {
			continue
		}
		all = append(all, o.Item)
		if item == "" || item == o.Item {
			found, n = i, n+1
		}
	}
	switch {
	case len(all) == 0:
		return 0, core.Fail(core.NotFound, "unit %s has no test that is still to be passed", u.Serial).Go(words.History(u.Serial).To("See what happened to it"))
	case n == 0:
		return 0, core.Fail(core.NotFound, "unit %s has no open test %q; it has %s", u.Serial, item, strings.Join(all, ", "))
	case n > 1:
		return 0, core.Fail(core.CannotTell, "unit %s has %d open tests: %s", u.Serial, n, strings.Join(all, ", ")).Do("Say which one.")
	}
	return found, nil
}

// LastChange is the record of the last run that changed a unit; nil where there is none.
func (v *Units) LastChange(ctx context.Context, unit string) (*history.Record, error) {
	runs, _, err := v.store.Runs(ctx, store.RunQuery{Unit: unit, State: store.RunClosed, Size: 50})
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		if !r.Touched {
			continue
		}
		s, err := v.Folded(ctx, r.ID)
		if err != nil || s.Closed == nil {
			return nil, err
		}
		return history.DecodeRecord(s.Closed.Record)
	}
	return nil, nil
}

type backupNameIn struct {
	frame.UnitPath
	Backup string `path:"backup" doc:"Id, or the start of its digest."`
	Body   client.BackupName
}

// nameBackup gives a backup a name by which people know it.
func (v *Units) nameBackup(ctx context.Context, in *backupNameIn) (frame.None, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return frame.None{}, err
	}
	b, err := v.BackupFor(ctx, u, in.Backup)
	if err != nil {
		return frame.None{}, err
	}
	return frame.None{}, v.store.NameBackup(ctx, b.ID, strings.TrimSpace(in.Body.Name))
}

package runs

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

// leaveLasts is how long what a second person has given leave for may be used.
const leaveLasts = 24 * time.Hour

// mostSeconds is how many requests are listed.
const mostSeconds = 100

// leave is what leads have given leave for, of the run that somebody wants to begin.
func (v *Runs) leave(ctx context.Context, a *asked) (all []admit.Consent, err error) {
	rows, err := v.store.LeaveFor(ctx, a.unit.ID, v.clock.Now())
	for _, x := range rows {
		if x.Kind != a.row.Kind || x.Firmware != a.row.Firmware.String || x.Source != a.row.Source.String {
			continue
		}
		wants, err := wantsOf(x)
		if err != nil {
			return nil, err
		}
		for _, w := range wants {
			all = append(all, admit.Consent{For: w.For, By: x.Decided.String, Reason: x.Why})
		}
	}
	return all, err
}

func wantsOf(x store.Second) (all []client.SecondWant, err error) {
	return all, json.Unmarshal([]byte(x.Wants), &all)
}

type newSecondIn struct {
	Body client.NewSecond
}

// askSecond asks the leads for leave for one run.
func (v *Runs) askSecond(ctx context.Context, in *newSecondIn) (client.Second, error) {
	u, _, err := v.Links.UnitAt(ctx, in.Body.At)
	if err != nil {
		return client.Second{}, err
	}
	kind := in.Body.Kind
	if kind == "" {
		kind = run.Flash
	}
	a, err := v.AskedOf(ctx, client.NewRun{Kind: kind, Release: in.Body.Release, Backup: in.Body.Backup, Reason: in.Body.Reason}, u, links.Place{})
	if err != nil {
		return client.Second{}, err
	}
	a.Two = true // a lead who asks wants another one
	wants, hard := wanted(a)
	if len(hard) > 0 {
		return client.Second{}, admit.Err(hard)
	}
	if len(wants) == 0 {
		return client.Second{}, core.Fail(core.NotUnderstood, "nothing about this run wants a second person").Unit("nothing was changed").Go(words.Flash(u.Serial, a.Opened.Version).To("Begin it"))
	}
	raw, err := json.Marshal(wants)
	if err != nil {
		return client.Second{}, err
	}
	x := store.Second{Unit: u.ID, Kind: kind, Firmware: a.row.Firmware.String, Source: a.row.Source.String, Version: a.Opened.Version, Wants: string(raw),
		Reason: strings.TrimSpace(in.Body.Reason), By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()}
	if x.Number, err = v.store.AskSecond(ctx, v.key, x, core.Say("Asked a lead for leave: %s. %s", whatFor(wants), x.Reason).Text); err != nil {
		return client.Second{}, err
	}
	return v.OneSecond(ctx, x, nil)
}

// whatFor names what leave is asked for.
func whatFor(wants []client.SecondWant) string {
	var all []string
	for _, w := range wants {
		if name := words.Permits[w.For]; name != "" {
			all = append(all, name)
			continue
		}
		all = append(all, words.Gates.In(w.For))
	}
	return strings.Join(all, ", ")
}

// wanted parts what a lead may give leave for from what stops the run whoever wants it. What
// only the link could tell is no matter here.
func wanted(a *asked) (wants []client.SecondWant, hard []admit.Bar) {
	in := a.Input
	in.Person.Lead = false
	_, bars := admit.Admit(in)
	for _, b := range bars {
		switch {
		case b.Rule == "link" || b.Rule == "label" || b.Rule == "needs" || b.Rule == "adapter":
		case b.Gate != "":
			wants = append(wants, client.SecondWant{For: b.Gate, Said: b.Said})
		case b.What != "":
			wants = append(wants, client.SecondWant{For: b.What, Said: b.Said})
		default:
			hard = append(hard, b)
		}
	}
	return wants, hard
}

// OneSecond puts one together for people.
func (v *Runs) OneSecond(ctx context.Context, x store.Second, names map[string]string) (out client.Second, err error) {
	if names == nil {
		if names, err = v.store.Names(ctx); err != nil {
			return out, err
		}
	}
	u, err := v.store.Unit(ctx, x.Unit)
	if err != nil {
		return out, err
	}
	out = client.Second{Number: x.Number, Unit: u.ID, Serial: u.Serial, Model: u.Model, Site: u.Site, Kind: x.Kind, From: u.Running, Version: x.Version, Release: x.Firmware,
		Reason: x.Reason, By: names[x.By], At: x.At, Own: x.By == frame.Who(ctx).Person.ID, State: "waits"}
	if out.Wants, err = wantsOf(x); err != nil {
		return out, err
	}
	if x.Given.Valid {
		out.Decided, out.Why = names[x.Decided.String], x.Why
		switch {
		case !x.Given.Bool:
			out.State = "refused"
		case x.Until.Time.Before(v.clock.Now()):
			out.State, out.Until = "over", &x.Until.Time
		default:
			out.State, out.Until = "given", &x.Until.Time
		}
	}
	return out, nil
}

type secondsIn struct {
	All bool `query:"all" doc:"Those that were decided, too."`
}

func (v *Runs) listSeconds(ctx context.Context, in *secondsIn) (client.Seconds, error) {
	out := client.Seconds{Seconds: []client.Second{}}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	_, by, _, err := v.store.TeamRule(ctx, people.RuleTwo)
	if err != nil {
		return out, err
	}
	out.By = names[by]
	if out.On, out.Rule, err = v.People.TwoPersons(ctx); err != nil {
		return out, err
	}
	if out.Trust, out.TrustRule, err = v.People.TwoLeads(ctx); err != nil {
		return out, err
	}
	for _, x := range []struct {
		name string
		says *core.Said
		on   bool
	}{{people.RuleTwo, &out.Waits, out.On}, {people.RuleLeads, &out.TrustWaits, out.Trust}} {
		by, err := v.People.OffWaits(ctx, x.name)
		if err != nil {
			return out, err
		}
		if by != "" && x.on {
			*x.says = core.Say("%s wants this off. It is once another lead says the same, within a day.", names[by])
		}
	}
	rows, err := v.store.Seconds(ctx, !in.All, mostSeconds)
	if err != nil {
		return out, err
	}
	for _, x := range rows {
		one, err := v.OneSecond(ctx, x, names)
		if err != nil {
			return out, err
		}
		out.Seconds = append(out.Seconds, one)
	}
	return out, nil
}

// SecondPath is one in a path.
type SecondPath struct {
	Number uint64 `path:"second"`
}

// getSecond shows a lead what whoever asks sees: the unit, and what stands in the way now.
func (v *Runs) getSecond(ctx context.Context, in *SecondPath) (client.SecondPage, error) {
	out := client.SecondPage{Bars: []admit.Bar{}}
	x, err := v.store.Second(ctx, in.Number)
	if err != nil {
		return out, err
	}
	if out.Second, err = v.OneSecond(ctx, x, nil); err != nil {
		return out, err
	}
	u, err := v.store.Unit(ctx, x.Unit)
	if err != nil {
		return out, err
	}
	a, err := v.AskedOf(ctx, client.NewRun{Kind: x.Kind, Release: x.Firmware, Backup: x.Source, Reason: x.Reason}, u, links.Place{})
	if err != nil {
		return out, err
	}
	input := a.Input
	input.Person = admit.Person{ID: x.By, May: true}
	_, bars := admit.Admit(input)
	for _, b := range bars {
		if b.Rule != "link" && b.Rule != "label" {
			out.Bars = append(out.Bars, b)
		}
	}
	return out, nil
}

type decideSecondIn struct {
	SecondPath
	Body client.SecondDecision
}

// decideSecond takes a lead's word. Nobody decides on what he has asked himself.
func (v *Runs) decideSecond(ctx context.Context, in *decideSecondIn) (client.Second, error) {
	x, err := v.store.Second(ctx, in.Number)
	if err != nil {
		return client.Second{}, err
	}
	if x.By == frame.Who(ctx).Person.ID {
		return client.Second{}, core.Fail(core.NotAllowed, "you have asked this yourself; a second person decides").Unit("nothing was changed").Do("Ask another lead.")
	}
	now := v.clock.Now().UTC()
	lasts := leaveLasts
	if in.Body.Hours > 0 {
		lasts = time.Duration(in.Body.Hours) * time.Hour
	}
	x.Given, x.Why = sql.NullBool{Bool: in.Body.Give, Valid: true}, strings.TrimSpace(in.Body.Reason)
	x.Decided, x.DecidedA = sql.NullString{String: frame.Who(ctx).Person.ID, Valid: true}, sql.NullTime{Time: now, Valid: true}
	wants, err := wantsOf(x)
	if err != nil {
		return client.Second{}, err
	}
	says := core.Say("Refused leave: %s. %s", whatFor(wants), x.Why)
	if in.Body.Give {
		x.Until = sql.NullTime{Time: now.Add(lasts), Valid: true}
		says = core.Say("Gave leave until %s for version %s: %s. %s", x.Until.Time.Format("2006-01-02 15:04"), x.Version, whatFor(wants), x.Why)
	}
	if err := v.store.DecideSecond(ctx, v.key, x, says.Text); err != nil {
		return client.Second{}, err
	}
	return v.OneSecond(ctx, x, nil)
}

type secondRuleIn struct {
	Body client.SecondRule
}

// putSecondRule settles whether what cannot be taken back wants two persons, or what is to be
// trusted two leads.
func (v *Runs) putSecondRule(ctx context.Context, in *secondRuleIn) (client.Seconds, error) {
	if err := v.People.Sure(ctx); err != nil {
		return client.Seconds{}, err
	}
	name, says := people.RuleTwo, "two persons for what cannot be taken back"
	if in.Body.About == "trust" {
		name, says = people.RuleLeads, "two leads for what is to be trusted"
	}
	me := frame.Who(ctx).Person.ID
	settled, err := v.People.Settles(ctx, name, in.Body.Rule)
	if err != nil {
		return client.Seconds{}, err
	}
	put, value, tells := name, in.Body.Rule, in.Body.Rule
	if !settled {
		put, value, tells = people.RuleWaits(name), "off "+me, "off, wanted by one lead; a second one is waited for"
	} else if err := v.store.PutTeamRule(ctx, people.RuleWaits(name), "", me, v.clock.Now()); err != nil { // what one has wanted is over
		return client.Seconds{}, err
	}
	if err := v.store.PutTeamRule(ctx, put, value, me, v.clock.Now()); err != nil {
		return client.Seconds{}, err
	}
	if err := v.People.Audit(ctx, people.AuditRule, "", "%s: %s", says, tells); err != nil {
		return client.Seconds{}, err
	}
	return v.listSeconds(ctx, &secondsIn{})
}

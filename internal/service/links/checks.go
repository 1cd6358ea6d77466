package links

import (
	"cmp"
	"context"
	"encoding/json"
	"time"

	"zealousferry/core"
	"zealousferry/core/diagnose"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

type listenIn struct{ Body client.NewListen }

// listen has the bench hear what is on a line; nothing is sent but what a person
// wants said.
func (v *Links) listen(ctx context.Context, in *listenIn) (client.Heard, error) {
	p, err := v.Find(ctx, in.Body.At)
	if err != nil {
		return client.Heard{}, err
	}
	if err := p.Free(); err != nil {
		return client.Heard{}, err
	}
	n := in.Body
	r, err := v.Ask(ctx, client.Order{Kind: client.OrderListen, Link: p.Name, Model: cmp.Or(n.Model, p.Model), Baud: n.Baud, Say: n.Say, Loader: n.Loader, Lasts: max(n.Lasts, 100)}, p.Bench, OrderLasts)
	if err != nil {
		return client.Heard{}, err
	}
	if r.Heard == nil {
		return client.Heard{}, core.Fail(core.Interrupted, "the bench ended the order without an answer")
	}
	if r.Heard.Left { // whoever comes next must be asked
		if err := v.store.OffLink(ctx, p.Bench, p.Name); err != nil {
			return client.Heard{}, err
		}
	}
	r.Heard.Link = p.FullName()
	return *r.Heard, nil
}

// CheckIn asks for a check of a link.
type CheckIn struct{ Body client.NewCheck }

// Check has the bench look at a link, or takes the answer to the test that the
// last look proposed, and keeps what came of it as evidence.
func (v *Links) Check(ctx context.Context, in *CheckIn) (client.Check, error) {
	p, err := v.Find(ctx, in.Body.At)
	if err != nil {
		return client.Check{}, err
	}
	if err := p.Free(); err != nil {
		return client.Check{}, err
	}
	if in.Body.Answer == nil {
		o, err := v.give(ctx, client.Order{Kind: client.OrderCheck, Link: p.Name, Adapter: p.Adapter, Model: cmp.Or(in.Body.Model, p.Model), Pulled: in.Body.Unplugged}, p.Bench)
		if err != nil {
			return client.Check{}, err
		}
		if _, err := v.Ended(ctx, o, identifyLasts); err != nil {
			return client.Check{}, err
		}
		row, err := v.store.Check(ctx, o.ID)
		if core.KindOf(err) == core.NotFound {
			return client.Check{}, core.Fail(core.Interrupted, "the bench ended the order without an answer")
		}
		if err != nil {
			return client.Check{}, err
		}
		return Checked(row, p.FullName(), frame.Who(ctx).Person.Name)
	}
	last, err := v.store.Checks(ctx, p.Bench, p.Name, 1)
	if err != nil {
		return client.Check{}, err
	}
	if len(last) == 0 || v.clock.Now().Sub(last[0].At) > time.Hour {
		return client.Check{}, core.Fail(core.NotFound, "there is no fresh check of %s whose test could be answered", p.FullName()).Go(words.Check(p.FullName()).To("Check it first"))
	}
	var seen diagnose.Seen
	if err := json.Unmarshal([]byte(last[0].Seen), &seen); err != nil {
		return client.Check{}, err
	}
	row := store.LinkCheck{ID: store.NewID(), Bench: p.Bench, Link: p.Name, Adapter: p.Adapter, Model: last[0].Model, Unplugged: in.Body.Unplugged, By: frame.Who(ctx).Person.ID, At: v.clock.Now()}
	if row, err = v.keepSeen(ctx, row, seen, in.Body.Answer); err != nil {
		return client.Check{}, err
	}
	return Checked(row, p.FullName(), frame.Who(ctx).Person.Name)
}

// KeepCheck keeps what a bench has seen on a link, whether or not whoever asked is still
// there to hear it.
func (v *Links) KeepCheck(ctx context.Context, row store.Order, r client.Result) error {
	o, err := frame.Decode[client.Order](row.Body)
	if err != nil {
		return err
	}
	_, err = v.keepSeen(ctx, store.LinkCheck{ID: row.ID, Bench: row.Bench, Link: o.Link, Adapter: o.Adapter, Model: r.Model, Unplugged: o.Pulled, By: o.By, At: v.clock.Now()}, *r.Seen, nil)
	return err
}

// keepSeen names what was seen, by the answer to the test where there is one, and keeps it as
// evidence.
func (v *Links) keepSeen(ctx context.Context, row store.LinkCheck, seen diagnose.Seen, answer *diagnose.Answer) (store.LinkCheck, error) {
	class := diagnose.Classify(seen)
	row.Class = string(class)
	if class != diagnose.Sound && !row.Unplugged && (answer != nil || !diagnose.Needs(class)) {
		var a diagnose.Answer
		if answer != nil {
			a = *answer
		}
		f, err := diagnose.Name(seen, a)
		if err != nil {
			return row, err
		}
		row.Fault = f.Name
		if class == diagnose.Silent && row.Adapter != "" {
			if err := v.store.TestedAdapter(ctx, row.Adapter, a.Came["adapter"], row.At); err != nil {
				return row, err
			}
		}
	}
	raw, err := json.Marshal(seen)
	if err != nil {
		return row, err
	}
	row.Seen = string(raw)
	if err := v.store.AddCheck(ctx, row); err != nil {
		return row, err
	}
	switch class {
	case diagnose.Sound, diagnose.Late, diagnose.Lossy, diagnose.Program:
		return row, nil
	}
	return row, v.store.OffLink(ctx, row.Bench, row.Link) // whoever was identified here does not answer any more
}

// Checked is a check as faces show it.
func Checked(row store.LinkCheck, link, by string) (client.Check, error) {
	out := client.Check{ID: row.ID, Link: link, Model: row.Model, Class: row.Class, Fault: row.Fault, Unplugged: row.Unplugged, By: by, At: row.At}
	if err := json.Unmarshal([]byte(row.Seen), &out.Seen); err != nil {
		return out, err
	}
	class := diagnose.Class(row.Class)
	out.Words = out.Seen.Words()
	out.Passed = class == diagnose.Sound
	if row.Unplugged {
		if out.Passed = class == diagnose.Silent || class == diagnose.HeldLow; out.Passed {
			out.Head = core.Say("Counter-proof: nothing answers with the plug pulled.")
		} else {
			out.Head = core.Say("Something answers, though the plug is said to be pulled.")
		}
		return out, nil
	}
	if t, ok := diagnose.Tests[class]; ok {
		out.Test = &t
		out.Asks = diagnose.Needs(class) && row.Fault == ""
	}
	if f, ok := diagnose.Faults[row.Fault]; ok {
		out.Says, out.Do = f.Says, f.Do
	}
	switch {
	case out.Passed:
		out.Head = core.Say("Proved: the link is sound.")
	case out.Says != "":
		out.Head = core.Say("Not proved: %s", out.Says)
	default:
		out.Head = core.Say("Not proved: %s.", words.Classes.In(row.Class))
	}
	return out, nil
}

type checksIn struct {
	At string `query:"at" minLength:"1" maxLength:"120"`
}

func (v *Links) listChecks(ctx context.Context, in *checksIn) (client.Checks, error) {
	p, err := v.Find(ctx, in.At)
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
		c, err := Checked(r, p.FullName(), names[r.By])
		if err != nil {
			return out, err
		}
		out.Checks = append(out.Checks, c)
	}
	return out, err
}

type echoIn struct{ Body client.Echo }

func (v *Links) echo(ctx context.Context, in *echoIn) (client.Echoed, error) {
	p, err := v.Find(ctx, in.Body.At)
	if err != nil {
		return client.Echoed{}, err
	}
	r, err := v.Ask(ctx, client.Order{Kind: client.OrderEcho, Link: p.Name, Baud: in.Body.Baud}, p.Bench, OrderLasts)
	return client.Echoed{Came: r.Came}, err
}

package runs

import (
	"cmp"
	"context"
	"database/sql"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
)

func answered(s *run.State, names map[string]string) []client.Answered {
	out := []client.Answered{}
	if s.Carded == nil {
		return out
	}
	for _, a := range s.Answers {
		out = append(out, answer(a, s.Items(), names))
	}
	return out
}

func answer(a procedure.Answer, items []model.Item, names map[string]string) client.Answered {
	x := client.Answered{Item: a.Item, Value: a.Value, Note: a.Note, Whose: a.Whose, Due: a.Due, Wires: a.Wires, By: cmp.Or(names[a.By], "the tool"), At: time.UnixMicro(a.At).UTC()}
	if a.Sealed {
		x.Value = masked
	}
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
		x := answer(*a, s.Items(), names)
		return &x
	}
	for _, x := range procedure.Sides(s.Carded.Items, s.Answers) {
		out = append(out, client.Sides{Says: x.Says, Do: x.Do, Found: of(x.Found), Left: of(x.Left), Other: x.Other})
	}
	return out
}

type answerIn struct {
	frame.RunPath
	Body client.NewAnswer
}

// answerRun hands an answer to the bench and waits until it is in the journal.
func (v *Runs) answerRun(ctx context.Context, in *answerIn) (client.Run, error) {
	r, err := v.open(ctx, in.Run)
	if err != nil {
		return client.Run{}, err
	}
	a, err := v.answerOf(ctx, in.Body)
	if err != nil {
		return client.Run{}, err
	}
	if err := v.sealAnswer(ctx, r.ID, &a); err != nil { // orders are stored
		return client.Run{}, err
	}
	if _, err := v.Links.Ask(ctx, client.Order{Kind: client.OrderAnswer, Link: r.Link, Run: r.ID, By: a.By, Answer: &a}, r.Bench, links.OrderLasts); err != nil {
		return client.Run{}, err
	}
	if len(a.Wires) > 0 {
		p, err := v.Links.Find(ctx, r.BenchName+"/"+r.Link)
		if err == nil {
			err = v.Links.SawWires(ctx, p.Link, a.Wires)
		}
		if err != nil {
			return client.Run{}, err
		}
	}
	return v.run(ctx, r.ID)
}

// answerOf is an answer as a run takes it, of who asks.
func (v *Runs) answerOf(ctx context.Context, n client.NewAnswer) (procedure.Answer, error) {
	a := procedure.Answer{Item: n.Item, Value: n.Value, Note: n.Note, Whose: strings.TrimSpace(n.Whose), Due: n.Due, Wires: n.Wires, By: frame.Who(ctx).Person.ID}
	if a.Value == procedure.Elsewhere {
		if _, err := v.Units.Until(a.Due, sql.NullTime{}); err != nil {
			return a, err
		}
	}
	if n.Photo != "" {
		d, err := core.ParseDigest(n.Photo)
		if err != nil {
			return a, err
		}
		if _, err := v.store.Evidence(ctx, d); err != nil {
			return a, err
		}
		a.Photo = &d
	}
	if a.Value == procedure.Excused && frame.Who(ctx).Person.Role != frame.Lead {
		return a, core.Fail(core.NotAllowed, "only a lead leaves something undone").Do("Do it, or ask a lead.")
	}
	return a, nil
}

// sealAnswer seals the value of a secret setting, before it is stored or sent.
func (v *Runs) sealAnswer(ctx context.Context, id string, a *procedure.Answer) error {
	s, err := v.Units.Folded(ctx, id)
	if core.KindOf(err) == core.NotFound { // nothing was asked yet: the bench says so
		return nil
	}
	if err != nil {
		return err
	}
	items := s.Items()
	i := slices.IndexFunc(items, func(i model.Item) bool { return i.ID == a.Item })
	if i < 0 || !items[i].Secret {
		return nil
	}
	safe, err := v.safeOf(id)
	if err != nil {
		return err
	}
	*a, err = run.Sealed(&items[i], safe, *a)
	return err
}

package run

import (
	"context"
	"errors"
	"os"
	"regexp"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
)

// card lays out the procedure for this unit.
func (r *Run) card(ctx context.Context) error {
	if err := r.load(ctx); err != nil {
		return err
	}
	kind, err := registry.Loader(r.sheet.Loader.Kind)
	if err != nil {
		return err
	}
	limits := kind.Limits()
	c := Carded{Limits: &limits}
	known := fit.Prepare(r.sheet, r.journal.State().Opened.Noted, r.pace.Clock.Now())
	holds := func(rules []model.Rule) (bool, bool) { return known.Judge(r.sheet, rules) }
	p, err := procedure.Pick(r.sheet, holds)
	if err != nil {
		return err
	}
	if p != nil {
		if a := r.journal.State().Opened.Adapter; a != nil {
			if err := a.Suits(procedure.WiringFor(p, a.Name)); err != nil {
				return err
			}
		}
		c.Procedure, c.Edition, c.Items = p.Name, p.Edition, procedure.Due(p, holds)
		var says string
		if c.Standing, says = procedure.Standing(p, holds); c.Standing == "failed" {
			return core.Fail(core.DoesNotFit, "procedure %s is known to fail on this unit: %s", p.Name, says).Do("Ask a lead for another way.")
		}
	}
	return r.append(KindCarded, c, true)
}

// given is an answer on its way to the engine.
type given struct {
	procedure.Answer
	taken chan error
}

// Answer hands a person's answer to the run; it may be called from any goroutine.
// A run that does not wait for that item says so, and takes nothing.
func (r *Run) Answer(ctx context.Context, a procedure.Answer) error {
	r.mu.Lock()
	waits := r.waits
	r.mu.Unlock()
	if waits == "" || waits != a.Item {
		return r.notNow(a.Item)
	}
	g := given{a, make(chan error, 1)}
	select {
	case r.answer <- g:
		return <-g.taken
	case <-r.over:
		return r.notNow(a.Item)
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (r *Run) notNow(item string) error {
	return core.Fail(core.NotFound, "the run does not wait for %q now", item).Do("See what it waits for: ferry run show " + r.id + ".")
}

// hands does the next item: the tool's own, or a person's, whose answer is waited
// for as long as it takes.
func (r *Run) hands(ctx context.Context) error {
	s := r.journal.State()
	item := s.hands(before...)
	if s.Dangerous || s.Fault != nil || s.Stopped || item == nil {
		item = s.hands(model.AtPower)
	}
	if s.Fault != nil || s.Stopped {
		item = s.undo()
	} else if item == nil {
		item = s.hands(model.AtLeft)
	}
	if item == nil {
		return core.Fail(core.Interrupted, "there is nothing for a person to do")
	}
	if item.ByTool() {
		value, err := r.tool(ctx, item)
		if err != nil {
			return err
		}
		return r.append(KindAnswered, procedure.Answer{Item: item.ID, Fact: item.Fact, Value: value, By: procedure.Tool, At: r.pace.Clock.Now().UnixMicro()}, true)
	}
	r.wait(item.ID) // before anybody can hear of it, and answer at once
	defer r.wait("")
	if s.Hands == nil || s.Hands.Item != item.ID {
		if err := r.append(KindHands, Hands{Item: item.ID, Says: item.Says.In("en")}, true); err != nil {
			return err
		}
	}
	return r.asked(ctx, item)
}

func (r *Run) wait(id string) {
	r.mu.Lock()
	r.waits = id
	r.mu.Unlock()
}

// asked waits for the answer to an item. A wrong one is refused, and the item is
// still to be done.
func (r *Run) asked(ctx context.Context, item *model.Item) error {
	for {
		select {
		case g := <-r.answer:
			if g.Item != item.ID { // it was for the one before, which somebody else has answered
				g.taken <- r.notNow(g.Item)
				continue
			}
			g.At, g.Fact = r.pace.Clock.Now().UnixMicro(), item.Fact
			err := procedure.Judge(item, g.Answer)
			if err == nil {
				err = r.append(KindAnswered, g.Answer, true)
			}
			g.taken <- err
			if err == nil && g.Value == procedure.No {
				return core.Fail(core.CannotTell, "at %q somebody saw something else: %s", item.Says.In("en"), g.Note).
					Do("Find out why before anything is written; then begin again.")
			}
			if err == nil || r.journal.broken != nil {
				return err
			}
		case <-r.nudged:
			s := r.journal.State()
			if s.Fault == nil && !s.Stopped { // an undo list is worked off even so
				if stop, err := r.stopped(); stop || err != nil {
					return err
				}
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// tool does an item of the tool's own.
func (r *Run) tool(ctx context.Context, item *model.Item) (string, error) {
	if item.Do == model.Check {
		if err := r.connect(ctx); err != nil {
			return "", err
		}
		p, err := loader.Prove(ctx, r.session, questions, r.pace.Clock)
		if err != nil {
			return "", err
		}
		return procedure.Yes, p.Err()
	}
	if err := r.load(ctx); err != nil {
		return "", err
	}
	if err := r.plugIn(ctx); err != nil {
		return "", err
	}
	s, err := loader.Stream(r.link, r.sheet.Loader.Kind)
	if err != nil {
		return "", err
	}
	switch item.Do {
	case model.SetLine:
		return procedure.Yes, s.SetLine(item.Line, item.On)
	case model.ReadOut:
		return link.AskVersion(ctx, s, r.sheet.Application, nil, r.pace)
	}
	return r.text(ctx, s, item)
}

// text waits for what the program says of itself.
func (r *Run) text(ctx context.Context, s link.Stream, item *model.Item) (string, error) {
	pattern, err := regexp.Compile(item.Text)
	if err != nil {
		return "", core.Fail(core.BadFile, "%s: %w", item.ID, err)
	}
	if err := s.SetMode(link.Default(r.sheet.Application.Baud)); err != nil {
		return "", err
	}
	var heard []byte
	buf := make([]byte, 1024)
	s.SetReadDeadline(r.pace.Clock.Now().Add(r.pace.Scaled(item.Within)))
	defer s.SetReadDeadline(time.Time{})
	for len(heard) < 64<<10 {
		n, err := s.Read(buf)
		heard = append(heard, buf[:n]...)
		if m := pattern.Find(heard); m != nil {
			return string(m), nil
		}
		if errors.Is(err, os.ErrDeadlineExceeded) {
			break
		}
		if err != nil {
			return "", err
		}
	}
	return "", core.Fail(core.NotAnswering, "%q did not come within %s; %d bytes came", item.Text, item.Within, len(heard)).
		Do("Look at the signs of this step, then begin again.")
}

// calling tells a person that the power must come now: the tool calls already.
func (r *Run) calling() {
	h := Hands{Says: "Apply the power now.", Calling: true}
	if c := r.journal.State().Carded; c != nil {
		for _, i := range c.Items {
			if i.Do == model.Apply {
				h.Item, h.Says = i.ID, i.Says.In("en")
			}
		}
	}
	r.append(KindHands, h, true) // a journal that broke ends the run at its next event
}

// called ends the prompt once the unit has answered.
func (r *Run) called() error {
	h := r.journal.State().Hands
	if h == nil || !h.Calling {
		return nil
	}
	return r.append(KindAnswered, procedure.Answer{Item: h.Item, Value: procedure.Yes, By: procedure.Tool, At: r.pace.Clock.Now().UnixMicro()}, true)
}

// questions of the proof that every run asks for.
const questions = 25

// prove is a gate: a link that loses many harmless questions carries no write.
func (r *Run) prove(ctx context.Context) error {
	if err := r.connect(ctx); err != nil {
		return err
	}
	n := questions
	if r.session.Can(loader.File) == nil { // it asks in its own time
		n = 2
	}
	p, err := loader.Prove(ctx, r.session, n, r.pace.Clock)
	if err != nil {
		return err
	}
	if err := p.Err(); err != nil {
		return err
	}
	return r.append(KindProved, p, true)
}

package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/settings"
	"zealousferry/core/visit"
	"zealousferry/core/words"
)

// card lays out the procedure for this unit.
func (r *Run) card(context.Context) error {
	kind, err := registry.Loader(r.sheet.Main().Loader.Kind)
	if err != nil {
		return err
	}
	limits := kind.Limits(r.sheet.Main().Loader.Own)
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
	o := r.journal.State().Opened
	if len(o.Beside) > 0 && o.Kind != BackUp && p != nil && p.Place == model.PlaceBench {
		c.Items = append(c.Items, r.sheet.Which(o.Serial, o.Link, o.Beside))
	}
	for i := range o.Sections {
		p := &o.Sections[i]
		d, ok := r.sheet.Section(p.Name)
		if !ok || !p.Part || o.Kind != Flash && o.Kind != SetUp {
			continue
		}
		at := slices.IndexFunc(c.Items, func(i model.Item) bool {
			return slices.Index(model.Stages, i.At) > slices.Index(model.Stages, model.AtFound)
		})
		if at < 0 {
			at = len(c.Items)
		}
		c.Items = slices.Insert(c.Items, at, typedAt(p, d)...)
	}
	c.Items = append(c.Items, o.tests(c.Items)...)
	return r.append(KindCarded, c, true)
}

// tests are the items that the card has beside the procedure's: the job's finishing
// test, and tests that earlier runs of the unit owe and this procedure does not have.
func (o *Opened) tests(items []model.Item) (more []model.Item) {
	add := func(id string, says core.Said) {
		has := func(i model.Item) bool { return i.ID == id }
		if !slices.ContainsFunc(items, has) && !slices.ContainsFunc(more, has) {
			i := model.Item{ID: id, Do: model.Confirm, At: model.AtLeft, Says: model.Words{"en": says.Text}, Test: true}
			if says.ID != "" {
				i = i.Saying(says)
			}
			more = append(more, i)
		}
	}
	if o.Kind == BackUp {
		return nil
	}
	for _, d := range o.Owed {
		if d.Kind == OweTest {
			add(d.Item, d.asks())
		}
	}
	if o.Job != nil && o.Job.Test != "" {
		add(fmt.Sprintf("test-of-job-%d", o.Job.Number), core.Said{Text: o.Job.Test})
	}
	return more
}

// hands does an item: the tool's own, or a person's, whose answer is waited for as
// long as it takes.
func (r *Run) hands(ctx context.Context, x *Section, id string) error {
	s := r.journal.State()
	item := s.item(id)
	if item == nil {
		return core.Fail(core.Interrupted, "there is nothing for a person to do")
	}
	if item.ByTool() {
		value, err := r.tool(ctx, x, item)
		if err != nil && atEnd(item) && ctx.Err() == nil { // after the work it is a finding, which ends nothing and is not tried for ever
			return r.append(KindAnswered, procedure.Answer{Item: item.ID, Value: procedure.Excused, By: procedure.Tool, Note: core.AsError(err, core.Interrupted).Message, At: r.pace.Clock.Now().UnixMicro()}, true)
		}
		if err != nil {
			return err
		}
		return r.append(KindAnswered, procedure.Answer{Item: item.ID, Fact: item.Fact, Value: value, By: procedure.Tool, At: r.pace.Clock.Now().UnixMicro()}, true)
	}
	if item.ID == model.WhichUnit && r.sheet.Main().Loader.Await == 0 {
		if _, err := r.connect(ctx, s.Main()); err != nil && ctx.Err() != nil { // one that does not answer shows no sign; who is there is asked next
			return err
		}
		defer r.leaveAll(ctx) // a person takes as long as he takes: the loader is opened anew for what follows
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

// Sealed is an answer with the value of a secret setting sealed, as it is stored and sent.
func Sealed(i *model.Item, safe settings.Safe, a procedure.Answer) (procedure.Answer, error) {
	if !i.Secret || a.Value == procedure.Excused || a.Value == procedure.Offered || a.Value == procedure.Back {
		return a, nil
	}
	var err error
	a.Value, err = safe.Seal(i.Setting, strings.TrimSpace(a.Value))
	a.Sealed = true
	return a, err
}

// turn does an item that stands before a section, and notes when none is left.
// Whatever was open on the links is left before hands touch them.
func (r *Run) turn(ctx context.Context, x *Section, item, kind string) error {
	if item == "" {
		return r.note(x, kind, Turned{})
	}
	r.leaveAll(ctx)
	return r.hands(ctx, x, item)
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
			g.Answer = procedure.Typed(item, g.Answer)
			g.At, g.Fact = r.pace.Clock.Now().UnixMicro(), item.Fact
			err := r.fitting(item, g.Answer)
			if err == nil {
				err = r.fittingSetting(ctx, item, &g.Answer)
			}
			g.Sealed = item.Secret && g.Value != procedure.Excused && g.Value != procedure.Offered && g.Value != procedure.Back
			g.Set = item.Setting != "" && g.Value != procedure.Excused && g.Value != procedure.Offered && g.Value != procedure.Back
			if err == nil {
				err = r.append(KindAnswered, g.Answer, true)
			}
			g.taken <- err
			if err == nil && g.Value == procedure.No && item.ID == model.WhichUnit {
				return core.Fail(core.WrongUnit, "the run is of %s, and another unit is in hand: %s", r.journal.State().Opened.Serial, g.Note).Unit("nothing was changed").
					Do("Take the one that the tool speaks to, or begin a run of the one in hand, at its own link.")
			}
			if err == nil && g.Value == procedure.No && item.At == model.AtSet && item.Setting == "" {
				return core.Fail(core.NotAllowed, "the settings are not to be so: %s", g.Note).Unit("nothing was changed").
					Do("Begin again and say what they are to be: a value by hand, a unit that it is to be like, or what its profile has.")
			}
			if err == nil && g.Value == procedure.No && !atEnd(item) && item.Setting == "" {
				return core.Fail(core.CannotTell, "at %q somebody saw something else: %s", item.Says.In("en"), g.Note).
					Go(words.Check(r.journal.State().Opened.Link).To("Find out why before anything is written, then begin again; what is on the line tells"))
			}
			if err == nil || r.journal.broken != nil {
				return err
			}
		case <-r.nudged:
			if err := r.noteLent(); err != nil {
				return err
			}
			s := r.journal.State()
			if s.Fault == nil && !s.Stopped && s.LaidBy == nil { // an undo list is worked off even so
				if stop, err := r.stopped(); stop || err != nil {
					return err
				}
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// fitting refuses an answer that will not do.
func (r *Run) fitting(item *model.Item, a procedure.Answer) error {
	if a.Value != procedure.Back {
		return procedure.Judge(item, a)
	}
	if r.journal.State().Before(item.ID) == nil {
		return core.Fail(core.NotAllowed, "there is no answer before this one that could be given anew").Do("Answer this one, or stop the run.")
	}
	return nil
}

// tool does an item of the tool's own, on the link of a section.
func (r *Run) tool(ctx context.Context, x *Section, item *model.Item) (string, error) {
	if item.At == model.AtLeft {
		x = r.lead(ctx, x)
	}
	if item.Do == model.Check {
		session, err := r.connect(ctx, x)
		if err != nil {
			return "", err
		}
		p, err := loader.Prove(ctx, session, questions, 0, r.pace.Clock, nil)
		if err != nil {
			return "", err
		}
		return procedure.Yes, p.Err()
	}
	d, err := r.of(x)
	if err != nil {
		return "", err
	}
	l, err := r.plugIn(ctx, x)
	if err != nil {
		return "", err
	}
	if stand, is := l.Link.(visit.StandIn); is { // there is no line to set, nor to listen on
		if item.Do == model.ReadOut {
			return stand.Version(d)
		}
		return cmp.Or(item.Text, procedure.Yes), nil
	}
	if item.Do == model.Reach {
		return r.reach(ctx, item)
	}
	s, err := r.stream(ctx, x)
	if err != nil {
		return "", err
	}
	switch item.Do {
	case model.Start:
		return procedure.Yes, link.Play(ctx, s, d.Loader.Serial().Leave, r.pace)
	case model.SetLine:
		return procedure.Yes, s.SetLine(item.Line, item.On)
	case model.ReadOut:
		return link.AskVersion(ctx, s, d.Application, nil, r.pace)
	}
	return r.text(ctx, s, d, item)
}

// text waits for what the program says of itself.
func (r *Run) text(ctx context.Context, s link.Stream, d *model.Section, item *model.Item) (string, error) {
	pattern, err := regexp.Compile(item.Text)
	if err != nil {
		return "", core.Fail(core.BadFile, "%s: %w", item.ID, err)
	}
	if err := s.SetMode(link.Default(d.Application.Baud)); err != nil {
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

// questions of the proof that every run asks for.
const questions = 25

// prove is a gate: a link that loses many harmless questions carries no write.
func (r *Run) prove(ctx context.Context, x *Section) error {
	session, err := r.connect(ctx, x)
	if err != nil {
		return err
	}
	p, err := loader.Prove(ctx, session, questions, 0, r.pace.Clock, nil)
	if err != nil {
		return err
	}
	if err := p.Err(); err != nil {
		return err
	}
	return r.note(x, KindProved, p)
}

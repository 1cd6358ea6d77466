package rehearse

import (
	"context"
	"slices"
	"sync"

	"zealousferry/core"
	"zealousferry/core/advise"
	"zealousferry/core/link"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
)

// AtStop is the item of an answer where the run has stopped: what the person would do next,
// as one of the choices of the advice.
const AtStop = "stopped"

// play is a run of a rehearsal at work.
type play struct {
	in      Input
	out     *Result
	stage   *stage
	journal *run.Journal
	run     *run.Run
	cancel  context.CancelFunc

	answers sync.WaitGroup
	asked   string // the item that the run waits for
	mu      sync.Mutex
	given   int   // of the person's answers
	stuck   error // nobody can answer, or what was answered will not do
}

// play works the run to its end, or to where a person is to answer.
func (out *Result) play(ctx context.Context, s *stage, in Input, o run.Opened) error {
	ctx, cancel := context.WithTimeout(ctx, lasts)
	defer cancel()
	j, err := run.OpenJournal(&paper{})
	if err != nil {
		return err
	}
	p := &play{in: in, out: out, stage: s, journal: j, cancel: cancel}
	defer p.answers.Wait()
	s.changed = func() { p.turn(ctx) }
	pace := link.Pace{Clock: s.twin.clock}
	if p.run, err = run.New(j, o, s, pace); err != nil {
		return err
	}
	for {
		err = p.run.Work(ctx)
		p.answers.Wait()
		goesOn := false
		switch st := j.State(); {
		case p.stuck != nil:
			return p.stuck
		case out.Waits != nil:
		case err != nil:
			return core.Fail(core.Interrupted, "the rehearsal did not come to its end: %w", err)
		case in.ByHand && st.Closed == nil && st.Outcome() == run.Interrupted:
			if goesOn, err = p.atStop(); err != nil {
				return err
			}
		}
		if !goesOn {
			cancel()
			out.read(s, in, j)
			return nil
		}
		if p.run, err = run.TakeUp(j, run.TakenUp{By: o.By, Label: o.Label}, s, pace); err != nil {
			return err
		}
	}
}

// turn looks, between two events of the run, whether it waits for a person, and answers.
func (p *play) turn(ctx context.Context) {
	st := p.journal.State() // which stands still meanwhile
	h := st.Hands
	if h == nil || h.Calling {
		p.asked = ""
		return
	}
	if h.Item == p.asked {
		return
	}
	p.asked = h.Item
	view := st.View()
	if view.Item == nil {
		return
	}
	i := *view.Item
	p.out.Asked = append(p.out.Asked, Asked{Item: i.ID, Says: i.Says.In("en"), Setting: i.Setting != "" && i.At == model.AtSet, Test: i.Test})
	candidates := likely(st, &i)
	if p.in.ByHand {
		a, given, err := p.next(&i)
		if err != nil {
			p.fail(err)
			return
		}
		if !given {
			p.out.Waits = &view
			p.cancel()
			return
		}
		candidates = []procedure.Answer{a}
	}
	p.answers.Go(func() {
		var err error
		for _, a := range candidates {
			if err = p.run.Answer(ctx, a); err == nil {
				return
			}
		}
		switch {
		case ctx.Err() != nil:
		case p.in.ByHand:
			p.fail(err)
		default:
			p.fail(core.Fail(core.CannotTell, "nobody is there to answer %q in a rehearsal: %w", i.Says.In("en"), err))
		}
	})
}

func (p *play) fail(err error) {
	p.mu.Lock()
	if p.stuck == nil {
		p.stuck = err
	}
	p.mu.Unlock()
	p.cancel()
}

// next is the person's next answer, as the run takes it.
func (p *play) next(i *model.Item) (a procedure.Answer, given bool, err error) {
	if p.given == len(p.in.Answers) {
		return a, false, nil
	}
	a = p.in.Answers[p.given]
	p.given++
	if a.Item != i.ID {
		return a, true, core.Fail(core.NotFound, "the rehearsal does not wait for %q now, but for %q", a.Item, i.ID).Do("Begin it again, and answer what is asked.")
	}
	if i.Do == model.Photo && a.Value == procedure.Yes && a.Photo == nil { // nobody keeps it
		d := core.DigestOf([]byte("rehearsal"))
		a.Photo = &d
	}
	a, err = run.Sealed(i, p.in.Safe, a)
	return a, true, err
}

// atStop has the person choose where the run has stopped, and tells whether it goes on. Where he
// has not said yet it waits for him.
func (p *play) atStop() (goesOn bool, err error) {
	st := p.journal.State()
	in := advise.Input{State: st, Open: true, Unit: st.Opened.Serial, Link: st.Opened.Link}
	if p.in.Advise != nil {
		if err := p.in.Advise(&in); err != nil {
			return false, err
		}
	}
	for {
		adv := advise.Of(in)
		if p.given == len(p.in.Answers) {
			view := st.View()
			p.out.Waits, p.out.Advice = &view, &adv
			return false, nil
		}
		a := p.in.Answers[p.given]
		p.given++
		switch {
		case a.Item != AtStop:
			return false, core.Fail(core.NotFound, "the rehearsal does not wait for %q now: the run has stopped", a.Item).Do("Begin it again, and answer what is asked.")
		case !slices.ContainsFunc(adv.Choices, func(c advise.Choice) bool { return c.Do == a.Value }):
			return false, core.Fail(core.NotUnderstood, "expected one of the choices, came %q", a.Value)
		case a.Value == advise.GoOn:
			return true, nil
		case a.Value != advise.Look:
			p.out.Advice, p.out.Chose = &adv, a.Value
			return false, nil
		}
		in.Line = &advise.Line{Answers: true, Serial: st.Opened.Serial, At: st.LastAt + 1} // a twin answers whoever asks
	}
}

package runs

import (
	"cmp"
	"context"
	"errors"
	"time"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/store"
)

type stopIn struct{ frame.RunPath }

func (v *Runs) stopRun(ctx context.Context, in *stopIn) (frame.None, error) {
	r, err := v.open(ctx, in.Run)
	if err != nil {
		return frame.None{}, err
	}
	o, err := v.Links.Order(client.Order{Kind: client.OrderStop, Link: r.Link, Run: r.ID, By: frame.Who(ctx).Person.ID}, r.Bench)
	if err != nil {
		return frame.None{}, err
	}
	defer v.Links.Written.Ring()
	return frame.None{}, v.store.AddOrder(ctx, o)
}

type resumeIn struct {
	frame.RunPath
	Body client.Resume
}

// resumeRun has a bench go on with a paused run: the one that it is on, or another,
// which takes it over.
func (v *Runs) resumeRun(ctx context.Context, in *resumeIn) (client.Run, error) {
	r, err := v.open(ctx, in.Run)
	if err != nil {
		return client.Run{}, err
	}
	if r.State != store.RunPaused {
		return client.Run{}, core.Fail(core.Busy, "run %s is at work", r.ID).Go(words.RunShow(r.ID).To("Look at it"))
	}
	s, err := v.Units.Folded(ctx, r.ID)
	if err != nil {
		return client.Run{}, err
	}
	if x := s.Main(); in.Body.Label == "" && x.Identified != nil && x.Identified.Strength != run.ThisUnit {
		return client.Run{}, core.Fail(core.CannotTell, "this unit tells no serial, and the run was interrupted: another unit may be on the lead now").
			Unit("as the run left it").Go(words.RunLabel(r.ID).To("Read its label again"))
	}
	p, err := v.Links.Find(ctx, cmp.Or(in.Body.At, r.BenchName+"/"+r.Link))
	if err != nil {
		return client.Run{}, err
	}
	if p.Bench != r.Bench { // what the other bench has not handed over is not lost, but nobody can go on from it
		if err := v.handedOver(ctx, r); err != nil {
			return client.Run{}, err
		}
	}
	claims, further, err := v.furtherLinks(ctx, s, p, in.Body.Links)
	if err != nil {
		return client.Run{}, err
	}
	var order client.Order
	err = v.store.ResumeRun(ctx, r, p.Bench, p.Name, claims, func(epoch uint64) (store.Order, error) {
		order = client.Order{Kind: client.OrderResume, Link: p.Name, Run: r.ID, By: frame.Who(ctx).Person.ID, Label: in.Body.Label, Epoch: epoch, Links: further, Slower: in.Body.Slower}
		o, err := v.Links.Order(order, p.Bench)
		order.ID = o.ID
		return o, err
	})
	if err != nil {
		return client.Run{}, err
	}
	v.Links.Written.Ring()
	if _, err := v.Links.Ended(ctx, order, links.OrderLasts); err != nil {
		if core.KindOf(err) != core.NotAnswering { // it did not take it up: its link is free
			err = errors.Join(err, v.store.PauseRun(ctx, r.ID))
		}
		return client.Run{}, err
	}
	return v.run(ctx, r.ID)
}

// handedOver refuses to move a run whose bench is in touch and still works on it.
func (v *Runs) handedOver(ctx context.Context, r store.Run) error {
	s, err := v.Units.Folded(ctx, r.ID)
	if err != nil {
		return err
	}
	if s.LaidBy == nil && s.Fault == nil && !s.AtRest {
		return core.Fail(core.Busy, "bench %s has not said that it has put run %s down", r.BenchName, r.ID).Go(words.RunLayAside(r.ID).To("Lay it aside there first"))
	}
	return nil
}

type layAsideIn struct {
	frame.RunPath
	Body client.LayAside
}

// layAsideRun lets a run wait for days.
func (v *Runs) layAsideRun(ctx context.Context, in *layAsideIn) (client.Run, error) {
	r, err := v.open(ctx, in.Run)
	if err != nil {
		return client.Run{}, err
	}
	laid := &run.LaidAside{By: frame.Who(ctx).Person.ID, Place: in.Body.Place, Holder: in.Body.Holder, Why: in.Body.Why}
	if _, err := v.Links.Ask(ctx, client.Order{Kind: client.OrderLayAside, Link: r.Link, Run: r.ID, By: laid.By, Laid: laid}, r.Bench, links.OrderLasts); err != nil {
		return client.Run{}, err
	}
	if err := v.untilState(ctx, r.ID, func(x store.Run) bool { return x.State != store.RunOpen && x.Brief().View.Laid != nil }); err != nil {
		return client.Run{}, err
	}
	return v.run(ctx, r.ID)
}

type abandonIn struct {
	frame.RunPath
	Body client.Reason
}

// abandonRun has the bench close a paused run; what it owes stays with the unit.
func (v *Runs) abandonRun(ctx context.Context, in *abandonIn) (client.Run, error) {
	r, err := v.open(ctx, in.Run)
	if err != nil {
		return client.Run{}, err
	}
	if r.State != store.RunPaused {
		return client.Run{}, core.Fail(core.Busy, "run %s is at work", r.ID).Go(words.RunStop(r.ID).To("Stop it first"))
	}
	if err := v.abandon(ctx, r, in.Body.Reason); err != nil {
		return client.Run{}, err
	}
	return v.run(ctx, r.ID)
}

func (v *Runs) abandon(ctx context.Context, r store.Run, reason string) error {
	_, err := v.Links.Ask(ctx, client.Order{Kind: client.OrderAbandon, Link: r.Link, Run: r.ID, By: frame.Who(ctx).Person.ID, Reason: reason}, r.Bench, links.OrderLasts)
	if err != nil {
		return err
	}
	return v.untilState(ctx, r.ID, func(x store.Run) bool { return x.State == store.RunClosed })
}

// untilState waits until the bench has told that a run stands as it should.
func (v *Runs) untilState(ctx context.Context, id string, is func(store.Run) bool) error {
	late := v.clock.After(links.OrderLasts)
	for {
		r, err := v.store.Run(ctx, id)
		if err != nil || is(r) {
			return err
		}
		select {
		case <-v.clock.After(50 * time.Millisecond):
		case <-late:
			return core.Fail(core.NotAnswering, "the bench has not told yet how run %s stands", id).Go(words.RunShow(id).To("Look at it"))
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

type releaseIn struct {
	frame.RunPath
	Body client.Reason
}

// releaseRun gives up the claims of a run for good. Whether its unit counts as
// half done goes by the events that have come.
func (v *Runs) releaseRun(ctx context.Context, in *releaseIn) (frame.None, error) {
	r, err := v.open(ctx, in.Run)
	if err != nil {
		return frame.None{}, err
	}
	s, err := v.Units.Folded(ctx, r.ID)
	if core.KindOf(err) == core.NotFound {
		s, err = &run.State{}, nil
	}
	if err != nil {
		return frame.None{}, err
	}
	return frame.None{}, v.store.ReleaseRun(ctx, v.key, r, frame.Who(ctx).Person.ID, in.Body.Reason, s.MayHaveTouched())
}

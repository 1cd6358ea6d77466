package units

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/internal/store"
)

// How many units are judged at a time, how often is asked whether there are any, and after which time
// those are judged again of which nothing could be told.
const (
	judgedMost = 200
	judgedNow  = 5 // times as many while somebody waits
	judgeEvery = 5 * time.Second
	judgeAgain = time.Hour
)

// judgeSome judges some units, of a model or any, whose row does not say yet what they are due, and
// tells whether there may be more.
func (v *Units) judgeSome(ctx context.Context, model string) (more bool, err error) {
	units, err := v.store.Unjudged(ctx, model, v.clock.Now(), judgedMost)
	if err != nil {
		return false, err
	}
	if len(units) > 0 {
		return true, v.keepDue(ctx, units)
	}
	turn, units, err := v.store.NextTurn(ctx, model, judgedMost)
	if err != nil || turn.Model == "" {
		return false, err
	}
	if err := v.keepDue(ctx, units); err != nil {
		return false, err
	}
	if len(units) > 0 {
		turn.Serial = units[len(units)-1].Serial
	}
	return true, v.store.EndTurn(ctx, turn, len(units) < judgedMost)
}

// JudgeNow judges units of a model that wait for it, so that whoever asks for those that are due something
// does not have to wait for the next round. It tells whether some still wait.
func (v *Units) JudgeNow(ctx context.Context, model string) (waits bool, err error) {
	for range judgedNow {
		if waits, err = v.store.Judging(ctx, model); err != nil || !waits {
			return waits, err
		}
		if _, err := v.judgeSome(ctx, model); err != nil {
			return true, err
		}
	}
	return v.store.Judging(ctx, model)
}

// keepDue judges some units and keeps what they are due.
func (v *Units) keepDue(ctx context.Context, units []store.Waiting) error {
	of := map[string][]store.Waiting{}
	for _, u := range units {
		of[u.Model] = append(of[u.Model], u)
	}
	said := map[store.Due][]store.Waiting{}
	for name, units := range of {
		g, err := v.grounds(ctx, name)
		if kind := core.KindOf(err); kind != "" && kind != core.NotAnswering { // its sheet is not there, or was changed: the others do not wait for it
			v.log.Warn("what units are due cannot be told", "model", name, "error", err)
			nothing := store.Due{Until: v.clock.Now().Add(judgeAgain).UTC().Truncate(time.Microsecond)}
			said[nothing] = append(said[nothing], units...)
			continue
		}
		if err != nil {
			return err
		}
		plain := make([]store.Unit, len(units))
		for i, u := range units {
			plain[i] = u.Unit
		}
		all, err := v.knownOf(ctx, g, plain)
		if err != nil {
			return err
		}
		offer, answers := fit.NewOffer(g.sheet, g.releases), fit.Answers{}
		for i, j := range all {
			d := store.Due{Until: j.until.UTC(), Version: offer.Due(j.stands(), &j.Known, j.team, &answers)}
			said[d] = append(said[d], units[i])
		}
	}
	for d, units := range said {
		if err := v.store.PutDue(ctx, d, units); err != nil {
			return err
		}
	}
	return nil
}

// KeepJudged keeps in the units' rows what they are due, until the context ends. Of several services
// one does it at a time; where there is much to do it rests as long as it works.
func (v *Units) KeepJudged(ctx context.Context) {
	me := store.NewID()
	defer v.GiveBack(v.store, "judge", me)
	for {
		rest := judgeEvery
		has, err := v.store.Lease(ctx, "judge", me, 12*judgeEvery)
		if err == nil && has {
			began := v.clock.Now()
			var more bool
			if more, err = v.judgeSome(ctx, ""); more {
				rest = min(v.clock.Now().Sub(began), judgeEvery)
			}
		}
		if err != nil && ctx.Err() == nil {
			v.log.Error("what units are due could not be renewed", "error", err)
			rest = judgeEvery
		}
		select {
		case <-v.clock.After(rest):
		case <-ctx.Done():
			return
		}
	}
}

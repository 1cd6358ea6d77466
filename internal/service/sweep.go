package service

import (
	"context"
	"strconv"
	"time"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

// How often is swept, how many rows at a time, and how long is rested where there are more.
const (
	sweepEvery = 10 * time.Minute
	sweepRests = time.Second
	sweepMost  = 500
)

// secondThoughts is how long nothing is removed after a lead has settled how long photos are kept:
// a number that was mistyped can be taken back.
const secondThoughts = 24 * time.Hour

// ruleKept is how many days photos are kept, as the team has settled it.
const ruleKept = "photos-kept"

// kept is for how many days photos are kept; 0 for ever, which it is where nothing was settled.
func (v *Service) kept(ctx context.Context) (days int, out client.Retention, err error) {
	out.Said = core.Say("Photos are kept until somebody removes them.")
	value, by, at, err := v.store.TeamRule(ctx, ruleKept)
	if err != nil || value == "" {
		return 0, out, err
	}
	if days, err = strconv.Atoi(value); err != nil {
		return 0, out, err
	}
	if days > 0 {
		out.Said = core.Say("Photos are kept for %d days; then they are removed, and their digests stay. For a day after this is settled none is removed.", days)
	}
	names, err := v.store.Names(ctx)
	out.Photos, out.By, out.At = days, names[by], &at
	return days, out, err
}

// retention says how long what is kept.
func (v *Service) retention(ctx context.Context, _ *frame.None) (client.Retention, error) {
	_, out, err := v.kept(ctx)
	return out, err
}

type retentionIn struct{ Body client.NewRetention }

// putRetention settles how long photos are kept.
func (v *Service) putRetention(ctx context.Context, in *retentionIn) (client.Retention, error) {
	if err := v.Sure(ctx); err != nil {
		return client.Retention{}, err
	}
	if err := v.store.PutTeamRule(ctx, ruleKept, strconv.Itoa(in.Body.Photos), frame.Who(ctx).Person.ID, v.clock.Now()); err != nil {
		return client.Retention{}, err
	}
	_, out, err := v.kept(ctx)
	if err == nil {
		err = v.Audit(ctx, people.AuditRule, "", "%s", out.Text)
	}
	return out, err
}

// sweep takes away some of what is over, and photos that are older than the team keeps them.
func (v *Service) sweep(ctx context.Context) (map[string]int64, bool, error) {
	now := v.clock.Now()
	swept, more, err := v.store.Sweep(ctx, now, sweepMost)
	if err != nil {
		return swept, more, err
	}
	days, settled, err := v.kept(ctx)
	if err != nil || days == 0 || now.Sub(*settled.At) < secondThoughts {
		return swept, more, err
	}
	n, err := v.store.SweepEvidence(ctx, now.Add(-time.Duration(days)*24*time.Hour), sweepMost)
	if n > 0 {
		swept["photos"] = n
	}
	return swept, more || n == sweepMost, err
}

// giveBack gives a work of the background back, so that another service begins at once.
func (v *Service) giveBack(ctx context.Context, work, me string) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	if _, err := v.store.Lease(ctx, work, me, -time.Second); err != nil {
		v.log.Warn("a work of the background could not be given back; the next service begins it when it is over", "work", work, "error", err)
	}
}

// KeepSwept takes away what is over and nobody asks for, until the context ends. Of several
// services one does it at a time.
func (v *Service) KeepSwept(ctx context.Context) {
	me := store.NewID()
	defer v.giveBack(ctx, "sweep", me)
	for {
		rest := sweepEvery
		has, err := v.store.Lease(ctx, "sweep", me, 2*sweepEvery)
		if err == nil && has {
			var swept map[string]int64
			var more bool
			swept, more, err = v.sweep(ctx)
			if len(swept) > 0 {
				v.log.Info("swept what is over", "rows", swept)
			}
			if more {
				rest = sweepRests
			}
		}
		if err != nil && ctx.Err() == nil {
			v.log.Error("what is over could not be swept", "error", err)
		}
		select {
		case <-v.clock.After(rest):
		case <-ctx.Done():
			return
		}
	}
}

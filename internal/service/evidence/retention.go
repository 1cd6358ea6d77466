package evidence

import (
	"context"
	"strconv"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
)

// secondThoughts is how long nothing is removed after a lead has settled how long it is kept: a number
// that was mistyped can be taken back.
const secondThoughts = 24 * time.Hour

// What is kept as long as the team settles.
const (
	keptPhotos = "photos"
	keptTraces = "traces"
	keptLog    = "log"
)

// tracesKept is for how many days traces are kept where nobody has settled it, and logLeast for how many
// the audit log is kept at least, as its procedure in the database wants.
const (
	tracesKept = 730
	logLeast   = 366
)

// keeping is how long something is kept.
type keeping struct {
	days    int // 0 for ever
	settled *time.Time
	client.KeptFor
}

// over is from when on something has been kept long enough; not ok where nothing is removed now.
func (k keeping) over(now time.Time) (before time.Time, ok bool) {
	if k.days == 0 || k.settled != nil && now.Sub(*k.settled) < secondThoughts {
		return before, false
	}
	return now.Add(-time.Duration(k.days) * 24 * time.Hour), true
}

// kept is how long something is kept, as the team has settled it.
func (v *Evidence) kept(ctx context.Context, what string, unsettled int) (k keeping, err error) {
	k.days, k.What = unsettled, what
	value, by, at, err := v.store.TeamRule(ctx, what+"-kept")
	if err != nil {
		return k, err
	}
	if value != "" {
		if k.days, err = strconv.Atoi(value); err != nil {
			return k, err
		}
		names, err := v.store.Names(ctx)
		if err != nil {
			return k, err
		}
		k.settled, k.By, k.At = &at, names[by], &at
	}
	k.Days = k.days
	k.Said = keptSays(what, k.days)
	return k, nil
}

func keptSays(what string, days int) core.Said {
	ever := days == 0
	switch {
	case what == keptPhotos && ever:
		return core.Say("Photos are kept until somebody removes them.")
	case what == keptPhotos:
		return core.Say("Photos are kept for %d days; then they are removed, and their digests stay.", days)
	case what == keptTraces && ever:
		return core.Say("What was said on a line until something went wrong is kept for good.")
	case what == keptTraces:
		return core.Say("What was said on a line until something went wrong is kept for %d days; then it is removed, and its digest stays in the signed event.", days)
	case ever:
		return core.Say("The audit log is kept for good.")
	}
	return core.Say("The audit log is kept for %d days and to the end of that month; then an entry of it lets the older ones go, of which the hashes stay in the chain and in the tree.", days)
}

// all is how long each is kept.
func (v *Evidence) all(ctx context.Context) (photos, traces, log keeping, err error) {
	if photos, err = v.kept(ctx, keptPhotos, 0); err != nil {
		return
	}
	if traces, err = v.kept(ctx, keptTraces, tracesKept); err != nil {
		return
	}
	log, err = v.kept(ctx, keptLog, 0)
	return
}

// retention says how long what is kept.
func (v *Evidence) retention(ctx context.Context, _ *frame.None) (client.Retention, error) {
	photos, traces, log, err := v.all(ctx)
	return client.Retention{Said: photos.Said, Photos: photos.Days, By: photos.By, At: photos.At, Kept: []client.KeptFor{photos.KeptFor, traces.KeptFor, log.KeptFor}}, err
}

type retentionIn struct{ Body client.NewRetention }

// putRetention settles how long what is kept.
func (v *Evidence) putRetention(ctx context.Context, in *retentionIn) (client.Retention, error) {
	if err := v.People.Sure(ctx); err != nil {
		return client.Retention{}, err
	}
	if n := in.Body.Log; n != nil && *n > 0 && *n < logLeast {
		return client.Retention{}, core.Fail(core.BadFile, "the audit log is kept for %d days at least, not %d", logLeast, *n).Unit("nothing was changed")
	}
	settled := false
	for _, x := range []struct {
		what string
		days *int
	}{{keptPhotos, in.Body.Photos}, {keptTraces, in.Body.Traces}, {keptLog, in.Body.Log}} {
		if x.days == nil {
			continue
		}
		settled = true
		if err := v.store.PutTeamRule(ctx, x.what+"-kept", strconv.Itoa(*x.days), frame.Who(ctx).Person.ID, v.clock.Now()); err != nil {
			return client.Retention{}, err
		}
		if err := v.People.Audit(ctx, people.AuditRule, "", "%s", keptSays(x.what, *x.days).Text); err != nil {
			return client.Retention{}, err
		}
	}
	if !settled {
		return client.Retention{}, core.Fail(core.BadFile, "nothing is settled: wanted are days for photos, traces or the log").Unit("nothing was changed")
	}
	return v.retention(ctx, nil)
}

// Sweep removes what was kept long enough, of each kind as many as most, and tells how many of which, and
// whether there may be more.
func (v *Evidence) Sweep(ctx context.Context, most int) (swept map[string]int64, more bool, err error) {
	swept = map[string]int64{}
	photos, traces, log, err := v.all(ctx)
	if err != nil {
		return swept, false, err
	}
	now := v.clock.Now()
	for _, x := range []struct {
		keeping
		sweep func(context.Context, time.Time, int) (int64, error)
	}{{photos, v.store.SweepEvidence}, {traces, v.store.SweepTraces}} {
		before, ok := x.over(now)
		if !ok {
			continue
		}
		n, err := x.sweep(ctx, before, most)
		if n > 0 {
			swept[x.What] = n
		}
		if more = more || n == int64(most); err != nil {
			return swept, more, err
		}
	}
	before, ok := log.over(now)
	if !ok {
		return swept, more, nil
	}
	before = time.Date(before.UTC().Year(), before.UTC().Month(), 1, 0, 0, 0, 0, time.UTC) // an entry a month that says so
	n, err := v.store.LogToCut(ctx, before)
	if err != nil || n == 0 {
		return swept, more, err
	}
	if err := v.People.Audit(ctx, history.LogCut, "", "%s", history.CutText(n)); err != nil {
		return swept, more, err
	}
	return swept, true, v.store.CutsLog(ctx, before, n)
}

package people

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
)

// What one may send so much of in a day: by benches and by people.
const (
	SentPieces = "pieces" // bytes
	SentEvents = "events"
	SentPhotos = "photos" // bytes
	SentImages = "images" // bytes
)

const mebi = 1 << 20

// quota is how much of something one may send in a day.
type quota struct {
	what  string
	usual int // where nobody has settled it; MiB, of events how many
	says  func(most int) core.Said
	ever  core.Said // where there is no bound
	sent  func(who string, amount int64) core.Said
	over  func(who string, amount int64, most int) *core.Error
}

// bytes is how much of it counts as one.
func (q quota) bytes() int64 {
	if q.what == SentEvents {
		return 1
	}
	return mebi
}

// quotas are beyond what comes together where sixteen links are at work all day.
var quotas = []quota{
	{SentPieces, 16 << 10, func(n int) core.Said { return core.Say("A bench may send %d MiB of memory a day.", n) }, core.Say("A bench may send as much memory as there is."),
		func(who string, n int64) core.Said { return core.Say("%s: %s of memory.", who, size(n)) },
		func(who string, n int64, most int) *core.Error {
			return core.Fail(core.Busy, "bench %s has sent %s of memory today, and may send %d MiB a day (UTC)", who, size(n), most)
		}},
	{SentEvents, 5_000_000, func(n int) core.Said {
		return core.Say("A bench may send %d events of runs a day; then it begins no other run, and what those that have begun say is taken up to twice as many.", n)
	}, core.Say("A bench may send as many events of runs as there are."),
		func(who string, n int64) core.Said { return core.Say("%s: %d events of runs.", who, n) },
		func(who string, n int64, most int) *core.Error {
			return core.Fail(core.Busy, "bench %s has sent %d events of runs today; from %d a day (UTC) on no other run is begun there", who, n, most)
		}},
	{SentPhotos, 2 << 10, func(n int) core.Said { return core.Say("A person may send %d MiB of photos a day.", n) }, core.Say("A person may send as many photos as there are."),
		func(who string, n int64) core.Said { return core.Say("%s: %s of photos.", who, size(n)) },
		func(who string, n int64, most int) *core.Error {
			return core.Fail(core.Busy, "%s has sent %s of photos today, and may send %d MiB a day (UTC)", who, size(n), most)
		}},
	{SentImages, 8 << 10, func(n int) core.Said { return core.Say("A person may send %d MiB of firmware files a day.", n) }, core.Say("A person may send as many firmware files as there are."),
		func(who string, n int64) core.Said { return core.Say("%s: %s of firmware files.", who, size(n)) },
		func(who string, n int64, most int) *core.Error {
			return core.Fail(core.Busy, "%s has sent %s of firmware files today, and may send %d MiB a day (UTC)", who, size(n), most)
		}},
}

// size is a number of bytes, in the largest unit of IEC 80000-13 that tells enough of it.
func size(n int64) string {
	switch {
	case n >= 10*mebi:
		return fmt.Sprintf("%d MiB", n/mebi)
	case n >= 10<<10:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d bytes", n)
}

func ruleOf(what string) string { return what + "-a-day" }

// allowed is how much the team lets one send in a day: 0 is without a bound.
func (v *People) allowed(ctx context.Context, q quota) (most int, by string, at time.Time, err error) {
	value, by, at, err := v.store.TeamRule(ctx, ruleOf(q.what))
	if err != nil || value == "" {
		return q.usual, "", at, err
	}
	most, err = strconv.Atoi(value)
	return most, by, at, err
}

// sending is what is counted of what one bench or person sends of something.
type sending struct {
	mu    sync.Mutex
	day   time.Time
	most  int   // what the team had settled when it was asked
	noted int64 // in the database, with what other services have taken
	fresh int64 // taken here, and not noted yet
	asked time.Time
}

type sendingKey struct{ caller, what string }

// sendings are those of all.
type sendings struct {
	mu sync.Mutex
	of map[sendingKey]*sending
}

func (s *sendings) at(k sendingKey) *sending {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil {
		s.of = map[sendingKey]*sending{}
	}
	if s.of[k] == nil {
		s.of[k] = new(sending)
	}
	return s.of[k]
}

// forget has everything asked anew.
func (s *sendings) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range s.of {
		x.mu.Lock()
		x.asked = time.Time{}
		x.mu.Unlock()
	}
}

// settle notes in the database what was taken here, and asks what was taken elsewhere.
func (v *People) settle(ctx context.Context, k sendingKey, x *sending, day time.Time) (err error) {
	if x.day != day {
		if x.fresh != 0 {
			if _, err := v.store.AddSent(ctx, x.day, k.caller, k.what, x.fresh); err != nil {
				return err
			}
		}
		x.day, x.noted, x.fresh = day, 0, 0
	}
	if x.noted, err = v.store.AddSent(ctx, day, k.caller, k.what, x.fresh); err != nil {
		return err
	}
	x.fresh = 0
	if x.most, _, _, err = v.allowed(ctx, quotaOf(k.what)); err == nil {
		x.asked = v.clock.Now()
	}
	return err
}

func quotaOf(what string) quota {
	return quotas[slices.IndexFunc(quotas, func(q quota) bool { return q.what == what })]
}

// dayOf is the day in which what is sent counts.
func dayOf(now time.Time) time.Time { return now.UTC().Truncate(24 * time.Hour) }

// Sends counts what whoever asks sends, and refuses what is beyond what one may send in a day. What
// was not kept after all is given back. Of events twice as many are taken: a run that has begun is
// told to its end.
func (v *People) Sends(ctx context.Context, what string, amount int64) (giveBack func(), err error) {
	c := frame.Who(ctx)
	k := sendingKey{cmp.Or(c.Bench, c.Person.ID), what}
	x := v.sendings.at(k)
	x.mu.Lock()
	defer x.mu.Unlock()
	times := int64(1)
	if what == SentEvents {
		times = 2
	}
	if err := v.within(ctx, k, x, amount, times); err != nil {
		return nil, err
	}
	x.fresh += amount
	return func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.fresh -= amount
	}, nil
}

// MayBegin refuses a run at a bench that has sent as many events today as it may.
func (v *People) MayBegin(ctx context.Context, bench string) error {
	k := sendingKey{bench, SentEvents}
	x := v.sendings.at(k)
	x.mu.Lock()
	defer x.mu.Unlock()
	return v.within(ctx, k, x, 1, 1)
}

// within refuses more of something where it is beyond so many times what one may send in a day.
func (v *People) within(ctx context.Context, k sendingKey, x *sending, amount, times int64) error {
	q := quotaOf(k.what)
	now := v.clock.Now()
	day := dayOf(now)
	over := func() bool {
		most := times * int64(x.most) * q.bytes()
		return most > 0 && x.noted+x.fresh+amount > most
	}
	if x.day != day || now.Sub(x.asked) >= countEvery || over() { // a lead may have let more in since
		if err := v.settle(ctx, k, x, day); err != nil {
			return err
		}
	}
	if !over() {
		return nil
	}
	v.Counter("ferry_quota_refused_total", "what", k.what).Inc()
	first, err := v.store.TellSent(ctx, day, k.caller, k.what)
	if err != nil {
		return err
	}
	names, err := v.senders(ctx)
	if err != nil {
		return err
	}
	if first {
		if err := v.Audit(ctx, auditQuota, "", "%s More is refused. %s", q.sent(names[k.caller], x.noted).Text, q.says(x.most).Text); err != nil {
			return err
		}
	}
	return frame.Later(day.Add(24*time.Hour).Sub(now), q.over(names[k.caller], x.noted, x.most).Unit("nothing was changed").Go(words.Quota().To("A lead may let more in"), core.Plain("Or go on tomorrow.")))
}

// senders are the names of all who send, by id.
func (v *People) senders(ctx context.Context) (map[string]string, error) {
	all, err := v.store.Names(ctx)
	if err != nil {
		return nil, err
	}
	benches, err := v.store.Benches(ctx)
	for _, b := range benches {
		all[b.ID] = b.Name
	}
	return all, err
}

// countEvery is how often what was taken is noted, and asked what was settled and taken elsewhere; a service
// that is killed forgets as much.
const countEvery = 10 * time.Second

// KeepCounted notes what was sent to this service, until the context ends.
func (v *People) KeepCounted(ctx context.Context) {
	for {
		select {
		case <-v.clock.After(countEvery):
			v.count(ctx)
		case <-ctx.Done():
			last, end := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
			v.count(last)
			end()
			return
		}
	}
}

// count notes what was taken since it was noted last.
func (v *People) count(ctx context.Context) {
	v.sendings.mu.Lock()
	all := make(map[sendingKey]*sending, len(v.sendings.of))
	for k, x := range v.sendings.of {
		all[k] = x
	}
	v.sendings.mu.Unlock()
	day := dayOf(v.clock.Now())
	for k, x := range all {
		x.mu.Lock()
		var err error
		if x.fresh != 0 {
			err = v.settle(ctx, k, x, day)
		}
		x.mu.Unlock()
		if err != nil {
			v.log.Warn("what was sent could not be noted; it is tried again", "error", err)
			return
		}
	}
}

// mostSenders is how many are shown of each.
const mostSenders = 10

// getQuotas says how much one may send, and who has sent the most today.
func (v *People) getQuotas(ctx context.Context, _ *frame.None) (client.Quotas, error) {
	v.count(ctx)
	day := dayOf(v.clock.Now())
	out := client.Quotas{Day: day.Format(time.DateOnly), Quotas: []client.Quota{}, Sent: []client.Sent{}}
	names, err := v.senders(ctx)
	if err != nil {
		return out, err
	}
	sent, err := v.store.MostSent(ctx, day, mostSenders)
	if err != nil {
		return out, err
	}
	for _, q := range quotas {
		most, by, at, err := v.allowed(ctx, q)
		if err != nil {
			return out, err
		}
		one := client.Quota{What: q.what, Most: most, Said: q.ever, By: names[by]}
		if most > 0 {
			one.Said = q.says(most)
		}
		if by != "" {
			one.At = &at
		}
		out.Quotas = append(out.Quotas, one)
		for _, x := range sent {
			if x.What == q.what {
				who := cmp.Or(names[x.Caller], x.Caller)
				out.Sent = append(out.Sent, client.Sent{Said: q.sent(who, x.Amount), Who: who, What: x.What, Amount: x.Amount, Reached: x.Told})
			}
		}
	}
	return out, nil
}

type quotasIn struct{ Body client.NewQuotas }

// putQuotas settles how much one may send in a day.
func (v *People) putQuotas(ctx context.Context, in *quotasIn) (client.Quotas, error) {
	if err := v.Sure(ctx); err != nil {
		return client.Quotas{}, err
	}
	given := map[string]*int{SentPieces: in.Body.Pieces, SentEvents: in.Body.Events, SentPhotos: in.Body.Photos, SentImages: in.Body.Images}
	settled := false
	for _, q := range quotas {
		most := given[q.what]
		if most == nil {
			continue
		}
		settled = true
		if err := v.store.PutTeamRule(ctx, ruleOf(q.what), strconv.Itoa(*most), frame.Who(ctx).Person.ID, v.clock.Now()); err != nil {
			return client.Quotas{}, err
		}
		says := q.ever
		if *most > 0 {
			says = q.says(*most)
		}
		if err := v.Audit(ctx, AuditRule, "", "%s", says.Text); err != nil {
			return client.Quotas{}, err
		}
	}
	v.sendings.forget()
	if !settled {
		return client.Quotas{}, core.Fail(core.BadFile, "nothing is settled: wanted is how much of pieces, events, photos or images").Unit("nothing was changed")
	}
	return v.getQuotas(ctx, nil)
}

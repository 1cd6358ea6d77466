package benches

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/service/runs"
	"zealousferry/internal/store"
)

// BenchPath names a bench.
type BenchPath struct {
	Bench string `path:"bench"`
}

func (v *Benches) listBenches(ctx context.Context, in *frame.PageIn) (client.Benches, error) {
	rows, p, err := v.store.BenchesPage(ctx, in.After, in.Size)
	out := client.Benches{Benches: []client.Bench{}, Paged: frame.Paged(p)}
	for _, b := range rows {
		out.Benches = append(out.Benches, client.Bench{ID: b.ID, Name: b.Name, Version: b.Version, Online: v.Links.Online(b.Seen, b.Revoked), Revoked: b.Revoked.Valid,
			Enrolled: b.Enrolled, Seen: frame.TimeOf(b.Seen), ClockError: b.ClockError})
	}
	return out, err
}

func (v *Benches) newBenchCode(ctx context.Context, _ *frame.None) (client.Code, error) {
	text, digest := people.Secret()
	ends := v.clock.Now().Add(people.EnrolLasts).UTC()
	if err := v.store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretEnrol, Expires: sql.NullTime{Time: ends, Valid: true}}); err != nil {
		return client.Code{}, err
	}
	return client.Code{Code: text, Expires: ends}, v.People.Audit(ctx, people.AuditBenchCode, "", "good until %s", ends.Format("15:04"))
}

func (v *Benches) revokeBench(ctx context.Context, in *BenchPath) (frame.None, error) {
	b, err := v.store.BenchBy(ctx, in.Bench)
	if err == nil {
		err = v.People.Sure(ctx)
	}
	if err != nil {
		return frame.None{}, err
	}
	if err := v.store.RevokeBench(ctx, b.ID, v.clock.Now()); err != nil {
		return frame.None{}, err
	}
	return frame.None{}, v.People.Audit(ctx, people.AuditRevoked, "", "%s", b.Name)
}

type renameIn struct {
	BenchPath
	Body client.NewName
}

// renameBench gives a bench another name. What names its links by the old one must be over first:
// runs, trays, rounds.
func (v *Benches) renameBench(ctx context.Context, in *renameIn) (frame.None, error) {
	b, err := v.store.BenchBy(ctx, in.Bench)
	if err != nil {
		return frame.None{}, err
	}
	name := in.Body.Name
	switch {
	case b.Revoked.Valid:
		return frame.None{}, core.Fail(core.NotAllowed, "bench %s was revoked", b.Name).Unit("nothing was changed").Go(words.BenchList().To("See which benches there are"))
	case !benchName.MatchString(name):
		return frame.None{}, core.Fail(core.NotUnderstood, "a bench's name has lower-case letters, digits and hyphens, 1 to 40; this is %q", name).Unit("nothing was changed").Do("Choose another name.")
	}
	open, err := v.store.RenameBench(ctx, b, name)
	if err != nil {
		return frame.None{}, err
	}
	if len(open) > 0 {
		return frame.None{}, core.Fail(core.Busy, "bench %s has work open that names its links: %s", b.Name, strings.Join(open, ", ")).Unit("nothing was changed").Do("End it first: the page Today has what is open.")
	}
	v.benches.Forget()
	return frame.None{}, v.People.Audit(ctx, people.AuditRenamed, "", "%s is %s from now on", b.Name, name)
}

var benchName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

func (v *Benches) enrol(ctx context.Context, in *frame.RawIn) (client.Enrolled, error) {
	e, err := frame.Decode[client.Enrolment](in.RawBody)
	if err != nil {
		return client.Enrolled{}, err
	}
	switch {
	case !benchName.MatchString(e.Name):
		return client.Enrolled{}, core.Fail(core.BadFile, "a bench's name has lower-case letters, digits and hyphens, 1 to 40; this is %q", e.Name)
	case len(e.PublicKey) != 32:
		return client.Enrolled{}, core.Fail(core.BadFile, "an Ed25519 key has 32 bytes, this has %d", len(e.PublicKey))
	}
	if err := spoken(e.Protocol); err != nil {
		return client.Enrolled{}, err
	}
	if _, err := v.store.UseSecret(ctx, core.DigestOf([]byte(e.Code)), store.SecretEnrol, v.clock.Now()); err != nil {
		return client.Enrolled{}, err
	}
	b := store.Bench{ID: store.NewID(), Name: e.Name, PublicKey: e.PublicKey, Version: e.Version, Signs: sql.NullTime{Time: v.clock.Now().UTC(), Valid: e.Protocol >= client.Signs}}
	if err := v.store.AddBench(ctx, b); err != nil {
		return client.Enrolled{}, err
	}
	text, digest := people.Secret()
	err = v.store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretToken, Bench: sql.NullString{String: b.ID, Valid: true}, Name: "bench " + e.Name})
	if err != nil {
		return client.Enrolled{}, err
	}
	err = v.People.Audit(ctx, people.AuditEnrolled, "", "%s, version %s, from %s", e.Name, frame.Short(e.Version, 40), frame.Who(ctx).Address)
	return client.Enrolled{Bench: b.ID, Token: text, ServiceKey: v.key.Public()}, err
}

type successionIn struct{ Body history.SignedSuccession }

// renewBenchKey has a bench sign with another key from now on. Both keys have signed that, so what
// carries it need not be signed; it may come twice.
func (v *Benches) renewBenchKey(ctx context.Context, in *successionIn) (frame.None, error) {
	b, err := v.store.BenchBy(ctx, frame.Who(ctx).Bench)
	if err != nil {
		return frame.None{}, err
	}
	x, err := in.Body.Open()
	switch {
	case err != nil:
		return frame.None{}, v.forged(ctx, b, "a new key of it is not signed by both keys")
	case bytes.Equal(x.To, b.PublicKey):
		return frame.None{}, nil
	case !bytes.Equal(x.From, b.PublicKey) || slices.ContainsFunc(b.Keys(), func(k trust.Public) bool { return bytes.Equal(k, x.To) }):
		return frame.None{}, v.forged(ctx, b, "a new key of it does not follow the one that it has")
	}
	if err := v.store.RenewBenchKey(ctx, b, x.To); err != nil {
		return frame.None{}, err
	}
	v.benches.Forget()
	return frame.None{}, v.People.Audit(ctx, people.AuditBenchKey, "", "%s signs with key %s from now on, and no longer with %s", b.Name, x.To.ID(), x.From.ID())
}

// spoken refuses benches that are too far from this version.
func spoken(protocol int) error {
	if protocol > client.Protocol || protocol < client.Protocol-2 || protocol < 1 {
		return core.Fail(core.NotAllowed, "the bench speaks version %d, the service %d to %d", protocol, max(1, client.Protocol-2), client.Protocol).Do("Use a version of the program that is nearer to the service's.")
	}
	return nil
}

func (v *Benches) join(ctx context.Context, in *frame.RawIn) (client.Catalogue, error) {
	j, err := frame.Decode[client.Joining](in.RawBody)
	if err != nil {
		return client.Catalogue{}, err
	}
	if err := spoken(j.Protocol); err != nil {
		return client.Catalogue{}, err
	}
	now := v.clock.Now()
	if !j.Brief {
		if err := v.joined(ctx, j, now); err != nil {
			return client.Catalogue{}, err
		}
	}
	out := client.Catalogue{Now: now.UnixMicro()}
	list, err := v.inForce(ctx, j.Fresh)
	if err != nil {
		return out, err
	}
	if out.Listed = list.sum; j.Listed == list.sum {
		out.Same = true
	} else {
		out.Sheets = list.sheets
	}
	if now := v.store.Line(); j.Service != "" && j.Service != now.Now.ID() {
		if out.Succeeds, err = v.store.Successions(ctx); err != nil {
			return out, err
		}
	}
	if out.Brief = j.Brief; !j.Brief {
		if err := v.tellBench(ctx, j, &out); err != nil {
			return out, err
		}
	}
	if out.Keys, err = v.keysFor(ctx, j.Keys); err != nil {
		return out, err
	}
	out.Barred, err = v.store.Withdrawn(ctx, frame.Who(ctx).Bench)
	out.Withdrawn = map[string]string{}
	for run, bars := range out.Barred {
		out.Withdrawn[run] = bars.Text
	}
	return out, err
}

// joined notes that a bench is there, and what it has.
func (v *Benches) joined(ctx context.Context, j client.Joining, now time.Time) error {
	if err := v.store.BenchSeen(ctx, frame.Who(ctx).Bench, now, j.Now-now.UnixMicro(), j.Version); err != nil {
		return err
	}
	var links []store.Link
	for _, l := range j.Links {
		if !benchName.MatchString(l.Name) {
			return core.Fail(core.BadFile, "a link's name has lower-case letters, digits and hyphens; this is %q", l.Name)
		}
		links = append(links, store.Link{Name: l.Name, Kind: l.Kind, Adapter: l.Adapter, Absent: l.Absent})
		if l.Adapter != "" && l.Latency > 0 {
			if err := v.store.Delayed(ctx, l.Adapter, l.Latency); err != nil {
				return err
			}
		}
	}
	return v.store.PutLinks(ctx, frame.Who(ctx).Bench, links)
}

// tellBench fills in what a bench hears every few seconds.
func (v *Benches) tellBench(ctx context.Context, j client.Joining, out *client.Catalogue) (err error) {
	if j.Name != "" {
		b, err := v.benchRow(ctx, frame.Who(ctx).Bench)
		if err == nil && b.Name != j.Name { // what is remembered may be older than what the bench has heard of another service
			b, err = v.store.BenchBy(ctx, b.ID)
		}
		if err != nil {
			return err
		}
		if b.Name != j.Name {
			out.Name = b.Name
		}
	}
	if out.Trays, err = v.Rounds.BenchTrays(ctx, frame.Who(ctx).Bench); err != nil {
		return err
	}
	out.Checkpoint, err = v.Evidence.NewerCheckpoint(ctx, j.Tree)
	return err
}

// keysFor is the signed list of the trusted keys for a bench that holds the one of that number;
// nil where it is the same.
func (v *Benches) keysFor(ctx context.Context, held uint64) (*trust.SignedKeys, error) {
	keys, rows, err := v.store.Keys(ctx)
	if err != nil {
		return nil, err
	}
	l := trust.KeyList{Number: 1, Keys: keys}
	for _, k := range rows { // rows are only added, and each is changed twice at most
		l.Number++
		if !k.Alone && k.Second.Valid {
			l.Number++
		}
		if k.Revoked.Valid {
			l.Number++
		}
	}
	if l.Number == held {
		return nil, nil
	}
	s, err := v.key.SignKeys(l)
	return &s, err
}

// sheetList are the sheets in force, by the names of their models; sum tells one list from others,
// changes how often a sheet had been put in force.
type sheetList struct {
	changes uint64
	sum     string
	sheets  []core.Digest
}

// inForce gives the list as it was a moment ago, or with fresh as it is now. It is read anew where a
// sheet was put in force since.
func (v *Benches) inForce(ctx context.Context, fresh bool) (sheetList, error) {
	if fresh {
		v.sheets.Forget()
	}
	return v.sheets.Get(ctx, v.Frame, func(ctx context.Context) (sheetList, error) {
		changes, err := v.store.ModelChanges(ctx)
		if err != nil || changes != 0 && changes == v.sheets.Is.changes { // nobody counts while older services may run
			return v.sheets.Is, err
		}
		models, err := v.store.Models(ctx)
		list, sum := sheetList{changes: changes, sheets: make([]core.Digest, len(models))}, sha256.New()
		for i, m := range models {
			list.sheets[i] = core.Digest(m.Sheet)
			sum.Write(m.Sheet)
		}
		list.sum = hex.EncodeToString(sum.Sum(nil))
		return list, err
	})
}

// orders sends a bench what it is to do. An order is sent again on each new
// connection until it has ended; the bench carries each out once.
func (v *Benches) orders(ctx context.Context, _ *frame.None) (frame.Follow, error) {
	bench := frame.Who(ctx).Bench
	return func(ctx context.Context, s *frame.Sender) error {
		b, leave := v.Runs.Follower.Listen(bench)
		defer leave()
		if err := s.Alive(); err != nil {
			return err
		}
		sent := map[string]bool{}
		for {
			open, revoked, news, err := v.Runs.Follower.Open(b)
			if err != nil || revoked {
				return err
			}
			for _, o := range open {
				if sent[o.ID] {
					continue
				}
				sent[o.ID] = true
				if err := s.Send(base64.RawURLEncoding.EncodeToString(o.Signature), "order", json.RawMessage(o.Body)); err != nil {
					return err
				}
			}
			select {
			case <-ctx.Done():
				return nil
			case <-news:
			case <-v.clock.After(runs.AliveEvery):
				if err := s.Alive(); err != nil {
					return err
				}
			}
		}
	}, nil
}

type orderIn struct {
	Order   string `path:"order"`
	RawBody []byte
}

// endOrder keeps what came of an order. A run that the bench did not open is
// closed here, since there is no journal of it.
func (v *Benches) endOrder(ctx context.Context, in *orderIn) (frame.None, error) {
	result, err := frame.Decode[client.Result](in.RawBody)
	if err != nil {
		return frame.None{}, err
	}
	o, err := v.store.Order(ctx, in.Order)
	if core.KindOf(err) == core.NotFound {
		return frame.None{}, nil // it ended before, and the bench had not heard it
	}
	if err != nil {
		return frame.None{}, err
	}
	if o.Bench != frame.Who(ctx).Bench {
		return frame.None{}, core.Fail(core.NotAllowed, "this order was given to another bench")
	}
	if o.Kind == client.OrderRun && result.Error != nil && !o.Ended.Valid {
		order, err := frame.Decode[client.Order](o.Body)
		if err != nil {
			return frame.None{}, err
		}
		r, err := v.store.Run(ctx, order.Run)
		if err != nil {
			return frame.None{}, err
		}
		events, err := v.store.RawEvents(ctx, r.ID, 0, 1)
		if err != nil {
			return frame.None{}, err
		}
		if len(events) != 0 { // it did begin it; its events tell how it stands
			return frame.None{}, v.store.EndOrder(ctx, frame.Who(ctx).Bench, in.Order, in.RawBody, true)
		}
		if err := v.store.ReleaseRun(ctx, v.key, r, r.By, "the bench did not begin it: "+result.Error.Detail, false); err != nil && core.KindOf(err) != core.NotFound {
			return frame.None{}, err
		}
	}
	if o.Kind == client.OrderCheck && result.Seen != nil && result.Error == nil && !o.Ended.Valid {
		if err := v.Links.KeepCheck(ctx, o, result); err != nil {
			return frame.None{}, err
		}
	}
	defer v.Links.OrderEnds.Ring(in.Order)
	return frame.None{}, v.store.EndOrder(ctx, frame.Who(ctx).Bench, in.Order, in.RawBody, o.Kind == client.OrderRun && result.Error == nil)
}

func (v *Benches) takeEvents(ctx context.Context, in *frame.RawIn) (client.Have, error) {
	b, err := frame.Decode[client.Batch](in.RawBody)
	if err != nil {
		return client.Have{}, err
	}
	r, err := v.store.Run(ctx, b.Run)
	if err != nil {
		return client.Have{}, err
	}
	if b.First == 0 || b.Epoch == 0 {
		return client.Have{}, core.Fail(core.BadFile, "events are numbered from 1, epochs too")
	}
	p := store.Posted{Post: history.Post{Bench: frame.Who(ctx).Bench, Run: r.ID, Epoch: b.Epoch, Last: b.First + uint64(len(b.Events)) - 1, Chain: b.Chain, Outcome: b.Outcome}, First: b.First, Events: b.Events, Signature: b.Signature, Texts: b.Texts}
	said := p
	p.Believed = func() error { return v.posted(ctx, said) }
	read := make([]run.Event, len(b.Events))
	for i, raw := range b.Events {
		e := &read[i]
		if err := json.Unmarshal(raw, e); err != nil || e.N != b.First+uint64(i) {
			return client.Have{}, core.Fail(core.BadFile, "event %d of run %s is not in its place", b.First+uint64(i), b.Run)
		}
		if e.Kind == run.KindClosed {
			if err := v.Evidence.CheckRecord(ctx, r, frame.Who(ctx).Bench, *e); err != nil {
				return client.Have{}, err
			}
		}
	}
	p.Read = read
	giveBack, err := v.People.Sends(ctx, people.SentEvents, int64(len(b.Events)))
	if err != nil {
		return client.Have{}, err
	}
	t, err := v.store.TakeEvents(ctx, v.key, r, p)
	if err != nil {
		giveBack()
	}
	if err == nil && t.Other != nil {
		err = v.conflict(ctx, r, b.Epoch, t.Other)
	}
	if err == nil && t.Head != nil {
		v.Counter("ferry_runs_closed_total", "kind", r.Kind, "outcome", b.Outcome).Inc()
		if o, err := r.Opening(); err == nil && b.Outcome == string(run.Done) {
			if _, err := v.store.ProveSheet(ctx, o.Model, o.Sheet, "serviced: unit "+o.Serial, v.clock.Now()); err != nil {
				v.log.Warn("a sheet that was proven could not be noted", "error", err)
			}
		}
		v.Links.Written.Ring() // who waits for its end is told at once
		v.log.Info("run closed", "run", r.ID, "kind", r.Kind, "outcome", b.Outcome)
	}
	if err != nil {
		return client.Have{}, err
	}
	return client.Have{Have: t.Have, First: t.First, Head: t.Head, Moved: t.Moved}, nil
}

type movedIn struct {
	frame.RunPath
	After uint64 `query:"after"`
}

// movedRun gives the events of a run to the bench that it was handed to.
func (v *Benches) movedRun(ctx context.Context, in *movedIn) (client.Moved, error) {
	r, err := v.store.Run(ctx, in.Run)
	if err != nil {
		return client.Moved{}, err
	}
	if r.Bench != frame.Who(ctx).Bench {
		return client.Moved{}, core.Fail(core.NotAllowed, "run %s was not handed to this bench", r.ID)
	}
	events, err := v.store.RawEvents(ctx, r.ID, in.After, client.MovedAtOnce)
	return client.Moved{Events: events}, err
}

// mayWrite says whether the release of a run still stands. The bench asks before
// its first erase.
func (v *Benches) mayWrite(ctx context.Context, in *frame.RawIn) (client.May, error) {
	m, err := frame.Decode[client.MayWrite](in.RawBody)
	if err != nil {
		return client.May{}, err
	}
	all, err := v.store.Withdrawn(ctx, frame.Who(ctx).Bench)
	if bars := all[m.Run]; err != nil || bars.Text != "" {
		return client.May{Bars: bars.Text, BarsID: bars.ID, BarsParams: bars.Params}, err
	}
	r, err := v.store.Run(ctx, m.Run)
	if err == nil && r.Firmware.Valid {
		_, err = v.store.Release(ctx, r.Firmware.String)
	}
	if errors.Is(err, store.ErrChanged) {
		e := core.AsError(err, core.NotAllowed)
		return client.May{Bars: e.Message, BarsID: e.ID, BarsParams: e.Params}, nil
	}
	return client.May{}, err
}

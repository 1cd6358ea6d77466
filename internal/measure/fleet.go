package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/demo"
	"zealousferry/internal/service"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/database"
)

// synthetic is a made-up fleet of a size: models, sites, units with a first entry of their history, people,
// benches, releases, and the runs of three years, of which the newest are open.
type synthetic struct {
	units, models, releases, runs, people, benches int
}

func fleetOf(units int) synthetic {
	return synthetic{units: units, models: 500, releases: max(1000, units/10), runs: min(units, 50_000), people: 300, benches: 50}
}

// placeWords name sites and customers.
var placeWords = strings.Fields("quay harbour mole basin ferry tide gull lantern anchor buoy hatch winch keel mast rope plank slip dock pier shore inlet sound reef shoal cape islet lock weir canal jetty")

// site is the name of a site; some words are at every tenth, some at one alone.
func (f synthetic) site(i int) string {
	return fmt.Sprintf("%s %s %s%d", placeWords[i%10], placeWords[10+i/10%20], string(rune('a'+i%26)), i)
}

func (f synthetic) modelName(i int) string { return fmt.Sprintf("hull-%d", i%f.models) }

// version is that of a model's release k.
func version(k int) string { return fmt.Sprintf("%d.%d.0", 1+k/10, k%10) }

const (
	fleetUnit    = "00000000-0000-7000-8000-%012d"
	fleetRun     = "10000000-0000-7000-8000-%012d"
	fleetBench   = "20000000-0000-7000-8000-%012d"
	fleetPerson  = "30000000-0000-7000-8000-%012d"
	fleetRelease = "40000000-0000-7000-8000-%012d"
)

func fleetID(kind string, i int) string { return fmt.Sprintf(kind, i) }

// filler puts rows into tables, many at once.
type filler struct {
	s    *stand
	db   *sql.DB
	wait map[string][]any
}

const atOnce = 1000

// row adds one; columns are written as "table (a, b)".
func (l *filler) row(into string, values ...any) {
	l.wait[into] = append(l.wait[into], values...)
	if len(l.wait[into]) >= atOnce*len(values) {
		l.flush(into, len(values))
	}
}

func (l *filler) flush(into string, columns int) {
	all := l.wait[into]
	l.wait[into] = nil
	for len(all) > 0 {
		n := min(len(all)/columns, 60_000/columns)
		one := "(" + strings.TrimSuffix(strings.Repeat("?,", columns), ",") + ")"
		if _, err := l.db.Exec("INSERT IGNORE INTO ferry."+into+" VALUES "+one+strings.Repeat(","+one, n-1), all[:n*columns]...); err != nil {
			l.s.Fatalf("%s: %v", into, err)
		}
		all = all[n*columns:]
	}
}

func (l *filler) end() {
	for into, all := range l.wait {
		if len(all) > 0 {
			l.flush(into, strings.Count(into, ",")+1)
		}
	}
}

// load fills an empty database.
func (f synthetic) load(s *stand, db *database.Database) {
	raw, err := sql.Open("mysql", db.Root+"&interpolateParams=true")
	if !strings.Contains(db.Root, "?") {
		raw, err = sql.Open("mysql", db.Root+"?interpolateParams=true")
	}
	if err != nil {
		s.Fatal(err)
	}
	defer raw.Close()
	raw.SetMaxOpenConns(1)
	for _, q := range []string{"SET unique_checks = 0", "SET foreign_key_checks = 0"} {
		if _, err := raw.Exec(q); err != nil {
			s.Fatal(err)
		}
	}
	key, err := trust.NewKey() // heads are not read in what is measured
	if err != nil {
		s.Fatal(err)
	}
	l := &filler{s, raw, map[string][]any{}}
	r := rand.New(rand.NewPCG(7, 14))
	now := time.Now().UTC().Truncate(time.Microsecond)
	enc, _ := zstd.NewWriter(nil)
	piece := func(body []byte) []byte {
		d := core.DigestOf(body)
		l.row("piece (name, length, body)", d[:], len(body), enc.EncodeAll(body, nil))
		return d[:]
	}
	for i := range f.models {
		name := f.modelName(i)
		l.row("model (name, title, sheet, changed_at)", name, "Hull "+placeWords[i%len(placeWords)], piece(sheetOf(i)), now)
	}
	for i := range f.people {
		l.row("person (id, name, role, created_at)", fleetID(fleetPerson, i), fmt.Sprintf("Person %d", i), "technician", now)
	}
	for i := range f.benches {
		id := fleetID(fleetBench, i)
		l.row("bench (id, name, public_key, version, enrolled_at, seen_at)", id, fmt.Sprintf("van-%d", i), make([]byte, 32), "1", now, now)
		for k := range 6 {
			l.row("link (bench, name, kind, adapter, unit, model, identified_at)", id, fmt.Sprintf("port-%d", k), "rfc2217", "", fleetID(fleetUnit, (i*6+k)*7), f.modelName((i*6+k)*7), now)
		}
	}
	for i := range f.releases {
		m := model.Release{ID: fleetID(fleetRelease, i), Model: f.modelName(i), Version: version(i / f.models), Number: fmt.Sprintf("QF-%d-%c", i, 'A'+i%5), Channel: model.Stable, Cures: model.Words{"en": placeWords[i%30] + " " + placeWords[(i/30)%30] + " " + placeWords[(i/7)%30]}, At: now}
		body, _ := json.Marshal(m)
		l.row("firmware (id, model, version, document, channel, number, added_at, words)", m.ID, m.Model, m.Version, piece(body), "stable", m.Number, now.Add(-time.Duration(f.releases-i)*time.Minute), m.Model+" "+m.Version+" "+m.Number+" "+m.Cures["en"])
	}
	for i := range f.units {
		id, state := fleetID(fleetUnit, i), "known"
		switch x := r.IntN(1000); {
		case x < 2:
			state = "half-done"
		case x < 6:
			state = "not-proven"
		case x < 700:
			state = "done"
		}
		var seen any
		if r.IntN(20) > 0 {
			seen = now.Add(-time.Duration(r.Int64N(int64(3 * 365 * 24 * time.Hour)))).Truncate(time.Microsecond)
		}
		site := f.site(i / 50)
		due := "" // what judging would come to is measured by itself
		if i%3 == 0 {
			due = version(f.releases/f.models + 1)
		}
		l.row("unit (id, model, serial, site, customer, revision, running, state, entered_at, seen_at, due, backed, judged)", id, f.modelName(i), fmt.Sprintf("%c%c-%07d", 'A'+i%23, 'K'+i%11, i), site, placeWords[i/50%30]+" works", "D", version(i/f.models%max(1, f.releases/f.models)), state, now.Add(-4*365*24*time.Hour), seen, due, i%10 != 0, 0)
		e := history.Entry{Unit: id, N: 1, Kind: history.Entered, HappenedAt: now.UnixMicro(), EnteredAt: now.UnixMicro(), By: fleetID(fleetPerson, i%f.people), Text: f.modelName(i)}
		body := e.Encode()
		hash := history.HashEntry(body)
		h := history.Head{Unit: id, N: 1, Hash: hash}
		if i%1000 == 0 {
			h.Sign(key)
		} else {
			h.Signature = make([]byte, 64)
		}
		l.row("entry (unit, n, hash, kind, run, happened_at, entered_at, encoded)", id, 1, hash[:], e.Kind, store.NoID, now, now, body)
		l.row("head (unit, n, hash, signature)", id, 1, hash[:], h.Signature)
		l.row("leaf (at, unit, n)", i, id, 1)
	}
	summary, _ := json.Marshal(store.Summary{From: "1.0.0", To: "1.1.0", Last: 30})
	for i := range f.runs {
		unit := int(uint64(i) * 7919 % uint64(f.units))
		opened := now.Add(-time.Duration(f.runs-i) * 30 * time.Minute)
		state, outcome, closed := "closed", "done", any(opened.Add(5*time.Minute))
		switch {
		case i >= f.runs-40:
			state, outcome, closed = "open", "", nil
			l.row("claim (kind, what, run)", "unit", fleetID(fleetUnit, unit), fleetID(fleetRun, i))
		case i%50 == 0:
			outcome = "failed"
		}
		l.row("job (number, reason, own, made_by, made_at)", i+1, "symptom seen on board", 1, fleetID(fleetPerson, i%f.people), opened)
		l.row("run (id, kind, unit, bench, link, ordered_by, firmware, epoch, state, outcome, opened, opened_at, closed_at, summary, job)", fleetID(fleetRun, i), "flash", fleetID(fleetUnit, unit), fleetID(fleetBench, i%f.benches), fmt.Sprintf("port-%d", i%6), fleetID(fleetPerson, i%f.people), fleetID(fleetRelease, unit%f.models), 1, state, outcome, enc.EncodeAll([]byte("{}"), nil), opened, closed, string(summary), i+1)
		l.row("run_line (run, epoch, bench, link, first_n)", fleetID(fleetRun, i), 1, fleetID(fleetBench, i%f.benches), "port", 1)
	}
	l.end()
	for _, q := range []string{`UPDATE ferry.unit SET judged = as_is`, `UPDATE ferry.firmware SET withdrawn_at = added_at, withdrawn_reason = 'it loses its partner' WHERE version = '1.3.0' AND CRC32(model) % 10 = 0`} {
		if _, err := raw.Exec(q); err != nil {
			s.Fatal(err)
		}
	}
	if _, err := raw.Exec("ANALYZE TABLE ferry.unit, ferry.run, ferry.firmware, ferry.entry, ferry.piece, ferry.job, ferry.link"); err != nil {
		s.Fatal(err)
	}
}

// todaysAt is the size of a fleet at which open pages of today's work are measured.
const todaysAt = 100_000

// ask is a question of which a page consists; path has %d for a number that differs each time.
type ask struct {
	name string
	path func(i int) string
}

// byHand is a list as the store reads it, and the best SQL for the same rows and count by hand.
type byHand struct {
	name string
	ours func(ctx context.Context, s *store.Store, i int) error
	hand func(i int) (rows, count string)
}

func (f synthetic) byHand() []byHand {
	units := func(q func(i int) store.UnitQuery) func(context.Context, *store.Store, int) error {
		return func(ctx context.Context, s *store.Store, i int) error {
			one := q(i)
			one.Size = 25
			_, _, err := s.Units(ctx, one)
			return err
		}
	}
	runs := func(q func(i int) store.RunQuery) func(context.Context, *store.Store, int) error {
		return func(ctx context.Context, s *store.Store, i int) error {
			one := q(i)
			one.Size = 20
			_, _, err := s.Runs(ctx, one)
			return err
		}
	}
	const unit, run = `SELECT u.id, u.model, u.serial, u.site, u.customer, u.note, u.revision, u.running, u.state, u.ruined_by, u.entered_at, u.owed, u.decided, u.seen_at, u.same_as, u.mistake, c.run FROM unit u LEFT JOIN claim c ON c.kind = 'unit' AND c.what = u.id WHERE `, `SELECT r.id, r.kind, r.unit, r.link, r.ordered_by, r.firmware, r.epoch, r.state, r.outcome, r.opened, r.opened_at, r.closed_at, r.summary, r.job, b.name, b.seen_at FROM run r STRAIGHT_JOIN bench b ON b.id = r.bench WHERE `
	unitsBy := func(where string) (string, string) {
		return unit + where + ` ORDER BY u.place DESC, u.id DESC LIMIT 26`, `SELECT COUNT(*) FROM (SELECT 1 FROM unit u WHERE ` + where + ` LIMIT 10001) x`
	}
	runsBy := func(where string) (string, string) {
		return run + where + ` ORDER BY r.opened_at DESC, r.id DESC LIMIT 21`, `SELECT COUNT(*) FROM (SELECT 1 FROM run r WHERE ` + where + ` LIMIT 10001) x`
	}
	return []byHand{
		{"units", units(func(int) store.UnitQuery { return store.UnitQuery{} }), func(int) (string, string) { return unitsBy("u.listed = 1") }},
		{"units-half-done", units(func(int) store.UnitQuery { return store.UnitQuery{State: "half-done"} }), func(int) (string, string) { return unitsBy("u.listed = 1 AND u.state = 'half-done'") }},
		{"units-behind", units(func(int) store.UnitQuery { return store.UnitQuery{State: "behind"} }), func(int) (string, string) { return unitsBy("u.listed = 1 AND u.behind = 1") }},
		{"units-behind-of-a-model", units(func(i int) store.UnitQuery { return store.UnitQuery{State: "behind", Model: f.modelName(i)} }), func(i int) (string, string) {
			return unitsBy("u.listed = 1 AND u.behind = 1 AND u.model = '" + f.modelName(i) + "'")
		}},
		{"units-of-a-model", units(func(i int) store.UnitQuery { return store.UnitQuery{Model: f.modelName(i)} }), func(i int) (string, string) { return unitsBy("u.listed = 1 AND u.model = '" + f.modelName(i) + "'") }},
		{"runs", runs(func(int) store.RunQuery { return store.RunQuery{} }), func(int) (string, string) { return runsBy("TRUE") }},
		{"runs-failed", runs(func(int) store.RunQuery { return store.RunQuery{Outcome: "failed"} }), func(int) (string, string) { return runsBy("r.outcome = 'failed'") }},
		{"runs-of-a-model", runs(func(i int) store.RunQuery { return store.RunQuery{Model: f.modelName(i)} }), func(i int) (string, string) { return runsBy("r.model = '" + f.modelName(i) + "'") }},
	}
}

// againstHand reads lists through the store and by hand, in turns.
func againstHand(s *stand, f synthetic, w *testkit.World) {
	ctx := context.Background()
	hand := w.DB.Open(s, w.DB.Serve)
	for _, x := range f.byHand() {
		var ours, theirs []float64
		for i := range 60 {
			began := time.Now()
			if err := x.ours(ctx, w.Store, i); err != nil {
				s.Fatal(err)
			}
			ours = append(ours, time.Since(began).Seconds()*1000)
			began = time.Now()
			list, count := x.hand(i)
			n := 0
			if err := hand.QueryRow(count).Scan(&n); err != nil {
				s.Fatal(err)
			}
			rows, err := hand.Query(list)
			if err != nil {
				s.Fatal(err)
			}
			columns, err := rows.Columns()
			if err != nil {
				s.Fatal(err)
			}
			into := make([]any, len(columns))
			for k := range into {
				into[k] = new(sql.RawBytes)
			}
			for rows.Next() {
				if err := rows.Scan(into...); err != nil {
					s.Fatal(err)
				}
			}
			rows.Close()
			theirs = append(theirs, time.Since(began).Seconds()*1000)
		}
		report(fmt.Sprintf("fleet-%s-by-hand-at-%d", x.name, f.units), p95(theirs), "ms", "")
		report(fmt.Sprintf("fleet-%s-against-hand-at-%d", x.name, f.units), p95(ours)/p95(theirs), "ratio", "<= 1.5")
	}
}

// asker asks the service as a console does.
type asker struct {
	s           *stand
	base, token string
}

func (a asker) get(path string) []byte {
	req, err := http.NewRequest(http.MethodGet, a.base+path, nil)
	if err != nil {
		a.s.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+a.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		a.s.Fatal(err)
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode != http.StatusOK {
		a.s.Fatalf("%s: %s %v %.400s", path, resp.Status, err, body)
	}
	return body
}

func fixed(path string) func(int) string { return func(int) string { return path } }

// asks are what pages ask of the service.
func (f synthetic) asks() []ask {
	q := url.QueryEscape
	return []ask{
		{name: "today", path: fixed("/api/today")},
		{name: "units", path: fixed("/api/units")},
		{name: "units-half-done", path: fixed("/api/units?state=half-done")},
		{name: "units-behind", path: fixed("/api/units?state=behind")},
		{name: "units-behind-of-a-model", path: func(i int) string { return "/api/units?state=behind&model=" + f.modelName(i) }},
		{name: "units-withdrawn", path: fixed("/api/units?state=withdrawn")},
		{name: "units-without-backup", path: fixed("/api/units?state=no-backup")},
		{name: "units-of-a-model", path: func(i int) string { return "/api/units?model=" + f.modelName(i) }},
		{name: "units-by-serial", path: func(i int) string {
			n := i * 977 % f.units
			return "/api/units?q=" + fmt.Sprintf("%c%c-%07d", 'A'+n%23, 'K'+n%11, n)
		}},
		{name: "units-by-common-word", path: func(i int) string { return "/api/units?q=" + placeWords[i%10] }},
		{name: "units-by-site", path: func(i int) string { return "/api/units?q=" + q(f.site(i*31%max(1, f.units/50))) }},
		{name: "unit", path: func(i int) string { return "/api/units/" + fleetID(fleetUnit, i*7919%f.units) }},
		{name: "history", path: func(i int) string { return "/api/units/" + fleetID(fleetUnit, i*7919%f.units) + "/history" }},
		{name: "runs", path: fixed("/api/runs")},
		{name: "runs-failed", path: fixed("/api/runs?outcome=failed")},
		{name: "runs-of-a-person", path: func(i int) string { return "/api/runs?person=" + fleetID(fleetPerson, i%f.people) }},
		{name: "runs-of-a-model", path: func(i int) string { return "/api/runs?model=" + f.modelName(i) }},
		{name: "runs-at-a-site", path: func(i int) string { return "/api/runs?site=" + q(f.site(i*31%max(1, f.units/50))) }},
		{name: "releases", path: fixed("/api/releases?size=25")},
		{name: "releases-of-a-model", path: func(i int) string { return "/api/releases?size=25&model=" + f.modelName(i) }},
		{name: "links", path: fixed("/api/links")},
		{name: "models", path: fixed("/api/models")},
	}
}

// fleetAt loads a fleet and asks every question some times: milliseconds, p95.
func fleetAt(s *stand, units int) map[string]float64 {
	f := fleetOf(units)
	as := demo.ForWork(8 << 30)
	as.Durable = false
	db := database.NewAs(s, as)
	began := time.Now()
	f.load(s, db)
	loaded := time.Since(began)
	w := testkit.NewWorldOn(s, db).Unbounded()
	fmt.Printf("# %d units: loaded in %.0f s, in order after %.0f s\n", units, loaded.Seconds(), time.Since(began).Seconds())
	a := asker{s, w.Base, w.Tokens["lead"]}
	out := map[string]float64{}
	for _, x := range f.asks() {
		a.get(x.path(0))
		var all []float64
		begun := time.Now()
		for i := 0; i < 40 && (i < 5 || time.Since(begun) < 8*time.Second); i++ {
			began := time.Now()
			a.get(x.path(i))
			all = append(all, time.Since(began).Seconds()*1000)
		}
		out[x.name] = p95(all)
	}
	againstHand(s, f, w)
	if units == todaysAt {
		judged(s, w)
		todays(s, w)
	}
	return out
}

// judged is how many units a second are judged anew where much is to be done: what they are due is
// worked out as long as it is rested.
func judged(s *stand, w *testkit.World) {
	const some = 4000
	ctx, end := context.WithCancel(context.Background())
	defer end()
	if _, err := w.DB.Open(s, w.DB.Root).Exec(`UPDATE ferry.unit SET told = told + 1 ORDER BY id LIMIT ?`, some); err != nil {
		s.Fatal(err)
	}
	began := time.Now()
	go service.New(w.Store, w.Key, nil, core.System{}, slog.New(slog.DiscardHandler), false).Units.KeepJudged(ctx)
	w.Wait("all to be judged", func() bool {
		waits, err := w.Store.Judging(ctx, "")
		return err == nil && !waits
	})
	report("units-judged-a-second-while-others-work", some/time.Since(began).Seconds(), "1/s", "")
}

// fleetPages is what pages cost at sizes of a fleet.
func fleetPages(s *stand, sizes ...int) {
	var last map[string]float64
	for _, n := range sizes {
		one := &stand{}
		got := fleetAt(one, n)
		one.end()
		for _, x := range fleetOf(n).asks() {
			aim := ""
			if n == 1_000_000 {
				aim = "<= 50"
			}
			report(fmt.Sprintf("fleet-%s-at-%d", x.name, n), got[x.name], "ms", aim)
			if last != nil {
				report(fmt.Sprintf("fleet-%s-growth", x.name), got[x.name]/last[x.name], "ratio", "<= 1.3")
			}
		}
		last = got
	}
}

// ran is how many seconds a process has run on a core, by the kernel's count.
func ran(s *stand, pid int) float64 {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		s.Fatal(err)
	}
	fields := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
	user, _ := strconv.ParseFloat(fields[11], 64)
	system, _ := strconv.ParseFloat(fields[12], 64)
	return (user + system) / 100
}

// poster is a bench that posts events of a run.
type poster struct {
	bench string
	key   trust.Key
	c     *client.Client
	run   string
	n     int
	chain core.Digest
}

// post sends some events and waits until they are taken.
func (p *poster) post(ctx context.Context, some int) error {
	var bodies [][]byte
	for range some {
		p.n++
		raw, _ := json.Marshal(run.Event{Schema: 1, N: uint64(p.n), Epoch: 1, At: time.Now().UnixMicro(), Kind: run.KindDone, Body: json.RawMessage(`{"n":12,"sector":7,"bytes":4096,"last":true}`)})
		bodies = append(bodies, raw)
	}
	p.chain = history.ChainOn(p.chain, bodies...)
	post := history.Post{Bench: p.bench, Run: p.run, Epoch: 1, Last: uint64(p.n), Chain: p.chain}
	_, err := p.c.PutEvents(ctx, client.Batch{Run: p.run, Epoch: 1, First: uint64(p.n - some + 1), Events: bodies, Chain: p.chain, Signature: post.Sign(p.key)})
	return err
}

// todays is what open pages of today's work cost: 50 benches post 1 300 events a second, without
// and with 50 pages open.
func todays(s *stand, w *testkit.World) {
	const benches, pages, some, lasts = 50, 50, 4, 12 * time.Second
	const rate = 1300
	ctx := context.Background()
	w.StopBench()
	person, err := w.Technician.WhoAmI(ctx)
	if err != nil {
		s.Fatal(err)
	}
	var all []*poster
	root := w.DB.Open(s, w.DB.Root)
	for i := range benches {
		code, err := w.Lead.NewBenchCode(ctx)
		if err != nil {
			s.Fatal(err)
		}
		key, err := trust.NewKey()
		if err != nil {
			s.Fatal(err)
		}
		got, err := w.Lead.Enrol(ctx, client.Enrolment{Code: code.Code, Name: fmt.Sprintf("load-%d", i), PublicKey: key.Public(), Version: "1", Protocol: client.Protocol})
		if err != nil {
			s.Fatal(err)
		}
		r := store.Run{ID: store.NewID(), Kind: run.Flash, Unit: fleetID(fleetUnit, 100+i), Bench: got.Bench, Link: "a", By: person.ID, Epoch: 1, State: store.RunOpen, Opened: []byte(`{}`), OpenedAt: time.Now()}
		if err := w.Store.OpenRun(ctx, r, []string{got.Bench + "/a"}, nil, store.Order{ID: store.NewID(), Bench: got.Bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}); err != nil {
			s.Fatal(err)
		}
		if _, err := root.Exec(`UPDATE ferry.run SET summary = '{"from":"1.0.0","last":1}' WHERE id = ?`, r.ID); err != nil { // as a run's events make it
			s.Fatal(err)
		}
		c := client.New(w.Base, got.Token, core.System{})
		c.SignAs(key)
		all = append(all, &poster{bench: got.Bench, key: key, c: c, run: r.ID})
	}
	database := w.DB.PID()
	turn := func(pages int) (events, cores, slow float64) {
		turning, end := context.WithTimeout(ctx, lasts)
		defer end()
		var taken atomic.Int64
		var mu sync.Mutex
		var took []float64
		var working sync.WaitGroup
		service, base := ran(s, os.Getpid()), ran(s, database)
		for i, p := range all {
			working.Go(func() {
				each := some * benches * time.Second / rate
				next := time.Now().Add(each * time.Duration(i) / benches)
				for turning.Err() == nil {
					time.Sleep(time.Until(next))
					next = next.Add(each)
					began := time.Now()
					if err := p.post(ctx, some); err != nil {
						s.Fatal(err)
					}
					taken.Add(some)
					mu.Lock()
					took = append(took, time.Since(began).Seconds()*1000)
					mu.Unlock()
				}
			})
		}
		a := asker{s, w.Base, w.Tokens["lead"]}
		for i := range pages {
			working.Go(func() {
				time.Sleep(5 * time.Second * time.Duration(i) / time.Duration(pages))
				for turning.Err() == nil {
					a.get("/api/today")
					time.Sleep(5 * time.Second)
				}
			})
		}
		<-turning.Done()
		cores = (ran(s, os.Getpid()) - service + ran(s, database) - base) / lasts.Seconds()
		events = float64(taken.Load()) / lasts.Seconds()
		working.Wait()
		return events, cores, p95(took)
	}
	turn(0)
	bare, without, slowBare := turn(0)
	open, with, slow := turn(pages)
	report("events-taken-with-50-pages-of-today-open", open/bare, "ratio", ">= 0.9")
	report("events-taken-a-second", open, "1/s", "")
	report("cores-of-all-with-the-load-itself", with, "cores", "")
	report("cores-of-50-pages-of-today", with-without, "cores", "")
	report("posting-p95-with-pages-against-without", slow/slowBare, "ratio", "")
}

// sheetOf is the sheet of a made-up model, whose units call themselves by its number.
func sheetOf(i int) []byte {
	text := strings.ReplaceAll(string(coretest.Small), "small", fmt.Sprintf("hull-%d", i))
	return []byte(strings.ReplaceAll(text, "says: SMALL", fmt.Sprintf("says: HULL%d", i)))
}

// identified is how long a bench takes to ask who is there where the catalogue has ten models,
// and where it has thousands.
func identified(s *stand) {
	ctx := context.Background()
	w := testkit.NewWorld(s).Unbounded()
	put := func(from, to int) {
		for i := from; i < to; i++ {
			if _, err := w.Lead.PutModel(ctx, sheetOf(i)); err != nil {
				s.Fatal(err)
			}
		}
	}
	ask := func() float64 {
		var all []float64
		for range 12 {
			began := time.Now()
			if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
				s.Fatal(err)
			}
			all = append(all, time.Since(began).Seconds()*1000)
		}
		return median(all)
	}
	put(0, 9)
	ask()
	few := ask()
	const many = 5000
	began := time.Now()
	put(9, many)
	report("models-put-in-force", many/time.Since(began).Seconds(), "1/s", "")
	began = time.Now()
	ask()
	report("first-questions-after-5000-models-came", time.Since(began).Seconds(), "s", "")
	report("identify-with-5000-models-against-10", ask()/few, "ratio", "<= 1.1")
	report("identify-with-10-models", few, "ms", "")
}

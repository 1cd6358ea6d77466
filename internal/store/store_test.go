package store_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/core/trust"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit/database"
)

var ctx = context.Background()

// Ids that are nobody's.
const (
	somebody = "01940000-0000-7000-8000-000000000001"
	someUnit = "01940000-0000-7000-8000-000000000002"
)

func open(t *testing.T) (*store.Store, *database.Database, trust.Key) {
	t.Helper()
	db := database.New(t, false)
	s, err := store.Open(ctx, db.Serve)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	return s, db, key
}

func TestIdsFromElsewhere(t *testing.T) {
	s, _, _ := open(t)
	for _, id := range []string{"", "clip", strings.ToUpper(somebody[:35] + "a"), strings.ReplaceAll(somebody, "-", "")} {
		if err := s.PutGear(ctx, store.Gear{ID: id, Kind: "tool", Name: "clip", At: time.Now()}); core.KindOf(err) != core.NotUnderstood || !strings.Contains(err.Error(), "is no id; expected a UUID in lower case") {
			t.Errorf("%q: %v", id, err)
		}
	}
	if err := s.PutGear(ctx, store.Gear{ID: somebody, Kind: "tool", Name: "clip", At: time.Now()}); err != nil {
		t.Error(err)
	}
}

func TestSchemas(t *testing.T) {
	_, db, _ := open(t)
	if err := store.Migrate(ctx, db.Migrate, db.Service, false); err != nil {
		t.Errorf("a second time: %v", err)
	}
	root := db.Open(t, db.Root)
	if _, err := root.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)`); err != nil {
		t.Fatal(err)
	}
	// A newer schema that still promises to hold for this version runs beside it; one that does not is refused in words.
	if s, err := store.Open(ctx, db.Serve); err != nil {
		t.Errorf("a newer schema that promises to hold: %v", err)
	} else {
		s.Close()
	}
	if _, err := root.Exec(`UPDATE schema_promise SET oldest = ?`, store.Schema+1); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Open(ctx, db.Serve); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "this version knows up to") {
		t.Errorf("a newer schema: %v", err)
	}
	if _, err := root.Exec(`DELETE FROM goose_db_version WHERE version_id > 3`); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Open(ctx, db.Serve); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "this version needs") {
		t.Errorf("an older schema: %v", err)
	}
	if _, err := store.Open(ctx, "no address"); core.KindOf(err) != core.BadFile {
		t.Errorf("no address: %v", err)
	}
	if err := store.Migrate(ctx, db.Migrate, "some'body@localhost", false); core.KindOf(err) != core.BadFile {
		t.Errorf("a quote in the account: %v", err)
	}
	serve := db.Open(t, db.Serve)
	if _, err := serve.Exec(`CREATE TABLE x (y INT)`); err == nil {
		t.Error("the service's account makes tables")
	}
}

// TestADatabaseWithoutItsProcedures: one that was moved without them, or without the account that has made
// them, is not served, and is as before once the schema was brought up to date.
func TestADatabaseWithoutItsProcedures(t *testing.T) {
	_, db, _ := open(t)
	root := db.Open(t, db.Root)
	for name, q := range map[string][]string{
		"without them":                {`DROP PROCEDURE ferry.sweep_orders`, `DROP PROCEDURE ferry.pack_events`},
		"without whom they belong to": {`CREATE OR REPLACE DEFINER=gone@localhost PROCEDURE ferry.sweep_orders(IN most INT UNSIGNED) MODIFIES SQL DATA DELETE FROM ferry.bench_order WHERE FALSE`},
	} {
		for _, q := range q {
			if _, err := root.Exec(q); err != nil {
				t.Fatal(err)
			}
		}
		if s, err := store.Open(ctx, db.Serve); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "lacks a procedure") {
			t.Errorf("%s: %v", name, err)
			if s != nil {
				s.Close()
			}
		}
		if err := store.Migrate(ctx, db.Migrate, db.Service, false); err != nil {
			t.Fatal(err)
		}
		s, err := store.Open(ctx, db.Serve)
		if err != nil {
			t.Errorf("%s, and put in place: %v", name, err)
			continue
		}
		if _, _, err := s.Sweep(ctx, time.Now(), 10); err != nil {
			t.Errorf("%s, and put in place: %v", name, err)
		}
		s.Close()
	}
	kept := 0
	if err := root.QueryRow(`SELECT COUNT(*) FROM information_schema.routines WHERE routine_schema = 'ferry' AND routine_name = 'pack_events' AND routine_definition LIKE '%signature%'`).Scan(&kept); err != nil || kept != 1 {
		t.Errorf("what packs events is not the newest: %d %v", kept, err)
	}
}

// TestATextDoesNotStandInTheWay: what an event names by its digest is kept with it; one that is too long, or
// that none names, is left out, and the events are taken.
func TestATextDoesNotStandInTheWay(t *testing.T) {
	s, db, key := open(t)
	r := store.Run{ID: store.NewID(), Kind: run.Flash, Unit: store.NewID(), Bench: store.NewID(), Link: "a", By: somebody, Epoch: 1, Opened: []byte(`{"serial":"S"}`), OpenedAt: time.Now()}
	if err := s.AddBench(ctx, store.Bench{ID: r.Bench, Name: "b", PublicKey: key.Public()}); err != nil {
		t.Fatal(err)
	}
	if err := s.OpenRun(ctx, r, []string{r.Bench + "/a"}, nil, store.Order{ID: store.NewID(), Bench: r.Bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}); err != nil {
		t.Fatal(err)
	}
	short, long, other := []byte("what was said"), bytes.Repeat([]byte("x"), 3*run.MostTrace), []byte("named by nothing")
	ds, dl := core.DigestOf(short), core.DigestOf(long)
	p := batch(r.Bench, 1, "", event(1, run.KindTraced, run.Traced{Link: "b/a", Digest: &ds}), event(2, run.KindTraced, run.Traced{Link: "b/a", Digest: &dl}))
	p.Run, p.Texts = r.ID, [][]byte{short, long, other}
	if took, err := s.TakeEvents(ctx, key, r, p); err != nil || took.Have != 2 {
		t.Fatalf("%+v %v", took, err)
	}
	if text, came, err := s.TraceText(ctx, r.ID, ds); err != nil || !came || !bytes.Equal(text, short) {
		t.Errorf("%q %v %v", text, came, err)
	}
	for _, d := range []core.Digest{dl, core.DigestOf(other)} {
		if text, came, err := s.TraceText(ctx, r.ID, d); err != nil || came || text != nil {
			t.Errorf("%d bytes, %v %v", len(text), came, err)
		}
	}
	if _, err := db.Open(t, db.Root).Exec(`UPDATE ferry.run_trace SET body = LEFT(body, 5)`); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.TraceText(ctx, r.ID, ds); core.KindOf(err) != core.VerifyDiffers {
		t.Errorf("a changed text: %v", err)
	}
}

// TestTheServiceDeletesNothing: its account may in no table, once no service may run any more that does so.
func TestTheServiceDeletesNothing(t *testing.T) {
	s, db, _ := open(t)
	root, serve := db.Open(t, db.Root), db.Open(t, db.Serve)
	var tables []string
	rows, err := root.Query(`SELECT table_name FROM information_schema.tables WHERE table_schema = 'ferry'`)
	if err != nil {
		t.Fatal(err)
	}
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			t.Fatal(err)
		}
		tables = append(tables, name)
	}
	if len(tables) < 50 {
		t.Fatalf("%d tables", len(tables))
	}
	may := func() (all []string) {
		for _, name := range tables {
			if _, err := serve.Exec("DELETE FROM `" + name + "` WHERE FALSE"); err == nil {
				all = append(all, name)
			}
		}
		return all
	}
	right := func() {
		t.Helper()
		if x, err := s.Examine(ctx); err != nil || len(x.MayChange) > 0 {
			t.Errorf("it may change more than it does: %v %v", x.MayChange, err)
		}
	}
	if all := may(); len(all) > 0 {
		t.Errorf("it may delete of %v", all)
	}
	right()
	if _, err := root.Exec(`UPDATE schema_promise SET oldest = 29`); err != nil {
		t.Fatal(err)
	}
	if err := store.Migrate(ctx, db.Migrate, db.Service, false); err != nil {
		t.Fatal(err)
	}
	if all := may(); !slices.Contains(all, "claim") || slices.Contains(all, "entry") || slices.Contains(all, "run_event") {
		t.Errorf("beside an older service it may delete of %v", all)
	}
	right()
	if err := store.Migrate(ctx, db.Migrate, db.Service, true); err != nil {
		t.Fatal(err)
	}
	if all := may(); len(all) > 0 {
		t.Errorf("after it, it may delete of %v", all)
	}
}

func TestPieces(t *testing.T) {
	s, db, _ := open(t)
	a, b := bytes.Repeat([]byte("a"), 4096), []byte("b")
	if err := s.PutPieces(ctx, []shelf.Piece{{Name: core.DigestOf(a), Data: a}, {Name: core.DigestOf(b), Data: b}, {Name: core.DigestOf(a), Data: a}}); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Piece(ctx, core.DigestOf(a)); err != nil || !bytes.Equal(got, a) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
	none := core.DigestOf([]byte("none"))
	if m, err := s.Missing(ctx, []core.Digest{core.DigestOf(a), none, none}); err != nil || len(m) != 1 || m[0] != none {
		t.Errorf("missing %v %v", m, err)
	}
	if err := s.PutPieces(ctx, []shelf.Piece{{Name: none, Data: a}}); core.KindOf(err) != core.BadFile {
		t.Errorf("a false name: %v", err)
	}
	if _, err := s.Piece(ctx, none); core.KindOf(err) != core.NotFound {
		t.Errorf("nothing there: %v", err)
	}
	if _, err := db.Open(t, db.Root).Exec(`UPDATE piece SET body = (SELECT c.body FROM (SELECT body FROM piece WHERE length = 1) c) WHERE length = 4096`); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Piece(ctx, core.DigestOf(a)); core.KindOf(err) != core.BadFile {
		t.Errorf("a changed piece: %v", err)
	}
}

// TestPiecesThatNothingNamesAreSwept: a week after somebody has sent them or asked for them; a piece that a
// backup or a sheet has named once stays, whoever sends it again or says that it waits.
func TestPiecesThatNothingNamesAreSwept(t *testing.T) {
	s, db, _ := open(t)
	root, serve := db.Open(t, db.Root), db.Open(t, db.Serve)
	do := func(on *sql.DB, q string, args ...any) error {
		_, err := on.Exec(q, args...)
		return err
	}
	piece := func(text string) shelf.Piece {
		return shelf.Piece{Name: core.DigestOf([]byte(text)), Data: []byte(text)}
	}
	lone, asked, named := piece("lone"), piece("asked for"), piece("named by a backup")
	if err := s.PutPieces(ctx, []shelf.Piece{lone, asked, named}); err != nil {
		t.Fatal(err)
	}
	r := store.Run{ID: store.NewID(), Kind: run.BackUp, Unit: store.NewID(), Bench: store.NewID(), Link: "a", By: somebody, Epoch: 1, Opened: []byte(`{"serial":"S"}`), OpenedAt: time.Now()}
	if err := s.OpenRun(ctx, r, []string{r.Bench + "/a"}, nil, store.Order{ID: store.NewID(), Bench: r.Bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}); err != nil {
		t.Fatal(err)
	}
	if err := s.AddBackup(ctx, store.Backup{ID: r.ID, Unit: r.Unit, Manifest: named.Name[:], Taken: time.Now(), Stored: time.Now()}, nil, []core.Digest{named.Name}); err != nil {
		t.Fatal(err)
	}
	sheet := coretest.SmallSheet()
	if err := s.PutPieces(ctx, []shelf.Piece{{Name: sheet.Digest, Data: coretest.Small}}); err != nil { // a bench sends what is a sheet
		t.Fatal(err)
	}
	if err := s.PutModel(ctx, sheet, coretest.Small); err != nil {
		t.Fatal(err)
	}
	if err := s.PutPieces(ctx, []shelf.Piece{named, {Name: sheet.Digest, Data: coretest.Small}}); err != nil { // again
		t.Fatal(err)
	}
	// Nor does the service's account make one wait that is named.
	if err := do(serve, `INSERT INTO piece_waiting (name, asked_at) VALUES (?, '2000-01-01')`, named.Name[:]); err == nil || !strings.Contains(err.Error(), "denied") {
		t.Errorf("a piece is told to wait: %v", err)
	}
	if err := do(serve, `CALL pieces_wait(?)`, `["`+named.Name.String()+`"]`); err != nil {
		t.Fatal(err)
	}
	if err := do(root, `UPDATE ferry.piece_waiting SET asked_at = UTC_TIMESTAMP(6) - INTERVAL 8 DAY`); err != nil {
		t.Fatal(err)
	}
	if m, err := s.Missing(ctx, []core.Digest{asked.Name, named.Name}); err != nil || len(m) != 0 {
		t.Errorf("%v %v", m, err)
	}
	if err := do(root, `UPDATE ferry.schema_promise SET oldest = 29`); err != nil {
		t.Fatal(err)
	}
	there := func() (all []string) {
		t.Helper()
		m, err := s.Missing(ctx, []core.Digest{lone.Name, asked.Name, named.Name, sheet.Digest})
		if err != nil {
			t.Fatal(err)
		}
		for name, d := range map[string]core.Digest{"lone": lone.Name, "asked": asked.Name, "named": named.Name, "sheet": sheet.Digest} {
			if !slices.Contains(m, d) {
				all = append(all, name)
			}
		}
		slices.Sort(all)
		return all
	}
	if swept, _, err := s.Sweep(ctx, time.Now(), 10); err != nil || swept["pieces"] != 0 {
		t.Errorf("beside an older service: %v %v", swept, err)
	}
	if err := do(root, `UPDATE ferry.schema_promise SET oldest = 30`); err != nil {
		t.Fatal(err)
	}
	if err := do(root, `UPDATE ferry.piece_waiting SET asked_at = UTC_TIMESTAMP(6) - INTERVAL 8 DAY WHERE name <> ?`, asked.Name[:]); err != nil {
		t.Fatal(err)
	}
	if swept, _, err := s.Sweep(ctx, time.Now(), 10); err != nil || swept["pieces"] == 0 {
		t.Errorf("%v %v", swept, err)
	}
	if all := there(); !slices.Equal(all, []string{"asked", "named", "sheet"}) {
		t.Errorf("there are %v", all)
	}
}

// TestAPieceThatTwoSendWaitsForNeither: one bench sends a piece and has a backup name it while another is
// about to send it too; it does not wait any more.
func TestAPieceThatTwoSendWaitsForNeither(t *testing.T) {
	s, db, _ := open(t)
	root := db.Open(t, db.Root)
	data := []byte("what two benches have read")
	p := shelf.Piece{Name: core.DigestOf(data), Data: data}
	first, err := root.Begin()
	if err != nil {
		t.Fatal(err)
	}
	do := func(q string, args ...any) {
		t.Helper()
		if _, err := first.Exec(q, args...); err != nil {
			t.Fatal(err)
		}
	}
	do(`CALL ferry.pieces_wait(?)`, `["`+p.Name.String()+`"]`)
	do(`INSERT INTO ferry.piece (name, length, body) VALUES (?, ?, 'x')`, p.Name[:], len(data))
	second := make(chan error, 1)
	go func() { second <- s.PutPieces(ctx, []shelf.Piece{p}) }()
	for waits := 0; waits == 0; { // until it comes upon the first one
		if err := root.QueryRow(`SELECT variable_value FROM information_schema.global_status WHERE variable_name = 'innodb_row_lock_current_waits'`).Scan(&waits); err != nil {
			t.Fatal(err)
		}
	}
	do(`CALL ferry.pieces_named(?)`, `["`+p.Name.String()+`"]`)
	if err := first.Commit(); err != nil {
		t.Fatal(err)
	}
	if err := <-second; err != nil {
		t.Fatal(err)
	}
	waits := 0
	if err := root.QueryRow(`SELECT COUNT(*) FROM ferry.piece_waiting`).Scan(&waits); err != nil || waits > 0 {
		t.Errorf("%d pieces that a backup names wait, %v", waits, err)
	}
}

func TestImagesAndReleases(t *testing.T) {
	s, _, _ := open(t)
	sheet := coretest.SmallSheet()
	if err := s.PutModel(ctx, sheet, coretest.Small); err != nil {
		t.Fatal(err)
	}
	data := bytes.Repeat([]byte("image "), 30000)
	for range 2 {
		if err := s.PutImage(ctx, data, "x.bin", somebody); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := s.Image(ctx, core.DigestOf(data)); err != nil || !bytes.Equal(got, data) {
		t.Errorf("%d bytes %v", len(got), err)
	}
	r := &model.Release{ID: store.NewID(), Model: sheet.Model, Version: "1.0.0", Channel: model.Stable}
	raw, _ := json.Marshal(r)
	document, err := s.AddRelease(ctx, r, raw, 0xFF, somebody)
	if err != nil {
		t.Fatal(err)
	}
	again := *r
	again.ID = store.NewID()
	other, _ := json.Marshal(again)
	if _, err := s.AddRelease(ctx, &again, other, 0xFF, somebody); core.KindOf(err) != core.Busy {
		t.Errorf("a version twice: %v", err)
	}
	all, err := s.Releases(ctx, sheet.Model)
	if err != nil || len(all) != 1 || all[0].Document != document || all[0].Version != "1.0.0" {
		t.Errorf("%+v %v", all, err)
	}
	raw, err = s.Piece(ctx, document)
	if err != nil || !strings.Contains(string(raw), `"version":"1.0.0"`) {
		t.Errorf("the document is not kept verbatim: %s %v", raw, err)
	}
}

func TestUnitsAreFoundAndPaged(t *testing.T) {
	s, _, key := open(t)
	for i := range 30 {
		if _, err := s.MeetUnit(ctx, key, "quill-80", fmt.Sprintf("Q-%03d", i), fmt.Sprintf("Quay %d%%", i%3), somebody, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	s.MeetUnit(ctx, key, "other", "Q-001", "", somebody, time.Now())
	for name, x := range map[string]struct {
		q     store.UnitQuery
		total int
		page  int
	}{
		"all":              {store.UnitQuery{Size: 10}, 31, 10},
		"by an end":        {store.UnitQuery{Words: "007", Size: 50}, 1, 1},
		"by serial":        {store.UnitQuery{Words: "q-00", Size: 50}, 11, 11},
		"by two words":     {store.UnitQuery{Words: "quay Q-01", Size: 50}, 10, 10},
		"a per cent sign":  {store.UnitQuery{Words: "1%", Size: 50}, 10, 10},
		"an underscore":    {store.UnitQuery{Words: "_", Size: 50}, 0, 0},
		"by model":         {store.UnitQuery{Model: "other", Size: 50}, 1, 1},
		"by state":         {store.UnitQuery{State: "half-done", Size: 50}, 0, 0},
		"with an open run": {store.UnitQuery{State: "open", Size: 50}, 0, 0},
	} {
		rows, p, err := s.Units(ctx, x.q)
		if err != nil || p.Total != x.total || p.More || len(rows) != x.page {
			t.Errorf("%s: %d of %+v, %v; want %d of %d", name, len(rows), p, err, x.page, x.total)
		}
	}
	if _, _, err := s.Units(ctx, store.UnitQuery{After: "no cursor", Size: 10}); core.KindOf(err) != core.NotUnderstood {
		t.Errorf("a cursor that is none: %v", err)
	}
	if _, err := s.Unit(ctx, "Q-001"); core.KindOf(err) != core.CannotTell {
		t.Errorf("a serial of two models: %v", err)
	}
	if u, err := s.Unit(ctx, "Q-002"); err != nil || u.Model != "quill-80" {
		t.Errorf("%+v %v", u, err)
	}
}

func TestTheNewestFactOfEachSource(t *testing.T) {
	s, _, key := open(t)
	u, _ := s.MeetUnit(ctx, key, "m", "S", "", somebody, time.Now())
	noon := time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	facts := []core.Fact{{Name: "revision", Value: "C", Source: "wire", At: noon}, {Name: "revision", Value: "D", Source: "wire", At: noon.Add(time.Second)}, {Name: "revision", Value: "C", Source: "label", At: noon, By: somebody}, {Name: "running", Value: "1.2.3", Source: "wire", At: noon}}
	for range 2 { // the same facts twice change nothing
		if err := s.AddFacts(ctx, u.ID, facts); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.Facts(ctx, u.ID)
	if err != nil || len(got) != 3 {
		t.Fatalf("%+v %v", got, err)
	}
	for _, f := range got {
		if f.Name == "revision" && f.Source == "wire" && f.Value != "D" {
			t.Errorf("the wire says %s", f.Value)
		}
	}
	if u, _ = s.Unit(ctx, "S"); u.Running != "1.2.3" || !u.Seen.Time.Equal(noon.Add(time.Second)) {
		t.Errorf("%+v", u)
	}
}

// Many write to one chain at once, without locks; it has no gap and no fork.
func TestOneChainManyWriters(t *testing.T) {
	s, _, key := open(t)
	var all sync.WaitGroup
	for i := range 12 {
		all.Add(1)
		go func() {
			defer all.Done()
			if _, err := s.AppendEntry(ctx, key, &history.Entry{Unit: someUnit, Kind: history.Entered, HappenedAt: int64(i), By: somebody}); err != nil {
				t.Error(err)
			}
		}()
	}
	all.Wait()
	chain, heads, err := s.Chain(ctx, someUnit)
	if err != nil || len(chain) != 12 || len(heads) != 12 {
		t.Fatalf("%d entries, %d heads, %v", len(chain), len(heads), err)
	}
	if found := history.Check(someUnit, chain, heads, history.Line{Now: key.Public()}, func(string) trust.Any { return nil }); len(found) > 0 {
		t.Error(found)
	}
}

// TestEntriesArePacked: once no service runs that would take a packed one for another; it is read back byte
// for byte, and one that was changed does not give its hash.
func TestEntriesArePacked(t *testing.T) {
	s, db, key := open(t)
	root := db.Open(t, db.Root)
	unit := store.NewID()
	add := func(kind, text string) {
		t.Helper()
		if _, err := s.AppendEntry(ctx, key, &history.Entry{Unit: unit, Kind: kind, By: store.NewID(), Text: text}); err != nil {
			t.Fatal(err)
		}
	}
	sizes := func() (all []int) {
		t.Helper()
		rows, err := root.Query(`SELECT LENGTH(encoded) FROM ferry.entry WHERE unit = ? ORDER BY n`, unit)
		if err != nil {
			t.Fatal(err)
		}
		defer rows.Close()
		for rows.Next() {
			var n int
			if err := rows.Scan(&n); err != nil {
				t.Fatal(err)
			}
			all = append(all, n)
		}
		return all
	}
	texts := []string{"", "Revision D, on the label.", strings.Repeat("long ", 500)}
	for _, oldest := range []int{27, 28} {
		if _, err := root.Exec(`UPDATE ferry.schema_promise SET oldest = ?`, oldest); err != nil {
			t.Fatal(err)
		}
		for _, x := range texts {
			add(history.Noted, x)
		}
	}
	is := sizes()
	for i := range texts {
		if was, now := is[i], is[len(texts)+i]; now*4 > was*3 {
			t.Errorf("%q took %d bytes and takes %d", texts[i], was, now)
		}
	}
	check := func() []core.Said {
		t.Helper()
		chain, heads, err := s.Chain(ctx, unit)
		if err != nil || len(chain) != 2*len(texts) {
			t.Fatal(len(chain), err)
		}
		return history.Check(unit, chain, heads, history.Line{Now: key.Public()}, nil)
	}
	if found := check(); len(found) != 0 {
		t.Errorf("%v", found)
	}
	for _, q := range []string{`CONCAT(encoded, 'x')`, `LEFT(encoded, LENGTH(encoded) - 1)`, `CONCAT(LEFT(encoded, 12), 'x', SUBSTR(encoded, 14))`, `LEFT(encoded, 3)`, `''`} {
		if _, err := root.Exec(`CREATE TABLE ferry.was AS SELECT n, encoded FROM ferry.entry`); err != nil {
			t.Fatal(err)
		}
		if _, err := root.Exec(`UPDATE ferry.entry SET encoded = ` + q + ` WHERE n = 5`); err != nil {
			t.Fatal(err)
		}
		if found := check(); len(found) == 0 || !strings.Contains(found[0].Text, "entry 5 was changed") {
			t.Errorf("%s: %v", q, found)
		}
		for _, q := range []string{`UPDATE ferry.entry e JOIN ferry.was w ON w.n = e.n SET e.encoded = w.encoded`, `DROP TABLE ferry.was`} {
			if _, err := root.Exec(q); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func event(n uint64, kind string, body any) []byte {
	raw, _ := json.Marshal(body)
	e, _ := json.Marshal(run.Event{Schema: 1, N: n, Epoch: 1, At: int64(n), Kind: kind, Body: raw})
	return e
}

func TestEventsAreTakenOnceAndWithoutGaps(t *testing.T) {
	s, _, key := open(t)
	r := store.Run{ID: store.NewID(), Kind: run.Flash, Unit: store.NewID(), Bench: store.NewID(), Link: "a", By: somebody, Epoch: 1, Opened: []byte(`{"serial":"S"}`), OpenedAt: time.Now()}
	if err := s.AddBench(ctx, store.Bench{ID: r.Bench, Name: "b", PublicKey: make([]byte, 32)}); err != nil {
		t.Fatal(err)
	}
	order := store.Order{ID: store.NewID(), Bench: r.Bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}
	if err := s.OpenRun(ctx, r, []string{r.Bench + "/" + r.Link}, nil, order); err != nil {
		t.Fatal(err)
	}
	other := r
	other.ID, other.Unit, order.ID = store.NewID(), store.NewID(), store.NewID()
	if err := s.OpenRun(ctx, other, []string{other.Bench + "/" + other.Link}, nil, order); core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), r.ID) {
		t.Errorf("the same link: %v", err)
	}
	other.Link, other.Unit = "b", r.Unit
	if err := s.OpenRun(ctx, other, []string{other.Bench + "/" + other.Link}, nil, order); core.KindOf(err) != core.Busy {
		t.Errorf("the same unit: %v", err)
	}
	r, err := s.Run(ctx, r.ID)
	if err != nil {
		t.Fatal(err)
	}
	if o, err := r.Opening(); err != nil || o.Serial != "S" {
		t.Errorf("%+v %v", o, err)
	}
	var bodies [][]byte
	for n := uint64(1); n <= 10; n++ {
		bodies = append(bodies, event(n, run.KindReading, run.Amount{Done: n}))
	}
	for _, x := range []struct {
		first uint64
		to    int
		have  uint64
	}{{1, 3, 3}, {1, 3, 3}, {2, 5, 5}, {8, 10, 5}, {6, 10, 10}, {11, 10, 10}} {
		took, err := s.TakeEvents(ctx, key, r, batch(r.Bench, x.first, "", bodies[x.first-1:x.to]...))
		if err != nil || took.Have != x.have || took.First != 1 {
			t.Errorf("from %d to %d: %+v, %v; want %d", x.first, x.to, took, err, x.have)
		}
	}
	// Again with other content: nothing is taken, and it is given back.
	changed := event(3, run.KindReading, run.Amount{Done: 99})
	if took, err := s.TakeEvents(ctx, key, r, batch(r.Bench, 3, "", changed)); err != nil || !bytes.Equal(took.Other, changed) || took.Have != 10 {
		t.Errorf("%+v %v", took, err)
	}
	for i := range 30 {
		kept, err := s.AddConflict(ctx, r.ID, 1, event(3, run.KindReading, run.Amount{Done: uint64(100 + i/2)}), time.Now())
		if want := i%2 == 0; err != nil || kept != want {
			t.Errorf("conflict %d: kept %v %v", i, kept, err)
		}
	}
	var all sync.WaitGroup // two services hand over the same events
	for range 4 {
		all.Add(1)
		go func() {
			defer all.Done()
			if _, err := s.TakeEvents(ctx, key, r, batch(r.Bench, 11, "", event(11, run.KindReading, nil), event(12, run.KindReading, nil))); err != nil {
				t.Error(err)
			}
		}()
	}
	all.Wait()
	events, err := s.Events(ctx, r.ID, 4)
	if err != nil || len(events) != 8 || events[0].N != 5 || events[7].N != 12 {
		t.Errorf("%d events, %v", len(events), err)
	}
	if _, err := s.TakeEvents(ctx, key, r, batch(r.Bench, 13, string(run.Interrupted))); err != nil {
		t.Fatal(err)
	}
	if r, _ = s.Run(ctx, r.ID); r.State != store.RunPaused || r.Outcome != "interrupted" {
		t.Errorf("%+v", r)
	}
	// Whoever has it taken up again does not read that it is interrupted until its bench has spoken.
	again := store.Order{ID: store.NewID(), Bench: r.Bench, Kind: "resume", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}
	if err := s.ResumeRun(ctx, r, r.Bench, r.Link, []string{r.Bench + "/" + r.Link}, func(uint64) (store.Order, error) { return again, nil }); err != nil {
		t.Fatal(err)
	}
	if r, _ = s.Run(ctx, r.ID); r.State != store.RunOpen || r.Outcome != "" {
		t.Errorf("taken up again: %s, %q", r.State, r.Outcome)
	}
	if err := s.PauseRun(ctx, r.ID); err != nil {
		t.Fatal(err)
	}
	if r, _ = s.Run(ctx, r.ID); r.State != store.RunPaused || r.Outcome != "interrupted" {
		t.Errorf("it was not taken up: %s, %q", r.State, r.Outcome)
	}
	if err := s.ReleaseRun(ctx, key, r, somebody, "gone", true); err != nil {
		t.Fatal(err)
	}
	if err := s.ReleaseRun(ctx, key, r, somebody, "gone", true); core.KindOf(err) != core.NotFound {
		t.Errorf("a second time: %v", err)
	}
	if err := s.OpenRun(ctx, other, []string{other.Bench + "/" + other.Link}, nil, order); err != nil {
		t.Errorf("after the release: %v", err)
	}
}

// TestBatchesInRows hands events over in batches that are cut anew again and again, to a service
// that may keep several in a row and to one that may not: whatever is read of them is what was
// handed over, and one that comes again with other content is found wherever it is in a row.
func TestBatchesInRows(t *testing.T) {
	s, db, key := open(t)
	root := db.Open(t, db.Root)
	r := store.Run{ID: store.NewID(), Kind: run.Flash, Unit: store.NewID(), Bench: store.NewID(), Link: "a", By: somebody, Epoch: 1, Opened: []byte(`{"serial":"S"}`), OpenedAt: time.Now()}
	if err := s.AddBench(ctx, store.Bench{ID: r.Bench, Name: "b", PublicKey: make([]byte, 32)}); err != nil {
		t.Fatal(err)
	}
	if err := s.OpenRun(ctx, r, []string{r.Bench + "/" + r.Link}, nil, store.Order{ID: store.NewID(), Bench: r.Bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}); err != nil {
		t.Fatal(err)
	}
	at := rand.New(rand.NewPCG(7, 27))
	var all [][]byte
	for n := range 300 {
		all = append(all, event(uint64(n+1), run.KindReading, map[string]any{"done": n, "says": strings.Repeat("tide ", at.IntN(40))}))
	}
	have := 0
	for have < len(all) {
		if _, err := root.Exec(`UPDATE schema_promise SET oldest = ?`, []int{24, 27, 27}[at.IntN(3)]); err != nil {
			t.Fatal(err)
		}
		first := have + 1 - min(at.IntN(7), have) // some of what is there comes again
		to := min(have+1+at.IntN(20), len(all))
		took, err := s.TakeEvents(ctx, key, r, batch(r.Bench, uint64(first), "", all[first-1:to]...))
		if err != nil || took.Have != uint64(to) || took.Other != nil {
			t.Fatalf("%d to %d: %+v %v", first, to, took, err)
		}
		have = to

		other := 1 + at.IntN(have)
		changed := event(uint64(other), run.KindReading, map[string]any{"says": "ebb"})
		begins := max(1, other-at.IntN(4))
		if took, err := s.TakeEvents(ctx, key, r, batch(r.Bench, uint64(begins), "", append(slices.Clone(all[begins-1:other-1]), changed)...)); err != nil || !bytes.Equal(took.Other, changed) {
			t.Fatalf("event %d with other content, from %d on: %+v %v", other, begins, took, err)
		}
		after, most := at.IntN(have+1), 1+at.IntN(30)
		raw, err := s.RawEvents(ctx, r.ID, uint64(after), most)
		if want := all[after:min(after+most, have)]; err != nil || !slices.EqualFunc(raw, want, bytes.Equal) {
			t.Fatalf("%d behind %d: %d, want %d, %v", most, after, len(raw), len(want), err)
		}
		standing, err := s.Standings(ctx, []string{r.ID})
		if err != nil || standing[r.ID].Last != uint64(have) {
			t.Fatalf("%+v %v", standing, err)
		}
	}
	var rows int
	if err := root.QueryRow(`SELECT COUNT(*) FROM run_event`).Scan(&rows); err != nil || rows >= len(all) {
		t.Errorf("%d events in %d rows, %v", len(all), rows, err)
	}
	kept, err := s.KeptOf(ctx, []string{r.ID})
	if err != nil {
		t.Fatal(err)
	}
	if raw, err := kept.RawEvents(ctx, r.ID, 0, 10000); err != nil || !slices.EqualFunc(raw, all, bytes.Equal) {
		t.Errorf("read together: %d, %v", len(raw), err)
	}

	// Cut off, filled up, with another count: it is said, and nobody reads past the end.
	for _, q := range []string{`UPDATE run_event SET body = LEFT(body, 40) WHERE events > 1`, `UPDATE run_event SET events = 700 WHERE events > 1`, `UPDATE run_event SET events = 2 WHERE events > 2`, `UPDATE run_event SET events = 2 WHERE events = 1`} {
		if _, err := root.Exec(`CREATE TABLE as_it_was AS SELECT run, epoch, n, received_at, body, events FROM run_event`); err != nil {
			t.Fatal(err)
		}
		if _, err := root.Exec(q); err != nil {
			t.Fatal(err)
		}
		if _, err := s.RawEvents(ctx, r.ID, 0, 10000); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "cannot be read") {
			t.Errorf("%s: %v", q, err)
		}
		for _, q := range []string{`DELETE FROM run_event`, `INSERT INTO run_event (run, epoch, n, received_at, body, events) SELECT run, epoch, n, received_at, body, events FROM as_it_was`, `DROP TABLE as_it_was`} {
			if _, err := root.Exec(q); err != nil {
				t.Fatal(err)
			}
		}
	}
	if raw, err := s.RawEvents(ctx, r.ID, 0, 10000); err != nil || !slices.EqualFunc(raw, all, bytes.Equal) {
		t.Errorf("as it was: %d, %v", len(raw), err)
	}
}

func TestACodeIsGoodOnce(t *testing.T) {
	s, _, _ := open(t)
	d := core.DigestOf([]byte("code"))
	now := time.Now()
	add := func(ends time.Time) {
		t.Helper()
		if err := s.AddSecret(ctx, store.Secret{Digest: d[:], Kind: store.SecretEnrol, Expires: sql.NullTime{Time: ends.UTC(), Valid: true}}); err != nil {
			t.Fatal(err)
		}
	}
	add(now.Add(time.Minute))
	var mu sync.Mutex
	won := 0
	var all sync.WaitGroup
	for range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			if _, err := s.UseSecret(ctx, d, store.SecretEnrol, now); err == nil {
				mu.Lock()
				won++
				mu.Unlock()
			}
		}()
	}
	all.Wait()
	if won != 1 {
		t.Errorf("%d of 8 got in by one code", won)
	}
	s.DropSecret(ctx, d)
	add(now.Add(time.Minute))
	if _, err := s.UseSecret(ctx, d, store.SecretSignIn, now); err == nil {
		t.Error("an enrolment code signs a person in")
	}
	if _, err := s.UseSecret(ctx, d, store.SecretEnrol, now.Add(2*time.Minute)); core.KindOf(err) != core.NotAllowed {
		t.Errorf("too old: %v", err)
	}
}

// batch is events of epoch 1, not signed.
func batch(bench string, first uint64, outcome string, events ...[]byte) store.Posted {
	return store.Posted{Post: history.Post{Bench: bench, Epoch: 1, Outcome: outcome}, First: first, Events: events}
}

// TestSignedBatches: what a bench has signed must be what came, whole and from the beginning of
// its epoch on, however it cuts its batches.
func TestSignedBatches(t *testing.T) {
	s, _, key := open(t)
	r := store.Run{ID: store.NewID(), Kind: run.Flash, Unit: store.NewID(), Bench: store.NewID(), Link: "a", By: somebody, Epoch: 1, Opened: []byte(`{"serial":"S"}`), OpenedAt: time.Now()}
	if err := s.AddBench(ctx, store.Bench{ID: r.Bench, Name: "b", PublicKey: key.Public()}); err != nil {
		t.Fatal(err)
	}
	order := store.Order{ID: store.NewID(), Bench: r.Bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}
	if err := s.OpenRun(ctx, r, []string{r.Bench + "/" + r.Link}, nil, order); err != nil {
		t.Fatal(err)
	}
	var bodies [][]byte
	for n := uint64(1); n <= 12; n++ {
		bodies = append(bodies, event(n, run.KindReading, run.Amount{Done: n}))
	}
	post := func(first, to uint64, chained ...[]byte) (store.Taken, error) {
		p := batch(r.Bench, first, "", bodies[first-1:to]...)
		p.Run, p.Last, p.Chain = r.ID, to, history.ChainOn(core.Digest{}, chained...)
		p.Signature = p.Sign(key)
		return s.TakeEvents(ctx, key, r, p)
	}
	for i, x := range [][2]uint64{{1, 4}, {5, 8}, {5, 8}, {7, 10}, {1, 11}} { // {7, 10}: cut otherwise than before
		if took, err := post(x[0], x[1], bodies[:x[1]]...); err != nil || took.Other != nil {
			t.Fatalf("batch %d: %+v %v", i, took, err)
		}
	}
	for name, chained := range map[string][][]byte{"one left out": bodies[1:12], "one more": append(bodies[:12:12], bodies[0]), "only its own": bodies[11:12]} {
		if _, err := post(12, 12, chained...); core.KindOf(err) != core.BadFile {
			t.Errorf("%s: %v", name, err)
		}
	}
	posts, err := s.Posts(ctx, r.ID)
	if err != nil || len(posts) != 4 || posts[3].Last != 11 || posts[3].Bench != r.Bench {
		t.Fatalf("%+v %v", posts, err)
	}
	for _, p := range posts {
		said := history.Post{Bench: p.Bench, Run: r.ID, Epoch: p.Epoch, Last: p.Last, Chain: core.Digest(p.Chain), Outcome: p.Outcome}
		if !said.Verify(key.Public(), p.Signature) || said.Chain != history.ChainOn(core.Digest{}, bodies[:p.Last]...) {
			t.Errorf("%+v", p)
		}
	}
}

// TestEverySheetInForceIsCounted, once no service runs any more that does not count; what is tried
// of a sheet is none.
func TestEverySheetInForceIsCounted(t *testing.T) {
	s, db, _ := open(t)
	root := db.Open(t, db.Root)
	sheet, err := model.ReadSheet(coretest.Small)
	if err != nil {
		t.Fatal(err)
	}
	count := func() uint64 {
		t.Helper()
		n, err := s.ModelChanges(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := count()
	for range 2 {
		if err := s.PutModel(ctx, sheet, coretest.Small); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.ProveSheet(ctx, sheet.Model, sheet.Digest, "serviced", time.Now()); err != nil {
		t.Fatal(err)
	}
	if n := count(); before == 0 || n != before+2 {
		t.Errorf("%d became %d", before, n)
	}
	if _, err := root.Exec(`UPDATE ferry.schema_promise SET oldest = 28`); err != nil {
		t.Fatal(err)
	}
	if n := count(); n != 0 {
		t.Errorf("%d, and an older service may have put others in force", n)
	}
}

// TestRunsArePackedOnceTheyAreOver: the events of a run that was closed come into one row for each epoch,
// byte for byte, and of what was signed the last stays; what is open, was closed just now, or was
// changed stays as it is, and holds nobody up. The account that does it deletes no event.
func TestRunsArePackedOnceTheyAreOver(t *testing.T) {
	s, db, key := open(t)
	root := db.Open(t, db.Root)
	bench := store.NewID()
	if err := s.AddBench(ctx, store.Bench{ID: bench, Name: "b", PublicKey: key.Public()}); err != nil {
		t.Fatal(err)
	}
	do := func(q string, args ...any) int {
		t.Helper()
		x, err := root.Exec(q, args...)
		if err != nil {
			t.Fatal(q, err)
		}
		n, _ := x.RowsAffected()
		return int(n)
	}
	rows := func(id string) (n int, posts int) {
		t.Helper()
		if err := root.QueryRow(`SELECT (SELECT COUNT(*) FROM ferry.run_event WHERE run = ?), (SELECT COUNT(*) FROM ferry.run_post WHERE run = ?) + (SELECT COUNT(signature) FROM ferry.run_event WHERE run = ?)`, id, id, id).Scan(&n, &posts); err != nil {
			t.Fatal(err)
		}
		return n, posts
	}
	all := map[string][][]byte{}
	var ids []string
	add := func(r *store.Run, epoch, first, last uint64, in uint64) {
		t.Helper()
		var bodies [][]byte
		chained := core.Digest{}
		for n := first; n <= last; n += in {
			if n == 22 { // from here on no service of an older version runs
				do(`UPDATE ferry.schema_promise SET oldest = ?`, store.Schema)
			}
			p := batch(bench, n, "")
			p.Run, p.Epoch, p.Last = r.ID, epoch, min(n+in-1, last)
			for k := n; k <= p.Last; k++ {
				raw, err := json.Marshal(run.Event{Schema: run.Schema, N: k, Epoch: epoch, At: int64(k), Kind: run.KindReading, Body: json.RawMessage(fmt.Sprintf(`{"done":%d,"total":%d}`, k, last))})
				if err != nil {
					t.Fatal(err)
				}
				p.Events = append(p.Events, raw)
			}
			bodies = append(bodies, p.Events...)
			chained = history.ChainOn(chained, p.Events...)
			p.Chain = chained
			p.Signature = p.Sign(key)
			if took, err := s.TakeEvents(ctx, key, *r, p); err != nil || took.Have != p.Last {
				t.Fatalf("%+v %v", took, err)
			}
		}
		all[r.ID] = append(all[r.ID], bodies...)
	}
	for i := range 6 {
		r := store.Run{ID: store.NewID(), Kind: run.Flash, Unit: store.NewID(), Bench: bench, Link: fmt.Sprint("a", i), By: somebody, Epoch: 1, Opened: []byte(`{"serial":"S"}`), OpenedAt: time.Now()}
		if err := s.OpenRun(ctx, r, []string{bench + "/" + r.Link}, nil, store.Order{ID: store.NewID(), Bench: bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}); err != nil {
			t.Fatal(err)
		}
		ids = append(ids, r.ID)
		last, in := uint64(40), uint64(3)
		if i == 2 { // more than one row takes
			last, in = 1900, 100
		}
		if i == 0 {
			do(`UPDATE ferry.schema_promise SET oldest = 28`)
		}
		add(&r, 1, 1, last, in)
		if i == 1 { // it went on at another place
			do(`UPDATE ferry.run_line SET last_n = 40 WHERE run = ?`, r.ID)
			do(`INSERT INTO ferry.run_line (run, epoch, bench, link, first_n) VALUES (?, 2, ?, 'z', 41)`, r.ID, bench)
			do(`UPDATE ferry.run SET epoch = 2 WHERE id = ?`, r.ID)
			r.Epoch = 2
			add(&r, 2, 41, 50, 2)
		}
	}
	now := time.Now().UTC()
	const plain, moved, long, changed, fresh, stillOpen = 0, 1, 2, 3, 4, 5
	for i, id := range ids {
		switch i {
		case stillOpen:
		case fresh:
			do(`UPDATE ferry.run SET state = 'closed', closed_at = ? WHERE id = ?`, now.Add(-50*time.Minute), id)
		default:
			do(`UPDATE ferry.run SET state = 'closed', closed_at = ? WHERE id = ?`, now.Add(-time.Duration(9-i)*time.Hour), id)
		}
	}
	do(`UPDATE ferry.run_event SET body = LEFT(body, 20) WHERE run = ? AND n = 7`, ids[changed])
	// Of what is not a closed run's, or not all of it, nothing is put in its place.
	for name, x := range map[string][]any{"an open run": {ids[stillOpen], 1, 1, 40}, "closed just now": {ids[fresh], 1, 1, 40}, "more than there are": {ids[plain], 1, 1, 41}, "another epoch": {ids[plain], 2, 1, 40}, "a part of a row": {ids[plain], 1, 1, 5}} {
		raw, err := sql.Open("mysql", db.Serve)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := raw.Exec(`CALL pack_events(?, ?, ?, ?, 'x')`, x...); err == nil || !strings.Contains(err.Error(), "not all of these events") {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := raw.Exec(`DELETE FROM run_event WHERE run = ?`, x[0]); err == nil || !strings.Contains(err.Error(), "denied") {
			t.Errorf("the service deletes events: %v", err)
		}
		raw.Close()
	}
	for turn, want := range []int64{2, 1, 0} { // plain and moved, long and the changed one, nothing
		swept, _, err := s.Sweep(ctx, now, 2)
		if err != nil || swept["runs packed"] != want {
			t.Errorf("turn %d: %v %v", turn, swept, err)
		}
	}
	for i, want := range map[int][2]int{plain: {1, 1}, moved: {2, 2}, long: {2, 2}, changed: {14, 14}, fresh: {14, 14}, stillOpen: {14, 14}} {
		if n, posts := rows(ids[i]); n != want[0] || posts != want[1] {
			t.Errorf("run %d: %d rows with %d signed batches, want %v", i, n, posts, want)
		}
		if i == changed {
			continue
		}
		for _, after := range []uint64{0, 6, 39} {
			raw, err := s.RawEvents(ctx, ids[i], after, 10000)
			if err != nil || !slices.EqualFunc(raw, all[ids[i]][after:], bytes.Equal) {
				t.Errorf("run %d after %d: %d events, %v", i, after, len(raw), err)
			}
		}
	}
	// Its bench, which has not heard that they are here, sends some of them again.
	r := store.Run{ID: ids[plain], Bench: bench, Epoch: 1, State: store.RunClosed}
	p := batch(bench, 20, "", all[ids[plain]][19:40]...)
	p.Run, p.Last, p.Chain = r.ID, 40, history.ChainOn(core.Digest{}, all[ids[plain]]...)
	p.Signature = p.Sign(key)
	if took, err := s.TakeEvents(ctx, key, r, p); err != nil || took.Have != 40 || took.Other != nil {
		t.Errorf("again: %+v %v", took, err)
	}
	p.Events = append(slices.Clone(p.Events[:20]), []byte(`{"n":40}`))
	p.Chain = history.ChainOn(history.ChainOn(core.Digest{}, all[ids[plain]][:19]...), p.Events...)
	p.Signature = p.Sign(key)
	if took, err := s.TakeEvents(ctx, key, r, p); err != nil || took.Other == nil {
		t.Errorf("with other content: %+v %v", took, err)
	}
	// The changed one is mended, and the walk over the runs begun anew.
	do(`UPDATE ferry.run_event x JOIN ferry.run_event y ON y.run = ? AND y.n = 7 SET x.body = y.body WHERE x.run = ? AND x.n = 7`, ids[fresh], ids[changed])
	do(`DELETE FROM ferry.swept_to`)
	if swept, _, err := s.Sweep(ctx, now, 100); err != nil || swept["runs packed"] != 1 {
		t.Errorf("%v %v", swept, err)
	}
	if n, _ := rows(ids[changed]); n != 1 {
		t.Errorf("the mended one has %d rows", n)
	}
}

// TestRunsAreNotPackedForOlderServices: as long as the schema's promise holds that one may run which
// takes a row for an event.
func TestRunsAreNotPackedForOlderServices(t *testing.T) {
	s, db, key := open(t)
	root := db.Open(t, db.Root)
	r := store.Run{ID: store.NewID(), Kind: run.Flash, Unit: store.NewID(), Bench: store.NewID(), Link: "a", By: somebody, Epoch: 1, Opened: []byte(`{"serial":"S"}`), OpenedAt: time.Now()}
	if err := s.AddBench(ctx, store.Bench{ID: r.Bench, Name: "b", PublicKey: key.Public()}); err != nil {
		t.Fatal(err)
	}
	if err := s.OpenRun(ctx, r, []string{r.Bench + "/a"}, nil, store.Order{ID: store.NewID(), Bench: r.Bench, Kind: "run", Body: []byte(`{}`), Created: time.Now(), Deadline: time.Now()}); err != nil {
		t.Fatal(err)
	}
	for n := uint64(1); n <= 5; n++ {
		if _, err := s.TakeEvents(ctx, key, r, func() store.Posted {
			p := batch(r.Bench, n, "", event(n, run.KindReading, run.Amount{Done: n}))
			p.Run = r.ID
			return p
		}()); err != nil {
			t.Fatal(err)
		}
	}
	now := time.Now().UTC()
	for _, q := range []string{`UPDATE ferry.run SET state = 'closed', closed_at = UTC_TIMESTAMP(6) - INTERVAL 9 HOUR`, `UPDATE ferry.schema_promise SET oldest = 26`} {
		if _, err := root.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	for _, want := range []int64{0, 1} {
		if swept, _, err := s.Sweep(ctx, now, 10); err != nil || swept["runs packed"] != want {
			t.Errorf("want %d: %v %v", want, swept, err)
		}
		if _, err := root.Exec(`UPDATE ferry.schema_promise SET oldest = 27`); err != nil {
			t.Fatal(err)
		}
	}
}

// TestOldRowsAreSealedInOneWalk: what a row costs to be sealed, and to be sealed anew with the key
// that takes the place of another, does not grow with how many there are.
func TestOldRowsAreSealedInOneWalk(t *testing.T) {
	ctx := context.Background()
	reads := func(rows int) (n, again int) {
		db := database.New(t, false)
		st, err := store.Open(ctx, db.Serve)
		if err != nil {
			t.Fatal(err)
		}
		defer st.Close()
		root := db.Open(t, db.Root)
		at := time.Now().UTC()
		for i := range rows {
			id := fmt.Sprintf("00000000-0000-7000-8000-%012d", i)
			if _, err := root.Exec(`INSERT INTO ferry.firmware (id, model, version, document) VALUES (?, 'm', ?, ?)`, id, id, make([]byte, 32)); err != nil {
				t.Fatal(err)
			}
			digest := core.DigestOf([]byte(id))
			if _, err := root.Exec(`INSERT INTO ferry.secret (digest, kind, created_at) VALUES (?, 'token', ?)`, digest[:], at); err != nil {
				t.Fatal(err)
			}
			if _, err := root.Exec(`INSERT INTO ferry.fact (unit, name, value, source, said_at, said_by) VALUES (?, 'revision', 'D', 'wire', ?, '')`, fmt.Sprintf("00000000-0000-7000-8000-%012d", i/7), at.Add(time.Duration(i)*time.Second)); err != nil {
				t.Fatal(err)
			}
		}
		count := func() (n int) {
			if err := root.QueryRow(`SELECT CAST(SUM(VARIABLE_VALUE) AS INT) FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME LIKE 'Handler_read%'`).Scan(&n); err != nil {
				t.Fatal(err)
			}
			return n
		}
		before := count()
		key, err := trust.NewKey()
		if err != nil {
			t.Fatal(err)
		}
		if err := st.WithKey(ctx, key); err != nil {
			t.Fatal(err)
		}
		n = count() - before
		var left int
		if err := root.QueryRow(`SELECT (SELECT COUNT(*) FROM ferry.firmware WHERE seal IS NULL) + (SELECT COUNT(*) FROM ferry.secret WHERE seal IS NULL) + (SELECT COUNT(*) FROM ferry.fact WHERE seal IS NULL)`).Scan(&left); err != nil || left > 0 {
			t.Fatalf("%d rows have no seal: %v", left, err)
		}

		// With the key that takes its place, all rows once; of one unit there are more than are read at once.
		var facts []core.Fact
		for i := range rows / 2 {
			facts = append(facts, core.Fact{Name: fmt.Sprintf("n%d", i), Value: "1", Source: core.FromWire, At: at})
		}
		for some := range slices.Chunk(facts, 200) {
			if err := st.AddFacts(ctx, fmt.Sprintf("00000000-0000-7000-8000-%012d", rows), some); err != nil {
				t.Fatal(err)
			}
		}
		next, err := key.Renewed()
		if err != nil {
			t.Fatal(err)
		}
		before = count()
		sealed := map[string]int{}
		if err := st.RenewKey(ctx, next, func(table string, n int) { sealed[table] = n }); err != nil {
			t.Fatal(err)
		}
		again = count() - before
		if sealed["fact"] != rows+len(facts) || sealed["secret"] != rows || sealed["firmware"] != rows {
			t.Errorf("%v", sealed)
		}
		fresh, err := store.Open(ctx, db.Serve)
		if err != nil {
			t.Fatal(err)
		}
		defer fresh.Close()
		if err := fresh.WithKey(ctx, next); err != nil {
			t.Fatal(err)
		}
		for _, unit := range []string{"", fmt.Sprintf("00000000-0000-7000-8000-%012d", 3), fmt.Sprintf("00000000-0000-7000-8000-%012d", rows)} {
			if found, err := fresh.Unsealed(ctx, unit); err != nil || len(found) > 0 {
				t.Errorf("not sealed with the new key: %v %v", found, err)
			}
		}
		return n, again
	}
	few, fewAgain := reads(700)
	many, manyAgain := reads(2800)
	if many > 6*few {
		t.Errorf("sealing 700 rows of each reads %d, sealing 2800 reads %d", few, many)
	}
	if manyAgain > 6*fewAgain {
		t.Errorf("sealing 700 rows of each anew reads %d, sealing 2800 reads %d", fewAgain, manyAgain)
	}
}

// TestAFleetIsPagedByKey: every list of units goes through all of them in order, page by page,
// each once, whichever way it is found; and what is searched for is found behind what is leafed
// through.
func TestAFleetIsPagedByKey(t *testing.T) {
	s, db, _ := open(t)
	root := db.Open(t, db.Root)
	const fleet = 9000
	at := time.Now().UTC().Truncate(time.Microsecond)
	var rows []any
	for i := range fleet {
		site, state := fmt.Sprintf("Quay-side hall %d", i/10), "done"
		if i%100 == 0 {
			site = "Lantern store"
		}
		if i%500 == 7 {
			state = "half-done"
		}
		seen := any(at.Add(-time.Duration(i/3) * time.Minute)) // three at a time
		if i%11 == 0 {
			seen = nil
		}
		rows = append(rows, fmt.Sprintf("00000000-0000-7000-8000-%012d", i), fmt.Sprintf("hull-%d", i%40), fmt.Sprintf("F-%05d-%c", i, 'A'+i%26), site, "B7 works", "1.0.0", state, at, seen)
	}
	for part := range slices.Chunk(rows, 9*1000) {
		if _, err := root.Exec(`INSERT INTO ferry.unit (id, model, serial, site, customer, running, state, entered_at, seen_at) VALUES (?,?,?,?,?,?,?,?,?)`+strings.Repeat(",(?,?,?,?,?,?,?,?,?)", 999), part...); err != nil {
			t.Fatal(err)
		}
	}
	for _, m := range []string{"hull-3", "hull-33"} {
		if _, err := root.Exec(`INSERT INTO ferry.model (name, title, sheet, changed_at) VALUES (?, ?, ?, ?)`, m, "Anchor light "+m, make([]byte, 32), at); err != nil {
			t.Fatal(err)
		}
	}
	for name, x := range map[string]struct {
		q       store.UnitQuery
		where   string
		counted bool // all of them
	}{
		"all":                     {store.UnitQuery{}, `TRUE`, true},
		"half done":               {store.UnitQuery{State: "half-done"}, `state = 'half-done'`, true},
		"a model":                 {store.UnitQuery{Model: "hull-3"}, `model = 'hull-3'`, true},
		"a word of few":           {store.UnitQuery{Words: "LANT"}, `site = 'Lantern store'`, true},
		"a word of many":          {store.UnitQuery{Words: "quay"}, `site LIKE 'Quay-side%'`, false},
		"the inner one":           {store.UnitQuery{Words: "side"}, `site LIKE 'Quay-side%'`, false},
		"both, which are of none": {store.UnitQuery{Words: "quay lantern"}, `FALSE`, true},
		"one site":                {store.UnitQuery{Words: "hall 812"}, `site = 'Quay-side hall 812'`, true},
		"a short word of many":    {store.UnitQuery{Words: "B7"}, `TRUE`, false},
		"a serial":                {store.UnitQuery{Words: "f-08991-v"}, `serial = 'F-08991-V'`, true},
		"a part of a serial":      {store.UnitQuery{Words: "08991"}, `serial = 'F-08991-V'`, true},
		"the end of serials":      {store.UnitQuery{Words: "8991-v"}, `serial = 'F-08991-V'`, true},
		"the title of models":     {store.UnitQuery{Words: "anchor"}, `model IN ('hull-3', 'hull-33')`, false},
		"a model and a site":      {store.UnitQuery{Words: "lantern", Model: "hull-20"}, `model = 'hull-20' AND site = 'Lantern store'`, true},
	} {
		var want []string
		list, err := root.Query(`SELECT id FROM ferry.unit WHERE ` + x.where + ` ORDER BY state = 'half-done' DESC, seen_at IS NULL, seen_at DESC, id DESC`)
		if err != nil {
			t.Fatal(err)
		}
		for list.Next() {
			var id string
			list.Scan(&id)
			want = append(want, id)
		}
		list.Close()
		var got []string
		x.q.Size = 170
		for pages := 0; pages < 60; pages++ {
			units, p, err := s.Units(ctx, x.q)
			if err != nil {
				t.Fatal(err)
			}
			for _, u := range units {
				got = append(got, u.ID)
			}
			if x.counted && (p.Total != len(want) || p.More) {
				t.Errorf("%s: %+v counted, there are %d", name, p, len(want))
				break
			}
			if x.q.After = p.Next; p.Next == "" {
				break
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s: %d units came in pages, there are %d", name, len(got), len(want))
		}
	}
}

// TestADatabaseThatHangs: what its address says of it is kept, and one that hangs is given up in
// time.
func TestADatabaseThatHangs(t *testing.T) {
	_, db, _ := open(t)
	dsn := db.Serve + "?"
	if strings.Contains(db.Serve, "?") {
		dsn = db.Serve + "&"
	}
	s, err := store.Open(ctx, dsn+"readTimeout=200ms&lock_wait_timeout=77")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if n, err := s.Setting(ctx, "lock_wait_timeout"); err != nil || n != "77" {
		t.Errorf("what the address sets: %q %v", n, err)
	}
	hang := func(signal syscall.Signal) {
		if err := syscall.Kill(db.PID(), signal); err != nil {
			t.Fatal(err)
		}
	}
	hang(syscall.SIGSTOP)
	_, _, err = s.Units(ctx, store.UnitQuery{Size: 1})
	hang(syscall.SIGCONT)
	if !store.Away(err) {
		t.Errorf("a database that hangs: %v", err)
	}
	if _, _, err := s.Units(ctx, store.UnitQuery{Size: 1}); err != nil {
		t.Errorf("once it goes on: %v", err)
	}
	if _, err := s.Unit(ctx, "nobody"); store.Away(err) {
		t.Errorf("not found is not away: %v", err)
	}
}

// TestWhatIsOverIsSwept: a bounded number at a time, by one of several services, and nothing that
// is not over.
func TestWhatIsOverIsSwept(t *testing.T) {
	s, db, _ := open(t)
	root := db.Open(t, db.Root)
	now := time.Now().UTC()
	for i := range 12 {
		at := now.Add(-60 * 24 * time.Hour)
		if i < 5 {
			at = now.Add(-time.Hour)
		}
		digest := core.DigestOf([]byte{byte(i)})
		for _, x := range []struct {
			q    string
			args []any
		}{
			{`INSERT INTO ferry.secret (digest, kind, created_at, expires_at) VALUES (?, 'session', ?, ?)`, []any{digest[:], at, at}},
			{`INSERT INTO ferry.bench_order (id, bench, kind, body, created_at, deadline, ended_at) VALUES (?, ?, 'check', '{}', ?, ?, ?)`, []any{store.NewID(), store.NewID(), at, at, at}},
			{`INSERT INTO ferry.bench_order (id, bench, kind, body, created_at, deadline) VALUES (?, ?, 'run', '{}', ?, ?)`, []any{store.NewID(), store.NewID(), at, at}}, // not ended
		} {
			if _, err := root.Exec(x.q, x.args...); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, err := root.Exec(`INSERT INTO ferry.run (id, kind, unit, bench, link, ordered_by, epoch, state, opened, opened_at) VALUES (?, 'flash', ?, ?, 'a', ?, 1, 'closed', '', ?)`, store.NewID(), store.NewID(), store.NewID(), somebody, now); err != nil { // as the version before enters one
		t.Fatal(err)
	}
	for turn, want := range []int64{4, 3, 0} {
		swept, more, err := s.Sweep(ctx, now, 4)
		if err != nil || swept["secrets"] != want || swept["orders"] != want || more != (turn == 0) {
			t.Errorf("turn %d: %v, more %v, %v", turn, swept, more, err)
		}
	}
	var secrets, orders int
	if err := root.QueryRow(`SELECT (SELECT COUNT(*) FROM ferry.secret), (SELECT COUNT(*) FROM ferry.bench_order)`).Scan(&secrets, &orders); err != nil || secrets != 5 || orders != 17 {
		t.Errorf("%d secrets and %d orders are left, %v", secrets, orders, err)
	}
	lease := func(who string, lasts time.Duration, want bool) {
		t.Helper()
		if has, err := s.Lease(ctx, "sweep", who, lasts); err != nil || has != want {
			t.Errorf("%s: %v %v", who, has, err)
		}
	}
	lease("one", time.Hour, true)
	lease("two", time.Hour, false)
	lease("one", -time.Second, true) // it gives it back
	lease("two", time.Hour, true)
	lease("one", time.Hour, false)
}

// TestAChainIsReadWhileItGrows: what comes while a chain is read is no sign that something was
// taken away.
func TestAChainIsReadWhileItGrows(t *testing.T) {
	s, _, key := open(t)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for range 400 {
			if _, err := s.AppendEntry(ctx, key, &history.Entry{Unit: someUnit, Kind: history.Noted, HappenedAt: 1, Text: "seen"}); err != nil {
				t.Error(err)
				return
			}
		}
	}()
	for reads := 0; ; reads++ {
		chain, heads, err := s.Chain(ctx, someUnit)
		if err != nil {
			t.Fatal(err)
		}
		if found := history.Check(someUnit, chain, heads, history.Line{Now: key.Public()}, func(string) trust.Any { return nil }); len(found) > 0 {
			t.Fatalf("read %d, of %d entries: %v", reads, len(chain), found)
		}
		select {
		case <-done:
			return
		default:
		}
	}
}

// TestWhereAUnitIs: what a bench says of its links again changes nothing; a unit that is identified
// again where it was only becomes younger there; on another link, or behind one, it leaves the first.
func TestWhereAUnitIs(t *testing.T) {
	t.Parallel()
	st, _, key := open(t)
	ctx := context.Background()
	bench := store.Bench{ID: store.NewID(), Name: "van", PublicKey: make([]byte, 32)}
	if err := st.AddBench(ctx, bench); err != nil {
		t.Fatal(err)
	}
	at := time.Date(2027, 1, 2, 3, 4, 5, 0, time.UTC)
	u, err := st.MeetUnit(ctx, key, "small", "S-1", "", "", at)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := st.MeetUnit(ctx, key, "small", "S-1", "", "", at); err != nil || again.ID != u.ID {
		t.Fatalf("met again: %+v %v", again, err)
	}
	links := []store.Link{{Name: "a", Kind: "serial", Adapter: "A1"}, {Name: "b", Kind: "serial", Absent: "unplugged"}}
	put := func(l ...store.Link) {
		t.Helper()
		if err := st.PutLinks(ctx, bench.ID, l); err != nil {
			t.Fatal(err)
		}
	}
	on := func(link, slot string, later time.Duration) {
		t.Helper()
		if err := st.OnLink(ctx, bench.ID, link, slot, u.ID, "small", at.Add(later)); err != nil {
			t.Fatal(err)
		}
	}
	stands := func() (all []string) {
		t.Helper()
		rows, _, err := st.Places(ctx, "", 100)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range rows {
			s := r.Name + r.Slot + " " + r.Absent
			if r.Unit.Valid && r.Identified.Valid {
				s += "S-1 " + r.Identified.Time.Sub(at).String()
			}
			all = append(all, s)
		}
		slices.Sort(all)
		return all
	}
	put(links...)
	check := func(what string, want ...string) {
		t.Helper()
		if got := stands(); !slices.Equal(got, want) {
			t.Errorf("%s: %q, expected %q", what, got, want)
		}
	}
	on("a", "", time.Second)
	check("identified", "a S-1 1s", "b unplugged")
	put(links...)
	on("a", "", time.Minute)
	check("told and identified again", "a S-1 1m0s", "b unplugged")
	put(store.Link{Name: "a", Kind: "serial", Adapter: "A1"}, store.Link{Name: "b", Kind: "serial"})
	check("the other one is there", "a S-1 1m0s", "b ")
	on("b", "", time.Hour)
	check("on the other one", "a ", "b S-1 1h0m0s")
	on("a", "P1", 2*time.Hour)
	check("behind the first", "a ", "aP1 S-1 2h0m0s", "b ")
	on("a", "", 3*time.Hour)
	check("on its own again", "a S-1 3h0m0s", "b ")
	put(store.Link{Name: "a", Kind: "serial", Adapter: "A2"})
	check("another adapter, and the other link is gone", "a ")
}

// TestPacksThatComeAtOnce: the newest number of a series stands, whichever of two packs is entered last.
func TestPacksThatComeAtOnce(t *testing.T) {
	s, _, _ := open(t)
	for k := range 60 {
		series := fmt.Sprint("series-", k)
		var both sync.WaitGroup
		for _, n := range []uint64{3, 5} {
			both.Go(func() {
				if newest, ok, err := s.SeePack(ctx, "signer", series, n, time.Now(), false); err != nil || ok != (newest == n) || n == 5 && !ok {
					t.Errorf("%s %d: %d %v %v", series, n, newest, ok, err)
				}
			})
		}
		both.Wait()
		if newest, ok, err := s.SeePack(ctx, "signer", series, 4, time.Now(), false); err != nil || ok || newest != 5 {
			t.Fatalf("%s: an older one afterwards: %d %v %v", series, newest, ok, err)
		}
	}
}

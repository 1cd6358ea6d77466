package trials

import (
	"bytes"
	"context"
	"encoding/base64"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/database"
)

var land = flag.Bool("land", false, "write testdata/schema-N.dump for the schema of this version")

// lived is a world in which something has happened: flashes, a restore, a
// refusal, a note, a run that is interrupted.
func lived(t *testing.T) *testkit.World {
	w := testkit.NewWorld(t, nil, nil)
	ctx := context.Background()
	if r := w.Flash("a", testkit.Version2); r.Outcome != "done" {
		t.Fatalf("%+v", r)
	}
	w.Consent("S-0001", model.StepBack)
	if r := w.Flash("a", testkit.Version1); r.Outcome != "done" {
		t.Fatalf("%+v", r)
	}
	r := w.Open(client.NewRun{Kind: "restore", At: "b/a"})
	if r = w.Follow(r.ID); r.Outcome != "done" && r.Outcome != "nothing-to-do" {
		t.Fatalf("restore: %s", r.Outcome)
	}
	w.Flash("b", testkit.Version2)
	if err := w.Technician.Note(ctx, "S-0002", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "D", Source: "label"}}}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.PutTarget(ctx, client.NewTarget{Model: "small", Revision: "D", Version: testkit.Version2, Reason: "proven"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.PutGear(ctx, client.NewGear{Kind: "cable", Name: "lead", Owner: "van"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.AddJob(ctx, client.NewJob{Reason: "blank tickets", Asked: "the pier", Units: []string{"S-0002"}, Leave: []client.LeaveOut{{Unit: "S-0001", Why: "done already"}}}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.PutHold(ctx, client.NewHold{Unit: "S-0001", Version: testkit.Version1, Reason: "the partner is old"}); err != nil {
		t.Fatal(err)
	}
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.AddKey(ctx, client.NewKey{Name: "Marsk Boards", Public: key.Public()}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.PutEvidence(ctx, "image/png", pictureOf(7)); err != nil {
		t.Fatal(err)
	}
	return w
}

// chains checks the chain of every unit in a database.
func chains(t *testing.T, s *store.Store, service trust.Public) (entries int) {
	t.Helper()
	ctx := context.Background()
	benches, err := s.Benches(ctx)
	if err != nil {
		t.Fatal(err)
	}
	keys := map[string]trust.Any{}
	for _, b := range benches {
		keys[b.ID] = b.Keys()
	}
	units, _, err := s.Units(ctx, store.UnitQuery{Size: 200})
	if err != nil {
		t.Fatal(err)
	}
	for _, u := range units {
		chain, heads, err := s.Chain(ctx, u.ID)
		if err != nil {
			t.Fatal(err)
		}
		if f := history.Check(u.ID, chain, heads, history.Line{Now: service}, func(id string) trust.Any { return keys[id] }); len(f) > 0 || len(chain) == 0 {
			t.Errorf("unit %s, %d entries: %v", u.Serial, len(chain), f)
		}
		for _, x := range chain { // what each version has kept of a run is what its record is about
			e, err := history.DecodeEntry(x.Encoded)
			if err != nil {
				t.Fatal(err)
			}
			if len(e.Record) == 0 {
				continue
			}
			r, err := history.DecodeRecord(e.Record)
			if err != nil {
				t.Fatal(err)
			}
			if f, err := store.Agrees(ctx, s, e, r); err != nil || len(f) > 0 {
				t.Errorf("unit %s, entry %d: %v %v", u.Serial, e.N, f, err)
			}
		}
		entries += len(chain)
	}
	return entries
}

// loaded is a database that a dump was loaded into.
func loaded(t *testing.T, dump string) (*store.Store, *database.Database) {
	t.Helper()
	raw, err := os.ReadFile(dump)
	if err != nil {
		t.Fatal(err)
	}
	db := database.NewEmpty(t)
	if _, err := store.Load(context.Background(), db.Root, db.Service, bytes.NewReader(raw)); err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(context.Background(), db.Serve)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s, db
}

// TestDumpsOfLandedSchemasMigrate loads what each landed version has left, brings
// it up to date, and checks every chain and every backup.
func TestDumpsOfLandedSchemasMigrate(t *testing.T) {
	t.Parallel()
	here := fmt.Sprintf("testdata/schema-%d.dump", store.Schema)
	if _, err := os.Stat(here); *land && err != nil {
		w := lived(t)
		var out bytes.Buffer
		if _, err := store.Dump(context.Background(), w.DB.Root, &out, time.Now(), nil); err != nil {
			t.Fatal(err)
		}
		os.MkdirAll("testdata", 0o755)
		if err := os.WriteFile(here, out.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		os.WriteFile(strings.TrimSuffix(here, ".dump")+".pub", []byte(base64.StdEncoding.EncodeToString(w.Key.Public())+"\n"), 0o644)
	}
	dumps, _ := filepath.Glob("testdata/schema-*.dump")
	if len(dumps) == 0 {
		t.Fatal("there is no dump of a landed schema")
	}
	for _, d := range dumps {
		t.Run(strings.TrimSuffix(filepath.Base(d), ".dump"), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(strings.TrimSuffix(d, ".dump") + ".pub")
			if err != nil {
				t.Fatal(err)
			}
			key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
			if err != nil {
				t.Fatal(err)
			}
			ctx := context.Background()
			s, db := loaded(t, d)
			whole := func(when string) {
				t.Helper()
				if n := chains(t, s, key); n < 6 {
					t.Errorf("%s: only %d entries", when, n)
				}
				u, err := s.Unit(ctx, "S-0001")
				if err != nil {
					t.Fatal(when, err)
				}
				backups, err := s.Backups(ctx, u.ID)
				if err != nil || len(backups) == 0 {
					t.Fatalf("%s: backups: %d, %v", when, len(backups), err)
				}
				for _, b := range backups {
					if raw, err := s.Piece(ctx, core.Digest(b.Manifest)); err != nil || core.DigestOf(raw) != core.Digest(b.Manifest) {
						t.Errorf("%s: backup %s: %v", when, b.ID, err)
					}
				}
				if r, err := s.Releases(ctx, "small"); err != nil || len(r) < 2 {
					t.Errorf("%s: releases: %d, %v", when, len(r), err)
				}
			}
			whole("with ids as they were")
			if err := store.Migrate(ctx, db.Root, db.Service, true); err != nil {
				t.Fatal(err)
			}
			whole("with ids of 16 bytes")
		})
	}
}

// TestIdsBecomeShorter makes ids take 16 bytes in a database of the version before while a service enters into
// the histories of units and into the audit log: each entry that was acknowledged is there, in one chain.
func TestIdsBecomeShorter(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s, db := loaded(t, "testdata/schema-31.dump")
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	u, err := s.Unit(ctx, "S-0001")
	if err != nil {
		t.Fatal(err)
	}
	root := db.Open(t, db.Root)
	// A table in which something else stands for an id stays as it is.
	must(t, root, `INSERT INTO gear (id, kind, name, version, owner, cost, note, changed_by, changed_at) VALUES ('of old', 'tool', 'clip', '', '', '', '', '', NOW(6))`)
	owners := []string{store.TeamChain, u.ID}
	said, was := map[string][]history.Head{}, map[string]uint64{}
	for _, of := range owners {
		m, err := s.NewestEntry(ctx, of)
		if err != nil {
			t.Fatal(err)
		}
		was[of] = m.N
	}
	if was[u.ID] == 0 {
		t.Fatal("the unit has no history to go on with")
	}
	stop, ended, refused := make(chan struct{}), make(chan struct{}), 0
	go func() {
		defer close(ended)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
			}
			of := owners[i%2]
			h, err := s.AppendEntry(ctx, key, &history.Entry{Unit: of, Kind: history.Noted, HappenedAt: int64(i), Text: "seen"})
			if core.KindOf(err) == core.NotAnswering { // one of its tables has them and another has not yet
				refused++
				continue
			}
			if err != nil {
				t.Error("refused in other words: ", err)
				return
			}
			said[of] = append(said[of], h)
		}
	}()
	typed := func(table, column, want string) {
		t.Helper()
		var is string
		if err := root.QueryRow(`SELECT data_type FROM information_schema.columns WHERE table_schema = 'ferry' AND table_name = ? AND column_name = ?`, table, column).Scan(&is); err != nil || is != want {
			t.Errorf("column %s of %s has type %s, want %s (%v)", column, table, is, want, err)
		}
	}
	typed("entry", "unit", "char")
	if err := store.Migrate(ctx, db.Root, db.Service, true); err != nil {
		t.Fatal(err)
	}
	for _, of := range owners { // it goes on behind it
		if _, err := s.AppendEntry(ctx, key, &history.Entry{Unit: of, Kind: history.Noted, HappenedAt: 1, Text: "seen again"}); err != nil {
			t.Errorf("afterwards: %v", err)
		}
	}
	close(stop)
	<-ended
	if err := store.Migrate(ctx, db.Root, db.Service, false); err != nil {
		t.Errorf("once more: %v", err)
	}
	typed("entry", "unit", "uuid")
	typed("run", "id", "uuid")
	typed("gear", "id", "char")
	var out bytes.Buffer
	if _, err := store.Dump(ctx, db.Root, &out, time.Now(), nil); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "dump")
	if err := os.WriteFile(file, out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	moved, there := loaded(t, file)
	root = there.Open(t, there.Root)
	typed("entry", "unit", "uuid")
	typed("gear", "id", "char")
	t.Logf("%d and %d entries were taken meanwhile, %d refused", len(said[owners[0]]), len(said[owners[1]]), refused)
	other, err := store.Open(ctx, db.Serve)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	for _, of := range owners {
		chain, _, err := other.Chain(ctx, of)
		if err != nil {
			t.Fatal(err)
		}
		if same, _, err := moved.Chain(ctx, of); err != nil || len(same) != len(chain) {
			t.Errorf("%s: %d entries where its dump was loaded, %d here (%v)", of, len(same), len(chain), err)
		}
		for i, e := range chain {
			if e.N != uint64(i+1) {
				t.Fatalf("%s: entry %d stands in place %d", of, e.N, i+1)
			}
		}
		if want := was[of] + uint64(len(said[of])) + 1; uint64(len(chain)) != want {
			t.Errorf("%s: %d entries, %d were acknowledged", of, len(chain), want)
		}
		for _, h := range said[of] {
			if chain[h.N-1].Hash != h.Hash {
				t.Errorf("%s: entry %d is another than the one that was acknowledged", of, h.N)
			}
		}
	}
}

// TestAWholeServiceMoves dumps a service that has lived, loads it elsewhere, and
// compares what the two say.
func TestAWholeServiceMoves(t *testing.T) {
	t.Parallel()
	w := lived(t)
	ctx := context.Background()
	var out bytes.Buffer
	m, err := store.Dump(ctx, w.DB.Migrate, &out, time.Now(), nil)
	if err != nil || m.Schema != store.Schema || m.Rows["entry"] == 0 || m.Rows["piece"] == 0 {
		t.Fatalf("dump: %v %+v", err, m)
	}
	db := database.NewEmpty(t)
	for name, bad := range map[string][]byte{"cut": out.Bytes()[:out.Len()/2], "not one": []byte("hello"), "empty": nil} {
		if _, err := store.Load(ctx, db.Root, db.Service, bytes.NewReader(bad)); core.KindOf(err) != core.BadFile {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := db.Open(t, db.Root).Exec("DROP DATABASE ferry"); err != nil {
			t.Fatal(err)
		}
		if db.Accounts, err = db.Provide(ctx, "ferry"); err != nil {
			t.Fatal(err)
		}
	}
	// One that somebody else has signed, or nobody, is not loaded by whoever names the key.
	stranger, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	var strange, ours bytes.Buffer
	if _, err := store.Dump(ctx, w.DB.Migrate, &strange, time.Now(), &stranger); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Dump(ctx, w.DB.Migrate, &ours, time.Now(), &w.Key); err != nil {
		t.Fatal(err)
	}
	dir, l := t.TempDir(), commandLine(t, w, "lead")
	l.env = append(l.env, "FERRY_DATABASE="+db.Root)
	for name, raw := range map[string][]byte{"service.key": []byte(w.Key.Encode()), "nobody": out.Bytes(), "stranger": strange.Bytes(), "ours": ours.Bytes()} {
		if err := os.WriteFile(filepath.Join(dir, name), raw, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for name, why := range map[string]string{"nobody": "is not signed", "stranger": "is signed with key " + stranger.Public().ID()} {
		told(t, l.must(20, "load", filepath.Join(dir, name), "--key", filepath.Join(dir, "service.key")), why, "nothing was changed")
	}
	told(t, l.must(0, "load", filepath.Join(dir, "ours"), "--key", filepath.Join(dir, "service.key"), "--grant", db.Service), "signed with key "+w.Key.Public().ID())
	if _, err := db.Open(t, db.Root).Exec("DROP DATABASE ferry"); err != nil {
		t.Fatal(err)
	}
	if db.Accounts, err = db.Provide(ctx, "ferry"); err != nil {
		t.Fatal(err)
	}
	got, err := store.Load(ctx, db.Root, db.Service, bytes.NewReader(out.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	for table, n := range m.Rows {
		if got.Rows[table] != n {
			t.Errorf("%s: %d rows of %d", table, got.Rows[table], n)
		}
	}
	if _, err := store.Load(ctx, db.Root, db.Service, bytes.NewReader(out.Bytes())); core.KindOf(err) != core.NotAllowed {
		t.Errorf("into a database that is not empty: %v", err)
	}
	before := chains(t, w.Store, w.Key.Public())
	s, err := store.Open(ctx, db.Serve)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if after := chains(t, s, w.Key.Public()); after != before || after == 0 {
		t.Errorf("%d entries, before %d", after, before)
	}
	// The account of the service has no more rights than before.
	if _, err := db.Open(t, db.Serve).Exec("UPDATE entry SET n = n"); err == nil {
		t.Error("history can be changed after loading")
	}
}

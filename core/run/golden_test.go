package run_test

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/sim"
)

var update = flag.Bool("update", false, "write golden journals of this schema, where there are none")

// goldenRuns are the runs whose journals are kept, in files called
// schemaN_RUN.journal.
var goldenRuns = map[string]func(t *testing.T) *bench{
	"plain": func(t *testing.T) *bench { return newBench(t, nil) },
	"procedure": func(t *testing.T) *bench {
		b := handed(t, map[string]string{"lamp": "green", "volts": "3.3"})
		return b
	},
	"something-else": func(t *testing.T) *bench { return handed(t, map[string]string{"lamp": "green", "volts": procedure.No}) },
	"job": func(t *testing.T) *bench {
		b := handed(t, map[string]string{"lamp": "green", "volts": "3,3 V", "test-of-job-7": procedure.Elsewhere, "strap": procedure.Back})
		b.open.Job = &run.Job{Number: 7, Reason: "prints no tickets", Asked: "the pier", Test: "Print one at the pier."}
		return b
	},
	"locked":     func(t *testing.T) *bench { return locked(t, true) },
	"protected":  func(t *testing.T) *bench { return locked(t, false) },
	"whole-file": func(t *testing.T) *bench { return newBenchOf(t, "ymodem", nil) },
	"cut": func(t *testing.T) *bench {
		b := newBench(t, nil)
		b.onEvent(func(j *run.Journal) bool { return j.State().View().Right == 5 }, func() { b.unit.Set(sim.Faults{CutLead: 1}) })
		return b
	},
	"stuck": func(t *testing.T) *bench {
		b := newBench(t, nil)
		at := uint64(0x1800)
		b.unit.Set(sim.Faults{Stuck: &at})
		return b
	},
	"backup": func(t *testing.T) *bench {
		b := newBench(t, nil)
		b.open.Kind, b.open.Release, b.open.Version = run.BackUp, core.Digest{}, ""
		return b
	},
	"header":   func(t *testing.T) *bench { p, _ := newPlate(t, nil); return p.bench },
	"settings": func(t *testing.T) *bench { return lit(t, lampSettings, lampText, pier, lampAnswers) },
	"settings-left": func(t *testing.T) *bench {
		b := lit(t, lampSettings, lampText, nil, map[string]procedure.Answer{"set-quay-lamp": {Value: "1"}, "set-ssid": {Value: "pier"}, "set-password": {Value: procedure.Excused, Note: "on Monday"}})
		return b
	},
	"settings-alone": func(t *testing.T) *bench {
		b := lit(t, lampSettings, lampText, pier, lampAnswers)
		b.open.Kind, b.open.Release, b.open.Version = run.SetUp, core.Digest{}, ""
		return b
	},
	"stopped": func(t *testing.T) *bench {
		b := newBench(t, nil)
		b.onEvent(func(j *run.Journal) bool { return j.State().View().Right == 5 }, func() { b.run.Stop("p") })
		return b
	},
}

// goldenOf works a run off, takes it up again if it can be, and keeps its journal.
func goldenOf(t *testing.T, name string, b *bench) {
	disk := &coretest.Disk{}
	j, err := run.OpenJournal(disk)
	if err != nil {
		t.Fatal(err)
	}
	b.journal = j
	r, err := run.New(j, b.laid(b.open), b, b.pace)
	if err != nil {
		t.Fatal(err)
	}
	b.run = r
	for range 2 {
		if err := r.Work(context.Background()); err != nil {
			t.Fatal(err)
		}
		if j.State().Closed != nil {
			break
		}
		b.unit.Set(sim.Faults{})
		b.unit.Power(true)
		b.OnChange = nil
		if r, err = run.TakeUp(j, run.TakenUp{By: "p", Label: b.open.Label}, b, b.pace); err != nil {
			t.Fatal(err)
		}
	}
	path := filepath.Join("testdata", fmt.Sprintf("schema%d_%s.journal", run.Schema, name))
	if err := os.WriteFile(path, disk.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
}

// stands says in a line how a journal stands: what a new version must still say of
// it.
func stands(s *run.State) string {
	v := s.View()
	open := 0
	for _, u := range s.UndoList() {
		if u.State == "open" {
			open++
		}
	}
	outcome := s.Outcome()
	if outcome == "" {
		outcome = "none"
	}
	return fmt.Sprintf("next=%s board=%s strip=%s outcome=%s touched=%v right=%d/%d way-back=%s undo-open=%d turn=%d/%d version=%q",
		s.Next().Phase.Stop(), v.Board, short(s.Strip()), outcome, v.Touched, v.Right, v.Changes, s.WayBack(), open, v.Turn, v.Turns, s.Fact(core.FactRunning))
}

// short writes a strip with counts in place of repetitions.
func short(strip string) string {
	var b strings.Builder
	for i := 0; i < len(strip); {
		n := i
		for n < len(strip) && strip[n] == strip[i] {
			n++
		}
		fmt.Fprintf(&b, "%d%c", n-i, strip[i])
		i = n
	}
	return b.String()
}

// signedFor: a record names the journal up to it, by the bytes that a service holds.
func signedFor(t *testing.T, file string, j *run.Journal) {
	t.Helper()
	c := j.State().Closed
	if c == nil {
		return
	}
	record, err := history.DecodeRecord(c.Record)
	if err != nil {
		t.Errorf("%s: %v", file, err)
		return
	}
	var held [][]byte
	for _, e := range j.Events()[:record.Events] {
		body, err := json.Marshal(e)
		if err != nil {
			t.Fatal(err)
		}
		held = append(held, body)
	}
	if got := run.DigestOf(held); got != record.Journal {
		t.Errorf("%s: the record was signed over %s, its %d events have %s", file, record.Journal.Short(), len(held), got.Short())
	}
}

const goldenTable = "testdata/stands.txt"

// TestGoldenJournals: journals that this and earlier versions wrote stand as they
// stood when they were landed.
func TestGoldenJournals(t *testing.T) {
	if *update {
		if old, _ := filepath.Glob(fmt.Sprintf("testdata/schema%d_*.journal", run.Schema)); len(old) > 0 {
			t.Fatal("there are journals of this schema already; landed ones are never written again")
		}
		for name, made := range goldenRuns {
			goldenOf(t, name, made(t))
		}
	}
	files, err := filepath.Glob("testdata/*.journal")
	if err != nil || len(files) < 3 {
		t.Fatalf("golden journals: %v %v", files, err)
	}
	raw, err := os.ReadFile(goldenTable)
	if err != nil && !*update {
		t.Fatal(err)
	}
	want := map[string][]string{}
	for _, line := range strings.Split(string(raw), "\n") {
		if name, rest, ok := strings.Cut(line, " "); ok {
			want[name] = append(want[name], rest)
		}
	}
	schemas := map[string]bool{}
	var table strings.Builder
	for _, f := range files {
		raw, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		j, err := reopened(raw)
		if err != nil {
			t.Errorf("%s: %v", f, err)
			continue
		}
		name := filepath.Base(f)
		schemas[strings.SplitN(name, "_", 2)[0]] = true
		signedFor(t, f, j)
		is := standings(t, j.Events())
		w, known := want[name]
		if !known && !*update {
			t.Errorf("%s has no rows in %s", name, goldenTable)
		}
		if known { // landed rows are never written again
			for i := range max(len(w), len(is)) {
				if i >= len(w) || i >= len(is) || w[i] != is[i] {
					t.Errorf("%s:\n got %s\nwant %s", name, at(is, i), at(w, i))
					break
				}
			}
			is = w
		}
		for _, row := range is {
			fmt.Fprintf(&table, "%s %s\n", name, row)
		}
	}
	for n := 1; n <= run.Schema; n++ {
		if !schemas[fmt.Sprintf("schema%d", n)] {
			t.Errorf("there is no journal of schema %d: go test ./core/run -run GoldenJournals -update", n)
		}
	}
	if *update {
		if err := os.WriteFile(goldenTable, []byte(table.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

func at(rows []string, i int) string {
	if i < len(rows) {
		return rows[i]
	}
	return "nothing more"
}

// standings is how a run stood after each event at which something changed, but for
// the number of sectors that are done.
func standings(t *testing.T, events []run.Event) (rows []string) {
	t.Helper()
	var s run.State
	last := ""
	for _, e := range events {
		if err := s.Apply(e); err != nil {
			t.Fatal(err)
		}
		v := s.View()
		if key := fmt.Sprint(s.Next().Phase.Stop(), v.Board, s.Outcome(), v.Turn, s.WayBack()); key != last {
			last = key
			rows = append(rows, fmt.Sprintf("after=%d-%s %s", e.N, e.Kind, stands(&s)))
		}
	}
	return rows
}

package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// disk is what a unit and a flash take in the database: their rows, in the tables and in the keys.
// What a backup takes depends on what is in it and is measured by itself.
func disk(s *stand) {
	const links, flashes, units, entries = 8, 20, 200, 10
	ctx := context.Background()
	w := testkit.NewWorld(s, make([]func(*sim.Spec), links)...).Unbounded()
	root := w.DB.Open(s, w.DB.Root)
	// What is over is put in order as it is some hours later.
	order := func() {
		if _, err := root.ExecContext(ctx, `UPDATE ferry.run SET closed_at = closed_at - INTERVAL 1 DAY`); err != nil {
			s.Fatal(err)
		}
		if _, err := w.Store.GrowTree(ctx, w.Key, time.Now()); err != nil {
			s.Fatal(err)
		}
		for more := true; more; {
			var err error
			if _, more, err = w.Store.Sweep(ctx, time.Now(), 500); err != nil {
				s.Fatal(err)
			}
		}
		if _, err := root.ExecContext(ctx, `SET GLOBAL innodb_max_purge_lag_wait = 0`); err != nil { // what was deleted is gone
			s.Fatal(err)
		}
	}
	rows := func() map[string]float64 {
		order()
		q := "SELECT CONCAT(REPLACE(REPLACE(TABLE_NAME, '`ferry`.', ''), '`', ''), IF(INDEX_NAME IN ('PRIMARY', 'GEN_CLUST_INDEX'), '', ' keys')) AS t, SUM(DATA_SIZE) FROM information_schema.INNODB_BUFFER_PAGE WHERE TABLE_NAME LIKE '`ferry`.%' GROUP BY t"
		all, err := root.QueryContext(ctx, q)
		if err != nil {
			s.Fatal(err)
		}
		defer all.Close()
		out := map[string]float64{}
		for all.Next() {
			var table string
			var bytes float64
			if err := all.Scan(&table, &bytes); err != nil {
				s.Fatal(err)
			}
			out[table] = bytes
		}
		if err := all.Err(); err != nil {
			s.Fatal(err)
		}
		return out
	}
	grown := func(name string, before map[string]float64, n int, aim string) {
		sum := 0.0
		var by []string
		now := rows()
		for t, bytes := range now {
			one := (bytes - before[t]) / float64(n)
			if strings.HasPrefix(t, "piece") {
				continue
			}
			sum += one
			if one >= 50 {
				by = append(by, fmt.Sprintf("%6.0f %s", one, t))
			}
		}
		slices.Sort(by)
		slices.Reverse(by)
		for _, x := range by {
			fmt.Printf("#   %s\n", x)
		}
		report(name, sum, "bytes", aim)
	}

	var csv strings.Builder
	csv.WriteString("model,serial,site\n")
	for i := range units {
		fmt.Fprintf(&csv, "small,D-%05d,\"Gannet Quay, hall %d\"\n", i, i%9)
	}
	before := rows()
	if _, err := w.Lead.EnterUnits(ctx, []byte(csv.String())); err != nil {
		s.Fatal(err)
	}
	for i := range units {
		for k := range entries - 1 {
			if err := w.Technician.Note(ctx, fmt.Sprintf("D-%05d", i), client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: []string{"C", "D"}[k%2], Source: "label"}}}); err != nil {
				s.Fatal(err)
			}
		}
	}
	grown("rows-of-a-unit-with-ten-entries", before, units, "<= 8000")

	var versions []string
	for i := range flashes {
		versions = append(versions, fmt.Sprintf("3.%d.0", i))
		w.AddRelease(versions[i], coretest.SmallProgram(versions[i]), map[string][]string{"revision": {"D"}})
	}
	for name := range w.Units { // the first one enters the unit
		if r := w.Flash(name, "2.0.0"); r.Outcome != string(run.Done) {
			s.Fatal(r.Progress.Fault)
		}
	}
	before = rows()
	var all sync.WaitGroup
	for name := range w.Units {
		all.Go(func() {
			for _, v := range versions {
				if r := w.Flash(name, v); r.Outcome != string(run.Done) {
					s.Fatal(r.Progress.Fault)
				}
			}
		})
	}
	all.Wait()
	grown("rows-of-a-flash", before, links*flashes, "<= 15000")
}

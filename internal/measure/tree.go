package main

import (
	"context"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/internal/demo"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit/database"
)

// audited is what the tree of all histories costs: to grow by, to be walked whole with the
// database, and to prove one unit's history in it, beside reading that. Of ten entries one has a
// bench's signed record.
func audited(s *stand) {
	const units, each = 10_000, 10
	ctx := context.Background()
	as := demo.ForWork(8 << 30)
	as.Durable = false
	db := database.NewAs(s, as)
	st, err := store.Open(ctx, db.Serve)
	if err != nil {
		s.Fatal(err)
	}
	defer st.Close()
	key, err := trust.NewKey()
	if err != nil {
		s.Fatal(err)
	}
	bench, err := trust.NewKey()
	if err != nil {
		s.Fatal(err)
	}
	raw := db.Open(s, db.Root)
	exec := func(q string, args ...any) {
		if _, err := raw.Exec(q, args...); err != nil {
			s.Fatal(err)
		}
	}
	signed := (&history.Record{Run: "01930000-0000-7000-8000-000000000001", Kind: "flash", Model: "quill-80", Outcome: "done", From: "1.2.3", To: "2.0.0"}).Encode()
	signature := bench.Sign(history.RecordDomain, signed)
	at := time.Now().UTC()
	// The units get their entries in turn, as a team writes them: what an entry continues stands far
	// before it in the tree.
	previous := make([]core.Digest, units)
	for n := uint64(1); n <= each; n++ {
		for from := 0; from < units; from += 500 {
			var entries, heads, waiting []any
			for u := from; u < from+500; u++ {
				unit := fleetID(fleetUnit, u)
				e := history.Entry{Unit: unit, N: n, Previous: previous[u], Kind: history.Noted, HappenedAt: at.UnixMicro(), EnteredAt: at.UnixMicro(), By: "p", Text: "label read again at the quay"}
				if n == each {
					e.Kind, e.Bench, e.Record, e.Signature = history.Flashed, "b", signed, signature
				}
				enc := e.Encode()
				head := history.Head{Unit: unit, N: n, Hash: history.HashEntry(enc)}
				head.Sign(key)
				previous[u] = head.Hash
				entries, heads = append(entries, unit, n, head.Hash[:], e.Kind, store.NoID, at, at, enc), append(heads, unit, n, head.Hash[:], head.Signature)
				waiting = append(waiting, unit, n)
			}
			exec(`INSERT INTO ferry.entry (unit, n, hash, kind, run, happened_at, entered_at, encoded) VALUES (?,?,?,?,?,?,?,?)`+strings.Repeat(",(?,?,?,?,?,?,?,?)", 499), entries...)
			exec(`INSERT INTO ferry.head (unit, n, hash, signature) VALUES (?,?,?,?)`+strings.Repeat(",(?,?,?,?)", 499), heads...)
			exec(`INSERT INTO ferry.entry_waiting (unit, n) VALUES (?,?)`+strings.Repeat(",(?,?)", 499), waiting...)
		}
	}
	exec(`ANALYZE TABLE ferry.entry, ferry.head, ferry.entry_waiting`)
	begun := time.Now()
	if _, err := st.GrowTree(ctx, key, time.Now()); err != nil {
		s.Fatal(err)
	}
	report("tree-grows", units*each/time.Since(begun).Seconds(), "entries/s", "")

	a := &history.Audit{Service: history.Line{Now: key.Public()}, Benches: func(string) trust.Any { return trust.Any{bench.Public()} }, Names: func(u string) string { return u }}
	walk := func() time.Duration {
		begun := time.Now()
		var w history.Walk
		found, size, done, err := a.On(ctx, st, &w, func() bool { return false })
		if err != nil || !done || size != units*each || len(found) > 0 {
			s.Fatalf("%d of %d, %v %v", w.Next, units*each, found[:min(3, len(found))], err)
		}
		return time.Since(begun)
	}
	report("audit", units*each/min(walk(), walk(), walk(), walk(), walk()).Seconds(), "entries/s", ">= 100000")

	signedPoint, err := st.NewestCheckpoint(ctx)
	if err != nil {
		s.Fatal(err)
	}
	point, err := history.OpenCheckpoint(key.Public(), signedPoint)
	if err != nil {
		s.Fatal(err)
	}
	var reading, proving time.Duration
	for i := range 200 {
		unit := fleetID(fleetUnit, i*units/200)
		begun := time.Now()
		chain, _, err := st.Chain(ctx, unit)
		if err != nil {
			s.Fatal(err)
		}
		reading += time.Since(begun)
		begun = time.Now()
		places, _, err := st.PlacesOf(ctx, unit, 1, each)
		if err != nil {
			s.Fatal(err)
		}
		var stand []history.Place
		for _, x := range chain {
			stand = append(stand, history.Place{At: places[x.N], Hash: x.Hash})
		}
		if wrong, err := history.InTree(point, stand, st.TreeHashes(ctx)); wrong >= 0 || err != nil {
			s.Fatal(wrong, err)
		}
		proving += time.Since(begun)
	}
	report("history-read", reading.Seconds()*1000/200, "ms", "")
	report("history-proven-beside-reading", proving.Seconds()*1000/200, "ms", "<= 10")
}

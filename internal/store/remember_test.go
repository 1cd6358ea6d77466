package store_test

import (
	"context"
	"testing"
	"time"

	"zealousferry/internal/store"
)

// TestACallReadsTheSameRowsOnce: what a call has read it reads no second time, rows that somebody
// changes in his own list are not another's, and nothing is remembered over a writing.
func TestACallReadsTheSameRowsOnce(t *testing.T) {
	s, db, _ := open(t)
	root := db.Open(t, db.Root)
	put := func(serial string) {
		t.Helper()
		if _, err := root.Exec(`INSERT INTO ferry.adapter (serial, name, changed_at, changed_by) VALUES (?, 'lead', UTC_TIMESTAMP(6), 'p')`, serial); err != nil {
			t.Fatal(err)
		}
	}
	read := func(ctx context.Context) []store.Adapter {
		t.Helper()
		all, err := s.Adapters(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	put("A-1")
	call := store.Remember(ctx)
	first := read(call)
	there := func() bool {
		t.Helper()
		_, ok, err := s.Adapter(call, "A-2")
		if err != nil {
			t.Fatal(err)
		}
		return ok
	}
	there()
	first[0].Serial = "somebody else's"
	put("A-2")
	if again := read(call); len(again) != 1 || again[0].Serial != "A-1" {
		t.Errorf("read anew, or changed: %+v", again)
	}
	if there() {
		t.Error("what was not there is asked for again")
	}
	if other := read(ctx); len(other) != 2 {
		t.Errorf("another call: %+v", other)
	}
	if other := read(store.Remember(ctx)); len(other) != 2 {
		t.Errorf("another call that remembers: %+v", other)
	}
	if err := s.PutAdapter(call, store.Adapter{Serial: "A-3", Name: "lead", State: "ready", At: time.Now(), By: somebody}); err != nil {
		t.Fatal(err)
	}
	if after := read(call); len(after) != 3 || !there() {
		t.Errorf("after it wrote: %+v", after)
	}
}

package trials

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/internal/testkit"
)

// TestALongHistoryIsPaged: a history of hundreds of entries is shown a page at a time, and
// checked: what was changed since it was checked first is found where it is shown, what was put
// in or cut off at once.
func TestALongHistoryIsPaged(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	w := testkit.NewWorld(t)
	w.Flash("a", testkit.Version2)
	u, err := w.Technician.Unit(ctx, "S-0001")
	if err != nil {
		t.Fatal(err)
	}
	note := func(n int) {
		for i := range n {
			if _, err := w.Store.AppendEntry(ctx, w.Key, &history.Entry{Unit: u.ID, Kind: history.Noted, HappenedAt: time.Now().UnixMicro(), Text: fmt.Sprintf("label read again, %d", i)}); err != nil {
				t.Fatal(err)
			}
		}
	}
	note(600)
	all := func() (numbers []uint64, broken []core.Said) {
		for before := uint64(0); ; {
			h, err := w.Viewer.HistoryBefore(ctx, "S-0001", before)
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range h.Entries {
				numbers = append(numbers, e.N)
			}
			if h.Chain != "intact" {
				return numbers, h.Findings
			}
			if before = h.Before; before == 0 {
				return numbers, nil
			}
		}
	}
	for round, want := range []int{602, 602, 702} {
		if round == 2 {
			note(100)
		}
		numbers, broken := all()
		if len(numbers) != want || len(broken) > 0 {
			t.Fatalf("round %d: %d entries, %v", round, len(numbers), broken)
		}
		for i, n := range numbers {
			if i > 0 && n != numbers[i-1]-1 {
				t.Fatalf("entry %d comes behind %d", n, numbers[i-1])
			}
		}
	}
	root := w.DB.Open(t, w.DB.Root)
	for what, x := range map[string]struct{ do, undo, says string }{
		"an old one changed": {`UPDATE ferry.entry SET encoded = CONCAT(encoded, 'x') WHERE unit = ? AND n = 100`, `UPDATE ferry.entry SET encoded = LEFT(encoded, LENGTH(encoded) - 1) WHERE unit = ? AND n = 100`, "entry 100 was changed"},
		"the head's":         {`UPDATE ferry.head SET signature = REVERSE(signature) WHERE unit = ? ORDER BY n DESC LIMIT 1`, `UPDATE ferry.head SET signature = REVERSE(signature) WHERE unit = ? ORDER BY n DESC LIMIT 1`, "was not signed by this service"},
	} {
		if _, err := root.Exec(x.do, u.ID); err != nil {
			t.Fatal(err)
		}
		if _, broken := all(); !strings.Contains(core.Texts(broken, "; "), x.says) {
			t.Errorf("%s: %v", what, broken)
		}
		if _, err := root.Exec(x.undo, u.ID); err != nil {
			t.Fatal(err)
		}
		if _, broken := all(); len(broken) > 0 {
			t.Errorf("%s, undone: %v", what, broken)
		}
	}
	if _, err := root.Exec(`DELETE FROM ferry.entry WHERE unit = ? ORDER BY n DESC LIMIT 1`, u.ID); err != nil {
		t.Fatal(err)
	}
	if _, broken := all(); !strings.Contains(core.Texts(broken, "; "), "missing") {
		t.Errorf("the newest one cut off: %v", broken)
	}
}

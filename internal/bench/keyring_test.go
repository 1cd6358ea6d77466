package bench

import (
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// TestTheKeysOfABench: a newer list is taken and is there after a restart; an older one, one that
// somebody else has signed, and one that was changed on the bench's disk are not.
func TestTheKeysOfABench(t *testing.T) {
	service, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	stranger, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	list := func(by trust.Key, number uint64, names ...string) trust.SignedKeys {
		l := trust.KeyList{Number: number}
		for _, n := range names {
			l.Keys = append(l.Keys, trust.Trusted{ID: n, Name: n})
		}
		s, err := by.SignKeys(l)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	dir, log := t.TempDir(), slog.New(slog.DiscardHandler)
	open := func() *keyring {
		t.Helper()
		k, err := openKeyring(dir, &pinned{line: history.Line{Now: service.Public()}}, log)
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	k := open()
	if err := k.take(list(service, 4, "a", "b")); err != nil {
		t.Fatal(err)
	}
	for name, s := range map[string]trust.SignedKeys{"older": list(service, 3, "a", "b", "c"), "a stranger's": list(stranger, 9, "c")} {
		if err := k.take(s); core.KindOf(err) != core.NotAllowed {
			t.Errorf("a list that is %s: %v", name, err)
		}
	}
	changed := list(service, 5, "a")
	changed.List = []byte(strings.Replace(string(changed.List), `"a"`, `"c"`, 1))
	if err := k.take(changed); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a list that was changed: %v", err)
	}
	if k = open(); k.number() != 4 || len(k.list.Keys) != 2 {
		t.Errorf("after a restart: %+v", k.list)
	}
	if err := k.take(list(service, 5, "a")); err != nil || k.number() != 5 {
		t.Errorf("%v %d", err, k.number())
	}
	path := filepath.Join(dir, "keys.json")
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(strings.Replace(string(raw), `"id":"a"`, `"id":"c"`, 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := openKeyring(dir, &pinned{line: history.Line{Now: service.Public()}}, log); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "keys.json") {
		t.Errorf("a list that was changed on disk: %v", err)
	}
}

package bench

import (
	"bytes"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// A head that a full disk has not kept is told, and is not counted as kept.
func TestAHeadThatWasNotWrittenIsNotKept(t *testing.T) {
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := os.Symlink("/dev/full", filepath.Join(dir, "heads")); err != nil {
		t.Fatal(err)
	}
	var said bytes.Buffer
	b := &Bench{dir: dir, heads: map[string]history.Head{}}
	b.Log = slog.New(slog.NewTextHandler(&said, nil))
	b.id.ServiceKey = key.Public()
	h := history.Head{Unit: "u", N: 3}
	h.Sign(key)
	b.keepHead(h)
	if _, has := b.heads["u"]; has || !strings.Contains(said.String(), "no space left") {
		t.Fatalf("kept %v, and the log says %q", has, said.String())
	}
}

// A bench that is started again goes on after a line that a loss of power has torn, and its
// file has a line for each unit, not for each time that a head came.
func TestHeadsAfterATornLine(t *testing.T) {
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	begins := func() *Bench {
		b := &Bench{dir: dir, heads: map[string]history.Head{}}
		b.Log = slog.New(slog.DiscardHandler)
		b.id.ServiceKey = key.Public()
		if err := b.readHeads(); err != nil {
			t.Fatal(err)
		}
		return b
	}
	keep := func(b *Bench, unit string, n uint64) {
		h := history.Head{Unit: unit, N: n}
		h.Sign(key)
		b.keepHead(h)
	}
	b, path := begins(), filepath.Join(dir, "heads")
	for n := range uint64(200) {
		keep(b, "u", n+1)
	}
	keep(b, "v", 1)
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, whole[:len(whole)-20], 0o600); err != nil {
		t.Fatal(err)
	}
	keep(begins(), "w", 4)
	b = begins()
	if b.heads["u"].N != 200 || b.heads["w"].N != 4 {
		t.Errorf("%+v", b.heads)
	}
	if raw, err := os.ReadFile(path); err != nil || bytes.Count(raw, []byte("\n")) != 2 {
		t.Errorf("%d lines, %v", bytes.Count(raw, []byte("\n")), err)
	}
}

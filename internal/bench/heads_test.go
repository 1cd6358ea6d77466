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

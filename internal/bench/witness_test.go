package bench

import (
	"bytes"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
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
	b := &Witness{service: &pinned{line: history.Line{Now: key.Public()}}, dir: dir, heads: map[string]history.Head{}, log: slog.New(slog.NewTextHandler(&said, nil))}
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
	begins := func() *Witness {
		b, err := openWitness(dir, &pinned{line: history.Line{Now: key.Public()}}, slog.New(slog.DiscardHandler))
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	keep := func(b *Witness, unit string, n uint64) {
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

// sapling is a tree as a service would have it, with its checkpoints signed.
type sapling struct {
	t      *testing.T
	key    trust.Key
	hashes map[int64]core.Digest
	size   uint64
}

func (s *sapling) grow(from uint64, entries ...string) client.Checkpoint {
	s.t.Helper()
	edge := map[int64]core.Digest{}
	for _, i := range history.EdgeOf(s.size) {
		edge[i] = s.hashes[i]
	}
	var leaves []core.Digest
	for _, e := range entries {
		leaves = append(leaves, core.DigestOf([]byte(e)))
	}
	first, stored, root, err := history.Grow(s.size, edge, leaves)
	if err != nil {
		s.t.Fatal(err)
	}
	for i, h := range stored {
		s.hashes[first+int64(i)] = h
	}
	s.size += uint64(len(entries))
	signed, err := history.Checkpoint{Size: s.size, Root: root, At: time.Unix(int64(s.size), 0).UTC()}.Sign(s.key)
	if err != nil {
		s.t.Fatal(err)
	}
	c := client.Checkpoint{Signed: string(signed)}
	if from > 0 {
		c.Proof, err = history.Growth(from, s.size, func(indexes []int64) (all []tlog.Hash, err error) {
			for _, i := range indexes {
				all = append(all, tlog.Hash(s.hashes[i]))
			}
			return all, nil
		})
		if err != nil {
			s.t.Fatal(err)
		}
	}
	return c
}

// A newer checkpoint takes the place of the one held where its tree came of that one; else the
// one held stays as evidence, through a start too, and what the service says from then on is
// followed all the same.
func TestAWitnessKeepsWhatTheTreeNoLongerLeadsTo(t *testing.T) {
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	var said bytes.Buffer
	begins := func() *Witness {
		w, err := openWitness(dir, &pinned{line: history.Line{Now: key.Public()}}, slog.New(slog.NewTextHandler(&said, nil)))
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	right := &sapling{t, key, map[int64]core.Digest{}, 0}
	w := begins()
	if w.take(right.grow(0, "a", "b", "c")) || w.take(right.grow(3, "d")) || w.size() != 4 {
		t.Fatalf("a tree that grew is not followed: %d, %s", w.size(), said.String())
	}
	was := w.points.Newest
	w = begins()
	other := &sapling{t, key, map[int64]core.Digest{}, 0}
	other.grow(0, "a", "b", "x", "d")
	if !w.take(other.grow(4, "e")) || w.size() != 5 || !strings.Contains(said.String(), "were changed") {
		t.Fatalf("another tree: %d, %s", w.size(), said.String())
	}
	if w.take(other.grow(5, "f")) {
		t.Error("what was changed once is told again and again")
	}
	w = begins()
	if kept := w.Kept().Checkpoints; len(kept) != 2 || kept[0] != was || w.size() != 6 {
		t.Fatalf("%d kept, %d entries", len(kept), w.size())
	}
	forger, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	if w.take((&sapling{t, forger, other.hashes, 6}).grow(6, "g")) || w.size() != 6 {
		t.Error("a checkpoint of another key is taken")
	}
	if err := os.WriteFile(filepath.Join(dir, pointsFile), []byte(`{"newest":"x"}`), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, err := readWitness(dir, &pinned{line: history.Line{Now: key.Public()}}, slog.New(slog.DiscardHandler)); core.KindOf(err) != core.BadFile {
		t.Errorf("a damaged file, looked at: %v", err)
	}
	said.Reset()
	w = begins() // it does not keep the bench from its work
	raw, err := os.ReadFile(filepath.Join(dir, pointsFile+".damaged"))
	if err != nil || string(raw) != `{"newest":"x"}` || w.size() != 0 || !strings.Contains(said.String(), "put aside") {
		t.Errorf("%q %v, %d entries, %s", raw, err, w.size(), said.String())
	}
	if w.take(other.grow(0, "h")) || w.size() != 7 {
		t.Errorf("then it does not begin anew: %d", w.size())
	}
}

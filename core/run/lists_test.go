package run_test

import (
	"bytes"
	"testing"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
)

// TestListsOf: whoever has nothing gets in a few rounds all that names the pieces of a backup, of
// a memory and of a tree of files; after that every piece can be named without a question.
func TestListsOf(t *testing.T) {
	there := map[core.Digest][]byte{}
	keep := func(all ...shelf.Piece) {
		for _, p := range all {
			there[p.Name] = p.Data
		}
	}
	data := make([]byte, 300<<10)
	for i := range data {
		data[i] = byte(i >> 7)
	}
	file, pieces, err := shelf.KeepFile("conf/unit.txt", data)
	if err != nil {
		t.Fatal(err)
	}
	keep(pieces...)
	empty, pieces, err := shelf.KeepFile("empty", nil)
	if err != nil {
		t.Fatal(err)
	}
	keep(pieces...)
	tree := &shelf.Tree{Files: []shelf.File{file, empty}}
	raw := tree.Encode()
	keep(shelf.Piece{Name: core.DigestOf(raw), Data: raw})
	for name, x := range map[string]struct {
		manifest core.Digest
		files    bool
		rounds   int
	}{"a memory": {file.Manifest, false, 2}, "a tree": {core.DigestOf(raw), true, 3}} {
		here := map[core.Digest][]byte{}
		get := shelf.Each(func(d core.Digest) ([]byte, error) {
			if b, ok := here[d]; ok {
				return b, nil
			}
			return nil, core.Fail(core.NotFound, "not here")
		})
		rounds := 0
		for {
			names, err := run.ListsOf(get, x.manifest, x.files)
			if err != nil {
				t.Fatal(name, err)
			}
			fetched := 0
			for _, d := range names {
				if _, ok := here[d]; !ok {
					here[d] = there[d]
					fetched++
				}
			}
			if fetched == 0 {
				break
			}
			rounds++
		}
		if rounds != x.rounds {
			t.Errorf("%s: %d rounds, want %d", name, rounds, x.rounds)
		}
		all, err := run.PiecesOf(get, x.manifest, x.files)
		if err != nil || len(all) <= len(here) {
			t.Errorf("%s: %d pieces named by %d lists, %v", name, len(all), len(here), err)
		}
		for _, d := range all {
			if there[d] == nil {
				t.Errorf("%s: %s is no piece of it", name, d.Short())
			}
		}
		// What came spoilt is an error, and not taken for what is not there.
		here[x.manifest] = bytes.Repeat([]byte{0xFF}, 40)
		if _, err := run.ListsOf(get, x.manifest, x.files); core.KindOf(err) != core.BadFile {
			t.Errorf("%s: a manifest that cannot be read: %v", name, err)
		}
	}
}

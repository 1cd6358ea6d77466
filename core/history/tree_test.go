package history

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// forest is a tree as a database would hold it.
type forest struct {
	entries []core.Digest
	stored  map[int64]core.Digest
	asked   int
}

func (f *forest) read(indexes []int64) (all []tlog.Hash, err error) {
	f.asked++
	for _, i := range indexes {
		h, ok := f.stored[i]
		if !ok {
			return nil, fmt.Errorf("no hash %d", i)
		}
		all = append(all, tlog.Hash(h))
	}
	return all, nil
}

func (f *forest) grow(t *testing.T, entries ...core.Digest) core.Digest {
	t.Helper()
	edge := map[int64]core.Digest{}
	for _, i := range EdgeOf(uint64(len(f.entries))) {
		edge[i] = f.stored[i]
	}
	first, stored, root, err := Grow(uint64(len(f.entries)), edge, entries)
	if err != nil {
		t.Fatal(err)
	}
	for i, h := range stored {
		f.stored[first+int64(i)] = h
	}
	f.entries = append(f.entries, entries...)
	return root
}

// rootOf is the definition of RFC 9162, section 2.1.1, word by word.
func rootOf(entries []core.Digest) core.Digest {
	if len(entries) == 1 {
		return core.DigestOf(append([]byte{0}, entries[0][:]...))
	}
	k := 1
	for k*2 < len(entries) {
		k *= 2
	}
	l, r := rootOf(entries[:k]), rootOf(entries[k:])
	return core.DigestOf(append(append([]byte{1}, l[:]...), r[:]...))
}

func digests(from, n int) (all []core.Digest) {
	for i := range n {
		all = append(all, core.DigestOf([]byte(fmt.Sprint(from+i))))
	}
	return all
}

// TestTheTreeIsThatOfTheStandard, however it grew: at once, one by one, in steps, or by a walk.
func TestTheTreeIsThatOfTheStandard(t *testing.T) {
	f := &forest{stored: map[int64]core.Digest{}}
	w := &Walk{}
	rnd := rand.New(rand.NewPCG(1, 2))
	var sizes []Checkpoint
	for len(f.entries) < 200 {
		before := len(f.entries)
		root := f.grow(t, digests(before, 1+rnd.IntN(9))...)
		if root != rootOf(f.entries) {
			t.Fatalf("with %d leaves the root is another", len(f.entries))
		}
		for _, e := range f.entries[before:] {
			w.Add(Leaf(e))
			if w.Root() != rootOf(f.entries[:w.Next]) || !w.Whole() {
				t.Fatalf("walked to %d", w.Next)
			}
		}
		sizes = append(sizes, Checkpoint{Size: uint64(len(f.entries)), Root: root})
	}
	for _, from := range sizes {
		if at, err := RootAt(from.Size, f.read); err != nil || at != from.Root {
			t.Fatalf("root at %d: %v", from.Size, err)
		}
		for _, to := range sizes {
			if to.Size < from.Size {
				if err := Grew(from, to, nil); err == nil {
					t.Fatal("a tree may become smaller")
				}
				continue
			}
			proof, err := Growth(from.Size, to.Size, f.read)
			if err != nil || Grew(from, to, proof) != nil {
				t.Fatalf("%d to %d: %v", from.Size, to.Size, err)
			}
			other := from
			other.Root[5] ^= 1
			if err := Grew(other, to, proof); core.KindOf(err) != core.VerifyDiffers {
				t.Fatalf("%d to %d from another tree: %v", from.Size, to.Size, err)
			}
		}
	}
	c := sizes[len(sizes)-1]
	var places []Place
	for i, e := range f.entries[:c.Size] {
		places = append(places, Place{uint64(i), e})
	}
	f.asked = 0
	if wrong, err := InTree(c, places, f.read); wrong != -1 || err != nil || f.asked != 1 {
		t.Fatalf("%d %v after %d questions", wrong, err, f.asked)
	}
	places[17].Hash[0] ^= 1
	if wrong, err := InTree(c, places, f.read); wrong != 17 || err != nil {
		t.Errorf("%d %v", wrong, err)
	}
}

// TestCheckpointsAreSigned: by this key, for this purpose, as a whole.
func TestCheckpointsAreSigned(t *testing.T) {
	key, _ := trust.NewKey()
	other, _ := trust.NewKey()
	c := Checkpoint{Size: 7, Root: core.DigestOf([]byte("root")), At: time.Date(2026, 11, 30, 3, 0, 0, 0, time.UTC)}
	signed, err := c.Sign(key)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := OpenCheckpoint(key.Public(), signed); err != nil || got != c {
		t.Errorf("%+v %v", got, err)
	}
	alien, _ := key.SignNote("another-tree", c.text())
	short, _ := key.SignNote(Tree, Tree+"\n7\n")
	long, _ := key.SignNote(Tree, c.text()+"and more\n")
	for name, bad := range map[string][]byte{"another key's": nil, "changed": []byte(strings.Replace(string(signed), "\n7\n", "\n6\n", 1)), "of another name": alien, "cut short": short, "longer": long, "nothing": {}, "very long": make([]byte, 9000)} {
		by := key.Public()
		if bad == nil {
			bad, by = signed, other.Public()
		}
		if _, err := OpenCheckpoint(by, bad); core.KindOf(err) != core.BadFile {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// FuzzCheckpoint reads whatever comes without harm, and gives back only what the key has signed.
func FuzzCheckpoint(f *testing.F) {
	key, _ := trust.DecodeKey("AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=")
	c := Checkpoint{Size: 3, At: time.Unix(0, 0)}
	signed, _ := c.Sign(key)
	f.Add(signed)
	f.Add([]byte(Tree + "\n3\n\n\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if got, err := OpenCheckpoint(key.Public(), raw); err == nil && (got.Size != 3 || got.Root != c.Root) {
			t.Fatalf("%+v", got)
		}
	})
}

// grove is the leaves of two units' histories, and the tree's checkpoint.
func grove(t *testing.T) (leaves []Placed, at Checkpoint, a *Audit) {
	t.Helper()
	service, _ := trust.NewKey()
	bench, _ := trust.NewKey()
	last := map[string]core.Digest{}
	count := map[string]uint64{}
	f := &forest{stored: map[int64]core.Digest{}}
	for i := range 11 {
		unit := []string{"u", "v"}[i%2]
		count[unit]++
		e := Entry{Unit: unit, N: count[unit], Previous: last[unit], Kind: Entered, By: "p"}
		if i%3 == 2 {
			e.Kind, e.Bench = Flashed, "b"
			e.Record = (&Record{Run: fmt.Sprint("r", i), Unit: unit, Outcome: "done"}).Encode()
			e.Signature = bench.Sign(RecordDomain, e.Record)
		}
		raw := e.Encode()
		s := &Stored{N: e.N, Hash: HashEntry(raw), Kind: e.Kind, Encoded: raw}
		leaf := Leaf(s.Hash)
		p := Placed{At: uint64(i), Leaf: &leaf, Unit: unit, N: e.N, Entry: s, Sooner: true}
		if e.N > 1 {
			before := last[unit]
			p.Before = &before
		}
		last[unit] = s.Hash
		leaves = append(leaves, p)
		at.Root = f.grow(t, s.Hash)
	}
	at.Size = 11
	return leaves, at, &Audit{Service: Line{Now: service.Public()}, Names: func(u string) string { return "unit " + u },
		Benches: func(string) trust.Any { return trust.Any{bench.Public()} },
		Held: func(_ *Entry, r *Record) ([]core.Said, error) {
			if r.Run == "r8" {
				return []core.Said{core.Say("its events are others")}, nil
			}
			return nil, nil
		}}
}

// TestAnAuditNamesWhatWasDone: each thing done behind the service's back is found, by name, and
// nothing else is.
func TestAnAuditNamesWhatWasDone(t *testing.T) {
	anew := func(p *Placed, change func(*Entry)) {
		e, _ := DecodeEntry(p.Entry.Encoded)
		change(e)
		raw := e.Encode()
		p.Entry = &Stored{N: p.Entry.N, Kind: p.Entry.Kind, Encoded: raw, Hash: HashEntry(raw)}
	}
	for name, x := range map[string]struct {
		want   string
		change func([]Placed, *Checkpoint)
	}{
		"nothing":          {"", func([]Placed, *Checkpoint) {}},
		"an entry is gone": {"entry 2 of unit v: it is missing; it stood in the tree", func(l []Placed, _ *Checkpoint) { l[3].Entry = nil }},
		"a changed byte": {"entry 2 of unit v: it was changed", func(l []Placed, _ *Checkpoint) {
			s := *l[3].Entry
			s.Encoded = append([]byte{}, s.Encoded...)
			s.Encoded[9] ^= 1
			l[3].Entry = &s
		}},
		"computed anew":             {"entry 2 of unit v: another entry stands in the tree", func(l []Placed, _ *Checkpoint) { anew(&l[3], func(e *Entry) { e.By = "q" }) }},
		"another before it":         {"entry 3 of unit u: it does not continue entry 2", func(l []Placed, _ *Checkpoint) { d := core.DigestOf(nil); l[4].Before = &d }},
		"the one before is gone":    {"entry 3 of unit u: entry 2, which it continues, is missing", func(l []Placed, _ *Checkpoint) { l[4].Before = nil }},
		"in another order":          {"does not stand before it in the tree", func(l []Placed, _ *Checkpoint) { l[4].Sooner = false }},
		"another kind":              {"its columns were changed", func(l []Placed, _ *Checkpoint) { s := *l[3].Entry; s.Kind = Flashed; l[3].Entry = &s }},
		"another unit":              {"its columns were changed", func(l []Placed, _ *Checkpoint) { l[3].Unit = "u" }},
		"the row of a place":        {"place 3 of the tree: which entry stood there", func(l []Placed, _ *Checkpoint) { l[3].Unit = "" }},
		"a leaf is gone":            {"entry 2 of unit v: its leaf is missing", func(l []Placed, _ *Checkpoint) { l[3].Leaf = nil }},
		"leaf and entry are gone":   {"does not lead to the checkpoint", func(l []Placed, _ *Checkpoint) { l[3].Leaf, l[3].Entry = nil, nil }},
		"the tree is another":       {"does not lead to the checkpoint", func(l []Placed, c *Checkpoint) { c.Root[0] ^= 1 }},
		"a record of another bench": {"entry 2 of unit u: the record was not signed", func(l []Placed, _ *Checkpoint) { anew(&l[2], func(e *Entry) { e.Signature = nil }) }},
		"a signature of another key": {"entry 2 of unit u: the record was not signed", func(l []Placed, _ *Checkpoint) {
			stranger, _ := trust.NewKey()
			anew(&l[2], func(e *Entry) { e.Signature = stranger.Sign(RecordDomain, e.Record) })
		}},
		"events": {"entry 5 of unit u: its events are others", nil},
	} {
		leaves, at, a := grove(t)
		if x.change == nil {
			x.change = func([]Placed, *Checkpoint) {}
		} else {
			a.Held = nil
		}
		x.change(leaves, &at)
		w := &Walk{}
		found, err := a.take(w, leaves[:4], nil)
		if err != nil || !w.Whole() {
			t.Fatal(err)
		}
		more, err := a.take(w, leaves[4:], map[uint64][]Checkpoint{11: {at}})
		if err != nil || !w.Whole() || w.Next != 11 {
			t.Fatal(err)
		}
		found = append(found, more...)
		if text := core.Texts(found, "; "); (x.want == "") != (text == "") || !strings.Contains(text, x.want) {
			t.Errorf("%s: %q, want %q", name, text, x.want)
		}
	}
}

// heldLeaves are leaves in memory.
type heldLeaves []Placed

func (h heldLeaves) Leaves(context.Context) (uint64, error)              { return uint64(len(h)), nil }
func (h heldLeaves) Checkpoints(context.Context) ([][]byte, error)       { return nil, nil }
func (h heldLeaves) Elsewhere(context.Context) ([]Elsewhere, error)      { return nil, nil }
func (h heldLeaves) Astray(context.Context, int, bool) ([]Astray, error) { return nil, nil }
func (h heldLeaves) Placed(_ context.Context, from, n uint64) ([]Placed, error) {
	return h[from : from+n], nil
}

// Continued is found by looking at all.
func (h heldLeaves) Continued(_ context.Context, leaves []*Placed) error {
	for _, p := range leaves {
		for _, x := range h {
			if x.Unit == p.Unit && x.N == p.N-1 && x.Entry != nil {
				p.Before, p.Sooner = &x.Entry.Hash, x.At < p.At
			}
		}
	}
	return nil
}

// TestWhatAWalkHasComeBy: however the entries of many units follow each other, wherever a walk begins
// and however little it remembers, each entry is held against the one before it, as it is when all
// are asked for.
func TestWhatAWalkHasComeBy(t *testing.T) {
	random := rand.New(rand.NewPCG(14, 1))
	for range 300 {
		var all heldLeaves
		count := map[int]uint64{}
		for at := range uint64(60) {
			u := random.IntN(9)
			count[u]++
			p := Placed{At: at, Unit: fmt.Sprint("unit ", u), N: count[u], Entry: &Stored{N: count[u], Hash: core.DigestOf(fmt.Append(nil, u, count[u]))}}
			switch random.IntN(12) {
			case 0:
				p.Entry = nil // gone
			case 1:
				p.Unit = "" // nobody knows what stood there
			case 2:
				count[u] += 2 // some were never placed
			}
			all = append(all, p)
		}
		for range 3 { // some in another order
			i, j := random.IntN(len(all)), random.IntN(len(all))
			all[i], all[j] = all[j], all[i]
			all[i].At, all[j].At = uint64(i), uint64(j)
		}
		passed, asked := passed{most: 1 + random.IntN(8)}, 0
		for from := random.IntN(30); from < len(all); from += 7 {
			part := slices.Clone(all[from:min(from+7, len(all))])
			unknown := passed.continued(part)
			asked += len(unknown)
			if err := all.Continued(context.Background(), unknown); err != nil {
				t.Fatal(err)
			}
			for _, got := range part {
				if got.Unit == "" || got.Entry == nil || got.N == 1 {
					continue
				}
				want := got
				want.Before, want.Sooner = nil, false
				all.Continued(context.Background(), []*Placed{&want})
				if (got.Before == nil) != (want.Before == nil) || got.Before != nil && *got.Before != *want.Before || got.Sooner != want.Sooner {
					t.Fatalf("%+v, want %+v", got, want)
				}
			}
		}
		if asked == 60 {
			t.Fatal("it remembers nothing")
		}
	}
}

// BenchmarkAudit is an audit of entries that are in memory already: with a signed record in one
// of so many.
func BenchmarkAudit(b *testing.B) {
	for _, each := range []int{1, 4, 1 << 30} {
		bench, _ := trust.NewKey()
		a := &Audit{Names: func(string) string { return "" }, Benches: func(string) trust.Any { return trust.Any{bench.Public()} }}
		leaves := make(heldLeaves, 100_000)
		for i := range leaves {
			e := Entry{Unit: fmt.Sprint("unit ", i), N: 1, Kind: Entered, By: "p", Text: "quill-80 Q80-4417-206"}
			if i%each == each-1 {
				e.Kind, e.Bench, e.Record = Flashed, "b", (&Record{Run: "r", Unit: e.Unit, Outcome: "done", From: "1.2.3", To: "2.0.0", Model: "quill-80"}).Encode()
				e.Signature = bench.Sign(RecordDomain, e.Record)
			}
			raw := e.Encode()
			s := &Stored{N: 1, Hash: HashEntry(raw), Kind: e.Kind, Encoded: raw}
			leaf := Leaf(s.Hash)
			leaves[i] = Placed{At: uint64(i), Leaf: &leaf, Unit: e.Unit, N: 1, Entry: s}
		}
		b.Run(fmt.Sprintf("records=%d", (len(leaves)+each-1)/each), func(b *testing.B) {
			for b.Loop() {
				w := &Walk{}
				if found, _, done, err := a.On(context.Background(), leaves, w, func() bool { return false }); len(found) > 0 || !done || err != nil {
					b.Fatal(found, err)
				}
			}
			b.ReportMetric(float64(len(leaves))*float64(b.N)/b.Elapsed().Seconds(), "entries/s")
		})
	}
}

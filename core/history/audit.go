package history

import (
	"fmt"
	"runtime"
	"sync"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// Placed is a leaf of the tree with what there is to hold it against.
type Placed struct {
	At     uint64
	Leaf   *core.Digest // as it is stored; nil where it is gone
	Unit   string       // what the leaf is said to be; empty where nothing says so
	N      uint64
	Entry  *Stored      // nil where it is gone
	Before *core.Digest // hash of the entry before it in its unit's chain; nil where that is gone
	Sooner bool         // the entry before it stands sooner in the tree
}

// Audit holds all that a service keeps against the tree, and the tree against checkpoints that
// were signed.
type Audit struct {
	Service trust.Public
	Benches func(id string) trust.Public
	Names   func(unit string) string // how people call a unit
	// Held compares what a record is about with what else is kept of it: its events, its run.
	Held func(*Entry, *Record) ([]string, error)
}

// look checks one leaf by itself.
func (a *Audit) look(p Placed) (found []string, err error) {
	name := "place " + fmt.Sprint(p.At) + " of the tree"
	say := func(format string, args ...any) { found = append(found, name+": "+fmt.Sprintf(format, args...)) }
	if p.Unit == "" {
		say("which entry stood there is no longer known")
		return found, nil
	}
	name = fmt.Sprintf("entry %d of %s", p.N, a.Names(p.Unit))
	if p.Leaf == nil {
		say("its leaf is missing from the tree")
	}
	if p.Entry == nil {
		say("it is missing; it stood in the tree")
		return found, nil
	}
	if p.Leaf != nil && Leaf(p.Entry.Hash) != *p.Leaf {
		say("another entry stands in the tree: it was computed anew")
	}
	if HashEntry(p.Entry.Encoded) != p.Entry.Hash {
		say("it was changed: its bytes do not give its hash")
	}
	e, err := DecodeEntry(p.Entry.Encoded)
	if err != nil {
		say("it cannot be read")
		return found, nil
	}
	if e.Unit != p.Unit || e.N != p.N || e.Kind != p.Entry.Kind {
		say("it says of itself that it is %s %d of unit %s: its columns were changed", e.Kind, e.N, a.Names(e.Unit))
	}
	switch {
	case e.N == 1:
		if e.Previous != (core.Digest{}) {
			say("it is the first, and names one before it")
		}
	case p.Before == nil:
		say("entry %d, which it continues, is missing", e.N-1)
	case *p.Before != e.Previous:
		say("it does not continue entry %d", e.N-1)
	case !p.Sooner:
		say("entry %d, which it continues, does not stand before it in the tree", e.N-1)
	}
	if len(e.Record) == 0 {
		return found, nil
	}
	if !a.Benches(e.Bench).Verify(RecordDomain, e.Record, e.Signature) {
		say("the record was not signed by bench %s", e.Bench)
	}
	r, err := DecodeRecord(e.Record)
	if err != nil {
		say("its record cannot be read")
		return found, nil
	}
	if a.Held != nil {
		more, err := a.Held(e, r)
		if err != nil {
			return nil, err
		}
		for _, x := range more {
			say("%s", x)
		}
	}
	return found, nil
}

// Take goes on with a walk over the leaves that come next, and holds it against the checkpoints
// of those sizes. The findings come in the order of the leaves.
func (a *Audit) Take(w *Walk, leaves []Placed, checkpoints map[uint64][]Checkpoint) (found []string, err error) {
	each := make([][]string, len(leaves))
	wrong := make([]error, len(leaves))
	var wg sync.WaitGroup
	parts := runtime.GOMAXPROCS(0)
	for part := range parts {
		wg.Go(func() {
			for i := part; i < len(leaves); i += parts {
				each[i], wrong[i] = a.look(leaves[i])
			}
		})
	}
	wg.Wait()
	for i, p := range leaves {
		if wrong[i] != nil {
			return found, wrong[i]
		}
		found = append(found, each[i]...)
		switch {
		case p.Leaf != nil:
			w.Add(*p.Leaf)
		case p.Entry != nil:
			w.Add(Leaf(p.Entry.Hash))
		default:
			w.Lost, w.Edge = true, nil
			w.Next++
		}
		for _, c := range checkpoints[w.Next] {
			if w.Lost || c.Root != w.Root() {
				found = append(found, fmt.Sprintf("the tree does not lead to the checkpoint of %s, with %d entries: something before it was changed", c.At.UTC().Format("2 January 2006 15:04 UTC"), c.Size))
			}
		}
	}
	return found, nil
}

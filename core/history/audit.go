package history

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"sync"

	"github.com/fxamacker/cbor/v2"

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

// Ledger is where an audit reads what a service keeps: its database, or a dump of it.
type Ledger interface {
	// Leaves is how many leaves the tree has.
	Leaves(context.Context) (uint64, error)
	// Placed reads leaves from a place on, without what they continue; several parts at once.
	Placed(ctx context.Context, from, n uint64) ([]Placed, error)
	// Continued reads what some entries continue: Before and Sooner.
	Continued(ctx context.Context, leaves []*Placed) error
	// Checkpoints lists the signed ones that the service has of its tree.
	Checkpoints(context.Context) ([][]byte, error)
	// Elsewhere lists signed checkpoints and heads that were kept elsewhere, and to which what the
	// service keeps did not lead when they were shown.
	Elsewhere(context.Context) ([]Elsewhere, error)
	// Astray lists what a walk over the tree does not come by, of each sort no more than so many.
	// After a clean walk, in which each leaf had its own entry, an entry without a place is sought
	// only if there are more entries than places.
	Astray(ctx context.Context, limit int, clean bool) ([]Astray, error)
}

// Elsewhere is a signed checkpoint, or else the head of a unit's history, that somebody kept out of
// the service's reach.
type Elsewhere struct {
	Signed []byte // checkpoint
	Unit   string // head
	N      uint64
	By     string // who kept it
}

// Astray is something that ought to be in the tree, or to be told of there.
type Astray struct {
	What string
	Unit string
	N    uint64
	Run  string
}

// What is astray.
const (
	NoPlace   = "no-place"   // an entry that has no place in the tree, and waits for none
	NoHistory = "no-history" // a unit of which nothing is entered
	NoRecord  = "no-record"  // a closed run that no entry tells of
)

// The size of the parts in which an audit reads, and how much it tells of what is astray.
const (
	auditPart  = 12000
	astrayMost = 20
)

// Audit holds all that a service keeps against the tree, and the tree against checkpoints that
// were signed.
type Audit struct {
	Service Line
	Benches func(id string) trust.Any
	Names   func(unit string) string // how people call a unit
	Against []Checkpoint             // those that whoever audits has brought: signed ones of benches, or of a printed report, without a time
	// Held compares what a record is about with what else is kept of it: its events, its run.
	Held func(*Entry, *Record) ([]core.Said, error)
	// Rows tells what is kept of a unit, or, without one, of the team, that is not as the service
	// has written it; nil where that cannot be told.
	Rows func(unit string) ([]string, error)
}

// On goes on with a walk over all that a ledger has until it is done, or stop says that it is
// enough for now.
func (a *Audit) On(ctx context.Context, l Ledger, w *Walk, stop func() bool) (found []core.Said, size uint64, done bool, err error) {
	if size, err = l.Leaves(ctx); err != nil {
		return nil, 0, false, err
	}
	signed, err := l.Checkpoints(ctx)
	if err != nil {
		return nil, size, false, err
	}
	points := map[uint64][]Checkpoint{}
	for _, c := range a.Against {
		points[c.Size] = append(points[c.Size], c)
	}
	var forged []core.Said
	for _, s := range signed {
		if c, err := a.Service.OpenCheckpoint(s); err == nil {
			points[c.Size] = append(points[c.Size], c)
		} else {
			forged = append(forged, core.Say("a checkpoint was not signed by this service: %s", strings.ReplaceAll(strings.SplitN(string(s), "\n\n", 2)[0], "\n", " ")))
		}
	}
	reading, enough := context.WithCancel(ctx)
	defer enough()
	parts := readAhead(reading, l, w.Next, size)
	for w.Next < size && !stop() && ctx.Err() == nil {
		var p part
		select {
		case p = <-parts:
		case <-ctx.Done():
			return found, size, false, ctx.Err()
		}
		if p.err != nil {
			return found, size, false, p.err
		}
		some, err := a.take(w, p.leaves, points)
		w.Found = w.Found || len(some) > 0
		if found = append(found, some...); err != nil {
			return found, size, false, err
		}
	}
	if w.Next < size {
		return found, size, false, ctx.Err()
	}
	if w.Gone > w.Cut {
		forged = append(forged, core.Say("entry %d of %s was changed: its bytes are gone, and no later entry lets them go", w.Gone, a.Names(TeamChain)))
	}
	last, err := a.lastly(ctx, l, size, !w.Found)
	return append(append(found, forged...), last...), size, err == nil, err
}

// part are leaves that were read together.
type part struct {
	leaves []Placed
	err    error
}

// readAhead reads leaves part by part, in their order, while those before them are looked at: three
// parts at once, and what is continued once all before a part is known. It ends with the context.
func readAhead(ctx context.Context, l Ledger, from, size uint64) <-chan part {
	under, out := make(chan chan part, 1), make(chan part, 1) // one is waited for, one waits, one is begun
	go func() {
		defer close(under)
		for from := from; from < size; from += auditPart {
			one := make(chan part, 1)
			go func() {
				leaves, err := l.Placed(ctx, from, min(auditPart, size-from))
				one <- part{leaves, err}
			}()
			select {
			case under <- one:
			case <-ctx.Done():
				return
			}
		}
	}()
	go func() {
		passed := passed{most: mostPassed}
		for one := range under {
			p := <-one
			if unknown := passed.continued(p.leaves); p.err == nil && len(unknown) > 0 {
				p.err = l.Continued(ctx, unknown)
			}
			select {
			case out <- p:
			case <-ctx.Done():
				return
			}
		}
	}()
	return out
}

// passed is what a walk has come by: the newest entry of each unit, as it is stored. Of the units
// that it has not met for long it forgets.
type passed struct {
	most        int
	now, before map[string]entryAt
}

type entryAt struct {
	n, at uint64
	hash  core.Digest
}

// mostPassed is how many units are remembered, and as many that were met before them.
const mostPassed = 1 << 17

// continued sets what leaves continue that the walk has come by, and lists the others.
func (p *passed) continued(leaves []Placed) (unknown []*Placed) {
	for i := range leaves {
		x := &leaves[i]
		if x.Unit == "" || x.Entry == nil {
			continue
		}
		last, met := p.now[x.Unit]
		if !met {
			last, met = p.before[x.Unit]
		}
		switch {
		case x.N <= 1:
		case met && last.n == x.N-1 && last.at < x.At:
			x.Before, x.Sooner = &last.hash, true
		default:
			unknown = append(unknown, x)
		}
		if len(p.now) >= p.most || p.now == nil {
			p.now, p.before = map[string]entryAt{}, p.now
		}
		p.now[x.Unit] = entryAt{x.N, x.At, x.Entry.Hash}
	}
	return unknown
}

// lastly is what the walk does not come by.
func (a *Audit) lastly(ctx context.Context, l Ledger, size uint64, clean bool) (found []core.Said, err error) {
	say := func(s core.Said) { found = append(found, s) }
	for _, c := range a.Against {
		if c.Size > size {
			say(core.Say("entries are missing: there are %d, and %s has %d", size, named(c), c.Size))
		}
	}
	if a.Rows != nil {
		changed, err := a.Rows("")
		if err != nil {
			return found, err
		}
		for _, x := range changed {
			say(core.Say("%s was changed, or put in, behind the service's back", x))
		}
	}
	kept, err := l.Elsewhere(ctx)
	if err != nil {
		return found, err
	}
	for _, k := range kept {
		if k.Signed == nil {
			say(core.Say("entry %d of %s is missing or another: %s has kept its signed head", k.N, a.Names(k.Unit), k.By))
			continue
		}
		if c, err := a.Service.OpenCheckpoint(k.Signed); err == nil {
			say(core.Say("the tree does not lead to the checkpoint of %s with %d entries, which %s has kept", day(c), c.Size, k.By))
		}
	}
	astray, err := l.Astray(ctx, astrayMost, clean)
	for _, x := range astray {
		switch x.What {
		case NoPlace:
			say(core.Say("entry %d of %s has no place in the tree: it was put in behind the service's back, or its place was taken away", x.N, a.Names(x.Unit)))
		case NoHistory:
			say(core.Say("%s is in the register, and has no history", a.Names(x.Unit)))
		case NoRecord:
			say(core.Say("run %s of %s is closed, and no entry tells of it", x.Run, a.Names(x.Unit)))
		}
	}
	return found, err
}

// named is how a checkpoint is called.
func named(c Checkpoint) string {
	if c.At.IsZero() {
		return "the checkpoint on paper"
	}
	return "the checkpoint of " + day(c)
}

func day(c Checkpoint) string { return c.At.UTC().Format("2 January 2006 15:04 UTC") }

// look checks one leaf by itself. The signature of its record goes into the batch, if there is one
// and it can.
func (a *Audit) look(p Placed, batch *trust.Batch) (found []core.Said, err error) {
	if p.Unit == "" {
		return append(found, core.Say("which entry stood there is no longer known").About(fmt.Sprintf("place %d of the tree", p.At))), nil
	}
	say := func(s core.Said) { found = append(found, s.About(fmt.Sprintf("entry %d of %s", p.N, a.Names(p.Unit)))) }
	if p.Leaf == nil {
		say(core.Say("its leaf is missing from the tree"))
	}
	if p.Entry == nil {
		say(core.Say("it is missing; it stood in the tree"))
		return found, nil
	}
	if p.Leaf != nil && Leaf(p.Entry.Hash) != *p.Leaf {
		say(core.Say("another entry stands in the tree: it was computed anew"))
	}
	if p.Entry.isCut(p.Unit) {
		return found, nil // whether it may be is told at the end
	}
	if HashEntry(p.Entry.Encoded) != p.Entry.Hash {
		say(core.Say("it was changed: its bytes do not give its hash"))
	}
	var e link
	if err := cbor.Unmarshal(p.Entry.Encoded, &e); err != nil {
		say(core.Say("it cannot be read"))
		return found, nil
	}
	if e.Unit != p.Unit || e.N != p.N || e.Kind != p.Entry.Kind {
		say(core.Say("it says of itself that it is %s %d of unit %s: its columns were changed", e.Kind, e.N, a.Names(e.Unit)))
	}
	switch {
	case e.N == 1:
		if e.Previous != (core.Digest{}) {
			say(core.Say("it is the first, and names one before it"))
		}
	case p.Before == nil:
		say(core.Say("entry %d, which it continues, is missing", e.N-1))
	case *p.Before != e.Previous:
		say(core.Say("it does not continue entry %d", e.N-1))
	case !p.Sooner:
		say(core.Say("entry %d, which it continues, does not stand before it in the tree", e.N-1))
	}
	if e.Kind == Entered && a.Rows != nil {
		changed, err := a.Rows(p.Unit)
		if err != nil {
			return nil, err
		}
		for _, x := range changed {
			found = append(found, core.Say("%s of %s was changed, or put in, behind the service's back", x, a.Names(p.Unit)))
		}
	}
	if len(e.Record) == 0 {
		return found, nil
	}
	keys := a.Benches(e.Bench)
	if later := batch != nil && batch.Add(keys, RecordDomain, e.Record, e.Signature); !later && !keys.Verify(RecordDomain, e.Record, e.Signature) {
		say(core.Say("the record was not signed by bench %s", e.Bench))
	}
	r, err := DecodeRecord(e.Record)
	if err != nil {
		say(core.Say("its record cannot be read"))
		return found, nil
	}
	if a.Held != nil {
		whole, err := DecodeEntry(p.Entry.Encoded)
		if err != nil {
			say(core.Say("it cannot be read"))
			return found, nil
		}
		more, err := a.Held(whole, r)
		if err != nil {
			return nil, err
		}
		for _, x := range more {
			say(x)
		}
	}
	return found, nil
}

// take goes on with a walk over the leaves that come next, and holds it against the checkpoints
// of those sizes. The findings come in the order of the leaves.
func (a *Audit) take(w *Walk, leaves []Placed, checkpoints map[uint64][]Checkpoint) (found []core.Said, err error) {
	each := make([][]core.Said, len(leaves))
	wrong := make([]error, len(leaves))
	var wg sync.WaitGroup
	parts := runtime.GOMAXPROCS(0)
	for part := range parts {
		wg.Go(func() {
			var batch trust.Batch
			for i := part; i < len(leaves); i += parts {
				each[i], wrong[i] = a.look(leaves[i], &batch)
			}
			if batch.Right() {
				return
			}
			for i := part; i < len(leaves); i += parts { // one of them is not: which?
				each[i], wrong[i] = a.look(leaves[i], nil)
			}
		})
	}
	wg.Wait()
	for i, p := range leaves {
		if wrong[i] != nil {
			return found, wrong[i]
		}
		found = append(found, each[i]...)
		if p.Unit == TeamChain && p.Entry != nil {
			if p.Entry.isCut(p.Unit) {
				w.Gone = max(w.Gone, p.N)
			} else if p.Entry.Kind == LogCut {
				if e, err := DecodeEntry(p.Entry.Encoded); err == nil {
					w.Cut = max(w.Cut, e.CutTo())
				}
			}
		}
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
				found = append(found, core.Say("the tree does not lead to %s, with %d entries: something before it was changed", named(c), c.Size))
			}
		}
	}
	return found, nil
}

package evidence

import (
	"context"
	"math"
	"sync"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/internal/store"
)

// A chain is checked from its first entry on each time that it is shown, unless it is a long one:
// of those this process remembers up to where it has checked them, and checks what has come
// since, and the entries that are shown.
const (
	longChain = 300  // entries from which on it is remembered
	markEvery = 64   // entries from one mark to the next
	mostLong  = 1000 // chains that are remembered
)

// checkedChain is what is remembered of a chain that was found intact.
type checkedChain struct {
	newest history.Mark
	marks  []core.Digest // of every 64th entry
	cut    uint64        // up to which entry one of them lets the bytes go
}

// mark is the first one at an entry or behind it.
func (c *checkedChain) mark(n uint64) history.Mark {
	k := (n + markEvery - 1) / markEvery
	if k >= 1 && int(k) <= len(c.marks) {
		return history.Mark{N: k * markEvery, Hash: c.marks[k-1]}
	}
	return c.newest
}

// with is the same with entries that have come since.
func (c checkedChain) with(chain []history.Stored) *checkedChain {
	c.marks = c.marks[:len(c.marks):len(c.marks)]
	for _, x := range chain {
		if x.N%markEvery == 0 {
			c.marks = append(c.marks, x.Hash)
		}
		c.newest = history.Mark{N: x.N, Hash: x.Hash}
		if x.Kind != history.LogCut {
			continue
		}
		if e, err := history.DecodeEntry(x.Encoded); err == nil {
			c.cut = max(c.cut, e.CutTo())
		}
	}
	return &c
}

type checkedChains struct {
	mu sync.Mutex
	by map[string]*checkedChain
}

func (k *checkedChains) get(chain string) *checkedChain {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.by[chain]
}

func (k *checkedChains) put(chain string, c *checkedChain) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.by == nil || len(k.by) >= mostLong {
		k.by = map[string]*checkedChain{}
	}
	k.by[chain] = c
}

// chainPage are entries of a chain, the oldest first, and what a check of the chain has found.
type chainPage struct {
	entries []history.Stored
	found   []core.Said
	tree    *history.Checkpoint // in whose tree they stand, if all of them do
	places  map[uint64]uint64
	total   uint64 // entries of the chain
	before  uint64 // with what the page of older ones is asked for; 0 where there are none
}

// chain gives the newest entries of a chain that are older than one (0 is the newest page).
func (v *Evidence) chain(ctx context.Context, name string, before uint64, size int, benches func(string) trust.Any) (p chainPage, err error) {
	newest, err := v.store.NewestEntry(ctx, name)
	if err != nil {
		return p, err
	}
	last := newest.N
	p.total = last
	if before > 0 {
		last = min(last, before-1)
	}
	first := last - min(last, uint64(size)) + 1
	known := v.checked.get(name)
	if known != nil && known.newest.N <= newest.N {
		ok, err := v.chainGoesOn(ctx, &p, name, known, first, last, benches)
		if err != nil || ok {
			return p, err
		}
	}
	all, heads, err := v.store.Chain(ctx, name)
	if err != nil {
		return p, err
	}
	var found []core.Said
	p.tree, p.places, found, err = v.inTree(ctx, name, all, 1, math.MaxInt64)
	p.found = append(history.Check(name, all, heads, v.store.Line(), benches), found...)
	for _, x := range all {
		if x.N >= first && x.N <= last {
			p.entries = append(p.entries, x)
		}
	}
	if first > 1 && last > 0 {
		p.before = first
	}
	if len(all) >= longChain && len(p.found) == 0 && err == nil {
		v.checked.put(name, checkedChain{}.with(all))
	}
	return p, err
}

// chainGoesOn gives a page of a chain that was checked before; not ok where something is not as it
// was then, and the whole is to be checked again, which says what.
func (v *Evidence) chainGoesOn(ctx context.Context, p *chainPage, name string, known *checkedChain, first, last uint64, benches func(string) trust.Any) (ok bool, err error) {
	since, heads, err := v.store.ChainFrom(ctx, name, known.newest.N)
	if err != nil || len(history.CheckFrom(known.newest, name, since, heads, v.store.Line(), benches)) > 0 {
		return false, err
	}
	if first <= known.newest.N {
		to := known.mark(min(last, known.newest.N))
		old, err := v.store.Entries(ctx, name, first, to.N)
		if err != nil || !history.Leads(to, old, known.with(since).cut) || old[0].N != first {
			return false, err
		}
		since = append(old, dropTo(since, to.N)...)
	}
	for _, x := range since {
		if x.N >= first && x.N <= last {
			p.entries = append(p.entries, x)
		}
	}
	var found []core.Said
	if p.tree, p.places, found, err = v.inTree(ctx, name, p.entries, first, last); err != nil || len(found) > 0 {
		*p = chainPage{total: p.total}
		return false, err
	}
	if first > 1 {
		p.before = first
	}
	v.checked.put(name, known.with(dropTo(since, known.newest.N)))
	return true, nil
}

// dropTo leaves those behind an entry.
func dropTo(chain []history.Stored, n uint64) []history.Stored {
	for i, x := range chain {
		if x.N > n {
			return chain[i:]
		}
	}
	return nil
}

// teamChain is a page of the audit log.
func (v *Evidence) teamChain(ctx context.Context, before uint64) (chainPage, error) {
	return v.chain(ctx, store.TeamChain, before, auditPage, func(string) trust.Any { return nil })
}

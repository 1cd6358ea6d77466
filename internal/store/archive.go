package store

import (
	"cmp"
	"context"
	"io"
	"math"
	"slices"
	"strconv"

	"golang.org/x/mod/sumdb/tlog"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
)

// Archive is what a dump holds of histories, in memory: what an audit wants that is done without
// the service.
type Archive struct {
	Dumped  Moved
	names   map[string]string // of units
	benches map[string]trust.Any
	called  map[string]string // benches
	entries map[unitEntry]*history.Stored
	places  []unitEntry // by their place in the tree
	at      map[unitEntry]uint64
	hashes  map[int64]core.Digest
	signed  [][]byte
	told    []history.SignedSuccession
	kept    []history.Elsewhere
	waiting map[unitEntry]bool
	runs    map[string]Run
	events  map[string][]archived
	lines   map[string][]stretch
}

type unitEntry struct {
	unit string
	n    uint64
}

type archived struct {
	epoch uint64
	stored
}

// stretch tells which events of an epoch belong to a run.
type stretch struct {
	epoch, first, last uint64
}

// noPlace is an empty place of the tree.
var noPlace = unitEntry{}

// treeSchema is the schema from which on histories stand in a tree.
const treeSchema = 24

// OpenArchive reads a dump.
func OpenArchive(r io.Reader) (*Archive, error) {
	a := &Archive{names: map[string]string{}, benches: map[string]trust.Any{}, called: map[string]string{}, entries: map[unitEntry]*history.Stored{}, at: map[unitEntry]uint64{},
		hashes: map[int64]core.Digest{}, waiting: map[unitEntry]bool{}, runs: map[string]Run{}, events: map[string][]archived{}, lines: map[string][]stretch{}}
	var keptBy []string
	number := func(b []byte) uint64 { n, _ := strconv.ParseUint(string(b), 10, 64); return n }
	digest := func(b []byte) (d core.Digest) { copy(d[:], b); return d }
	rows := map[string]func(get func(string) []byte){
		"unit": func(get func(string) []byte) { a.names[string(get("id"))] = string(get("serial")) },
		"bench": func(get func(string) []byte) {
			a.benches[string(get("id"))] = Bench{PublicKey: get("public_key"), Earlier: get("earlier_keys")}.Keys()
			a.called[string(get("id"))] = "bench " + string(get("name"))
		},
		"entry": func(get func(string) []byte) {
			k := unitEntry{ownerOf(string(get("unit"))), number(get("n"))}
			a.entries[k] = &history.Stored{N: k.n, Hash: digest(get("hash")), Kind: string(get("kind")), Encoded: unpackEntry(get("encoded"))}
		},
		"succession": func(get func(string) []byte) {
			a.told = append(a.told, history.SignedSuccession{Says: get("says"), Leaves: get("leaves"), Comes: get("comes")})
		},
		"leaf": func(get func(string) []byte) {
			at, k := number(get("at")), unitEntry{ownerOf(string(get("unit"))), number(get("n"))}
			if at > 1<<32 {
				return // no dump holds so many
			}
			for uint64(len(a.places)) <= at {
				a.places = append(a.places, noPlace)
			}
			a.places[at], a.at[k] = k, at
		},
		"tree_hash":  func(get func(string) []byte) { a.hashes[int64(number(get("i")))] = digest(get("hash")) },
		"checkpoint": func(get func(string) []byte) { a.signed = append(a.signed, get("signed")) },
		"entry_waiting": func(get func(string) []byte) {
			a.waiting[unitEntry{ownerOf(string(get("unit"))), number(get("n"))}] = true
		},
		"kept_checkpoint": func(get func(string) []byte) {
			a.kept, keptBy = append(a.kept, history.Elsewhere{Signed: get("signed")}), append(keptBy, string(get("bench")))
		},
		"kept_head": func(get func(string) []byte) {
			a.kept, keptBy = append(a.kept, history.Elsewhere{Unit: ownerOf(string(get("unit"))), N: number(get("n"))}), append(keptBy, string(get("bench")))
		},
		"run": func(get func(string) []byte) {
			r := Run{ID: string(get("id")), Kind: string(get("kind")), Unit: string(get("unit")), By: string(get("ordered_by")), State: string(get("state")), Outcome: string(get("outcome")), Epoch: number(get("epoch"))}
			a.runs[r.ID] = r
		},
		"run_event": func(get func(string) []byte) {
			id := string(get("run"))
			a.events[id] = append(a.events[id], archived{number(get("epoch")), stored{id, number(get("n")), int(max(1, number(get("events")))), get("body")}})
		},
		"run_line": func(get func(string) []byte) {
			id, l := string(get("run")), stretch{number(get("epoch")), number(get("first_n")), math.MaxUint64}
			if last := get("last_n"); last != nil {
				l.last = number(last)
			}
			a.lines[id] = append(a.lines[id], l)
		},
	}
	var err error
	if a.Dumped, err = readDump(r, func(table string) func(get func(string) []byte) { return rows[table] }); err != nil {
		return nil, err
	}
	if a.Dumped.Schema < treeSchema {
		return nil, core.Fail(core.BadFile, "the dump has schema %d, and histories stand in a tree from schema %d on", a.Dumped.Schema, treeSchema).Do("Load it into an empty database, and audit that.")
	}
	for i := range a.kept {
		a.kept[i].By = cmp.Or(a.called[keptBy[i]], "the file beside the database")
	}
	return a, nil
}

// Benches gives the keys of a bench.
func (a *Archive) Benches(id string) trust.Any { return a.benches[id] }

// Successions are what is told of the service's keys.
func (a *Archive) Successions() []history.SignedSuccession { return a.told }

// Name is how people call the owner of a chain.
func (a *Archive) Name(unit string) string {
	if unit == TeamChain {
		return "the audit log"
	}
	return "unit " + cmp.Or(a.names[unit], unit)
}

// LeadsTo tells whether the entries of a unit lead to a head.
func (a *Archive) LeadsTo(h history.Head) bool {
	e := a.entries[unitEntry{h.Unit, h.N}]
	return e != nil && e.Hash == h.Hash
}

func (a *Archive) Leaves(context.Context) (uint64, error) { return uint64(len(a.places)), nil }

func (a *Archive) Checkpoints(context.Context) ([][]byte, error) { return a.signed, nil }

func (a *Archive) Elsewhere(context.Context) ([]history.Elsewhere, error) { return a.kept, nil }

func (a *Archive) Placed(_ context.Context, from, n uint64) (all []history.Placed, err error) {
	for at := from; at < from+n; at++ {
		p, k := history.Placed{At: at}, a.places[at]
		if h, ok := a.hashes[tlog.StoredHashIndex(0, int64(at))]; ok {
			p.Leaf = &h
		}
		if k != noPlace {
			p.Unit, p.N, p.Entry = k.unit, k.n, a.entries[k]
		}
		all = append(all, p)
	}
	return all, nil
}

func (a *Archive) Continued(_ context.Context, leaves []*history.Placed) error {
	for _, p := range leaves {
		before := unitEntry{p.Unit, p.N - 1}
		if e := a.entries[before]; e != nil {
			p.Before = &e.Hash
		}
		sooner, placed := a.at[before]
		p.Sooner = placed && sooner < p.At
	}
	return nil
}

func (a *Archive) Astray(_ context.Context, limit int, _ bool) (all []history.Astray, err error) {
	add := func(n *int, x history.Astray) {
		if *n++; *n <= limit {
			all = append(all, x)
		}
	}
	var places, units, runs int
	told := map[string]bool{}
	for k, e := range a.entries {
		if _, placed := a.at[k]; !placed && !a.waiting[k] {
			add(&places, history.Astray{What: history.NoPlace, Unit: k.unit, N: k.n})
		}
		if d, err := history.DecodeEntry(e.Encoded); err == nil && d.Run != "" {
			told[d.Run] = true
		}
	}
	for id := range a.names {
		if a.entries[unitEntry{id, 1}] == nil {
			add(&units, history.Astray{What: history.NoHistory, Unit: id})
		}
	}
	for id, r := range a.runs {
		if r.State == RunClosed && !told[id] {
			add(&runs, history.Astray{What: history.NoRecord, Unit: r.Unit, Run: id})
		}
	}
	slices.SortFunc(all, func(x, y history.Astray) int {
		return cmp.Or(cmp.Compare(x.What, y.What), cmp.Compare(x.Unit, y.Unit), cmp.Compare(x.N, y.N), cmp.Compare(x.Run, y.Run))
	})
	return all, nil
}

func (a *Archive) Run(_ context.Context, id string) (Run, error) {
	r, ok := a.runs[id]
	if !ok {
		return r, core.Fail(core.NotFound, "there is no run %q", id)
	}
	return r, nil
}

func (a *Archive) RawEvents(_ context.Context, id string, after uint64, most int) (all [][]byte, err error) {
	var on []stored
	for _, e := range a.events[id] {
		if e.N+uint64(e.Events) > after+1 && slices.ContainsFunc(a.lines[id], func(l stretch) bool { return l.epoch == e.epoch && e.N >= l.first && e.N <= l.last }) {
			on = append(on, e.stored)
		}
	}
	slices.SortFunc(on, func(x, y stored) int { return cmp.Compare(x.N, y.N) })
	return unpacked(id, on, after+1, most)
}

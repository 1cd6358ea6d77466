package history

import (
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// The entries of all units, and those of the audit log, are the leaves of one Merkle tree
// (RFC 9162, section 2.1), in the order in which the service has put them there. A leaf's data
// is the entry's hash, so that a leaf's own hash is SHA-256 of a zero byte and that hash. The
// tree only grows.

// Tree is the name under which checkpoints are signed; it is their first line too.
const Tree = "zealous-ferry-tree"

// Checkpoint is the state of the tree at a moment. Signed, it is a note of four lines: the name
// of the tree, how many leaves it has, its root in base64, and when, in RFC 3339.
type Checkpoint struct {
	Size uint64
	Root core.Digest
	At   time.Time
}

func (c Checkpoint) text() string {
	return fmt.Sprintf("%s\n%d\n%s\n%s\n", Tree, c.Size, base64.StdEncoding.EncodeToString(c.Root[:]), c.At.UTC().Format(time.RFC3339Nano))
}

// Sign gives the checkpoint as a signed note.
func (c Checkpoint) Sign(k trust.Key) ([]byte, error) { return k.SignNote(Tree, c.text()) }

// OpenCheckpoint reads a checkpoint that the service's key has signed.
func OpenCheckpoint(service trust.Public, signed []byte) (c Checkpoint, err error) {
	text, err := service.OpenNote(Tree, signed)
	if err != nil {
		return c, err
	}
	lines := strings.Split(text, "\n")
	if len(lines) == 5 && lines[0] == Tree {
		c.Size, err = strconv.ParseUint(lines[1], 10, 63)
		root, wrong := base64.StdEncoding.DecodeString(lines[2])
		at, late := time.Parse(time.RFC3339Nano, lines[3])
		if err == nil && wrong == nil && late == nil && len(root) == len(c.Root) {
			c.Root, c.At = core.Digest(root), at
			if c.text() == text {
				return c, nil
			}
		}
	}
	return Checkpoint{}, core.Fail(core.BadFile, "a checkpoint has four lines: %s, size, root, time; this one has not", Tree)
}

// Leaf is the hash that an entry has as a leaf of the tree.
func Leaf(entry core.Digest) core.Digest { return core.Digest(tlog.RecordHash(entry[:])) }

// Hashes gives stored hashes of the tree by their index, as tlog.StoredHashIndex counts them.
type Hashes func(indexes []int64) ([]tlog.Hash, error)

func (h Hashes) ReadHashes(indexes []int64) ([]tlog.Hash, error) { return h(indexes) }

// EdgeOf lists the indexes of the hashes on the right edge of a tree: its largest complete
// subtrees. They are all that is needed to let it grow, and to compute its root.
func EdgeOf(size uint64) (all []int64) {
	for level := 62; level >= 0; level-- {
		if size>>level&1 == 1 {
			all = append(all, tlog.StoredHashIndex(level, int64(size>>level)-1))
		}
	}
	return all
}

// Grow puts entries behind the last leaf. It gives the hashes that are to be stored from index
// First on, and the tree's new root. edge gives the hashes that EdgeOf names.
func Grow(size uint64, edge map[int64]core.Digest, entries []core.Digest) (first int64, stored []core.Digest, root core.Digest, err error) {
	known := make(map[int64]tlog.Hash, len(edge)+2*len(entries))
	for i, h := range edge {
		known[i] = tlog.Hash(h)
	}
	reader := ofMap(known)
	first = tlog.StoredHashCount(int64(size))
	next := first
	for i, e := range entries {
		hashes, err := tlog.StoredHashes(int64(size)+int64(i), e[:], reader)
		if err != nil {
			return 0, nil, root, err
		}
		for _, h := range hashes {
			known[next] = h
			stored = append(stored, core.Digest(h))
			next++
		}
	}
	h, err := tlog.TreeHash(int64(size)+int64(len(entries)), reader)
	return first, stored, core.Digest(h), err
}

// RootAt computes the root that the tree had at a size.
func RootAt(size uint64, read Hashes) (core.Digest, error) {
	h, err := tlog.TreeHash(int64(size), read)
	return core.Digest(h), err
}

func ofMap(known map[int64]tlog.Hash) Hashes {
	return func(indexes []int64) ([]tlog.Hash, error) {
		out := make([]tlog.Hash, len(indexes))
		for i, x := range indexes {
			h, ok := known[x]
			if !ok {
				return nil, core.Fail(core.NotFound, "hash %d of the tree is missing", x)
			}
			out[i] = h
		}
		return out, nil
	}
}

// atOnce reads all that f asks for in one question: f is called twice, first to learn what it
// wants.
func atOnce(read Hashes, f func(tlog.HashReader) error) error {
	wanted := map[int64]tlog.Hash{}
	if err := f(Hashes(func(indexes []int64) ([]tlog.Hash, error) {
		for _, i := range indexes {
			wanted[i] = tlog.Hash{}
		}
		return make([]tlog.Hash, len(indexes)), nil
	})); err != nil {
		return err
	}
	indexes := make([]int64, 0, len(wanted))
	for i := range wanted {
		indexes = append(indexes, i)
	}
	got, err := read(indexes)
	if err != nil {
		return err
	}
	for n, i := range indexes {
		wanted[i] = got[n]
	}
	return f(ofMap(wanted))
}

// Growth proves that a tree with one checkpoint became the one with another (RFC 9162, section
// 2.1.4): all that was in it is in it still.
func Growth(from, to uint64, read Hashes) (proof []core.Digest, err error) {
	var p tlog.TreeProof
	err = atOnce(read, func(r tlog.HashReader) (err error) {
		p, err = tlog.ProveTree(int64(to), int64(from), r)
		return err
	})
	for _, h := range p {
		proof = append(proof, core.Digest(h))
	}
	return proof, err
}

// Grew checks such a proof.
func Grew(from, to Checkpoint, proof []core.Digest) error {
	if to.Size < from.Size {
		return core.Fail(core.VerifyDiffers, "the tree of all histories had %d entries, and has %d", from.Size, to.Size)
	}
	if from.Size == 0 {
		return nil
	}
	var p tlog.TreeProof
	for _, h := range proof {
		p = append(p, tlog.Hash(h))
	}
	if err := tlog.CheckTree(p, int64(to.Size), tlog.Hash(to.Root), int64(from.Size), tlog.Hash(from.Root)); err != nil {
		return core.Fail(core.VerifyDiffers, "the tree of all histories with %d entries did not come of the one with %d: something in it was changed", to.Size, from.Size)
	}
	return nil
}

// Place is where an entry stands in the tree.
type Place struct {
	At   uint64 // from 0
	Hash core.Digest
}

// InTree checks that entries stand at their places in the tree of a checkpoint (RFC 9162,
// section 2.1.3). It gives the first that does not, from 0, or -1.
func InTree(c Checkpoint, places []Place, read Hashes) (int, error) {
	wrong := -1
	err := atOnce(read, func(r tlog.HashReader) error {
		wrong = -1 // what the first call finds says nothing: it has no hashes yet
		for i, p := range places {
			proof, err := tlog.ProveRecord(int64(c.Size), int64(p.At), r)
			if err != nil {
				return err
			}
			if wrong < 0 && tlog.CheckRecord(proof, int64(c.Size), tlog.Hash(c.Root), int64(p.At), tlog.Hash(Leaf(p.Hash))) != nil {
				wrong = i
			}
		}
		return nil
	})
	return wrong, err
}

// Walk computes the tree anew, leaf by leaf. It can be kept and gone on with.
type Walk struct {
	Next uint64        `json:"next"`           // how many leaves it has
	Edge []core.Digest `json:"edge,omitempty"` // roots of the complete subtrees, the largest first
	Lost bool          `json:"lost,omitempty"` // a leaf was missing: there is no root any more

	Found bool `json:"found,omitempty"` // something was found on the way

	Gone uint64 `json:"gone,omitempty"` // up to which entry bytes of the audit log are gone
	Cut  uint64 `json:"cut,omitempty"`  // up to which one an entry of it lets them go
}

// Add puts a leaf's hash behind the last.
func (w *Walk) Add(leaf core.Digest) {
	if w.Lost {
		w.Next++
		return
	}
	h := tlog.Hash(leaf)
	for n := w.Next; n&1 == 1; n >>= 1 {
		last := len(w.Edge) - 1
		h = tlog.NodeHash(tlog.Hash(w.Edge[last]), h)
		w.Edge = w.Edge[:last]
	}
	w.Edge = append(w.Edge, core.Digest(h))
	w.Next++
}

// Whole tells whether a walk that was kept can be one.
func (w *Walk) Whole() bool {
	return w.Next < 1<<62 && (w.Lost && len(w.Edge) == 0 || !w.Lost && len(w.Edge) == len(EdgeOf(w.Next)))
}

// Root is that of the tree as far as it was walked; zero of an empty one.
func (w *Walk) Root() core.Digest {
	if len(w.Edge) == 0 {
		return core.Digest{}
	}
	h := tlog.Hash(w.Edge[len(w.Edge)-1])
	for i := len(w.Edge) - 2; i >= 0; i-- {
		h = tlog.NodeHash(tlog.Hash(w.Edge[i]), h)
	}
	return core.Digest(h)
}

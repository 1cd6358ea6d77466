package history

import (
	"crypto/sha256"

	"github.com/fxamacker/cbor/v2"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// Domains of what a bench signs beside the records of closed runs.
const (
	PostDomain = "ferry-post/1"
	KeptDomain = "ferry-kept/1"
	SaidDomain = "ferry-said/1"
)

// OrderDomain is that of what the service signs when it orders a bench to do something.
const OrderDomain = "ferry-order/1"

// Ordered is what the service signs of an order: for which bench it is, and its body.
func Ordered(bench string, body []byte) []byte {
	d := core.DigestOf(body)
	return append([]byte(bench+"\n"), d[:]...)
}

// Post is what a bench signs with each batch of a run's events: up to which number it has
// posted them, and the digest of all of them from the beginning of its epoch on. Chain binds
// what came before, so that nothing can be put in between, left out or exchanged.
type Post struct {
	Bench   string      `cbor:"bench"`
	Run     string      `cbor:"run"`
	Epoch   uint64      `cbor:"epoch"`
	Last    uint64      `cbor:"last"`
	Chain   core.Digest `cbor:"chain"`
	Outcome string      `cbor:"outcome"` // how the bench says that the run stands
}

// ChainOn is the digest of a run's events with more of them behind those of before; it begins
// with zeros.
func ChainOn(before core.Digest, events ...[]byte) core.Digest {
	const head = PostDomain + "\x00"
	var b [len(head) + 2*sha256.Size]byte
	copy(b[:], head)
	for _, e := range events {
		own := sha256.Sum256(e)
		copy(b[len(head):], before[:])
		copy(b[len(head)+sha256.Size:], own[:])
		before = sha256.Sum256(b[:])
	}
	return before
}

// Sign signs the statement with the bench's key.
func (p *Post) Sign(k trust.Key) []byte { return k.Sign(PostDomain, encode(p)) }

// Verify tells whether the bench's key signed it.
func (p *Post) Verify(k trust.Public, signature []byte) bool {
	return k.Verify(PostDomain, encode(p), signature)
}

// Kept is what a bench signs of a backup: which run took it, and what its manifests are.
type Kept struct {
	Bench    string        `cbor:"bench"`
	Run      string        `cbor:"run"`
	Running  string        `cbor:"running"`
	Taken    int64         `cbor:"taken"` // microseconds since 1970 UTC
	Sections []KeptSection `cbor:"sections"`
}

// KeptSection is the backup of a section.
type KeptSection struct {
	Section  string      `cbor:"section"`
	Main     bool        `cbor:"main"`
	Files    bool        `cbor:"files"`
	Manifest core.Digest `cbor:"manifest"`
	How      string      `cbor:"how"`
}

// Encode gives the bytes that the bench signs.
func (k *Kept) Encode() []byte { return encode(k) }

// DecodeKept reads what Encode wrote.
func DecodeKept(b []byte) (*Kept, error) {
	var k Kept
	if err := cbor.Unmarshal(b, &k); err != nil {
		return nil, core.Fail(core.BadFile, "what a bench has signed of a backup cannot be read: %w", err)
	}
	return &k, nil
}

// Said is what a bench signs of each thing that it says to the service: where it says it, and
// the digest of what it says.
func Said(method, path string, body []byte) []byte {
	d := core.DigestOf(body)
	return append([]byte(method+" "+path+"\n"), d[:]...)
}

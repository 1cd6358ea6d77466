// Package trust signs and checks: Ed25519 (RFC 8032) over a domain prefix, a
// zero byte and the message, so that a signature made for one purpose is never
// good for another.
package trust

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"slices"
	"strings"

	batch "github.com/oasisprotocol/curve25519-voi/primitives/ed25519"
	"github.com/oasisprotocol/curve25519-voi/primitives/ed25519/extra/cache"

	"zealousferry/core"
)

// Key is a private signing key. Behind it may stand those that it has taken the place of, the
// newest first: they sign nothing any more, and open what was sealed with them.
type Key struct {
	private ed25519.PrivateKey
	earlier []ed25519.PrivateKey
}

// Public is a key that checks signatures.
type Public []byte

// NewKey makes a key from the system's randomness.
func NewKey() (Key, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	return Key{private: private}, err
}

// Renewed makes a key that takes the place of this one.
func (k Key) Renewed() (Key, error) {
	n, err := NewKey()
	n.earlier = append([]ed25519.PrivateKey{k.private}, k.earlier...)
	return n, err
}

// Before is the key that this one has taken the place of, if it has.
func (k Key) Before() (b Key, ok bool) {
	if len(k.earlier) == 0 {
		return b, false
	}
	return Key{private: k.earlier[0], earlier: k.earlier[1:]}, true
}

// Encode writes the key's seed for a file that only its owner can read, and in a line for each
// those of the keys before it.
func (k Key) Encode() string {
	text := base64.StdEncoding.EncodeToString(k.private.Seed())
	for _, e := range k.earlier {
		text += "\n" + base64.StdEncoding.EncodeToString(e.Seed())
	}
	return text
}

// DecodeKey reads what Encode wrote.
func DecodeKey(s string) (k Key, err error) {
	for i, line := range strings.Fields(s) {
		seed, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(seed) != ed25519.SeedSize {
			return Key{}, core.Fail(core.BadFile, "a key file holds %d bytes in base64, in a line for each key; line %d of this one does not", ed25519.SeedSize, i+1)
		}
		if private := ed25519.NewKeyFromSeed(seed); i == 0 {
			k.private = private
		} else {
			k.earlier = append(k.earlier, private)
		}
	}
	if k.private == nil {
		return Key{}, core.Fail(core.BadFile, "a key file holds %d bytes in base64; this one is empty", ed25519.SeedSize)
	}
	return k, nil
}

func keyFromSeed(seed []byte) Key { return Key{private: ed25519.NewKeyFromSeed(seed)} }

// Public gives the checking half.
func (k Key) Public() Public { return Public(k.private.Public().(ed25519.PublicKey)) }

// Sign signs the message for the domain.
func (k Key) Sign(domain string, message []byte) []byte {
	return ed25519.Sign(k.private, framed(domain, message))
}

// Verify tells whether the signature was made by this key for this domain.
func (p Public) Verify(domain string, message, signature []byte) bool {
	return len(p) == ed25519.PublicKeySize && verifier.VerifyWithOptions(batch.PublicKey(p), framed(domain, message), signature, likeStandard)
}

// verifier remembers the keys that came last, unfolded, and checks as crypto/ed25519 does, in half
// of its time.
var (
	verifier     = cache.NewVerifier(cache.NewLRUCache(1024))
	likeStandard = &batch.Options{Verify: batch.VerifyOptionsStdLib}
)

// Any are keys of which each may have signed: the one in force, and those before it.
type Any []Public

// Verify tells whether one of the keys has made the signature for this domain.
func (a Any) Verify(domain string, message, signature []byte) bool {
	return slices.ContainsFunc(a, func(p Public) bool { return p.Verify(domain, message, signature) })
}

// Batch are signatures that are checked together, which takes a third of the time of one by one
// (RFC 8032, section 8.2, with the cofactor). It says of all together whether they are right; which
// one is not, Verify says.
type Batch struct {
	of    *batch.BatchVerifier
	keys  map[string]*batch.ExpandedPublicKey
	added int
}

// Add puts a signature into the batch, if one key alone may have made it.
func (b *Batch) Add(keys Any, domain string, message, signature []byte) bool {
	if len(keys) != 1 || len(keys[0]) != ed25519.PublicKeySize || len(signature) != ed25519.SignatureSize {
		return false
	}
	if b.of == nil {
		b.of, b.keys = batch.NewBatchVerifier(), map[string]*batch.ExpandedPublicKey{}
	}
	key, ok := b.keys[string(keys[0])]
	if !ok {
		key, _ = batch.NewExpandedPublicKey(batch.PublicKey(keys[0])) // none where it is no point of the curve
		b.keys[string(keys[0])] = key
	}
	if key == nil {
		return false
	}
	b.of.AddExpanded(key, framed(domain, message), signature)
	b.added++
	return true
}

// Right tells whether all of them were made by their keys.
func (b *Batch) Right() bool { return b.added == 0 || b.of.VerifyBatchOnly(rand.Reader) }

// ID is a short name of the key: the first 8 bytes of its SHA-256, in hex.
func (p Public) ID() string {
	sum := sha256.Sum256(p)
	return hex.EncodeToString(sum[:8])
}

func framed(domain string, message []byte) []byte {
	b := make([]byte, 0, len(domain)+1+len(message))
	b = append(b, domain...)
	b = append(b, 0)
	return append(b, message...)
}

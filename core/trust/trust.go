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

	"zealousferry/core"
)

// Key is a private signing key.
type Key struct{ private ed25519.PrivateKey }

// Public is a key that checks signatures.
type Public []byte

// NewKey makes a key from the system's randomness.
func NewKey() (Key, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	return Key{private}, err
}

// Encode writes the key's seed for a file that only its owner can read.
func (k Key) Encode() string { return base64.StdEncoding.EncodeToString(k.private.Seed()) }

// DecodeKey reads what Encode wrote.
func DecodeKey(s string) (Key, error) {
	seed, err := base64.StdEncoding.DecodeString(s)
	if err != nil || len(seed) != ed25519.SeedSize {
		return Key{}, core.Fail(core.BadFile, "a key file holds %d bytes in base64; this one does not", ed25519.SeedSize)
	}
	return keyFromSeed(seed), nil
}

func keyFromSeed(seed []byte) Key { return Key{ed25519.NewKeyFromSeed(seed)} }

// Public gives the checking half.
func (k Key) Public() Public { return Public(k.private.Public().(ed25519.PublicKey)) }

// Sign signs the message for the domain.
func (k Key) Sign(domain string, message []byte) []byte {
	return ed25519.Sign(k.private, framed(domain, message))
}

// Verify tells whether the signature was made by this key for this domain.
func (p Public) Verify(domain string, message, signature []byte) bool {
	return len(p) == ed25519.PublicKeySize && ed25519.Verify(ed25519.PublicKey(p), framed(domain, message), signature)
}

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

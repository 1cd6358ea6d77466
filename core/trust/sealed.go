package trust

import (
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"

	"golang.org/x/crypto/chacha20poly1305"

	"zealousferry/core"
)

// SealFor seals a value under a key that is derived from this one (HKDF, RFC 5869) for a
// purpose, bound to what it stands for: XChaCha20-Poly1305, its nonce in front.
func (k Key) SealFor(purpose, bound string, value []byte) ([]byte, error) {
	aead, err := derived(k.private, purpose)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, chacha20poly1305.NonceSizeX)
	rand.Read(nonce)
	return aead.Seal(nonce, nonce, value, []byte(bound)), nil
}

// derived is the cipher under the key for a purpose.
func derived(from ed25519.PrivateKey, purpose string) (cipher.AEAD, error) {
	key, err := hkdf.Key(sha256.New, from.Seed(), nil, purpose, chacha20poly1305.KeySize)
	if err != nil {
		return nil, err
	}
	return chacha20poly1305.NewX(key)
}

// KeyFor derives a key for a purpose, bound to what it stands for. Whoever has it can open
// what was sealed with it, and derive no other. It stays the same when the key is renewed: what is
// sealed with it lies in backups and records, which nobody writes anew.
func (k Key) KeyFor(purpose, bound string) ([]byte, error) {
	oldest := k.private
	if n := len(k.earlier); n > 0 {
		oldest = k.earlier[n-1]
	}
	return hkdf.Key(sha256.New, oldest.Seed(), nil, purpose+" "+bound, chacha20poly1305.KeySize)
}

// OwnFor derives a key for a purpose that ends with this one.
func (k Key) OwnFor(purpose, bound string) ([]byte, error) {
	return hkdf.Key(sha256.New, k.private.Seed(), nil, purpose+" "+bound, chacha20poly1305.KeySize)
}

// OpenFor opens what SealFor has sealed with this key or one before it.
func (k Key) OpenFor(purpose, bound string, sealed []byte) ([]byte, error) {
	if len(sealed) < chacha20poly1305.NonceSizeX {
		return nil, core.Fail(core.BadFile, "what was sealed has %d bytes, and is cut off", len(sealed))
	}
	for _, p := range append([]ed25519.PrivateKey{k.private}, k.earlier...) {
		aead, err := derived(p, purpose)
		if err != nil {
			return nil, err
		}
		if value, err := aead.Open(nil, sealed[:chacha20poly1305.NonceSizeX], sealed[chacha20poly1305.NonceSizeX:], []byte(bound)); err == nil {
			return value, nil
		}
	}
	return nil, core.Fail(core.BadFile, "%s cannot be opened: it was sealed under another key of the service, or for something else", bound).
		Do("A lead enters it again.")
}

package settings

import (
	"crypto/rand"
	"encoding/base64"

	"golang.org/x/crypto/chacha20poly1305"

	"zealousferry/core"
)

// KeyBytes is the length of a safe's key.
const KeyBytes = chacha20poly1305.KeySize

// Safe keeps secret values: sealed with XChaCha20-Poly1305 under the key of a run, so that
// neither its journal nor what is made of it tells them.
type Safe []byte

// Seal seals the value of a setting.
func (s Safe) Seal(name, value string) (string, error) {
	a, err := chacha20poly1305.NewX(s)
	if err != nil {
		return "", err
	}
	nonce := make([]byte, a.NonceSize(), a.NonceSize()+len(value)+a.Overhead())
	rand.Read(nonce)
	return base64.RawStdEncoding.EncodeToString(a.Seal(nonce, nonce, []byte(value), nil)), nil
}

// Open opens what was sealed.
func (s Safe) Open(name, sealed string) (string, error) {
	a, err := chacha20poly1305.NewX(s)
	if err != nil {
		return "", err
	}
	raw, err := base64.RawStdEncoding.DecodeString(sealed)
	if err != nil || len(raw) < a.NonceSize() {
		return "", core.Fail(core.BadFile, "what was sealed of setting %s cannot be read", name)
	}
	plain, err := a.Open(nil, raw[:a.NonceSize()], raw[a.NonceSize():], nil)
	if err != nil {
		return "", core.Fail(core.NotAllowed, "setting %s was sealed under another key", name)
	}
	return string(plain), nil
}

// letters of a secret that is made: none that are taken for one another.
const letters = "abcdefghjkmnpqrstuvwxyz23456789"

// Make makes a secret: four groups of four letters and digits, 79 bits.
func Make() string {
	var out []byte
	for b := make([]byte, 1); len(out) < 19; {
		if len(out)%5 == 4 {
			out = append(out, '-')
			continue
		}
		rand.Read(b)
		if int(b[0]) < 256/len(letters)*len(letters) { // no letter is likelier than another
			out = append(out, letters[int(b[0])%len(letters)])
		}
	}
	return string(out)
}

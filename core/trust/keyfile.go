package trust

import (
	"crypto/rand"
	"encoding/json"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/chacha20poly1305"

	"zealousferry/core"
	"zealousferry/core/words"
)

// keyFile is a signing key at rest: its seed sealed by XChaCha20-Poly1305 (RFC
// 8439, with a 24-byte nonce) under a key that Argon2id (RFC 9106) makes from a
// passphrase. The name and the public half are readable and sealed along.
type keyFile struct {
	Format int    `json:"ferry-key"`
	Name   string `json:"name"`
	Public []byte `json:"public"`
	Time   uint32 `json:"time"`
	Memory uint32 `json:"memory"` // KiB
	Salt   []byte `json:"salt"`
	Nonce  []byte `json:"nonce"`
	Sealed []byte `json:"sealed"`
}

// Costs of a guess at the passphrase, and the most that a file may ask of us.
const (
	sealTime, sealMemory         = 3, 64 << 10
	mostSealTime, mostSealMemory = 16, 1 << 20
)

const shortestPassphrase = 10

// Seal writes a key for a file.
func (k Key) Seal(name, passphrase string) ([]byte, error) {
	if len(passphrase) < shortestPassphrase {
		return nil, core.Fail(core.NotAllowed, "a passphrase has at least %d characters, this has %d", shortestPassphrase, len(passphrase))
	}
	f := keyFile{Format: 1, Name: name, Public: k.Public(), Time: sealTime, Memory: sealMemory, Salt: make([]byte, 16), Nonce: make([]byte, chacha20poly1305.NonceSizeX)}
	rand.Read(f.Salt)
	rand.Read(f.Nonce)
	aead, err := chacha20poly1305.NewX(argon2.IDKey([]byte(passphrase), f.Salt, f.Time, f.Memory, 1, 32))
	if err != nil {
		return nil, err
	}
	f.Sealed = aead.Seal(nil, f.Nonce, k.private.Seed(), f.open())
	return json.MarshalIndent(f, "", "  ")
}

// open is what is readable in the file; changing it breaks the seal.
func (f keyFile) open() []byte { return append(append([]byte(f.Name), 0), f.Public...) }

// ReadKeyFile reads the readable half of a key file.
func ReadKeyFile(data []byte) (name string, public Public, err error) {
	f, err := readKeyFile(data)
	return f.Name, f.Public, err
}

func readKeyFile(data []byte) (f keyFile, err error) {
	if len(data) > 1<<16 || json.Unmarshal(data, &f) != nil || f.Format != 1 {
		return f, core.Fail(core.BadFile, "this is not a key file of ferry, format 1")
	}
	if f.Time == 0 || f.Time > mostSealTime || f.Memory < 8 || f.Memory > mostSealMemory || len(f.Nonce) != chacha20poly1305.NonceSizeX || len(f.Salt) < 8 {
		return f, core.Fail(core.BadFile, "the key file asks for impossible costs")
	}
	return f, nil
}

// Unseal opens a key file with its passphrase.
func Unseal(data []byte, passphrase string) (Key, error) {
	f, err := readKeyFile(data)
	if err != nil {
		return Key{}, err
	}
	aead, err := chacha20poly1305.NewX(argon2.IDKey([]byte(passphrase), f.Salt, f.Time, f.Memory, 1, 32))
	if err != nil {
		return Key{}, err
	}
	seed, err := aead.Open(nil, f.Nonce, f.Sealed, f.open())
	if err != nil || len(seed) != 32 {
		return Key{}, core.Fail(core.NotAllowed, "the passphrase is wrong, or the key file was changed").Go(words.KeyMake().To("Try again; after that, make a new key"))
	}
	return keyFromSeed(seed), nil
}

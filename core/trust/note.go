package trust

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"

	"golang.org/x/mod/sumdb/note"

	"zealousferry/core"
)

// maxNote bounds a signed note's text.
const maxNote = 4096

// noteAlgorithm names Ed25519 in the hash of a note's key.
const noteAlgorithm = 1

// noteKey is one half of a key as signed notes want it: a name, and a hash that tells which of
// several keys of that name has signed.
type noteKey struct {
	name    string
	public  Public
	private ed25519.PrivateKey
}

func (n noteKey) Name() string { return n.name }

// KeyHash is the first four bytes of the SHA-256 of name, newline, algorithm and public key.
func (n noteKey) KeyHash() uint32 {
	h := sha256.Sum256(append([]byte(n.name+"\n"+string(rune(noteAlgorithm))), n.public...))
	return binary.BigEndian.Uint32(h[:4])
}

func (n noteKey) Sign(text []byte) ([]byte, error) { return ed25519.Sign(n.private, text), nil }

func (n noteKey) Verify(text, signature []byte) bool {
	return len(n.public) == ed25519.PublicKeySize && ed25519.Verify(ed25519.PublicKey(n.public), text, signature)
}

// SignNote signs a text under a name, in the form of signed notes: the text, an empty line, and
// a line with name and signature. The text must end with a newline.
func (k Key) SignNote(name, text string) ([]byte, error) {
	return note.Sign(&note.Note{Text: text}, noteKey{name, k.Public(), k.private})
}

// OpenNote gives the text of a note that this key has signed under the name.
func (p Public) OpenNote(name string, signed []byte) (string, error) {
	if len(signed) > maxNote {
		return "", core.Fail(core.BadFile, "a signed note has at most %d bytes, this has %d", maxNote, len(signed))
	}
	n, err := note.Open(signed, note.VerifierList(noteKey{name: name, public: p}))
	if err != nil {
		return "", core.Fail(core.BadFile, "key %s has not signed this note as %s: %w", p.ID(), name, err)
	}
	return n.Text, nil
}

package trust

import (
	"crypto/ed25519"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"zealousferry/core"
)

// Purposes of a detached signature; they stand in its protected header as typ, so
// that one is never good for the other.
const (
	PurposePack    = "ferry-pack"
	PurposeRelease = "ferry-release"
)

// maxJWS bounds a signature's text.
const maxJWS = 4096

// SignDetached makes a JSON Web Signature (RFC 7515, appendix F: content
// detached; RFC 8037: EdDSA) of the content. The key is named by its ID as kid.
func (k Key) SignDetached(purpose string, content []byte) (string, error) {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: k.private},
		(&jose.SignerOptions{}).WithType(jose.ContentType(purpose)).WithHeader("kid", k.Public().ID()))
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(content)
	if err != nil {
		return "", err
	}
	return signed.DetachedCompactSerialize()
}

// KeyID reads which key a detached signature names, without believing it.
func KeyID(jws string) (string, error) {
	s, err := parse(jws, nil)
	if err != nil {
		return "", err
	}
	return s.Signatures[0].Protected.KeyID, nil
}

// VerifyDetached checks a signature by this key. Any algorithm but EdDSA, and a
// key that the signature itself brings, are refused.
func (p Public) VerifyDetached(purpose string, content []byte, jws string) error {
	s, err := parse(jws, content)
	if err != nil {
		return err
	}
	h := s.Signatures[0].Protected
	if h.JSONWebKey != nil {
		return core.Fail(core.BadFile, "the signature brings its own key, which proves nothing")
	}
	if typ, _ := h.ExtraHeaders[jose.HeaderType].(string); typ != purpose {
		return core.Fail(core.BadFile, "the signature is for %q; expected %q", typ, purpose)
	}
	if h.KeyID != p.ID() {
		return core.Fail(core.BadFile, "the signature names key %s; this is key %s", h.KeyID, p.ID())
	}
	if len(p) != ed25519.PublicKeySize {
		return core.Fail(core.BadFile, "a public key has %d bytes, this has %d", ed25519.PublicKeySize, len(p))
	}
	if _, err := s.Verify(ed25519.PublicKey(p)); err != nil {
		return core.Fail(core.BadFile, "the signature does not belong to this content: one of them was changed")
	}
	return nil
}

func parse(jws string, content []byte) (*jose.JSONWebSignature, error) {
	if len(jws) > maxJWS {
		return nil, core.Fail(core.BadFile, "a signature has at most %d characters, this has %d", maxJWS, len(jws))
	}
	if content == nil {
		content = []byte{}
	}
	s, err := jose.ParseDetached(strings.TrimSpace(jws), content, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return nil, core.Fail(core.BadFile, "the signature cannot be read; expected a detached JWS with EdDSA: %w", err)
	}
	if len(s.Signatures) != 1 {
		return nil, core.Fail(core.BadFile, "expected one signature, came %d", len(s.Signatures))
	}
	return s, nil
}

// Trusted is a key that the team has decided to believe.
type Trusted struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Public  Public     `json:"public"`
	From    time.Time  `json:"from"`
	Until   *time.Time `json:"until,omitempty"`
	Revoked *time.Time `json:"revoked,omitempty"`
	Reason  string     `json:"reason,omitempty"`
}

// Bars says why a signature that was made or first seen at the time does not
// count; without text if it counts. A revoked key counts for nothing, whenever it signed:
// nobody can tell when a stolen key was used.
func (t Trusted) Bars(at time.Time) core.Said {
	const day = "2 January 2006"
	switch {
	case t.Revoked != nil:
		return core.Say("The signature does not count: its key %s was revoked on %s: %s.", t.Name, t.Revoked.UTC().Format(day), strings.TrimSuffix(t.Reason, "."))
	case at.Before(t.From):
		return core.Say("The signature does not count: its key %s is valid from %s on, it is of %s.", t.Name, t.From.UTC().Format(day), at.UTC().Format(day))
	case t.Until != nil && at.After(*t.Until):
		return core.Say("The signature does not count: its key %s was valid until %s, it is of %s.", t.Name, t.Until.UTC().Format(day), at.UTC().Format(day))
	}
	return core.Said{}
}

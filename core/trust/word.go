package trust

import (
	"encoding/json"
	"time"

	"zealousferry/core"
)

// How somebody vouches for a release.
const (
	BySignature = "signature" // of the release's document
	ByPack      = "pack"      // of the manifest of a pack that names the document
	ByPeople    = "people"    // leads of the team, by name
)

// Word is who vouches for a release, as whoever writes it is shown it.
type Word struct {
	How       string      `json:"how"`
	Key       string      `json:"key,omitempty"`       // id of the key that has signed
	Signature string      `json:"signature,omitempty"` // detached JWS
	Signed    core.Digest `json:"signed,omitzero"`     // of what was signed
	Dated     time.Time   `json:"dated"`
	People    []string    `json:"people,omitempty"` // ids of those who vouch by name
	Reason    string      `json:"reason,omitempty"`
}

// Check holds a signature against keys: signed is what it is of. People's words have none.
func (w *Word) Check(keys []Trusted, signed []byte) error {
	purpose := map[string]string{BySignature: PurposeRelease, ByPack: PurposePack}[w.How]
	if purpose == "" {
		return core.Fail(core.BadFile, "%q is no signature that could be checked", w.How)
	}
	for _, k := range keys {
		if k.ID != w.Key {
			continue
		}
		if err := k.Public.VerifyDetached(purpose, signed, w.Signature); err != nil {
			return err
		}
		if why := k.Bars(w.Dated); why.Text != "" {
			return why.Fail(core.NotAllowed)
		}
		return nil
	}
	return core.Fail(core.NotAllowed, "it is signed by key %s, which is not among the %d keys that are held here", w.Key, len(keys))
}

// keysDomain is what a list of keys is signed for.
const keysDomain = "zealous-ferry/keys/1"

// KeyList is the keys that a team trusts, at some time. The number grows with every change.
type KeyList struct {
	Number uint64    `json:"number"`
	Keys   []Trusted `json:"keys"`
}

// SignedKeys is a list as the service says it.
type SignedKeys struct {
	List      json.RawMessage `json:"list"`
	Signature []byte          `json:"signature"`
}

// SignKeys signs a list.
func (k Key) SignKeys(l KeyList) (SignedKeys, error) {
	raw, err := json.Marshal(l)
	return SignedKeys{raw, k.Sign(keysDomain, raw)}, err
}

// Open gives the list, if this key has signed it.
func (s SignedKeys) Open(by Public) (l KeyList, err error) {
	if !by.Verify(keysDomain, s.List, s.Signature) {
		return l, core.Fail(core.NotAllowed, "the list of trusted keys is not signed by key %s", by.ID())
	}
	if err := json.Unmarshal(s.List, &l); err != nil {
		return l, core.Fail(core.BadFile, "the list of trusted keys cannot be read: %w", err)
	}
	return l, nil
}

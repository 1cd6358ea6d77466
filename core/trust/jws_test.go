package trust

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"zealousferry/core"
)

// TestRFC8037Vector is appendix A.4 of RFC 8037, with the content detached: the
// signature is right, but it names no purpose and no key of ours.
func TestRFC8037Vector(t *testing.T) {
	x, _ := base64.RawURLEncoding.DecodeString("11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo")
	const content = "Example of Ed25519 signing"
	const jws = "eyJhbGciOiJFZERTQSJ9..hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg"
	s, err := parse(jws, []byte(content))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Verify(ed25519.PublicKey(x)); err != nil {
		t.Errorf("the vector of the standard: %v", err)
	}
	if err := Public(x).VerifyDetached(PurposePack, []byte(content), jws); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), `expected "ferry-pack"`) {
		t.Errorf("a signature without purpose: %v", err)
	}
}

func TestDetachedSignatures(t *testing.T) {
	key, _ := NewKey()
	other, _ := NewKey()
	content := []byte("manifest")
	jws, err := key.SignDetached(PurposePack, content)
	if err != nil {
		t.Fatal(err)
	}
	if parts := strings.Split(jws, "."); len(parts) != 3 || parts[1] != "" {
		t.Errorf("not detached: %s", jws)
	}
	if id, err := KeyID(jws); err != nil || id != key.Public().ID() {
		t.Errorf("kid %s %v", id, err)
	}
	if err := key.Public().VerifyDetached(PurposePack, content, jws); err != nil {
		t.Error(err)
	}
	// A signature that brings a key of its own, or says that it needs none.
	own, _ := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: other.private}, (&jose.SignerOptions{EmbedJWK: true}).WithType(PurposePack).WithHeader("kid", key.Public().ID()))
	signed, _ := own.Sign(content)
	brings, _ := signed.DetachedCompactSerialize()
	none := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none","typ":"ferry-pack","kid":"`+key.Public().ID()+`"}`)) + ".."
	hs, _ := jose.NewSigner(jose.SigningKey{Algorithm: jose.HS256, Key: []byte(key.Public())}, (&jose.SignerOptions{}).WithType(PurposePack).WithHeader("kid", key.Public().ID()))
	mac, _ := hs.Sign(content)
	macText, _ := mac.DetachedCompactSerialize()
	for name, x := range map[string]struct {
		key     Public
		purpose string
		content string
		jws     string
	}{
		"other content":      {key.Public(), PurposePack, "manifesto", jws},
		"other key":          {other.Public(), PurposePack, "manifest", jws},
		"other purpose":      {key.Public(), PurposeRelease, "manifest", jws},
		"brings its own key": {key.Public(), PurposePack, "manifest", brings},
		"no algorithm":       {key.Public(), PurposePack, "manifest", none},
		"a MAC of the key":   {key.Public(), PurposePack, "manifest", macText},
		"cut":                {key.Public(), PurposePack, "manifest", jws[:len(jws)-3]},
		"nothing":            {key.Public(), PurposePack, "manifest", ""},
		"very long":          {key.Public(), PurposePack, "manifest", strings.Repeat("a", 5000)},
	} {
		if err := x.key.VerifyDetached(x.purpose, []byte(x.content), x.jws); core.KindOf(err) != core.BadFile {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestATrustedKeyHasItsTime(t *testing.T) {
	day := func(n int) *time.Time { d := time.Date(2026, 11, n, 0, 0, 0, 0, time.UTC); return &d }
	for name, x := range map[string]struct {
		key  Trusted
		at   time.Time
		bars string
	}{
		"in its time":   {Trusted{From: *day(1), Until: day(20)}, *day(10), ""},
		"without end":   {Trusted{From: *day(1)}, *day(30), ""},
		"before it":     {Trusted{From: *day(5)}, *day(1), "valid from 5 November 2026 on"},
		"after it":      {Trusted{From: *day(1), Until: day(20)}, *day(21), "was valid until 20 November 2026"},
		"revoked later": {Trusted{From: *day(1), Revoked: day(15), Reason: "laptop stolen"}, *day(2), "was revoked on 15 November 2026: laptop stolen."},
	} {
		if got := x.key.Bars(x.at).Text; (x.bars == "") != (got == "") || !strings.Contains(got, x.bars) {
			t.Errorf("%s: %q", name, got)
		}
	}
}

func TestKeyFiles(t *testing.T) {
	key, _ := NewKey()
	const phrase = "three grey gulls"
	data, err := key.Seal("Workshop", phrase)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(data), key.Encode()) || strings.Contains(string(data), hex.EncodeToString(key.private.Seed())) {
		t.Fatal("the seed stands in the file")
	}
	if name, public, err := ReadKeyFile(data); err != nil || name != "Workshop" || public.ID() != key.Public().ID() {
		t.Errorf("%s %v", name, err)
	}
	again, err := Unseal(data, phrase)
	if err != nil || again.Encode() != key.Encode() {
		t.Errorf("%v", err)
	}
	if _, err := Unseal(data, "three grey gull"); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a wrong passphrase: %v", err)
	}
	if _, err := key.Seal("Workshop", "short"); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a short passphrase: %v", err)
	}
	var f keyFile
	json.Unmarshal(data, &f)
	change := func(how func(*keyFile)) []byte {
		g := f
		how(&g)
		b, _ := json.Marshal(g)
		return b
	}
	for name, b := range map[string][]byte{
		"another name":   change(func(g *keyFile) { g.Name = "Van" }),
		"another key":    change(func(g *keyFile) { g.Public = make([]byte, 32) }),
		"endless costs":  change(func(g *keyFile) { g.Memory = 1 << 31 }),
		"no costs":       change(func(g *keyFile) { g.Time = 0 }),
		"no nonce":       change(func(g *keyFile) { g.Nonce = nil }),
		"another format": change(func(g *keyFile) { g.Format = 2 }),
		"not a key file": []byte("hello"),
		"nothing":        nil,
	} {
		if _, err := Unseal(b, phrase); core.KindOf(err) == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

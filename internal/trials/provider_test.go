package trials

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/go-jose/go-jose/v4"

	"zealousferry/core/coretest"
	"zealousferry/internal/client"
	"zealousferry/internal/service/people"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// standIn is a small identity provider: discovery, an authorization endpoint that lets in
// whoever is at it, a token endpoint that checks PKCE and the client's secret, and its keys.
type standIn struct {
	*httptest.Server
	t   *testing.T
	key *ecdsa.PrivateKey

	mu     sync.Mutex
	codes  map[string]url.Values // what was asked for, by code
	who    map[string]any        // claims of who is at it
	change func(claims map[string]any, key *ecdsa.PrivateKey) *ecdsa.PrivateKey
}

func newStandIn(t *testing.T) *standIn {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s := &standIn{t: t, key: key, codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	s.Server = httptest.NewServer(mux)
	t.Cleanup(s.Close)
	give := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		give(w, map[string]any{"issuer": s.URL, "authorization_endpoint": s.URL + "/authorize", "token_endpoint": s.URL + "/token", "jwks_uri": s.URL + "/keys",
			"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		give(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &s.key.PublicKey, KeyID: "1", Algorithm: "ES256", Use: "sig"}}})
	})
	mux.HandleFunc("/authorize", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		if q.Get("client_id") != "ferry" || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || q.Get("nonce") == "" || !strings.Contains(q.Get("scope"), "openid") {
			http.Error(w, "this is no request of ours: "+r.URL.RawQuery, 400)
			return
		}
		s.mu.Lock()
		code := rand.Text()
		s.codes[code] = q
		s.mu.Unlock()
		http.Redirect(w, r, q.Get("redirect_uri")+"?"+url.Values{"code": {code}, "state": {q.Get("state")}}.Encode(), http.StatusFound)
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		q, ok := s.codes[r.FormValue("code")]
		delete(s.codes, r.FormValue("code"))
		name, encoded, _ := r.BasicAuth()
		secret, _ := url.QueryUnescape(encoded) // RFC 6749, section 2.3.1
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !ok || name != "ferry" || secret != "a secret of the client" || base64.RawURLEncoding.EncodeToString(sum[:]) != q.Get("code_challenge") || r.FormValue("redirect_uri") != q.Get("redirect_uri") {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(400)
			give(w, map[string]string{"error": "invalid_grant"})
			return
		}
		claims := map[string]any{"iss": s.URL, "aud": "ferry", "iat": time.Now().Unix(), "exp": time.Now().Add(time.Minute).Unix(), "nonce": q.Get("nonce")}
		for k, v := range s.who {
			claims[k] = v
		}
		key := s.key
		if s.change != nil {
			key = s.change(claims, key)
		}
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: "1"}}, nil)
		if err != nil {
			t.Error(err)
			return
		}
		raw, _ := json.Marshal(claims)
		signed, err := signer.Sign(raw)
		if err != nil {
			t.Error(err)
			return
		}
		text, _ := signed.CompactSerialize()
		give(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": text})
	})
	return s
}

// is says who is at it from now on.
func (s *standIn) is(subject, name, email string, verified bool, roles ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.who, s.change = map[string]any{"sub": subject, "name": name, "email": email, "email_verified": verified, "groups": roles}, nil
}

// withProvider is a world whose team has an identity provider.
func withProvider(t *testing.T) (*testkit.World, *standIn) {
	t.Helper()
	w, s := testkit.NewWorld(t), newStandIn(t)
	w.StopService()
	w.Provider = &people.Provider{Name: "Harbour sign-in", Issuer: s.URL, Client: "ferry", Secret: "a secret of the client", Claim: "groups",
		Roles: map[string][]string{"lead": {"bosses"}, "technician": {"hands", "deck"}, "viewer": {"guests"}}}
	if err := w.Provider.Check(); err != nil {
		t.Fatal(err)
	}
	w.StartService()
	return w, s
}

// journey goes to the provider and back, and gives what the browser would post.
func (s *standIn) journey(b *browsing) map[string]any {
	s.t.Helper()
	code, raw := b.call("POST", "/api/session/provider", nil)
	var d client.Departure
	if code != 200 || json.Unmarshal(raw, &d) != nil {
		s.t.Fatalf("%d %s", code, raw)
	}
	still := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := still.Get(d.Address)
	if err != nil {
		s.t.Fatal(err)
	}
	resp.Body.Close()
	back, err := resp.Location()
	if err != nil {
		s.t.Fatalf("the provider does not send back: %s", resp.Status)
	}
	if at := back.Scheme + "://" + back.Host + back.Path; at != b.base+"/sign-in" {
		s.t.Fatalf("the provider sends the browser to %s", at)
	}
	return map[string]any{"state": d.State, "provider": map[string]string{"code": back.Query().Get("code"), "state": back.Query().Get("state")}}
}

// TestAnIdentityProvider: who is named by the provider is signed in with the role that a claim
// gives, now and after the claim has changed; whoever was here before is known by a proven
// address, and by no other; an ended account stays ended; and what does not come whole from the
// provider to the browser that has begun is not believed.
func TestAnIdentityProvider(t *testing.T) {
	t.Parallel()
	w, s := withProvider(t)
	me := func(b *browsing) client.Person {
		t.Helper()
		var p client.Person
		if code, raw := b.call("GET", "/api/session", nil); code != 200 || json.Unmarshal(raw, &p) != nil {
			t.Fatalf("%d %s", code, raw)
		}
		return p
	}
	enter := func(want int) *browsing {
		t.Helper()
		b := &browsing{t: t, base: w.Base}
		if code, raw := b.call("POST", "/api/session", s.journey(b)); code != want {
			t.Fatalf("%d, want %d: %s", code, want, raw)
		}
		return b
	}
	s.is("u-1", "Edda Rooke", "edda@example.org", true, "deck", "choir")
	first := me(enter(200))
	if first.Name != "Edda Rooke" || first.Role != "technician" {
		t.Errorf("%+v", first)
	}
	s.is("u-1", "Edda Rooke", "edda@example.org", true, "guests", "bosses")
	if again := me(enter(200)); again.ID != first.ID || again.Role != "lead" {
		t.Errorf("with another claim: %+v", again)
	}
	s.is("u-1", "Edda Rooke", "edda@example.org", true, "choir")
	enter(403)

	// Somebody who is here already.
	invited, err := w.Lead.Invite(ctx, client.NewMember{Name: "Liv Ansgar", Role: "viewer", Email: "Liv@example.org"})
	if err != nil {
		t.Fatal(err)
	}
	s.is("u-2", "Liv from elsewhere", "liv@example.org", false, "guests")
	if p := me(enter(200)); p.ID == invited.Member.ID {
		t.Error("an address that nobody has proven counts")
	}
	s.is("u-3", "L. Ansgar", "liv@example.org", true, "hands")
	if p := me(enter(200)); p.ID != invited.Member.ID || p.Role != "technician" || p.Name != "Liv Ansgar" {
		t.Errorf("by a proven address: %+v", p)
	}
	if _, err := w.Lead.EndMember(ctx, "Liv Ansgar", client.Reason{Reason: "left"}); err != nil {
		t.Fatal(err)
	}
	enter(403)
	s.is("u-4", "Edda Rooke", "", false, "hands") // a name is no proof of anything
	b := &browsing{t: t, base: w.Base}
	if code, raw := b.call("POST", "/api/session", s.journey(b)); code == 200 {
		t.Errorf("another one of the same name: %s", raw)
	}

	// What is not believed.
	s.is("u-5", "Sunniva Dale II", "", false, "hands")
	refuse := func(what string, body map[string]any) {
		t.Helper()
		b := &browsing{t: t, base: w.Base}
		if code, raw := b.call("POST", "/api/session", body); code != 403 || b.cookie != "" {
			t.Errorf("%s: %d %s", what, code, raw)
		}
	}
	good := s.journey(&browsing{t: t, base: w.Base})
	other := s.journey(&browsing{t: t, base: w.Base})
	refuse("the state of another browser", map[string]any{"state": good["state"], "provider": other["provider"]})
	refuse("no state", map[string]any{"provider": good["provider"]})
	refuse("a state that nobody has sealed", map[string]any{"state": base64.StdEncoding.EncodeToString([]byte("{}")), "provider": good["provider"]})
	b = &browsing{t: t, base: w.Base}
	if code, raw := b.call("POST", "/api/session", good); code != 200 {
		t.Errorf("the good one: %d %s", code, raw)
	}
	refuse("a code that was used", good)
	stranger, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func(map[string]any, *ecdsa.PrivateKey) *ecdsa.PrivateKey{
		"another key": func(_ map[string]any, _ *ecdsa.PrivateKey) *ecdsa.PrivateKey { return stranger },
		"another issuer": func(c map[string]any, k *ecdsa.PrivateKey) *ecdsa.PrivateKey {
			c["iss"] = "https://example.org"
			return k
		},
		"another audience": func(c map[string]any, k *ecdsa.PrivateKey) *ecdsa.PrivateKey { c["aud"] = "somebody"; return k },
		"another nonce":    func(c map[string]any, k *ecdsa.PrivateKey) *ecdsa.PrivateKey { c["nonce"] = "n"; return k },
		"an old token": func(c map[string]any, k *ecdsa.PrivateKey) *ecdsa.PrivateKey {
			c["exp"] = time.Now().Add(-time.Hour).Unix()
			return k
		},
		"no role": func(c map[string]any, k *ecdsa.PrivateKey) *ecdsa.PrivateKey {
			c["groups"] = "bosses-of-others"
			return k
		},
	} {
		s.mu.Lock()
		s.change = change
		s.mu.Unlock()
		refuse(what, s.journey(&browsing{t: t, base: w.Base}))
	}

	db := w.DB.Open(t, w.DB.Root)
	// Whoever only tries waits, and the audit log does not grow by it.
	for i := range 30 {
		(&browsing{t: t, base: w.Base}).call("POST", "/api/session", map[string]any{"state": fmt.Sprint("x", i), "provider": good["provider"]})
	}
	if code, raw := (&browsing{t: t, base: w.Base}).call("POST", "/api/session", map[string]any{"state": "y", "provider": good["provider"]}); code != 409 || !strings.Contains(string(raw), "Wait") {
		t.Errorf("after forty tries: %d %s", code, raw)
	}
	if _, err := db.ExecContext(ctx, `DELETE FROM sign_in_failed`); err != nil {
		t.Fatal(err)
	}

	// Whom the provider means is a row that counts only if the service has written it.
	s.is("u-5", "Sunniva Dale II", "", false, "hands")
	if _, err := db.ExecContext(ctx, `UPDATE person_subject SET person = (SELECT id FROM person WHERE name = 'Imre Kolding') WHERE subject = 'u-5'`); err != nil {
		t.Fatal(err)
	}
	b = &browsing{t: t, base: w.Base}
	if code, raw := b.call("POST", "/api/session", s.journey(b)); code == 200 || !strings.Contains(string(raw), "behind the service's back") {
		t.Errorf("a row that was changed: %d %s", code, raw)
	}

	l := commandLine(t, w, "lead")
	log := l.must(0, "audit", "log")
	told(t, log, "by the identity provider", "Edda Rooke: was technician, is lead, by Harbour sign-in", "Liv Ansgar, by the address liv@example.org, to Harbour sign-in")
}

// TestTheIdentityProviderInTheConsole: the button, the way there and back, and where one wanted to
// go; nothing of the answer stays in the address.
func TestTheIdentityProviderInTheConsole(t *testing.T) {
	t.Parallel()
	w, s := withProvider(t)
	s.is("u-1", "Edda Rooke", "edda@example.org", true, "hands")
	b, err := browser.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	tab, err := b.Tab(1280, 800, false)
	if err != nil {
		t.Fatal(err)
	}
	var text, search string
	if err := tab.Do(coretest.Patience, chromedp.Navigate(w.Base+"/sign-in?to=/units"), chromedp.WaitVisible(`[data-provider]`), chromedp.Text(`[data-provider]`, &text), chromedp.Click(`[data-provider]`),
		browser.Until(`location.pathname === "/units"`), chromedp.Evaluate(`location.search`, &search)); err != nil {
		t.Fatal(err, tab.Wrong())
	}
	if !strings.Contains(text, "Harbour sign-in") || search != "" {
		t.Errorf("%q %q", text, search)
	}
	p, err := w.Lead.People(ctx)
	if err != nil || !strings.Contains(strings.Join(names(p), " "), "Edda Rooke") {
		t.Errorf("%v %v", names(p), err)
	}
}

func names(p client.People) (all []string) {
	for _, x := range p.People {
		all = append(all, x.Name)
	}
	return all
}

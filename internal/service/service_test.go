package service_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit/database"
)

var ctx = context.Background()

// desk is a service on a database of its own, with a clock that the test moves.
type desk struct {
	t     *testing.T
	db    *database.Database
	store *store.Store
	clock *coretest.Clock
	http  *httptest.Server
	log   *strings.Builder
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	d := &desk{t: t, db: database.New(t, false), clock: coretest.NewClock(time.Now()), log: &strings.Builder{}}
	var err error
	if d.store, err = store.Open(ctx, d.db.Serve); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.store.Close() })
	key, _ := trust.NewKey()
	pages := fstest.MapFS{"index.html": {Data: []byte(`<script nonce="FERRY-NONCE"></script>`)}, "assets/a.js": {Data: []byte("1")}, "ferry.svg": {Data: []byte("<svg/>")}}
	log := slog.New(slog.NewTextHandler(d.log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	d.http = httptest.NewServer(service.New(d.store, key, pages, d.clock, log, false).Handler())
	t.Cleanup(d.http.Close)
	return d
}

func (d *desk) person(name, role, password string) string {
	d.t.Helper()
	p := store.Person{ID: store.NewID(), Name: name, Role: role}
	if password != "" {
		p.Password = sql.NullString{String: service.HashPassword(password), Valid: true}
	}
	if err := d.store.PutPerson(ctx, p); err != nil {
		d.t.Fatal(err)
	}
	text, digest := service.Secret()
	if err := d.store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretToken, Person: sql.NullString{String: p.ID, Valid: true}}); err != nil {
		d.t.Fatal(err)
	}
	return text
}

// call sends JSON and decodes the answer; header is NAME: VALUE.
func (d *desk) call(method, path, body string, header ...string) (*http.Response, string) {
	d.t.Helper()
	req, err := http.NewRequest(method, d.http.URL+path, strings.NewReader(body))
	if err != nil {
		d.t.Fatal(err)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for _, h := range header {
		name, value, _ := strings.Cut(h, ": ")
		req.Header.Set(name, value)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		d.t.Fatal(err)
	}
	raw, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	return resp, string(raw)
}

func TestSignInByPassword(t *testing.T) {
	d := newDesk(t)
	d.person("Imre Kolding", service.Lead, "a long tide table")
	d.person("Sunniva Dale", service.Technician, "")
	for name, x := range map[string]struct {
		body string
		want int
	}{
		"right":               {`{"name":"Imre Kolding","password":"a long tide table"}`, 200},
		"wrong":               {`{"name":"Imre Kolding","password":"a short tide table"}`, 403},
		"nobody of that name": {`{"name":"Nobody","password":"a long tide table"}`, 403},
		"has no password":     {`{"name":"Sunniva Dale","password":""}`, 403},
		"has none, nobody's":  {`{"name":"Sunniva Dale","password":"nobody"}`, 403},
	} {
		resp, raw := d.call("POST", "/api/session", x.body)
		if resp.StatusCode != x.want {
			t.Errorf("%s: %d %s", name, resp.StatusCode, raw)
		}
		if x.want != 200 {
			continue
		}
		cookie := resp.Header.Get("Set-Cookie")
		for _, must := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
			if !strings.Contains(cookie, must) {
				t.Errorf("the cookie lacks %s: %s", must, cookie)
			}
		}
		session := strings.Split(cookie, ";")[0]
		if resp, raw := d.call("GET", "/api/session", "", "Cookie: "+session); resp.StatusCode != 200 || !strings.Contains(raw, "Imre Kolding") {
			t.Errorf("the session: %d %s", resp.StatusCode, raw)
		}
		if resp, _ := d.call("GET", "/api/session", "", "Authorization: Bearer "+strings.TrimPrefix(session, "ferry_session=")); resp.StatusCode != 401 {
			t.Errorf("a session's secret is good as a token: %d", resp.StatusCode)
		}
		d.clock.Move(13 * time.Hour)
		if resp, _ := d.call("GET", "/api/session", "", "Cookie: "+session); resp.StatusCode != 401 {
			t.Errorf("after 13 hours: %d", resp.StatusCode)
		}
	}
	if strings.Contains(d.log.String(), "tide table") {
		t.Error("a password stands in the log")
	}
}

func TestASignInCodeIsGoodOnceAndForTenMinutes(t *testing.T) {
	d := newDesk(t)
	token := d.person("Sunniva Dale", service.Technician, "")
	code := func() string {
		var c client.Code
		_, raw := d.call("POST", "/api/session/codes", "", "Authorization: Bearer "+token)
		if err := json.Unmarshal([]byte(raw), &c); err != nil || c.Code == "" {
			t.Fatal(raw)
		}
		return c.Code
	}
	first := code()
	if resp, raw := d.call("POST", "/api/session", `{"code":"`+first+`"}`); resp.StatusCode != 200 {
		t.Fatal(raw)
	}
	if resp, raw := d.call("POST", "/api/session", `{"code":"`+first+`"}`); resp.StatusCode != 403 || !strings.Contains(raw, "used already or is too old") {
		t.Errorf("a second time: %d %s", resp.StatusCode, raw)
	}
	late := code()
	d.clock.Move(11 * time.Minute)
	if resp, _ := d.call("POST", "/api/session", `{"code":"`+late+`"}`); resp.StatusCode != 403 {
		t.Errorf("after 11 minutes: %d", resp.StatusCode)
	}
	if strings.Contains(d.log.String(), first) {
		t.Error("a code stands in the log")
	}
}

func TestOtherSitesCannotUseASession(t *testing.T) {
	d := newDesk(t)
	token := d.person("Imre Kolding", service.Lead, "")
	resp, _ := d.call("POST", "/api/benches/codes", "", "Authorization: Bearer "+token, "Sec-Fetch-Site: cross-site")
	if resp.StatusCode != 403 {
		t.Errorf("from another site: %d", resp.StatusCode)
	}
	if resp, raw := d.call("POST", "/api/benches/codes", "", "Authorization: Bearer "+token, "Sec-Fetch-Site: same-origin"); resp.StatusCode != 200 {
		t.Errorf("from our own: %d %s", resp.StatusCode, raw)
	}
}

// Every call but four asks who is there before it reads anything, and lets in no lesser role
// than it says.
func TestEveryCallAsksForARole(t *testing.T) {
	d := newDesk(t)
	tokens := map[string]string{"viewer": d.person("Ottoline Marsk", service.Viewer, ""), "technician": d.person("Sunniva Dale", service.Technician, ""), "lead": d.person("Imre Kolding", service.Lead, "")}
	rank := map[string]int{"viewer": 1, "technician": 2, "lead": 3}
	open := map[string]bool{"sign-in": true, "enrol": true, "ask-machine": true, "machine-state": true}
	variable := regexp.MustCompile(`\{[^}]+\}`)
	seen := 0
	for path, item := range service.Describe().Paths {
		for method, o := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "PUT": item.Put, "DELETE": item.Delete} {
			if o == nil || open[o.OperationID] {
				continue
			}
			seen++
			at := variable.ReplaceAllString(strings.NewReplacer("{job}", "7", "{second}", "7", "{bulletin}", "7", "{offer}", "7").Replace(path), "01930000-0000-7000-8000-00000000dead")
			if o.OperationID == "fit" || o.OperationID == "get-card" || o.OperationID == "print-card" || o.OperationID == "list-checks" || o.OperationID == "get-asked" {
				at += "?at=x"
			}
			if o.OperationID == "convert-image" {
				at += "?to=raw"
			}
			if o.OperationID == "get-profile" {
				at += "?kind=site&of=x"
			}
			body := "" // nothing of it is read before the role is known: what is sent is no JSON
			if method == "POST" || method == "PUT" {
				body = "{"
			}
			if resp, raw := d.call(method, at, body); resp.StatusCode != 401 {
				t.Errorf("%s %s without anybody: %d %.120s", method, path, resp.StatusCode, raw)
			}
			need := strings.TrimSuffix(strings.TrimPrefix(o.Description, "Role: "), ".")
			for role, token := range tokens {
				if method == "DELETE" {
					continue // signing out ends the token that the others need
				}
				resp, raw := d.call(method, at, body, "Authorization: Bearer "+token)
				refused := resp.StatusCode == 403
				if want := need == "bench" || rank[role] < rank[need]; want != refused {
					t.Errorf("%s %s as %s (needs %s): %d %.120s", method, path, role, need, resp.StatusCode, raw)
				}
			}
		}
	}
	if seen < 30 {
		t.Errorf("only %d calls", seen)
	}
}

func TestPagesAreServedWithANonceAndNothingElse(t *testing.T) {
	d := newDesk(t)
	nonces := map[string]bool{}
	for _, path := range []string{"/", "/units/Q-1", "/runs/x"} {
		resp, raw := d.call("GET", path, "")
		policy := resp.Header.Get("Content-Security-Policy")
		m := regexp.MustCompile(`'nonce-([^']+)'`).FindStringSubmatch(policy)
		if resp.StatusCode != 200 || m == nil || !strings.Contains(raw, `nonce="`+m[1]+`"`) || nonces[m[1]] || !strings.Contains(policy, "default-src 'self'") {
			t.Fatalf("%s: %d %s %s", path, resp.StatusCode, policy, raw)
		}
		nonces[m[1]] = true
	}
	if resp, _ := d.call("GET", "/assets/a.js", ""); resp.StatusCode != 200 || !strings.Contains(resp.Header.Get("Cache-Control"), "immutable") {
		t.Errorf("an asset: %d %v", resp.StatusCode, resp.Header)
	}
	for path, want := range map[string]int{"/assets/none.js": 404, "/api/none": 404, "/ferry.svg": 200, "/..%2f..%2fetc/passwd": 200} {
		if resp, raw := d.call("GET", path, ""); resp.StatusCode != want || strings.Contains(raw, "root:") {
			t.Errorf("%s: %d %.60s", path, resp.StatusCode, raw)
		}
	}
	if resp, _ := d.call("POST", "/units", "{}"); resp.StatusCode != 405 {
		t.Errorf("a page is posted to: %d", resp.StatusCode)
	}
}

func TestMachinesCanLook(t *testing.T) {
	d := newDesk(t)
	for _, x := range [][2]string{{"/healthz", "alive"}, {"/readyz", "ready"}, {"/api/openapi.json", `"openapi":"3.1.0"`}, {"/metrics", "ferry_http_requests_total"}} {
		if resp, raw := d.call("GET", x[0], ""); resp.StatusCode != 200 || !strings.Contains(raw, x[1]) {
			t.Errorf("%s: %d %.80s", x[0], resp.StatusCode, raw)
		}
	}
	d.db.Kill()
	if resp, _ := d.call("GET", "/readyz", ""); resp.StatusCode != 503 {
		t.Errorf("ready without a database: %d", resp.StatusCode)
	}
	if resp, _ := d.call("GET", "/healthz", ""); resp.StatusCode != 200 {
		t.Errorf("not alive: %d", resp.StatusCode)
	}
	resp, raw := d.call("GET", "/api/units", "", "Authorization: Bearer x")
	if resp.StatusCode != 500 || strings.Contains(raw, "sock") || !strings.Contains(raw, "the service could not do this") {
		t.Errorf("what is wrong inside is told: %d %s", resp.StatusCode, raw)
	}
	if err := d.db.Again(); err != nil {
		t.Fatal(err)
	}
}

func TestProblemsKeepTheirKind(t *testing.T) {
	for _, k := range core.Kinds {
		p := service.Explain(core.Fail(k, "what %d", 1).Unit("state").Do("next"))
		if p.Status < 400 || p.Kind != k || p.Detail != "what 1" || p.State != "state" || p.Next != "next" || p.Title == "" {
			t.Errorf("%s: %+v", k, p)
		}
		if e := p.Err(); core.KindOf(e) != k || e.Error() != "what 1" {
			t.Errorf("%s comes back as %v", k, e)
		}
	}
	if p := service.Explain(fmt.Errorf("plain")); p.Kind != core.Interrupted {
		t.Errorf("%+v", p)
	}
}

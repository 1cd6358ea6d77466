package service_test

import (
	"context"
	"database/sql"
	"encoding/base64"
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

	"github.com/pquerna/otp/totp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
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
	v     *service.Service
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
	if err := d.store.WithKey(ctx, key); err != nil {
		t.Fatal(err)
	}
	pages := fstest.MapFS{"index.html": {Data: []byte(`<script nonce="FERRY-NONCE"></script>`)}, "assets/a.js": {Data: []byte("1")}, "ferry.svg": {Data: []byte("<svg/>")}}
	log := slog.New(slog.NewTextHandler(d.log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	d.v = service.New(d.store, key, pages, d.clock, log, false)
	d.http = httptest.NewServer(d.v.Handler())
	t.Cleanup(d.http.Close)
	return d
}

func (d *desk) person(name, role, password string) string {
	d.t.Helper()
	p := store.Person{ID: store.NewID(), Name: name, Role: role}
	if password != "" {
		p.Password = sql.NullString{String: people.HashPassword(password), Valid: true}
	}
	if err := d.store.PutPerson(ctx, p); err != nil {
		d.t.Fatal(err)
	}
	text, digest := people.Secret()
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

// TestAHundredWrongPasswords: whoever guesses waits longer and longer; the owner, from
// elsewhere, signs in at once.
func TestAHundredWrongPasswords(t *testing.T) {
	d := newDesk(t)
	const name, password = "Imre Kolding", "twelve grey gulls"
	lead := d.person(name, frame.Lead, password)
	in := func(password string) (int, string) {
		resp, raw := d.call("POST", "/api/session", fmt.Sprintf(`{"name":%q,"password":%q}`, name, password))
		return resp.StatusCode, raw
	}
	wrong, waited := 0, 0
	for i := range 100 {
		switch code, raw := in(fmt.Sprint("guess ", i)); {
		case code == 200:
			t.Fatal("a guess signed in")
		case strings.Contains(raw, "wrong passwords have come"):
			waited++
		default:
			wrong++
		}
		d.clock.Move(100 * time.Millisecond)
	}
	if wrong > 12 || waited < 80 {
		t.Errorf("%d guesses were checked, %d had to wait", wrong, waited)
	}
	if code, raw := in(password); code == 200 || !strings.Contains(raw, "wrong passwords have come") {
		t.Errorf("the right one after a hundred wrong ones, from there: %d %s", code, raw)
	}
	// What counts against an address does not count against another.
	named, all, _, err := d.store.SignInFailures(ctx, core.DigestOf([]byte(strings.ToLower(name))), "192.0.2.7", d.clock.Now())
	if err != nil || named != 0 || all != 0 {
		t.Errorf("%d %d %v", named, all, err)
	}
	audit, err := client.New(d.http.URL, lead, core.System{}).Audit(ctx, 0)
	if err != nil || audit.Chain != "intact" || audit.Entries[0].Kind != "sign-in-failed" {
		t.Errorf("%+v %v", audit.Entries[:min(1, len(audit.Entries))], err)
	}
	d.clock.Move(5 * time.Minute)
	if code, raw := in(password); code != 200 {
		t.Errorf("five minutes later: %d %s", code, raw)
	}
}

func TestSignInByPassword(t *testing.T) {
	d := newDesk(t)
	d.person("Imre Kolding", frame.Lead, "a long tide table")
	d.person("Sunniva Dale", frame.Technician, "")
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
	token := d.person("Sunniva Dale", frame.Technician, "")
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
	token := d.person("Imre Kolding", frame.Lead, "")
	resp, _ := d.call("POST", "/api/benches/codes", "", "Authorization: Bearer "+token, "Sec-Fetch-Site: cross-site")
	if resp.StatusCode != 403 {
		t.Errorf("from another site: %d", resp.StatusCode)
	}
	if resp, raw := d.call("POST", "/api/benches/codes", "", "Authorization: Bearer "+token, "Sec-Fetch-Site: same-origin"); resp.StatusCode != 200 {
		t.Errorf("from our own: %d %s", resp.StatusCode, raw)
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
	if resp.StatusCode != 503 || strings.Contains(raw, "sock") || !strings.Contains(raw, "the database does not answer the service") {
		t.Errorf("what is wrong inside is told: %d %s", resp.StatusCode, raw)
	}
	if err := d.db.Again(); err != nil {
		t.Fatal(err)
	}
}

func TestProblemsKeepTheirKind(t *testing.T) {
	for _, k := range core.Kinds {
		p := frame.Explain(core.Fail(k, "what %d", 1).Unit("state").Do("next"))
		if p.Status < 400 || p.Kind != k || p.Detail != "what 1" || p.State != "state" || p.Next != "next" || p.Title == "" {
			t.Errorf("%s: %+v", k, p)
		}
		if e := p.Err(); core.KindOf(e) != k || e.Error() != "what 1" {
			t.Errorf("%s comes back as %v", k, e)
		}
	}
	if p := frame.Explain(fmt.Errorf("plain")); p.Kind != core.Interrupted {
		t.Errorf("%+v", p)
	}
}

// TestAnswersSayWhatBrowsersMayDo: nothing is guessed, nothing private is kept, over TLS nothing
// comes back without it; methods that nobody knows are not counted by name; the numbers are
// for this machine and for who is signed in.
func TestAnswersSayWhatBrowsersMayDo(t *testing.T) {
	d := newDesk(t)
	token := d.person("Ottoline Marsk", frame.Viewer, "")
	for _, path := range []string{"/api/links", "/", "/healthz", "/metrics"} {
		resp, _ := d.call("GET", path, "", "Authorization: Bearer "+token)
		if resp.Header.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s: %v", path, resp.Header)
		}
		if private := resp.Header.Get("Cache-Control") == "no-store"; private != strings.HasPrefix(path, "/api/") {
			t.Errorf("%s: %q", path, resp.Header.Get("Cache-Control"))
		}
	}
	d.call("GULL", "/api/links", "")
	if _, raw := d.call("GET", "/metrics", ""); strings.Contains(raw, "GULL") {
		t.Error("a method that somebody has made up is counted by its name")
	}
	elsewhere := func(token string) int {
		r := httptest.NewRequest("GET", "/metrics", nil)
		r.RemoteAddr = "192.0.2.7:1234"
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		w := httptest.NewRecorder()
		d.http.Config.Handler.ServeHTTP(w, r)
		return w.Code
	}
	if none, some := elsewhere(""), elsewhere(token); none != 401 || some != 200 {
		t.Errorf("from elsewhere: %d without anybody, %d signed in", none, some)
	}
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	w := httptest.NewRecorder()
	service.New(d.store, key, fstest.MapFS{"index.html": {Data: []byte("<html></html>")}}, core.System{}, slog.New(slog.DiscardHandler), true).Handler().ServeHTTP(w, httptest.NewRequest("GET", "/healthz", nil))
	if !strings.HasPrefix(w.Header().Get("Strict-Transport-Security"), "max-age=") {
		t.Errorf("%v", w.Header())
	}
}

// TestSessionsEnd: one that is used ends after twelve hours, one that is not after two; a link
// made with a token that ends sooner signs in for as long as that is good.
func TestSessionsEnd(t *testing.T) {
	d := newDesk(t)
	d.person("Imre Kolding", frame.Lead, "a long tide table")
	in := func() string {
		resp, raw := d.call("POST", "/api/session", `{"name":"Imre Kolding","password":"a long tide table"}`)
		if resp.StatusCode != 200 {
			t.Fatalf("%d %s", resp.StatusCode, raw)
		}
		return "Cookie: ferry_session=" + resp.Cookies()[0].Value
	}
	is := func(session string) int {
		resp, _ := d.call("GET", "/api/session", "", session)
		return resp.StatusCode
	}
	used, idle := in(), in()
	for hours := 1; hours < 12; hours++ {
		d.clock.Move(59 * time.Minute)
		if code := is(used); code != 200 {
			t.Fatalf("used each hour, after %d: %d", hours, code)
		}
		if hours == 3 && is(idle) != 401 {
			t.Error("one that is not used lasts")
		}
	}
	d.clock.Move(90 * time.Minute)
	if is(used) != 401 {
		t.Error("it lasts longer than twelve hours")
	}
	token := d.person("Sunniva Dale", frame.Technician, "")
	_, raw := d.call("POST", "/api/access/tokens", `{"name":"short","days":1,"scope":"read"}`, "Authorization: Bearer "+token)
	var made client.MadeToken
	if err := json.Unmarshal([]byte(raw), &made); err != nil || made.Scope != "read" {
		t.Fatalf("%s %v", raw, err)
	}
	d.clock.Move(23 * time.Hour)
	_, raw = d.call("POST", "/api/session/codes", "", "Authorization: Bearer "+made.Token)
	var code client.Code
	if err := json.Unmarshal([]byte(raw), &code); err != nil {
		t.Fatal(err)
	}
	resp, raw := d.call("POST", "/api/session", `{"code":"`+code.Code+`"}`)
	if resp.StatusCode != 200 || !strings.Contains(raw, `"role":"viewer"`) {
		t.Fatalf("%d %s", resp.StatusCode, raw)
	}
	session := "Cookie: ferry_session=" + resp.Cookies()[0].Value
	if is(session) != 200 {
		t.Error("it is not good")
	}
	d.clock.Move(70 * time.Minute)
	if is(session) != 401 {
		t.Error("it outlives the token that it came from")
	}
}

// TestAPasswordOfOnesOwn: the first within a quarter of an hour after a link, each further one by
// the one before; not with a token, not one that is guessed early. Other sessions end.
func TestAPasswordOfOnesOwn(t *testing.T) {
	d := newDesk(t)
	lead := "Authorization: Bearer " + d.person("Imre Kolding", frame.Lead, "")
	own := "Authorization: Bearer " + d.person("Sunniva Dale", frame.Technician, "")
	in := func(body string) (cookie string, code int) {
		t.Helper()
		resp, _ := d.call("POST", "/api/session", body, "X: y")
		for _, c := range resp.Cookies() {
			cookie = "Cookie: " + c.Name + "=" + c.Value
		}
		return cookie, resp.StatusCode
	}
	byLink := func() string {
		t.Helper()
		_, raw := d.call("POST", "/api/people/Sunniva%20Dale/link", "", lead)
		var link client.Code
		if err := json.Unmarshal([]byte(raw), &link); err != nil {
			t.Fatal(raw)
		}
		cookie, code := in(`{"code":"` + link.Code + `"}`)
		if code != 200 {
			t.Fatal(code)
		}
		return cookie
	}
	set := func(old, to, who string) (int, string) {
		t.Helper()
		resp, raw := d.call("POST", "/api/session/password", `{"old":"`+old+`","new":"`+to+`"}`, who)
		return resp.StatusCode, raw
	}
	if code, raw := set("", "a long tide table", own); code != 403 || !strings.Contains(raw, "not with a token") {
		t.Errorf("with a token: %d %s", code, raw)
	}
	late := byLink()
	d.clock.Move(16 * time.Minute)
	if code, raw := set("", "a long tide table", late); code != 403 || !strings.Contains(raw, "fresh sign-in") {
		t.Errorf("after a quarter of an hour: %d %s", code, raw)
	}
	fresh := byLink()
	if code, raw := set("", "sunniva dale 1", fresh); code != 403 || !strings.Contains(raw, "tried first") {
		t.Errorf("her name: %d %s", code, raw)
	}
	if code, raw := set("", "a long tide table", fresh); code > 204 {
		t.Fatalf("%d %s", code, raw)
	}
	if resp, _ := d.call("GET", "/api/session", "", late); resp.StatusCode != 401 {
		t.Errorf("another session goes on: %d", resp.StatusCode)
	}
	if resp, _ := d.call("GET", "/api/session", "", fresh); resp.StatusCode != 200 {
		t.Errorf("her own has ended: %d", resp.StatusCode)
	}
	cookie, code := in(`{"name":"Sunniva Dale","password":"a long tide table"}`)
	if code != 200 {
		t.Fatal(code)
	}
	if code, raw := set("not that one, is it", "another long tide table", cookie); code != 403 {
		t.Errorf("without the old one: %d %s", code, raw)
	}
	if code, raw := set("a long tide table", "another long tide table", cookie); code > 204 {
		t.Errorf("%d %s", code, raw)
	}
	if _, code := in(`{"name":"Sunniva Dale","password":"a long tide table"}`); code != 403 {
		t.Errorf("the old one: %d", code)
	}
	if _, code := in(`{"name":"Sunniva Dale","password":"another long tide table"}`); code != 200 {
		t.Errorf("the new one: %d", code)
	}
}

// TestASecondFactor: once its first code was shown, signing in wants it, with password or link;
// no code counts twice; guessing waits; what others rely on wants it within five minutes; a
// lead takes it away when the device is lost.
func TestASecondFactor(t *testing.T) {
	d := newDesk(t)
	lead := d.person("Imre Kolding", frame.Lead, "a long tide table")
	other := "Authorization: Bearer " + d.person("Sunniva Dale", frame.Lead, "")
	token := "Authorization: Bearer " + lead
	post := func(path, body, who string) (int, string) {
		t.Helper()
		resp, raw := d.call("POST", path, body, who)
		return resp.StatusCode, raw
	}
	if code, raw := post("/api/session/confirm", `{"code":"123456"}`, token); code != 404 {
		t.Errorf("without one: %d %s", code, raw)
	}
	_, raw := post("/api/session/factor", "", token)
	var f client.Factor
	if err := json.Unmarshal([]byte(raw), &f); err != nil || !strings.HasPrefix(f.Picture, "data:image/png;base64,") || !strings.HasPrefix(f.Address, "otpauth://totp/") {
		t.Fatalf("%s %v", raw, err)
	}
	shows := func() string {
		code, err := totp.GenerateCode(f.Secret, d.clock.Now())
		if err != nil {
			t.Fatal(err)
		}
		return code
	}
	in := func(body string) (int, string) { t.Helper(); return post("/api/session", body, "X: y") }
	password := `{"name":"Imre Kolding","password":"a long tide table"`
	if code, raw := in(password + "}"); code != 200 {
		t.Fatalf("before its first code: %d %s", code, raw)
	}
	first := shows()
	if code, raw := post("/api/session/confirm", `{"code":"`+first+`"}`, token); code != 200 && code != 204 {
		t.Fatalf("%d %s", code, raw)
	}
	if code, raw := in(password + "}"); code != 409 || !strings.Contains(raw, "second factor is wanted as well") {
		t.Errorf("without the factor: %d %s", code, raw)
	}
	if code, raw := in(password + `,"factor":"` + first + `"}`); code != 403 || !strings.Contains(raw, "used already") {
		t.Errorf("with a code that was used: %d %s", code, raw)
	}
	d.clock.Move(31 * time.Second)
	if code, raw := in(password + `,"factor":"` + shows() + `"}`); code != 200 {
		t.Errorf("%d %s", code, raw)
	}
	if code, _ := in(`{"name":"Imre Kolding","password":"a short tide table","factor":"` + shows() + `"}`); code != 403 {
		t.Errorf("the factor alone: %d", code)
	}

	// Setting up another one leaves the old one in force until the new one has shown a code.
	old := f.Secret
	another := func() {
		t.Helper()
		if _, raw = post("/api/session/factor", "", token); json.Unmarshal([]byte(raw), &f) != nil || f.Secret == old {
			t.Fatal(raw)
		}
	}
	another()
	d.clock.Move(31 * time.Second)
	if code, raw := in(password + "}"); code != 409 {
		t.Errorf("the new one was left lying: %d %s", code, raw)
	}
	if code, _ := in(password + `,"factor":"` + shows() + `"}`); code != 403 {
		t.Errorf("a new one counts before it was shown: %d", code)
	}
	unused := f.Secret
	f.Secret = old
	if code, raw := in(password + `,"factor":"` + shows() + `"}`); code != 200 {
		t.Errorf("the old one: %d %s", code, raw)
	}
	another()
	if code, raw := post("/api/session/confirm", `{"code":"`+shows()+`"}`, token); code > 204 {
		t.Fatalf("the new one's first code: %d %s", code, raw)
	}
	next := f.Secret
	d.clock.Move(31 * time.Second)
	for _, f.Secret = range []string{old, unused} {
		if code, _ := in(password + `,"factor":"` + shows() + `"}`); code != 403 {
			t.Errorf("one that was replaced: %d", code)
		}
	}
	f.Secret = next
	if code, raw := in(password + `,"factor":"` + shows() + `"}`); code != 200 {
		t.Errorf("the new one: %d %s", code, raw)
	}

	// A link wants it too, and is not used up by who has only that.
	_, raw = post("/api/people/Imre%20Kolding/link", "", other)
	var link client.Code
	if err := json.Unmarshal([]byte(raw), &link); err != nil {
		t.Fatal(err)
	}
	d.clock.Move(31 * time.Second)
	if code, raw := in(`{"code":"` + link.Code + `"}`); code != 409 {
		t.Errorf("the link alone: %d %s", code, raw)
	}
	if code, raw := in(`{"code":"` + link.Code + `","factor":"` + shows() + `"}`); code != 200 {
		t.Errorf("%d %s", code, raw)
	}
	waited := 0
	for i := range 16 {
		if _, raw := in(password + fmt.Sprintf(`,"factor":"%06d"}`, i)); strings.Contains(raw, "wrong passwords have come") {
			waited++
		}
	}
	if waited < 8 {
		t.Errorf("of 16 guesses %d had to wait", waited)
	}

	// What others rely on wants it again.
	key := `{"name":"Workshop","public":"` + base64.StdEncoding.EncodeToString(make([]byte, 32)) + `"}`
	d.clock.Move(6 * time.Minute)
	if code, raw := post("/api/keys", key, token); code != 403 || !strings.Contains(raw, "ferry confirm") {
		t.Errorf("after six minutes: %d %s", code, raw)
	}
	if code, raw := post("/api/people/Sunniva%20Dale/end", `{"reason":"because"}`, token); code != 403 || !strings.Contains(raw, "second factor again") {
		t.Errorf("%d %s", code, raw)
	}
	if code, raw := post("/api/session/confirm", `{"code":"`+shows()+`"}`, token); code > 204 {
		t.Fatalf("%d %s", code, raw)
	}
	if code, raw := post("/api/keys", key, token); code != 200 {
		t.Errorf("shown again: %d %s", code, raw)
	}

	// The device is lost.
	if code, raw := post("/api/people/Imre%20Kolding/factor/end", `{"reason":"it fell into the harbour"}`, other); code != 200 || strings.Contains(raw, `"factor":true`) {
		t.Errorf("%d %s", code, raw)
	}
	d.clock.Move(10 * time.Minute)
	if code, raw := in(password + "}"); code != 200 {
		t.Errorf("%d %s", code, raw)
	}
	var p store.Person
	if p, _ = d.store.Person(ctx, "Imre Kolding"); p.Factor != nil {
		t.Error("its secret is still there")
	}
	if strings.Contains(d.log.String(), f.Secret) {
		t.Error("its secret is in the log")
	}
}

// TestManyMachinesAsk: whoever floods the service with questions to be let in shuts out nobody
// but himself.
func TestManyMachinesAsk(t *testing.T) {
	d := newDesk(t)
	ask := func(address string) int {
		r := httptest.NewRequest("POST", "/api/machines", strings.NewReader(`{"machine":"x"}`))
		r.Header.Set("Content-Type", "application/json")
		r.RemoteAddr = address + ":1234"
		w := httptest.NewRecorder()
		d.http.Config.Handler.ServeHTTP(w, r)
		return w.Code
	}
	for i := range 25 {
		if code := ask("192.0.2.7"); code != map[bool]int{true: 200, false: 409}[i < 20] {
			t.Fatalf("question %d: %d", i+1, code)
		}
	}
	if code := ask("192.0.2.8"); code != 200 {
		t.Errorf("another one: %d", code)
	}
	d.clock.Move(11 * time.Minute)
	if code := ask("192.0.2.7"); code != 200 {
		t.Errorf("once they are over: %d", code)
	}
}

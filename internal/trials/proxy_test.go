package trials

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"testing"

	"zealousferry/internal/service"
	"zealousferry/internal/service/people"
	"zealousferry/internal/testkit"
)

// TestBehindAProxy: behind a proxy that speaks TLS a browser is treated as one that came by TLS,
// who asks is whom the proxy names and nobody else, and nobody becomes this machine by coming
// through it.
func TestBehindAProxy(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	p, err := w.Store.Person(ctx, leadName)
	if err != nil {
		t.Fatal(err)
	}
	p.Password.String, p.Password.Valid = people.HashPassword("twelve grey gulls"), true
	if err := w.Store.PutPerson(ctx, p); err != nil {
		t.Fatal(err)
	}
	proxies, err := people.ParseProxies("127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	behind := newServer(t, w.Service(func(v *service.Service) { v.People.UseProxies(proxies) }))
	to, err := url.Parse(behind)
	if err != nil {
		t.Fatal(err)
	}
	asks := "203.0.113.9" // who is on the other end of the proxy's line
	front := httptest.NewTLSServer(&httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(to)
		r.Out.Host = r.In.Host
		if asks != "" {
			r.Out.Header.Set("X-Forwarded-For", strings.Join(append(r.In.Header.Values("X-Forwarded-For"), asks), ", "))
		}
	}})
	t.Cleanup(front.Close)
	ask := func(at, method, path string, body any, more ...string) (*http.Response, []byte) {
		t.Helper()
		raw, err := json.Marshal(body)
		if err != nil {
			t.Fatal(err)
		}
		r, err := http.NewRequestWithContext(ctx, method, at+path, bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		for i := 0; i < len(more); i += 2 {
			r.Header.Set(more[i], more[i+1])
		}
		resp, err := front.Client().Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		out, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp, out
	}
	signIn := func(password string, more ...string) (*http.Response, []byte) {
		t.Helper()
		return ask(front.URL, "POST", "/api/session", map[string]string{"name": p.Name, "password": password}, more...)
	}

	// As by TLS.
	resp, body := signIn("twelve grey gulls", "X-Forwarded-For", "127.0.0.1")
	if resp.StatusCode != 200 || len(resp.Cookies()) != 1 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	c := resp.Cookies()[0]
	if !c.Secure || !strings.HasPrefix(c.Name, "__Host-") || resp.Header.Get("Strict-Transport-Security") == "" {
		t.Errorf("the cookie is %s, secure %t; %q", c.Name, c.Secure, resp.Header.Get("Strict-Transport-Security"))
	}

	// By whom: what the browser itself wrote before does not count.
	resp, body = ask(front.URL, "GET", "/api/people", nil, "Cookie", c.Name+"="+c.Value, "X-Forwarded-For", "127.0.0.1")
	if resp.StatusCode != 200 || !bytes.Contains(body, []byte("a program, 203.0.113.9")) || bytes.Contains(body, []byte("a program, 127.0.0.1")) {
		t.Errorf("%d %s", resp.StatusCode, body)
	}

	// Nobody is this machine who comes through the proxy, whatever it says or leaves out.
	for _, x := range []struct {
		at, asks, claims string
		want             int
	}{{front.URL, "203.0.113.9", "", 401}, {front.URL, "203.0.113.9", "127.0.0.1", 401}, {front.URL, "", "", 401}, {front.URL, "127.0.0.1", "", 401}, {w.Base, "", "", 200}} {
		asks = x.asks
		more := []string{}
		if x.claims != "" {
			more = []string{"X-Forwarded-For", x.claims}
		}
		if resp, body := ask(x.at, "GET", "/metrics", nil, more...); resp.StatusCode != x.want {
			t.Errorf("%+v: %d %.80s", x, resp.StatusCode, body)
		}
	}

	// Wrong passwords of one address do not have another one wait.
	asks = "198.51.100.7"
	waits := false
	for i := range 40 {
		_, body := ask(front.URL, "POST", "/api/session", map[string]string{"name": fmt.Sprint("somebody ", i), "password": "a guess"})
		waits = waits || bytes.Contains(body, []byte("wrong passwords have come"))
	}
	if !waits {
		t.Error("forty guesses of one address, and it need not wait")
	}
	asks = "203.0.113.9"
	if resp, body := signIn("twelve grey gulls"); resp.StatusCode != 200 {
		t.Errorf("another address: %d %s", resp.StatusCode, body)
	}
}

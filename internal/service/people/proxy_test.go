package people

import (
	"net/http/httptest"
	"strings"
	"testing"

	"zealousferry/core"
)

// TestWhoAsksBehindAProxy: only what a proxy of ours has noted counts, and of that only what
// stands behind everything that others may have written.
func TestWhoAsksBehindAProxy(t *testing.T) {
	p, err := ParseProxies("127.0.0.1, 10.4.0.0/24,2001:db8::/64")
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		name, remote, header, value, want string
	}{
		{"nobody between", "192.0.2.7:1000", "", "", "192.0.2.7"},
		{"a stranger says that he is another", "192.0.2.7:1000", "X-Forwarded-For", "127.0.0.1", "192.0.2.7"},
		{"a proxy", "127.0.0.1:1000", "X-Forwarded-For", "192.0.2.7", "192.0.2.7"},
		{"a proxy that adds to what it got", "127.0.0.1:1000", "X-Forwarded-For", "127.0.0.1, 203.0.113.9, 192.0.2.7", "192.0.2.7"},
		{"two proxies", "127.0.0.1:1000", "X-Forwarded-For", "203.0.113.9, 192.0.2.7, 10.4.0.8", "192.0.2.7"},
		{"a proxy that says nothing", "127.0.0.1:1000", "", "", ""},
		{"a proxy that says nothing of use", "127.0.0.1:1000", "X-Forwarded-For", "192.0.2.7, unknown", ""},
		{"by the standard", "10.4.0.9:1000", "Forwarded", `for=192.0.2.43, for=198.51.100.17;by=203.0.113.60;proto=https;host=ferry.example`, "198.51.100.17"},
		{"by the standard, with a port", "10.4.0.9:1000", "Forwarded", `For="[2001:db9:cafe::17]:4711"`, "2001:db9:cafe::17"},
		{"by the standard, hidden", "10.4.0.9:1000", "Forwarded", `for=192.0.2.43, for="_gazonk"`, ""},
		{"a proxy of another family", "[2001:db8::1]:1000", "Forwarded", `for=192.0.2.43`, "192.0.2.43"},
		{"an address of one family in the other", "[::ffff:127.0.0.1]:1000", "X-Forwarded-For", "::ffff:192.0.2.7", "192.0.2.7"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = x.remote
		if x.header != "" {
			r.Header.Set(x.header, x.value)
		}
		if got := p.from(r); got != x.want {
			t.Errorf("%s: %q, want %q", x.name, got, x.want)
		}
	}
	// A proxy adds to one of the two headers, and lets the other through as the browser wrote it.
	for _, x := range []struct{ standard, older, want string }{
		{"for=198.51.100.1", "192.0.2.7", ""},
		{"for=192.0.2.7", "198.51.100.1", ""},
		{"for=192.0.2.7", "192.0.2.7", "192.0.2.7"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = "127.0.0.1:1000"
		r.Header.Set("Forwarded", x.standard)
		r.Header.Set("X-Forwarded-For", x.older)
		if got := p.from(r); got != x.want {
			t.Errorf("%+v: %q", x, got)
		}
	}
	// Nobody becomes this machine by coming through a proxy on another one.
	far, err := ParseProxies("10.4.0.9")
	if err != nil {
		t.Fatal(err)
	}
	for _, claims := range []string{"127.0.0.1", "::1"} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = "10.4.0.9:1000"
		r.Header.Set("X-Forwarded-For", claims)
		if got := far.from(r); got != "" {
			t.Errorf("%s through a proxy elsewhere: %q", claims, got)
		}
	}
	for _, bad := range []string{"", "10.4.0.0/33", "proxy.example", "127.0.0.1,,10.0.0.1"} {
		if _, err := ParseProxies(bad); core.KindOf(err) != core.NotUnderstood || !strings.Contains(err.Error(), "no address and no network") {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

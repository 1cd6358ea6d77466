package client

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/run"
)

// A token is not sent over plain HTTP to another machine.
func TestPlainHTTPStaysOnThisMachine(t *testing.T) {
	for _, base := range []string{"http://10.1.2.3:8470", "http://ferry.example", "http://[2001:db8::1]:8470", "http://127.0.0.1.example:8470"} {
		_, err := New(base, "secret", core.System{}).Links(context.Background())
		if core.KindOf(err) != core.NotAllowed || !strings.Contains(core.AsError(err, "").Next, "https://") || strings.Contains(err.Error(), "secret") {
			t.Errorf("%s: %v", base, err)
		}
	}
	for _, base := range []string{"http://127.0.0.1:1", "http://localhost:1", "http://[::1]:1", "http://127.20.0.9:1", "https://127.0.0.1:1"} {
		if _, err := New(base, "secret", core.System{}).Links(context.Background()); core.KindOf(err) == core.NotAllowed {
			t.Errorf("%s: %v", base, err)
		}
	}
}

func TestProblemsBecomeErrorsOfTheirKind(t *testing.T) {
	for name, x := range map[string]struct {
		status int
		body   string
		kind   core.Kind
		words  string
	}{
		"a problem":          {409, `{"kind":"busy","detail":"in use","next":"wait","status":409}`, core.Busy, "in use"},
		"from a proxy":       {502, `<html>Bad gateway</html>`, core.NotAnswering, "502"},
		"something else":     {418, `tea`, core.Interrupted, "418"},
		"wrong inside":       {500, `{"kind":"interrupted","detail":"the service could not do this","status":500}`, core.NotAnswering, "could not"},
		"nobody signed in":   {401, `{"kind":"not-allowed","detail":"nobody is signed in","status":401}`, core.NotAllowed, "nobody"},
		"a kind of tomorrow": {409, `{"kind":"sea-sick","detail":"d","status":409}`, "sea-sick", "d"},
	} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(x.status)
			fmt.Fprint(w, x.body)
		}))
		_, err := New(s.URL, "", core.System{}).Links(context.Background())
		s.Close()
		if core.KindOf(err) != x.kind || !strings.Contains(err.Error(), x.words) {
			t.Errorf("%s: %v (%s)", name, err, core.KindOf(err))
		}
	}
	_, err := New("http://127.0.0.1:1", "", core.System{}).Links(context.Background())
	if core.KindOf(err) != core.NotAnswering || core.AsError(err, "").Next == "" {
		t.Errorf("nobody there: %v", err)
	}
}

func TestABlobThatIsAnotherIsRefused(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "other") }))
	defer s.Close()
	c := New(s.URL, "", core.System{})
	if _, err := c.Blob(context.Background(), core.DigestOf([]byte("one"))); core.KindOf(err) != core.BadFile {
		t.Errorf("got %v", err)
	}
	if b, err := c.Blob(context.Background(), core.DigestOf([]byte("other"))); err != nil || string(b) != "other" {
		t.Errorf("%s %v", b, err)
	}
}

// A live stream that breaks off is taken up where it was, and a refusal ends it.
func TestAStreamIsTakenUpWhereItWas(t *testing.T) {
	asked := []string{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.RawQuery)
		if r.URL.Path == "/api/runs/none/events" {
			w.WriteHeader(404)
			fmt.Fprint(w, `{"kind":"not-found","detail":"no such run","status":404}`)
			return
		}
		switch len(asked) {
		case 1:
			fmt.Fprint(w, ": alive\n\nid: 3\nevent: progress\ndata: {\"last\":3,\ndata: \"view\":{\"step\":\"flash\"}}\n\nid: 4\nevent: progress\ndata: {\"last\":4,\"vi") // and breaks off
		case 2:
			w.WriteHeader(503)
		default:
			fmt.Fprint(w, "event: other\ndata: x\n\nid: 5\nevent: progress\ndata: {\"last\":5,\"view\":{\"step\":\"ended\"}}\n\n")
		}
	}))
	defer s.Close()
	var got []uint64
	c := New(s.URL, "", core.System{})
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	err := c.FollowRun(ctx, "r", 0, func(p Progress) bool {
		got = append(got, p.Last)
		return true
	})
	if err != nil || fmt.Sprint(got) != "[3 5]" || strings.Join(asked, " ") != " after=3 after=3" {
		t.Errorf("%v, asked %q, %v", got, asked, err)
	}
	if err := c.FollowRun(ctx, "none", 0, func(Progress) bool { return true }); core.KindOf(err) != core.NotFound {
		t.Errorf("a run that is not there: %v", err)
	}
	if run.PhaseEnded != "ended" {
		t.Error("the step's name is part of the API")
	}
}

// A client that knows several addresses moves on where one does not answer: questions, and what
// cannot have come to it, at once; what may have come to it is not sent twice.
func TestSeveralAddresses(t *testing.T) {
	serve := func(answer func(w http.ResponseWriter, r *http.Request)) *httptest.Server {
		s := httptest.NewServer(http.HandlerFunc(answer))
		t.Cleanup(s.Close)
		return s
	}
	var came []string
	well := func(name string) func(http.ResponseWriter, *http.Request) {
		return func(w http.ResponseWriter, r *http.Request) {
			came = append(came, name+" "+r.Method)
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{}`)
		}
	}
	gone := serve(nil)
	gone.Close()
	away := serve(func(w http.ResponseWriter, r *http.Request) {
		came = append(came, "away "+r.Method)
		w.WriteHeader(http.StatusServiceUnavailable)
	})
	refuses := serve(func(w http.ResponseWriter, r *http.Request) {
		came = append(came, "refuses "+r.Method)
		w.WriteHeader(http.StatusGatewayTimeout) // a unit does not answer: elsewhere it would not either
		fmt.Fprint(w, `{"kind":"not-answering","detail":"nobody is there","status":504}`)
	})
	one, two := serve(well("one")), serve(well("two"))
	ctx := context.Background()
	for name, x := range map[string]struct {
		bases []string
		want  string
	}{
		"nothing listens at the first":  {[]string{gone.URL, one.URL}, "one GET, ok, one POST, ok, one GET, ok"},
		"the first is away":             {[]string{away.URL, one.URL, two.URL}, "away GET, one GET, ok, one POST, ok, one GET, ok"},
		"it is no fault of the service": {[]string{refuses.URL, one.URL}, "refuses GET, failed, refuses POST, failed, refuses GET, failed"},
		"none is there":                 {[]string{gone.URL, away.URL}, "away GET, failed, away POST, failed, away GET, failed"},
	} {
		came = nil
		c := New(strings.Join(x.bases, ", "), "", core.System{})
		for _, method := range []string{"GET", "POST", "GET"} {
			var body any
			if method == "POST" {
				body = map[string]string{}
			}
			if err := c.call(ctx, method, "/api/x", body, nil); err != nil {
				came = append(came, "failed")
			} else {
				came = append(came, "ok")
			}
		}
		if got := strings.Join(came, ", "); got != x.want {
			t.Errorf("%s: %s, want %s", name, got, x.want)
		}
	}
	came = nil
	c := New(away.URL+","+one.URL, "", core.System{})
	if err := c.call(ctx, "POST", "/api/x", map[string]string{}, nil); core.KindOf(err) != core.NotAnswering {
		t.Errorf("what may have come to it: %v", err)
	}
	if err := c.call(ctx, "POST", "/api/x", map[string]string{}, nil); err != nil || strings.Join(came, ", ") != "away POST, one POST" {
		t.Errorf("the next call: %v, %v", came, err)
	}
}

// TestBackToTheFirst: a client that has moved on goes back once the first service is ready again, not
// sooner than it may ask, and no call waits for that.
func TestBackToTheFirst(t *testing.T) {
	var ready atomic.Bool
	asked := make(chan bool, 8)
	first := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !ready.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
		} else {
			fmt.Fprint(w, `"first"`)
		}
		if r.URL.Path == "/readyz" {
			asked <- ready.Load()
		}
	}))
	t.Cleanup(first.Close)
	second := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `"second"`) }))
	t.Cleanup(second.Close)
	clock := coretest.NewClock(time.Now())
	c := New(first.URL+","+second.URL, "", clock)
	where := func(want string) {
		t.Helper()
		if got, err := get[string](context.Background(), c, "/api/x"); err != nil || got != want {
			t.Errorf("answered by %q, want %q, %v", got, want, err)
		}
	}
	where("second")
	ready.Store(true)
	where("second")
	clock.Move(backAfter - time.Second)
	where("second")
	ready.Store(false)
	clock.Move(2 * time.Second)
	where("second")
	if <-asked {
		t.Error("it was ready too soon")
	}
	ready.Store(true)
	where("second") // it was asked just now
	clock.Move(backAfter + time.Second)
	where("second")
	if !<-asked {
		t.Error("it is not ready")
	}
	for at := c.at.Load(); at%2 != 0; at = c.at.Load() {
		runtime.Gosched()
	}
	where("first")
	if len(asked) != 0 {
		t.Errorf("it was asked %d times more", len(asked))
	}
}

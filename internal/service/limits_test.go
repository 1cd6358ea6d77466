package service_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
)

// TestWhoCallsTooOften: is told when to call again, in an answer that is like all others; nobody
// else waits for him, and at that time he is answered. Sorts of calls are counted apart, and
// sessions and tokens of the same person together.
func TestWhoCallsTooOften(t *testing.T) {
	d := newDesk(t)
	d.v.Limited(frame.Limits{
		frame.Looks:   {Burst: 3, PerSecond: 0.1},
		frame.Files:   {Burst: 9, PerSecond: 9, AtOnce: 1},
		frame.Nobodys: {Burst: 2, PerSecond: 0.5},
	})
	one, other := "Authorization: Bearer "+d.person("Edda Rooke", frame.Technician, ""), "Authorization: Bearer "+d.person("Imre Kolding", frame.Lead, "")
	resp, raw := d.call("POST", "/api/access/tokens", `{"name":"second","scope":"whole"}`, one)
	if resp.StatusCode != http.StatusOK {
		t.Fatal(raw)
	}
	_, token, _ := strings.Cut(raw, `"token":"`)
	token, _, _ = strings.Cut(token, `"`)
	second := "Authorization: Bearer " + token
	for i, as := range []string{one, second, one} {
		if resp, raw := d.call("GET", "/api/units", "", as); resp.StatusCode != http.StatusOK {
			t.Fatalf("call %d: %s", i, raw)
		}
	}
	resp, raw = d.call("GET", "/api/units", "", second)
	if resp.StatusCode != http.StatusTooManyRequests || resp.Header.Get("Retry-After") != "10" || resp.Header.Get("Content-Type") != "application/problem+json" ||
		!strings.Contains(raw, `"kind":"busy"`) || !strings.Contains(raw, "3 in a burst, then 0.1 a second") || !strings.Contains(raw, "this call has changed nothing") {
		t.Errorf("the fourth: %s %v %s", resp.Status, resp.Header, raw)
	}
	if resp, raw := d.call("GET", "/api/units", "", other); resp.StatusCode != http.StatusOK {
		t.Errorf("somebody else: %s", raw)
	}
	if resp, raw := d.call("POST", "/api/access/tokens", `{"name":"third","scope":"whole"}`, one); resp.StatusCode != http.StatusOK {
		t.Errorf("a call of another sort: %s", raw)
	}
	d.clock.Move(10 * time.Second)
	if resp, raw := d.call("GET", "/api/units", "", one); resp.StatusCode != http.StatusOK {
		t.Errorf("ten seconds later: %s", raw)
	}

	for i, want := range []int{401, 401, 429} {
		if resp, raw := d.call("GET", "/api/units", "", "Authorization: Bearer made-up"); resp.StatusCode != want {
			t.Errorf("nobody's call %d: %d, want %d: %s", i, resp.StatusCode, want, raw)
		}
	}
	if resp, raw := d.call("GET", "/api/units", "", other); resp.StatusCode != http.StatusOK {
		t.Errorf("somebody from the same address: %s", raw)
	}

	// A file whose end does not come holds its caller's turn, and nobody else's.
	open, end := io.Pipe()
	begun := make(chan error, 1)
	upload := func(as string, body io.Reader) (int, error) {
		req, err := http.NewRequest("POST", d.http.URL+"/api/images/inspect", body)
		if err != nil {
			return 0, err
		}
		name, value, _ := strings.Cut(as, ": ")
		req.Header.Set(name, value)
		req.Header.Set("Content-Type", "application/octet-stream")
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return 0, err
		}
		defer resp.Body.Close()
		return resp.StatusCode, nil
	}
	go func() {
		_, err := upload(one, open)
		begun <- err
	}()
	end.Write([]byte(":00"))
	for got := 0; got != http.StatusTooManyRequests; { // until the first one has its turn
		var err error
		if got, err = upload(one, strings.NewReader(":00000001FF\n")); err != nil {
			t.Fatal(err)
		}
		d.clock.Move(time.Second)
	}
	if got, err := upload(other, strings.NewReader(":00000001FF\n")); got == http.StatusTooManyRequests || err != nil {
		t.Errorf("somebody else's file: %d %v", got, err)
	}
	end.CloseWithError(io.ErrUnexpectedEOF)
	<-begun

	if _, raw := d.call("GET", "/metrics", ""); !strings.Contains(raw, `ferry_calls_refused_total{sort="nobodys"} 1`) || !strings.Contains(raw, `ferry_calls_refused_total{sort="looks"} 1`) {
		t.Errorf("refused calls are not counted:\n%s", raw)
	}
}

// TestACallerThatWaits: the client waits as long as it is told to, and calls again by itself; where
// that is long it gives the error.
func TestACallerThatWaits(t *testing.T) {
	d := newDesk(t)
	d.v.Limited(frame.Limits{frame.Looks: {Burst: 1, PerSecond: 0.5}})
	c := client.New(d.http.URL, d.person("Edda Rooke", frame.Technician, ""), d.clock)
	sites := func() error {
		_, err := c.Sites(context.Background(), "", "")
		return err
	}
	if err := sites(); err != nil {
		t.Fatal(err)
	}
	done := make(chan error)
	go func() { done <- sites() }()
	d.clock.Awaited()
	d.clock.Move(2 * time.Second)
	if err := <-done; err != nil {
		t.Errorf("after the wait: %v", err)
	}
	d.v.Limited(frame.Limits{frame.Looks: {Burst: 1, PerSecond: 0.01}})
	if err := sites(); err != nil {
		t.Fatal(err)
	}
	if err := sites(); core.KindOf(err) != core.Busy {
		t.Errorf("where it would be long: %v", err)
	}
}

// TestNobodysBodiesAreSmall: whoever is not signed in sends no more than a call of nobody's can be.
func TestNobodysBodiesAreSmall(t *testing.T) {
	d := newDesk(t)
	for _, path := range []string{"/api/session", "/api/bench/enrol", "/api/machines"} {
		resp, raw := d.call("POST", path, fmt.Sprintf(`{"code":%q}`, strings.Repeat("x", 100<<10)))
		if resp.StatusCode != http.StatusRequestEntityTooLarge {
			t.Errorf("%s: %s %s", path, resp.Status, raw)
		}
	}
}

package bench

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/internal/client"
)

// TestWhatWasHeardLastCountsWhileTheServiceIsAway: a withdrawal that came with the
// last joining stops the first erase although nobody can be asked, and the
// service's word counts where it can be heard.
func TestWhatWasHeardLastCountsWhileTheServiceIsAway(t *testing.T) {
	says := ""
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Write([]byte(`{"bars":"` + says + `"}`))
	}))
	b := &Bench{withdrawn: map[string]core.Said{"one": core.Say("release %s was withdrawn: %s", "2.0.0", "heard before")}}
	b.client = client.New(service.URL, "t", core.System{})
	ask := func(id string) error {
		return (&job{bench: b}).MayWrite(context.Background(), &run.Opened{Run: id, Serial: "S-0001"})
	}
	if err := ask("two"); err != nil {
		t.Errorf("the service says that it may: %v", err)
	}
	says = "release 2.0.0 was withdrawn: asked"
	if err := ask("two"); core.KindOf(err) != core.DoesNotFit || !strings.Contains(err.Error(), "asked") {
		t.Errorf("the service says no: %v", err)
	}
	service.Close()
	if err := ask("one"); core.KindOf(err) != core.DoesNotFit || !strings.Contains(err.Error(), "heard before") {
		t.Errorf("away, heard before: %v", err)
	} else if e := core.AsError(err, ""); e.ID != "release-was-withdrawn.2" || len(e.Params) != 2 {
		t.Errorf("it is a message: %q %q", e.ID, e.Params)
	}
	c := client.Catalogue{Withdrawn: map[string]string{"one": "said by a service of before", "two": "a text"}, Barred: map[string]core.Said{"two": core.Say("a message")}}
	if all := c.Bars(); len(all) != 2 || all["one"].Text != "said by a service of before" || all["two"].ID != "a-message" {
		t.Errorf("what a service has said, also one of before: %v", all)
	}
	if err := ask("two"); err != nil {
		t.Errorf("away, heard nothing: %v", err)
	}
}

// TestASecretOfAServiceOutOfReach: whoever wants one is told that it stays there, and what
// to do; any other answer of the service is told as it is.
func TestASecretOfAServiceOutOfReach(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusForbidden) }))
	ask := func() error {
		_, err := client.New(service.URL, "t", core.System{}).BenchKey(context.Background(), client.WantKey{WantSecret: client.WantSecret{Run: "r", Name: "diagnosis"}})
		return secretAway("diagnosis", err)
	}
	if err := ask(); core.KindOf(err) == core.NotAnswering {
		t.Errorf("the service refuses: %v", err)
	}
	if err := secretAway("diagnosis", fmt.Errorf("handing over: %w", context.DeadlineExceeded)); core.KindOf(err) != core.NotAnswering || core.AsError(err, "").Next == "" {
		t.Errorf("it does not answer in time: %v", err)
	}
	service.Close()
	err := ask()
	if core.KindOf(err) != core.NotAnswering || !strings.Contains(err.Error(), `the secret "diagnosis" that opens it never leaves the service`) || core.AsError(err, "").Next == "" {
		t.Errorf("away: %v", err)
	}
}

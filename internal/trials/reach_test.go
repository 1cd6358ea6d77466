package trials

import (
	"net"
	"strings"
	"testing"
	"time"

	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// TestReachableOnTheNetwork: after the write the bench asks the unit for its web page, waits
// for a slow starter, and asks again after a second start.
func TestReachableOnTheNetwork(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) { s.Web, s.WebAfter = "127.0.0.1:0", 5*time.Second })
	_, port, err := net.SplitHostPort(w.Units["a"].WebAddress())
	if err != nil {
		t.Fatal(err)
	}
	page := func(id string) string {
		return `      - { id: ` + id + `, do: reach, at: left, test: true, says: { en: "The tool asks for its web page." }, where: 127.0.0.1, port: ` + port + `, path: /, text: "program (?P<version>[0-9.]+)", within: 60s }
`
	}
	sheet := string(coretest.Small) + `procedures:
  - name: pier
    edition: 1
    place: in-place
    takes: 5m
    items:
` + page("page") + `      - { id: again, do: start, at: left, says: { en: "The tool starts it once more." } }
` + page("page-again")
	if _, err := w.Lead.PutModel(ctx, []byte(sheet)); err != nil {
		t.Fatal(err)
	}
	r := w.Flash("a", "2.0.0")
	if r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	said := 0
	for _, a := range r.Answers {
		if strings.HasPrefix(a.Item, "page") && a.Value == "program 2.0.0" {
			said++
		}
	}
	if said != 2 {
		t.Errorf("%+v", r.Answers)
	}
}

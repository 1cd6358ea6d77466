package trials

import (
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// TestATechnicianOfAnotherSite: a lead says at which sites a technician works. Of units at others
// he reads everything, and changes nothing, whatever call it is: each one that names a unit or a
// run in its path refuses him, and a run is not opened. Units at his sites, and those without one,
// he works on as before. The row that says so counts only as the service has written it.
func TestATechnicianOfAnotherSite(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Serial = "S-0002" })
	lead, hand := commandLine(t, w, "lead"), commandLine(t, w, "technician")
	for _, n := range []string{"Skerry Point", "Ormsay"} {
		lead.must(0, "site", "set", n, "--customer", "the harbour board")
	}
	for serial, site := range map[string]string{"S-0001": "Ormsay, ticket hut", "S-0002": "Skerry Point, pier"} {
		if _, err := w.Lead.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: serial, Site: site}); err != nil {
			t.Fatal(err)
		}
	}
	paused := w.InTheMiddle(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Reason: "before it was his no longer"}, 3)
	paused = w.Stop(paused)
	if paused.State != "paused" {
		t.Fatalf("%s %s", paused.State, paused.Outcome)
	}
	told(t, lead.must(21, "people", "change", "Sunniva Dale", "--site", "Nowhere"), "nobody has entered a site")
	_, err := w.Lead.ChangeMember(ctx, "Sunniva Dale", client.MemberChange{Sites: &[]string{"Nowhere"}})
	follow(t, w, "lead", err)
	told(t, lead.must(0, "people", "change", "Sunniva Dale", "--site", "skerry point"), "works at Skerry Point")
	told(t, lead.must(0, "people", "list"), "technician at Skerry Point")
	told(t, lead.must(0, "audit", "log"), "Sunniva Dale: was technician, is technician, works at Skerry Point")

	// Every call that changes something of the unit, or of its run.
	api := service.Describe()
	n := 0
	var each func(path, method string, op *huma.Operation)
	each = func(path, method string, op *huma.Operation) {
		if op == nil || !strings.Contains(op.Description, "Role: technician.") || !strings.Contains(path, "{unit}") && !strings.Contains(path, "{run}") {
			return
		}
		n++
		at := strings.NewReplacer("{unit}", "S-0001", "{run}", paused.ID).Replace(path)
		at = regexp.MustCompile(`\{\w+\}`).ReplaceAllString(at, "1")
		req, err := http.NewRequest(method, w.Base+at, strings.NewReader("not JSON"))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+w.Tokens["technician"])
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != http.StatusForbidden {
			t.Errorf("%s %s: %d", method, path, resp.StatusCode)
		}
	}
	for path, item := range api.Paths {
		for method, op := range map[string]*huma.Operation{"POST": item.Post, "PUT": item.Put, "DELETE": item.Delete, "PATCH": item.Patch} {
			each(path, method, op)
		}
	}
	if n < 15 {
		t.Errorf("only %d calls name a unit or a run", n)
	}
	told(t, hand.must(0, "history", "S-0001"), "Entered the register")
	told(t, hand.must(20, "run", "resume", paused.ID), "unit S-0001 is at Ormsay, ticket hut, and you work at Skerry Point", "Ask somebody who works there, or a lead")
	told(t, hand.must(20, "note", "S-0001", "revision=D"), "you work at Skerry Point")
	if _, err := w.Lead.AbandonRun(ctx, paused.ID, "it is put right by a lead"); err != nil {
		t.Fatal(err)
	}
	if err := w.Refuses(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Reason: "elsewhere"}); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "unit S-0001 is at Ormsay") {
		t.Errorf("a run at another site: %v", err)
	}
	if r := w.Flash("b", "2.0.0"); r.Outcome != string(run.Done) {
		t.Errorf("at his site: %s", r.Outcome)
	}

	db := w.DB.Open(t, w.DB.Root)
	if _, err := db.ExecContext(ctx, `UPDATE person SET sites = NULL WHERE name = 'Sunniva Dale'`); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Unit(ctx, "S-0001"); err == nil || !strings.Contains(err.Error(), "behind the service's back") {
		t.Errorf("the row was changed: %v", err)
	}
	if _, err := db.ExecContext(ctx, `UPDATE person SET sites = 'Skerry Point' WHERE name = 'Sunniva Dale'`); err != nil {
		t.Fatal(err)
	}
	told(t, lead.must(0, "people", "change", "Sunniva Dale", "--everywhere"), "works everywhere")
	told(t, hand.must(0, "note", "S-0001", "revision=D"), "S-0001")
}

package trials

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
)

// TestThatStatementsDoNotGrowWithRows: what a page of a list asks of the database is the same for
// three rows as for all of them.
func TestThatStatementsDoNotGrowWithRows(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	for range 5 {
		if r := w.Follow(w.Open(client.NewRun{Kind: run.BackUp, At: "b/a", Reason: "once more"}).ID); r.Outcome != string(run.Done) {
			t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
		}
	}
	w.StopBench()
	for i := range 24 {
		if _, err := w.Lead.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: fmt.Sprintf("S-1%03d", i), Site: fmt.Sprintf("Pier %d", i%5)}); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Lead.AddJob(ctx, client.NewJob{Reason: fmt.Sprintf("reason %d", i)}); err != nil {
			t.Fatal(err)
		}
		if i < 8 {
			v := fmt.Sprintf("2.%d.0", i+1)
			w.AddRelease(v, coretest.SmallProgram(v), map[string][]string{"revision": {"D"}})
		}
	}
	db := w.DB.Open(t, w.DB.Root)
	asked := func() (n int) {
		t.Helper()
		var name string
		if err := db.QueryRowContext(ctx, `SHOW GLOBAL STATUS LIKE 'Questions'`).Scan(&name, &n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	b := &browsing{t: t, base: w.Base}
	code, err := w.Technician.NewSignInCode(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if got := b.signIn(map[string]string{"code": code.Code}); got != 200 {
		t.Fatal(got)
	}
	// Somebody else may ask meanwhile: the least of a few counts is the page's own.
	cost := func(path string) int {
		least := math.MaxInt
		for range 4 {
			before := asked()
			if got, raw := b.call("GET", path, nil); got != 200 {
				t.Fatalf("%s: %d %s", path, got, raw)
			}
			least = min(least, asked()-before)
		}
		return least
	}
	for i := range 12 {
		sheet := strings.Replace(string(coretest.Small), "model: small", fmt.Sprintf("model: small-%02d", i), 1)
		if _, err := w.Lead.PutModel(ctx, []byte(sheet)); err != nil {
			t.Fatal(err)
		}
	}
	for _, list := range []string{"/api/models", "/api/units", "/api/units?q=pier", "/api/runs", "/api/releases", "/api/jobs?state=open", "/api/units/S-0001/history"} {
		sep := "?"
		if strings.Contains(list, "?") {
			sep = "&"
		}
		size := "size"
		if list == "/api/runs" {
			size = "limit"
		}
		few, all := cost(list+sep+size+"=3"), cost(list+sep+size+"=50")
		if all > few || few < 2 {
			t.Errorf("%s asks the database %d times for three rows, and %d times for all", list, few, all)
		}
	}

	// A list by name goes on behind the name with which the page before has ended.
	var names []string
	for after, pages := "", 0; pages == 0 || after != ""; pages++ {
		code, raw := b.call("GET", "/api/models?size=5&after="+after, nil)
		var page client.Models
		if err := json.Unmarshal(raw, &page); code != 200 || err != nil || page.Total != 13 || len(page.Models) > 5 {
			t.Fatalf("%d %.200s", code, raw)
		}
		for _, m := range page.Models {
			names = append(names, m.Model)
		}
		after = page.Next
	}
	if len(names) != 13 || !slices.IsSorted(names) || len(slices.Compact(slices.Clone(names))) != 13 {
		t.Errorf("a page after the other: %v", names)
	}
	if code, raw := b.call("GET", "/api/models?after=nonsense", nil); code != 400 && code != 422 || !strings.Contains(string(raw), "Begin with the first page") {
		t.Errorf("%d %s", code, raw)
	}
}

// TestAnIdentificationAsksTheDatabaseLittle: whoever works asks for it all the time, at each of a
// bench's links. It does not grow with how many links the bench has.
func TestAnIdentificationAsksTheDatabaseLittle(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil, nil, nil)
	db := w.DB.Open(t, w.DB.Root)
	least := math.MaxInt
	for range 5 { // the bench says every few seconds that it is there
		var name string
		var before, after int
		if err := db.QueryRowContext(ctx, `SHOW GLOBAL STATUS LIKE 'Questions'`).Scan(&name, &before); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Technician.Identify(ctx, "b/b", ""); err != nil {
			t.Fatal(err)
		}
		if err := db.QueryRowContext(ctx, `SHOW GLOBAL STATUS LIKE 'Questions'`).Scan(&name, &after); err != nil {
			t.Fatal(err)
		}
		least = min(least, after-before)
	}
	if least > 42 {
		t.Errorf("an identification asks the database %d times", least)
	}
}

// TestAUnitsPageAsksTheDatabaseLittle: what is in its memory is read many pieces at a time.
func TestAUnitsPageAsksTheDatabaseLittle(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if r := w.Flash("a", testkit.Version2); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	w.StopBench()
	db := w.DB.Open(t, w.DB.Root)
	least := math.MaxInt
	for range 4 {
		var name string
		var before, after int
		if err := db.QueryRowContext(ctx, `SHOW GLOBAL STATUS LIKE 'Questions'`).Scan(&name, &before); err != nil {
			t.Fatal(err)
		}
		page, err := w.Viewer.Unit(ctx, "S-0001")
		if err != nil || page.Fit == nil || page.Fit.Inside == nil || !page.Fit.Inside.Known {
			t.Fatalf("%+v %v", page, err)
		}
		if err := db.QueryRowContext(ctx, `SHOW GLOBAL STATUS LIKE 'Questions'`).Scan(&name, &after); err != nil {
			t.Fatal(err)
		}
		least = min(least, after-before)
	}
	if least > 48 {
		t.Errorf("a unit's page asks the database %d times", least)
	}
}

// TestEveryListHasABound: those too of which a team has hundreds come in pages, one behind the
// other, each row once and in the list's order; a page costs the same whatever there is. Whoever
// wants all of it reads all pages.
func TestEveryListHasABound(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil, nil)
	const many = 7
	release, err := w.Store.ReleaseOf(ctx, "small", "2.0.0")
	if err != nil {
		t.Fatal(err)
	}
	for i := range many {
		if _, err := w.Technician.PutAdapter(ctx, client.NewAdapter{Serial: fmt.Sprintf("A-%d", i%5*10+i), Name: fmt.Sprintf("adapter %d", i%3), State: "ready"}); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Technician.PutGear(ctx, client.NewGear{Kind: []string{"cable", "accessory"}[i%2], Name: fmt.Sprintf("thing %d", i%3), Owner: "the depot"}); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Lead.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: fmt.Sprintf("S-1%03d", i)}); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Lead.PutHold(ctx, client.NewHold{Unit: fmt.Sprintf("S-1%03d", i), Version: "2.0.0", Reason: "agreed"}); err != nil {
			t.Fatal(err)
		}
		if err := w.Store.PutTarget(ctx, store.Target{Model: "small", Revision: fmt.Sprintf("R%d", i), At: time.Now().UTC(), Firmware: sql.NullString{String: release.ID, Valid: true}, Reason: "settled"}); err != nil {
			t.Fatal(err)
		}
		if r := w.Follow(w.Open(client.NewRun{Kind: run.BackUp, At: "b/a", Reason: "once more"}).ID); r.Outcome != string(run.Done) {
			t.Fatal(r.Outcome)
		}
	}
	for i := range many {
		if _, err := w.Lead.AddBulletin(ctx, client.NewBulletin{Model: "small", Title: fmt.Sprintf("complaint %d", i), Says: "A known one."}); err != nil {
			t.Fatal(err)
		}
		key, err := trust.NewKey()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Lead.AddKey(ctx, client.NewKey{Name: fmt.Sprintf("maker %d", i%3), Public: key.Public()}); err != nil {
			t.Fatal(err)
		}
		if err := w.Store.AddBench(ctx, store.Bench{ID: store.NewID(), Name: fmt.Sprintf("shed-%d", 9-i), PublicKey: key.Public()}); err != nil {
			t.Fatal(err)
		}
		p := store.Person{ID: store.NewID(), Name: fmt.Sprintf("Somebody %d", 9-i), Role: "viewer"}
		if err := w.Store.PutPerson(ctx, p); err != nil {
			t.Fatal(err)
		}
		if i%2 == 0 {
			if _, err := w.Lead.EndMember(ctx, p.ID, client.Reason{Reason: "left the team"}); err != nil {
				t.Fatal(err)
			}
		}
	}
	everybody, err := w.Lead.People(ctx)
	if err != nil {
		t.Fatal(err)
	}
	b := &browsing{t: t, base: w.Base}
	code, err := w.Technician.NewSignInCode(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if got := b.signIn(map[string]string{"code": code.Code}); got != 200 {
		t.Fatal(got)
	}
	page := func(path, rows string, size int, after string) (all []string, next string, total int) {
		t.Helper()
		sep := "?"
		if strings.Contains(path, "?") {
			sep = "&"
		}
		got, raw := b.call("GET", fmt.Sprintf("%s%ssize=%d&after=%s", path, sep, size, after), nil)
		var m map[string]json.RawMessage
		var each []json.RawMessage
		if err := json.Unmarshal(raw, &m); got != 200 || err != nil || json.Unmarshal(m[rows], &each) != nil || json.Unmarshal(m["next"], &next) != nil || json.Unmarshal(m["total"], &total) != nil {
			t.Fatalf("%s: %d %.300s", path, got, raw)
		}
		for _, x := range each {
			all = append(all, string(x))
		}
		return all, next, total
	}
	for path, x := range map[string]struct {
		rows string
		want int
	}{
		"/api/links": {"links", 3}, "/api/adapters": {"adapters", many}, "/api/gear": {"gear", many}, "/api/holds": {"holds", many}, "/api/holds?model=small": {"holds", many},
		"/api/targets": {"targets", many}, "/api/units/S-0001/backups": {"backups", many},
		"/api/bulletins": {"bulletins", many}, "/api/bulletins?model=small": {"bulletins", many}, "/api/keys": {"keys", many}, "/api/benches": {"benches", 1 + many}, "/api/people": {"people", len(everybody.People)},
	} {
		whole, next, total := page(path, x.rows, 500, "")
		if len(whole) != x.want || next != "" || total != x.want {
			t.Errorf("%s: %d rows of %d, next %q", path, len(whole), total, next)
		}
		var each []string
		for after, pages := "", 0; pages == 0 || after != "" && pages < 50; pages++ {
			some, next, total := page(path, x.rows, 2, after)
			if len(some) > 2 || total != x.want {
				t.Errorf("%s: a page of 2 has %d rows, of %d", path, len(some), total)
			}
			each, after = append(each, some...), next
		}
		if !slices.Equal(each, whole) {
			t.Errorf("%s: page by page it is\n%s\nand at once\n%s", path, strings.Join(each, "\n"), strings.Join(whole, "\n"))
		}
		if got, _ := b.call("GET", path+map[bool]string{true: "&", false: "?"}[strings.Contains(path, "?")]+"size=501", nil); got != 422 {
			t.Errorf("%s: a page of 501: %d", path, got)
		}
		if got, raw := b.call("GET", path+map[bool]string{true: "&", false: "?"}[strings.Contains(path, "?")]+"after=nonsense", nil); got != 400 && got != 422 || !strings.Contains(string(raw), "Begin with the first page") {
			t.Errorf("%s: %d %s", path, got, raw)
		}
	}
	if one, _, total := page("/api/links?at=b/b", "links", 500, ""); len(one) != 1 || total != 1 || !strings.Contains(one[0], `"b/b"`) {
		t.Errorf("one link: %v", one)
	}
	if all, err := w.Technician.Holds(ctx, ""); err != nil || len(all.Holds) != many || all.Next != "" {
		t.Errorf("all holds: %+v %v", all, err)
	}
}

package trials

import (
	"bytes"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/testkit"
)

// TestWhoMayCallWhat makes every call of the API as everybody that there is, and holds what
// comes of it against the column of docs/capabilities.md that a person reads. What is sent is
// no JSON and leads nowhere: whoever may not is told so before anything is read, whoever may
// hears that it is nonsense.
func TestWhoMayCallWhat(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t).Unbounded()
	newerColumns(t, w.DB)
	table, err := os.ReadFile(filepath.Join(here, "docs", "capabilities.md"))
	if err != nil {
		t.Fatal(err)
	}
	says := map[string]string{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\| (\\w+) \\|").FindAllStringSubmatch(string(table), -1) {
		says[m[1]] = m[2]
	}
	gone, err := w.Lead.Invite(ctx, client.NewMember{Name: "Somebody Else", Role: "lead"})
	if err != nil {
		t.Fatal(err)
	}
	left := &browsing{t: t, base: w.Base}
	if code := left.signIn(map[string]string{"code": gone.Code}); code != 200 {
		t.Fatal(code)
	}
	if _, err := w.Lead.EndMember(ctx, gone.ID, client.Reason{Reason: "has left"}); err != nil {
		t.Fatal(err)
	}
	reads, err := w.Lead.MakeToken(ctx, client.NewToken{Name: "report", Scope: client.ScopeRead})
	if err != nil {
		t.Fatal(err)
	}
	works, err := w.Lead.MakeToken(ctx, client.NewToken{Name: "work", Scope: client.ScopeWork})
	if err != nil {
		t.Fatal(err)
	}
	raw, err := os.ReadFile(filepath.Join(w.Dir, "bench.json"))
	if err != nil {
		t.Fatal(err)
	}
	bench := regexp.MustCompile(`"token": "([^"]+)"`).FindStringSubmatch(string(raw))[1]
	rank := map[string]int{"anybody": 0, "viewer": 1, "technician": 2, "lead": 3}
	callers := []struct {
		name, token, cookie string
		rank                int // 0: nobody is signed in
		bench               bool
	}{
		{name: "nobody"}, {name: "garbage", token: "garbage"}, {name: "an account that was ended", cookie: left.cookie},
		{name: "a viewer", token: w.Tokens["viewer"], rank: 1}, {name: "a lead's token that may look", token: reads.Token, rank: 1},
		{name: "a technician", token: w.Tokens["technician"], rank: 2}, {name: "a lead's token for work", token: works.Token, rank: 2},
		{name: "a lead", token: w.Tokens["lead"], rank: 3}, {name: "a bench", token: bench, bench: true},
	}
	variable := regexp.MustCompile(`\{[^}]+\}`)
	seen := 0
	for path, item := range service.Describe().Paths {
		for method, o := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "PUT": item.Put, "DELETE": item.Delete} {
			if o == nil {
				continue
			}
			seen++
			who := says[o.OperationID]
			if who == "" {
				t.Errorf("docs/capabilities.md does not say who may call %s", o.OperationID)
				continue
			}
			for _, c := range callers {
				if o.OperationID == "sign-out" && c.rank > 0 || strings.HasSuffix(path, "/orders") && c.bench { // it would end what the others need; it never ends
					continue
				}
				r, err := http.NewRequest(method, w.Base+variable.ReplaceAllString(path, "01930000-0000-7000-8000-00000000dead"), bytes.NewReader([]byte("{")))
				if err != nil {
					t.Fatal(err)
				}
				if r.Header.Set("Content-Type", "application/json"); c.token != "" {
					r.Header.Set("Authorization", "Bearer "+c.token)
				}
				if c.cookie != "" {
					r.AddCookie(&http.Cookie{Name: "ferry_session", Value: c.cookie})
				}
				resp, err := http.DefaultClient.Do(r)
				if err != nil {
					t.Fatal(err)
				}
				resp.Body.Close()
				want := "in"
				switch known := c.rank > 0 || c.bench; {
				case who == "anybody":
				case !known:
					want = "401"
				case who == "bench" && !c.bench, who != "bench" && c.bench, who != "bench" && c.rank < rank[who]:
					want = "403"
				}
				got := map[int]string{401: "401", 403: "403"}[resp.StatusCode]
				if got == "" {
					got = "in"
				}
				if c.bench && want == "in" && who == "bench" && got == "403" { // it is a bench, and has not signed what it said
					got = "in"
				}
				if got != want && !(o.OperationID == "new-sign-in-code" && got == "403") {
					t.Errorf("%s (%s), %s: %d, want %s", o.OperationID, who, c.name, resp.StatusCode, want)
				}
				if resp.StatusCode >= 500 && resp.StatusCode != 504 {
					t.Errorf("%s, %s: %d", o.OperationID, c.name, resp.StatusCode)
				}
			}
		}
	}
	if seen != len(says) {
		t.Errorf("%d calls, and the table has %d", seen, len(says))
	}
}

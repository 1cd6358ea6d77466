package trials

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/client"
	"zealousferry/internal/service"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/database"
)

// anything makes values for the API: mostly such as its schema has them, some at its bounds, and
// some that it does not know.
type anything struct {
	*rand.Rand
	known   []string // names and ids that are there
	schemas huma.Registry
}

var odd = []string{"", " ", "\x00", "\x1b[2J", "'; DROP TABLE unit; --", "../../etc/passwd", "%s%n", "null", "-1", "1e999", "日本語", "\u202e", "\xff\xfe", "<script>", "01930000-0000-7000-8000-00000000dead", "9223372036854775808"}

func (a *anything) word(s *huma.Schema) string {
	most, least := 40, 0
	if s != nil && s.MaxLength != nil {
		most = *s.MaxLength
	}
	if s != nil && s.MinLength != nil {
		least = *s.MinLength
	}
	switch n := a.IntN(20); {
	case n < 9 && len(a.known) > 0:
		return a.known[a.IntN(len(a.known))]
	case n < 12:
		return odd[a.IntN(len(odd))]
	case n == 12:
		return strings.Repeat("x", most)
	case n == 13:
		return strings.Repeat("x", most+1)
	case n == 14 && least > 0:
		return strings.Repeat("x", least-1)
	case n == 15:
		return time.Now().UTC().Format(time.RFC3339)
	case n == 16:
		return fmt.Sprintf("%064x", a.Uint64())
	}
	b := make([]byte, max(least, 1+a.IntN(max(1, min(most, 30)))))
	for i := range b {
		b[i] = "abcdefghijklmnopqrstuvwxyz-0123456789./ "[a.IntN(40)]
	}
	return string(b)
}

func (a *anything) value(s *huma.Schema, depth int) any {
	if s == nil || depth > 6 || a.IntN(40) == 0 { // something else altogether
		return []any{nil, true, -1, 1.5, "x", []any{}, map[string]any{}, strings.Repeat("y", 5000)}[a.IntN(8)]
	}
	if s.Ref != "" {
		return a.value(a.schemas.SchemaFromRef(s.Ref), depth)
	}
	if len(s.Enum) > 0 && a.IntN(10) > 0 {
		return s.Enum[a.IntN(len(s.Enum))]
	}
	switch s.Type {
	case huma.TypeObject:
		o := map[string]any{}
		for name, p := range s.Properties {
			if slices.Contains(s.Required, name) && a.IntN(30) > 0 || a.IntN(2) == 0 {
				o[name] = a.value(p, depth+1)
			}
		}
		if p, ok := s.AdditionalProperties.(*huma.Schema); ok {
			for range a.IntN(4) {
				o[a.word(nil)] = a.value(p, depth+1)
			}
		}
		if a.IntN(30) == 0 {
			o[a.word(nil)] = "unknown"
		}
		return o
	case huma.TypeArray:
		list := []any{}
		for range a.IntN(5) {
			list = append(list, a.value(s.Items, depth+1))
		}
		return list
	case huma.TypeInteger:
		return []any{0, 1, 2, 17, -1, 1 << 31, uint64(1) << 63, a.IntN(1000)}[a.IntN(8)]
	case huma.TypeNumber:
		return []any{0, 0.5, -1e300, 1e300, a.Float64()}[a.IntN(5)]
	case huma.TypeBoolean:
		return a.IntN(2) == 0
	}
	return a.word(s)
}

// TestAnyCall makes calls that follow the API's schema, or nearly, with names and ids that are
// there: nothing ends in an error of the inside, and nothing grows with what was made up. 4000
// of them; in the full trials a million.
func TestAnyCall(t *testing.T) {
	t.Parallel()
	calls := 4000
	if os.Getenv("FERRY_TRIALS") == "full" {
		calls = 1_000_000
	}
	w := testkit.NewWorld(t)
	newerColumns(t, w.DB) // a newer version beside it has added some: this one does not see them
	run := w.Flash("a", "1.0.0")
	u, err := w.Lead.Unit(ctx, "S-0001")
	if err != nil {
		t.Fatal(err)
	}
	w.StopBench()
	_, bench, _ := stolen(t, w.Dir)
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `UPDATE bench SET seen_at = '2020-01-01'`); err != nil { // away: nobody waits for it
		t.Fatal(err)
	}
	token, err := w.Lead.MakeToken(ctx, client.NewToken{Name: "any", Scope: "whole"})
	if err != nil {
		t.Fatal(err)
	}
	api := service.Describe()
	type operation struct {
		method, path string
		*huma.Operation
	}
	var all []operation
	for path, item := range api.Paths {
		for method, o := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "PUT": item.Put, "DELETE": item.Delete} {
			// What would end the caller himself, or never ends.
			if o == nil || slices.Contains([]string{"sign-out", "end-access", "end-person", "change-person", "follow-run", "orders"}, o.OperationID) || strings.Contains(path, "follow") {
				continue
			}
			if r := o.Responses["200"]; r != nil && r.Content["text/event-stream"] != nil {
				continue
			}
			all = append(all, operation{method, path, o})
		}
	}
	slices.SortFunc(all, func(x, y operation) int { return strings.Compare(x.method+x.path, y.method+y.path) })
	handler := w.Service(func(v *service.Service) { v.Limited(nil) })
	variable := regexp.MustCompile(`\{[^}]+\}`)
	series := func() int {
		r := httptest.NewRequest("GET", "/metrics", nil)
		r.RemoteAddr = "127.0.0.1:1"
		out := httptest.NewRecorder()
		handler.ServeHTTP(out, r)
		return strings.Count(out.Body.String(), "\n")
	}
	one := func(a *anything) {
		o := all[a.IntN(len(all))]
		to := variable.ReplaceAllStringFunc(o.path, func(string) string { return url.PathEscape(a.word(nil)) })
		q := url.Values{}
		for _, p := range o.Parameters {
			if p.In == "query" && a.IntN(2) == 0 {
				q.Set(p.Name, fmt.Sprint(a.value(p.Schema, 1)))
			}
		}
		var body io.Reader
		kind := "application/json"
		if o.RequestBody != nil {
			var raw []byte
			for k, media := range o.RequestBody.Content {
				if kind = k; strings.Contains(k, "json") {
					raw, _ = json.Marshal(a.value(media.Schema, 0))
				} else {
					raw = []byte(a.word(nil))
				}
			}
			if a.IntN(30) == 0 {
				raw = raw[:a.IntN(len(raw)+1)]
			}
			body = bytes.NewReader(raw)
		}
		within, end := context.WithTimeout(ctx, time.Minute)
		defer end()
		r, err := http.NewRequestWithContext(within, o.method, "http://127.0.0.1"+to+"?"+q.Encode(), body)
		if err != nil {
			return
		}
		r.RemoteAddr = "127.0.0.1:1"
		r.Header.Set("Content-Type", kind)
		if a.IntN(10) > 0 {
			r.Header.Set("Authorization", "Bearer "+token.Token)
		}
		out := httptest.NewRecorder()
		handler.ServeHTTP(out, r)
		if out.Code >= 500 && out.Code != 503 && out.Code != 504 {
			t.Errorf("%s %s?%s: %d %.300s", o.method, to, q.Encode(), out.Code, out.Body)
		}
	}
	before, begun := 0, runtime.NumGoroutine()
	half := func(seed uint64) {
		var wg sync.WaitGroup
		for worker := range uint64(4) {
			wg.Go(func() {
				a := &anything{rand.New(rand.NewPCG(seed, worker)), []string{"S-0001", u.ID, run.ID, bench, "b", "b/a", "small", "1.0.0", "2.0.0", "small@1.0.0", "main", "flash", "yes", "technician"}, api.Components.Schemas}
				for range calls / 8 {
					one(a)
				}
			})
		}
		wg.Wait()
	}
	half(1)
	before = series()
	half(2)
	if after := series(); after > before*3/2+200 {
		t.Errorf("the metrics have %d lines, and had %d at half time", after, before)
	}
	deadline := time.Now().Add(20 * time.Second)
	for runtime.NumGoroutine() > begun+200 && time.Now().Before(deadline) {
		runtime.Gosched()
	}
	if n := runtime.NumGoroutine(); n > begun+200 {
		t.Errorf("%d goroutines are left, %d were there", n, begun)
	}
	if h, err := w.Lead.History(ctx, "S-0001"); err != nil || h.Chain != "intact" {
		t.Errorf("the unit's history: %v %v", h.Findings, err)
	}
}

// newerColumns adds a column to every table, as a newer version may.
func newerColumns(t *testing.T, db *database.Database) {
	t.Helper()
	root := db.Open(t, db.Root)
	rows, err := root.Query(`SELECT table_name FROM information_schema.tables WHERE table_schema = 'ferry' AND table_name <> 'goose_db_version'`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var table string
		if err := rows.Scan(&table); err != nil {
			t.Fatal(err)
		}
		if _, err := root.Exec("ALTER TABLE ferry.`" + table + "` ADD COLUMN from_a_newer_version INT NOT NULL DEFAULT 7"); err != nil {
			t.Fatal(err)
		}
	}
}

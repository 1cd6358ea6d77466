package trials

import (
	"bytes"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"

	"zealousferry/core/diagnose"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/core/words/catalogue"
	"zealousferry/internal/cli"
	"zealousferry/internal/service"
)

var here = filepath.Join("..", "..")

// Every message has one id and one text, and docs/messages.md lists them.
func TestMessagesAreListed(t *testing.T) {
	all, err := catalogue.Read(here)
	if err != nil || len(all) < 400 {
		t.Fatalf("%d messages, %v", len(all), err)
	}
	same := func(s string) string { // but for what stands around it
		return strings.ToLower(strings.Join(strings.Fields(strings.Trim(s, " \n\t.,:;()+")), " "))
	}
	seen := map[string]catalogue.Message{}
	for _, m := range all {
		if other, ok := seen[m.ID]; ok && same(other.Text) != same(m.Text) {
			t.Errorf("%s is the id of %q (%s) and of %q (%s): word one of them differently", m.ID, other.Text, other.In, m.Text, m.In)
		}
		seen[m.ID] = m
	}
	if hidden, err := catalogue.Hidden(here); err != nil || len(hidden) > 0 {
		t.Errorf("words that the list cannot have, because they are not written out where they are said (%v): %s", err, strings.Join(hidden, "; "))
	}
	have, err := os.ReadFile(filepath.Join(here, "docs", "messages.md"))
	if err != nil || string(have) != catalogue.Page(all) {
		t.Errorf("docs/messages.md is stale: make types (%v)", err)
	}
}

// What a message points to is there: the verb with its flags on the command line, the
// page in the console.
func TestWhatHelpsIsThere(t *testing.T) {
	pages := pagesOf(t)
	in := func(page string) bool {
		return slices.ContainsFunc(pages, func(p *regexp.Regexp) bool { return p.MatchString(page) })
	}
	for _, w := range words.Ways {
		var verb, flags []string
		for _, part := range strings.Fields(w.Verb) {
			switch {
			case strings.HasPrefix(part, "--"):
				flags = append(flags, part)
			case regexp.MustCompile(`^[a-z-]+$`).MatchString(part) && len(flags) == 0:
				verb = append(verb, part)
			}
		}
		if len(verb) > 0 {
			var out, errs bytes.Buffer
			if code := cli.Run(append(verb[1:], "--help"), nil, &out, &errs); code != 0 || !strings.Contains(out.String(), strings.Join(verb, " ")) {
				t.Errorf("%s: there is no verb %q: %s%s", w.ID, strings.Join(verb, " "), out.String(), errs.String())
			}
			for _, f := range flags {
				if !strings.Contains(out.String(), f) {
					t.Errorf("%s: %s has no %s", w.ID, strings.Join(verb, " "), f)
				}
			}
		}
		page, _, _ := strings.Cut(w.Page, "?")
		page = strings.ReplaceAll(regexp.MustCompile(`\{link\}`).ReplaceAllString(page, "b/a"), "{", "")
		if w.Page != "" && !in(strings.ReplaceAll(page, "}", "")) {
			t.Errorf("%s: the console has no page %s", w.ID, w.Page)
		}
	}
}

// typed are pages for what can only be typed, since a private key or a machine's own
// files are needed for it.
var typed = []string{"Keys.vue", "Release.vue", "EnrolBench.vue"}

// A command is named in one place: no other sentence of the heart, the service or the
// bench tells anybody what to type, neither a command nor an option of one, and no page of the
// console does. Whoever starts the service, or does not reach it, is at a terminal.
func TestOnlyTheWaysNameCommands(t *testing.T) {
	command := regexp.MustCompile(`\bferry (identify|check|listen|links|units|fit|card|note|flash|backup|restore|backups|history|run|model|release|gear|adapter|bench|serve|migrate|key|person|sim|console|image|convert)\b`)
	option, starts := regexp.MustCompile(`^"[A-Z][^"]* --[a-z]`), []string{"internal/store/store.go", "internal/store/seals.go", "internal/client/client.go"}
	read := 0
	err := filepath.WalkDir(here, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(here, path)
		if d.IsDir() {
			if slices.Contains([]string{"node_modules", ".git", "var", "dist"}, d.Name()) || slices.Contains([]string{"internal/cli", "internal/doctor", "internal/demo", "internal/measure", "internal/trials", "internal/testkit", "core/words", "cmd", "docs"}, filepath.ToSlash(rel)) {
				return filepath.SkipDir
			}
			return nil
		}
		if !slices.Contains([]string{".vue", ".ts", ".go"}, filepath.Ext(path)) {
			return nil
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if strings.HasSuffix(path, ".vue") || strings.HasSuffix(path, ".ts") && !strings.HasSuffix(path, ".d.ts") {
			read++
			if m := command.Find(raw); m != nil && !slices.Contains(typed, d.Name()) {
				t.Errorf("%s tells to type %q", rel, m)
			}
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, raw, 0)
		if err != nil {
			return err
		}
		read++
		ast.Inspect(file, func(n ast.Node) bool {
			if x, ok := n.(*ast.BasicLit); ok && x.Kind == token.STRING && (command.MatchString(x.Value) || option.MatchString(x.Value) && !slices.Contains(starts, filepath.ToSlash(rel))) {
				t.Errorf("%s says %s: point to a way of core/words", rel, x.Value)
			}
			return true
		})
		return nil
	})
	if err != nil || read < 150 {
		t.Fatalf("read %d files: %v", read, err)
	}
}

// What the API spells has a name, and the console's names are those.
func TestValuesAreNamedOnce(t *testing.T) {
	for of, values := range map[string][]string{
		"outcomes":   {string(run.Done), string(run.NotProven), string(run.NothingToDo), string(run.Refused), string(run.Failed), string(run.Interrupted), string(run.Waiting), string(run.Abandoned)},
		"conditions": {string(run.Untouched), string(run.UnknownNow), string(run.PartlyWritten), string(run.WrittenNow), string(run.VerifiedNow), string(run.Proven)},
		"waysBack":   {run.BackFull, run.BackSettings, run.BackImage, run.BackNone},
		"stages":     {model.AtHazard, model.AtTool, model.AtPrepare, model.AtFound, model.AtConnect, model.AtPower, model.AtBetween, model.AtLeft},
		"verdicts":   {string(fit.Fits), string(fit.DoesNotFit), string(fit.CannotTell)},
		"needStates": {fit.Ready, fit.RunsOut, fit.Unproven},
		"classes":    {string(diagnose.Silent)},
	} {
		for _, v := range values {
			if words.All[of][v] == "" {
				t.Errorf("%s: %q has no name", of, v)
			}
		}
	}
	have, err := os.ReadFile(filepath.Join(here, "console", "src", "api", "names.ts"))
	if err != nil {
		t.Fatal(err)
	}
	for of, names := range words.All {
		for value, name := range names {
			if !strings.Contains(string(have), `"`+value+`": "`+name+`"`) {
				t.Errorf("the console has not %s of %s: make types", value, of)
			}
		}
	}
}

// Whoever has only the command line, or only the console, does the whole job: each call
// of the API has its verb and its page in docs/capabilities.md, and their code makes it.
func TestEachCallHasItsVerbAndItsPage(t *testing.T) {
	table, err := os.ReadFile(filepath.Join(here, "docs", "capabilities.md"))
	if err != nil {
		t.Fatal(err)
	}
	rows := map[string][]string{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\| [^|]+ \\| [^|]+ \\| ([^|]+) \\| ([^|]+) \\|$").FindAllStringSubmatch(string(table), -1) {
		if rows[m[1]] != nil {
			t.Errorf("%s stands twice", m[1])
		}
		rows[m[1]] = []string{strings.Trim(m[2], "` "), strings.TrimSpace(m[3])}
	}
	console := sources(t, filepath.Join(here, "console", "src"), ".vue", ".ts")
	line, calls := sources(t, filepath.Join(here, "internal", "cli"), ".go"), methods(sources(t, filepath.Join(here, "internal", "client"), ".go"))
	pages := pagesOf(t)
	seen := 0
	for path, item := range service.Describe().Paths {
		if strings.HasPrefix(path, "/api/bench/") {
			continue
		}
		for method, o := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "PUT": item.Put, "DELETE": item.Delete} {
			if o == nil {
				continue
			}
			seen++
			row := rows[o.OperationID]
			if row == nil {
				t.Errorf("docs/capabilities.md has no line for %s", o.OperationID)
				continue
			}
			if verb := row[0]; !strings.HasPrefix(verb, "–") {
				var out, errs bytes.Buffer
				if code := cli.Run(append(strings.Fields(verb)[1:], "--help"), nil, &out, &errs); code != 0 || !strings.Contains(out.String(), verb) {
					t.Errorf("%s: there is no verb %q", o.OperationID, verb)
				}
				if !slices.ContainsFunc(callsOf(calls, path, method), func(name string) bool { return strings.Contains(line, "."+name+"(") }) && !strings.HasPrefix(o.OperationID, "print-") { // which the command line prints by itself
					t.Errorf("%s: the command line never calls %s %s", o.OperationID, method, path)
				}
			}
			if page := row[1]; !strings.HasPrefix(page, "–") {
				if !slices.ContainsFunc(pages, func(p *regexp.Regexp) bool { return p.MatchString(page) }) {
					t.Errorf("%s: the console has no page %s", o.OperationID, page)
				}
				before, after, cut := strings.Cut(path, "{")
				_, after, _ = strings.Cut(after, "}")
				written := strings.Contains(console, "'"+path+"'") || strings.Contains(console, "`"+before+"${") && (after == "" || strings.Contains(console, "}"+after)) && cut || !cut && strings.Contains(console, path+"?")
				if !written {
					t.Errorf("%s: the console never calls %s %s", o.OperationID, method, path)
				}
			}
		}
	}
	if seen < 60 || seen != len(rows) {
		t.Errorf("%d calls, %d lines", seen, len(rows))
	}
}

// sources joins the source files of a folder, without tests and what is made from the
// API's description.
func sources(t *testing.T, dir string, ends ...string) string {
	t.Helper()
	var b strings.Builder
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") || strings.HasSuffix(path, ".d.ts") || !slices.ContainsFunc(ends, func(e string) bool { return strings.HasSuffix(path, e) }) {
			return err
		}
		raw, err := os.ReadFile(path)
		b.Write(raw)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// methods are the bodies of the client's calls, by name.
func methods(source string) map[string]string {
	all := map[string]string{}
	for _, m := range regexp.MustCompile(`(?ms)^func \(c \*Client\) (\w+)\(.*?^}`).FindAllStringSubmatch(source, -1) {
		all[m[1]] = m[0]
	}
	return all
}

// callsOf are the client's methods that make a call: all fixed pieces of its path stand
// in their bodies, and no longer path.
func callsOf(methods map[string]string, path, method string) (names []string) {
	pieces := regexp.MustCompile(`\{\w+\}`).Split(path, -1)
	for name, body := range methods {
		has := true
		for i, p := range pieces {
			if i == len(pieces)-1 && p != "" {
				has = has && regexp.MustCompile(regexp.QuoteMeta(p)+"[\"?]").MatchString(body)
				continue
			}
			has = has && (p == "" || strings.Contains(body, p))
		}
		if has {
			names = append(names, name)
		}
	}
	return names
}

// pagesOf are the paths of the console's router, as patterns.
func pagesOf(t *testing.T) (all []*regexp.Regexp) {
	t.Helper()
	router, err := os.ReadFile(filepath.Join(here, "console", "src", "router.ts"))
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range regexp.MustCompile(`path: '([^']+)'`).FindAllStringSubmatch(string(router), -1) {
		if m[1] != "/:rest(.*)*" {
			all = append(all, regexp.MustCompile("^"+regexp.MustCompile(`:\w+`).ReplaceAllString(m[1], `[^/]+`)+"$"))
		}
	}
	return all
}

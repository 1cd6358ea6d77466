package trials

import (
	"bytes"
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"

	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/doctor"
	"zealousferry/internal/testkit"
)

// What is installed where units are worked on has neither the demo nor its world in it.
func TestWhatIsInstalledHasNoDemo(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "list", "-deps", "-tags", "field", "../../cmd/ferry").Output()
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(out), "zealousferry/internal/demo") || !strings.Contains(string(out), "zealousferry/internal/service") {
		t.Errorf("built in are\n%s", out)
	}
}

// The services that the package brings are locked in as far as they can be.
func TestTheServicesAreLockedIn(t *testing.T) {
	t.Parallel()
	look, err := exec.LookPath("systemd-analyze")
	if err != nil {
		t.Skip("this machine has no systemd")
	}
	for _, unit := range []string{"ferry-service", "ferry-bench"} {
		out, err := exec.Command(look, "security", "--offline=yes", "../../packaging/"+unit+".service").CombinedOutput()
		m := regexp.MustCompile(`exposure level for .*: ([0-9.]+) (\w+)`).FindStringSubmatch(string(out))
		if m == nil {
			t.Fatalf("%s: %s %v", unit, out, err)
		}
		if x, _ := strconv.ParseFloat(m[1], 64); x > 2 || m[2] != "OK" {
			t.Errorf("%s: exposure is %s, %s", unit, m[1], m[2])
		}
	}
}

// TestDoctor: everything is well on a machine where it is; each thing that is not is named with
// what mends it.
func TestDoctor(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.Flash("a", "2.0.0")
	size := whole(t, w)
	l := commandLine(t, w, "lead")
	key := filepath.Join(t.TempDir(), "service.key")
	if err := os.WriteFile(key, []byte(w.Key.Encode()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	free := func() string {
		x, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer x.Close()
		return x.Addr().String()
	}
	told(t, l.must(0, "doctor"), "Work from here", "knows you as")

	signed, err := w.Store.NewestCheckpoint(ctx)
	if err != nil || size == 0 {
		t.Fatal(err)
	}
	if err := os.WriteFile(key+".checkpoint", signed, 0o600); err != nil {
		t.Fatal(err)
	}
	service := func(code int, more ...string) string {
		t.Helper()
		old := l.env
		defer func() { l.env = old }()
		l.env = append(l.env[:len(l.env):len(l.env)], "FERRY_DATABASE="+w.DB.Serve)
		return l.must(code, append([]string{"doctor", "--key", key, "--listen", free()}, more...)...)
	}
	// The tests' database acknowledges before it is on disk, which is what the doctor is for.
	said := service(16)
	told(t, said, "may change what the service does, and nothing else", "with which history here is signed", "the database leads to it", "is free", "acknowledges before it is on disk", "innodb_flush_log_at_trx_commit=1")
	if n := strings.Count(said, "✗"); n != 1 {
		t.Errorf("%d things are wrong:\n%s", n, said)
	}
	if strings.Contains(said, "innodb_adaptive_hash_index") {
		t.Errorf("it is on:\n%s", said)
	}
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `SET GLOBAL innodb_adaptive_hash_index = OFF`); err != nil {
		t.Fatal(err)
	}
	told(t, service(16), "how rows are found", "innodb_adaptive_hash_index=ON")
	if err := os.Chmod(key, 0o644); err != nil {
		t.Fatal(err)
	}
	told(t, service(16), "others may read or change", "chmod 600 "+key)
	told(t, service(16, "--listen", strings.TrimPrefix(w.Base, "http://")), "a service answers on")
	told(t, service(16, "--listen", "0.0.0.0:0"), "without encryption")
	if err := os.WriteFile(key, []byte("AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	told(t, service(16), "history here is signed with key "+w.Key.Public().ID())
	os.Remove(key)
	told(t, service(16), "there is no key at")

	// An account that may change what only grows.
	l.env = append(l.env, "FERRY_DATABASE="+w.DB.Migrate)
	told(t, l.must(16, "doctor", "--key", key, "--listen", free()), "may change or delete more than the service does: all tables", "ferry migrate --grant")
	l.env = l.env[:len(l.env)-1]

	// A bench.
	bench := func(code int) (all []doctor.Finding) {
		t.Helper()
		var out struct{ Findings []doctor.Finding }
		if err := json.Unmarshal([]byte(l.must(code, "doctor", "--dir", w.Dir, "--output", "json")), &out); err != nil {
			t.Fatal(err)
		}
		return out.Findings
	}
	is := func(all []doctor.Finding, what, want string) {
		t.Helper()
		for _, f := range all {
			if f.What == what && f.Is == want {
				return
			}
		}
		t.Errorf("%s is not %s in %+v", what, want, all)
	}
	if err := os.Chmod(w.Dir, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(w.Dir, "links.yaml"), []byte("links:\n  - { name: gone, kind: serial, settings: { path: /dev/no-such-port } }\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	all := bench(0)
	is(all, "folder", doctor.Well)
	is(all, "service", doctor.Well)
	is(all, "link gone", doctor.Look)
	if err := os.Chmod(filepath.Join(w.Dir, "bench.json"), 0o644); err != nil {
		t.Fatal(err)
	}
	is(bench(16), "folder", doctor.Wrong)
	if err := os.Chmod(filepath.Join(w.Dir, "bench.json"), 0o600); err != nil {
		t.Fatal(err)
	}
	_, id, _ := stolen(t, w.Dir)
	if err := w.Lead.RevokeBench(ctx, id); err != nil {
		t.Fatal(err)
	}
	is(bench(16), "service", doctor.Wrong)
	w.StopService()
	is(bench(16), "service", doctor.Wrong)
	told(t, l.must(16, "doctor", "--dir", t.TempDir()), "not the folder of an enrolled bench")
}

// TestAlertsAreOfWhatThereIs: every name and label in docs/alerts.yaml is one that /metrics gives,
// and what they count is so: a bench in touch and away, a run that waits, a unit half done, an
// answer that was not found.
func TestAlertsAreOfWhatThereIs(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.InTheMiddle(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Reason: "a test"}, 3)
	w.Viewer.Unit(ctx, "NO-SUCH-UNIT")
	browse := &browsing{t: t, base: w.Base}
	if code := browse.signIn(map[string]string{"name": "Nobody", "password": "something long enough"}); code != 403 {
		t.Fatal(code)
	}
	read := func() string {
		t.Helper()
		code, raw := browse.call("GET", "/metrics", nil)
		if code != 200 {
			t.Fatalf("%d %s", code, raw)
		}
		return string(raw)
	}
	for _, want := range []string{"ferry_database_up 1", `ferry_benches{state="in-touch"} 1`, `ferry_benches{state="away"} 0`, `ferry_runs_open{state="open"} 1`, `ferry_runs_open{state="paused"} 0`,
		`ferry_units{state="half-done"} `, `ferry_audit_total{kind="sign-in-failed"} 1`, `route="GET /api/units/{unit}",status="404"} 1`, "ferry_entries_waiting "} {
		if all := read(); !strings.Contains(all, want) {
			t.Errorf("the metrics do not say %s:\n%s", want, regexp.MustCompile(`(?m)^(#|go_|process_|ferry_http_seconds).*\n`).ReplaceAllString(all, ""))
		}
	}
	raw, err := os.ReadFile(filepath.Join(here, "docs", "alerts.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	var file struct {
		Groups []struct {
			Rules []struct {
				Alert, Expr string
				For         string
				Annotations struct{ Summary string }
			}
		}
	}
	d := yaml.NewDecoder(bytes.NewReader(raw))
	d.KnownFields(false)
	if err := d.Decode(&file); err != nil || len(file.Groups) == 0 || len(file.Groups[0].Rules) < 5 {
		t.Fatalf("%v %+v", err, file)
	}
	all, names := read(), regexp.MustCompile(`ferry_[a-z_]+`)
	for _, r := range file.Groups[0].Rules {
		if r.Alert == "" || r.Annotations.Summary == "" || len(names.FindAllString(r.Expr, -1)) == 0 {
			t.Errorf("a rule says too little: %+v", r)
		}
		for _, n := range names.FindAllString(r.Expr, -1) {
			if !strings.Contains(all, "\n"+n+"{") && !strings.Contains(all, "\n"+n+" ") && !strings.Contains(all, "# TYPE "+n+" ") && n != "ferry_runs_closed_total" {
				t.Errorf("%s: there is no %s", r.Alert, n)
			}
		}
		for _, m := range regexp.MustCompile(`(?:state|kind)=~?"[a-z|-]+"`).FindAllString(r.Expr, -1) {
			label, values, _ := strings.Cut(strings.ReplaceAll(strings.ReplaceAll(m, "=~", "="), `"`, ""), "=")
			if slices.ContainsFunc(strings.Split(values, "|"), func(x string) bool { return !strings.Contains(all, label+`="`+x+`"`) }) {
				t.Errorf("%s: nothing has %s", r.Alert, m)
			}
		}
	}
}

package trials

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"zealousferry/core/image"
	"zealousferry/core/image/ihex"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// ferry builds the program once.
var ferry = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "ferry-bin-")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "ferry")
	out, err := exec.Command("go", "build", "-o", path, "zealousferry/cmd/ferry").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return path, nil
})

func TestMain(m *testing.M) {
	if path := os.Getenv("FERRY_MEASURED"); path != "" {
		c := exec.Command(path, os.Args[1:]...)
		c.Stdout, c.Stderr, c.Env = os.Stdout, os.Stderr, []string{"PATH=" + os.Getenv("PATH")}
		c.Run()
		fmt.Fprintf(os.Stderr, "KiB used: %d\n", c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)
		os.Exit(c.ProcessState.ExitCode())
	}
	testkit.Advised = lookAtOnce
	code := m.Run()
	if left := neverFollowed(); len(left) > 0 {
		fmt.Fprintf(os.Stderr, "this advice was not followed by any test in a condition in which it is given, or is wrong:\n  %s\n", strings.Join(left, "\n  "))
		code = 1
	}
	if path, err := ferry(); err == nil {
		os.RemoveAll(filepath.Dir(path))
	}
	os.Exit(code)
}

// line is a command line on a world.
type line struct {
	t    *testing.T
	path string
	env  []string
}

func commandLine(t *testing.T, w *testkit.World, role string) line {
	t.Helper()
	path, err := ferry()
	if err != nil {
		t.Fatal(err)
	}
	return line{t, path, append(os.Environ(), "FERRY_URL="+w.Base, "FERRY_TOKEN="+w.Tokens[role], "NO_COLOR=1")}
}

func (l line) command(args ...string) (*exec.Cmd, *testkit.Text, *testkit.Text) {
	c := exec.Command(l.path, args...)
	c.Env = l.env
	out, errs := &testkit.Text{}, &testkit.Text{}
	c.Stdout, c.Stderr = out, errs
	return c, out, errs
}

// run gives what a command wrote, and its exit code.
func (l line) run(args ...string) (out, errs string, code int) {
	c, o, e := l.command(args...)
	c.Run()
	return o.String(), e.String(), c.ProcessState.ExitCode()
}

// must runs a command that is to end with a code, and gives all that it wrote, however it
// is broken over lines.
func (l line) must(code int, args ...string) string {
	l.t.Helper()
	out, errs, got := l.run(args...)
	if got != code {
		l.t.Fatalf("ferry %v: exit %d, want %d\n%s%s", args, got, code, out, errs)
	}
	return strings.Join(strings.Fields(out+errs), " ")
}

// told fails where a text does not hold what it should, however it is broken over lines.
func told(t *testing.T, text string, all ...string) {
	t.Helper()
	text = strings.Join(strings.Fields(text), " ")
	for _, x := range all {
		if !strings.Contains(text, x) {
			t.Errorf("%q is not said in\n%s", x, text)
		}
	}
}

// json runs with --output json, and decodes stdout, which must hold nothing else.
func (l line) json(args ...string) (map[string]any, int) {
	l.t.Helper()
	out, errs, code := l.run(append(args, "--output", "json")...)
	var m map[string]any
	if err := json.Unmarshal([]byte(out), &m); err != nil {
		l.t.Fatalf("ferry %v: stdout is not JSON: %v\n%s\n%s", args, err, out, errs)
	}
	return m, code
}

func TestTheWorkOnTheCommandLine(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	if m, code := l.json("links"); code != 0 || m["links"].([]any)[0].(map[string]any)["link"] != "b/a" || m["links"].([]any)[0].(map[string]any)["state"] != "free" {
		t.Errorf("links: %d %v", code, m)
	}
	m, code := l.json("identify", "b/a")
	facts := m["facts"].(map[string]any)
	if code != 0 || m["model"] != "small" || facts["revision"].(map[string]any)["value"] != "D" || facts["revision"].(map[string]any)["source"] != "wire" {
		t.Errorf("identify: %d %v", code, m)
	}
	m, code = l.json("fit", "b/a")
	v := m["verdicts"].([]any)[0].(map[string]any)
	if code != 0 || v["verdict"] != "fits" || v["recommended"] != true || v["current"] != false || v["version"] != "2.0.0" || len(v["reasons"].([]any)) == 0 {
		t.Errorf("fit: %d %v", code, m)
	}
	if m, code = l.json("backup", "b/a"); code != 0 || m["outcome"] != "done" || m["backup"] == "" {
		t.Errorf("backup: %d %v", code, m)
	}
	m, code = l.json("flash", "b/a", "--yes")
	if code != 0 || m["outcome"] != "done" || m["from"] != "1.0.0" || m["to"] != "2.0.0" || m["unit"] != "S-0001" || m["run"] == "" || m["backup"] == "" {
		t.Errorf("flash: %d %v", code, m)
	}
	if m, code = l.json("flash", "S-0001", "--yes"); code != 0 || m["outcome"] != "nothing-to-do" {
		t.Errorf("again: %d %v", code, m)
	}
	if m, code = l.json("restore", "b/a", "--yes"); code != 0 || m["outcome"] != "done" || m["to"] != "1.0.0" {
		t.Errorf("restore: %d %v", code, m)
	}
	m, code = l.json("history", "S-0001")
	e := m["entries"].([]any)[0].(map[string]any)
	if code != 0 || m["chain"] != "intact" || m["unit"] != "S-0001" || e["kind"] != "restore" || e["outcome"] != "done" || e["by"] != "Sunniva Dale" || e["at"] == "" {
		t.Errorf("history: %d %v", code, m)
	}
	for _, verb := range [][]string{{"links"}, {"units"}, {"fit", "b/a"}, {"history", "S-0001"}, {"backups", "S-0001"}, {"run", "list"}, {"model", "list"}, {"release", "list"}, {"console"}} {
		if out, errs, code := l.run(verb...); code != 0 || out == "" || errs != "" || strings.Contains(out, "\x1b") {
			t.Errorf("ferry %v: %d %q %q", verb, code, out, errs)
		}
	}
}

func TestErrorsHaveKindNextAndExitCode(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	w.Units["a"].Set(sim.Faults{Silent: true})
	m, code := l.json("identify", "b/a")
	e := m["error"].(map[string]any)
	if code != 10 || e["kind"] != "not-answering" || e["next"] == "" {
		t.Errorf("a silent link: %d %v", code, m)
	}
	_, errs, code := l.run("identify", "b/a")
	if code != 10 || !strings.Contains(errs, "NOT ANSWERING") || !strings.Contains(errs, "nothing was changed") || !strings.Contains(errs, "exit   10") {
		t.Errorf("in words: %d %s", code, errs)
	}
	_, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a"})
	follow(t, w, "technician", err)
	w.Units["a"].Set(sim.Faults{})
	if _, errs, code = l.run("flash", "b/a"); code != 20 || !strings.Contains(errs, "--yes") {
		t.Errorf("nobody to ask: %d %s", code, errs)
	}
	if m, code = l.json("history", "S-9999"); code != 21 || m["error"].(map[string]any)["kind"] != "not-found" {
		t.Errorf("no such unit: %d %v", code, m)
	}
	if _, errs, code = l.run("flash"); code != 2 || !strings.Contains(errs, "ferry flash wants LINK|UNIT [RELEASE]; nothing came") {
		t.Errorf("a wrong call: %d %s", code, errs)
	}
	l.env = append(l.env, "FERRY_TOKEN=wrong")
	if _, errs, code = l.run("links"); code != 20 || !strings.Contains(errs, "nobody is signed in") {
		t.Errorf("a wrong token: %d %s", code, errs)
	}
}

func TestABadFileNamesItsLine(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "lead")
	var b bytes.Buffer
	program := bytes.Repeat([]byte{1, 2, 3, 4}, 6000)
	if err := (ihex.Format{}).Encode(&b, &image.Image{Segments: []image.Segment{{Address: 0x1000, Data: program}}}, image.Options{}); err != nil {
		t.Fatal(err)
	}
	good := filepath.Join(t.TempDir(), "good.hex")
	os.WriteFile(good, b.Bytes(), 0o600)
	if m, code := l.json("release", "add", "small", "3.0.0", "--part", "program="+good, "--fits", "revision=D"); code != 0 || m["version"] != "3.0.0" {
		t.Errorf("a good file: %d %v", code, m)
	}
	lines := strings.Split(b.String(), "\n")
	spoilt := []byte(lines[1206])
	spoilt[len(spoilt)-1] ^= 1
	lines[1206] = string(spoilt)
	bad := filepath.Join(t.TempDir(), "bad.hex")
	os.WriteFile(bad, []byte(strings.Join(lines, "\n")), 0o600)
	m, code := l.json("release", "add", "small", "3.0.1", "--part", "program="+bad)
	if e := m["error"].(map[string]any); code != 17 || e["kind"] != "bad-file" || !strings.HasPrefix(e["message"].(string), "line 1207: checksum is") {
		t.Errorf("line 1207: %d %v", code, m)
	}
	if m, code = l.json("release", "add", "small", "3.0.0", "--part", "program="+good); code != 19 {
		t.Errorf("a version twice: %d %v", code, m)
	}
	large := filepath.Join(t.TempDir(), "large.bin")
	os.WriteFile(large, make([]byte, 64<<10), 0o600)
	m, code = l.json("release", "add", "small", "4.0.0", "--part", "program="+large+"@0x1000", "--fits", "revision=D", "--accept", "made by the test")
	if code != 12 || !strings.Contains(m["error"].(map[string]any)["message"].(string), "the memory has 32 KiB") {
		t.Errorf("larger than the memory: %d %v", code, m)
	}
}

// middle waits until the one run that is open has so many sectors right, and names it.
func middle(w *testkit.World, sectors int) (id string) {
	w.Wait("the middle of the write", func() bool {
		rs, err := w.Technician.Runs(ctx, client.RunQuery{State: "open", Size: 1})
		if err == nil && len(rs.Runs) == 1 {
			id = rs.Runs[0].ID
		}
		return id != "" && w.Right(id) >= sectors
	})
	return id
}

// flashing starts ferry flash and waits until it is in the middle of its write, where it is held.
func flashing(t *testing.T, w *testkit.World, l line) (c *exec.Cmd, out, errs *testkit.Text, id string) {
	w.HoldAfter(2)
	c, out, errs = l.command("flash", "b/a", "--yes", "--output", "json")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	return c, out, errs, middle(w, 2)
}

func TestASecondCtrlCStopsTheRun(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	c, out, errs, id := flashing(t, w, l)
	c.Process.Signal(os.Interrupt)
	w.Wait("the first to be seen", func() bool { return strings.Contains(errs.String(), "A second Ctrl-C") })
	c.Process.Signal(os.Interrupt)
	w.LetGoOnce(client.OrderStop)
	c.Wait()
	var m map[string]any
	if json.Unmarshal(out.Bytes(), &m) != nil || m["outcome"] != "interrupted" || c.ProcessState.ExitCode() != 18 {
		t.Fatalf("%d %s %s", c.ProcessState.ExitCode(), out, errs)
	}
	if m, code := l.json("run", "resume", id); code != 0 || m["outcome"] != "done" {
		t.Errorf("resume: %d %v", code, m)
	}
}

func TestTheFirstCtrlCOnlyLeavesTheView(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	c, out, errs, id := flashing(t, w, l)
	c.Process.Signal(syscall.SIGINT)
	c.Wait()
	w.LetGo()
	var m map[string]any
	if json.Unmarshal(out.Bytes(), &m) != nil || m["outcome"] != "waiting" || !strings.Contains(errs.String(), "ferry run show "+id) {
		t.Fatalf("%s %s", out, errs)
	}
	if r := w.Follow(id); r.Outcome != "done" {
		t.Errorf("the run did not go on: %s", r.Outcome)
	}
}

// TestWhatEndsAViewFromOutsideStopsNoRun: a session that ends, a machine that shuts down.
func TestWhatEndsAViewFromOutsideStopsNoRun(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	c, out, errs, id := flashing(t, w, l)
	c.Process.Signal(syscall.SIGTERM)
	c.Process.Signal(syscall.SIGTERM)
	c.Wait()
	w.LetGo()
	var m map[string]any
	if json.Unmarshal(out.Bytes(), &m) != nil || m["outcome"] != "waiting" || !strings.Contains(errs.String(), "the run goes on at the bench") {
		t.Fatalf("%d %s %s", c.ProcessState.ExitCode(), out, errs)
	}
	if r := w.Follow(id); r.Outcome != "done" {
		t.Errorf("the run did not go on: %s", r.Outcome)
	}
}

func TestCompletionKnowsWhatIsThere(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	for want, args := range map[string][]string{"b/a\tfree S-0001": {"identify", ""}, "2.0.0\tfits": {"flash", "b/a", ""}, "S-0001\tSmall": {"history", ""}, "json": {"links", "--output", ""}} {
		w.Wait(fmt.Sprintf("%v to offer %q", args, want), func() bool { // a busy service is not waited for: nothing is offered then
			out, _, _ := l.run(append([]string{"__complete"}, args...)...)
			return strings.Contains(out, want)
		})
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		if out, _, code := l.run("completion", shell); code != 0 || len(out) < 1000 {
			t.Errorf("completion for %s: %d", shell, code)
		}
	}
}

func TestServeGuardsItsAddress(t *testing.T) {
	t.Parallel()
	path, err := ferry()
	if err != nil {
		t.Fatal(err)
	}
	l := line{t, path, append(os.Environ(), "FERRY_DATABASE=x:y@unix(/nowhere)/ferry", "NO_COLOR=1")}
	if _, errs, code := l.run("serve", "--listen", "0.0.0.0:8470"); code != 20 || !strings.Contains(errs, "--tls-cert") {
		t.Errorf("plain HTTP for everybody: %d %s", code, errs)
	}
	if _, errs, code := l.run("serve", "--listen", "127.0.0.1:0"); code != 10 || !strings.Contains(errs, "database") {
		t.Errorf("no database: %d %s", code, errs)
	}
}

func TestEveryVerbShowsAnExample(t *testing.T) {
	t.Parallel()
	path, err := ferry()
	if err != nil {
		t.Fatal(err)
	}
	l := line{t, path, os.Environ()}
	for _, verb := range []string{"links", "identify", "fit", "note", "backup", "flash", "restore", "history", "units", "backups", "serve", "migrate", "bench", "sim", "demo", "console"} {
		if out, _, code := l.run(verb, "--help"); code != 0 || strings.Count(out, "Examples:") != 1 || strings.Index(out, "Examples:") > strings.Index(out, "Usage:") {
			t.Errorf("ferry %s --help does not begin with an example: %s", verb, out)
		}
	}
}

package trials

import (
	"archive/zip"
	"bytes"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core/coretest"
	"zealousferry/core/link/recording"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// unzipped reads the files of a zip.
func unzipped(t *testing.T, path string) (in map[string][]byte, names []string) {
	t.Helper()
	r, err := zip.OpenReader(path)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	in = map[string][]byte{}
	for _, f := range r.File {
		o, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		if in[f.Name], err = io.ReadAll(o); err != nil {
			t.Fatal(err)
		}
		names = append(names, f.Name)
	}
	slices.Sort(names)
	return in, names
}

// TestOneFileForWhoeverHelps: it has what explains a run that went wrong, and neither what
// opens the unit nor what lets anybody in.
func TestOneFileForWhoeverHelps(t *testing.T) {
	t.Parallel()
	w := moduled(t, slow)
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: coretest.Password}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	w.Technician.Check(ctx, client.NewCheck{At: "b/a"})
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Reason: "prints blanks"}, 2)
	w.Units["a"].Set(sim.Faults{RefuseAt: 5})
	w.LetGo()
	if r = w.Follow(r.ID); r.Outcome != string(run.Failed) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	l := commandLine(t, w, "technician")
	file := filepath.Join(t.TempDir(), "run.zip")
	told(t, l.must(0, "run", "support", r.ID, file), "READ FIRST.txt")
	in, names := unzipped(t, file)
	if got := strings.Join(names, " "); got != "READ FIRST.txt checks.json events.jsonl history.json release.json run.json sheet.yaml trace-1.txt versions.txt" {
		t.Errorf("%s", got)
	}
	told(t, string(in["READ FIRST.txt"]), "Small S-0001 on b/a", "cannot be programmed (0x72)", "Who may see this", "the unit's history, checked: as it was entered")
	if n := bytes.Count(in["events.jsonl"], []byte("\n")); n < 20 || !bytes.Contains(in["events.jsonl"], []byte(`"kind":"opened"`)) {
		t.Errorf("%d events", n)
	}
	said, err := recording.Read(bytes.NewReader(in["trace-1.txt"]))
	if err != nil || len(said.Pieces) < 20 || bytes.Contains(in["events.jsonl"], []byte("ferry-recording")) {
		t.Errorf("the trace: %v, twice: %t", err, bytes.Contains(in["events.jsonl"], []byte("ferry-recording")))
	}
	for name, data := range in {
		for what, secret := range map[string]string{"the unit's secret": coretest.Password, "a token": w.Tokens["technician"], "the bench's": w.Tokens["lead"]} {
			if bytes.Contains(data, []byte(secret)) {
				t.Errorf("%s stands in %s", what, name)
			}
		}
	}
	told(t, commandLine(t, w, "viewer").must(20, "run", "support", r.ID, file), "technician")
	told(t, l.must(21, "run", "support", "none", file), "none")
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+r.ID), browser.Until(`document.querySelector("[data-support]")?.getAttribute("href").endsWith("/support.zip")`))
}

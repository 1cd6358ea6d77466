package trials

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// TestALinkIsChosen: by verb, without editing a file or restarting the bench; it outlives
// the bench, and one whose port is gone is not offered as free.
func TestALinkIsChosen(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Serial = "S-0002" })
	l := commandLine(t, w, "technician")
	path, err := w.Units["b"].Terminal()
	if err != nil {
		t.Fatal(err)
	}
	missing := filepath.Join(t.TempDir(), "ttyX9")
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/desk", PortChoice: client.PortChoice{Path: missing}}); core.KindOf(err) != core.NotFound || !strings.Contains(err.Error(), missing) {
		t.Errorf("a port that is not there: %v", err)
	} else {
		follow(t, w, "technician", err)
	}
	follow(t, w, "technician", w.Technician.SetLink(ctx, client.NewLink{Link: "b/desk", PortChoice: client.PortChoice{Adapter: "FT-NONE"}}))
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/Desk", PortChoice: client.PortChoice{Path: path}}); core.KindOf(err) != core.NotUnderstood {
		t.Errorf("a name that is none: %v", err)
	}
	port := filepath.Join(t.TempDir(), "tty")
	if err := os.Symlink(path, port); err != nil {
		t.Fatal(err)
	}
	if said := l.must(0, "link", "set", "b/desk", "--port", port); !strings.Contains(said, "b/desk goes to "+port) {
		t.Error(said)
	}
	state := func() (found client.Link) {
		all, err := w.Viewer.Links(ctx)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range all.Links {
			if x.Link == "b/desk" {
				found = x
			}
		}
		return found
	}
	if x := state(); x.State != "free" || x.Kind != "serial" {
		t.Errorf("at once: %+v", x)
	}
	kept, err := bench.ReadPorts(filepath.Join(w.Dir, "links.yaml"))
	if err != nil || len(kept) != 3 || kept[2].Name != "desk" || kept[2].Settings["path"] != port {
		t.Errorf("the bench's list: %+v %v", kept, err)
	}
	os.Remove(port) // somebody pulls it out
	w.Wait("the link to be absent", func() bool { return state().State == "absent" })
	if said := l.must(0, "links"); !strings.Contains(said, "✗ absent") || !strings.Contains(said, "there is no port "+port) {
		t.Error(said)
	}
	if _, err := w.Technician.Identify(ctx, "b/desk", ""); core.KindOf(err) != core.NotAnswering || !strings.Contains(err.Error(), "there is no port") {
		t.Errorf("identify: %v", err)
	} else {
		follow(t, w, "technician", err)
	}
	// it goes elsewhere: what is on it is not known any more
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/desk", PortChoice: client.PortChoice{Address: w.Units["a"].Address()}}); err != nil {
		t.Fatal(err)
	}
	if id, err := w.Technician.Identify(ctx, "b/desk", ""); err != nil || id.Serial != "S-0001" {
		t.Errorf("%+v %v", id, err)
	}
	l.must(0, "link", "remove", "b/desk")
	if x := state(); x.Link != "" {
		t.Errorf("removed, and there: %+v", x)
	}
	if kept, err = bench.ReadPorts(filepath.Join(w.Dir, "links.yaml")); err != nil || len(kept) != 2 {
		t.Errorf("the bench's list: %+v %v", kept, err)
	}
}

// TestALinkThatIsGoneIsRemovedByClicks.
func TestALinkThatIsGoneIsRemovedByClicks(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	file := filepath.Join(t.TempDir(), "tty")
	path, err := w.Units["a"].Terminal()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(path, file); err != nil {
		t.Fatal(err)
	}
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/desk", PortChoice: client.PortChoice{Path: file}}); err != nil {
		t.Fatal(err)
	}
	os.Remove(file)
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/benches"), says("there is no port "+file), press(`[data-link="b/desk"] [data-link-remove]`), browser.Until(`!document.querySelector('[data-link="b/desk"]')`))
}

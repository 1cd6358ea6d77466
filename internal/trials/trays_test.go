package trials

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// socket is where units are plugged in one after another: an adapter's server that leads to
// one of them, or to nobody.
type socket struct {
	net.Listener
	mu   sync.Mutex
	to   string
	open []net.Conn
}

func newSocket(t *testing.T) *socket {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &socket{Listener: l}
	t.Cleanup(func() { l.Close(); s.plug(nil) })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go s.join(in)
		}
	}()
	return s
}

func (s *socket) join(in net.Conn) {
	defer in.Close()
	s.mu.Lock()
	to := s.to
	s.open = append(s.open, in)
	s.mu.Unlock()
	if to == "" {
		io.Copy(io.Discard, in) // an adapter with nobody behind it
		return
	}
	out, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer out.Close()
	go func() { io.Copy(out, in); out.Close() }()
	io.Copy(in, out)
}

// plug plugs a unit in, and the one before out.
func (s *socket) plug(u *sim.Unit) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.open {
		c.Close()
	}
	s.open, s.to = nil, ""
	if u != nil {
		s.to = u.Address()
	}
}

// seats waits until the places of a tray stand as they should, each "serial state" in the
// order of their numbers.
func seats(t *testing.T, w *testkit.World, id string, want ...string) (tray client.Tray) {
	t.Helper()
	got := []string{}
	defer func() {
		if t.Failed() {
			t.Logf("they stand as %v; nobody is begun because: %+v; links %+v", got, tray.Gate, tray.Links)
		}
	}()
	w.Wait(fmt.Sprintf("the tray to be %v", want), func() bool {
		var err error
		if tray, err = w.Viewer.Tray(ctx, id); err != nil {
			t.Fatal(err)
		}
		got = got[:0]
		for _, p := range tray.Places {
			got = append(got, p.Serial+" "+p.State)
		}
		return slices.Equal(got, want)
	})
	return tray
}

func step(t *testing.T, w *testkit.World, id string, s client.TrayStep) client.Tray {
	t.Helper()
	tray, err := w.Technician.StepTray(ctx, id, s)
	if err != nil {
		t.Fatalf("%+v: %v", s, err)
	}
	return tray
}

func identifyAll(t *testing.T, w *testkit.World, links ...string) {
	t.Helper()
	for _, l := range links {
		if _, err := w.Technician.Identify(ctx, "b/"+l, ""); err != nil {
			t.Fatal(err)
		}
	}
}

// TestATrayOfBoards: the first goes alone, one that is current opens nothing, the rest follow
// when the first is proven; one fails, one is for other hardware, one is never seen; nobody is
// done twice, and none is left without a name.
func TestATrayOfBoards(t *testing.T) {
	t.Parallel()
	stuck := uint64(0x1000)
	w := testkit.NewWorld(t, nil, nil, nil, nil, func(s *sim.Spec) { s.Revision = "C" })
	identifyAll(t, w, "a", "b", "c", "d", "e")
	if r := w.Flash("a", testkit.Version2); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	w.Units["c"].Set(sim.Faults{Stuck: &stuck})
	if _, err := w.Technician.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: "S-0099"}); err != nil {
		t.Fatal(err)
	}
	n := client.NewTray{Model: "small", Release: testkit.Version2, Links: []string{"b/a"}, Units: []string{"S-0001"}}
	if _, err := w.Technician.OpenTray(ctx, n); core.KindOf(err) != core.NotUnderstood || !strings.Contains(err.Error(), "wants a reason") {
		t.Errorf("without a reason: %v", err)
	}
	n.Reason, n.Units = "recall of May", nil
	if _, err := w.Technician.OpenTray(ctx, n); core.KindOf(err) != core.NotUnderstood || !strings.Contains(err.Error(), "wants units") {
		t.Errorf("without units: %v", err)
	}
	if _, err := w.Viewer.OpenTray(ctx, n); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a viewer opens a tray: %v", err)
	}
	n.Units, n.Alone, n.Stop = []string{"S-0001", "S-0002", "S-0003", "S-0004", "S-0005", "S-0099"}, true, 2
	n.Links = []string{"b/a"}
	tray, err := w.Technician.OpenTray(ctx, n)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.OpenTray(ctx, n); core.KindOf(err) != core.Busy {
		t.Errorf("a link on two trays: %v", err)
	}
	followTodo(t, w, "technician", seats(t, w, tray.ID, "S-0001 current", "S-0002 not-seen", "S-0003 not-seen", "S-0004 not-seen", "S-0005 not-seen", "S-0099 not-seen").Todo)
	if _, err := w.Technician.StepTray(ctx, tray.ID, client.TrayStep{Do: "close"}); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "S-0002, S-0003") {
		t.Errorf("closed, and five are not done: %v", err)
	}
	if tray = step(t, w, tray.ID, client.TrayStep{Do: "close", Reason: "more links are there now"}); tray.Closed == nil || len(tray.Open) != 5 {
		t.Errorf("%+v", tray.TrayRow)
	}
	n.Links = []string{"b/b", "b/c", "b/d", "b/e"}
	if tray, err = w.Technician.OpenTray(ctx, n); err != nil {
		t.Fatal(err)
	}
	id := tray.ID
	w.Wait("the first to be proven", func() bool {
		tray, err = w.Viewer.Tray(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		if at := tray.Count["at-work"] + tray.Count["hands-off"]; tray.Opener == 0 && at > 1 {
			t.Errorf("two at work before the first was proven: %+v", tray.Count)
		}
		if tray.Opener == 0 && len(tray.Failures) > 0 { // the one that fails went first
			step(t, w, id, client.TrayStep{Do: "go-on", Reason: "its sector is worn out, that is no matter of the release"})
		}
		return tray.Opener != 0
	})
	tray = seats(t, w, id, "S-0001 not-seen", "S-0002 done", "S-0003 failed", "S-0004 done", "S-0005 refused", "S-0099 not-seen")
	if p := tray.Places[4]; !strings.Contains(p.Says.Text, "revision") || p.Run != "" {
		t.Errorf("the one for other hardware: %+v", p)
	}
	for _, x := range []client.TrayStep{{Do: "again", Unit: "S-0002", Reason: "why not"}, {Do: "next", Link: "b/zz"}, {Do: "leave", Unit: "nobody", Reason: "why not"}, {Do: "leave", Unit: "S-0099"}} {
		if _, err := w.Technician.StepTray(ctx, id, x); err == nil {
			t.Errorf("%+v is taken", x)
		}
	}
	w.Units["c"].Set(sim.Faults{})
	step(t, w, id, client.TrayStep{Do: "again", Unit: "S-0003", Reason: "with another chip"})
	step(t, w, id, client.TrayStep{Do: "leave", Unit: "S-0005", Reason: "it waits for its own release"})
	step(t, w, id, client.TrayStep{Do: "leave", Unit: "S-0001", Reason: "done with the tray before"})
	tray = seats(t, w, id, "S-0001 left-out", "S-0002 done", "S-0003 done", "S-0004 done", "S-0005 left-out", "S-0099 not-seen")
	tray = step(t, w, id, client.TrayStep{Do: "close", Reason: "S-0099 comes next week"})
	if j, err := w.Viewer.Job(ctx, tray.Job); err != nil || j.Closed == nil || len(tray.Open) != 1 {
		t.Errorf("the tray's job stays open: %+v %v", j.Job, err)
	}
	for serial, want := range map[string]int{"S-0001": 1, "S-0002": 1, "S-0003": 2, "S-0004": 1, "S-0005": 0} { // that of S-0001 was no tray's
		if all, err := w.Viewer.Runs(ctx, client.RunQuery{Unit: serial}); err != nil || all.Total != want {
			t.Errorf("%s has %d runs, expected %d: %v", serial, all.Total, want, err)
		}
	}
	if _, err := w.Technician.StepTray(ctx, id, client.TrayStep{Do: "stop", Reason: "too late"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a closed tray is stopped: %v", err)
	}
	if all, err := w.Viewer.Trays(ctx, false, ""); err != nil || all.Total != 2 || all.Trays[0].Count["done"] != 3 {
		t.Errorf("%+v %v", all, err)
	}
}

// TestTheNextModuleWithTheSameRelease: one adapter with a supply of its own, out of any
// vehicle; modules are plugged in one after another, and each is begun by itself. One that is
// done and still plugged in, or plugged in again, is left alone; a stranger is named.
func TestTheNextModuleWithTheSameRelease(t *testing.T) {
	t.Parallel()
	asModule := func(s *sim.Spec) { s.Kind, s.Password, s.Baud = "module", coretest.Password, sim.CanSpeed }
	w := testkit.NewWorld(t, asModule, asModule, asModule)
	if _, err := w.Lead.PutModel(ctx, coretest.SmallSheetOf("module")); err != nil {
		t.Fatal(err)
	}
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: coretest.Password}); err != nil {
		t.Fatal(err)
	}
	table := newSocket(t)
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/table", PortChoice: client.PortChoice{Address: table.Addr().String(), Rate: 500000}}); err != nil {
		t.Fatal(err)
	}
	tray, err := w.Technician.OpenTray(ctx, client.NewTray{Model: "small", Release: testkit.Version2, Links: []string{"b/table"}, Any: true, Alone: true, Stop: 1, Reason: "the next one, please"})
	if err != nil {
		t.Fatal(err)
	}
	id := tray.ID
	table.plug(w.Units["b"])
	seats(t, w, id, "S-0002 done")
	w.Wait("it to be told that it is done", func() bool {
		tray, err = w.Viewer.Tray(ctx, id)
		return err == nil && tray.Links[0].Says != nil && strings.Contains(tray.Links[0].Says.Text, "S-0002 is done already")
	})
	table.plug(w.Units["a"])
	seats(t, w, id, "S-0002 done", "S-0001 done")
	table.plug(w.Units["b"])
	w.Wait("it to be told once more", func() bool {
		tray, err = w.Viewer.Tray(ctx, id)
		return err == nil && tray.Links[0].Says != nil && strings.Contains(tray.Links[0].Says.Text, "S-0002 is done already")
	})
	table.plug(nil)
	if tray = step(t, w, id, client.TrayStep{Do: "close"}); tray.Closed == nil || len(tray.Open) != 0 {
		t.Errorf("%+v", tray)
	}
	if all, err := w.Viewer.Runs(ctx, client.RunQuery{}); err != nil || all.Total != 2 {
		t.Errorf("%d runs of two modules: %v", all.Total, err)
	}
}

// TestATrayOutlivesItsBench: the bench dies while two are being written; when it is back their
// runs are open and half done, nobody is begun a second time, and they are gone on with.
func TestATrayOutlivesItsBench(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil, nil)
	identifyAll(t, w, "a", "b", "c")
	w.HoldAfter(2)
	tray, err := w.Technician.OpenTray(ctx, client.NewTray{Model: "small", Release: testkit.Version2, Links: []string{"b/a", "b/b", "b/c"}, Units: []string{"S-0001", "S-0002", "S-0003"}, Reason: "all at once"})
	if err != nil {
		t.Fatal(err)
	}
	<-w.Held()
	if tray, err = w.Viewer.Tray(ctx, tray.ID); err != nil {
		t.Fatal(err)
	}
	followTodo(t, w, "technician", tray.Todo)
	w.StopBench()
	w.Wait("the tray to say that its bench is away", func() bool {
		tray, err = w.Viewer.Tray(ctx, tray.ID)
		return err == nil && !tray.Online && strings.Contains(tray.Now.Text, "is not in touch with the service")
	})
	readable(t, w, "with the tray's bench away", map[string]string{"tray": tray.ID, "unit": "S-0001"}, "/api/trays/"+tray.ID)
	w.StartBench(nil)
	w.Wait("nobody to be at work", func() bool {
		tray, err = w.Viewer.Tray(ctx, tray.ID)
		return err == nil && tray.Online && tray.Count["half-done"] > 0 && tray.Count["at-work"]+tray.Count["hands-off"] == 0
	})
	for tray.Count["done"] < 3 {
		for _, p := range tray.Places {
			if p.State == "half-done" {
				if _, err := w.Technician.ResumeRun(ctx, p.Run, client.Resume{}); err != nil && core.KindOf(err) != core.Busy {
					t.Fatal(err)
				}
			}
		}
		w.Wait("nobody to be at work", func() bool {
			tray, err = w.Viewer.Tray(ctx, tray.ID)
			return err == nil && tray.Count["half-done"]+tray.Count["at-work"]+tray.Count["hands-off"]+tray.Count["not-seen"] == 0
		})
	}
	for _, serial := range []string{"S-0001", "S-0002", "S-0003"} {
		if all, err := w.Viewer.Runs(ctx, client.RunQuery{Unit: serial}); err != nil || all.Total != 1 {
			t.Errorf("%s has %d runs: %v", serial, all.Total, err)
		}
	}
}

// TestHandsForAWholeTray: hands come for all in one order, all straps before the first supply.
func TestHandsForAWholeTray(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	if _, err := w.Lead.PutModel(ctx, append(coretest.SmallSheetOf("gangway"), underSeat...)); err != nil {
		t.Fatal(err)
	}
	for _, l := range []string{"a", "b"} {
		w.Wait("the bench to hear of the sheet", func() bool {
			_, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/" + l, Model: "small"})
			return err == nil
		})
	}
	tray, err := w.Technician.OpenTray(ctx, client.NewTray{Model: "small", Release: testkit.Version2, Links: []string{"b/b", "b/a"}, Units: []string{"S-0002", "S-0001"}, InOrder: true, Reason: "hands for both"})
	if err != nil {
		t.Fatal(err)
	}
	id := tray.ID
	w.Wait("a hand to be wanted", func() bool {
		tray, err = w.Viewer.Tray(ctx, id)
		return err == nil && tray.Hand != nil
	})
	followTodo(t, w, "technician", tray.Todo)
	var order []string
	values := map[string]string{"lamp": "green", "volts": "3.3"}
	w.Wait("all hands", func() bool {
		if tray, err = w.Viewer.Tray(ctx, id); err != nil {
			t.Fatal(err)
		}
		if len(order) < 2 && tray.Count["waits"] < 2 { // both are to be asked before the first is answered
			return false
		}
		if h := tray.Hand; h != nil {
			value := values[h.Hands.Item]
			if value == "" {
				value = "yes"
			}
			if _, err := w.Technician.Answer(ctx, h.Run, client.NewAnswer{Item: h.Hands.Item, Value: value}); err != nil {
				t.Fatal(err)
			}
			order = append(order, fmt.Sprintf("%d %s", h.Place, h.Hands.Item))
		}
		return tray.Count["done"] == 2
	})
	if got := fmt.Sprint(order[:6]); got != "[1 mains 2 mains 1 lamp 2 lamp 1 strap 2 strap]" {
		t.Errorf("hands came as %s", got)
	}
	for _, p := range tray.Places {
		if (p.Serial == "S-0002") != (p.Link == "b/b") {
			t.Errorf("%s was on %s", p.Serial, p.Link)
		}
	}
}

// TestABenchTellsOnlyOfItsOwnTrays: a bench's token opens no run beside the trays that people
// opened at it.
func TestABenchTellsOnlyOfItsOwnTrays(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	identifyAll(t, w, "a", "b")
	tray, err := w.Technician.OpenTray(ctx, client.NewTray{Model: "small", Release: testkit.Version2, Links: []string{"b/a"}, Units: []string{"S-0002"}, Reason: "one"})
	if err != nil {
		t.Fatal(err)
	}
	w.Wait("the stranger to be named", func() bool {
		tray, err = w.Viewer.Tray(ctx, tray.ID)
		return err == nil && tray.Links[0].Says != nil && strings.Contains(tray.Links[0].Says.Text, "S-0001 is not on this tray")
	})
	c := ofBench(t, w.Dir)
	for link, want := range map[string]core.Kind{"b": core.NotAllowed, "a": core.NotUnderstood} { // not of the tray; nobody has answered
		if _, err := c.TraySeen(ctx, tray.ID, client.TraySeen{Link: link}); core.KindOf(err) != want {
			t.Errorf("link %s: %v, expected %s", link, err, want)
		}
	}
	if _, err := c.StepTray(ctx, tray.ID, client.TrayStep{Do: "close", Reason: "because"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a bench closes a tray: %v", err)
	}
}

// TestATrayInTheConsole: opened by its form, worked by its page: the hand that is wanted first,
// one word for all that wait for the same, one left out, and the end.
func TestATrayInTheConsole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	if _, err := w.Lead.PutModel(ctx, append(coretest.SmallSheetOf("gangway"), underSeat...)); err != nil {
		t.Fatal(err)
	}
	for _, l := range []string{"a", "b"} {
		w.Wait("the bench to hear of the sheet", func() bool {
			_, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/" + l, Model: "small"})
			return err == nil
		})
	}
	if _, err := w.Technician.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: "S-0099"}); err != nil {
		t.Fatal(err)
	}
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/trays"), press(`[data-open-tray]`), browser.Until(`document.querySelector("[data-field=model]") && !document.querySelector(".dialog-transition-enter-active")`),
		pick("model", "Small"), browser.Until(`document.querySelector("[data-field=release]").textContent.includes("2.0.0")`),
		pick("links", "b/a", "b/b"), put(`[data-field=units] textarea:not([aria-hidden])`, "S-0001 S-0002, S-0099"), put(`[data-field=reason] input`, "recall of May"), focus(`[data-alone] input`), chromedp.KeyEvent(" "), press(`[data-put-tray]`),
		browser.Until(`location.pathname.startsWith("/trays/") && document.querySelectorAll(".seat.waits").length === 2`))
	tray := newestTray(t, w)
	do(t, x, browser.Until(`document.querySelector("[data-all]")?.textContent.includes("1, 2")`), press(`[data-all]`),
		browser.Until(`document.querySelector("[data-hand]")?.textContent.includes("Which lamp burns?")`))
	for n := range 2 { // choices are each one's own
		do(t, x, browser.Until(fmt.Sprintf(`document.querySelector("[data-hand] .n")?.textContent === "%d" && !!document.querySelector("[data-choice=green]:not([disabled])")`, n+1)), press(`[data-choice=green]`))
	}
	do(t, x, browser.Until(`document.querySelector("[data-hand]")?.textContent.includes("Fit the strap")`))
	values := map[string]string{"volts": "3.3"}
	w.Wait("all hands", func() bool {
		now, err := w.Viewer.Tray(ctx, tray)
		if err != nil {
			t.Fatal(err)
		}
		if h := now.Hand; h != nil {
			value := values[h.Hands.Item]
			if value == "" {
				value = "yes"
			}
			if _, err := w.Technician.Answer(ctx, h.Run, client.NewAnswer{Item: h.Hands.Item, Value: value}); err != nil {
				t.Fatal(err)
			}
		}
		return now.Count["done"] == 2
	})
	do(t, x, browser.Until(`document.querySelectorAll(".seat.done").length === 2`), press(`[data-leave="S-0099"]`), put(`[data-why] input`, "it is lost"), press(`[data-say]`),
		browser.Until(`document.querySelector(".seat.left-out") && document.querySelector("[data-quiet]").textContent.includes("All are done")`),
		press(`[data-close]`), browser.Until(`document.querySelector("[data-quiet]").textContent.includes("Closed.")`))
	var kinds []string
	do(t, x, chromedp.Evaluate(`Promise.all([...document.querySelectorAll("[data-sheet], [data-labels]")].map((a) => fetch(a.href).then((r) => r.status + " " + r.headers.get("Content-Type"))))`, &kinds, func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }))
	if fmt.Sprint(kinds) != "[200 application/pdf 200 application/pdf]" {
		t.Errorf("sheet and labels: %v", kinds)
	}
	if now, err := w.Viewer.Tray(ctx, tray); err != nil || now.Closed == nil || len(now.Open) != 0 {
		t.Errorf("%+v %v", now, err)
	}
}

// pick chooses in a list that opens.
func pick(field string, all ...string) chromedp.Action {
	tasks := chromedp.Tasks{chromedp.Click(`[data-field=`+field+`] .v-field`, chromedp.ByQuery)}
	for _, text := range all {
		item := fmt.Sprintf(`[...document.querySelectorAll(".v-overlay--active .v-list-item")].find((i) => i.innerText.includes(%q))`, text)
		tasks = append(tasks, browser.Until("!!"+item), chromedp.Evaluate(item+".click()", nil))
	}
	return append(tasks, chromedp.Evaluate(`document.querySelector(".dialog h2")?.click()`, nil))
}

func newestTray(t *testing.T, w *testkit.World) string {
	t.Helper()
	all, err := w.Viewer.Trays(ctx, false, "")
	if err != nil || len(all.Trays) == 0 {
		t.Fatalf("no tray: %v", err)
	}
	return all.Trays[0].ID
}

// TestATrayOnTheCommandLine: opened, looked at, worked and closed by verbs; serials that nobody
// has entered are named, all of them.
func TestATrayOnTheCommandLine(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	identifyAll(t, w, "a", "b")
	l := commandLine(t, w, "technician")
	_, err := w.Technician.OpenTray(ctx, client.NewTray{Model: "small", Release: "2.0.0", Units: []string{"S-0008"}, Links: []string{"b/a"}, Reason: "recall"})
	follow(t, w, "technician", err)
	told(t, l.must(21, "tray", "open", "small", "2.0.0", "S-0001", "S-0008", "S-0009", "--at", "b/a", "--reason", "recall"), "not in the register: S-0008, S-0009")
	list := filepath.Join(t.TempDir(), "units.csv")
	if err := os.WriteFile(list, []byte("site,serial\nquay,S-0001\nquay,S-0002\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	told(t, l.must(0, "tray", "open", "small", "2.0.0", "--from", list, "--at", "b/a,b/b", "--reason", "recall of May"), "Tray of 2 × Small", "S-0002", "never seen")
	id := newestTray(t, w)
	told(t, l.must(0, "tray", "work", id[:13]), "S-0001", "done and proven", "All are done. next Close it: ferry tray close")
	dir := t.TempDir()
	told(t, l.must(0, "tray", "show", id, "--pdf", filepath.Join(dir, "sheet.pdf")), "Written to")
	told(t, l.must(0, "tray", "labels", id, filepath.Join(dir, "labels.pdf"), "--on", "sheet"), "Written to")
	told(t, l.must(24, "tray", "labels", id, filepath.Join(dir, "labels.pdf"), "--on", "wood"), "not on \"wood\"")
	for _, f := range []string{"sheet.pdf", "labels.pdf"} {
		if raw, err := os.ReadFile(filepath.Join(dir, f)); err != nil || !bytes.HasPrefix(raw, []byte("%PDF-")) {
			t.Errorf("%s: %v", f, err)
		}
	}
	told(t, l.must(0, "tray", "list", "--open"), "2 done and proven", "recall of May", "1 tray")
	told(t, l.must(0, "today"), "Open trays", "ferry tray work "+id)
	told(t, l.must(0, "tray", "stop", id, "--reason", "enough"), "All are done")
	told(t, l.must(0, "tray", "go-on", id, "--reason", "after all"), "All are done")
	now, err := w.Viewer.Tray(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	followTodo(t, w, "technician", now.Todo)
	told(t, l.must(0, "tray", "show", id), "Closed. Nobody is left over.")
	told(t, l.must(21, "tray", "show", "nobody"), "there is no tray")
	if m, code := l.json("tray", "show", id); code != 0 || m["count"].(map[string]any)["done"] != 2.0 {
		t.Errorf("%d %v", code, m)
	}
}

// TestATrayOfUnitsThatCannotBeAsked: a person says which one is on a link, by its label.
func TestATrayOfUnitsThatCannotBeAsked(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, byEye)
	if _, err := w.Lead.PutModel(ctx, bytes.Replace(coretest.SmallSheetOf("xmodem"), []byte("model: small"), []byte("model: eye"), 1)); err != nil {
		t.Fatal(err)
	}
	im, err := w.Lead.PutImage(ctx, "eye.bin", model.Part{Format: "raw", Address: 0x1000}, coretest.SmallProgram("2.0.0"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: "eye", Version: "2.0.0", Channel: model.Stable, Accept: "made by the test", Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.EnterUnit(ctx, client.NewUnit{Model: "eye", Serial: "S-0002"}); err != nil {
		t.Fatal(err)
	}
	tray, err := w.Lead.OpenTray(ctx, client.NewTray{Model: "eye", Release: "2.0.0", Links: []string{"b/b"}, Units: []string{"S-0002"}, Reason: "by its label"})
	if err != nil {
		t.Fatal(err)
	}
	if says := tray.Links[0].Says; says == nil || !strings.Contains(says.Text, "say which one is on the link") {
		t.Errorf("%+v", tray.Links)
	}
	if tray = step(t, w, tray.ID, client.TrayStep{Do: "next", Unit: "S-0002"}); tray.Links[0].Place != 1 {
		t.Errorf("%+v", tray.Links)
	}
	// Its memory cannot be read and nobody has passed that gate: it is refused, in its place.
	tray = seats(t, w, tray.ID, "S-0002 refused")
	if p := tray.Places[0]; p.Link != "b/b" || !strings.Contains(p.Says.Text, "its loader cannot read") {
		t.Errorf("%+v", p)
	}
	step(t, w, tray.ID, client.TrayStep{Do: "close", Reason: "a lead passes that gate"})
	n := client.NewTray{Model: "eye", Release: "2.0.0", Links: []string{"b/b"}, Units: []string{"S-0002"}, InOrder: true, Waive: []string{run.GateBackup}, Reason: "nobody needs what is in it"}
	if tray, err = w.Technician.OpenTray(ctx, n); err != nil { // whose name does not pass a gate
		t.Fatal(err)
	}
	tray = seats(t, w, tray.ID, "S-0002 refused")
	step(t, w, tray.ID, client.TrayStep{Do: "close", Reason: "a lead passes that gate"})
	if tray, err = w.Lead.OpenTray(ctx, n); err != nil {
		t.Fatal(err)
	}
	w.Wait("its label to be confirmed", func() bool {
		tray, err = w.Viewer.Tray(ctx, tray.ID)
		return err == nil && tray.Count["refused"] == 0 && tray.Places[0].Run != ""
	})
	if r := w.Follow(tray.Places[0].Run); r.Waiver == nil || r.Waiver.Gate != run.GateBackup {
		t.Errorf("%s %+v", r.Outcome, r.Waiver)
	}
}

// TestATrayTellsWhatToDo: what it says at each turn leads on, as it stands there.
func TestATrayTellsWhatToDo(t *testing.T) {
	t.Parallel()
	stuck := uint64(0x1000)
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Revision = "C" })
	identifyAll(t, w, "a", "b")
	if _, err := w.Technician.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: "S-0099"}); err != nil {
		t.Fatal(err)
	}
	w.Units["a"].Set(sim.Faults{Stuck: &stuck})
	n := client.NewTray{Model: "small", Release: testkit.Version2, Links: []string{"b/a"}, Units: []string{"S-0001", "S-0099"}, Stop: 1, Reason: "recall of May"}
	tray, err := w.Technician.OpenTray(ctx, n)
	if err != nil {
		t.Fatal(err)
	}
	says := func(want string) {
		t.Helper()
		if !strings.Contains(tray.Now.Text, want) || tray.Now.ID == "" {
			t.Errorf("%+v, expected %q", tray.Now, want)
		}
	}
	tray = seats(t, w, tray.ID, "S-0001 failed", "S-0099 not-seen")
	says("No further one is begun: not ended well: 1 of 2 units")
	if p := tray.Places[1]; strings.Contains(p.Says.Text, "Plug it in") {
		t.Errorf("nobody is begun, and place 2 says %q", p.Says.Text)
	}
	followTodo(t, w, "technician", tray.Todo) // goes on, and then closes it
	if tray, err = w.Viewer.Tray(ctx, tray.ID); err != nil || tray.Closed == nil {
		t.Fatalf("%+v %v", tray, err)
	}
	says("Closed. Not done: S-0001, S-0099.")
	n.Units, n.Links = []string{"S-0002"}, []string{"b/b"} // for other hardware
	if tray, err = w.Technician.OpenTray(ctx, n); err != nil {
		t.Fatal(err)
	}
	tray = seats(t, w, tray.ID, "S-0002 refused")
	says("Not done: S-0002.")
	followTodo(t, w, "technician", tray.Todo) // begins it once more, leaves it out, closes the tray
	if tray, err = w.Viewer.Tray(ctx, tray.ID); err != nil || tray.Closed == nil {
		t.Errorf("%+v %v", tray, err)
	}
}

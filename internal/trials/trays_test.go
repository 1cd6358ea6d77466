package trials

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
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
	if _, err := w.Technician.OpenTray(ctx, n); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "wants a reason") {
		t.Errorf("without a reason: %v", err)
	}
	n.Reason, n.Units = "recall of May", nil
	if _, err := w.Technician.OpenTray(ctx, n); core.KindOf(err) != core.BadFile || !strings.Contains(err.Error(), "wants units") {
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
	seats(t, w, tray.ID, "S-0001 current", "S-0002 not-seen", "S-0003 not-seen", "S-0004 not-seen", "S-0005 not-seen", "S-0099 not-seen")
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
		if tray.Stopped == "" && tray.Gate != nil && tray.Count["failed"] > 0 { // the one that fails went first
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
	for serial, want := range map[string]int{"S-0001": 2, "S-0002": 1, "S-0003": 2, "S-0004": 1, "S-0005": 0} { // the first of S-0001 was no tray's
		if all, err := w.Viewer.Runs(ctx, client.RunQuery{Unit: serial}); err != nil || all.Total != want {
			t.Errorf("%s has %d runs, expected %d: %v", serial, all.Total, want, err)
		}
	}
	if _, err := w.Technician.StepTray(ctx, id, client.TrayStep{Do: "stop", Reason: "too late"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a closed tray is stopped: %v", err)
	}
	if all, err := w.Viewer.Trays(ctx, false, 0); err != nil || all.Total != 2 || all.Trays[0].Count["done"] != 3 {
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
	w.StopBench()
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
			_, err := w.Technician.IdentifyAs(ctx, "b/"+l, "", "small", false)
			return err == nil
		})
	}
	tray, err := w.Technician.OpenTray(ctx, client.NewTray{Model: "small", Release: testkit.Version2, Links: []string{"b/b", "b/a"}, Units: []string{"S-0002", "S-0001"}, InOrder: true, Reason: "hands for both"})
	if err != nil {
		t.Fatal(err)
	}
	id := tray.ID
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
	raw, _ := os.ReadFile(filepath.Join(w.Dir, "bench.json"))
	var own struct{ Token string }
	json.Unmarshal(raw, &own)
	c := client.New(w.Base, own.Token, core.System{})
	defer c.Close()
	for link, want := range map[string]core.Kind{"b": core.NotAllowed, "a": core.BadFile} { // not of the tray; nobody has answered
		if _, err := c.TraySeen(ctx, tray.ID, client.TraySeen{Link: link}); core.KindOf(err) != want {
			t.Errorf("link %s: %v, expected %s", link, err, want)
		}
	}
	if _, err := c.StepTray(ctx, tray.ID, client.TrayStep{Do: "close", Reason: "because"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a bench closes a tray: %v", err)
	}
}

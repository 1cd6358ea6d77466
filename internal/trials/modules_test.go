package trials

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/doip"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/demo/world"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// moduled is a world whose small board is a vehicle module on a CAN bus.
func moduled(t *testing.T, change func(*sim.Spec)) *testkit.World {
	t.Helper()
	w := testkit.NewWorld(t, func(s *sim.Spec) {
		s.Kind, s.Password, s.Baud = "module", coretest.Password, sim.CanSpeed
		if change != nil {
			change(s)
		}
	})
	if _, err := w.Lead.PutModel(ctx, coretest.SmallSheetOf("module")); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool {
		id, err := w.Technician.Identify(ctx, "b/a", "")
		return err == nil && id.Serial == "S-0001"
	})
	return w
}

// gatewayTo is a vehicle's gateway with a module behind it.
func gatewayTo(t *testing.T, u *sim.Unit) *sim.Gateway {
	t.Helper()
	g, err := sim.StartGateway(sim.GatewaySpec{VIN: "ZFTUG000000000042", Logical: 0x1001, Modules: map[uint16]*sim.Unit{0x0042: u}}, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Close)
	return g
}

// TestAModuleOfAVehicle: on a bus of its own it is identified and written, with a key that
// the service makes; through the gateway of its vehicle it is the same unit.
func TestAModuleOfAVehicle(t *testing.T) {
	t.Parallel()
	w := moduled(t, nil)
	before := w.Units["a"].Memory()
	r := w.Follow(w.Open(client.NewRun{Kind: "backup", At: "b/a"}).ID)
	if r.Outcome == "done" || r.Progress.Fault == nil || !strings.Contains(r.Progress.Fault.Message, `nobody has entered the secret "diagnosis"`) {
		t.Fatalf("nobody has entered the secret: %s %+v", r.Outcome, r.Progress.Fault)
	}
	followTodo(t, w, "technician", r.Progress.Fault.Todo)
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: "high water"}); err != nil {
		t.Fatal(err)
	}
	r = w.Follow(w.Open(client.NewRun{Kind: "backup", At: "b/a"}).ID)
	if r.Outcome == "done" || r.Progress.Fault == nil || !strings.Contains(r.Progress.Fault.Message, "the key is wrong (0x35)") || core.Kind(r.Progress.Fault.Kind) != core.Protected {
		t.Fatalf("the wrong secret: %s %+v", r.Outcome, r.Progress.Fault)
	}
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: coretest.Password}); err != nil {
		t.Fatal(err)
	}
	opened := w.Open(client.NewRun{Kind: "flash", At: "b/a"})
	if _, err := ofBench(t, w.Dir).BenchSecret(ctx, client.WantSecret{Run: opened.ID, Name: "diagnosis"}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("the secret itself is given: %v", err)
	}
	r = w.Follow(opened.ID)
	if r.Outcome != string(run.Done) || r.Record.Verified != "read-back" || r.Record.To != "2.0.0" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	after := w.Units["a"].Memory()
	if !bytes.Equal(after[0x1000:][:20<<10], coretest.SmallProgram("2.0.0")) || !bytes.Equal(after[:0x1000], before[:0x1000]) || !bytes.Equal(after[0x7000:], before[0x7000:]) {
		t.Error("the memory is not the release beside what was there")
	}
	h, err := w.Viewer.History(ctx, "S-0001")
	if err != nil || !strings.Contains(fmt.Sprintf("%+v", h.Entries), "keys were made with the secret diagnosis") || strings.Contains(fmt.Sprintf("%+v", h.Entries), "was given") {
		t.Errorf("the history does not say that a key was made: %v", err)
	}
	if _, err := ofBench(t, w.Dir).BenchKey(ctx, client.WantKey{WantSecret: client.WantSecret{Run: opened.ID, Name: "diagnosis"}, Level: 0x11, Seed: []byte{1}}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a key for a closed run: %v", err)
	}

	w.HoldAt(run.KindProved, 1)
	asking := w.Open(client.NewRun{Kind: "backup", At: "b/a"})
	<-w.Held()
	given := 0
	for ; given < 100; given++ {
		if _, err = ofBench(t, w.Dir).BenchKey(ctx, client.WantKey{WantSecret: client.WantSecret{Run: asking.ID, Name: "diagnosis"}, Level: 0x11, Seed: []byte{1}}); err != nil {
			break
		}
	}
	if core.KindOf(err) != core.NotAllowed || given != 50 {
		t.Errorf("%d keys for one run, then %v", given, err)
	}
	w.LetGo()
	if r = w.Follow(asking.ID); r.Outcome == string(run.Done) || !strings.Contains(r.Progress.Fault.Message, "more are refused") {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if k, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a"}); err != nil || !k.Passed || k.Seen.Proof.Asked != 100 || k.Seen.Proof.Lost != 0 {
		t.Errorf("the way to it: %+v %v", k, err)
	}
	if k, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a", Unplugged: true}); err != nil || k.Passed {
		t.Errorf("it answers, though its plug is said to be pulled: %+v %v", k, err)
	}
	w.Units["a"].Power(false)
	if k, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a", Model: "small", Unplugged: true}); err != nil || !k.Passed || core.Texts(k.Words, " ") != "Nothing answered as a module. Nothing came at all." {
		t.Errorf("the counter-proof: %+v %v", k, err)
	}
	if _, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a", Model: "small"}); core.KindOf(err) != core.NotAnswering {
		t.Errorf("nothing answers: %v", err)
	}
	w.Units["a"].Power(true)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Error(err)
	}
	if _, err := w.Technician.Listen(ctx, client.NewListen{At: "b/a"}); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "whole messages") {
		t.Errorf("hearing a bus as a line: %v", err)
	}
	g := gatewayTo(t, w.Units["a"])
	l := commandLine(t, w, "technician")
	told(t, l.must(0, "link", "set", "b/tug", "--gateway", g.Address()), "b/tug goes to the vehicle at "+g.Address())
	told(t, l.must(0, "identify", "b/tug"), "S-0001")
	told(t, l.must(0, "restore", "S-0001", "--yes"), "1.0.0")
	if !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Error("it is not as it was")
	}
	told(t, l.must(24, "link", "set", "b/tug", "--port", "/dev/null", "--can", "500"), "has the rates")
}

// aVehicle puts the demo's tug at link b/tug: its gateway and its modules, by their links.
func aVehicle(t *testing.T, w *testkit.World, link string) (units map[string]*sim.Unit, gateway string) {
	t.Helper()
	units = map[string]*sim.Unit{}
	modules := map[uint16]*sim.Unit{}
	vin := ""
	for _, u := range world.Units {
		if u.Link != link && u.Behind != link {
			continue
		}
		s := u.Spec()
		s.Scale = 0.02
		x, err := sim.Start(s, "127.0.0.1:0", core.System{})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(x.Close)
		if _, err := w.Lead.PutModel(ctx, world.Sheets[u.Model]); err != nil {
			t.Fatal(err)
		}
		if err := w.Lead.PutModelSecret(ctx, u.Model, client.NewModelSecret{Name: "diagnosis", Value: world.PorterKey}); err != nil {
			t.Fatal(err)
		}
		units[u.Link], modules[u.Logical()] = x, x
		if u.Gateway() {
			vin = u.Serial
		}
	}
	if _, err := w.Lead.PutModel(ctx, world.PorterCabin); err != nil {
		t.Fatal(err)
	}
	g, err := sim.StartGateway(sim.GatewaySpec{VIN: vin, Logical: 0x1001, Modules: modules}, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Close)
	return units, g.Address()
}

// TestAWholeVehicle: all modules are asked at once; one that an earlier visit has left
// without a program is found, written, and well at the next scan.
func TestAWholeVehicle(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	units, gateway := aVehicle(t, w, "tug-10")
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/benches"), click(`[data-watch]`), click(`[data-link-far]`), put(`[data-far-address] input`, gateway), put(`[data-far-name] input`, "tug"), press(`[data-far-set]`), browser.Until(`document.querySelector('[data-link="b/tug"]')`), says("gateway of a vehicle"))
	hoist := world.Find("porter-hoist", "1.6")
	name, format, data := hoist.File(0)
	im, err := w.Lead.PutImage(ctx, name, model.Part{Format: format, Address: hoist.Parts[0].Address}, data)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: "porter-hoist", Version: "1.6", Channel: model.Stable, Fits: hoist.Fits, Accept: "made by the test",
		Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: format, Address: hoist.Parts[0].Address}}}); err != nil {
		t.Fatal(err)
	}
	scan := func() (client.Scanned, map[string]client.Module) {
		t.Helper()
		s, err := w.Technician.Scan(ctx, client.NewScan{At: "b/tug"})
		if err != nil {
			t.Fatal(err)
		}
		by := map[string]client.Module{}
		for _, m := range s.Modules {
			by[m.Slot] = m
		}
		return s, by
	}
	var s client.Scanned
	var by map[string]client.Module
	w.Wait("the bench to hear of the sheets", func() bool {
		_, err := w.Technician.Scan(ctx, client.NewScan{At: "b/tug"})
		return err == nil
	})
	s, by = scan()
	if s.Model != "porter-tug" || s.Serial != "ZFPRT9B2607000010" || len(s.Modules) != 5 || s.Silent != 0 || s.Behind != 1 || s.Faults != 2 {
		t.Errorf("%+v", s)
	}
	if m := by["hoist"]; !m.Boot || m.Serial != "PH-410091" || m.Running != "" || m.Newer != "1.6" || m.Bus != "drive bus" || len(m.Codes) != 1 || m.Codes[0].Code != "U0129-87" || m.Codes[0].Says != "No message from the brake module." || fmt.Sprint(m.Codes[0].Is) != "[now confirmed]" {
		t.Errorf("the hoist: %+v", m)
	}
	if m := by["cabin"]; !m.Silent || !m.Empty || m.Serial != "" {
		t.Errorf("the empty slot: %+v", m)
	}
	if m := by["brake"]; m.Running != "1.6" || m.Boot || m.Silent || m.Revision != "B" || m.Verdict == "" {
		t.Errorf("the brake: %+v", m)
	}
	if u, err := w.Viewer.Unit(ctx, "PK-903320"); err != nil || u.Facts[core.FactAssembly].Value != s.Serial {
		t.Errorf("the brake does not say in which vehicle it is: %+v %v", u.Facts, err)
	}
	if id, err := w.Technician.Identify(ctx, "b/tug", ""); err != nil || id.Serial != s.Serial || id.Model != "porter-tug" {
		t.Errorf("asked without a model it is not the vehicle: %+v %v", id, err)
	}
	units["tug-10-charger"].Set(sim.Faults{Silent: true})
	if s, by = scan(); s.Silent != 1 || !by["charger"].Silent || by["charger"].Empty || by["charger"].Next == "" {
		t.Errorf("a module that should answer: %+v", by["charger"])
	}
	units["tug-10-charger"].Set(sim.Faults{})

	other, err := doip.Kind{}.Open(ctx, link.Settings{"address": gateway, "tester": "0x0E01"}, core.System{})
	if err != nil {
		t.Fatal(err)
	}
	if s, _ := scan(); len(s.Warn) != 1 || s.Gateway == nil || s.Gateway.Others != 1 || s.Gateway.Power != "ready" {
		t.Errorf("another tester is connected: %+v %v", s.Gateway, s.Warn)
	}
	do(t, x, chromedp.Navigate(w.Base+"/vehicle/b/tug"), browser.Until(`document.querySelector("[data-warn]")?.innerText.includes("Other testers")`))
	other.Close()
	do(t, x, chromedp.Navigate(w.Base+"/vehicle/b/tug"), says("Do not drive"), says("U0129-87"), says("The drive bus is off."), browser.Until(`document.querySelector('[data-slot="cabin"]').textContent.includes("empty")`),
		browser.Until(`document.querySelector('[data-slot="charger"]').textContent.includes("no release fits")`), // the catalogue has none: that nothing newer fits would be a lie
		click(`[data-work="hoist"]`), browser.Until(`location.pathname === "/begin/b/tug/hoist"`), says("PH-410091"), says("Back up, then write 1.6"))
	r := w.Open(client.NewRun{Kind: "flash", At: "b/tug/hoist", Reason: "it is dead"})
	if got := strings.Join(answerAll(t, w, w.Technician, r.ID, map[string]string{"volts": "25.6"}), " "); got != "wheels charger volts charger-off" {
		t.Errorf("asked for %s", got)
	}
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) || r.Record.To != "1.6" {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if s, by = scan(); s.Behind != 0 || by["hoist"].Boot || by["hoist"].Running != "1.6" {
		t.Errorf("after it was written: %+v", by["hoist"])
	}
	l := commandLine(t, w, "technician")
	told(t, l.must(0, "scan", "b/tug"), "drive bus", "PH-410091", "U0001-88", "The drive bus is off.", "5 modules", "empty")
	told(t, l.must(21, "scan", "b/tug", "--model", "porter-cart"), "there are porter-tug")
	told(t, l.must(24, "scan", "b/tug", "--model", "porter-hoist"), "names no slots")
	places(t, w, l, units, gateway)
	for _, u := range units {
		u.Power(false)
	}
	told(t, l.must(10, "scan", "b/tug"), "no module of a Porter tug answers", "nothing was changed")
}

// TestAVehicleBehindACanAdapter: the same modules without a gateway, all on one bus behind
// an adapter, some frames of which are lost. They are asked at once, and one is written
// while the others are told to be quiet.
func TestAVehicleBehindACanAdapter(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	units, vehicle := aTug(t, w)
	s := sim.CanAdapter("bus")
	s.Scale = 0.02
	adapter, err := sim.Start(s, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(adapter.Close)
	vehicle.Bus(adapter)
	l := commandLine(t, w, "technician")
	told(t, l.must(0, "link", "set", "b/bus", "--address", adapter.Address(), "--can", "500000"), "b/bus goes to")
	told(t, l.must(0, "scan", "b/bus"), "on b/bus", "ZFPRT9B2607000009", "PH-410088", "PC-220415", "PK-903317", "PN-660120", "C1A10-12", "1.6: ferry flash PH-410088")
	if at, _ := w.Viewer.Unit(ctx, "PH-410088"); at.Link != "b/bus/hoist" {
		t.Errorf("the hoist is on %q", at.Link)
	}
	units["tug-9-hoist"].Set(sim.Faults{Noise: 0.0001})
	r := w.Open(client.NewRun{Kind: "flash", At: "PH-410088", Reason: "the hoist drops"})
	answerAll(t, w, w.Technician, r.ID, map[string]string{"volts": "25.6"})
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) || r.Record.To != "1.6" || r.Link != "b/bus" {
		t.Fatalf("%s on %s: %+v", r.Outcome, r.Link, r.Progress.Fault)
	}
	found, err := w.Technician.Scan(ctx, client.NewScan{At: "b/bus"})
	if err != nil || found.Silent > 0 {
		t.Fatalf("%+v %v", found, err)
	}
	for _, m := range found.Modules { // all were told to note nothing while the hoist was silent
		if i := slices.IndexFunc(m.Codes, func(c loader.Code) bool { return c.Code == "U0140-87" }); i >= 0 {
			t.Errorf("the %s has noted that the hoist was silent: it was not told to be quiet", m.Title)
		}
	}
	if len(found.Warn) != 0 {
		t.Errorf("the bench hears itself: %v", found.Warn)
	}
	adapter.Set(sim.Faults{Stranger: true})
	told(t, l.must(0, "scan", "b/bus"), "Another tester asks modules on this bus", "end or unplug it first")
	adapter.Set(sim.Faults{})
	units["tug-9-brake"].Power(false)
	told(t, l.must(0, "scan", "b/bus"), "✗ does not answer", "1 module silent that should answer")
	for _, u := range units {
		u.Power(false)
	}
	told(t, l.must(10, "scan", "b/bus"), "no module of a Porter tug answers")
}

// places tries the slots behind a link: each has its own unit, and they go with the vehicle.
func places(t *testing.T, w *testkit.World, l line, units map[string]*sim.Unit, gateway string) {
	t.Helper()
	on := func(serial, at string) {
		t.Helper()
		if u, err := w.Viewer.Unit(ctx, serial); err != nil || u.Link != at {
			t.Errorf("%s is on %q, expected %q: %v", serial, u.Link, at, err)
		}
	}
	on("ZFPRT9B2607000010", "b/tug")
	on("PH-410091", "b/tug/hoist")
	on("PK-903320", "b/tug/brake")
	told(t, l.must(0, "links"), "ZFPRT9B2607000010, +3 modules")
	told(t, l.must(0, "identify", "b/tug/brake"), "PK-903320", "on b/tug/brake")
	told(t, l.must(0, "identify", "PK-903320"), "on b/tug/brake")
	told(t, l.must(0, "identify", "b/tug", "--model", "porter-charger"), "PC-220431", "on b/tug/charger") // it can only be there
	told(t, l.must(21, "identify", "b/tug/boom"), "has no slot", "hoist, charger, brake, cabin")
	told(t, l.must(10, "identify", "b/tug/cabin"), "nothing answers on b/tug") // and nobody else is taken for it
	told(t, l.must(0, "fit", "PH-410091"), "Up to date: nothing to do.")
	units["tug-10"].Swap("ZFPRT9B2607000098", "B", nil)
	told(t, l.must(0, "identify", "b/tug"), "ZFPRT9B2607000098")
	on("PH-410091", "")
	on("ZFPRT9B2607000010", "")
	_, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/tug/hoist"})
	if core.KindOf(err) != core.CannotTell {
		t.Errorf("the hoist of a vehicle that was not asked is written: %v", err)
	}
	follow(t, w, "technician", err)
	on("PH-410091", "b/tug/hoist") // it was asked again
	l.must(0, "link", "set", "b/tug", "--port", "/dev/null")
	on("PH-410091", "")
	told(t, l.must(21, "link", "set", "b/can", "--interface", "can-none"), "there is no CAN interface can-none")
	told(t, l.must(24, "link", "set", "b/can", "--interface", "can0; x"), "expected")
	l.must(0, "link", "set", "b/tug", "--gateway", gateway)
}

// TestAModuleIsNotLeftHalfDone: the gateway hangs up in the middle of a write, and another
// one ends it.
func TestAModuleIsNotLeftHalfDone(t *testing.T) {
	t.Parallel()
	w := moduled(t, slow)
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: coretest.Password}); err != nil {
		t.Fatal(err)
	}
	g := gatewayTo(t, w.Units["a"])
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/tug", PortChoice: client.PortChoice{Gateway: g.Address()}}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Identify(ctx, "b/tug", ""); err != nil {
		t.Fatal(err)
	}
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/tug"}, 2)
	g.CutAfter(5)
	w.LetGo()
	if r = w.Follow(r.ID); r.Outcome != string(run.Interrupted) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if u, err := w.Viewer.Unit(ctx, "S-0001"); err != nil || u.State != "half-done" {
		t.Errorf("%s %v", u.State, err)
	}
	followTodo(t, w, "technician", r.Progress.Fault.Todo)
	w.Wait("it to come to its end", func() bool {
		x, err := w.Technician.Run(ctx, r.ID)
		if err == nil && x.State == "paused" {
			w.Technician.ResumeRun(ctx, r.ID, client.Resume{})
		}
		return err == nil && x.State == "closed"
	})
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) || w.Units["a"].Version() != "2.0.0" {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
}

// TestWhatMayHappenToAModule: it refuses a block, starts anew in the middle of a transfer, is
// left by the gateway, or finds a program to be for other hardware. The run says what it
// is, and it is written in the end, or has its old program back.
func TestWhatMayHappenToAModule(t *testing.T) {
	t.Parallel()
	w := moduled(t, func(s *sim.Spec) { s.Rejects = "3.0.0" })
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: coretest.Password}); err != nil {
		t.Fatal(err)
	}
	u := w.Units["a"]
	g := gatewayTo(t, u)
	sim.NewVehicle(u).Behind(g)
	fleet := httptest.NewServer(sim.Fleet{"a": u})
	t.Cleanup(fleet.Close)
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/tug", PortChoice: client.PortChoice{Gateway: g.Address()}}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Identify(ctx, "b/tug", ""); err != nil {
		t.Fatal(err)
	}
	for _, fault := range []string{`{"faults":{"refuseAt":9}}`, `{"faults":{"resetAt":11}}`, `{"hangUp":7}`} {
		u.Write(0x1000, coretest.SmallProgram("1.0.0"))
		if _, err := w.Technician.Identify(ctx, "b/tug", ""); err != nil {
			t.Fatal(err)
		}
		r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/tug"}, 2)
		if resp, err := http.Post(fleet.URL+"/a", "application/json", strings.NewReader(fault)); err != nil || resp.StatusCode != http.StatusOK {
			t.Fatal(resp, err)
		}
		w.LetGo()
		r = w.Follow(r.ID)
		if refused := strings.Contains(fault, "refuse"); refused != (r.Outcome == string(run.Failed)) || !refused && r.Outcome != string(run.Interrupted) || r.Progress.Fault == nil || r.Progress.Fault.Next == "" {
			t.Fatalf("%s: %s %+v", fault, r.Outcome, r.Progress.Fault)
		}
		if s, err := w.Viewer.Unit(ctx, "S-0001"); err != nil || s.State != "half-done" {
			t.Errorf("%s: %s %v", fault, s.State, err)
		}
		if r.State == "closed" { // memory that cannot be programmed may be worn: a person decides to try again
			r = w.Open(client.NewRun{Kind: "flash", At: "b/tug"})
		}
		w.Wait("it to come to its end", func() bool {
			x, err := w.Technician.Run(ctx, r.ID)
			if err == nil && x.State == "paused" {
				w.Technician.ResumeRun(ctx, r.ID, client.Resume{})
			}
			return err == nil && x.State == "closed"
		})
		if r = w.Follow(r.ID); r.Outcome != string(run.Done) || u.Version() != "2.0.0" {
			t.Errorf("%s: %s %+v", fault, r.Outcome, r.Progress.Fault)
		}
	}
	im, err := w.Lead.PutImage(ctx, "three.bin", model.Part{Format: "raw", Address: 0x1000}, coretest.SmallProgram("3.0.0"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: "3.0.0", Channel: model.Stable, Fits: map[string][]string{"revision": {"C", "D"}}, Accept: "made by the test",
		Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}}); err != nil {
		t.Fatal(err)
	}
	r := w.Follow(w.Open(client.NewRun{Kind: "flash", At: "b/tug", Release: "3.0.0"}).ID)
	if f := r.Progress.Fault; f == nil || !strings.Contains(f.Message, "says 0x02") || u.Version() != "" {
		t.Fatalf("the catalogue is wrong about its hardware, and the module says so: %s %+v", r.Outcome, f)
	}
	backups, err := w.Viewer.Backups(ctx, "S-0001")
	if err != nil || len(backups.Backups) == 0 {
		t.Fatal(err)
	}
	back := w.Follow(w.Open(client.NewRun{Kind: "restore", At: "b/tug", Backup: backups.Backups[0].ID}).ID)
	if back.Outcome != string(run.Done) || u.Version() != "2.0.0" {
		t.Errorf("it does not have its old program back: %s %+v, runs %q", back.Outcome, back.Progress.Fault, u.Version())
	}
}

// TestAVehicleIsFoundByItself: it answers what is asked of everybody on the network, and
// what is told becomes a link.
func TestAVehicleIsFoundByItself(t *testing.T) {
	t.Parallel()
	w := moduled(t, nil)
	g, err := sim.StartGateway(sim.GatewaySpec{VIN: "ZFTUG000000000077", Logical: 0x1077, Modules: map[uint16]*sim.Unit{0x0042: w.Units["a"]}, Hears: "127.255.255.255:13400"}, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Close)
	l := commandLine(t, w, "technician")
	found := func() (v client.Vehicle) {
		t.Helper()
		p, err := w.Viewer.PortsAndVehicles(ctx, "b")
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range p.Vehicles {
			if v.VIN == "ZFTUG000000000077" {
				return v
			}
		}
		t.Fatalf("it is not found: %+v", p.Vehicles)
		return v
	}
	if v := found(); v.Address != g.Address() || v.Logical != 0x1077 || v.Link != "" {
		t.Errorf("%+v", v)
	}
	told(t, l.must(0, "links", "--bench", "b"), "ZFTUG000000000077", "0x1077", "ferry link set b/NAME --gateway")
	_, port, _ := strings.Cut(g.Address(), ":")
	l.must(0, "link", "set", "b/tug", "--gateway", "localhost:"+port) // by its name
	if v := found(); v.Link != "tug" {
		t.Errorf("%+v", v)
	}
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/benches"), click("[data-watch]"), click("[data-vehicles]"), says("ZFTUG000000000077"), says("tug"))
	if p, err := w.Viewer.Ports(ctx, "b"); err != nil || len(p.Vehicles) != 0 || p.Asked {
		t.Errorf("nobody asked for vehicles: %+v %v", p, err)
	}
}

// TestWhatFeedsAModule: its supply is asked before the first erase and stops the run there;
// a sag during the write is shown while it lasts, and stands in the unit's history.
func TestWhatFeedsAModule(t *testing.T) {
	t.Parallel()
	w := moduled(t, nil)
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: coretest.Password}); err != nil {
		t.Fatal(err)
	}
	v := sim.NewVehicle(w.Units["a"])
	v.Supply(200)
	r := w.Follow(w.Open(client.NewRun{Kind: "flash", At: "b/a"}).ID)
	if r.Outcome != string(run.Refused) || r.Progress.View.Touched || !strings.Contains(r.Progress.Fault.Message, "supply-volts 20.0 V (wanted: at least 24 V)") {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	v.Supply(256)
	w.HoldAt(run.KindSame, 1)
	r = w.Open(client.NewRun{Kind: "flash", At: "b/a"})
	<-w.Held()
	x := tab(t, w, "technician", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+r.ID), browser.Until(`document.querySelector("[data-conditions]")?.innerText.includes("supply volts 25.6 V")`))
	v.Supply(205)
	w.HoldAt(run.KindVerified, 1)
	do(t, x, browser.Until(`document.querySelector("[data-warn]")?.innerText.includes("20.5 V")`))
	w.LetGo()
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	h, err := w.Viewer.History(ctx, "S-0001")
	if err != nil || !strings.Contains(fmt.Sprintf("%+v", h.Entries), "During the write it said: supply-volts 20.5 V; wanted is at least 24 V.") {
		t.Errorf("%+v %v", h.Entries, err)
	}
}

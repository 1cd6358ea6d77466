package diagnose_test

import (
	"bytes"
	"context"
	"os"
	"slices"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/diagnose"
	"zealousferry/core/link"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/link/serial"
	"zealousferry/core/model"
	"zealousferry/sim"
)

// injected is a fault in the simulated adapter, its wires or its unit.
type injected struct {
	name   string // the fault that must be named
	loader string // of the unit that is on the link
	spec   func(*sim.Spec)
	faults sim.Faults
	off    bool // the unit has no power
}

func wires(w sim.Wiring) sim.Faults { return sim.Faults{Wiring: w} }

// faults are those of docs/diagnosis.md.
var faults = []injected{
	{name: "no-power", off: true},
	{name: "held-in-reset", faults: wires(sim.Wiring{HeldReset: true})},
	{name: "crossed", faults: wires(sim.Wiring{Crossed: true})},
	{name: "wire-from-unit-open", faults: wires(sim.Wiring{OpenToBench: true})},
	{name: "dead-adapter", faults: wires(sim.Wiring{DeadAdapter: true})},
	{name: "wire-to-unit-open", faults: wires(sim.Wiring{OpenToUnit: true})},
	{name: "level-too-low", faults: wires(sim.Wiring{LowLevel: true})},
	{name: "data-wires-touch", faults: wires(sim.Wiring{Bridged: true, OpenToUnit: true, OpenToBench: true})},
	{name: "one-wire-lead", spec: func(s *sim.Spec) { s.OneWire = true }, faults: wires(sim.Wiring{OpenToUnit: true, OpenToBench: true})},
	{name: "other-speed", faults: wires(sim.Wiring{Baud: 57600})},
	{name: "other-parity", faults: wires(sim.Wiring{Parity: "even"})},
	{name: "inverted", faults: wires(sim.Wiring{Inverted: true})},
	{name: "ground-open", faults: wires(sim.Wiring{OpenGround: true})},
	{name: "interference", faults: sim.Faults{Noise: 0.4}},
	{name: "strap-missing", faults: wires(sim.Wiring{NoStrap: true})},
	{name: "reset-line-off", faults: wires(sim.Wiring{NoReset: true})},
	{name: "not-switched-off", loader: "one-wire"},
	{name: "another-model", spec: func(s *sim.Spec) { s.Says = "OTHER" }},
	{name: "another-loader", loader: "keel"},
	{name: "loose-wire", faults: sim.Faults{Loss: 0.0006}},
	{name: "long-lead", faults: wires(sim.Wiring{LongLead: true})},
	{name: "adapter-holds-back", faults: wires(sim.Wiring{Latency: 80})},
	{name: "network-late", faults: wires(sim.Wiring{Delay: 80})},
	{name: "supply-sags", faults: wires(sim.Wiring{Sag: true})},
	{name: "supply-gives-way", faults: wires(sim.Wiring{Weak: 400})},
}

// candidates are the loader that the sheet of the named board tells of, then the
// others.
func candidates(t *testing.T, first string) []*model.Sheet {
	var all []*model.Sheet
	for _, name := range append([]string{first}, "gangway", "keel") {
		sheet, err := coretest.SmallSheetNamed(name)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, sheet)
	}
	return all
}

var pace = link.Pace{Clock: core.System{}, Scale: 1}

func (f injected) unit(t *testing.T) *sim.Unit {
	t.Helper()
	if f.loader == "" {
		f.loader = "gangway"
	}
	u, _, err := coretest.SmallUnitOf(f.loader, f.spec)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	u.Set(f.faults)
	u.Power(!f.off)
	return u
}

// hands do a class's test on a simulated unit.
func hands(t *testing.T, u *sim.Unit, s link.Stream, test diagnose.Test) diagnose.Answer {
	t.Helper()
	var a diagnose.Answer
	comes := func() bool {
		came, err := diagnose.ComesBack(context.Background(), s, pace)
		if err != nil {
			t.Fatal(err)
		}
		return came
	}
	switch test.Kind {
	case diagnose.Measure:
		v, err := u.Measure(test.What)
		if err != nil {
			t.Fatal(err)
		}
		a.Value = v
	case diagnose.Bridge:
		a.Came = map[string]bool{}
		for _, place := range []string{sim.BridgeAdapter, sim.BridgePlug} {
			u.Bridge(place)
			a.Came[place] = comes()
		}
	case diagnose.Look:
		u.Bridge(sim.BridgeOff)
		a.Yes = comes()
	}
	u.Bridge("")
	return a
}

// TestEveryFaultIsNamed: by looking at the line alone the class is right for all
// of them; the class's one test then names the fault.
func TestEveryFaultIsNamed(t *testing.T) {
	if len(faults) != 25 || len(diagnose.Faults) != 25 {
		t.Fatalf("%d faults injected, %d known", len(faults), len(diagnose.Faults))
	}
	for _, f := range faults {
		t.Run(f.name, func(t *testing.T) {
			t.Parallel()
			u := f.unit(t)
			l, err := rfc2217.Kind{}.Open(context.Background(), link.Settings{"address": u.Address()}, core.System{})
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			before := u.Memory()
			first := "gangway"
			if f.loader == "one-wire" {
				first = f.loader
			}
			seen, err := diagnose.Watch(context.Background(), l.(link.Stream), candidates(t, first), pace, nil)
			if err != nil {
				t.Fatal(err)
			}
			want := diagnose.Faults[f.name]
			class := diagnose.Classify(seen)
			if class != want.Class {
				t.Fatalf("class %s, want %s: %+v", class, want.Class, seen)
			}
			test := diagnose.Tests[class]
			if !slices.Contains(test.Among, f.name) {
				t.Errorf("the test of %s does not tell of %s", class, f.name)
			}
			got, err := diagnose.Name(seen, hands(t, u, l.(link.Stream), test))
			if err != nil || got.Name != f.name {
				t.Errorf("named %q (%v): %+v", got.Name, err, seen)
			}
			if len(seen.Words()) == 0 {
				t.Error("nothing to say of it")
			}
			if string(before) != string(u.Memory()) {
				t.Error("looking changed the memory")
			}
		})
	}
}

// A sound link is sound, over the network and over a terminal, with every loader
// that can be called.
func TestASoundLinkIsSound(t *testing.T) {
	for _, name := range []string{"gangway", "keel"} {
		u := injected{loader: name}.unit(t)
		l, err := rfc2217.Kind{}.Open(context.Background(), link.Settings{"address": u.Address()}, core.System{})
		if err != nil {
			t.Fatal(err)
		}
		seen, err := diagnose.Watch(context.Background(), l.(link.Stream), candidates(t, name), pace, nil)
		if c := diagnose.Classify(seen); err != nil || c != diagnose.Sound {
			t.Errorf("%s: %s, %v: %+v", name, c, err, seen)
		}
		l.Close()
	}
}

// Behind a pseudo-terminal speed, silence, echo, noise and latency are seen too.
func TestFaultsBehindATerminal(t *testing.T) {
	for _, x := range []struct {
		name   string
		faults sim.Faults
		loader bool // it waits in its loader; no modem line could bring it there
		want   diagnose.Class
		fault  string // that is named without a person's answer
	}{
		{"its program", sim.Faults{}, false, diagnose.Program, ""},
		{"its loader", sim.Faults{}, true, diagnose.Sound, ""},
		{"silence", sim.Faults{Silent: true}, false, diagnose.Silent, ""},
		{"echo", wires(sim.Wiring{Bridged: true, OpenToUnit: true, OpenToBench: true}), false, diagnose.Echo, ""},
		{"noise", sim.Faults{Noise: 0.5}, false, diagnose.Rubbish, ""},
		{"speed", wires(sim.Wiring{Baud: 57600}), false, diagnose.Setting, "other-speed"},
		{"latency", wires(sim.Wiring{Latency: 80}), true, diagnose.Late, "adapter-holds-back"},
		{"loss", sim.Faults{Loss: 0.0006}, true, diagnose.Lossy, "loose-wire"},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			f := injected{faults: x.faults}
			if x.loader {
				f.spec = func(s *sim.Spec) { s.Fresh = func() []byte { return bytes.Repeat([]byte{0xFF}, s.Size) } }
			}
			u := f.unit(t)
			path, err := u.Terminal()
			if err != nil {
				t.Fatal(err)
			}
			l, err := serial.Kind{}.Open(context.Background(), link.Settings{"path": path}, core.System{})
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			seen, err := diagnose.Watch(context.Background(), l.(link.Stream), candidates(t, "gangway")[:1], pace, nil)
			if c := diagnose.Classify(seen); err != nil || c != x.want {
				t.Errorf("%s, %v: %+v", c, err, seen)
			}
			if x.fault == "" {
				return
			}
			if got, err := diagnose.Name(seen, diagnose.Answer{}); err != nil || got.Name != x.fault {
				t.Errorf("named %q, %v", got.Name, err)
			}
		})
	}
}

func TestTheTableStandsInTheDocument(t *testing.T) {
	raw, err := os.ReadFile("../../docs/diagnosis.md")
	if err != nil {
		t.Fatal(err)
	}
	for name, f := range diagnose.Faults {
		if !strings.Contains(string(raw), "| "+name+" | "+f.Says) {
			t.Errorf("docs/diagnosis.md lacks: | %s | %s", name, f.Says)
		}
	}
}

// Every answer to every class's test names a fault of that class, or says that it
// cannot tell.
func TestAnswersNameOnlyMembers(t *testing.T) {
	seen := map[diagnose.Class]diagnose.Seen{
		diagnose.Silent: {}, diagnose.HeldLow: {Held: true}, diagnose.Deaf: {Banner: "x starting"}, diagnose.Echo: {Echo: true},
		diagnose.Rubbish: {Heard: 5}, diagnose.Restarts: {Restarts: 3}, diagnose.Program: {Version: "1"}, diagnose.Setting: {Held: true, Heard: 9},
		diagnose.OtherLoader: {Other: "x"},
	}
	for class, s := range seen {
		if got := diagnose.Classify(s); got != class {
			t.Errorf("%+v is %s, want %s", s, got, class)
		}
		for _, a := range []diagnose.Answer{{}, {Value: 3.3}, {Value: 1e6}, {Yes: true}, {Came: map[string]bool{"adapter": true}}, {Came: map[string]bool{"adapter": true, "plug": true}}} {
			f, err := diagnose.Name(s, a)
			if err == nil && f.Class != class || err != nil && core.KindOf(err) != core.CannotTell {
				t.Errorf("%s, answer %+v: %q, %v", class, a, f.Name, err)
			}
		}
	}
	if _, err := diagnose.Name(diagnose.Seen{Loader: true}, diagnose.Answer{}); core.KindOf(err) != core.CannotTell {
		t.Error("a sound link has a fault")
	}
}

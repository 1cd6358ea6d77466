package registry_test

import (
	"bytes"
	"context"
	"maps"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/coretest/loadertest"
	"zealousferry/core/link"
	"zealousferry/core/link/doip"
	"zealousferry/core/loader"
	"zealousferry/core/loader/monitor"
	"zealousferry/core/registry"
	"zealousferry/sim"
)

type unit struct{ *sim.Unit }

func (u unit) Link(ctx context.Context) (link.Link, error) {
	return coretest.Dial(ctx, u.Unit)
}

// behind is a module that is reached through its vehicle's gateway.
type behind struct {
	unit
	gateway *sim.Gateway
}

func (b behind) Link(ctx context.Context) (link.Link, error) {
	return doip.Kind{}.Open(ctx, link.Settings{"address": b.gateway.Address()}, core.System{})
}

func (u unit) Silent(on bool)      { u.Set(sim.Faults{Silent: on}) }
func (u unit) Noise(share float64) { u.Set(sim.Faults{Noise: share}) }

// TestEveryLoader runs the one test on every loader and its simulated unit.
func TestEveryLoader(t *testing.T) {
	seen := map[string]bool{}
	for _, name := range append([]string{"module, behind a gateway"}, coretest.Loaders...) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			name, routed := strings.CutSuffix(name, ", behind a gateway")
			reached := func(t *testing.T, u *sim.Unit) loadertest.Unit {
				t.Cleanup(u.Close)
				if !routed {
					return unit{u}
				}
				g, err := sim.StartGateway(sim.GatewaySpec{VIN: "ZFTUG000000000042", Logical: 0x1001, Testers: 8, Modules: map[uint16]*sim.Unit{0x0042: u}}, "127.0.0.1:0", core.System{})
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(g.Close)
				return behind{unit{u}, g}
			}
			_, sheet, err := coretest.SmallUnitOf(name, nil)
			if err != nil {
				t.Fatal(err)
			}
			kind, err := registry.Loader(sheet.Main().Loader.Kind)
			if err != nil {
				t.Fatal(err)
			}
			x := sheet.Main().Loader
			loadertest.Run(t, loadertest.Subject{
				Kind: kind,
				Options: loader.Options{Secret: coretest.Secret, Key: coretest.Key, Own: x.Own, Await: x.Await, Map: &sheet.Main().Memory,
					Pace: link.Pace{Clock: core.System{}, Scale: 0.2}},
				New: func(t *testing.T) loadertest.Unit {
					u, _, err := coretest.SmallUnitOf(name, func(s *sim.Spec) { s.HasFiles = true })
					if err != nil {
						t.Fatal(err)
					}
					return reached(t, u)
				},
				Waiting: func(t *testing.T) loadertest.Unit {
					opens := 800 * time.Millisecond
					if name == "xmodem" || name == "ymodem" { // it asks every three seconds
						opens = 8 * time.Second
					}
					u, _, err := coretest.SmallUnitOf(name, func(s *sim.Spec) { s.OpensFor, s.Scale = opens, 1 })
					if err != nil {
						t.Fatal(err)
					}
					u.Power(false)
					return reached(t, u)
				},
				Program: coretest.SmallProgram("2.0.0"),
			})
		})
		sheet, _ := coretest.SmallSheetNamed(strings.TrimSuffix(name, ", behind a gateway"))
		seen[sheet.Main().Loader.Kind] = true
	}
	for _, k := range registry.Loaders {
		if !seen[k.Name()] {
			t.Errorf("loader %s is not tried", k.Name())
		}
	}
}

// A transfer whose bench died in the middle is taken up without anybody at the unit: it
// asks for a block in the middle, which is no invitation.
func TestATransferIsTakenUp(t *testing.T) {
	for _, name := range []string{"xmodem", "ymodem", "monitor-menu"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			file := coretest.SmallProgram("2.0.0")
			u, sheet, err := coretest.SmallUnitOf(name, func(s *sim.Spec) {
				s.Scale, s.HasFiles = 0.2, true
				s.Fresh = func() []byte { return bytes.Repeat([]byte{0xFF}, s.Size) } // it stays in its loader: there is no program
			})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(u.Close)
			x := sheet.Main().Loader
			kind, err := registry.Loader(x.Kind)
			if err != nil {
				t.Fatal(err)
			}
			own := maps.Clone(x.Own)
			delete(own, "enter") // no line could bring it back
			o := loader.Options{Own: own, Map: &sheet.Main().Memory, Pace: link.Pace{Clock: core.System{}, Scale: 0.2}}
			send := func(l link.Link, sent func(int)) error {
				s, err := kind.Open(context.Background(), l, o)
				if err != nil {
					return err
				}
				if f, ok := s.(loader.Filer); ok && s.Can(loader.File) == nil {
					return f.SendFile(context.Background(), "x.bin", file, sent)
				}
				return s.(loader.Cabinet).PutFile(context.Background(), "x.bin", file, sent)
			}
			first, err := coretest.Dial(context.Background(), u)
			if err != nil {
				t.Fatal(err)
			}
			if err := send(first, func(n int) {
				if n > 4000 {
					first.Close()
				}
			}); err == nil {
				t.Fatal("the transfer did not break off")
			}
			first.Close()
			var second link.Link
			for range 100 { // the unit's server lets go of the first one
				if second, err = coretest.Dial(context.Background(), u); err == nil {
					break
				}
			}
			if err != nil {
				t.Fatal(err)
			}
			defer second.Close()
			if err := send(second, nil); err != nil {
				t.Fatal(err)
			}
			if name != "monitor-menu" && !bytes.Equal(u.Memory()[0x1000:][:len(file)], file) {
				t.Error("the memory is not the file")
			}
			if name == "monitor-menu" && !bytes.Equal(u.File("x.bin"), file) {
				t.Error("the file is not what was sent")
			}
		})
	}
}

// A board that is stopped by a break while it counts down.
func TestABreakStopsACountdown(t *testing.T) {
	u, _, err := coretest.SmallUnitOf("monitor-lines", func(s *sim.Spec) { s.OpensFor, s.Scale = 3*time.Second, 1 })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	u.Power(false)
	raw := bytes.Replace(coretest.SmallSheetOf("monitor-lines"), []byte(`{ key: " " }`), []byte("{ break: 30ms }"), 1)
	sheet, err := registry.Sheet(raw)
	if err != nil {
		t.Fatal(err)
	}
	l, err := coretest.Dial(context.Background(), u)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	own := maps.Clone(sheet.Main().Loader.Own)
	delete(own, "enter")
	s, err := monitor.Kind{}.Open(context.Background(), l, loader.Options{Own: own, Map: &sheet.Main().Memory, Await: 10 * time.Second, Ready: func() { u.Power(true) }, Pace: link.Pace{Clock: core.System{}}})
	if err != nil {
		t.Fatal(err)
	}
	if facts, err := s.Identify(context.Background()); err != nil || len(facts) < 4 {
		t.Errorf("%+v %v", facts, err)
	}
}

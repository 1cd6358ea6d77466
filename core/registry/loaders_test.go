package registry_test

import (
	"context"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/coretest/loadertest"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/registry"
	"zealousferry/sim"
)

type unit struct{ *sim.Unit }

func (u unit) Link(ctx context.Context) (link.Link, error) {
	return coretest.Dial(ctx, u.Unit)
}
func (u unit) Silent(on bool)      { u.Set(sim.Faults{Silent: on}) }
func (u unit) Noise(share float64) { u.Set(sim.Faults{Noise: share}) }

// TestEveryLoader runs the one test on every loader and its simulated unit.
func TestEveryLoader(t *testing.T) {
	seen := map[string]bool{}
	for _, name := range coretest.Loaders {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
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
				Options: loader.Options{Secret: coretest.Secret, Own: x.Own, Await: x.Await, Map: &sheet.Main().Memory,
					Pace: link.Pace{Clock: core.System{}, Scale: 0.2}},
				New: func(t *testing.T) loadertest.Unit {
					u, _, err := coretest.SmallUnitOf(name, func(s *sim.Spec) { s.HasFiles = true })
					if err != nil {
						t.Fatal(err)
					}
					t.Cleanup(u.Close)
					return unit{u}
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
					t.Cleanup(u.Close)
					u.Power(false)
					return unit{u}
				},
				Program: coretest.SmallProgram("2.0.0"),
			})
		})
		sheet, _ := coretest.SmallSheetNamed(name)
		seen[sheet.Main().Loader.Kind] = true
	}
	for _, k := range registry.Loaders {
		if !seen[k.Name()] {
			t.Errorf("loader %s is not tried", k.Name())
		}
	}
}

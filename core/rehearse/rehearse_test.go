package rehearse_test

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/rehearse"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/sim"
)

// unit is a small board whose backup was taken by a run, and what a rehearsal of 2.0.0 on it
// goes by.
func unit(t testing.TB, name string, change func(*model.Release)) (rehearse.Input, *coretest.Alone, *sim.Unit) {
	t.Helper()
	ctx := context.Background()
	u, sheet, err := coretest.SmallUnitOf(name, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	a := coretest.NewAlone(u)
	o := run.Opened{Run: "r-backup", Kind: run.BackUp, Unit: "unit-1", Model: sheet.Model, Serial: "S-0001", Label: "S-0001", Bench: "b", Link: "b/l", By: "p",
		Sheet: a.Put(coretest.SmallSheetOf(name)), Deadline: time.Second}
	o.Noted = []core.Fact{{Name: core.FactRevision, Value: "D", Source: core.FromLabel, At: time.Now()}}
	if err := o.Lay(sheet, nil, nil); err != nil {
		t.Fatal(err)
	}
	j, err := run.OpenJournal(&coretest.Disk{})
	if err != nil {
		t.Fatal(err)
	}
	r, err := run.New(j, o, a, link.Pace{Clock: core.System{}, Scale: 1})
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Work(ctx); err != nil || len(a.Stored) != 1 {
		t.Fatalf("the backup: %v %+v", err, j.State().Fault)
	}
	id := a.Release(sheet, "2.0.0", 0x1000, coretest.SmallProgram("2.0.0"), map[string][]string{"revision": {"D"}})
	raw, _ := a.Blob(ctx, id)
	rel := new(model.Release)
	if err := json.Unmarshal(raw, rel); err != nil {
		t.Fatal(err)
	}
	if change != nil {
		change(rel)
	}
	raw, _ = json.Marshal(rel)
	o.Run, o.Kind, o.Version, o.Release = "r-rehearsal", run.Flash, rel.Version, a.Put(raw)
	o.Sections, o.Itinerary = nil, nil
	in := rehearse.Input{Opened: o, Sheet: sheet, Release: rel, Held: map[string]rehearse.Held{}, Safe: make([]byte, 32), Now: time.Now(),
		Get: shelf.Each(func(d core.Digest) ([]byte, error) { return a.Blob(ctx, d) })}
	for _, x := range a.Stored[0] {
		in.Held[x.Section] = rehearse.Held{Manifest: x.Manifest}
	}
	for _, x := range j.State().Sections {
		in.Facts = append(in.Facts, x.Identified.Facts...)
	}
	if len(in.Facts) == 0 || name != "gangway" {
		in.Facts = append(in.Facts, core.Fact{Name: core.FactRunning, Value: "1.0.0", Source: core.FromWire})
	}
	return in, a, u
}

// A rehearsal ends as the run itself would, for every loader that can read, and the unit
// hears nothing of it.
func TestARehearsalEndsAsTheRunWould(t *testing.T) {
	for _, name := range []string{"gangway", "keel", "module", "monitor-lines", "monitor-silent"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			in, _, u := unit(t, name, nil)
			before := u.Memory()
			got, err := rehearse.Of(context.Background(), in)
			if err != nil {
				t.Fatal(err)
			}
			if !got.Well() || got.Version != "2.0.0" || got.Pieces != 20 || got.Moved.Written < 20<<10 || got.HandsOff <= 0 || got.Line < got.HandsOff || len(got.Lost) != 0 {
				t.Errorf("%+v %+v", got, got.Fault)
			}
			if !bytes.Equal(before, u.Memory()) || u.Version() != "1.0.0" {
				t.Error("the unit has heard of it")
			}
		})
	}
}

func TestWhatARehearsalFinds(t *testing.T) {
	t.Run("a release for another revision", func(t *testing.T) {
		in, _, _ := unit(t, "gangway", func(r *model.Release) { r.Fits = map[string][]string{"revision": {"C"}} })
		got, err := rehearse.Of(context.Background(), in)
		if err != nil || got.Well() || got.Fault == nil || got.Fault.Kind != core.DoesNotFit || got.Moved.Written != 0 {
			t.Errorf("%+v %v", got, err)
		}
	})
	t.Run("nothing to do", func(t *testing.T) {
		in, _, _ := unit(t, "gangway", func(r *model.Release) { r.Version = "1.0.0" })
		got, err := rehearse.Of(context.Background(), in)
		if err != nil || got.Outcome != run.NothingToDo || got.Pieces != 0 {
			t.Errorf("%+v %v", got, err)
		}
	})
	t.Run("no backup", func(t *testing.T) {
		in, _, _ := unit(t, "gangway", nil)
		in.Held = nil
		if _, err := rehearse.Of(context.Background(), in); core.KindOf(err) != core.CannotTell {
			t.Errorf("%v", err)
		}
	})
	t.Run("a backup of which a piece is gone", func(t *testing.T) {
		in, a, _ := unit(t, "gangway", nil)
		n := 0
		in.Get = shelf.Each(func(d core.Digest) ([]byte, error) {
			if n++; n == 7 {
				return nil, core.Fail(core.NotFound, "no blob %s", d.Short())
			}
			return a.Blob(context.Background(), d)
		})
		if _, err := rehearse.Of(context.Background(), in); core.KindOf(err) != core.NotFound {
			t.Errorf("%v", err)
		}
	})
}

const levels = `settings:
  by: loader
  values:
    - { name: level, as: number }
    - { name: fan, as: text }
    - { name: zone, as: text }
`

// What a release does not have any more is named, what it asks for is asked, and the rest
// stays.
func TestSettingsInARehearsal(t *testing.T) {
	in, a, _ := unit(t, "gangway", func(r *model.Release) {
		r.Settings = []model.Carry{{From: []string{"1.0.0"}, Changes: []model.Change{{Setting: "fan", Gone: true}, {To: "zone", Ask: true}}}}
	})
	raw := append(coretest.SmallSheetOf("gangway"), levels...)
	sheet, err := model.ReadSheet(raw)
	if err != nil {
		t.Fatal(err)
	}
	in.Sheet, in.Opened.Sheet = sheet, a.Put(raw)
	h := in.Held[sheet.Main().Name]
	h.Settings = []loader.Setting{{Name: "level", Value: "204"}, {Name: "fan", Value: "3"}}
	in.Held[sheet.Main().Name] = h
	got, err := rehearse.Of(context.Background(), in)
	if err != nil || !got.Well() {
		t.Fatalf("%+v %+v %v", got, got.Fault, err)
	}
	if len(got.Lost) != 1 || got.Lost[0].What != "setting" || got.Lost[0].Name != "fan" {
		t.Errorf("lost %+v", got.Lost)
	}
	if !slices.ContainsFunc(got.Asked, func(a rehearse.Asked) bool { return a.Setting }) {
		t.Errorf("asked %+v", got.Asked)
	}
}

// BenchmarkRehearsal is a rehearsal of a board of 36 KiB; a fleet's is measured by make bench.
func BenchmarkRehearsal(b *testing.B) {
	in, _, _ := unit(b, "gangway", nil)
	b.SetBytes(36 << 10)
	for b.Loop() {
		if got, err := rehearse.Of(context.Background(), in); err != nil || !got.Well() {
			b.Fatal(err)
		}
	}
}

package run_test

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link/recording"
	"zealousferry/core/run"
	"zealousferry/sim"
)

// traced are the traces in a run's journal.
func traced(t *testing.T, b *bench) (all []run.Traced) {
	t.Helper()
	for _, e := range b.journal.Events() {
		if e.Kind != run.KindTraced {
			continue
		}
		var x run.Traced
		if err := json.Unmarshal(e.Body, &x); err != nil {
			t.Fatal(err)
		}
		if x.Digest == nil || x.Text != "" {
			t.Fatalf("its text is not kept apart: %+v", x)
		}
		raw, err := b.Held(*x.Digest)
		if err != nil {
			t.Fatal(err)
		}
		x.Text = string(raw)
		r, err := recording.Read(strings.NewReader(x.Text))
		if err != nil || len(r.Pieces) != x.Lines {
			t.Fatalf("a trace that cannot be read: %v\n%s", err, x.Text)
		}
		all = append(all, x)
	}
	return all
}

// A unit that goes silent in the middle of the write leaves what was said last, of the
// program no more than the heads of the messages, and the fault stays the last event.
func TestAWriteThatBreaksOffLeavesATrace(t *testing.T) {
	for _, name := range coretest.Loaders {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBenchOf(t, name, nil)
			b.onEvent(func(j *run.Journal) bool {
				all := j.Events()
				k := all[len(all)-1].Kind
				return k == run.KindAboutTo || k == run.KindSending
			}, func() { b.unit.Power(false) })
			s := b.flash(t, b.open)
			if s.Fault == nil {
				t.Fatalf("it went well: %+v", s.Closed)
			}
			all := traced(t, b)
			if len(all) == 0 {
				t.Fatal("no trace")
			}
			x := all[len(all)-1]
			if x.Phase != run.PhaseChange || x.Link != "b/l" || !strings.Contains(x.Text, " > ") {
				t.Errorf("%+v", x)
			}
			r, _ := recording.Read(strings.NewReader(x.Text))
			for _, p := range r.Pieces {
				if len(p.Data) > 12 && bytes.Contains(coretest.SmallProgram("2.0.0"), p.Data[4:]) {
					t.Fatalf("a piece of the program is in the trace: %q", p.Data)
				}
			}
			if events := b.journal.Events(); events[slices.IndexFunc(events, func(e run.Event) bool { return e.Kind == run.KindTraced })+1].Kind != run.KindFault {
				t.Error("the fault does not follow the trace")
			}
		})
	}
}

// Neither what opens a unit nor what it is set to is in a trace, wherever the run broke off.
func TestNoSecretIsInATrace(t *testing.T) {
	t.Parallel()
	look := func(t *testing.T, b *bench, secrets ...string) {
		t.Helper()
		for _, x := range traced(t, b) {
			r, _ := recording.Read(strings.NewReader(x.Text))
			var all []byte
			for _, p := range r.Pieces {
				all = append(all, p.Data...)
			}
			for _, s := range secrets {
				if bytes.Contains(all, []byte(s)) {
					t.Errorf("%q is in a trace of %s:\n%s", s, x.Phase, x.Text)
				}
			}
		}
	}
	for _, name := range []string{"monitor-silent", "module"} {
		t.Run(name+" refuses it", func(t *testing.T) {
			t.Parallel()
			b := newBenchOf(t, name, func(s *sim.Spec) { s.Password = "spring tide" })
			b.flash(t, b.open)
			look(t, b, coretest.Password)
		})
		t.Run(name+" takes it", func(t *testing.T) {
			t.Parallel()
			b := newBenchOf(t, name, nil)
			b.onEvent(func(j *run.Journal) bool { return j.Events()[len(j.Events())-1].Kind == run.KindDone }, func() { b.unit.Power(false) })
			b.flash(t, b.open)
			look(t, b, coretest.Password, "\x27\x12") // nor the key that was made of a seed (ISO 14229-1, 10.4)
			if len(traced(t, b)) == 0 {
				t.Error("no trace")
			}
		})
	}
	// While it is read, and while it is put back.
	for _, kind := range []string{run.KindProved, run.KindReading, run.KindBackedUp, run.KindDone, run.KindVerified, run.KindSaving, run.KindSaved} {
		t.Run("settings, cut after "+kind, func(t *testing.T) {
			t.Parallel()
			b := lit(t, lampSettings, "password=lamp\nradio-key=open water\nlevel=204\npair=c-d\nssid=LAMP\n", pier, lampAnswers)
			b.onEvent(func(j *run.Journal) bool { return j.Events()[len(j.Events())-1].Kind == kind }, func() { b.unit.Power(false) })
			b.flash(t, b.open)
			look(t, b, "=lamp", "open water")
			if len(traced(t, b)) == 0 {
				t.Error("no trace")
			}
		})
	}
}

// A gate that refuses has nothing to tell of the line.
func TestARefusalLeavesNoTrace(t *testing.T) {
	b := newBench(t, nil)
	b.Withdrawn = "it was taken back"
	if s := b.flash(t, b.open); s.Fault == nil || s.Fault.Kind != core.DoesNotFit {
		t.Fatalf("%+v", s.Fault)
	}
	if all := traced(t, b); len(all) != 0 {
		t.Errorf("%+v", all)
	}
}

package diagnose_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/diagnose"
	"zealousferry/sim"
)

// TestTheTimesOfAnAdapter: what a CAN adapter holds back, what the way to it takes and what
// the module takes itself are told apart.
func TestTheTimesOfAnAdapter(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for _, x := range []struct {
		name    string
		faults  sim.Faults
		answers time.Duration
		class   diagnose.Class
		fault   string
	}{
		{"sound", sim.Faults{}, 0, diagnose.Sound, ""},
		{"a module that takes its time", sim.Faults{}, 30 * time.Millisecond, diagnose.Sound, ""},
		{"an adapter that holds back", wires(sim.Wiring{Latency: 15}), 0, diagnose.Late, "adapter-holds-back"},
		{"a slow way to its server", wires(sim.Wiring{Delay: 15}), 0, diagnose.Late, "network-late"},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			u, sheet, err := coretest.SmallUnitOf("module", func(s *sim.Spec) { s.Answers, s.Scale = x.answers, 1 })
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(u.Close)
			l, err := coretest.Dial(ctx, u)
			if err != nil {
				t.Fatal(err)
			}
			s, err := coretest.Session(ctx, l, sheet.Main(), 1)
			if err != nil {
				t.Fatal(err)
			}
			u.Set(x.faults)
			told := ""
			seen, err := diagnose.Module(ctx, l, s, "module", core.System{}, func(s core.Said) { told = s.Text })
			if err != nil {
				t.Fatal(err)
			}
			// How many a busy machine lost on its own is not what is tried here.
			if !strings.HasPrefix(told, "100 of at most 100 questions asked, ") {
				t.Errorf("last told: %s", told)
			}
			if got := diagnose.Classify(seen); got != x.class {
				t.Errorf("%s, want %s: %+v", got, x.class, seen)
			}
			if says := core.Texts(seen.Words(), " "); !strings.Contains(says, "The CAN adapter answers by itself in ") {
				t.Errorf("%s", says)
			}
			if x.fault != "" {
				if f, err := diagnose.Name(seen, diagnose.Answer{}); err != nil || f.Name != x.fault {
					t.Errorf("%s %v: %+v", f.Name, err, seen)
				}
			}
			s.Close()
			l.Close()
		})
	}
}

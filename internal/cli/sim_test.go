package cli

import (
	"encoding/json"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/sim"
)

// TestFaultsOfASimulatedUnit: those of one unit are put on and told; a unit, a fault or a
// value that is none is refused with what there is, and changes nothing.
func TestFaultsOfASimulatedUnit(t *testing.T) {
	t.Parallel()
	u, err := sim.Start(sim.CanAdapter("bus-1"), "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	fleet := sim.Fleet{"bus-1": u}
	server := httptest.NewServer(fleet)
	t.Cleanup(server.Close)
	dir := t.TempDir()
	raw, err := json.Marshal(switchboard{strings.TrimPrefix(server.URL, "http://"), fleet.Standings(), nil})
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "units.json"), raw, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		unit, words string
		kind        core.Kind
		says        string
	}{
		{"bus-1", "latency=16 noise=0.5", "", "latency=16 noise=0.5"},
		{"bus-1", "latncy=16", core.NotUnderstood, "latncy=16"},
		{"bus-1", "latency=soon", core.NotUnderstood, "a number, true or false"},
		{"bus-1", "latency=1.5", core.NotUnderstood, "latency=1.5"},
		{"ghost", "", core.NotFound, "there are bus-1"},
		{"bus-1", "", "", "without faults"},
	} {
		before := fleet.Standings()[0].Faults
		s, err := setFaults(dir, x.unit, strings.Fields(x.words))
		says := faultWords(s.Faults)
		if err != nil {
			says = err.Error()
			if fleet.Standings()[0].Faults != before {
				t.Errorf("%s: the unit has other faults now: %+v", x.words, fleet.Standings())
			}
		}
		if err != nil && core.KindOf(err) != x.kind || err == nil && x.kind != "" || !strings.Contains(says, x.says) {
			t.Errorf("%s %s: %q, %v", x.unit, x.words, says, err)
		}
	}
}

package bench

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link/ports"
)

// The service hears how long the driver of each adapter holds bytes back, whatever
// the adapter's port is called; a link without one, or whose adapter is not here,
// tells nothing.
func TestTheDelayOfADriverIsTold(t *testing.T) {
	root := t.TempDir()
	for name, text := range map[string]string{
		"sys/class/tty/ttyUSB3/device/latency_timer": "16\n", "sys/class/tty/ttyUSB3/idVendor": "1d51\n", "sys/class/tty/ttyUSB3/idProduct": "0a02\n", "sys/class/tty/ttyUSB3/serial": "TT-0417\n",
	} {
		path := filepath.Join(root, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	os.MkdirAll(filepath.Join(root, "proc"), 0o755)
	was := machine
	machine = func(tree string) ports.Tree { return ports.Tree(filepath.Join(root, tree)) }
	defer func() { machine = was }()
	b := &Bench{order: []string{"a", "b", "c"}, ports: map[string]*port{}}
	for name, adapter := range map[string]string{"a": "TT-0417", "b": "", "c": "TT-9999"} {
		b.ports[name] = &port{Port: Port{Name: name, Kind: "serial", Adapter: adapter}}
	}
	got := b.joined()
	if len(got) != 3 || got[0].Latency != 16 || got[0].Adapter != "TT-0417" || got[1].Latency != 0 || got[2].Latency != 0 || got[2].Name != "c" {
		t.Errorf("%+v", got)
	}
}

// A port that another program has open is refused with that program's name.
func TestWhoeverHoldsAPortIsNamed(t *testing.T) {
	root := t.TempDir()
	dev := filepath.Join(root, "ttyUSB3")
	for name, text := range map[string]string{"sys/class/tty/ttyUSB3/device/latency_timer": "1\n", "proc/77/comm": "minutes\n"} {
		path := filepath.Join(root, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	os.MkdirAll(filepath.Join(root, "proc", "77", "fd"), 0o755)
	if err := os.Symlink("/dev/ttyUSB3", filepath.Join(root, "proc", "77", "fd", "4")); err != nil {
		t.Fatal(err)
	}
	was := machine
	machine = func(tree string) ports.Tree { return ports.Tree(filepath.Join(root, tree)) }
	defer func() { machine = was }()
	busy := core.Fail(core.Busy, "another program holds it")
	if err := named(busy, "/dev/ttyUSB3"); !strings.Contains(err.Error(), "is open in minutes") || core.KindOf(err) != core.Busy {
		t.Errorf("%v", err)
	}
	if err := named(busy, dev); err != error(busy) {
		t.Errorf("a port that nobody knows: %v", err)
	}
}

// TestTheSecondQuestionWaitsForTheFirst: two people look at the same link. The second is
// not told that it is busy while the first one's short question is being asked, and is
// told so where the link is held for long.
func TestTheSecondQuestionWaitsForTheFirst(t *testing.T) {
	clock := coretest.NewClock(time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC))
	b := &Bench{ports: map[string]*port{"a": {held: make(chan struct{}, 1)}}}
	b.Clock = clock
	first, err := b.hold("a", "a unit is asked who it is")
	if err != nil {
		t.Fatal(err)
	}
	second := make(chan error, 1)
	ask := func() {
		_, err := b.hold("a", "a unit is asked who it is")
		second <- err
	}
	go ask()
	clock.Awaited()
	first.letGo()
	if err := <-second; err != nil {
		t.Errorf("the first has ended: %v", err)
	}
	waiting := coretest.NewClock(clock.Now())
	b.Clock = waiting
	go ask()
	waiting.Awaited()
	waiting.Move(holdLasts)
	if err := <-second; core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), "for 3s: a unit is asked who it is") {
		t.Errorf("the link is held for long: %v", err)
	}
}

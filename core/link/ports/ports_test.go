package ports_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/link/ports"
)

// machine is a tree of files that stands for /sys and /proc.
type machine struct {
	t         *testing.T
	sys, proc string
}

func newMachine(t *testing.T) machine {
	m := machine{t, t.TempDir(), t.TempDir()}
	m.write("sys", "class/tty/console/dev", "5:1")
	m.write("sys", "class/tty/ttyS3/dev", "4:67")
	return m
}

func (m machine) write(tree, name, text string) {
	m.t.Helper()
	p := filepath.Join(map[string]string{"sys": m.sys, "proc": m.proc}[tree], name)
	if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
		m.t.Fatal(err)
	}
	if err := os.WriteFile(p, []byte(text+"\n"), 0o644); err != nil {
		m.t.Fatal(err)
	}
}

// plug puts an adapter in: a USB device, its interface, its port.
func (m machine) plug(port, serial, name string) {
	m.t.Helper()
	usb := "devices/usb1/" + serial
	m.write("sys", usb+"/idVendor", "f1a0")
	m.write("sys", usb+"/idProduct", "0417")
	m.write("sys", usb+"/serial", serial)
	m.write("sys", usb+"/product", name)
	m.write("sys", usb+"/if0/"+port+"/latency_timer", "16")
	if err := os.MkdirAll(filepath.Join(m.sys, "class/tty", port), 0o755); err != nil {
		m.t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join("../../..", usb, "if0", port), filepath.Join(m.sys, "class/tty", port, "device")); err != nil {
		m.t.Fatal(err)
	}
}

func (m machine) pull(port, serial string) {
	os.RemoveAll(filepath.Join(m.sys, "class/tty", port))
	os.RemoveAll(filepath.Join(m.sys, "devices/usb1", serial))
}

func (m machine) list() []ports.Port {
	m.t.Helper()
	all, err := ports.List(ports.Tree(m.sys), ports.Tree(m.proc))
	if err != nil {
		m.t.Fatal(err)
	}
	return all
}

func TestAdaptersComeAndGo(t *testing.T) {
	m := newMachine(t)
	empty := m.list()
	if len(empty) != 1 || empty[0].Aside == "" || empty[0].Path != "/dev/ttyS3" {
		t.Fatalf("without adapters: %+v", empty)
	}
	m.plug("ttyUSB0", "TT-0417", "Tern lead")
	one := m.list()
	if len(one) != 2 || one[0].Serial != "TT-0417" || one[0].Name != "Tern lead" || one[0].Latency != 16 || one[0].Aside != "" {
		t.Fatalf("with one: %+v", one)
	}
	if c := ports.Compare(empty, one); len(c.Came) != 1 || len(c.Gone) != 0 || c.Came[0].Path != "/dev/ttyUSB0" {
		t.Errorf("change %+v", c)
	}
	m.pull("ttyUSB0", "TT-0417")
	if c := ports.Compare(one, m.list()); len(c.Gone) != 1 || c.Gone[0].Serial != "TT-0417" {
		t.Errorf("pulled: %+v", c)
	}
	m.plug("ttyUSB7", "TT-0417", "Tern lead")
	back := m.list()
	if c := ports.Compare(one, back); len(c.Renamed) != 1 || len(c.Came)+len(c.Gone) != 0 {
		t.Errorf("back under another name: %+v", c)
	}
	if p, err := ports.ByAdapter(back, "TT-0417"); err != nil || p.Path != "/dev/ttyUSB7" {
		t.Errorf("found %+v, %v", p, err)
	}
	if _, err := ports.ByAdapter(back, "TT-9999"); core.KindOf(err) != core.NotAnswering || !strings.Contains(err.Error(), "TT-0417") {
		t.Errorf("one that is not there: %v", err)
	}
}

func TestTheHolderIsNamed(t *testing.T) {
	m := newMachine(t)
	m.plug("ttyUSB0", "TT-0417", "Tern lead")
	m.write("proc", "812/comm", "oldterm")
	os.MkdirAll(filepath.Join(m.proc, "812/fd"), 0o755)
	if err := os.Symlink("/dev/ttyUSB0", filepath.Join(m.proc, "812/fd/5")); err != nil {
		t.Fatal(err)
	}
	if all := m.list(); all[0].Held != "oldterm, process 812" {
		t.Errorf("held by %q", all[0].Held)
	}
}

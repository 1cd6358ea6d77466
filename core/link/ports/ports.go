// Package ports lists the serial ports of a machine with the adapters behind them,
// from the trees that Linux keeps for it (sysfs and procfs). The trees are given
// from outside, so that plugging in and out can be played with files.
package ports

import (
	"io/fs"
	"slices"
	"sort"
	"strconv"
	"strings"

	"zealousferry/core"
	"zealousferry/core/words"
)

// Port is a serial port.
type Port struct {
	Path    string `json:"path"`             // /dev/NAME
	Serial  string `json:"serial,omitempty"` // of its adapter
	Vendor  string `json:"vendor,omitempty"` // USB ids, four hex digits each
	Product string `json:"product,omitempty"`
	Name    string `json:"name,omitempty"`    // what the adapter calls itself
	Driver  string `json:"driver,omitempty"`  // of the system
	Latency int    `json:"latency,omitempty"` // ms that the driver waits before it hands bytes over
	Aside   string `json:"aside,omitempty"`   // why it is set aside; empty for one that may be used
	Held    string `json:"held,omitempty"`    // program that has it open
}

// Key tells adapters apart whatever their port is called: by USB identity, or by
// the port's name where there is none.
func (p Port) Key() string {
	if p.Serial != "" {
		return p.Vendor + ":" + p.Product + ":" + p.Serial
	}
	return p.Path
}

// List lists the ports. sys is the tree of /sys, proc that of /proc; proc may be
// nil, then nobody knows who holds a port.
func List(sys, proc fs.FS) ([]Port, error) {
	entries, err := fs.ReadDir(sys, "class/tty")
	if err != nil {
		return nil, core.Fail(core.NotFound, "this machine's serial ports cannot be listed: %w", err)
	}
	var all []Port
	for _, e := range entries {
		if p, ok := one(sys, e.Name()); ok {
			all = append(all, p)
		}
	}
	sort.Slice(all, func(i, j int) bool {
		if (all[i].Aside == "") != (all[j].Aside == "") {
			return all[i].Aside == ""
		}
		return all[i].Path < all[j].Path
	})
	if proc != nil {
		holders(proc, all)
	}
	return all, nil
}

// one reads a port; ok is false for what is no serial port at all.
func one(sys fs.FS, name string) (Port, bool) {
	p := Port{Path: "/dev/" + name}
	dir := "class/tty/" + name
	if !there(sys, dir+"/device") {
		if strings.HasPrefix(name, "ttyS") {
			p.Aside = "the machine lists it, and nothing is behind it"
			return p, true
		}
		return p, false // a console or a pseudo-terminal
	}
	if driver := text(sys, dir+"/device/driver_name"); driver != "" {
		p.Driver = driver
	}
	p.Latency, _ = strconv.Atoi(text(sys, dir+"/device/latency_timer"))
	// The USB device is two or three levels above the port.
	for up := dir + "/device"; strings.Count(up, "..") < 5; up += "/.." {
		if p.Vendor = text(sys, up+"/idVendor"); p.Vendor != "" {
			p.Product, p.Serial, p.Name = text(sys, up+"/idProduct"), text(sys, up+"/serial"), text(sys, up+"/product")
			break
		}
	}
	switch {
	case p.Vendor == "" && strings.HasPrefix(name, "ttyS"):
		p.Aside = "a port of the machine's own, for its management or its modem"
	case p.Vendor != "" && text(sys, dir+"/device/interface") != "" && strings.Contains(strings.ToLower(text(sys, dir+"/device/interface")), "management"):
		p.Aside = "the adapter's own management port"
	}
	return p, true
}

func there(f fs.FS, name string) bool {
	_, err := fs.Stat(f, name)
	return err == nil
}

func text(f fs.FS, name string) string {
	b, err := fs.ReadFile(f, name)
	if err != nil || len(b) > 4096 {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// holders finds the programs that have a port open: links in /proc/N/fd lead to it.
func holders(proc fs.FS, all []Port) {
	links, ok := proc.(fs.ReadLinkFS)
	if !ok {
		return
	}
	dirs, _ := fs.ReadDir(proc, ".")
	for _, d := range dirs {
		if _, err := strconv.Atoi(d.Name()); err != nil {
			continue
		}
		fds, err := fs.ReadDir(proc, d.Name()+"/fd")
		if err != nil {
			continue // another user's, or gone
		}
		for _, fd := range fds {
			to, err := links.ReadLink(d.Name() + "/fd/" + fd.Name())
			if err != nil {
				continue
			}
			if i := slices.IndexFunc(all, func(p Port) bool { return p.Path == to }); i >= 0 {
				all[i].Held = text(proc, d.Name()+"/comm") + ", process " + d.Name()
			}
		}
	}
}

// Change is what came and what vanished between two lists, by adapter.
type Change struct {
	Came    []Port `json:"came"`
	Gone    []Port `json:"gone"`
	Renamed []Port `json:"renamed"` // the same adapter under another name
}

// Compare tells what changed.
func Compare(before, after []Port) Change {
	c := Change{Came: []Port{}, Gone: []Port{}, Renamed: []Port{}}
	was := map[string]Port{}
	for _, p := range before {
		was[p.Key()] = p
	}
	is := map[string]bool{}
	for _, p := range after {
		is[p.Key()] = true
		old, known := was[p.Key()]
		switch {
		case !known:
			c.Came = append(c.Came, p)
		case old.Path != p.Path:
			c.Renamed = append(c.Renamed, p)
		}
	}
	for _, p := range before {
		if !is[p.Key()] {
			c.Gone = append(c.Gone, p)
		}
	}
	return c
}

// ByAdapter finds the port of an adapter by its serial.
func ByAdapter(all []Port, serial string) (Port, error) {
	var known []string
	for _, p := range all {
		if p.Serial == serial {
			return p, nil
		}
		if p.Serial != "" {
			known = append(known, p.Serial)
		}
	}
	return Port{}, core.Fail(core.NotAnswering, "adapter %s is not plugged in; here are %s", serial, strings.Join(append(known, "no others"), ", ")).
		Go(words.LinksWatch().To("Plug it in, and see what comes"))
}

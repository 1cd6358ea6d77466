package bench

import (
	"cmp"
	"context"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/link/canline"
	"zealousferry/core/link/doip"
	"zealousferry/core/link/monitor"
	"zealousferry/core/link/ports"
	"zealousferry/core/link/socketcan"
	"zealousferry/core/loader"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// Port is a link in the bench's links.yaml.
type Port struct {
	Name     string        `yaml:"name"`
	Kind     string        `yaml:"kind"`
	Settings link.Settings `yaml:"settings"`
	Adapter  string        `yaml:"adapter,omitempty"` // serial of the adapter; a serial link may be found by it
}

// port is a link and whoever works on it.
type port struct {
	Port
	held  chan struct{} // capacity 1
	doing string        // what it is held for, and since when; guarded by the bench's lock
	since time.Time
	ear   *monitor.Ear // that listens; guarded by the bench's lock
}

var linkName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// ReadPorts reads links.yaml.
func ReadPorts(path string) ([]Port, error) {
	raw, err := os.ReadFile(path)
	if os.IsNotExist(err) { // a bench begins without links; they are chosen by verb or page
		return nil, nil
	}
	if err != nil {
		return nil, core.Fail(core.NotFound, "the bench's list of links cannot be read: %w", err)
	}
	var file struct {
		Links []Port `yaml:"links"`
	}
	if err := yaml.Unmarshal(raw, &file); err != nil {
		return nil, core.Fail(core.BadFile, "%s: %w", path, err)
	}
	seen := map[string]bool{}
	for i, p := range file.Links {
		if !linkName.MatchString(p.Name) || seen[p.Name] {
			return nil, core.Fail(core.BadFile, "%s: link %d: name %q: expected lower-case letters, digits and hyphens, each name once", path, i+1, p.Name)
		}
		seen[p.Name] = true
		if _, err := registry.Link(p.Kind); err != nil {
			return nil, core.Fail(core.BadFile, "%s: link %s: %w", path, p.Name, err)
		}
	}
	return file.Links, nil
}

// holdLasts is how long a question waits for another one that is being asked on the link.
const holdLasts = 3 * time.Second

// hold takes a link for one worker. Two people may ask the same link at once: the second
// waits for the first, but not for what takes long, which makes it busy.
// doing says what it does with it, for whoever finds it busy.
func (b *Bench) hold(name, doing string) (*port, error) {
	b.mu.Lock()
	p, ok := b.ports[name]
	var ear *monitor.Ear
	if ok {
		ear = p.ear
	}
	b.mu.Unlock()
	if !ok {
		return nil, core.Fail(core.NotFound, "this bench has no link %q", name)
	}
	if ear != nil {
		ear.Stop()
	}
	select {
	case p.held <- struct{}{}:
		b.mu.Lock()
		p.doing, p.since = doing, b.Clock.Now()
		b.mu.Unlock()
		return p, nil
	case <-b.Clock.After(holdLasts):
		b.mu.Lock()
		doing, since := p.doing, b.Clock.Now().Sub(p.since).Round(time.Second)
		b.mu.Unlock()
		return nil, core.Fail(core.Busy, "link %s is in use on this bench, for %s: %s", name, since, doing).Go(words.Links().To("Wait for it to end"))
	}
}

func (p *port) letGo() { <-p.held }

func (p *port) open(ctx context.Context, clock core.Clock) (link.Link, error) {
	kind, err := registry.Link(p.Kind)
	if err != nil {
		return nil, err
	}
	settings := p.Settings
	if p.local() && settings["path"] == "" && p.Adapter != "" { // wherever it is plugged in now
		all, err := ports.List(machine(sysTree), nil)
		if err != nil {
			return nil, err
		}
		found, err := ports.ByAdapter(all, p.Adapter)
		if err != nil {
			return nil, err
		}
		settings = link.Settings{"path": found.Path}
	}
	l, err := kind.Open(ctx, settings, clock)
	if core.KindOf(err) == core.Busy {
		return nil, named(err, settings["path"])
	}
	return l, err
}

// named puts into an error which program holds a port, where the system tells.
func named(err error, path string) error {
	all, _ := ports.List(machine(sysTree), machine("/proc"))
	for _, p := range all {
		if p.Path == path && p.Held != "" {
			return core.Fail(core.Busy, "port %s is open in %s", path, p.Held).Unit("nothing was sent").Do("Close it there, then try again.")
		}
	}
	return err
}

// local tells whether a link is on a serial port of this machine.
func (p Port) local() bool {
	return (p.Kind == "serial" || p.Kind == "can-line") && p.Settings["address"] == ""
}

// absent says why a link cannot be opened just now: its port or its adapter is not
// there. A link over the network is known only once it is opened.
func (p Port) absent(here []ports.Port) string {
	path := p.Settings["path"]
	switch {
	case p.Settings["interface"] != "":
		if !socketcan.There(sysTree, p.Settings["interface"]) {
			return "there is no CAN interface " + p.Settings["interface"]
		}
	case !p.local():
		return ""
	case path == "" && p.Adapter != "":
		if _, err := ports.ByAdapter(here, p.Adapter); err != nil {
			return "adapter " + p.Adapter + " is not plugged in"
		}
	case path != "":
		if _, err := os.Stat(path); err != nil {
			return "there is no port " + path
		}
	}
	return ""
}

// setLink makes a link of this bench, changes where it goes, or removes it. The list in
// the bench's folder is written anew before anything counts.
func (b *Bench) setLink(ctx context.Context, o client.Order) error {
	if o.Port == nil {
		return core.Fail(core.NotUnderstood, "nobody has said where the link goes")
	}
	n := *o.Port
	if !linkName.MatchString(o.Link) {
		return core.Fail(core.NotUnderstood, "a link's name has lower-case letters, digits and hyphens, 40 at most; this is %q", o.Link)
	}
	to := Port{Name: o.Link, Kind: "serial", Adapter: n.Adapter, Settings: link.Settings{}}
	switch {
	case n.Address != "":
		to.Kind, to.Settings["address"] = "rfc2217", n.Address
	case n.Interface != "":
		to.Kind, to.Settings["interface"] = (socketcan.Kind{}).Name(), n.Interface
	case n.Gateway != "":
		to.Kind, to.Settings["address"] = "doip", n.Gateway
	case n.Path != "":
		to.Settings["path"] = n.Path
	}
	if n.Rate > 0 {
		if n.Gateway+n.Interface != "" || !slices.Contains(canline.Rates, n.Rate) {
			return core.Fail(core.NotUnderstood, "a CAN adapter has the rates %v in bit/s, and neither a gateway nor an interface has one here; this is %d", canline.Rates, n.Rate)
		}
		to.Kind, to.Settings["rate"] = "can-line", strconv.Itoa(n.Rate)
	}
	if !n.Remove {
		if why := to.absent(b.here()); why != "" {
			return core.Fail(core.NotFound, "%s at bench %s", why, b.Name()).Go(words.Ports(b.Name()).To("See which ports there are"))
		}
	}
	held, err := b.hold(o.Link, "it is being chosen where the link goes")
	known := err == nil
	switch {
	case known:
		defer held.letGo()
	case core.KindOf(err) != core.NotFound || n.Remove:
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	order := slices.Clone(b.order)
	if n.Remove {
		order = slices.DeleteFunc(order, func(s string) bool { return s == o.Link })
	} else if !known {
		order = append(order, o.Link)
	}
	var file struct {
		Links []Port `yaml:"links"`
	}
	for _, name := range order {
		p := to
		if name != o.Link {
			p = b.ports[name].Port
		}
		file.Links = append(file.Links, p)
	}
	raw, err := yaml.Marshal(file)
	if err != nil {
		return err
	}
	path := filepath.Join(b.dir, "links.yaml")
	if err := replace(path, raw); err != nil {
		return core.Fail(core.NoSpace, "the bench cannot write its list of links: %w", err).Unit("its links are as they were")
	}
	b.order = order
	delete(b.settled, o.Link)
	switch {
	case n.Remove:
		delete(b.ports, o.Link)
	case known:
		held.Port = to
	default:
		b.ports[o.Link] = &port{Port: to, held: make(chan struct{}, 1)}
	}
	return nil
}

// here lists this machine's ports; a machine that lists none tells nothing.
func (b *Bench) here() []ports.Port {
	all, _ := b.serialPorts()
	return all
}

const sysTree = "/sys"

// machine is where the trees of this machine's devices are.
var machine = func(root string) ports.Tree { return ports.Tree(root) }

func (b *Bench) serialPorts() ([]ports.Port, error) {
	all, err := ports.List(machine(sysTree), machine("/proc"))
	if all == nil {
		all = []ports.Port{}
	}
	return all, err
}

// vehicles asks on this machine's networks which are there, and tells whether it could.
func (b *Bench) vehicles(ctx context.Context) (all []client.Vehicle, asked bool) {
	found, err := doip.Find(ctx, doip.Everywhere(), b.Clock)
	if err != nil {
		b.Log.Warn("vehicles cannot be asked for", "error", err)
		return nil, false
	}
	links := map[string]string{} // their addresses, which may be names
	b.mu.Lock()
	for _, p := range b.ports {
		if p.Kind == (doip.Kind{}).Name() {
			links[p.Name] = doip.At(p.Settings["address"])
		}
	}
	b.mu.Unlock()
	to := map[string]string{}
	for name, address := range links {
		if at, err := net.ResolveTCPAddr("tcp4", address); err == nil {
			to[at.String()] = name
		}
	}
	for _, f := range found {
		all = append(all, client.Vehicle{Address: f.Address, VIN: f.VIN, Logical: f.Logical, Link: to[f.Address]})
	}
	return all, true
}

// joined lists the bench's links as the service is told of them, with how long this
// machine's driver holds an adapter's bytes back, where it tells.
func (b *Bench) joined() (links []client.BenchLink) {
	b.mu.Lock()
	var mine []Port
	for _, name := range b.order {
		mine = append(mine, b.ports[name].Port)
	}
	b.mu.Unlock()
	var here []ports.Port
	for _, p := range mine {
		l := client.BenchLink{Name: p.Name, Kind: p.Kind, Adapter: p.Adapter}
		if p.local() && here == nil {
			here = b.here()
		}
		l.Absent = p.absent(here)
		if at, err := ports.ByAdapter(here, l.Adapter); l.Adapter != "" && err == nil {
			l.Latency = at.Latency
		}
		links = append(links, l)
	}
	return links
}

// held opens a link for one worker, who calls done in the end.
func (b *Bench) held(ctx context.Context, name, doing string) (l link.Link, done func(), err error) {
	p, err := b.hold(name, doing)
	if err != nil {
		return nil, nil, err
	}
	if l, err = p.open(ctx, b.Clock); err != nil {
		p.letGo()
		return nil, nil, err
	}
	return l, func() { l.Close(); p.letGo() }, nil
}

// stream is held for a link that is a byte stream.
func (b *Bench) stream(ctx context.Context, name, doing string) (link.Stream, func(), error) {
	l, done, err := b.held(ctx, name, doing)
	if err != nil {
		return nil, nil, err
	}
	s, err := loader.Stream(l, "hearing a line")
	if err != nil {
		done()
	}
	return s, done, err
}

// linksOf are the links that a run goes over, its own first.
func linksOf(o *run.Opened) []string {
	names := []string{o.Link}
	for _, p := range o.Sections {
		if at := cmp.Or(p.Own, p.Link); at != "" && !slices.Contains(names, at) {
			names = append(names, at)
		}
	}
	return names
}

// holdAll takes all links, or none.
func (b *Bench) holdAll(names []string, doing string) ([]*port, error) {
	var held []*port
	for _, name := range names {
		_, link, _ := strings.Cut(name, "/") // the service orders what is this bench's; it may call it by another name by now
		p, err := b.hold(link, doing)
		if err != nil {
			letGo(held)
			return nil, err
		}
		held = append(held, p)
	}
	return held, nil
}

func letGo(ports []*port) {
	for _, p := range ports {
		p.letGo()
	}
}

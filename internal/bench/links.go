package bench

import (
	"context"
	"os"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/link/monitor"
	"zealousferry/core/link/ports"
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
	held chan struct{} // capacity 1
	ear  *monitor.Ear  // that listens; guarded by the bench's lock
}

var linkName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// ReadPorts reads links.yaml.
func ReadPorts(path string) ([]Port, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, core.Fail(core.NotFound, "the bench has no list of links: %w", err).Do("Write " + path + ", as docs/cli.md shows.")
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

// hold takes a link for one worker, or says that it is busy.
func (b *Bench) hold(name string) (*port, error) {
	p, ok := b.ports[name]
	if !ok {
		return nil, core.Fail(core.NotFound, "this bench has no link %q", name)
	}
	b.mu.Lock()
	ear := p.ear
	b.mu.Unlock()
	if ear != nil {
		ear.Stop()
	}
	select {
	case p.held <- struct{}{}:
		return p, nil
	default:
		return nil, core.Fail(core.Busy, "link %s is in use on this bench", name).Go(words.Links().To("Wait for it to end"))
	}
}

func (p *port) letGo() { <-p.held }

func (p *port) open(ctx context.Context, clock core.Clock) (link.Link, error) {
	kind, err := registry.Link(p.Kind)
	if err != nil {
		return nil, err
	}
	settings := p.Settings
	if p.Kind == "serial" && settings["path"] == "" && p.Adapter != "" { // wherever it is plugged in now
		all, err := ports.List(machine("/sys"), nil)
		if err != nil {
			return nil, err
		}
		found, err := ports.ByAdapter(all, p.Adapter)
		if err != nil {
			return nil, err
		}
		settings = link.Settings{"path": found.Path}
	}
	return kind.Open(ctx, settings, clock)
}

// machine is where the trees of this machine's devices are.
var machine = func(root string) ports.Tree { return ports.Tree(root) }

func (b *Bench) serialPorts() ([]ports.Port, error) {
	all, err := ports.List(machine("/sys"), machine("/proc"))
	if all == nil {
		all = []ports.Port{}
	}
	return all, err
}

// joined lists the bench's links as the service is told of them, with how long this
// machine's driver holds an adapter's bytes back, where it tells.
func (b *Bench) joined() (links []client.BenchLink) {
	var here []ports.Port
	for _, name := range b.order {
		p := b.ports[name]
		l := client.BenchLink{Name: name, Kind: p.Kind, Adapter: p.Adapter}
		if l.Adapter != "" {
			if here == nil {
				here, _ = b.serialPorts() // a machine that lists none tells nothing
			}
			if at, err := ports.ByAdapter(here, l.Adapter); err == nil {
				l.Latency = at.Latency
			}
		}
		links = append(links, l)
	}
	return links
}

// stream opens a link as a byte stream, for one worker.
func (b *Bench) stream(ctx context.Context, name string) (link.Stream, func(), error) {
	p, err := b.hold(name)
	if err != nil {
		return nil, nil, err
	}
	l, err := p.open(ctx, b.Clock)
	if err != nil {
		p.letGo()
		return nil, nil, err
	}
	s, err := loader.Stream(l, "of a check")
	done := func() { l.Close(); p.letGo() }
	if err != nil {
		done()
	}
	return s, done, err
}

// linksOf are the links that a run goes over, its own first.
func linksOf(o *run.Opened) []string {
	names := []string{o.Link}
	for _, p := range o.Sections {
		if p.Link != "" && !slices.Contains(names, p.Link) {
			names = append(names, p.Link)
		}
	}
	return names
}

// holdAll takes all links, or none.
func (b *Bench) holdAll(names []string) ([]*port, error) {
	var held []*port
	for _, name := range names {
		bench, link, ok := strings.Cut(name, "/")
		if !ok || bench != b.id.Name {
			letGo(held)
			return nil, core.Fail(core.NotFound, "link %s is not one of bench %s", name, b.id.Name)
		}
		p, err := b.hold(link)
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

// Package bench is the process that owns links and carries out runs. It dials
// out to the service, takes orders from it, and keeps its own journals: a run
// goes on while the service is away, and what happened reaches it later.
package bench

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"
	"golang.org/x/sys/unix"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/link/monitor"
	"zealousferry/core/link/ports"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/core/visit"
	"zealousferry/internal/client"
)

// Version is told to the service when the bench joins.
const Version = "0.1.0"

// Port is a link in the bench's links.yaml.
type Port struct {
	Name     string        `yaml:"name"`
	Kind     string        `yaml:"kind"`
	Settings link.Settings `yaml:"settings"`
	Adapter  string        `yaml:"adapter,omitempty"` // serial of the adapter; a serial link may be found by it
}

// identity is what enrolment left in the bench's folder.
type identity struct {
	Service    string `json:"service"`
	Bench      string `json:"bench"`
	Name       string `json:"name"`
	Token      string `json:"token"`
	ServiceKey []byte `json:"serviceKey"`
	Key        string `json:"key"`
}

// Options are given from outside.
type Options struct {
	Clock core.Clock
	Scale float64 // of waits that stand for a unit's pace; 0 is true pace
	Log   *slog.Logger
	Disk  Disk // of the journals; nil is the folder journals
}

// Bench is a bench at work.
type Bench struct {
	Options
	dir    string
	id     identity
	key    trust.Key
	client *client.Client
	pack   *pack
	ports  map[string]*port
	order  []string
	done   map[string]bool // orders carried out, by id
	log    *os.File        // the same on disk

	mu        sync.Mutex
	jobs      map[string]*job
	offset    time.Duration // the service's clock minus ours
	sheets    []core.Digest
	withdrawn map[string]string // open runs whose release was taken back, as heard last
	wake      chan struct{}

	seal   sync.Mutex
	record core.Digest // of this bench's newest record
}

// port is a link and whoever works on it.
type port struct {
	Port
	held chan struct{} // capacity 1
	ear  *monitor.Ear  // that listens; guarded by the bench's lock
}

// Enrol makes a key, trades the code for a token, and writes the bench's folder.
func Enrol(ctx context.Context, dir, service, code, name string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(dir, "bench.json")); err == nil {
		return core.Fail(core.Busy, "%s is the folder of an enrolled bench already", dir).Do("Choose another folder, or remove it if that bench was revoked.")
	}
	key, err := trust.NewKey()
	if err != nil {
		return err
	}
	c := client.New(service, "", core.System{})
	defer c.Close()
	got, err := c.Enrol(ctx, client.Enrolment{Code: code, Name: name, PublicKey: key.Public(), Version: Version, Protocol: client.Protocol})
	if err != nil {
		return err
	}
	raw, err := json.MarshalIndent(identity{service, got.Bench, name, got.Token, got.ServiceKey, key.Encode()}, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "bench.json"), raw, 0o600)
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

// Open takes the bench's folder, which no other process may have, and reads what
// it left there: runs that were open are paused until somebody takes them up.
func Open(dir string, ports []Port, o Options) (*Bench, error) {
	raw, err := os.ReadFile(filepath.Join(dir, "bench.json"))
	if err != nil {
		return nil, core.Fail(core.NotFound, "%s is not the folder of an enrolled bench: %w", dir, err).Do("Enrol it: ferry bench enrol.")
	}
	b := &Bench{Options: o, dir: dir, ports: map[string]*port{}, done: map[string]bool{}, jobs: map[string]*job{}, wake: make(chan struct{}, 1)}
	if err := json.Unmarshal(raw, &b.id); err != nil {
		return nil, core.Fail(core.BadFile, "bench.json: %w", err)
	}
	if b.key, err = trust.DecodeKey(b.id.Key); err != nil {
		return nil, err
	}
	if b.Disk == nil {
		if err := os.MkdirAll(filepath.Join(dir, "journals"), 0o700); err != nil {
			return nil, err
		}
		b.Disk = Folder(filepath.Join(dir, "journals"))
	}
	if err := b.readOrders(); err != nil {
		return nil, err
	}
	if b.pack, err = openPack(filepath.Join(dir, "shelf.pack")); err != nil {
		return nil, err
	}
	for _, p := range ports {
		b.ports[p.Name] = &port{Port: p, held: make(chan struct{}, 1)}
		b.order = append(b.order, p.Name)
	}
	b.client = client.New(b.id.Service, b.id.Token, b.Clock)
	return b, b.readJournals()
}

// readOrders opens the list of orders carried out and locks it: it is also what
// keeps a second process out of the folder.
func (b *Bench) readOrders() error {
	f, err := os.OpenFile(filepath.Join(b.dir, "orders"), os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return core.Fail(core.Busy, "another bench process has %s", b.dir).Do("Stop that one first.")
	}
	b.log = f
	var id string
	for {
		if _, err := fmt.Fscanln(f, &id); err != nil {
			return nil
		}
		b.done[id] = true
	}
}

// handed is a line of the file handed: a closed run whose events the service has
// all. Its journal stays as evidence and is not read again.
type handed struct {
	Run      string      `json:"run"`
	Record   core.Digest `json:"record"`
	Previous core.Digest `json:"previous"`
}

// readJournals finds the runs that are open or not yet handed over, and the
// newest record of this bench: the one that no other names as the one before it.
func (b *Bench) readJournals() error {
	names, err := b.Disk.List()
	if err != nil {
		return err
	}
	chain := map[core.Digest]core.Digest{} // record to the one before it
	over := map[string]bool{}
	lines, err := os.ReadFile(filepath.Join(b.dir, "handed"))
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	for _, line := range bytes.Split(lines, []byte("\n")) {
		var h handed
		if json.Unmarshal(line, &h) == nil { // a torn last line is handed over once more
			over[h.Run], chain[h.Record] = true, h.Previous
		}
	}
	for _, name := range names {
		if over[name] {
			continue
		}
		f, err := b.Disk.Open(name)
		if err != nil {
			return err
		}
		j, err := run.OpenJournal(f)
		if err != nil {
			b.Log.Error("a journal is damaged and is left alone", "run", name, "error", err)
			f.Close()
			continue
		}
		s := j.State()
		if s.Opened == nil {
			f.Close()
			continue
		}
		job := &job{bench: b, id: s.Opened.Run, name: name, journal: j}
		job.changed()
		b.keep(job)
		if h, ok := job.handed(); ok {
			chain[h.Record] = h.Previous
		}
	}
	named := map[core.Digest]bool{}
	for _, previous := range chain {
		named[previous] = true
	}
	for record := range chain {
		if !named[record] {
			b.record = record
		}
	}
	return nil
}

// keep takes a job among those of the bench. Of two journals of one run, because it
// went to another bench and came back, the later goes on; the earlier is handed over
// as evidence.
func (b *Bench) keep(j *job) {
	other := b.jobs[j.id]
	switch {
	case other == nil:
	case other.journal.Epoch() > j.journal.Epoch():
		b.jobs[j.name] = j
		return
	default:
		b.jobs[other.name] = other
	}
	b.jobs[j.id] = j
}

// forget puts down that a closed run is handed over, and lets go of its journal.
func (b *Bench) forget(j *job) {
	h, ok := j.handed()
	if !ok {
		return
	}
	raw, err := json.Marshal(h)
	if err != nil {
		return
	}
	f, err := os.OpenFile(filepath.Join(b.dir, "handed"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		b.Log.Error("it cannot be put down that a run is handed over", "run", j.id, "error", err)
		return
	}
	defer f.Close()
	if _, err := f.Write(append(raw, '\n')); err != nil || f.Sync() != nil {
		return
	}
	b.mu.Lock()
	for name, other := range b.jobs {
		if other == j {
			delete(b.jobs, name)
		}
	}
	b.mu.Unlock()
	j.journal.Close()
}

// Close gives up the folder.
func (b *Bench) Close() error {
	b.client.Close()
	for _, p := range b.ports {
		if p.ear != nil {
			p.ear.Stop()
		}
	}
	for _, j := range b.jobs {
		j.journal.Close()
	}
	return errors.Join(b.pack.close(), b.log.Close())
}

// Work is the bench's life: join, take orders, hand over events, until the
// context ends. Runs that are at work then are left as they are, and can be taken
// up later.
func (b *Bench) Work(ctx context.Context) error {
	var all sync.WaitGroup
	for _, f := range []func(context.Context){b.joining, b.ordered, b.handOver} {
		all.Add(1)
		go func() { defer all.Done(); f(ctx) }()
	}
	<-ctx.Done()
	all.Wait()
	b.mu.Lock()
	jobs := make([]*job, 0, len(b.jobs))
	for _, j := range b.jobs {
		jobs = append(jobs, j)
	}
	b.mu.Unlock()
	for _, j := range jobs {
		j.wait()
	}
	return nil
}

const joinEvery = 3 * time.Second

// joining tells the service every few seconds what the bench has.
func (b *Bench) joining(ctx context.Context) {
	away := false
	for ctx.Err() == nil {
		links := b.joined()
		call, cancel := context.WithTimeout(ctx, 10*time.Second)
		c, err := b.client.Join(call, client.Joining{Version: Version, Protocol: client.Protocol, Now: b.Clock.Now().UnixMicro(), Links: links})
		cancel()
		switch {
		case err == nil:
			b.mu.Lock()
			b.withdrawn = c.Withdrawn
			b.sheets, b.offset = c.Sheets, time.Duration(c.Now-b.Clock.Now().UnixMicro())*time.Microsecond
			b.mu.Unlock()
			if away {
				b.Log.Info("in touch with the service again")
				b.nudge()
			}
			away = false
		case ctx.Err() == nil && !away:
			away = true
			b.Log.Warn("the service is out of reach; runs go on", "error", err)
		}
		select {
		case <-b.Clock.After(joinEvery):
		case <-ctx.Done():
		}
	}
}

// ordered listens for orders.
func (b *Bench) ordered(ctx context.Context) {
	for ctx.Err() == nil {
		if err := b.client.Orders(ctx, func(o client.Order) { b.take(ctx, o) }); err != nil && core.KindOf(err) == core.NotAllowed {
			b.Log.Error("the service does not let this bench in", "error", err)
		}
		select {
		case <-b.Clock.After(500 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

// take carries out an order, once: that it was taken is on disk before anything
// is done.
func (b *Bench) take(ctx context.Context, o client.Order) {
	b.mu.Lock()
	late := b.Clock.Now().Add(b.offset).After(o.Deadline)
	again := b.done[o.ID]
	b.done[o.ID] = true
	b.mu.Unlock()
	if again {
		go b.end(ctx, o, client.Result{Error: refuse(core.Fail(core.Interrupted, "the bench was restarted while it carried this order out").Do("Look how the run stands: ferry run show."))})
		return
	}
	if err := b.noteOrder(o.ID); err != nil { // it might be carried out twice
		go b.end(ctx, o, client.Result{Error: refuse(core.Fail(core.NoSpace, "the bench cannot note that it was given this order: %w", err).
			Unit("nothing was changed").Do("Make room on the bench's disk, then give it again."))})
		return
	}
	if late {
		go b.end(ctx, o, client.Result{Error: refuse(core.Fail(core.Interrupted, "the order came after its deadline; the bench was away").Do("Give it again."))})
		return
	}
	go b.carryOut(ctx, o)
}

// noteOrder puts on disk that an order was taken.
func (b *Bench) noteOrder(id string) error {
	if _, err := fmt.Fprintln(b.log, id); err != nil {
		return err
	}
	return b.log.Sync()
}

func refuse(err error) *client.Problem {
	e := core.AsError(err, core.Interrupted)
	return &client.Problem{Type: "about:blank", Status: 409, Title: "Refused by the bench", Detail: e.Message, Kind: e.Kind, State: e.State, Next: e.Next}
}

// end tells the service what came of an order, until it hears it.
func (b *Bench) end(ctx context.Context, o client.Order, r client.Result) {
	for ctx.Err() == nil {
		err := b.client.EndOrder(ctx, o.ID, r)
		if err == nil || core.KindOf(err) != core.NotAnswering {
			return
		}
		select {
		case <-b.Clock.After(time.Second):
		case <-ctx.Done():
		}
	}
}

func (b *Bench) carryOut(ctx context.Context, o client.Order) {
	var r client.Result
	var err error
	switch o.Kind {
	case client.OrderIdentify:
		r, err = b.identify(ctx, o)
	case client.OrderRun:
		err = b.begin(ctx, o)
	case client.OrderResume:
		err = b.resume(ctx, o)
	case client.OrderStop:
		err = b.stop(o)
	case client.OrderAbandon:
		err = b.abandon(o)
	case client.OrderLayAside:
		err = b.layAside(o)
	case client.OrderAnswer:
		err = b.answer(ctx, o)
	case client.OrderCheck:
		r, err = b.check(ctx, o)
	case client.OrderListen:
		r, err = b.listen(ctx, o)
	case client.OrderEcho:
		r, err = b.echo(ctx, o)
	case client.OrderPorts:
		r.Ports, err = b.serialPorts()
	default:
		err = core.Fail(core.NotAllowed, "this bench does not know the order %q", o.Kind).Do("Use a newer version of ferry on the bench.")
	}
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		r.Error = refuse(err)
	}
	b.end(ctx, o, r)
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
		return nil, core.Fail(core.Busy, "link %s is in use on this bench", name).Do("Wait for it to end: ferry links.")
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

// identify tries the loaders of all models, the one last seen on the link first.
func (b *Bench) identify(ctx context.Context, o client.Order) (client.Result, error) {
	p, err := b.hold(o.Link)
	if err != nil {
		return client.Result{}, err
	}
	defer p.letGo()
	sheets, err := b.readSheets(ctx)
	if err != nil {
		return client.Result{}, err
	}
	if len(sheets) == 0 {
		return client.Result{}, core.Fail(core.NotFound, "the catalogue has no model").Do("A lead adds one: ferry model add SHEET.")
	}
	l, err := p.open(ctx, b.Clock)
	if err != nil {
		return client.Result{}, err
	}
	defer l.Close()
	var tried []string
	seen := map[string]bool{}
	for i, s := range first(sheets, o.Model) {
		way := fmt.Sprintf("%s at %d baud", s.Main().Loader.Kind, s.Main().Loader.Serial().Baud)
		named := i == 0 && s.Model == o.Model
		if seen[way] || !named && (byEye(s) || s.Main().Loader.Await > 0) { // such a one is called only by name
			continue
		}
		seen[way], tried = true, append(tried, way)
		r, err := b.askWho(ctx, l, s, sheets, o.Await)
		if core.KindOf(err) == core.NotAnswering {
			continue
		}
		return r, err
	}
	return client.Result{}, core.Fail(core.NotAnswering, "nothing answers on %s/%s: tried %v", b.id.Name, o.Link, tried).
		Unit("nothing was changed").Do("Look at the supply, the plug and the strap; then try again.")
}

func first(sheets []*model.Sheet, name string) []*model.Sheet {
	var all []*model.Sheet
	for _, s := range sheets {
		if s.Model == name {
			all = append(all, s)
		}
	}
	return append(all, sheets...)
}

func (b *Bench) pace() link.Pace { return link.Pace{Clock: b.Clock, Scale: b.Scale} }

// askWho opens one loader, reads who is there, and lets its program run again. With
// await, a person applies the power while the loader calls.
func (b *Bench) askWho(ctx context.Context, l link.Link, s *model.Sheet, all []*model.Sheet, await bool) (client.Result, error) {
	x := s.Main()
	runs, err := visit.Beforehand(ctx, l, x, b.pace())
	if err != nil {
		return client.Result{}, err
	}
	open := visit.OpenNow
	if await {
		open = func(ctx context.Context, l link.Link, x *model.Section, p link.Pace) (loader.Session, error) {
			return visit.Open(ctx, l, x, p, nil)
		}
	}
	session, err := open(ctx, l, x, b.pace())
	if err != nil {
		if stream, ok := l.(link.Stream); ok { // another loader's strap may have stopped its program
			link.Play(ctx, stream, x.Loader.Serial().Leave, b.pace())
		}
		return client.Result{}, err
	}
	facts, err := session.Identify(ctx)
	visit.Leave(ctx, session, l, x, b.pace())
	if err != nil {
		return client.Result{}, err
	}
	found := run.Identified{Facts: facts, Strength: visit.Strength(facts), Generation: l.Generation()}
	found.Facts = append(found.Facts, runs...)
	if found.Strength == run.ByEye {
		return client.Result{Found: &found, Model: s.Model}, nil
	}
	says := model.Calls(facts)
	for _, other := range all {
		if other.Main().Loader.Says == says && other.Main().Loader.Kind == x.Loader.Kind {
			return client.Result{Found: &found, Model: other.Model}, nil
		}
	}
	return client.Result{}, core.Fail(core.CannotTell, "the unit calls itself %q, and no model sheet knows that name", says).Do("A lead adds the model: ferry model add SHEET.")
}

func (b *Bench) readSheets(ctx context.Context) ([]*model.Sheet, error) {
	b.mu.Lock()
	names := b.sheets
	b.mu.Unlock()
	var all []*model.Sheet
	for _, n := range names {
		raw, err := b.blob(ctx, n)
		if err != nil {
			return nil, err
		}
		s, err := model.ReadSheet(raw)
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, nil
}

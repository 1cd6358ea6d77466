// Package bench is the process that owns links and carries out runs. It dials
// out to the service, takes orders from it, and keeps its own journals: a run
// goes on while the service is away, and what happened reaches it later.
package bench

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/link"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// Version is told to the service when the bench joins.
const Version = "0.1.0"

// identity is what enrolment left in the bench's folder.
type identity struct {
	Service    string `json:"service"`
	Bench      string `json:"bench"`
	Name       string `json:"name"`
	Token      string `json:"token"`
	ServiceKey []byte `json:"serviceKey"`
	Key        string `json:"key"`

	Before []history.Succession `json:"before,omitempty"` // how the service's key came to be the one in force
	Next   string               `json:"next,omitempty"`   // a key of the bench that the service may not have heard of

	Pins []core.Digest `json:"pins,omitempty"` // keys of the service's certificate that count; without any, whoever has one for its name
}

// Options are given from outside.
type Options struct {
	Clock core.Clock
	Scale float64 // of waits that stand for a unit's pace; 0 is true pace
	Log   *slog.Logger
	Disk  Disk // of the journals; nil is the folder journals
	// SignedOnly has the bench write nothing for which only people vouch.
	SignedOnly bool
}

// Bench is a bench at work.
type Bench struct {
	Options
	dir       string
	id        identity
	called    atomic.Pointer[string]
	key       trust.Key
	service   *pinned
	client    *client.Client
	pack      *pack
	ports     map[string]*port
	order     []string
	joins     sync.Mutex
	fresh     sharing              // joinings that questions want
	done      map[string]bool      // orders carried out, by id; from before a restart, too
	untold    map[string]bool      // those of which this process has yet to tell the end
	questions map[string]*question // that are being asked, by the order's id
	log       *os.File             // the same on disk
	witness   *Witness
	keys      *keyring
	known     sheets
	tells     atomic.Bool // the witness has something that the service is to be shown at once

	mu        sync.Mutex
	jobs      map[string]*job
	offset    time.Duration        // the service's clock minus ours
	heard     bool                 // the service has said at least once what is here below
	inForce   []core.Digest        // the sheets of all models
	listed    string               // tells that list from others, as the service does
	withdrawn map[string]core.Said // open runs whose release was taken back, as heard last
	trays     []client.BenchTray
	settled   map[string]settled // links of trays, by name
	asking    map[string]bool    // the same that are being asked
	wake      chan struct{}

	seal   sync.Mutex
	record core.Digest // of this bench's newest record
}

// Enrol makes a key, trades the code for a token, and writes the bench's folder.
func Enrol(ctx context.Context, dir, service, code, name string, pins ...core.Digest) error {
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
	c.PinTo(pins)
	defer c.Close()
	got, err := c.Enrol(ctx, client.Enrolment{Code: code, Name: name, PublicKey: key.Public(), Version: Version, Protocol: client.Protocol})
	if err != nil {
		return err
	}
	return identity{Service: service, Bench: got.Bench, Name: name, Token: got.Token, ServiceKey: got.ServiceKey, Key: key.Encode(), Pins: pins}.write(dir)
}

func (id identity) write(dir string) error {
	raw, err := json.MarshalIndent(id, "", "  ")
	if err != nil {
		return err
	}
	return replace(filepath.Join(dir, "bench.json"), raw)
}

// Name is what people call the bench; a lead may change it.
func (b *Bench) Name() string {
	if name := b.called.Load(); name != nil {
		return *name
	}
	return b.id.Name
}

// rename takes the name that the service calls the bench by.
func (b *Bench) rename(name string) error {
	id, err := readIdentity(b.dir)
	if err != nil {
		return err
	}
	id.Name = name
	if err := id.write(b.dir); err != nil {
		return err
	}
	b.Log.Info("the bench has another name", "was", b.Name(), "is", name)
	b.called.Store(&name)
	return nil
}

// Pin has the bench whose folder this is believe only a service whose certificate has one of
// these keys; without any, one whose certificate is good for its name.
func Pin(dir string, pins []core.Digest) error {
	id, err := readIdentity(dir)
	if err != nil {
		return err
	}
	id.Pins = pins
	return id.write(dir)
}

func readIdentity(dir string) (id identity, err error) {
	raw, err := os.ReadFile(filepath.Join(dir, "bench.json"))
	if err != nil {
		return id, core.Fail(core.NotFound, "%s is not the folder of an enrolled bench: %w", dir, err).Go(words.BenchEnrol().To("Enrol it"))
	}
	if err := json.Unmarshal(raw, &id); err != nil {
		return id, core.Fail(core.BadFile, "bench.json: %w", err)
	}
	return id, nil
}

// Open takes the bench's folder, which no other process may have, and reads what
// it left there: runs that were open are paused until somebody takes them up.
func Open(dir string, ports []Port, o Options) (*Bench, error) {
	id, err := readIdentity(dir)
	if err != nil {
		return nil, err
	}
	if err := id.halfRenewed(); err != nil {
		return nil, err
	}
	b := &Bench{Options: o, dir: dir, id: id, service: pin(id), ports: map[string]*port{}, done: map[string]bool{}, untold: map[string]bool{}, questions: map[string]*question{}, jobs: map[string]*job{}, settled: map[string]settled{}, asking: map[string]bool{}, wake: make(chan struct{}, 1)}
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
	b.client.PinTo(b.id.Pins)
	b.client.SignAs(b.key)
	b.known.open(dir)
	if b.witness, err = openWitness(dir, b.service, b.Log); err != nil {
		return nil, err
	}
	if b.keys, err = openKeyring(dir, b.service, b.Log); err != nil {
		return nil, err
	}
	return b, b.readJournals()
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
	if err := os.Remove(b.keyFile(j.id)); err != nil && !errors.Is(err, os.ErrNotExist) {
		b.Log.Error("the key of a run's settings cannot be removed", "run", j.id, "error", err)
	}
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
	// Given back by name: a child that is just being started has the file as well for a moment.
	unlock := unix.Flock(int(b.log.Fd()), unix.LOCK_UN)
	return errors.Join(b.pack.close(), unlock, b.log.Close())
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

// headsEvery is how often the service's history is held against the heads kept here.
const headsEvery = 10 * time.Minute

// join tells the service what the bench has, once.
func (b *Bench) join(ctx context.Context) error { return b.joinNow(ctx, false) }

// joinFresh asks the service what may be used now: it looks again which sheets are in force. Who
// asks for it at once with others shares it with them.
func (b *Bench) joinFresh(ctx context.Context) error {
	return b.fresh.do(ctx, func() error { return b.joinNow(context.WithoutCancel(ctx), true) })
}

func (b *Bench) joinNow(ctx context.Context, fresh bool) error {
	b.joins.Lock() // one after another: what was seen earlier must not be told later
	defer b.joins.Unlock()
	links := b.joined()
	b.mu.Lock()
	listed := b.listed
	b.mu.Unlock()
	call, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	c, err := b.client.Join(call, client.Joining{Version: Version, Protocol: client.Protocol, Now: b.Clock.Now().UnixMicro(), Links: links, Keys: b.keys.number(), Tree: b.witness.size(), Listed: listed, Fresh: fresh, Brief: fresh, Name: b.Name(), Service: b.service.get().Now.ID()})
	if err != nil {
		return err
	}
	if _, err := b.follow(c.Succeeds); err != nil { // what the one it holds has signed goes on to count, and nothing else
		b.Log.Error("the service's new key is not taken", "error", err)
	}
	if c.Name != "" && c.Name != b.Name() {
		if err := b.rename(c.Name); err != nil {
			b.Log.Error("the bench's new name cannot be put down", "error", err)
		}
	}
	if c.Checkpoint != nil && b.witness.take(*c.Checkpoint) {
		b.tells.Store(true)
	}
	if c.Keys != nil {
		if err := b.keys.take(*c.Keys); err != nil { // the ones that it holds go on to count
			b.Log.Error("the list of trusted keys is not taken", "error", err)
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.withdrawn, b.heard = c.Bars(), true
	if !c.Brief {
		b.trays = c.Trays
	}
	if !c.Same {
		b.inForce, b.listed = c.Sheets, c.Listed
	}
	b.offset = time.Duration(c.Now-b.Clock.Now().UnixMicro()) * time.Microsecond
	return nil
}

// joining tells the service every few seconds what the bench has.
func (b *Bench) joining(ctx context.Context) {
	away := false
	var shown time.Time // when the service was shown last what the witness keeps
	for ctx.Err() == nil {
		switch err := b.join(ctx); {
		case err == nil:
			if b.tells.Swap(false) || b.Clock.Now().Sub(shown) > headsEvery {
				if err := b.witness.show(ctx, b.client); err == nil {
					shown = b.Clock.Now()
				} else {
					b.tells.Store(true)
				}
			}
			if away {
				b.Log.Info("in touch with the service again")
				b.nudge()
			}
			away = false
			b.studies(ctx)
			b.askTrays(ctx)
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

func (b *Bench) pace() link.Pace { return link.Pace{Clock: b.Clock, Scale: b.Scale} }

// keyFile is where the key of a run's secret settings is kept until it is handed over.
func (b *Bench) keyFile(run string) string { return filepath.Join(b.dir, "settings-"+run+".key") }

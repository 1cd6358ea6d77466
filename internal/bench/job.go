package bench

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/link"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
)

// job is a run on this bench: at work, paused, or closed and not yet handed over.
type job struct {
	bench   *Bench
	id      string // of the run
	name    string // of the journal
	journal *run.Journal
	ports   []*port // the run's own first, then those of further sections

	mu      sync.Mutex
	run     *run.Run // once it was begun or taken up
	working bool
	closed  bool
	ended   chan struct{}
	events  []run.Event
	outcome run.Outcome
	sent    uint64 // the service has the events up to here
	told    run.Outcome
	asked   bool   // the service was asked how far it is
	moved   bool   // another bench goes on with it
	epoch   uint64 // that was given to this bench, where its journal has no event of it yet
}

// changed takes what the journal now holds for the hand-over; it is called by
// the goroutine that writes the journal.
// changed takes note of the journal, for who sends it. Only whoever may write the
// journal calls it.
func (j *job) changed() {
	j.mu.Lock()
	j.events = j.journal.Events()
	j.outcome = j.journal.State().Outcome()
	j.closed = j.journal.State().Closed != nil
	j.mu.Unlock()
	j.bench.nudge()
}

func (j *job) wait() {
	j.mu.Lock()
	ended := j.ended
	j.mu.Unlock()
	if ended != nil {
		<-ended
	}
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

// begin opens a run that the service ordered.
func (b *Bench) begin(ctx context.Context, o client.Order) error {
	if o.Opened == nil || o.Opened.Run != o.Run || !linkName.MatchString(o.Run) {
		return core.Fail(core.BadFile, "the order has no run")
	}
	ports, err := b.holdAll(linksOf(o.Opened))
	if err != nil {
		return err
	}
	j, r, err := b.open(o, ports)
	if err != nil {
		letGo(ports)
		return err
	}
	b.mu.Lock()
	b.jobs[o.Run] = j
	b.mu.Unlock()
	j.work(ctx, r)
	return nil
}

// open makes the journal of a run and puts its first event into it.
func (b *Bench) open(o client.Order, ports []*port) (*job, *run.Run, error) {
	f, err := b.Disk.Open(o.Run)
	if err != nil {
		return nil, nil, core.Fail(core.NoSpace, "the run's journal cannot be made: %w", err)
	}
	journal, err := run.OpenJournal(f)
	if err != nil {
		return nil, nil, err
	}
	j := &job{bench: b, id: o.Run, name: o.Run, journal: journal, ports: ports, working: true}
	r, err := run.New(journal, *o.Opened, j, b.pace())
	return j, r, err
}

// resume takes a paused run up again.
func (b *Bench) resume(ctx context.Context, o client.Order) error {
	j, err := b.job(o.Run)
	if err == nil && o.Epoch > j.journal.Epoch() || core.KindOf(err) == core.NotFound { // it was elsewhere meanwhile
		j, err = b.takeOver(ctx, o)
	}
	if err != nil {
		return err
	}
	if err := j.claim(); err != nil {
		return err
	}
	t := run.TakenUp{Epoch: o.Epoch, By: o.By, Label: o.Label, Why: "taken up by order", Links: o.Links}
	was := j.journal.State().Opened
	if link := b.id.Name + "/" + o.Link; was.Link != link || was.Bench != b.id.Bench {
		t.Bench, t.Link = b.id.Bench, link
	}
	names := []string{b.id.Name + "/" + o.Link}
	for _, x := range j.journal.State().Sections {
		if at := cmp.Or(o.Links[x.Name], x.Link); at != "" && !slices.Contains(names, at) {
			names = append(names, at)
		}
	}
	ports, err := b.holdAll(names)
	if err != nil {
		j.giveUp()
		return err
	}
	r, err := run.TakeUp(j.journal, t, j, b.pace())
	if err != nil {
		letGo(ports)
		j.giveUp()
		return err
	}
	j.mu.Lock()
	j.ports = ports
	j.mu.Unlock()
	j.work(ctx, r)
	return nil
}

// takeOver fetches a run that another bench has begun: its journal, and the pieces
// of its backup, so that nothing has to be asked for once memory is changed.
func (b *Bench) takeOver(ctx context.Context, o client.Order) (*job, error) {
	call, cancel := context.WithTimeout(ctx, orderLasts)
	defer cancel()
	var events [][]byte
	for {
		m, err := b.client.MovedRun(call, o.Run, uint64(len(events)))
		if err != nil {
			return nil, err
		}
		if len(m.Events) == 0 {
			break
		}
		events = append(events, m.Events...)
	}
	name := fmt.Sprintf("%s.%d", o.Run, o.Epoch)
	f, err := b.Disk.Open(name)
	if err != nil {
		return nil, core.Fail(core.NoSpace, "the run's journal cannot be made: %w", err)
	}
	if size, err := f.Size(); err == nil && size > 0 { // an earlier try, which changed nothing
		if err := f.Truncate(0); err != nil {
			return nil, err
		}
	}
	journal, err := run.Rebuild(f, events)
	if err != nil {
		f.Close()
		return nil, err
	}
	if err := b.fetch(call, journal.State()); err != nil {
		f.Close()
		return nil, err
	}
	j := &job{bench: b, id: o.Run, name: name, journal: journal, epoch: o.Epoch}
	j.changed()
	b.mu.Lock()
	if old := b.jobs[o.Run]; old != nil {
		b.jobs[old.name+".old"] = old
	}
	b.jobs[o.Run] = j
	b.mu.Unlock()
	return j, nil
}

// orderLasts is how long the bench takes at most to fetch a run.
const orderLasts = 25 * time.Second

// fetch gets the pieces of a run's backups that this bench lacks.
func (b *Bench) fetch(ctx context.Context, s *run.State) error {
	for _, x := range s.Sections {
		if x.BackedUp == nil {
			continue
		}
		names, err := run.PiecesOf(func(d core.Digest) ([]byte, error) { return b.blob(ctx, d) }, x.BackedUp.Manifest, x.Files)
		if err != nil {
			return err
		}
		var lacks []core.Digest
		for _, n := range names {
			if !b.pack.has(n) && !slices.Contains(lacks, n) {
				lacks = append(lacks, n)
			}
		}
		for len(lacks) > 0 {
			n := min(len(lacks), 512)
			pieces, err := b.client.Pieces(ctx, lacks[:n])
			if err != nil {
				return err
			}
			if err := b.pack.put(pieces); err != nil {
				return err
			}
			lacks = lacks[n:]
		}
	}
	return nil
}

// layAside lets a run wait: after the action in hand if it is at work.
func (b *Bench) layAside(o client.Order) error {
	j, err := b.job(o.Run)
	if err != nil {
		return err
	}
	if o.Laid == nil {
		return core.Fail(core.BadFile, "the order does not say where the unit is")
	}
	j.mu.Lock()
	r, working := j.run, j.working
	j.mu.Unlock()
	if working && r != nil {
		r.LayAside(*o.Laid)
		return nil
	}
	if err := j.claim(); err != nil {
		return err
	}
	defer j.giveUp()
	if r, err = run.TakeUp(j.journal, run.TakenUp{By: o.Laid.By, Why: "laid aside"}, j, b.pace()); err != nil {
		return err
	}
	return r.PutAside(*o.Laid)
}

// claim makes the caller the only one that writes the run's journal. Whoever is just
// putting down the tools is waited for.
func (j *job) claim() error {
	j.mu.Lock()
	leaving, ended := j.working && j.outcome == run.Interrupted && j.ended != nil, j.ended
	j.mu.Unlock()
	if leaving {
		<-ended
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.working {
		return core.Fail(core.Busy, "run %s is at work", j.id).Do("Look at it: ferry run show " + j.id + ".")
	}
	j.working = true
	return nil
}

// giveUp ends a claim that came to nothing.
func (j *job) giveUp() {
	j.mu.Lock()
	j.working = false
	j.mu.Unlock()
}

func (b *Bench) job(id string) (*job, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if j, ok := b.jobs[id]; ok {
		return j, nil
	}
	return nil, core.Fail(core.NotFound, "this bench has no journal of run %s", id)
}

// stop ends a run after the action in hand.
func (b *Bench) stop(o client.Order) error {
	j, err := b.job(o.Run)
	if err != nil {
		return err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if !j.working || j.run == nil {
		return core.Fail(core.NotFound, "run %s is not at work", o.Run)
	}
	j.run.Stop(o.By)
	return nil
}

// abandon closes a paused run without touching its unit.
func (b *Bench) abandon(o client.Order) error {
	j, err := b.job(o.Run)
	if err != nil {
		return err
	}
	if err := j.claim(); err != nil {
		return err
	}
	defer j.giveUp()
	r, err := run.TakeUp(j.journal, run.TakenUp{By: o.By, Why: o.Reason}, j, b.pace())
	if err != nil {
		return err
	}
	return r.Abandon(o.By, o.Reason)
}

// work carries a run on in a goroutine of its own.
func (j *job) work(ctx context.Context, r *run.Run) {
	j.mu.Lock()
	j.run, j.ended = r, make(chan struct{})
	j.mu.Unlock()
	j.bench.Log.Info("run at work", "run", j.id, "link", j.ports[0].Name)
	go func() {
		err := r.Work(ctx)
		letGo(j.ports)
		if ctx.Err() == nil {
			j.changed() // before anybody else may write the journal
		}
		j.mu.Lock()
		j.working = false
		close(j.ended)
		j.mu.Unlock()
		if ctx.Err() == nil {
			j.bench.nudge()
			j.bench.Log.Info("run ended", "run", j.id, "outcome", j.standing(), "error", err)
		}
	}()
}

// standing is the outcome that the service is told: a run that nobody works on
// and that is not closed is interrupted. It is not told so before the worker has let
// go of the links.
func (j *job) standing() run.Outcome {
	j.mu.Lock()
	defer j.mu.Unlock()
	if !j.working && !j.closed {
		return run.Interrupted
	}
	if j.working && j.outcome == run.Interrupted {
		return ""
	}
	return j.outcome
}

// over tells whether the run is closed, nobody works on it, and the service has
// all its events.
func (j *job) over() bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return (j.closed || j.moved) && !j.working && j.asked && j.sent >= uint64(len(j.events))
}

// handed names a closed run's record and the one before it.
func (j *job) handed() (handed, bool) {
	s := j.journal.State()
	if s.Closed == nil && j.moved {
		return handed{Run: j.name}, true
	}
	if s.Closed == nil {
		return handed{}, false
	}
	r, err := history.DecodeRecord(s.Closed.Record)
	if err != nil {
		return handed{}, false
	}
	return handed{j.name, core.DigestOf(s.Closed.Record), r.Previous}, true
}

// What core/run needs of a bench.

// Open opens one of the job's links.
func (j *job) Open(ctx context.Context, name string) (link.Link, error) {
	for _, p := range j.ports {
		if name == "" || j.bench.id.Name+"/"+p.Name == name {
			return p.open(ctx, j.bench.Clock)
		}
	}
	return nil, core.Fail(core.NotFound, "the run has no link %s", name)
}

// Blob looks on the bench's shelf, then asks the service.
func (j *job) Blob(ctx context.Context, name core.Digest) ([]byte, error) {
	return j.bench.blob(ctx, name)
}

func (b *Bench) blob(ctx context.Context, name core.Digest) ([]byte, error) {
	if raw, ok, err := b.pack.get(name); ok || err != nil {
		return raw, err
	}
	call, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	raw, err := b.client.Blob(call, name)
	if err != nil {
		return nil, err
	}
	return raw, b.pack.put([]shelf.Piece{{Name: name, Data: raw}})
}

// Missing tells which pieces neither this bench nor the service holds.
func (j *job) Missing(ctx context.Context, names []core.Digest) ([]core.Digest, error) {
	var unknown []core.Digest
	for _, n := range names {
		if !j.bench.pack.has(n) {
			unknown = append(unknown, n)
		}
	}
	if len(unknown) == 0 {
		return nil, nil
	}
	call, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	missing, err := j.bench.client.Missing(call, unknown)
	if err != nil && ctx.Err() == nil {
		return unknown, nil // what cannot be asked for is read from the unit
	}
	return missing, err
}

// Keep puts pieces on this bench's shelf.
func (j *job) Keep(pieces []shelf.Piece) error { return j.bench.pack.put(pieces) }

// askLasts is how long the first erase waits for the service's word; without it
// what the bench heard last counts.
const askLasts = 3 * time.Second

// MayWrite asks the service whether the release was withdrawn meanwhile.
func (j *job) MayWrite(ctx context.Context, o *run.Opened) error {
	call, cancel := context.WithTimeout(ctx, askLasts)
	defer cancel()
	j.bench.mu.Lock()
	bars := j.bench.withdrawn[o.Run]
	j.bench.mu.Unlock()
	if m, err := j.bench.client.MayWrite(call, o.Run); err == nil {
		bars = m.Bars
	}
	if bars != "" {
		return core.Fail(core.DoesNotFit, "%s", bars).Unit("nothing was changed").Do("Choose another release: ferry fit " + o.Serial + ".")
	}
	return nil
}

// Store hands over the pieces that the service lacks and has it keep the backup.
func (j *job) Store(ctx context.Context, o *run.Opened, all []run.Reading) (run.Stored, error) {
	call, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	if err := j.handOver(call); err != nil { // the service knows the run by its events
		return run.Stored{}, err
	}
	get := func(d core.Digest) ([]byte, error) { return j.bench.blob(call, d) }
	stow := client.Stow{Run: o.Run, Running: j.journal.State().Fact(core.FactRunning), Taken: j.bench.Clock.Now().UnixMicro()}
	var names []core.Digest
	for _, r := range all {
		pieces, err := r.Pieces(get)
		if err != nil {
			return run.Stored{}, err
		}
		names = append(names, pieces...)
		stow.Sections = append(stow.Sections, client.StowSection{Section: r.Section, Main: r.Main, Files: r.Files, Manifest: r.Manifest, How: r.How})
		if r.Main || stow.How == "" {
			stow.Manifest, stow.How = r.Manifest, r.How
		}
	}
	missing, err := j.bench.client.Missing(call, names)
	if err != nil {
		return run.Stored{}, err
	}
	if err := j.bench.putPieces(call, missing); err != nil {
		return run.Stored{}, err
	}
	return j.bench.client.StoreBackup(call, stow)
}

func (b *Bench) putPieces(ctx context.Context, names []core.Digest) error {
	var pieces []shelf.Piece
	bytes := 0
	for i, n := range names {
		raw, ok, err := b.pack.get(n)
		if err != nil {
			return err
		}
		if !ok {
			return core.Fail(core.NotFound, "neither the service nor this bench holds the piece %s", n.Short())
		}
		pieces = append(pieces, shelf.Piece{Name: n, Data: raw})
		bytes += len(raw)
		if bytes > 1<<20 || i == len(names)-1 {
			if err := b.client.PutPieces(ctx, pieces); err != nil {
				return err
			}
			pieces, bytes = nil, 0
		}
	}
	return nil
}

// Seal signs a record and chains it to this bench's one before.
func (j *job) Seal(record func(previous core.Digest) []byte, put func(record, signature []byte) error) error {
	b := j.bench
	b.seal.Lock()
	defer b.seal.Unlock()
	raw := record(b.record)
	if err := put(raw, b.key.Sign(history.RecordDomain, raw)); err != nil {
		return err
	}
	b.record = core.DigestOf(raw)
	return nil
}

// Changed wakes the hand-over.
func (j *job) Changed() { j.changed() }

func (b *Bench) nudge() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// handOver sends events to the service as they come, and what is left from
// before; while the service is away it tries again and again.
func (b *Bench) handOver(ctx context.Context) {
	pause := time.Duration(0)
	for {
		b.mu.Lock()
		jobs := make([]*job, 0, len(b.jobs))
		for _, j := range b.jobs {
			jobs = append(jobs, j)
		}
		b.mu.Unlock()
		failed := false
		for _, j := range jobs {
			call, cancel := context.WithTimeout(ctx, 20*time.Second)
			err := j.handOver(call)
			cancel()
			if core.KindOf(err) == core.NotAnswering {
				failed = true
				break
			}
			switch {
			case err != nil && ctx.Err() == nil:
				b.Log.Error("the service does not take a run's events", "run", j.id, "error", err)
			case err == nil && j.over():
				b.forget(j)
			}
		}
		wake := b.wake
		var again <-chan time.Time
		if failed {
			pause = min(max(2*pause, 250*time.Millisecond), 5*time.Second)
			wake, again = nil, b.Clock.After(pause)
		} else {
			pause = 0
		}
		select {
		case <-ctx.Done():
			return
		case <-wake:
		case <-again:
		}
	}
}

// epochOf is the epoch under which this bench hands over.
func (j *job) epochOf() uint64 {
	j.mu.Lock()
	defer j.mu.Unlock()
	if n := len(j.events); n > 0 {
		return max(j.epoch, j.events[n-1].Epoch)
	}
	return j.epoch
}

// handOver sends what the service does not have of this run yet.
func (j *job) handOver(ctx context.Context) error {
	for {
		standing := j.standing()
		j.mu.Lock()
		events, sent, told, asked := j.events, j.sent, j.told, j.asked
		j.mu.Unlock()
		if uint64(len(events)) <= sent && standing == told && asked {
			return nil
		}
		batch := client.Batch{Run: j.id, Epoch: max(j.epochOf(), 1), First: sent + 1, Outcome: string(standing)}
		if asked {
			for bytes := 0; sent < uint64(len(events)) && bytes < 512<<10 && len(batch.Events) < 500; sent++ {
				raw, err := json.Marshal(events[sent])
				if err != nil {
					return err
				}
				batch.Events = append(batch.Events, raw)
				bytes += len(raw)
			}
		}
		have, err := j.bench.client.PutEvents(ctx, batch)
		if err != nil {
			return err
		}
		if have.Have > uint64(len(events)) && !have.Moved {
			return core.Fail(core.BadFile, "the service has %d events of run %s, its journal holds %d", have.Have, j.id, len(events))
		}
		j.mu.Lock()
		j.sent, j.told, j.asked, j.moved = have.Have, standing, true, have.Moved
		j.mu.Unlock()
		if have.Head != nil {
			j.bench.keepHead(*have.Head)
		}
	}
}

// keepHead keeps a signed head of a unit's history out of the service's reach,
// so that a chain that was cut or computed anew is found.
func (b *Bench) keepHead(h history.Head) {
	if !h.Verify(trust.Public(b.id.ServiceKey)) {
		b.Log.Error("the service sent a head of history that its key did not sign", "unit", h.Unit, "entry", h.N)
		return
	}
	raw, err := json.Marshal(h)
	if err != nil {
		return
	}
	f, err := os.OpenFile(filepath.Join(b.dir, "heads"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		b.Log.Error("a head of history cannot be kept", "error", err)
		return
	}
	defer f.Close()
	f.Write(append(raw, '\n'))
}

package bench

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
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
	id      string
	journal *run.Journal
	port    *port

	mu      sync.Mutex
	run     *run.Run // once it was begun or taken up
	working bool
	closed  bool
	ended   chan struct{}
	events  []run.Event
	outcome run.Outcome
	sent    uint64 // the service has the events up to here
	told    run.Outcome
	asked   bool // the service was asked how far it is
}

// changed takes what the journal now holds for the hand-over; it is called by
// the goroutine that writes the journal.
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

// begin opens a run that the service ordered.
func (b *Bench) begin(ctx context.Context, o client.Order) error {
	if o.Opened == nil || o.Opened.Run != o.Run || !linkName.MatchString(o.Run) {
		return core.Fail(core.BadFile, "the order has no run")
	}
	p, err := b.hold(o.Link)
	if err != nil {
		return err
	}
	f, err := b.Disk.Open(o.Run)
	if err != nil {
		p.letGo()
		return core.Fail(core.NoSpace, "the run's journal cannot be made: %w", err)
	}
	journal, err := run.OpenJournal(f)
	if err != nil {
		p.letGo()
		return err
	}
	j := &job{bench: b, id: o.Run, journal: journal, port: p, working: true}
	r, err := run.New(journal, *o.Opened, j, b.pace())
	if err != nil {
		p.letGo()
		return err
	}
	b.mu.Lock()
	b.jobs[o.Run] = j
	b.mu.Unlock()
	j.work(ctx, r)
	return nil
}

// resume takes a paused run up again.
func (b *Bench) resume(ctx context.Context, o client.Order) error {
	j, err := b.job(o.Run)
	if err != nil {
		return err
	}
	if j.atWork() {
		return core.Fail(core.Busy, "run %s is at work", o.Run).Do("Look at it: ferry run show " + o.Run + ".")
	}
	p, err := b.hold(o.Link)
	if err != nil {
		return err
	}
	j.mu.Lock()
	j.port, j.working = p, true
	j.mu.Unlock()
	r, err := run.TakeUp(j.journal, run.TakenUp{Epoch: o.Epoch, By: o.By, Label: o.Label, Why: "taken up by order"}, j, b.pace())
	if err != nil {
		j.mu.Lock()
		j.working = false
		j.mu.Unlock()
		p.letGo()
		return err
	}
	j.work(ctx, r)
	return nil
}

// atWork tells whether somebody works on the run; one that is just putting down
// its tools is waited for.
func (j *job) atWork() bool {
	j.mu.Lock()
	leaving := j.working && j.outcome == run.Interrupted && j.ended != nil
	ended := j.ended
	j.mu.Unlock()
	if leaving {
		<-ended
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.working
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
	if j.atWork() {
		return core.Fail(core.Busy, "run %s is at work", o.Run)
	}
	r, err := run.TakeUp(j.journal, run.TakenUp{By: o.By, Why: o.Reason}, j, b.pace())
	if err != nil {
		return err
	}
	return r.Abandon(o.Reason)
}

// work carries a run on in a goroutine of its own.
func (j *job) work(ctx context.Context, r *run.Run) {
	j.mu.Lock()
	j.run, j.ended = r, make(chan struct{})
	j.mu.Unlock()
	j.bench.Log.Info("run at work", "run", j.id, "link", j.port.Name)
	go func() {
		err := r.Work(ctx)
		j.port.letGo()
		j.mu.Lock()
		j.working = false
		close(j.ended)
		j.mu.Unlock()
		if ctx.Err() == nil {
			j.changed()
			j.bench.Log.Info("run ended", "run", j.id, "outcome", j.standing(), "error", err)
		}
	}()
}

// standing is the outcome that the service is told: a run that nobody works on
// and that is not closed is interrupted.
func (j *job) standing() run.Outcome {
	j.mu.Lock()
	defer j.mu.Unlock()
	if !j.working && !j.closed {
		return run.Interrupted
	}
	return j.outcome
}

// over tells whether the run is closed, nobody works on it, and the service has
// all its events.
func (j *job) over() bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.closed && !j.working && j.asked && j.sent == uint64(len(j.events))
}

// handed names a closed run's record and the one before it.
func (j *job) handed() (handed, bool) {
	s := j.journal.State()
	if s.Closed == nil {
		return handed{}, false
	}
	r, err := history.DecodeRecord(s.Closed.Record)
	if err != nil {
		return handed{}, false
	}
	return handed{j.id, core.DigestOf(s.Closed.Record), r.Previous}, true
}

// What core/run needs of a bench.

// Open opens the job's link.
func (j *job) Open(ctx context.Context) (link.Link, error) {
	return j.port.open(ctx, j.bench.Clock)
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
func (j *job) Store(ctx context.Context, o *run.Opened, b *run.BackedUp) (run.Stored, error) {
	call, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	if err := j.handOver(call); err != nil { // the service knows the run by its events
		return run.Stored{}, err
	}
	raw, _, err := j.bench.pack.get(b.Manifest)
	if err != nil {
		return run.Stored{}, err
	}
	manifest, err := shelf.DecodeManifest(raw)
	if err != nil {
		return run.Stored{}, err
	}
	names := []core.Digest{b.Manifest}
	for _, r := range manifest.Ranges {
		names = append(names, r.Pages...)
	}
	stretches, err := manifest.Chunks(func(d core.Digest) ([]byte, error) { return j.bench.blob(call, d) })
	if err != nil {
		return run.Stored{}, err
	}
	for _, s := range stretches {
		names = append(names, s.Chunks...)
	}
	missing, err := j.bench.client.Missing(call, names)
	if err != nil {
		return run.Stored{}, err
	}
	if err := j.bench.putPieces(call, missing); err != nil {
		return run.Stored{}, err
	}
	return j.bench.client.StoreBackup(call, client.Stow{Run: o.Run, Manifest: b.Manifest, How: b.How, Running: j.journal.State().Fact(core.FactRunning), Taken: j.bench.Clock.Now().UnixMicro()})
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
		batch := client.Batch{Run: j.id, Epoch: 1, First: sent + 1, Outcome: string(standing)}
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
		if have.Have > uint64(len(events)) {
			return core.Fail(core.BadFile, "the service has %d events of run %s, its journal holds %d", have.Have, j.id, len(events))
		}
		j.mu.Lock()
		j.sent, j.told, j.asked = have.Have, standing, true
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

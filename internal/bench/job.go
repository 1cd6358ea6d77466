package bench

import (
	"context"
	"sync"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/internal/client"
)

// job is a run on this bench: at work, paused, or closed and not yet handed over.
type job struct {
	bench   *Bench
	id      string // of the run
	name    string // of the journal
	journal *run.Journal
	ports   []*port // the run's own first, then those of further sections

	handing sync.Mutex // one call at a time hands over
	mu      sync.Mutex
	run     *run.Run // once it was begun or taken up
	working bool
	closed  bool
	ended   chan struct{}
	events  []run.Event
	wrote   int64 // when it changed memory first
	outcome run.Outcome
	sent    uint64 // the service has the events up to here
	told    run.Outcome
	begins  uint64   // number with which this bench's epoch begins, as the service has it
	chained struct { // digest of the epoch's events up to a number: history.ChainOn
		begins, last uint64
		chain        core.Digest
	}
	asked bool   // the service was asked how far it is
	moved bool   // another bench goes on with it
	epoch uint64 // that was given to this bench, where its journal has no event of it yet
}

// changed takes note of the journal, for who sends it. Only whoever may write the
// journal calls it.
func (j *job) changed() {
	j.mu.Lock()
	j.events = j.journal.Events()
	j.outcome = j.journal.State().Outcome()
	j.closed = j.journal.State().Closed != nil
	j.wrote = j.journal.State().WriteAt
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
	if err := b.vouched(ctx, o.Opened); err != nil {
		return err
	}
	ports, err := b.holdAll(linksOf(o.Opened), "run "+o.Opened.Run+" works on it")
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

func (b *Bench) job(id string) (*job, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if j, ok := b.jobs[id]; ok {
		return j, nil
	}
	return nil, core.Fail(core.NotFound, "this bench has no journal of run %s", id)
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
	return j.stands()
}

// stands is standing, for whoever holds j.mu.
func (j *job) stands() run.Outcome {
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

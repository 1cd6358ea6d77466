package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/registry"
	"zealousferry/core/shelf"
)

// Bench is what a run needs of the machine that it works on. The engine calls
// it from one goroutine.
type Bench interface {
	// Open opens the run's link.
	Open(ctx context.Context) (link.Link, error)
	// Blob gets content by digest: the sheet, the release, image files, pieces of
	// the shelf. What it returned once stays on the bench's own disk.
	Blob(ctx context.Context, name core.Digest) ([]byte, error)
	// Missing tells which pieces neither the bench nor the service holds.
	Missing(ctx context.Context, names []core.Digest) ([]core.Digest, error)
	// Keep puts pieces on the bench's disk and flushes them.
	Keep(pieces []shelf.Piece) error
	// Store hands the backup to the service and returns once the service says that
	// it is durable. A service out of reach is an error of kind not-answering,
	// which the engine waits out.
	Store(ctx context.Context, o *Opened, b *BackedUp) (Stored, error)
	// MayWrite is asked immediately before the first erase: an error says that the
	// release was withdrawn. A service out of reach is no error; what the bench
	// heard last counts then.
	MayWrite(ctx context.Context, o *Opened) error
	// Seal makes the run's record with the digest of this bench's previous record,
	// signs it and puts it into the journal, one run at a time.
	Seal(record func(previous core.Digest) []byte, put func(record, signature []byte) error) error
	// Changed is called after each event. It must not block.
	Changed()
}

// pace is the wall clock and the monotonic offset of events.
type pace struct {
	clock core.Clock
	start time.Time
}

func (p *pace) now() (wall, mono int64) {
	if p == nil {
		return 0, 0
	}
	t := p.clock.Now()
	return t.UnixMicro(), t.Sub(p.start).Microseconds()
}

// Run is a run at work on a bench.
type Run struct {
	journal *Journal
	bench   Bench
	pace    link.Pace

	sheet   *model.Sheet
	release *model.Release
	plan    *plan.Plan
	link    link.Link
	session loader.Session

	mu     sync.Mutex
	stop   *Stop
	told   time.Time
	waits  string // id of the item that a person must answer
	answer chan given
	over   chan struct{} // closed once the run no longer works
	ends   sync.Once
	id     string
	nudged chan struct{}
}

// New opens a run in an empty journal.
func New(j *Journal, o Opened, b Bench, p link.Pace) (*Run, error) {
	j.pace = &pace{p.Clock, p.Clock.Now()}
	o.Engine = Engine
	r := newRun(j, o.Run, b, p)
	return r, r.append(KindOpened, o, true)
}

// TakeUp goes on with the run that a journal holds.
func TakeUp(j *Journal, t TakenUp, b Bench, p link.Pace) (*Run, error) {
	if j.State().Opened == nil {
		return nil, core.Fail(core.BadFile, "the journal is empty; the run was never opened")
	}
	j.pace = &pace{p.Clock, p.Clock.Now()}
	r := newRun(j, j.State().Opened.Run, b, p)
	if t.Epoch == 0 {
		t.Epoch = j.epoch
	}
	if j.State().Next() == StepEnded {
		return r, nil
	}
	return r, r.append(KindTakenUp, t, true)
}

func newRun(j *Journal, id string, b Bench, p link.Pace) *Run {
	return &Run{journal: j, id: id, bench: b, pace: p, answer: make(chan given), over: make(chan struct{}), nudged: make(chan struct{}, 1)}
}

// Journal is the run's journal; only events already appended may be read while
// the run works.
func (r *Run) Journal() *Journal { return r.journal }

// Stop orders the run to end after the action in hand. It may be called from any
// goroutine.
func (r *Run) Stop(by string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.stop == nil {
		r.stop = &Stop{By: by}
	}
	select {
	case r.nudged <- struct{}{}:
	default:
	}
}

// stopped puts a waiting stop order into the journal.
func (r *Run) stopped() (bool, error) {
	r.mu.Lock()
	stop := r.stop
	r.mu.Unlock()
	s := r.journal.State()
	if stop == nil || s.Stopped {
		return s.Stopped, nil
	}
	return true, r.append(KindStopOrdered, stop, true)
}

func (r *Run) append(kind string, body any, flush bool) error {
	_, err := r.journal.Append(kind, body, flush)
	if err == nil {
		r.bench.Changed()
	}
	return err
}

// Work carries the run on until it is closed or paused. An error means that the
// bench itself cannot go on (it is ending, its journal cannot be written); what
// the unit did wrong is in the journal as a fault.
func (r *Run) Work(ctx context.Context) error {
	defer r.disconnect()
	defer r.ends.Do(func() { close(r.over) })
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		if _, err := r.stopped(); err != nil {
			return err
		}
		step := r.journal.State().Next()
		if step == StepPaused && r.journal.State().Outcome() != Interrupted {
			return r.append(KindStopped, struct{}{}, true)
		}
		if step == StepEnded || step == StepPaused {
			return nil
		}
		err := r.do(ctx, step)
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if r.journal.broken != nil {
			return r.journal.broken
		}
		if err := r.append(KindFault, r.fault(step, err), true); err != nil {
			return err
		}
	}
}

func (r *Run) do(ctx context.Context, step Step) error {
	switch step {
	case StepCard:
		return r.card(ctx)
	case StepHands:
		return r.hands(ctx)
	case StepProve:
		return r.prove(ctx)
	case StepLock:
		return r.lock(ctx)
	case StepSettings:
		return r.settle(ctx)
	case StepIdentify:
		return r.identify(ctx)
	case StepJudge:
		return r.judge(ctx)
	case StepBackUp:
		return r.backUp(ctx)
	case StepStore:
		return r.store(ctx)
	case StepPlan:
		return r.makePlan(ctx)
	case StepSame:
		return r.same(ctx)
	case StepSurvey:
		return r.survey(ctx)
	case StepWrite:
		return r.write(ctx)
	case StepVerify:
		return r.verify(ctx)
	case StepStart:
		return r.start(ctx)
	case StepClose:
		return r.close(ctx)
	}
	return fmt.Errorf("no step %q", step)
}

// fault puts an error into the words that a technician reads.
func (r *Run) fault(step Step, err error) Fault {
	e := core.AsError(err, core.Interrupted)
	s := r.journal.State()
	f := Fault{Kind: e.Kind, Step: step, Message: e.Message, State: e.State, Next: e.Next}
	switch {
	case !s.Dangerous:
		f.State = "nothing was changed"
	case f.State == "" && s.WayBack() == BackFull:
		f.State = "its memory is partly written; it stays in its loader, and the backup from before is stored"
	case f.State == "" && s.WayBack() == BackSettings:
		f.State = "its memory is partly written, and there is no backup of it; its settings are kept, and go back when the run goes on"
	case f.State == "":
		f.State = "its memory is partly written, and there is no backup of it"
	}
	var at *differs
	if asDiffers(err, &at) {
		f.Sector = &at.sector
	}
	var b *barred
	if errors.As(err, &b) {
		f.Gate = b.gate
	}
	if f.Next == "" {
		f.Next = "Look at the plug and the supply, then try again."
	}
	switch {
	case s.Dangerous && s.WayBack() != BackFull:
		f.Next += fmt.Sprintf(" Go on: ferry run resume %s.", s.Opened.Run)
	case s.Dangerous:
		f.Next += fmt.Sprintf(" Go on: ferry run resume %s. Or back: ferry restore %s.", s.Opened.Run, s.Opened.Serial)
	}
	return f
}

// load reads the sheet and the release that the run was opened with.
func (r *Run) load(ctx context.Context) error {
	if r.sheet != nil {
		return nil
	}
	o := r.journal.State().Opened
	raw, err := r.bench.Blob(ctx, o.Sheet)
	if err != nil {
		return err
	}
	sheet, err := model.ReadSheet(raw)
	if err != nil {
		return err
	}
	if !o.Release.IsZero() {
		raw, err := r.bench.Blob(ctx, o.Release)
		if err != nil {
			return err
		}
		r.release = new(model.Release)
		if err := json.Unmarshal(raw, r.release); err != nil {
			return core.Fail(core.BadFile, "the release cannot be read: %w", err)
		}
	}
	r.sheet = sheet
	return nil
}

// connect opens the link and the unit's loader, if they are not open.
func (r *Run) connect(ctx context.Context) error {
	if err := r.load(ctx); err != nil {
		return err
	}
	if r.session != nil {
		return nil
	}
	if err := r.plugIn(ctx); err != nil {
		return err
	}
	s, err := OpenLoader(ctx, r.link, r.sheet, r.pace, r.calling)
	if err != nil {
		r.disconnect()
		return err
	}
	r.session = s
	return r.called()
}

// plugIn opens the link alone.
func (r *Run) plugIn(ctx context.Context) error {
	if r.link != nil {
		return nil
	}
	l, err := r.bench.Open(ctx)
	if err == nil {
		r.link = l
	}
	return err
}

// OpenLoader opens the loader that a sheet names on a link. ready is called where
// a person must apply the power now; it may be nil.
func OpenLoader(ctx context.Context, l link.Link, sheet *model.Sheet, p link.Pace, ready func()) (loader.Session, error) {
	kind, err := registry.Loader(sheet.Loader.Kind)
	if err != nil {
		return nil, err
	}
	x := sheet.Loader
	return kind.Open(ctx, l, loader.Options{Mode: x.Mode(), Enter: x.Enter, Await: x.Await, Ready: ready, OneWire: x.OneWire, Fast: x.Fast, Map: &sheet.Memory, Pace: p})
}

func (r *Run) disconnect() {
	if r.session != nil {
		r.session.Close()
		r.session = nil
	}
	if r.link != nil {
		r.link.Close()
		r.link = nil
	}
}

// leave brings the unit back into its program, as well as it can.
func (r *Run) leave(ctx context.Context) {
	if r.session != nil {
		LeaveLoader(ctx, r.session, r.link, r.sheet, r.pace)
		r.session = nil
	}
}

// LeaveLoader ends a session and brings its unit back into its program, as well
// as it can.
func LeaveLoader(ctx context.Context, s loader.Session, l link.Link, sheet *model.Sheet, p link.Pace) {
	stream, ok := l.(link.Stream)
	if ok {
		restart(ctx, s, stream, sheet)
	}
	s.Close()
	if ok {
		link.Play(ctx, stream, sheet.Loader.Leave, p)
	}
}

// restart asks the loader itself to start the program, where no modem line could
// do it. Whether it did is asked afterwards.
func restart(ctx context.Context, s loader.Session, l link.Stream, sheet *model.Sheet) {
	lines := len(sheet.Loader.Leave) > 0 && core.KindOf(l.SetLine(link.RTS, false)) != core.RefusedByUnit
	if !lines && s.Can(loader.Reset) == nil {
		s.Restart(ctx, false)
	}
}

// progress writes an event about a long step, four times a second at most. It is
// not flushed: nothing rests on it.
func (r *Run) progress(kind string, a Amount) error {
	now := r.pace.Clock.Now()
	if a.Done < a.Total && now.Sub(r.told) < 250*time.Millisecond {
		return nil
	}
	r.told = now
	return r.append(kind, a, false)
}

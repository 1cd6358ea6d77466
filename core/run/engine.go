package run

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/link/recording/trace"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/settings"
	"zealousferry/core/shelf"
)

// Bench is what a run needs of the machine that it works on. The engine calls
// it from one goroutine.
type Bench interface {
	// Open opens a link: the run's own, or the one of that name.
	Open(ctx context.Context, name string) (link.Link, error)
	// Blob gets content by digest: the sheet, the release, image files, pieces of
	// the shelf. What it returned once stays on the bench's own disk.
	Blob(ctx context.Context, name core.Digest) ([]byte, error)
	// Held gets a piece that lies on the bench's own disk, without asking anybody; not-found where
	// it does not.
	Held(name core.Digest) ([]byte, error)
	// Missing tells which pieces neither the bench nor the service holds.
	Missing(ctx context.Context, names []core.Digest) ([]core.Digest, error)
	// Keep puts pieces on the bench's disk and flushes them.
	Keep(pieces []shelf.Piece) error
	// Store hands the backup to the service and returns once the service says that
	// it is durable. A service out of reach is an error of kind not-answering,
	// which the engine waits out.
	Store(ctx context.Context, o *Opened, all []Reading) (Stored, error)
	// MayWrite is asked immediately before the first erase: an error says that the
	// release was withdrawn. A service out of reach is no error; what the bench
	// heard last counts then.
	MayWrite(ctx context.Context, o *Opened) error
	// Secret gives a secret that the unit's monitor asks for, by its name in the sheet.
	Secret(ctx context.Context, o *Opened, name string) (string, error)
	// SeedKey gives the key that the service makes of a module's seed with a secret, which
	// itself stays there.
	SeedKey(ctx context.Context, o *Opened, name string, level byte, seed []byte) ([]byte, error)
	// SettingsKey is the key under which the run seals the values of secret settings. What it
	// returned once stays on the bench's own disk until the run closes.
	SettingsKey(ctx context.Context, o *Opened) (settings.Safe, error)
	// Reach asks a unit on the network: its web page where there is a path, else what its
	// port says by itself within a second. It gives at most 64 KiB.
	Reach(ctx context.Context, address, path string) ([]byte, error)
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

// Reading is what a run has read of a section.
type Reading struct {
	Section string
	Main    bool
	Files   bool
	*BackedUp
}

// Run is a run at work on a bench.
type Run struct {
	journal *Journal
	bench   Bench
	pace    link.Pace

	sheet   *model.Sheet // as the run goes by it
	whole   *model.Sheet // as it is
	release *model.Release
	plans   map[string]*plan.Plan  // by section
	lines   map[string]*line       // by link
	rings   map[string]*trace.Ring // what was said lately, by link

	told    time.Time // when progress was written last
	watched time.Time // when the unit was asked during a write under which conditions it is
	desk
}

// line is a link that the run has opened, and the loader that it has open on it.
type line struct {
	link.Link
	session loader.Session
	of      *model.Section // whose loader it is
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
	s := j.State()
	if s.Opened == nil {
		return nil, core.Fail(core.BadFile, "the journal is empty; the run was never opened")
	}
	j.pace = &pace{p.Clock, p.Clock.Now()}
	r := newRun(j, s.Opened.Run, b, p)
	if t.Epoch == 0 {
		t.Epoch = j.epoch
	}
	if s.Closed != nil {
		return r, nil
	}
	return r, r.append(KindTakenUp, t, true)
}

func newRun(j *Journal, id string, b Bench, p link.Pace) *Run {
	return &Run{journal: j, bench: b, pace: p, plans: map[string]*plan.Plan{}, lines: map[string]*line{}, rings: map[string]*trace.Ring{}, desk: newDesk(id)}
}

// Journal is the run's journal; only events already appended may be read while
// the run works.
func (r *Run) Journal() *Journal { return r.journal }

func (r *Run) append(kind string, body any, flush bool) error {
	return r.appendOf("", kind, body, flush)
}

// appendOf writes an event about a section.
func (r *Run) appendOf(section, kind string, body any, flush bool) error {
	_, err := r.journal.AppendOf(section, kind, body, flush)
	if err == nil {
		r.bench.Changed()
	}
	return err
}

// note writes an event about the section of a move, on disk before it returns.
func (r *Run) note(x *Section, kind string, body any) error {
	return r.appendOf(x.Name, kind, body, true)
}

// Work carries the run on until it is closed or paused. An error means that the
// bench itself cannot go on (it is ending, its journal cannot be written); what
// the unit did wrong is in the journal as a fault.
func (r *Run) Work(ctx context.Context) error {
	defer r.disconnect()
	defer r.leaveDesk()
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := r.ordered(); err != nil {
			return err
		}
		s := r.journal.State()
		m := s.Next()
		if m.Phase == PhasePaused && s.Outcome() != Interrupted {
			return r.append(KindStopped, struct{}{}, true)
		}
		if m.Phase == PhaseEnded || m.Phase == PhasePaused {
			return nil
		}
		err := r.do(ctx, m)
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if r.journal.broken != nil {
			return r.journal.broken
		}
		f := r.fault(m, err)
		if err := r.keepTrace(m, f); err != nil {
			return err
		}
		if err := r.appendOf(m.Section, KindFault, f, true); err != nil {
			return err
		}
	}
}

// do carries a move out; it decides nothing.
func (r *Run) do(ctx context.Context, m Move) error {
	if err := r.load(ctx); err != nil && m.Phase != PhaseClose {
		return err
	}
	x := r.journal.State().Section(m.Section)
	if x != nil && r.sheet != nil {
		defer r.listen(x, m.Phase)()
	}
	switch m.Phase {
	case PhaseCard:
		return r.card(ctx)
	case PhaseHands, PhasePower, PhaseLeft:
		return r.hands(ctx, x, m.Item)
	case PhaseTurn:
		return r.turn(ctx, x, m.Item, KindTurned)
	case PhaseReady:
		return r.turn(ctx, x, m.Item, KindReady)
	case PhaseIdentify:
		return r.identify(ctx, x)
	case PhaseJudge:
		return r.judge(ctx)
	case PhaseProve:
		return r.prove(ctx, x)
	case PhaseKeep:
		return r.keep(ctx, x)
	case PhaseStore:
		return r.store(ctx)
	case PhaseRead:
		return r.readAlone(ctx, x)
	case PhaseLay:
		return r.laySettings(ctx, x)
	case PhaseAsk:
		r.leaveAll(ctx)
		return r.hands(ctx, x, m.Item)
	case PhasePlan:
		return r.makePlan(ctx, x)
	case PhaseWatch:
		return r.watch(ctx, x)
	case PhaseSame:
		return r.same(ctx, x)
	case PhaseSurvey:
		return r.survey(ctx, x)
	case PhaseUnlock:
		return r.unlock(ctx, x)
	case PhaseChange:
		return r.change(ctx, x, m.Pieces)
	case PhaseVerify:
		return r.verify(ctx, x)
	case PhaseSent:
		return r.note(x, KindVerified, Verified{How: "transfer", Sectors: len(x.Planned.Sectors)})
	case PhaseSettings:
		return r.settle(ctx, x)
	case PhaseLock:
		return r.lock(ctx, x)
	case PhaseOwn:
		return r.askOwn(ctx, x)
	case PhaseStart:
		return r.start(ctx, x)
	case PhaseClose:
		return r.close(ctx)
	}
	return fmt.Errorf("no phase %q", m.Phase)
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
	r.whole = sheet
	r.sheet, err = o.through(sheet)
	return err
}

// progress writes an event about a long step, four times a second at most. It is
// not flushed: nothing rests on it.
func (r *Run) progress(x *Section, kind string, a Amount) error {
	now := r.pace.Clock.Now()
	if a.Done < a.Total && now.Sub(r.told) < 250*time.Millisecond {
		return nil
	}
	r.told = now
	return r.appendOf(x.Name, kind, a, false)
}

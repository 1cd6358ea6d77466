// Package loader is what the boot loaders of units have in common. A loader is
// a subfolder with a Kind; core/registry lists them.
//
// What a unit can do is known only at run time, so every ability is asked for
// and may be refused with a reason.
package loader

import (
	"context"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/memory"
)

// Ability is something that a unit's loader may or may not do.
type Ability string

// The abilities.
const (
	Read   Ability = "read"
	Erase  Ability = "erase"
	Write  Ability = "write"
	Digest Ability = "digest"
	Reset  Ability = "reset"
	File   Ability = "file" // takes a whole file, and nothing less
	Guard  Ability = "protection"
	Talk   Ability = "console"
	Keep   Ability = "settings"
	Files  Ability = "files" // holds a tree of files
)

// Limits are what the loaders of a kind can do at best. They are known before
// any unit is asked, and shape the plan, the gates and the words.
type Limits struct {
	Can      []Ability
	Identity string // the strongest identity that it gives, as core/run names them
	Verify   string // how a write is proved, for a person
	Instead  string // what stands in for a backup where it cannot read; empty where it can
	Shape    link.Shape
	Pages    bool // it holds the unit's pages against the section's map, and so serves one section alone
	Quiet    bool // asking who is there leaves its program at work
	Watches  bool // the sheet wants conditions for a write that the unit itself can tell
}

// Has tells whether the ability is among them.
func (l Limits) Has(a Ability) bool {
	for _, x := range l.Can {
		if x == a {
			return true
		}
	}
	return false
}

// The strengths of an identity.
const (
	ThisUnit = "this unit on the wire"
	ThisKind = "this kind on the wire"
	ByEye    = "by eye only"
)

// Op is one change to memory: an erase of whole sectors, or a write of bytes
// that lie in erased cells.
type Op struct {
	N       int // the caller's number, handed back when the op is durable
	Erase   bool
	Address uint64
	Length  uint64 // bytes; of Data for a write
	Data    []byte
}

// Session is an open loader. It is used by one goroutine at a time. Every error
// has a kind; after not-answering the session is of no further use.
type Session interface {
	// Identify asks the unit again, on the wire, and returns what it says of itself.
	Identify(ctx context.Context) ([]core.Fact, error)
	// Can returns nil, or an error of kind refused-by-unit or protected that says why not.
	Can(a Ability) error
	// Read fills p from the address on. got is told after each piece how many
	// bytes of p are there; it may be nil.
	Read(ctx context.Context, address uint64, p []byte, got func(n int)) error
	// Digest returns the SHA-256 of each piece of the range; piece divides length. A unit that
	// digests long pieces in one go is a Wider.
	Digest(ctx context.Context, address, length, piece uint64) ([]core.Digest, error)
	// Change carries out the ops that next yields, in order, until it yields
	// false. next is called ahead of the unit as far as its window allows, so what
	// must be on disk before an op is put there by next. acked is called in order,
	// once the unit says that the op is durable. An error of next stops the flow
	// after what was sent, and is returned.
	Change(ctx context.Context, next func() (Op, bool, error), acked func(Op) error) error
	// Restart leaves the loader for the application, or enters it anew.
	Restart(ctx context.Context, intoLoader bool) error
	// Probe asks one harmless question, once, and returns nil if the answer came
	// and was sound.
	Probe(ctx context.Context) error
	// Close ends the session and leaves the link open.
	Close() error
}

// Filer is a session of a loader with the ability File.
type Filer interface {
	// SendFile sends a file, under this name unless the loader's own options have one. sent is told how many of its bytes the unit has
	// acknowledged; it may be nil.
	SendFile(ctx context.Context, name string, data []byte, sent func(n int)) error
}

// Guarded is a session of a loader with the ability Guard.
type Guarded interface {
	// Locked tells whether the memory is locked against reading.
	Locked(ctx context.Context) (bool, error)
	// Unlock lifts that; the unit erases everything it may erase.
	Unlock(ctx context.Context) error
	// Lock locks the memory against reading. The session may be over after it.
	Lock(ctx context.Context) error
}

// Talker is a session of a loader with the ability Talk.
type Talker interface {
	// Say passes a line to the program's console and returns what it answers.
	Say(ctx context.Context, line string) (string, error)
}

// Setting is a value that a unit keeps apart from its program.
type Setting struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Keeper is a session of a loader with the ability Keep: it gives the settings even
// where the memory is locked.
type Keeper interface {
	Settings(ctx context.Context) ([]Setting, error)
	PutSetting(ctx context.Context, s Setting) error
}

// Dropper is a Keeper that can take a setting out.
type Dropper interface {
	DropSetting(ctx context.Context, name string) error
}

// Code is a fault that a unit has noted.
type Code struct {
	Code   string   `json:"code" doc:"As people write it, e.g. U0100-87: system, number, and how it fails (ISO 15031-6, ISO 14229-1 annex D)."`
	Status byte     `json:"status" doc:"The status octet of ISO 14229-1, annex D."`
	Is     []string `json:"is" nullable:"false" doc:"What the status says: now, confirmed, pending, since the last clear, not tested, lamp."`
	Says   string   `json:"says,omitempty" doc:"What the sheet says that it means."`
	// Recorded is what the unit has recorded with it, where somebody has asked.
	Recorded *Recorded `json:"recorded,omitempty"`
}

// Recorded is what a unit has recorded with a fault, in hex, as ISO 14229-1 lays it out,
// and what that means as far as the sheet tells it. It goes when the fault is cleared.
type Recorded struct {
	Snapshot string     `json:"snapshot,omitempty" doc:"When it arose: number of the record, count of identifiers, each with its data."`
	Extended string     `json:"extended,omitempty" doc:"About it since: number of the record and its data."`
	Means    []Recalled `json:"means,omitempty" doc:"What the records say in words of the sheet. What it does not tell is in the hex alone."`
}

// Recalled is one thing that a unit has recorded with a fault.
type Recalled struct {
	Record byte   `json:"record" doc:"Number of the record."`
	Since  bool   `json:"since,omitempty" doc:"It is of an extended record, about the fault since; otherwise of a snapshot, when it arose."`
	Name   string `json:"name"`
	Value  string `json:"value"`
	Unit   string `json:"unit,omitempty"`
}

// String is the thing with its value and unit.
func (r Recalled) String() string { return strings.TrimSpace(r.Name + " " + r.Value + " " + r.Unit) }

// InWords is all that the records say, the snapshot's first.
func (r *Recorded) InWords() *core.Said {
	if r == nil {
		return nil
	}
	var then, since []string
	for _, m := range r.Means {
		if m.Since {
			since = append(since, m.String())
		} else {
			then = append(then, m.String())
		}
	}
	var says core.Said
	switch {
	case len(then) > 0 && len(since) > 0:
		says = core.Say("when it arose: %s; since then: %s", strings.Join(then, ", "), strings.Join(since, ", "))
	case len(then) > 0:
		says = core.Say("when it arose: %s", strings.Join(then, ", "))
	case len(since) > 0:
		says = core.Say("since then: %s", strings.Join(since, ", "))
	default:
		return nil
	}
	return &says
}

// Wider is a session whose unit gives one digest for a long piece, and is waited for as long as
// that takes.
type Wider interface {
	Widest() uint64 // the longest piece, in bytes
}

// Coder is a session whose unit notes faults.
type Coder interface {
	// Codes lists them; with deep, each with what the unit has recorded with it.
	Codes(ctx context.Context, deep bool) ([]Code, error)
}

// Condition is something about a unit's surroundings that its sheet wants for a write, such
// as what feeds it, and what the unit says of it.
type Condition struct {
	Name  string `json:"name" cbor:"name"`   // of the fact
	Value string `json:"value" cbor:"value"` // as the unit tells it
	Unit  string `json:"unit,omitempty" cbor:"unit,omitempty"`
	Wants string `json:"wants" cbor:"wants"` // in words
	Well  bool   `json:"well" cbor:"well"`
}

// Watcher is a session whose unit tells of the conditions that its sheet wants. It may be
// asked in the middle of a write, between two operations. What the unit does not tell now
// is left out.
type Watcher interface {
	Conditions(ctx context.Context) ([]Condition, error)
}

// Cleaner is a session whose unit lets its faults be taken away, with all that it has
// recorded about them.
type Cleaner interface {
	ClearCodes(ctx context.Context) error
}

// Learner is a session whose unit learns something anew after work on it, such as where
// its end stops are.
type Learner interface {
	// Learn carries the routine of this name out and waits until it is over. One that the
	// unit ends without success is an error of kind refused-by-unit.
	Learn(ctx context.Context, name string) error
}

// FileInfo is a file in a unit.
type FileInfo struct {
	Path   string
	Length uint64
	Digest core.Digest // SHA-256, as the unit computes it
}

// Cabinet is a session of a loader with the ability Files.
type Cabinet interface {
	// Files lists the files, sorted by path.
	Files(ctx context.Context) ([]FileInfo, error)
	// GetFile fills p with the file's first len(p) bytes. got is told after each piece
	// how many are there; it may be nil.
	GetFile(ctx context.Context, path string, p []byte, got func(n int)) error
	// PutFile puts a file in place of one of that name, in one go once all of it is
	// there: a unit that is cut off has the old one or the new one. sent is told how
	// many bytes are acknowledged; it may be nil.
	PutFile(ctx context.Context, path string, data []byte, sent func(n int)) error
	// RemoveFile removes a file; one that is not there is no error.
	RemoveFile(ctx context.Context, path string) error
}

// Turn is what one step of a dialogue in text did, for whoever brings up a sheet.
type Turn struct {
	Exchange string            `json:"exchange"`
	Step     int               `json:"step" doc:"From 0; behind the last one comes the prompt."`
	Said     string            `json:"said,omitempty"`
	Wanted   string            `json:"wanted,omitempty" doc:"The pattern that was waited for."`
	Heard    []string          `json:"heard,omitempty" doc:"Lines that came, without those passed over."`
	Passed   int               `json:"passed,omitempty" doc:"Lines passed over."`
	Parts    map[string]string `json:"parts,omitempty" doc:"What the pattern's named parts took, of the first line where there are several."`
	Rows     int               `json:"rows,omitempty" doc:"Lines that the pattern took."`
	Error    string            `json:"error,omitempty"`
}

// Options come from the model sheet and the bench.
type Options struct {
	Own Own // what the sheet says to this loader alone
	// Await is how long the loader calls for a unit that a person is about to
	// switch on; 0 for one that is there.
	Await time.Duration
	// Ready is called once the loader calls or listens for such a unit; may be nil.
	Ready  func()
	Steady bool // the line stays at the speed at which the loader was called
	// Secret gives a secret of the team's by its name; nil where no run is open.
	Secret func(ctx context.Context, name string) (string, error)
	// Key gives the key that the service makes of a module's seed with a secret of the
	// team's; nil where no run is open.
	Key func(ctx context.Context, secret string, level byte, seed []byte) ([]byte, error)
	// Watch is told of each step of a dialogue, and Note of all that is sent and comes;
	// both may be nil. Only loaders that talk in text have them.
	Watch func(Turn)
	Note  func(sent bool, b []byte)
	Map   *memory.Map // for loaders that count pages
	link.Pace
}

// Wait calls knock, again after each pause, until it returns true or an error, or
// Await (tries, for a unit that is there) is over. Ready is called before the
// second knock.
func (o Options) Wait(ctx context.Context, pause time.Duration, tries int, knock func(pause time.Duration) (bool, error)) error {
	end := o.Clock.Now().Add(o.Await)
	for n := 0; n < tries || o.Clock.Now().Before(end); n++ {
		if n == 1 && o.Await > 0 && o.Ready != nil {
			o.Ready()
		}
		if ok, err := knock(o.Scaled(pause)); ok || err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	if o.Await > 0 {
		return core.Fail(core.NotAnswering, "the unit did not call within %s after it was to be switched on", o.Await).
			Do("Take its power off, begin again, and apply the power when you are told.")
	}
	return core.Fail(core.NotAnswering, "the unit does not answer: %d tries", tries).Do("Look at the plug, the supply and the strap, then try again.")
}

// Kind opens sessions of one loader.
type Kind interface {
	Name() string
	// Limits are what it can do at best with these options of a sheet.
	Limits(o Own) Limits
	// Schema is the JSON Schema (2020-12) of the loader's own options in a sheet.
	Schema() []byte
	// Pace is what the line carries at best once the loader is open, in bytes a second.
	Pace(o Own) float64
	// Open brings the unit into its loader as the options say, finds the unit and asks who it is. A unit that says nothing
	// is an error of kind not-answering.
	Open(ctx context.Context, l link.Link, o Options) (Session, error)
}

// Asker is a kind whose units' programs are asked for their version by the loader's own
// means, not by a line of text.
type Asker interface {
	AskProgram(ctx context.Context, l link.Link, o Options, a link.Application) (string, error)
}

// Explainer is a kind that puts a piece of what was said over its link into words, for whoever
// reads a trace: about is whom it concerns, data its beginning. Empty where it tells nothing.
type Explainer interface {
	Explain(about string, sent bool, data []byte) string
}

// Stream takes the byte stream out of a link, which some loaders need.
func Stream(l link.Link, loader string) (link.Stream, error) {
	s, ok := l.(link.Stream)
	if !ok {
		return nil, core.Fail(core.RefusedByUnit, "%s needs a line of bytes, and this link carries whole messages to modules", loader)
	}
	return s, nil
}

// Begin sets the line, plays the enter script and purges; on one wire it returns
// a stream without the bench's own echo.
func (o Options) Begin(ctx context.Context, l link.Link, loader string) (link.Stream, error) {
	s, err := Stream(l, "loader "+loader)
	if err != nil {
		return nil, err
	}
	var on link.Serial
	if err := o.Own.Read(&on); err != nil {
		return nil, err
	}
	if on.OneWire {
		s = link.OneWire(s, on.Mode(), o.Clock)
	}
	if err := s.SetMode(on.Mode()); err != nil {
		return nil, err
	}
	for _, script := range [][]link.Hand{on.Through, on.Enter} {
		if err := link.Play(ctx, s, script, o.Pace); err != nil {
			return nil, err
		}
	}
	return s, s.Purge()
}

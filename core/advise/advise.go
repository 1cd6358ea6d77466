// Package advise says what to do with a unit whose run has stopped: what condition it is in
// and how sure that is, the choices in order of safety with what each risks and needs, and
// the next rung of the ladder of repeats. It is a pure function of the run's journal, of what
// was seen on the line since, of what was tried, and of the team's past.
package advise

import (
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/words"
)

// What may be chosen.
const (
	Look      = "look"       // ask again and find out why; changes nothing
	GoOn      = "go-on"      // with the run
	Restore   = "restore"    // the backup
	KnownGood = "known-good" // a release that has run well on this model
	Header    = "header"     // put a release in, boot loader and all, through the programming header
	ByHand    = "by-hand"    // bring it into its loader by hand
	Apart     = "set-apart"  // out of the way, with a label
)

// The rungs of the ladder of repeats, from the bottom.
var Rungs = []string{"plug", "ask", "restart", "lead", Slower, "adapter"}

// Slower is the rung at which the loader stays at the speed at which it is called; there is
// none where it works at that speed anyway.
const Slower = "slower"

// TooFast is the class of a link over which the loader answers when it is called, and not at
// the speed at which it goes on.
const TooFast = "too-fast"

// Try is a rung that somebody has tried, and what came of it.
type Try struct {
	Rung     string
	Answered bool
	Class    string // of a check of the link
	At       int64  // microseconds
	By       string
}

// Count is how often something helped on this model.
type Count struct {
	Helped int `json:"helped"`
	All    int `json:"all"`
}

// Line is what was seen of the link since the run stopped.
type Line struct {
	Answers bool
	Serial  string // of who answered; empty where it does not tell
	At      int64
}

// Input is what advice is made from.
type Input struct {
	State     *run.State
	Open      bool             // the run is not closed: somebody may go on with it
	Line      *Line            // nil: nobody has looked since
	Tried     []Try            // since it stopped, in order
	Past      map[string]Count // of choices, and of rungs
	Good      []string         // releases that fit and have run well on this model, the newest first; the run's own is not among them
	Before    int              // runs of the unit before this one that ended at the same piece
	Withdrawn string           // why the run's release was taken back; empty where it was not
	ByHand    string           // what a person does to bring it into its loader; empty where there is nothing
	Header    string           // what its programming header is, and which tool it takes; empty where its sheet names none
	Heals     []string         // releases that fit and bring the boot loader along, the newest first
	Locked    bool             // its memory is known to be locked against reading
	Unit      string           // its serial
	Link      string
	Hurries   bool // its loader goes on at a higher speed than it is called at
}

// Sure is what condition a section is in, and from what that is known.
type Sure struct {
	Section   string        `json:"section"`
	Condition run.Condition `json:"condition"`
	Seen      int           `json:"seen" doc:"Pieces that were read from the unit, and not changed since."`
	Journal   int           `json:"journal" doc:"Pieces by the journal's word alone."`
	Unknown   int           `json:"unknown" doc:"Pieces of which nobody can tell what they hold."`
}

// Choice is one thing to do.
type Choice struct {
	Do    string    `json:"do" enum:"look,go-on,restore,known-good,by-hand,header,set-apart"`
	Says  core.Said `json:"says"`
	Risks core.Said `json:"risks"`
	Grave bool      `json:"grave,omitempty" doc:"Something is lost for good."`
	Needs core.Said `json:"needs"`
	Past  *Count    `json:"past,omitempty" doc:"How often it helped on this model."`
	// Slower says of go-on that the loader stays at the speed at which it is called.
	Slower bool `json:"slower,omitempty" doc:"Of go-on: at the speed at which the loader is called."`
	core.Todo
}

// Rung is one step of the ladder.
type Rung struct {
	Rung  string     `json:"rung" enum:"plug,ask,restart,lead,slower,adapter,by-hand,stop"`
	Says  core.Said  `json:"says"`
	State string     `json:"state" enum:"tried,next,ahead"`
	Tried *TryResult `json:"tried,omitempty"`
	Past  *Count     `json:"past,omitempty"`
}

// TryResult is what came of a rung.
type TryResult struct {
	Answered bool      `json:"answered"`
	Says     core.Said `json:"says"`
	At       int64     `json:"at" doc:"Microseconds since 1970 UTC."`
	By       string    `json:"by,omitempty"`
}

// Advice is all of it.
type Advice struct {
	Head    core.Said `json:"head"`
	Why     core.Said `json:"why"`
	Sure    []Sure    `json:"sure" nullable:"false"`
	Choices []Choice  `json:"choices" nullable:"false" doc:"The safest first."`
	Ladder  []Rung    `json:"ladder" nullable:"false"`
}

// Of makes the advice.
func Of(in Input) Advice {
	a := Advice{Sure: []Sure{}, Choices: []Choice{}, Ladder: ladder(in)}
	for _, x := range in.State.Sections {
		if x.Part {
			a.Sure = append(a.Sure, sure(in.State, x))
		}
	}
	for _, do := range order(in) {
		a.Choices = append(a.Choices, choice(in, do))
	}
	a.Head, a.Why = head(in)
	return a
}

// answers tells whether the unit is known to answer since the run stopped.
func (in Input) answers() bool { return in.Line != nil && in.Line.Answers }

// worn tells whether the unit's own memory has refused the same piece more than once: to
// write it again is of no use, whatever is written.
func (in Input) worn() bool { return in.times() >= 2 }

func (in Input) times() int {
	if in.State.SameFault == 0 {
		return 0
	}
	return in.State.SameFault + in.Before
}

// stranger tells whether another unit is on the line.
func (in Input) stranger() bool {
	if in.Line != nil && in.Line.Serial != "" {
		return in.Line.Answers && in.Line.Serial != in.Unit
	}
	f := in.State.Fault
	return f != nil && f.Kind == core.WrongUnit
}

// exhausted tells whether every rung was tried, and nothing has answered.
func (in Input) exhausted() bool {
	for _, r := range in.rungs() {
		if !slices.ContainsFunc(in.Tried, func(t Try) bool { return t.Rung == r }) {
			return false
		}
	}
	return !in.answers()
}

// rungs are those of this unit.
func (in Input) rungs() []string {
	return slices.DeleteFunc(slices.Clone(Rungs), func(r string) bool { return r == Slower && (!in.Hurries || in.State.Slower) })
}

// slower tells whether the run should go on at the speed at which its loader is called: that
// was what helped, or the line was lost at the higher one again.
func (in Input) slower() bool {
	if !in.Hurries || in.State.Slower || in.through() {
		return false
	}
	n := len(in.Tried)
	return in.State.Silences >= 2 || n > 0 && in.Tried[n-1].Rung == Slower && in.Tried[n-1].Answered
}

// tooFast tells whether whoever asked it last had an answer to the call, and none afterwards.
func (in Input) tooFast() bool {
	n := len(in.Tried)
	return n > 0 && in.Tried[n-1].Class == TooFast
}

// heals tells whether there is a way around the unit's own loader, and what to put in.
func (in Input) heals() bool {
	return in.Header != "" && len(in.Heals) > 0 && !in.worn() && !in.through()
}

// through tells whether the run itself goes through the programming header.
func (in Input) through() bool { return in.State.Opened != nil && in.State.Opened.Own != "" }

// order is the choices that there are, the safest first.
func order(in Input) (all []string) {
	s := in.State
	add := func(do string, may bool) {
		if may && !slices.Contains(all, do) {
			all = append(all, do)
		}
	}
	goes := in.Withdrawn == "" && !in.worn()
	back := s.WayBack() == run.BackFull && !in.worn()
	switch {
	case in.worn():
		add(Apart, true)
	case in.stranger():
		add(Look, true)
	case in.exhausted() && in.ByHand != "" && !slices.ContainsFunc(in.Tried, func(t Try) bool { return t.Rung == ByHand }):
		add(ByHand, true)
	case in.exhausted():
		add(Header, in.heals())
		add(Apart, true)
	case in.through(): // the helper tool holds the unit: nobody else could answer
		add(GoOn, goes)
		add(Restore, back)
	case !in.answers():
		add(Look, true)
		add(ByHand, in.ByHand != "" && in.Line != nil)
	}
	add(GoOn, goes && in.answers())
	add(Restore, back && in.answers())
	add(KnownGood, len(in.Good) > 0 && in.answers() && !in.worn())
	// What wants an answer first stands behind what brings one.
	add(GoOn, goes)
	add(Restore, back)
	add(KnownGood, len(in.Good) > 0 && !in.worn())
	add(ByHand, in.ByHand != "" && !in.answers())
	add(Header, in.heals() && in.Line != nil && !in.answers())
	add(Look, !in.answers() || in.worn())
	add(Apart, true)
	return all
}

// choice says what one is, what it risks and needs.
func choice(in Input, do string) Choice {
	s := in.State
	c := Choice{Do: do}
	if n, ok := in.Past[do]; ok && n.All > 0 {
		c.Past = &n
	}
	x := s.AtWork()
	switch do {
	case Look:
		c.Says, c.Risks, c.Needs = core.Say("Look, and ask it again"), core.Say("Nothing: nothing is changed."), core.Say("The next rung of the ladder, and your hands.")
		c.Todo = core.Todos(words.Check(in.Link).To("Ask it, and find out why it is silent"))
		if in.stranger() {
			c.Says, c.Needs = core.Say("Plug in the right unit"), core.Say("%s, by its label. Another one is on the line.", in.Unit)
			c.Todo = core.Todos(words.Identify(in.Link).To("Then find out who is there"))
		}
	case GoOn:
		left := 0
		if x != nil {
			left = len(x.Remaining())
		}
		c.Says, c.Risks = core.Say("Go on with the write"), core.Say("Nothing new. What is written stays.")
		c.Needs = core.Say("The same unit on its link; everything is written.")
		if left > 0 {
			c.Needs = core.Say("The same unit on its link; %d of %d pieces are still to be written.", left, max(left, s.View().Changes))
		}
		c.Todo = core.Todos(words.RunResume(s.Opened.Run).To("Go on"))
		if in.slower() {
			c.Says, c.Risks = core.Say("Go on with the write, slower"), core.Say("Nothing new. What is written stays; the rest takes longer.")
			c.Slower, c.Todo = true, core.Todos(words.RunResumeSlower(s.Opened.Run).To("Go on, slower"))
		}
		if !in.Open {
			c.Says, c.Todo = core.Say("Write it again"), core.Todos(words.Flash(in.Unit, s.Opened.Version).To("Begin anew"))
		}
	case Restore:
		c.Says, c.Risks, c.Needs = core.Say("Put its backup back"), core.Say("What it ran before comes back, with what it was to be cured of."), core.Say("The backup from before this run; it is stored.")
		if from := s.Fact(core.FactRunning); from != "" {
			c.Risks = core.Say("%s comes back, with what it was to be cured of.", from)
		}
		c.Todo = core.Todos(words.Restore(in.Unit).To("Put it back"))
		if in.through() {
			c.Todo = core.Todos(words.RestoreThrough(in.Unit).To("Put it back"))
		}
	case KnownGood:
		c.Says, c.Risks, c.Needs = core.Say("Put in %s, which is known to run", in.Good[0]), core.Say("Its settings stay as they are."), core.Say("The release, which the catalogue holds.")
		if s.WayBack() == run.BackNone {
			c.Risks, c.Grave = core.Say("What was in it before is lost: there is no backup of it."), true
		}
		c.Todo = core.Todos(words.Flash(in.Unit, in.Good[0]).To("Put it in"))
	case Header:
		c.Says, c.Needs = core.Say("Put in %s with its boot loader, through the programming header", in.Heals[0]), core.Say("%s. Its label must be read: at the header it does not tell who it is.", strings.TrimSuffix(in.Header, "."))
		c.Risks = core.Say("A clip on the wrong pins harms the board. What is in it is kept first, as far as it can be read.")
		if in.Locked {
			c.Risks, c.Grave = core.Say("Its memory is locked: lifting the lock erases all of it, settings and calibration too."), true
		}
		c.Todo = core.Todos(words.FlashThrough(in.Unit, in.Heals[0]).To("Clip the helper tool on, then"))
	case ByHand:
		c.Says, c.Risks, c.Needs = core.Say("Bring it into its loader by hand"), core.Say("Nothing in memory. What you fit for it goes on the undo list."), core.Said{Text: in.ByHand}
		c.Todo = core.Todos(words.Check(in.Link).To("Then ask it"))
	case Apart:
		c.Says, c.Risks, c.Needs = core.Say("Set it apart"), core.Say("It stays out of use until somebody takes it on."), core.Say("A label, a place, a name.")
		c.Todo = core.Todos(words.SetApart(in.Unit).To("Set it apart"))
	}
	return c
}

// sure says in what condition a section is, and from what that is known.
func sure(s *run.State, x *run.Section) Sure {
	title := x.Title.Or(x.Name)
	if title == model.TheOne {
		title = "Memory"
	}
	out := Sure{Section: title, Condition: x.Condition()}
	n := len(x.Right)
	if x.Surveyed {
		out.Seen = n
	} else {
		out.Journal = n
	}
	if x.Unknown || x.Unsure {
		out.Unknown = 1
	}
	return out
}

// head says how it stands, and why the first choice is first.
func head(in Input) (says, why core.Said) {
	s := in.State
	says = core.Say("It stopped, and nothing was changed.")
	if s.Touched() {
		says = core.Say("Half done. Do not put it back to work.")
	}
	switch {
	case in.worn():
		why = core.Say("Its memory has refused the same piece %d times: it is worn or damaged, and nothing that is written there will stay.", in.times())
	case in.stranger():
		why = core.Say("Another unit answered. The one that is half done is not on the line.")
	case in.exhausted():
		why = core.Say("Every rung of the ladder was tried, and nothing answers.")
	case in.through():
		why = core.Say("The helper tool at its programming header goes on where it stopped; the unit itself cannot answer meanwhile.")
	case in.Line == nil:
		why = core.Say("Nobody has asked it since it stopped.")
	case in.tooFast():
		why = core.Say("Its loader answers when it is called, and not at the speed at which it goes on.")
	case !in.Line.Answers:
		why = core.Say("It does not answer.")
	case in.Withdrawn != "":
		why = core.Say("It answers. The release was withdrawn meanwhile: %s.", strings.TrimSuffix(in.Withdrawn, "."))
	case in.slower() && s.Silences >= 2:
		why = core.Say("Its loader answers when it is called, and the line was lost %d times at the higher speed at which it goes on.", s.Silences)
	case in.slower():
		why = core.Say("Its loader answers at the speed at which it is called, and not at the higher one at which it goes on.")
	default:
		why = core.Say("Its loader answers.")
	}
	return says, why
}

// rungSays is what a person does at a rung.
var rungSays = map[string]string{
	"plug": "Pull the plug, look at it, and plug it in again", "ask": "Ask it again", "restart": "Switch it off, wait, and switch it on", "lead": "Take another lead", Slower: "Go slower: stay at the speed at which it is called",
	"adapter": "Take another adapter", "stop": "Stop, and set it apart",
}

// RungSays is what a person does at a rung.
func RungSays(rung string) core.Said { return core.Said{Text: rungSays[rung]} }

// ladder is the rungs: what was tried on this unit, which is next, what is ahead. A rung
// that has helped on this model more often than it did not comes before those below it.
func ladder(in Input) (all []Rung) {
	if in.through() {
		return []Rung{}
	}
	next := !in.answers()
	rest := in.rungs()
	slices.SortStableFunc(rest, func(a, b string) int { return better(in.Past[b]) - better(in.Past[a]) })
	if in.tooFast() { // that says which rung it wants
		slices.SortStableFunc(rest, func(a, b string) int {
			switch {
			case a == Slower:
				return -1
			case b == Slower:
				return 1
			}
			return 0
		})
	}
	for _, t := range in.Tried {
		r := Rung{Rung: t.Rung, Says: RungSays(t.Rung), State: "tried", Tried: &TryResult{Answered: t.Answered, At: t.At, By: t.By, Says: core.Say("no answer")}}
		if t.Answered {
			r.Tried.Says = core.Say("it answers")
		} else if t.Class == TooFast {
			r.Tried.Says = core.Say("it answers when it is called, and not at the speed at which it goes on")
		} else if t.Class != "" {
			r.Tried.Says = core.Say("no answer: %s", strings.ReplaceAll(t.Class, "-", " "))
		}
		if t.Rung == ByHand {
			r.Says = core.Say("Into its loader by hand")
		}
		all = append(all, past(in, r))
		rest = slices.DeleteFunc(rest, func(x string) bool { return x == t.Rung })
	}
	for _, x := range append(rest, "stop") {
		r := Rung{Rung: x, Says: RungSays(x), State: "ahead"}
		if next {
			r.State, next = "next", false
		}
		all = append(all, past(in, r))
	}
	return all
}

func past(in Input, r Rung) Rung {
	if n, ok := in.Past[r.Rung]; ok && n.All > 0 {
		r.Past = &n
	}
	return r
}

// better tells whether a rung has helped more often than not, three times at least.
func better(n Count) int {
	if n.All >= 3 && 2*n.Helped > n.All {
		return 1
	}
	return 0
}

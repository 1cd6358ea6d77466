package run

import (
	"encoding/json"
	"fmt"
	"slices"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
)

// State is what a run's events add up to.
type State struct {
	Opened    *Opened
	Itinerary []Leg
	Sections  []*Section // in the order in which they are written
	Owed      []Obligation
	Talk
	TakenUp *TakenUp
	Halves  int // how often it was begun or taken up
	Judged  *Judged
	Stopped bool // by order
	AtRest  bool // and nothing is under way any more
	LaidBy  *LaidAside
	Fault   *Fault
	// SameFault is how often the unit's memory has refused, or not held, the same piece.
	SameFault int
	Slower    bool // loaders stay at the speed at which they are called
	Silences  int  // how often the run stopped because nothing was heard, at the speed of now
	Closed    *Closed
	Waits     string
	OpenedAt  int64 // microseconds, wall
	LastAt    int64
	WriteAt   int64 // of the first change
	worn      *Fault
}

// Talk is what passes between the run and a person.
type Talk struct {
	Carded  *Carded
	Hands   *Hands // what a person must do now
	Answers []procedure.Answer
	Traces  int                // traces of a link that were kept
	Lent    []Borrowed         // changes for a while that no procedure names
	Turned  string             // the section to which hands have turned last
	between []procedure.Answer // since then
}

// Fold adds events up. An event of a newer schema or in an impossible place is
// an error.
func Fold(events []Event) (*State, error) {
	var s State
	for _, e := range events {
		if err := s.Apply(e); err != nil {
			return nil, err
		}
	}
	return &s, nil
}

// Apply takes one event. Kinds that are not known are passed over: a reader
// treats what it does not know as not done.
func (s *State) Apply(e Event) error {
	if e.Schema > Schema {
		return fmt.Errorf("event %d has schema %d, this version reads up to %d: use a newer version", e.N, e.Schema, Schema)
	}
	if s.Opened == nil && e.Kind != KindOpened {
		return fmt.Errorf("event %d is %s, a journal begins with opened", e.N, e.Kind)
	}
	if s.Closed != nil {
		return fmt.Errorf("event %d is %s, after the run was closed", e.N, e.Kind)
	}
	s.LastAt = e.At
	if e.Kind == KindOpened {
		return s.open(e)
	}
	x := s.Section(e.Section)
	if x == nil {
		return fmt.Errorf("event %d (%s) is of section %q, which the run has not", e.N, e.Kind, e.Section)
	}
	err := s.ofRun(e)
	if err == nil {
		err = x.apply(e)
	}
	if err != nil {
		return fmt.Errorf("event %d (%s): %w", e.N, e.Kind, err)
	}
	s.owe(e, x)
	if e.Kind == KindAboutTo {
		if s.WriteAt == 0 {
			s.WriteAt = e.At
		}
		s.forget(func(i *model.Item) bool { return i.Test }) // what was tested is not there any more
	}
	return nil
}

func (s *State) open(e Event) error {
	if s.Opened != nil {
		return fmt.Errorf("event %d opens the run again", e.N)
	}
	o, err := body[Opened](e)
	if err != nil {
		return fmt.Errorf("event %d (%s): %w", e.N, e.Kind, err)
	}
	s.Opened, s.OpenedAt, s.Halves = o, e.At, 1
	places := o.Sections
	if s.Itinerary = o.Itinerary; len(s.Itinerary) == 0 {
		places, s.Itinerary = before(o)
	}
	for _, p := range places {
		x := &Section{Place: p}
		x.Right = map[int]bool{}
		s.Sections = append(s.Sections, x)
	}
	for _, l := range s.Itinerary {
		if s.Section(l.Section) == nil {
			return fmt.Errorf("the itinerary names section %q, which the run has not", l.Section)
		}
	}
	for _, due := range o.Owed {
		s.add(due)
	}
	if main := s.Main(); main != nil {
		if len(o.Settings) > 0 {
			main.Settings = &Settings{o.Settings}
			s.add(Obligation{Kind: OweSettings, Section: main.Name, State: OweOpen, Since: e.At})
		}
		if o.Relock {
			s.add(Obligation{Kind: OweLock, Section: main.Name, State: OweOpen, Since: e.At})
		}
	}
	return nil
}

// Section finds a section by its name; the empty name is the main one's.
func (s *State) Section(name string) *Section {
	for _, x := range s.Sections {
		if x.Name == name || name == "" && x.Main {
			return x
		}
	}
	return nil
}

// Main is the section that holds the unit's own program.
func (s *State) Main() *Section { return s.Section("") }

// ofRun takes what an event says of the run as a whole.
func (s *State) ofRun(e Event) (err error) {
	switch e.Kind {
	case KindTakenUp:
		err = s.takeUp(e)
	case KindCarded:
		s.Carded, err = body[Carded](e)
		s.sends()
	case KindHands:
		s.Hands, err = body[Hands](e)
	case KindAnswered:
		var a procedure.Answer
		err = into(e, &a)
		s.Hands = nil
		if a.Value == procedure.Back {
			s.back(a.Item)
			break
		}
		if i := s.item(a.Item); i != nil && i.At == model.AtBetween {
			s.between = append(s.between, a)
		}
		s.Answers = append(s.Answers, a)
	case KindBorrowed:
		var b Borrowed
		err = into(e, &b)
		s.Lent = append(s.Lent, b)
	case KindTraced:
		s.Traces++
	case KindTurned, KindReady:
		s.Turned, s.between = e.Section, nil
	case KindJudged:
		s.Judged, err = body[Judged](e)
	case KindWaiting:
		var w Waits
		err = into(e, &w)
		s.Waits = w.For
	case KindStored:
		s.Waits = ""
		var st Stored
		err = into(e, &st)
		for _, x := range s.Sections {
			if x.BackedUp != nil && x.Stored == nil {
				x.Stored = &st
			}
		}
	case KindStopOrdered:
		s.Stopped = true
	case KindStopped:
		s.AtRest = true
	case KindLaidAside:
		s.LaidBy, err = body[LaidAside](e)
	case KindFault:
		s.Hands = nil
		s.unsure()
		before := s.worn
		s.Fault, err = body[Fault](e)
		s.wear(before)
		if err == nil && (s.Fault.Kind == core.NotAnswering || s.Fault.Kind == core.Interrupted) {
			s.Silences++
		}
		if err == nil && s.Fault.Then == "" {
			s.Fault.Then = follows(s.Fault.Kind, s.Touched())
		}
	case KindClosed:
		s.unsure()
		s.Closed, err = body[Closed](e)
	}
	return err
}

// wear counts faults of the unit's memory at one and the same piece.
func (s *State) wear(before *Fault) {
	f := s.Fault
	if f == nil || f.Sector == nil || f.Kind != core.RefusedByUnit && f.Kind != core.VerifyDiffers {
		return
	}
	if before == nil || before.Section != f.Section || *before.Sector != *f.Sector {
		s.SameFault = 0
	}
	s.SameFault++
	s.worn = f
}

// unsure notes of every section that is between an about-to and its done that nobody
// knows what it holds.
func (s *State) unsure() {
	for _, x := range s.Sections {
		x.Unsure = x.Unsure || x.Unknown
	}
}

// apply takes what an event says of a section.
func (x *Section) apply(e Event) (err error) {
	switch e.Kind {
	case KindIdentified:
		x.Identified, err = body[Identified](e)
	case KindProved:
		x.Proved, err = body[loader.Proof](e)
	case KindReading:
		err = into(e, &x.Reading)
	case KindBackedUp:
		x.BackedUp, err = body[BackedUp](e)
	case KindCovered:
		x.Covered, err = body[Covered](e)
	case KindWaived:
		x.Waived, err = body[Waiver](e)
	case KindSettings:
		x.Settings, err = body[Settings](e)
		x.Laid = nil
	case KindLaid:
		x.Laid, err = body[LaidOut](e)
	case KindSaving:
		x.Saving = true
	case KindSaved:
		var p Page
		err = into(e, &p)
		if x.Saved == nil {
			x.Saved = map[string]bool{}
		}
		x.Saved[p.Page] = true
	case KindPlanned:
		x.Planned, err = body[Planned](e)
	case KindReady:
		x.Ready = true
	case KindConditions:
		var c Conditions
		err = into(e, &c)
		x.under(c)
	case KindSame:
		x.Same = true
	case KindSurveyed:
		var v Surveyed
		err = into(e, &v)
		x.survey(v)
	case KindAboutTo:
		a, _ := act(e, KindAboutTo)
		x.aboutTo(a, e)
	case KindDone:
		var a Act
		err = into(e, &a)
		x.done(a, e)
	case KindSending:
		var a Amount
		err = into(e, &a)
		x.Written, x.doneAt = a.Done, e.Mono
	case KindVerifying:
		err = into(e, &x.Verifying)
	case KindVerified:
		x.Verified, err = body[Verified](e)
	case KindSettled:
		x.Settled, err = body[Settled](e)
	case KindLocked:
		x.Locked = true
	case KindOwn:
		x.Answers, err = body[Own](e)
	case KindStarted:
		x.Started, err = body[Started](e)
		if err == nil && e.Schema < provenSince {
			x.Started.Proven = x.Started.Version != ""
		}
	}
	return err
}

// sends corrects the itinerary of a run of an earlier engine, which found out only
// from the card that its unit takes a whole file.
func (s *State) sends() {
	if len(s.Opened.Itinerary) > 0 || s.Carded == nil || s.Carded.Limits == nil || !s.Carded.Limits.Has(loader.File) {
		return
	}
	for i := range s.Itinerary {
		if s.Itinerary[i].Phase == PhaseVerify {
			s.Itinerary[i].Phase = PhaseSent
		}
	}
}

// takeUp makes everything read on the wire stale. Before the first erase the run
// begins anew; after it, it goes on with the backups that it has.
func (s *State) takeUp(e Event) error {
	t, err := body[TakenUp](e)
	if err != nil {
		return err
	}
	s.TakenUp, s.Halves = t, s.Halves+1
	if t.Slower && !s.Slower {
		s.Slower, s.Silences = true, 0
	}
	if t.Bench != "" {
		s.Opened.Bench = t.Bench
	}
	if t.Link != "" {
		s.Opened.Link = t.Link
	}
	for _, x := range s.Sections {
		switch at := t.Links[x.Name]; {
		case at == "":
		case x.Own != "":
			x.Own = at
		default:
			x.Link = at
		}
	}
	s.Stopped, s.AtRest, s.Fault, s.LaidBy, s.Waits, s.Hands = false, false, nil, nil, "", nil
	s.Turned, s.between = "", nil
	s.forget(func(i *model.Item) bool { return i.At == model.AtPower }) // what was done with the power is done again
	if !s.Touched() {
		s.forget(func(i *model.Item) bool { return i.Setting != "" && i.At == model.AtSet }) // the unit is asked again, and may say otherwise
	}
	touched := s.Touched()
	for _, x := range s.Sections {
		x.takeUp(touched)
		if !x.Touched && !s.owes(OweSettings, x) && x.Settled == nil { // it is read anew: it may have been set meanwhile
			x.Settings, x.Laid = nil, nil
		}
	}
	if !touched {
		s.Judged = nil
	}
	return nil
}

// Before is the item that a person answered last, if he may go back to it from the one
// that he is asked now: nothing but his answer lies between them.
func (s *State) Before(item string) *model.Item {
	now := s.item(item)
	if now == nil || len(s.Answers) == 0 {
		return nil
	}
	last := s.Answers[len(s.Answers)-1]
	was := s.item(last.Item)
	if was == nil || last.By == procedure.Tool || last.Value == procedure.No || !procedure.SameTurn(was.At, now.At) || was.ID == now.ID {
		return nil
	}
	if was.At == model.AtBetween && (len(s.between) == 0 || s.between[len(s.between)-1].Item != was.ID) {
		return nil
	}
	return was
}

// back drops the last answer, so that its item is asked again, and owes again what it
// had discharged.
func (s *State) back(from string) {
	was := s.Before(from)
	if was == nil {
		return
	}
	s.Answers = slices.Clone(s.Answers[:len(s.Answers)-1])
	if was.At == model.AtBetween {
		s.between = slices.Clone(s.between[:len(s.between)-1])
	}
	for i := range s.Owed {
		if o := &s.Owed[i]; o.Item == was.ID {
			o.State, o.By, o.Reason, o.Whose, o.Due = OweOpen, "", "", "", ""
		}
	}
}

// forget drops the answers to some items: they are asked again.
func (s *State) forget(which func(*model.Item) bool) {
	stale := func(a procedure.Answer) bool { i := s.item(a.Item); return i != nil && which(i) }
	if slices.ContainsFunc(s.Answers, stale) {
		s.Answers = slices.DeleteFunc(slices.Clone(s.Answers), stale)
	}
}

// Touched tells whether anything was about to change the unit.
func (s *State) Touched() bool {
	return slices.ContainsFunc(s.Sections, func(x *Section) bool { return x.Touched || x.Saving })
}

// wrote tells whether anything was about to change a memory or files: settings that were
// put leave no unit half written.
func (s *State) wrote() bool {
	return slices.ContainsFunc(s.Sections, func(x *Section) bool { return x.Touched })
}

// MayHaveTouched is Touched for who may not have all events: from the moment on in
// which the first change could follow.
func (s *State) MayHaveTouched() bool {
	return s.Touched() || slices.ContainsFunc(s.Sections, func(x *Section) bool { return x.Stored != nil || x.Covered != nil || x.Waived != nil })
}

// complete tells whether nothing is left to be changed in any section.
func (s *State) complete() bool {
	if s.Opened.Kind == SetUp {
		return !slices.ContainsFunc(s.Sections, s.toSet)
	}
	return !slices.ContainsFunc(s.Sections, func(x *Section) bool { return x.Part && !x.complete() && !x.over() })
}

// verified tells whether every section that was touched is verified.
func (s *State) verified() bool {
	return s.complete() && !slices.ContainsFunc(s.Sections, func(x *Section) bool { return x.Touched && x.Verified == nil })
}

func (s *State) items() (all []model.Item) {
	if s.Carded != nil {
		all = s.Carded.Items
	}
	for _, x := range s.Sections {
		if x.Laid != nil && len(x.Laid.Items) > 0 {
			all = append(slices.Clip(all), x.Laid.Items...)
		}
	}
	if len(s.Lent) == 0 {
		return all
	}
	at := slices.IndexFunc(all, func(i model.Item) bool { return i.At == model.AtLeft && i.Test }) // it is tried as it will be used
	if at < 0 {
		at = len(all)
	}
	var back []model.Item
	for n, b := range s.Lent {
		back = append(back, model.Item{ID: lentItem(n), Do: model.Confirm, At: model.AtLeft}.Saying(givenBack(b)))
	}
	return slices.Insert(slices.Clone(all), at, back...)
}

func givenBack(b Borrowed) core.Said { return core.Say("Put it back as it was: %s", b.Says) }

// lentItem is the id of the item that takes back the nth borrowed thing.
func lentItem(n int) string { return fmt.Sprintf("give-back-%d", n+1) }

// Items are all that a person or the tool is to do: of the card, and about settings.
func (s *State) Items() []model.Item { return s.items() }

// item finds an item of the card by its id.
func (s *State) item(id string) *model.Item {
	all := s.items()
	for i := range all {
		if all[i].ID == id {
			return &all[i]
		}
	}
	return nil
}

func atEnd(i *model.Item) bool { return i.At == model.AtLeft }

// UndoList is every temporary change of this run, and whether it was taken back, in
// the order in which the procedure takes them back.
func (s *State) UndoList() (list []procedure.Undo) {
	word := map[string]string{OweOpen: "open", OweDischarged: "undone", OweExcused: "excused"}
	for _, back := range s.items() {
		for _, o := range s.Owed {
			if o.Kind != OweUndo || o.Item != back.ID {
				continue
			}
			u := procedure.Undo{Back: back.ID, Says: o.Says, State: word[o.State], Note: o.Reason}
			for _, i := range s.items() {
				if i.Undo == back.ID {
					u.Item = i.ID
				}
			}
			list = append(list, u)
		}
	}
	return list
}

// WayBack says what could undo the changes of the run: the weakest of its sections'.
func (s *State) WayBack() string {
	if len(s.Sections) == 0 {
		return BackNone
	}
	order := []string{BackFull, BackSettings, BackImage, BackNone}
	worst := 0
	for _, x := range s.Sections {
		if x.Part {
			worst = max(worst, slices.Index(order, s.wayBack(x)))
		}
	}
	return order[worst]
}

func (s *State) wayBack(x *Section) string {
	switch {
	case x.BackedUp != nil || x.Covered != nil:
		return BackFull
	case x.Settings != nil:
		return BackSettings
	case x.Main && s.Reference() != "":
		return BackImage
	}
	return BackNone
}

// Reference is the version that stands for a backup where there is none: the unit
// ran it, and the catalogue keeps its image. Empty where there is none either.
func (s *State) Reference() string {
	x := s.Main()
	if v := s.Fact(core.FactRunning); x != nil && x.BackedUp == nil && x.Covered == nil && slices.Contains(s.Opened.Held, v) {
		return v
	}
	return ""
}

// Fact finds the newest value that the unit gave on the wire.
func (s *State) Fact(name string) string {
	if x := s.Main(); x != nil && x.Identified != nil {
		for _, f := range x.Identified.Facts {
			if f.Name == name {
				return f.Value
			}
		}
	}
	return ""
}

func body[T any](e Event) (*T, error) {
	var v T
	err := into(e, &v)
	return &v, err
}

func into(e Event, v any) error { return json.Unmarshal(e.Body, v) }

// Package run executes one run against one unit: identify, fit, back up, plan,
// write, verify, start, close. It keeps a journal, and its next step is a pure
// function of it; whatever happens to the bench, the journal says where to go on.
//
// What changes memory has two events, about-to and done, on disk before and
// after. Between them the unit's memory is unknown until it is read.
package run

import (
	"encoding/json"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/history"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/procedure"
	"zealousferry/core/settings"
	"zealousferry/core/trust"
)

// Schema is the number of the events' form. Readers refuse a higher one in words.
const Schema = 6

// provenSince is the schema from which on an event says itself whether the program was
// proven.
const provenSince = 3

// Engine names the version of this engine in the opening event. Runs of the first
// have neither card nor proof; those of the first two have one section.
const (
	Engine    = "ferry-run/3"
	engineOne = "ferry-run/1"
)

// Event is one line of a journal. Numbers are without gaps from 1.
type Event struct {
	Schema int    `json:"schema"`
	N      uint64 `json:"n"`
	Epoch  uint64 `json:"epoch"`
	At     int64  `json:"at"`   // wall clock, microseconds since 1970 UTC
	Mono   int64  `json:"mono"` // microseconds since this bench took the run up
	Kind   string `json:"kind"`
	// Section is the one that the event is about; empty for the run, and for the only
	// section of a run of schema 1 or 2.
	Section string          `json:"section,omitempty"`
	Body    json.RawMessage `json:"body,omitempty"`
}

// The kinds of event.
const (
	KindOpened      = "opened"
	KindTakenUp     = "taken-up"
	KindIdentified  = "identified"
	KindJudged      = "judged"
	KindReading     = "reading"
	KindBackedUp    = "backed-up"
	KindWaiting     = "waiting"
	KindStored      = "stored"
	KindCovered     = "covered"
	KindPlanned     = "planned"
	KindSame        = "same-unit"
	KindSurveyed    = "surveyed"
	KindAboutTo     = "about-to"
	KindDone        = "done"
	KindVerifying   = "verifying"
	KindVerified    = "verified"
	KindOwn         = "own-loader" // the unit's own loader answers again
	KindStarted     = "started"
	KindStopOrdered = "stop-ordered"
	KindStopped     = "stopped" // the action in hand is done; nothing is under way any more
	KindFault       = "fault"
	KindClosed      = "closed"
	KindCarded      = "carded"   // the procedure that this run goes by
	KindHands       = "hands"    // a person must act
	KindAnswered    = "answered" // and has
	KindProved      = "proved"   // the link
	KindWaived      = "waived"   // a gate, by a named person
	KindSending     = "sending"  // of a whole file
	KindLocked      = "locked"   // the memory's protection is set again
	KindSettings    = "settings" // as the unit gave them before the write
	KindSettled     = "settled"  // put back
	KindTurned      = "turned"   // to a section: what hands do before it is read was done
	KindReady       = "ready"    // to change a section: what hands do before it was done
	KindLaidAside   = "laid-aside"
	KindConditions  = "conditions"    // under which the unit is written, as it tells of them
	KindLaid        = "settings-laid" // what each setting is to be
	KindSaving      = "saving"        // a page of settings: about to be put
	KindSaved       = "saved"         // and was
	KindBorrowed    = "borrowed"      // a person has changed something for a while that no procedure names
	KindTraced      = "traced"        // what was said over a link until something went wrong
)

// The gates that a person may waive.
const (
	GateBackup     = "backup"     // memory that cannot be read
	GateProtection = "protection" // a lock whose lifting erases
)

// Waiver is a named person's reasoned permission to pass a gate.
type Waiver struct {
	Gate   string `json:"gate"`
	Reason string `json:"reason"`
	By     string `json:"by"`
	Role   string `json:"role"`
}

// The ways back.
const (
	BackFull     = "full"
	BackSettings = "settings"
	BackImage    = "image"
	BackNone     = "none"
)

// Carded is the procedure as it was when the run began; without one it has no
// items.
type Carded struct {
	Procedure string         `json:"procedure,omitempty"`
	Edition   int            `json:"edition,omitempty"`
	Standing  string         `json:"standing,omitempty"` // proven, unproven, failed
	Items     []model.Item   `json:"items,omitempty"`
	Limits    *loader.Limits `json:"limits,omitempty"`
}

// Settings are what the unit gave of them; the secret ones are sealed.
type Settings struct {
	Settings []settings.Value `json:"settings"`
}

// LaidOut says what each setting is to be, and what a person is asked about that.
type LaidOut struct {
	Lines []settings.Line   `json:"lines"`
	Items []model.Item      `json:"items,omitempty"`
	Made  map[string]string `json:"made,omitempty"` // secrets that were made, sealed, by setting
}

// Page is a page of settings that is saved.
type Page struct {
	Page string           `json:"page"`
	Put  []settings.Value `json:"put,omitempty"` // that were put, once they were saved; the secret ones are sealed
}

// Borrowed is a change for a while that no procedure names: a plug that was borrowed, a
// cover that was taken off.
type Borrowed struct {
	Says string `json:"says"`
	By   string `json:"by"`
}

// Settled says how they stand after they were put back.
type Settled struct {
	Back   int      `json:"back"`             // read back as they were
	Differ []string `json:"differ,omitempty"` // names of those that the unit did not take
	// Now are all that the unit gives, where its sheet describes them; the secret ones are sealed.
	Now []settings.Value `json:"now,omitempty"`
}

// Hands names what a person must do now.
type Hands struct {
	Item    string `json:"item"` // empty where the sheet has no item for it
	Says    string `json:"says"`
	Calling bool   `json:"calling,omitempty"` // the tool calls; the unit's answer is the sign
}

// The kinds of run.
const (
	Flash   = "flash"
	Restore = "restore"
	BackUp  = "backup"
	SetUp   = "settings" // nothing but settings
)

// Outcome is how a run stands for a person or a script.
type Outcome string

// The outcomes. Interrupted and waiting runs are still open.
const (
	Done        Outcome = "done"
	NotProven   Outcome = "not-proven" // written and verified, but the program was not heard or a test not passed
	NothingToDo Outcome = "nothing-to-do"
	Refused     Outcome = "refused"
	Failed      Outcome = "failed"
	Interrupted Outcome = "interrupted"
	Waiting     Outcome = "waiting"
	Abandoned   Outcome = "abandoned"
)

// Job is why a run is done and for whom, as it stood when the run was opened.
type Job struct {
	Number uint64 `json:"number"`
	Reason string `json:"reason,omitempty"`
	Asked  string `json:"asked,omitempty"` // who asked for it
	Test   string `json:"test,omitempty"`  // what is tried at the end, beside the procedure's own tests
}

// Left is a section that the job knowingly leaves as it is.
type Left struct {
	Section string `json:"section"`
	Why     string `json:"why"`
}

// Opened holds, by digest where it can, all that the run depends on.
type Opened struct {
	Run      string        `json:"run"`
	Kind     string        `json:"kind"`
	Unit     string        `json:"unit"`
	Model    string        `json:"model"`
	Serial   string        `json:"serial"`
	Bench    string        `json:"bench"`
	Link     string        `json:"link"`
	Own      string        `json:"own,omitempty"` // BENCH/LINK of the unit's own lead, where the run goes through the unit's programming header: link is the helper tool's then
	By       string        `json:"by"`
	Role     string        `json:"role"`
	Reason   string        `json:"reason,omitempty"`
	Sheet    core.Digest   `json:"sheet"`
	Release  core.Digest   `json:"release"` // of the release's JSON
	Version  string        `json:"version"` // of the release
	Label    string        `json:"label"`   // serial that the person read from the label and confirms
	Again    bool          `json:"again"`   // write although it runs this version
	Source   *Source       `json:"source"`  // of a restore
	Covered  *Source       `json:"covered"` // an earlier run's backup that stands for this run's own
	Noted    []core.Fact   `json:"noted"`   // what people and labels say of the unit
	Engine   string        `json:"engine"`
	Deadline time.Duration `json:"deadline"` // how long to wait for the service to store the backup
	Waivers  []Waiver      `json:"waivers,omitempty"`
	Held     []string      `json:"held,omitempty"` // versions whose images the catalogue holds

	Sections  []Place      `json:"sections,omitempty"`  // in the order in which they are written
	Itinerary []Leg        `json:"itinerary,omitempty"` // what the run does, in order
	Owed      []Obligation `json:"owed,omitempty"`      // by earlier runs of this unit, and still open
	Job       *Job         `json:"job,omitempty"`
	Left      []Left       `json:"left,omitempty"`   // sections that are left as they are
	Two       bool         `json:"two,omitempty"`    // the team wants two persons for what cannot be taken back
	Word      *trust.Word  `json:"word,omitempty"`   // who vouches for the release
	Beside    []string     `json:"beside,omitempty"` // serials of other units of the model that were found at this bench

	Adapter  *procedure.Adapter `json:"adapter,omitempty"`  // on the link, as its record says that it is set
	Settings []settings.Value   `json:"settings,omitempty"` // that an earlier run kept of this unit, and did not put back
	Fill     []settings.Fill    `json:"fill,omitempty"`     // what profiles and people have for its settings
	Reset    bool               `json:"reset,omitempty"`    // settings go back to the defaults that the sheet has
	Relock   bool               `json:"relock,omitempty"`   // that run lifted the memory's lock, and did not set it again
}

// Given is what was said for this run beside its job's reason.
func (o *Opened) Given() string {
	if o.Job == nil || o.Reason == o.Job.Reason {
		return ""
	}
	return o.Reason
}

// Waived finds the waiver of a gate.
func (o *Opened) Waived(gate string) (Waiver, bool) {
	for _, w := range o.Waivers {
		if w.Gate == gate {
			return w, true
		}
	}
	return Waiver{}, false
}

// Source is a backup that a run goes by.
type Source struct {
	Backup   string      `json:"backup"`
	Manifest core.Digest `json:"manifest"` // of the main section
	Run      string      `json:"run"`      // that took it
	Unit     string      `json:"unit"`
	// Sections are the manifests of all sections, where there are several.
	Sections map[string]core.Digest `json:"sections,omitempty"`
}

// Of is the manifest of a section; zero if the backup has none of it.
func (s *Source) Of(x *Section) core.Digest {
	if s == nil {
		return core.Digest{}
	}
	if d, ok := s.Sections[x.Name]; ok {
		return d
	}
	if x.Main {
		return s.Manifest
	}
	return core.Digest{}
}

// TakenUp says that a bench went on with an open run.
type TakenUp struct {
	Epoch uint64 `json:"epoch"`
	By    string `json:"by"`
	Label string `json:"label"`
	Why   string `json:"why"`
	Bench string `json:"bench,omitempty"` // id of the one that goes on, where it is another
	Link  string `json:"link,omitempty"`  // BENCH/LINK that the unit is on now, where it is another
	// Links are those of sections on further links, by section, where they changed; of a
	// section behind a programming header the unit's own lead.
	Links map[string]string `json:"links,omitempty"`
	// Slower says that loaders stay at the speed at which they are called, from now on.
	Slower bool `json:"slower,omitempty"`
}

// Identified is what the unit said of itself.
type Identified struct {
	Facts      []core.Fact `json:"facts"`
	Strength   string      `json:"strength"`
	Generation uint64      `json:"generation"`
}

// Judged is the fit's verdict.
type Judged struct {
	Verdict     *fit.Verdict `json:"verdict,omitempty"`
	NothingToDo bool         `json:"nothingToDo"`
}

// Amount is progress within a step, in bytes.
type Amount struct {
	Done  uint64 `json:"done"`
	Total uint64 `json:"total"`
}

// How it is known what memory holds.
const (
	byUnit    = "unit-digest" // by the unit's own digest
	readTwice = "read-twice"  // both times alike
	readBack  = "read-back"
)

// BackedUp is a finished reading of the unit's memory.
type BackedUp struct {
	Manifest core.Digest        `json:"manifest"`
	Bytes    uint64             `json:"bytes"`
	How      string             `json:"how"` // byUnit or readTwice
	Obtained []history.Obtained `json:"obtained"`
	Now      []core.Digest      `json:"now,omitempty"` // of each sector, in order; none where each is one chunk of the manifest
	Took     int64              `json:"took"`          // microseconds
	Digests  int64              `json:"digests"`
}

// Covered says that an earlier run's backup stands for this run's own, and what
// the sectors hold now, in order.
type Covered struct {
	Source
	Now []core.Digest `json:"now"`
}

// Stored is the service's word that a backup is durable.
type Stored struct {
	Backup string `json:"backup"`
	At     int64  `json:"at"`
}

// Waits names what the run waits for.
type Waits struct {
	For string `json:"for"`
}

// Planned is the plan's outline. A sector is a piece that is changed as a whole: of a memory, or a file.
type Planned struct {
	Plan    core.Digest   `json:"plan"`
	Sectors []plan.Sector `json:"sectors"`
	Actions int           `json:"actions"`
	Bytes   uint64        `json:"bytes"`
	Pace    float64       `json:"pace"` // bytes per second that the line could carry at best
}

// Surveyed lists the planned sectors that were found right when the run was
// taken up in the middle.
type Surveyed struct {
	Right []int `json:"right"`
}

// Act is an action that changes a section.
type Act struct {
	N      int    `json:"n"`
	Sector int    `json:"sector"`
	Erase  bool   `json:"erase,omitempty"`
	Path   string `json:"path,omitempty"` // of a file that is put or removed
	Bytes  uint64 `json:"bytes"`
	Last   bool   `json:"last,omitempty"`   // of its sector
	File   bool   `json:"file,omitempty"`   // a whole file: all sectors of the plan
	Unlock bool   `json:"unlock,omitempty"` // the protection is lifted, which erases
}

// Verified says how the memory was proved right.
type Verified struct {
	How     string `json:"how"` // unit-digest or read-back
	Sectors int    `json:"sectors"`
	Changed []int  `json:"changed,omitempty"` // kept sectors that changed while the run was interrupted
}

// Started is the program's own word after the restart.
type Started struct {
	Version string `json:"version"`
	Note    string `json:"note,omitempty"`
	// Of the message in Note, and what was put into it.
	NoteID     string   `json:"noteId,omitempty"`
	NoteParams []string `json:"noteParams,omitempty"`
	Proven     bool     `json:"proven,omitempty"` // it says what it should, or there is no program that could
}

func (s *Started) note(says core.Said) {
	s.Note, s.NoteID, s.NoteParams = says.Text, says.ID, says.Params
}

// Noted is what is to be known of the start; without text where it went well.
func (s *Started) Noted() core.Said {
	if s == nil {
		return core.Said{}
	}
	return core.Said{ID: s.NoteID, Params: s.NoteParams, Text: s.Note}
}

// Own is what the unit's own loader says once it answers again.
type Own struct {
	Facts []core.Fact `json:"facts"`
}

// LaidAside says that the run waits, with the unit where it is, until somebody goes
// on with it.
type LaidAside struct {
	By     string `json:"by"`
	Place  string `json:"place"`  // where the unit is
	Holder string `json:"holder"` // who has it
	Why    string `json:"why,omitempty"`
}

// Conditions are those that the sheet wants for a write, as the unit tells of them.
type Conditions struct {
	All []loader.Condition `json:"all"`
}

// Turned says to which section hands have turned.
type Turned struct{}

// Stop is a person's order to end after the action in hand.
type Stop struct {
	By string `json:"by"`
}

// Fault is an error that ended a step.
type Fault struct {
	Kind    core.Kind `json:"kind"`
	Step    Phase     `json:"step"`
	Message string    `json:"message"`
	core.UnitState
	ID     string   `json:"id,omitempty"`     // of the message
	Params []string `json:"params,omitempty"` // what was put into it
	core.Todo
	Sector  *int   `json:"sector,omitempty"` // where it differs
	Gate    string `json:"gate,omitempty"`   // that a named person may pass
	Section string `json:"section,omitempty"`
	Then    Then   `json:"then,omitempty"` // what follows from it
}

func (f *Fault) said() core.Said { return core.Said{ID: f.ID, Params: f.Params, Text: f.Message} }

// Closed ends a run. Record is history.Record as the bench signed it.
type Closed struct {
	Outcome Outcome `json:"outcome"`
	Reason  string  `json:"reason"`
	// Where the tool closes it: the message in Reason, and what was put into it.
	ReasonID     string   `json:"reasonId,omitempty"`
	ReasonParams []string `json:"reasonParams,omitempty"`
	Touched      bool     `json:"touched"` // memory was changed
	// Owed is what is handed on to the unit: each excused by name, with a reason.
	Owed      []Obligation `json:"owed,omitempty"`
	Record    []byte       `json:"record"`
	Signature []byte       `json:"signature"`
}

// Why is the reason.
func (c *Closed) Why() core.Said {
	if c == nil {
		return core.Said{}
	}
	return core.Said{ID: c.ReasonID, Params: c.ReasonParams, Text: c.Reason}
}

// Hurries tells whether somebody acts upon an event as soon as it is heard of: a person, or whoever
// counts the unit among those that are half done. All others may wait a moment for the next ones.
// touched is whether memory was changed before it.
func (e Event) Hurries(touched bool) bool {
	switch e.Kind {
	case KindOpened, KindTakenUp, KindHands, KindWaiting, KindFault, KindStopped, KindLaidAside, KindClosed:
		return true
	case KindAboutTo:
		return !touched
	}
	return false
}

// Passing tells whether an event says only how far the work in hand has come, so that no list says
// more for it; touched is whether memory was changed before it.
func (e Event) Passing(touched bool) bool {
	switch e.Kind {
	case KindReading, KindVerifying, KindSending, KindDone:
		return true
	case KindAboutTo:
		return touched
	}
	return false
}

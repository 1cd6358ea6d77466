// Package handover says what was done to a unit, what was not, and what whoever has it next
// does first. It adds nothing to what records, obligations and the catalogue say.
package handover

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/words"
)

// Input is what a note is made from.
type Input struct {
	Unit    string                           // its serial
	Record  *history.Record                  // of the last run that is closed; nil where there is none
	Owed    []run.Obligation                 // to the unit
	Open    string                           // the run that is open
	Laid    *run.LaidAside                   // if it was laid aside
	Newer   string                           // a release that fits and that it does not run
	Names   map[string]string                // of people
	Setting func(name string) *model.Setting // as the sheet has it
}

// Line is one thing, with what helps.
type Line struct {
	core.Said
	core.Todo
}

// Note is the hand-over.
type Note struct {
	Done    []core.Said `json:"done" nullable:"false"`
	NotDone []core.Said `json:"notDone" nullable:"false"`
	Next    []Line      `json:"following" nullable:"false" doc:"What whoever has it next does, the most urgent first."`
}

// Of makes the note.
func Of(in Input) Note {
	n := Note{Done: []core.Said{}, NotDone: []core.Said{}, Next: []Line{}}
	if in.Open != "" {
		n.open(in)
	}
	if in.Record != nil {
		n.record(in)
	}
	n.owed(in)
	if in.Newer != "" && in.Open == "" {
		n.NotDone = append(n.NotDone, core.Say("Release %s fits, and was not put in.", in.Newer))
		n.Next = append(n.Next, Line{core.Say("Ask whether %s is wanted.", in.Newer), core.Todos(words.Flash(in.Unit, in.Newer).To("Put it in"))})
	}
	return n
}

func (n *Note) open(in Input) {
	if in.Laid != nil {
		says := core.Say("It is laid aside: %s, with %s.", in.Laid.Place, in.Laid.Holder)
		if in.Laid.Why != "" {
			says = core.Say("It is laid aside: %s, with %s. It waits for: %s.", in.Laid.Place, in.Laid.Holder, strings.TrimSuffix(in.Laid.Why, "."))
		}
		n.NotDone = append(n.NotDone, says)
	} else {
		n.NotDone = append(n.NotDone, core.Say("A run of it is not closed."))
	}
	n.Next = append(n.Next, Line{core.Say("Go on with its run before anything else."), core.Todos(words.RunResume(in.Open).To("Go on"))})
}

func (n *Note) record(in Input) {
	r := in.Record
	name := func(id string) string {
		if s := in.Names[id]; s != "" {
			return s
		}
		return id
	}
	at := time.UnixMicro(r.Closed).UTC().Format("2006-01-02 15:04 UTC")
	switch outcome := words.Outcomes.In(r.Outcome); {
	case r.Kind == run.BackUp:
		n.Done = append(n.Done, core.Say("Its memory was read and kept, %s, by %s: %s.", at, name(r.By), outcome))
	case r.Kind == run.SetUp:
		n.Done = append(n.Done, core.Say("It was set up, %s, by %s: %s.", at, name(r.By), outcome))
	case r.From != "" && r.To != "" && r.From != r.To:
		n.Done = append(n.Done, core.Say("From %s to %s, %s, by %s: %s.", r.From, r.To, at, name(r.By), outcome))
	default:
		n.Done = append(n.Done, core.Say("Run of %s, by %s: %s.", at, name(r.By), outcome))
	}
	if !r.Backup.IsZero() {
		n.Done = append(n.Done, core.Say("What was in it before is kept as a backup, %s.", r.Backup.Short()))
	}
	switch r.Verified {
	case "":
	case "transfer":
		n.Done = append(n.Done, core.Say("Its file was sent whole."))
		n.NotDone = append(n.NotDone, core.Say("What arrived was not read back: its loader cannot."))
	default:
		n.Done = append(n.Done, core.Say("What was written was read back and is right."))
	}
	n.settings(in)
	for _, t := range r.Tests {
		switch t.Value {
		case "yes":
			n.Done = append(n.Done, core.Say("Passed: %s", t.Says))
		}
	}
	for _, g := range r.Handed {
		n.Done = append(n.Done, core.Say("Handed to %s: %s", g.To, g.Says))
	}
	if r.Reason != "" && r.Outcome != string(run.Done) && r.Outcome != string(run.NothingToDo) {
		n.NotDone = append(n.NotDone, core.Say("It did not end well: %s.", strings.TrimSuffix(r.Reason, ".")))
	}
	for _, l := range r.Left {
		n.NotDone = append(n.NotDone, core.Say("Left as it is by the job: %s, %s.", l.Section, strings.TrimSuffix(l.Why, ".")))
	}
	for _, w := range r.Waived {
		n.NotDone = append(n.NotDone, core.Say("Passed by name of %s: %s, %s.", name(w.By), words.Gates.In(w.Gate), strings.TrimSuffix(w.Reason, ".")))
	}
}

// settings tells of those that are other than they were, and of those that did not come back.
func (n *Note) settings(in Input) {
	kept, read := 0, 0
	var other, lost []string
	for _, s := range in.Record.Settings {
		title, shows := s.Name, func(v string) string { return v }
		if def := in.Setting(s.Name); def != nil {
			title, shows = def.Says(), def.Shows
		}
		if s.Back == run.LeftNotYet { // the run did not come so far
			continue
		}
		read++
		switch {
		case s.Back == run.LeftOther:
			lost = append(lost, title)
		case s.Secret && s.How == "made":
			other = append(other, title+" is a new one")
		case s.How == "carried" || s.How == "left" || s.How == "gone" || s.Secret:
			kept++
		case s.Left != "":
			other = append(other, fmt.Sprintf("%s is %s", title, shows(s.Left)))
		}
	}
	if read > 0 {
		n.Done = append(n.Done, core.Say("Its settings are put back and read again: %d as they were.", kept))
	}
	if len(other) > 0 {
		n.Done = append(n.Done, core.Say("Set otherwise: %s.", strings.Join(other, "; ")))
	}
	if len(lost) > 0 {
		n.NotDone = append(n.NotDone, core.Say("These settings are not as they should be: %s.", strings.Join(lost, ", ")))
		n.Next = append(n.Next, Line{core.Say("Set them by hand, or once more by the tool."), core.Todos(words.SettingsPut(in.Unit).To("Once more"))})
	}
}

// owed tells of what stays with the unit.
func (n *Note) owed(in Input) {
	owed := slices.Clone(in.Owed)
	slices.SortStableFunc(owed, func(a, b run.Obligation) int { return urgency(a) - urgency(b) })
	for _, o := range owed {
		if o.State == run.OweDischarged {
			continue
		}
		says := strings.TrimSuffix(o.Says, ".")
		switch {
		case o.Kind == run.OweTest && o.State == run.OweHanded:
			n.NotDone = append(n.NotDone, core.Say("%s: it could not be tried here; %s answers it by %s.", says, o.Whose, o.Due))
			n.Next = append(n.Next, Line{core.Say("%s tries it: %s.", o.Whose, says), core.Todos(words.Test(in.Unit).To("Then say how it went"))})
		case o.Kind == run.OweTest:
			n.NotDone = append(n.NotDone, core.Say("Not passed: %s. %s", says, o.Reason))
			n.Next = append(n.Next, Line{core.Say("Try it again: %s.", says), core.Todos(words.Test(in.Unit).To("Then say how it went"))})
		case o.Kind == run.OwePublic:
			n.NotDone = append(n.NotDone, core.Say("%s. Left: %s.", says, strings.TrimSuffix(o.Reason, ".")))
			n.Next = append(n.Next, Line{core.Say("%s.", says), core.Todos(words.SettingsPut(in.Unit).To("Set it up"))})
		default:
			n.NotDone = append(n.NotDone, core.Say("%s. Left: %s.", says, strings.TrimSuffix(o.Reason, ".")))
			n.Next = append(n.Next, Line{core.Say("%s.", says), core.Todos(words.OwedDone(in.Unit).To("Then say that it is done"))})
		}
	}
}

// urgency is the order in which somebody sees to what is owed: what keeps the unit from
// working comes first.
func urgency(o run.Obligation) int {
	return slices.Index([]string{run.OweSettings, run.OweLock, run.OweUndo, run.OweFinding, run.OweTest, run.OweGive, run.OwePublic}, o.Kind)
}

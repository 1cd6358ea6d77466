// Package diagnose finds out why nothing sensible comes over a link. What is seen
// on the line (Watch) puts the fault into a class of faults that look alike there
// (Classify); each class has one test that tells its members apart, and the
// answer to it names the fault (Name). docs/diagnosis.md has the table.
package diagnose

import (
	"cmp"
	"time"

	"zealousferry/core"
	"zealousferry/core/loader"
)

// Class is faults that look alike on the line.
type Class string

// The classes.
const (
	Sound       Class = "sound"
	Silent      Class = "silent"       // nothing at all
	HeldLow     Class = "held-low"     // nobody drives the line
	Deaf        Class = "deaf"         // it speaks after a reset, and does not hear
	Echo        Class = "echo"         // only what we sent
	Setting     Class = "setting"      // it speaks with another line setting
	Rubbish     Class = "rubbish"      // bytes that no setting decodes
	Program     Class = "program"      // its program answers instead of its loader
	OtherLoader Class = "other-loader" // another loader, or another model's
	Lossy       Class = "lossy"        // some answers do not come
	Late        Class = "late"         // they come late
	Restarts    Class = "restarts"     // it starts over and over
	Stops       Class = "stops"        // sound answers, and then none
)

// Fault is one thing that is wrong.
type Fault struct {
	Name  string
	Class Class
	Says  string // what is wrong, for a person
	Do    string // what to do
}

// Faults are all that are told apart, by name.
var Faults = map[string]Fault{}

func init() {
	for _, f := range []Fault{
		{"no-power", HeldLow, "The unit has no power.", "Switch its supply on; see that the supply lead sits on the right pin."},
		{"held-in-reset", HeldLow, "The unit has power and is held in reset.", "Let go of the reset button; look for a bridge on the reset pins."},
		{"crossed", Silent, "Transmit is wired to transmit.", "Swap the two data wires: the adapter's transmit goes to the unit's receive."},
		{"wire-from-unit-open", Silent, "The wire on which the unit speaks is off, or the lead is broken in it.", "Push the wire home, or take another lead."},
		{"dead-adapter", Silent, "The adapter sends nothing.", "Take another adapter; set this one aside and note it in its record."},
		{"wire-to-unit-open", Deaf, "The wire on which the unit listens is off.", "Push the wire on the unit's receive pin home, or take another lead."},
		{"level-too-low", Deaf, "The adapter's voltage is too low for the unit.", "Set the adapter's selector to the voltage that the card names, with the plug pulled."},
		{"data-wires-touch", Echo, "The two data wires touch each other.", "Look for a bridge between the data pins, at the plug and on the board."},
		{"one-wire-lead", Echo, "The lead ties both data wires together, as for a one-wire unit.", "Take the lead that the card names."},
		{"other-speed", Setting, "The unit speaks at another speed.", "Correct the speed in the model sheet, or see whether this is another model."},
		{"other-parity", Setting, "The unit speaks with another parity.", "Correct the parity in the model sheet, or see whether this is another model."},
		{"inverted", Setting, "The line is inverted.", "Set the adapter's inversion the other way; note it on the undo list."},
		{"ground-open", Rubbish, "Ground is not connected.", "Connect the ground pin first, then the data pins."},
		{"interference", Rubbish, "Something disturbs the line, or a second talker is on it.", "Unplug what else hangs on the line; move the lead away from motors and supplies."},
		{"strap-missing", Program, "The unit starts its program: the boot strap is not set.", "Fit the strap as the card shows, then reset the unit."},
		{"reset-line-off", Program, "The unit is not reset: the reset line is off.", "Connect the reset pin, or press the unit's reset button with the strap set."},
		{"not-switched-off", Program, "The unit runs; it opens its loader only when it is switched on.", "Take its power off, begin again, and apply the power when you are told."},
		{"another-model", OtherLoader, "Another model is on the link.", "Read the label; identify what is there."},
		{"another-loader", OtherLoader, "The unit speaks another loader.", "See which model and revision this is; its sheet names another loader."},
		{"loose-wire", Lossy, "A contact is loose.", "Press every plug home, move the lead and check again."},
		{"long-lead", Lossy, "The lead is too long or too thin for this speed.", "Take a shorter lead, or a lower speed."},
		{"adapter-holds-back", Late, "The adapter holds bytes back before it hands them over.", "Set the latency of its driver to 1 ms, where the system has such a value."},
		{"network-late", Late, "The way to the serial server is slow.", "Nothing is wrong with the unit; expect longer times, or work at the server itself."},
		{"supply-sags", Restarts, "The supply gives way as soon as the unit works.", "Feed the unit from its own supply, or from one that can give more."},
		{"supply-gives-way", Stops, "The supply gives way under load: the unit starts anew while it is asked.", "Feed the unit from its own supply, or from one that can give more; look at its plug."},
	} {
		Faults[f.Name] = f
	}
}

// The kinds of test.
const (
	ByTool  = "tool"    // the tool does it alone, and has done it
	Measure = "measure" // a value with a meter
	Bridge  = "bridge"  // the data pins bridged, the tool sends
	Look    = "look"    // a question
)

// Test tells the members of a class apart.
type Test struct {
	Kind  string   `json:"kind"`
	What  string   `json:"what"` // of a measurement: supply, transmit, ground; of bridges: their places, in order
	Unit  string   `json:"unit,omitempty"`
	Says  string   `json:"says"` // the command to the person
	Why   string   `json:"why"`
	Among []string `json:"among"` // names of the faults
}

// Tests by class.
var Tests = map[Class]Test{
	HeldLow:     {Measure, "supply", "V", "Measure the voltage between the unit's supply pin and ground.", "A line that is held low comes from a unit without power or one held in reset.", []string{"no-power", "held-in-reset"}},
	Silent:      {Bridge, "adapter, plug", "", "Pull the plug off the unit. Bridge the two data pins at the adapter, then at the far end of the lead; the tool sends and listens each time.", "What does not come back is lost in the adapter, in the lead, or behind it.", []string{"crossed", "wire-from-unit-open", "dead-adapter"}},
	Deaf:        {Measure, "transmit", "V", "Measure the voltage between the adapter's transmit pin and ground while nothing is sent.", "The unit speaks, so its power and one wire are right; it hears either nothing or too little.", []string{"wire-to-unit-open", "level-too-low"}},
	Echo:        {Look, "lead-off", "", "Pull the lead off the adapter. Does what is sent still come back?", "The echo comes from the adapter itself, or from the lead and the unit.", []string{"data-wires-touch", "one-wire-lead"}},
	Setting:     {ByTool, "", "", "The tool has tried the usual speeds and parities.", "Only one setting decodes what the unit says.", []string{"other-speed", "other-parity", "inverted"}},
	Rubbish:     {Measure, "ground", "Ω", "Measure the resistance between the adapter's ground and the unit's, with the power off.", "Without ground every line picks up noise.", []string{"ground-open", "interference"}},
	Program:     {ByTool, "", "", "The tool has reset the unit and listened for its banner.", "A unit that restarts into its program lacks the strap; one that does not restart lacks the reset.", []string{"strap-missing", "reset-line-off", "not-switched-off"}},
	OtherLoader: {ByTool, "", "", "The tool has asked with the loaders of the other models.", "Somebody answered.", []string{"another-model", "another-loader"}},
	Lossy:       {ByTool, "", "", "The tool has asked again at a lower speed.", "A lead that is too long is sound at a lower speed, a loose contact is not.", []string{"loose-wire", "long-lead"}},
	Late:        {ByTool, "", "", "The tool has asked the serial server, or the CAN adapter, by itself.", "A slow way delays the server's own answers too, and an adapter that holds back its own.", []string{"adapter-holds-back", "network-late"}},
	Stops:       {Measure, "supply", "V", "Measure the voltage at the unit's supply pin, and check again meanwhile: the lowest that it shows counts.", "Answers that are sound and then stop speak for a supply that gives way, or a plug that comes off; a loose contact loses some here and there.", []string{"supply-gives-way"}},
	Restarts:    {Measure, "supply", "V", "Measure the voltage at the unit's supply pin while it starts.", "Only a supply that gives way restarts a unit again and again.", []string{"supply-sags"}},
}

// Answer is what a test gave.
type Answer struct {
	Value float64         `json:"value"`          // of a measurement
	Came  map[string]bool `json:"came,omitempty"` // bridges: whether what was sent came back, by place
	Yes   bool            `json:"yes"`            // of a question
}

// Classify puts what was seen into a class. It is a pure function.
func Classify(s Seen) Class {
	switch {
	case s.Loader && s.Other == "":
		switch {
		case s.Proof.Stopped():
			return Stops
		case s.Proof.Median > s.Due+late && s.Proof.Share() <= loader.MostLost: // one that comes too late counts as lost
			return Late
		case s.Proof.Share() > 0.02:
			return Lossy
		}
		return Sound
	case s.Other != "":
		return OtherLoader
	case s.Restarts > 1:
		return Restarts
	case s.Echo && s.Heard == 0:
		return Echo
	case s.Decodes != nil, s.Held && s.Heard > 4:
		return Setting
	case s.Held:
		return HeldLow
	case s.Version != "":
		return Program
	case s.Banner != "":
		return Deaf
	case s.Heard > 0:
		return Rubbish
	}
	return Silent
}

// late is what an answer may take beside the line's own time before it counts as
// late.
const late = 8 * time.Millisecond

// Needs tells whether a person must answer the class's test before the fault can
// be named.
func Needs(c Class) bool { return c != Sound && Tests[c].Kind != ByTool }

// Where a level is still one, as a share of the voltage that the sheet names. A sheet
// that names none is taken as of a unit at the usual voltage.
const (
	high   = 0.75 // the least of a signal that rests high
	stands = 0.9  // the least of a supply that does not give way
	usual  = 3.3  // V
)

// Name names the fault of a class by the answer to its test. An answer that suits
// no member is an error of kind cannot-tell.
func Name(s Seen, a Answer) (Fault, error) {
	c := Classify(s)
	name := ""
	switch c {
	case HeldLow:
		name = pick(a.Value < 1, "no-power", "held-in-reset")
	case Silent:
		switch {
		case !a.Came["adapter"]:
			name = "dead-adapter"
		case !a.Came["plug"]:
			name = "wire-from-unit-open"
		default:
			name = "crossed"
		}
	case Deaf:
		name = pick(a.Value < high*cmp.Or(s.Volts, usual), "level-too-low", "wire-to-unit-open")
	case Echo:
		name = pick(a.Yes, "one-wire-lead", "data-wires-touch")
	case Setting:
		switch {
		case s.Decodes == nil:
			name = "inverted"
		case s.Decodes.Baud != s.Asked.Baud:
			name = "other-speed"
		default:
			name = "other-parity"
		}
	case Rubbish:
		name = pick(a.Value > 10, "ground-open", "interference")
	case Program:
		switch {
		case s.Waits:
			name = "not-switched-off"
		case s.Banner != "":
			name = "strap-missing"
		default:
			name = "reset-line-off"
		}
	case OtherLoader:
		name = pick(s.OtherKind == s.Kind, "another-model", "another-loader")
	case Lossy:
		name = pick(s.Slower != nil && s.Slower.Share() <= 0.02, "long-lead", "loose-wire")
	case Late:
		name = pick(s.Server > s.Proof.Median/2, "network-late", "adapter-holds-back")
	case Stops:
		if a.Value > stands*cmp.Or(s.Supply, s.Volts, usual) {
			return Fault{}, core.Fail(core.CannotTell, "the answers stop, though the supply stands at %.1f V", a.Value).
				Do("Press every plug home and look at the lead where it bends; then check again.")
		}
		name = "supply-gives-way"
	case Restarts:
		if a.Value > stands*cmp.Or(s.Supply, s.Volts, usual) {
			return Fault{}, core.Fail(core.CannotTell, "the unit restarts again and again, though its supply stands at %.1f V", a.Value).
				Do("Look for a loose supply plug; then check again.")
		}
		name = "supply-sags"
	default:
		return Fault{}, core.Fail(core.CannotTell, "nothing is wrong on this link")
	}
	return Faults[name], nil
}

func pick(yes bool, a, b string) string {
	if yes {
		return a
	}
	return b
}

// Words say what was seen, in order, for a person.
func (s Seen) Words() (all []core.Said) {
	add := func(said core.Said) { all = append(all, said) }
	if s.Held {
		add(core.Say("The line stood low before anything was asked."))
	}
	switch {
	case s.Loader:
		add(core.Say("The loader answered %d of %d questions, in %s at the middle.", s.Proof.Asked-s.Proof.Lost, s.Proof.Asked, s.Proof.Median.Round(100*time.Microsecond)))
	case s.Other != "":
		add(core.Say("Not the loader that was called: %s answered.", s.Other))
	case s.Asked.Baud == 0:
		add(core.Say("Nothing answered as a %s.", s.Kind))
	default:
		add(core.Say("The loader %s did not answer at %d baud.", s.Kind, s.Asked.Baud))
	}
	if s.Adapter > 0 {
		add(core.Say("The CAN adapter answers by itself in %s.", s.Adapter.Round(100*time.Microsecond)))
	}
	if s.Loader && s.Proof.Stopped() {
		add(core.Say("Its answers were sound, and then stopped: the last %d questions got none.", s.Proof.Tail))
	}
	if s.Echo {
		add(core.Say("What was sent came back."))
	}
	if s.Restarts > 1 {
		add(core.Say("The unit started %d times within a second.", s.Restarts))
	}
	if s.Banner != "" {
		add(core.Say("After a reset the program said %q.", s.Banner))
	}
	if s.Version != "" {
		add(core.Say("The program answers: it is version %s.", s.Version))
	}
	if s.Decodes != nil {
		add(core.Say("What it says can be read at %d baud, parity %s.", s.Decodes.Baud, s.Decodes.Parity))
	}
	if s.Heard > 0 && s.Banner == "" && s.Version == "" && !s.Loader {
		add(core.Say("%d bytes came that mean nothing, %d without a stop bit.", s.Heard, s.Framing))
	}
	if s.Heard == 0 && !s.Loader && s.Other == "" && !s.Held && !s.Echo {
		add(core.Say("Nothing came at all."))
	}
	return all
}

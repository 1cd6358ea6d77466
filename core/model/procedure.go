package model

import (
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// The kinds of item of a procedure: what a person does, and what the tool does.
const (
	Confirm = "confirm" // a person says that it is so
	Choose  = "choose"  // a person says which
	Measure = "measure" // a person reads a value, within limits
	Photo   = "photo"   // a person takes a picture
	Wires   = "wires"   // a person looks at the wires a second time, and says which colours they have
	Apply   = "apply"   // a person acts while the tool calls; the loader's answer is the sign
	SetLine = "line"    // the tool sets a modem line
	WaitFor = "wait"    // the tool waits for a text
	Check   = "check"   // the tool proves the link
	ReadOut = "read"    // the tool asks the program for its version
	Reach   = "reach"   // the tool asks the unit where its users meet it on the network
	Start   = "start"   // the tool starts the unit once more, out of its loader
	Enter   = "enter"   // a person types the value of a setting
	Give    = "give"    // a person hands over what belongs to the unit, and says to whom
)

// The stages of a procedure, in the order of the work.
const (
	AtHazard  = "hazard"
	AtTool    = "tool"
	AtPrepare = "prepare" // open, solder, cut, bridge
	AtFound   = "found"   // as found
	AtConnect = "connect"
	AtPower   = "power"
	AtBetween = "between" // before a section of several
	AtSet     = "set"     // what its settings are to be, before anything is written; the tool's own items
	AtLeft    = "left"    // after the write: undo, as left, the finishing test
)

// Stages in their order.
var Stages = []string{AtHazard, AtTool, AtPrepare, AtFound, AtConnect, AtPower, AtBetween, AtSet, AtLeft}

// Procedure is the ordered way to service a model, for the revisions that When
// names.
type Procedure struct {
	Name      string   `yaml:"name" json:"name"`
	Edition   int      `yaml:"edition" json:"edition"`
	When      []Rule   `yaml:"when" json:"when,omitempty"`
	Place     string   `yaml:"place" json:"place"` // bench, in-place
	Takes     string   `yaml:"takes" json:"takes"` // a duration, such as 12m
	Meanwhile Words    `yaml:"meanwhile" json:"meanwhile,omitempty"`
	Test      Words    `yaml:"test" json:"test,omitempty"` // what counts as done
	Supply    *Supply  `yaml:"supply" json:"supply,omitempty"`
	Wiring    []Wiring `yaml:"wiring" json:"wiring,omitempty"` // one for each adapter
	Proven    []Tried  `yaml:"proven" json:"proven,omitempty"`
	Failed    []Tried  `yaml:"failed" json:"failed,omitempty"`
	Items     []Item   `yaml:"items" json:"items"`
}

// Supply is the one source that powers the unit.
type Supply struct {
	From  string  `yaml:"from" json:"from"` // adapter, own, none
	Volts float64 `yaml:"volts" json:"volts"`
	Pin   string  `yaml:"pin" json:"pin,omitempty"`
	Says  Words   `yaml:"says" json:"says,omitempty"`
}

// Tried says on what the procedure is proven, or known to fail.
type Tried struct {
	When []Rule `yaml:"when" json:"when"`
	Says Words  `yaml:"says" json:"says,omitempty"`
}

// Wiring joins the unit's connector with that of an adapter.
type Wiring struct {
	Adapter  string    `yaml:"adapter" json:"adapter"`       // its name, as in wants
	Volts    float64   `yaml:"volts" json:"volts,omitempty"` // of its signals; 0: not told
	Inverted bool      `yaml:"inverted" json:"inverted,omitempty"`
	Unit     Connector `yaml:"unit" json:"unit"`
	Tool     Connector `yaml:"tool" json:"tool"`
	Selector string    `yaml:"selector" json:"selector,omitempty"` // position of the adapter's switch
	Wires    []Wire    `yaml:"wires" json:"wires"`
}

// Connector is a row of pins, counted from a named edge.
type Connector struct {
	Name string `yaml:"name" json:"name"`
	Edge Words  `yaml:"edge" json:"edge"` // where pin one is
	Pins []Pin  `yaml:"pins" json:"pins"` // in their order, from pin one
}

// Pin is one contact.
type Pin struct {
	Name string `yaml:"name" json:"name"`
	Job  string `yaml:"job" json:"job"` // ground, transmit, receive, data, supply, strap, reset, empty
	Says Words  `yaml:"says" json:"says,omitempty"`
}

// Wire joins a pin of the tool with one of the unit, by their numbers from 1.
type Wire struct {
	Tool   int    `yaml:"tool" json:"tool"`
	Unit   int    `yaml:"unit" json:"unit"`
	Colour string `yaml:"colour" json:"colour,omitempty"` // usual colour; the person says which was used
}

// Item is one thing to do.
type Item struct {
	ID      string        `yaml:"id" json:"id"`
	Do      string        `yaml:"do" json:"do" enum:"confirm,choose,measure,photo,wires,apply,line,wait,check,read,reach,start,enter,give"`
	At      string        `yaml:"at" json:"at" enum:"hazard,tool,prepare,found,connect,power,between,set,left"`
	Says    Words         `yaml:"says" json:"says"`
	Why     Words         `yaml:"why" json:"why,omitempty"`
	Signs   []Sign        `yaml:"signs" json:"signs,omitempty"`
	When    []Rule        `yaml:"when" json:"when,omitempty"`
	Choices []Choice      `yaml:"choices" json:"choices,omitempty"`
	Fact    string        `yaml:"fact" json:"fact,omitempty"` // that the answer becomes
	Unit    string        `yaml:"unit" json:"unit,omitempty"` // of a measured value
	Least   float64       `yaml:"least" json:"least,omitempty"`
	Most    float64       `yaml:"most" json:"most,omitempty"`
	Line    link.Line     `yaml:"line" json:"line,omitempty"`
	On      bool          `yaml:"on" json:"on,omitempty"`
	Text    string        `yaml:"text" json:"text,omitempty"` // regular expression that is waited for
	Within  time.Duration `yaml:"within" json:"within,omitempty"`
	Where   string        `yaml:"where" json:"where,omitempty"` // of a reach: an address, or the name of the setting that holds it
	Port    int           `yaml:"port" json:"port,omitempty"`
	Path    string        `yaml:"path" json:"path,omitempty"`       // of a web page; without it what the port itself says
	Undo    string        `yaml:"undo" json:"undo,omitempty"`       // the item that takes it back
	Again   string        `yaml:"again" json:"again,omitempty"`     // the item at found whose question it asks once more
	Section string        `yaml:"section" json:"section,omitempty"` // at between: the section before which it stands
	After   string        `yaml:"after" json:"after,omitempty"`     // at between: only once this section was changed by the run
	Reading bool          `yaml:"reading" json:"reading,omitempty"` // at between: before the section is read, too
	Test    bool          `yaml:"test" json:"test,omitempty"`       // at left: the finishing test, or a part of it
	Draw    []Stroke      `yaml:"draw" json:"draw,omitempty"`

	// Of the tool's own items: the messages in Says and Why.
	SaysBy *core.Said  `yaml:"-" json:"saysBy,omitempty"`
	WhyBy  []core.Said `yaml:"-" json:"whyBy,omitempty"`

	// Of the tool's own items about a setting.
	Setting string `yaml:"-" json:"setting,omitempty"` // that the answer is for
	Secret  bool   `yaml:"-" json:"secret,omitempty"`  // the answer is sealed before it is kept
	Offers  bool   `yaml:"-" json:"offers,omitempty"`  // a secret was made for it, which the answer "offered" takes
	Leaves  bool   `yaml:"-" json:"leaves,omitempty"`  // it may be left as it is, by name and with a reason
}

// Saying is the item in the words of messages: what is to be done, and why.
func (i Item) Saying(says core.Said, why ...core.Said) Item {
	i.Says, i.SaysBy, i.Why, i.WhyBy = Words{"en": says.Text}, &says, nil, why
	if len(why) > 0 {
		i.Why = Words{"en": core.Texts(why, " ")}
	}
	return i
}

// Asks is what is to be done: a message where the tool asks, and the procedure's own words.
func (i Item) Asks() core.Said {
	if i.SaysBy != nil {
		return *i.SaysBy
	}
	return core.Said{Text: i.Says.In("en")}
}

// ask gives an item the question that this one asks, where it has none of its own.
func (i *Item) ask(of *Item) {
	if len(of.Choices) == 0 {
		of.Choices = i.Choices
	}
	if of.Unit == "" {
		of.Unit, of.Least, of.Most = i.Unit, i.Least, i.Most
	}
}

// Asked is the item with its whole question: one that asks again needs to name
// only the first.
func (p *Procedure) Asked(i Item) Item {
	if was, ok := p.Item(i.Again); ok {
		was.ask(&i)
	}
	return i
}

// PlaceBench is the place of a procedure that is gone through at a bench.
const PlaceBench = "bench"

// SecondLook is the id of the item that asks for a second look at the wires. Every
// procedure that has wires gets one before there is power, if it has none itself.
const SecondLook = "second-look"

// Look is that item.
func Look() Item {
	return Item{ID: SecondLook, Do: Wires, At: AtConnect}.Saying(core.Say("Look at every wire a second time, from pin 1 on."),
		core.Say("The next step brings power. Say which colours the wires have this time."))
}

// WhichUnit is the id of the item that asks whether the unit to which the tool speaks is
// the one in front of the person. It is asked at the bench where other units of the model
// are plugged in as well.
const WhichUnit = "which-unit"

// Which is that item, of a unit at a link and those beside it.
func (s *Sheet) Which(serial, link string, beside []string) Item {
	i := Item{ID: WhichUnit, Do: Confirm, At: AtPower}.Saying(core.Say("%s, at %s: is it the one that you have in hand? Read its label.", serial, link),
		core.Say("Others of this model were found at this bench lately: %s. What you switch, strap or press is to be done to the one that is written.", strings.Join(beside, ", ")))
	if len(s.Sign) > 0 && s.Main().Loader.Await == 0 { // one that is called at its power-up is not spoken to yet
		i.Signs = []Sign{{Says: s.Sign}}
	}
	return i
}

// ByTool tells whether the tool does it alone.
func (i Item) ByTool() bool {
	switch i.Do {
	case SetLine, WaitFor, Check, ReadOut, Reach, Start:
		return true
	}
	return false
}

// Sign is what right looks like, or what must not be seen.
type Sign struct {
	Says Words `yaml:"says" json:"says"`
	Not  bool  `yaml:"not" json:"not,omitempty"`
}

// Choice is one answer.
type Choice struct {
	Value string `yaml:"value" json:"value"`
	Says  Words  `yaml:"says" json:"says"`
}

// Duration is how long the procedure takes.
func (p *Procedure) Duration() time.Duration {
	d, _ := time.ParseDuration(p.Takes) // the sheet was checked
	return d
}

// Item finds an item by its id.
func (p *Procedure) Item(id string) (*Item, bool) {
	i := slices.IndexFunc(p.Items, func(i Item) bool { return i.ID == id })
	if i < 0 {
		return nil, false
	}
	return &p.Items[i], true
}

// checkProcedures finds what the schema cannot.
func (s *Sheet) checkProcedures() error {
	seen := map[string]bool{}
	for i := range s.Procedures {
		p := &s.Procedures[i]
		of := "procedure " + p.Name
		if seen[p.Name] {
			return core.Fail(core.BadFile, "procedures.%d.name: %s is there twice", i, p.Name)
		}
		seen[p.Name] = true
		if d, err := time.ParseDuration(p.Takes); err != nil || d <= 0 {
			return core.Fail(core.BadFile, "procedures.%d.takes: %q is not a duration; write it like 12m", i, p.Takes)
		}
		rules := slices.Clone(p.When)
		for _, t := range append(slices.Clone(p.Proven), p.Failed...) {
			rules = append(rules, t.When...)
		}
		for _, item := range p.Items {
			rules = append(rules, item.When...)
		}
		for _, r := range rules {
			if err := s.CheckRule(of, r); err != nil {
				return err
			}
		}
		for n, w := range p.Wiring {
			if err := w.check(fmt.Sprintf("procedures.%d.wiring.%d", i, n)); err != nil {
				return err
			}
		}
		if err := p.checkItems(i, s); err != nil {
			return err
		}
	}
	return nil
}

func (w Wiring) check(at string) error {
	for n, x := range w.Wires {
		if x.Tool < 1 || x.Tool > len(w.Tool.Pins) || x.Unit < 1 || x.Unit > len(w.Unit.Pins) {
			return core.Fail(core.BadFile, "%s.wires.%d: it joins pins %d and %d; the tool has %d pins, the unit %d", at, n, x.Tool, x.Unit, len(w.Tool.Pins), len(w.Unit.Pins))
		}
		tool, unit := w.Tool.Pins[x.Tool-1], w.Unit.Pins[x.Unit-1]
		if want := partner[tool.Job]; want != unit.Job {
			return core.Fail(core.BadFile, "%s.wires.%d: the tool's %s (%s) goes to the unit's %s (%s); a %s pin goes to a %s pin", at, n, tool.Name, tool.Job, unit.Name, unit.Job, tool.Job, want)
		}
	}
	return nil
}

// partner is what a pin of the tool must meet: the data lines cross.
var partner = map[string]string{"ground": "ground", "transmit": "receive", "receive": "transmit", "data": "data", "supply": "supply", "strap": "strap", "reset": "reset"}

func (p *Procedure) checkItems(i int, s *Sheet) error {
	ids := map[string]bool{}
	stage := 0
	for n, item := range p.Items {
		bad := func(format string, args ...any) error {
			return core.Fail(core.BadFile, format, args...).Under(fmt.Sprintf("procedures.%d.items.%d (%s)", i, n, item.ID))
		}
		if ids[item.ID] {
			return bad("the id is there twice")
		}
		ids[item.ID] = true
		at := slices.Index(Stages, item.At)
		if at < stage {
			return bad("it is at %s, behind an item at %s; the stages are %v, in this order", item.At, Stages[stage], Stages)
		}
		stage = at
		if item.Undo != "" {
			back, ok := p.Item(item.Undo)
			if !ok || back.At != AtLeft {
				return bad("undo names %q, which is no item at left", item.Undo)
			}
		}
		if item.Again != "" {
			was, ok := p.Item(item.Again)
			if !ok || was.At != AtFound || item.At != AtLeft || was.Do != item.Do {
				return bad("again names %q; it is for an item at left, and names one at found of the same kind", item.Again)
			}
			was.ask(&item)
		}
		if err := s.checkBetween(item); err != nil {
			return bad("%w", err)
		}
		switch item.Do {
		case Choose:
			if len(item.Choices) < 2 {
				return bad("a choice has at least two choices")
			}
		case Measure:
			if item.Unit == "" || item.Least > item.Most {
				return bad("a measurement has a unit, and least is not above most")
			}
		case SetLine:
			if item.Line != link.DTR && item.Line != link.RTS {
				return bad("line is %q; expected dtr or rts", item.Line)
			}
		case WaitFor:
			if _, err := regexp.Compile(item.Text); err != nil || item.Text == "" || item.Within <= 0 {
				return bad("a wait has a text, a regular expression, and a time within which it comes")
			}
		case Reach:
			if _, err := regexp.Compile(item.Text); err != nil || item.At != AtLeft || item.Where == "" || item.Port < 1 || item.Port > 65535 || item.Within <= 0 {
				return bad("a reach is at left, and has where, a port, and a time within which the unit answers; its text is a regular expression")
			}
			if net.ParseIP(item.Where) == nil && s.SettingNamed(item.Where) == nil {
				return bad("where is %q; expected an address, or the name of a setting of this sheet", item.Where)
			}
		case Start:
			if item.At != AtLeft || !s.Main().Loader.Serial().Lines() {
				return bad("a start is at left, of a model whose loader is left by its lines; elsewhere a person does it")
			}
		case Give:
			if item.At != AtLeft {
				return bad("a give is at left: what belongs to the unit is handed over when the work is done")
			}
		case Apply:
			if s.Main().Loader.Await == 0 || item.At != AtPower {
				return bad("apply is for the stage power of a model whose loader has await")
			}
		}
	}
	return nil
}

// checkBetween finds what is wrong with what an item says of sections, and with a
// test that is none.
func (s *Sheet) checkBetween(i Item) error {
	named := func(name string) bool { _, ok := s.Section(name); return name != "" && ok }
	switch {
	case i.At == AtBetween && !named(i.Section):
		return core.Fail(core.BadFile, "an item at between names the section before which it stands; %q is none, expected %s", i.Section, s.sectionNames())
	case i.At != AtBetween && (i.Section != "" || i.After != "" || i.Reading):
		return core.Fail(core.BadFile, "section, after and reading are for items at between")
	case i.After != "" && !named(i.After):
		return core.Fail(core.BadFile, "after names %q, which is no section; expected %s", i.After, s.sectionNames())
	case i.After != "" && i.Reading:
		return core.Fail(core.BadFile, "nothing is changed yet when a section is read; an item has after or reading")
	case i.Test && i.At != AtLeft:
		return core.Fail(core.BadFile, "a finishing test is an item of the stage left")
	}
	return nil
}

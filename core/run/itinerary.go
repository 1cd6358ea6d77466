package run

import (
	"slices"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/words"
)

// Phase is what a leg of an itinerary does: to one section, or to the run.
type Phase string

// The phases, in the order of the work. Paused and Ended do nothing.
const (
	PhaseCard     Phase = "card"          // the procedure is laid out
	PhaseHands    Phase = "hands"         // items of a person or the tool, before there is power
	PhasePower    Phase = "power"         // items at the power; done again after every interruption
	PhaseTurn     Phase = "turn"          // items between, before a section is read
	PhaseIdentify Phase = "identify"      // who is on the wire
	PhaseJudge    Phase = "fit"           // whether the release fits
	PhaseProve    Phase = "prove"         // whether the line carries
	PhaseKeep     Phase = "backup"        // what the section holds
	PhaseStore    Phase = "store"         // of all that was kept, at the service
	PhaseRead     Phase = "settings-read" // what the section is set to, where nothing else of it is changed
	PhaseLay      Phase = "wanted"        // what each setting is to be
	PhaseAsk      Phase = "ask"           // items about that
	PhasePlan     Phase = "plan"          // what is to be changed
	PhaseReady    Phase = "ready"         // items between, before a section is changed
	PhaseWatch    Phase = "conditions"    // under which the unit may be written
	PhaseSame     Phase = "same-unit"     // it is still the unit that was identified
	PhaseSurvey   Phase = "survey"        // what an interrupted change has left
	PhaseUnlock   Phase = "unlock"        // the protection is lifted, which erases
	PhaseChange   Phase = "flash"
	PhaseVerify   Phase = "verify"
	PhaseSent     Phase = "sent"     // in place of verify, where the loader takes a whole file and is over then
	PhaseSettings Phase = "settings" // put back
	PhaseLock     Phase = "lock"     // set again
	PhaseOwn      Phase = "own"      // the unit's own loader answers again, after a write around it
	PhaseStart    Phase = "start"    // the program runs, and is asked for its version
	PhaseLeft     Phase = "left"     // items after the work: as left, the finishing test
	PhaseClose    Phase = "close-out"
	PhasePaused   Phase = "paused"
	PhaseEnded    Phase = "ended"
)

// Stop is the stop on the line of a run at which a phase stands, as faces know
// them: every phase of hands is one.
func (p Phase) Stop() Phase {
	switch p {
	case PhasePower, PhaseTurn, PhaseReady, PhaseLeft:
		return PhaseHands
	case PhaseLay, PhaseRead:
		return PhaseKeep
	case PhaseUnlock:
		return PhaseChange
	case PhaseWatch:
		return PhaseSame
	case PhaseSent:
		return PhaseVerify
	case PhaseOwn:
		return PhaseStart
	}
	return p
}

// Leg is an entry of the itinerary: a phase of one section, or of the whole run.
type Leg struct {
	Phase   Phase  `json:"phase"`
	Section string `json:"section,omitempty"`
	Again   bool   `json:"again,omitempty"` // once more, after the run was taken up in the middle
}

// Place is a section as the run goes by it.
type Place struct {
	Name   string      `json:"name"`
	Title  model.Words `json:"title,omitempty"`
	Link   string      `json:"link,omitempty"`   // BENCH/LINK where it is not the run's own
	Own    string      `json:"own,omitempty"`    // BENCH/LINK of the unit's own lead, where a helper tool at its programming header is on the run's
	Main   bool        `json:"main,omitempty"`   // it holds the unit's own program
	Part   bool        `json:"part,omitempty"`   // this run reads or writes it
	Whole  bool        `json:"whole,omitempty"`  // its loader takes a whole file, and is over then
	Files  bool        `json:"files,omitempty"`  // it holds files
	Tells  bool        `json:"tells,omitempty"`  // its program can be asked for its version
	Expect string      `json:"expect,omitempty"` // what that should say at the end
	Set    bool        `json:"set,omitempty"`    // its sheet says what it can be set to
	ByHand bool        `json:"byHand,omitempty"` // and a person reads and enters that at the unit's display
	Bytes  bool        `json:"bytes,omitempty"`  // or its memory holds it, in sectors that are written whole
	Watch  bool        `json:"watch,omitempty"`  // it tells of conditions that its sheet wants for a write
}

// Lay makes the itinerary of a run: everything is identified, judged and kept
// before the first section is changed; then one section after the other, each with
// what hands do before it.
func Lay(kind string, places []Place) []Leg {
	legs := []Leg{{Phase: PhaseCard}, {Phase: PhaseHands}, {Phase: PhasePower}}
	all := func(do func(p Place)) {
		for _, p := range places {
			if p.Part || p.Main {
				do(p)
			}
		}
	}
	leg := func(p Place, phases ...Phase) {
		for _, phase := range phases {
			legs = append(legs, Leg{Phase: phase, Section: p.Name})
		}
	}
	end := func() []Leg { // what hands enter is known once they have
		legs = append(legs, Leg{Phase: PhaseLeft})
		all(func(p Place) {
			if p.Part && p.ByHand {
				leg(p, PhaseSettings)
			}
		})
		return append(legs, Leg{Phase: PhaseClose})
	}
	all(func(p Place) { leg(p, PhaseTurn, PhaseIdentify) })
	if kind != BackUp {
		legs = append(legs, Leg{Phase: PhaseJudge})
	}
	all(func(p Place) {
		switch {
		case p.Part && kind == SetUp && !p.Bytes:
			leg(p, PhaseTurn, PhaseProve, PhaseRead)
		case p.Part:
			leg(p, PhaseTurn, PhaseProve, PhaseKeep)
		}
	})
	legs = append(legs, Leg{Phase: PhaseStore})
	if kind == BackUp {
		all(func(p Place) {
			if p.Main && p.Own == "" { // behind a header nobody knows whether its program runs, nor its loader
				leg(p, PhaseTurn, PhaseStart)
			}
		})
		return append(legs, Leg{Phase: PhaseLeft}, Leg{Phase: PhaseClose})
	}
	all(func(p Place) {
		if p.Part && p.Set && kind != Restore {
			leg(p, PhaseLay, PhaseAsk)
		}
	})
	if kind == SetUp {
		all(func(p Place) {
			if p.Part {
				leg(p, PhaseTurn, PhaseSame)
			}
			if p.Part && !p.ByHand {
				leg(p, PhaseSettings)
			}
			if p.Main {
				leg(p, PhaseStart)
			}
		})
		return end()
	}
	all(func(p Place) {
		if p.Part {
			leg(p, PhasePlan)
		}
	})
	all(func(p Place) {
		if !p.Part {
			leg(p, PhaseTurn, PhaseStart)
			return
		}
		leg(p, PhaseReady)
		legs = append(legs, Leg{PhaseKeep, p.Name, true}, Leg{PhaseStore, "", true}, Leg{PhasePlan, p.Name, true})
		if p.Watch {
			leg(p, PhaseWatch)
		}
		leg(p, PhaseSame, PhaseSurvey, PhaseUnlock, PhaseChange)
		if p.Whole {
			leg(p, PhaseSent)
		} else {
			leg(p, PhaseVerify)
		}
		if !p.ByHand {
			leg(p, PhaseSettings)
		}
		leg(p, PhaseLock)
		if p.Own != "" {
			leg(p, PhaseOwn)
		}
		leg(p, PhaseStart)
	})
	return end()
}

// Lay writes sections and itinerary into the opening event of a run. links are the
// further links of the unit by the name that its sheet gives them; release may be nil.
func (o *Opened) Lay(sheet *model.Sheet, release *model.Release, links map[string]string) error {
	o.Sections = nil
	sheet, err := o.through(sheet)
	if err != nil {
		return err
	}
	for i := range sheet.Sections {
		d := &sheet.Sections[i]
		kind, err := registry.Loader(d.Loader.Kind)
		if err != nil {
			return err
		}
		limits := kind.Limits(d.Loader.Own)
		p := Place{Name: d.Name, Title: d.Title, Link: links[d.Link], Own: o.Own, Main: d == sheet.Main(), Whole: limits.Has(loader.File), Files: d.Files != nil, Tells: d.Tells(), Watch: limits.Watches, Set: d.Settings != nil,
			ByHand: d.Settings.Is(model.SettingsOnDisplay), Bytes: d.Settings.Is(model.SettingsInMemory)}
		switch o.Kind {
		case BackUp:
			p.Part = true
		case SetUp:
			p.Part = p.Set
		case Restore:
			p.Part = !o.Source.Of(&Section{Place: p}).IsZero()
		case Flash:
			for _, part := range sheet.In(release, d) {
				p.Part = true
				if part.Runs != "" {
					p.Expect = part.Runs
				}
			}
		}
		if o.left(d.Name) && !p.Main {
			p.Part = false
		}
		if p.Main && p.Expect == "" {
			p.Expect = o.Version
		}
		if (p.Part || p.Main) && d.Link != "" && p.Link == "" {
			return core.Fail(core.CannotTell, "section %s is on a link of its own (%s), and nobody has said which that is", d.Name, d.Link).
				Unit("nothing was changed").Go(words.LeadAt(d.Link).To("Say on which link it is"))
		}
		o.Sections = append(o.Sections, p)
	}
	o.Itinerary = Lay(o.Kind, o.Sections)
	return nil
}

// through is the sheet as the run goes by it.
func (o *Opened) through(sheet *model.Sheet) (*model.Sheet, error) {
	if o.Own == "" {
		return sheet, nil
	}
	return sheet.Through()
}

// left tells whether the job leaves a section as it is.
func (o *Opened) left(section string) bool {
	return slices.ContainsFunc(o.Left, func(l Left) bool { return l.Section == section })
}

// before is the itinerary of a run that was opened before itineraries were kept:
// one section, and for the first engine neither card nor proof.
func before(o *Opened) ([]Place, []Leg) {
	places := []Place{{Name: model.TheOne, Main: true, Part: true, Tells: true, Expect: o.Version}}
	var legs []Leg
	for _, l := range Lay(o.Kind, places) {
		switch l.Phase {
		case PhaseCard, PhaseHands, PhasePower, PhaseProve, PhaseLeft:
			if o.Engine == engineOne || o.Engine == "" {
				continue
			}
		}
		legs = append(legs, l)
	}
	return places, legs
}

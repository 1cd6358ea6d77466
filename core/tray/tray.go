// Package tray holds what is decided for many units that get the same release in one go:
// which of them is begun next and which is not, when the tray stops, and for which of them a
// hand is wanted first. A tray is the sum of its events and of how its runs stand; each unit
// is written by a run of its own (core/run), which a tray only names. The bench tells who is
// on a link; nobody is begun twice, and nobody is left out without a name.
package tray

import (
	"encoding/json"
	"fmt"
	"slices"

	"zealousferry/core"
	"zealousferry/core/run"
)

// Event is one entry of a tray; numbers are without gaps from 1.
type Event struct {
	N    uint64          `json:"n"`
	At   int64           `json:"at"` // microseconds since 1970 UTC
	By   string          `json:"by"` // person's id
	Kind string          `json:"kind"`
	Body json.RawMessage `json:"body,omitempty"`
}

// The kinds of event.
const (
	KindOpened  = "opened"
	KindPut     = "put"     // a person says that the next unit is on a link
	KindBegan   = "began"   // a unit's run was opened
	KindRefused = "refused" // a unit's run could not be opened
	KindCurrent = "current" // a unit says itself that it runs the release
	KindMet     = "met"     // somebody is on a link who is not begun
	KindLeft    = "left"    // a unit is left out, by name
	KindAgain   = "again"   // a unit may be begun once more, by name
	KindStopped = "stopped" // no further unit is begun
	KindGoesOn  = "goes-on" // in spite of what stopped it, by name
	KindClosed  = "closed"
)

// Unit is a unit of a tray.
type Unit struct {
	Unit   string `json:"unit"`
	Serial string `json:"serial"`
}

// Opened is the beginning.
type Opened struct {
	Tray    string   `json:"tray"`
	Model   string   `json:"model"`
	Release string   `json:"release"`
	Version string   `json:"version"`
	Links   []string `json:"links"` // BENCH/LINK, as they lie on the bench
	Units   []Unit   `json:"units"` // those that are expected
	Any     bool     `json:"any,omitempty"`
	Alone   bool     `json:"alone,omitempty"` // the first goes alone, and opens the rest when it is proven
	Stop    int      `json:"stop,omitempty"`  // as many failures stop it; 0 is never
	Job     uint64   `json:"job"`
	Why     string   `json:"why"`
	Waive   []string `json:"waive,omitempty"` // gates that a lead passes by name for each unit, for that reason
}

// Put says that the next unit is on a link; which one, where a person has read its label.
type Put struct {
	Link string `json:"link"`
	Unit *Unit  `json:"unit,omitempty"`
}

// Seen is a unit on a link.
type Seen struct {
	Unit
	Link string `json:"link"`
}

// Began is a unit's run.
type Began struct {
	Unit
	Link string `json:"link"`
	Run  string `json:"run"`
}

// Refused is why a unit's run could not be opened.
type Refused struct {
	Unit
	Link string    `json:"link"`
	Kind core.Kind `json:"kind"`
	Why  core.Said `json:"why"`
}

// Met is who is on a link and is not begun, and why.
type Met struct {
	Link string    `json:"link"`
	Why  core.Said `json:"why"`
	At   int64     `json:"-"` // of the event
}

// Named is a person's word about a unit, or about the whole tray.
type Named struct {
	Unit   string   `json:"unit,omitempty"`
	Reason string   `json:"reason,omitempty"`
	Over   []string `json:"over,omitempty"` // units whose failures do not stop it any more
}

// Run is how a run of the tray stands.
type Run struct {
	State   string // open, paused, closed
	Outcome run.Outcome
	View    run.View
}

// Place is a unit of the tray, by its number.
type Place struct {
	N      int // from 1
	Unit   Unit
	Link   string // on which it was seen last
	Run    string // the newest
	Refuse *Refused
	Left   string // why it is left out
	Right  bool   // it says itself that it runs the release, and nothing is owed to it
	Again  bool   // it may be begun once more
	By     string
	At     int64
}

// The states of a place.
const (
	NotSeen   = "not-seen"
	AtWork    = "at-work"
	HandsOff  = "hands-off" // its memory is being changed
	Waits     = "waits"     // for a person
	HalfDone  = "half-done" // its run is interrupted
	IsDone    = "done"
	Current   = "current" // it was right already
	NotProven = "not-proven"
	Failed    = "failed"
	Barred    = "refused" // its run was not opened, or has refused it
	LeftOut   = "left-out"
	Again     = "again" // it may be begun once more
)

// State is what the events of a tray add up to.
type State struct {
	Opened  *Opened
	N       uint64 // of the newest event
	Places  []*Place
	Marks   map[string]uint64 // of the newest word that the next unit is on a link
	Met     map[string]Met
	On      map[string]Unit // which units are on links, by a person's word
	Stopped string          // why, by a person
	Stopper string
	Over    map[string]bool // units in spite of whose failures it goes on
	At      int64
	By      string
	Closed  bool
	Closing string
	Ended   int64
}

// Fold adds events up.
func Fold(events []Event) (*State, error) {
	s := &State{Marks: map[string]uint64{}, Met: map[string]Met{}, On: map[string]Unit{}, Over: map[string]bool{}}
	for _, e := range events {
		if err := s.apply(e); err != nil {
			return nil, err
		}
	}
	if s.Opened == nil {
		return nil, fmt.Errorf("a tray has a beginning")
	}
	return s, nil
}

func into[T any](e Event) (v T, err error) {
	if err = json.Unmarshal(e.Body, &v); err != nil {
		err = fmt.Errorf("event %d (%s): %w", e.N, e.Kind, err)
	}
	return v, err
}

// apply takes one event. A kind that is not known is passed over.
func (s *State) apply(e Event) (err error) {
	switch {
	case e.N != s.N+1:
		return fmt.Errorf("event %d of a tray follows event %d", e.N, s.N)
	case (s.Opened == nil) != (e.Kind == KindOpened):
		return fmt.Errorf("event %d is %s; a tray is opened once, at its beginning", e.N, e.Kind)
	case s.Closed:
		return fmt.Errorf("event %d is %s, after the tray was closed", e.N, e.Kind)
	}
	s.N = e.N
	switch e.Kind {
	case KindOpened:
		o, err := into[Opened](e)
		if err != nil {
			return err
		}
		s.Opened, s.At, s.By = &o, e.At, e.By
		for _, u := range o.Units {
			s.place(u)
		}
	case KindPut:
		p, err := into[Put](e)
		if err != nil {
			return err
		}
		s.Marks[p.Link] = e.N
		delete(s.Met, p.Link)
		delete(s.On, p.Link)
		if p.Unit != nil {
			s.place(*p.Unit)
			s.On[p.Link] = *p.Unit
		}
	case KindMet:
		m, err := into[Met](e)
		if err != nil {
			return err
		}
		m.At = e.At
		s.Met[m.Link] = m
	case KindBegan:
		b, err := into[Began](e)
		if err != nil {
			return err
		}
		p := s.place(b.Unit)
		*p = Place{N: p.N, Unit: p.Unit, Link: b.Link, Run: b.Run, By: e.By, At: e.At}
		delete(s.Over, b.Unit.Unit)
		delete(s.Met, b.Link)
		delete(s.On, b.Link)
	case KindCurrent:
		x, err := into[Seen](e)
		if err != nil {
			return err
		}
		p := s.place(x.Unit)
		*p = Place{N: p.N, Unit: p.Unit, Link: x.Link, Run: p.Run, Right: true, By: e.By, At: e.At}
		delete(s.Met, x.Link)
		delete(s.On, x.Link)
	case KindRefused:
		r, err := into[Refused](e)
		if err != nil {
			return err
		}
		p := s.place(r.Unit)
		*p = Place{N: p.N, Unit: p.Unit, Link: r.Link, Run: p.Run, Refuse: &r, By: e.By, At: e.At}
		delete(s.Met, r.Link)
		delete(s.On, r.Link)
	default:
		n, err := into[Named](e)
		if err != nil {
			return err
		}
		return s.named(e, n)
	}
	return nil
}

func (s *State) named(e Event, n Named) error {
	p := s.Find(n.Unit)
	if p == nil && (e.Kind == KindLeft || e.Kind == KindAgain) {
		return fmt.Errorf("event %d (%s) is about a unit that is not on the tray", e.N, e.Kind)
	}
	switch e.Kind {
	case KindLeft:
		p.Left, p.Again, p.By, p.At = n.Reason, false, e.By, e.At
	case KindAgain:
		p.Left, p.Refuse, p.Right, p.Again, p.By, p.At = "", nil, false, true, e.By, e.At
		if p.Link != "" {
			s.Marks[p.Link] = e.N
		}
	case KindStopped:
		s.Stopped, s.Stopper = n.Reason, e.By
	case KindGoesOn:
		s.Stopped, s.Stopper = "", ""
		for _, u := range n.Over {
			s.Over[u] = true
		}
	case KindClosed:
		s.Closed, s.Closing, s.Ended = true, n.Reason, e.At
	}
	return nil
}

// place finds the place of a unit, or gives it the next one.
func (s *State) place(u Unit) *Place {
	if p := s.Find(u.Unit); p != nil {
		return p
	}
	p := &Place{N: len(s.Places) + 1, Unit: u}
	s.Places = append(s.Places, p)
	return p
}

// Find is the place of a unit; nil where it has none.
func (s *State) Find(unit string) *Place {
	i := slices.IndexFunc(s.Places, func(p *Place) bool { return p.Unit.Unit == unit })
	if i < 0 {
		return nil
	}
	return s.Places[i]
}

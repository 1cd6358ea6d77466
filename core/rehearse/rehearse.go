// Package rehearse does a run on a twin of a unit, made from the unit's own backup and its
// sheet, before anything is touched: does it end right, how long does the line take, what
// will be asked, what is lost. The run is core/run itself; only the loader at the other end
// is played, by the rules of the sheet's memory map.
package rehearse

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/advise"
	"zealousferry/core/image"
	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/core/shelf"
)

// Input is what a rehearsal goes by.
type Input struct {
	Opened  run.Opened // as the run would be opened
	Sheet   *model.Sheet
	Release *model.Release
	Links   map[string]string // further links; what they are does not matter
	Held    map[string]Held   // the backup, by section
	Facts   []core.Fact       // what the unit told of itself last
	Get     shelf.Get         // content by digest
	Safe    settings.Safe     // the key under which secrets of the opening event are sealed
	Now     time.Time

	// ByHand has a person go through it: the run is given his answers in their order, and
	// stands where there is none left. Whoever answers one more begins it anew with all of them.
	ByHand  bool
	Answers []procedure.Answer
	Trouble Trouble                   // for who wants to practise it; none where it is empty
	Advise  func(*advise.Input) error // fills in what the team knows for the advice where it stops; may be nil
}

// Asked is what a person would be asked.
type Asked struct {
	Item    string `json:"item"`
	Says    string `json:"says"`
	Setting bool   `json:"setting,omitempty"` // what a setting is to be
	Test    bool   `json:"test,omitempty"`    // whether the unit does what it should
}

// Lost is what the unit has now, and would not have afterwards.
type Lost struct {
	What string    `json:"what"` // setting, region, file
	Name string    `json:"name"`
	Why  core.Said `json:"why"`
}

// Result is how a rehearsal went.
type Result struct {
	Outcome  run.Outcome   `json:"outcome"`
	Reason   string        `json:"reason,omitempty"` // why it did not end well
	Fault    *run.Fault    `json:"fault,omitempty"`
	Version  string        `json:"version,omitempty"` // what its program would say of itself
	Asked    []Asked       `json:"asked"`
	Lost     []Lost        `json:"lost"`
	Settings []Count       `json:"settings"` // how many, by what becomes of them
	Pieces   int           `json:"pieces"`   // sectors or files that are changed
	Moved    Moved         `json:"moved"`
	Line     time.Duration `json:"line"`     // in all, at the pace of the line, without hands
	HandsOff time.Duration `json:"handsOff"` // of it, while memory is changed
	Assumed  []core.Said   `json:"assumed"`  // what the twin cannot know

	// Of one that a person goes through.
	Waits  *run.View      `json:"waits,omitempty"`  // where an answer of his is wanted; what comes after it is not known
	Advice *advise.Advice `json:"advice,omitempty"` // where the run has stopped: his choice is the answer to AtStop
	Chose  string         `json:"chose,omitempty"`  // at the stop with which it ended
	Told   []Told         `json:"told,omitempty"`   // what has happened so far, the newest last
}

// Told is something that happened in a rehearsal.
type Told struct {
	At time.Duration `json:"at"` // since its beginning, at the pace of the line
	core.Said
}

// Count is how many settings go one way.
type Count struct {
	How settings.How `json:"how"`
	N   int          `json:"n"`
}

// Well tells whether the run would end right.
func (r Result) Well() bool { return r.Outcome == run.Done || r.Outcome == run.NothingToDo }

// lasts is how long a rehearsal may take before it is given up.
const lasts = time.Minute

// Of rehearses a run. An error says that there can be no rehearsal; what would go wrong is
// in the result.
func Of(ctx context.Context, in Input) (Result, error) {
	out := Result{Asked: []Asked{}, Lost: []Lost{}, Settings: []Count{}, Assumed: []core.Said{}}
	if _, ok := in.Held[in.Sheet.Main().Name]; !ok {
		return out, core.Fail(core.CannotTell, "there is no backup of %s to make a twin from", in.Opened.Serial)
	}
	stand := &clock{now: in.Now}
	s := &stage{kept: map[core.Digest][]byte{}, get: in.Get, safe: in.Safe, changed: func() {}}
	if err := in.Trouble.check(); err != nil {
		return out, err
	}
	var err error
	if s.twin, err = newTwin(stand, in.Sheet, in.Held, in.Facts, s.blobs); err != nil {
		return out, err
	}
	s.twin.trouble, s.twin.dark = in.Trouble, in.Trouble == StaysDark
	o := in.Opened
	if o.Label == "" {
		o.Label = o.Serial
	}
	if err := o.Lay(in.Sheet, in.Release, in.Links); err != nil {
		return out, err
	}
	for _, x := range o.Sections {
		if _, ok := s.twin.sections[x.Name]; x.Part && !ok {
			return out, core.Fail(core.CannotTell, "the backup of %s has nothing of section %s, which the run would change", o.Serial, x.Name)
		}
	}
	if err := s.twin.aims(in, o, s.blobs); err != nil {
		return out, err
	}
	for _, p := range s.twin.sections {
		for i, r := range p.of.Memory.Regions {
			if p.files == nil && !p.covered[i] {
				out.Assumed = append(out.Assumed, core.Say("the backup does not have region %s, which is taken as erased", r.Name))
			}
		}
		if p.of.Settings != nil && p.of.Settings.By == model.SettingsByLoader && len(p.settings) == 0 {
			out.Assumed = append(out.Assumed, core.Say("nobody has read the settings that its loader keeps"))
		}
	}
	if err := out.play(ctx, s, in, o); err != nil {
		return out, err
	}
	return out, nil
}

// aims are what programs say once the release is in.
func (t *twin) aims(in Input, o run.Opened, get shelf.Get) error {
	for _, x := range o.Sections {
		p := t.sections[x.Name]
		if p == nil || in.Release == nil || p.files != nil {
			continue
		}
		var all []*image.Image
		for _, part := range in.Sheet.In(in.Release, p.of) {
			raw, err := get.One(part.Image)
			if err != nil {
				return err
			}
			im, _, err := registry.Decode(raw, part)
			if err != nil {
				return err
			}
			all = append(all, im)
		}
		expect := x.Expect
		if expect == "" && x.Main {
			expect = o.Version
		}
		if len(all) > 0 && expect != "" {
			p.then = append(p.then, aim{expect, func(p *part) bool { return p.has(all) }})
		}
	}
	return nil
}

// has tells whether memory holds what images hold.
func (p *part) has(all []*image.Image) bool {
	for _, im := range all {
		for _, s := range im.Segments {
			if s.Address < p.base || s.End()-p.base > uint64(len(p.memory)) || !bytes.Equal(p.at(s.Address, uint64(len(s.Data))), s.Data) {
				return false
			}
		}
	}
	return true
}

// likely are answers that a person may give to an item, the likeliest first.
func likely(st *run.State, i *model.Item) (all []procedure.Answer) {
	add := func(value string) {
		all = append(all, procedure.Answer{Item: i.ID, Value: value, By: "rehearsal"})
	}
	if i.Offers {
		add(procedure.Offered)
	}
	if i.Setting != "" && i.At == model.AtSet {
		for _, x := range st.Sections {
			for _, l := range st.Wanted(x) {
				if l.Name == i.Setting && l.Found != nil && !l.Found.Sealed && !l.Public {
					add(l.Found.Value)
				}
			}
		}
	}
	if i.Fact != "" {
		add(st.Fact(i.Fact))
	}
	switch i.Do {
	case model.Measure:
		add(fmt.Sprint((i.Least + i.Most) / 2))
	case model.Photo:
		d := core.DigestOf([]byte("rehearsal"))
		all = append(all, procedure.Answer{Item: i.ID, Value: procedure.Yes, Photo: &d, By: "rehearsal"})
	}
	for _, c := range i.Choices {
		add(c.Value)
	}
	add(procedure.Yes)
	if i.Setting != "" {
		for _, v := range []string{fmt.Sprint(i.Least), "1", "0", "rehearsal-1", "10.0.0.1"} {
			add(v)
		}
		if i.Leaves {
			all = append(all, procedure.Answer{Item: i.ID, Value: procedure.Excused, Note: "rehearsal", By: "rehearsal"})
		}
	}
	return all
}

// read takes out of the journal how it went.
func (out *Result) read(s *stage, in Input, j *run.Journal) {
	st := j.State()
	out.Outcome, out.Fault, out.Moved = st.Outcome(), st.Fault, s.twin.bytes
	switch {
	case st.Fault != nil:
		out.Reason = st.Fault.Message
	case st.Closed != nil:
		out.Reason = st.Closed.Reason
	}
	if x := st.Main(); x != nil && x.Started != nil {
		out.Version = x.Started.Version
	}
	out.Line = s.twin.clock.Now().Sub(in.Now)
	var from, to int64
	for _, e := range j.Events() {
		switch e.Kind {
		case run.KindAboutTo, run.KindSaving:
			if from == 0 {
				from = e.At
			}
			to = e.At
		case run.KindDone, run.KindVerified, run.KindSettled, run.KindStarted:
			to = e.At
		}
	}
	if from > 0 {
		out.HandsOff = time.Duration(to-from) * time.Microsecond
	}
	if in.ByHand {
		out.tell(st, j)
	}
	if s.twin.trouble != "" && out.Waits == nil {
		out.Assumed = append(out.Assumed, core.Say("the trouble did not come: nothing was written in which it could"))
	}
	for _, x := range st.Sections {
		if x.Planned != nil {
			out.Pieces += x.Changing()
		}
		counts := settings.Counts(st.Wanted(x))
		for _, how := range settings.Ways {
			if n := counts[how]; n > 0 {
				out.count(how, n)
			}
		}
		for _, l := range st.Wanted(x) {
			if l.How == settings.Gone && l.Found != nil {
				why := core.Say("the release does not have it")
				if l.Why != nil {
					why = *l.Why
				}
				out.Lost = append(out.Lost, Lost{"setting", l.Title, why})
			}
		}
		if p := s.twin.sections[x.Name]; p != nil {
			out.Lost = append(out.Lost, p.lost(in)...)
		}
	}
}

// tell notes what has happened, as a person reads it.
func (out *Result) tell(st *run.State, j *run.Journal) {
	written := 0 // one after another
	for _, e := range j.Events() {
		x := st.Section(e.Section)
		says := run.Tell(e, x)
		if says.Text == "" {
			continue
		}
		if e.Kind != run.KindDone {
			written = 0
		} else if written++; written > 1 {
			says = core.Say("pieces written: %d", written)
			out.Told = out.Told[:len(out.Told)-1]
		}
		if e.Section != "" && x != nil && len(st.Sections) > 1 {
			says = says.About(x.Title.Or(x.Name))
		}
		out.Told = append(out.Told, Told{time.Duration(e.At-st.OpenedAt) * time.Microsecond, says})
	}
}

func (out *Result) count(how settings.How, n int) {
	for i := range out.Settings {
		if out.Settings[i].How == how {
			out.Settings[i].N += n
			return
		}
	}
	out.Settings = append(out.Settings, Count{how, n})
}

// lost is what was in a section beside its program, and is not any more.
func (p *part) lost(in Input) (all []Lost) {
	for _, r := range p.of.Memory.Regions {
		if p.files != nil || r.Use == memory.Program || r.ReadOnly {
			continue
		}
		was, is := p.before[r.Address-p.base:][:r.Length], p.at(r.Address, r.Length)
		n := 0
		for i := range was {
			if was[i] != is[i] && was[i] != p.of.Memory.Erased {
				n++
			}
		}
		if n > 0 && !(r.Use == memory.Settings && p.of.Settings != nil && p.of.Settings.By == model.SettingsInMemory) {
			all = append(all, Lost{"region", r.Name, core.Say("bytes of it that are written over: %d", n)})
		}
	}
	for name := range p.had {
		if _, stays := p.files[name]; stays {
			continue
		}
		all = append(all, Lost{"file", name, core.Say("the release takes it away")})
	}
	slices.SortFunc(all, func(a, b Lost) int { return strings.Compare(a.What+a.Name, b.What+b.Name) })
	return all
}

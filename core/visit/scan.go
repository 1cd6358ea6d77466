package visit

import (
	"context"
	"slices"
	"sync"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/registry"
)

// InSlot is what answers in a slot of an assembly.
type InSlot struct {
	Slot   string        `json:"slot"`
	Model  string        `json:"model,omitempty"`
	Facts  []core.Fact   `json:"facts" nullable:"false"`
	Codes  []loader.Code `json:"codes" nullable:"false" doc:"Faults that it has noted."`
	Bare   bool          `json:"bare,omitempty" doc:"It should tell the version of its program, and has none."`
	Silent bool          `json:"silent,omitempty" doc:"Nothing answers."`
	Error  string        `json:"error,omitempty" doc:"Why it is not known, in words."`
	Next   string        `json:"next,omitempty"`
}

// Scan asks all slots of an assembly at once who is there, and which faults they have
// noted; with deep, what they have recorded with each. Nothing is changed. sheets are those of the slots' models; the one with the
// assembly's own section comes first, as a slot without a name. over is called each time that
// a slot was asked, with how many were and how many of them have answered; it may be nil.
func Scan(ctx context.Context, l link.Link, of *model.Sheet, sheets map[string]*model.Sheet, deep bool, over func(asked, answered int), p link.Pace) []InSlot {
	all := []InSlot{{}}
	models := [][]*model.Sheet{{of}}
	for _, s := range of.Holds {
		all, models = append(all, InSlot{Slot: s.Name}), append(models, mayBe(s, sheets))
	}
	var asking sync.WaitGroup
	var mu sync.Mutex
	asked, answered := 0, 0
	for i := range all {
		asking.Add(1)
		go func() {
			defer asking.Done()
			all[i].ask(ctx, l, models[i], deep, p)
			mu.Lock()
			defer mu.Unlock()
			if asked++; all[i].Model != "" {
				answered++
			}
			if over != nil {
				over(asked, answered)
			}
		}()
	}
	asking.Wait()
	return all
}

// mayBe are the sheets of the units that fit into a slot.
func mayBe(s model.Slot, sheets map[string]*model.Sheet) (may []*model.Sheet) {
	for _, name := range s.Models {
		if sheet := sheets[name]; sheet != nil {
			may = append(may, sheet)
		}
	}
	return may
}

// In is what is known to be in a slot: the slot's name, empty for the assembly's own
// section, and the model.
type In struct {
	Slot  string `json:"slot"`
	Model string `json:"model"`
}

// Cleared is what came of it in a slot.
type Cleared struct {
	Slot  string `json:"slot"`
	Error string `json:"error,omitempty" doc:"Why they are still there, in words."`
	Next  string `json:"next,omitempty"`
}

// Clear has modules take their fault codes away, all at once. One that does not is no
// reason for the others to keep theirs.
func Clear(ctx context.Context, l link.Link, in []In, sheets map[string]*model.Sheet, p link.Pace) []Cleared {
	all := make([]Cleared, len(in))
	var clearing sync.WaitGroup
	for i, x := range in {
		clearing.Add(1)
		go func() {
			defer clearing.Done()
			all[i].Slot = x.Slot
			if err := with(ctx, l, x, sheets, p, func(s loader.Session) error {
				c, ok := s.(loader.Cleaner)
				if !ok {
					return core.Fail(core.RefusedByUnit, "such a module has no fault codes that could be taken away")
				}
				return c.ClearCodes(ctx)
			}); err != nil {
				e := core.AsError(err, core.Interrupted)
				all[i].Error, all[i].Next = e.Error(), e.Next
			}
		}()
	}
	clearing.Wait()
	return all
}

// Learn has a module learn something anew.
func Learn(ctx context.Context, l link.Link, in In, name string, sheets map[string]*model.Sheet, p link.Pace) error {
	return with(ctx, l, in, sheets, p, func(s loader.Session) error {
		learner, ok := s.(loader.Learner)
		if !ok {
			return core.Fail(core.RefusedByUnit, "such a module learns nothing by a routine")
		}
		return learner.Learn(ctx, name)
	})
}

func with(ctx context.Context, l link.Link, in In, sheets map[string]*model.Sheet, p link.Pace, do func(s loader.Session) error) error {
	sheet := sheets[in.Model]
	if sheet == nil {
		return core.Fail(core.NotFound, "no sheet of %s is in force", in.Model)
	}
	s, err := OpenNow(ctx, l, sheet.Main(), p)
	if err != nil {
		return err
	}
	defer s.Close()
	return do(s)
}

func (s *InSlot) ask(ctx context.Context, l link.Link, may []*model.Sheet, deep bool, p link.Pace) {
	s.Facts, s.Codes = []core.Fact{}, []loader.Code{}
	if len(may) == 0 {
		s.fault(core.Fail(core.NotFound, "no sheet of a model that may be there is in force").Do("A lead adds one."))
		return
	}
	for _, sheet := range may {
		x := sheet.Main()
		err := s.askAs(ctx, l, sheet, deep, p)
		if err == nil && model.Calls(s.Facts) == x.Loader.Says {
			s.Model, s.Error, s.Next, s.Silent = sheet.Model, "", "", false
			s.Bare = Value(s.Facts, core.FactRunning) == "" && shouldTell(x, core.FactRunning)
			return
		}
		if err == nil {
			err = core.Fail(core.CannotTell, "it calls itself %q, which no model of this slot does", model.Calls(s.Facts))
		}
		if s.Error == "" || core.KindOf(err) != core.NotAnswering {
			s.fault(err)
		}
	}
}

func (s *InSlot) fault(err error) {
	e := core.AsError(err, "")
	s.Error, s.Next, s.Silent = e.Error(), e.Next, e.Kind == core.NotAnswering
}

func (s *InSlot) askAs(ctx context.Context, l link.Link, sheet *model.Sheet, deep bool, p link.Pace) error {
	session, err := OpenNow(ctx, l, sheet.Main(), p)
	if err != nil {
		return err
	}
	defer session.Close()
	if s.Facts, err = session.Identify(ctx); err != nil {
		return err
	}
	if c, ok := session.(loader.Coder); ok {
		codes, err := c.Codes(ctx, deep)
		if err != nil {
			return err
		}
		s.Codes = slices.Clip(codes)
	}
	return nil
}

// shouldTell tells whether the section's loader reads a fact off the unit.
func shouldTell(x *model.Section, fact string) bool {
	kind, err := registry.Loader(x.Loader.Kind)
	if err != nil {
		return false
	}
	k, ok := kind.(interface{ Facts(loader.Own) []string })
	return ok && slices.Contains(k.Facts(x.Loader.Own), fact)
}

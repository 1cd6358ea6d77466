package runs

import (
	"context"
	"slices"

	"zealousferry/core"
	"zealousferry/core/round"
	"zealousferry/internal/client"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// mostOpen is how many open rounds are looked through for a unit.
const mostOpen = 50

// roundOf is the open round of the vehicle in which a unit was when its modules were asked
// last, and the unit's slot; nil where there is none.
func (v *Runs) roundOf(ctx context.Context, unit string) (*round.State, string, error) {
	rows, _, err := v.store.Rounds(ctx, "", true, "", mostOpen)
	if err != nil {
		return nil, "", err
	}
	for _, r := range rows {
		_, s, _, err := v.ReadRound(ctx, r.ID)
		if err != nil {
			return nil, "", err
		}
		for slot, is := range s.Last().Units {
			if is == unit {
				return s, slot, nil
			}
		}
	}
	return nil, "", nil
}

// firstInRound fills in which modules of the same vehicle go before this one: those that
// its sheet names for the slot and that are to be written still, while a round of the
// vehicle is at the writing.
func (v *Runs) firstInRound(ctx context.Context, a *asked) error {
	s, name, err := v.roundOf(ctx, a.unit.ID)
	if err != nil || s == nil || s.Worked != nil {
		return err
	}
	slot := s.Slot(name)
	if slot == nil || len(slot.After) == 0 {
		return nil
	}
	modules, err := v.RoundModules(ctx, s, "")
	for _, b := range Behind(modules) {
		if slices.Contains(slot.After, b) {
			a.First = append(a.First, s.Title(b))
		}
	}
	return err
}

// Behind are the slots of modules that are to be written.
func Behind(modules []client.Module) []string {
	slots := []string{}
	for _, m := range modules {
		if m.Boot || m.Newer != "" || m.State == store.UnitHalfDone {
			slots = append(slots, m.Slot)
		}
	}
	return slots
}

// RoundModules are the modules as they answered last, and how they stand in the register
// now.
func (v *Runs) RoundModules(ctx context.Context, s *round.State, own string) ([]client.Module, error) {
	all := []client.Module{}
	n := s.Last()
	for i, x := range n.Slots {
		m := units.InSlot(s.Opened.Link, s.Opened.Slots, own, i, x)
		if id := n.Units[x.Slot]; id != "" {
			u, err := v.store.Unit(ctx, id)
			if err != nil {
				return nil, err
			}
			sheet, err := v.store.Sheet(ctx, u.Model)
			if err != nil {
				return nil, err
			}
			m.ModelName = sheet.Name.In("en")
			if err := v.Units.ModuleStands(ctx, &m, u, s.Opened.Why); err != nil {
				return nil, err
			}
			if u.Running != "" { // a run has asked it since
				m.Running, m.Boot = u.Running, m.Boot && u.State != store.UnitDone
			}
		}
		all = append(all, m)
	}
	return all, nil
}

// ReadRound is a round as its events add up, with these.
func (v *Runs) ReadRound(ctx context.Context, id string) (store.Round, *round.State, [][]byte, error) {
	r, err := v.store.Round(ctx, id)
	if err != nil {
		return r, nil, nil, err
	}
	events, raw, err := v.store.RoundEvents(ctx, r.ID)
	if err != nil {
		return r, nil, nil, err
	}
	s, err := round.Fold(events)
	if err != nil {
		return r, nil, nil, core.Fail(core.BadFile, "round %s cannot be read: %w", r.ID, err)
	}
	return r, s, raw, nil
}

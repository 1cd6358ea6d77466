package loader

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/memory"
)

// Change carries out changes to a unit's memory, and is the only way to it: what a
// change names must lie within one region of the map that may be written, an erase in
// whole sectors. What lies elsewhere is refused before the unit hears of it, whatever
// the loader's own way of counting. about is told of each change that may be made,
// before the unit is; it may be nil.
func Change(ctx context.Context, s Session, m *memory.Map, next func() (Op, bool, error), about, acked func(Op) error) error {
	return s.Change(ctx, func() (Op, bool, error) {
		op, ok, err := next()
		if err != nil || !ok {
			return op, ok, err
		}
		if err := Within(m, op); err != nil {
			return op, false, err
		}
		if about == nil {
			return op, true, nil
		}
		return op, true, about(op)
	}, acked)
}

// Within tells whether a change keeps to the map.
func Within(m *memory.Map, op Op) error {
	what := "a write"
	if op.Erase {
		what = "an erase"
	}
	refuse := func(why string, args ...any) error {
		return core.Fail(core.DoesNotFit, "%s of %d bytes at 0x%X is refused: %w", what, op.Length, op.Address, core.Fail(core.DoesNotFit, why, args...)).
			Do("Nothing was sent to the unit. Hold the release and the memory map of the sheet against each other.")
	}
	if m == nil {
		return refuse("there is no memory map")
	}
	r, ok := m.At(op.Address)
	switch {
	case op.Length == 0 || !op.Erase && uint64(len(op.Data)) != op.Length:
		return refuse("it names %d bytes and brings %d", op.Length, len(op.Data))
	case !ok:
		return refuse("the sheet names no memory there")
	case r.ReadOnly:
		return refuse("the sheet's region %q is not to be written", r.Name)
	case op.Length > r.End()-op.Address:
		return refuse("it reaches beyond the sheet's region %q, which ends at 0x%X", r.Name, r.End()-1)
	case op.Erase && ((op.Address-r.Address)%r.Sector != 0 || op.Length%r.Sector != 0):
		return refuse("the sheet's region %q has sectors of %d bytes from 0x%X on, and these are not whole ones", r.Name, r.Sector, r.Address)
	}
	return nil
}

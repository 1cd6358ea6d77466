package run

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/visit"
)

// lead is a section over the unit's own lead: what it is already, unless a helper tool at
// the unit's programming header stands between. The tool lets go of the unit then.
func (r *Run) lead(ctx context.Context, x *Section) *Section {
	if x.Own == "" {
		return x
	}
	if l := r.lines[x.Link]; l != nil {
		r.leave(ctx, l)
	}
	own := *x
	own.Link, own.Own = x.Own, ""
	return &own
}

// askOwn asks the unit's own loader who it is, after the memory was written around it: a
// boot loader that was put back counts once it has answered, and it tells the serial that
// nobody could read at the header.
func (r *Run) askOwn(ctx context.Context, x *Section) error {
	own := r.lead(ctx, x)
	d, err := r.of(own)
	if err != nil {
		return err
	}
	session, err := r.connect(ctx, own)
	if err != nil {
		return err
	}
	facts, err := session.Identify(ctx)
	if err != nil {
		return err
	}
	s := r.journal.State()
	if says := visit.Value(facts, core.FactSerial); says != "" && says != s.Opened.Serial {
		return core.Fail(core.WrongUnit, "the run is for unit %s; on its own lead answers %s", s.Opened.Serial, says).
			Unit("the unit at the programming header is written and verified").
			Do("Plug the lead into the unit at whose header the helper tool is. If it is that one already, set it apart: it is not %s, and has its program now.", s.Opened.Serial)
	}
	if err := r.isUnit(own, d, facts); err != nil {
		return err
	}
	return r.note(x, KindOwn, Own{Facts: facts})
}

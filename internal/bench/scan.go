package bench

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/visit"
	"zealousferry/internal/client"
)

// scan asks all modules of an assembly who is there.
func (b *Bench) scan(ctx context.Context, o client.Order) (client.Result, error) {
	all, err := b.readSheets(ctx)
	if err != nil {
		return client.Result{}, err
	}
	by := map[string]*model.Sheet{}
	for _, s := range all {
		by[s.Model] = s
	}
	of := by[o.Model]
	if of == nil || len(of.Holds) == 0 {
		return client.Result{}, core.Fail(core.NotFound, "the sheet of %q that this bench has names no slots for modules", o.Model)
	}
	l, done, err := b.held(ctx, o.Link)
	if err != nil {
		return client.Result{}, err
	}
	defer done()
	return client.Result{Slots: visit.Scan(ctx, l, of, by, b.pace())}, nil
}

package bench

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/visit"
	"zealousferry/internal/client"
)

// scan asks all modules of an assembly who is there.
func (b *Bench) scan(ctx context.Context, o client.Order) (client.Result, error) {
	by, err := b.sheetsOf(ctx, o.Model)
	if err != nil {
		return client.Result{}, err
	}
	of := by[o.Model]
	if of == nil || len(of.Holds) == 0 {
		return client.Result{}, core.Fail(core.NotFound, "the sheet of %q that this bench has names no slots for modules", o.Model)
	}
	l, done, err := b.held(ctx, o.Link, "all modules are asked")
	if err != nil {
		return client.Result{}, err
	}
	defer done()
	told := make(chan *client.GatewayTold, 1)
	go func() { told <- gatewayTold(ctx, l) }()
	strangers := visit.Strangers(l, of, by, b.Clock)
	tell := b.telling(o)
	r := client.Result{Slots: visit.Scan(ctx, l, of, by, o.Deep, func(asked, answered int) {
		tell(core.Say("%d of %d places were asked, %d have answered", asked, len(of.Holds)+1, answered))
	}, b.pace())}
	if strangers != nil {
		r.Strangers = strangers()
	}
	r.Gateway = <-told
	return r, nil
}

// gatewayTold is what a gateway says of itself; nil where it says nothing, or is none.
func gatewayTold(ctx context.Context, l link.Link) *client.GatewayTold {
	g, ok := l.(link.Told)
	if !ok {
		return nil
	}
	e, err := g.Entity(ctx)
	if err != nil || !e.Counted && e.Power == link.PowerUnknown {
		return nil
	}
	return &client.GatewayTold{Others: max(e.Open-1, 0), Most: e.Most, Power: string(e.Power)}
}

func modelsIn(in []visit.In) (all []string) {
	for _, x := range in {
		all = append(all, x.Model)
	}
	return all
}

// clear has the modules of an assembly take their fault codes away.
func (b *Bench) clear(ctx context.Context, o client.Order) (client.Result, error) {
	by, err := b.sheetsOf(ctx, modelsIn(o.In)...)
	if err != nil {
		return client.Result{}, err
	}
	l, done, err := b.held(ctx, o.Link, "fault codes are being cleared")
	if err != nil {
		return client.Result{}, err
	}
	defer done()
	return client.Result{Cleared: visit.Clear(ctx, l, o.In, by, b.pace())}, nil
}

// learn has a module of an assembly learn something anew.
func (b *Bench) learn(ctx context.Context, o client.Order) error {
	if len(o.In) != 1 {
		return core.Fail(core.BadFile, "the order to learn is for %d modules, expected one", len(o.In))
	}
	by, err := b.sheetsOf(ctx, modelsIn(o.In)...)
	if err != nil {
		return err
	}
	l, done, err := b.held(ctx, o.Link, "a module is learning anew")
	if err != nil {
		return err
	}
	defer done()
	return visit.Learn(ctx, l, o.In[0], o.Learn, by, b.pace())
}

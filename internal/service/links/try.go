package links

import (
	"context"
	"fmt"
	"time"

	"zealousferry/core"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
)

// tryLasts is how long a bench may take to try a sheet: a silent unit costs every wait of
// its dialogue.
const tryLasts = 3 * time.Minute

type newTryIn struct{ Body client.NewTry }

// try has a bench play a sheet on a link. What changes memory is a lead's to say.
func (v *Links) try(ctx context.Context, in *newTryIn) (client.Tried, error) {
	n := in.Body
	person := frame.Who(ctx).Person
	if n.Write && person.Role != frame.Lead {
		return client.Tried{}, core.Fail(core.NotAllowed, "only a lead orders a trial that writes").Unit("nothing was changed").Do("Try it without writing, or ask a lead.")
	}
	sheet, err := registry.Sheet([]byte(n.Sheet))
	if err != nil {
		return client.Tried{}, err
	}
	p, err := v.Find(ctx, n.At)
	if err != nil {
		return client.Tried{}, err
	}
	if err := p.Free(); err != nil {
		return client.Tried{}, err
	}
	r, err := v.Ask(ctx, client.Order{Kind: client.OrderTry, Link: p.Name, Sheet: n.Sheet, Section: n.Section, Write: n.Write}, p.Bench, tryLasts)
	if err != nil {
		return client.Tried{}, err
	}
	if r.Tried == nil {
		return client.Tried{}, core.Fail(core.Interrupted, "the bench ended the order without an answer")
	}
	if r.Tried.Whole() {
		r.Tried.Proven, err = v.store.ProveSheet(ctx, sheet.Model, sheet.Digest, fmt.Sprintf("tried by %s on %s", person.Name, p.FullName()), v.clock.Now())
	}
	return *r.Tried, err
}

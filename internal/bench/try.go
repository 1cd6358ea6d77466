package bench

import (
	"context"
	"strings"

	"zealousferry/core"
	"zealousferry/core/link/recording"
	"zealousferry/core/registry"
	"zealousferry/core/visit"
	"zealousferry/internal/client"
)

// try plays a sheet on a link, and records what was said.
func (b *Bench) try(ctx context.Context, o client.Order) (client.Result, error) {
	sheet, err := registry.Sheet([]byte(o.Sheet))
	if err != nil {
		return client.Result{}, err
	}
	x, ok := sheet.Section(o.Section)
	if !ok {
		return client.Result{}, core.Fail(core.NotFound, "the sheet has no section %q", o.Section)
	}
	p, err := b.hold(o.Link)
	if err != nil {
		return client.Result{}, err
	}
	defer p.letGo()
	l, err := p.open(ctx, b.Clock)
	if err != nil {
		return client.Result{}, err
	}
	defer l.Close()
	began := b.Clock.Now()
	said := recording.Recording{Remarks: []string{sheet.Model + ", section " + x.Name + ", tried on " + b.id.Name + "/" + o.Link + " " + began.UTC().Format("2006-01-02 15:04")}}
	t := client.Tried{Link: b.id.Name + "/" + o.Link, Model: sheet.Model}
	t.Tried = visit.Try(ctx, l, x, b.pace(), o.Write, func(sent bool, data []byte) { said.Add(b.Clock.Now().Sub(began), sent, data) })
	var text strings.Builder
	if err := said.Write(&text); err != nil {
		return client.Result{}, err
	}
	t.Recording, t.Well = text.String(), t.Tried.Well()
	return client.Result{Tried: &t}, nil
}

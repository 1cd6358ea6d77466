package bench

import (
	"context"
	"fmt"
	"strings"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/core/visit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// identify tries the loaders of all models, the one last seen on the link first.
func (b *Bench) identify(ctx context.Context, o client.Order) (client.Result, error) {
	p, err := b.hold(o.Link)
	if err != nil {
		return client.Result{}, err
	}
	defer p.letGo()
	sheets, err := b.readSheets(ctx)
	if err != nil {
		return client.Result{}, err
	}
	if len(sheets) == 0 {
		return client.Result{}, core.Fail(core.NotFound, "the catalogue has no model").Go(words.ModelAdd().To("A lead adds one"))
	}
	l, err := p.open(ctx, b.Clock)
	if err != nil {
		return client.Result{}, err
	}
	defer l.Close()
	var tried []string
	seen := map[string]bool{}
	for i, s := range first(sheets, o.Model) {
		way := fmt.Sprintf("%s at %d baud", s.Main().Loader.Kind, s.Main().Loader.Serial().Baud)
		named := i == 0 && s.Model == o.Model
		if seen[way] || !named && (byEye(s) || s.Main().Loader.Await > 0) { // such a one is called only by name
			continue
		}
		seen[way], tried = true, append(tried, way)
		r, err := b.askWho(ctx, l, s, sheets, o.Await)
		if core.KindOf(err) == core.NotAnswering {
			continue
		}
		return r, err
	}
	return client.Result{}, core.Fail(core.NotAnswering, "nothing answers on %s/%s: tried %s", b.id.Name, o.Link, strings.Join(tried, ", ")).
		Unit("nothing was changed").Do("Look at the supply, the plug and the strap; then try again.")
}

func first(sheets []*model.Sheet, name string) []*model.Sheet {
	var all []*model.Sheet
	for _, s := range sheets {
		if s.Model == name {
			all = append(all, s)
		}
	}
	return append(all, sheets...)
}

// askWho opens one loader, reads who is there, and lets its program run again. With
// await, a person applies the power while the loader calls.
func (b *Bench) askWho(ctx context.Context, l link.Link, s *model.Sheet, all []*model.Sheet, await bool) (client.Result, error) {
	x := s.Main()
	runs, err := visit.Beforehand(ctx, l, x, b.pace())
	if err != nil {
		return client.Result{}, err
	}
	open := visit.OpenNow
	if await {
		open = func(ctx context.Context, l link.Link, x *model.Section, p link.Pace) (loader.Session, error) {
			return visit.Open(ctx, l, x, p, nil)
		}
	}
	session, err := open(ctx, l, x, b.pace())
	if err != nil {
		if stream, ok := l.(link.Stream); ok { // another loader's strap may have stopped its program
			link.Play(ctx, stream, x.Loader.Serial().Leave, b.pace())
		}
		return client.Result{}, err
	}
	facts, err := session.Identify(ctx)
	visit.Leave(ctx, session, l, x, b.pace())
	if err != nil {
		return client.Result{}, err
	}
	found := run.Identified{Facts: facts, Strength: visit.Strength(facts), Generation: l.Generation()}
	found.Facts = append(found.Facts, runs...)
	if found.Strength == run.ByEye {
		return client.Result{Found: &found, Model: s.Model}, nil
	}
	says := model.Calls(facts)
	for _, other := range all {
		if other.Main().Loader.Says == says && other.Main().Loader.Kind == x.Loader.Kind {
			return client.Result{Found: &found, Model: other.Model}, nil
		}
	}
	return client.Result{}, core.Fail(core.CannotTell, "the unit calls itself %q, and no model sheet knows that name", says).Go(words.ModelAdd().To("A lead adds the model"))
}

func (b *Bench) readSheets(ctx context.Context) ([]*model.Sheet, error) {
	b.mu.Lock()
	names := b.sheets
	b.mu.Unlock()
	var all []*model.Sheet
	for _, n := range names {
		raw, err := b.blob(ctx, n)
		if err != nil {
			return nil, err
		}
		s, err := model.ReadSheet(raw)
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, nil
}

// byEye tells whether units with this loader can be told only by looking at them.
func byEye(s *model.Sheet) bool {
	k, err := registry.Loader(s.Main().Loader.Kind)
	return err == nil && k.Limits().Identity == run.ByEye
}

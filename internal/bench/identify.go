package bench

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/visit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// identify tries the loaders of all models, the one last seen on the link first.
func (b *Bench) identify(ctx context.Context, o client.Order) (client.Result, error) {
	p, err := b.hold(o.Link, "a unit is asked who it is")
	if err != nil {
		return client.Result{}, err
	}
	defer p.letGo()
	all, err := b.catalogue(ctx)
	if err != nil {
		return client.Result{}, err
	}
	if len(all) == 0 {
		return client.Result{}, core.Fail(core.NotFound, "the catalogue has no model").Go(words.ModelAdd().To("A lead adds one"))
	}
	l, err := p.open(ctx, b.Clock)
	if err != nil {
		return client.Result{}, err
	}
	defer l.Close()
	tell := b.telling(o)
	var tried []string
	var seen link.Signs
	called := map[string]bool{}
	if link.ShapeOf(l) == link.Addressed { // of a whole vehicle it is the vehicle itself that is asked
		slices.SortStableFunc(all, func(x, y brief) int { return cmp.Compare(y.Holds, x.Holds) })
	}
	slices.SortStableFunc(all, func(x, y brief) int { return long(x) - long(y) })
	asked := first(all, o.Model)
	if o.Named {
		asked = asked[:1]
	}
	for i, of := range asked {
		if !of.Known || of.Shape != link.ShapeOf(l) {
			continue // it cannot be on such a link
		}
		way := fmt.Sprintf("%s at %d baud", of.Kind, of.Baud)
		if link.ShapeOf(l) != link.Bytes {
			way = fmt.Sprintf("%s of %s", of.Kind, of.Model)
		}
		if of.Dialogue { // each model's dialogue is its own
			way += ", as " + of.Model
		}
		if of.Through {
			way += ", through what is between, as " + of.Model
		}
		named := o.Named || i == 0 && of.Model == o.Model
		if called[way] || !named && !of.Answers { // such a one is called only by name
			continue
		}
		s, err := b.sheet(ctx, of)
		if err != nil {
			return client.Result{}, err
		}
		called[way], tried = true, append(tried, way)
		if o.Await {
			tell(core.Say("ready: apply the power now; %s is called until it answers", way))
		} else {
			tell(core.Say("%s is called", way))
		}
		r, err := b.askWho(ctx, l, s, all, o)
		if passing(err) { // whoever was disturbed is asked once more
			r, err = b.askWho(ctx, l, s, all, o)
		}
		if core.KindOf(err) == core.NotAnswering && o.Named && of.Through {
			return r, err // it tells which of the two is silent
		}
		if core.KindOf(err) == core.NotAnswering {
			if stream, ok := l.(link.Stream); ok {
				seen = link.SignsOf(stream)
			}
			continue
		}
		return r, err
	}
	at := b.Name() + "/" + o.Link
	if spoilt := seen.Spoilt(); spoilt > 0 {
		return client.Result{}, core.Fail(core.NotAnswering, "something speaks on %s, and it is no answer: %d characters came spoilt; tried %s", at, spoilt, strings.Join(tried, ", ")).
			Unit("nothing was changed").Go(words.Check(at).To("Speed, parity, ground or another loader:"))
	}
	if seen.Breaks > 0 {
		return client.Result{}, core.Fail(core.NotAnswering, "nothing answers on %s, and its line is held low; tried %s", at, strings.Join(tried, ", ")).
			Unit("nothing was changed").Go(words.Check(at).To("The unit has no power, or is held in reset; if it is on:"))
	}
	return client.Result{}, core.Fail(core.NotAnswering, "nothing answers on %s: tried %s", at, strings.Join(tried, ", ")).
		Unit("nothing was changed").Do("Look at the supply, the plug and the strap; then try again.")
}

// long puts those last for whose answer one waits longer than for a loader's that is called:
// a dialogue, and a unit behind something.
func long(x brief) int {
	if x.Dialogue || x.Through {
		return 1
	}
	return 0
}

// passing tells of trouble that the next try may not meet: an answer that came spoilt.
func passing(err error) bool {
	k := core.KindOf(err)
	return k == core.RefusedByUnit || k == core.Interrupted || k == core.VerifyDiffers
}

func first(all []brief, name string) []brief {
	var named []brief
	for _, x := range all {
		if x.Model == name {
			named = append(named, x)
		}
	}
	return append(named, all...)
}

// askWho opens one loader, reads who is there, and lets its program run again; one that
// is half done stays in its loader. With await, a person applies the power while the
// loader calls.
func (b *Bench) askWho(ctx context.Context, l link.Link, s *model.Sheet, all []brief, o client.Order) (client.Result, error) {
	x := s.Main()
	runs, err := visit.Beforehand(ctx, l, x, b.pace())
	if err != nil {
		return client.Result{}, err
	}
	open := visit.OpenNow
	if o.Slower {
		open = visit.OpenSlower
	}
	if o.Await {
		open = func(ctx context.Context, l link.Link, x *model.Section, p link.Pace) (loader.Session, error) {
			return visit.Open(ctx, l, x, p, visit.Hooks{Slower: o.Slower})
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
	stays := err == nil && slices.ContainsFunc(o.Stays, func(serial string) bool {
		return model.SameSerial(serial, cmp.Or(visit.Value(facts, core.FactSerial), o.Label))
	})
	if stays {
		session.Close()
	} else {
		visit.Leave(ctx, session, l, x, b.pace())
	}
	if err != nil {
		return client.Result{}, err
	}
	found := run.Identified{Facts: facts, Strength: visit.Strength(facts), Generation: l.Generation()}
	found.Facts = append(found.Facts, runs...)
	if found.Strength == run.ByEye {
		return client.Result{Found: &found, Model: s.Model, Stays: stays}, nil
	}
	says := model.Calls(facts)
	if x.Loader.Says == says { // the one that was asked goes first: others may call themselves alike
		return client.Result{Found: &found, Model: s.Model, Stays: stays}, nil
	}
	for _, other := range all {
		if other.Says == says && other.Kind == x.Loader.Kind {
			return client.Result{Found: &found, Model: other.Model, Stays: stays}, nil
		}
	}
	for _, other := range all {
		if other.ToolKind == x.Loader.Kind && other.ToolSays == says {
			return client.Result{}, core.Fail(core.CannotTell, "on the link is a helper tool, %s, for the programming header of a %s; the unit behind it does not tell who it is", says, other.Title).
				Go(words.FlashThrough("UNIT", "RELEASE").To("Read the label of the unit at which it is"))
		}
	}
	return client.Result{}, core.Fail(core.CannotTell, "the unit calls itself %q, and no model sheet knows that name", says).Go(words.ModelAdd().To("A lead adds the model"))
}

package bench

import (
	"cmp"
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/diagnose"
	"zealousferry/core/link"
	"zealousferry/core/link/monitor"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/visit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// answer hands a person's answer to the run that waits for it.
func (b *Bench) answer(ctx context.Context, o client.Order) error {
	j, err := b.job(o.Run)
	if err != nil {
		return err
	}
	j.mu.Lock()
	r, working := j.run, j.working
	j.mu.Unlock()
	if !working || r == nil || o.Answer == nil {
		return core.Fail(core.NotFound, "run %s is not at work", o.Run).Go(words.RunShow(o.Run).To("Look how it stands"))
	}
	if err := r.Answer(ctx, *o.Answer); err != nil {
		return err
	}
	call, cancel := context.WithTimeout(ctx, askLasts)
	defer cancel()
	j.handOver(call) // so that whoever has answered is shown what is next; what fails here is handed over later
	return nil
}

// check looks at a link with the loader of the model that should be on it, then
// with those of the others.
func (b *Bench) check(ctx context.Context, o client.Order) (client.Result, error) {
	known, err := b.catalogue(ctx)
	if err != nil {
		return client.Result{}, err
	}
	if o.Model == "" { // whoever answers is the one that should be there
		found, err := b.identify(ctx, o)
		if core.KindOf(err) == core.NotAnswering {
			return client.Result{}, core.Fail(core.CannotTell, "nothing answers on %s/%s, and nobody has said which model should be there", b.Name(), o.Link).
				Go(words.CheckModel(b.Name()+"/"+o.Link, "MODEL").To("Say which"))
		}
		if err != nil {
			return client.Result{}, err
		}
		o.Model = found.Model
	}
	var all []*model.Sheet
	ways := map[string]bool{}
	for i, x := range first(known, o.Model) {
		way := x.Kind + x.Parity
		if x.Dialogue {
			way += x.Model
		}
		if !x.Known || i > 0 && (ways[way] || x.ByEye) { // one of a kind is asked; waiting for a file says nothing
			continue
		}
		ways[way] = true
		s, err := b.sheet(ctx, x)
		if err != nil {
			return client.Result{}, err
		}
		all = append(all, s)
	}
	if len(all) == 0 {
		return client.Result{}, core.Fail(core.NotFound, "the catalogue has no model").Go(words.ModelAdd().To("A lead adds one"))
	}
	if b.addressed(o.Link) {
		return b.checkModule(ctx, o, all[0])
	}
	s, done, err := b.stream(ctx, o.Link, "the link is being checked")
	if err != nil {
		return client.Result{}, err
	}
	defer done()
	seen, err := diagnose.Watch(ctx, s, all, b.pace(), b.telling(o))
	return client.Result{Seen: &seen, Model: all[0].Model}, err
}

// addressed tells whether a link carries frames or messages, on which there are no line
// faults to look for.
func (b *Bench) addressed(name string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	p := b.ports[name]
	return p != nil && (p.Kind == "can-line" || p.Kind == "can-socket" || p.Kind == "doip")
}

// checkModule proves the way to a module.
func (b *Bench) checkModule(ctx context.Context, o client.Order, sheet *model.Sheet) (client.Result, error) {
	l, done, err := b.held(ctx, o.Link, "the way to a module is being proved")
	if err != nil {
		return client.Result{}, err
	}
	defer done()
	session, err := visit.OpenNow(ctx, l, sheet.Main(), b.pace())
	if o.Pulled && core.KindOf(err) == core.NotAnswering && ctx.Err() == nil { // which is what a pulled plug is to show
		return client.Result{Seen: &diagnose.Seen{Kind: sheet.Main().Loader.Kind}, Model: sheet.Model}, nil
	}
	if err != nil {
		return client.Result{}, err
	}
	defer session.Close()
	seen, err := diagnose.Module(ctx, l, session, sheet.Main().Loader.Kind, b.Clock, b.telling(o))
	return client.Result{Seen: &seen, Model: sheet.Model}, err
}

// echo is the self-test of an adapter whose data pins are bridged.
func (b *Bench) echo(ctx context.Context, o client.Order) (client.Result, error) {
	s, done, err := b.stream(ctx, o.Link, "the adapter is being tested by itself")
	if err != nil {
		return client.Result{}, err
	}
	defer done()
	if err := s.SetMode(link.Default(max(o.Baud, 9600))); err != nil {
		return client.Result{}, err
	}
	came, err := diagnose.ComesBack(ctx, s, b.pace())
	return client.Result{Came: came}, err
}

// listen hears what is on a line, at the speed of the model's program, or passes a
// line of text through its loader.
func (b *Bench) listen(ctx context.Context, o client.Order) (client.Result, error) {
	mode := link.Default(cmp.Or(o.Baud, 115200))
	var sheet *model.Sheet
	if o.Model != "" {
		by, err := b.sheetsOf(ctx, o.Model)
		if err != nil {
			return client.Result{}, err
		}
		if s := by[o.Model]; s != nil {
			sheet, mode = s, link.Default(cmp.Or(o.Baud, s.Main().Application.Baud))
		}
	}
	if o.Loader {
		if sheet == nil {
			return client.Result{}, core.Fail(core.CannotTell, "nobody knows whose loader is on %s/%s", b.Name(), o.Link).Go(words.Identify(b.Name() + "/" + o.Link).To("Identify it first"))
		}
		s, done, err := b.stream(ctx, o.Link, "somebody listens to a loader")
		if err != nil {
			return client.Result{}, err
		}
		defer done()
		answer, err := b.through(ctx, s, sheet, o.Say)
		return client.Result{Heard: &client.Heard{Answer: answer, Heard: monitor.Heard{Mode: sheet.Main().Loader.Serial().Mode(), Data: []byte{}, Signs: link.SignsOf(s)}}}, err
	}
	e, err := b.ear(ctx, o.Link, mode)
	if err != nil {
		return client.Result{}, err
	}
	if o.Say != "" {
		if err := e.Say(o.Say + "\r"); err != nil {
			return client.Result{}, err
		}
	}
	end := b.Clock.After(time.Duration(o.Lasts) * time.Millisecond)
	for waiting := true; waiting; {
		e.Ask()
		select {
		case <-end:
			waiting = false
		case <-e.Over():
			waiting = false
		case <-b.Clock.After(time.Second):
		case <-ctx.Done():
			return client.Result{}, ctx.Err()
		}
	}
	h, err := e.Take()
	return client.Result{Heard: &client.Heard{Heard: h}}, err
}

// ear is who listens on a link: the one that does already at this setting, or a new
// one. It gives the link up to whoever wants it.
func (b *Bench) ear(ctx context.Context, name string, m link.Mode) (*monitor.Ear, error) {
	b.mu.Lock()
	var e *monitor.Ear
	if p := b.ports[name]; p != nil {
		e = p.ear
	}
	b.mu.Unlock()
	if e != nil && e.Mode() == m {
		select {
		case <-e.Over():
		default:
			e.Ask()
			return e, nil
		}
	}
	s, done, err := b.stream(ctx, name, "somebody listens")
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	p := b.ports[name]
	b.mu.Unlock()
	if p == nil {
		done()
		return nil, core.Fail(core.NotFound, "this bench has no link %q", name)
	}
	if e, err = monitor.Listen(s, m, b.Clock, done); err != nil {
		return nil, err
	}
	b.mu.Lock()
	p.ear = e
	b.mu.Unlock()
	return e, nil
}

// through says a line to the program by way of the unit's loader.
func (b *Bench) through(ctx context.Context, s link.Stream, sheet *model.Sheet, say string) (string, error) {
	session, err := visit.Open(ctx, s, sheet.Main(), b.pace(), visit.Hooks{})
	if err != nil {
		return "", err
	}
	defer visit.Leave(ctx, session, s, sheet.Main(), b.pace())
	talker, ok := session.(loader.Talker)
	if !ok {
		return "", core.Fail(core.RefusedByUnit, "loader %s has no console to pass a line through", sheet.Main().Loader.Kind)
	}
	if err := session.Can(loader.Talk); err != nil {
		return "", err
	}
	return talker.Say(ctx, say)
}

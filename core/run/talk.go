package run

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/core/visit"
)

// of is the section as the sheet describes it.
func (r *Run) of(x *Section) (*model.Section, error) {
	if len(r.journal.State().Opened.Sections) == 0 { // a run from before sections had names
		return r.sheet.Main(), nil
	}
	sheet := r.sheet
	if x.Own == "" {
		sheet = r.whole
	}
	d, ok := sheet.Section(x.Name)
	if !ok {
		return nil, core.Fail(core.BadFile, "the sheet has no section %s", x.Name)
	}
	return d, nil
}

// plugIn opens the link of a section alone.
func (r *Run) plugIn(ctx context.Context, x *Section) (*line, error) {
	if l := r.lines[x.Link]; l != nil {
		return l, nil
	}
	got, err := r.bench.Open(ctx, x.Link)
	if err != nil {
		return nil, err
	}
	l := &line{Link: r.ring(x).Over(got)}
	r.lines[x.Link] = l
	return l, nil
}

// connect opens the section's loader on its link, if it is not open. Another
// section's loader on the same link is left first.
func (r *Run) connect(ctx context.Context, x *Section) (loader.Session, error) {
	d, err := r.of(x)
	if err != nil {
		return nil, err
	}
	l, err := r.plugIn(ctx, x)
	if err != nil {
		return nil, err
	}
	if l.session != nil && l.shared(d) {
		return l.session, nil
	}
	r.leave(ctx, l)
	s, err := visit.Open(ctx, l.Link, d, r.pace, visit.Hooks{Ready: func() { r.calling(x) }, Secret: r.secret, Key: r.key, Slower: r.journal.State().Slower})
	if err != nil {
		l.Close()
		delete(r.lines, x.Link)
		return nil, err
	}
	l.session, l.of = s, d
	return s, r.called()
}

// secret asks the service for a secret of the team's, for this run.
func (r *Run) secret(ctx context.Context, name string) (string, error) {
	return r.bench.Secret(ctx, r.journal.State().Opened, name)
}

// key has the service make a key with a secret of the team's, for this run.
func (r *Run) key(ctx context.Context, name string, level byte, seed []byte) ([]byte, error) {
	return r.bench.SeedKey(ctx, r.journal.State().Opened, name, level, seed)
}

// shared tells whether the loader that is open serves this section too.
func (l *line) shared(d *model.Section) bool {
	if l.of.Name == d.Name {
		return true
	}
	kind, err := registry.Loader(d.Loader.Kind)
	return err == nil && !kind.Limits(d.Loader.Own).Pages && l.of.SameWay(d)
}

// open tells whether the section's loader is open already.
func (r *Run) open(x *Section) bool {
	l := r.lines[x.Link]
	return l != nil && l.session != nil
}

// generation is that of the section's link.
func (r *Run) generation(x *Section) uint64 { return r.lines[x.Link].Generation() }

// leave brings the unit back into its program, as well as it can.
func (r *Run) leave(ctx context.Context, l *line) {
	if l.session != nil {
		visit.Leave(ctx, l.session, l.Link, l.of, r.pace)
		l.session = nil
	}
}

func (r *Run) leaveAll(ctx context.Context) {
	for _, l := range r.lines {
		r.leave(ctx, l)
	}
}

func (r *Run) disconnect() {
	for name, l := range r.lines {
		if l.session != nil {
			l.session.Close()
		}
		l.Close()
		delete(r.lines, name)
	}
}

// stream opens the link of a section as a stream of bytes, for its program.
func (r *Run) stream(ctx context.Context, x *Section) (link.Stream, error) {
	d, err := r.of(x)
	if err != nil {
		return nil, err
	}
	l, err := r.plugIn(ctx, x)
	if err != nil {
		return nil, err
	}
	return loader.Stream(l.Link, "loader "+d.Loader.Kind)
}

// calling tells a person that the power must come now: the tool calls already.
func (r *Run) calling(x *Section) {
	h := Hands{Says: "Apply the power now.", Calling: true}
	for _, i := range r.journal.State().items() {
		if i.Do == model.Apply {
			h.Item, h.Says = i.ID, i.Says.In("en")
		}
	}
	r.appendOf(x.Name, KindHands, h, true) // a journal that broke ends the run at its next event
}

// called ends the prompt once the unit has answered.
func (r *Run) called() error {
	h := r.journal.State().Hands
	if h == nil || !h.Calling {
		return nil
	}
	return r.append(KindAnswered, procedure.Answer{Item: h.Item, Value: procedure.Yes, By: procedure.Tool, At: r.pace.Clock.Now().UnixMicro()}, true)
}

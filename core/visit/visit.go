// Package visit speaks to a section of a unit over a link: it opens the section's
// loader, asks who is there, and leaves again. Runs, identification and the check
// of a link go through it, so that they all come and go alike.
package visit

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/registry"
)

// Hooks are what a loader calls while it works; each may be nil.
type Hooks struct {
	Ready  func()                                                 // a person must apply the power now
	Secret func(ctx context.Context, name string) (string, error) // gives a secret of the team's; nil where no run is open
	// Key has the service make a module's key; nil where no run is open.
	Key   func(ctx context.Context, secret string, level byte, seed []byte) ([]byte, error)
	Watch func(loader.Turn)         // each step of a dialogue
	Note  func(sent bool, b []byte) // all that a dialogue sends and hears
	// Slower has the loader stay at the speed at which it is called.
	Slower bool
}

// Open opens the loader of a section on a link.
func Open(ctx context.Context, l link.Link, x *model.Section, p link.Pace, h Hooks) (loader.Session, error) {
	kind, err := registry.Loader(x.Loader.Kind)
	if err != nil {
		return nil, err
	}
	return open(ctx, l, kind, x, options(x, p, h))
}

// Hurries tells whether a section's loader goes on at a higher speed than it is called at.
func Hurries(x *model.Section) bool {
	kind, err := registry.Loader(x.Loader.Kind)
	called := loader.LinePace(x.Loader.Own)
	return err == nil && called > 0 && kind.Pace(x.Loader.Own) > called
}

// OpenNow is Open for a unit that is there and has power: nobody is called.
func OpenNow(ctx context.Context, l link.Link, x *model.Section, p link.Pace) (loader.Session, error) {
	return openNow(ctx, l, x, p, Hooks{})
}

// OpenSlower is OpenNow at the speed at which the loader is called, where the line
// itself is in question.
func OpenSlower(ctx context.Context, l link.Link, x *model.Section, p link.Pace) (loader.Session, error) {
	return openNow(ctx, l, x, p, Hooks{Slower: true})
}

func openNow(ctx context.Context, l link.Link, x *model.Section, p link.Pace, h Hooks) (loader.Session, error) {
	now := *x
	now.Loader.Await = 0
	return Open(ctx, l, &now, p, h)
}

// Answers tells whether a unit can be asked through a section who it is, at any time: not by
// eye only, nor only while its power comes.
func Answers(x *model.Section) bool {
	kind, err := registry.Loader(x.Loader.Kind)
	return err == nil && x.Loader.Await == 0 && kind.Limits(x.Loader.Own).Identity != loader.ByEye
}

// Quiet tells whether asking who is there leaves the unit's program at work.
func Quiet(x *model.Section) bool {
	kind, err := registry.Loader(x.Loader.Kind)
	return err == nil && kind.Limits(x.Loader.Own).Quiet
}

// options are a section's for its loader.
func options(x *model.Section, p link.Pace, h Hooks) loader.Options {
	l := x.Loader
	return loader.Options{Own: l.Own, Await: l.Await, Ready: h.Ready, Secret: h.Secret, Key: h.Key, Watch: h.Watch, Note: h.Note, Steady: h.Slower, Map: &x.Memory, Pace: p}
}

// Leave ends a session and brings the unit back into its program, as well as it
// can.
func Leave(ctx context.Context, s loader.Session, l link.Link, x *model.Section, p link.Pace) {
	stream, ok := l.(link.Stream)
	if ok {
		Restart(ctx, s, stream, x)
	}
	s.Close()
	if ok {
		link.Play(ctx, stream, x.Loader.Serial().Leave, p)
	}
}

// Restart asks the loader itself to start the program, where no modem line could
// do it. Whether it did is asked afterwards; an error says that the unit did not even
// take the order.
func Restart(ctx context.Context, s loader.Session, l link.Link, x *model.Section) (asked bool, err error) {
	stream, ok := l.(link.Stream)
	lines := ok && x.Loader.Serial().Lines() && core.KindOf(stream.SetLine(link.RTS, false)) != core.RefusedByUnit
	if lines || s.Can(loader.Reset) != nil {
		return false, nil
	}
	return true, s.Restart(ctx, false)
}

// AskProgram asks a section's program for its version. started says that it was started
// just now by its loader: what a program has said since counts.
func AskProgram(ctx context.Context, l link.Link, x *model.Section, started bool, p link.Pace) (string, error) {
	if s, is := l.(StandIn); is {
		return s.Version(x)
	}
	kind, err := registry.Loader(x.Loader.Kind)
	if err != nil {
		return "", err
	}
	if k, ok := kind.(loader.Asker); ok {
		return k.AskProgram(ctx, l, options(x, p, Hooks{}), x.Application)
	}
	stream, err := loader.Stream(l, "loader "+kind.Name())
	if err != nil {
		return "", err
	}
	ask := link.AskVersion
	if started {
		ask = link.HearVersion
	}
	return ask(ctx, stream, x.Application, x.Loader.Serial().Asking(), p)
}

// Beforehand asks the program for its version, where the section's loader does not
// tell it. A program that is silent is no fault.
func Beforehand(ctx context.Context, l link.Link, x *model.Section, p link.Pace) ([]core.Fact, error) {
	kind, err := registry.Loader(x.Loader.Kind)
	if err != nil || kind.Limits(x.Loader.Own).Identity == loader.ThisUnit || !x.Tells() {
		return nil, err
	}
	if _, ok := kind.(loader.Asker); ok { // what it says of itself has it
		return nil, nil
	}
	short := *x
	short.Application.Wait = time.Second
	version, err := ask(ctx, l, &short, p)
	if core.KindOf(err) == core.NotAnswering && ctx.Err() == nil {
		return nil, nil
	}
	return []core.Fact{{Name: core.FactRunning, Value: version, Source: core.FromWire, At: p.Clock.Now().UTC()}}, err
}

// ask asks a program that is at work for its version.
func ask(ctx context.Context, l link.Link, x *model.Section, p link.Pace) (string, error) {
	if s, is := l.(StandIn); is {
		return s.Version(x)
	}
	s, err := loader.Stream(l, "loader "+x.Loader.Kind)
	if err != nil {
		return "", err
	}
	return link.AskVersion(ctx, s, x.Application, x.Loader.Serial().Through, p)
}

// Strength says how sure an identity is that rests on these facts of the wire.
func Strength(facts []core.Fact) string {
	switch {
	case Value(facts, core.FactSerial) != "":
		return loader.ThisUnit
	case len(facts) > 0:
		return loader.ThisKind
	}
	return loader.ByEye
}

// Value is the first value of a fact; empty if it is not among them.
func Value(facts []core.Fact, name string) string {
	for _, f := range facts {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

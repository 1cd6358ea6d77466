package run

import (
	"context"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/words"
)

// watchEvery is how often a unit is asked during a write under which conditions it is.
const watchEvery = 2 * time.Second

// watch asks the unit, before it is changed, under which conditions that would be. One that
// is not as the sheet wants it stops the run here.
func (r *Run) watch(ctx context.Context, x *Section) error {
	all, err := r.conditions(ctx, x)
	if err != nil {
		return err
	}
	if err := r.note(x, KindConditions, Conditions{all}); err != nil {
		return err
	}
	bad := slices.DeleteFunc(slices.Clone(all), func(c loader.Condition) bool { return c.Well })
	if len(bad) == 0 {
		return nil
	}
	kind := core.NotAllowed
	if r.journal.State().Touched() {
		kind = core.Interrupted
	}
	return core.Fail(kind, "not as the sheet wants it for a write: %s", inWords(bad)).Do("See to that first, then begin again.")
}

// conditions asks the unit; a loader that cannot ask has none.
func (r *Run) conditions(ctx context.Context, x *Section) ([]loader.Condition, error) {
	session, err := r.connect(ctx, x)
	if err != nil {
		return nil, err
	}
	w, ok := session.(loader.Watcher)
	if !ok {
		return nil, nil
	}
	return w.Conditions(ctx)
}

// keepWatch asks again in the middle of a write, now and then, and notes what has changed.
// It never ends the write: a unit that is half written is worse off than one that is fed
// badly. What is lost on the line the write itself meets.
func (r *Run) keepWatch(ctx context.Context, x *Section, session loader.Session) error {
	w, ok := session.(loader.Watcher)
	now := r.pace.Clock.Now()
	if !ok || !x.Watch || now.Sub(r.watched) < r.pace.Scaled(watchEvery) {
		return nil
	}
	r.watched = now
	all, err := w.Conditions(ctx)
	if err != nil || slices.Equal(all, x.Now) {
		return nil
	}
	return r.note(x, KindConditions, Conditions{all})
}

// inWords are conditions for a person.
func inWords(all []loader.Condition) string {
	var says []string
	for _, c := range all {
		s := strings.TrimSpace(words.Facts.In(c.Name) + " " + c.Value + " " + c.Unit)
		if !c.Well {
			s += " (wanted: " + c.Wants + ")"
		}
		says = append(says, s)
	}
	return strings.Join(says, ", ")
}

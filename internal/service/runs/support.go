package runs

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"runtime/debug"
	"strings"

	"zealousferry/core"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/internal/client"
	"zealousferry/internal/service/evidence"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/store"
)

// mostEvents and mostChecks bound what a file for others holds of a run.
const (
	mostEvents = 200_000
	mostChecks = 20
)

// supportRun is one file that explains a run to somebody who was not there: its events and
// record, the unit's history, sheet and release, checks of the link, the pictures. No secret
// is in it: none is in what it is made of.
func (v *Runs) supportRun(ctx context.Context, in *frame.RunPath) (*frame.File, error) {
	r, err := v.run(ctx, in.Run)
	if err != nil {
		return nil, err
	}
	row, err := v.store.Run(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	b := newBundle(v.clock.Now(), core.Plain("Leave the pictures out: ask for them one by one."))
	b.line("Run %s of %s %s on %s", r.ID, r.Unit.ModelName, r.Unit.Serial, r.Link)
	b.line("%s, %s: %s", r.Kind, r.Opened.UTC().Format("2006-01-02 15:04"), cmp.Or(r.Outcome, r.State))
	if f := r.Progress.Fault; f != nil {
		b.line("%s. %s", f.Message, f.State)
	}
	b.line("\nWho may see this: it names people, sites and serials, and holds pictures of the place. Ask whoever they belong to before it leaves the team. Passwords, tokens, keys and what opens units are not in it, nor are the unit's memory and the values of its settings.")
	b.line("\nrun.json      how it stands, as the service adds it up, with its record")
	if r.Settings != nil { // one may be a password of the place
		masked := *r.Settings
		masked.Settings = maskedSettings(masked.Settings)
		r.Settings = &masked
	}
	if r.Setup != nil {
		for i := range r.Setup.Lines {
			x := &r.Setup.Lines[i]
			for _, value := range []*string{&x.Found, &x.Want, &x.Other, &x.Now} {
				if *value != "" {
					*value = keptBack
				}
			}
			x.Why = nil
		}
	}
	put := func(name string, x any) error {
		raw, err := json.MarshalIndent(x, "", "  ")
		b.put(name, raw)
		return err
	}
	if err := put("run.json", r); err != nil {
		return nil, err
	}
	events, err := v.store.RawEvents(ctx, r.ID, 0, mostEvents)
	if err != nil {
		return nil, err
	}
	b.line("events.jsonl  its %d events, one a line, as the bench made them", len(events))
	traces := 0
	for i := range events {
		t, _, gone, err := v.traceOf(ctx, r.ID, events[i])
		if err != nil {
			return nil, err
		}
		if t != nil {
			traces++
			text := t.Text
			if gone != nil {
				text = gone.Text + "\n"
			}
			b.put(fmt.Sprintf("trace-%d.txt", traces), []byte(text))
		}
		if events[i], err = withoutSettings(events[i]); err != nil {
			return nil, err
		}
	}
	b.put("events.jsonl", append(bytes.Join(events, []byte("\n")), '\n'))
	if traces > 0 {
		b.line("trace-N.txt   what was said over the line until something went wrong, of each piece the beginning")
	}
	h, err := v.Evidence.GetHistory(ctx, &evidence.HistoryIn{UnitPath: frame.UnitPath{Unit: r.Unit.ID}, Size: 200})
	if err != nil {
		return nil, err
	}
	checked := "as it was entered"
	if h.Chain != "intact" {
		checked = "changed since, see its findings"
	}
	b.line("history.json  the unit's history, checked: %s", checked)
	if err := put("history.json", h); err != nil {
		return nil, err
	}
	if err := v.supportChecks(ctx, b, put, row); err != nil {
		return nil, err
	}
	if err := v.supportMade(ctx, b, row, r); err != nil {
		return nil, err
	}
	for _, a := range r.Answers {
		photo, err := core.ParseDigest(a.Photo)
		if a.Photo == "" || err != nil {
			continue
		}
		e, err := v.store.Evidence(ctx, photo)
		if err != nil || e.Body == nil {
			b.line("pictures      %s: taken away", a.Item)
			continue
		}
		name := "pictures/" + plainName(a.Item) + " " + photo.Short() + "." + strings.TrimPrefix(e.Kind, "image/")
		b.line("%s", name)
		b.put(name, e.Body)
	}
	return b.close()
}

const keptBack = "(kept back)"

func maskedSettings(all []settings.Value) []settings.Value {
	out := make([]settings.Value, len(all))
	for i, s := range all {
		out[i] = settings.Value{Name: s.Name, Value: keptBack, Sealed: s.Sealed, Public: s.Public}
	}
	return out
}

// mask keeps a value back, if there is one.
func mask(v *settings.Value) *settings.Value {
	if v == nil {
		return nil
	}
	return &maskedSettings([]settings.Value{*v})[0]
}

// withoutSettings is an event without the values of settings: one may be a password.
func withoutSettings(raw []byte) ([]byte, error) {
	var e run.Event
	if err := json.Unmarshal(raw, &e); err != nil {
		return nil, err
	}
	var err error
	switch e.Kind {
	case run.KindTraced:
		err = rewritten(&e, func(t *run.Traced) { t.Text = "" }) // a file of its own
	case run.KindSettings:
		err = rewritten(&e, func(s *run.Settings) { s.Settings = maskedSettings(s.Settings) })
	case run.KindSaved:
		err = rewritten(&e, func(p *run.Page) { p.Put = maskedSettings(p.Put) })
	case run.KindSettled:
		err = rewritten(&e, func(s *run.Settled) { s.Now = maskedSettings(s.Now) })
	case run.KindLaid:
		err = rewritten(&e, func(l *run.LaidOut) {
			l.Made = nil
			for i := range l.Lines {
				x := &l.Lines[i]
				x.Found, x.Want, x.Other, x.Why = mask(x.Found), mask(x.Want), mask(x.Other), nil
			}
			for i := range l.Items { // their words name values too
				l.Items[i] = l.Items[i].Saying(core.Said{Text: l.Items[i].Setting})
			}
		})
	case run.KindHands:
		err = rewritten(&e, func(h *run.Hands) {
			if strings.HasPrefix(h.Item, "left-") {
				h.Says = h.Item
			}
		})
	case run.KindAnswered:
		err = rewritten(&e, func(a *procedure.Answer) {
			if a.Set {
				a.Value = keptBack
			}
		})
	case run.KindOpened:
		err = rewritten(&e, func(o *run.Opened) {
			o.Settings = maskedSettings(o.Settings)
			for i := range o.Fill {
				o.Fill[i].Value = keptBack
			}
		})
	default:
		return raw, nil
	}
	if err != nil {
		return nil, err
	}
	return json.Marshal(e)
}

// traceOf is the trace of which an event of a run tells, with its text, or why that is not here; nil
// where it tells of none.
func (v *Runs) traceOf(ctx context.Context, id string, raw []byte) (t *run.Traced, section string, gone *core.Said, err error) {
	var e run.Event
	t = &run.Traced{}
	if json.Unmarshal(raw, &e) != nil || e.Kind != run.KindTraced || json.Unmarshal(e.Body, t) != nil {
		return nil, "", nil, nil
	}
	if t.Digest == nil {
		return t, e.Section, nil, nil
	}
	text, came, err := v.store.TraceText(ctx, id, *t.Digest)
	switch {
	case err != nil:
		return nil, "", nil, err
	case text != nil:
		t.Text = string(text)
	case came:
		gone = new(core.Say("What was said here was removed after as long as the team keeps it; its SHA-256 stays in the signed event."))
	default:
		gone = new(core.Say("What was said here is not kept by the service; its SHA-256 stands in the signed event."))
	}
	return t, e.Section, gone, nil
}

// supportChecks adds what was seen of the link lately.
func (v *Runs) supportChecks(ctx context.Context, b *bundle, put func(string, any) error, row store.Run) error {
	rows, err := v.store.Checks(ctx, row.Bench, row.Link, mostChecks)
	if err != nil || len(rows) == 0 {
		return err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return err
	}
	var checks []client.Check
	for _, x := range rows {
		c, err := links.Checked(x, row.BenchName+"/"+row.Link, names[x.By])
		if err != nil {
			return err
		}
		checks = append(checks, c)
	}
	b.line("checks.json   the last %d checks of the link", len(checks))
	return put("checks.json", checks)
}

// supportMade adds what the run was made by: sheet, release, versions.
func (v *Runs) supportMade(ctx context.Context, b *bundle, row store.Run, r client.Run) error {
	s, err := v.Units.Folded(ctx, row.ID)
	if err != nil {
		return err
	}
	if s.Opened != nil && !s.Opened.Sheet.IsZero() {
		raw, err := v.store.Piece(ctx, s.Opened.Sheet)
		if err != nil {
			return err
		}
		b.line("sheet.yaml    the model sheet as it was then")
		b.put("sheet.yaml", raw)
	}
	if r.Release != "" {
		rel, err := v.store.Release(ctx, r.Release)
		if err != nil {
			return err
		}
		b.line("release.json  release %s, as it was entered", rel.Version)
		document, err := v.store.Piece(ctx, rel.Document)
		if err != nil {
			return err
		}
		b.put("release.json", document)
	}
	text := fmt.Sprintf("service: schema %d\n", store.Schema)
	if info, ok := debug.ReadBuildInfo(); ok {
		text += fmt.Sprintf("built with %s as %s", info.GoVersion, info.Main.Version)
		for _, x := range info.Settings {
			if x.Key == "vcs.revision" || x.Key == "vcs.modified" {
				text += fmt.Sprintf(", %s %s", x.Key, x.Value)
			}
		}
		text += "\n"
	}
	benches, err := v.store.Benches(ctx)
	if err != nil {
		return err
	}
	for _, x := range benches {
		if x.ID == row.Bench {
			text += fmt.Sprintf("bench %s: version %s, its clock ahead by %d µs\n", x.Name, cmp.Or(x.Version, "not told"), x.ClockError)
		}
	}
	b.line("versions.txt  of the service and the bench")
	b.put("versions.txt", []byte(text))
	return nil
}

// rewritten changes the body of an event.
func rewritten[T any](e *run.Event, change func(*T)) error {
	var b T
	if err := json.Unmarshal(e.Body, &b); err != nil {
		return err
	}
	change(&b)
	body, err := json.Marshal(b)
	e.Body = body
	return err
}

package cli

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) fitVerb() *cobra.Command {
	day, why, matrix := "", "", false
	v := &cobra.Command{Use: "fit LINK|UNIT", Short: "Which release fits a unit, and why; what the job needs first", Args: cobra.ExactArgs(1),
		Example:           "  ferry fit van/quay-1\n  ferry fit Q80-3982-051 --why 4.2.1\n  ferry fit Q80-3982-051 --day 2026-12-01\n  ferry fit Q80-3982-051 --output json",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			f, err := c.Fit(ctx, args[0], day, why)
			if err != nil {
				return err
			}
			return a.show(f, func() {
				switch {
				case why != "":
					a.why(f, why)
				case matrix:
					a.matrix(*f.Matrix)
					for _, c := range f.Matrix.Columns {
						if c.Flaw != "" {
							fmt.Fprintf(a.out, "%s %s %s: %s\n", a.paint(brick, "!"), f.Matrix.Fact, c.Value, c.Flaw)
						}
					}
				default:
					a.fit(f)
				}
			})
		})}
	v.Flags().StringVar(&day, "day", "", "the planned day, for what runs out before it")
	v.Flags().StringVar(&why, "why", "", "every rule of this release, with fact, source and age")
	v.Flags().BoolVar(&matrix, "matrix", false, "revisions against releases")
	return v
}

func (a *app) answer(x fit.Answer) (mark, word string) {
	switch x {
	case fit.DoesNotFit:
		return a.paint(brick, "✗"), a.paint(brick, "does not fit")
	case fit.CannotTell:
		return "?", "cannot tell"
	}
	return a.paint(teal, "✓"), a.paint(teal, "fits")
}

// runs is what a unit runs, for a list.
func runs(u client.Unit) string {
	if u.State == "half-done" {
		return "partly written"
	}
	all := []string{dash(u.Running)}
	if u.Withdrawn != "" {
		all = append(all, "withdrawn")
	}
	if u.Due != "" {
		all = append(all, told("due %s", u.Due))
	}
	if u.Held != nil {
		all = append(all, told("held at %s", u.Held.Version))
	}
	return words.Listed(all...)
}

func (a *app) fit(f client.Fit) {
	running := f.Running
	if running == "" {
		running = "an unknown version"
	}
	if serial := a.paint(bold, f.Serial); f.State != "half-done" {
		tell(a.out, "%s runs %s.", serial, running)
	} else {
		fmt.Fprintf(a.out, "%s:", serial)
	}
	var best *fit.Verdict
	for i, v := range f.Verdicts {
		if v.Recommended {
			best = &f.Verdicts[i]
		}
	}
	now := f.Now.Text
	if best != nil && best.Current {
		now = a.paint(teal, now)
	}
	fmt.Fprintf(a.out, " %s\n", now)
	if f.Withdrawn != "" {
		fmt.Fprintf(a.out, "%s %s\n", a.paint(brick, "beware "), wrap(told("What it runs was withdrawn: %s", f.Withdrawn), 8))
	}
	if f.Inside != nil {
		fmt.Fprintf(a.out, "%s %s\n", a.paint(faint, "inside "), wrap(f.Inside.Text, 8))
	}
	if f.Inside != nil && len(f.Inside.Parts) > 1 {
		for _, p := range f.Inside.Parts {
			fmt.Fprintf(a.out, "        %s: %s\n", p.Title, wrap(p.Text, 8))
		}
	}
	for _, s := range f.Sisters {
		fmt.Fprintf(a.out, "%s %s\n", a.paint(faint, "beware "), wrap(s.Text, 8))
	}
	fmt.Fprintln(a.out)
	var rows [][]string
	for _, v := range f.Verdicts {
		mark, word := a.answer(v.Answer)
		rows = append(rows, []string{mark, a.paint(bold, v.Version), string(v.Channel), word, a.notes(v), column(because(v), 56)})
	}
	a.table([]string{"", "release", "channel", "verdict", "", "because"}, rows)
	a.needs(f)
	if q := f.Question; q != nil {
		a.question(f, q)
	} else if best != nil && !best.Current {
		next := "ferry flash " + f.Serial
		if best.Toward != "" {
			next += "   " + told("(%s first; it is a step to %s)", best.Version, best.Toward)
		}
		a.next("\n", next)
	}
}

func (a *app) notes(v fit.Verdict) string {
	var note []string
	if v.Recommended {
		note = append(note, a.paint(bold, "recommended"))
	}
	switch {
	case v.Held:
		note = append(note, "held here")
	case v.Target:
		note = append(note, "our choice")
	}
	if v.Current {
		note = append(note, "runs now")
	} else if v.Step == "older" {
		note = append(note, "a step back")
	}
	if len(v.Path) > 0 {
		note = append(note, told("after %s", strings.Join(v.Path, ", ")))
	}
	return strings.Join(note, ", ")
}

// because is what decided, in a sentence or two; --why tells the rest.
func because(v fit.Verdict) string {
	var all []string
	for _, r := range v.Reasons {
		if r.Answer == v.Answer && (v.Answer != fit.Fits || r.Warns && r.Rule != fit.RuleStepBack || r.Rule == fit.RuleHold) {
			all = append(all, r.Text)
		}
	}
	if len(all) > 1 {
		all = []string{all[0], told("And %d more.", len(all)-1)}
	}
	if len(all) == 0 && v.Answer == fit.Fits {
		for _, r := range v.Reasons {
			if r.Fact != "" && r.Rule == fit.RuleValue && len(all) < 3 {
				all = append(all, r.Text)
			}
		}
	}
	return strings.Join(all, " ")
}

func (a *app) question(f client.Fit, q *fit.Question) {
	fmt.Fprintf(a.out, "\n%s %s\n", a.paint(amber, " ONE QUESTION "), q.Ask)
	if q.Look != "" {
		fmt.Fprintf(a.out, "  %s\n", wrap(q.Look, 2))
	}
	for _, x := range q.Answers {
		lead := "then none fits"
		if x.Leads != "" {
			lead = told("then %s", x.Leads)
		}
		says := x.Says
		if says != "" {
			says += "; "
		}
		tell(a.out, "  ferry note %s %s=%-12s %s\n", f.Serial, q.Fact, x.Value, a.paint(faint, says+lead))
	}
	fmt.Fprintf(a.out, "  %s\n", a.paint(faint, "with a photo: --photo FILE"))
}

var needSigns = map[string]string{fit.Ready: "✓", fit.RunsOut: "!", fit.Unproven: "?"}

func (a *app) needs(f client.Fit) {
	if len(f.Needs) == 0 {
		return
	}
	head := "The job needs"
	if f.Day != nil {
		head = told("The job needs on %s", f.Day.Format("2 January 2006"))
	}
	fmt.Fprintf(a.out, "\n%s\n", a.paint(bold, head))
	var rows [][]string
	for _, n := range f.Needs {
		sign, ok := needSigns[n.State]
		switch {
		case n.State == fit.Ready:
			sign = a.paint(teal, sign)
		case !ok && n.Optional:
			sign = "–"
		case !ok:
			sign = a.paint(brick, "✗")
		}
		word := strings.ReplaceAll(n.State, "-", " ")
		if n.Optional {
			word = words.Listed(word, "optional")
		}
		rows = append(rows, []string{sign, n.Kind, a.paint(bold, n.Name), word, column(strings.TrimSpace(n.Text+" "+n.Says), 60)})
	}
	a.table([]string{"", "kind", "name", "", ""}, rows)
}

// why writes every rule of one release.
func (a *app) why(f client.Fit, version string) {
	for _, v := range f.Verdicts {
		if v.Version != version && v.Release != version {
			continue
		}
		mark, word := a.answer(v.Answer)
		tell(a.out, "%s %s %s for %s. %s\n\n", mark, a.paint(bold, v.Version), word, f.Serial, a.notes(v))
		var rows [][]string
		for _, r := range v.Reasons {
			mark, _ := a.answer(r.Answer)
			if r.Warns {
				mark = "!"
			}
			from := r.Source
			if !r.At.IsZero() {
				from += ", " + when(r.At)
			}
			rows = append(rows, []string{mark, strings.ReplaceAll(r.Rule, "-", " "), r.Fact, r.Value, from, column(r.Text, 52)})
		}
		a.table([]string{"", "rule", "fact", "value", "source", "says"}, rows)
		if d, ok := v.Deciding(); ok && d.Next != "" {
			a.next("\n", wrap(d.Next, 7))
		}
	}
}

// matrix writes releases against revisions.
func (a *app) matrix(m client.Matrix) {
	head := []string{"release"}
	for _, c := range m.Columns {
		name := m.Fact + " " + c.Value
		if c.Value == m.ColumnNow {
			name = "▸ " + name
		}
		head = append(head, name)
	}
	var rows [][]string
	for _, r := range m.Rows {
		name := a.paint(bold, r.Version)
		switch {
		case r.Withdrawn:
			name += " withdrawn"
		case r.Channel == "candidate":
			name += " candidate"
		}
		if r.Runs {
			name = words.Listed(name, "runs now")
		}
		row := []string{name}
		for _, c := range r.Cells {
			row = append(row, a.cell(c))
		}
		if r.Unit != nil {
			row = append(row, a.cell(*r.Unit))
		}
		rows = append(rows, row)
	}
	if len(m.Rows) > 0 && m.Rows[0].Unit != nil {
		head = append(head, "this unit")
	}
	a.table(head, rows)
	for _, c := range m.Columns {
		if c.Target != "" {
			tell(a.out, "  %s %s: our choice is %s\n", m.Fact, c.Value, c.Target)
		}
	}
}

func (a *app) cell(c fit.Cell) string {
	mark, word := a.answer(c.Answer)
	if c.Answer == fit.Fits {
		if c.Warns {
			return mark + " " + word + " ! " + c.Short
		}
		return mark + " " + word
	}
	return mark + " " + c.Short
}

func (a *app) noteVerb() *cobra.Command {
	label, photo, unread := false, "", ""
	v := &cobra.Command{Use: "note UNIT FACT=VALUE...", Short: "Note what a label or a person says of a unit", Args: cobra.MinimumNArgs(1),
		Long:              "Every model has the fact running: the version that a display, a banner or a sticker shows, where the unit does not\ntell it on the wire. --unread says why nobody could read it. Both stand in the record of the next run.",
		Example:           "  ferry note Q80-5120-009 region=inner-sound\n  ferry note Q80-3982-044 revision=D --label --photo label.jpg\n  ferry note SD7-1180 running=1.2 --photo display.jpg\n  ferry note SD7-1180 --unread \"its display is dead\"",
		ValidArgsFunction: a.complete(serials),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n := client.Noted{}
			if len(args) == 1 && unread == "" {
				return core.Fail(core.NotUnderstood, "nothing is to be noted").Do("Write FACT=VALUE, or --unread and why.")
			}
			if unread != "" {
				n.Facts = append(n.Facts, client.NotedFact{Name: core.FactUnread, Value: unread, Source: core.FromPerson})
			}
			digest := ""
			if photo != "" {
				raw, err := os.ReadFile(photo)
				if err != nil {
					return core.Fail(core.NotFound, "%w", err)
				}
				kept, err := c.PutEvidence(ctx, strings.Split(http.DetectContentType(raw), ";")[0], raw)
				if err != nil {
					return err
				}
				digest = kept.Digest.String()
			}
			for _, x := range args[1:] {
				name, value, ok := strings.Cut(x, "=")
				if !ok {
					return mistyped("%q: write FACT=VALUE", x)
				}
				source := core.FromPerson
				if label {
					source = core.FromLabel
				}
				n.Facts = append(n.Facts, client.NotedFact{Name: name, Value: value, Source: source, Photo: digest})
			}
			if err := c.Note(ctx, args[0], n); err != nil {
				return err
			}
			return a.show(n, func() {
				tell(a.out, "%s noted with your name and the time.\n", a.paint(teal, "✓"))
				a.next("", "ferry fit "+args[0])
			})
		})}
	v.Flags().BoolVar(&label, "label", false, "it stands on the label (otherwise: you say so)")
	v.Flags().StringVar(&unread, "unread", "", "why nobody could read which version it runs")
	v.Flags().StringVar(&photo, "photo", "", "a photo that shows it (JPEG, PNG or WebP)")
	return v
}

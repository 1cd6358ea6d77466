package cli

import (
	"bufio"
	"context"
	"fmt"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// ask shows the one page before the write, and asks.
func (a *app) ask(ctx context.Context, c *client.Client, id client.Identity, n *client.NewRun, o opening) error {
	if n.Kind == run.BackUp {
		return nil
	}
	out := a.err
	fmt.Fprintf(out, "\n  %s  %s  %s\n", a.bright(told("%s rev %s", id.ModelName, dash(id.Facts[core.FactRevision].Value))), id.Serial, id.Site)
	running := dash(id.Facts[core.FactRunning].Value)
	goes := true
	if n.Kind == run.Flash {
		f, err := c.Fit(ctx, id.Unit, "", "")
		if err != nil {
			return err
		}
		v, ok := chosen(f, n.Release)
		if !ok {
			return core.Fail(core.NotFound, "%s has no release %q", id.ModelName, n.Release).Unit("nothing was changed").Go(words.Fit(id.Serial).To("See which there are"))
		}
		goes = v.Answer == fit.Fits && (!v.Current || n.Again || n.Header != "")
		fmt.Fprintf(out, "  %s  %s, %s\n", a.bright(running+" → "+v.Version), v.Channel, strings.ReplaceAll(string(v.Answer), "-", " "))
		if v.Toward != "" {
			tell(out, "  step       on the way to %s\n", v.Toward)
		}
		for _, r := range v.Reasons {
			if r.Warns {
				labelled(out, 10, "beware", wrap(r.Text, 13))
			}
		}
		if r, err := c.ReleasePage(ctx, v.Release); err == nil {
			if changes := r.Changes.In("en"); changes != "" {
				labelled(out, 10, "changes", wrap(changes, 13))
			}
			tell(out, "  image      SHA-256 %s; %s\n", short(r.Places[len(r.Places)-1].Image.String()), r.Trust.Text)
		}
	} else {
		fmt.Fprintf(out, "  %s\n", a.bright(told("its memory goes back to backup %s", newest(n.Backup))))
	}
	labelled(out, 10, "link", fmt.Sprintf("%s, %s", id.Link, id.Strength))
	back := run.BackFull
	if card, err := c.Card(ctx, id.Unit, client.CardAbout{Release: n.Release, Header: n.Header != ""}); err == nil {
		back = card.WayBack
		if card.Procedure != "" {
			way := ""
			if n.Header != "" {
				way = " --header"
			}
			tell(out, "  card       procedure %s, %s; about %d min with your hands: ferry card %s%s\n", card.Procedure, card.Standing, card.Minutes, id.Serial, way)
		}
	}
	if len(n.Waive) > 0 {
		labelled(out, 10, "waived", told("%s, by you: %s", strings.Join(n.Waive, ", "), n.Reason))
	}
	labelled(out, 10, "way back", words.WaysBack.In(back))
	stops, err := a.admitted(ctx, c, n, o)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "  hands off  while memory is written; then the unit starts its program\n\n")
	if stops || !goes || o.yes {
		return nil // what does not fit is refused on the record
	}
	return a.confirm("Write it?")
}

// admitted shows what stops the run, all of it, and lets a lead pass by name what can
// be passed.
func (a *app) admitted(ctx context.Context, c *client.Client, n *client.NewRun, o opening) (stops bool, err error) {
	x, err := c.Admission(ctx, *n)
	if err != nil {
		return false, err
	}
	if x.Reason != "" || x.Asked != "" {
		job := x.Reason
		if x.Job != 0 {
			job = fmt.Sprintf("%d: %s", x.Job, x.Reason)
		}
		if x.Asked != "" {
			job = words.Listed(job, told("asked by %s", x.Asked))
		}
		labelled(a.err, 10, "job", wrap(job, 13))
	}
	if x.Test != "" {
		labelled(a.err, 10, "done when", wrap(x.Test, 13))
	}
	for _, l := range x.Left {
		labelled(a.err, 10, "left out", wrap(l.Section+": "+l.Why, 13))
	}
	for _, w := range x.Waived {
		if _, consent := words.Permits[w.Gate]; consent {
			labelled(a.err, 10, "consent", wrap(words.Permits.In(w.Gate)+": "+w.Reason, 13))
		}
	}
	if len(x.Parts) > 1 {
		var all []string
		for _, p := range x.Parts {
			all = append(all, p.Title)
		}
		labelled(a.err, 10, "parts", told("%s, in this order", strings.Join(all, ", ")))
	}
	for _, name := range x.Uses {
		tell(a.err, "  uses up    one of %s\n", name)
	}
	open := 0
	for _, b := range x.Bars {
		fmt.Fprintf(a.err, "  %s   %s\n", a.bright("stops it"), wrap(b.Text, 13))
		if b.Next != "" {
			fmt.Fprintf(a.err, "             %s\n", wrap(b.Next, 13))
		}
		if b.Gate == "" {
			open++
		}
	}
	if len(x.Bars) == 0 || open > 0 || o.yes || !isTerminal(a.in) {
		return len(x.Bars) > 0, nil
	}
	me, err := c.WhoAmI(ctx)
	if err != nil || me.Role != "lead" {
		return true, err
	}
	fmt.Fprintf(a.err, "\n  You are a lead. Pass all of this by your name? Type the reason, or nothing to leave it: ")
	line, _ := bufio.NewReader(a.in).ReadString('\n')
	if n.Reason = strings.TrimSpace(line); n.Reason == "" {
		return true, nil
	}
	for _, b := range x.Bars {
		if !slices.Contains(n.Waive, b.Gate) {
			n.Waive = append(n.Waive, b.Gate)
		}
	}
	return false, nil
}

// bright is for lines on stderr.
func (a *app) bright(s string) string {
	if !a.live || a.plain {
		return s
	}
	return bold + s + reset
}

func newest(name string) string {
	if name == "" {
		return "(the one from before, or the newest)"
	}
	return name
}

func chosen(f client.Fit, name string) (fit.Verdict, bool) {
	if name == "" {
		return fit.Chosen(f.Verdicts)
	}
	for _, v := range f.Verdicts {
		if v.Version == name || v.Release == name {
			return v, true
		}
	}
	return fit.Verdict{}, false
}

func (a *app) confirm(question string) error {
	if !isTerminal(a.in) {
		return core.Fail(core.NotAllowed, "this asks before it writes, and there is nobody to ask").Unit("nothing was changed").Do("In a script, say --yes.")
	}
	fmt.Fprintf(a.err, "%s %s", question, told("Type yes to go on: "))
	line, _ := bufio.NewReader(a.in).ReadString('\n')
	if strings.TrimSpace(strings.ToLower(line)) != "yes" {
		return core.Fail(core.NotAllowed, "you did not say yes").Unit("nothing was changed").Do("Begin again when you are ready.")
	}
	return nil
}

// gateWord names a step for a person.
func gateWord(s run.Phase) string {
	switch s {
	case run.PhaseSame:
		return "identify again"
	case run.PhaseStore:
		return "backup"
	case run.PhaseSurvey:
		return "reading after the interruption"
	}
	return string(s)
}

package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) runVerb() *cobra.Command {
	v := &cobra.Command{Use: "run", Short: "Look at runs, take them up, stop them"}
	v.AddCommand(a.runList(), a.runShow(), a.answerVerb(), a.runResume(), a.runStop(), a.runSupport(), a.runLayAside(), a.runBorrowed(), a.runTrouble(), a.runTried(), a.runTrace(), a.runAbandon(), a.runRelease())
	return v
}

func (a *app) runShow() *cobra.Command {
	follow := false
	v := &cobra.Command{Use: "show RUN", Short: "How a run stands", Args: cobra.ExactArgs(1), Example: "  ferry run show 0193f2a0-… --follow", ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Run(ctx, args[0])
			if err != nil {
				return err
			}
			if follow && r.State == "open" {
				return a.follow(ctx, c, r, 0)
			}
			return a.show(r, func() { a.showRun(r) })
		})}
	v.Flags().BoolVarP(&follow, "follow", "f", false, "stay until it is closed or paused")
	return v
}

func (a *app) runResume() *cobra.Command {
	var in client.Resume
	v := &cobra.Command{Use: "resume RUN", Short: "Take a paused run up again, here or at another bench", Args: cobra.ExactArgs(1),
		Example: "  ferry run resume 0193f2a0-…\n  ferry run resume 0193f2a0-… --at shop/bench-2", ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			before, err := c.Run(ctx, args[0])
			if err != nil {
				return err
			}
			r, err := c.ResumeRun(ctx, args[0], in)
			if err != nil {
				return err
			}
			return a.follow(ctx, c, r, before.Progress.Last)
		})}
	v.Flags().StringVar(&in.Label, "label", "", "the serial on the label, where the unit does not tell it")
	v.Flags().StringVar(&in.At, "at", "", "the link (BENCH/NAME) that the unit is on now, if it is another")
	v.Flags().BoolVar(&in.Slower, "slower", false, "its loaders stay at the speed at which they are called")
	v.Flags().StringToStringVar(&in.Links, "link", nil, "a further link of the unit, as NAME=BENCH/LINK, if it is another")
	return v
}

func (a *app) runStop() *cobra.Command {
	return &cobra.Command{Use: "stop RUN", Short: "Stop a run after the action in hand", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.StopRun(ctx, args[0]); err != nil {
				return err
			}
			r, err := c.Run(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(map[string]string{"run": args[0], "order": "stop"}, func() {
				if s := r.Progress.IfStopped; s != nil {
					fmt.Fprintln(a.out, s.Text)
				}
				fmt.Fprintln(a.out, told("See how it stands: ferry run show %s", args[0]))
			})
		})}
}

func (a *app) runSupport() *cobra.Command {
	return &cobra.Command{Use: "support RUN [FILE.zip]", Short: "One file that explains a run to somebody who was not there", Args: cobra.RangeArgs(1, 2),
		Long:    "Its events and record, the unit's history, sheet and release, checks of the link, pictures. READ FIRST.txt says what is\nwhat, and who may see it: it names people and places. Secrets and the unit's memory are not in it.",
		Example: "  ferry run support 0193f2a0-…\n  ferry run support 0193f2a0-… quay-3.zip",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			file := "run-" + args[0][:min(8, len(args[0]))] + ".zip"
			if len(args) == 2 {
				file = args[1]
			}
			raw, err := c.SupportRun(ctx, args[0])
			return a.bundled(file, raw, err)
		})}
}

// bundled writes a bundle of files that the service has made.
func (a *app) bundled(file string, raw []byte, err error) error {
	if err == nil {
		err = writeFile(file, raw)
	}
	if err != nil {
		return err
	}
	return a.show(map[string]any{"file": file, "bytes": len(raw)}, func() {
		tell(a.out, "%s Written to %s, %s. READ FIRST.txt in it says what is what.\n", a.paint(teal, "✓"), file, kib(uint64(len(raw))))
	})
}

func (a *app) runLayAside() *cobra.Command {
	var in client.LayAside
	v := &cobra.Command{Use: "lay-aside RUN", Short: "Let a run wait for days; its link is free meanwhile", Args: cobra.ExactArgs(1),
		Example: "  ferry run lay-aside 0193f2a0-… --place \"in tug 3, Gannet Quay\" --holder \"Sunniva Dale\"", ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.LayAside(ctx, args[0], in)
			if err != nil {
				return err
			}
			return a.show(r, func() { a.showRun(r) })
		})}
	v.Flags().StringVar(&in.Place, "place", "", "where the unit is meanwhile")
	v.Flags().StringVar(&in.Holder, "holder", "", "who has it")
	v.Flags().StringVar(&in.Why, "reason", "", "what it waits for")
	v.MarkFlagRequired("place")
	v.MarkFlagRequired("holder")
	return v
}

func (a *app) runAbandon() *cobra.Command {
	reason := ""
	v := &cobra.Command{Use: "abandon RUN", Short: "Close a paused run by your name; what it owes stays with the unit", Args: cobra.ExactArgs(1),
		Example: "  ferry run abandon 0193f2a0-… --reason \"the board is scrapped\"", ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.AbandonRun(ctx, args[0], reason)
			if err != nil {
				return err
			}
			return a.show(r, func() { a.showRun(r) })
		})}
	v.Flags().StringVar(&reason, "reason", "", "why (stands in the unit's history)")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) runRelease() *cobra.Command {
	reason := ""
	v := &cobra.Command{Use: "release RUN", Short: "Give up a run whose bench does not come back (lead)", Args: cobra.ExactArgs(1), Example: "  ferry run release 0193f2a0-… --reason \"laptop lost at sea\"", ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.ReleaseRun(ctx, args[0], reason); err != nil {
				return err
			}
			return a.show(map[string]string{"run": args[0], "outcome": "abandoned"}, func() { tell(a.out, "Given up, with your name and the reason in the unit's history.\n") })
		})}
	v.Flags().StringVar(&reason, "reason", "", "why (stands in the unit's history)")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) runList() *cobra.Command {
	var q client.RunQuery
	v := &cobra.Command{Use: "list", Short: "Runs, the newest first", Args: cobra.NoArgs, Example: "  ferry run list --state open\n  ferry run list --model quill-80 --site gannet --from 2026-11-01 --output csv",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			q.Size = 30
			rs, err := c.Runs(ctx, q)
			if err != nil {
				return err
			}
			return a.show(rs, func() {
				var rows [][]string
				for _, r := range rs.Runs {
					how := stands(r)
					if l := r.Progress.View.Laid; l != nil && r.State != "closed" {
						how = told("laid aside: %s, with %s", l.Place, l.Holder)
					}
					rows = append(rows, []string{r.ID, r.Kind, r.Unit.Serial, r.Link, dash(r.From) + " → " + dash(r.To), how, r.By, when(r.Opened), why(r)})
				}
				a.table([]string{"run", "kind", "unit", "link", "version", "outcome", "by", "opened", "why"}, rows)
				a.extentOf(len(rs.Runs), rs.Paged, q.After, "%s run", "%s runs", "more than %s runs")
			})
		})}
	v.Flags().StringVar(&q.State, "state", "", "open, paused or closed")
	v.Flags().StringVar(&q.Unit, "unit", "", "of one unit")
	v.Flags().StringVar(&q.Model, "model", "", "of units of one model")
	v.Flags().StringVar(&q.Site, "site", "", "of units at a site, by words of its name")
	v.Flags().StringVar(&q.Person, "person", "", "ordered by one person")
	v.Flags().StringVar(&q.Outcome, "outcome", "", "done, not-proven, nothing-to-do, refused, failed, interrupted, waiting or abandoned")
	v.Flags().StringVar(&q.Release, "release", "", "of one release, MODEL@VERSION")
	v.Flags().Uint64Var(&q.Job, "job", 0, "of one job")
	v.Flags().StringVar(&q.From, "from", "", "opened on this day or later, as 2027-01-31")
	v.Flags().StringVar(&q.To, "to", "", "opened on this day or before")
	afterFlag(v, &q.After)
	return v
}

// why says the job of a run in a few words.
func why(r client.Run) string {
	s := r.Reason
	if r.Job != 0 && !r.OwnJob {
		s = told("job %d: %s", r.Job, s)
	}
	if r.Asked != "" {
		s += " (" + r.Asked + ")"
	}
	return column(strings.TrimSpace(s), 40)
}

func (a *app) showRun(r client.Run) {
	tell(a.out, "%s  %s of %s, %s\n", a.paint(bold, r.Unit.Serial), r.Kind, r.Unit.ModelName, stands(r))
	a.pair("run", r.ID)
	a.pair("link", r.Link)
	a.pair("by", r.By)
	if w := jobWords(r); w != "" {
		a.pair("job", wrap(w, 13))
	}
	if r.Given != "" {
		a.pair("this run", wrap(r.Given, 13))
	}
	a.pair("version", dash(r.From)+" → "+dash(r.To))
	a.pair("opened", when(r.Opened))
	if r.Closed != nil {
		a.pair("closed", when(*r.Closed))
	}
	if r.Halves > 1 {
		a.pair("taken up", again(r.Halves))
	}
	if r.Backup != "" {
		a.pair("backup", short(r.Backup))
	}
	if l := r.Progress.View.Laid; l != nil {
		a.pair("laid aside", wrap(strings.TrimSpace(told("%s, with %s. %s", l.Place, l.Holder, l.Why)), 13))
	}
	a.parts(r.Progress.View.Parts)
	if s := r.Progress.States; s != "" {
		tell(a.out, "\n  %s\n  █ verified  ▓ written  ░ to erase  ─ right already  ═ kept\n", strip(s, 72, a.color))
	}
	if r.Record != nil {
		signed := a.paint(teal, told("signed by bench %s", r.Bench))
		if !r.Signed {
			signed = a.paint(brick, "NOT SIGNED BY ITS BENCH")
		}
		verified := "" // nothing was to be verified where nothing was to be done
		if r.Record.Verified != "" {
			verified = told("verified by %s; ", strings.ReplaceAll(r.Record.Verified, "-", " "))
		}
		a.pair("record", told("%s; %sjournal %s", signed, verified, short(r.Record.Journal.String())))
	}
	a.sides(r.Sides)
	a.setup(r.Setup)
	fmt.Fprintln(a.out)
	for _, e := range r.Progress.Events {
		if e.Text != "" && e.Kind != run.KindDone {
			fmt.Fprintf(a.out, "  %4d  %s  %s\n", e.N, a.paint(faint, clock(e.At)), e.Text)
		}
	}
	if f := r.Progress.Fault; f != nil {
		a.pair("what", wrap(f.Message, 13))
		a.pair("state", wrap(f.State, 13))
		a.pair("next", a.paint(bold, wrap(f.Next, 13)))
	} else if r.State == "paused" {
		a.pair("next", a.paint(bold, "ferry run resume "+r.ID))
	} else if all := asks(r.ID, r.Progress.View); r.State == "open" && len(all) > 0 {
		fmt.Fprintf(a.out, "\n  %s\n", a.paint(amber+bold, all[0]))
		for _, line := range all[1:] {
			fmt.Fprintln(a.out, "  "+line)
		}
	}
}

// again says how often a run was taken up.
func again(halves int) string {
	if halves == 2 {
		return "once again, after an interruption"
	}
	return told("%d times again, after interruptions", halves-1)
}

// parts tells how every part of a unit of several stands.
func (a *app) parts(all []run.PartView) {
	if len(all) == 0 {
		return
	}
	var rows [][]string
	for _, p := range all {
		mark := map[bool]string{true: "▸", false: ""}[p.AtWork]
		did := told("%d of %d", p.Right, p.Changes)
		switch {
		case p.Passed:
			did = "right already"
		case p.Changes == 0:
			did = "–"
		}
		rows = append(rows, []string{"  " + mark, p.Title, a.condition(p.Condition), did, dash(p.Version)})
	}
	fmt.Fprintln(a.out)
	a.table([]string{"  ", "part", "condition", "written", "says"}, rows)
}

func (a *app) condition(c run.Condition) string {
	switch c {
	case run.Proven, run.VerifiedNow:
		return a.paint(teal, string(c))
	case run.UnknownNow, run.PartlyWritten:
		return a.paint(brick, string(c))
	}
	return string(c)
}

// sides lays what was found beside what was left.
func (a *app) sides(all []client.Sides) {
	if len(all) == 0 {
		return
	}
	of := func(x *client.Answered) string {
		switch {
		case x == nil:
			return "–"
		case x.Photo != "":
			return told("picture %s", short(x.Photo))
		}
		return strings.TrimSpace(x.Value + " " + x.Note)
	}
	var rows [][]string
	for _, s := range all {
		mark := ""
		switch {
		case s.Other:
			mark = a.paint(bold, "other than found")
		case s.Found != nil && s.Left != nil && s.Do == model.Choose:
			mark = "as found"
		}
		rows = append(rows, []string{"  " + s.Says, of(s.Found), of(s.Left), mark})
	}
	fmt.Fprintln(a.out)
	a.table([]string{"  seen", "as found", "as left", ""}, rows)
}

func (a *app) consoleVerb() *cobra.Command {
	return &cobra.Command{Use: "console", Short: "A one-use link that opens the console, signed in", Args: cobra.NoArgs, Example: "  ferry console",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			code, err := c.NewSignInCode(ctx)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"link": a.console() + "/sign-in#" + code.Code, "expires": code.Expires}, func() {
				tell(a.out, "%s/sign-in#%s\ngood once, until %s\n", a.console(), code.Code, when(code.Expires))
			})
		})}
}

// jobWords say why a run is done and for whom.
func jobWords(r client.Run) string {
	if r.Job == 0 {
		return ""
	}
	asked := ""
	if r.Asked != "" {
		asked = told("asked by %s", r.Asked)
	}
	return fmt.Sprintf("%d: %s", r.Job, words.Listed(cmp.Or(r.Reason, "no reason was given"), asked))
}

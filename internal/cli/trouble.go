package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/advise"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) runTrouble() *cobra.Command {
	return &cobra.Command{Use: "trouble RUN", Short: "What to do with a unit whose run has stopped, the safest first", Args: cobra.ExactArgs(1), Example: "  ferry run trouble 0193f2a0-…", ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			t, err := c.Trouble(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(t, func() { a.trouble(t) })
		})}
}

func (a *app) runTrace() *cobra.Command {
	keep := ""
	v := &cobra.Command{Use: "trace RUN", Short: "What was said over a run's links until something went wrong", Args: cobra.ExactArgs(1), Example: "  ferry run trace 0193f2a0-…", ValidArgsFunction: a.complete(openRuns),
		Long: "Shows the newest of what was said on the line each time that a run met with trouble: seconds, direction, beginning of the\nbytes. Of memory only the heads of the messages are kept, of passwords, keys and settings nothing but their length.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			t, err := c.Traces(ctx, args[0])
			if err != nil {
				return err
			}
			if len(t.Traces) == 0 {
				return core.Fail(core.NotFound, "run %s has left no trace: it has met with no trouble on its line", t.Run)
			}
			if keep != "" {
				last := t.Traces[len(t.Traces)-1]
				if last.Gone != nil {
					return last.Gone.Fail(core.NotFound)
				}
				if err := os.WriteFile(keep, []byte(last.Text), 0o644); err != nil {
					return err
				}
			}
			return a.show(t, func() { a.traces(t) })
		})}
	v.Flags().StringVar(&keep, "keep", "", "a file for the newest of them")
	return v
}

// traces shows what was said on a line.
func (a *app) traces(t client.Traces) {
	for i, x := range t.Traces {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		fmt.Fprintf(a.out, "%s  %s\n", a.bright(told("%s, until %s", x.Link, clock(x.At.UnixMicro()))), a.paint(faint, told("went wrong at %s", x.Phase)))
		if x.Gone != nil {
			fmt.Fprintln(a.out, wrap(x.Gone.Text, 2))
		}
		for _, p := range x.Pieces {
			arrow, more := a.paint(teal, "<"), ""
			if p.Sent {
				arrow = a.paint(bold, ">")
			}
			if p.More > 0 {
				more = a.paint(faint, told(" + %d bytes", p.More))
			}
			about := ""
			if p.About != "" {
				about = p.About + "  "
			}
			if p.Means != "" {
				about += a.paint(bold, p.Means) + "  "
			}
			fmt.Fprintf(a.out, "%s  %s %s%s%s\n", clockTo(x.Began, p.After), arrow, about, p.Text, more)
		}
	}
}

// clockTo is the time of day so many seconds after another, to the millisecond.
func clockTo(from time.Time, after float64) string {
	return from.Add(time.Duration(after * float64(time.Second))).Local().Format("15:04:05.000")
}

func (a *app) runTried() *cobra.Command {
	rungs := append(append([]string{}, advise.Rungs...), advise.ByHand)
	return &cobra.Command{Use: "tried RUN RUNG", Short: told("Ask the unit once a rung of the ladder was tried: %s", strings.Join(rungs, ", ")), Args: cobra.ExactArgs(2), Example: "  ferry run tried 0193f2a0-… lead", ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			t, err := c.TryRung(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			for _, r := range t.Ladder {
				if r.Tried != nil && !r.Tried.Answered {
					a.exit = ExitCode(core.NotAnswering)
				} else if r.Tried != nil {
					a.exit = 0
				}
			}
			return a.show(t, func() { a.trouble(t) })
		})}
}

// trouble shows the advice.
func (a *app) trouble(t client.Trouble) {
	fmt.Fprintf(a.out, "%s  %s\n%s\n", a.paint(bold, t.Unit), a.bright(t.Head.Text), wrap(t.Why.Text, 0))
	if len(t.Sure) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", a.bright("How sure, and from what"))
		var rows [][]string
		for _, s := range t.Sure {
			var from []string
			if s.Seen > 0 {
				from = append(from, told("%d pieces read from the unit", s.Seen))
			}
			if s.Journal > 0 {
				from = append(from, told("%d by the journal", s.Journal))
			}
			if s.Unknown > 0 {
				from = append(from, told("%d cannot be told", s.Unknown))
			}
			rows = append(rows, []string{s.Section, words.Conditions.In(string(s.Condition)), strings.Join(from, ", ")})
		}
		a.table([]string{"part", "condition", "from"}, rows)
	}
	fmt.Fprintf(a.out, "\n%s\n", a.bright("What to do, the safest first"))
	var rows [][]string
	for i, x := range t.Choices {
		risks, past := x.Risks.Text, ""
		if x.Grave {
			risks = a.paint(brick, risks)
		}
		if x.Past != nil {
			past = told("%d of %d", x.Past.Helped, x.Past.All)
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), a.paint(bold, x.Says.Text), risks, column(x.Needs.Text, 46), past})
	}
	a.table([]string{"", "do", "it risks", "it needs", "helped"}, rows)
	for i, x := range t.Choices {
		for _, s := range x.Steps {
			if s.Verb != "" && i < 3 {
				fmt.Fprintf(a.out, "  %d  %s\n", i+1, s.Verb)
			}
		}
	}
	fmt.Fprintf(a.out, "\n%s\n", a.bright("The ladder"))
	rows = nil
	for _, r := range t.Ladder {
		mark, at, came := a.paint(faint, "ahead"), "", ""
		switch {
		case r.Tried != nil:
			mark, at, came = a.paint(brick, "✗"), clock(r.Tried.At), r.Tried.Says.Text
			if r.Tried.Answered {
				mark = a.paint(teal, "✓")
			}
		case r.State == "next":
			mark, came = a.paint(bold, "next"), "ferry run tried "+t.Run+" "+r.Rung
			if r.Rung == "stop" {
				came = "ferry unit apart " + t.Unit
			}
		}
		if r.Past != nil {
			came += a.paint(faint, told("  (helped %d of %d times on this model)", r.Past.Helped, r.Past.All))
		}
		rows = append(rows, []string{mark, at, r.Says.Text, came})
	}
	a.table([]string{"", "", "rung", "what came of it"}, rows)
}

func (a *app) unitApart() *cobra.Command {
	d, never := client.UnitDecision{}, false
	v := &cobra.Command{Use: "apart UNIT", Short: "Set a unit apart: out of use until somebody takes it on", Args: cobra.ExactArgs(1),
		Example:           "  ferry unit apart Q80-3982-044 --reason \"its flash refuses a sector\" --place \"the van, red box\"",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			d.Standing = string(run.SetApart)
			if never {
				d.Standing = string(run.DoNotUse)
			}
			return a.decide(ctx, c, args[0], d)
		})}
	v.Flags().StringVar(&d.Reason, "reason", "", "why; it stands in the history")
	v.Flags().StringVar(&d.Place, "place", "", "where it is put")
	v.Flags().BoolVar(&never, "do-not-use", false, "it stays where it is, and is not to be used")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) unitTakeBack() *cobra.Command {
	d := client.UnitDecision{Standing: string(run.InService)}
	v := &cobra.Command{Use: "take-back UNIT", Short: "Take a unit back that was set apart; how it stands then follows from its runs", Args: cobra.ExactArgs(1),
		Example:           "  ferry unit take-back Q80-3982-044 --reason \"its flash was changed\"",
		ValidArgsFunction: a.complete(places),
		RunE:              a.call(func(ctx context.Context, c *client.Client, args []string) error { return a.decide(ctx, c, args[0], d) })}
	v.Flags().StringVar(&d.Reason, "reason", "", "why; it stands in the history")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) decide(ctx context.Context, c *client.Client, unit string, d client.UnitDecision) error {
	u, err := c.DecideUnit(ctx, unit, d)
	if err != nil {
		return err
	}
	return a.show(u, func() {
		tell(a.out, "%s %s %s: %s. It stands in its history.\n", a.paint(teal, "✓"), u.ModelName, u.Serial, a.unitState(u.Unit))
	})
}

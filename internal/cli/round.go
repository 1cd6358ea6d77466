package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/round"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
)

func (a *app) roundVerb() *cobra.Command {
	v := &cobra.Command{Use: "round", Short: "A vehicle from as found to as left: fault codes before and after, key, clearing, learning, around the writing of its modules",
		Long: "The order of a round is data in the vehicle's sheet. ROUND is its id, or the vehicle's serial for the one that is open."}
	v.AddCommand(a.roundBegin(), a.roundNext(), a.roundLeave(), a.roundAgain(), a.roundClose(), a.roundShow(), a.roundList())
	return v
}

func (a *app) roundBegin() *cobra.Command {
	var n client.NewRound
	v := &cobra.Command{Use: "begin BENCH/LINK", Short: "Ask all modules, and keep what they say as found", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(places),
		Example: "  ferry round begin van/tug-10 --reason \"the hoist is dead since the last visit\" --asked \"Gannet Quay\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.At = args[0]
			r, err := c.BeginRound(ctx, n)
			if err != nil {
				return err
			}
			return a.show(r, func() { a.round(r) })
		})}
	v.Flags().StringVar(&n.Reason, "reason", "", "why: what was ordered, or what the driver says")
	v.Flags().StringVar(&n.Asked, "asked", "", "who asked for it")
	v.Flags().Uint64Var(&n.Job, "job", 0, "the job that it belongs to; one of its own where it is left out")
	v.Flags().StringVar(&n.Model, "model", "", "the vehicle's model; found out by itself where there is one alone")
	v.RegisterFlagCompletionFunc("model", a.complete(modelNames))
	return v
}

// roundNext goes on with a round until a person is wanted.
func (a *app) roundNext() *cobra.Command {
	done := false
	v := &cobra.Command{Use: "next ROUND", Short: "Go on until a person is wanted: what hands do is asked for, and proved by what the vehicle says", Args: cobra.ExactArgs(1),
		Example: "  ferry round next ZFPRT9B2607000010\n  ferry round next ZFPRT9B2607000010 --done      (the key is turned)",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Round(ctx, args[0])
			for err == nil && r.Next >= 0 && r.Next < len(r.Turns) {
				t, before := r.Turns[r.Next], r.Next
				if t.Do == "modules" && len(r.Behind) > 0 {
					break
				}
				fmt.Fprintf(a.err, "%2d  %s\n", before+1, t.Says)
				if t.Do == "hands" && !done && !a.sayDone() {
					break
				}
				if t.Do == "hands" {
					done = false
				}
				if r, err = c.StepRound(ctx, r.ID, client.RoundStep{Turn: before, Do: "go"}); err == nil && r.Turns[before].Read != nil {
					fmt.Fprintf(a.err, "   %s\n", a.paint(teal, "✓ "+r.Turns[before].Read.Text))
				}
			}
			if err != nil {
				return err
			}
			return a.show(r, func() { a.round(r) })
		})}
	v.Flags().BoolVar(&done, "done", false, "what hands are to do next is done")
	return v
}

// sayDone asks whether something is done; nobody there has not done it.
func (a *app) sayDone() bool {
	if !isTerminal(a.in) {
		return false
	}
	fmt.Fprint(a.err, "   Done? Type yes: ")
	line, _ := bufio.NewReader(a.in).ReadString('\n')
	return strings.TrimSpace(strings.ToLower(line)) == "yes"
}

func (a *app) roundLeave() *cobra.Command {
	reason := ""
	v := &cobra.Command{Use: "leave ROUND", Short: "Leave the turn that is next undone, by name", Args: cobra.ExactArgs(1), Example: "  ferry round leave ZFPRT9B2607000010 --reason \"the charger is left as it is, nobody ordered it\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Round(ctx, args[0])
			if err == nil {
				r, err = c.StepRound(ctx, r.ID, client.RoundStep{Turn: max(r.Next, 0), Do: "leave", Reason: reason})
			}
			if err != nil {
				return err
			}
			return a.show(r, func() { a.round(r) })
		})}
	v.Flags().StringVar(&reason, "reason", "", "why it stays undone")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) roundAgain() *cobra.Command {
	return &cobra.Command{Use: "again ROUND TURN", Short: "Go back to a turn: it and all after it are done anew", Args: cobra.ExactArgs(2), Example: "  ferry round again ZFPRT9B2607000010 2",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			turn := 0
			if _, err := fmt.Sscan(args[1], &turn); err != nil || turn < 1 {
				return core.Fail(core.NotUnderstood, "a turn has a number from 1, not %q", args[1])
			}
			r, err := c.Round(ctx, args[0])
			if err == nil {
				r, err = c.StepRound(ctx, r.ID, client.RoundStep{Turn: turn - 1, Do: "again"})
			}
			if err != nil {
				return err
			}
			return a.show(r, func() { a.round(r) })
		})}
}

func (a *app) roundClose() *cobra.Command {
	reason := ""
	v := &cobra.Command{Use: "close ROUND", Short: "Close a round: the vehicle is handed back as it is noted", Args: cobra.ExactArgs(1), Example: "  ferry round close ZFPRT9B2607000010",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Round(ctx, args[0])
			if err == nil {
				r, err = c.StepRound(ctx, r.ID, client.RoundStep{Turn: max(r.Next, 0), Do: "close", Reason: reason})
			}
			if err != nil {
				return err
			}
			return a.show(r, func() { a.round(r) })
		})}
	v.Flags().StringVar(&reason, "reason", "", "why it is handed back like this, where something is open")
	return v
}

func (a *app) roundShow() *cobra.Command {
	pdf := ""
	v := &cobra.Command{Use: "show ROUND", Short: "A round: its turns, its modules, and every fault code through it", Args: cobra.ExactArgs(1), Example: "  ferry round show ZFPRT9B2607000010\n  ferry round show ZFPRT9B2607000010 --pdf report.pdf",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Round(ctx, args[0])
			if err != nil {
				return err
			}
			if pdf != "" {
				raw, err := paper.Round(r, a.clock.Now())
				return a.printed(pdf, raw, err)
			}
			return a.show(r, func() { a.round(r) })
		})}
	v.Flags().StringVar(&pdf, "pdf", "", "write its report to a file, to be printed")
	return v
}

func (a *app) roundList() *cobra.Command {
	unit, open, after := "", false, ""
	v := &cobra.Command{Use: "list", Short: "Rounds: open ones first, then the newest", Args: cobra.NoArgs, Example: "  ferry round list --open\n  ferry round list --unit ZFPRT9B2607000010",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Rounds(ctx, unit, open, after)
			if err != nil {
				return err
			}
			return a.show(all, func() {
				var rows [][]string
				for _, r := range all.Rounds {
					state := a.paint(amber, "open")
					if r.Closed != nil {
						state = told("closed since %s", r.Closed.Local().Format("2006-01-02 15:04 MST"))
					}
					rows = append(rows, []string{a.paint(bold, r.Serial), r.ModelName, r.At.Local().Format("2006-01-02 15:04 MST"), state, r.By, column(r.Reason, 40), r.ID})
				}
				a.table([]string{"vehicle", "model", "begun", "stands", "by", "reason", "round"}, rows)
				a.extentOf(len(all.Rounds), all.Paged, after, "%s round", "%s rounds", "more than %s rounds")
			})
		})}
	v.Flags().StringVar(&unit, "unit", "", "of one vehicle: id or serial")
	v.Flags().BoolVar(&open, "open", false, "only those that are not closed")
	afterFlag(v, &after)
	return v
}

// round shows a round: how far it is, its modules, and the fault codes through it.
func (a *app) round(r client.Round) {
	fmt.Fprintf(a.out, "%s  %s  %s\n", a.paint(bold, r.ModelName), r.Serial, a.paint(faint, told("on %s, job %d: %s", r.Link, r.Job, r.Reason)))
	for i, t := range r.Turns {
		sign, says := "·", t.Says
		switch {
		case i == r.Next:
			sign, says = a.paint(blue, "▶"), a.paint(bold, t.Says)
		case t.State == "done":
			sign = a.paint(teal, "✓")
		case t.State == "left":
			sign = a.paint(amber, "!")
		}
		var more []string
		if t.State == "unknown" || t.State == "left" || t.State == "passed" {
			more = append(more, words.Turns.In(t.State))
		}
		if t.Read != nil {
			more = append(more, t.Read.Text)
		}
		if t.Reason != "" {
			more = append(more, t.Reason)
		}
		if t.At != nil {
			more = append(more, t.At.Local().Format("15:04:05"), t.By)
		}
		fmt.Fprintf(a.out, "%s %2d  %s  %s\n", sign, i+1, says, a.paint(faint, strings.Join(more, ", ")))
	}
	for _, m := range r.Modules {
		for _, b := range m.Bulletins {
			a.bulletin(b)
		}
	}
	if len(r.Conditions) > 0 {
		var all []string
		for _, f := range r.Conditions {
			all = append(all, words.Facts.In(f.Name)+" "+f.Value)
		}
		tell(a.out, "\nIt says: %s, at %s.\n", strings.Join(all, ", "), r.Conditions[0].At.Local().Format(time.TimeOnly))
	}
	var rows [][]string
	for _, m := range r.Modules {
		runs := m.Running
		if m.Boot {
			runs = "no program"
		}
		rows = append(rows, []string{m.Title, dash(m.Serial), dash(runs), cmp.Or(writtenBy(r, m.Slot), "–"), a.moduleStands(m), a.moduleNext(m)})
	}
	fmt.Fprintln(a.out)
	a.table([]string{"slot", "serial", "runs", "written", "stands", "next"}, rows)
	a.roundCodes(r)
	a.roundEnd(r)
}

func writtenBy(r client.Round, slot string) string {
	for _, w := range r.Written {
		if w.Slot == slot {
			return fmt.Sprintf("%s → %s", cmp.Or(w.From, "?"), cmp.Or(w.To, "at work"))
		}
	}
	return ""
}

// saysOf is what a code means, and what was recorded with it.
func saysOf(l round.Line) string {
	says := cmp.Or(l.Says, "no text in the sheet")
	if l.Recalled != nil {
		says += " (" + l.Recalled.Text + ")"
	}
	return says
}

// roundCodes shows every fault code of every module through a round.
func (a *app) roundCodes(r client.Round) {
	if len(r.Lines) == 0 {
		return
	}
	head := []string{"code", "module", "meaning"}
	for _, n := range r.Notes {
		head = append(head, n.Title)
	}
	head = append(head, "stands")
	var rows [][]string
	for _, l := range r.Lines {
		row := []string{a.paint(bold, l.Code), l.Title, column(saysOf(l), 44)}
		for _, s := range l.Seen {
			switch {
			case !s.Known:
				row = append(row, "?")
			case s.There:
				row = append(row, a.paint(brick, "● ")+strings.Join(s.Is, ", "))
			default:
				row = append(row, "–")
			}
		}
		stands := words.CodeStands.In(l.Stands)
		if l.Stands == "new" || l.Stands == "back" || l.Stands == "not-known" {
			stands = a.paint(brick, stands)
		}
		if l.Ours != nil {
			stands += "; " + l.Ours.Text
		}
		rows = append(rows, append(row, stands))
	}
	fmt.Fprintln(a.out)
	a.table(head, rows)
}

// roundEnd says how it stands and what is to be done now.
func (a *app) roundEnd(r client.Round) {
	fmt.Fprintf(a.out, "\n%s\n", r.Now.Text)
	if r.Closed != nil {
		fmt.Fprintf(a.out, "%s %s\n", when(*r.Closed), r.Closing)
	}
	if r.Whole != nil && !*r.Whole {
		fmt.Fprintln(a.out, a.paint(brick, "Its events are not those of which the vehicle's history holds the digest."))
	}
	if next := core.Todos(r.Steps...).Next; next != "" {
		a.pair("next", a.paint(bold, wrap(next, 13)))
	}
}

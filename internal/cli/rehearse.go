package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/rehearse"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) rehearseVerb() *cobra.Command {
	n, sheet, trouble := client.NewRehearsal{}, "", ""
	v := &cobra.Command{Use: "rehearse UNIT|LINK", Short: "Do a run on a twin of the unit, made from its backup: nothing is touched", Args: cobra.ExactArgs(1),
		Example: "  ferry rehearse Q80-4417-206\n  ferry rehearse van/quay-1 --release 4.1.6\n  ferry rehearse Q80-4417-206 --by-hand --trouble line\n  ferry rehearse Q80-4417-206 --sheet new.yaml --by-hand", ValidArgsFunction: a.complete(places),
		Long: "Does the run itself, from the card to the close, on a twin that the service makes of the unit's newest backup and its\nsheet. Says whether it ends right, how long the line takes, what will be asked, and what the unit has now and would not have\nafterwards. With --by-hand you go through it yourself: you are asked what a run would ask you, and answer as you would there.\nWith --sheet it goes by a sheet that is not in force, with --trouble something goes wrong. Exit code 0 if it ends right, else\nthat of what went wrong.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.At, n.Trouble = args[0], rehearse.Trouble(trouble)
			if sheet != "" {
				raw, err := os.ReadFile(sheet)
				if err != nil {
					return core.Fail(core.BadFile, "%w", err)
				}
				n.Sheet = string(raw)
			}
			if n.Trouble != "" && !n.ByHand {
				return core.Fail(core.NotUnderstood, "trouble is practised by hand alone: somebody must say what to do").Do("Add --by-hand.")
			}
			r, err := a.goThrough(ctx, c, n)
			if err != nil {
				return err
			}
			if r.Result != nil && r.Result.Fault != nil {
				a.exit = ExitCode(r.Result.Fault.Kind)
			}
			return a.show(r, func() { a.rehearsal(r) })
		})}
	v.Flags().StringVar(&n.Release, "release", "", "version; the recommended one where nothing is said")
	v.Flags().BoolVar(&n.Again, "again", false, "write although it runs that version")
	v.Flags().StringVar(&sheet, "sheet", "", "file of a sheet of its model that is not in force")
	v.Flags().BoolVar(&n.ByHand, "by-hand", false, "go through it yourself: answer what a run would ask")
	v.Flags().StringVar(&trouble, "trouble", "", "what goes wrong, to practise it: line (it breaks while the unit is written), start (the program does not)")
	return v
}

// goThrough does a rehearsal; by hand, it asks for one answer after another. Each time all
// that was said is said again, and the twin is as new.
func (a *app) goThrough(ctx context.Context, c *client.Client, n client.NewRehearsal) (client.Rehearsal, error) {
	in, told := bufio.NewReader(a.in), 0
	out := a.out
	if a.output != "text" {
		out = a.err
	}
	for {
		r, err := c.Rehearse(ctx, n)
		if err == nil && !n.ByHand {
			return r, nil
		}
		if err != nil && (len(n.Answers) == 0 || ctx.Err() != nil) {
			return r, err
		}
		if err != nil { // what was said last will not do
			fmt.Fprintln(out, "  "+a.paint(brick, "✗ ")+wrap(core.AsError(err, core.NotUnderstood).Message, 4))
			n.Answers = n.Answers[:len(n.Answers)-1]
			if r, err = c.Rehearse(ctx, n); err != nil {
				return r, err
			}
		}
		if told == 0 {
			tell(out, "%s  %s → %s, on a twin of it: no unit hears of what you do here.\n", a.paint(bold, r.Unit), r.From, a.paint(bold, r.Version))
		}
		if told > len(r.Result.Told) { // it went back
			told = len(r.Result.Told)
		}
		for _, x := range r.Result.Told[told:] {
			fmt.Fprintf(out, "  %s  %s\n", a.paint(faint, fmt.Sprintf("%9s", lasts(x.At))), wrap(x.Text, 13))
		}
		told = len(r.Result.Told)
		w := r.Result.Waits
		if w == nil {
			fmt.Fprintln(out)
			return r, nil
		}
		answer, err := a.practised(ctx, out, in, r)
		if err != nil {
			return r, err
		}
		n.Answers = append(n.Answers, answer)
	}
}

// practised shows what is asked in a rehearsal, and takes the answer.
func (a *app) practised(ctx context.Context, out io.Writer, in *bufio.Reader, r client.Rehearsal) (n client.NewAnswer, err error) {
	w := *r.Result.Waits
	if adv := r.Result.Advice; adv != nil {
		fmt.Fprint(out, "\n"+a.board(brick, told("  STOPPED  %s", w.Head.Text)))
		fmt.Fprintf(out, "  %s\n  %s\n", wrap(w.Sentence.Text, 4), wrap(adv.Why.Text, 4))
		for i, x := range adv.Choices {
			fmt.Fprintf(out, "  %d  %s\n     %s\n     %s\n", i+1, a.paint(bold, x.Says.Text), wrap(told("risks  %s", x.Risks.Text), 12), wrap(told("needs  %s", x.Needs.Text), 12))
		}
		fmt.Fprintf(out, "  %s\n", a.paint(faint, "Type the number of what you would do"))
	} else if i := w.Item; i != nil {
		if i.Do == model.Photo { // nobody keeps one
			as := *i
			as.Do = model.Confirm
			w.Item = &as
		}
		fmt.Fprint(out, a.turn(w))
	}
	for {
		line, err := readLine(ctx, in)
		if err != nil {
			return n, core.Fail(core.Interrupted, "the rehearsal was left at %q", w.Head.Text).Unit("nothing was touched: it was a twin")
		}
		if line == "" {
			continue
		}
		if adv := r.Result.Advice; adv != nil {
			if k, err := strconv.Atoi(line); err == nil && k > 0 && k <= len(adv.Choices) {
				line = adv.Choices[k-1].Do
			}
			return client.NewAnswer{Item: rehearse.AtStop, Value: line}, nil
		}
		return a.typedAt(ctx, nil, w.Hands.Item, w.Item, line)
	}
}

func (a *app) releaseRehearse() *cobra.Command {
	most := 0
	v := &cobra.Command{Use: "rehearse MODEL VERSION", Short: "Rehearse a release over the backups of its model's units (lead)", Args: cobra.RangeArgs(1, 2),
		Example: "  ferry release rehearse quill-80@4.2.1", ValidArgsFunction: a.complete(releaseNames),
		Long: "Does the run on a twin of each unit of the model that has a backup: would it fit, would it end right, would the settings\nsurvive? No unit hears of it.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			all := client.Rehearsals{Rehearsals: []client.Rehearsal{}}
			for after := ""; ; after = all.Next {
				some, err := c.RehearseRelease(ctx, named(args), client.RehearseFleet{After: after})
				if err != nil {
					return err
				}
				some.Rehearsals = append(all.Rehearsals, some.Rehearsals...)
				all = some
				if a.color {
					tell(a.err, "\r%d of %d units rehearsed", len(all.Rehearsals), all.Units)
				}
				if all.Next == "" || most > 0 && len(all.Rehearsals) >= most {
					break
				}
			}
			if a.color {
				fmt.Fprint(a.err, "\r\x1b[K")
			}
			return a.show(all, func() { a.rehearsals(all) })
		})}
	v.Flags().IntVar(&most, "most", 0, "at most so many units; all where nothing is said")
	return v
}

// wellWord says in one word how a rehearsal ended.
func (a *app) wellWord(r client.Rehearsal) string {
	switch {
	case r.Result == nil:
		return a.paint(faint, "cannot tell")
	case r.Well && len(r.Bars) > 0:
		return a.paint(bold, "ends right, but is barred now")
	case r.Result.Outcome == run.NothingToDo:
		return "nothing to do"
	case r.Well:
		return a.paint(teal, "ends right")
	}
	return a.paint(brick, words.Outcomes.In(string(r.Result.Outcome)))
}

// kept says what becomes of the settings.
func kept(r *rehearse.Result) string {
	var all []string
	for _, x := range r.Settings {
		all = append(all, fmt.Sprintf("%d %s", x.N, words.SettingWays.In(string(x.How))))
	}
	return strings.Join(all, ", ")
}

// rehearsal shows one.
func (a *app) rehearsal(r client.Rehearsal) {
	x := r.Result
	fmt.Fprintf(a.out, "%s  %s → %s  %s\n", a.paint(bold, r.Unit), r.From, a.paint(bold, r.Version), a.wellWord(r))
	if x.Reason != "" && !r.Well {
		fmt.Fprintf(a.out, "  %s\n", wrap(x.Reason, 2))
	}
	row := func(name, text string) {
		if text != "" {
			fmt.Fprintf(a.out, "  %-12s%s\n", name, wrap(text, 14))
		}
	}
	row("changes", told("%d pieces, %s written", x.Pieces, kib(x.Moved.Written)))
	if x.Version != "" {
		row("afterwards", told("its program says that it is %s", x.Version))
	}
	row("the line", told("%s at its best pace, of which %s hands off; hands come on top", lasts(x.Line), lasts(x.HandsOff)))
	row("settings", kept(x))
	if adv := x.Advice; adv != nil && x.Waits == nil {
		for _, c := range adv.Choices {
			if c.Do == x.Chose {
				row("you chose", told("%s. Nothing is to be done here: it was a twin.", c.Says.Text))
			}
		}
	}
	if r.Sheet != "" {
		row("sheet", told("one that is not in force, %s", r.Sheet[:16]))
	}
	for i, l := range x.Lost {
		name := ""
		if i == 0 {
			name = "lost"
		}
		fmt.Fprintf(a.out, "  %-12s%s %s: %s\n", name, l.What, a.paint(brick, l.Name), l.Why.Text)
	}
	if len(x.Lost) == 0 && x.Pieces > 0 {
		row("lost", "nothing beside the program that was there")
	}
	for i, q := range x.Asked {
		name := ""
		if i == 0 {
			name = "asked"
		}
		fmt.Fprintf(a.out, "  %-12s%s\n", name, q.Says)
	}
	row("not known", core.Texts(x.Assumed, "; "))
	for _, b := range r.Bars {
		fmt.Fprintf(a.out, "  %s%s\n", a.paint(bold, "barred now  "), b.Text)
	}
}

// lasts is a time of seconds or minutes.
func lasts(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return told("%d:%02d min", int(d.Minutes()), int(d.Seconds())%60)
}

// rehearsals shows a fleet's.
func (a *app) rehearsals(all client.Rehearsals) {
	var rows [][]string
	well, no := 0, 0
	for _, r := range all.Rehearsals {
		row := []string{a.paint(bold, r.Unit), column(r.Site, 26), r.From, a.wellWord(r), "", "", ""}
		switch x := r.Result; {
		case x == nil:
			no++
			row[6] = column(r.No, 44)
		default:
			if r.Well {
				well++
			}
			var lost []string
			for _, l := range x.Lost {
				lost = append(lost, l.Name)
			}
			row[4], row[5] = column(kept(x), 30), column(strings.Join(lost, ", "), 24)
			if !r.Well {
				row[6] = column(x.Reason, 44)
			} else if len(r.Bars) > 0 {
				row[6] = column(r.Bars[0].Text, 44)
			}
		}
		rows = append(rows, row)
	}
	a.table([]string{"unit", "site", "runs", all.Version, "settings", "lost", "why"}, rows)
	tell(a.out, "%d of %d units: %d end right, %d do not, of %d nothing can be told\n", len(all.Rehearsals), all.Units, well, len(all.Rehearsals)-well-no, no)
}

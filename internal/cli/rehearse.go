package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core/rehearse"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) rehearseVerb() *cobra.Command {
	n := client.NewRehearsal{}
	v := &cobra.Command{Use: "rehearse UNIT|LINK", Short: "Do a run on a twin of the unit, made from its backup: nothing is touched", Args: cobra.ExactArgs(1),
		Example: "  ferry rehearse Q80-4417-206\n  ferry rehearse van/quay-1 --release 4.1.6", ValidArgsFunction: a.complete(places),
		Long: "Does the run itself, from the card to the close, on a twin that the service makes of the unit's newest backup and its\nsheet. Says whether it ends right, how long the line takes, what will be asked, and what the unit has now and would not have\nafterwards. Exit code 0 if it ends right, else that of what went wrong.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.At = args[0]
			r, err := c.Rehearse(ctx, n)
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
	return v
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
					fmt.Fprintf(a.err, "\r%d of %d units rehearsed", len(all.Rehearsals), all.Units)
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
	row("changes", fmt.Sprintf("%d pieces, %s written", x.Pieces, kib(x.Moved.Written)))
	if x.Version != "" {
		row("afterwards", "its program says that it is "+x.Version)
	}
	row("the line", fmt.Sprintf("%s at its best pace, of which %s hands off; hands come on top", lasts(x.Line), lasts(x.HandsOff)))
	row("settings", kept(x))
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
	row("not known", strings.Join(x.Assumed, "; "))
	for _, b := range r.Bars {
		fmt.Fprintf(a.out, "  %s%s\n", a.paint(bold, "barred now  "), b.Text)
	}
}

// lasts is a time of seconds or minutes.
func lasts(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d:%02d min", int(d.Minutes()), int(d.Seconds())%60)
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
	fmt.Fprintf(a.out, "%d of %d units: %d end right, %d do not, of %d nothing can be told\n", len(all.Rehearsals), all.Units, well, len(all.Rehearsals)-well-no, no)
}

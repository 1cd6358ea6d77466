package cli

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/tray"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) jobVerb() *cobra.Command {
	v := &cobra.Command{Use: "job", Short: "Why work is done, for whom, on which units, and what counts as done"}
	v.AddCommand(a.jobAdd(), a.jobList(), a.jobShow(), a.jobChange(), a.jobTake(), a.jobClose())
	return v
}

// jobNumber reads the number of a job.
func jobNumber(s string) (uint64, error) {
	n, err := strconv.ParseUint(strings.TrimPrefix(s, "#"), 10, 64)
	if err != nil || n == 0 {
		return 0, core.Fail(core.NotUnderstood, "a job has a number, not %q", s).Do("See which there are: ferry job list.")
	}
	return n, nil
}

// leaves reads what a job leaves as it is: UNIT=WHY or UNIT/PART=WHY.
func leaves(all []string) (out []client.LeaveOut, err error) {
	for _, s := range all {
		what, why, ok := strings.Cut(s, "=")
		if !ok {
			return nil, core.Fail(core.NotUnderstood, "what is left out is written UNIT=WHY or UNIT/PART=WHY, not %q", s)
		}
		unit, part, _ := strings.Cut(what, "/")
		out = append(out, client.LeaveOut{Unit: unit, Part: part, Why: why})
	}
	return out, nil
}

func (a *app) jobAdd() *cobra.Command {
	var n client.NewJob
	var leave []string
	v := &cobra.Command{Use: "add [UNIT…]", Short: "Enter a job", Args: cobra.ArbitraryArgs,
		Example: "  ferry job add Q80-4417-206 --reason \"prints blank tickets\" --asked \"Ormsay ferries\" --test \"Print a ticket at the pier.\" --on 2026-12-04 --for \"Sunniva Dale\"\n" +
			"  ferry job add TWP-1102 --reason \"new fonts\" --leave \"TWP-1102/boot=nobody asked for it\"",
		ValidArgsFunction: a.complete(serials),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) (err error) {
			n.Units = args
			if n.Leave, err = leaves(leave); err != nil {
				return err
			}
			j, err := c.AddJob(ctx, n)
			if err != nil {
				return err
			}
			return a.show(j, func() { a.job(j) })
		})}
	v.Flags().StringVar(&n.Reason, "reason", "", "why: a request, a symptom, a condition")
	v.Flags().StringVar(&n.Asked, "asked", "", "who asked for it")
	v.Flags().StringVar(&n.Test, "test", "", "what counts as done; it is tried at the end of each run")
	v.Flags().StringVar(&n.Planned, "on", "", "the planned day, as 2027-01-31")
	v.Flags().StringVar(&n.Person, "for", "", "who is to do it")
	v.Flags().StringArrayVar(&leave, "leave", nil, "a unit or a part that stays as it is: UNIT=WHY or UNIT/PART=WHY")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) jobTake() *cobra.Command {
	return &cobra.Command{Use: "take NUMBER [FILE.zip]", Short: "Take its files along: cards, releases, model sheets", Args: cobra.RangeArgs(1, 2),
		Long:    "For where there is no network: READ FIRST.txt says what is what, and with which SHA-256.",
		Example: "  ferry job take 12\n  ferry job take 12 ormsay.zip",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n, err := jobNumber(args[0])
			if err != nil {
				return err
			}
			file := fmt.Sprintf("job-%d.zip", n)
			if len(args) == 2 {
				file = args[1]
			}
			raw, err := c.TakeJob(ctx, n)
			return a.bundled(file, raw, err)
		})}
}

func (a *app) jobList() *cobra.Command {
	closed, after := false, ""
	v := &cobra.Command{Use: "list", Short: "Open jobs by their day, or closed ones", Args: cobra.NoArgs, Example: "  ferry job list\n  ferry job list --closed",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			state := map[bool]string{true: "closed", false: "open"}[closed]
			j, err := c.Jobs(ctx, state, after, 50)
			if err != nil {
				return err
			}
			return a.show(j, func() {
				a.jobs(j.Jobs)
				if closed {
					a.extentOf(len(j.Jobs), j.Paged, after, "%s closed job", "%s closed jobs", "more than %s closed jobs")
				} else {
					a.extentOf(len(j.Jobs), j.Paged, after, "%s open job", "%s open jobs", "more than %s open jobs")
				}
			})
		})}
	v.Flags().BoolVar(&closed, "closed", false, "those that are closed, the newest first")
	afterFlag(v, &after)
	return v
}

func (a *app) jobs(all []client.Job) {
	var rows [][]string
	for _, j := range all {
		rows = append(rows, []string{a.paint(bold, fmt.Sprint(j.Number)), cmp.Or(j.Planned, "–"), column(j.Reason, 40), cmp.Or(j.Asked, "–"), toldOf(j.Units, "%s unit", "%s units"), cmp.Or(j.Person, "–")})
	}
	a.table([]string{"job", "planned", "reason", "asked by", "scope", "for"}, rows)
}

func (a *app) jobShow() *cobra.Command {
	return &cobra.Command{Use: "show JOB", Short: "A job, its units and how far they are", Args: cobra.ExactArgs(1), Example: "  ferry job show 12",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n, err := jobNumber(args[0])
			if err != nil {
				return err
			}
			j, err := c.Job(ctx, n)
			if err != nil {
				return err
			}
			return a.show(j, func() { a.job(j) })
		})}
}

func (a *app) job(j client.JobPage) {
	state := "open"
	if j.Closed != nil {
		state = told("closed %s by %s", when(*j.Closed), j.Closer)
	}
	fmt.Fprintf(a.out, "%s  %s\n", a.paint(bold, told("Job %d", j.Number)), state)
	a.pair("reason", wrap(cmp.Or(j.Reason, "none was given"), 13))
	for _, x := range [][2]string{{"asked by", j.Asked}, {"planned", j.Planned}, {"for", j.Person}, {"done when", j.Test}, {"closing", j.Closing}} {
		if x[1] != "" {
			a.pair(x[0], wrap(x[1], 13))
		}
	}
	a.pair("entered", told("%s by %s", when(j.At), j.By))
	var rows [][]string
	for _, x := range j.Scope {
		how := words.JobStands.In(x.Stands)
		if x.Run != "" && x.Stands == "not-done" {
			how += ": " + words.Outcomes.In(x.Outcome)
		}
		for _, t := range x.Tests {
			how += "; " + testWords(t)
		}
		mark := a.paint(brick, "✗")
		switch x.Stands {
		case "done":
			mark = a.paint(teal, "✓")
		case "to-do":
			mark = "□"
		case "at-work", "interrupted":
			mark = "●"
		}
		rows = append(rows, []string{"  " + mark, a.paint(bold, x.Unit.Serial), x.Unit.ModelName, x.Unit.Site, wrap(how, 0)})
	}
	for _, l := range j.Left {
		rows = append(rows, []string{"  –", strings.TrimSuffix(l.Serial+" "+l.Part, " "), "", "", told("left as it is: %s (%s)", l.Why, l.By)})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
		a.table([]string{"  ", "unit", "model", "site", "stands"}, rows)
	}
	if j.Closed == nil && j.Open == 0 && len(j.Scope) > 0 {
		a.next("\n", fmt.Sprintf("ferry job close %d", j.Number))
	}
}

// testWords say how a finishing test stands.
func testWords(t client.OpenTest) string {
	whose, late := "", ""
	if t.Whose != "" {
		whose = told("to %s until %s", t.Whose, t.Due)
	}
	if t.Late {
		late = "late"
	}
	return strings.TrimSuffix(t.Says, ".") + ": " + words.Listed(words.Tests.In(t.State), whose, late)
}

func (a *app) jobChange() *cobra.Command {
	var x client.JobChange
	var reason, asked, test, on, person string
	var leave []string
	v := &cobra.Command{Use: "change JOB", Short: "Change an open job, take units into it or leave them out", Args: cobra.ExactArgs(1),
		Example: "  ferry job change 12 --on 2026-12-11\n  ferry job change 12 --take Q80-4417-207 --leave \"Q80-4417-206=scrapped\""}
	v.RunE = a.call(func(ctx context.Context, c *client.Client, args []string) error {
		n, err := jobNumber(args[0])
		if err != nil {
			return err
		}
		for name, to := range map[string]struct {
			field **string
			value *string
		}{"reason": {&x.Reason, &reason}, "asked": {&x.Asked, &asked}, "test": {&x.Test, &test}, "on": {&x.Planned, &on}, "for": {&x.Person, &person}} {
			if v.Flags().Changed(name) {
				*to.field = to.value
			}
		}
		if x.Leave, err = leaves(leave); err != nil {
			return err
		}
		j, err := c.ChangeJob(ctx, n, x)
		if err != nil {
			return err
		}
		return a.show(j, func() { a.job(j) })
	})
	v.Flags().StringVar(&reason, "reason", "", "why")
	v.Flags().StringVar(&asked, "asked", "", "who asked for it")
	v.Flags().StringVar(&test, "test", "", "what counts as done")
	v.Flags().StringVar(&on, "on", "", "the planned day; empty for none")
	v.Flags().StringVar(&person, "for", "", "who is to do it")
	v.Flags().StringSliceVar(&x.Units, "take", nil, "units that come into its scope")
	v.Flags().StringArrayVar(&leave, "leave", nil, "a unit or a part that stays as it is: UNIT=WHY or UNIT/PART=WHY")
	return v
}

func (a *app) jobClose() *cobra.Command {
	var x client.JobClosing
	v := &cobra.Command{Use: "close JOB", Short: "Close a job", Args: cobra.ExactArgs(1), Example: "  ferry job close 12\n  ferry job close 12 --note \"the customer does the rest himself\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n, err := jobNumber(args[0])
			if err != nil {
				return err
			}
			j, err := c.CloseJob(ctx, n, x)
			if err != nil {
				return err
			}
			return a.show(j, func() { a.job(j) })
		})}
	v.Flags().StringVar(&x.Note, "note", "", "wanted where something of it is not done")
	return v
}

func (a *app) todayVerb() *cobra.Command {
	return &cobra.Command{Use: "today", Short: "What is unfinished: runs, unsafe units, open tests, withdrawn releases, jobs", Args: cobra.NoArgs, Example: "  ferry today",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			t, err := c.Today(ctx)
			if err != nil {
				return err
			}
			return a.show(t, func() { a.today(t) })
		})}
}

func (a *app) today(t client.Today) {
	n := 0
	part := func(title string, rows [][]string) {
		if len(rows) == 0 {
			return
		}
		n += len(rows)
		fmt.Fprintf(a.out, "%s\n", a.paint(bold, title))
		a.table([]string{"  unit", "what", "next"}, rows)
		fmt.Fprintln(a.out)
	}
	var rows [][]string
	for _, r := range t.Runs {
		next := "ferry run show " + r.ID + " --follow"
		if r.State == "paused" {
			next = "ferry run resume " + r.ID
		}
		how := stands(r)
		if l := r.Progress.View.Laid; l != nil {
			how = told("laid aside: %s, with %s", l.Place, l.Holder)
		}
		rows = append(rows, []string{"  " + r.Unit.Serial, told("%s %s: %s, by %s", r.Kind, r.Version, how, r.By), next})
	}
	part("Open runs", rows)
	rows = nil
	for _, r := range t.Rounds {
		rows = append(rows, []string{"  " + r.Serial, column(told("%s Next: %s", sentence(r.Reason), r.Waits), 80), "ferry round next " + r.Serial})
	}
	part("Open rounds of vehicles", rows)
	rows = nil
	for _, x := range t.Trays {
		rows = append(rows, []string{"  " + x.ModelName + " " + x.Version, column(x.Reason+"; "+tray.Counted(x.Count), 80), "ferry tray work " + x.ID})
	}
	part("Open trays", rows)
	rows = nil
	for _, u := range t.HalfDone {
		rows = append(rows, []string{"  " + u.Serial, a.paint(brick, "half done: do not put it back to work"), "ferry restore " + u.Serial})
	}
	for _, u := range t.NotProven {
		rows = append(rows, []string{"  " + u.Serial, "not proven: nobody has seen it work", "ferry flash " + u.Serial})
	}
	part("Unsafe", rows)
	rows = nil
	for _, x := range t.Tests {
		rows = append(rows, []string{"  " + x.Serial, column(testWords(x), 60), "ferry test " + x.Serial + " passed"})
	}
	part("Tests that are open", rows)
	rows = nil
	for _, x := range t.Left {
		verb := "ferry handover " + x.Serial
		if x.ByHand {
			verb = "ferry unit done " + x.Serial + " --note …"
		}
		rows = append(rows, []string{"  " + x.Serial, column(x.Says+" "+x.Reason, 60), verb})
	}
	part("Left at units by name", rows)
	rows = nil
	for _, x := range t.Seconds {
		rows = append(rows, []string{"  " + x.Serial, column(told("%s, %s: %s, asked by %s", x.Version, wanting(x), x.Reason, x.By), 60), fmt.Sprintf("ferry second show %d", x.Number)})
	}
	part("Leave that leads are asked for", rows)
	rows = nil
	for _, x := range t.Offers {
		rows = append(rows, []string{"  " + x.Serial, column(x.Says, 60), fmt.Sprintf("ferry offer end %d --how …", x.Number)})
	}
	part("Seen, and not ordered", rows)
	rows = nil
	for _, x := range t.Withdrawn {
		rows = append(rows, []string{"  " + x.Unit.Serial, column(told("runs %s, withdrawn: %s", x.Unit.Running, x.Why), 60), x.Text + " " + x.Next})
	}
	part("On a withdrawn release", rows)
	if len(t.Jobs) > 0 {
		n += len(t.Jobs)
		fmt.Fprintf(a.out, "%s\n", a.paint(bold, "Jobs"))
		a.jobs(t.Jobs)
	}
	if n == 0 {
		tell(a.out, "Nothing is unfinished.\n")
	}
	if w := t.Wanting; w.Behind > 0 {
		var of []string
		for _, m := range w.Models {
			of = append(of, fmt.Sprintf("%s %d", m.Name, m.Units))
		}
		tell(a.out, "Another release should be in %s: %s. See which: ferry units --state behind\n", extent(w.Behind, w.More, "%s unit", "%s units", "more than %s units"), strings.Join(of, ", "))
		if w.Judging {
			fmt.Fprintln(a.out, judging)
		}
	}
	if w := t.Wanting; w.NoBackup > 0 {
		tell(a.out, "There is no backup of %s. See which: ferry units --state no-backup\n", extent(w.NoBackup, w.MoreOf, "%s unit", "%s units", "more than %s units"))
	}
}

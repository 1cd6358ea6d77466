package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/fit"
	"zealousferry/core/run"
	"zealousferry/internal/client"
)

// opening are the flags of verbs that open a run.
type opening struct {
	yes, again    bool
	label, reason string
	waive         []string
	links         map[string]string
}

// run is what the flags ask for.
func (o *opening) run(kind, at string) client.NewRun {
	return client.NewRun{Kind: kind, At: at, Label: o.label, Again: o.again, Reason: o.reason, Waive: o.waive, Links: o.links}
}

func (o *opening) flags(v *cobra.Command) {
	v.Flags().BoolVarP(&o.yes, "yes", "y", false, "do not ask, for scripts")
	o.about(v)
	v.Flags().StringSliceVar(&o.waive, "waive", nil, "a gate that you pass by name, with --reason: "+strings.Join(admit.Gates, ", ")+" (lead)")
}

// about are the flags of every verb that opens a run.
func (o *opening) about(v *cobra.Command) {
	v.Flags().StringVar(&o.label, "label", "", "the serial on the label, where the unit does not tell it")
	v.Flags().StringVar(&o.reason, "reason", "", "why this is done")
	v.Flags().StringToStringVar(&o.links, "link", nil, "a further link of the unit, as NAME=BENCH/LINK, where its sheet has sections on links of their own")
}

func (a *app) flashVerb() *cobra.Command {
	var o opening
	v := &cobra.Command{Use: "flash LINK|UNIT [RELEASE]", Short: "Back up, write, verify: a whole run", Args: cobra.RangeArgs(1, 2),
		Long: "Identifies the unit, shows what will happen and asks once. The bench does the work: it backs\n" +
			"the memory up, writes the sectors that differ, verifies them, and starts the program.\n" +
			"Ctrl-C leaves the view and the run goes on; a second one within 5 s stops it.",
		Example:           "  ferry flash van/quay-1\n  ferry flash van/quay-1 4.2.1\n  ferry flash Q80-4417-206 --yes --output json",
		ValidArgsFunction: a.completeFlash,
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n := o.run(run.Flash, args[0])
			if len(args) == 2 {
				n.Release = args[1]
			}
			return a.open(ctx, c, n, o)
		})}
	o.flags(v)
	v.Flags().BoolVar(&o.again, "again", false, "write although the unit runs this version")
	return v
}

func (a *app) completeFlash(cmd *cobra.Command, args []string, to string) ([]string, cobra.ShellCompDirective) {
	return a.complete(func(ctx context.Context, c *client.Client) []string {
		if len(args) == 0 {
			return places(ctx, c)
		}
		f, err := c.Fit(ctx, args[0], "", "")
		if err != nil {
			return nil
		}
		var all []string
		for _, v := range f.Verdicts {
			all = append(all, v.Version+"\t"+string(v.Answer))
		}
		return all
	})(cmd, args, to)
}

func (a *app) backupVerb() *cobra.Command {
	var o opening
	v := &cobra.Command{Use: "backup LINK|UNIT", Short: "Read a unit's memory and keep it", Args: cobra.ExactArgs(1),
		Example:           "  ferry backup van/quay-1",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			o.yes = true // nothing is changed
			return a.open(ctx, c, o.run(run.BackUp, args[0]), o)
		})}
	o.about(v)
	return v
}

func (a *app) restoreVerb() *cobra.Command {
	var o opening
	v := &cobra.Command{Use: "restore LINK|UNIT [BACKUP]", Short: "Put a unit's backup back, bit for bit", Args: cobra.RangeArgs(1, 2),
		Long:              "Without BACKUP the one from before an interrupted write is taken, or the newest. A run of the\nunit that was interrupted is closed as abandoned first.",
		Example:           "  ferry restore van/quay-1\n  ferry restore Q80-4417-206 7d419be0",
		ValidArgsFunction: a.completeRestore,
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n := o.run(run.Restore, args[0])
			if len(args) == 2 {
				n.Backup = args[1]
			}
			return a.open(ctx, c, n, o)
		})}
	o.flags(v)
	return v
}

func (a *app) completeRestore(cmd *cobra.Command, args []string, to string) ([]string, cobra.ShellCompDirective) {
	return a.complete(func(ctx context.Context, c *client.Client) []string {
		if len(args) == 0 {
			return places(ctx, c)
		}
		unit := args[0]
		if l, err := c.Links(ctx); err == nil {
			for _, x := range l.Links {
				if x.Link == unit && x.Serial != "" {
					unit = x.Serial
				}
			}
		}
		b, err := c.Backups(ctx, unit)
		if err != nil {
			return nil
		}
		var all []string
		for _, x := range b.Backups {
			if x.Ruin {
				continue
			}
			all = append(all, x.Digest.String()[:8]+"\t"+when(x.Taken)+", ran "+dash(x.Running))
		}
		return all
	})(cmd, args, to)
}

// open identifies, shows what will happen, asks, opens the run and follows it.
func (a *app) open(ctx context.Context, c *client.Client, n client.NewRun, o opening) error {
	paused, err := a.interrupted(ctx, c, n)
	if err != nil {
		return err
	}
	if !paused {
		id, err := a.who(ctx, c, n)
		if err != nil {
			return err
		}
		if id.Unit == "" {
			return core.Fail(core.CannotTell, "the unit on %s does not tell its serial", id.Link).Unit("nothing was changed").
				Do("Read the label and say what it says: --label SERIAL.")
		}
		if err := a.ask(ctx, c, id, &n, o); err != nil {
			return err
		}
	} else if !o.yes {
		if err := a.confirm("Put the backup back?"); err != nil {
			return err
		}
	}
	r, err := c.OpenRun(ctx, n)
	if e := asError(err); err != nil && a.output == "json" && e.Kind != "" { // a script reads the same as of a run that was refused
		a.exit = ExitCode(e.Kind)
		return a.show(map[string]any{"outcome": run.Refused, "error": map[string]any{"kind": e.Kind, "message": e.Message, "state": e.State, "next": e.Next}}, func() {})
	}
	if err != nil {
		return err
	}
	return a.follow(ctx, c, r, 0)
}

// who is on the link: by asking it, or, where its loader opens only after hands
// have acted, by what the register holds; the run asks it before anything else.
func (a *app) who(ctx context.Context, c *client.Client, n client.NewRun) (client.Identity, error) {
	id, err := c.Identify(ctx, n.At, n.Label)
	if core.KindOf(err) != core.NotAnswering {
		return id, err
	}
	card, cardErr := c.Card(ctx, n.At, n.Release, "")
	if cardErr != nil || card.Procedure == "" || card.Link == "" {
		return id, err
	}
	u, unitErr := c.Unit(ctx, card.Unit)
	if unitErr != nil {
		return id, err
	}
	return client.Identity{Link: card.Link, Unit: u.ID, Serial: u.Serial, Model: u.Model, ModelName: u.ModelName, Site: u.Site, Strength: "by the register; the run asks it on the wire", Facts: u.Facts}, nil
}

// interrupted tells whether a restore is for a unit whose run was interrupted:
// then nobody needs to be asked who it is, the run knows.
func (a *app) interrupted(ctx context.Context, c *client.Client, n client.NewRun) (bool, error) {
	if n.Kind != run.Restore {
		return false, nil
	}
	unit := n.At
	l, err := c.Links(ctx)
	if err != nil {
		return false, err
	}
	for _, x := range l.Links {
		if x.Link == n.At {
			unit = x.Unit
		}
	}
	if unit == "" {
		return false, nil
	}
	u, err := c.Unit(ctx, unit)
	if err != nil || u.Run == "" {
		return false, err
	}
	r, err := c.Run(ctx, u.Run)
	return r.State == "paused", err
}

// ask shows the one page before the write, and asks.
func (a *app) ask(ctx context.Context, c *client.Client, id client.Identity, n *client.NewRun, o opening) error {
	if n.Kind == run.BackUp {
		return nil
	}
	out := a.err
	fmt.Fprintf(out, "\n  %s  %s  %s\n", a.bright(id.ModelName+" rev "+dash(id.Facts[core.FactRevision].Value)), id.Serial, id.Site)
	running := dash(id.Facts[core.FactRunning].Value)
	goes := true
	if n.Kind == run.Flash {
		f, err := c.Fit(ctx, id.Unit, "", "")
		if err != nil {
			return err
		}
		v, ok := chosen(f, n.Release)
		if !ok {
			return core.Fail(core.NotFound, "%s has no release %q", id.ModelName, n.Release).Unit("nothing was changed").Do("See which there are: ferry fit " + id.Serial + ".")
		}
		goes = v.Answer == fit.Fits && (!v.Current || n.Again)
		fmt.Fprintf(out, "  %s  %s, %s\n", a.bright(running+" → "+v.Version), v.Channel, strings.ReplaceAll(string(v.Answer), "-", " "))
		if v.Toward != "" {
			fmt.Fprintf(out, "  step       on the way to %s\n", v.Toward)
		}
		for _, r := range v.Reasons {
			if r.Warns {
				fmt.Fprintf(out, "  beware     %s\n", wrap(r.Text, 13))
			}
		}
		if r, err := c.ReleasePage(ctx, v.Release); err == nil {
			if changes := r.Changes.In("en"); changes != "" {
				fmt.Fprintf(out, "  changes    %s\n", wrap(changes, 13))
			}
			fmt.Fprintf(out, "  image      SHA-256 %s; %s\n", short(r.Places[len(r.Places)-1].Image.String()), r.Trust.Text)
		}
	} else {
		fmt.Fprintf(out, "  %s\n", a.bright("its memory goes back to backup "+newest(n.Backup)))
	}
	fmt.Fprintf(out, "  link       %s, %s\n", id.Link, id.Strength)
	back := run.BackFull
	if card, err := c.Card(ctx, id.Unit, n.Release, ""); err == nil {
		back = card.WayBack
		if card.Procedure != "" {
			fmt.Fprintf(out, "  card       procedure %s, %s; about %d min with your hands: ferry card %s\n", card.Procedure, card.Standing, card.Minutes, id.Serial)
		}
	}
	if len(n.Waive) > 0 {
		fmt.Fprintf(out, "  waived     %s, by you: %s\n", strings.Join(n.Waive, ", "), n.Reason)
	}
	fmt.Fprintf(out, "  way back   %s\n", wayBack(back))
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
	if len(x.Parts) > 1 {
		var all []string
		for _, p := range x.Parts {
			all = append(all, p.Title)
		}
		fmt.Fprintf(a.err, "  parts      %s, in this order\n", strings.Join(all, ", "))
	}
	for _, name := range x.Uses {
		fmt.Fprintf(a.err, "  uses up    one of %s\n", name)
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
	fmt.Fprintf(a.err, "%s Type yes: ", question)
	line, _ := bufio.NewReader(a.in).ReadString('\n')
	if strings.TrimSpace(strings.ToLower(line)) != "yes" {
		return core.Fail(core.NotAllowed, "you did not say yes").Unit("nothing was changed").Do("Begin again when you are ready.")
	}
	return nil
}

// twice is how long a second Ctrl-C counts.
const twice = 5 * time.Second

// follow shows a run until it is closed or paused. The first Ctrl-C leaves the
// view, a second within 5 s orders the run to stop.
func (a *app) follow(_ context.Context, c *client.Client, r client.Run, after uint64) error {
	ctx, cancel := context.WithCancel(context.Background()) // Ctrl-C means something else here
	defer cancel()
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt)
	defer signal.Stop(signals)
	view := a.newView(r)
	ended := make(chan error, 1)
	go func() {
		ended <- c.FollowRun(ctx, r.ID, after, func(p client.Progress) bool {
			view.show(p)
			return p.Outcome != string(run.Interrupted) || p.View.Step == run.PhaseEnded
		})
	}()
	if isTerminal(a.in) {
		go a.answers(ctx, c, view)
	}
	quiet := time.NewTicker(5 * time.Second)
	defer quiet.Stop()
	for {
		select {
		case err := <-ended:
			view.close()
			if err != nil {
				return err
			}
			return a.conclude(c, r.ID)
		case <-quiet.C:
			view.heartbeat(ctx, c)
		case <-signals:
			view.note("Ctrl-C: you left the view; the run goes on at the bench. Look again: ferry run show %s --follow", r.ID)
			view.note("A second Ctrl-C within 5 s stops it after the action in hand.")
			select {
			case <-signals:
				view.note("Stopping after the action in hand …")
				if err := c.StopRun(ctx, r.ID); err != nil {
					view.close()
					return err
				}
			case <-time.After(twice):
				view.close()
				a.exit = ExitCode(core.Interrupted)
				return a.show(map[string]any{"run": r.ID, "unit": r.Unit.Serial, "outcome": run.Waiting, "from": r.From, "to": r.To, "backup": r.Backup}, func() {})
			case err := <-ended:
				ended <- err
			}
		}
	}
}

// conclude reports how a run stands at its end.
func (a *app) conclude(c *client.Client, id string) error {
	r, err := c.Run(context.Background(), id)
	if err != nil {
		return err
	}
	answer := map[string]any{"run": r.ID, "unit": r.Unit.Serial, "outcome": r.Outcome, "from": r.From, "to": r.To, "backup": r.Backup}
	if f := r.Progress.Fault; f != nil && r.Outcome != string(run.Done) && r.Outcome != string(run.NotProven) {
		a.exit = ExitCode(f.Kind)
		answer["error"] = map[string]any{"kind": f.Kind, "message": f.Message, "state": f.State, "next": f.Next}
	} else if r.Outcome == string(run.NotProven) {
		a.exit = exitNotProven
	} else if r.Outcome != string(run.Done) && r.Outcome != string(run.NothingToDo) {
		a.exit = ExitCode(core.Interrupted)
	}
	return a.show(answer, func() { a.ending(r) })
}

func (a *app) ending(r client.Run) {
	v := r.Progress.View
	switch r.Outcome {
	case string(run.Done):
		head := map[string]string{run.Flash: "WRITTEN AND VERIFIED", run.Restore: "RESTORED AND VERIFIED", run.BackUp: "BACKED UP"}[r.Kind]
		fmt.Fprintf(a.out, "%s %s\n", a.paint(teal+bold, "✓"), a.paint(teal+bold, head))
	case string(run.NotProven):
		fmt.Fprintf(a.out, "%s %s\n", a.paint(bold, "◌"), a.paint(bold, "WRITTEN AND VERIFIED, BUT NOT PROVEN"))
		a.pair("why", wrap(r.Record.Reason, 13))
		a.pair("next", a.paint(bold, wrap(fmt.Sprintf("See whether its program runs: ferry listen %s. Look again: ferry flash %s. Or back: ferry restore %s.", r.Link, r.Unit.Serial, r.Unit.Serial), 13)))
	case string(run.NothingToDo):
		fmt.Fprintf(a.out, "– %s\n", a.paint(bold, "NOTHING TO DO: "+r.Record.Reason))
	default:
		f := r.Progress.Fault
		if f == nil {
			fmt.Fprintf(a.out, "%s %s\n", a.paint(brick+bold, "✗"), a.paint(brick+bold, strings.ToUpper(stands(r))))
			a.pair("state", stoppedState(r))
			if r.State == "paused" {
				a.pair("next", a.paint(bold, "ferry run resume "+r.ID))
				a.pair("", "or back: ferry restore "+r.Unit.Serial)
			}
			return
		}
		fmt.Fprintf(a.out, "%s %s\n", a.paint(brick+bold, "✗"), a.paint(brick+bold, fmt.Sprintf("%s at %s: %s", strings.ToUpper(stands(r)), gateWord(f.Step), strings.ReplaceAll(string(f.Kind), "-", " "))))
		a.pair("what", wrap(f.Message, 13))
		a.pair("state", wrap(f.State, 13))
		a.pair("next", a.paint(bold, wrap(f.Next, 13)))
		where := "in the history of " + r.Unit.Serial
		if r.State == "paused" {
			where = "the run stays open"
		}
		fmt.Fprintf(a.out, "  %s\n", a.paint(faint, fmt.Sprintf("exit %d, %s", ExitCode(f.Kind), where)))
		return
	}
	switch {
	case r.To == "" || r.Kind == run.BackUp:
	case r.Outcome == string(run.Done):
		a.pair("runs", a.paint(bold, r.To)+", asked after its start")
	default:
		a.pair("runs", a.paint(bold, r.To)+", read on the wire")
	}
	if r.Record != nil && r.Record.Reason != "" && r.Outcome == string(run.Done) {
		a.pair("but", a.paint(brick+bold, wrap(r.Record.Reason, 13)))
	}
	if v.Changes > 0 {
		kept := strings.Count(r.Progress.States, "k")
		same := strings.Count(r.Progress.States, "a")
		a.pair("memory", fmt.Sprintf("%d sectors written, %d right already, %d kept", v.Right, same, kept))
	}
	if r.Waiver != nil {
		a.pair("waived", wrap(fmt.Sprintf("%s, by %s: %s", r.Waiver.Gate, r.WaivedBy, r.Waiver.Reason), 13))
		a.pair("way back", wayBack(r.Progress.View.WayBack))
	}
	if t := r.Settled; t != nil {
		a.pair("settings", fmt.Sprintf("%d of %d put back and read again", t.Back, t.Back+len(t.Differ)))
	}
	for _, u := range r.Progress.View.Undo {
		if u.State == "excused" {
			a.pair("left", wrap(u.Says+" Not done: "+u.Note, 13))
		}
	}
	if r.Backup != "" {
		a.pair("way back", fmt.Sprintf("full backup %s, %s", short(r.Backup), strings.ReplaceAll(r.BackupHow, "-", " ")))
	}
	if r.Halves > 1 {
		a.pair("taken up", again(r.Halves))
	}
	a.pair("history", fmt.Sprintf("entered, signed by bench %s: ferry history %s", r.Bench, r.Unit.Serial))
}

func stoppedState(r client.Run) string {
	if r.Progress.View.Changes > 0 {
		return fmt.Sprintf("half done: %d of %d sectors written; the unit stays in its loader", r.Progress.View.Right, r.Progress.View.Changes)
	}
	return "nothing was changed"
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

// asError is an error with its kind; one that is none has an empty one.
func asError(err error) *core.Error {
	if err == nil {
		return &core.Error{}
	}
	return core.AsError(err, "")
}

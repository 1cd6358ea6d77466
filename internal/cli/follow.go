package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

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
	gone := make(chan os.Signal, 1) // whoever ends this program says nothing of the run
	signal.Notify(gone, syscall.SIGTERM, syscall.SIGHUP)
	defer signal.Stop(gone)
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
	leave := func() error {
		view.close()
		a.exit = ExitCode(core.Interrupted)
		return a.show(map[string]any{"run": r.ID, "unit": r.Unit.Serial, "outcome": run.Waiting, "from": r.From, "to": r.To, "backup": r.Backup}, func() {})
	}
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
		case <-gone:
			view.note("This view was ended from outside; the run goes on at the bench. Look again: ferry run show %s --follow", r.ID)
			return leave()
		case <-signals:
			view.note("Ctrl-C: you left the view; the run goes on at the bench. Look again: ferry run show %s --follow", r.ID)
			view.note("A second Ctrl-C within 5 s stops it after the action in hand.")
			select {
			case <-signals:
				if err := c.StopRun(ctx, r.ID); err != nil {
					view.close()
					return err
				}
				view.note("Stopping after the action in hand …")
			case <-time.After(twice):
				return leave()
			case <-gone:
				return leave()
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
		fmt.Fprintf(a.out, "%s %s\n", a.paint(teal+bold, "✓"), a.paint(teal+bold, strings.ToUpper(v.Head.Text)))
	case string(run.NotProven):
		fmt.Fprintf(a.out, "%s %s\n", a.paint(bold, "◌"), a.paint(bold, strings.ToUpper(v.Head.Text)))
		a.pair("why", wrap(r.Record.Reason, 13))
	case string(run.NothingToDo):
		fmt.Fprintf(a.out, "– %s\n", a.paint(bold, strings.ToUpper(v.Head.Text)+": "+r.Record.Reason))
	default:
		f := r.Progress.Fault
		if f == nil {
			fmt.Fprintf(a.out, "%s %s\n", a.paint(brick+bold, "✗"), a.paint(brick+bold, strings.ToUpper(stands(r))))
			a.pair("state", wrap(v.Sentence.Text, 13))
			if r.State == "paused" {
				a.pair("next", a.paint(bold, "ferry run resume "+r.ID))
				if v.Touched && v.WayBack == run.BackFull {
					a.pair("", told("or back: ferry restore %s", r.Unit.Serial))
				}
			}
			return
		}
		fmt.Fprintf(a.out, "%s %s\n", a.paint(brick+bold, "✗"), a.paint(brick+bold, told("%s at %s: %s", strings.ToUpper(stands(r)), gateWord(f.Step), strings.ReplaceAll(string(f.Kind), "-", " "))))
		a.pair("what", wrap(f.Message, 13))
		a.pair("state", wrap(f.State, 13))
		a.pair("next", a.paint(bold, wrap(f.Next, 13)))
		where := told("in the history of %s", r.Unit.Serial)
		if r.State == "paused" {
			where = "the run stays open"
		}
		fmt.Fprintf(a.out, "  %s\n", a.paint(faint, told("exit %d, %s", ExitCode(f.Kind), where)))
		return
	}
	switch {
	case r.To == "" || r.Kind == run.BackUp:
	case r.Outcome == string(run.Done):
		a.pair("runs", told("%s, asked after its start", a.paint(bold, r.To)))
	default:
		a.pair("runs", told("%s, read on the wire", a.paint(bold, r.To)))
	}
	if r.Record != nil && r.Record.Reason != "" && r.Outcome == string(run.Done) {
		a.pair("but", a.paint(brick+bold, wrap(r.Record.Reason, 13)))
	}
	if v.Changes > 0 {
		kept := strings.Count(r.Progress.States, "k")
		same := strings.Count(r.Progress.States, "a")
		a.pair("memory", toldOf(v.Right, "%s sector written, %d right already, %d kept", "%s sectors written, %d right already, %d kept", same, kept))
	}
	if r.Waiver != nil {
		a.pair("waived", wrap(fmt.Sprintf("%s, %s: %s", r.Waiver.Gate, r.WaivedBy, r.Waiver.Reason), 13))
		a.pair("way back", words.WaysBack.In(r.Progress.View.WayBack))
	}
	if t := r.Settled; t != nil {
		a.pair("settings", told("%d of %d put back and read again", t.Back, t.Back+len(t.Differ)))
	}
	for _, u := range r.Progress.View.Undo {
		if u.State == "excused" {
			a.pair("left", wrap(told("%s Not done: %s", u.Says, u.Note), 13))
		}
	}
	if r.Backup != "" {
		a.pair("way back", told("full backup %s, %s", short(r.Backup), strings.ReplaceAll(r.BackupHow, "-", " ")))
	}
	if r.Halves > 1 {
		a.pair("taken up", again(r.Halves))
	}
	a.pair("history", told("entered, signed by bench %s: ferry history %s", r.Bench, r.Unit.Serial))
	if x := r.After; x != nil {
		a.pair("next", a.paint(bold, wrap(strings.TrimSpace(x.Text+" "+x.Next), 13)))
	}
}

// asError is an error with its kind; one that is none has an empty one.
func asError(err error) *core.Error {
	if err == nil {
		return &core.Error{}
	}
	return core.AsError(err, "")
}

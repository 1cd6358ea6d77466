package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
)

// opening are the flags of verbs that open a run.
type opening struct {
	yes, again    bool
	label, reason string
	waive         []string
	links         map[string]string
	header        string
	job           uint64
	asked         string
}

// run is what the flags ask for.
func (o *opening) run(kind, at string) client.NewRun {
	return client.NewRun{Kind: kind, At: at, Label: o.label, Header: o.header, Again: o.again, Reason: o.reason, Waive: o.waive, Links: o.links, Job: o.job, Asked: o.asked}
}

func (o *opening) flags(v *cobra.Command) {
	v.Flags().BoolVarP(&o.yes, "yes", "y", false, "do not ask, for scripts")
	o.about(v)
	v.Flags().StringSliceVar(&o.waive, "waive", nil, told("a gate that you pass by name, with --reason: %s (lead)", strings.Join(admit.Gates, ", ")))
}

// about are the flags of every verb that opens a run.
func (o *opening) about(v *cobra.Command) {
	v.Flags().StringVar(&o.label, "label", "", "the serial on the label, where the unit does not tell it")
	v.Flags().StringVar(&o.header, "header", "", "go through the unit's programming header: BENCH/LINK of the helper tool there; LINK|UNIT is the unit's own lead then, and --label says which unit it is")
	v.Flags().StringVar(&o.reason, "reason", "", "why this is done")
	v.Flags().Uint64Var(&o.job, "job", 0, "the job that it belongs to; without it the unit's open job, or one of its own")
	v.Flags().StringVar(&o.asked, "asked", "", "who asked for it, where it has a job of its own")
	v.Flags().StringToStringVar(&o.links, "link", nil, "a further link of the unit, as NAME=BENCH/LINK, where its sheet has sections on links of their own")
}

func (a *app) flashVerb() *cobra.Command {
	var o opening
	var s setting
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
			s.into(&n)
			return a.open(ctx, c, n, o)
		})}
	o.flags(v)
	s.flags(v)
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
			all = append(all, x.Digest.String()[:8]+"\t"+told("%s, ran %s", when(x.Taken), dash(x.Running)))
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
	if n.Header != "" {
		return a.whoThrough(ctx, c, n)
	}
	card, cardErr := c.Card(ctx, n.At, client.CardAbout{Release: n.Release})
	known := cardErr == nil && card.Procedure != "" && card.Link != ""
	waits := known && slices.ContainsFunc(card.Items, func(i model.Item) bool { return i.Do == model.Apply })
	var id client.Identity
	var err error
	if !waits { // one that is called at its power-up does not answer before
		id, err = asking(ctx, a, c, n.At, func(ctx context.Context) (client.Identity, error) { return c.Identify(ctx, n.At, n.Label) })
	}
	if !waits && core.KindOf(err) != core.NotAnswering || !known {
		return id, err
	}
	u, unitErr := c.Unit(ctx, card.Unit)
	if unitErr != nil {
		return id, err
	}
	return client.Identity{Link: card.Link, Unit: u.ID, Serial: u.Serial, Model: u.Model, ModelName: u.ModelName, Site: u.Site, Strength: "by the register; the run asks it on the wire", Facts: u.Facts}, nil
}

// whoThrough is the unit at whose programming header a helper tool is: by its label, for
// nothing else can tell.
func (a *app) whoThrough(ctx context.Context, c *client.Client, n client.NewRun) (client.Identity, error) {
	if n.Label == "" {
		return client.Identity{}, core.Fail(core.CannotTell, "at its programming header a unit does not tell its serial").Unit("nothing was changed").
			Do("Read the label and say what it says: --label SERIAL.")
	}
	u, err := c.Unit(ctx, n.Label)
	if err != nil {
		return client.Identity{}, err
	}
	return client.Identity{Link: told("%s, at its programming header; its own lead: %s", n.Header, n.At), Unit: u.ID, Serial: u.Serial, Model: u.Model, ModelName: u.ModelName, Site: u.Site,
		Strength: "by its label", Facts: u.Facts}, nil
}

package cli

import (
	"context"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/internal/client"
)

func (a *app) unitVerb() *cobra.Command {
	v := &cobra.Command{Use: "unit", Short: "The register: enter units before anybody has seen them, and correct it"}
	n := client.NewUnit{}
	add := &cobra.Command{Use: "add MODEL SERIAL", Short: "Enter a unit", Args: cobra.ExactArgs(2),
		Example:           "  ferry unit add quill-80 Q80-4417-300 --site \"Ormsay, ticket hut\" --customer \"Ormsay ferries\" --note \"key at the kiosk\"",
		ValidArgsFunction: a.complete(modelNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Model, n.Serial = args[0], args[1]
			u, err := c.EnterUnit(ctx, n)
			if err != nil {
				return err
			}
			return a.show(u, func() {
				if !u.Fresh {
					tell(a.out, "– %s %s is in the register already and stays as it was. Change it: ferry unit correct %s\n", u.ModelName, u.Serial, u.Serial)
					return
				}
				tell(a.out, "%s %s %s is in the register.\n", a.paint(teal, "✓"), u.ModelName, u.Serial)
				a.next("", "ferry card "+u.Serial)
			})
		})}
	add.Flags().StringVar(&n.Site, "site", "", "where it stands")
	add.Flags().StringVar(&n.Customer, "customer", "", "whose it is")
	add.Flags().StringVar(&n.Note, "note", "", "what a colleague should know")
	list := &cobra.Command{Use: "import FILE.csv", Short: "Enter many units: model,serial,site,customer,note with a first line that names the columns", Args: cobra.ExactArgs(1),
		Example: "  ferry unit import ormsay.csv\n  ferry unit import - < ormsay.csv",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			raw, err := a.listOf(args[0])
			if err != nil {
				return err
			}
			r, err := c.EnterUnits(ctx, raw)
			if err != nil {
				return err
			}
			if r.Refused > 0 {
				a.exit = ExitCode(core.BadFile)
			}
			return a.show(r, func() { a.enteredUnits(r) })
		})}
	var site, customer, note, reason string
	correct := &cobra.Command{Use: "correct UNIT", Short: "Correct what the register says; the history keeps what it said", Args: cobra.ExactArgs(1),
		Example: "  ferry unit correct Q80-4417-300 --site \"Skerry Point\" --reason \"moved last week\""}
	correct.RunE = a.call(func(ctx context.Context, c *client.Client, args []string) error {
		x := client.Correction{Reason: reason}
		for name, to := range map[string]struct {
			field **string
			value *string
		}{"site": {&x.Site, &site}, "customer": {&x.Customer, &customer}, "note": {&x.Note, &note}} {
			if correct.Flags().Changed(name) {
				*to.field = to.value
			}
		}
		u, err := c.CorrectUnit(ctx, args[0], x)
		if err != nil {
			return err
		}
		return a.show(u, func() {
			fmt.Fprintf(a.out, "%s %s %s  %s  %s\n", a.paint(teal, "✓"), u.ModelName, u.Serial, dash(u.Site), a.paint(faint, u.Customer))
		})
	})
	correct.Flags().StringVar(&site, "site", "", "where it stands")
	correct.Flags().StringVar(&customer, "customer", "", "whose it is")
	correct.Flags().StringVar(&note, "note", "", "what a colleague should know")
	correct.Flags().StringVar(&reason, "reason", "", "why; it stands in the history")
	v.AddCommand(add, list, correct, a.unitMemory(), a.unitPhoto(), a.unitJoin(), a.unitMistake(), a.unitDone(), a.unitApart(), a.unitTakeBack())
	return v
}

// listOf reads a list that a person has named, or that is piped in.
func (a *app) listOf(name string) (raw []byte, err error) {
	if name == "-" {
		raw, err = io.ReadAll(io.LimitReader(a.in, 4<<20))
	} else if raw, err = os.ReadFile(name); err != nil {
		err = core.Fail(core.NotFound, "%w", err)
	}
	if err == nil && len(raw) == 0 {
		err = core.Fail(core.BadFile, "the list is empty").Do("Its first line names the columns.")
	}
	return raw, err
}

func (a *app) enteredUnits(r client.Report) {
	var rows [][]string
	for _, l := range r.Lines {
		mark := a.paint(teal, "✓")
		switch l.State {
		case "known":
			mark = "–"
		case "refused":
			mark = a.paint(brick, "✗")
		}
		rows = append(rows, []string{fmt.Sprint(l.Line), mark, l.Model, a.paint(bold, l.Serial), column(l.Text, 60)})
	}
	a.table([]string{"line", "", "model", "serial", ""}, rows)
	fmt.Fprintln(a.out, toldOf(r.Entered, "%s unit entered, %d known already, %d refused", "%s units entered, %d known already, %d refused", r.Known, r.Refused))
}

func (a *app) unitMemory() *cobra.Command {
	return &cobra.Command{Use: "memory UNIT [VERSION]", Short: "What is in its memory, sector by sector, against a release", Args: cobra.RangeArgs(1, 2),
		Example:           "  ferry unit memory Q80-4417-206\n  ferry unit memory Q80-4417-206 4.2.1",
		ValidArgsFunction: a.complete(serials),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			release := ""
			if len(args) == 2 {
				u, err := c.Unit(ctx, args[0])
				if err != nil {
					return err
				}
				x, err := c.ReleasePage(ctx, u.Model+"@"+args[1])
				if err != nil {
					return err
				}
				release = x.ID
			}
			m, err := c.Memory(ctx, args[0], release)
			if err != nil {
				return err
			}
			return a.show(m, func() {
				if len(m.Sectors) == 0 {
					tell(a.out, "Its memory was never read. A backup or a run reads it.\n")
					return
				}
				tell(a.out, "Against %s, as it was read %s\n\n  %s\n  ─ right already  ░ would be written  ═ kept\n", a.paint(bold, m.Against), when(m.Read), strip(m.States, 72, a.color))
			})
		})}
}

func (a *app) unitPhoto() *cobra.Command {
	remove, reason := false, ""
	v := &cobra.Command{Use: "photo DIGEST [FILE]", Short: "Writes a photo that stands behind a fact or an answer into a file, or removes it for good", Args: cobra.RangeArgs(1, 2),
		Long:    "With --remove a lead removes it: it shows what it should not. Its digest stays wherever it is named.",
		Example: "  ferry unit photo 9f2c…e1 board.jpg\n  ferry unit photo 9f2c…e1 --remove --reason \"a face is on it\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if remove {
				if err := c.RemoveEvidence(ctx, args[0], reason); err != nil {
					return err
				}
				return a.show(map[string]string{"removed": args[0]}, func() { tell(a.out, "%s it is removed\n", a.paint(teal, "✓")) })
			}
			if len(args) < 2 {
				return mistyped("say into which FILE it is to be written")
			}
			data, err := c.Evidence(ctx, args[0])
			if err != nil {
				return err
			}
			if err := writeFile(args[1], data); err != nil {
				return err
			}
			return a.show(map[string]any{"file": args[1], "bytes": len(data)}, func() {
				tell(a.out, "%s Written to %s, %s bytes.\n", a.paint(teal, "✓"), args[1], grouped(uint64(len(data))))
			})
		})}
	v.Flags().BoolVar(&remove, "remove", false, "remove it for good (lead)")
	v.Flags().StringVar(&reason, "reason", "", "why")
	return v
}

func (a *app) unitJoin() *cobra.Command {
	var j client.Join
	v := &cobra.Command{Use: "join DOUBLE UNIT", Short: "Say that DOUBLE is UNIT, entered twice; both keep their history (lead)", Args: cobra.ExactArgs(2), Example: "  ferry unit join Q80-4417-0206 Q80-4417-206 --reason \"typed with a zero too many\"",
		ValidArgsFunction: a.complete(serials),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			j.Into = args[1]
			u, err := c.JoinUnit(ctx, args[0], j)
			if err != nil {
				return err
			}
			return a.show(u, func() {
				tell(a.out, "%s %s is %s %s from now on.\n", a.paint(teal, "✓"), args[0], u.ModelName, u.Serial)
			})
		})}
	v.Flags().StringVar(&j.Reason, "reason", "", "why; it stands in both histories")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) unitMistake() *cobra.Command {
	reason := ""
	v := &cobra.Command{Use: "mistake UNIT", Short: "Say that a unit was entered by mistake; it leaves the lists and keeps its history", Args: cobra.ExactArgs(1), Example: "  ferry unit mistake Q80-4417-999 --reason \"a number from the invoice\"",
		ValidArgsFunction: a.complete(serials),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			u, err := c.MarkMistake(ctx, args[0], reason)
			if err != nil {
				return err
			}
			return a.show(u, func() {
				tell(a.out, "%s %s is on no list any more. If it is ever read on a wire, it is back.\n", a.paint(teal, "✓"), u.Serial)
			})
		})}
	v.Flags().StringVar(&reason, "reason", "", "why; it stands in the history")
	v.MarkFlagRequired("reason")
	return v
}

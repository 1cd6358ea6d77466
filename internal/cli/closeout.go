package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
)

func (a *app) runBorrowed() *cobra.Command {
	return &cobra.Command{Use: "borrowed RUN WHAT", Short: "Note a change for a while that no procedure names: it is to be taken back before the run closes", Args: cobra.ExactArgs(2),
		Example: "  ferry run borrowed 0193f2a0-… \"the plug of the depth sounder, for the programming lead\"", ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Borrow(ctx, args[0], client.NewBorrowed{Says: args[1]})
			if err != nil {
				return err
			}
			return a.show(r, func() {
				tell(a.out, "%s Noted. The run asks for it at its end, and closes once it is back or a lead leaves it by name.\n", a.paint(teal, "✓"))
			})
		})}
}

func (a *app) unitDone() *cobra.Command {
	d := client.OwedDone{}
	v := &cobra.Command{Use: "done UNIT", Short: "Say that what a run has left at a unit is done", Args: cobra.ExactArgs(1),
		Example:           "  ferry unit done Q80-4417-206 --note \"the strap is out\"",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			u, err := c.OwedDone(ctx, args[0], d)
			if err != nil {
				return err
			}
			return a.show(u, func() {
				tell(a.out, "%s In the history of %s. Still left there: %d.\n", a.paint(teal, "✓"), u.Serial, len(u.Owed))
			})
		})}
	v.Flags().StringVar(&d.Kind, "kind", "undo", "undo: a change for a while was taken back; finding: what somebody saw at the end is as it should be; give: what belongs to the unit was handed over")
	v.Flags().StringVar(&d.Item, "item", "", "which, where there are several")
	v.Flags().StringVar(&d.Note, "note", "", "how it was done")
	v.MarkFlagRequired("note")
	return v
}

func (a *app) handoverVerb() *cobra.Command {
	pdf := ""
	v := &cobra.Command{Use: "handover UNIT", Short: "What was done to a unit, what was not, and what whoever has it next does first", Args: cobra.ExactArgs(1),
		Example:           "  ferry handover Q80-4417-206\n  ferry handover Q80-4417-206 --pdf note.pdf",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			h, err := c.HandOver(ctx, args[0])
			if err != nil {
				return err
			}
			if pdf != "" {
				raw, err := paper.HandOver(h, a.clock.Now())
				return a.printed(pdf, raw, err)
			}
			return a.show(h, func() {
				fmt.Fprintf(a.out, "%s  %s  %s, %s\n", a.paint(bold, h.Unit), h.ModelName, dash(h.Site), told("runs %s", dash(h.Running)))
				list := func(title, how, mark string, all []core.Said) {
					fmt.Fprintf(a.out, "\n%s\n", a.bright(title))
					if len(all) == 0 {
						fmt.Fprintln(a.out, "  "+a.paint(faint, "nothing"))
					}
					for _, s := range all {
						fmt.Fprintf(a.out, "  %s %s\n", a.paint(how, mark), wrap(s.Text, 4))
					}
				}
				list("Done", teal, "✓", h.Done)
				list("Not done", brick, "–", h.NotDone)
				fmt.Fprintf(a.out, "\n%s\n", a.bright("What comes next"))
				if len(h.Next) == 0 {
					fmt.Fprintln(a.out, "  "+a.paint(faint, "nothing"))
				}
				for i, l := range h.Next {
					fmt.Fprintf(a.out, "  %d %s\n", i+1, wrap(l.Text, 4))
					for _, s := range l.Steps {
						if s.Verb != "" {
							fmt.Fprintf(a.out, "    %s: %s\n", s.Says, a.paint(bold, s.Verb))
						}
					}
				}
				a.offers(h.Offers)
			})
		})}
	v.Flags().StringVar(&pdf, "pdf", "", "write it to a file, to be printed")
	return v
}

func (a *app) offers(all []client.Offer) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s\n", a.bright("Seen, and not ordered"))
	for _, o := range all {
		photo := ""
		if o.Photo != "" {
			photo = told("picture: ferry unit photo %s FILE", o.Photo[:12])
		}
		fmt.Fprintf(a.out, "  %d  %s %s\n", o.Number, wrap(o.Says, 5), a.paint(faint, "("+words.Listed(o.Serial, o.By, when(o.At), photo)+")"))
	}
}

func (a *app) offerVerb() *cobra.Command {
	v := &cobra.Command{Use: "offer", Short: "Things seen at units that nobody had ordered: note them, and say what came of them"}
	n, photo := client.NewOffer{}, ""
	add := &cobra.Command{Use: "add UNIT WHAT", Short: "Note one", Args: cobra.ExactArgs(2), Example: "  ferry offer add Q80-4417-206 \"the paper sensor is scratched\" --photo sensor.jpg", ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) (err error) {
			n.Says = args[1]
			if photo != "" {
				if n.Photo, err = a.putPhoto(ctx, c, photo); err != nil {
					return err
				}
			}
			o, err := c.AddOffer(ctx, args[0], n)
			if err != nil {
				return err
			}
			return a.show(o, func() {
				tell(a.out, "%s Offer %d of %s: %s\n", a.paint(teal, "✓"), o.Number, o.Serial, o.Says)
			})
		})}
	add.Flags().StringVar(&photo, "photo", "", "file of a picture")
	add.Flags().StringVar(&n.Run, "run", "", "the run during which it was seen")
	end := &cobra.Command{Use: "end NUMBER", Short: "Say what came of one", Args: cobra.ExactArgs(1), Example: "  ferry offer end 3 --how \"job 14\""}
	e := client.OfferEnd{}
	end.RunE = a.call(func(ctx context.Context, c *client.Client, args []string) error {
		number, err := strconv.ParseUint(strings.TrimSpace(args[0]), 10, 64)
		if err != nil {
			return core.Fail(core.NotUnderstood, "an offer is called by its number, not %q", args[0])
		}
		if err := c.EndOffer(ctx, number, e); err != nil {
			return err
		}
		return a.show(struct{}{}, func() { tell(a.out, "%s Offer %d: %s\n", a.paint(teal, "✓"), number, e.How) })
	})
	end.Flags().StringVar(&e.How, "how", "", "a job was made of it, the customer does not want it, it was nothing")
	end.MarkFlagRequired("how")
	list := &cobra.Command{Use: "list", Short: "Those on which nobody has decided", Args: cobra.NoArgs, Example: "  ferry offer list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			t, err := c.Today(ctx)
			if err != nil {
				return err
			}
			return a.show(map[string]any{"offers": t.Offers}, func() {
				if len(t.Offers) == 0 {
					tell(a.out, "None.\n")
				}
				a.offers(t.Offers)
			})
		})}
	v.AddCommand(add, end, list)
	return v
}

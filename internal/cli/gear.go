package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"zealousferry/internal/client"
)

func (a *app) gearVerb() *cobra.Command {
	v := &cobra.Command{Use: "gear", Short: "Adapters, cables, software and entitlements that the team has"}
	list := &cobra.Command{Use: "list", Short: "What there is, with owner and expiry", Args: cobra.NoArgs, Example: "  ferry gear list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			g, err := c.Gear(ctx)
			if err != nil {
				return err
			}
			return a.show(g, func() {
				var rows [][]string
				for _, x := range g.Gear {
					until, left := "", ""
					if x.Expires != nil {
						until = x.Expires.UTC().Format("2 Jan 2006")
						if x.Expires.Before(a.clock.Now()) {
							until = a.paint(brick, told("%s over", until))
						}
					}
					if x.Left != nil {
						left = fmt.Sprint(*x.Left)
					}
					rows = append(rows, []string{x.Kind, a.paint(bold, x.Name), x.Version, x.Owner, until, left, x.Cost, column(x.Note, 24), x.ID})
				}
				a.table([]string{"kind", "name", "version", "with", "until", "left", "cost", "note", "id"}, rows)
			})
		})}
	var n client.NewGear
	until, left := "", -1
	add := &cobra.Command{Use: "add KIND NAME", Short: "Add a thing, or change the one with --id", Args: cobra.ExactArgs(2),
		Example:   "  ferry gear add entitlement \"Porter service access\" --with \"the team\" --until 2027-03-31 --cost \"240 a year\"\n  ferry gear add adapter \"one-wire lead\" --with van",
		ValidArgs: []string{"accessory", "cable", "adapter", "software", "entitlement"},
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Kind, n.Name = args[0], args[1]
			if until != "" {
				d, err := parseDay(until)
				if err != nil {
					return err
				}
				n.Expires = &d
			}
			if left >= 0 {
				n.Left = &left
			}
			g, err := c.PutGear(ctx, n)
			if err != nil {
				return err
			}
			return a.show(g, func() { tell(a.out, "%s %s %s, with %s.\n", a.paint(teal, "✓"), g.Kind, g.Name, g.Owner) })
		})}
	add.Flags().StringVar(&n.ID, "id", "", "change this one")
	add.Flags().StringVar(&n.Version, "version", "", "its version")
	add.Flags().StringVar(&n.Owner, "with", "the team", "who has it")
	add.Flags().StringVar(&until, "until", "", "last day, e.g. 2027-03-31")
	add.Flags().IntVar(&left, "left", -1, "how often it can still be used")
	add.Flags().StringVar(&n.Cost, "cost", "", "what it costs")
	add.Flags().StringVar(&n.Note, "note", "", "anything else")
	drop := &cobra.Command{Use: "drop ID", Short: "Take a thing off the list", Args: cobra.ExactArgs(1), Example: "  ferry gear drop 0193f2a0-…",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.DropGear(ctx, args[0]); err != nil {
				return err
			}
			return a.show(map[string]string{"dropped": args[0]}, func() { tell(a.out, "%s off the list.\n", a.paint(teal, "✓")) })
		})}
	v.AddCommand(list, add, drop)
	return v
}

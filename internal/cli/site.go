package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/internal/client"
)

func (a *app) siteVerb() *cobra.Command {
	v := &cobra.Command{Use: "site", Short: "Where units are: whom to ask, how to get in, what holds for every unit there"}
	begins, after := "", ""
	list := &cobra.Command{Use: "list", Short: "Sites", Args: cobra.NoArgs, Example: "  ferry site list\n  ferry site list --find Skerry",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			s, err := c.Sites(ctx, begins, after)
			if err != nil {
				return err
			}
			return a.show(s, func() {
				var rows [][]string
				for _, x := range s.Sites {
					rows = append(rows, []string{a.paint(bold, x.Name), x.Customer, column(x.Contact, 30), column(x.Note, 40), profile(x.Facts)})
				}
				a.table([]string{"site", "customer", "contact", "how to get in", "holds for all"}, rows)
				a.extentOf(len(rows), s.Paged, after, "%s site", "%s sites", "more than %s sites")
			})
		})}
	list.Flags().StringVar(&begins, "find", "", "how the name begins")
	afterFlag(list, &after)
	var n client.NewSite
	put := &cobra.Command{Use: "set NAME", Short: "Enter a site, or change it; what is not said stays", Args: cobra.ExactArgs(1),
		Long:    "Units are at it whose site is NAME, or begins with NAME and a comma. Its facts count for them where\nnothing was read, noted or said of the unit itself.",
		Example: "  ferry site set \"Ormsay\" --customer \"Ormsay ferries\" --contact \"Edda Rooke, at the kiosk\" --note \"ring at the slip\" --fact region=outer-isles"}
	put.RunE = a.call(func(ctx context.Context, c *client.Client, args []string) error {
		all, err := c.Sites(ctx, args[0], "")
		if err != nil {
			return err
		}
		n.Name = args[0]
		for _, x := range all.Sites {
			if strings.EqualFold(x.Name, n.Name) {
				stays(put, "customer", &n.Customer, x.Customer)
				stays(put, "contact", &n.Contact, x.Contact)
				stays(put, "note", &n.Note, x.Note)
				if !put.Flags().Changed("fact") {
					n.Facts = x.Facts
				}
			}
		}
		x, err := c.PutSite(ctx, n)
		if err != nil {
			return err
		}
		return a.show(x, func() {
			fmt.Fprintf(a.out, "%s %s  %s  %s\n", a.paint(teal, "✓"), x.Name, x.Customer, profile(x.Facts))
		})
	})
	put.Flags().StringVar(&n.Customer, "customer", "", "whose it is")
	put.Flags().StringVar(&n.Contact, "contact", "", "whom to ask")
	put.Flags().StringVar(&n.Note, "note", "", "how to get in")
	put.Flags().StringToStringVar(&n.Facts, "fact", nil, "what holds for every unit there, as NAME=VALUE")
	v.AddCommand(list, put)
	return v
}

// stays keeps what a flag does not change.
func stays(v *cobra.Command, flag string, field *string, was string) {
	if !v.Flags().Changed(flag) {
		*field = was
	}
}

func profile(facts map[string]string) string {
	var all []string
	for _, name := range slices.Sorted(maps.Keys(facts)) {
		all = append(all, name+" "+facts[name])
	}
	return strings.Join(all, ", ")
}

package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/internal/client"
)

func (a *app) bulletinVerb() *cobra.Command {
	v := &cobra.Command{Use: "bulletin", Short: "What is known of complaints: which units have it, how it shows, what mends it"}
	v.AddCommand(a.bulletinAdd(), a.bulletinEnd(), a.bulletinList())
	return v
}

func (a *app) bulletinAdd() *cobra.Command {
	var n client.NewBulletin
	var of, below map[string]string
	v := &cobra.Command{Use: "add MODEL", Short: "Enter one (lead)", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(modelNames),
		Long:    "It speaks to a unit if the unit is one of those that are meant, and has noted one of the codes, or one of the words is said of\nit: in the reason of its job, or of the round of its vehicle. Without codes and words it speaks to every unit that is meant.",
		Example: "  ferry bulletin add porter-hoist --title \"Sinks under load\" --says \"The valve's lead rubs through: lay it anew.\" --code C1A10 --word drops --for revision=A,B --below running=1.6",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Model = args[0]
			rules := map[string]model.Rule{}
			for fact, values := range of {
				r := rules[fact]
				r.Fact, r.OneOf = fact, strings.Split(values, ",")
				rules[fact] = r
			}
			for fact, value := range below {
				r := rules[fact]
				r.Fact, r.Below = fact, value
				rules[fact] = r
			}
			for _, fact := range slices.Sorted(maps.Keys(rules)) {
				n.When = append(n.When, rules[fact])
			}
			b, err := c.AddBulletin(ctx, n)
			if err != nil {
				return err
			}
			return a.show(b, func() {
				tell(a.out, "%s Bulletin %d of %s: %s\n", a.paint(teal, "✓"), b.Number, b.Model, b.Title)
			})
		})}
	f := v.Flags()
	f.StringVar(&n.Title, "title", "", "the complaint, in a few words")
	f.StringVar(&n.Says, "says", "", "what it is and what mends it")
	f.StringArrayVar(&n.Codes, "code", nil, "a fault code by which it shows, such as C1A10-12, or C1A10 for any failure type")
	f.StringArrayVar(&n.Words, "word", nil, "what is said of a unit that has it")
	f.StringToStringVar(&of, "for", nil, "units that are meant, as revision=A,B")
	f.StringToStringVar(&below, "below", nil, "units that are meant: below this, as running=1.6")
	v.MarkFlagRequired("title")
	v.MarkFlagRequired("says")
	return v
}

func (a *app) bulletinEnd() *cobra.Command {
	reason := ""
	v := &cobra.Command{Use: "end NUMBER", Short: "Have nobody told of it any more (lead)", Args: cobra.ExactArgs(1), Example: "  ferry bulletin end 3 --reason \"1.7 mends it\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n, err := strconv.ParseUint(args[0], 10, 64)
			if err != nil {
				return core.Fail(core.NotUnderstood, "a bulletin has a number, such as 3; this is %q", args[0])
			}
			if err := c.EndBulletin(ctx, n, reason); err != nil {
				return err
			}
			return a.show(map[string]any{"number": n, "ended": true}, func() { tell(a.out, "%s Nobody is told of bulletin %d any more.\n", a.paint(teal, "✓"), n) })
		})}
	v.Flags().StringVar(&reason, "reason", "", "why")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) bulletinList() *cobra.Command {
	ended := false
	v := &cobra.Command{Use: "list [MODEL]", Short: "Bulletins, the newest first", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.complete(modelNames), Example: "  ferry bulletin list porter-hoist",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			all, err := c.Bulletins(ctx, strings.Join(args, ""), ended)
			if err != nil {
				return err
			}
			return a.show(all, func() {
				if len(all.Bulletins) == 0 {
					tell(a.out, "There is none.\n")
				}
				for _, b := range all.Bulletins {
					a.bulletin(b)
					shows := append(slices.Clone(b.Codes), b.Words...)
					fmt.Fprintf(a.out, "    %s\n", a.paint(faint, told("for %s; shows by %s; %s, %s", cmp.Or(b.For, "every unit"), cmp.Or(strings.Join(shows, ", "), "nothing: all are told"), b.By, when(b.At))))
					if b.Ended != nil {
						fmt.Fprintf(a.out, "    %s\n", a.paint(faint, told("ended %s: %s", when(*b.Ended), b.EndedWhy)))
					}
				}
			})
		})}
	v.Flags().BoolVar(&ended, "ended", false, "also those that have ended")
	return v
}

// bulletin shows one, and by what it speaks to a unit.
func (a *app) bulletin(b client.Bulletin) {
	fmt.Fprintf(a.out, "%s %s: %s\n", a.paint(amber, told(" BULLETIN %d ", b.Number)), a.paint(bold, b.Title), wrap(b.Says, 4))
	if len(b.SpeaksWhy) > 0 {
		fmt.Fprintf(a.out, "    %s\n", a.paint(faint, told("because: %s", core.Texts(b.SpeaksWhy, ", "))))
	}
}

func (a *app) modelCodes() *cobra.Command {
	return &cobra.Command{Use: "codes MODEL FILE.csv", Short: "What its fault codes mean: code,says with a first line that names the columns (lead)", Args: cobra.ExactArgs(2), ValidArgsFunction: a.complete(modelNames),
		Long:    "A text goes before the one in the model's sheet; a line without a text takes the code's text away. A code is one such as\nU0100-87, or U0100 for any failure type.",
		Example: "  ferry model codes porter-hoist codes.csv\n  ferry model codes porter-hoist - < codes.csv",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			raw, err := a.listOf(args[1])
			if err != nil {
				return err
			}
			p, err := c.PutCodeTexts(ctx, args[0], raw)
			if err != nil {
				return err
			}
			return a.show(p, func() {
				fmt.Fprintf(a.out, "%s %s\n", a.paint(teal, "✓"), toldOf(p.Put, "%s text of %s stands, %d taken away.", "%s texts of %s stand, %d taken away.", p.Model, p.Taken))
			})
		})}
}

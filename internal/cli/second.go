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
)

func (a *app) secondVerb() *cobra.Command {
	v := &cobra.Command{Use: "second", Short: "A second person for what cannot be taken back: ask a lead for leave, give it"}
	v.AddCommand(a.secondAsk(), a.secondList(), a.secondShow(), a.secondGive(true), a.secondGive(false), a.secondRule())
	return v
}

func (a *app) secondAsk() *cobra.Command {
	n := client.NewSecond{Kind: "flash"}
	v := &cobra.Command{Use: "ask UNIT|LINK [VERSION]", Short: "Ask the leads for leave, for a run of one version", Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.complete(places),
		Example: "  ferry second ask DN-20417 2.1 --reason \"2.2 does not pair with the old handset\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.At = args[0]
			if len(args) == 2 {
				n.Release = args[1]
			}
			if n.Backup != "" {
				n.Kind = "restore"
			}
			x, err := c.AskSecond(ctx, n)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				a.second(x)
				tell(a.out, "  a lead      ferry second give %d --reason …\n", x.Number)
			})
		})}
	v.Flags().StringVar(&n.Reason, "reason", "", "why this unit")
	v.Flags().StringVar(&n.Backup, "backup", "", "ask for a restore of this backup in place of a flash")
	v.MarkFlagRequired("reason")
	return v
}

func (a *app) secondList() *cobra.Command {
	all := false
	v := &cobra.Command{Use: "list", Short: "What leads are asked for", Example: "  ferry second list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			s, err := c.Seconds(ctx, all)
			if err != nil {
				return err
			}
			return a.show(s, func() {
				var rows [][]string
				for _, x := range s.Seconds {
					rows = append(rows, []string{fmt.Sprint(x.Number), a.paint(bold, x.Serial), x.Kind + " " + x.Version, wanting(x), x.By, when(x.At), a.secondState(x), column(x.Reason, 34)})
				}
				a.table([]string{"", "unit", "run", "wants leave for", "by", "asked", "state", "why"}, rows)
				a.secondRuleSays(s)
			})
		})}
	v.Flags().BoolVar(&all, "all", false, "those that were decided, too")
	return v
}

// wanting names what leave is asked for.
func wanting(x client.Second) string {
	var all []string
	for _, w := range x.Wants {
		name := words.Permits[w.For]
		if name == "" {
			name = words.Gates.In(w.For)
		}
		all = append(all, name)
	}
	return strings.Join(all, ", ")
}

func (a *app) secondState(x client.Second) string {
	switch x.State {
	case "given":
		return a.paint(teal, told("given until %s", when(*x.Until)))
	case "refused":
		return a.paint(brick, "refused")
	case "over":
		return a.paint(faint, "given, and over")
	}
	return a.paint(bold, "waits")
}

func (a *app) second(x client.Second) {
	tell(a.out, "%s  %s  %s of %s  %s\n", a.paint(bold, fmt.Sprint(x.Number)), a.paint(bold, x.Serial), x.Kind, x.Version, a.secondState(x))
	labelled(a.out, 11, "asked by", fmt.Sprintf("%s, %s: %s", x.By, when(x.At), x.Reason))
	for _, w := range x.Wants {
		labelled(a.out, 11, "wants", wrap(w.Text, 14))
	}
	if x.Decided != "" {
		labelled(a.out, 11, "decided by", x.Decided+": "+x.Why)
	}
}

func (a *app) secondShow() *cobra.Command {
	return &cobra.Command{Use: "show NUMBER", Short: "What somebody asks leave for, and what stands in the way now", Args: cobra.ExactArgs(1), Example: "  ferry second show 3",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n, err := numbered(args[0])
			if err != nil {
				return err
			}
			x, err := c.Second(ctx, n)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				a.second(x.Second)
				for _, b := range x.Bars {
					labelled(a.out, 11, "in the way", wrap(b.Text, 14))
				}
				tell(a.out, "  see         ferry card %s --release %s, ferry fit %s, ferry rehearse %s --release %s\n", x.Serial, x.Version, x.Serial, x.Serial, x.Version)
			})
		})}
}

func numbered(s string) (uint64, error) {
	n, err := strconv.ParseUint(s, 10, 64)
	if err != nil {
		return 0, core.Fail(core.NotUnderstood, "expected a number, came %q", s).Do("See them: ferry second list.")
	}
	return n, nil
}

func (a *app) secondGive(give bool) *cobra.Command {
	d := client.SecondDecision{Give: give}
	use, short := "give NUMBER", "Give leave (lead; not for what one has asked oneself)"
	if !give {
		use, short = "refuse NUMBER", "Refuse it (lead)"
	}
	v := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), Example: "  ferry second " + strings.Fields(use)[0] + ` 3 --reason "the customer has signed for it"`,
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n, err := numbered(args[0])
			if err != nil {
				return err
			}
			x, err := c.DecideSecond(ctx, n, d)
			if err != nil {
				return err
			}
			return a.show(x, func() { a.second(x) })
		})}
	v.Flags().StringVar(&d.Reason, "reason", "", "why")
	v.MarkFlagRequired("reason")
	if give {
		v.Flags().IntVar(&d.Hours, "hours", 24, "how long it holds")
	}
	return v
}

func (a *app) secondRule() *cobra.Command {
	trust := false
	v := &cobra.Command{Use: "rule [auto|on|off]", Short: "Whether what cannot be taken back wants two persons, and what is to be trusted two leads; settles it (lead)", Args: cobra.MaximumNArgs(1), Example: "  ferry second rule on\n  ferry second rule --trust on", ValidArgs: []string{"auto", "on", "off"},
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.Seconds(ctx, false)
			if len(args) == 1 && err == nil {
				about := "runs"
				if trust {
					about = "trust"
				}
				s, err = c.PutSecondRule(ctx, args[0], about)
			}
			if err != nil {
				return err
			}
			return a.show(s, func() { a.secondRuleSays(s) })
		})}
	v.Flags().BoolVar(&trust, "trust", false, "the rule about keys, a lead's word for images, and sheets in force")
	return v
}

func (a *app) secondRuleSays(s client.Seconds) {
	is := "what cannot be taken back wants two persons"
	if !s.On {
		is = "what cannot be taken back wants one person, who may be a lead alone"
	}
	by := ""
	if s.By != "" {
		by = told("settled by %s", s.By)
	}
	fmt.Fprintf(a.out, "%s (%s)\n", is, words.Listed(told("rule %s", s.Rule), by))
	if s.Waits.Text != "" {
		fmt.Fprintln(a.out, "  "+s.Waits.Text)
	}
	is = "one lead"
	if s.Trust {
		is = "two leads"
	}
	fmt.Fprintf(a.out, "%s (%s)\n", told("what is to be trusted (keys, a lead's word for images, sheets in force) wants %s", is), told("rule %s", s.TrustRule))
	if s.TrustWaits.Text != "" {
		fmt.Fprintln(a.out, "  "+s.TrustWaits.Text)
	}
}

package cli

import (
	"bufio"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/diagnose"
	"zealousferry/internal/client"
)

func (a *app) checkVerb() *cobra.Command {
	n := client.NewCheck{}
	value, came, yes := "", "", false
	v := &cobra.Command{Use: "check LINK|UNIT", Short: "Prove a link, or find out why nothing sensible comes", Args: cobra.ExactArgs(1),
		Long: "Asks the unit harmless questions, a hundred times. Where nothing sensible comes back, it says\nwhat it saw and what to try; at a terminal it leads through the test that tells the faults apart.",
		Example: "  ferry check van/quay-1\n  ferry check van/quay-6 --model quill-80\n  ferry check van/quay-1 --unplugged        (the counter-proof: pull the plug first)\n" +
			"  ferry check van/quay-6 --value 0.2        (the answer to a measurement)\n  ferry check van/quay-6 --came adapter,plug (where what was sent came back)",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.At = args[0]
			switch {
			case value != "":
				x, err := strconv.ParseFloat(value, 64)
				if err != nil {
					return core.Fail(core.NotUnderstood, "--value is a number, not %q", value)
				}
				n.Answer = &diagnose.Answer{Value: x}
			case came != "":
				n.Answer = &diagnose.Answer{Came: map[string]bool{}}
				for _, place := range strings.Split(came, ",") {
					n.Answer.Came[strings.TrimSpace(place)] = true
				}
			case yes:
				n.Answer = &diagnose.Answer{Yes: true}
			}
			got, err := asking(ctx, a, c, n.At, func(ctx context.Context) (client.Check, error) { return c.Check(ctx, n) })
			if err != nil {
				return err
			}
			for got.Asks && isTerminal(a.in) && a.output == "text" {
				a.checked(got)
				if n.Answer, err = a.askTest(ctx, c, n.At, got.Test); err != nil {
					return err
				}
				if got, err = asking(ctx, a, c, n.At, func(ctx context.Context) (client.Check, error) { return c.Check(ctx, n) }); err != nil {
					return err
				}
			}
			if !got.Passed {
				a.exit = ExitCode(core.NotAnswering)
			}
			return a.show(got, func() { a.checked(got) })
		})}
	v.Flags().StringVar(&n.Model, "model", "", "the model whose loader should answer; the one last seen by itself")
	v.Flags().BoolVar(&n.Unplugged, "unplugged", false, "the plug is pulled: the same question has to fail")
	v.Flags().StringVar(&value, "value", "", "what was measured, for the test that was proposed")
	v.Flags().StringVar(&came, "came", "", "where what was sent came back: adapter, plug")
	v.Flags().BoolVar(&yes, "came-back", false, "it came back with the lead off")
	return v
}

func (a *app) checked(k client.Check) {
	mark, colour := "✗", brick+bold
	if k.Passed {
		mark, colour = "✓", teal+bold
	}
	fmt.Fprintf(a.out, "%s %s\n", a.paint(colour, mark), a.paint(colour, strings.ToUpper(strings.TrimSuffix(k.Head.Text, "."))))
	a.pair("link", told("%s, as %s", k.Link, k.Model))
	for i, w := range k.Words {
		name := ""
		if i == 0 {
			name = "seen"
		}
		a.pair(name, wrap(w.Text, 13))
	}
	if p := k.Seen.Proof; p.Asked > 0 {
		a.pair("answers", told("%d of %d, %s at the middle, %s at worst", p.Asked-p.Lost, p.Asked, p.Median.Round(100*time.Microsecond), p.Worst.Round(100*time.Microsecond)))
	}
	switch {
	case k.Do != "":
		a.pair("next", a.paint(bold, wrap(k.Do, 13)))
	case k.Asks && k.Test != nil:
		a.pair("next", a.paint(bold, wrap(k.Test.Says, 13)))
		a.pair("", a.paint(faint, wrap(k.Test.Why, 13)))
		a.pair("answer", "ferry check "+k.Link+" "+map[string]string{diagnose.Measure: told("--value %s", strings.ToUpper(k.Test.What)), diagnose.Bridge: "--came adapter,plug", diagnose.Look: "--came-back"}[k.Test.Kind])
	}
}

// askTest leads a person through a test.
func (a *app) askTest(ctx context.Context, c *client.Client, at string, t *diagnose.Test) (*diagnose.Answer, error) {
	in := bufio.NewReader(a.in)
	line := func(prompt string) (string, error) {
		fmt.Fprintf(a.err, "\n  %s ", prompt)
		s, err := in.ReadString('\n')
		if err != nil {
			return "", core.Fail(core.Interrupted, "the test was left")
		}
		return strings.TrimSpace(s), nil
	}
	switch t.Kind {
	case diagnose.Measure:
		for {
			s, err := line(told("What does the meter show, in %s?", t.Unit))
			if err != nil {
				return nil, err
			}
			if v, err := strconv.ParseFloat(strings.ReplaceAll(s, ",", "."), 64); err == nil {
				return &diagnose.Answer{Value: v}, nil
			}
		}
	case diagnose.Bridge:
		out := &diagnose.Answer{Came: map[string]bool{}}
		for _, place := range strings.Split(t.What, ", ") {
			if _, err := line(told("Bridge the data pins at the %s, then press Enter.", place)); err != nil {
				return nil, err
			}
			e, err := c.Echo(ctx, at)
			if err != nil {
				return nil, err
			}
			out.Came[place] = e.Came
			if e.Came {
				tell(a.err, "  At the %s: it comes back.\n", place)
			} else {
				tell(a.err, "  At the %s: nothing comes back.\n", place)
			}
		}
		return out, nil
	}
	if _, err := line("Pull the lead off the adapter, then press Enter."); err != nil {
		return nil, err
	}
	e, err := c.Echo(ctx, at)
	return &diagnose.Answer{Yes: e.Came}, err
}

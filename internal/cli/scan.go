package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/internal/client"
)

func (a *app) scan() *cobra.Command {
	n := client.NewScan{}
	v := &cobra.Command{Use: "scan BENCH/LINK", Short: "Ask a whole vehicle which modules it has, what they run, and which faults they have noted", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(places),
		Long:    "All slots that the vehicle's sheet names are asked at once, over its gateway or its bus. Nothing is changed. Each module\nthat tells its serial is a unit of its own in the register.",
		Example: "  ferry scan shed/tug-9\n  ferry scan shed/tug-9 --model porter-tug --output json",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.At = args[0]
			s, err := asking(ctx, a, c, n.At, func(ctx context.Context) (client.Scanned, error) { return c.Scan(ctx, n) })
			if err != nil {
				return err
			}
			return a.show(s, func() { a.scanned(s) })
		})}
	v.Flags().StringVar(&n.Model, "model", "", "the vehicle's model; found out by itself where there is one alone")
	v.RegisterFlagCompletionFunc("model", a.complete(modelNames))
	return v
}

// scanned shows an assembly by its buses.
func (a *app) scanned(s client.Scanned) {
	fmt.Fprintf(a.out, "%s  %s  %s\n", a.paint(bold, s.ModelName), s.Serial, a.paint(faint, told("on %s", s.Link)))
	for _, w := range s.Warn {
		fmt.Fprintf(a.out, "%s\n", a.paint(amber, told(" WARNING: %s ", w)))
	}
	bus := "-"
	var rows [][]string
	head := []string{"slot", "module", "serial", "runs", "stands", "next"}
	flush := func() {
		if len(rows) > 0 {
			a.table(head, rows)
			rows = nil
		}
	}
	for _, m := range s.Modules {
		if m.Bus != bus {
			flush()
			bus = m.Bus
			fmt.Fprintf(a.out, "\n%s\n", a.paint(bold, cmp.Or(bus, "gateway")))
		}
		runs := m.Running
		if m.Boot {
			runs = "no program"
		}
		rows = append(rows, []string{m.Title, dash(m.ModelName), dash(m.Serial), dash(runs), a.moduleStands(m), a.moduleNext(m)})
	}
	flush()
	for _, m := range s.Modules {
		for _, c := range m.Codes {
			fmt.Fprintf(a.out, "\n%s %s: %s\n    %s", a.paint(brick, c.Code), m.Title, cmp.Or(c.Says, "no text in the sheet"), a.paint(faint, strings.Join(c.Is, ", ")))
		}
	}
	fmt.Fprintln(a.out)
	for _, m := range s.Modules {
		for _, b := range m.Bulletins {
			fmt.Fprintln(a.out)
			a.bulletin(b)
		}
	}
	fmt.Fprintf(a.out, "\n%s: %s, %s, %s.\n", toldOf(len(s.Modules), "%s module", "%s modules"), toldOf(s.Faults, "%s fault code", "%s fault codes"), toldOf(s.Behind, "%s module behind", "%s modules behind"),
		toldOf(s.Silent, "%s module silent that should answer", "%s modules silent that should answer"))
}

func (a *app) moduleStands(m client.Module) string {
	switch {
	case m.Empty:
		return a.paint(faint, "empty")
	case m.Silent:
		return a.paint(brick, "✗ does not answer")
	case m.Error != "":
		return a.paint(brick, "✗ "+m.Error)
	case m.Boot:
		return a.paint(brick, "✗ in its boot loader, no program")
	case len(m.Codes) > 0:
		return toldOf(len(m.Codes), "%s fault code", "%s fault codes")
	}
	return a.paint(teal, "✓ well")
}

func (a *app) moduleNext(m client.Module) string {
	switch {
	case m.Empty:
		return ""
	case m.Newer != "":
		return told("%s: ferry flash %s", m.Newer, cmp.Or(m.Serial, m.At))
	case m.Next != "":
		return m.Next
	}
	return m.Verdict
}

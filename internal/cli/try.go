package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/link/recording"
	"zealousferry/core/registry"
	"zealousferry/core/visit"
	"zealousferry/internal/client"
)

func (a *app) modelTry() *cobra.Command {
	n := client.NewTry{}
	from, keep, sure := "", "", false
	v := &cobra.Command{Use: "try SHEET [LINK]", Short: "Play a sheet on a link: what was said, what came, which pattern took what", Args: cobra.RangeArgs(1, 2),
		Long:    "Reaches the unit's loader, asks who it is, and uses what changes nothing: settings, files, the first bytes of\nmemory. With --write it also erases the last sector that a program may fill and writes back what it held (lead).\nWith --from a recording is played in place of a unit, and no service is asked.",
		Example: "  ferry model try fulmar.yaml van/slip-1\n  ferry model try fulmar.yaml van/slip-1 --keep slip.rec\n  ferry model try fulmar.yaml van/slip-1 --write\n  ferry model try fulmar.yaml --from slip.rec",
		RunE: func(c *cobra.Command, args []string) error {
			raw, err := os.ReadFile(args[0])
			if err != nil {
				return core.Fail(core.NotFound, "%w", err)
			}
			n.Sheet = string(raw)
			if from != "" {
				return a.tryFrom(c.Context(), n, from)
			}
			if len(args) < 2 {
				return core.Fail(core.NotUnderstood, "there is no link to try the sheet on").Do("Name one (BENCH/LINK), or a recording: --from FILE.")
			}
			return a.call(func(ctx context.Context, c *client.Client, args []string) error {
				n.At = args[1]
				if n.Write && !sure {
					if err := a.confirm("The last sector that the program may fill is erased and written back. The bench keeps what it holds until it is written back; if the line breaks meanwhile, the next trial that writes puts it back first. Do it?"); err != nil {
						return err
					}
				}
				t, err := c.Try(ctx, n)
				if err != nil {
					return err
				}
				if keep != "" {
					if err := os.WriteFile(keep, []byte(t.Recording), 0o644); err != nil {
						return core.Fail(core.NoSpace, "%w", err)
					}
				}
				return a.show(t, func() { a.tried(t) })
			})(c, args)
		}}
	f := v.Flags()
	f.StringVar(&n.Section, "section", "", "which part of the sheet; the one with the unit's own program by itself")
	f.StringVar(&from, "from", "", "a recording in place of a unit")
	f.StringVar(&keep, "keep", "", "write what was said into this file")
	f.BoolVar(&n.Write, "write", false, "also erase a sector and write back what it held")
	f.BoolVar(&sure, "yes", false, "with --write: do not ask")
	return v
}

// tryFrom plays a recording.
func (a *app) tryFrom(ctx context.Context, n client.NewTry, file string) error {
	sheet, err := registry.Sheet([]byte(n.Sheet))
	if err != nil {
		return err
	}
	x, ok := sheet.Section(n.Section)
	if !ok {
		return core.Fail(core.NotFound, "the sheet has no section %q", n.Section)
	}
	raw, err := os.Open(file)
	if err != nil {
		return core.Fail(core.NotFound, "%w", err)
	}
	defer raw.Close()
	r, err := recording.Read(raw)
	if err != nil {
		return err
	}
	if !r.Whole() {
		return core.Fail(core.BadFile, "%s is a trace of a run: it does not hold all that was said, and cannot be played", file).Do("Record the dialogue anew: ferry try BENCH/LINK --sheet FILE --record FILE.")
	}
	t := client.Tried{Link: file, Model: sheet.Model}
	var keeper visit.Keeper
	if n.Write {
		keeper = &inMemory{}
	}
	t.Tried = visit.Try(ctx, r.Play(), x, link.Pace{Clock: core.System{}, Scale: 1e-3}, keeper, nil)
	t.Well = t.Tried.Well()
	return a.show(t, func() { a.tried(t) })
}

// inMemory keeps what a recording's unit held: nothing real is erased.
type inMemory struct{ held *visit.Held }

func (m *inMemory) Kept() (*visit.Held, error) { return m.held, nil }
func (m *inMemory) Keep(h *visit.Held) error   { m.held = h; return nil }

// tried shows a trial step by step.
func (a *app) tried(t client.Tried) {
	fmt.Fprintf(a.out, "%s  %s\n", a.paint(bold, t.Model), a.paint(faint, told("on %s", t.Link)))
	last := ""
	for _, x := range t.Turns {
		if x.Exchange != last {
			fmt.Fprintf(a.out, "\n%s\n", a.paint(bold, x.Exchange))
			last = x.Exchange
		}
		if x.Said != "" {
			fmt.Fprintf(a.out, "  %s %s\n", a.paint(teal, "→"), visible(x.Said))
		}
		for _, h := range x.Heard {
			fmt.Fprintf(a.out, "  ← %s\n", visible(h))
		}
		if x.Passed > 0 {
			fmt.Fprintf(a.out, "    %s\n", a.paint(faint, toldOf(x.Passed, "%s line passed over", "%s lines passed over")))
		}
		if x.Wanted != "" {
			parts := ""
			var names []string
			for name := range x.Parts {
				names = append(names, name)
			}
			slices.Sort(names)
			for _, name := range names {
				parts += fmt.Sprintf("  %s %s", name, a.paint(bold, x.Parts[name]))
			}
			if x.Rows > 1 {
				parts += a.paint(faint, told("  and %d more lines", x.Rows-1))
			}
			fmt.Fprintf(a.out, "    %s%s\n", a.paint(faint, x.Wanted), parts)
		}
		if x.Error != "" {
			fmt.Fprintf(a.out, "  %s %s\n", a.paint(brick, "✗"), wrap(x.Error, 4))
		}
	}
	if len(t.Facts) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", a.paint(bold, "facts"))
		for _, f := range t.Facts {
			a.pair(f.Name, f.Value)
		}
	}
	fmt.Fprintln(a.out)
	for _, d := range t.Did {
		if d.Left {
			fmt.Fprintf(a.out, "%s %s: %s\n", a.paint(faint, "–"), d.What, wrap(d.Came, 2))
			continue
		}
		if d.Error != "" {
			fmt.Fprintf(a.out, "%s %s: %s\n", a.paint(brick, "✗"), d.What, wrap(d.Error, 2))
			continue
		}
		fmt.Fprintf(a.out, "%s %s: %s\n", a.paint(teal, "✓"), d.What, d.Came)
	}
	if t.Proven {
		fmt.Fprintln(a.out, a.paint(faint, "The sheet in force counts as proven."))
	}
}

// visible shows what is no text.
func visible(s string) string {
	if strings.TrimSpace(s) == "" {
		s = strings.ReplaceAll(s, " ", "(space)")
	}
	return strings.NewReplacer("\r", `\r`, "\n", `\n`, "\x1b", `\x1b`, "\t", `\t`).Replace(s)
}

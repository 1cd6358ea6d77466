package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
)

// printed writes a document to be printed into a file.
func (a *app) printed(path string, raw []byte, err error) error {
	if err == nil {
		err = writeFile(path, raw)
	}
	if err != nil {
		return err
	}
	return a.show(map[string]any{"file": path, "bytes": len(raw)}, func() {
		tell(a.out, "Written to %s, %s. Print it, or take it along.\n", path, kib(uint64(len(raw))))
	})
}

func (a *app) cardVerb() *cobra.Command {
	pdf, about := "", client.CardAbout{}
	v := &cobra.Command{Use: "card UNIT|LINK", Short: "The job card: hazards, tools, wiring, power order, what right looks like", Args: cobra.ExactArgs(1),
		Example:           "  ferry card DN-20417\n  ferry card van/pier-1 --pdf card.pdf\n  ferry card DN-20417 --adapter \"one-wire lead\"",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			card, err := c.Card(ctx, args[0], about)
			if err != nil {
				return err
			}
			if pdf != "" {
				raw, err := paper.Card(card)
				return a.printed(pdf, raw, err)
			}
			return a.show(card, func() { a.card(card) })
		})}
	v.Flags().StringVar(&pdf, "pdf", "", "write it to a file, to be printed")
	v.Flags().StringVar(&about.Release, "release", "", "the version that the job is about; the recommended one by itself")
	v.Flags().StringVar(&about.Adapter, "adapter", "", "name of the adapter at hand; the first of the sheet by itself")
	v.Flags().StringVar(&about.Day, "day", "", "the planned day, as 2027-01-31: what the job needs is judged for it")
	v.Flags().BoolVar(&about.Header, "header", false, "the way through the unit's programming header, in place of its own lead")
	return v
}

func (a *app) card(c client.Card) {
	fmt.Fprintf(a.out, "%s  %s  %s\n", a.paint(bold, told("%s rev %s", c.ModelName, dash(c.Revision))), c.Serial, a.paint(faint, c.Site))
	if c.Header != "" {
		a.pair("through", wrap(c.Header, 13))
	}
	if c.Procedure == "" {
		a.pair("procedure", a.paint(brick, "the sheet has none for this unit"))
	} else {
		how := map[string]string{"proven": a.paint(teal, "✓ "+words.Procedures["proven"]), "failed": a.paint(brick, "✗ "+words.Procedures["failed"]), "unproven": "? " + words.Procedures["unproven"], "barred": a.paint(brick, "✗ "+words.Procedures["barred"])}[c.Standing]
		a.pair("procedure", told("%s, edition %d  %s", c.Procedure, c.Edition, how))
		if c.StandingSays != "" {
			a.pair("", wrap(c.StandingSays, 13))
		}
	}
	if p := c.SiteInfo; p != nil {
		for _, x := range [][2]string{{"ask", p.Contact}, {"get in", p.Note}} {
			if x[1] != "" {
				a.pair(x[0], wrap(x[1], 13))
			}
		}
	}
	for _, j := range c.Jobs {
		says := fmt.Sprintf("%d: %s", j.Number, j.Reason)
		for _, x := range [][2]string{{"asked by", j.Asked}, {"on", j.Planned}, {"for", j.Person}} {
			if x[1] != "" {
				says += ", " + x[0] + " " + x[1]
			}
		}
		a.pair("job", wrap(says, 13))
		if j.Test != "" {
			a.pair("done when", wrap(j.Test, 13))
		}
	}
	for _, b := range c.Bars {
		a.pair("stops it", a.paint(brick, wrap(b.Text, 13)))
		if b.Next != "" {
			a.pair("", wrap(b.Next, 13))
		}
	}
	if c.Reason != "" {
		a.pair("why", wrap(c.Reason, 13))
	}
	if c.Release != "" {
		a.pair("firmware", fmt.Sprintf("%s → %s", dash(c.Running), c.Release))
	}
	if c.Test != "" {
		a.pair("done when", wrap(c.Test, 13))
	}
	if c.Minutes > 0 {
		a.pair("takes", words.Listed(told("%d min", c.Minutes), words.Places.In(c.Place), took(c.Took)))
	}
	if c.Meanwhile != "" {
		a.pair("meanwhile", wrap(c.Meanwhile, 13))
	}
	a.pair("way back", words.WaysBack.In(c.WayBack))
	if c.NoBackup != nil {
		a.pair("no backup", a.paint(brick, wrap(c.NoBackup.Text, 13)))
	}
	for i, f := range c.Fates {
		a.pair(map[bool]string{true: "memory"}[i == 0], fmt.Sprintf("%-10s %9s  %s", f.Name, kib(f.Bytes), a.fate(f.Fate)))
	}
	for i, w := range c.WaysOn {
		a.pair(map[bool]string{true: "ways on"}[i == 0], wrap(w.Text, 13))
	}
	for i, x := range c.Asks {
		why := ""
		if x.Why != "" {
			why = ": " + x.Why
		}
		a.pair(map[bool]string{true: "asked"}[i == 0], wrap(x.Title+why, 13))
	}
	a.pair("proof", wrap(c.Verify, 13))
	for _, f := range c.Flaws {
		a.pair("beware", a.paint(brick, wrap(f, 13)))
	}
	for _, b := range c.Bulletins {
		a.pair("bulletin", wrap(fmt.Sprintf("%d, %s: %s", b.Number, b.Title, b.Says), 13))
	}
	if s := c.Supply; s != nil {
		a.pair("power", wrap(supplyWords(s), 13))
	}
	if c.Wiring != nil {
		a.wiring(c.Wiring)
		a.seenWires(c)
	}
	for _, at := range model.Stages {
		var lines []string
		if at == model.AtTool {
			for _, n := range c.Needs {
				lines = append(lines, "□ "+wrap(n.Name+": "+n.Text, 4))
				if n.Have != nil && n.Have.Cost != "" {
					lines = append(lines, "  "+a.paint(faint, told("costs %s", n.Have.Cost)))
				}
			}
		}
		for _, i := range c.Items {
			if i.At == at {
				lines = append(lines, a.cardItem(i)...)
			}
		}
		if len(lines) > 0 {
			fmt.Fprintf(a.out, "\n%s\n  %s\n", a.paint(bold, strings.ToUpper(words.Stages.In(at))), strings.Join(lines, "\n  "))
		}
	}
}

func (a *app) cardItem(i model.Item) []string {
	says, mark := i.Says.In("en"), "□ "
	if i.ByTool() || i.Do == model.Apply {
		mark = "○ "
	}
	if i.Do == model.Measure {
		says = told("%s (from %g to %g %s)", says, i.Least, i.Most, i.Unit)
	}
	lines := []string{mark + wrap(says, 4)}
	if w := i.Why.In("en"); w != "" {
		lines = append(lines, a.paint(faint, "  "+wrap(w, 4)))
	}
	for _, s := range i.Signs {
		word := a.paint(teal, "✓ ")
		if s.Not {
			word = a.paint(brick, "✗ ")
		}
		lines = append(lines, "  "+word+wrap(s.Says.In("en"), 6))
	}
	return lines
}

// took says what the team's runs took.
func took(t *client.Took) string {
	switch {
	case t == nil:
		return ""
	case t.Runs == 1:
		return told("the one run so far took %s", time.Duration(t.Seconds)*time.Second)
	}
	return told("%d runs took %s at the middle", t.Runs, time.Duration(t.Seconds)*time.Second)
}

func supplyWords(s *model.Supply) string {
	w := words.Supplies.In(s.From)
	if s.Volts > 0 {
		w = words.Listed(w, fmt.Sprintf("%g V", s.Volts))
	}
	return strings.TrimSpace(w + ". " + s.Says.In("en"))
}

func (a *app) fate(f string) string {
	if f == "lost" {
		return a.paint(brick, words.Fates.In(f))
	}
	return words.Fates.In(f)
}

// wiring is the table of wires, pin by pin.
func (a *app) wiring(w *model.Wiring) {
	at := ""
	if w.Selector != "" {
		at = told("switch at %s", w.Selector)
	}
	fmt.Fprintf(a.out, "\n%s\n", words.Listed(told("%s with %s", a.paint(bold, "WIRING"), w.Adapter), at))
	tell(a.out, "  %s: pin 1 at %s. %s: pin 1 at %s.\n", w.Tool.Name, w.Tool.Edge.In("en"), w.Unit.Name, w.Unit.Edge.In("en"))
	var rows [][]string
	used := map[int]bool{}
	for _, x := range w.Wires {
		t, u := w.Tool.Pins[x.Tool-1], w.Unit.Pins[x.Unit-1]
		used[x.Unit] = true
		rows = append(rows, []string{fmt.Sprintf("  %d %s", x.Tool, t.Name), t.Job + " → " + u.Job, fmt.Sprintf("%d %s", x.Unit, u.Name), x.Colour})
	}
	for n, p := range w.Unit.Pins {
		if !used[n+1] {
			rows = append(rows, []string{"", "leave empty", fmt.Sprintf("%d %s", n+1, p.Name), p.Says.In("en")})
		}
	}
	a.table([]string{"  tool's pin", "", "unit's pin", "colour"}, rows)
}

// writeFile writes a file that a person has named.
func writeFile(name string, data []byte) error {
	err := os.WriteFile(name, data, 0o644)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return core.Fail(core.NotFound, "there is no folder %s to write %s into", filepath.Dir(name), filepath.Base(name)).Do("Make the folder, or name another.")
	case errors.Is(err, fs.ErrPermission):
		return core.Fail(core.NotAllowed, "%s may not be written: %w", name, err).Do("Name another folder.")
	case err != nil:
		return core.Fail(core.NoSpace, "%s cannot be written: %w", name, err)
	}
	return nil
}

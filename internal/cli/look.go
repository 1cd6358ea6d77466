package cli

import (
	"cmp"
	"context"
	"fmt"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) linksVerb() *cobra.Command {
	watch, bench := false, ""
	v := &cobra.Command{Use: "links", Short: "What is plugged in, on which bench, free or in use", Args: cobra.NoArgs,
		Example: "  ferry links\n  ferry links --bench van              (its ports, and the vehicles on its networks)\n  ferry links --watch --bench van      (pull an adapter out and put it in again)\n  ferry links --output json",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			if watch || bench != "" {
				if bench == "" {
					all, err := c.Benches(ctx)
					if err != nil {
						return err
					}
					for _, b := range all.Benches {
						if b.Online {
							bench = b.Name
						}
					}
				}
				if watch {
					return a.watchPorts(ctx, c, bench)
				}
				p, err := c.PortsAndVehicles(ctx, bench)
				if err != nil {
					return err
				}
				return a.show(p, func() {
					a.ports(p.Ports)
					a.vehicles(p)
				})
			}
			l, err := c.Links(ctx)
			if err != nil {
				return err
			}
			return a.show(l, func() {
				var rows [][]string
				var missing []string
				for _, x := range l.Links {
					if x.Absent != "" {
						missing = append(missing, x.Link+": "+x.Absent)
					}
					on := x.Serial
					if on == "" {
						on = "not identified"
					}
					if x.Modules > 0 {
						on += ", " + toldOf(x.Modules, "+%s module", "+%s modules")
					}
					proof := "never"
					if x.Checked != nil {
						proof = x.Class + ", " + ago(x.Checked)
					}
					rows = append(rows, []string{a.paint(bold, x.Link), a.linkState(x), x.Model, on, x.Site, identified(x), proof})
				}
				a.table([]string{"link", "state", "model", "unit", "site", "identified", "checked"}, rows)
				for _, m := range missing {
					fmt.Fprintf(a.out, "%s %s\n", a.paint(brick, "!"), m)
				}
			})
		})}
	v.Flags().BoolVarP(&watch, "watch", "w", false, "show which serial ports come and go")
	v.Flags().StringVar(&bench, "bench", "", "list the serial ports of a bench, and the vehicles on its networks")
	return v
}

func (a *app) linkState(l client.Link) string {
	switch {
	case l.State == "free" && l.Asked != "":
		return a.paint(blue, "● "+words.Questions.In(l.Asked))
	case l.State == "free":
		return a.paint(teal, "○ free")
	case l.State == "busy":
		return a.paint(blue, "● busy")
	case l.State == "absent":
		return a.paint(brick, "✗ absent")
	}
	return a.paint(brick, "✗ offline")
}

func (a *app) identifyVerb() *cobra.Command {
	n := client.NewIdentify{}
	v := &cobra.Command{Use: "identify LINK|UNIT", Short: "Ask the unit on a link who it is", Args: cobra.ExactArgs(1),
		Example:           "  ferry identify van/quay-1\n  ferry identify Q80-4417-206      (where it was last read)\n  ferry identify van/pier-1 --model dunlin --power   (switch it on while the tool calls)",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if n.Await {
				tell(a.err, "The tool calls now. Take the unit's power off, and apply it again.\n")
			}
			id, err := asking(ctx, a, c, args[0], func(ctx context.Context) (client.Identity, error) {
				n.At = args[0]
				return c.IdentifyAs(ctx, n)
			})
			if err != nil {
				return err
			}
			return a.show(id, func() { a.identity(id) })
		})}
	v.Flags().StringVar(&n.Label, "label", "", "the serial on the label, where the unit does not tell it")
	v.Flags().StringVar(&n.Model, "model", "", "the model whose loader is called first; one told only by eye must be named")
	v.Flags().BoolVar(&n.Await, "power", false, "the unit opens its loader only when it is switched on: a person does that while the tool calls")
	v.Flags().BoolVar(&n.Slower, "slower", false, "its loader stays at the speed at which it is called")
	return v
}

// factOrder is how people ask for facts; others follow by name.
var factOrder = []string{core.FactModel, core.FactRevision, core.FactSerial, core.FactRegion, core.FactRunning, core.FactChip, core.FactMemory, core.FactLoader}

func (a *app) identity(id client.Identity) {
	fmt.Fprintf(a.out, "%s  %s  %s\n", a.paint(bold, id.ModelName), id.Serial, a.paint(faint, id.Site))
	names := append([]string(nil), factOrder...)
	var rest []string
	for name := range id.Facts {
		if !has(names, name) {
			rest = append(rest, name)
		}
	}
	sort.Strings(rest)
	var rows [][]string
	for _, name := range id.Missing {
		if !has(names, name) && !has(rest, name) {
			rest = append(rest, name)
		}
	}
	for _, name := range append(names, rest...) {
		f, ok := id.Facts[name]
		if !ok {
			if has(id.Missing, name) || name == core.FactSerial {
				rows = append(rows, []string{name, a.paint(brick, "not known"), "", ""})
			}
			continue
		}
		value := f.Value
		if has(id.Disagree, name) {
			value = a.paint(brick, told("%s ≠ label", value))
		}
		by := f.Source
		if f.By != "" {
			by += ", " + f.By
		}
		if !has(factOrder, name) {
			name = cmp.Or(f.Called, name)
		}
		rows = append(rows, []string{name, value, by, when(f.At)})
	}
	a.table([]string{"fact", "value", "source", "at"}, rows)
	tell(a.out, "%s on %s\n", id.Strength, id.Link)
	if id.Stays != nil {
		fmt.Fprintln(a.out, id.Stays.Text)
	}
}

func has(all []string, s string) bool {
	for _, x := range all {
		if x == s {
			return true
		}
	}
	return false
}

func (a *app) historyVerb() *cobra.Command {
	before := uint64(0)
	v := &cobra.Command{Use: "history UNIT", Short: "What was done to a unit, checked entry by entry", Args: cobra.ExactArgs(1),
		Example:           "  ferry history Q80-4417-206\n  ferry history Q80-4417-206 --output json",
		ValidArgsFunction: a.complete(serials),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			h, err := c.HistoryBefore(ctx, args[0], before)
			if err != nil {
				return err
			}
			if h.Chain != "intact" {
				a.exit = ExitCode(core.VerifyDiffers)
			}
			return a.show(h, func() { a.history(h) })
		})}
	v.Flags().Uint64Var(&before, "before", 0, "entries older than this one, by its number")
	return v
}

func (a *app) history(h client.History) {
	state := a.paint(teal, "checked: as it was entered")
	if h.Chain != "intact" {
		state = a.paint(brick+bold, "CHANGED SINCE IT WAS ENTERED: do not trust it")
	}
	fmt.Fprintf(a.out, "%s  %s  %s, %s\n", a.paint(bold, h.Unit), h.Model, toldOf(int(h.Total), "%s entry", "%s entries"), state)
	for _, f := range h.Findings {
		fmt.Fprintf(a.out, "  %s %s\n", a.paint(brick, "✗"), f.Text)
	}
	if h.Tree != nil && h.Chain == "intact" {
		tell(a.out, "  proven in the tree of all %d entries, checkpoint of %s\n", h.Tree.Size, when(h.Tree.At))
	}
	var rows [][]string
	for _, e := range h.Entries {
		change := ""
		if e.From != "" || e.To != "" {
			change = e.From
			if e.To != e.From {
				change = dash(e.From) + " → " + dash(e.To)
			}
		}
		note := sentence(e.Reason)
		if e.Halves > 1 {
			note = strings.TrimSpace("(" + again(e.Halves) + ")" + " " + note)
		}
		if e.Overlap {
			note = strings.TrimSpace(strings.Join([]string{note, "Overlaps another run."}, " "))
		}
		if e.Why != "" {
			note = strings.TrimSpace(told("Job %d: %s %s", e.Job, sentence(e.Why), note))
		}
		if e.Asked != "" {
			note = strings.TrimSpace(told("%s Asked by %s.", note, e.Asked))
		}
		for _, t := range e.Tells {
			note = strings.TrimSpace(note + " " + t.Text)
		}
		rows = append(rows, []string{fmt.Sprint(e.N), when(e.At), e.Title.Text, a.outcome(e.Outcome), change, e.By, wrap(note, 0)})
	}
	a.table([]string{"n", "at", "what", "outcome", "version", "by", "note"}, rows)
	if h.Before > 0 {
		tell(a.out, "Older ones: the same with --before %d\n", h.Before)
	}
}

// sentence ends what somebody has typed, or an outcome's reason, as a sentence.
func sentence(s string) string {
	s = strings.TrimSpace(s)
	if s == "" {
		return ""
	}
	first, size := utf8.DecodeRuneInString(s)
	s = string(unicode.ToUpper(first)) + s[size:]
	if strings.HasSuffix(s, ".") || strings.HasSuffix(s, "!") || strings.HasSuffix(s, "?") {
		return s
	}
	return s + "."
}

// identified is the age of a link's identity. It dies when the link changes.
func identified(l client.Link) string {
	if l.Unit != "" && l.Identified == nil {
		return "changed since"
	}
	return ago(l.Identified)
}

func dash(s string) string {
	if s == "" {
		return "?"
	}
	return s
}

func (a *app) outcome(s string) string {
	word := words.Outcomes.In(s)
	switch s {
	case "done":
		return a.paint(teal, "✓ "+word)
	case "nothing-to-do":
		return "– " + word
	case "":
		return ""
	}
	return a.paint(brick, "✗ "+word)
}

func (a *app) unitsVerb() *cobra.Command {
	words, state, of, after := "", "", "", ""
	v := &cobra.Command{Use: "units", Short: "Units in the register", Args: cobra.NoArgs,
		Example: "  ferry units\n  ferry units --find gannet\n  ferry units --state behind --model quill-80",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			u, err := c.UnitsIn(ctx, state, of, words, after, 25)
			if err != nil {
				return err
			}
			return a.show(u, func() {
				var rows [][]string
				for _, x := range u.Units {
					rows = append(rows, []string{a.paint(bold, x.Serial), x.ModelName, dash(x.Revision), runs(x), a.unitState(x), x.Site, ago(x.Seen)})
				}
				a.table([]string{"unit", "model", "rev", "runs", "state", "site", "seen"}, rows)
				a.extentOf(len(u.Units), u.Paged, after, "%s unit", "%s units", "more than %s units")
				if u.Judging {
					fmt.Fprintln(a.out, judging)
				}
			})
		})}
	v.Flags().StringVar(&words, "find", "", "words: of site, customer or note, the serial or its end, the model, the version")
	v.Flags().StringVar(&of, "model", "", "of this model alone")
	v.RegisterFlagCompletionFunc("model", a.complete(modelNames))
	v.Flags().StringVar(&state, "state", "", "known, done, half-done, not-proven, do-not-use, set-apart, public-default (a setting with a value that everybody knows), open, behind (another release should be in it), withdrawn (it runs one that was taken back) or no-backup")
	afterFlag(v, &after)
	return v
}

// judging is said where lists of those that are behind are not of the newest.
const judging = "Something has changed since, and units are still being judged by it: ask again in a moment."

// afterFlag asks for a page behind another one.
func afterFlag(v *cobra.Command, after *string) {
	v.Flags().StringVar(after, "after", "", "what the page before has ended with")
}

// extent is how many there are, as far as they were counted.
func extent(n int, more bool, one, many, over string) string {
	if more {
		return told(over, grouped(uint64(n)))
	}
	return toldOf(n, one, many)
}

// extentOf says how much of a list that is read by key is shown, and how to go on.
func (a *app) extentOf(shown int, p client.Paged, after, one, many, over string) {
	all := extent(p.Total, p.More, one, many, over)
	if after == "" && p.Next == "" {
		fmt.Fprintln(a.out, all)
		return
	}
	if shown == 0 && p.Next != "" {
		tell(a.out, "None among those that were looked through.\n")
	} else {
		tell(a.out, "%d here, of %s.\n", shown, all)
	}
	if p.Next != "" {
		tell(a.out, "The next ones: the same with --after %s\n", p.Next)
	}
}

func (a *app) unitState(u client.Unit) string {
	switch {
	case u.Run != "" && u.State == "half-done":
		return a.paint(brick, "◐ partly written, run open")
	case u.Run != "":
		return a.paint(blue, "● run open")
	case u.State == "half-done":
		return a.paint(brick, "◐ "+words.Standings.In(u.State))
	case u.State == "not-proven":
		return a.paint(brick, "○ "+words.Standings.In(u.State))
	case u.State == "done":
		return a.paint(teal, "✓ "+words.Standings.In(u.State))
	}
	return words.Standings.In(u.State)
}

func (a *app) backupsVerb() *cobra.Command {
	name := ""
	v := &cobra.Command{Use: "backups UNIT", Short: "A unit's backups; gives one a name", Args: cobra.ExactArgs(1),
		Example:           "  ferry backups Q80-4417-206\n  ferry backups Q80-4417-206 --name \"7d419be0=as the customer had it\"",
		ValidArgsFunction: a.complete(serials),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if name != "" {
				which, says, ok := strings.Cut(name, "=")
				if !ok {
					return core.Fail(core.NotUnderstood, "a backup is named BACKUP=NAME, not %q", name)
				}
				if err := c.NameBackup(ctx, args[0], which, says); err != nil {
					return err
				}
			}
			b, err := c.Backups(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(b, func() {
				var rows [][]string
				for _, x := range b.Backups {
					how, ran := told("full, %s", strings.ReplaceAll(x.How, "-", " ")), dash(x.Running)
					if x.Ruin {
						how, ran = "no way back: what an interrupted write had left", "–"
					}
					rows = append(rows, []string{a.paint(bold, x.Digest.String()[:8]), when(x.Taken), kib(x.Bytes), how, ran, x.Name, x.ID})
				}
				for _, x := range b.References {
					rows = append(rows, []string{"–", when(x.At), "–", "by reference: the catalogue's image", x.Version, "", x.Run})
				}
				a.table([]string{"digest", "taken", "size", "verified by", "ran", "name", "id"}, rows)
			})
		})}
	v.Flags().StringVar(&name, "name", "", "BACKUP=NAME: what people call it")
	return v
}

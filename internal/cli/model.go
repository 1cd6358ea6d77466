package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/procedure"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
)

func (a *app) modelVerb() *cobra.Command {
	v := &cobra.Command{Use: "model", Short: "Models: their sheets, revisions and what fits them"}
	words, after := "", ""
	list := &cobra.Command{Use: "list", Short: "Models", Args: cobra.NoArgs, Example: "  ferry model list\n  ferry model list --find printer",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			m, err := c.Models(ctx, words, after)
			if err != nil {
				return err
			}
			return a.show(m, func() {
				var rows [][]string
				for _, x := range m.Models {
					rows = append(rows, []string{a.paint(bold, x.Model), x.Name, x.Kind, kib(x.Bytes), fmt.Sprint(x.Releases), dash(x.Newest), fmt.Sprint(x.Units)})
				}
				a.table([]string{"model", "name", "kind", "memory", "releases", "newest", "units"}, rows)
				a.extentOf(len(rows), m.Paged, after, "%s model", "%s models", "more than %s models")
			})
		})}
	list.Flags().StringVar(&words, "find", "", "words in name or title")
	afterFlag(list, &after)
	show := &cobra.Command{Use: "show MODEL", Short: "A model: memory, flaws, targets, and what fits which revision", Args: cobra.ExactArgs(1), Example: "  ferry model show quill-80", ValidArgsFunction: a.complete(modelNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			m, err := c.ModelPage(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(m, func() { a.showModel(m) })
		})}
	remove := false
	secret := &cobra.Command{Use: "secret MODEL NAME", Short: "Enter a secret that a model's units ask for, unseen (lead)", Args: cobra.ExactArgs(2), Example: "  ferry model secret fulmar boot-key\n  ferry model secret fulmar boot-key --remove", ValidArgsFunction: a.complete(modelNames),
		Long: "The value is typed on the terminal, or is the first line of the input where that is none. The service keeps it\nsealed, gives it to the bench of an open run alone, and never shows it again. `ferry model show` says who entered it.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n := client.NewModelSecret{Name: args[1]}
			if !remove {
				var err error
				if n.Value, err = a.typed(told("The secret %s of %s: ", args[1], args[0])); err != nil {
					return err
				}
				if n.Value == "" {
					return core.Fail(core.NotUnderstood, "nothing was typed").Do("Type the secret, or say --remove.")
				}
			}
			if err := c.PutModelSecret(ctx, args[0], n); err != nil {
				return err
			}
			return a.show(client.ModelSecret{Name: n.Name}, func() {
				if remove {
					tell(a.out, "%s %s of %s is removed.\n", a.paint(teal, "✓"), n.Name, args[0])
					return
				}
				tell(a.out, "%s %s of %s is kept. A bench gets it for an open run, and for nothing else.\n", a.paint(teal, "✓"), n.Name, args[0])
			})
		})}
	secret.Flags().BoolVar(&remove, "remove", false, "remove it")
	version, reason := "", ""
	target := &cobra.Command{Use: "target MODEL REVISION [VERSION]", Short: "Choose the release that the team uses for a revision (lead)", Args: cobra.RangeArgs(2, 3),
		Example: "  ferry model target quill-80 D 4.2.1 --reason \"proven at Gannet Quay\"\n  ferry model target quill-80 D --reason \"open again\"", ValidArgsFunction: a.complete(modelNames),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) == 3 {
				version = args[2]
			}
			t, err := c.PutTarget(ctx, client.NewTarget{Model: args[0], Revision: args[1], Version: version, Reason: reason})
			if err != nil {
				return err
			}
			return a.show(t, func() {
				if t.Version == "" {
					tell(a.out, "%s %s %s: the choice is open again.\n", a.paint(teal, "✓"), t.Model, t.Revision)
					return
				}
				tell(a.out, "%s %s %s: our choice is %s.\n", a.paint(teal, "✓"), t.Model, t.Revision, t.Version)
			})
		})}
	target.Flags().StringVar(&reason, "reason", "", "why")
	target.MarkFlagRequired("reason")
	add := &cobra.Command{Use: "add SHEET", Short: "Put a model sheet in force (lead)", Args: cobra.ExactArgs(1), Example: "  ferry model add quill-80.yaml",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			raw, err := os.ReadFile(args[0])
			if err != nil {
				return core.Fail(core.NotFound, "%w", err)
			}
			m, err := c.PutModel(ctx, raw)
			if err != nil {
				return err
			}
			return a.show(m, func() {
				if m.Waits {
					tell(a.out, "%s the sheet of %s waits for a second lead, who puts in the same file.\n", a.paint(amber, "!"), m.Model)
				} else {
					tell(a.out, "%s %s is in force.\n", a.paint(teal, "✓"), m.Model)
				}
				a.contradictions(m.Contradictions)
				for _, x := range m.Alike {
					a.pair("beware", a.paint(brick, wrap(x.Text, 13)))
				}
			})
		})}
	check := &cobra.Command{Use: "check SHEET", Short: "Check a model sheet, without a service", Args: cobra.ExactArgs(1), Example: "  ferry model check quill-80.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			raw, err := os.ReadFile(args[0])
			if err != nil {
				return core.Fail(core.NotFound, "%w", err)
			}
			s, err := registry.Sheet(raw)
			if err != nil {
				return err
			}
			disagree := []core.Said{}
			for _, x := range procedure.Contradictions(s) {
				disagree = append(disagree, x.Whole())
			}
			size, bytes := toldOf(len(s.Main().Memory.Regions), "%s region", "%s regions"), s.Main().Memory.Bytes()
			if len(s.Sections) > 1 {
				size, bytes = toldOf(len(s.Sections), "%s part", "%s parts"), 0
				for i := range s.Sections {
					bytes += s.Sections[i].Memory.Bytes()
				}
			}
			return a.show(map[string]any{"model": s.Model, "sheet": s.Digest, "contradictions": disagree}, func() {
				fmt.Fprintf(a.out, "%s %s: %s, %s; %s, %s, %s, %s\n", a.paint(teal, "✓"), s.Model, size, kib(bytes),
					toldOf(len(s.Facts), "%s fact", "%s facts"), toldOf(len(s.Tells), "%s conclusion", "%s conclusions"), toldOf(len(s.Flaws), "%s flaw", "%s flaws"), toldOf(len(s.Procedures), "%s procedure", "%s procedures"))
				a.contradictions(disagree)
			})
		}}
	targets := &cobra.Command{Use: "targets", Short: "Which release the team uses for which model and revision", Args: cobra.NoArgs, Example: "  ferry model targets",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			t, err := c.Targets(ctx)
			if err != nil {
				return err
			}
			return a.show(t, func() {
				var rows [][]string
				for _, x := range t.Targets {
					why := x.Reason
					if x.Withdrawn != "" {
						why = told("%s; choose another", a.paint(brick, told("withdrawn: %s", x.Withdrawn)))
					}
					rows = append(rows, []string{x.Model, x.Revision, a.paint(bold, x.Version), x.By, when(x.At), column(why, 50)})
				}
				a.table([]string{"model", "revision", "release", "by", "since", "why"}, rows)
			})
		})}
	v.AddCommand(list, show, add, check, a.modelTry(), a.modelCodes(), secret, target, targets)
	return v
}

// contradictions are what a lead must settle before such a unit is serviced.
func (a *app) contradictions(all []core.Said) {
	for _, x := range all {
		a.pair("disagree", a.paint(brick, wrap(x.Text, 13)))
	}
	if len(all) > 0 {
		a.pair("next", a.paint(bold, "Settle it in the sheet; until then a run of such a unit is refused."))
	}
}

// secretSays is how a secret stands.
func secretSays(s client.ModelSecret) string {
	switch {
	case s.By == "":
		return "its units ask for it, and nobody has entered it"
	case !s.Asked:
		return told("entered by %s, %s; the sheet asks for it no longer", s.By, when(*s.At))
	case s.Uses == 0:
		return told("entered by %s, %s; never given to a bench", s.By, when(*s.At))
	}
	return told("entered by %s, %s; given to a bench %d×, last %s", s.By, when(*s.At), s.Uses, when(*s.Last))
}

func modelNames(ctx context.Context, c *client.Client) (all []string) {
	m, err := c.Models(ctx, "", "")
	if err != nil {
		return nil
	}
	for _, x := range m.Models {
		all = append(all, x.Model+"\t"+x.Name)
	}
	return all
}

func (a *app) showModel(m client.ModelPage) {
	fmt.Fprintf(a.out, "%s  %s, %s; %s\n", a.paint(bold, m.Name), m.Kind, kib(m.Bytes), toldOf(m.Units, "%s unit", "%s units"))
	for _, x := range m.TakenOut {
		fmt.Fprintf(a.out, "  %s\n", a.paint(faint, told("%s was taken out again by %s, %s: %s", x.Version, x.By, when(x.At), x.Reason)))
	}
	for _, s := range m.Sisters {
		fmt.Fprintf(a.out, "  %s\n", wrap(s.Text, 2))
	}
	fmt.Fprintln(a.out)
	a.matrix(m.Matrix)
	for _, f := range m.Flaws {
		fmt.Fprintf(a.out, "%s %s\n", a.paint(brick, "!"), wrap(f, 2))
	}
	if m.Proven == nil {
		fmt.Fprintf(a.out, "  %s %s\n", a.paint(brick, m.Proof.Text), a.paint(faint, "ferry model try SHEET LINK"))
	} else {
		fmt.Fprintf(a.out, "  %s\n", a.paint(faint, m.Proof.Text+" "+when(m.Proven.At)))
	}
	for _, s := range m.Secrets {
		tell(a.out, "  secret %s: %s\n", a.paint(bold, s.Name), secretSays(s))
	}
	if len(m.Sections) > 1 {
		var parts [][]string
		for i, s := range m.Sections {
			holds, at := kib(s.Bytes), "the unit's own link"
			if s.Files > 0 {
				holds = told("up to %d files, %s", s.Files, holds)
			}
			if s.Link != "" {
				at = told("a link of its own, %s", s.Link)
			}
			parts = append(parts, []string{fmt.Sprintf("  %d", i+1), s.Title, s.Name, s.Loader, holds, at})
		}
		fmt.Fprintln(a.out)
		a.table([]string{"  ", "part", "section", "loader", "holds", "at"}, parts)
	}
	if len(m.Holds) > 0 {
		var slots [][]string
		for _, s := range m.Holds {
			note := ""
			if s.Empty {
				note = "may be empty"
			}
			slots = append(slots, []string{"  " + s.Title, s.Slot, strings.Join(s.Models, ", "), note})
		}
		fmt.Fprintln(a.out)
		a.table([]string{"  place for a unit", "slot", "of model", ""}, slots)
	}
	var rows [][]string
	for _, r := range m.Regions {
		note := ""
		if r.ReadOnly {
			note = "never written"
		}
		if r.Own {
			note = strings.TrimSpace(told("%s the unit's own", note))
		}
		rows = append(rows, []string{"  " + r.Name, r.Use, fmt.Sprintf("0x%X", r.Address), fmt.Sprintf("0x%X", r.Address+r.Length-1), kib(r.Length), fmt.Sprintf("%d B", r.Sector), note})
	}
	fmt.Fprintln(a.out)
	a.table([]string{"  region", "use", "from", "to", "size", "sector", ""}, rows)
}

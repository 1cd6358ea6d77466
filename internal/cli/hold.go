package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/procedure"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) holdVerb() *cobra.Command {
	v := &cobra.Command{Use: "hold", Short: "Keep a unit, or a model with a revision, at a release"}
	v.AddCommand(a.holdPut(), a.holdEnd(), a.holdList())
	return v
}

func (a *app) holdPut() *cobra.Command {
	var n client.NewHold
	v := &cobra.Command{Use: "put [UNIT] VERSION", Short: "Hold it there (lead)", Args: cobra.RangeArgs(1, 2),
		Example: "  ferry hold put DN-20417 2.1.0 --reason \"the handset does not understand 2.2\" --until 2027-03-31\n  ferry hold put 4.2.1 --model quill-80 --revision D --reason \"4.3 smears\"",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Version = args[len(args)-1]
			if len(args) == 2 {
				n.Unit = args[0]
			}
			if n.Unit == "" && n.Model == "" {
				return core.Fail(core.NotUnderstood, "nobody has said what is to be held").Do("Name a unit, or --model and --revision.")
			}
			h, err := c.PutHold(ctx, n)
			if err != nil {
				return err
			}
			return a.show(h, func() {
				tell(a.out, "%s %s stays at %s: %s\n", a.paint(teal, "✓"), heldThing(h), h.Version, h.Reason)
			})
		})}
	v.Flags().StringVar(&n.Model, "model", "", "instead of a unit: a model")
	v.Flags().StringVar(&n.Revision, "revision", "", "with --model: its revision")
	v.Flags().StringVar(&n.Reason, "reason", "", "why; whoever works on it reads this")
	v.Flags().StringVar(&n.Until, "until", "", "the last day, as 2027-01-31; without it until somebody ends it")
	v.MarkFlagRequired("reason")
	return v
}

func heldThing(h client.Hold) string {
	return cmp.Or(h.Serial, strings.TrimSpace(h.Model+" "+h.Revision))
}

func (a *app) holdEnd() *cobra.Command {
	var n client.HoldEnd
	v := &cobra.Command{Use: "end [UNIT]", Short: "End a hold (lead)", Args: cobra.MaximumNArgs(1), Example: "  ferry hold end DN-20417 --reason \"it has the new handset\"\n  ferry hold end --model quill-80 --revision D",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) == 1 {
				n.Unit = args[0]
			}
			if n.Unit == "" && n.Model == "" {
				return core.Fail(core.NotUnderstood, "nobody has said whose hold ends").Do("Name a unit, or --model and --revision.")
			}
			if err := c.EndHold(ctx, n); err != nil {
				return err
			}
			return a.show(n, func() { tell(a.out, "%s held no longer.\n", a.paint(teal, "✓")) })
		})}
	v.Flags().StringVar(&n.Model, "model", "", "instead of a unit: a model")
	v.Flags().StringVar(&n.Revision, "revision", "", "with --model: its revision")
	v.Flags().StringVar(&n.Reason, "reason", "", "why; it stands in the history")
	return v
}

func (a *app) holdList() *cobra.Command {
	model := ""
	v := &cobra.Command{Use: "list", Short: "What is held where, and why", Args: cobra.NoArgs, Example: "  ferry hold list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			h, err := c.Holds(ctx, model)
			if err != nil {
				return err
			}
			return a.show(h, func() {
				var rows [][]string
				for _, x := range h.Holds {
					rows = append(rows, []string{a.paint(bold, heldThing(x)), x.Version, cmp.Or(x.Until, "–"), x.By, wrap(x.Reason, 0)})
				}
				a.table([]string{"what", "stays at", "until", "by", "why"}, rows)
			})
		})}
	v.Flags().StringVar(&model, "model", "", "of one model")
	return v
}

func (a *app) consentVerb() *cobra.Command {
	var n client.NewConsent
	v := &cobra.Command{Use: "consent UNIT WHAT", Short: "A lead's consent to a step back, a candidate, or writing over an unknown program", Args: cobra.ExactArgs(2),
		Example:   "  ferry consent DN-20417 step-back --reason \"2.2 does not pair with the old handset\" --until 2026-12-31",
		ValidArgs: []string{"step-back", "candidate", "unknown-program"},
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.For = args[1]
			if _, known := words.Permits[n.For]; !known {
				return core.Fail(core.NotUnderstood, "consent is given for step-back, candidate or unknown-program, not %q", n.For)
			}
			x, err := c.Consent(ctx, args[0], n)
			if err != nil {
				return err
			}
			return a.show(x, func() {
				tell(a.out, "%s %s may have a %s until %s, by %s: %s\n", a.paint(teal, "✓"), args[0], words.Permits.In(x.For), when(x.Until), x.By, x.Reason)
			})
		})}
	v.Flags().StringVar(&n.Reason, "reason", "", "why this unit")
	v.Flags().StringVar(&n.Until, "until", "", "the last day; a week without it")
	v.MarkFlagRequired("reason")
	return v
}

// testAnswers are what a person types for the answers to a finishing test.
var testAnswers = map[string]string{"passed": procedure.Yes, "failed": procedure.No, "elsewhere": procedure.Elsewhere}

func (a *app) testVerb() *cobra.Command {
	var n client.TestAnswer
	v := &cobra.Command{Use: "test UNIT [passed|failed|elsewhere]", Short: "Finishing tests that a unit has still to pass; answers one", Args: cobra.RangeArgs(1, 2),
		Long:              "Without an answer it lists them. elsewhere: it is not possible here; --whose answers it until --due.",
		Example:           "  ferry test Q80-4417-206\n  ferry test Q80-4417-206 passed\n  ferry test Q80-4417-206 failed --note \"the ticket is blank\"\n  ferry test Q80-4417-206 elsewhere --whose \"Edda Rooke\" --due 2027-01-31",
		ValidArgsFunction: a.complete(serials),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) == 1 {
				u, err := c.Unit(ctx, args[0])
				if err != nil {
					return err
				}
				return a.show(map[string]any{"tests": u.Tests}, func() { a.tests(u) })
			}
			value, known := testAnswers[args[1]]
			if !known {
				return core.Fail(core.NotUnderstood, "a test is passed, failed or elsewhere, not %q", args[1])
			}
			n.Value = value
			u, err := c.AnswerTest(ctx, args[0], n)
			if err != nil {
				return err
			}
			return a.show(u, func() { a.tests(u) })
		})}
	v.Flags().StringVar(&n.Item, "item", "", "which test, where there are several")
	v.Flags().StringVar(&n.Note, "note", "", "what was seen")
	v.Flags().StringVar(&n.Whose, "whose", "", "with elsewhere: who answers it")
	v.Flags().StringVar(&n.Due, "due", "", "with elsewhere: until which day, as 2027-01-31")
	return v
}

func (a *app) tests(u client.UnitPage) {
	fmt.Fprintf(a.out, "%s  %s, %s\n", a.paint(bold, u.Serial), u.ModelName, a.unitState(u.Unit))
	if len(u.Tests) == 0 {
		tell(a.out, "No test is open.\n")
		return
	}
	var rows [][]string
	for _, t := range u.Tests {
		rows = append(rows, []string{"  " + t.Item, wrap(testWords(t), 0), t.Reason})
	}
	a.table([]string{"  item", "test", "note"}, rows)
}

// typedAnswer reads a line that a person typed at an item: a value, and a note behind
// no, excused and elsewhere.
func typedAnswer(item, line string) client.NewAnswer {
	n := client.NewAnswer{Item: item, Value: line}
	word, rest, _ := strings.Cut(line, " ")
	switch w := strings.ToLower(word); {
	case w == procedure.Elsewhere: // elsewhere WHO by DAY [note]
		n.Value = procedure.Elsewhere
		fields := strings.Fields(rest)
		if i := slices.Index(fields, "by"); i > 0 && i+1 < len(fields) {
			n.Whose, n.Due, n.Note = strings.Join(fields[:i], " "), fields[i+1], strings.Join(fields[i+2:], " ")
		} else {
			n.Whose = rest
		}
	case w == procedure.No || w == "n" || w == procedure.Excused:
		n.Value, n.Note = w, rest
		if w == "n" {
			n.Value = procedure.No
		}
	case w == procedure.Back && rest == "":
		n.Value = procedure.Back
	}
	return n
}

package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

func (a *app) answerVerb() *cobra.Command {
	n := client.NewAnswer{}
	photo, wires := "", []string{}
	v := &cobra.Command{Use: "answer RUN [VALUE]", Short: "Answer the item that a run waits for", Args: cobra.RangeArgs(1, 2),
		Example:           "  ferry run answer 0193f2a0-… yes\n  ferry run answer 0193f2a0-… 3.31\n  ferry run answer 0193f2a0-… --photo board.jpg\n  ferry run answer 0193f2a0-… no --note \"the red light blinks\"",
		ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Run(ctx, args[0])
			if err != nil {
				return err
			}
			h := r.Progress.View.Hands
			if h == nil {
				return core.Fail(core.NotFound, "run %s does not wait for anybody", args[0]).Go(words.RunShow(args[0]).To("Look how it stands"))
			}
			if len(args) == 1 && photo == "" && len(wires) == 0 {
				return core.Fail(core.NotUnderstood, "there is no answer: a value, a picture or the colours of wires is wanted").Do("Give a value, --photo FILE, or --wire PIN=COLOUR.")
			}
			typed := typedAnswer(h.Item, append(args, procedure.Yes)[1])
			if i := r.Progress.View.Item; i != nil && i.Setting != "" { // yes and no are values there
				if typed, err = a.typedAt(ctx, c, h.Item, i, append(args, procedure.Yes)[1]); err != nil {
					return err
				}
			}
			n.Item, n.Value = typed.Item, typed.Value
			n.Note, n.Whose, n.Due = cmp.Or(n.Note, typed.Note), cmp.Or(n.Whose, typed.Whose), cmp.Or(n.Due, typed.Due)
			if n.Wires, err = wiresOf(wires); err != nil {
				return err
			}
			if photo != "" {
				if n.Photo, err = a.putPhoto(ctx, c, photo); err != nil {
					return err
				}
			}
			if r, err = c.Answer(ctx, args[0], n); err != nil {
				return err
			}
			return a.show(r, func() { fmt.Fprintln(a.out, told("Taken. Look on: ferry run show %s --follow", r.ID)) })
		})}
	v.Flags().StringVar(&n.Note, "note", "", "what was seen, or why it stays undone")
	v.Flags().StringSliceVar(&wires, "wire", nil, "at the second look: a wire's colour by the unit's pin, PIN=COLOUR")
	v.Flags().StringVar(&n.Whose, "whose", "", "of a test that is not possible here (elsewhere): who answers it")
	v.Flags().StringVar(&n.Due, "due", "", "and until which day, as 2027-01-31")
	v.Flags().StringVar(&photo, "photo", "", "file of a picture")
	return v
}

func (a *app) putPhoto(ctx context.Context, c *client.Client, path string) (string, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return "", core.Fail(core.BadFile, "%w", err)
	}
	k, err := c.PutEvidence(ctx, http.DetectContentType(raw), raw)
	return k.Digest.String(), err
}

// answers takes what a person types while a run waits for it; a terminal only.
func (a *app) answers(ctx context.Context, c *client.Client, v *view) {
	in := bufio.NewReader(a.in)
	for ctx.Err() == nil {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		v.mu.Lock()
		h, item := v.last.View.Hands, v.last.View.Item
		v.drawn += 1 // the typed line
		v.mu.Unlock()
		line = strings.TrimSpace(line)
		if h == nil || h.Calling || line == "" {
			continue
		}
		n, err := a.typedAt(ctx, c, h.Item, item, line)
		if err == nil {
			_, err = c.Answer(ctx, v.run.ID, n)
		}
		if err != nil {
			v.note("%s", a.bright("✗ ")+wrap(core.AsError(err, core.NotUnderstood).Message, 4))
		}
	}
}

// turn is the board for a person: the action, how right looks, how to answer.
func (a *app) turn(p run.View) string {
	if p.Hands == nil {
		return ""
	}
	var b strings.Builder
	head := "  HANDS ON  your turn"
	if p.Turns > 0 && !p.Hands.Calling {
		head = told("%s, %d of %d", head, p.Turn, p.Turns)
	}
	if p.Hands.Calling {
		head = "  HANDS ON  now: the tool is calling, the unit's answer ends this"
	}
	b.WriteString("\n" + a.board(amber, head, "  "+strings.ReplaceAll(wrap(p.Hands.Says, 6), "\n    ", "\n  ")))
	if i := p.Item; i != nil {
		if w := i.Why.In("en"); w != "" {
			b.WriteString("  " + wrap(w, 4) + "\n")
		}
		for _, s := range i.Signs {
			mark := a.paint(teal, "✓ ")
			if s.Not {
				mark = a.paint(brick, "✗ ")
			}
			b.WriteString("  " + mark + wrap(s.Says.In("en"), 6) + "\n")
		}
		if !p.Hands.Calling {
			for _, line := range answerHints(i, p.Back) {
				b.WriteString("  " + a.paint(faint, wrap(line, 4)) + "\n")
			}
		}
	}
	return b.String()
}

// answerHints say how an item is answered, every way.
func answerHints(i *model.Item, back string) (all []string) {
	otherwise := "or no and what you see instead"
	switch {
	case i.At == model.AtSet && i.Setting == "":
		all = append(all, told("Type yes, %s. What becomes of each: ferry run show RUN", otherwise))
		return all
	case i.Setting != "":
		return settingHints(i, back)
	}
	switch i.Do {
	case model.Choose:
		all = append(all, "Type one of:")
		for _, c := range i.Choices {
			all = append(all, "  "+c.Value+"  "+c.Says.In("en"))
		}
		all = append(all, "Or no and what you see instead")
	case model.Measure:
		all = append(all, told("Type what the meter shows, in %s (OL if it shows an open line); %g to %g %s is right", i.Unit, i.Least, i.Most, i.Unit))
	case model.Give:
		all = append(all, "Type the name of who takes it; or no and why it is not handed over")
	case model.Photo:
		all = append(all, "Take a picture of it: type the name of its file (JPEG, PNG or WebP)")
	case model.Wires:
		all = append(all, told("Type yes, with colours by the unit's pin where they are others (yes 3=yellow); %s", otherwise))
	default:
		all = append(all, told("Type yes, %s", otherwise))
	}
	if i.Test {
		all = append(all, "Not possible here? Type: elsewhere WHO by DAY (elsewhere Edda Rooke by 2027-01-31)")
	}
	if back != "" {
		all = append(all, told("Type back to answer anew: %s", back))
	}
	return all
}

// settingHints say how an item about a setting is answered: yes and no are values there.
func settingHints(i *model.Item, back string) (all []string) {
	if i.Do == model.Choose {
		all = append(all, "Type one of:")
		for _, c := range i.Choices {
			all = append(all, "  "+c.Value+"  "+c.Says.In("en"))
		}
	} else {
		all = append(all, strings.TrimSpace(told("Type the value %s", i.Unit)))
	}
	if i.Offers {
		all = append(all, "Or offered, to take the one that was made for it")
	}
	if i.Leaves {
		all = append(all, "Or excused and why it stays as it is, though everybody knows it (lead)")
	}
	if back != "" {
		all = append(all, told("Type back to answer anew: %s", back))
	}
	return all
}

package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/tray"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
)

func (a *app) trayVerb() *cobra.Command {
	v := &cobra.Command{Use: "tray", Short: "Many units that get the same release in one go",
		Long: "Whoever is plugged in on a link of the tray and belongs to it is begun, after its own identity and\nchecks. TRAY is its id, or the start of it."}
	v.AddCommand(a.trayOpen(), a.trayWork(), a.trayShow(), a.trayList(), a.trayLabels(), a.trayNext(),
		a.trayWord("leave", "leave TRAY UNIT", "Leave a unit out, by name", "  ferry tray leave 0193f2a0 PB-330071 --reason \"goes to the dealer\""),
		a.trayWord("again", "again TRAY UNIT", "Let a unit be begun once more that did not end well", "  ferry tray again 0193f2a0 PB-330071 --reason \"with another lead\""),
		a.trayWord("stop", "stop TRAY", "Begin no further unit; what is being written is finished", "  ferry tray stop 0193f2a0 --reason \"the supply is weak\""),
		a.trayWord("go-on", "go-on TRAY", "Go on in spite of what has stopped it", "  ferry tray go-on 0193f2a0 --reason \"the lead was loose\""),
		a.trayWord("close", "close TRAY", "Close it; what is not done stays on its list by name", "  ferry tray close 0193f2a0\n  ferry tray close 0193f2a0 --reason \"PB-330071 comes next week\""))
	return v
}

func (a *app) trayOpen() *cobra.Command {
	n := client.NewTray{}
	from, together := "", false
	v := &cobra.Command{Use: "open MODEL VERSION [UNIT…]", Short: "Open a tray: its units, its links, its rules", Args: cobra.MinimumNArgs(2),
		Long:    "The units are those named, those of a site, of a list, or of a job, with --behind those that are due\nthe release, and with --any whatever is plugged in. The first goes alone and opens the rest when it\nis proven, unless --together is said.",
		Example: "  ferry tray open porter-brake 1.6 --at van/shop-5 --any --reason \"recall of May\"\n  ferry tray open dunlin 1215 --at van/dunlin-1,van/dunlin-2 --site \"Lantern Wharf\" --stop 3 --reason \"before the season\"",
		ValidArgsFunction: func(cmd *cobra.Command, args []string, to string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return a.complete(modelNames)(cmd, args, to)
			}
			return a.complete(serials)(cmd, args, to)
		},
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Model, n.Release, n.Units, n.Alone = args[0], args[1], args[2:], !together
			if from != "" {
				more, err := serialsFrom(from)
				if err != nil {
					return err
				}
				n.Units = append(n.Units, more...)
			}
			t, err := c.OpenTray(ctx, n)
			if err != nil {
				return err
			}
			return a.show(t, func() { a.tray(t) })
		})}
	v.Flags().StringSliceVar(&n.Links, "at", nil, "links (BENCH/LINK) of one bench, as they lie on it")
	v.Flags().StringVar(&n.Site, "site", "", "all units of the model at this site")
	v.Flags().BoolVar(&n.Behind, "behind", false, "of those at the site, or of the whole model without one, the units that are due this release")
	v.Flags().StringVar(&from, "from", "", "a CSV file whose column serial (or whose first) names the units")
	v.Flags().BoolVar(&n.InOrder, "in-order", false, "the units named are on the links named, in this order")
	v.Flags().BoolVar(&n.Any, "any", false, "whatever is plugged in gets a place")
	v.Flags().BoolVar(&together, "together", false, "all may begin at once; the first does not go alone")
	v.Flags().IntVar(&n.Stop, "stop", 2, "as many failures stop it; 0 is never")
	v.Flags().StringVar(&n.Reason, "reason", "", "why: what was ordered")
	v.Flags().StringVar(&n.Asked, "asked", "", "who asked for it")
	v.Flags().StringVar(&n.Test, "test", "", "what is tried on each unit in the end")
	v.Flags().StringSliceVar(&n.Waive, "waive", nil, told("a gate that you pass by name for each of its units, with --reason: %s (lead)", strings.Join(admit.Gates, ", ")))
	v.Flags().Uint64Var(&n.Job, "job", 0, "the job that it belongs to; its units are taken where none are named")
	v.MarkFlagRequired("at")
	return v
}

// serialsFrom reads serials out of a CSV file.
func serialsFrom(path string) (all []string, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, core.Fail(core.BadFile, "%w", err)
	}
	defer f.Close()
	r := csv.NewReader(f)
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, true
	at := 0
	for n := 0; ; n++ {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, core.Fail(core.BadFile, "%s: %w", path, err)
		}
		if i := slices.IndexFunc(row, func(s string) bool { return strings.EqualFold(strings.TrimSpace(s), "serial") }); n == 0 && i >= 0 {
			at = i
			continue
		}
		if at < len(row) && strings.TrimSpace(row[at]) != "" {
			all = append(all, strings.TrimSpace(row[at]))
		}
	}
}

func (a *app) trayShow() *cobra.Command {
	pdf := ""
	v := &cobra.Command{Use: "show TRAY", Short: "A tray: each place, and the hand that is wanted first", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(openTrays), Example: "  ferry tray show 0193f2a0\n  ferry tray show 0193f2a0 --pdf sheet.pdf",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			t, err := c.Tray(ctx, args[0])
			if err != nil {
				return err
			}
			if pdf != "" {
				raw, err := paper.Tray(t, a.clock.Now())
				return a.printed(pdf, raw, err)
			}
			return a.show(t, func() { a.tray(t) })
		})}
	v.Flags().StringVar(&pdf, "pdf", "", "write its sheet to a file, to be printed")
	return v
}

func (a *app) trayLabels() *cobra.Command {
	on := paper.OnRoll
	v := &cobra.Command{Use: "labels TRAY FILE", Short: "Labels of the units that run its release, as a PDF", Args: cobra.ExactArgs(2), ValidArgsFunction: a.complete(openTrays),
		Long:    "Serial as Code 128, and serial, model, version and day as a QR code.",
		Example: "  ferry tray labels 0193f2a0 labels.pdf\n  ferry tray labels 0193f2a0 labels.pdf --on sheet",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			t, err := c.Tray(ctx, args[0])
			if err != nil {
				return err
			}
			if on != paper.OnRoll && on != paper.OnSheet {
				return core.Fail(core.NotUnderstood, "labels are on a roll or on a sheet, not on %q", on)
			}
			raw, err := paper.Labels(t, on, a.clock.Now())
			return a.printed(args[1], raw, err)
		})}
	v.Flags().StringVar(&on, "on", on, "roll (62 by 29 mm, one after the other) or sheet (A4 of 24)")
	return v
}

func openTrays(ctx context.Context, c *client.Client) (all []string) {
	t, err := c.Trays(ctx, true, "")
	if err != nil {
		return nil
	}
	for _, x := range t.Trays {
		all = append(all, x.ID+"\t"+x.ModelName+" "+x.Version+", "+x.Reason)
	}
	return all
}

func (a *app) trayNext() *cobra.Command {
	s := client.TrayStep{Do: "next"}
	v := &cobra.Command{Use: "next TRAY [BENCH/LINK]", Short: "Say that the next unit is on a link: it is asked who it is, and begun", Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.complete(openTrays),
		Example: "  ferry tray next 0193f2a0 van/shop-5\n  ferry tray next 0193f2a0 van/dunlin-1 --unit DN-20417      (one that is told by its label alone)",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			s.Link = append(args, "")[1]
			t, err := c.StepTray(ctx, args[0], s)
			if err != nil {
				return err
			}
			return a.show(t, func() { a.tray(t) })
		})}
	v.Flags().StringVar(&s.Unit, "unit", "", "the serial on its label, where it is told by that alone")
	return v
}

// trayWord is a verb that says one word about a tray, or about a unit of it.
func (a *app) trayWord(do, use, short, example string) *cobra.Command {
	s := client.TrayStep{Do: do}
	v := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(strings.Count(use, " ")), ValidArgsFunction: a.complete(openTrays), Example: example,
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			s.Unit = append(args, "")[1]
			t, err := c.StepTray(ctx, args[0], s)
			if err != nil {
				return err
			}
			return a.show(t, func() { a.tray(t) })
		})}
	v.Flags().StringVar(&s.Reason, "reason", "", "why")
	return v
}

func (a *app) trayList() *cobra.Command {
	open, after := false, ""
	v := &cobra.Command{Use: "list", Short: "Trays: open ones first, then the newest", Args: cobra.NoArgs, Example: "  ferry tray list --open",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Trays(ctx, open, after)
			if err != nil {
				return err
			}
			return a.show(all, func() {
				var rows [][]string
				for _, t := range all.Trays {
					stands := a.paint(amber, "open")
					if t.Closed != nil {
						stands = told("closed since %s", t.Closed.Local().Format("2006-01-02 15:04 MST"))
					}
					rows = append(rows, []string{a.paint(bold, t.ModelName), t.Version, t.Bench, tray.Counted(t.Count), stands, t.By, column(t.Reason, 36), t.ID})
				}
				a.table([]string{"model", "version", "bench", "units", "stands", "by", "reason", "tray"}, rows)
				a.extentOf(len(all.Trays), all.Paged, after, "%s tray", "%s trays", "more than %s trays")
			})
		})}
	v.Flags().BoolVar(&open, "open", false, "only those that are not closed")
	afterFlag(v, &after)
	return v
}

// tray shows a tray: its places, who is on its links, and what is to be done now.
func (a *app) tray(t client.Tray) {
	fmt.Fprintf(a.out, "%s  %s  %s\n", a.paint(bold, told("Tray of %d × %s", t.Units, t.ModelName)), t.Version, a.paint(faint, told("job %d: %s", t.Job, t.Reason)))
	if !t.Online && t.Closed == nil {
		fmt.Fprintln(a.out, a.paint(brick, told("Bench %s is not in touch with the service: what stands below is what it said last.", t.Bench)))
	}
	var rows [][]string
	for _, p := range t.Places {
		colour := map[string]string{tray.IsDone: teal, tray.Current: teal, tray.Waits: amber, tray.Failed: brick, tray.HalfDone: brick, tray.Barred: brick, tray.HandsOff: blue}[p.State]
		stands := words.Seats.In(p.State)
		if colour != "" {
			stands = a.paint(colour, stands)
		}
		if p.N == t.Opener && t.Alone {
			stands = words.Listed(stands, "opened the rest")
		}
		says := p.Says.Text
		if p.Total > 0 {
			says = told("%s, %d of %d KiB", says, p.Done>>10, p.Total>>10)
		}
		rows = append(rows, []string{fmt.Sprint(p.N), a.paint(bold, p.Serial), stands, dash(p.Link), dash(p.From), column(says, 60), p.Run})
	}
	if len(rows) > 0 {
		a.table([]string{"", "serial", "stands", "link", "ran", "", "run"}, rows)
	}
	for _, l := range t.Links {
		switch {
		case t.Closed != nil:
		case l.Absent != "":
			fmt.Fprintf(a.out, "%s: %s\n", l.Link, l.Absent)
		case l.Says != nil:
			at := ""
			if l.Seen != nil {
				at = a.paint(faint, told("seen %s", when(*l.Seen)))
			}
			fmt.Fprintf(a.out, "%s: %s\n", l.Link, words.Listed(l.Says.Text, at))
		}
	}
	a.trayEnd(t)
}

// trayEnd says how it stands and what is to be done now.
func (a *app) trayEnd(t client.Tray) {
	fmt.Fprintf(a.out, "\n%s\n", t.Now.Text)
	if t.Closing != "" {
		fmt.Fprintf(a.out, "%s\n", a.paint(faint, t.Closing))
	}
	if t.Next != "" {
		a.pair("next", a.paint(bold, wrap(t.Next, 13)))
	}
}

// trayEvery is how often a tray is looked at while somebody works on it.
const trayEvery = time.Second

// trayWork follows a tray: it tells what changes, and asks for the hand that is wanted first.
func (a *app) trayWork() *cobra.Command {
	return &cobra.Command{Use: "work TRAY", Short: "Follow a tray, and be asked for the one hand that is wanted first", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete(openTrays), Example: "  ferry tray work 0193f2a0",
		Long: "Tells each change of a place, and asks what hands do for all places in one order. It ends when\nnobody is at work and nobody is to come, or with Ctrl-C; the tray goes on at the bench.",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			stood, asked := map[int]string{}, ""
			lines := make(chan string)
			if isTerminal(a.in) {
				go func() {
					in := bufio.NewReader(a.in)
					for {
						line, err := in.ReadString('\n')
						if err != nil {
							return
						}
						lines <- strings.TrimSpace(line)
					}
				}()
			}
			for {
				t, err := c.Tray(ctx, args[0])
				if err != nil {
					return err
				}
				a.trayNews(t, stood)
				if h := t.Hand; h != nil && asked != h.Run+h.Hands.Item {
					asked = h.Run + h.Hands.Item
					a.trayHand(t, h)
				}
				if t.Hand == nil && !t.Any && t.Count[tray.AtWork]+t.Count[tray.HandsOff]+t.Count[tray.Waits]+t.Count[tray.NotSeen]+t.Count[tray.Again] == 0 || t.Closed != nil {
					return a.show(t, func() { a.tray(t) })
				}
				select {
				case <-ctx.Done():
					return a.show(t, func() { a.tray(t) })
				case line := <-lines:
					if err := a.trayAnswer(ctx, c, t, line); err != nil {
						fmt.Fprintf(a.err, "  %s %s\n", a.paint(brick, "✗"), core.AsError(err, core.NotUnderstood).Message)
					}
					asked = ""
				case <-a.clock.After(trayEvery):
				}
			}
		})}
}

// trayNews tells which places stand otherwise than they did.
func (a *app) trayNews(t client.Tray, stood map[int]string) {
	for _, p := range t.Places {
		if was, told := stood[p.N]; was == p.State || !told && p.State == tray.NotSeen {
			continue
		}
		stood[p.N] = p.State
		fmt.Fprintf(a.err, "%s  %2d  %s  %s  %s\n", a.clock.Now().Local().Format(time.TimeOnly), p.N, a.paint(bold, p.Serial), words.Seats.In(p.State), a.paint(faint, wrap(p.Says.Text, 14)))
	}
	for i, l := range t.Links {
		says := ""
		if l.Says != nil {
			says = l.Says.Text
		}
		if key := -1 - i; stood[key] != says {
			stood[key] = says
			if says != "" {
				fmt.Fprintf(a.err, "%s      %s: %s\n", a.clock.Now().Local().Format(time.TimeOnly), l.Link, says)
			}
		}
	}
	gate := ""
	if t.Gate != nil {
		gate = t.Gate.Text
	}
	if stood[0] != gate {
		stood[0] = gate
		fmt.Fprintf(a.err, "%s      %s\n", a.clock.Now().Local().Format(time.TimeOnly), cmp.Or(gate, "The next may begin."))
	}
}

// trayHand asks for a hand.
func (a *app) trayHand(t client.Tray, h *client.TrayHand) {
	fmt.Fprintf(a.err, "\n%s %s\n", a.paint(amber+bold, told("HANDS ON  %d  %s", h.Place, t.Places[h.Place-1].Serial)), a.paint(bold, h.Hands.Says))
	if h.Item == nil || h.Hands.Calling {
		return
	}
	for _, line := range answerHints(h.Item, h.Back) {
		fmt.Fprintf(a.err, "  %s\n", a.paint(faint, line))
	}
	if !isTerminal(a.in) {
		fmt.Fprintf(a.err, "  %s\n", a.paint(faint, "ferry run answer "+h.Run+" VALUE"))
	}
}

// trayAnswer takes what a person typed for the hand that is wanted.
func (a *app) trayAnswer(ctx context.Context, c *client.Client, t client.Tray, line string) error {
	h := t.Hand
	if h == nil || h.Hands.Calling || line == "" {
		return nil
	}
	n, err := a.typedAt(ctx, c, h.Hands.Item, h.Item, line)
	if err != nil {
		return err
	}
	_, err = c.Answer(ctx, h.Run, n)
	return err
}

// typedAt is the answer that a person has typed at a terminal: a picture by the name of its
// file, the colours of wires behind a yes.
func (a *app) typedAt(ctx context.Context, c *client.Client, name string, item *model.Item, line string) (n client.NewAnswer, err error) {
	n = typedAnswer(name, line)
	if item != nil && item.Setting != "" { // yes and no are values like others
		word, rest, _ := strings.Cut(line, " ")
		switch {
		case word == procedure.Excused && item.Leaves:
			return client.NewAnswer{Item: name, Value: procedure.Excused, Note: rest}, nil
		case line == procedure.Back && n.Value == procedure.Back:
			return n, nil
		}
		return client.NewAnswer{Item: name, Value: line}, nil
	}
	if item != nil && item.Do == model.Photo && n.Value == line {
		if n.Photo, err = a.putPhoto(ctx, c, line); err == nil {
			n.Value = procedure.Yes
		}
	}
	if words := strings.Fields(line); item != nil && item.Do == model.Wires && len(words) > 1 && words[0] == procedure.Yes {
		n.Value = procedure.Yes
		n.Wires, err = wiresOf(words[1:])
	}
	return n, err
}

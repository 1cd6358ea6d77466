package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/link/recording"
	"zealousferry/core/procedure"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// keep leaves a value as it was where nothing was said of it.
func keep[T any](given bool, value *T, was T) {
	if !given {
		*value = was
	}
}

func (a *app) adapterVerb() *cobra.Command {
	v := &cobra.Command{Use: "adapter", Short: "Adapters: what they are set to, what they worked with"}
	list := &cobra.Command{Use: "list", Short: "Adapters and their records", Args: cobra.NoArgs, Example: "  ferry adapter list",
		RunE: a.call(func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Adapters(ctx)
			if err != nil {
				return err
			}
			return a.show(all, func() {
				var rows [][]string
				for _, x := range all.Adapters {
					var worked []string
					for _, f := range x.Families {
						worked = append(worked, fmt.Sprintf("%s %d✓ %d✗", f.Model, f.Worked, f.Failed))
					}
					level := x.Volts
					if x.Inverted {
						level = words.Listed(level, "inverted")
					}
					test := "never"
					if x.Tested != nil {
						test = words.Listed(map[bool]string{true: "sound", false: "DEAD"}[x.Sound], ago(x.Tested))
					}
					own := dash(x.Firmware)
					if x.Newer != "" {
						own += " → " + a.paint(bold, x.Newer)
					}
					holds := "–"
					if x.Latency > 0 {
						holds = told("%d ms", x.Latency)
					}
					rows = append(rows, []string{a.paint(bold, x.Serial), x.Name, x.State, dash(level), own, holds, test, some(x.Links, 2), strings.Join(worked, "  ")})
				}
				a.table([]string{"adapter", "name", "state", "set to", "firmware", "holds back", "self-test", "on", "runs"}, rows)
				for _, x := range all.Adapters {
					if x.Newer != "" {
						tell(a.out, "%s has newer firmware of its own, %s: ferry flash %s\n", x.Serial, x.Newer, cmp.Or(x.At, x.Serial))
					}
				}
			})
		})}
	var n client.NewAdapter
	var set *cobra.Command
	set = &cobra.Command{Use: "set SERIAL", Short: "Enter an adapter, or what changed about it", Args: cobra.ExactArgs(1),
		Example: "  ferry adapter set TT-0417 --name \"one-wire lead\" --volts 3.3 --inverted",
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.Serial = args[0]
			all, err := c.Adapters(ctx)
			if err != nil {
				return err
			}
			for _, x := range all.Adapters {
				if x.Serial != n.Serial {
					continue
				}
				given := set.Flags().Changed // what is not said stays as it is
				keep(given("name"), &n.Name, x.Name)
				keep(given("volts"), &n.Volts, x.Volts)
				keep(given("inverted"), &n.Inverted, x.Inverted)
				keep(given("firmware"), &n.Firmware, x.Firmware)
				keep(given("latency"), &n.Latency, x.Latency)
				keep(given("state"), &n.State, x.State)
				keep(given("note"), &n.Note, x.Note)
			}
			if n.Name == "" {
				n.Name = n.Serial
			}
			got, err := c.PutAdapter(ctx, n)
			if err != nil {
				return err
			}
			return a.show(got, func() {
				fmt.Fprintf(a.out, "%s  %s  %s, %s\n", a.paint(bold, got.Serial), got.Name, got.State, dash(got.Volts))
			})
		})}
	f := set.Flags()
	f.StringVar(&n.Name, "name", "", "what sheets call it, e.g. one-wire lead")
	f.StringVar(&n.Volts, "volts", "", "position of its voltage selector")
	f.BoolVar(&n.Inverted, "inverted", false, "its lines are inverted")
	f.StringVar(&n.Firmware, "firmware", "", "its own firmware")
	f.IntVar(&n.Latency, "latency", 0, "ms that its driver holds bytes back")
	f.StringVar(&n.State, "state", "ready", "ready, lent, set-aside, retired")
	f.StringVar(&n.Note, "note", "", "anything else")
	v.AddCommand(list, set)
	return v
}

// some names the first few, and says how many more there are.
func some(all []string, n int) string {
	if len(all) <= n {
		return strings.Join(all, " ")
	}
	return told("%s and %d more", strings.Join(all[:n], " "), len(all)-n)
}

// wiresOf reads PIN=COLOUR words.
func wiresOf(words []string) (procedure.Colours, error) {
	out := procedure.Colours{}
	for _, w := range words {
		pin, colour, ok := strings.Cut(w, "=")
		if !ok {
			return nil, core.Fail(core.NotUnderstood, "a wire is PIN=COLOUR, such as 3=yellow, not %q", w)
		}
		out[pin] = colour
	}
	return out, out.Check()
}

func wireWords(c procedure.Colours) string {
	var pins []string
	for pin := range c {
		pins = append(pins, pin)
	}
	sort.Slice(pins, func(i, j int) bool { x, _ := strconv.Atoi(pins[i]); y, _ := strconv.Atoi(pins[j]); return x < y })
	for n, pin := range pins {
		pins[n] = pin + " " + c[pin]
	}
	return strings.Join(pins, ", ")
}

func (a *app) wiresVerb() *cobra.Command {
	return &cobra.Command{Use: "wires LINK|UNIT [PIN=COLOUR…]", Short: "The wires on a link, and which colours they have this time", Args: cobra.MinimumNArgs(1),
		Long:              "Draws which pin goes to which. With words such as 3=yellow it keeps the colour, or what is\nwritten on the wire, by the pin of the unit: the card and the console then show this lead.",
		Example:           "  ferry wires van/pier-1\n  ferry wires van/pier-1 1=grey 3=white,SIG",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) > 1 {
				w, err := wiresOf(args[1:])
				if err != nil {
					return err
				}
				if _, err := c.PutWires(ctx, client.NewWires{At: args[0], Wires: w}); err != nil {
					return err
				}
			}
			card, err := c.Card(ctx, args[0], client.CardAbout{})
			if err != nil {
				return err
			}
			if card.Wiring == nil {
				return core.Fail(core.NotFound, "the sheet of %s draws no wires for this unit", card.Model).Do("A lead writes them into its procedure: docs/writing-a-procedure.md.")
			}
			return a.show(map[string]any{"link": card.Link, "wiring": card.Wiring, "wires": card.Wires}, func() {
				a.wiring(card.Wiring)
				a.seenWires(card)
			})
		})}
}

// seenWires says whose colours the drawing has, and why the adapter will not do.
func (a *app) seenWires(c client.Card) {
	if w := c.Wires; w != nil {
		fmt.Fprintf(a.out, "  %s\n", a.paint(faint, told("Colours as %s saw them on %s, %s.", w.By, w.Link, ago(&w.At))))
	} else {
		fmt.Fprintf(a.out, "  %s\n", a.paint(faint, "The usual colours. If this lead has others, go by the pins: ferry wires LINK PIN=COLOUR…"))
	}
	if c.Unsuited != "" {
		a.pair("beware", a.paint(brick, wrap(c.Unsuited, 13)))
	}
}

func (a *app) listenVerb() *cobra.Command {
	n := client.NewListen{}
	lasts, follow, keep := 3*time.Second, false, ""
	kept := &keeping{began: time.Now()}
	v := &cobra.Command{Use: "listen LINK|UNIT", Short: "What is on a line just now; say a line of text to the program", Args: cobra.ExactArgs(1),
		Long:              "Hears what comes, and tells faults and modem lines beside it. Nothing is sent but the text of\n--say; with --through-loader the unit's loader passes it to the program's console.",
		Example:           "  ferry listen van/quay-1\n  ferry listen van/quay-1 --follow\n  ferry listen van/quay-1 --for 10s --baud 9600\n  ferry listen van/quay-1 --say V?\n  ferry listen van/quay-1 --say V? --through-loader",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			n.At, n.Lasts = args[0], int(lasts.Milliseconds())
			if n.Loader && n.Say == "" {
				return core.Fail(core.NotUnderstood, "--through-loader passes a line of text on; there is none").Do("Give it: --say TEXT.")
			}
			if follow {
				return a.listenOn(ctx, c, n, kept, keep)
			}
			h, err := c.Listen(ctx, n)
			if err != nil {
				return err
			}
			if keep != "" {
				if err := kept.write(keep, h, n.Say); err != nil {
					return err
				}
			}
			return a.show(h, func() { a.heard(h, n) })
		})}
	f := v.Flags()
	f.DurationVar(&lasts, "for", lasts, "how long, 10s at most")
	f.BoolVarP(&follow, "follow", "f", false, "go on until Ctrl-C")
	f.IntVar(&n.Baud, "baud", 0, "speed; that of the model's program by itself")
	f.StringVar(&n.Model, "model", "", "the model whose program runs; the one last seen by itself")
	f.StringVar(&n.Say, "say", "", "a line of text for the program, sent first")
	f.StringVar(&keep, "keep", "", "write what was said and heard into this file, as a recording")
	f.BoolVar(&n.Loader, "through-loader", false, "pass it through the unit's loader")
	return v
}

// keeping is a recording that grows while somebody listens.
type keeping struct {
	began time.Time
	said  recording.Recording
}

func (k *keeping) write(file string, h client.Heard, say string) error {
	now := time.Since(k.began)
	if len(k.said.Remarks) == 0 {
		k.said.Remarks = []string{told("heard on %s at %d baud, %s", h.Link, h.Mode.Baud, k.began.UTC().Format("2006-01-02 15:04"))}
	}
	if say != "" {
		k.said.Add(max(0, now-h.Lasts), true, []byte(say+"\r"))
	}
	if len(h.Data) > 0 {
		k.said.Add(now, false, h.Data)
	}
	var text strings.Builder
	if err := k.said.Write(&text); err != nil {
		return err
	}
	if err := os.WriteFile(file, []byte(text.String()), 0o644); err != nil {
		return core.Fail(core.NoSpace, "%w", err)
	}
	return nil
}

// listenOn shows what comes, as it comes, and each change of the line, until Ctrl-C.
func (a *app) listenOn(ctx context.Context, c *client.Client, n client.NewListen, kept *keeping, keep string) error {
	n.Lasts = 500
	was := ""
	for ctx.Err() == nil {
		h, err := c.Listen(ctx, n)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		if keep != "" {
			if err := kept.write(keep, h, n.Say); err != nil {
				return err
			}
		}
		n.Say = ""
		if a.output == "json" {
			if err := a.show(h, func() {}); err != nil {
				return err
			}
			continue
		}
		if h.Left {
			fmt.Fprintf(a.out, "\n%s\n", a.paint(brick, "✗ the unit left the line, or lost its power: identify it anew"))
		}
		if s := h.Signs; s.Framing+s.Parity+s.Breaks+s.Overrun > 0 {
			fmt.Fprintf(a.out, "\n%s\n", a.paint(brick, "✗ "+faults(s)))
		}
		if now := lines(h.Signs); now != was {
			fmt.Fprintf(a.out, "%s\n", a.paint(faint, told("%s at %d baud: %s", h.Link, h.Mode.Baud, now)))
			was = now
		}
		fmt.Fprint(a.out, h.Text)
	}
	return nil
}

func (a *app) heard(h client.Heard, n client.NewListen) {
	fmt.Fprintf(a.out, "%s  %s\n", a.paint(bold, h.Link), a.paint(faint, told("%d baud, %d bits, parity %s", h.Mode.Baud, h.Mode.Bits, h.Mode.Parity)))
	if n.Loader {
		a.pair("answer", cmp.Or(strings.TrimSpace(h.Answer), "none: the program said nothing to that"))
		return
	}
	lasts := h.Lasts.Round(100 * time.Millisecond)
	what := told("nothing came in %s", lasts.String())
	if h.Bytes > 0 {
		what = told("%d bytes in %s", h.Bytes, lasts)
	}
	a.pair("heard", what)
	a.pair("faults", faults(h.Signs))
	a.pair("lines", lines(h.Signs))
	for i, line := range strings.Split(strings.Trim(h.Text, "\n"), "\n") {
		name := ""
		if i == 0 {
			name = "text"
		}
		if line != "" {
			a.pair(name, line)
		}
	}
}

func faults(s link.Signs) string {
	if !s.Told {
		return "this link does not tell"
	}
	return told("framing %d, parity %d, breaks %d, overruns %d", s.Framing, s.Parity, s.Breaks, s.Overrun)
}

func lines(s link.Signs) string {
	if !s.Told {
		return "this link does not tell"
	}
	var all []string
	for _, x := range []struct {
		name string
		on   bool
	}{{"CTS", s.CTS}, {"DSR", s.DSR}, {"DCD", s.DCD}, {"RI", s.RI}} {
		all = append(all, x.name+" "+map[bool]string{true: "on", false: "off"}[x.on])
	}
	return strings.Join(all, ", ")
}

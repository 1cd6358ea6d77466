package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/core/diagnose"
	"zealousferry/core/link/ports"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
)

func (a *app) cardVerb() *cobra.Command {
	pdf, release, adapter := "", "", ""
	v := &cobra.Command{Use: "card UNIT|LINK", Short: "The job card: hazards, tools, wiring, power order, what right looks like", Args: cobra.ExactArgs(1),
		Example:           "  ferry card DN-20417\n  ferry card van/pier-1 --pdf card.pdf\n  ferry card DN-20417 --adapter \"one-wire lead\"",
		ValidArgsFunction: a.complete(places),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			card, err := c.Card(ctx, args[0], release, adapter)
			if err != nil {
				return err
			}
			if pdf != "" {
				raw, err := paper.Card(card)
				if err != nil {
					return err
				}
				if err := os.WriteFile(pdf, raw, 0o644); err != nil {
					return err
				}
				return a.show(map[string]any{"file": pdf, "bytes": len(raw)}, func() {
					fmt.Fprintf(a.out, "Written to %s, %s. Print it, or take it along.\n", pdf, kib(uint64(len(raw))))
				})
			}
			return a.show(card, func() { a.card(card) })
		})}
	v.Flags().StringVar(&pdf, "pdf", "", "write it to a file, to be printed")
	v.Flags().StringVar(&release, "release", "", "the version that the job is about; the recommended one by itself")
	v.Flags().StringVar(&adapter, "adapter", "", "name of the adapter at hand; the first of the sheet by itself")
	return v
}

var stageTitles = map[string]string{model.AtHazard: "HAZARDS", model.AtTool: "TAKE ALONG", model.AtPrepare: "PREPARE", model.AtFound: "AS FOUND",
	model.AtConnect: "CONNECT", model.AtPower: "POWER AND HANDS, IN THIS ORDER", model.AtLeft: "AFTER THE WRITE"}

func (a *app) card(c client.Card) {
	fmt.Fprintf(a.out, "%s  %s  %s\n", a.paint(bold, c.ModelName+" rev "+dash(c.Revision)), c.Serial, a.paint(faint, c.Site))
	if c.Procedure == "" {
		a.pair("procedure", a.paint(brick, "the sheet has none for this unit"))
	} else {
		how := map[string]string{"proven": a.paint(teal, "✓ proven on this revision"), "failed": a.paint(brick, "✗ known to fail on this revision"), "unproven": "? not proven on this revision"}[c.Standing]
		a.pair("procedure", fmt.Sprintf("%s, edition %d  %s", c.Procedure, c.Edition, how))
		if c.StandingSays != "" {
			a.pair("", wrap(c.StandingSays, 13))
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
		a.pair("takes", fmt.Sprintf("%d min, %s%s", c.Minutes, map[string]string{"bench": "at the bench", "in-place": "where it stands"}[c.Place], took(c.Took)))
	}
	if c.Meanwhile != "" {
		a.pair("meanwhile", wrap(c.Meanwhile, 13))
	}
	a.pair("way back", wayBack(c.WayBack))
	if c.Locked {
		a.pair("locked", a.paint(brick, wrap("Its memory is locked against reading. Lifting the lock erases all of it; a lead may do that by name.", 13)))
	}
	for i, f := range c.Fates {
		a.pair(map[bool]string{true: "memory"}[i == 0], fmt.Sprintf("%-10s %9s  %s", f.Name, kib(f.Bytes), map[string]string{"stays": "stays as it is", "written": "written anew", "put-back": "erased; the settings that it tells are put back", "lost": a.paint(brick, "erased, and lost")}[f.Fate]))
	}
	if c.Reference != "" && c.WayBack != run.BackFull {
		a.pair("reference", wrap("The catalogue keeps the image of "+c.Reference+", which it runs: a backup by reference.", 13))
	}
	a.pair("proof", wrap(c.Verify, 13))
	for _, f := range c.Flaws {
		a.pair("beware", a.paint(brick, wrap(f, 13)))
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
			}
		}
		for _, i := range c.Items {
			if i.At == at {
				lines = append(lines, a.cardItem(i)...)
			}
		}
		if len(lines) > 0 {
			fmt.Fprintf(a.out, "\n%s\n  %s\n", a.paint(bold, stageTitles[at]), strings.Join(lines, "\n  "))
		}
	}
}

func (a *app) cardItem(i model.Item) []string {
	says, mark := i.Says.In("en"), "□ "
	if i.ByTool() || i.Do == model.Apply {
		mark = "○ "
	}
	if i.Do == model.Measure {
		says += fmt.Sprintf(" (%g to %g %s)", i.Least, i.Most, i.Unit)
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
		return fmt.Sprintf("; the one run so far took %s", time.Duration(t.Seconds)*time.Second)
	}
	return fmt.Sprintf("; %d runs took %s at the middle", t.Runs, time.Duration(t.Seconds)*time.Second)
}

func supplyWords(s *model.Supply) string {
	w := map[string]string{"adapter": "the adapter feeds the unit", "own": "its own supply feeds the unit", "none": "nothing may feed it"}[s.From]
	if s.Volts > 0 {
		w += fmt.Sprintf(", %g V", s.Volts)
	}
	return strings.TrimSpace(w + ". " + s.Says.In("en"))
}

func wayBack(w string) string {
	switch w {
	case run.BackFull:
		return "full backup, taken and stored before the first erase"
	case run.BackSettings:
		return "its settings, read before the write and put back after it"
	case run.BackImage:
		return "no backup can be read; the image that it runs is in the catalogue"
	}
	return "none: what is overwritten is lost"
}

// wiring is the table of wires, pin by pin.
func (a *app) wiring(w *model.Wiring) {
	fmt.Fprintf(a.out, "\n%s with %s", a.paint(bold, "WIRING"), w.Adapter)
	if w.Selector != "" {
		fmt.Fprintf(a.out, ", switch at %s", w.Selector)
	}
	fmt.Fprintf(a.out, "\n  %s: pin 1 at %s. %s: pin 1 at %s.\n", w.Tool.Name, w.Tool.Edge.In("en"), w.Unit.Name, w.Unit.Edge.In("en"))
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
					return core.Fail(core.BadFile, "--value is a number, not %q", value)
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
			got, err := c.Check(ctx, n)
			if err != nil {
				return err
			}
			for got.Asks && isTerminal(a.in) && a.output == "text" {
				a.checked(got)
				if n.Answer, err = a.askTest(ctx, c, n.At, got.Test); err != nil {
					return err
				}
				if got, err = c.Check(ctx, n); err != nil {
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
	switch {
	case k.Passed && k.Unplugged:
		fmt.Fprintf(a.out, "%s %s\n", a.paint(teal+bold, "✓"), a.paint(teal+bold, "COUNTER-PROOF: nothing answers with the plug pulled"))
	case k.Passed:
		fmt.Fprintf(a.out, "%s %s\n", a.paint(teal+bold, "✓"), a.paint(teal+bold, "PROVED: the link is sound"))
	case k.Unplugged:
		fmt.Fprintf(a.out, "%s %s\n", a.paint(brick+bold, "✗"), a.paint(brick+bold, "SOMETHING ANSWERS, though the plug is said to be pulled"))
	case k.Fault != "":
		fmt.Fprintf(a.out, "%s %s\n", a.paint(brick+bold, "✗"), a.paint(brick+bold, strings.ToUpper(strings.TrimSuffix(k.Says, "."))))
	default:
		fmt.Fprintf(a.out, "%s %s\n", a.paint(brick+bold, "✗"), a.paint(brick+bold, "NOT PROVED: "+strings.ReplaceAll(k.Class, "-", " ")))
	}
	a.pair("link", k.Link+", as "+k.Model)
	for i, w := range k.Words {
		name := ""
		if i == 0 {
			name = "seen"
		}
		a.pair(name, wrap(w, 13))
	}
	if p := k.Seen.Proof; p.Asked > 0 {
		a.pair("answers", fmt.Sprintf("%d of %d, %s at the middle, %s at worst", p.Asked-p.Lost, p.Asked, p.Median.Round(100*time.Microsecond), p.Worst.Round(100*time.Microsecond)))
	}
	switch {
	case k.Do != "":
		a.pair("next", a.paint(bold, wrap(k.Do, 13)))
	case k.Asks && k.Test != nil:
		a.pair("next", a.paint(bold, wrap(k.Test.Says, 13)))
		a.pair("", a.paint(faint, wrap(k.Test.Why, 13)))
		a.pair("answer", "ferry check "+k.Link+" "+map[string]string{diagnose.Measure: "--value " + strings.ToUpper(k.Test.What), diagnose.Bridge: "--came adapter,plug", diagnose.Look: "--came-back"}[k.Test.Kind])
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
			s, err := line("What does the meter show, in " + t.Unit + "?")
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
			if _, err := line("Bridge the data pins at the " + place + ", then press Enter."); err != nil {
				return nil, err
			}
			e, err := c.Echo(ctx, at)
			if err != nil {
				return nil, err
			}
			out.Came[place] = e.Came
			fmt.Fprintf(a.err, "  At the %s: %s\n", place, map[bool]string{true: "it comes back.", false: "nothing comes back."}[e.Came])
		}
		return out, nil
	}
	if _, err := line("Pull the lead off the adapter, then press Enter."); err != nil {
		return nil, err
	}
	e, err := c.Echo(ctx, at)
	return &diagnose.Answer{Yes: e.Came}, err
}

func (a *app) answerVerb() *cobra.Command {
	n := client.NewAnswer{}
	photo, wires := "", []string{}
	v := &cobra.Command{Use: "answer RUN VALUE", Short: "Answer the item that a run waits for", Args: cobra.ExactArgs(2),
		Example:           "  ferry run answer 0193f2a0-… yes\n  ferry run answer 0193f2a0-… 3.31\n  ferry run answer 0193f2a0-… yes --photo board.jpg\n  ferry run answer 0193f2a0-… no --note \"the red light blinks\"",
		ValidArgsFunction: a.complete(openRuns),
		RunE: a.call(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Run(ctx, args[0])
			if err != nil {
				return err
			}
			h := r.Progress.View.Hands
			if h == nil {
				return core.Fail(core.NotFound, "run %s does not wait for anybody", args[0]).Do("Look how it stands: ferry run show " + args[0] + ".")
			}
			n.Item, n.Value = h.Item, args[1]
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
			return a.show(r, func() { fmt.Fprintln(a.out, "Taken. Look on: ferry run show "+r.ID+" --follow") })
		})}
	v.Flags().StringVar(&n.Note, "note", "", "what was seen, or why it stays undone")
	v.Flags().StringSliceVar(&wires, "wire", nil, "at the second look: a wire's colour by the unit's pin, PIN=COLOUR")
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
		n := client.NewAnswer{Item: h.Item, Value: line}
		if word, rest, found := strings.Cut(line, " "); found && (word == procedure.No || word == procedure.Excused) {
			n.Value, n.Note = word, rest
		}
		if item != nil && item.Do == model.Photo && n.Value != procedure.Excused && n.Value != procedure.No {
			if n.Photo, err = a.putPhoto(ctx, c, line); err == nil {
				n.Value = procedure.Yes
			}
		}
		if words := strings.Fields(line); item != nil && item.Do == model.Wires && len(words) > 1 && words[0] == procedure.Yes {
			n.Value = procedure.Yes
			n.Wires, err = wiresOf(words[1:])
		}
		if err == nil {
			_, err = c.Answer(ctx, v.run.ID, n)
		}
		if err != nil {
			v.note("%s", a.bright("✗ ")+wrap(core.AsError(err, core.BadFile).Message, 4))
		}
	}
}

// turn is the board for a person: the action, how right looks, how to answer.
func (v *view) turn() string {
	p := v.last.View
	if p.Hands == nil {
		return ""
	}
	var b strings.Builder
	head := "  HANDS ON  your turn"
	if p.Turns > 0 && !p.Hands.Calling {
		head += fmt.Sprintf(", %d of %d", p.Turn, p.Turns)
	}
	if p.Hands.Calling {
		head = "  HANDS ON  now: the tool is calling, the unit's answer ends this"
	}
	b.WriteString("\n" + v.board(amber, head, "  "+strings.ReplaceAll(wrap(p.Hands.Says, 6), "\n    ", "\n  ")))
	if i := p.Item; i != nil {
		if w := i.Why.In("en"); w != "" {
			b.WriteString("  " + wrap(w, 4) + "\n")
		}
		for _, s := range i.Signs {
			mark := teal + "✓ " + reset
			if s.Not {
				mark = brick + "✗ " + reset
			}
			b.WriteString("  " + mark + wrap(s.Says.In("en"), 6) + "\n")
		}
		if !p.Hands.Calling {
			b.WriteString("  " + faint + answerHint(i) + reset + "\n")
		}
	}
	return b.String()
}

func answerHint(i *model.Item) string {
	switch i.Do {
	case model.Choose:
		var all []string
		for _, c := range i.Choices {
			all = append(all, c.Value+" ("+c.Says.In("en")+")")
		}
		return "Type one of: " + strings.Join(all, ", ")
	case model.Measure:
		return fmt.Sprintf("Type what the meter shows, in %s: %g to %g is right", i.Unit, i.Least, i.Most)
	case model.Photo:
		return "Type the name of the picture's file"
	case model.Wires:
		return "Type yes, with colours by the unit's pin where they are others (yes 3=yellow); or no and what you see instead"
	}
	return "Type yes, or no and what you see instead"
}

// watchPorts shows what comes and goes on a bench until Ctrl-C.
func (a *app) watchPorts(ctx context.Context, c *client.Client, bench string) error {
	before, err := c.Ports(ctx, bench)
	if err != nil {
		return err
	}
	a.ports(before.Ports)
	fmt.Fprintln(a.err, "\nPull the adapter out and put it in again; Ctrl-C ends.")
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(700 * time.Millisecond):
		}
		now, err := c.Ports(ctx, bench)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		d := ports.Compare(before.Ports, now.Ports)
		for _, p := range d.Gone {
			fmt.Fprintf(a.out, "%s  gone     %s\n", time.Now().Format("15:04:05"), portWords(p))
		}
		for _, p := range d.Came {
			fmt.Fprintf(a.out, "%s  %s     %s\n", time.Now().Format("15:04:05"), a.paint(teal+bold, "came"), portWords(p))
		}
		for _, p := range d.Renamed {
			fmt.Fprintf(a.out, "%s  renamed  %s\n", time.Now().Format("15:04:05"), portWords(p))
		}
		before = now
	}
}

func portWords(p ports.Port) string {
	s := p.Path
	if p.Serial != "" {
		s += "  " + p.Name + ", adapter " + p.Serial
	}
	return s
}

func (a *app) ports(all []ports.Port) {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "No serial port is there.")
		return
	}
	var rows [][]string
	for _, p := range all {
		note := p.Aside
		if p.Held != "" {
			note = "held by " + p.Held
		}
		latency := ""
		if p.Latency > 1 {
			latency = fmt.Sprintf("%d ms; 1 ms is better", p.Latency)
		}
		rows = append(rows, []string{a.paint(bold, p.Path), dash(p.Serial), dash(p.Name), latency, note})
	}
	a.table([]string{"port", "adapter", "calls itself", "latency", "note"}, rows)
}

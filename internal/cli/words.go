package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// Colours of the terminal, by meaning (SGR sequences).
const (
	bold  = "\x1b[1m"
	faint = "\x1b[2m"
	teal  = "\x1b[38;2;95;203;191m"
	blue  = "\x1b[38;2;143;195;238m"
	brick = "\x1b[38;2;244;142;119m"
	amber = "\x1b[48;2;255;185;61m\x1b[38;2;18;38;58m"
	ink   = "\x1b[48;2;25;62;97m\x1b[38;2;255;252;245m"
	reset = "\x1b[0m"
)

func (a *app) paint(how, s string) string {
	if !a.color {
		return s
	}
	return how + s + reset
}

// wrap breaks a text at 78 columns, with later lines indented.
func wrap(s string, indent int) string {
	lines := strings.Split(text.WrapSoft(s, 78-indent), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n"+strings.Repeat(" ", indent))
}

// column breaks a text for a cell of a table.
func column(s string, width int) string {
	lines := strings.Split(text.WrapSoft(s, width), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n")
}

// table writes rows under headings.
func (a *app) table(head []string, rows [][]string) {
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	style := table.StyleLight
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "   "
	style.Format.Header = text.FormatDefault
	if a.color {
		style.Color.Header = text.Colors{text.Faint}
	}
	t.SetStyle(style)
	t.SuppressTrailingSpaces()
	h := table.Row{}
	for _, x := range head {
		h = append(h, x)
	}
	t.AppendHeader(h)
	for _, r := range rows {
		row := table.Row{}
		for _, x := range r {
			row = append(row, x)
		}
		t.AppendRow(row)
	}
	t.Render()
}

// pair writes a name and its value, aligned.
func (a *app) pair(name, value string) {
	fmt.Fprintf(a.out, "  %s %s\n", a.paint(faint, fmt.Sprintf("%-10s", name)), value)
}

// labelled writes a name and its value, aligned, where nothing is painted.
func labelled(w io.Writer, width int, name, value string) {
	fmt.Fprintf(w, "  %-*s %s\n", width, name, value)
}

// next writes what to do next, below something.
func (a *app) next(after, verb string) {
	fmt.Fprintf(a.out, "%s%-6s %s\n", after, "next", a.paint(bold, verb))
}

// when writes a time of day with its zone, and the date if it is not today's.
func when(t time.Time) string {
	t = t.Local()
	zone := zoneOf(t)
	if now := time.Now(); t.Year() == now.Year() && t.YearDay() == now.YearDay() {
		return t.Format("15:04:05 ") + zone
	}
	return t.Format("02 Jan 2006, 15:04 ") + zone
}

// clock is the time of day of an event.
func clock(us int64) string {
	t := time.UnixMicro(us).Local()
	return t.Format("15:04:05 ") + zoneOf(t)
}

func zoneOf(t time.Time) string {
	_, off := t.Zone()
	if off == 0 {
		return "UTC"
	}
	if off%3600 == 0 {
		return fmt.Sprintf("UTC%+d", off/3600)
	}
	return fmt.Sprintf("UTC%+d:%02d", off/3600, max(off, -off)%3600/60)
}

func ago(t *time.Time) string {
	if t == nil {
		return "never"
	}
	d := time.Since(*t)
	switch {
	case d < time.Minute:
		return told("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return told("%d min ago", int(d.Minutes()))
	}
	return when(*t)
}

// kib writes bytes in KiB with thin thousands.
func kib(n uint64) string { return told("%s KiB", grouped(n>>10)) }

func grouped(n uint64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}

// minutes writes a duration in microseconds as m:ss.
func minutes(us int64) string {
	if us < 0 {
		return "unknown"
	}
	s := (us + 999_999) / 1_000_000
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}

func short(digest string) string {
	if len(digest) < 64 {
		return digest
	}
	return digest[:4] + " " + digest[4:8] + " … " + digest[60:]
}

// stands says how a run stands: an interrupted one with what became of the unit.
func stands(r client.Run) string {
	became := ""
	if r.Outcome == string(run.Interrupted) {
		became = map[bool]string{true: "half done", false: "nothing changed"}[r.Progress.View.Touched]
	}
	return words.Listed(words.Outcomes.In(r.Outcome), became)
}

package cli

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"zealousferry/core/procedure"
	"zealousferry/core/run"
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
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	}
	return when(*t)
}

// kib writes bytes in KiB with thin thousands.
func kib(n uint64) string { return grouped(n>>10) + " KiB" }

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

// outcomeWords say how a run stands, in words for a person.
var outcomeWords = map[string]string{
	"done": "done", "nothing-to-do": "nothing to do", "refused": "refused", "failed": "failed", "interrupted": "interrupted",
	"waiting": "waiting", "abandoned": "given up", "not-proven": "not proven", "": "at work",
}

// stands says how a run stands: an interrupted one with what became of the unit.
func stands(r client.Run) string {
	w := outcomeWords[r.Outcome]
	if r.Outcome == string(run.Interrupted) {
		w += map[bool]string{true: ", half done", false: ", nothing changed"}[r.Progress.View.Touched]
	}
	return w
}

// eventOf tells an event in a few words, with the part that it is about where there
// are several.
func eventOf(e run.Event, parts []run.PartView) string {
	return ofPart(e, parts, eventWords(e))
}

// ofPart says of which part of a unit something is said, where it has several.
func ofPart(e run.Event, parts []run.PartView, words string) string {
	for _, p := range parts {
		if words != "" && p.Name == e.Section {
			return p.Title + ": " + words
		}
	}
	return words
}

// eventWords tell an event in a few words; empty for what says nothing to a person.
func eventWords(e run.Event) string {
	switch e.Kind {
	case run.KindOpened:
		return "opened"
	case run.KindTakenUp:
		return "taken up again"
	case run.KindIdentified:
		return "identified on the wire"
	case run.KindJudged:
		return "fit judged"
	case run.KindBackedUp:
		return "memory read"
	case run.KindWaiting:
		return "waits for the service"
	case run.KindCarded:
		return "card laid out"
	case run.KindHands:
		return "" // the board says it
	case run.KindAnswered:
		var a procedure.Answer
		if json.Unmarshal(e.Body, &a) != nil || a.Item == "" {
			return "the unit answered"
		}
		return strings.TrimSpace(fmt.Sprintf("%s: %s  %s", strings.ReplaceAll(a.Item, "-", " "), a.Value, a.Note))
	case run.KindProved:
		return "link proved"
	case run.KindWaived:
		return "gate passed by name"
	case run.KindSettings:
		return "settings read and kept"
	case run.KindSettled:
		return "settings put back and read again"
	case run.KindLocked:
		return "memory locked again"
	case run.KindStored:
		return "backup stored by the service"
	case run.KindCovered:
		return "an earlier run's backup stands for this run's own"
	case run.KindPlanned:
		return "planned"
	case run.KindSame:
		return "identified again on the wire: same unit"
	case run.KindSurveyed:
		return "memory read after the interruption"
	case run.KindVerified:
		return "verified"
	case run.KindStarted:
		var s run.Started
		if json.Unmarshal(e.Body, &s) == nil && s.Version == "" { // there is none that could be asked, or it was not heard
			return "loader left"
		}
		return "program started"
	case run.KindTurned, run.KindReady:
		return "" // the items before it say it
	case run.KindLaidAside:
		return "laid aside"
	case run.KindStopOrdered:
		return "stop ordered"
	case run.KindStopped:
		return "stopped; nothing is under way any more"
	case run.KindFault:
		return "fault"
	case run.KindClosed:
		return "closed"
	}
	return ""
}

package cli

import (
	"context"
	"fmt"
	"io"
	"regexp"
	"strings"
	"sync"
	"time"

	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
)

// view is a run on a terminal: the steps that are behind as lines, and below them
// a part that is drawn anew: three bars, the strip of sectors and the board.
// Without a terminal it is lines only.
type view struct {
	app  *app
	run  client.Run
	live bool
	stop chan struct{}
	gone chan struct{}

	mu        sync.Mutex
	last      client.Progress
	heard     time.Time
	away      bool
	took      map[int]time.Duration
	began     map[int]time.Time
	total     map[int]uint64
	drawn     int    // lines of the part that is drawn anew
	turnDrawn string // whose turn that part shows
	asked     string
}

var barNames = []string{"backup", "flash", "verify"}

func (a *app) newView(r client.Run) *view {
	v := &view{app: a, run: r, live: a.live, heard: time.Now(), took: map[int]time.Duration{}, began: map[int]time.Time{}, total: map[int]uint64{}, stop: make(chan struct{}), gone: make(chan struct{})}
	if !v.live {
		close(v.gone)
		return v
	}
	go func() {
		defer close(v.gone)
		turn := time.NewTicker(150 * time.Millisecond)
		defer turn.Stop()
		for {
			select {
			case <-turn.C:
				v.mu.Lock()
				typing := v.last.View.Hands != nil && v.drawn > 0 && v.turnDrawn == turnOf(v.last)
				v.mu.Unlock()
				if !typing { // what a person types is not drawn over
					v.draw("")
				}
			case <-v.stop:
				return
			}
		}
	}()
	return v
}

// draw writes above the live part, and the live part anew in its old place.
func (v *view) draw(above string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	text := above
	if v.drawn > 0 {
		text = fmt.Sprintf("\x1b[%dA\r\x1b[J", v.drawn) + above
	}
	part := v.part()
	v.drawn, v.turnDrawn = strings.Count(part, "\n"), turnOf(v.last)
	if v.app.plain {
		text, part = colours.ReplaceAllString(text, ""), colours.ReplaceAllString(part, "")
	}
	io.WriteString(v.app.err, text+part)
}

// turnOf names what a person is asked; empty where nobody is.
func turnOf(p client.Progress) string {
	if h := p.View.Hands; h != nil {
		return h.Item + " " + h.Says
	}
	return ""
}

// colours are what NO_COLOR leaves out.
var colours = regexp.MustCompile("\x1b\\[[0-9;]*m")

// part is the live part; called with the lock held.
func (v *view) part() string {
	names := barNames
	if v.run.Kind == run.BackUp {
		names = names[:1]
	}
	var b strings.Builder
	b.WriteString("\n")
	for i, name := range names {
		share, how := 0.0, faint
		switch p := v.last.View; {
		case v.took[i] > 0:
			share, how = 1, teal
		case row(p.Step) == i && p.Total > 0:
			share, how = float64(p.Done)/float64(p.Total), blue
		}
		const width = 28
		full := int(share*width + 0.5)
		b.WriteString(fmt.Sprintf("  %-7s ", name) + how + strings.Repeat("█", full) + reset + faint + strings.Repeat("░", width-full) + reset + v.amount(i) + "\n")
	}
	b.WriteString(v.below())
	return b.String()
}

// row is the bar of a step, -1 for none.
func row(s run.Phase) int {
	switch s {
	case run.PhaseKeep, run.PhaseStore:
		return 0
	case run.PhaseSame, run.PhaseSurvey, run.PhaseChange:
		return 1
	case run.PhaseVerify:
		return 2
	}
	return -1
}

// amount stands right of a bar; called with the lock held.
func (v *view) amount(i int) string {
	p := v.last.View
	switch {
	case v.took[i] > 0:
		return told(" %10s            took %s", kib(v.total[i]), minutes(v.took[i].Microseconds()))
	case row(p.Step) == i && p.Waits != "":
		return " " + told("waits for %s", p.Waits)
	case row(p.Step) == i && p.Total > 0:
		return told(" %s of %s  %5.1f KiB/s  %s left", grouped(p.Done>>10), kib(p.Total), p.Rate/1024, minutes(p.Left))
	}
	return " waits"
}

// below is the strip and the board.
func (v *view) below() string {
	var b strings.Builder
	p := v.last
	if p.States != "" {
		fmt.Fprintf(&b, "\n  %s\n", strip(p.States, 72, true))
		b.WriteString("  █ verified  ▓ written  ░ to erase  ─ right already  ═ kept\n")
	}
	switch p.View.Board {
	case run.BoardHandsOn:
		b.WriteString(v.app.turn(v.last.View))
	case run.BoardHandsOff:
		left := told("%s  until you may touch it", minutes(p.View.Touch))
		if quiet := time.Since(v.heard); quiet > silence { // nobody knows: a figure that stands still would be taken for one
			left = told("no word for %d s; how long it takes is not known", int(quiet.Seconds()))
		}
		b.WriteString("\n" + v.app.board(ink, told("  HANDS OFF  %s", left), "  "+p.View.Sentence.Text))
	case run.BoardReading, run.BoardWaiting:
		fmt.Fprintf(&b, "\n  %s. %s\n", p.View.Head.Text, p.View.Sentence.Text)
	}
	if w := p.View.Warn; w != nil {
		tell(&b, "\n  WARNING: %s\n", w.Text)
	}
	if v.away {
		tell(&b, "  No word from bench %s since %s; what stands above is from then. If it is alive, the run goes on there.\n", v.run.Bench, v.heard.Local().Format("15:04:05"))
	}
	return b.String()
}

func (a *app) board(how string, lines ...string) string {
	var b strings.Builder
	for _, l := range lines {
		line := l + strings.Repeat(" ", max(0, 74-len([]rune(l))))
		b.WriteString("  " + a.paint(how, line) + "\n")
	}
	return b.String()
}

// strip draws the states of sectors in at most width cells; a cell that stands
// for several shows the one that is farthest from done.
func strip(states string, width int, coloured bool) string {
	const order = "dweWavk" // from the one most worth seeing
	glyphs := map[byte]string{'v': "█", 'W': "▓", 'w': "▒", 'e': "░", 'a': "─", 'k': "═", 'd': "✗"}
	hues := map[byte]string{'v': teal, 'W': blue, 'w': blue, 'a': teal, 'd': brick}
	n := min(width, len(states))
	var b strings.Builder
	for i := range n {
		part := states[i*len(states)/n : (i+1)*len(states)/n]
		worst := part[0]
		for j := range len(part) {
			if strings.IndexByte(order, part[j]) < strings.IndexByte(order, worst) {
				worst = part[j]
			}
		}
		if coloured && hues[worst] != "" {
			b.WriteString(hues[worst] + glyphs[worst] + reset)
		} else {
			b.WriteString(glyphs[worst])
		}
	}
	return b.String()
}

// show takes a message of the run's stream.
func (v *view) show(p client.Progress) {
	v.mu.Lock()
	before := v.last.View.Step
	v.last, v.heard, v.away = p, time.Now(), false
	i, was := row(p.View.Step), row(before)
	if i >= 0 && v.began[i].IsZero() {
		v.began[i] = time.Now()
	}
	if i >= 0 && p.View.Total > 0 {
		v.total[i] = p.View.Total
	}
	if was >= 0 && was != i && v.took[was] == 0 && p.Fault == nil {
		v.took[was] = max(time.Since(v.began[was]), time.Millisecond)
	}
	v.mu.Unlock()
	for _, e := range p.Events {
		v.event(e)
	}
	if h := p.View.Hands; h != nil && !v.live && h.Item+h.Says != v.asked {
		v.asked = h.Item + h.Says
		for _, line := range asks(v.run.ID, p.View) {
			v.note("%s", line)
		}
	} else if h == nil {
		v.asked = ""
	}
}

// event writes a line for what a person wants to read later.
func (v *view) event(e client.Told) {
	switch e.Kind {
	case run.KindFault, run.KindOpened, run.KindClosed, run.KindDone: // bar, strip and end tell more of them
		return
	}
	if e.Text != "" {
		v.note("%s %s  %s", v.app.bright("✓"), time.UnixMicro(e.At).Local().Format("15:04:05"), e.Text)
	}
}

// asks is what a run wants of a person now, line by line; nothing where it waits for nobody.
func asks(id string, v run.View) (all []string) {
	if v.Hands == nil {
		return nil
	}
	all = append(all, told("HANDS ON: %s", v.Hands.Says))
	if i := v.Item; i != nil {
		if w := i.Why.In("en"); w != "" {
			all = append(all, "  "+w)
		}
		for _, s := range i.Signs {
			all = append(all, "  "+map[bool]string{true: "✗", false: "✓"}[s.Not]+" "+s.Says.In("en"))
		}
		for _, line := range answerHints(i, v.Back) {
			all = append(all, "  "+line)
		}
	}
	if !v.Hands.Calling {
		value := "VALUE"
		if v.Item != nil && v.Item.Do == model.Photo {
			value = "--photo FILE"
		}
		all = append(all, told("answer: ferry run answer %s %s", id, value))
	}
	return all
}

// note writes a line above the bars.
func (v *view) note(format string, args ...any) {
	line := "  " + told(format, args...) + "\n"
	if v.live {
		v.draw(line)
		return
	}
	io.WriteString(v.app.err, line)
}

// silence is how long nothing may be heard of a run that is at work.
const silence = 8 * time.Second

// heartbeat looks after a while of silence whether the bench is in touch.
func (v *view) heartbeat(ctx context.Context, c *client.Client) {
	v.mu.Lock()
	quiet := time.Since(v.heard) > silence
	v.mu.Unlock()
	if !quiet {
		return
	}
	r, err := c.Run(ctx, v.run.ID)
	v.mu.Lock()
	was := v.away
	v.away = err == nil && !r.Online
	now := v.away
	v.mu.Unlock()
	if now && !was {
		v.note("no word from bench %s since %s; if it is alive, the run goes on there", r.Bench, v.heard.Local().Format("15:04:05"))
	}
}

// close ends the drawing; what is drawn stays.
func (v *view) close() {
	if v.live {
		close(v.stop)
		<-v.gone
		v.draw("")
		fmt.Fprintln(v.app.err)
	}
}

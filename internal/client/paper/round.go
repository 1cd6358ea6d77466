package paper

import (
	"bytes"
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/go-pdf/fpdf"

	"zealousferry/core"
	"zealousferry/core/round"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// Round prints the report of a round: each module as found and as left, every fault code
// through the work, and what was done, by whom, and what was not.
func Round(r client.Round, made time.Time) ([]byte, error) {
	var out bytes.Buffer
	if err := reported(r, made).Output(&out); err != nil {
		return nil, core.Fail(core.BadFile, "the report cannot be printed: %w", err)
	}
	return out.Bytes(), nil
}

// reported lays a report out.
func reported(r client.Round, made time.Time) *fpdf.Fpdf {
	p := begin(told("Report %s", r.Serial), told("%s %s, round %s", r.ModelName, r.Serial, r.ID), made, 1)
	stands := "not ended yet"
	if r.Closed != nil {
		stands = told("ended %s", when(*r.Closed))
	}
	p.plate(r.ModelName, r.Serial, r.Site, "REPORT", told("job %d, begun %s", r.Job, when(r.At)), stands)
	rows := [][2]string{{"Why", r.Reason}, {"Done by", people(r)}, {"Came of it", cameOfIt(r)}}
	if r.Closing != "" {
		rows = append(rows, [2]string{"At the end", r.Closing})
	}
	for _, o := range r.Open {
		rows = append(rows, [2]string{"Still open", o.Text})
	}
	p.pairs(rows)
	p.modules(r)
	p.codes(r)
	p.turns(r)
	p.anchor(r.Tree)
	return p.Fpdf
}

// anchor prints the checkpoint of all histories: whoever has the paper can hold them against it.
func (p *page) anchor(t *client.Tree) {
	if t == nil {
		return
	}
	p.title("The histories when this was printed")
	p.pairs([][2]string{{"Checkpoint", told("%s UTC, %d entries", when(t.At), t.Size)}, {"Root", t.Root.String()}})
}

// cameOfIt is a round in a line.
func cameOfIt(r client.Round) string {
	well := 0
	for _, w := range r.Written {
		if w.Outcome == "done" {
			well++
		}
	}
	all := []string{told("modules written: %d", well)}
	if n := len(r.Written) - well; n > 0 {
		all = append(all, told("begun, and not well at their end: %d", n))
	}
	return strings.Join(append(all, told("fault codes as found: %d, now: %d", r.Notes[0].Codes, r.Notes[len(r.Notes)-1].Codes)), "; ")
}

func when(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }

// people are all who have done something in a round.
func people(r client.Round) string {
	all := []string{r.By}
	for _, t := range r.Turns {
		if t.By != "" && !strings.Contains(strings.Join(all, ", "), t.By) {
			all = append(all, t.By)
		}
	}
	return strings.Join(all, ", ")
}

func (p *page) modules(r client.Round) {
	p.title("The modules, as found and as left")
	t := table{p, []float64{32, 40, 18, 32, 24, 36}}
	t.head("module", "serial", "hardware", "runs", "fault codes", "stands")
	for i, m := range r.Modules {
		found := m
		if i < len(r.Found) {
			found = r.Found[i]
		}
		if m.Empty && found.Empty {
			t.row(m.Title, "", "", "", "", "empty")
			continue
		}
		t.row(m.Title, cmp.Or(m.Serial, found.Serial, "not told"), cmp.Or(m.Revision, found.Revision, "not told"), change(runs(found), runs(m)),
			change(fmt.Sprint(len(found.Codes)), fmt.Sprint(len(m.Codes))), standsNow(m))
	}
	p.Ln(2)
}

func runs(m client.Module) string {
	switch {
	case m.Silent:
		return "no answer"
	case m.Boot:
		return "no program"
	}
	return cmp.Or(m.Running, "not told")
}

func change(from, to string) string {
	if from == to {
		return to
	}
	return told("%s to %s", from, to)
}

func standsNow(m client.Module) string {
	switch {
	case m.Silent:
		return "does not answer"
	case m.Boot:
		return "no program: not to be driven"
	case m.Newer != "":
		return told("%s would fit", m.Newer)
	}
	return cmp.Or(m.Verdict, "not known which unit it is")
}

func (p *page) codes(r client.Round) {
	if len(r.Lines) == 0 {
		p.title("Fault codes: no module has told of one")
		return
	}
	p.title("Fault codes")
	names := []string{"code", "module", "meaning"}
	const code, module, note, stands = 20, 20, 16, 28
	wide := []float64{code, module, width - code - module - note*float64(len(r.Notes)) - stands}
	for _, n := range r.Notes {
		names, wide = append(names, n.Title), append(wide, note)
	}
	t := table{p, append(wide, stands)}
	t.head(append(names, "stands")...)
	for _, l := range r.Lines {
		says := cmp.Or(l.Says, "no text in the sheet")
		if l.Recalled != nil {
			says += told(" Recorded %s.", l.Recalled.Text)
		}
		if l.Ours != nil {
			says += told(" Of the work itself: %s.", l.Ours.Text)
		}
		cells := []string{l.Code, l.Title, says}
		for _, n := range r.Notes {
			cells = append(cells, seenThen(l, n.As))
		}
		t.row(append(cells, words.CodeStands.In(l.Stands))...)
	}
	p.Ln(2)
}

func seenThen(l round.Line, as string) string {
	for _, s := range l.Seen {
		switch {
		case s.As != as:
		case !s.Known:
			return "not known"
		case s.There:
			return "there"
		}
	}
	return "no"
}

func (p *page) turns(r client.Round) {
	p.title("What was done (times are UTC)")
	t := table{p, []float64{8, 82, 44, 48}}
	for i, x := range r.Turns {
		came := words.Turns.In(x.State)
		if x.Read != nil {
			came += ": " + x.Read.Text
		}
		if x.Reason != "" {
			came += ": " + x.Reason
		}
		by := ""
		if x.At != nil && x.State != round.Open {
			by = when(*x.At)[len("2006-01-02 "):] + " " + x.By
			if day := when(*x.At)[:len("2006-01-02")]; day != when(r.At)[:len("2006-01-02")] {
				by = day + " " + by
			}
		}
		t.row(fmt.Sprint(i+1), x.Says, came, by)
		if x.Do != "modules" {
			continue
		}
		for _, w := range r.Written {
			title := "gateway"
			for _, m := range r.Modules {
				if m.Slot == w.Slot {
					title = m.Title
				}
			}
			t.row("", title+": "+told("%s to %s", cmp.Or(w.From, "not told"), cmp.Or(w.To, "not yet")), words.Outcomes.In(w.Outcome), told("run %s", w.Run[:min(8, len(w.Run))]))
		}
	}
}

// table is rows of cells whose text is broken into lines.
type table struct {
	*page
	wide []float64
}

func (t table) head(cells ...string) { t.put("B", cells) }
func (t table) row(cells ...string)  { t.put("", cells) }

func (t table) put(style string, cells []string) {
	const size, high = 8.5, 4.0
	t.font(style, size)
	lines, most := make([][]string, len(cells)), 1
	for i, c := range cells {
		for _, l := range t.SplitLines([]byte(t.text(c)), t.wide[i]-1) { // SplitText takes bytes above 127 for broken UTF-8
			lines[i] = append(lines[i], string(l))
		}
		most = max(most, len(lines[i]))
	}
	if t.GetY()+float64(most)*high > 297-margin { // a row stays together
		t.AddPage()
		t.font(style, size)
	}
	y := t.GetY()
	t.SetLineWidth(0.1)
	t.Line(margin, y, margin+width, y)
	x := margin
	for i, cell := range lines {
		for n, l := range cell {
			t.SetXY(x, y+0.4+float64(n)*high)
			t.CellFormat(t.wide[i], high, l, "", 0, "L", false, 0, "")
		}
		x += t.wide[i]
	}
	t.SetXY(margin, y+float64(most)*high+0.8)
}

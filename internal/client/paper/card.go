// Package paper prints, as PDF, what a person takes to the bench, the job card, of one A4
// page where it fits, and what stays with a vehicle: the report of a round.
package paper

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-pdf/fpdf"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// Sizes in millimetres.
const (
	margin = 14.0
	width  = 210 - 2*margin
	line   = 4.6
	box    = 3.2 // of a tick
)

// page is a PDF that is being written.
type page struct {
	*fpdf.Fpdf
	text func(string) string // the built-in fonts know Windows-1252
	k    float64             // of all sizes
}

// tight is how much smaller a card may be printed, if it fits on one page then.
const tight = 0.86

// Card prints a job card; a little smaller, where that brings it onto one page.
func Card(c client.Card) ([]byte, error) {
	f := laid(c, 1)
	if f.PageCount() > 1 {
		if small := laid(c, tight); small.PageCount() == 1 {
			f = small
		}
	}
	var out bytes.Buffer
	if err := f.Output(&out); err != nil {
		return nil, core.Fail(core.BadFile, "the card cannot be printed: %w", err)
	}
	return out.Bytes(), nil
}

// begin is an empty document with its footer.
func begin(title, foot string, made time.Time, k float64) *page {
	f := fpdf.New("P", "mm", "A4", "")
	f.SetMargins(margin, margin, margin)
	f.SetAutoPageBreak(true, margin)
	f.SetTitle(title, true)
	f.SetCreationDate(made)
	f.SetModificationDate(made)
	f.SetCatalogSort(true)
	p := &page{f, f.UnicodeTranslatorFromDescriptor(""), k}
	f.SetFooterFunc(func() {
		f.SetY(-10)
		p.font("", 8)
		f.CellFormat(width/2, 4, p.text(told("%s, made %s UTC", foot, made.Format("2006-01-02 15:04"))), "", 0, "L", false, 0, "")
		f.CellFormat(width/2, 4, told("page %d", f.PageNo()), "", 0, "R", false, 0, "")
	})
	f.AddPage()
	return p
}

// laid lays a card out.
func laid(c client.Card, k float64) *fpdf.Fpdf {
	p := begin(told("Job card %s", c.Serial), c.ModelName+" "+c.Serial, c.Made, k)
	p.head(c)
	p.facts(c)
	if c.Wiring != nil {
		p.wiring(c.Wiring, c.Supply)
	}
	for _, s := range stages {
		p.stage(s.title, s.write, c, s.at)
	}
	return p.Fpdf
}

var stages = []struct {
	at, title string
	write     bool // room to write beside the item
}{
	{model.AtHazard, "Hazards: confirm each", false},
	{model.AtTool, "Take along", false},
	{model.AtPrepare, "Prepare", false},
	{model.AtFound, "As found", true},
	{model.AtConnect, "Connect", false},
	{model.AtPower, "Power and hands, in this order", true},
	{model.AtLeft, "After the write", true},
}

func (p *page) font(style string, size float64) { p.SetFont("Helvetica", style, size*p.k) }

// line is the height of a line of text.
func (p *page) line() float64 { return line * p.k }

// head says which unit it is, and how the procedure stands.
func (p *page) head(c client.Card) {
	name := "no procedure for this unit"
	if c.Procedure != "" {
		name = told("procedure %s, edition %d", c.Procedure, c.Edition)
	}
	p.plate(words.Listed(c.ModelName, revision(c.Revision)), c.Serial, c.Site, "JOB CARD", name, standing(c))
}

// plate is the rating plate: a double frame, the unit on the left, what the paper is on the
// right.
func (p *page) plate(model, serial, site, what, name, stands string) {
	const high = 22.0
	y := p.GetY()
	p.SetLineWidth(0.5)
	p.Rect(margin, y, width, high, "D")
	p.SetLineWidth(0.2)
	p.Rect(margin+1, y+1, width-2, high-2, "D")
	p.SetXY(margin+4, y+2.5)
	p.font("B", 15)
	p.CellFormat(110, 7, p.text(model), "", 2, "L", false, 0, "")
	p.SetFont("Courier", "B", 12)
	p.CellFormat(110, 5, p.text(serial), "", 2, "L", false, 0, "")
	p.font("", 9)
	p.CellFormat(110, 4, p.text(site), "", 0, "L", false, 0, "")
	p.SetXY(margin+width-72, y+2.5)
	p.font("B", 11)
	p.CellFormat(68, 6, what, "", 2, "R", false, 0, "")
	p.font("", 9)
	p.CellFormat(68, 4.5, p.text(name), "", 2, "R", false, 0, "")
	p.font("B", 9)
	p.CellFormat(68, 4.5, p.text(stands), "", 2, "R", false, 0, "")
	p.SetXY(margin, y+high+2)
}

func revision(r string) string {
	if r == "" {
		return ""
	}
	return told("revision %s", r)
}

func standing(c client.Card) string {
	if c.Standing == "failed" || c.Standing == "barred" {
		return strings.ToUpper(words.Procedures.In(c.Standing))
	}
	return words.Procedures.In(c.Standing)
}

// facts are the answers to what is asked first, in two columns.
func (p *page) facts(c client.Card) {
	var rows [][2]string
	add := func(name, value string) {
		if value != "" {
			rows = append(rows, [2]string{name, value})
		}
	}
	add("Why", c.Reason)
	if c.Release != "" {
		add("Firmware", told("%s now, %s is to go in", cmp.Or(c.Running, "not known"), c.Release))
	}
	add("Done when", c.Test)
	if c.Minutes > 0 {
		add("Takes", told("%d minutes, %s", c.Minutes, words.Places.In(c.Place)))
	}
	add("Meanwhile", c.Meanwhile)
	add("Way back", words.WaysBack.In(c.WayBack))
	if c.NoBackup != nil {
		add("No backup", c.NoBackup.Text)
	}
	for _, w := range c.WaysOn {
		add("Way on", w.Text)
	}
	var lost []string
	for _, f := range c.Fates {
		if f.Fate == "lost" {
			lost = append(lost, f.Name)
		}
	}
	if len(lost) > 0 {
		add("Lost", told("%s: erased, and not put back. Note what stands in them first.", strings.Join(lost, ", ")))
	}
	if c.Unsuited != "" {
		add("Beware", c.Unsuited)
	}
	for _, x := range c.Asks {
		add("Asked", strings.TrimSuffix(x.Title+": "+x.Why, ": "))
	}
	add("Proof", c.Verify)
	if s := c.Supply; s != nil {
		from := words.Supplies.In(s.From)
		if s.Volts > 0 {
			from = words.Listed(from, fmt.Sprintf("%g V", s.Volts))
		}
		add("Power", strings.TrimSpace(from+". "+s.Says.In("en")))
	}
	for _, f := range c.Flaws {
		add("Beware", f)
	}
	for _, b := range c.Bulletins {
		add(told("Bulletin %d", b.Number), b.Title+": "+b.Says)
	}
	p.pairs(rows)
}

// pairs are names and what is said of each.
func (p *page) pairs(rows [][2]string) {
	for _, r := range rows {
		p.font("B", 9)
		y := p.GetY()
		p.CellFormat(24, p.line(), p.text(r[0]), "", 0, "L", false, 0, "")
		p.font("", 9)
		p.SetXY(margin+24, y)
		p.MultiCell(width-24, p.line(), p.text(r[1]), "", "L", false)
	}
	p.Ln(1)
}

func (p *page) title(s string) {
	if p.GetY() > 297-margin-20 { // never a title alone
		p.AddPage()
	}
	p.font("B", 10)
	p.SetLineWidth(0.2)
	y := p.GetY() + 1
	p.Line(margin, y, margin+width, y)
	p.SetY(y + 0.8)
	p.CellFormat(width, 5.2*p.k, p.text(s), "", 1, "L", false, 0, "")
}

// stage lists a stage's items, each with a box to tick.
func (p *page) stage(title string, write bool, c client.Card, at string) {
	var items []model.Item
	for _, i := range c.Items {
		if i.At == at && !i.ByTool() {
			items = append(items, i)
		}
	}
	var needs []string
	if at == model.AtTool {
		for _, n := range c.Needs {
			needs = append(needs, n.Name+": "+n.Text)
		}
	}
	if len(items)+len(needs) == 0 {
		return
	}
	p.title(title)
	for _, n := range needs {
		p.tick(n, "", "", false)
	}
	for _, i := range items {
		says := i.Says.In("en")
		if i.Do == model.Measure {
			says = told("%s (from %g to %g %s)", says, i.Least, i.Most, i.Unit)
		}
		if i.Do == model.Choose {
			var all []string
			for _, x := range i.Choices {
				all = append(all, x.Says.In("en"))
			}
			says += " (" + strings.Join(all, " / ") + ")"
		}
		var signs []string
		for _, s := range i.Signs {
			word := "right: "
			if s.Not {
				word = "not right: "
			}
			signs = append(signs, word+s.Says.In("en"))
		}
		p.tick(says, i.Why.In("en"), strings.Join(signs, "  "), write && i.Do != model.Confirm && i.Do != model.Apply)
	}
}

func (p *page) tick(says, why, signs string, write bool) {
	if p.GetY() > 297-margin-8 {
		p.AddPage()
	}
	y := p.GetY()
	p.SetLineWidth(0.3)
	p.Rect(margin+0.5, y+0.7, box*p.k, box*p.k, "D")
	room := width - 7
	if write {
		room -= 38
		p.SetLineWidth(0.2)
		p.Line(margin+width-35, y+p.line()-0.6, margin+width, y+p.line()-0.6)
	}
	p.SetXY(margin+6, y)
	p.font("", 9)
	p.MultiCell(room, p.line(), p.text(says), "", "L", false)
	for _, more := range []string{why, signs} {
		if more != "" {
			p.SetX(margin + 6)
			p.font("I", 8)
			p.MultiCell(room, 3.8*p.k, p.text(more), "", "L", false)
		}
	}
}

// wiring draws both connectors, counted from pin one, and the wires between them;
// data lines are seen to cross.
func (p *page) wiring(w *model.Wiring, supply *model.Supply) {
	row, pin := 6.4*p.k, 4.0*p.k
	rows := max(len(w.Unit.Pins), len(w.Tool.Pins))
	high := float64(rows)*row + 12
	if p.GetY()+high > 297-margin {
		p.AddPage()
	}
	p.title(words.Listed(told("Wiring with %s", w.Adapter), selector(w)))
	top := p.GetY() + 5
	leftX, rightX := margin+58.0, margin+width-58
	p.font("B", 8.5)
	p.SetXY(margin, top-5)
	p.CellFormat(58, 4, p.text(told("This is written: %s", w.Unit.Name)), "", 0, "L", false, 0, "")
	p.SetXY(rightX-4, top-5)
	p.CellFormat(62, 4, p.text(told("This writes: %s", w.Tool.Name)), "", 0, "L", false, 0, "")
	y := func(n int) float64 { return top + float64(n)*row + row/2 }
	for n, x := range w.Unit.Pins {
		p.pin(leftX-pin, y(n), pin, n, x, true)
	}
	for n, x := range w.Tool.Pins {
		p.pin(rightX, y(n), pin, n, x, false)
	}
	p.SetLineWidth(0.5)
	for n, x := range w.Wires {
		from, to := y(x.Unit-1), y(x.Tool-1)
		bend := leftX + 6 + float64(n)*5
		p.Line(leftX, from, bend, from)
		p.Line(bend, from, bend+10, to)
		p.Line(bend+10, to, rightX, to)
		label := x.Colour
		if label == "" {
			label = "________"
		}
		p.font("", 7)
		p.SetFillColor(255, 255, 255)
		wide := p.GetStringWidth(p.text(label)) + 2
		p.SetXY(rightX-3-wide, to-1.6)
		p.CellFormat(wide, 3.2, p.text(label), "", 0, "C", true, 0, "")
	}
	p.SetY(top + float64(rows)*row + 1)
	p.font("", 8)
	p.MultiCell(width, 3.8*p.k, p.text(strings.Join(below(w), " ")), "", "L", false)
	p.Ln(0.5)
}

// below are the sentences below a drawing of wires; that data lines cross is one of them where
// there are two such lines.
func below(w *model.Wiring) []string {
	all := []string{told("Pin 1 of the unit: %s. Pin 1 of the tool: %s.", w.Unit.Edge.In("en"), w.Tool.Edge.In("en"))}
	if slices.ContainsFunc(w.Wires, func(x model.Wire) bool { return w.Tool.Pins[x.Tool-1].Job == "transmit" }) {
		all = append(all, "Transmit goes to receive.")
	}
	return append(all, "Write the colours of this lead over the ones printed, if they differ.")
}

func selector(w *model.Wiring) string {
	if w.Selector == "" {
		return ""
	}
	return told("switch at %s", w.Selector)
}

// pin draws one contact: the first square, an empty one dashed.
func (p *page) pin(x, y, size float64, n int, of model.Pin, left bool) {
	p.SetLineWidth(0.35)
	if of.Job == "empty" {
		p.SetDashPattern([]float64{0.8, 0.8}, 0)
	}
	if n == 0 {
		p.Rect(x, y-size/2, size, size, "D")
	} else {
		p.Circle(x+size/2, y, size/2, "D")
	}
	p.SetDashPattern(nil, 0)
	text, why := fmt.Sprintf("%d  %s", n+1, of.Name), ""
	switch of.Job {
	case "empty":
		text = words.Listed(text, "leave empty")
		why = of.Says.In("en")
	default:
		if !strings.EqualFold(of.Name, of.Job) {
			text = words.Listed(text, of.Job)
		}
	}
	from, room, side := x+size+1.5, margin+width-x-size-1.5, "L"
	if left {
		from, room, side = margin, x-margin-1.5, "R"
	}
	write := func(s string, size, y float64) {
		p.font("", size)
		for size > 5 && p.GetStringWidth(p.text(s)) > room-2 { // rather small than over the edge
			size -= 0.5
			p.font("", size)
		}
		p.SetXY(from, y-2)
		p.CellFormat(room, 4, p.text(s), "", 0, side, false, 0, "")
	}
	if why == "" {
		write(text, 8, y)
		return
	}
	write(text, 8, y-1.3*p.k)
	write(why, 6.5, y+1.5*p.k)
}

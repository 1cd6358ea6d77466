package paper

import (
	"bytes"
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/boombuler/barcode"
	"github.com/boombuler/barcode/code128"
	"github.com/boombuler/barcode/qr"
	"github.com/go-pdf/fpdf"

	"zealousferry/core"
	"zealousferry/core/tray"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// Tray prints the sheet of a tray: every unit of it, how it stands and why, and who is
// answered for by whom.
func Tray(t client.Tray, made time.Time) ([]byte, error) {
	p := begin(told("Tray %s %s", t.ModelName, t.Version), told("%s %s, tray %s", t.ModelName, t.Version, t.ID), made, 1)
	stands := "not ended yet"
	if t.Closed != nil {
		stands = told("ended %s", when(*t.Closed))
	}
	p.plate(t.ModelName, told("to %s", t.Version), told("bench %s", t.Bench), "TRAY", told("job %d, begun %s by %s", t.Job, when(t.At), t.By), stands)
	rows := [][2]string{{"Why", t.Reason}, {"Units", tray.Counted(t.Count)}}
	if t.Opener > 0 {
		rows = append(rows, [2]string{"First, alone", t.Places[t.Opener-1].Serial})
	}
	if t.Closing != "" {
		rows = append(rows, [2]string{"At the end", t.Closing})
	}
	p.pairs(rows)
	p.title("The units")
	x := table{p, []float64{8, 36, 30, 26, 18, 64}}
	x.head("", "serial", "stands", "link", "ran", "")
	for _, u := range t.Places {
		why := u.Says.Text
		if u.Run != "" {
			why += told(" Run %s.", u.Run[:min(8, len(u.Run))])
		}
		x.row(fmt.Sprint(u.N), u.Serial, words.Seats.In(u.State), cmp.Or(u.Link, "–"), cmp.Or(u.From, "–"), why)
	}
	if len(t.Open) > 0 {
		p.title("Not done: who answers for them")
		y := table{p, []float64{44, 70, 68}}
		y.head("serial", "who", "until")
		for _, n := range t.Open {
			y.row(t.Places[n-1].Serial, "", "")
		}
	}
	p.anchor(t.Tree)
	return put(p.Fpdf, "the sheet")
}

func put(f *fpdf.Fpdf, what string) ([]byte, error) {
	var out bytes.Buffer
	if err := f.Output(&out); err != nil {
		return nil, core.Fail(core.BadFile, "%s cannot be printed: %w", what, err)
	}
	return out.Bytes(), nil
}

// What labels are printed on.
const (
	OnRoll  = "roll"  // of a label printer, 62 by 29 mm, one after the other
	OnSheet = "sheet" // A4 of 24 labels, 70 by 37 mm
)

// Labelled are the units of a tray that get a label: those that run its release.
func Labelled(t client.Tray) (all []client.TrayPlace) {
	for _, u := range t.Places {
		if u.State == tray.IsDone || u.State == tray.Current {
			all = append(all, u)
		}
	}
	return all
}

// Labels prints a label for each unit of a tray that runs its release: the serial as Code 128
// (ISO/IEC 15417), and serial, model, version and day as a QR code (ISO/IEC 18004).
func Labels(t client.Tray, on string, made time.Time) ([]byte, error) {
	units := Labelled(t)
	if len(units) == 0 {
		return nil, core.Fail(core.NotFound, "no unit of this tray runs %s yet: there is nothing to label", t.Version)
	}
	f := fpdf.New("P", "mm", "A4", "")
	if on == OnRoll {
		f = fpdf.NewCustom(&fpdf.InitType{OrientationStr: "P", UnitStr: "mm", Size: fpdf.SizeType{Wd: 62, Ht: 29}})
	}
	f.SetMargins(0, 0, 0)
	f.SetAutoPageBreak(false, 0)
	f.SetTitle(told("Labels %s %s", t.ModelName, t.Version), true)
	f.SetCreationDate(made)
	f.SetModificationDate(made)
	f.SetCatalogSort(true)
	p := &page{f, f.UnicodeTranslatorFromDescriptor(""), 1}
	for i, u := range units {
		x, y := 2.0, 2.0
		if on == OnRoll || i%24 == 0 {
			f.AddPage()
		}
		if on == OnSheet {
			x, y = float64(i%24%3)*70+6, float64(i%24/3)*37+4.5
		}
		if err := p.label(t, u, x, y); err != nil {
			return nil, err
		}
	}
	return put(f, "the labels")
}

// label is one label, 58 by 25 mm, at a place of the page.
func (p *page) label(t client.Tray, u client.TrayPlace, x, y float64) error {
	day := t.At
	if u.Changed != nil {
		day = *u.Changed
	}
	p.SetXY(x, y)
	p.SetFont("Courier", "B", 11)
	p.CellFormat(40, 5, p.text(u.Serial), "", 2, "L", false, 0, "")
	p.font("", 8.5)
	p.CellFormat(40, 4, p.text(t.ModelName), "", 2, "L", false, 0, "")
	p.font("B", 8.5)
	p.CellFormat(40, 4, p.text(t.Version+", "+day.UTC().Format(time.DateOnly)), "", 2, "L", false, 0, "")
	p.font("", 7)
	p.CellFormat(40, 3.5, p.text(words.Seats.In(u.State)), "", 0, "L", false, 0, "")
	line, err := code128.Encode(u.Serial)
	if err != nil {
		return core.Fail(core.BadFile, "%q cannot be written as Code 128: %w", u.Serial, err)
	}
	square, err := qr.Encode(strings.Join([]string{u.Serial, t.Model, t.Version, day.UTC().Format(time.DateOnly)}, "\n"), qr.M, qr.Auto)
	if err != nil {
		return core.Fail(core.BadFile, "%q cannot be written as a QR code: %w", u.Serial, err)
	}
	p.cells(square, x+41, y, 17, 17)
	p.cells(line, x, y+18, 58, 7)
	return nil
}

// cells draws the dark cells of a code, those beside one another as one.
func (p *page) cells(code barcode.Barcode, x, y, w, h float64) {
	p.SetFillColor(0, 0, 0)
	b := code.Bounds()
	dx, dy := w/float64(b.Dx()), h/float64(b.Dy())
	dark := func(i, k int) bool {
		r, _, _, _ := code.At(b.Min.X+i, b.Min.Y+k).RGBA()
		return r < 0x8000
	}
	for k := range b.Dy() {
		for i := 0; i < b.Dx(); i++ {
			from := i
			for i < b.Dx() && dark(i, k) {
				i++
			}
			if i > from {
				p.Rect(x+float64(from)*dx, y+float64(k)*dy, float64(i-from)*dx, dy, "F")
			}
		}
	}
}

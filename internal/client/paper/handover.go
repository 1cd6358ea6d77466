package paper

import (
	"bytes"
	"fmt"
	"time"

	"github.com/go-pdf/fpdf"

	"zealousferry/core"
	"zealousferry/internal/client"
)

// HandOver prints the note for whoever has a unit next.
func HandOver(h client.HandOver, made time.Time) ([]byte, error) {
	var out bytes.Buffer
	if err := handedOver(h, made).Output(&out); err != nil {
		return nil, core.Fail(core.BadFile, "the note cannot be printed: %w", err)
	}
	return out.Bytes(), nil
}

func handedOver(h client.HandOver, made time.Time) *fpdf.Fpdf {
	p := begin(told("Hand-over %s", h.Unit), told("%s %s, hand-over", h.ModelName, h.Unit), made, 1)
	job := ""
	if h.Job != 0 {
		job = told("job %d", h.Job)
	}
	p.plate(h.ModelName, h.Unit, h.Site, "HAND-OVER", job, told("runs %s", orDash(h.Running)))
	if h.Why != "" {
		p.pairs([][2]string{{"Why", h.Why}})
	}
	list := func(title, mark string, lines []string) {
		if len(lines) == 0 {
			lines, mark = []string{"nothing"}, ""
		}
		p.title(title)
		var rows [][2]string
		for _, l := range lines {
			rows = append(rows, [2]string{mark, l})
		}
		p.pairs(rows)
	}
	texts := func(all []core.Said) (out []string) {
		for _, s := range all {
			out = append(out, s.Text)
		}
		return out
	}
	var next, offers []string
	for _, l := range h.Next {
		next = append(next, l.Text)
	}
	for _, o := range h.Offers {
		offers = append(offers, fmt.Sprintf("%s (%s, %s)", o.Says, o.By, when(o.At)))
	}
	list("Done", "done", texts(h.Done))
	list("Not done", "open", texts(h.NotDone))
	list("What comes next", "next", next)
	list("Seen, and not ordered", "seen", offers)
	p.anchor(h.Tree)
	return p.Fpdf
}

func orDash(s string) string {
	if s == "" {
		return "not known"
	}
	return s
}

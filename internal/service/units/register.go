package units

import (
	"context"
	"strings"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

type newUnitIn struct{ Body client.NewUnit }

// enterUnit enters a unit that nobody has seen on a wire yet.
func (v *Units) enterUnit(ctx context.Context, in *newUnitIn) (client.Entered, error) {
	sheet, err := v.store.Sheet(ctx, in.Body.Model)
	if err != nil {
		return client.Entered{}, err
	}
	u, fresh, err := v.enter(ctx, sheet, in.Body)
	if err != nil {
		return client.Entered{}, err
	}
	a, err := v.Surroundings(ctx, u)
	return client.Entered{Unit: a.Unit(u), Fresh: fresh}, err
}

// enter checks the serial and enters the unit; one that is there under another spelling of
// its serial is that one.
func (v *Units) enter(ctx context.Context, sheet *model.Sheet, n client.NewUnit) (store.Unit, bool, error) {
	serial, err := v.store.SerialLike(ctx, sheet.Model, n.Serial)
	if err == nil && serial == "" {
		serial, err = sheet.TypedSerial(n.Serial)
	}
	if err != nil {
		return store.Unit{}, false, err
	}
	return v.store.EnterUnit(ctx, v.key, store.Unit{Model: sheet.Model, Serial: serial, Site: strings.TrimSpace(n.Site), Customer: strings.TrimSpace(n.Customer), Note: strings.TrimSpace(n.Note)}, frame.Who(ctx).Person.ID, v.clock.Now())
}

// columns of a list of units, and how much of each is kept.
var listColumns = map[string]int{"model": 63, "serial": 64, "site": 120, "customer": 120, "note": 400}

// mostLines bounds a list.
const mostLines = 5000

// enterUnits enters the units of a CSV file (RFC 4180) whose first line names the columns.
// A line that cannot be entered is reported, and the others are entered.
func (v *Units) enterUnits(ctx context.Context, in *frame.RawIn) (client.Report, error) {
	out := client.Report{Lines: []client.ReportLine{}}
	l, err := frame.ReadList(in.RawBody, []string{"model", "serial", "site", "customer", "note"}, "model", "serial")
	if err != nil {
		return out, err
	}
	for {
		field, fields, err := l.Next()
		if field == nil || err != nil {
			return out, err
		}
		if len(out.Lines) == mostLines {
			return out, core.BadAt(core.Line(int64(l.Line)), "a list has at most %d units; those before this line are entered", mostLines)
		}
		one, err := v.enterLine(ctx, len(l.Head), field, fields)
		if err != nil {
			return out, err
		}
		one.Line = l.Line
		switch one.State {
		case "entered":
			out.Entered++
		case "known":
			out.Known++
		default:
			out.Refused++
		}
		out.Lines = append(out.Lines, one)
	}
}

// enterLine enters one line of a list; what is wrong with it is part of its report.
func (v *Units) enterLine(ctx context.Context, columns int, field map[string]string, fields int) (client.ReportLine, error) {
	one := client.ReportLine{Model: field["model"], Serial: field["serial"], State: "refused"}
	for name, most := range listColumns {
		if len(field[name]) > most {
			one.Said = core.Say("%s has at most %d bytes, this has %d", name, most, len(field[name]))
			return one, nil
		}
	}
	if fields > columns {
		one.Said = core.Say("it has %d fields, the first line names %d", fields, columns)
		return one, nil
	}
	sheet, err := v.store.Sheet(ctx, one.Model)
	var u store.Unit
	fresh := false
	if err == nil {
		u, fresh, err = v.enter(ctx, sheet, client.NewUnit{Model: one.Model, Serial: one.Serial, Site: field["site"], Customer: field["customer"], Note: field["note"]})
	}
	switch k := core.KindOf(err); {
	case k == core.NotFound || k == core.BadFile || k == core.NotUnderstood:
		e := core.AsError(err, k)
		one.Said = core.Said{ID: e.ID, Params: e.Params, Text: e.Message}
		return one, nil
	case err != nil:
		return one, err
	}
	one.Unit, one.Serial, one.State, one.Said = u.ID, u.Serial, "known", core.Say("in the register already")
	if fresh {
		one.State, one.Said = "entered", core.Say("entered")
	}
	return one, nil
}

type correctIn struct {
	frame.UnitPath
	Body client.Correction
}

// correctUnit changes what the register says of a unit.
func (v *Units) correctUnit(ctx context.Context, in *correctIn) (client.Unit, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.Unit{}, err
	}
	var what []string
	change := func(name string, field *string, to *string) {
		if to == nil || strings.TrimSpace(*to) == *field {
			return
		}
		was, is := *field, strings.TrimSpace(*to)
		*field = is
		what = append(what, name+": "+nothing(was)+" → "+nothing(is))
	}
	change("site", &u.Site, in.Body.Site)
	change("customer", &u.Customer, in.Body.Customer)
	change("note", &u.Note, in.Body.Note)
	if len(what) == 0 {
		return client.Unit{}, core.Fail(core.NotUnderstood, "nothing of unit %s would change", u.Serial).Go(words.Fit(u.Serial).To("See what the register says"))
	}
	text := strings.Join(what, "; ")
	if r := strings.TrimSpace(in.Body.Reason); r != "" {
		text += ". " + r
	}
	if err := v.store.CorrectUnit(ctx, v.key, u, text, frame.Who(ctx).Person.ID, v.clock.Now()); err != nil {
		return client.Unit{}, err
	}
	a, err := v.Surroundings(ctx, u)
	return a.Unit(u), err
}

func nothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

package units

import (
	"context"
	"encoding/json"
	"regexp"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/visit"
	"zealousferry/internal/client"
	"zealousferry/internal/service/catalogue"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

type bulletinsIn struct {
	frame.PageIn
	Model string `query:"model" maxLength:"63"`
	Ended bool   `query:"ended" doc:"Also those that have ended."`
}

func (v *Units) listBulletins(ctx context.Context, in *bulletinsIn) (client.Bulletins, error) {
	out := client.Bulletins{Bulletins: []client.Bulletin{}}
	rows, p, err := v.store.BulletinsPage(ctx, in.Model, in.Ended, in.After, in.Size)
	out.Paged = frame.Paged(p)
	if err != nil {
		return out, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	for _, r := range rows {
		b, _, err := oneBulletin(r, names)
		if err != nil {
			return out, err
		}
		out.Bulletins = append(out.Bulletins, b)
	}
	return out, nil
}

func oneBulletin(r store.Bulletin, names map[string]string) (client.Bulletin, fit.Bulletin, error) {
	b, err := r.Read()
	out := client.Bulletin{Number: r.Number, Model: r.Model, Title: b.Title, Says: b.Says, Codes: append([]string{}, b.Codes...), Words: append([]string{}, b.Words...),
		By: names[r.By], At: r.At, Ended: frame.TimeOf(r.Ended), EndedWhy: r.Why}
	var when []string
	for _, x := range b.When {
		when = append(when, x.Fact+" "+x.Plain())
	}
	out.For = strings.Join(when, ", ")
	return out, b, err
}

type newBulletinIn struct{ Body client.NewBulletin }

func (v *Units) addBulletin(ctx context.Context, in *newBulletinIn) (client.Bulletin, error) {
	n := in.Body
	sheet, err := v.store.Sheet(ctx, n.Model)
	if err != nil {
		return client.Bulletin{}, err
	}
	for _, r := range n.When {
		if err := sheet.CheckRule("the bulletin", r); err != nil {
			e := *core.AsError(err, core.NotUnderstood)
			e.Kind = core.NotUnderstood // here it is no sheet's
			return client.Bulletin{}, &e
		}
	}
	b := fit.Bulletin{Title: strings.TrimSpace(n.Title), Says: strings.TrimSpace(n.Says), When: n.When}
	for _, c := range n.Codes {
		c = strings.ToUpper(strings.TrimSpace(c))
		if !codeName.MatchString(c) {
			return client.Bulletin{}, badCode(c)
		}
		b.Codes = append(b.Codes, c)
	}
	for _, w := range n.Words {
		if w = strings.TrimSpace(w); w != "" {
			b.Words = append(b.Words, w)
		}
	}
	raw, err := json.Marshal(b)
	if err != nil {
		return client.Bulletin{}, err
	}
	by := frame.Who(ctx).Person
	r := store.Bulletin{Model: n.Model, Body: string(raw), By: by.ID, At: v.clock.Now().UTC()}
	if r.Number, err = v.store.AddBulletin(ctx, r); err != nil {
		return client.Bulletin{}, err
	}
	out, _, err := oneBulletin(r, map[string]string{by.ID: by.Name})
	return out, err
}

type bulletinEndIn struct {
	Number uint64 `path:"bulletin" minimum:"1"`
	Body   client.BulletinEnd
}

func (v *Units) endBulletin(ctx context.Context, in *bulletinEndIn) (frame.None, error) {
	return frame.None{}, v.store.EndBulletin(ctx, in.Number, frame.Who(ctx).Person.ID, strings.TrimSpace(in.Body.Reason), v.clock.Now())
}

// Speaking are the bulletins that speak to a unit, by what there is of a complaint.
func (v *Units) Speaking(ctx context.Context, j *Judged, shown fit.Shown) ([]client.Bulletin, error) {
	all := []client.Bulletin{}
	rows, err := v.store.Bulletins(ctx, j.unit.Model, false)
	if err != nil || len(rows) == 0 {
		return all, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return all, err
	}
	for _, r := range rows {
		out, b, err := oneBulletin(r, names)
		if err != nil {
			return all, err
		}
		if why, ok := fit.Speaks(j.Sheet, b, j.Known, shown); ok {
			out.SpeaksWhy = why
			all = append(all, out)
		}
	}
	return all, nil
}

// Complaint is what is said of a unit: the reasons of the open jobs that it is in.
func (v *Units) Complaint(ctx context.Context, unit string) (string, error) {
	jobs, err := v.store.OpenJobsOf(ctx, unit)
	var said []string
	for _, j := range jobs {
		said = append(said, j.Reason)
	}
	return strings.Join(said, ". "), err
}

// codeName is a fault code, with its failure type or without.
var codeName = regexp.MustCompile(`^[PCBU][0-3][0-9A-F]{3}(-[0-9A-F]{2})?$`)

func badCode(c string) error {
	return core.Fail(core.NotUnderstood, "%q is no fault code; expected one such as U0100-87, or U0100 for any failure type", c)
}

// mostTexts bounds a list of texts.
const mostTexts = 5000

type codeTextsIn struct {
	catalogue.ModelPath
	RawBody []byte
}

// putCodeTexts takes what fault codes of a model mean from a CSV file; all of it, or nothing.
func (v *Units) putCodeTexts(ctx context.Context, in *codeTextsIn) (client.CodeTextsPut, error) {
	out := client.CodeTextsPut{Model: in.Model}
	if _, err := v.store.Sheet(ctx, in.Model); err != nil {
		return out, err
	}
	l, err := frame.ReadList(in.RawBody, []string{"code", "says"}, "code", "says")
	if err != nil {
		return out, err
	}
	texts := map[string]string{}
	for {
		field, fields, err := l.Next()
		if err != nil {
			return out, err
		}
		if field == nil {
			break
		}
		code, says := strings.ToUpper(field["code"]), field["says"]
		bad := func(says string, with ...any) (client.CodeTextsPut, error) {
			return client.CodeTextsPut{Model: in.Model}, core.BadAt(core.Line(int64(l.Line)), says, with...)
		}
		switch _, twice := texts[code]; {
		case !codeName.MatchString(code):
			return bad("%q is no fault code; expected one such as U0100-87, or U0100 for any failure type", field["code"])
		case fields > 2:
			return bad("it has %d fields, the first line names 2; a text with a comma stands in quotes", fields)
		case twice:
			return bad("code %s stands in the list twice", code)
		case len(says) > 200:
			return bad("a text has at most 200 bytes, this has %d", len(says))
		case len(texts) == mostTexts:
			return bad("a list has at most %d texts", mostTexts)
		}
		if texts[code] = says; says == "" {
			out.Taken++
		} else {
			out.Put++
		}
	}
	return out, v.store.PutCodeTexts(ctx, in.Model, texts, frame.Who(ctx).Person.ID, v.clock.Now())
}

// Explain gives the codes of modules their texts: the team's goes before the sheet's, and
// one for a failure type before one for all.
func (v *Units) Explain(ctx context.Context, slots []visit.InSlot) error {
	for _, s := range slots {
		if s.Model == "" || len(s.Codes) == 0 {
			continue
		}
		texts, err := v.store.CodeTexts(ctx, s.Model)
		if err != nil {
			return err
		}
		for i, c := range s.Codes {
			any, _, _ := strings.Cut(c.Code, "-")
			for _, name := range []string{any, c.Code} {
				if says := texts[name]; says != "" && (name == c.Code || c.Says == "") {
					s.Codes[i].Says = says
				}
			}
		}
	}
	return nil
}

// shownBy is what a module shows of a complaint.
func shownBy(m client.Module, said string) fit.Shown {
	s := fit.Shown{Says: said}
	for _, c := range m.Codes {
		if !slices.Contains(s.Codes, c.Code) {
			s.Codes = append(s.Codes, c.Code)
		}
	}
	return s
}

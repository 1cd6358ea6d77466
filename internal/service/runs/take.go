package runs

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/units"
)

// takeJob is what a job wants on the laptop before somebody leaves: the card of each unit,
// the files of the releases that are to go in, the model sheets, and a page that says what
// is what.
func (v *Runs) takeJob(ctx context.Context, in *units.JobPath) (*frame.File, error) {
	j, err := v.Units.GetJob(ctx, in)
	if err != nil {
		return nil, err
	}
	if len(j.Scope) == 0 {
		return nil, core.Fail(core.NotFound, "job %d has no unit whose files could be taken along", j.Number).Go(words.Job(fmt.Sprint(j.Number)).To("Look at it"))
	}
	t := taking{newBundle(v.clock.Now(), core.Plain("Take two jobs, each with some of its units.")), v}
	t.line("Job %d: %s", j.Number, j.Reason)
	for _, x := range [][2]string{{"Asked by", j.Asked}, {"Done when", j.Test}, {"Planned", strings.TrimSpace(j.Planned + " " + j.Person)}} {
		if x[1] != "" {
			t.line("%s: %s", x[0], x[1])
		}
	}
	t.line("Taken %s UTC. What the service learns after that is not in here.", t.at.Format("2006-01-02 15:04"))
	for _, x := range j.Scope {
		if err := t.unit(ctx, j, x.Unit); err != nil {
			return nil, err
		}
	}
	for _, l := range j.Left {
		t.line("\n%s is left as it is: %s", strings.TrimSpace(l.Serial+" "+l.Part), l.Why)
	}
	return t.close()
}

// taking is a job's files, being put into a zip.
type taking struct {
	*bundle
	v *Runs
}

// unit adds what is wanted for a unit.
func (t *taking) unit(ctx context.Context, j client.JobPage, u client.Unit) error {
	c, err := t.v.getCard(ctx, &cardIn{At: u.ID, Day: j.Planned})
	if err != nil {
		return err
	}
	pdf, err := paper.Card(c)
	if err != nil {
		return err
	}
	card := "cards/" + plainName(u.Serial) + ".pdf"
	t.put(card, pdf)
	t.line("\n%s %s, %s", c.ModelName, u.Serial, cmp.Or(u.Site, "at no known site"))
	if s := c.SiteInfo; s != nil {
		for _, x := range []string{s.Customer, s.Contact, s.Note} {
			if x != "" {
				t.line("  %s", x)
			}
		}
	}
	t.line("  card: %s", card)
	runs := cmp.Or(c.Running, "what nobody knows")
	switch {
	case c.Release == "":
		t.line("  runs %s; nothing newer fits; nothing is to go in", runs)
	case slices.ContainsFunc(c.Bars, func(b admit.Bar) bool { return b.Kind == core.CannotTell }):
		t.line("  runs %s; %s may have to go in", runs, c.Release)
	default:
		t.line("  runs %s; %s is to go in", runs, c.Release)
	}
	for _, b := range c.Bars {
		if b.Kind == core.CannotTell {
			t.line("  not known yet: %s", b.Text)
		} else {
			t.line("  STOPS IT: %s", b.Text)
		}
	}
	for _, n := range c.Needs {
		t.line("  needs: %s, %s", n.Name, n.Text)
	}
	for _, b := range c.Bulletins {
		t.line("  bulletin %d, %s: %s", b.Number, b.Title, b.Says)
	}
	sheet, err := t.v.store.Sheet(ctx, u.Model)
	if err != nil {
		return err
	}
	raw, err := t.v.store.Piece(ctx, sheet.Digest)
	if err != nil {
		return err
	}
	t.put("sheets/"+plainName(u.Model)+".yaml", raw)
	versions, err := t.wanted(ctx, u, c.Release)
	if err != nil {
		return err
	}
	for _, v := range versions {
		if err := t.release(ctx, u.Model, v); err != nil {
			return err
		}
	}
	return t.err
}

// wanted are the versions that may have to go into a unit: the one that fits, or, where
// that is not known before somebody stands at it, all stable ones that may.
func (t *taking) wanted(ctx context.Context, u client.Unit, chosen string) (all []string, err error) {
	unit, err := t.v.store.Unit(ctx, u.ID)
	if err != nil || chosen == "" {
		return nil, err
	}
	j, err := t.v.Units.Judge(ctx, unit)
	if err != nil {
		return nil, err
	}
	for _, x := range j.Verdicts {
		if x.Version == chosen && x.Answer == fit.Fits {
			return []string{chosen}, nil
		}
		if x.Version == chosen || x.Answer != fit.DoesNotFit && x.Channel == model.Stable {
			all = append(all, x.Version)
		}
	}
	t.line("  which of these goes in is known at the unit:")
	return all, nil
}

// release adds the files of one.
func (t *taking) release(ctx context.Context, modelName, version string) error {
	r, err := t.v.store.ReleaseOf(ctx, modelName, version)
	if err != nil {
		return err
	}
	for _, p := range r.Parts {
		if p.Image.IsZero() { // a tree of files
			continue
		}
		name, _, err := t.v.store.ImageFile(ctx, p.Image)
		if err != nil {
			return err
		}
		data, err := t.v.store.Image(ctx, p.Image)
		if err != nil {
			return err
		}
		file := path.Join("releases", plainName(modelName+" "+r.Version), plainName(p.Name)+" "+plainName(name))
		t.put(file, data)
		t.line("  %s %s: %s, SHA-256 %s", r.Version, p.Name, file, p.Image)
	}
	return t.err
}

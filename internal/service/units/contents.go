package units

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/contents"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/plan"
	"zealousferry/core/recognise"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// now answers what is in a unit, by section: the one answer to that question.
func (v *Units) now(ctx context.Context, u store.Unit, sheet *model.Sheet) (map[string]*contents.Part, error) {
	rows, err := v.store.RunsOnIt(ctx, u.ID)
	if err != nil {
		return nil, err
	}
	var all []contents.Happened
	firmware := map[string]string{}
	for _, r := range rows {
		state, err := v.Folded(ctx, r.ID)
		if err != nil {
			return nil, nil // a run that cannot be read may have changed anything
		}
		if state.Opened == nil {
			continue // it was ordered, and no bench has begun it
		}
		was, err := v.store.SheetBy(ctx, state.Opened.Sheet)
		if err != nil {
			return nil, err
		}
		firmware[r.ID] = r.Firmware.String
		all = append(all, contents.Happened{State: state, Sheet: was})
	}
	return contents.Of(sheet, all, contents.Source{
		Get: v.store.Shelf(ctx),
		Images: func(run, section string) ([]*image.Image, error) {
			release, err := v.store.Release(ctx, firmware[run])
			if err != nil {
				return nil, err
			}
			return v.store.Images(ctx, &release.Release, section)
		},
	})
}

// inside finds out by content what a unit holds, as far as it is known.
func (v *Units) inside(ctx context.Context, u store.Unit, sheet *model.Sheet) (*client.Inside, error) {
	parts, err := v.now(ctx, u, sheet)
	if err != nil || len(parts) == 0 {
		return nil, err
	}
	out := explained{Inside: &client.Inside{Others: []client.InsideOf{}, Unknown: []string{}}}
	if main := parts[sheet.Main().Name]; main != nil {
		if out, err = v.recognise(ctx, u, sheet, main); err != nil {
			return nil, err
		}
	}
	out.Parts = []client.InPart{}
	for i := range sheet.Sections {
		if p := parts[sheet.Sections[i].Name]; p != nil {
			one, err := v.inPart(ctx, sheet, p)
			if err != nil {
				return nil, err
			}
			out.Partly = out.Partly || one.Partly
			out.Parts = append(out.Parts, one)
		}
	}
	out.Sentences = insideWords(out.Inside)
	out.Text = core.Texts(out.Sentences, " ")
	return out.Inside, nil
}

// recognise finds the images that a memory holds.
func (v *Units) recognise(ctx context.Context, u store.Unit, sheet *model.Sheet, main *contents.Part) (explained, error) {
	stretches, err := main.Chunks()
	if err != nil {
		return explained{}, err
	}
	memory := recognise.Memory(stretches)
	images, held, err := v.store.Alike(ctx, u.Model, memory)
	if err == nil && len(images) == 0 { // perhaps it is another model's
		images, held, err = v.store.Alike(ctx, "", memory)
	}
	if err != nil {
		return explained{}, err
	}
	out := explain(images, held, memory, sheet)
	out.Backup, out.Taken, out.Says, out.Partly = main.Backup, main.At, u.Running, main.Partly()
	if out.Known && !out.Partly && out.Says != "" && out.Main.Version != out.Says {
		out.Lies = !slices.ContainsFunc(out.versions, func(version string) bool { return version == out.Says })
	}
	return out, nil
}

// inPart says how much of a section is known, and of which release it is byte for byte.
func (v *Units) inPart(ctx context.Context, sheet *model.Sheet, p *contents.Part) (client.InPart, error) {
	one := client.InPart{Section: p.Section.Name, Title: p.Section.Says(), Partly: p.Partly(), At: p.At}
	what := "sectors"
	if p.Section.Files != nil {
		what, one.Of, one.Known = "files", len(p.Files), len(p.Tree().Files)
	} else {
		one.Of = len(p.Section.Memory.Sectors())
		one.Known = one.Of - len(p.Unknown())
	}
	switch {
	case one.Partly:
		one.Said = core.Say("Partly written: what %d of %d %s hold is known.", one.Known, one.Of, what)
		return one, nil
	case p.Section.Files == nil:
		one.Said = core.Say("All %d sectors are known.", one.Of)
	default:
		one.Said = core.Say("%d files, %d KiB.", one.Of, p.Tree().Bytes()>>10)
	}
	releases, err := v.store.Releases(ctx, sheet.Model)
	if err != nil {
		return one, err
	}
	for _, r := range releases {
		whole := false
		for _, part := range sheet.In(&r.Release, p.Section) {
			whole = p.Section.Files != nil && part.Content == core.DigestOf(p.Tree().Encode())
		}
		if whole {
			one.Release, one.Said = r.Version, core.Say("The %d files of release %s.", one.Of, r.Version)
			break
		}
	}
	return one, nil
}

// explained is what was found, with every version that the main image has.
type explained struct {
	*client.Inside
	versions []string
}

func explain(images [][]recognise.Chunk, held [][]store.Holder, memory []recognise.Chunk, sheet *model.Sheet) explained {
	out := explained{Inside: &client.Inside{Others: []client.InsideOf{}, Unknown: []string{}}}
	var index recognise.Index
	for _, chunks := range images {
		index.Add(chunks)
	}
	index.Make()
	found := index.Recognise(memory)
	name := func(m recognise.Match) client.InsideOf {
		h := held[m.Image][0]
		x := client.InsideOf{Release: h.Release, Version: h.Version, Model: h.Model, Part: h.Part, Same: m.Same, Of: m.Of, Differs: append([]uint64{}, m.Differs...), Where: regionsOf(sheet, m.Differs)}
		return x
	}
	out.Known = found.Known()
	if found.Main != nil {
		x := name(*found.Main)
		out.Main = &x
		for _, h := range held[found.Main.Image] {
			out.versions = append(out.versions, h.Version)
		}
	}
	for _, m := range found.Others {
		out.Others = append(out.Others, name(m))
	}
	// What a unit has of its own, and the loader where no release carries it, need no image.
	var strange []uint64
	for _, at := range found.Unknown {
		if r, ok := sheet.Main().Memory.At(at); ok && r.Use != "program" {
			continue
		}
		strange = append(strange, at)
	}
	out.Unknown = regionsOf(sheet, strange)
	return out
}

func regionsOf(sheet *model.Sheet, addresses []uint64) []string {
	all := []string{}
	for _, at := range addresses {
		name := fmt.Sprintf("0x%X", at)
		if r, ok := sheet.Main().Memory.At(at); ok {
			name = r.Name
		}
		if !slices.Contains(all, name) && len(all) < 20 {
			all = append(all, name)
		}
	}
	return all
}

// insideWords say it in a sentence or two.
func insideWords(in *client.Inside) (s []core.Said) {
	if in.Partly {
		s = append(s, core.Say("Partly written."))
	}
	switch {
	case in.Partly && (in.Main == nil || !in.Known):
		for _, p := range in.Parts {
			if p.Partly {
				if len(in.Parts) > 1 {
					s = append(s, core.Say("%s: what %d of %d pieces hold is known.", p.Title, p.Known, p.Of))
				} else {
					s = append(s, core.Say("What %d of %d pieces hold is known.", p.Known, p.Of))
				}
			}
		}
		if in.Main != nil {
			s = append(s, core.Say("Nearest is release %s, %d of %d pieces.", in.Main.Version, in.Main.Same, in.Main.Of))
		}
	case in.Main == nil:
		s = append(s, core.Say("Unknown firmware: nothing in it is like anything in the catalogue."))
	case !in.Known:
		s = append(s, core.Say("Unknown firmware; nearest is release %s of %s, %d of %d pieces alike.", in.Main.Version, in.Main.Model, in.Main.Same, in.Main.Of))
	case len(in.Main.Differs) == 0:
		s = append(s, core.Say("Release %s (%s), every piece.", in.Main.Version, in.Main.Part))
	default:
		s = append(s, core.Say("Release %s (%s), %d of %d pieces differ (%s).", in.Main.Version, in.Main.Part, len(in.Main.Differs), in.Main.Of, strings.Join(in.Main.Where, ", ")))
	}
	if in.Known {
		for _, o := range in.Others {
			s = append(s, core.Say("%d pieces of %s from %s.", o.Same, o.Part, o.Version))
		}
		if in.Lies {
			s = append(s, core.Say("It says that it runs %s, which is not so.", in.Says))
		}
	}
	return s
}

func (v *Units) getInside(ctx context.Context, in *frame.UnitPath) (client.Inside, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.Inside{}, err
	}
	sheet, err := v.store.Sheet(ctx, u.Model)
	if err != nil {
		return client.Inside{}, err
	}
	out, err := v.inside(ctx, u, sheet)
	if err != nil {
		return client.Inside{}, err
	}
	if out == nil {
		return client.Inside{}, core.Fail(core.NotFound, "unit %s has no backup that could be looked into", u.Serial).Go(words.Backup(u.Serial).To("Read its memory"))
	}
	return *out, nil
}

type memoryIn struct {
	frame.UnitPath
	Against string `query:"release" doc:"Version or id; the recommended one where it is empty."`
}

// getMemory lays a release over what is in the unit now. Secret ranges give
// nothing away: only whether a sector would change.
func (v *Units) getMemory(ctx context.Context, in *memoryIn) (client.Strip, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.Strip{}, err
	}
	sheet, err := v.store.Sheet(ctx, u.Model)
	if err != nil {
		return client.Strip{}, err
	}
	parts, err := v.now(ctx, u, sheet)
	if err != nil {
		return client.Strip{}, err
	}
	main := parts[sheet.Main().Name]
	if main == nil {
		return client.Strip{Sectors: []client.Sector{}}, nil
	}
	release, err := v.ReleaseFor(ctx, u, in.Against)
	if err != nil {
		return client.Strip{}, err
	}
	images, err := v.store.Images(ctx, &release.Release, "")
	if err != nil {
		return client.Strip{}, err
	}
	base := func(address uint64, p []byte) error {
		_, err := main.Content(address, p)
		return err
	}
	p, err := plan.Build(plan.Input{Map: &sheet.Main().Memory, Images: images, Now: main.Sectors, Base: base})
	if err != nil {
		return client.Strip{}, err
	}
	return client.Strip{Sectors: Sectors(p.Sectors), States: run.StripOf(p.Sectors), Against: release.Version, Read: main.At}, nil
}

// Sectors are the sectors of a plan as they are shown.
func Sectors(all []plan.Sector) []client.Sector {
	out := []client.Sector{}
	for _, s := range all {
		out = append(out, client.Sector{Address: s.Address, Length: s.Length, Region: s.Region})
	}
	return out
}

// Folded is a run as its events add up.
func (v *Units) Folded(ctx context.Context, id string) (*run.State, error) {
	events, err := v.store.Events(ctx, id, 0)
	if err != nil {
		return nil, err
	}
	s, err := run.Fold(events)
	if err == nil && s.Opened == nil {
		err = core.Fail(core.NotFound, "no event of run %s has come yet", id)
	}
	if err != nil {
		return nil, core.AsError(err, core.BadFile)
	}
	return s, nil
}

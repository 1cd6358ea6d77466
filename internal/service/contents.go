package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"zealousferry/core"
	"zealousferry/core/contents"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/recognise"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// now answers what is in a unit, by section: the one answer to that question.
func (v *Service) now(ctx context.Context, u store.Unit, sheet *model.Sheet) (map[string]*contents.Part, error) {
	rows, err := v.store.RunsOnIt(ctx, u.ID)
	if err != nil {
		return nil, err
	}
	var all []contents.Happened
	firmware := map[string]string{}
	for _, r := range rows {
		state, err := v.folded(ctx, r.ID)
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
		Get: func(d core.Digest) ([]byte, error) { return v.store.Piece(ctx, d) },
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
func (v *Service) inside(ctx context.Context, u store.Unit, sheet *model.Sheet) (*client.Inside, error) {
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
	out.Text = insideWords(out.Inside)
	return out.Inside, nil
}

// recognise finds the images that a memory holds.
func (v *Service) recognise(ctx context.Context, u store.Unit, sheet *model.Sheet, main *contents.Part) (explained, error) {
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
func (v *Service) inPart(ctx context.Context, sheet *model.Sheet, p *contents.Part) (client.InPart, error) {
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
		one.Text = fmt.Sprintf("Partly written: what %d of %d %s hold is known.", one.Known, one.Of, what)
		return one, nil
	case p.Section.Files == nil:
		one.Text = fmt.Sprintf("All %d sectors are known.", one.Of)
	default:
		one.Text = fmt.Sprintf("%d files, %d KiB.", one.Of, p.Tree().Bytes()>>10)
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
			one.Release, one.Text = r.Version, fmt.Sprintf("The %d files of release %s.", one.Of, r.Version)
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
func insideWords(in *client.Inside) string {
	var s []string
	if in.Partly {
		s = append(s, "Partly written.")
	}
	switch {
	case in.Partly && (in.Main == nil || !in.Known):
		for _, p := range in.Parts {
			if p.Partly {
				s = append(s, p.Title+": "+strings.TrimPrefix(p.Text, "Partly written: "))
			}
		}
		if in.Main != nil {
			s = append(s, fmt.Sprintf("Nearest is release %s, %d of %d pieces.", in.Main.Version, in.Main.Same, in.Main.Of))
		}
	case in.Main == nil:
		s = append(s, "Unknown firmware: nothing in it is like anything in the catalogue.")
	case !in.Known:
		s = append(s, fmt.Sprintf("Unknown firmware; nearest is release %s of %s, %d of %d pieces alike.", in.Main.Version, in.Main.Model, in.Main.Same, in.Main.Of))
	case len(in.Main.Differs) == 0:
		s = append(s, fmt.Sprintf("Release %s (%s), every piece.", in.Main.Version, in.Main.Part))
	default:
		s = append(s, fmt.Sprintf("Release %s (%s), %d of %d pieces differ (%s).", in.Main.Version, in.Main.Part, len(in.Main.Differs), in.Main.Of, strings.Join(in.Main.Where, ", ")))
	}
	if in.Known {
		for _, o := range in.Others {
			s = append(s, fmt.Sprintf("%d pieces of %s from %s.", o.Same, o.Part, o.Version))
		}
		if in.Lies {
			s = append(s, fmt.Sprintf("It says that it runs %s, which is not so.", in.Says))
		}
	}
	return strings.Join(s, " ")
}

func (v *Service) getInside(ctx context.Context, in *UnitPath) (client.Inside, error) {
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
		return client.Inside{}, core.Fail(core.NotFound, "unit %s has no backup that could be looked into", u.Serial).Do("Read its memory: ferry backup " + u.Serial + ".")
	}
	return *out, nil
}

// inspect looks at a firmware file without keeping it.
func (v *Service) inspect(ctx context.Context, in *ImageIn) (client.Inspection, error) {
	o, err := in.open()
	if err != nil {
		return client.Inspection{}, err
	}
	x := client.Inspection{Name: in.Name, Format: o.Format.Name(), Bytes: int64(len(in.RawBody)), SHA256: core.DigestOf(in.RawBody), Packed: o.Packed, Member: o.Member, Report: image.Describe(o.Image), Known: []client.Known{}, Models: []client.Size{}}
	if x.Known, err = v.holders(ctx, x.SHA256, x.Content); err != nil {
		return x, err
	}
	chunks := recognise.Of(o.Image, 0xFF)
	if len(x.Known) == 0 {
		images, held, err := v.store.Alike(ctx, "", chunks)
		if err != nil {
			return x, err
		}
		var index recognise.Index
		for _, c := range images {
			index.Add(c)
		}
		index.Make()
		if f := index.Recognise(chunks); f.Main != nil {
			h := held[f.Main.Image][0]
			x.Known = append(x.Known, client.Known{Release: h.Release, Model: h.Model, Version: h.Version, Part: h.Part, How: "nearest", Same: f.Main.Same, Of: f.Main.Of})
		}
	}
	models, err := v.store.Models(ctx)
	for _, m := range models[:min(len(models), 50)] {
		sheet, err := v.store.Sheet(ctx, m.Name)
		if err != nil {
			return x, err
		}
		x.Models = append(x.Models, suits(sheet, o.Image))
	}
	return x, err
}

// suits holds an image against a model's memory.
func suits(sheet *model.Sheet, im *image.Image) client.Size {
	s := client.Size{Model: sheet.Model, Name: sheet.Name.In("en"), Memory: sheet.Main().Memory.Bytes(), Inside: true, Touches: []string{}}
	for _, seg := range im.Segments {
		covered := uint64(0)
		for _, r := range sheet.Main().Memory.Regions {
			from, to := max(seg.Address, r.Address), min(seg.End(), r.End())
			if from >= to {
				continue
			}
			covered += to - from
			if !slices.Contains(s.Touches, r.Name) {
				s.Touches = append(s.Touches, r.Name)
			}
			if r.ReadOnly && s.Bars == "" {
				s.Bars = "it would overwrite " + r.Name
			}
		}
		s.Inside = s.Inside && covered == uint64(len(seg.Data))
	}
	return s
}

type diffIn struct {
	First   int64  `query:"first" minimum:"0" doc:"How many bytes of the body are the first file; the rest is the second."`
	NameA   string `query:"nameA" maxLength:"200"`
	NameB   string `query:"nameB" maxLength:"200"`
	Against string `query:"against" maxLength:"64" doc:"SHA-256 of an image of the catalogue, in place of a second file."`
	Address uint64 `query:"address" doc:"Of the first byte, for formats that carry none."`
	Sector  uint64 `query:"sector" minimum:"16" maximum:"1048576" default:"4096"`
	RawBody []byte
}

// diffImages compares two firmware files without keeping them.
func (v *Service) diffImages(ctx context.Context, in *diffIn) (image.Difference, error) {
	c := registry.Choice{}
	c.At = in.Address
	if in.Against != "" {
		in.First = int64(len(in.RawBody))
	}
	if in.First > int64(len(in.RawBody)) {
		return image.Difference{}, core.Fail(core.BadFile, "the first file would have %d bytes, %d came in all", in.First, len(in.RawBody))
	}
	a, err := registry.Open(registry.Bytes(in.RawBody[:in.First], in.NameA), c)
	if err != nil {
		return image.Difference{}, err
	}
	if in.Against == "" {
		b, err := registry.Open(registry.Bytes(in.RawBody[in.First:], in.NameB), c)
		if err != nil {
			return image.Difference{}, err
		}
		return image.Diff(a.Image, b.Image, in.Sector), nil
	}
	d, err := core.ParseDigest(in.Against)
	if err != nil {
		return image.Difference{}, err
	}
	data, err := v.store.Image(ctx, d)
	if err != nil {
		return image.Difference{}, err
	}
	part, err := v.store.PartRead(ctx, d)
	if err != nil {
		return image.Difference{}, err
	}
	b, _, err := registry.Decode(data, part)
	if err != nil {
		return image.Difference{}, err
	}
	return image.Diff(a.Image, b, in.Sector), nil
}

type convertIn struct {
	ImageIn
	To   string `query:"to" required:"true" doc:"The new format."`
	Fill string `query:"fill" default:"0xFF" doc:"What stands in gaps, for formats that have none."`
}

type converted struct {
	ContentType string `header:"Content-Type"`
	Lost        string `header:"Ferry-Lost" doc:"JSON: what the new format cannot carry, in words."`
	Body        []byte
}

// convertImage writes a firmware file in another format.
func (v *Service) convertImage(_ context.Context, in *convertIn) (*converted, error) {
	o, err := in.open()
	if err != nil {
		return nil, err
	}
	f, err := registry.FormatNamed(in.To)
	if err != nil {
		return nil, err
	}
	n, err := strconv.ParseUint(in.Fill, 0, 8)
	if err != nil {
		return nil, core.Fail(core.BadFile, "fill %q is not a byte; write it like 0xFF", in.Fill)
	}
	gap := byte(n)
	var out bytes.Buffer
	lost, err := image.Convert(&out, o.Image, f, image.Options{Fill: &gap})
	if err != nil {
		return nil, err
	}
	words, err := json.Marshal(append([]string{}, lost...))
	return &converted{"application/octet-stream", string(words), out.Bytes()}, err
}

package catalogue

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/recognise"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
)

// ImageIn is a firmware file that was sent.
type ImageIn struct {
	Name    string `query:"name" maxLength:"200" doc:"Name of the file."`
	Format  string `query:"format" doc:"Found by content where it is empty."`
	Member  string `query:"member" maxLength:"400" doc:"Which file of an archive."`
	Address uint64 `query:"address" doc:"Of the first byte, for formats that carry none."`
	Family  string `query:"family" doc:"Which family's blocks of a UF2 file."`
	Counts  string `query:"counts" enum:"first,last" doc:"Which record counts where two give different bytes to one address; such a file is refused without it."`
	RawBody []byte
}

func (in *ImageIn) open() (*registry.Opened, error) {
	c := registry.Choice{Format: in.Format, Member: in.Member}
	c.At, c.Counts = in.Address, image.Counts(in.Counts)
	if in.Family != "" {
		var n uint32
		if _, err := fmt.Sscan(in.Family, &n); err != nil {
			return nil, core.Fail(core.NotUnderstood, "family %q is not a number of 32 bits", in.Family)
		}
		c.Family = &n
	}
	return registry.Open(registry.Bytes(in.RawBody, in.Name), c)
}

// putImage keeps a file that can be read; a broken one is refused with the line.
// Of an archive the one firmware file in it is kept.
func (v *Catalogue) putImage(ctx context.Context, in *ImageIn) (client.Image, error) {
	if in.Format == registry.TreeFormat {
		p, err := registry.PartOf(model.Part{Name: "files", Format: in.Format}, in.RawBody)
		if err != nil {
			return client.Image{}, err
		}
		out := client.Image{Digest: p.Image, Bytes: len(in.RawBody), Format: p.Format, Payload: p.Bytes, Warnings: []core.Said{}}
		if out.Known, err = v.holders(ctx, p.Image, p.Content); err != nil {
			return out, err
		}
		return out, v.keepImage(ctx, in.RawBody, in.Name)
	}
	o, err := in.open()
	if err != nil {
		return client.Image{}, err
	}
	data, name := in.RawBody, in.Name
	if o.Packed != "" {
		if data, err = registry.Unpack(registry.Bytes(in.RawBody, in.Name), o.Member); err != nil {
			return client.Image{}, err
		}
		name = o.Member
	}
	im := o.Image
	from, to := im.Extent()
	out := client.Image{Digest: core.DigestOf(data), Bytes: len(data), Format: o.Format.Name(), From: from, To: to, Payload: im.Bytes(), Warnings: append([]core.Said{}, im.Warnings...)}
	if out.Known, err = v.holders(ctx, out.Digest, im.Content()); err != nil {
		return out, err
	}
	return out, v.keepImage(ctx, data, name)
}

// keepImage keeps a file within what one may send in a day.
func (v *Catalogue) keepImage(ctx context.Context, data []byte, name string) error {
	giveBack, err := v.People.Sends(ctx, people.SentImages, int64(len(data)))
	if err != nil {
		return err
	}
	if err := v.store.PutImage(ctx, data, name, frame.Who(ctx).Person.ID); err != nil {
		giveBack()
		return err
	}
	return nil
}

// holders lists the releases that have an image, in this file or another.
func (v *Catalogue) holders(ctx context.Context, file, content core.Digest) ([]client.Known, error) {
	rows, err := v.store.Holders(ctx, file, content)
	all := []client.Known{}
	for _, h := range rows {
		how := "same-image"
		if core.Digest(h.Image) == file {
			how = "same-file"
		}
		all = append(all, client.Known{Release: h.Release, Model: h.Model, Version: h.Version, Part: h.Part, How: how})
	}
	return all, err
}

// getImage gives an image file as it was sent.
func (v *Catalogue) getImage(ctx context.Context, in *frame.DigestPath) (*frame.File, error) {
	d, err := core.ParseDigest(in.Digest)
	if err != nil {
		return nil, err
	}
	data, err := v.store.Image(ctx, d)
	return &frame.File{ContentType: "application/octet-stream", Body: data}, err
}

// overlap keeps in the origin of a release who said which record of a part counts.
func overlap(ctx context.Context, r *model.Release, p client.NewPart) {
	if p.Counts == "" {
		return
	}
	if r.Origin == nil {
		r.Origin = &model.Origin{}
	} else {
		one := *r.Origin
		r.Origin = &one
	}
	all := map[string]model.Overlap{}
	maps.Copy(all, r.Origin.Overlaps)
	all[p.Name] = model.Overlap{Reason: p.Because, By: frame.Who(ctx).Person.Name}
	r.Origin.Overlaps = all
}

// measure reads the images of a release and fills in what they hold. Of a release
// that says it already, both must agree.
func (v *Catalogue) measure(ctx context.Context, r *model.Release, says bool) error {
	for i := range r.Parts {
		p := &r.Parts[i]
		data, err := v.store.Image(ctx, p.Image)
		if err != nil {
			return err
		}
		is, err := registry.PartOf(*p, data)
		if err != nil {
			return err
		}
		if says && is != *p {
			return core.Fail(core.BadFile, "part %s of %s %s holds 0x%X to 0x%X, %d bytes, content %s; the release says 0x%X to 0x%X, %d bytes, content %s",
				p.Name, r.Model, r.Version, is.From, is.To-1, is.Bytes, is.Content.Short(), p.From, p.To, p.Bytes, p.Content.Short())
		}
		*p = is
	}
	return nil
}

// inspect looks at a firmware file without keeping it.
func (v *Catalogue) inspect(ctx context.Context, in *ImageIn) (client.Inspection, error) {
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
				bars := core.Say("it would overwrite %s", r.Name)
				s.Bars, s.BarsID, s.BarsParams = bars.Text, bars.ID, bars.Params
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
func (v *Catalogue) diffImages(ctx context.Context, in *diffIn) (image.Difference, error) {
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
	Lost        string `header:"Ferry-Lost" doc:"JSON: a message (id, params, text) for each thing that the new format cannot carry."`
	Body        []byte
}

// convertImage writes a firmware file in another format.
func (v *Catalogue) convertImage(_ context.Context, in *convertIn) (*converted, error) {
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
		return nil, core.Fail(core.NotUnderstood, "fill %q is not a byte; write it like 0xFF", in.Fill)
	}
	gap := byte(n)
	var out bytes.Buffer
	lost, err := image.Convert(&out, o.Image, f, image.Options{Fill: &gap})
	if err != nil {
		return nil, err
	}
	words, err := json.Marshal(append([]core.Said{}, lost...))
	return &converted{"application/octet-stream", string(words), out.Bytes()}, err
}

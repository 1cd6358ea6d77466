package service

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

func (v *Service) listModels(ctx context.Context, _ *none) (client.Models, error) {
	rows, err := v.store.Models(ctx)
	out := client.Models{Models: []client.Model{}}
	for _, m := range rows {
		s, err := v.store.Sheet(ctx, m.Name)
		if err != nil {
			return out, err
		}
		out.Models = append(out.Models, client.Model{Model: m.Name, Name: m.Title, Kind: s.Kind.In("en"), Sheet: s.Digest, Bytes: s.Memory.Bytes()})
	}
	return out, err
}

func (v *Service) putModel(ctx context.Context, in *rawIn) (client.Model, error) {
	s, err := model.ReadSheet(in.RawBody)
	if err != nil {
		return client.Model{}, err
	}
	if _, err := registry.Loader(s.Loader.Kind); err != nil {
		return client.Model{}, core.Fail(core.BadFile, "loader.kind: %w", err)
	}
	return client.Model{Model: s.Model, Name: s.Name.In("en"), Kind: s.Kind.In("en"), Sheet: s.Digest, Bytes: s.Memory.Bytes()}, v.store.PutModel(ctx, s, in.RawBody)
}

type imageIn struct {
	Name    string `query:"name" maxLength:"200" doc:"Name of the file."`
	Format  string `query:"format" doc:"Found by content where it is empty."`
	Address uint64 `query:"address" doc:"Of the first byte, for formats that carry none."`
	RawBody []byte
}

// putImage keeps a file that can be read; a broken one is refused with the line.
func (v *Service) putImage(ctx context.Context, in *imageIn) (client.Image, error) {
	im, format, err := registry.Decode(in.RawBody, in.Format, in.Address)
	if err != nil {
		return client.Image{}, err
	}
	from, to := im.Extent()
	out := client.Image{Digest: core.DigestOf(in.RawBody), Bytes: len(in.RawBody), Format: format, From: from, To: to, Payload: im.Bytes(), Warnings: append([]string{}, im.Warnings...)}
	return out, v.store.PutImage(ctx, in.RawBody, in.Name, who(ctx).person.ID)
}

type modelQuery struct {
	Model string `query:"model"`
}

func (v *Service) listReleases(ctx context.Context, in *modelQuery) (client.Releases, error) {
	rows, err := v.store.Releases(ctx, in.Model)
	out := client.Releases{Releases: []client.Release{}}
	for _, r := range rows {
		out.Releases = append(out.Releases, client.Release{Release: r.Release, Document: r.Document})
	}
	return out, err
}

type newReleaseIn struct{ Body client.NewRelease }

func (v *Service) addRelease(ctx context.Context, in *newReleaseIn) (client.Release, error) {
	b := in.Body
	sheet, err := v.store.Sheet(ctx, b.Model)
	if err != nil {
		return client.Release{}, err
	}
	r := &model.Release{ID: store.NewID(), Model: b.Model, Version: b.Version, Channel: b.Channel, Supersedes: b.Supersedes, Fits: b.Fits, At: v.clock.Now().UTC()}
	if b.Cures != "" {
		r.Cures = model.Words{"en": b.Cures}
	}
	for _, p := range b.Parts {
		data, err := v.store.Image(ctx, p.Image)
		if err != nil {
			return client.Release{}, err
		}
		im, format, err := registry.Decode(data, p.Format, p.Address)
		if err != nil {
			return client.Release{}, err
		}
		from, to := im.Extent()
		r.Parts = append(r.Parts, model.Part{Name: p.Name, Image: p.Image, Format: format, Address: p.Address, Content: im.Content(), From: from, To: to, Bytes: im.Bytes()})
	}
	if err := r.Check(sheet); err != nil {
		return client.Release{}, err
	}
	document, err := v.store.AddRelease(ctx, r)
	return client.Release{Release: *r, Document: document}, err
}

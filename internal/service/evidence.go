package service

import (
	"context"
	"strings"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

const maxEvidence = 8 << 20

type evidenceIn struct {
	Kind    string `query:"kind" enum:"image/jpeg,image/png,image/webp,text/plain" default:"image/jpeg"`
	RawBody []byte
}

// evidenceBegins is how files of each kind begin.
var evidenceBegins = map[string]string{"image/jpeg": "\xFF\xD8\xFF", "image/png": "\x89PNG\r\n\x1A\n", "image/webp": "RIFF"}

// putEvidence keeps a photo or a text that stands behind a fact.
func (v *Service) putEvidence(ctx context.Context, in *evidenceIn) (client.Kept, error) {
	if len(in.RawBody) == 0 || len(in.RawBody) > maxEvidence {
		return client.Kept{}, core.Fail(core.BadFile, "evidence has 1 byte to %d MiB, this has %d bytes", maxEvidence>>20, len(in.RawBody))
	}
	if !strings.HasPrefix(string(in.RawBody[:min(16, len(in.RawBody))]), evidenceBegins[in.Kind]) {
		return client.Kept{}, core.Fail(core.BadFile, "this is not a file of kind %s", in.Kind)
	}
	d := core.DigestOf(in.RawBody)
	return client.Kept{Digest: d}, v.store.PutEvidence(ctx, store.Evidence{Digest: d[:], Kind: in.Kind, Length: len(in.RawBody), Body: in.RawBody, By: who(ctx).person.ID, At: v.clock.Now().UTC()})
}

type evidenceOut struct {
	ContentType string `header:"Content-Type"`
	Sandbox     string `header:"Content-Security-Policy"`
	Sniff       string `header:"X-Content-Type-Options"`
	Body        []byte
}

func (v *Service) getEvidence(ctx context.Context, in *imagePath) (*evidenceOut, error) {
	d, err := core.ParseDigest(in.Digest)
	if err != nil {
		return nil, err
	}
	e, err := v.store.Evidence(ctx, d)
	if err == nil && e.Body == nil {
		err = core.Fail(core.NotFound, "evidence %s was removed", d.Short())
	}
	return &evidenceOut{e.Kind, "default-src 'none'; sandbox", "nosniff", e.Body}, err
}

package evidence

import (
	"context"
	"strings"

	"zealousferry/core"
	"zealousferry/core/photo"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

const maxEvidence = 8 << 20

type evidenceIn struct {
	Kind    string `query:"kind" enum:"image/jpeg,image/png,image/webp,text/plain" default:"image/jpeg"`
	RawBody []byte
}

// evidenceBegins is how files of each kind begin.
var evidenceBegins = map[string]string{"image/jpeg": "\xFF\xD8\xFF", "image/png": "\x89PNG\r\n\x1A\n", "image/webp": "RIFF"}

// putEvidence keeps a photo or a text that stands behind a fact. Of a photo nothing is kept but
// the picture: not where and when it was taken, nor with what.
func (v *Evidence) putEvidence(ctx context.Context, in *evidenceIn) (client.Kept, error) {
	if len(in.RawBody) == 0 || len(in.RawBody) > maxEvidence {
		return client.Kept{}, core.Fail(core.BadFile, "evidence has 1 byte to %d MiB, this has %d bytes", maxEvidence>>20, len(in.RawBody))
	}
	if !strings.HasPrefix(string(in.RawBody[:min(16, len(in.RawBody))]), evidenceBegins[in.Kind]) {
		return client.Kept{}, core.Fail(core.BadFile, "this is not a file of kind %s", in.Kind)
	}
	body := in.RawBody
	if in.Kind != "text/plain" {
		var err error
		if body, err = photo.Clean(in.Kind, body); err != nil {
			return client.Kept{}, err
		}
	}
	giveBack, err := v.People.Sends(ctx, people.SentPhotos, int64(len(body)))
	if err != nil {
		return client.Kept{}, err
	}
	d := core.DigestOf(body)
	if err := v.store.PutEvidence(ctx, store.Evidence{Digest: d[:], Kind: in.Kind, Length: len(body), Body: body, By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()}); err != nil {
		giveBack()
		return client.Kept{}, err
	}
	return client.Kept{Digest: d}, nil
}

type evidenceOut struct {
	ContentType string `header:"Content-Type"`
	Sandbox     string `header:"Content-Security-Policy"`
	Sniff       string `header:"X-Content-Type-Options"`
	Body        []byte
}

func (v *Evidence) getEvidence(ctx context.Context, in *frame.DigestPath) (*evidenceOut, error) {
	d, err := core.ParseDigest(in.Digest)
	if err != nil {
		return nil, err
	}
	e, err := v.store.Evidence(ctx, d)
	switch {
	case err != nil:
	case e.Body == nil:
		err = core.Fail(core.NotFound, "evidence %s was removed", d.Short())
	case core.DigestOf(e.Body) != d:
		err = core.Fail(core.VerifyDiffers, "evidence %s is not what was kept under that SHA-256: it was changed in the database", d.Short())
	}
	return &evidenceOut{e.Kind, "default-src 'none'; sandbox", "nosniff", e.Body}, err
}

// EvidencePath names evidence.
type EvidencePath struct {
	Digest string `path:"digest" maxLength:"64"`
}

type removeEvidenceIn struct {
	EvidencePath
	Body client.Reason
}

// removeEvidence removes a photo or text for good; its digest stays wherever it is named.
func (v *Evidence) removeEvidence(ctx context.Context, in *removeEvidenceIn) (frame.None, error) {
	if err := v.People.Sure(ctx); err != nil {
		return frame.None{}, err
	}
	d, err := core.ParseDigest(in.Digest)
	if err != nil {
		return frame.None{}, err
	}
	if err := v.store.RemoveEvidence(ctx, d); err != nil {
		return frame.None{}, err
	}
	return frame.None{}, v.People.Audit(ctx, people.AuditPhoto, "", "%s: %s", d.Short(), in.Body.Reason)
}

package service

import (
	"context"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/registry"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// secretPurpose is what the service's key is bent to for the team's secrets.
const secretPurpose = "ferry-team-secret/1"

// secretsOf lists what the sheet of a model asks for, and what was entered.
func (v *Service) secretsOf(ctx context.Context, name string, asked []string) ([]client.ModelSecret, error) {
	rows, err := v.store.ModelSecrets(ctx, name)
	if err != nil {
		return nil, err
	}
	names, err := v.store.Names(ctx)
	var all []client.ModelSecret
	for _, r := range rows {
		one := client.ModelSecret{Name: r.Name, Asked: slices.Contains(asked, r.Name), By: names[r.By], At: &r.At, Uses: r.Uses}
		if r.Last.Valid {
			one.Last = &r.Last.Time
		}
		all = append(all, one)
	}
	for _, a := range asked {
		if !slices.ContainsFunc(rows, func(r store.ModelSecret) bool { return r.Name == a }) {
			all = append(all, client.ModelSecret{Name: a, Asked: true})
		}
	}
	return all, err
}

type newSecretIn struct {
	ModelPath
	Body client.NewModelSecret
}

// putSecret keeps a secret of a model, sealed under a key that is not in the database; it
// is never shown again.
func (v *Service) putSecret(ctx context.Context, in *newSecretIn) (none, error) {
	sheet, err := v.store.Sheet(ctx, in.Model)
	if err != nil {
		return none{}, err
	}
	b := in.Body
	asked := registry.Secrets(sheet)
	if b.Value != "" && !slices.Contains(asked, b.Name) {
		if len(asked) == 0 {
			return none{}, core.Fail(core.NotFound, "the sheet of %s asks for no secret", in.Model)
		}
		return none{}, core.Fail(core.NotFound, "the sheet of %s asks for no secret %q; it asks for %s", in.Model, b.Name, strings.Join(asked, ", "))
	}
	m := store.ModelSecret{Model: in.Model, Name: b.Name, By: who(ctx).person.ID, At: v.clock.Now().UTC()}
	if b.Value != "" {
		if strings.ContainsAny(b.Value, "\r\n") {
			return none{}, core.Fail(core.BadFile, "a secret is one line")
		}
		if m.Sealed, err = v.key.SealFor(secretPurpose, in.Model+" "+b.Name, []byte(b.Value)); err != nil {
			return none{}, err
		}
	}
	return none{}, v.store.PutModelSecret(ctx, m)
}

// benchSecret gives a secret to the bench that works on an open run, and notes that.
func (v *Service) benchSecret(ctx context.Context, in *rawIn) (client.GivenSecret, error) {
	w, err := decode[client.WantSecret](in.RawBody)
	if err != nil {
		return client.GivenSecret{}, err
	}
	r, err := v.store.Run(ctx, w.Run)
	if err != nil {
		return client.GivenSecret{}, err
	}
	if r.Bench != who(ctx).bench || r.State == store.RunClosed {
		return client.GivenSecret{}, core.Fail(core.NotAllowed, "a secret is given to the bench that works on an open run alone")
	}
	u, err := v.store.Unit(ctx, r.Unit)
	if err != nil {
		return client.GivenSecret{}, err
	}
	sheet, err := v.store.Sheet(ctx, u.Model)
	if err != nil {
		return client.GivenSecret{}, err
	}
	if !slices.Contains(registry.Secrets(sheet), w.Name) {
		return client.GivenSecret{}, core.Fail(core.NotAllowed, "the sheet of %s asks for no secret %q", u.Model, w.Name)
	}
	sealed, err := v.store.GiveModelSecret(ctx, v.key, r, u.Model, w.Name, r.Bench, v.clock.Now())
	if core.KindOf(err) == core.NotFound {
		return client.GivenSecret{}, core.AsError(err, "").Go(words.ModelSecret(u.Model, w.Name).To("A lead enters it"))
	}
	if err != nil {
		return client.GivenSecret{}, err
	}
	value, err := v.key.OpenFor(secretPurpose, u.Model+" "+w.Name, sealed)
	return client.GivenSecret{Value: string(value)}, err
}

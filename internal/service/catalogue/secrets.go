package catalogue

import (
	"context"
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// secretPurpose is what the service's key is bent to for the team's secrets.
const secretPurpose = "ferry-team-secret/1"

// secretsOf lists what the sheet of a model asks for, and what was entered.
func (v *Catalogue) secretsOf(ctx context.Context, name string, asked []string) ([]client.ModelSecret, error) {
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
func (v *Catalogue) putSecret(ctx context.Context, in *newSecretIn) (frame.None, error) {
	sheet, err := v.store.Sheet(ctx, in.Model)
	if err != nil {
		return frame.None{}, err
	}
	b := in.Body
	asked := registry.Secrets(sheet)
	if b.Value != "" && !slices.Contains(asked, b.Name) {
		if len(asked) == 0 {
			return frame.None{}, core.Fail(core.NotFound, "the sheet of %s asks for no secret", in.Model)
		}
		return frame.None{}, core.Fail(core.NotFound, "the sheet of %s asks for no secret %q; it asks for %s", in.Model, b.Name, strings.Join(asked, ", "))
	}
	m := store.ModelSecret{Model: in.Model, Name: b.Name, By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()}
	if b.Value != "" {
		if strings.ContainsAny(b.Value, "\r\n") {
			return frame.None{}, core.Fail(core.NotUnderstood, "a secret is one line")
		}
		if m.Sealed, err = v.key.SealFor(secretPurpose, in.Model+" "+b.Name, []byte(b.Value)); err != nil {
			return frame.None{}, err
		}
	}
	return frame.None{}, v.store.PutModelSecret(ctx, m)
}

// benchSecret gives a secret to the bench that works on an open run, and notes that. One
// that keys are made with is not given.
func (v *Catalogue) benchSecret(ctx context.Context, in *frame.RawIn) (client.GivenSecret, error) {
	w, err := frame.Decode[client.WantSecret](in.RawBody)
	if err != nil {
		return client.GivenSecret{}, err
	}
	value, err := v.secretFor(ctx, w, "the secret "+w.Name+" was given to the bench for this run", func(u store.Unit, sheet *model.Sheet) error {
		if registry.MakesKeys(sheet, w.Name) {
			return core.Fail(core.NotAllowed, "the secret %q of %s makes keys, and stays with the service", w.Name, u.Model)
		}
		return nil
	})
	return client.GivenSecret{Value: value}, err
}

// benchSeedKey makes the key of a module's seed for the bench that works on an open run.
func (v *Catalogue) benchSeedKey(ctx context.Context, in *frame.RawIn) (client.GivenKey, error) {
	w, err := frame.Decode[client.WantKey](in.RawBody)
	if err != nil {
		return client.GivenKey{}, err
	}
	rule, length := "", 0
	value, err := v.secretFor(ctx, w.WantSecret, "keys were made with the secret "+w.Name+" for this run", func(u store.Unit, sheet *model.Sheet) (err error) {
		var ok bool
		if rule, length, ok = registry.KeyOf(sheet, w.Name, w.Level); !ok {
			return core.Fail(core.NotAllowed, "the sheet of %s makes no key of level 0x%02X with %q", u.Model, w.Level, w.Name)
		}
		return nil
	})
	if err != nil {
		return client.GivenKey{}, err
	}
	key, err := trust.SeedKey(rule, value, w.Level, w.Seed, length)
	return client.GivenKey{Key: key}, err
}

// secretFor opens a secret for an open run, once may has nothing against it. how is what
// the unit's history says of that, once for a run.
func (v *Catalogue) secretFor(ctx context.Context, w client.WantSecret, how string, may func(store.Unit, *model.Sheet) error) (string, error) {
	r, err := v.store.Run(ctx, w.Run)
	if err != nil {
		return "", err
	}
	if r.Bench != frame.Who(ctx).Bench || r.State == store.RunClosed {
		return "", core.Fail(core.NotAllowed, "a secret is given to the bench that works on an open run alone")
	}
	u, err := v.store.Unit(ctx, r.Unit)
	if err != nil {
		return "", err
	}
	sheet, err := v.store.Sheet(ctx, u.Model)
	if err != nil {
		return "", err
	}
	if !slices.Contains(registry.Secrets(sheet), w.Name) {
		return "", core.Fail(core.NotAllowed, "the sheet of %s asks for no secret %q", u.Model, w.Name)
	}
	if err := may(u, sheet); err != nil {
		return "", err
	}
	sealed, err := v.store.GiveModelSecret(ctx, v.key, r, u.Model, w.Name, r.Bench, how, v.clock.Now())
	if core.KindOf(err) == core.NotFound {
		return "", core.AsError(err, "").Go(words.ModelSecret(u.Model, w.Name).To("A lead enters it"))
	}
	if err != nil {
		return "", err
	}
	value, err := v.key.OpenFor(secretPurpose, u.Model+" "+w.Name, sealed)
	return string(value), err
}

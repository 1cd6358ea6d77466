package people

import (
	"bytes"
	"context"
	"encoding/base64"
	"image/png"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"zealousferry/core"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// What the audit log keeps of second factors.
const (
	auditFactor      = "factor-set-up"
	auditFactorEnded = "factor-taken-away"
)

// A second factor is a code of six digits for each half minute (TOTP, RFC 6238, with SHA-1, as
// the programs have it that people carry). One step of time either way is taken, for clocks.
const (
	factorPeriod = 30
	factorSkew   = 1
	// sureFor is how long somebody is sure to be who he is, once he has shown his factor.
	sureFor = 5 * time.Minute
)

// factorPurpose is that of the key under which the secrets of second factors are sealed; it is
// not in the database.
const factorPurpose = "ferry-factor/1"

// stepOf gives the step of time of which a code is, by the sealed secret of a second factor.
func (v *People) stepOf(p store.Person, sealed []byte, code string) (int64, error) {
	secret, err := v.key.OpenFor(factorPurpose, p.ID, sealed)
	if err != nil {
		return 0, err
	}
	now := v.clock.Now()
	for skew := -factorSkew; skew <= factorSkew; skew++ {
		at := now.Add(time.Duration(skew*factorPeriod) * time.Second)
		is, err := totp.ValidateCustom(code, string(secret), at, totp.ValidateOpts{Period: factorPeriod, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
		if err == nil && is {
			return at.Unix() / factorPeriod, nil
		}
	}
	return 0, core.Fail(core.NotAllowed, "this is not the code of the second factor").Do("Type the six digits that it shows now. Is the clock of the device right?")
}

// showFactor takes a code of somebody's second factor: no code counts twice.
func (v *People) showFactor(ctx context.Context, p store.Person, code string) error {
	step, err := v.stepOf(p, p.Factor, code)
	if err != nil {
		return err
	}
	return v.store.UseFactor(ctx, p.ID, step)
}

// showFirst takes a code of a second factor that waits for its first, which makes it count, or
// else one of the factor that counts.
func (v *People) showFirst(ctx context.Context, p store.Person, code string) error {
	if len(p.Next) > 0 {
		step, err := v.stepOf(p, p.Next, code)
		if err == nil {
			if err := v.store.BeginFactor(ctx, p.ID, p.Next, step, v.clock.Now()); err != nil {
				return err
			}
			return v.Audit(ctx, auditFactor, "", "%s", p.Name)
		}
		if !p.FactorAt.Valid {
			return err
		}
	}
	return v.showFactor(ctx, p, code)
}

// withFactor asks whoever signs in for his second factor, if he has one. Wrong ones count like
// wrong passwords.
func (v *People) withFactor(ctx context.Context, p store.Person, code string) error {
	if !p.FactorAt.Valid {
		return nil
	}
	if code == "" {
		return core.Fail(core.CannotTell, "the code of the second factor is wanted as well").Do("Type the six digits that it shows now. If the device is lost, a lead takes the factor away.")
	}
	typed, address := core.DigestOf([]byte("factor "+p.ID)), frame.Who(ctx).Address
	if err := v.waits(ctx, typed, address); err != nil {
		return err
	}
	if err := v.showFactor(ctx, p, code); err != nil {
		if wrong := v.store.SignInFailed(ctx, typed, address, v.clock.Now()); wrong != nil {
			return wrong
		}
		if wrong := v.Audit(ctx, auditSignInFailed, p.ID, "second factor, from %s", frame.Short(frame.Who(ctx).Agent+", "+address, 200)); wrong != nil {
			return wrong
		}
		return err
	}
	return v.store.SignedIn(ctx, typed, address)
}

// Sure asks whoever has a second factor or a passkey to have shown it within the last five
// minutes, before what others must be able to rely on: trust, withdrawals, ends of accounts and
// benches, letting a machine in.
func (v *People) Sure(ctx context.Context) error {
	c := frame.Who(ctx)
	if c.By.Confirmed.Valid && v.clock.Now().Sub(c.By.Confirmed.Time) < sureFor {
		return nil
	}
	if c.Person.FactorAt.Valid {
		return core.Fail(core.NotAllowed, "this wants your second factor again: it was shown more than five minutes ago").Go(words.Confirm().To("Show it"))
	}
	keys, err := v.store.Passkeys(ctx, c.Person.ID)
	if err != nil || len(keys) == 0 {
		return err
	}
	no := core.Fail(core.NotAllowed, "this wants your passkey again: it was used more than five minutes ago")
	if c.By.Kind != store.SecretSession { // a terminal has none
		return no.Go(words.SignIn().To("Sign this machine in anew, and let it in from the console with your passkey"))
	}
	return no.Do("Use it: the page Team has a button for it.")
}

// newFactor makes the secret of a second factor; it counts, in place of an older one, once its
// first code was shown.
func (v *People) newFactor(ctx context.Context, _ *frame.None) (client.Factor, error) {
	c := frame.Who(ctx)
	if err := v.Sure(ctx); err != nil {
		return client.Factor{}, err
	}
	k, err := totp.Generate(totp.GenerateOpts{Issuer: "Zealous Ferry", AccountName: c.Person.Name, Period: factorPeriod, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
	if err != nil {
		return client.Factor{}, err
	}
	sealed, err := v.key.SealFor(factorPurpose, c.Person.ID, []byte(k.Secret()))
	if err != nil {
		return client.Factor{}, err
	}
	picture, err := k.Image(220, 220)
	if err != nil {
		return client.Factor{}, err
	}
	var b bytes.Buffer
	if err := png.Encode(&b, picture); err != nil {
		return client.Factor{}, err
	}
	return client.Factor{Secret: k.Secret(), Address: k.URL(), Picture: "data:image/png;base64," + base64.StdEncoding.EncodeToString(b.Bytes())}, v.store.NextFactor(ctx, c.Person.ID, sealed)
}

type showFactorIn struct{ Body client.FactorCode }

// confirm takes a code of one's second factor, or what one's passkey has signed: the first code
// makes the factor count, each makes sure for five minutes that it is oneself.
func (v *People) confirm(ctx context.Context, in *showFactorIn) (frame.None, error) {
	c := frame.Who(ctx)
	if in.Body.State != "" {
		if _, err := v.byPasskey(ctx, dareSure, c.Person.ID, in.Body.State, in.Body.Passkey); err != nil {
			return frame.None{}, err
		}
		return frame.None{}, v.store.ConfirmSecret(ctx, c.Secret, v.clock.Now())
	}
	if in.Body.Code == "" {
		return frame.None{}, core.Fail(core.NotUnderstood, "expected the six digits that the second factor shows, came nothing").Do("Type them.")
	}
	if len(c.Person.Next) == 0 && !c.Person.FactorAt.Valid {
		return frame.None{}, core.Fail(core.NotFound, "you have no second factor").Do("Set one up in the console, on the page Team.")
	}
	typed := core.DigestOf([]byte("factor " + c.Person.ID))
	if err := v.waits(ctx, typed, c.Address); err != nil {
		return frame.None{}, err
	}
	if err := v.showFirst(ctx, c.Person, in.Body.Code); err != nil {
		if wrong := v.store.SignInFailed(ctx, typed, c.Address, v.clock.Now()); wrong != nil {
			return frame.None{}, wrong
		}
		return frame.None{}, err
	}
	return frame.None{}, v.store.ConfirmSecret(ctx, c.Secret, v.clock.Now())
}

type endFactorIn struct {
	PersonPath
	Body client.Reason
}

// endFactor takes somebody's second factor away: his device is lost.
func (v *People) endFactor(ctx context.Context, in *endFactorIn) (client.Member, error) {
	if err := v.Sure(ctx); err != nil {
		return client.Member{}, err
	}
	p, err := v.active(ctx, in.Person)
	if err == nil && !p.FactorAt.Valid {
		err = core.Fail(core.NotFound, "%s has no second factor", p.Name)
	}
	if err != nil {
		return client.Member{}, err
	}
	if err := v.store.EndFactor(ctx, p.ID); err != nil {
		return client.Member{}, err
	}
	if err := v.Audit(ctx, auditFactorEnded, "", "of %s: %s", p.Name, in.Body.Reason); err != nil {
		return client.Member{}, err
	}
	if p, err = v.store.Person(ctx, p.ID); err != nil {
		return client.Member{}, err
	}
	return v.oneMember(ctx, p)
}

package people

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// freshFor is how old a sign-in may be with which a first password is set.
const freshFor = 15 * time.Minute

type setPasswordIn struct{ Body client.SetPassword }

// setPassword sets one's own password: the first within a quarter of an hour after a sign-in by
// link, each further one by the one before. Other sessions end with it.
func (v *People) setPassword(ctx context.Context, in *setPasswordIn) (frame.None, error) {
	c := frame.Who(ctx)
	if c.By.Kind != store.SecretSession {
		return frame.None{}, core.Fail(core.NotAllowed, "a password is set by somebody who is signed in to the console, not with a token").Do("Sign in to the console, and set it on the page Team.")
	}
	if err := v.Sure(ctx); err != nil {
		return frame.None{}, err
	}
	if err := trust.CheckPassword(in.Body.New, c.Person.Name); err != nil {
		return frame.None{}, err
	}
	if c.Person.Password.Valid {
		if _, err := v.byPassword(ctx, c.Person.Name, in.Body.Old); err != nil {
			return frame.None{}, err
		}
	} else if v.clock.Now().Sub(c.By.Created) > freshFor {
		return frame.None{}, core.Fail(core.NotAllowed, "a first password wants a fresh sign-in, and this one is older than a quarter of an hour").Do("Ask a lead for a new sign-in link, and set it right after.")
	}
	select {
	case v.hashing <- struct{}{}:
		defer func() { <-v.hashing }()
	case <-ctx.Done():
		return frame.None{}, ctx.Err()
	}
	if err := v.store.SetPassword(ctx, c.Person.ID, HashPassword(in.Body.New), c.Secret); err != nil {
		return frame.None{}, err
	}
	return frame.None{}, v.Audit(ctx, auditPassword, "", "%s", c.Person.Name)
}

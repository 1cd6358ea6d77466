package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

const (
	sessionLasts = 12 * time.Hour
	sessionIdle  = 2 * time.Hour   // without a request it ends
	seenEvery    = 5 * time.Minute // how often it is noted that a session or token is used
	inviteLasts  = 24 * time.Hour
	// SignInLasts is how long a sign-in code is good.
	SignInLasts = 10 * time.Minute
	// EnrolLasts is how long an enrolment code is good.
	EnrolLasts = 30 * time.Minute
)

// Secret makes the text of a new secret and its digest.
func Secret() (string, core.Digest) {
	b := make([]byte, 24)
	rand.Read(b)
	text := base64.RawURLEncoding.EncodeToString(b)
	return text, core.DigestOf([]byte(text))
}

// IdentifyCaller looks up the session or token of a request. Without one the
// request goes on as nobody's; routes say whom they let in.
func (v *People) IdentifyCaller(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, kind := "", store.SecretToken
		if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			text = bearer
		} else if c, err := r.Cookie(v.SessionCookie()); err == nil {
			text, kind = c.Value, store.SecretSession
		}
		c := frame.Caller{Host: r.Host, Agent: frame.Agent(r.UserAgent()), Method: r.Method, Path: r.URL.Path, Signed: r.Header.Get(client.SignedHeader)}
		c.Address = v.proxies.from(r)
		if text != "" && len(text) < 200 {
			known, err := v.lookUp(r.Context(), c, text, kind)
			if err == nil {
				c = known
			} else if core.KindOf(err) == "" || errors.Is(err, store.ErrChanged) {
				frame.WriteProblem(w, v.Fail(r.Context(), err))
				return
			}
		}
		next.ServeHTTP(w, r.WithContext(frame.As(r.Context(), c)))
	})
}

func (v *People) lookUp(ctx context.Context, c frame.Caller, text, kind string) (frame.Caller, error) {
	c.Secret = core.DigestOf([]byte(text))
	now := v.clock.Now()
	x, err := v.store.Secret(ctx, c.Secret, now)
	if err != nil {
		return c, err
	}
	if x.Kind != kind {
		return c, core.Fail(core.NotAllowed, "this is not a %s", kind)
	}
	c.By = x
	if x.Bench.Valid {
		c.Bench = x.Bench.String
		return c, nil
	}
	if c.Person, err = v.store.Person(ctx, x.Person.String); err != nil {
		return c, err
	}
	last := x.Created
	if x.Seen.Valid {
		last = x.Seen.Time
	}
	switch {
	case c.Person.Ended.Valid:
		return c, core.Fail(core.NotFound, "this account was ended")
	case kind == store.SecretSession && now.Sub(last) > sessionIdle:
		return c, core.Fail(core.NotFound, "this session was idle for too long")
	case !x.Seen.Valid || now.Sub(last) > seenEvery:
		if err := v.store.SeenSecret(ctx, c.Secret, now, frame.Short(c.Agent+", "+c.Address, 200)); err != nil {
			return c, err
		}
	}
	c.Person.Role, c.Person.Bound = capped(c.Person.Role, x.Scope), store.At(x.Sites)
	return c, nil
}

// capped is what a token of a scope may do of what its owner may.
func capped(role, scope string) string {
	switch {
	case scope == client.ScopeRead:
		return frame.Viewer
	case scope == client.ScopeWork && role == frame.Lead:
		return frame.Technician
	case scope == client.ScopeCatalogue && role != frame.Lead: // a lead's to change
		return frame.Viewer
	}
	return role
}

// Argon2id parameters (RFC 9106, section 4, for constrained memory).
const (
	argonTime, argonMemory, argonThreads, argonKey = 3, 64 << 10, 4, 32
)

// HashPassword makes the text that is kept of a password.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	b64 := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads, b64(salt), b64(key))
}

func passwordMatches(kept, password string) bool {
	var version, memory, passes int
	var threads uint8
	parts := strings.Split(kept, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &passes, &threads); err != nil || version != argon2.Version {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	key, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || err2 != nil || len(key) == 0 {
		return false
	}
	return subtle.ConstantTimeCompare(key, argon2.IDKey([]byte(password), salt, uint32(passes), uint32(memory), threads, uint32(len(key)))) == 1
}

// nobodysPassword is checked when a name is not known, so that it takes as long.
var nobodysPassword = sync.OnceValue(func() string { return HashPassword("nobody") })

type signIn struct {
	Code     string `json:"code,omitempty" maxLength:"200" doc:"A one-use sign-in code."`
	Name     string `json:"name,omitempty" maxLength:"120"`
	Password string `json:"password,omitempty" maxLength:"200"`
	Factor   string `json:"factor,omitempty" maxLength:"6" doc:"The code of the second factor, where the account has one: six digits."`

	State    string    `json:"state,omitempty" maxLength:"8192" doc:"Of a passkey: as /api/session/passkey gave it."`
	Provider *backFrom `json:"provider,omitempty" doc:"Of the identity provider: what it has sent the browser back with; state is what /api/session/provider gave."`

	Passkey json.RawMessage `json:"passkey,omitempty" doc:"What the device has signed: PublicKeyCredential.toJSON() of W3C Web Authentication."`
}

type signInIn struct{ Body signIn }

type signInOut struct {
	Cookie http.Cookie `header:"Set-Cookie"`
	Body   client.Person
}

func (v *People) signIn(ctx context.Context, in *signInIn) (*signInOut, error) {
	now := v.clock.Now()
	ends, scope, how := now.Add(sessionLasts), "", "with a password"
	var p store.Person
	var err error
	if in.Body.Code != "" {
		d := core.DigestOf([]byte(in.Body.Code))
		x, err := v.store.Secret(ctx, d, now)
		if err == nil && x.Kind == store.SecretSignIn && !x.Used.Valid { // it is used up once the second factor is there
			if p, err = v.store.Person(ctx, x.Person.String); err != nil {
				return nil, err
			}
			if err := v.withFactor(ctx, p, in.Body.Factor); err != nil {
				return nil, err
			}
		}
		if x, err = v.store.UseSecret(ctx, d, store.SecretSignIn, now); err != nil {
			return nil, err
		}
		if x.Until.Valid && x.Until.Time.Before(ends) {
			ends = x.Until.Time
		}
		scope, how = x.Scope, "with a link"
	} else if in.Body.Provider != nil { // it has asked for its own factors
		if v.provider == nil {
			return nil, v.noProvider()
		}
		from, address := core.DigestOf([]byte("provider "+in.Body.State)), frame.Who(ctx).Address // there is no name: the address alone waits
		if err := v.waits(ctx, from, address); err != nil {
			return nil, err
		}
		if p, err = v.byProvider(ctx, in.Body.State, *in.Body.Provider); core.KindOf(err) == core.NotAllowed {
			return nil, errors.Join(err, v.store.SignInFailed(ctx, from, address, now), v.Audit(ctx, auditSignInFailed, "", "by the identity provider, from %s", frame.Short(frame.Who(ctx).Agent+", "+address, 200)))
		} else if err != nil {
			return nil, err
		}
		if err := v.store.SignedIn(ctx, from, address); err != nil {
			return nil, err
		}
		if err := v.withFactor(ctx, p, in.Body.Factor); err != nil {
			return nil, err
		}
		how = "by the identity provider"
	} else if in.Body.State != "" { // it stands for both factors
		if p, err = v.byPasskey(ctx, dareIn, "", in.Body.State, in.Body.Passkey); err != nil {
			return nil, err
		}
		how = "with a passkey"
	} else if p, err = v.byPassword(ctx, in.Body.Name, in.Body.Password); err != nil {
		return nil, err
	} else if err := v.withFactor(ctx, p, in.Body.Factor); err != nil {
		return nil, err
	}
	if p.Ended.Valid {
		return nil, core.Fail(core.NotAllowed, "this account was ended").Do("Ask a lead.")
	}
	text, digest := Secret()
	c := frame.Who(ctx)
	from := frame.Short(c.Agent+", "+c.Address, 200)
	if err := v.store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretSession, Person: sql.NullString{String: p.ID, Valid: true}, Expires: sql.NullTime{Time: ends.UTC(), Valid: true}, Scope: scope, From: from, Created: now, Confirmed: sql.NullTime{Time: now.UTC(), Valid: p.FactorAt.Valid || len(in.Body.Passkey) > 0}}); err != nil {
		return nil, err
	}
	p.Role = capped(p.Role, scope)
	return &signInOut{v.cookie(text, ends), person(p)}, v.Audit(ctx, auditSignedIn, p.ID, "%s, from %s", how, from)
}

// SessionCookie is the name of the cookie that holds a session. Over TLS no other host, and
// nothing without encryption, can have set it (RFC 6265bis, section 4.1.3.2).
func (v *People) SessionCookie() string {
	if v.Secure {
		return "__Host-ferry_session"
	}
	return "ferry_session"
}

func (v *People) cookie(text string, ends time.Time) http.Cookie {
	return http.Cookie{Name: v.SessionCookie(), Value: text, Path: "/", Expires: ends, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: v.Secure}
}

func (v *People) byPassword(ctx context.Context, name, password string) (store.Person, error) {
	typed, address := core.DigestOf([]byte(strings.ToLower(strings.TrimSpace(name)))), frame.Who(ctx).Address
	if err := v.waits(ctx, typed, address); err != nil {
		return store.Person{}, err
	}
	select {
	case v.hashing <- struct{}{}:
		defer func() { <-v.hashing }()
	case <-ctx.Done():
		return store.Person{}, ctx.Err()
	}
	p, err := v.store.Person(ctx, name)
	if err != nil && core.KindOf(err) != core.NotFound {
		return p, err
	}
	kept := p.Password.String
	if kept == "" {
		kept = nobodysPassword()
	}
	if !passwordMatches(kept, password) || !p.Password.Valid {
		wrong := core.Fail(core.NotAllowed, "name and password do not belong together").Do("Try again, or ask a lead for a sign-in link.")
		return p, errors.Join(wrong, v.store.SignInFailed(ctx, typed, address, v.clock.Now()), v.Audit(ctx, auditSignInFailed, p.ID, "from %s", frame.Short(frame.Who(ctx).Agent+", "+address, 200)))
	}
	return p, v.store.SignedIn(ctx, typed, address)
}

// waits refuses who has typed too many wrong passwords, for a time that doubles with each: for
// the name, and for the address. Nobody who comes from elsewhere waits for that.
func (v *People) waits(ctx context.Context, name core.Digest, address string) error {
	now := v.clock.Now()
	named, all, last, err := v.store.SignInFailures(ctx, name, address, now)
	if err != nil {
		return err
	}
	n := max(named-4, all-19)
	if n <= 0 {
		return nil
	}
	if left := last.Add(min(time.Second<<min(n-1, 10), 5*time.Minute)).Sub(now); left > 0 {
		return core.Fail(core.Busy, "%d wrong passwords have come from here", all).Do("Wait %d s, or ask a lead for a sign-in link.", int(left.Seconds())+1)
	}
	return nil
}

type signOutOut struct {
	Cookie http.Cookie `header:"Set-Cookie"`
}

func (v *People) signOut(ctx context.Context, _ *struct{}) (*signOutOut, error) {
	if err := v.store.DropSecret(ctx, frame.Who(ctx).Secret); err != nil {
		return nil, err
	}
	return &signOutOut{v.cookie("", time.Unix(1, 0))}, nil
}

// person is how somebody is shown.
func person(p store.Person) client.Person {
	return client.Person{ID: p.ID, Name: p.Name, Role: p.Role}
}

// newSignInCode lets somebody who has a token open the console: what comes of it may no more
// than the token, and ends with it. A session makes none: it would renew itself for ever.
func (v *People) newSignInCode(ctx context.Context, _ *frame.None) (client.Code, error) {
	c := frame.Who(ctx)
	if c.By.Kind == store.SecretSession {
		return client.Code{}, core.Fail(core.NotAllowed, "a session makes no sign-in links").Do("Sign in again on the other machine; a lead makes a link for somebody else.")
	}
	return v.linkFor(ctx, c.Person.ID, SignInLasts, c.By.Scope, c.By.Expires)
}

// linkFor makes the code of a one-use sign-in link for somebody.
func (v *People) linkFor(ctx context.Context, person string, lasts time.Duration, scope string, until sql.NullTime) (client.Code, error) {
	text, digest := Secret()
	ends := v.clock.Now().Add(lasts).UTC()
	err := v.store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretSignIn, Person: sql.NullString{String: person, Valid: true}, Expires: sql.NullTime{Time: ends, Valid: true}, Scope: scope, Until: until})
	return client.Code{Code: text, Expires: ends}, err
}

// whoAmI is whoever is signed in.
func (v *People) whoAmI(ctx context.Context, _ *frame.None) (client.Person, error) {
	return person(frame.Who(ctx).Person), nil
}

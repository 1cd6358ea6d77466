package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// The roles, from the least.
const (
	Viewer     = "viewer"
	Technician = "technician"
	Lead       = "lead"
	benchOnly  = "bench"
	anybody    = ""
)

var rank = map[string]int{Viewer: 1, Technician: 2, Lead: 3}

const (
	sessionCookie = "ferry_session"
	sessionLasts  = 12 * time.Hour
	// SignInLasts is how long a sign-in code is good.
	SignInLasts = 10 * time.Minute
	// EnrolLasts is how long an enrolment code is good.
	EnrolLasts = 30 * time.Minute
)

// caller is who made a request.
type caller struct {
	person store.Person
	bench  string
	secret core.Digest
}

type callerKey struct{}

func who(ctx context.Context) caller {
	c, _ := ctx.Value(callerKey{}).(caller)
	return c
}

// Secret makes the text of a new secret and its digest.
func Secret() (string, core.Digest) {
	b := make([]byte, 24)
	rand.Read(b)
	text := base64.RawURLEncoding.EncodeToString(b)
	return text, core.DigestOf([]byte(text))
}

// identifyCaller looks up the session or token of a request. Without one the
// request goes on as nobody's; routes say whom they let in.
func (v *Service) identifyCaller(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, kind := "", store.SecretToken
		if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			text = bearer
		} else if c, err := r.Cookie(sessionCookie); err == nil {
			text, kind = c.Value, store.SecretSession
		}
		if text != "" && len(text) < 200 {
			c, err := v.lookUp(r.Context(), text, kind)
			if err == nil {
				r = r.WithContext(context.WithValue(r.Context(), callerKey{}, c))
			} else if core.KindOf(err) == "" {
				writeProblem(w, v.fail(r.Context(), err))
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

func (v *Service) lookUp(ctx context.Context, text, kind string) (c caller, err error) {
	c.secret = core.DigestOf([]byte(text))
	x, err := v.store.Secret(ctx, c.secret, v.clock.Now())
	if err != nil {
		return c, err
	}
	if x.Kind != kind {
		return c, core.Fail(core.NotAllowed, "this is not a %s", kind)
	}
	if x.Bench.Valid {
		c.bench = x.Bench.String
		return c, nil
	}
	c.person, err = v.store.Person(ctx, x.Person.String)
	return c, err
}

func writeProblem(w http.ResponseWriter, err error) {
	p, ok := err.(*problem)
	if !ok {
		p = &problem{Explain(err)}
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}

// allow checks the caller against the role that a route asks for.
func allow(c caller, role string) error {
	switch {
	case role == anybody:
		return nil
	case role == benchOnly && c.bench != "":
		return nil
	case c.person.ID == "" && c.bench == "":
		return plainProblem(http.StatusUnauthorized, "nobody is signed in")
	case c.person.ID == "" || role == benchOnly || rank[c.person.Role] < rank[role]:
		return core.Fail(core.NotAllowed, "this needs the role %s; you are %s", role, roleOf(c)).Do("Ask somebody with that role.")
	}
	return nil
}

func roleOf(c caller) string {
	if c.bench != "" {
		return "a bench"
	}
	return c.person.Role
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
}

type signInIn struct{ Body signIn }

type signInOut struct {
	Cookie http.Cookie `header:"Set-Cookie"`
	Body   client.Person
}

func (v *Service) signIn(ctx context.Context, in *signInIn) (*signInOut, error) {
	now := v.clock.Now()
	var p store.Person
	var err error
	if in.Body.Code != "" {
		x, err := v.store.UseSecret(ctx, core.DigestOf([]byte(in.Body.Code)), store.SecretSignIn, now)
		if err != nil {
			return nil, err
		}
		if p, err = v.store.Person(ctx, x.Person.String); err != nil {
			return nil, err
		}
	} else if p, err = v.byPassword(ctx, in.Body.Name, in.Body.Password); err != nil {
		return nil, err
	}
	text, digest := Secret()
	ends := now.Add(sessionLasts)
	if err := v.store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretSession, Person: sql.NullString{String: p.ID, Valid: true}, Expires: sql.NullTime{Time: ends.UTC(), Valid: true}}); err != nil {
		return nil, err
	}
	return &signInOut{v.cookie(text, ends), person(p)}, nil
}

func (v *Service) cookie(text string, ends time.Time) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: text, Path: "/", Expires: ends, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: v.secure}
}

func (v *Service) byPassword(ctx context.Context, name, password string) (store.Person, error) {
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
		return p, core.Fail(core.NotAllowed, "name and password do not belong together").Do("Try again, or ask a lead for a sign-in link.")
	}
	return p, nil
}

type signOutOut struct {
	Cookie http.Cookie `header:"Set-Cookie"`
}

func (v *Service) signOut(ctx context.Context, _ *struct{}) (*signOutOut, error) {
	if err := v.store.DropSecret(ctx, who(ctx).secret); err != nil {
		return nil, err
	}
	return &signOutOut{v.cookie("", time.Unix(1, 0))}, nil
}

func person(p store.Person) client.Person {
	return client.Person{ID: p.ID, Name: p.Name, Role: p.Role}
}

// newSignInCode lets somebody who has a token open the console.
func (v *Service) newSignInCode(ctx context.Context, _ *none) (client.Code, error) {
	text, digest := Secret()
	ends := v.clock.Now().Add(SignInLasts).UTC()
	err := v.store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretSignIn, Person: sql.NullString{String: who(ctx).person.ID, Valid: true}, Expires: sql.NullTime{Time: ends, Valid: true}})
	return client.Code{Code: text, Expires: ends}, err
}

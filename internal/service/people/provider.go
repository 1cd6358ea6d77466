package people

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// A team may have an identity provider of its own: OpenID Connect Core 1.0, authorization code
// flow (section 3.1) with PKCE (RFC 7636, S256). The provider says who somebody is and, by a
// claim, which role he has; what he may do with it is said here. What belongs to one sign-in
// travels with the browser, sealed.

// Provider is an identity provider, as its file says.
type Provider struct {
	Name   string              `yaml:"name"`   // on the button
	Issuer string              `yaml:"issuer"` // https://…
	Client string              `yaml:"client"` // id of this service there
	Secret string              `yaml:"secret"` // of the client; empty for one that has none
	Claim  string              `yaml:"claim"`  // in which the roles stand; roles where it is left out
	Roles  map[string][]string `yaml:"roles"`  // role here to what the claim may have for it
	Scopes []string            `yaml:"scopes"` // beside openid, profile and email

	mu    sync.Mutex
	found *oidc.Provider
}

// Check finds what is wrong with a provider's file.
func (p *Provider) Check() error {
	u, err := url.Parse(p.Issuer)
	loopback := err == nil && (u.Hostname() == "127.0.0.1" || u.Hostname() == "localhost" || u.Hostname() == "::1")
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && !(u.Scheme == "http" && loopback):
		return core.Fail(core.BadFile, "issuer is %q; expected an address that begins with https://", p.Issuer)
	case p.Client == "":
		return core.Fail(core.BadFile, "client is missing: the id that the provider has given this service")
	case strings.TrimSpace(p.Name) == "" || len(p.Name) > 60:
		return core.Fail(core.BadFile, "name is what the button says, at most 60 characters")
	case len(p.Roles) == 0:
		return core.Fail(core.BadFile, "roles is missing: which value of the claim makes whom a viewer, a technician or a lead")
	}
	for role, values := range p.Roles {
		if !slices.Contains([]string{frame.Viewer, frame.Technician, frame.Lead}, role) {
			return core.Fail(core.BadFile, "roles has %q; expected viewer, technician or lead", role)
		}
		if len(values) == 0 || slices.Contains(values, "") {
			return core.Fail(core.BadFile, "roles.%s names no value of the claim", role)
		}
	}
	if p.Claim == "" {
		p.Claim = "roles"
	}
	return nil
}

// UseProvider has people sign in with an identity provider too.
func (v *People) UseProvider(p *Provider) { v.provider = p }

// providerWaits is how long a provider may take to answer.
const providerWaits = 10 * time.Second

// find asks the provider where its parts are (OpenID Connect Discovery 1.0), once.
func (p *Provider) find() (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found != nil {
		return p.found, nil
	}
	// Its keys are asked for again later, with the client of this context: it does not end.
	found, err := oidc.NewProvider(oidc.ClientContext(context.Background(), &http.Client{Timeout: providerWaits}), p.Issuer)
	if err != nil {
		return nil, core.Fail(core.NotAnswering, "the identity provider %s cannot be used: %w", p.Name, err).Do("Sign in by password or link; a lead's link works everywhere.")
	}
	p.found = found
	return found, nil
}

func (p *Provider) config(found *oidc.Provider, back string) oauth2.Config {
	return oauth2.Config{ClientID: p.Client, ClientSecret: p.Secret, Endpoint: found.Endpoint(), RedirectURL: back, Scopes: append([]string{oidc.ScopeOpenID, "profile", "email"}, p.Scopes...)}
}

// journey is one sign-in on its way to the provider and back.
type journey struct {
	State    string    `json:"state"`
	Nonce    string    `json:"nonce"`
	Verifier string    `json:"verifier"`
	Back     string    `json:"back"`
	Until    time.Time `json:"until"`
}

const (
	journeyPurpose = "ferry-provider/1"
	journeyLasts   = 10 * time.Minute
)

func (v *People) noProvider() error {
	return core.Fail(core.NotFound, "this service has no identity provider").Do("Sign in by password, passkey or link.")
}

// whichProvider tells whether there is one, and what it is called.
func (v *People) whichProvider(context.Context, *frame.None) (client.Provider, error) {
	if v.provider == nil {
		return client.Provider{}, nil
	}
	return client.Provider{Name: v.provider.Name}, nil
}

// leaveFor is where the browser goes to be signed in.
func (v *People) leaveFor(ctx context.Context, _ *frame.None) (client.Departure, error) {
	p := v.provider
	if p == nil {
		return client.Departure{}, v.noProvider()
	}
	found, err := p.find()
	if err != nil {
		return client.Departure{}, err
	}
	scheme := "http"
	if v.Secure {
		scheme = "https"
	}
	j := journey{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), Back: scheme + "://" + frame.Who(ctx).Host + "/sign-in", Until: v.clock.Now().Add(journeyLasts)}
	raw, err := json.Marshal(j)
	if err != nil {
		return client.Departure{}, err
	}
	sealed, err := v.key.SealFor(journeyPurpose, "sign-in", raw)
	if err != nil {
		return client.Departure{}, err
	}
	config := p.config(found, j.Back)
	return client.Departure{Address: config.AuthCodeURL(j.State, oidc.Nonce(j.Nonce), oauth2.S256ChallengeOption(j.Verifier)), State: base64.StdEncoding.EncodeToString(sealed)}, nil
}

// backFrom is what the provider has sent the browser back with.
type backFrom struct {
	Code  string `json:"code" maxLength:"2048" doc:"As the provider has put it into the address."`
	State string `json:"state" maxLength:"200"`
}

// claims are what is read of an ID token beside the roles.
type claims struct {
	Name     string `json:"name"`
	Email    string `json:"email"`
	Verified bool   `json:"email_verified"`
}

// byProvider is whom the provider names. Somebody who comes for the first time is entered, or is
// the one whose address the provider has proven.
func (v *People) byProvider(ctx context.Context, sealed string, back backFrom) (store.Person, error) {
	p := v.provider
	again := func(format string, args ...any) error {
		return core.Fail(core.NotAllowed, format, args...).Do("Begin the sign-in again.")
	}
	raw, err := base64.StdEncoding.DecodeString(sealed)
	if err == nil {
		raw, err = v.key.OpenFor(journeyPurpose, "sign-in", raw)
	}
	var j journey
	if err != nil || json.Unmarshal(raw, &j) != nil {
		return store.Person{}, again("this browser has not begun a sign-in with %s", p.Name)
	}
	if v.clock.Now().After(j.Until) || j.State != back.State || back.Code == "" {
		return store.Person{}, again("what %s has answered is not of the sign-in that this browser has begun, or came too late", p.Name)
	}
	found, err := p.find()
	if err != nil {
		return store.Person{}, err
	}
	call, cancel := context.WithTimeout(oidc.ClientContext(ctx, &http.Client{Timeout: providerWaits}), providerWaits)
	defer cancel()
	config := p.config(found, j.Back)
	token, err := config.Exchange(call, back.Code, oauth2.VerifierOption(j.Verifier))
	if err != nil {
		var said *oauth2.RetrieveError
		if errors.As(err, &said) && said.Response.StatusCode < 500 {
			return store.Person{}, again("%s does not take back the code that it has given: it says %q", p.Name, cmp.Or(said.ErrorCode, said.Response.Status))
		}
		return store.Person{}, core.Fail(core.NotAnswering, "%s could not be asked who this is: %w", p.Name, err).Do("Begin the sign-in again.")
	}
	rawID, _ := token.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: p.Client, Now: v.clock.Now}).Verify(call, rawID)
	if err != nil {
		return store.Person{}, again("what %s says of who this is cannot be believed: %w", p.Name, err)
	}
	if id.Nonce != j.Nonce {
		return store.Person{}, again("what %s says is of another sign-in", p.Name)
	}
	var c claims
	all := map[string]any{}
	if err := id.Claims(&c); err != nil {
		return store.Person{}, again("the claims of %s cannot be read: %w", p.Name, err)
	}
	if err := id.Claims(&all); err != nil {
		return store.Person{}, err
	}
	role := p.role(all[p.Claim])
	if role == "" {
		return store.Person{}, core.Fail(core.NotAllowed, "%s says who you are, and gives you no role here", p.Name).Do("Ask whoever runs it to put you into the group of viewers, technicians or leads.")
	}
	return v.known(ctx, id.Issuer, id.Subject, c, role)
}

// role is the highest that a claim gives, which is a text or a list of them.
func (p *Provider) role(claim any) string {
	var has []string
	switch x := claim.(type) {
	case string:
		has = strings.Fields(x)
	case []any:
		for _, one := range x {
			if s, ok := one.(string); ok {
				has = append(has, s)
			}
		}
	}
	for _, role := range []string{frame.Lead, frame.Technician, frame.Viewer} {
		if slices.ContainsFunc(p.Roles[role], func(value string) bool { return slices.Contains(has, value) }) {
			return role
		}
	}
	return ""
}

// known is the person of a subject, with the role that he has now.
func (v *People) known(ctx context.Context, issuer, subject string, c claims, role string) (store.Person, error) {
	person, err := v.store.PersonOf(ctx, issuer, subject)
	if err != nil && core.KindOf(err) != core.NotFound {
		return person, err
	}
	if err == nil {
		if person.Ended.Valid || person.Role == role {
			return person, nil // one whose account was ended is told so by whoever lets him in
		}
		was := person.Role
		person.Role = role
		if err := v.store.ChangePerson(ctx, person); err != nil {
			return person, err
		}
		return person, v.Audit(ctx, auditChanged, person.ID, "%s: was %s, is %s, by %s", person.Name, was, role, v.provider.Name)
	}
	if c.Verified && c.Email != "" {
		if person, err = v.store.PersonWithEmail(ctx, c.Email); err != nil && core.KindOf(err) != core.NotFound {
			return person, err
		} else if err == nil {
			if err := v.store.TiePerson(ctx, issuer, subject, person.ID, v.clock.Now()); err != nil {
				return person, err
			}
			if err := v.Audit(ctx, auditTied, person.ID, "%s, by the address %s, to %s", person.Name, c.Email, v.provider.Name); err != nil {
				return person, err
			}
			return v.known(ctx, issuer, subject, c, role)
		}
	}
	name, err := goodName(c.Name)
	if err != nil {
		return person, core.Fail(core.NotAllowed, "%s gives no name that could stand in a history: %q", v.provider.Name, c.Name).Do("Have your name put in there.")
	}
	email := c.Email
	if goodEmail(email) != nil || !c.Verified {
		email = ""
	}
	person = store.Person{ID: store.NewID(), Name: name, Role: role, Email: email, Created: v.clock.Now()}
	if err := v.store.AddPerson(ctx, person); err != nil {
		return person, err
	}
	if err := v.store.TiePerson(ctx, issuer, subject, person.ID, v.clock.Now()); err != nil {
		return person, err
	}
	if err := v.Audit(ctx, auditAdded, person.ID, "%s as %s, by %s", person.Name, role, v.provider.Name); err != nil {
		return person, err
	}
	return v.store.Person(ctx, person.ID)
}

// auditTied is that somebody's account is one of the identity provider's.
const auditTied = "tied-to-provider"

package people

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"net"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// Passkeys are W3C Web Authentication, level 3: the device keeps a key for this site, asks its
// owner who he is, and signs what the service dares it to. They stand for both factors.

const (
	darePurpose = "ferry-passkey/1"
	dareLasts   = 5 * time.Minute
)

// What a dare is for; it is bound to that.
const (
	dareAdd  = "add"
	dareIn   = "sign-in"
	dareSure = "confirm"
)

// dare is what the service wants signed. It travels with the browser, sealed.
type dare struct {
	Person  string               `json:"person,omitempty"`
	Until   time.Time            `json:"until"`
	Session webauthn.SessionData `json:"session"`
}

// site is this service as the browser knows it. Browsers keep passkeys for names alone, and over
// TLS; on one's own machine localhost will do.
func (v *People) site(ctx context.Context) (*webauthn.WebAuthn, error) {
	at := frame.Who(ctx).Host
	name := at
	if host, _, err := net.SplitHostPort(at); err == nil {
		name = host
	}
	scheme := "http"
	if v.Secure {
		scheme = "https"
	}
	if net.ParseIP(name) != nil || name == "" || !v.Secure && name != "localhost" {
		return nil, core.Fail(core.NotFound, "browsers keep passkeys for a name with TLS, and this service was called as %s://%s", scheme, at).Do("Sign in by password or link; a lead's link works everywhere.")
	}
	return webauthn.New(&webauthn.Config{RPID: name, RPDisplayName: "Zealous Ferry", RPOrigins: []string{scheme + "://" + at},
		AuthenticatorSelection: protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired}})
}

// holder is somebody as the library wants to know him.
type holder struct {
	store.Person
	keys []webauthn.Credential
}

func (h holder) WebAuthnID() []byte                         { return []byte(h.ID) }
func (h holder) WebAuthnName() string                       { return h.Name }
func (h holder) WebAuthnDisplayName() string                { return h.Name }
func (h holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

func (v *People) holder(ctx context.Context, p store.Person) (holder, error) {
	h := holder{Person: p}
	rows, err := v.store.Passkeys(ctx, p.ID)
	for _, r := range rows {
		var c webauthn.Credential
		if err := json.Unmarshal(r.Credential, &c); err != nil {
			return h, err
		}
		h.keys = append(h.keys, c)
	}
	return h, err
}

// daring gives what is to be signed, which the browser carries: nothing is kept here for whoever
// only asks.
func (v *People) daring(ctx context.Context, what, person string, options any, session *webauthn.SessionData) (client.PasskeyDare, error) {
	now := v.clock.Now()
	d := dare{person, now.Add(dareLasts), *session}
	raw, err := json.Marshal(d)
	if err != nil {
		return client.PasskeyDare{}, err
	}
	sealed, err := v.key.SealFor(darePurpose, what, raw)
	if err != nil {
		return client.PasskeyDare{}, err
	}
	shown, err := json.Marshal(options)
	if err != nil {
		return client.PasskeyDare{}, err
	}
	return client.PasskeyDare{Options: shown, State: base64.StdEncoding.EncodeToString(sealed)}, nil
}

// dared opens what the browser brings back.
func (v *People) dared(ctx context.Context, what, state string) (d dare, err error) {
	sealed, err := base64.StdEncoding.DecodeString(state)
	if err != nil {
		return d, core.Fail(core.BadFile, "what the browser brings back is not what it was given")
	}
	raw, err := v.key.OpenFor(darePurpose, what, sealed)
	if err == nil {
		err = json.Unmarshal(raw, &d)
	}
	if err != nil {
		return d, core.Fail(core.BadFile, "what the browser brings back is not what it was given")
	}
	if v.clock.Now().After(d.Until) {
		return d, core.Fail(core.NotAllowed, "the device took longer than %d minutes", int(dareLasts.Minutes())).Do("Try again.")
	}
	return d, nil
}

// once lets what was signed count, and never again.
func (v *People) once(ctx context.Context, d dare) error {
	return v.store.UseDare(ctx, core.DigestOf([]byte("dare "+d.Session.Challenge)), d.Until, v.clock.Now())
}

// newPasskey begins to add a passkey of one's own.
func (v *People) newPasskey(ctx context.Context, _ *frame.None) (client.PasskeyDare, error) {
	site, err := v.site(ctx)
	if err != nil {
		return client.PasskeyDare{}, err
	}
	c := frame.Who(ctx)
	if c.By.Kind != store.SecretSession {
		return client.PasskeyDare{}, core.Fail(core.NotAllowed, "a passkey is added by somebody who is signed in to the console, not with a token").Do("Sign in to the console.")
	}
	if err := v.Sure(ctx); err != nil {
		return client.PasskeyDare{}, err
	}
	h, err := v.holder(ctx, c.Person)
	if err != nil {
		return client.PasskeyDare{}, err
	}
	var has []protocol.CredentialDescriptor
	for _, k := range h.keys {
		has = append(has, k.Descriptor())
	}
	options, session, err := site.BeginRegistration(h, webauthn.WithExclusions(has), webauthn.WithResidentKeyRequirement(protocol.ResidentKeyRequirementRequired))
	if err != nil {
		return client.PasskeyDare{}, err
	}
	return v.daring(ctx, dareAdd, c.Person.ID, options, session)
}

type addPasskeyIn struct{ Body client.NewPasskey }

// addPasskey keeps what the device has made.
func (v *People) addPasskey(ctx context.Context, in *addPasskeyIn) (frame.None, error) {
	c := frame.Who(ctx)
	site, err := v.site(ctx)
	if err != nil {
		return frame.None{}, err
	}
	d, err := v.dared(ctx, dareAdd, in.Body.State)
	if err != nil {
		return frame.None{}, err
	}
	if d.Person != c.Person.ID {
		return frame.None{}, core.Fail(core.NotAllowed, "this passkey was begun by somebody else")
	}
	h, err := v.holder(ctx, c.Person)
	if err != nil {
		return frame.None{}, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(in.Body.Response)
	var made *webauthn.Credential
	if err == nil {
		made, err = site.CreateCredential(h, d.Session, parsed)
	}
	if err != nil {
		return frame.None{}, core.Fail(core.NotAllowed, "the device's answer does not belong to this: %w", err).Do("Try again.")
	}
	if err := v.once(ctx, d); err != nil {
		return frame.None{}, err
	}
	raw, err := json.Marshal(made)
	if err != nil {
		return frame.None{}, err
	}
	if err := v.store.AddPasskey(ctx, store.Passkey{ID: made.ID, Person: c.Person.ID, Name: in.Body.Name, Credential: raw, Created: v.clock.Now().UTC()}); err != nil {
		return frame.None{}, err
	}
	return frame.None{}, v.Audit(ctx, auditPasskey, "", "%s: %s", c.Person.Name, in.Body.Name)
}

// PasskeyPath names one of one's own.
type PasskeyPath struct {
	ID string `path:"id" maxLength:"700" doc:"Base64url."`
}

// endPasskey takes one of one's own away.
func (v *People) endPasskey(ctx context.Context, in *PasskeyPath) (frame.None, error) {
	id, err := base64.RawURLEncoding.DecodeString(in.ID)
	if err != nil {
		return frame.None{}, core.Fail(core.NotFound, "there is no such passkey")
	}
	if err := v.Sure(ctx); err != nil {
		return frame.None{}, err
	}
	if err := v.store.DropPasskey(ctx, frame.Who(ctx).Person.ID, id); err != nil {
		return frame.None{}, err
	}
	return frame.None{}, v.Audit(ctx, auditPasskeyEnded, "", "%s", frame.Who(ctx).Person.Name)
}

// daresPasskey begins to sign somebody in with a passkey; who he is, the passkey says.
func (v *People) daresPasskey(ctx context.Context, _ *frame.None) (client.PasskeyDare, error) {
	site, err := v.site(ctx)
	if err != nil {
		return client.PasskeyDare{}, err
	}
	if err := v.waits(ctx, core.DigestOf([]byte("passkey")), frame.Who(ctx).Address); err != nil {
		return client.PasskeyDare{}, err
	}
	options, session, err := site.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return client.PasskeyDare{}, err
	}
	return v.daring(ctx, dareIn, "", options, session)
}

// daresAgain begins to make sure with a passkey that it is oneself.
func (v *People) daresAgain(ctx context.Context, _ *frame.None) (client.PasskeyDare, error) {
	site, err := v.site(ctx)
	if err != nil {
		return client.PasskeyDare{}, err
	}
	c := frame.Who(ctx)
	if c.By.Kind != store.SecretSession {
		return client.PasskeyDare{}, core.Fail(core.NotAllowed, "a passkey is shown in the console, not with a token").Do("Sign in to the console.")
	}
	h, err := v.holder(ctx, c.Person)
	if err != nil {
		return client.PasskeyDare{}, err
	}
	if len(h.keys) == 0 {
		return client.PasskeyDare{}, core.Fail(core.NotFound, "you have no passkey").Do("Add one in the console, on the page Team.")
	}
	options, session, err := site.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return client.PasskeyDare{}, err
	}
	return v.daring(ctx, dareSure, c.Person.ID, options, session)
}

// byPasskey finds out whose passkey has signed what it was dared to; where a person is given, it
// must be his.
func (v *People) byPasskey(ctx context.Context, what, person, state string, response []byte) (p store.Person, err error) {
	site, err := v.site(ctx)
	if err != nil {
		return p, err
	}
	d, err := v.dared(ctx, what, state)
	if err != nil {
		return p, err
	}
	wrong := core.Fail(core.NotAllowed, "this passkey does not sign anybody in here").Do("Sign in by password or link. Was the passkey taken away, or the account ended?")
	if what == dareSure {
		wrong = core.Fail(core.NotAllowed, "this passkey is not yours").Do("Use one of your own, or the second factor.")
	}
	if d.Person != person {
		return p, wrong
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(response)
	if err != nil {
		return p, wrong
	}
	_, used, err := site.ValidatePasskeyLogin(func(_, handle []byte) (webauthn.User, error) {
		if p, err = v.store.Person(ctx, string(handle)); err != nil {
			return nil, err
		}
		return v.holder(ctx, p)
	}, d.Session, parsed)
	if err != nil || used.Authenticator.CloneWarning || person != "" && p.ID != person {
		address := frame.Who(ctx).Address
		if err := v.store.SignInFailed(ctx, core.DigestOf([]byte("passkey")), address, v.clock.Now()); err != nil {
			return p, err
		}
		if err := v.Audit(ctx, auditSignInFailed, p.ID, "passkey, from %s", frame.Short(frame.Who(ctx).Agent+", "+address, 200)); err != nil {
			return p, err
		}
		return p, wrong
	}
	if err := v.once(ctx, d); err != nil {
		return p, err
	}
	rows, err := v.store.Passkeys(ctx, p.ID)
	if err != nil {
		return p, err
	}
	for _, r := range rows {
		if !bytes.Equal(r.ID, used.ID) {
			continue
		}
		if r.Credential, err = json.Marshal(used); err != nil {
			return p, err
		}
		r.Used = sql.NullTime{Time: v.clock.Now().UTC(), Valid: true}
		return p, v.store.UsedPasskey(ctx, r)
	}
	return p, wrong
}

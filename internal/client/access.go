package client

import (
	"context"
	"encoding/json"
	"net/url"
	"strconv"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
)

// The scopes of a token: what it may do of what its owner may.
const (
	ScopeRead  = "read"  // look
	ScopeWork  = "work"  // what a technician does
	ScopeWhole = "whole" // all that its owner may

	ScopeCatalogue = "catalogue" // models, releases, images, bulletins, and nothing else that changes anything
)

// Access is a session or a token of somebody.
type Access struct {
	ID      string     `json:"id"`
	Kind    string     `json:"kind" enum:"session,token" doc:"A session is a browser's; a token is a command line's, or a script's."`
	Person  string     `json:"person" doc:"Whose it is: id."`
	Name    string     `json:"name,omitempty" doc:"Of a token: as its owner has called it."`
	Scope   string     `json:"scope,omitempty" enum:"read,work,catalogue,whole" doc:"Of a token: what it may do of what its owner may."`
	Sites   []string   `json:"sites,omitempty" doc:"Of a token: the sites to which it is bound."`
	Benches []string   `json:"benches,omitempty" doc:"Of a token: the benches to which it is bound."`
	Made    time.Time  `json:"made"`
	Ends    *time.Time `json:"ends,omitempty" doc:"Empty where it has no end."`
	Seen    *time.Time `json:"seen,omitempty" doc:"When it was used last, to five minutes."`
	From    string     `json:"from,omitempty" doc:"What called itself so then, and its address."`
	Current bool       `json:"current,omitempty" doc:"It is the one with which this was asked."`
}

// Member is somebody of the team.
type Member struct {
	Person
	Email    string     `json:"email,omitempty"`
	Sites    []string   `json:"sites,omitempty" doc:"At which this technician works; everywhere where there is none."`
	Added    time.Time  `json:"added"`
	Ended    *time.Time `json:"ended,omitempty" doc:"When the account was ended; the name stays in history."`
	Waits    bool       `json:"waits,omitempty" doc:"Was invited, and has not signed in yet."`
	Factor   bool       `json:"factor,omitempty" doc:"Has a second factor."`
	Secret   bool       `json:"password,omitempty" doc:"Has a password."`
	Passkeys []Passkey  `json:"passkeys,omitempty" doc:"For leads, and of oneself."`
	Access   []Access   `json:"access" nullable:"false" doc:"Sessions and tokens; for leads, and of oneself."`
}

// People is the team.
type People struct {
	People []Member `json:"people" nullable:"false"`
	Paged
}

// NewMember invites somebody.
type NewMember struct {
	Name  string `json:"name" minLength:"2" maxLength:"120"`
	Role  string `json:"role" enum:"technician,lead,viewer"`
	Email string `json:"email,omitempty" maxLength:"200"`
}

// Invited is somebody who was invited, with the code of his link; it is shown once.
type Invited struct {
	Member
	Code    string    `json:"code" doc:"Of the one-use link: /sign-in#CODE."`
	Expires time.Time `json:"expires"`
}

// MemberChange changes what somebody may do; what is empty stays.
type MemberChange struct {
	Role  string    `json:"role,omitempty" enum:"technician,lead,viewer"`
	Email string    `json:"email,omitempty" maxLength:"200"`
	Sites *[]string `json:"sites,omitempty" doc:"At which sites a technician works; everywhere where the list is empty, as before where there is none."`
}

// NewToken is a token that somebody makes for himself.
type NewToken struct {
	Name  string `json:"name" minLength:"2" maxLength:"120" doc:"What it is for: a machine, a script."`
	Scope string `json:"scope,omitempty" enum:"read,work,catalogue,whole" doc:"work where it is empty."`
	Days  int    `json:"days,omitempty" minimum:"1" maximum:"365" doc:"How long it is good; 30 where it is empty."`

	Sites   []string `json:"sites,omitempty" maxItems:"20" doc:"Of one for work: the units of these sites alone."`
	Benches []string `json:"benches,omitempty" maxItems:"20" doc:"Of one for work: at these benches alone, by name or id."`
}

// MadeToken is its text, shown once.
type MadeToken struct {
	Access
	Token string `json:"token"`
}

// NewMachine asks for a machine to be signed in as somebody (RFC 8628, section 3.1).
type NewMachine struct {
	Machine string `json:"machine" minLength:"1" maxLength:"120" doc:"What the machine calls itself: user and host."`
}

// Machine is what the machine shows, and what it asks with (RFC 8628, section 3.2).
type Machine struct {
	Device   string `json:"device" doc:"The machine's own code: it asks with that, and shows it to nobody."`
	Code     string `json:"code" doc:"What a person types in the console."`
	Page     string `json:"page" doc:"Where."`
	Seconds  int    `json:"seconds" doc:"How long it waits."`
	Interval int    `json:"interval" doc:"Seconds between two questions."`
}

// MachineAsks is the question whether somebody has decided (RFC 8628, section 3.4).
type MachineAsks struct {
	Device string `json:"device" minLength:"10" maxLength:"200"`
}

// MachineAnswer is what came of it (RFC 8628, section 3.5): the token comes once.
type MachineAnswer struct {
	State string     `json:"state" enum:"waits,given,refused"`
	Token string     `json:"token,omitempty"`
	Name  string     `json:"name,omitempty" doc:"As whom it is signed in."`
	Ends  *time.Time `json:"ends,omitempty"`
}

// Waiting is a machine that waits to be let in, as the person sees it who has its code.
type Waiting struct {
	Code    string    `json:"code"`
	Machine string    `json:"machine"`
	Asked   time.Time `json:"asked"`
}

// LetIn decides on a machine that waits.
type LetIn struct {
	Give  bool   `json:"give"`
	Scope string `json:"scope,omitempty" enum:"read,work,whole" doc:"whole where it is empty."`
	Days  int    `json:"days,omitempty" minimum:"1" maximum:"365" doc:"30 where it is empty."`
}

// AuditEntry is something that was done about who may what.
type AuditEntry struct {
	N    uint64    `json:"n"`
	At   time.Time `json:"at"`
	Kind string    `json:"kind"`
	By   string    `json:"by,omitempty" doc:"Name of the person; empty where nobody was signed in."`
	Text string    `json:"text"`
}

// Audit is a page of the audit log, the newest first.
type Audit struct {
	Entries []AuditEntry `json:"entries" nullable:"false"`
	Before  uint64       `json:"before,omitempty" doc:"Number to ask the page after this one with; empty at its end."`
	Chain   string       `json:"chain" enum:"intact,changed" doc:"Whether the entries of the whole log are as they were entered and signed."`
	Found   []core.Said  `json:"found,omitempty" doc:"What was changed."`
	Cut     uint64       `json:"cut,omitempty" doc:"Number up to which the team has let the bytes of the entries go; their hashes stay. Nothing older follows."`
}

// Tree is the checkpoint of the Merkle tree over the entries of all units.
type Tree struct {
	Size uint64      `json:"size" doc:"How many entries it has."`
	Root core.Digest `json:"root" doc:"RFC 9162, section 2.1.1."`
	At   time.Time   `json:"at" format:"date-time"`
}

// AuditStep is where an audit of all histories goes on; the zero value begins it.
type AuditStep struct {
	Walk    history.Walk `json:"walk" doc:"As the part before gave it."`
	Printed []Printed    `json:"printed,omitempty" maxItems:"100" doc:"Checkpoints from paper, to hold the histories against; the same in each part."`
}

// Printed is a checkpoint as a report has it.
type Printed struct {
	Size uint64      `json:"size" minimum:"1"`
	Root core.Digest `json:"root"`
}

// AuditPart is what a part of it has found.
type AuditPart struct {
	Walk     history.Walk `json:"walk" doc:"For the next part."`
	Size     uint64       `json:"size" doc:"How many entries there are."`
	Done     bool         `json:"done"`
	Findings []core.Said  `json:"findings" nullable:"false" doc:"What was changed, put in or taken away."`
	Tree     *Tree        `json:"tree,omitempty" doc:"The newest checkpoint, where it is done."`
}

// AuditAll goes on with an audit of all histories.
func (c *Client) AuditAll(ctx context.Context, s AuditStep) (AuditPart, error) {
	return post[AuditPart](ctx, c, "/api/audit/all", s)
}

// Factor is the secret of a second factor, shown once.
type Factor struct {
	Secret  string `json:"secret" doc:"Base32, to be typed where no picture can be read."`
	Address string `json:"address" doc:"otpauth address of the same."`
	Picture string `json:"picture" doc:"The same as a QR code: a data address of a PNG."`
}

// SetPassword sets one's own password.
type SetPassword struct {
	Old string `json:"old,omitempty" maxLength:"200" doc:"The one before; empty where there is none yet."`
	New string `json:"new" maxLength:"200" doc:"12 characters or more, not made of words that are tried first."`
}

// Provider is the team's identity provider.
type Provider struct {
	Name string `json:"name" doc:"What a button for it says; empty where there is none."`
}

// Departure is where a browser goes to be signed in by the identity provider.
type Departure struct {
	Address string `json:"address"`
	State   string `json:"state" doc:"To be kept by the browser, and brought back with what the provider answers, within ten minutes, once."`
}

// WhichProvider tells whether there is an identity provider.
func (c *Client) WhichProvider(ctx context.Context) (Provider, error) {
	return get[Provider](ctx, c, "/api/session/provider")
}

// LeaveForProvider begins a sign-in with it.
func (c *Client) LeaveForProvider(ctx context.Context) (Departure, error) {
	return post[Departure](ctx, c, "/api/session/provider", nil)
}

// PasskeyDare is what a device is to sign, or to make a passkey for (W3C Web Authentication, level 3).
type PasskeyDare struct {
	Options json.RawMessage `json:"options" doc:"publicKey: for PublicKeyCredential.parseCreationOptionsFromJSON or parseRequestOptionsFromJSON."`
	State   string          `json:"state" doc:"To be brought back with the device's answer, within five minutes, once."`
}

// NewPasskey is a passkey that a device has made.
type NewPasskey struct {
	Name     string          `json:"name" minLength:"1" maxLength:"80" doc:"Which device it is on."`
	State    string          `json:"state" maxLength:"8192"`
	Response json.RawMessage `json:"response" doc:"PublicKeyCredential.toJSON()."`
}

// Passkey is one of one's own.
type Passkey struct {
	ID      string     `json:"id" doc:"Base64url."`
	Name    string     `json:"name"`
	Created time.Time  `json:"created"`
	Used    *time.Time `json:"used,omitempty"`
}

// Retention says how long what is kept is kept.
type Retention struct {
	core.Said
	Photos int        `json:"photos" doc:"Days for which photos are kept; what is said here is of them, as the first of what is kept."`
	By     string     `json:"by,omitempty" doc:"Who has settled that; nobody where it was never settled."`
	At     *time.Time `json:"at,omitempty"`
	Kept   []KeptFor  `json:"kept" nullable:"false" doc:"How long what is kept: photos, traces, log."`
}

// KeptFor says how long something is kept.
type KeptFor struct {
	core.Said
	What string     `json:"what" enum:"photos,traces,log"`
	Days int        `json:"days" doc:"0 is for good, of photos until somebody removes them."`
	By   string     `json:"by,omitempty" doc:"Who has settled it; nobody where it was never settled."`
	At   *time.Time `json:"at,omitempty"`
}

// NewRetention settles it, of whatever days are given for. For a day after that nothing is removed.
type NewRetention struct {
	Photos *int `json:"photos,omitempty" minimum:"0" maximum:"36500" doc:"Days; 0 is until somebody removes them."`
	Traces *int `json:"traces,omitempty" minimum:"0" maximum:"36500" doc:"Days for which it is kept what was said on a line until something went wrong; 0 is for good."`
	Log    *int `json:"log,omitempty" minimum:"0" maximum:"36500" doc:"Days for which the audit log is kept, 366 at least; 0 is for good."`
}

// Retention says how long what is kept.
func (c *Client) Retention(ctx context.Context) (Retention, error) {
	return get[Retention](ctx, c, "/api/retention")
}

// PutRetention settles how long what is kept (lead).
func (c *Client) PutRetention(ctx context.Context, n NewRetention) (Retention, error) {
	return post[Retention](ctx, c, "/api/retention", n)
}

// Quotas says how much one bench, or one person, may send in a day (UTC), and what was sent today.
type Quotas struct {
	Day    string  `json:"day" format:"date" doc:"Today, UTC."`
	Quotas []Quota `json:"quotas" nullable:"false"`
	Sent   []Sent  `json:"sent" nullable:"false" doc:"Who has sent the most of each today, as the services have noted it some seconds ago."`
}

// Quota is how much of something one may send in a day.
type Quota struct {
	core.Said
	What string     `json:"what" enum:"pieces,events,photos,images"`
	Most int        `json:"most" doc:"MiB, of events how many; 0 is without a bound."`
	By   string     `json:"by,omitempty" doc:"Who has settled it; nobody where it was never settled."`
	At   *time.Time `json:"at,omitempty"`
}

// Sent is what somebody has sent today.
type Sent struct {
	core.Said
	Who     string `json:"who" doc:"A bench or a person, by name."`
	What    string `json:"what" enum:"pieces,events,photos,images"`
	Amount  int64  `json:"amount" doc:"Bytes, of events how many."`
	Reached bool   `json:"reached,omitempty" doc:"It was as much as one may: more was refused."`
}

// NewQuotas settles it, of whatever is given.
type NewQuotas struct {
	Pieces *int `json:"pieces,omitempty" minimum:"0" maximum:"100000000" doc:"MiB of memory, by a bench; 0 is without a bound."`
	Events *int `json:"events,omitempty" minimum:"0" maximum:"1000000000" doc:"Events of runs, by a bench."`
	Photos *int `json:"photos,omitempty" minimum:"0" maximum:"100000000" doc:"MiB of photos and texts behind facts, by a person."`
	Images *int `json:"images,omitempty" minimum:"0" maximum:"100000000" doc:"MiB of firmware files and packs, by a person."`
}

// Quotas says how much one may send in a day, and what was sent today (lead).
func (c *Client) Quotas(ctx context.Context) (Quotas, error) {
	return get[Quotas](ctx, c, "/api/quotas")
}

// PutQuotas settles how much one may send in a day (lead).
func (c *Client) PutQuotas(ctx context.Context, n NewQuotas) (Quotas, error) {
	return post[Quotas](ctx, c, "/api/quotas", n)
}

// FactorCode is a code that a second factor shows, or what a passkey has signed.
type FactorCode struct {
	Code    string          `json:"code,omitempty" maxLength:"6" pattern:"^([0-9]{6})?$"`
	State   string          `json:"state,omitempty" maxLength:"8192" doc:"Of the dare, for a passkey."`
	Passkey json.RawMessage `json:"passkey,omitempty" doc:"What the device has signed: W3C Web Authentication, level 3, section 5.1."`
}

// Confirm shows one's second factor: for five minutes it is sure that it is oneself.
func (c *Client) Confirm(ctx context.Context, code string) error {
	return c.call(ctx, "POST", "/api/session/confirm", FactorCode{Code: code}, nil)
}

// EndFactor takes somebody's second factor away.
func (c *Client) EndFactor(ctx context.Context, person string, why Reason) (Member, error) {
	return post[Member](ctx, c, "/api/people/"+segment(person)+"/factor/end", why)
}

// People lists the team.
func (c *Client) People(ctx context.Context) (People, error) {
	return whole(ctx, c, "/api/people", func(all *People, p People) { all.People = append(all.People, p.People...) })
}

// Invite adds somebody, who gets a one-use link.
func (c *Client) Invite(ctx context.Context, n NewMember) (Invited, error) {
	return post[Invited](ctx, c, "/api/people", n)
}

// ChangeMember gives somebody another role or address.
func (c *Client) ChangeMember(ctx context.Context, person string, m MemberChange) (Member, error) {
	return post[Member](ctx, c, "/api/people/"+segment(person), m)
}

// EndMember ends somebody's account at once.
func (c *Client) EndMember(ctx context.Context, person string, why Reason) (Member, error) {
	return post[Member](ctx, c, "/api/people/"+segment(person)+"/end", why)
}

// LinkFor makes a new one-use link for somebody.
func (c *Client) LinkFor(ctx context.Context, person string) (Code, error) {
	return post[Code](ctx, c, "/api/people/"+segment(person)+"/link", struct{}{})
}

// EndAccess ends a session or a token.
func (c *Client) EndAccess(ctx context.Context, id string) error {
	return c.call(ctx, "POST", "/api/access/"+segment(id)+"/end", struct{}{}, nil)
}

// MakeToken makes a token of one's own.
func (c *Client) MakeToken(ctx context.Context, n NewToken) (MadeToken, error) {
	return post[MadeToken](ctx, c, "/api/access/tokens", n)
}

// AskMachine asks for this machine to be let in.
func (c *Client) AskMachine(ctx context.Context, n NewMachine) (Machine, error) {
	return post[Machine](ctx, c, "/api/machines", n)
}

// MachineState asks whether it was.
func (c *Client) MachineState(ctx context.Context, device string) (MachineAnswer, error) {
	return post[MachineAnswer](ctx, c, "/api/machines/ask", MachineAsks{device})
}

// WaitingMachine is who waits with a code.
func (c *Client) WaitingMachine(ctx context.Context, code string) (Waiting, error) {
	return get[Waiting](ctx, c, "/api/machines/"+segment(code))
}

// LetIn lets a machine in as oneself, or refuses it.
func (c *Client) LetIn(ctx context.Context, code string, l LetIn) error {
	return c.call(ctx, "POST", "/api/machines/"+segment(code), l, nil)
}

// Audit reads a page of the audit log, the newest first; before 0 is the first page.
func (c *Client) Audit(ctx context.Context, before uint64) (Audit, error) {
	return get[Audit](ctx, c, "/api/audit?"+url.Values{"before": {strconv.FormatUint(before, 10)}}.Encode())
}

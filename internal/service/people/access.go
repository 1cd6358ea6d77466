package people

import (
	"cmp"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// What the audit log keeps, by the kind of its entries.
const (
	auditSignedIn     = "signed-in"
	auditSignInFailed = "sign-in-failed"
	auditAdded        = "person-added"
	auditChanged      = "person-changed"
	auditEnded        = "person-ended"
	auditLink         = "link-made"
	auditAccessEnded  = "access-ended"
	auditToken        = "token-made"
	auditMachine      = "machine-let-in"
	AuditBenchCode    = "bench-code-made"
	AuditEnrolled     = "bench-enrolled"
	AuditRevoked      = "bench-revoked"
	AuditRenamed      = "bench-renamed"
	AuditBenchKey     = "bench-key-renewed"
	AuditKey          = "key-trusted"
	AuditKeyEnded     = "key-revoked"
	AuditSheet        = "sheet-in-force"
	AuditVouched      = "release-vouched"
	AuditWithdrawn    = "release-withdrawn"
	AuditPhoto        = "photo-removed"
	auditPassword     = "password-set"
	AuditRule         = "rule-settled"
	auditPasskey      = "passkey-added"
	auditPasskeyEnded = "passkey-taken-away"
	AuditWanted       = "second-lead-wanted"
	auditQuota        = "quota-reached"
)

// Audit puts something that was done about who may what into the log, a chain of its own like
// those of units, and into the service's own log. by is who did it, where that is not who is
// signed in.
func (v *People) Audit(ctx context.Context, kind, by, format string, args ...any) error {
	if by == "" {
		by = frame.Who(ctx).Person.ID
	}
	now := v.clock.Now()
	e := &history.Entry{Unit: store.TeamChain, Kind: kind, HappenedAt: now.UnixMicro(), By: by, Text: frame.Short(fmt.Sprintf(format, args...), 400)}
	v.audited(kind).Inc()
	v.log.Info("audit", "kind", kind, "by", by, "text", e.Text)
	_, err := v.store.AppendEntry(ctx, v.key, e)
	return err
}

// PersonPath names somebody.
type PersonPath struct {
	Person string `path:"person" maxLength:"120" doc:"A person's id or name."`
}

// AccessPath names a session or token.
type AccessPath struct {
	ID string `path:"id" maxLength:"36"`
}

// MachinePath names a machine that waits, by the code that it shows.
type MachinePath struct {
	Code string `path:"code" maxLength:"20"`
}

func (v *People) member(p store.Person, access []store.Secret, benches map[string]string, keys []store.Passkey, waits bool, c frame.Caller) client.Member {
	m := client.Member{Person: person(p), Added: p.Created.UTC(), Ended: frame.TimeOf(p.Ended), Sites: p.WorksAt(), Access: []client.Access{}}
	if c.Person.Role != frame.Lead && c.Person.ID != p.ID {
		return m
	}
	m.Email, m.Factor, m.Secret = p.Email, p.FactorAt.Valid, p.Password.Valid
	for _, x := range access {
		if x.Person.String == p.ID {
			m.Access = append(m.Access, accessOf(x, c, benches))
		}
	}
	for _, k := range keys {
		if k.Person == p.ID {
			m.Passkeys = append(m.Passkeys, client.Passkey{ID: base64.RawURLEncoding.EncodeToString(k.ID), Name: k.Name, Created: k.Created.UTC(), Used: frame.TimeOf(k.Used)})
		}
	}
	m.Waits = waits && !p.Ended.Valid && len(m.Access) == 0
	return m
}

func accessOf(x store.Secret, c frame.Caller, benches map[string]string) client.Access {
	a := client.Access{ID: x.ID.String, Kind: x.Kind, Person: x.Person.String, Name: x.Name, Scope: x.Scope, Sites: store.At(x.Sites), Made: x.Created.UTC(), Ends: frame.TimeOf(x.Expires), Seen: frame.TimeOf(x.Seen), From: x.From,
		Current: slices.Equal(x.Digest, c.Secret[:])}
	for _, id := range store.At(x.Benches) {
		a.Benches = append(a.Benches, cmp.Or(benches[id], id))
	}
	return a
}

// boundTo says in words to what a token is bound.
func boundTo(x store.Secret, benches map[string]string) (says string) {
	if all := store.At(x.Sites); len(all) > 0 {
		says = " at " + strings.Join(all, ", ")
	}
	if all := accessOf(x, frame.Caller{}, benches).Benches; len(all) > 0 {
		says += " on " + strings.Join(all, ", ")
	}
	return says
}

// benchNames are the names of benches, by id, if any of some tokens is bound to one.
func (v *People) benchNames(ctx context.Context, all ...store.Secret) (map[string]string, error) {
	if !slices.ContainsFunc(all, func(x store.Secret) bool { return x.Benches.String != "" }) {
		return nil, nil
	}
	benches, err := v.store.Benches(ctx)
	names := map[string]string{}
	for _, b := range benches {
		names[b.ID] = b.Name
	}
	return names, err
}

// listPeople shows the team. Where somebody is signed in, a lead sees, and whoever it is.
func (v *People) listPeople(ctx context.Context, in *frame.PageIn) (client.People, error) {
	out := client.People{People: []client.Member{}}
	c := frame.Who(ctx)
	people, p, err := v.store.PeoplePage(ctx, in.After, in.Size)
	if err != nil {
		return out, err
	}
	of := c.Person.ID
	if c.Person.Role == frame.Lead {
		of = ""
	}
	access, err := v.store.Access(ctx, of, v.clock.Now())
	if err != nil {
		return out, err
	}
	keys, err := v.store.Passkeys(ctx, of)
	if err != nil {
		return out, err
	}
	invited, err := v.store.Invited(ctx, v.clock.Now())
	benches, err := v.benchNames(ctx, access...)
	if err != nil {
		return out, err
	}
	out.Paged = frame.Paged(p)
	for _, x := range people {
		out.People = append(out.People, v.member(x, access, benches, keys, invited[x.ID], c))
	}
	return out, err
}

type newMemberIn struct{ Body client.NewMember }

// goodName refuses names that nobody could type or tell apart.
func goodName(name string) (string, error) {
	name = strings.Join(strings.Fields(name), " ")
	if name != frame.Short(name, 120) || len(name) < 2 || strings.ContainsAny(name, "/#?%") {
		return "", core.Fail(core.NotUnderstood, "%q is no name", name).Do("Letters and spaces, two at least.")
	}
	return name, nil
}

func goodEmail(address string) error {
	if address == "" {
		return nil
	}
	if a, err := mail.ParseAddress(address); err != nil || a.Address != address {
		return core.Fail(core.NotUnderstood, "%q is no e-mail address", address).Do("Write it like name@example.org.")
	}
	return nil
}

// invite adds somebody, and makes the link with which he signs in for the first time.
func (v *People) invite(ctx context.Context, in *newMemberIn) (client.Invited, error) {
	name, err := goodName(in.Body.Name)
	if err != nil {
		return client.Invited{}, err
	}
	if err := goodEmail(in.Body.Email); err != nil {
		return client.Invited{}, err
	}
	p := store.Person{ID: store.NewID(), Name: name, Role: in.Body.Role, Email: in.Body.Email, Created: v.clock.Now()}
	if err := v.store.AddPerson(ctx, p); err != nil {
		return client.Invited{}, err
	}
	if err := v.Audit(ctx, auditAdded, "", "%s as %s", p.Name, p.Role); err != nil {
		return client.Invited{}, err
	}
	code, err := v.linkFor(ctx, p.ID, inviteLasts, "", sql.NullTime{})
	return client.Invited{Member: v.member(p, nil, nil, nil, true, frame.Who(ctx)), Code: code.Code, Expires: code.Expires}, err
}

type changeMemberIn struct {
	PersonPath
	Body client.MemberChange
}

// active finds somebody whose account has not ended.
func (v *People) active(ctx context.Context, idOrName string) (store.Person, error) {
	p, err := v.store.Person(ctx, idOrName)
	if err == nil && p.Ended.Valid {
		err = core.Fail(core.NotFound, "the account of %s was ended", p.Name).Do("Invite them anew, under another name.")
	}
	return p, err
}

func (v *People) changeMember(ctx context.Context, in *changeMemberIn) (client.Member, error) {
	p, err := v.active(ctx, in.Person)
	if err != nil {
		return client.Member{}, err
	}
	if err := goodEmail(in.Body.Email); err != nil {
		return client.Member{}, err
	}
	was, at := p.Role, p.Sites.String
	if in.Body.Sites != nil {
		if p.Sites, err = v.sitesOf(ctx, *in.Body.Sites); err != nil {
			return client.Member{}, err
		}
	}
	if in.Body.Role != "" {
		p.Role = in.Body.Role
	}
	if in.Body.Email != "" {
		p.Email = in.Body.Email
	}
	if err := v.store.ChangePerson(ctx, p); err != nil {
		return client.Member{}, err
	}
	says := fmt.Sprintf("%s: was %s, is %s", p.Name, was, p.Role)
	if at != p.Sites.String {
		says += fmt.Sprintf(", works at %s", everywhere(p.WorksAt()))
	}
	if err := v.Audit(ctx, auditChanged, "", "%s", says); err != nil {
		return client.Member{}, err
	}
	return v.oneMember(ctx, p)
}

// everywhere are sites in words.
func everywhere(sites []string) string {
	if len(sites) == 0 {
		return "every site"
	}
	return strings.Join(sites, ", ")
}

// mostSites is at how many sites somebody may work before it is everywhere.
const mostSites = 50

// sitesOf are sites that somebody has entered, as they are kept with a person.
func (v *People) sitesOf(ctx context.Context, names []string) (out sql.NullString, err error) {
	if len(names) > mostSites {
		return out, core.Fail(core.NotUnderstood, "%d sites; at most %d, or none for everywhere", len(names), mostSites)
	}
	var all []string
	for _, n := range names {
		n = strings.TrimSpace(n)
		site, err := v.store.SiteOf(ctx, n)
		if err != nil {
			return out, err
		}
		if site == nil || !strings.EqualFold(site.Name, n) {
			return out, core.Fail(core.NotFound, "nobody has entered a site %q", n).Go(words.Sites().To("See which there are"))
		}
		if !slices.Contains(all, site.Name) {
			all = append(all, site.Name)
		}
	}
	out.String, out.Valid = strings.Join(all, "\n"), len(all) > 0
	return out, nil
}

// Elsewhere says that the caller does not work where a unit is; nil where he may work on it. Leads
// work everywhere.
func Elsewhere(c frame.Caller, u store.Unit) error {
	if c.Person.Role == frame.Lead || c.Person.WorksOn(u.Site) {
		return nil
	}
	if len(c.Person.Bound) > 0 {
		return core.Fail(core.NotAllowed, "unit %s is at %s, and this token is for %s", u.Serial, u.Site, everywhere(c.Person.Bound)).Unit("nothing was changed").Do("Take another token, or sign in.")
	}
	return core.Fail(core.NotAllowed, "unit %s is at %s, and you work at %s", u.Serial, u.Site, everywhere(c.Person.WorksAt())).Unit("nothing was changed").Do("Ask somebody who works there, or a lead.")
}

// WithinSites refuses a technician what would change a unit, or a run of one, at a site that is not
// his: whatever call it is, by what its path names.
func (v *People) WithinSites(ctx context.Context, unit, of string) error {
	c := frame.Who(ctx)
	if c.Person.Role == frame.Lead || len(c.Person.WorksAt())+len(c.Person.Bound) == 0 || unit == "" && of == "" {
		return nil
	}
	if unit == "" {
		r, err := v.store.Run(ctx, of)
		if core.KindOf(err) == core.NotFound {
			return nil // the call says so itself
		}
		if err != nil {
			return err
		}
		unit = r.Unit
	}
	u, err := v.store.Unit(ctx, unit)
	if core.KindOf(err) == core.NotFound || core.KindOf(err) == core.CannotTell {
		return nil
	}
	if err != nil {
		return err
	}
	return Elsewhere(c, u)
}

// WithinBenches refuses a token that is bound to other benches what goes on at one: by the run,
// the tray or the round that the path names. Links are looked at where they are found.
func (v *People) WithinBenches(ctx context.Context, of, onTray, inRound string) error {
	c := frame.Who(ctx)
	if c.By.Benches.String == "" || of+onTray+inRound == "" {
		return nil
	}
	var bench, name string
	var err error
	switch {
	case of != "":
		r, e := v.store.Run(ctx, of)
		bench, name, err = r.Bench, r.BenchName, e
	case onTray != "":
		t, e := v.store.Tray(ctx, onTray)
		bench, name, err = t.Bench, t.BenchName, e
	default:
		r, e := v.store.Round(ctx, inRound)
		if err = e; err == nil {
			name, _, _ = strings.Cut(r.Link, "/")
			b, e := v.store.BenchBy(ctx, name)
			bench, err = b.ID, e
		}
	}
	if core.KindOf(err) == core.NotFound {
		return nil // the call says so itself
	}
	if err != nil {
		return err
	}
	return AtBench(c, bench, name)
}

// AtBench refuses a token that is bound to other benches.
func AtBench(c frame.Caller, bench, name string) error {
	if all := store.At(c.By.Benches); len(all) == 0 || slices.Contains(all, bench) {
		return nil
	}
	return core.Fail(core.NotAllowed, "this token is not for bench %s", name).Unit("nothing was changed").Do("Take another token, or sign in.")
}

// bind binds a new token to sites and benches: never to more than the token with which it is made.
func (v *People) bind(ctx context.Context, x *store.Secret, sites, benches []string) (err error) {
	c := frame.Who(ctx)
	if len(sites)+len(benches) > 0 && x.Scope != client.ScopeWork {
		return core.Fail(core.NotUnderstood, "only a token for work is bound to sites or benches; this one is for %q", x.Scope).Unit("nothing was changed").Do("Ask for one for work, or leave them out.")
	}
	if x.Sites, err = v.sitesOf(ctx, sites); err != nil {
		return err
	}
	if x.Sites.String == "" {
		x.Sites = c.By.Sites
	}
	for _, name := range store.At(x.Sites) {
		if !(store.Person{Bound: c.Person.Bound, Sites: c.Person.Sites}).WorksOn(name) && c.Person.Role != frame.Lead {
			return core.Fail(core.NotAllowed, "you do not work at %s", name).Unit("nothing was changed").Do("Name sites at which you work.")
		}
	}
	var ids []string
	for _, name := range benches {
		b, err := v.store.BenchBy(ctx, name)
		if err == nil {
			err = AtBench(c, b.ID, b.Name)
		}
		if err != nil {
			return err
		}
		ids = append(ids, b.ID)
	}
	if x.Benches = store.Lines(ids); len(ids) == 0 {
		x.Benches = c.By.Benches
	}
	if x.Scope == client.ScopeCatalogue { // so that an older version beside this one, which does not know the scope, does not take it
		x.Benches = sql.NullString{Valid: true}
	}
	return nil
}

func (v *People) oneMember(ctx context.Context, p store.Person) (client.Member, error) {
	access, err := v.store.Access(ctx, p.ID, v.clock.Now())
	if err != nil {
		return client.Member{}, err
	}
	keys, err := v.store.Passkeys(ctx, p.ID)
	if err != nil {
		return client.Member{}, err
	}
	benches, err := v.benchNames(ctx, access...)
	return v.member(p, access, benches, keys, false, frame.Who(ctx)), err
}

type endMemberIn struct {
	PersonPath
	Body client.Reason
}

// endMember ends an account. Sessions, tokens and links are gone when it returns; live streams
// end within seconds.
func (v *People) endMember(ctx context.Context, in *endMemberIn) (client.Member, error) {
	p, err := v.active(ctx, in.Person)
	if err == nil {
		err = v.Sure(ctx)
	}
	if err != nil {
		return client.Member{}, err
	}
	if err := v.store.EndPerson(ctx, p.ID, v.clock.Now()); err != nil {
		return client.Member{}, err
	}
	if err := v.Audit(ctx, auditEnded, "", "%s: %s", p.Name, in.Body.Reason); err != nil {
		return client.Member{}, err
	}
	if p, err = v.store.Person(ctx, p.ID); err != nil {
		return client.Member{}, err
	}
	return v.oneMember(ctx, p)
}

type linkForIn struct{ PersonPath }

// newLinkFor makes a new sign-in link for somebody who has lost his.
func (v *People) newLinkFor(ctx context.Context, in *linkForIn) (client.Code, error) {
	p, err := v.active(ctx, in.Person)
	if err != nil {
		return client.Code{}, err
	}
	if err := v.Sure(ctx); err != nil {
		return client.Code{}, err
	}
	code, err := v.linkFor(ctx, p.ID, inviteLasts, "", sql.NullTime{})
	if err != nil {
		return code, err
	}
	return code, v.Audit(ctx, auditLink, "", "for %s", p.Name)
}

// endAccess ends a session or token: one's own, or as a lead anybody's.
func (v *People) endAccess(ctx context.Context, in *AccessPath) (frame.None, error) {
	c := frame.Who(ctx)
	x, err := v.store.AccessBy(ctx, in.ID)
	if err == nil && c.Person.Role != frame.Lead && x.Person.String != c.Person.ID {
		err = core.Fail(core.NotFound, "there is no session or token %s", in.ID)
	}
	if err != nil {
		return frame.None{}, err
	}
	p, err := v.store.Person(ctx, x.Person.String)
	if err != nil {
		return frame.None{}, err
	}
	if err := v.store.DropSecret(ctx, core.Digest(x.Digest)); err != nil {
		return frame.None{}, err
	}
	return frame.None{}, v.Audit(ctx, auditAccessEnded, "", "%s %s of %s", x.Kind, cutName(x.Name), p.Name)
}

func cutName(name string) string {
	if name == "" {
		return "without a name"
	}
	return name
}

// lasting is until when what somebody makes for himself is good: no longer than that with
// which he makes it, where that is a token.
func (v *People) lasting(c frame.Caller, days int) sql.NullTime {
	if days == 0 {
		days = 30
	}
	ends := v.clock.Now().Add(time.Duration(days) * 24 * time.Hour).UTC()
	if c.By.Kind == store.SecretToken && c.By.Expires.Valid && c.By.Expires.Time.Before(ends) {
		ends = c.By.Expires.Time
	}
	return sql.NullTime{Time: ends, Valid: true}
}

// narrower is a scope that is within another.
func narrower(scope, within string) string {
	switch {
	case scope == within || within == "" || within == client.ScopeWhole:
		return scope
	case scope == client.ScopeWhole:
		return within
	}
	return client.ScopeRead // of work and catalogue neither is within the other
}

type newTokenIn struct{ Body client.NewToken }

// makeToken makes a token of one's own. Made with a token, it may no more than that, and ends
// with it.
func (v *People) makeToken(ctx context.Context, in *newTokenIn) (client.MadeToken, error) {
	c, b := frame.Who(ctx), in.Body
	if b.Scope == "" {
		b.Scope = client.ScopeWork
	}
	x := store.Secret{Kind: store.SecretToken, Person: sql.NullString{String: c.Person.ID, Valid: true}, Name: frame.Short(strings.TrimSpace(b.Name), 120), Expires: v.lasting(c, b.Days), Scope: narrower(b.Scope, c.By.Scope), Created: v.clock.Now()}
	if err := v.bind(ctx, &x, b.Sites, b.Benches); err != nil {
		return client.MadeToken{}, err
	}
	text, err := v.addToken(ctx, &x)
	if err != nil {
		return client.MadeToken{}, err
	}
	benches, err := v.benchNames(ctx, x)
	if err != nil {
		return client.MadeToken{}, err
	}
	return client.MadeToken{Access: accessOf(x, c, benches), Token: text}, v.Audit(ctx, auditToken, "", "%s: may %s%s, until %s", x.Name, x.Scope, boundTo(x, benches), x.Expires.Time.Format("2006-01-02 15:04"))
}

// addToken keeps a new token, and reads it back with its id.
func (v *People) addToken(ctx context.Context, x *store.Secret) (text string, err error) {
	text, digest := Secret()
	x.Digest = digest[:]
	if err := v.store.AddSecret(ctx, *x); err != nil {
		return "", err
	}
	*x, err = v.store.Secret(ctx, digest, v.clock.Now())
	return text, err
}

// A machine waits ten minutes to be let in, and asks every five seconds (RFC 8628, sections
// 3.2 and 3.5).
const (
	machineLasts    = 10 * time.Minute
	machineInterval = 5 * time.Second
)

type newMachineIn struct{ Body client.NewMachine }

// letters are those that nobody takes for others when they are read out (RFC 8628, section
// 6.1, has the reasons).
const letters = "BCDFGHJKLMNPQRSTVWXZ"

// userCode is eight letters in two groups: 34 bits, for ten minutes and at most a thousand who wait.
func userCode() string {
	var b [8]byte
	for i := range b {
		for {
			var c [1]byte
			rand.Read(c[:])
			if int(c[0]) < 256/len(letters)*len(letters) {
				b[i] = letters[int(c[0])%len(letters)]
				break
			}
		}
	}
	return string(b[:4]) + "-" + string(b[4:])
}

// askMachine gives a machine the code that it shows.
func (v *People) askMachine(ctx context.Context, in *newMachineIn) (client.Machine, error) {
	text, digest := Secret()
	now := v.clock.Now()
	d := store.DeviceAsk{Digest: digest[:], Code: userCode(), Machine: frame.Short(in.Body.Machine, 60) + ", " + frame.Short(frame.Who(ctx).Address, 50), Address: frame.Short(frame.Who(ctx).Address, 64), Asked: now, Expires: now.Add(machineLasts)}
	if err := v.store.AddDeviceAsk(ctx, d); err != nil {
		return client.Machine{}, err
	}
	return client.Machine{Device: text, Code: d.Code, Page: "/let-in", Seconds: int(machineLasts.Seconds()), Interval: int(machineInterval.Seconds())}, nil
}

type machineAsksIn struct{ Body client.MachineAsks }

// machineState says whether somebody has let the machine in; its token comes once.
func (v *People) machineState(ctx context.Context, in *machineAsksIn) (client.MachineAnswer, error) {
	d, err := v.store.PollDevice(ctx, core.DigestOf([]byte(in.Body.Device)), v.clock.Now())
	switch {
	case err != nil:
		return client.MachineAnswer{}, err
	case !d.Decided.Valid && d.Polled.Valid && v.clock.Now().Sub(d.Polled.Time) < machineInterval/2:
		return client.MachineAnswer{}, core.Fail(core.Busy, "this machine asks too often").Do("Ask every %d s.", int(machineInterval.Seconds()))
	case !d.Decided.Valid:
		return client.MachineAnswer{State: "waits"}, nil
	case !d.Given:
		return client.MachineAnswer{State: "refused"}, nil
	}
	p, err := v.active(ctx, d.Person.String)
	if err != nil {
		return client.MachineAnswer{}, err
	}
	x := store.Secret{Kind: store.SecretToken, Person: d.Person, Name: d.Machine, Scope: d.Scope, Confirmed: d.Decided, Expires: sql.NullTime{Time: v.clock.Now().Add(time.Duration(d.Days) * 24 * time.Hour).UTC(), Valid: true}}
	text, err := v.addToken(ctx, &x)
	return client.MachineAnswer{State: "given", Token: text, Name: p.Name, Ends: &x.Expires.Time}, err
}

// waitingMachine is who waits with a code.
func (v *People) waitingMachine(ctx context.Context, in *MachinePath) (client.Waiting, error) {
	d, err := v.store.DeviceByCode(ctx, typedCode(in.Code), v.clock.Now())
	return client.Waiting{Code: d.Code, Machine: d.Machine, Asked: d.Asked.UTC()}, err
}

// typedCode is a code as people type it: without the hyphen, in small letters.
func typedCode(s string) string {
	s = strings.ToUpper(strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, s))
	if len(s) == 8 {
		return s[:4] + "-" + s[4:]
	}
	return s
}

type letInIn struct {
	MachinePath
	Body client.LetIn
}

// letIn lets a machine in as whoever is signed in, or refuses it.
func (v *People) letIn(ctx context.Context, in *letInIn) (frame.None, error) {
	c, b := frame.Who(ctx), in.Body
	if c.By.Kind != store.SecretSession {
		return frame.None{}, core.Fail(core.NotAllowed, "a machine is let in from the console").Do("Sign in there, and type the code.")
	}
	if b.Scope == "" {
		b.Scope = client.ScopeWhole
	}
	if b.Days == 0 {
		b.Days = 30
	}
	d, err := v.store.DeviceByCode(ctx, typedCode(in.Code), v.clock.Now())
	if err != nil {
		return frame.None{}, err
	}
	if b.Give { // its token counts as confirmed
		if err := v.Sure(ctx); err != nil {
			return frame.None{}, err
		}
	}
	d.Person, d.Scope, d.Days, d.Given = sql.NullString{String: c.Person.ID, Valid: true}, narrower(b.Scope, c.By.Scope), b.Days, b.Give
	if err := v.store.DecideDevice(ctx, d, v.clock.Now()); err != nil {
		return frame.None{}, err
	}
	if !b.Give {
		return frame.None{}, v.Audit(ctx, auditMachine, "", "refused: %s", d.Machine)
	}
	return frame.None{}, v.Audit(ctx, auditMachine, "", "%s: may %s, for %d days", d.Machine, d.Scope, d.Days)
}

package trials

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// leadName is the lead of the tests' worlds.
const leadName = "Imre Kolding"

// browsing is somebody's browser, without a browser: a cookie.
type browsing struct {
	t      *testing.T
	base   string
	cookie string
}

func (b *browsing) call(method, path string, body any) (int, []byte) {
	b.t.Helper()
	raw, err := json.Marshal(body)
	if err != nil {
		b.t.Fatal(err)
	}
	r, err := http.NewRequest(method, b.base+path, bytes.NewReader(raw))
	if err != nil {
		b.t.Fatal(err)
	}
	if r.Header.Set("Content-Type", "application/json"); b.cookie != "" {
		r.AddCookie(&http.Cookie{Name: "ferry_session", Value: b.cookie})
	}
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		b.t.Fatal(err)
	}
	defer resp.Body.Close()
	for _, c := range resp.Cookies() {
		b.cookie = c.Value
	}
	out, err := io.ReadAll(resp.Body)
	if err != nil {
		b.t.Fatal(err)
	}
	return resp.StatusCode, out
}

func (b *browsing) signIn(body any) int {
	b.t.Helper()
	code, _ := b.call("POST", "/api/session", body)
	return code
}

// TestSomebodyComesAndGoes: a lead invites by command; the newcomer signs in once with the
// link, lets his machine in, works with its token, makes a narrower one; then his account is
// ended, and all of it stops, his open stream within seconds. Each step stands in the log.
func TestSomebodyComesAndGoes(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "lead")
	told(t, l.must(0, "people", "invite", "Edda  Rooke", "--role", "technician", "--email", "edda@example.org"), "Edda Rooke, technician", "/sign-in#")
	_, err := w.Lead.Invite(ctx, client.NewMember{Name: "Edda Rooke", Role: "lead"})
	if core.KindOf(err) != core.Busy { // nobody is given another's account
		t.Fatalf("%v", err)
	}
	if p, err := w.Store.Person(ctx, "Edda Rooke"); err != nil || p.Role != "technician" {
		t.Fatalf("%+v %v", p, err)
	}
	link, err := w.Lead.LinkFor(ctx, "Edda Rooke")
	if err != nil {
		t.Fatal(err)
	}
	edda := &browsing{t: t, base: w.Base}
	if c := edda.signIn(map[string]string{"code": link.Code}); c != 200 {
		t.Fatal(c)
	}
	if c := (&browsing{t: t, base: w.Base}).signIn(map[string]string{"code": link.Code}); c == 200 {
		t.Error("a link signed in twice")
	}
	if c, body := edda.call("POST", "/api/session/codes", struct{}{}); c == 200 {
		t.Errorf("a session renews itself: %s", body)
	}

	// Her machine shows a code, she types it, the machine has a token of hers.
	m, err := w.Client("").AskMachine(ctx, client.NewMachine{Machine: "edda@van"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.WaitingMachine(ctx, m.Code); err != nil {
		t.Errorf("%v", err)
	}
	if err := w.Technician.LetIn(ctx, m.Code, client.LetIn{Give: true}); core.KindOf(err) != core.NotAllowed { // a token lets nobody in
		t.Errorf("%v", err)
	}
	if a, err := w.Client("").MachineState(ctx, m.Device); err != nil || a.State != "waits" {
		t.Errorf("%+v %v", a, err)
	}
	if _, err := w.Client("").MachineState(ctx, m.Device); core.KindOf(err) != core.Busy {
		t.Errorf("it asks twice in a row: %v", err)
	}
	if c, body := edda.call("POST", "/api/machines/"+strings.ToLower(strings.ReplaceAll(m.Code, "-", "")), client.LetIn{Give: true, Days: 7}); c != 200 && c != 204 {
		t.Fatalf("%d %s", c, body)
	}
	a, err := w.Client("").MachineState(ctx, m.Device)
	if err != nil || a.State != "given" || a.Token == "" || a.Name != "Edda Rooke" {
		t.Fatalf("%+v %v", a, err)
	}
	if _, err := w.Client("").MachineState(ctx, m.Device); core.KindOf(err) != core.NotFound {
		t.Errorf("the token came twice: %v", err)
	}
	hers := client.New(w.Base, a.Token, core.System{})
	t.Cleanup(hers.Close)
	if me, err := hers.WhoAmI(ctx); err != nil || me.Role != "technician" {
		t.Fatalf("%+v %v", me, err)
	}

	// A token made with it may no more, and ends with it.
	narrow, err := hers.MakeToken(ctx, client.NewToken{Name: "night report", Scope: client.ScopeRead, Days: 300})
	if err != nil || narrow.Ends == nil || narrow.Ends.After(*a.Ends) {
		t.Fatalf("%+v %v", narrow, err)
	}
	reads := client.New(w.Base, narrow.Token, core.System{})
	t.Cleanup(reads.Close)
	if _, err := reads.Links(ctx); err != nil {
		t.Error(err)
	}
	if _, err := reads.Identify(ctx, "b/a", ""); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a token that may look identifies: %v", err)
	}
	if wide, err := reads.MakeToken(ctx, client.NewToken{Name: "more", Scope: client.ScopeWhole}); err != nil || wide.Scope != client.ScopeRead {
		t.Errorf("%+v %v", wide, err)
	}
	// One that is bound works there alone, and what is made with it is bound too; one for the
	// catalogue changes nothing else.
	for _, site := range []string{"Gannet Quay", "Ormsay"} {
		if _, err := w.Lead.PutSite(ctx, client.NewSite{Name: site}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.Lead.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: "S-0001", Site: "Gannet Quay, hall A"}); err != nil && core.KindOf(err) != core.Busy {
		t.Fatal(err)
	}
	with := func(n client.NewToken) *client.Client {
		t.Helper()
		x, err := hers.MakeToken(ctx, n)
		if err != nil {
			t.Fatal(err)
		}
		c := client.New(w.Base, x.Token, core.System{})
		t.Cleanup(c.Close)
		return c
	}
	here, away, bench := with(client.NewToken{Name: "hall A", Sites: []string{"Gannet Quay"}}), with(client.NewToken{Name: "the isle", Sites: []string{"Ormsay"}}), with(client.NewToken{Name: "at the bench", Benches: []string{"b"}})
	if _, err := bench.Identify(ctx, "b/a", ""); err != nil {
		t.Errorf("at its bench: %v", err)
	}
	note := func(c *client.Client) error {
		return c.Note(ctx, "S-0001", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "D", Source: "label"}}})
	}
	if err := note(here); err != nil {
		t.Errorf("at its site: %v", err)
	}
	if err := note(away); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "this token is for Ormsay") {
		t.Errorf("elsewhere: %v", err)
	}
	if more, err := away.MakeToken(ctx, client.NewToken{Name: "more"}); err != nil || len(more.Sites) != 1 {
		t.Errorf("made with a bound one: %+v %v", more, err)
	}
	if _, err := away.MakeToken(ctx, client.NewToken{Name: "more", Sites: []string{"Gannet Quay"}}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("made for elsewhere: %v", err)
	}
	if _, err := hers.MakeToken(ctx, client.NewToken{Name: "looks", Scope: client.ScopeRead, Benches: []string{"b"}}); core.KindOf(err) != core.NotUnderstood {
		t.Errorf("bound, and for looking: %v", err)
	}
	// One for another bench does nothing at this one, whatever the call names it by.
	if err := w.Store.AddBench(ctx, store.Bench{ID: "0193aaaa-0000-7000-8000-000000000001", Name: "other", PublicKey: make([]byte, 32)}); err != nil {
		t.Fatal(err)
	}
	other := with(client.NewToken{Name: "at the other", Benches: []string{"other"}})
	refused := func(what string, err error) {
		t.Helper()
		if core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "for bench") {
			t.Errorf("%s at another bench: %v", what, err)
		}
	}
	_, err = other.Identify(ctx, "b/a", "")
	refused("identify", err)
	_, err = other.Ports(ctx, "b")
	refused("its ports", err)
	if _, err := bench.Ports(ctx, "b"); err != nil {
		t.Errorf("its own ports: %v", err)
	}
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `UPDATE secret SET benches = '0193aaaa-0000-7000-8000-000000000001' WHERE name = 'at the bench'`); err != nil {
		t.Fatal(err)
	}
	if _, err := bench.Links(ctx); err == nil {
		t.Error("a token that was bound anew behind the service's back is still good")
	}
	leads, err := w.Lead.MakeToken(ctx, client.NewToken{Name: "the catalogue's", Scope: client.ScopeCatalogue})
	if err != nil {
		t.Fatal(err)
	}
	catalogue := client.New(w.Base, leads.Token, core.System{})
	t.Cleanup(catalogue.Close)
	if _, err := catalogue.PutModel(ctx, coretest.Small); err != nil {
		t.Errorf("the catalogue's: %v", err)
	}
	if err := note(catalogue); core.KindOf(err) != core.NotAllowed {
		t.Errorf("the catalogue's notes a fact: %v", err)
	}
	if more, err := catalogue.MakeToken(ctx, client.NewToken{Name: "more", Scope: client.ScopeWhole}); core.KindOf(err) != core.NotAllowed {
		t.Errorf("the catalogue's makes a token: %+v %v", more, err)
	}
	told(t, l.must(0, "people", "list"), "Edda Rooke", "edda@example.org", "token night report", "token edda@van")

	// The account is ended: nothing of hers is good any more.
	ended := make(chan error, 1)
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0", Reason: "a test"}, 2)
	open := make(chan struct{}, 100)
	go func() {
		ended <- hers.FollowRun(ctx, r.ID, 0, func(client.Progress) bool { open <- struct{}{}; return true })
	}()
	<-open
	refused("stop a run", other.StopRun(ctx, r.ID))
	l.must(0, "people", "end", "Edda Rooke", "--reason", "has left")
	if _, err := hers.Links(ctx); err == nil {
		t.Error("her token is still good")
	}
	if c, _ := edda.call("GET", "/api/session", nil); c != 401 {
		t.Errorf("her session is still good: %d", c)
	}
	select {
	case <-ended:
	case <-time.After(coretest.Patience):
		t.Error("her stream is still open")
	}
	w.Stop(r)
	_, err = w.Lead.LinkFor(ctx, "Edda Rooke")
	if core.KindOf(err) != core.NotFound {
		t.Errorf("%v", err)
	}
	told(t, l.must(0, "audit", "log"), "person added", "Edda Rooke as technician", "signed in", "machine asked to be let in", "token made", "account ended", "has left", "as it was entered and signed")
	commandLine(t, w, "technician").must(20, "audit", "log")

	// The last lead cannot shut everybody out.
	_, err = w.Lead.ChangeMember(ctx, leadName, client.MemberChange{Role: "viewer"})
	if core.KindOf(err) != core.NotAllowed {
		t.Errorf("%v", err)
	}
	_, err = w.Lead.EndMember(ctx, leadName, client.Reason{Reason: "by mistake"})
	if me, still := w.Lead.WhoAmI(ctx); core.KindOf(err) != core.NotAllowed || still != nil || me.Role != "lead" {
		t.Errorf("%v %+v %v", err, me, still)
	}
}

// TestSigningAMachineIn: ferry sign-in waits for the console, keeps the token for this user
// alone, works with it, and sign-out ends it. A file that others may read is refused.
func TestSigningAMachineIn(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	home := t.TempDir()
	l := commandLine(t, w, "")
	l.env = append(l.env, "XDG_CONFIG_HOME="+home, "FERRY_TOKEN=")
	told(t, l.must(20, "links"), "nobody is signed in")
	c, _, errs := l.command("sign-in", "--machine", "bench 7")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	var waits client.Waiting
	x := tab(t, w, "technician", 1280, 800)
	w.Wait("the code to be shown", func() bool {
		for _, f := range strings.Fields(errs.String()) {
			if len(f) == 9 && f[4] == '-' {
				waits.Code = f
			}
		}
		return waits.Code != ""
	})
	do(t, x, chromedp.Navigate(w.Base+"/let-in"), fill(`[data-code] input`, waits.Code), says("bench 7"), press(`[data-let]`), browser.Until(`document.querySelector('[data-said]')?.innerText.includes('bench 7')`))
	if err := c.Wait(); err != nil {
		t.Fatalf("%v\n%s", err, errs)
	}
	kept := filepath.Join(home, "ferry", "signed-in.json")
	if info, err := os.Stat(kept); err != nil || info.Mode().Perm() != 0o600 {
		t.Fatalf("%v %v", info, err)
	}
	told(t, l.must(0, "links"), "b/a")
	told(t, l.must(0, "token", "list"), "token bench 7", "(this one)")
	if err := os.Chmod(kept, 0o644); err != nil {
		t.Fatal(err)
	}
	told(t, l.must(20, "links"), "others may read")
	if err := os.Chmod(kept, 0o600); err != nil {
		t.Fatal(err)
	}
	l.must(0, "sign-out")
	told(t, l.must(20, "links"), "nobody is signed in")
	l.must(21, "sign-out")
	people, err := w.Lead.People(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range people.People {
		for _, x := range p.Access {
			if strings.Contains(x.Name, "bench 7") {
				t.Errorf("its token is still there: %+v", x)
			}
		}
	}
}

// TestASecondFactorInTheConsole: it is set up with the secret that is shown, signing in anew
// wants it, and the command line is told to show it again.
func TestASecondFactorInTheConsole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	x := tab(t, w, "lead", 1280, 800)
	var secret string
	do(t, x, chromedp.Navigate(w.Base+"/people"), press(`[data-factor-set]`), browser.Until(`document.querySelector('[data-factor-new] .text')?.innerText.length > 15`), chromedp.Text(`[data-factor-new] .text`, &secret))
	// Codes of the half minute that is now and of the two behind it, each once: one is taken a half
	// minute early or late, however slow this machine is.
	began := time.Now()
	code := func(steps int) string {
		t.Helper()
		code, err := totp.GenerateCode(strings.TrimSpace(secret), began.Add(time.Duration(30*steps)*time.Second))
		if err != nil {
			t.Fatal(err)
		}
		return code
	}
	do(t, x, fill(`[data-digits] input`, code(0)), browser.Until(`document.querySelector('[data-shown]')?.innerText.includes('signing in wants it too')`))
	link, err := w.Technician.NewSignInCode(ctx)
	if err != nil || link.Code == "" {
		t.Fatal(err)
	}
	mine, err := w.Lead.NewSignInCode(ctx)
	if err != nil {
		t.Fatal(err)
	}
	do(t, x, chromedp.Evaluate(`fetch('/api/session', {method: 'DELETE'}).then(() => true)`, nil), chromedp.Navigate(w.Base+"/sign-in#"+mine.Code), says("six digits of your second factor"), fill(`[data-factor] input`, code(1)), browser.Until(`location.pathname === '/today'`))
	_, err = w.Lead.AddKey(ctx, client.NewKey{Name: "Workshop", Public: make([]byte, 32)})
	if core.KindOf(err) != core.NotAllowed {
		t.Fatalf("%v", err)
	}
	follow(t, w, "lead", err)
	l := commandLine(t, w, "lead")
	told(t, l.must(20, "confirm", "000000"), "not the code of the second factor")
	w.Wait("the next half minute", func() bool { return time.Now().Unix()/30 > began.Unix()/30 })
	told(t, l.must(0, "confirm", code(2)), "it is sure that it is you")
	if _, err := w.Lead.AddKey(ctx, client.NewKey{Name: "Workshop", Public: make([]byte, 32)}); err != nil {
		t.Errorf("%v", err)
	}
	told(t, l.must(0, "audit", "log"), "second factor set up")
}

// TestAPasswordInTheConsole: somebody who came by a link sets his password, and comes back with
// it, on a small screen too.
func TestAPasswordInTheConsole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	x := tab(t, w, "viewer", 390, 844)
	who, err := w.Viewer.WhoAmI(ctx)
	if err != nil {
		t.Fatal(err)
	}
	do(t, x, chromedp.Navigate(w.Base+"/people"), says("you sign in by links that leads make"),
		put(`[data-password-new] input`, who.Name+" 2026"), press(`[data-password-go]`), says("tried first"),
		put(`[data-password-new] input`, "a net full of herring"), press(`[data-password-go]`), says("It is set"),
		chromedp.Evaluate(`fetch('/api/session', {method: 'DELETE'}).then(() => true)`, nil), chromedp.Navigate(w.Base+"/sign-in"),
		put(`input[autocomplete=username]`, who.Name), put(`input[autocomplete=current-password]`, "a net full of herring"), press(`button[type=submit]`), browser.Until(`location.pathname === '/today'`),
		chromedp.Navigate(w.Base+"/people"), put(`[data-password-old] input`, "a net full of herring"), put(`[data-password-new] input`, "two nets and an anchor"), press(`[data-password-go]`), says("It is set"))
	told(t, commandLine(t, w, "lead").must(0, "audit", "log"), "password set")
}

// TestAPasskeyInTheConsole: added on a device, it signs in alone and stands for the second factor;
// what it has signed counts once, and for nothing but this; taken away, it signs in no more.
func TestAPasskeyInTheConsole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.Base = strings.Replace(w.Base, "127.0.0.1", "localhost", 1) // browsers keep passkeys for names
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.ActionFunc(func(ctx context.Context) error { // a device, with its owner's finger on it
		if err := webauthn.Enable().Do(ctx); err != nil {
			return err
		}
		_, err := webauthn.AddVirtualAuthenticator(&webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}).Do(ctx)
		return err
	}))
	out := chromedp.Evaluate(`fetch('/api/session', {method: 'DELETE'}).then(() => true)`, nil)
	do(t, x, chromedp.Navigate(w.Base+"/people"), put(`[data-passkey-name] input`, "laptop in the van"), press(`[data-passkey-add]`), browser.Until(`document.querySelector('[data-passkey-of="laptop in the van"]')`),
		out, chromedp.Navigate(w.Base+"/sign-in"), press(`[data-passkey]`), browser.Until(`location.pathname === '/today'`))
	l := commandLine(t, w, "lead")
	told(t, l.must(0, "audit", "log"), "passkey added", "laptop in the van", "with a passkey")

	// What was signed once is taken once.
	var twice []int
	do(t, x, out, chromedp.Navigate(w.Base+"/sign-in"), chromedp.Evaluate(`(async () => {
		const dare = await (await fetch('/api/session/passkey', {method: 'POST'})).json()
		const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(dare.options.publicKey)
		const passkey = (await navigator.credentials.get({publicKey})).toJSON()
		const send = async () => (await fetch('/api/session', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({state: dare.state, passkey})})).status
		const other = await (await fetch('/api/session/passkey', {method: 'POST'})).json()
		const wrong = (await fetch('/api/session', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({state: other.state, passkey})})).status
		return [await send(), await send(), wrong]
	})()`, &twice, func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }))
	if len(twice) != 3 || twice[0] != 200 || twice[1] != 403 || twice[2] != 403 {
		t.Errorf("signed once, sent twice, and for another dare: %v", twice)
	}
	// Whoever only asks, and is nobody, leaves nothing behind.
	kept := func() (n int) {
		t.Helper()
		if err := w.DB.Open(t, w.DB.Root).QueryRowContext(ctx, `SELECT COUNT(*) FROM secret`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	before, nobody := kept(), &browsing{t: t, base: w.Base}
	for range 30 {
		code, raw := nobody.call("POST", "/api/session/passkey", nil)
		var dare client.PasskeyDare
		if code != 200 || json.Unmarshal(raw, &dare) != nil {
			t.Fatal(code, string(raw))
		}
		nobody.call("POST", "/api/session", map[string]any{"state": dare.State, "passkey": map[string]string{"id": "x"}})
	}
	if after := kept(); after != before {
		t.Errorf("nobody's asking has left %d rows", after-before)
	}
	// Five minutes after it was used it is wanted again before what others rely on, by every door.
	do(t, x, chromedp.Navigate(w.Base+"/sign-in"), press(`[data-passkey]`), browser.Until(`location.pathname === '/today'`))
	earlier := func() {
		t.Helper()
		if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `UPDATE secret SET confirmed_at = '2020-01-01' WHERE confirmed_at IS NOT NULL`); err != nil {
			t.Fatal(err)
		}
	}
	earlier()
	do(t, x, chromedp.Navigate(w.Base+"/people"), press(`[data-passkey-end]`), says("this wants your passkey again"), press(`[data-passkey-sure]`), says("For five minutes it is sure that it is you."))
	_, err := w.Lead.EndFactor(ctx, "nobody", client.Reason{Reason: "its device is lost"})
	if core.KindOf(err) != core.NotAllowed {
		t.Errorf("with a token that nobody has confirmed: %v", err)
	}
	follow(t, w, "lead", err)
	if err := w.Lead.Confirm(ctx, "123456"); core.KindOf(err) != core.NotFound {
		t.Errorf("a code of nobody's factor: %v", err)
	}
	var foreign []int
	do(t, x, chromedp.Evaluate(`(async () => {
		const post = async (path, body) => await fetch(path, {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify(body)})
		const signed = async (path) => {
			const dare = await (await post(path)).json()
			const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(dare.options.publicKey)
			return {state: dare.state, passkey: (await navigator.credentials.get({publicKey})).toJSON()}
		}
		const toSignIn = await signed('/api/session/passkey'), again = await signed('/api/session/confirm/passkey')
		return [(await post('/api/session/confirm', toSignIn)).status, (await post('/api/session', again)).status, (await post('/api/session/confirm', again)).status, (await post('/api/session/confirm', again)).status]
	})()`, &foreign, func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }))
	if !slices.Equal(foreign, []int{422, 422, 200, 403}) {
		t.Errorf("signed for one thing and sent for another, right, and twice: %v", foreign)
	}
	do(t, x, chromedp.Navigate(w.Base+"/people"), press(`[data-passkey-end]`), browser.Until(`!document.querySelector('[data-passkey-of]')`), out,
		chromedp.Navigate(w.Base+"/sign-in"), press(`[data-passkey]`), says("does not sign anybody in here"))
	told(t, l.must(0, "audit"), "none missing")
}

// TestTheTeamInTheConsole: a lead invites, changes a role and ends an account; whoever makes a
// token sees it once.
func TestTheTeamInTheConsole(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/people"), says(leadName), press(`[data-invite]`), put(`[data-new-name] input`, "Edda Rooke"), press(`[data-new-go]`), browser.Until(`document.querySelector('[data-once]')?.innerText.includes('/sign-in#')`), says("Invited; has not signed in yet."),
		put(`[data-token-name] input`, "night report"), press(`[data-token-go]`), browser.Until(`document.querySelector('[data-made]')?.innerText.includes('night report')`),
		press(`[data-end="Edda Rooke"]`), fill(`[data-end-why] input`, "by mistake"), says("Account ended"))
	p, err := w.Store.Person(ctx, "Edda Rooke")
	if err != nil || !p.Ended.Valid {
		t.Errorf("%+v %v", p, err)
	}
	do(t, x, chromedp.Navigate(w.Base+"/audit"), says("account ended"), says("by mistake"), says("as it was entered and signed"),
		press(`[data-check-all]`), browser.Until(`document.querySelector('[data-checked]')?.innerText.includes('none missing')`))

	// Changed behind the service's back, the log says so.
	if _, err := w.DB.Open(t, w.DB.Root).ExecContext(ctx, `UPDATE entry SET encoded = CONCAT(encoded, 'x') WHERE unit = ? AND n = 1`, store.NoID); err != nil {
		t.Fatal(err)
	}
	do(t, x, chromedp.Navigate(w.Base+"/audit"), says("Changed since it was entered"),
		press(`[data-check-all]`), browser.Until(`document.querySelector('[data-checked]')?.innerText.includes('Not as it was entered') && document.querySelector('[data-findings]').innerText.includes('entry 1 of the audit log')`))
	told(t, commandLine(t, w, "lead").must(16, "audit", "log"), "changed since it was entered")
}

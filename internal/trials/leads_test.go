package trials

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
)

// TestTwoLeads: with a second lead in the team, nobody settles alone which key, which images by a
// word, and which sheet are believed; what one has asked for does not count until another one says
// the same. A team of one lead is not stopped, and the rule is on the record.
func TestTwoLeads(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	early := client.NewKey{Name: "Early", Public: make([]byte, 32)}
	if k, err := w.Lead.AddKey(ctx, early); err != nil || k.State != "trusted" {
		t.Fatalf("a lead alone: %+v %v", k, err)
	}
	l := commandLine(t, w, "lead")
	told(t, l.must(0, "second", "rule"), "wants one lead (rule auto)")

	made, err := w.Lead.Invite(ctx, client.NewMember{Name: "Edda Rooke", Role: "lead"})
	if err != nil {
		t.Fatal(err)
	}
	second := &browsing{t: t, base: w.Base}
	if code := second.signIn(map[string]string{"code": made.Code}); code != 200 {
		t.Fatal(code)
	}
	told(t, l.must(0, "second", "rule"), "wants two leads (rule auto)")

	// A key.
	public := base64.StdEncoding.EncodeToString(key.Public())
	told(t, l.must(0, "key", "trust", "Workshop", public), "waits for a second lead")
	told(t, l.must(19, "key", "trust", "Workshop", public), "you are the first", "Another lead")
	told(t, l.must(0, "key", "list"), "waits for a second lead")
	r := w.AddRelease("3.0.0", coretest.SmallProgram("3.0.0"), map[string][]string{"revision": {"D"}})
	document, err := w.Lead.Document(ctx, r.ID)
	if err != nil {
		t.Fatal(err)
	}
	signed, err := key.SignDetached(trust.PurposeRelease, document)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.Sign(ctx, r.ID, signed); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a key that waits signs: %v", err)
	}
	if code, raw := second.call("POST", "/api/keys", client.NewKey{Name: "Workshop", Public: key.Public()}); code != 200 || !strings.Contains(string(raw), `"state":"trusted"`) {
		t.Errorf("the second lead: %d %s", code, raw)
	}
	told(t, l.must(0, "key", "list"), "Edda Rooke")

	// A lead's word for images; that of the catalogue of before counts still.
	if r.Trust.State != "not-vouched" || !strings.Contains(r.Trust.Text, "a second lead is wanted") {
		t.Errorf("%+v", r.Trust)
	}
	told(t, l.must(19, "release", "accept", "small@3.0.0", "--reason", "I say so twice"), "you vouch for release 3.0.0 already")
	if err := w.Refused("a", "3.0.0"); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "a second lead is wanted") {
		t.Errorf("written on one word: %v", err)
	}
	if code, raw := second.call("POST", "/api/releases/"+r.ID+"/accept", client.Reason{Reason: "tried on two boards"}); code != 200 || !bytes.Contains(raw, []byte(`"state":"accepted"`)) {
		t.Errorf("%d %s", code, raw)
	}
	if p, err := w.Viewer.ReleasePage(ctx, "small@2.0.0"); err != nil || p.Trust.State != "accepted" {
		t.Errorf("%+v %v", p.Trust, err)
	}
	w.Flash("a", "3.0.0")

	// A sheet.
	sheet := append(coretest.Small[:len(coretest.Small):len(coretest.Small)], "\n# another edition\n"...)
	file := filepath.Join(t.TempDir(), "small.yaml")
	if err := os.WriteFile(file, sheet, 0o600); err != nil {
		t.Fatal(err)
	}
	before, err := w.Viewer.ModelPage(ctx, "small")
	if err != nil {
		t.Fatal(err)
	}
	told(t, l.must(0, "model", "add", file), "waits for a second lead")
	if now, err := w.Viewer.ModelPage(ctx, "small"); err != nil || now.Sheet != before.Sheet {
		t.Errorf("one lead alone puts a sheet in force: %v", err)
	}
	token, err := mint(second)
	if err != nil {
		t.Fatal(err)
	}
	other := client.New(w.Base, token, core.System{})
	t.Cleanup(other.Close)
	if m, err := other.PutModel(ctx, append(sheet[:len(sheet):len(sheet)], '\n')); err != nil || !m.Waits {
		t.Errorf("another sheet than the first lead's: %+v %v", m, err)
	}
	if m, err := w.Lead.PutModel(ctx, append(sheet[:len(sheet):len(sheet)], '\n')); err != nil || m.Waits {
		t.Errorf("the same: %+v %v", m, err)
	}
	if now, err := w.Viewer.ModelPage(ctx, "small"); err != nil || now.Sheet == before.Sheet {
		t.Errorf("two leads: %v", err)
	}

	// In the console the second lead sees what waits; the rule is settled there, and on the record.
	told(t, l.must(0, "key", "trust", "Marsk Boards", base64.StdEncoding.EncodeToString(bytes.Repeat([]byte{7}, 32))), "waits")
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/keys"), says("waits for a second lead"), browser.Until(`!document.querySelector('[data-trust-too]')`), says("wants two leads"))
	link, err := other.NewSignInCode(ctx)
	if err != nil {
		t.Fatal(err)
	}
	do(t, x, chromedp.Evaluate(`fetch('/api/session', {method: 'DELETE'}).then(() => true)`, nil), chromedp.Navigate(w.Base+"/sign-in#"+link.Code), browser.Until(`location.pathname === '/today'`),
		chromedp.Navigate(w.Base+"/keys"), press(`[data-trust-too]`), browser.Until(`!document.querySelector('[data-trust-too]') && !document.body.innerText.includes('waits for a second lead')`))
	told(t, l.must(0, "second", "rule", "--trust", "off"), "wants two leads", "wants this off", "another lead says the same")
	do(t, x, chromedp.Navigate(w.Base+"/keys"), says("wants this off"))
	if _, err := other.PutSecondRule(ctx, "off", "trust"); err != nil {
		t.Fatal(err)
	}
	told(t, l.must(0, "second", "rule"), "wants one lead (rule off)")
	told(t, l.must(0, "audit", "log"), "rule settled", "two leads for what is to be trusted: off", "second lead wanted")
	told(t, l.must(0, "audit"), "none missing")
}

// mint makes a token of whoever is signed in.
func mint(b *browsing) (string, error) {
	_, raw := b.call("POST", "/api/access/tokens", client.NewToken{Name: "trial", Scope: client.ScopeWhole})
	var made client.MadeToken
	err := json.Unmarshal(raw, &made)
	return made.Token, err
}

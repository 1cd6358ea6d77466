package trials

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// quayLamp is what the small board can be set to.
const quayLamp = `settings:
  by: loader
  pages:
    - { page: lamps, title: { en: Lamps } }
    - { page: network, title: { en: Network }, save: network.save, restart: 2s, keep: network.keep, within: 60s }
    - { page: access, title: { en: Access }, each: true }
  values:
    - { name: level, title: { en: Brightness cap }, as: number, unit: of 255, page: lamps }
    - { name: cap, title: { en: Brightness cap }, as: number, unit: "%", most: 100, page: lamps }
    - { name: pair, title: { en: Output pair }, as: choice, page: lamps, choices: [{ value: a-b, says: { en: A and B } }, { value: c-d, says: { en: C and D } }], suits: [{ when: [{ fact: revision, one-of: [D] }], not: [c-d], take: a-b, why: { en: "revision D has no output D" } }] }
    - { name: quay-lamp, title: { en: Lamp next to the quay }, as: choice, page: lamps, choices: [{ value: "1", says: { en: lamp 1 } }, { value: "16", says: { en: lamp 16 } }] }
    - { name: ssid, title: { en: Network name }, as: text, page: network, network: name, public: [LAMP], profile: network-name }
    - { name: password, title: { en: Operator password }, as: text, page: access, secret: true, public: [lamp] }
    - { name: radio-key, title: { en: Radio key }, as: text, page: access, secret: true, profile: radio-key }
`

const (
	pierText = "level=204\npair=c-d\nssid=LAMP\nfan=3\npassword=lamp\nradio-key=open water\n"
	slipText = "cap=40\npair=a-b\nssid=slip\npassword=their own\nradio-key=four oars\nquay-lamp=1\n"
)

// aLamp is a world with two small boards that have settings, the second one cared for, and
// a release that carries those of the first over.
func aLamp(t *testing.T) *testkit.World {
	t.Helper()
	paged := func(s *sim.Spec) {
		s.Paged = []sim.Paged{{Names: []string{"ssid"}, Save: "network.save", Keep: "network.keep"}}
	}
	w := testkit.NewWorld(t, paged, func(s *sim.Spec) { paged(s); s.Serial = "S-0002" })
	for i, text := range map[string]string{"a": pierText, "b": slipText} {
		at := make([]byte, w.Units[i].Settings.Length)
		for n := range at {
			at[n] = 0xFF
		}
		copy(at, text)
		w.Units[i].Write(w.Units[i].Settings.Address, at)
	}
	if _, err := w.Lead.PutModel(ctx, append(coretest.SmallSheetOf("gangway"), quayLamp...)); err != nil {
		t.Fatal(err)
	}
	im, err := w.Lead.PutImage(ctx, "small.bin", model.Part{Format: "raw", Address: 0x1000}, coretest.SmallProgram("3.0.1"))
	if err != nil {
		t.Fatal(err)
	}
	n := client.NewRelease{Model: "small", Version: "3.0.1", Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Accept: "our own build",
		Parts:    []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}},
		Settings: []model.Carry{{From: []string{"1.0.0"}, Changes: []model.Change{{Setting: "level", To: "cap", Scale: &model.Scale{From: 255, To: 100}}, {Setting: "fan", Gone: true}, {To: "quay-lamp", Ask: true}}}}}
	if _, err := w.Lead.AddRelease(ctx, n); err != nil {
		t.Fatal(err)
	}
	for name, at := range map[string]string{"Skerry Point": "S-0001", "Ormsay": "S-0002"} {
		if _, err := w.Lead.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: at, Site: name + ", pier"}); err != nil {
			t.Fatal(err)
		}
	}
	for _, at := range []string{"b/a", "b/b"} {
		w.Wait("the bench to hear of the sheet", func() bool { _, err := w.Technician.Identify(ctx, at, ""); return err == nil })
	}
	return w
}

func settingsOf(w *testkit.World, n string) string {
	m := w.Units[n].Memory()[w.Units[n].Settings.Address:][:w.Units[n].Settings.Length]
	return strings.TrimRight(string(m), "\xFF")
}

// TestSettingsByCommand: an update with a mapping, a profile and what everybody knows; then
// a run of nothing but settings; what is secret stays secret.
func TestSettingsByCommand(t *testing.T) {
	t.Parallel()
	w := aLamp(t)
	l, lead := commandLine(t, w, "technician"), commandLine(t, w, "lead")
	told(t, l.must(21, "settings", "profile", "Skerry Point"), "nobody has entered a site")
	told(t, l.must(0, "site", "set", "Skerry Point", "--customer", "the harbour board"), "Skerry Point")
	told(t, l.must(21, "settings", "profile", "Skerry Point", "--set", "colour=red"), "no sheet looks for \"colour\"", "network-name")
	told(t, l.must(0, "settings", "profile", "Skerry Point", "--set", "network-name=skerry-pier", "--set", "radio-key=low water"), "skerry-pier", "••••••••")
	told(t, l.must(0, "settings", "show", "S-0001"), "Nobody has read what S-0001 is set to")

	r := w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Release: "3.0.1", Reason: "flicker"})
	if item := turn(t, w, r.ID); item != "set-quay-lamp" {
		t.Fatalf("asked is %s", item)
	}
	told(t, l.must(0, "run", "show", r.ID), "2 are to be said by a person", "rescaled", "80 %", "by rule", "A and B", "from the profile, Skerry Point", "skerry-pier", "must be asked", "given up", "6 found, 6 wanted, 1 given up, 1 new",
		"HANDS ON: What is", "Type one of:", "answer: ferry run answer "+r.ID+" VALUE")
	told(t, l.must(24, "run", "answer", r.ID, "7"), "expected one of ", "16", `came "7"`)
	l.must(0, "run", "answer", r.ID, "16")
	if item := turn(t, w, r.ID); item != "set-password" {
		t.Fatalf("asked is %s", item)
	}
	told(t, l.must(20, "run", "answer", r.ID, "lamp"), "everybody knows that value")
	told(t, l.must(20, "run", "answer", r.ID, "excused", "--note", "on Monday"), "only a lead")
	l.must(0, "run", "answer", r.ID, "offered")
	if item := turn(t, w, r.ID); item != "look-at-settings" {
		t.Fatalf("asked is %s", item)
	}
	l.must(0, "run", "answer", r.ID, "yes")
	r = w.Follow(r.ID)
	if r.Outcome != string(run.Done) || r.Setup.Alike != 7 || r.Setup.Other != 0 {
		t.Fatalf("%s %+v %+v", r.Outcome, r.Progress.Fault, r.Setup)
	}
	has := settingsOf(w, "a")
	told(t, has, "cap=80", "pair=a-b", "ssid=skerry-pier", "quay-lamp=16", "radio-key=open water")
	if strings.Contains(has, "level=") || strings.Contains(has, "password=lamp\n") {
		t.Errorf("the unit has %q", has)
	}
	password := strings.Split(strings.SplitN(has, "password=", 2)[1], "\n")[0]
	shown := l.must(0, "settings", "show", "S-0001")
	told(t, shown, "Output pair", "A and B", "••••••••", "network name")
	told(t, l.must(0, "settings", "reveal", "S-0001", "password"), password)
	told(t, l.must(20, "settings", "reveal", "S-0001", "password"), "was shown once already")
	told(t, lead.must(20, "settings", "reveal", "S-0001", "password"), "wants a reason")
	told(t, lead.must(0, "settings", "reveal", "S-0001", "password", "--reason", "the owner lost it"), password)
	told(t, l.must(21, "settings", "reveal", "S-0001", "ssid"), "no secret setting")
	told(t, l.must(0, "history", "S-0001"), "The value of Operator password was shown: the owner lost it")
	told(t, l.must(0, "site", "list", "--output", "json"), `"skerry-pier"`, `"S-0001"`)
	kept := journals(t, w)
	for _, secret := range []string{password, "open water", "low water"} {
		if strings.Contains(kept, secret) {
			t.Errorf("%q stands in a journal", secret)
		}
	}

	// Nothing but settings: like another unit, and one value by hand.
	told(t, l.must(24, "settings", "put", "S-0001", "--yes", "--set", "cap=140", "--reason", "brighter"), "at most 100")
	told(t, l.must(21, "settings", "put", "S-0001", "--yes", "--set", "colour=red", "--reason", "brighter"), "knows no setting", "quay-lamp")
	told(t, l.must(21, "settings", "put", "S-0001", "--yes", "--like", "S-0002", "--reason", "brighter"), "nobody has read the settings of S-0002")
	s := w.Open(client.NewRun{Kind: run.SetUp, At: "b/b", Reason: "to know them"})
	if s = w.Follow(s.ID); s.Outcome != string(run.NothingToDo) {
		t.Fatalf("%s %+v", s.Outcome, s.Progress.Fault)
	}
	p := w.Open(client.NewRun{Kind: run.SetUp, At: "b/a", Reason: "as at the slip", Like: "S-0002", Set: map[string]string{"cap": "55"}})
	if item := turn(t, w, p.ID); item != "look-at-settings" {
		t.Fatalf("asked is %s", item)
	}
	l.must(0, "run", "answer", p.ID, "yes")
	if p = w.Follow(p.ID); p.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", p.Outcome, p.Progress.Fault)
	}
	told(t, settingsOf(w, "a"), "cap=55", "quay-lamp=1", "radio-key=four oars", "ssid=skerry-pier", "password=their own")
	follow(t, w, "technician", w.Refuses(client.NewRun{Kind: run.SetUp, At: "b/a", Like: "Q-1", Reason: "as there"}))
	follow(t, w, "technician", w.Refuses(client.NewRun{Kind: run.SetUp, At: "b/a", Reset: true, Reason: "as it came"})) // its sheet has no defaults
	follow(t, w, "technician", w.Refuses(client.NewRun{Kind: run.Flash, At: "b/a", Release: "2.0.0", Again: true, Reset: true, Reason: "as it came"}))
}

// journals is all that the bench has on its disk of its runs.
func journals(t *testing.T, w *testkit.World) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(w.Journals(), "*"))
	if err != nil || len(files) == 0 {
		t.Fatalf("%v %v", files, err)
	}
	var all strings.Builder
	for _, f := range files {
		raw, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		all.Write(raw)
	}
	return all.String()
}

// TestSettingsInTheConsole: a lead leaves what everybody knows by name; the unit says so
// until somebody sets it up.
func TestSettingsInTheConsole(t *testing.T) {
	t.Parallel()
	w := aLamp(t)
	if _, err := w.Technician.PutSite(ctx, client.NewSite{Name: "Skerry Point"}); err != nil {
		t.Fatal(err)
	}
	x := tab(t, w, "lead", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/sites"), press(`[aria-label="Change Skerry Point"]`), put(`[data-profile-of="network-name"] input`, "skerry-pier"), press(`[data-put-profile]`), browser.Until(`document.querySelector("[data-put-profile]").disabled`))

	r := w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Release: "3.0.1", Reason: "flicker"})
	turn(t, w, r.ID)
	do(t, x, chromedp.Navigate(w.Base+"/runs/"+r.ID), says("Brightness cap"), says("rescaled"), says("80 %"), says("revision D has no output D"), says("public default"), says("skerry-pier"), says("not yet"), says("Not carried, 1"), says("together, then a restart, 2 s"),
		press(`[data-choice="16"]`), press(`[data-leave]`), put(`.answer [data-note]`, "the owner changes it on Monday"), press(`[data-leave-it]`), press(`[data-confirm]`))
	r = w.Follow(r.ID)
	if r.Outcome != string(run.Done) || !strings.Contains(settingsOf(w, "a"), "password=lamp\n") {
		t.Fatalf("%s %+v %s", r.Outcome, r.Progress.Fault, settingsOf(w, "a"))
	}
	if u, err := w.Technician.UnitsIn(ctx, "public-default", "", "", "", 10); err != nil || u.Total != 1 || u.Units[0].Serial != "S-0001" {
		t.Errorf("units with a public default: %+v %v", u, err)
	}
	k := w.Open(client.NewRun{Kind: run.BackUp, At: "b/a", Reason: "before the visit"})
	if k = w.Follow(k.ID); len(k.Progress.View.Owed) != 1 || k.Progress.View.Owed[0].Kind != run.OwePublic {
		t.Errorf("a backup run drops what a lead has left by name: %+v", k.Progress.View.Owed)
	}
	do(t, x, says("7 read back alike"), chromedp.Navigate(w.Base+"/units/S-0001"), says("public default"), press(`[data-set-up]`), put(`[data-field="set-reason"] input`, "a password of its own"), press(`[data-begin-set]`),
		browser.Until(`location.pathname.startsWith("/runs/")`), press(`[data-offered]`), says("6 read back alike"))
	if strings.Contains(settingsOf(w, "a"), "password=lamp\n") {
		t.Error("everybody still knows it")
	}
	w.Wait("the run to close", func() bool {
		u, err := w.Technician.UnitsIn(ctx, "public-default", "", "", "", 10)
		return err == nil && u.Total == 0
	})
	do(t, x, chromedp.Navigate(w.Base+"/units/S-0001"), press(`[data-show="password"]`), browser.Until(`document.querySelector("[data-setting=password] strong").innerText.length === 19`),
		chromedp.Navigate(w.Base+"/sites"), says("skerry-pier"))
	var wide float64
	narrow := tab(t, w, "technician", 390, 844)
	do(t, narrow, chromedp.Navigate(w.Base+"/runs/"+r.ID), says("7 read back alike"), chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide))
	if wide > 390 {
		t.Errorf("the run is %v wide at 390", wide)
	}
}

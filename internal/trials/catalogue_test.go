package trials

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/browser"
	"zealousferry/sim"
)

// TestAWithdrawalReachesARunUpToItsFirstErase withdraws the release while the run
// reads the memory: it is refused before anything is changed.
func TestAWithdrawalReachesARunUpToItsFirstErase(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) { s.Scale = 2 })
	before := w.Units["a"].Memory()
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a"})
	got, err := w.Lead.Withdraw(ctx, "small@2.0.0", "loses the tray")
	if err != nil || got.Runs != 1 {
		t.Fatalf("%+v %v", got, err)
	}
	r = w.Follow(r.ID)
	if r.Outcome != "refused" || r.Progress.Fault.Kind != core.DoesNotFit || !strings.Contains(r.Progress.Fault.Message, "release 2.0.0 was withdrawn: loses the tray") || !bytes.Equal(w.Units["a"].Memory(), before) {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if r.Backup == "" {
		t.Error("the run was refused before it read the memory: this proves nothing about the first erase")
	}
	// The next run is refused at once, and nothing recommends the release.
	if _, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0"}); core.KindOf(err) != core.DoesNotFit {
		t.Errorf("the next run: %v", err)
	}
	f, err := w.Technician.Fit(ctx, "b/a", "", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range f.Verdicts {
		if v.Version == "2.0.0" && (v.Recommended || v.Answer != fit.DoesNotFit) {
			t.Errorf("%+v", v)
		}
	}
}

// TestAWithdrawnReleaseShowsWhoCarriesIt flashes a unit, withdraws what it runs,
// and finds it; what it ran before is then no step back that needs a reason to be
// recommended.
func TestAWithdrawnReleaseShowsWhoCarriesIt(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	got, err := w.Lead.Withdraw(ctx, "small@2.0.0", "loses the tray")
	if err != nil || got.Total != 1 || got.Units[0].Serial != "S-0001" {
		t.Fatalf("%+v %v", got, err)
	}
	if _, err := w.Lead.Withdraw(ctx, "small@2.0.0", "again"); core.KindOf(err) != core.Busy {
		t.Errorf("a second time: %v", err)
	}
	f, err := w.Technician.Fit(ctx, "S-0001", "", "")
	if err != nil {
		t.Fatal(err)
	}
	if v, ok := fit.Chosen(f.Verdicts); !ok || v.Version != "1.0.0" || !v.Recommended || v.Step != "older" {
		t.Errorf("%+v", f.Verdicts)
	}
}

func add(t *testing.T, w *testkit.World, n client.NewRelease, program []byte) client.Release {
	t.Helper()
	im, err := w.Lead.PutImage(ctx, "small.bin", model.Part{Format: "raw", Address: 0x1000}, program)
	if err != nil {
		t.Fatal(err)
	}
	n.Model, n.Parts = "small", []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}
	if n.Channel == "" {
		n.Channel = model.Stable
	}
	r, err := w.Lead.AddRelease(ctx, n)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestASteppingStoneIsPutInFirst goes the way to a release that cannot be reached
// in one step, run by run.
func TestASteppingStoneIsPutInFirst(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	add(t, w, client.NewRelease{Version: "3.0.0", Fits: map[string][]string{"revision": {"D"}}, Rules: []model.Rule{{Fact: "running", AtLeast: "2.0.0"}}, Accept: "made by the test"}, coretest.SmallProgram("3.0.0"))
	for _, want := range []string{"2.0.0", "3.0.0", "3.0.0"} {
		f, err := w.Technician.Fit(ctx, "b/a", "", "")
		if err != nil {
			if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
				t.Fatal(err)
			}
			f, err = w.Technician.Fit(ctx, "b/a", "", "")
			if err != nil {
				t.Fatal(err)
			}
		}
		v, _ := fit.Chosen(f.Verdicts)
		if v.Version != want || !v.Recommended || (want == "2.0.0") != (v.Toward == "3.0.0") {
			t.Fatalf("wants %s: %+v", want, f.Verdicts)
		}
		r := w.Open(client.NewRun{Kind: "flash", At: "b/a"}) // without naming a release
		if r = w.Follow(r.ID); r.Version != want || r.Outcome != "done" && r.Outcome != "nothing-to-do" {
			t.Fatalf("%s: %s", r.Version, r.Outcome)
		}
		if said := map[string]string{"2.0.0": "3.0.0 fits now.", "3.0.0": "Nothing newer is left that fits."}[want]; r.After == nil || r.After.Text != said {
			t.Errorf("after %s: %+v", want, r.After)
		}
	}
	// Named, the far release is refused on the wire too.
	w.Consent("S-0001", model.StepBack)
	if r := w.Flash("a", "1.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	if err := w.Refused("a", "3.0.0"); core.KindOf(err) != core.DoesNotFit || !strings.Contains(err.Error(), "can be reached from at least 2.0.0") {
		t.Errorf("%v", err)
	}
}

// TestConsent: what nobody vouches for is not written; a step back and a candidate
// want a reason, which stands in the record.
func TestConsent(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	add(t, w, client.NewRelease{Version: "3.0.0", Fits: map[string][]string{"revision": {"D"}}}, coretest.SmallProgram("3.0.0"))
	add(t, w, client.NewRelease{Version: "4.0.0", Channel: model.Candidate, Fits: map[string][]string{"revision": {"D"}}, Accept: "made by the test"}, coretest.SmallProgram("4.0.0"))
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	open := func(version, reason string) error {
		r, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Release: version, Reason: reason})
		if err == nil {
			if r = w.Follow(r.ID); r.Outcome != "done" || r.Record.Reason != "" && reason == "" {
				return fmt.Errorf("%s", r.Outcome)
			}
		}
		return err
	}
	if err := open("3.0.0", "because"); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "Nobody vouches for its images") {
		t.Errorf("nobody vouches: %v", err)
	}
	add(t, w, client.NewRelease{Version: "3.1.0", Fits: map[string][]string{"revision": {"C"}}}, coretest.SmallProgram("3.1.0"))
	if err := open("3.1.0", "because"); core.KindOf(err) != core.DoesNotFit || !strings.Contains(err.Error(), "It is for revision C") {
		t.Errorf("nobody vouches, and it does not fit: %v", err)
	}
	if err := open("4.0.0", ""); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "is a candidate") {
		t.Errorf("a candidate without reason: %v", err)
	}
	if _, err := w.Technician.Accept(ctx, "small@3.0.0", "trust me"); core.KindOf(err) != core.NotAllowed {
		t.Errorf("a technician accepts: %v", err)
	}
	if r, err := w.Lead.Accept(ctx, "small@3.0.0", "compared by telephone"); err != nil || r.Trust.State != "accepted" || r.Trust.Text != "Accepted by Imre Kolding: compared by telephone." {
		t.Errorf("%+v %v", r.Trust, err)
	}
	if err := open("3.0.0", ""); err != nil {
		t.Error(err)
	}
	if err := open("1.0.0", ""); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "is a step back: the unit runs 3.0.0") {
		t.Errorf("a step back without reason: %v", err)
	}
	w.Consent("S-0001", model.StepBack)
	w.Consent("S-0001", model.OfCandidate)
	if err := open("1.0.0", "the hand-box does not pair"); err != nil {
		t.Error(err)
	}
	if err := open("4.0.0", "on trial"); err != nil {
		t.Error(err)
	}
	// What was refused before a run began stands in the history as well.
	h, err := w.Viewer.History(ctx, "S-0001")
	refused := 0
	for _, e := range h.Entries {
		if e.Kind == "refused" && e.By == "Sunniva Dale" && strings.Contains(e.Reason, "release") {
			refused++
		}
	}
	if err != nil || h.Chain != "intact" || refused != 4 {
		t.Errorf("%d refusals, chain %s, %v: %+v", refused, h.Chain, err, h.Entries)
	}
}

// TestMemoryIsKnownByItsContent reads what is in a unit: a release, a release of
// which something differs, and a program that nobody knows.
func TestMemoryIsKnownByItsContent(t *testing.T) {
	t.Parallel()
	strange := coretest.SmallProgram("1.0.0")
	for i := range strange {
		if i > 40 && i%2 == 0 {
			strange[i] ^= byte(i >> 3)
		}
	}
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) {
		made := s.Fresh
		s.Fresh = func() []byte {
			b := made()
			copy(b[0x1000+0x2000:], bytes.Repeat([]byte("patched "), 128))
			return b
		}
	}, func(s *sim.Spec) {
		made := s.Fresh
		s.Fresh = func() []byte { b := made(); copy(b[0x1000:], strange); return b }
	})
	look := func(link, serial string) client.Inside {
		t.Helper()
		r := w.Open(client.NewRun{Kind: "backup", At: "b/" + link})
		if r = w.Follow(r.ID); r.Outcome != "done" {
			t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
		}
		in, err := w.Technician.Inside(ctx, serial)
		if err != nil {
			t.Fatal(err)
		}
		return in
	}
	if _, err := w.Technician.Inside(ctx, "S-0001"); core.KindOf(err) != core.NotFound {
		t.Errorf("without a backup: %v", err)
	}
	if in := look("a", "S-0001"); !in.Known || in.Main.Version != "1.0.0" || len(in.Main.Differs) > 0 || in.Lies || in.Text != "Release 1.0.0 (program), every piece." {
		t.Errorf("as it was flashed: %+v %+v", in, in.Main)
	}
	// What a run has written since counts; of a unit that was put back, what was put back.
	if r := w.Flash("a", "2.0.0"); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	if in, err := w.Technician.Inside(ctx, "S-0001"); err != nil || !in.Known || in.Main.Version != "2.0.0" || len(in.Main.Differs) > 0 || in.Lies {
		t.Errorf("after a flash: %+v %v", in, err)
	}
	r := w.Open(client.NewRun{Kind: "restore", At: "b/a"})
	if r = w.Follow(r.ID); r.Outcome != "done" {
		t.Fatal(r.Outcome)
	}
	if in, err := w.Technician.Inside(ctx, "S-0001"); err != nil || in.Main == nil || in.Main.Version != "1.0.0" || in.Lies {
		t.Errorf("after a restore: %+v %v", in, err)
	}
	if in := look("b", "S-0002"); in.Main == nil || in.Main.Version != "1.0.0" || len(in.Main.Differs) != 1 || !slices.Contains(in.Unknown, "program") {
		t.Errorf("patched in one place: %+v %+v", in, in.Main)
	}
	if in := look("c", "S-0003"); in.Known {
		t.Errorf("a strange program: %+v %+v", in, in.Main)
	}
}

// TestARenamedPackedOrConvertedFileIsTheSameImage sends a release's image in other
// clothes.
func TestARenamedPackedOrConvertedFileIsTheSameImage(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "viewer")
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	program := coretest.SmallProgram("2.0.0")
	os.WriteFile(at("a.bin"), program, 0o600)
	for _, c := range [][]string{{"image", "convert", at("a.bin"), at("b.hex"), "--at", "0x1000"}, {"image", "convert", at("b.hex"), at("c.s19")}, {"image", "convert", at("c.s19"), at("d.uf2")}, {"image", "convert", at("d.uf2"), at("e.txt"), "--to", "address-text"}} {
		if out, errs, code := l.run(c...); code != 0 || !strings.Contains(errs, "Nothing was lost.") {
			t.Fatalf("%v: %d %s%s", c, code, out, errs)
		}
	}
	raw, _ := os.ReadFile(at("b.hex"))
	os.WriteFile(at("some other name.dat"), raw, 0o600)
	for _, name := range []string{"b.hex", "c.s19", "d.uf2", "e.txt", "some other name.dat"} {
		m, code := l.json("image", "inspect", at(name))
		known, _ := m["known"].([]any)
		if code != 0 || len(known) != 1 || known[0].(map[string]any)["version"] != "2.0.0" || known[0].(map[string]any)["how"] != "same-image" {
			t.Errorf("%s: %d %v", name, code, m["known"])
		}
	}
	if m, _ := l.json("image", "inspect", at("a.bin"), "--at", "0x1000"); m["known"].([]any)[0].(map[string]any)["how"] != "same-file" {
		t.Errorf("the very file: %v", m["known"])
	}
	if m, code := l.json("image", "diff", at("b.hex"), at("c.s19")); code != 0 || m["differs"] != 0.0 || m["same"] != float64(len(program)) {
		t.Errorf("%d %v", code, m)
	}
}

// TestAPackGoesFromOneTeamToAnother: signed, trusted, imported; and what is
// refused on the way.
func TestAPackGoesFromOneTeamToAnother(t *testing.T) {
	t.Parallel()
	from, to := testkit.NewWorld(t), testkit.NewWorld(t)
	dir := t.TempDir()
	maker, lead := commandLine(t, from, "lead"), commandLine(t, to, "lead")
	maker.env = append(maker.env, "FERRY_PASSPHRASE=three grey gulls")
	run := func(l line, want int, args ...string) string {
		t.Helper()
		c, out, errs := l.command(args...)
		c.Dir = dir
		c.Run()
		if code := c.ProcessState.ExitCode(); code != want {
			t.Fatalf("ferry %v: %d, want %d\n%s%s", args, code, want, out, errs)
		}
		return strings.Join(strings.Fields(out.String()+errs.String()), " ")
	}
	for i, v := range []string{"3.0.0", "3.1.0"} {
		add(t, from, client.NewRelease{Version: v, Fits: map[string][]string{"revision": {"D"}}, Supersedes: []string{"2.0.0"}}, coretest.SmallProgram(v))
		run(maker, 0, "release", "pack", fmt.Sprintf("plain-%d.zip", i+1), "small@"+v, "--series", "small", "--number", fmt.Sprint(i+1))
	}
	run(maker, 0, "key", "make", "Marsk Boards", "--file", "maker.key")
	run(maker, 0, "release", "pack", "one.zip", "small@3.0.0", "--series", "small", "--number", "1", "--key", "maker.key")
	run(maker, 0, "release", "pack", "two.zip", "small@3.1.0", "--series", "small", "--number", "2", "--key", "maker.key")
	plain, err := os.ReadFile(filepath.Join(dir, "plain-1.zip"))
	if err != nil {
		t.Fatal(err)
	}
	_, err = to.Lead.ImportPack(ctx, plain, "", false)
	follow(t, to, "lead", err, "FILE", filepath.Join(dir, "plain-1.zip"))
	if said := run(lead, 20, "release", "import", "plain-1.zip"); !strings.Contains(said, "The pack is not signed") {
		t.Error(said)
	}
	if said := run(lead, 20, "release", "import", "one.zip"); !strings.Contains(said, "which nobody here has decided to trust") {
		t.Error(said)
	}
	run(lead, 0, "key", "trust", "Marsk Boards", "maker.key")
	if _, err := from.Lead.PutModel(ctx, lone()); err != nil {
		t.Fatal(err)
	}
	kept, err := from.Lead.PutImage(ctx, "lone.bin", model.Part{Format: "raw", Address: 0x1000}, coretest.SmallProgram("3.0.0"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := from.Lead.AddRelease(ctx, client.NewRelease{Model: "lone", Version: "3.0.0", Channel: model.Stable, Accept: "made by the test", Fits: map[string][]string{"revision": {"D"}},
		Parts: []client.NewPart{{Name: "program", Image: kept.Digest, Address: 0x1000, Format: "raw"}}}); err != nil {
		t.Fatal(err)
	}
	run(maker, 0, "release", "pack", "lone.zip", "lone@3.0.0", "--series", "lone", "--number", "1", "--key", "maker.key")
	foreign, err := os.ReadFile(filepath.Join(dir, "lone.zip"))
	if err != nil {
		t.Fatal(err)
	}
	_, err = to.Lead.ImportPack(ctx, foreign, "", false)
	follow(t, to, "lead", err)
	if said := run(lead, 0, "release", "import", "two.zip"); !strings.Contains(said, "signed by Marsk Boards: 1 of 1 releases are new") {
		t.Error(said)
	}
	if said := run(lead, 20, "release", "import", "one.zip"); !strings.Contains(said, "this one is old") {
		t.Error(said)
	}
	run(lead, 0, "release", "import", "one.zip", "--older")
	if said := run(lead, 0, "release", "import", "two.zip"); !strings.Contains(said, "0 of 1 releases are new") {
		t.Error(said)
	}
	// One byte changed anywhere is found.
	raw, _ := os.ReadFile(filepath.Join(dir, "two.zip"))
	for _, at := range []int{80, len(raw) / 2, len(raw) - 300} {
		bad := bytes.Clone(raw)
		bad[at] ^= 1
		os.WriteFile(filepath.Join(dir, "bad.zip"), bad, 0o600)
		c, out, errs := lead.command("release", "import", "bad.zip")
		c.Dir = dir
		c.Run()
		// A byte that stands for nothing (a time of the zip's own) may differ; then nothing else does.
		if code := c.ProcessState.ExitCode(); code != 17 && !strings.Contains(out.String(), "0 of 1 releases are new") {
			t.Errorf("byte %d changed: %d %s%s", at, code, out, errs)
		}
	}
	// The unit gets it; when the key is revoked, nobody is offered it any more.
	if r := to.Flash("a", ""); r.Version != "3.1.0" || r.Outcome != "done" {
		t.Errorf("%s %s", r.Version, r.Outcome)
	}
	keys, err := to.Lead.Keys(ctx)
	if err != nil || len(keys.Keys) != 1 {
		t.Fatal(err)
	}
	run(lead, 0, "key", "revoke", keys.Keys[0].ID, "--reason", "laptop stolen")
	p, err := to.Viewer.ReleasePage(ctx, "small@3.1.0")
	if err != nil || p.Trust.State != "not-vouched" || !strings.Contains(p.Trust.Text, "was revoked") {
		t.Errorf("%+v %v", p.Trust, err)
	}
	// The same release in the same words: document and id travelled.
	a, _ := from.Lead.Document(ctx, "small@3.1.0")
	b, _ := to.Lead.Document(ctx, "small@3.1.0")
	if !bytes.Equal(a, b) || len(a) == 0 {
		t.Error("the document changed on the way")
	}
}

func TestAPhotoStandsBehindAFact(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) { s.Revision = "" })
	l := commandLine(t, w, "technician")
	photo := filepath.Join(t.TempDir(), "board.png")
	shot := pictureOf(60)
	os.WriteFile(photo, shot, 0o600)
	l.json("identify", "b/a")
	f, err := w.Technician.Fit(ctx, "b/a", "", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range f.Verdicts {
		for _, r := range v.Reasons {
			if len(r.Steps) > 0 {
				followTodo(t, w, "technician", r.Todo)
			}
		}
	}
	m, code := l.json("fit", "b/a")
	q, _ := m["question"].(map[string]any)
	if code != 0 || q == nil || q["fact"] != "revision" || len(q["answers"].([]any)) == 0 {
		t.Fatalf("%d %v", code, m["question"])
	}
	if out, errs, code := l.run("note", "S-0001", "revision=D", "--photo", photo); code != 0 {
		t.Fatalf("%s%s", out, errs)
	}
	u, err := w.Viewer.Unit(ctx, "S-0001")
	if err != nil || len(u.Facts["revision"].Photo) != 64 {
		t.Errorf("%+v %v", u.Facts["revision"], err)
	}
	x := tab(t, w, "viewer", 1280, 800)
	do(t, x, chromedp.Navigate(w.Base+"/units/S-0001"), browser.Until(`document.querySelector("[data-photo]")`),
		chromedp.Evaluate(`fetch(document.querySelector("[data-photo]").href).then(async r => window.photo = r.headers.get("Content-Type") + " " + (await r.blob()).size)`, nil), browser.Until(fmt.Sprintf(`window.photo === "image/png %d"`, len(shot))))
	os.WriteFile(photo, []byte("<script>"), 0o600)
	if _, errs, code := l.run("note", "S-0001", "revision=D", "--photo", photo); code == 0 {
		t.Errorf("a page as a photo: %s", errs)
	}
}

func TestWhatAJobNeedsFirst(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	l := commandLine(t, w, "technician")
	add(t, w, client.NewRelease{Version: "3.0.0", Fits: map[string][]string{"revision": {"D"}}, Accept: "made by the test", Wants: []model.Want{{Kind: model.Entitlement, Name: "portal", LeadDays: 2}}}, coretest.SmallProgram("3.0.0"))
	l.json("identify", "b/a")
	state := func(day string) string {
		t.Helper()
		m, code := l.json("fit", "b/a", "--day", day)
		if code != 0 || len(m["needs"].([]any)) != 1 {
			t.Fatalf("%d %v", code, m["needs"])
		}
		return m["needs"].([]any)[0].(map[string]any)["state"].(string)
	}
	today := time.Now().UTC().Format(time.DateOnly)
	later := time.Now().UTC().AddDate(0, 1, 0).Format(time.DateOnly)
	if s := state(today); s != fit.Missing {
		t.Error(s)
	}
	follow(t, w, "technician", w.Refused("a", "3.0.0"))
	l.json("gear", "add", "entitlement", "portal", "--until", time.Now().UTC().AddDate(0, 0, 20).Format(time.DateOnly))
	if s := state(today); s != fit.Ready {
		t.Error(s)
	}
	if s := state(later); s != fit.Expired {
		t.Error(s)
	}
	if m, code := l.json("fit", "b/a", "--day", "soon"); code != 24 {
		t.Errorf("%d %v", code, m)
	}
}

func TestTheTeamsTarget(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.Technician.Identify(ctx, "b/a", "")
	if _, err := w.Lead.PutTarget(ctx, client.NewTarget{Model: "small", Revision: "D", Version: "1.0.0", Reason: "proven"}); err != nil {
		t.Fatal(err)
	}
	best := func() string {
		f, err := w.Technician.Fit(ctx, "b/a", "", "")
		if err != nil {
			t.Fatal(err)
		}
		v, _ := fit.Chosen(f.Verdicts)
		return v.Version
	}
	if v := best(); v != "1.0.0" {
		t.Errorf("recommended %s", v)
	}
	if _, err := w.Lead.PutTarget(ctx, client.NewTarget{Model: "small", Revision: "D", Reason: "open again"}); err != nil {
		t.Fatal(err)
	}
	if v := best(); v != "2.0.0" {
		t.Errorf("recommended %s", v)
	}
	if _, err := w.Lead.PutTarget(ctx, client.NewTarget{Model: "small", Revision: "C", Version: "2.0.0", Reason: "does not fit"}); core.KindOf(err) != core.DoesNotFit {
		t.Errorf("a target that does not fit: %v", err)
	}
	if _, err := w.Lead.PutTarget(ctx, client.NewTarget{Model: "small", Revision: "Z", Version: "2.0.0", Reason: "no such revision"}); core.KindOf(err) != core.NotUnderstood {
		t.Errorf("a revision that is not there: %v", err)
	}
}

func TestTheCatalogueIsSearched(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	add(t, w, client.NewRelease{Version: "3.0.0", Number: "SM-300-A", Cures: "Ends the stall after warm-up.", Accept: "x y z"}, coretest.SmallProgram("3.0.0"))
	add(t, w, client.NewRelease{Version: "3.1.0", Number: "SM-310-A", Cures: "Prints 100% of the fares.", Accept: "x y z", Rules: []model.Rule{{Fact: "serial", OneOf: []string{"HB-4471-C"}}}}, coretest.SmallProgram("3.1.0"))
	digest := core.DigestOf(coretest.SmallProgram("3.0.0")).String()
	for words, want := range map[string]string{"stall": "3.0.0", "warm stall": "3.0.0", "SM-31": "3.1.0", "3.": "3.0.0 3.1.0", "fares": "3.1.0", "HB-4471-C": "3.1.0", "HB-9999-C": "", digest: "3.0.0", "nothing": "", "100%": "3.1.0", "+stall -(": "3.0.0", "small 2.0": "2.0.0", `"`: "1.0.0 2.0.0 3.0.0 3.1.0"} {
		got, err := w.Viewer.Releases(ctx, words, "", "", 50)
		if err != nil {
			t.Errorf("%q: %v", words, err)
			continue
		}
		var versions []string
		for _, r := range got.Releases {
			versions = append(versions, r.Version)
		}
		slices.Sort(versions)
		if s := strings.Join(versions, " "); s != want || got.Total != len(versions) {
			t.Errorf("%q: %q of %d, want %q", words, s, got.Total, want)
		}
	}
	first, err := w.Viewer.Releases(ctx, "", "small", "", 3)
	if err != nil || first.Total != 4 || len(first.Releases) != 3 || first.Next == "" {
		t.Errorf("first page: %d of %d, %v", len(first.Releases), first.Total, err)
	}
	if p, err := w.Viewer.Releases(ctx, "", "small", first.Next, 3); err != nil || p.Total != 4 || len(p.Releases) != 1 || p.Next != "" {
		t.Errorf("the second page: %d of %d, %v", len(p.Releases), p.Total, err)
	}
}

// TestImageInspectWithoutAService checks the shape that scripts rely on.
func TestImageInspectWithoutAService(t *testing.T) {
	t.Parallel()
	path, err := ferry()
	if err != nil {
		t.Fatal(err)
	}
	l := line{t, path, []string{"PATH=" + os.Getenv("PATH")}}
	file := filepath.Join(t.TempDir(), "a.hex")
	data := []byte("AB")
	os.WriteFile(file, []byte(":020000040801F1\n:0200000041427B\n:020010004344"+"67\n:04000005080000CD22\n:00000001FF\n"), 0o600)
	m, code := l.json("image", "inspect", file)
	segments := m["segments"].([]any)
	first := segments[0].(map[string]any)
	raw, _ := os.ReadFile(file)
	if code != 0 || m["format"] != "intel-hex" || m["bytes"] != float64(len(raw)) || m["sha256"] != core.DigestOf(raw).String() || len(segments) != 2 ||
		first["address"] != float64(0x08010000) || first["length"] != 2.0 || first["sha256"] != core.DigestOf(data).String() || m["start"] != float64(0x080000CD) || m["warnings"] == nil {
		t.Errorf("%d %v", code, m)
	}
	for name, x := range map[string]struct{ content, place string }{
		"a.hex":    {":020000040801F1\n:0200000041427C\n:00000001FF\n", "line"},
		"b.s19":    {"S1070010414243449E\nS9030000FC\n", "line"},
		"c.uf2":    {"UF2\nWQ]\x9e", "offset"},
		"d.elf":    {"\x7fELF\x02\x01\x01", "offset"},
		"e.bin":    {"", "offset"},
		"f.ti.txt": {"@F000\n31 4\n", "line"},
	} {
		bad := filepath.Join(t.TempDir(), name)
		os.WriteFile(bad, []byte(x.content), 0o600)
		m, code := l.json("image", "inspect", bad)
		e, _ := m["error"].(map[string]any)
		if _, has := e[x.place]; code != 17 || e["kind"] != "bad-file" || !has || e["message"] == "" {
			t.Errorf("%s: %d %v", name, code, m)
		}
	}
}

// folded is a gzip of so many zeros.
func folded(t *testing.T, n int64) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, gzip.BestSpeed)
	if err != nil {
		t.Fatal(err)
	}
	zeros := make([]byte, 1<<20)
	for ; n > 0; n -= int64(len(zeros)) {
		w.Write(zeros)
	}
	w.Close()
	return out.Bytes()
}

// TestNoFileFillsTheProcess gives files that want memory; the process stays below
// four times the payload and 64 MB.
func TestNoFileFillsTheProcess(t *testing.T) {
	t.Parallel()
	path, err := ferry()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	var scattered, single, repeated bytes.Buffer
	sum := func(b ...byte) string {
		s := byte(0)
		for _, c := range b {
			s += c
		}
		return fmt.Sprintf("%02X", -s)
	}
	for i := range 400_000 { // a byte here, a byte there
		if i%8000 == 0 {
			fmt.Fprintf(&scattered, ":02000004%04X%s\n", i/8000, sum(2, 4, byte(i/8000>>8), byte(i/8000)))
		}
		at := uint16(i % 8000 * 8)
		fmt.Fprintf(&scattered, ":01%04X0055%s\n", at, sum(1, byte(at>>8), byte(at), 0x55))
		fmt.Fprintf(&repeated, ":01%04X0055%s\n", at, sum(1, byte(at>>8), byte(at), 0x55))
	}
	scattered.WriteString(":00000001FF\n")
	repeated.WriteString(":00000001FF\n")
	for i := 65535; i >= 0; i-- { // backwards, one byte a record
		fmt.Fprintf(&single, ":01%04X0066%s\n", i, sum(1, byte(i>>8), byte(i), 0x66))
	}
	single.WriteString(":00000001FF\n")
	blank := bytes.Repeat([]byte("\n"), 30<<20)
	for name, x := range map[string]struct {
		data    []byte
		payload int
		want    int
	}{
		"scattered": {scattered.Bytes(), 400_000, 17}, "repeated": {repeated.Bytes(), 8000, 0}, "backwards": {single.Bytes(), 65536, 0}, "blank lines": {append([]byte(":0200000041427B\n"), blank...), 2, 17},
		"a gzip that unfolds without end": {folded(t, 2<<30), 0, 17}, "a gzip of zeros": {folded(t, 1<<20), 1 << 20, 0},
		"a long line": {append([]byte(":"), bytes.Repeat([]byte("0"), 30<<20)...), 0, 17},
	} {
		file := filepath.Join(dir, name+".hex")
		os.WriteFile(file, x.data, 0o600)
		// A process counts the memory of the one that started it: a small one stands between.
		c, out, errs := line{t, os.Args[0], append(os.Environ(), "FERRY_MEASURED="+path)}.command("image", "inspect", file, "--output", "json")
		c.Run()
		used := 0
		if _, err := fmt.Sscanf(errs.String()[strings.LastIndex(errs.String(), "KiB used: ")+10:], "%d", &used); err != nil {
			t.Fatalf("%s: %v: %s", name, err, errs)
		}
		used <<= 10
		// The program alone takes some 30 MiB; on a machine that has much else to do, garbage stays longer.
		if limit := 4*x.payload + 96<<20; used > limit {
			t.Errorf("%s: %d MiB used, at most %d", name, used>>20, limit>>20)
		}
		if code := c.ProcessState.ExitCode(); code != x.want {
			t.Errorf("%s: exit %d, want %d: %.200s%s", name, code, x.want, out, errs)
		}
		if !json.Valid(out.Bytes()) {
			t.Errorf("%s: no JSON", name)
		}
	}
}

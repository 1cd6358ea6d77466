package trials

import (
	"encoding/base64"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// TestWhatIsAdvisedCanBeFollowed: each verb that an error points to is typed as it stands
// there, in the condition in which it is given, and each page is opened. The verb may
// find that more is wanted; it is never one that does not exist, lacks a part, or is not
// allowed to whoever was told.
func TestWhatIsAdvisedCanBeFollowed(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, slow, func(s *sim.Spec) { s.Serial = "S-0002" })
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	sheet := filepath.Join(t.TempDir(), "small.yaml")
	if err := os.WriteFile(sheet, coretest.Small, 0o600); err != nil {
		t.Fatal(err)
	}
	image := filepath.Join(t.TempDir(), "image.bin")
	if err := os.WriteFile(image, coretest.SmallProgram("7.0.0"), 0o600); err != nil {
		t.Fatal(err)
	}
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	public := base64.StdEncoding.EncodeToString(key.Public())
	release := func(version string) (id string) {
		m, err := w.Viewer.ModelPage(ctx, "small")
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range m.Matrix.Rows {
			if r.Version == version {
				id = r.Release
			}
		}
		return id
	}
	followed := map[string]bool{}
	// walk types and opens what is advised. as is who was told.
	walk := func(name, as string, todo core.Todo) {
		t.Helper()
		steps := 0
		for _, s := range todo.Steps {
			if s.Verb == "" && s.Page == "" {
				continue
			}
			steps++
			followed[s.ID] = true
			if verb, isCommand := strings.CutPrefix(s.Verb, "ferry "); isCommand {
				typed := strings.NewReplacer("…", `because it must be`, "SERIAL", "S-0001", "BENCH/LINK", "b/a", "SHEET", sheet, "--part NAME=FILE", "--part program="+image+"@0x1000", "--file FILE", "--file "+image+".key", "FILE", image, "PART=first", "program=first", "PUBLIC", public, "VERSION", "7.0.0", "KIND", "cable", "NAME", "spare", "VALUE", "D", "MODEL", "small", "UNIT", "S-0001", "RUN", "01930000-0000-7000-8000-00000000dead").Replace(verb)
				var args []string
				for _, part := range regexp.MustCompile(`because it must be|\S+`).FindAllString(typed, -1) {
					args = append(args, part)
				}
				switch args[0] {
				case "bench", "serve", "migrate": // they are processes of their own, and other tests start them
					continue
				}
				who := as
				if strings.HasPrefix(s.Says, "A lead") {
					who = "lead"
				}
				l := commandLine(t, w, who)
				l.env = append(l.env, "FERRY_PASSPHRASE=three grey gulls") // what is else typed on a terminal
				out, errs, code := l.run(args...)
				if code == 2 || strings.Contains(errs, "NOT ALLOWED") && !strings.Contains(errs, "this asks before it writes") || strings.Contains(errs, "Usage:") {
					t.Errorf("%s: the advice %q, followed as %s: exit %d\n%s%s", name, s.Verb, who, code, out, errs)
				}
			}
			if s.Page != "" {
				resp, err := http.Get(w.Base + s.Page)
				if err != nil || resp.StatusCode != http.StatusOK {
					t.Errorf("%s: the page %s: %v %v", name, s.Page, resp, err)
				}
				if resp != nil {
					resp.Body.Close()
				}
			}
		}
		if steps == 0 {
			t.Errorf("%s advises nothing that can be done: %q", name, todo.Next)
		}
	}
	follow := func(name, as string, err error) {
		t.Helper()
		if err == nil {
			t.Errorf("%s: no error", name)
			return
		}
		walk(name, as, core.AsError(err, "").Todo)
	}
	open := func(as *client.Client, n client.NewRun) error {
		_, err := as.OpenRun(ctx, n)
		return err
	}

	_, err = w.Technician.Identify(ctx, "b/zz", "")
	follow("a link that is not there", "technician", err)
	_, err = w.Technician.Identify(ctx, "S-0002", "")
	follow("a unit on no link", "technician", err)
	follow("a run on a link that nobody has asked", "technician", open(w.Technician, client.NewRun{Kind: "flash", At: "b/b"}))
	follow("a restore without a backup", "technician", open(w.Technician, client.NewRun{Kind: "restore", At: "b/a"}))
	_, err = w.Technician.Card(ctx, "S-9999", client.CardAbout{})
	follow("a unit that nobody knows", "technician", err)
	follow("a release that is not there", "technician", open(w.Technician, client.NewRun{Kind: "flash", At: "b/a", Release: "9.9.9"}))

	if _, err := w.Lead.PutHold(ctx, client.NewHold{Unit: "S-0001", Version: "1.0.0", Reason: "the lamp flickers with 2"}); err != nil {
		t.Fatal(err)
	}
	follow("a unit that is held", "lead", open(w.Lead, client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0"}))
	if err := w.Lead.EndHold(ctx, client.HoldEnd{Unit: "S-0001"}); err != nil && core.KindOf(err) != core.NotFound { // following the advice has ended it already
		t.Fatal(err)
	}

	r := w.Open(client.NewRun{Kind: "flash", At: "b/a"})
	_, err = w.Technician.Identify(ctx, "b/a", "")
	follow("a link that a run has", "technician", err)
	follow("a unit that a run has", "technician", open(w.Technician, client.NewRun{Kind: "flash", At: "b/a"}))
	w.Wait("the write to begin", func() bool { return w.Right(r.ID) >= 2 })
	w.Units["a"].Set(sim.Faults{CutLead: 50})
	if r = w.Follow(r.ID); r.Outcome != string(run.Interrupted) {
		t.Fatalf("%s", r.Outcome)
	}
	if r.Progress.Fault == nil {
		t.Fatal("it was interrupted, and says nothing")
	}
	w.Units["a"].Set(sim.Faults{})
	follow("a run that is half done, when another is begun", "technician", open(w.Technician, client.NewRun{Kind: "flash", At: "b/a"}))
	w.Wait("the half-done run to come to its end", func() bool { // the advice was to go on with it, or it is gone on with now
		x, err := w.Technician.Run(ctx, r.ID)
		if err == nil && x.State == "paused" {
			w.Technician.ResumeRun(ctx, r.ID, client.Resume{})
		}
		return err == nil && x.State == "closed"
	})
	follow("what it runs already", "technician", func() error {
		_, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Release: release("1.0.0")})
		return err
	}())
	// What the catalogue, the register and the list of jobs say no to.
	_, err = w.Lead.AddKey(ctx, client.NewKey{Name: "k", Public: []byte{1, 2, 3}})
	follow("a key that is none", "lead", err)
	_, err = w.Lead.TakeOut(ctx, release("2.0.0"), "made in error")
	follow("a release that was used", "lead", err)
	_, err = w.Lead.MarkMistake(ctx, "S-0001", "never there")
	follow("a unit that had a run, as a mistake", "lead", err)
	_, err = w.Technician.AnswerTest(ctx, "S-0001", client.TestAnswer{Value: "yes"})
	follow("a test that is not open", "technician", err)
	job, err := w.Technician.AddJob(ctx, client.NewJob{Reason: "the lamp flickers", Units: []string{"S-0001"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.CloseJob(ctx, job.Number, client.JobClosing{Note: "asked for twice"}); err != nil {
		t.Fatal(err)
	}
	_, err = w.Technician.ChangeJob(ctx, job.Number, client.JobChange{Units: []string{"S-0002"}})
	follow("a job that is closed", "technician", err)
	_, err = w.Technician.OpenRun(ctx, client.NewRun{Kind: "restore", At: "b/a", Backup: "01930000-0000-7000-8000-00000000dead"})
	follow("a backup that is not there", "technician", err)
	kept, err := w.Lead.PutImage(ctx, "8.bin", model.Part{Format: "raw", Address: 0x1000}, coretest.SmallProgram("8.0.0"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: "8.0.0", Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}},
		Parts: []client.NewPart{{Name: "program", Image: kept.Digest, Address: 0x1000, Format: "raw"}}}); err != nil {
		t.Fatal(err)
	}
	follow("a release that nobody vouches for", "lead", open(w.Lead, client.NewRun{Kind: "flash", At: "b/a", Release: release("8.0.0")}))
	w.StopBench()
	w.Wait("the bench to be missed", func() bool {
		all, err := w.Viewer.Links(ctx)
		return err == nil && all.Links[0].State == "offline"
	})
	_, err = w.Technician.Identify(ctx, "b/a", "")
	follow("a bench that is away", "technician", err)
	if len(followed) < 17 {
		t.Errorf("only these were followed: %v of %d", followed, len(words.Ways))
	}
}

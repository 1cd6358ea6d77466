package trials

import (
	"cmp"
	"slices"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/diagnose"
	"zealousferry/core/link/ports"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/trust"
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
	w := testkit.NewWorld(t, slow, func(s *sim.Spec) { s.Serial, s.Says = "S-0002", "a stranger" })
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
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
	follow := func(name, as string, err error) {
		t.Helper()
		t.Log(name)
		follow(t, w, as, err)
	}
	open := func(as *client.Client, n client.NewRun) error {
		_, err := as.OpenRun(ctx, n)
		return err
	}

	_, err := w.Technician.Identify(ctx, "b/zz", "")
	follow("a link that is not there", "technician", err)
	_, err = w.Technician.Identify(ctx, "S-0002", "")
	follow("a unit on no link", "technician", err)
	_, err = w.Technician.Identify(ctx, "b/b", "")
	follow("a unit whose model nobody knows", "lead", err)
	follow("a run on a link that nobody has asked", "technician", open(w.Technician, client.NewRun{Kind: "flash", At: "b/b"}))
	follow("a restore without a backup", "technician", open(w.Technician, client.NewRun{Kind: "restore", At: "b/a"}))
	_, err = w.Technician.Check(ctx, client.NewCheck{At: "b/a", Answer: &diagnose.Answer{}})
	follow("a test of a check that nobody has made", "technician", err)
	_, err = ports.ByAdapter(nil, "TT-0417") // as the bench says it when the adapter was pulled a moment ago
	follow("an adapter that is not there", "technician", err)
	_, err = w.Technician.Ports(ctx, "z")
	follow("a bench that is not there", "technician", err)
	_, err = w.Technician.Inside(ctx, "S-0001")
	follow("a memory that nobody has read", "technician", err)
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

	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a"}, 2)
	_, err = w.Technician.Identify(ctx, "b/a", "")
	follow("a link that a run has", "technician", err)
	follow("a unit that a run has", "technician", open(w.Technician, client.NewRun{Kind: "flash", At: "b/a"}))
	_, err = w.Technician.AbandonRun(ctx, r.ID, "no time")
	follow("a run that is at work, to be given up", "technician", err) // it is ordered to stop by that
	w.LetGoOnce(client.OrderStop)
	if r = w.Follow(r.ID); r.Outcome != string(run.Interrupted) {
		t.Fatalf("%s", r.Outcome)
	}
	w.HoldAfter(1)
	right := w.Right(r.ID)
	if _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{}); err != nil {
		t.Fatal(err)
	}
	w.Wait("it to go on", func() bool { return w.Right(r.ID) > right })
	w.Units["a"].Set(sim.Faults{CutLead: 50})
	w.LetGo()
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
	stranger, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	document, err := w.Lead.Document(ctx, "small@8.0.0")
	if err != nil {
		t.Fatal(err)
	}
	signature, err := stranger.SignDetached(trust.PurposeRelease, document)
	if err != nil {
		t.Fatal(err)
	}
	_, err = w.Lead.Sign(ctx, "small@8.0.0", signature)
	follow("a signature by a key that nobody trusts", "lead", err)
	w.StopBench()
	w.Wait("the bench to be missed", func() bool {
		all, err := w.Viewer.Links(ctx)
		return err == nil && all.Links[0].State == "offline"
	})
	_, err = w.Technician.Identify(ctx, "b/a", "")
	follow("a bench that is away", "technician", err)
}

// TestARunThatStillOwesSaysHowItEnds: the lock is lifted and nothing can be written; what
// is advised ends it.
func TestARunThatStillOwesSaysHowItEnds(t *testing.T) {
	t.Parallel()
	w := handed(t, "gangway", func(s *sim.Spec) { s.Locked = true })
	stuck := uint64(0x1800)
	w.Units["a"].Set(sim.Faults{Stuck: &stuck})
	r, err := w.Lead.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Label: "S-0001", Waive: []string{run.GateProtection}, Reason: "the lamp must burn"})
	if err != nil {
		t.Fatal(err)
	}
	for fault := (*run.Fault)(nil); fault == nil; {
		item := ""
		w.Wait("a person's turn, or trouble", func() bool {
			x, err := w.Technician.Run(ctx, r.ID)
			if err == nil && x.Progress.View.Hands != nil {
				item = x.Progress.View.Hands.Item
			}
			if err == nil {
				fault = x.Progress.Fault
			}
			return item != "" || fault != nil
		})
		if fault != nil {
			slices.Reverse(fault.Steps) // they are alternatives: giving it up goes before going on
			followTodo(t, w, "technician", fault.Todo)
			break
		}
		if _, err := w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: item, Value: cmp.Or(asSeen[item], "yes")}); err != nil {
			t.Fatal(err)
		}
	}
	if x, err := w.Technician.Run(ctx, r.ID); err != nil || x.State != "closed" {
		t.Errorf("the advice was followed to its end, and the run is %s, %v", x.State, err)
	}
}

// TestALabelThatIsAskedForIsTaken: a unit that tells no serial is gone on with as advised,
// with its label read again.
func TestALabelThatIsAskedForIsTaken(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, func(s *sim.Spec) { s.Kind, s.Parity, s.ChipID = "keel", "even", 0x5EA00017 })
	if _, err := w.Lead.PutModel(ctx, coretest.SmallSheetOf("keel")); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool {
		_, err := w.Technician.IdentifyAs(ctx, client.NewIdentify{At: "b/a", Label: "S-0001", Model: "small"})
		return err == nil
	})
	if err := w.Technician.Note(ctx, "S-0001", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "D", Source: "label"}}}); err != nil {
		t.Fatal(err)
	}
	r := w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/a", Label: "S-0001"}, 2)
	if r = w.Stop(r); r.Outcome != string(run.Interrupted) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	_, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{})
	follow(t, w, "technician", err)
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) {
		t.Errorf("%s %+v", r.Outcome, r.Progress.Fault)
	}
}

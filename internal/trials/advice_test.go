package trials

import (
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/coretest"
	"zealousferry/core/diagnose"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
)

// advised follows what an error advises, or says that there was none.
func advised(t *testing.T, w *testkit.World, as string) func(what string, err error, more ...string) {
	return func(what string, err error, more ...string) {
		t.Helper()
		t.Log(what)
		follow(t, w, as, err, more...)
	}
}

// TestAdviceBeforeARun: what the register, the catalogue, the list of jobs and the gear say
// while nothing is at work.
func TestAdviceBeforeARun(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	follow := advised(t, w, "technician")
	lead := advised(t, w, "lead")
	open := func(as *client.Client, n client.NewRun) error {
		_, err := as.OpenRun(ctx, n)
		return err
	}
	_, err := w.Technician.Listen(ctx, client.NewListen{At: "b/b", Loader: true, Say: "version"})
	follow("a loader that nobody knows", err)
	for _, at := range []string{"b/a", "b/b"} {
		if _, err := w.Technician.Identify(ctx, at, ""); err != nil {
			t.Fatal(err)
		}
	}
	_, err = w.Lead.Scan(ctx, client.NewScan{At: "b/a"})
	lead("no sheet of an assembly", err)
	follow("a label that says another unit", open(w.Technician, client.NewRun{Kind: "flash", At: "b/a", Label: "S-0002"}))
	_, err = w.Technician.Job(ctx, 999)
	follow("a job that is not there", err)
	_, err = w.Technician.AddJob(ctx, client.NewJob{Reason: "   ", Units: []string{"S-0001"}})
	follow("a job without a reason", err)
	job, err := w.Technician.AddJob(ctx, client.NewJob{Reason: "blank tickets", Units: []string{"S-0001", "S-0002"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.ChangeJob(ctx, job.Number, client.JobChange{Leave: []client.LeaveOut{{Unit: "S-0002", Why: "it works"}}}); err != nil {
		t.Fatal(err)
	}
	follow("a unit that a job leaves out", open(w.Technician, client.NewRun{Kind: "flash", At: "b/b", Job: job.Number}))

	if _, err := w.Technician.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: "S-0009"}); err != nil {
		t.Fatal(err)
	}
	fit, err := w.Technician.Fit(ctx, "S-0009", "", "")
	if err != nil {
		t.Fatal(err)
	}
	followTodo(t, w, "technician", fit.Verdicts[0].Reasons[1].Todo)
	follow("a unit on no link", open(w.Technician, client.NewRun{Kind: "flash", At: "S-0009"}))
	ids := map[string]string{}
	for _, n := range []string{"S-0011", "S-0012"} {
		u, err := w.Technician.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: n})
		if err != nil {
			t.Fatal(err)
		}
		ids[n] = u.ID
	}
	if _, err := w.Lead.JoinUnit(ctx, "S-0011", client.Join{Into: "S-0012", Reason: "one and the same"}); err != nil {
		t.Fatal(err)
	}
	_, err = w.Lead.JoinUnit(ctx, ids["S-0011"], client.Join{Into: "S-0009", Reason: "one and the same"})
	lead("a double that was joined already", err)

	joined(t, w, "TT-9")
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.PutAdapter(ctx, client.NewAdapter{Serial: "TT-9", Name: "tide cable", State: "retired"}); err != nil {
		t.Fatal(err)
	}
	lead("an adapter that is set aside", open(w.Lead, client.NewRun{Kind: "flash", At: "b/a"}))

	lead("a gate without a reason", open(w.Lead, client.NewRun{Kind: "flash", At: "b/a", Waive: []string{admit.GateNeeds}}))
	if err := w.Technician.Note(ctx, "S-0002", client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: "C", Source: "label"}}}); err != nil {
		t.Fatal(err)
	}
	f, err := w.Technician.Fit(ctx, "S-0002", "", "")
	if err != nil {
		t.Fatal(err)
	}
	followReason(t, w, f, "is wrong, note what is right")

	sealed, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	raw, err := sealed.Seal("k", "three grey gulls")
	if err != nil {
		t.Fatal(err)
	}
	_, err = trust.Unseal(raw, "wrong")
	lead("a wrong passphrase, as the command line meets it", err, "NAME", "again")
}

// TestAdviceAboutWhatIsWithdrawn: on Today, after a run, and where a backup would bring it back.
func TestAdviceAboutWhatIsWithdrawn(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Revision = "" })
	today := func(what string) {
		t.Helper()
		p, err := w.Technician.Today(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if len(p.Withdrawn) == 0 {
			t.Fatalf("%s: nobody carries anything", what)
		}
		for _, c := range p.Withdrawn {
			if len(c.Steps) > 0 {
				followTodo(t, w, "technician", c.Todo)
			}
		}
	}
	job, err := w.Technician.AddJob(ctx, client.NewJob{Reason: "blank tickets", Units: []string{"S-0001", "S-0002"}})
	if err == nil {
		t.Fatalf("units that nobody has entered are in job %d", job.Number)
	}
	for _, at := range []string{"b/a", "b/b"} {
		if _, err := w.Technician.Identify(ctx, at, ""); err != nil {
			t.Fatal(err)
		}
	}
	if job, err = w.Technician.AddJob(ctx, client.NewJob{Reason: "blank tickets", Units: []string{"S-0001", "S-0002"}}); err != nil {
		t.Fatal(err)
	}
	r := w.Follow(w.Open(client.NewRun{Kind: "flash", At: "b/a", Job: job.Number}).ID)
	if r.Outcome != string(run.Done) || r.After == nil {
		t.Fatalf("%s %+v", r.Outcome, r.After)
	}
	if r, err = w.Technician.Run(ctx, r.ID); err != nil || !strings.Contains(r.After.Todo.Next, "what is left of its job") {
		t.Errorf("after a run of a job: %+v %v", r.After, err)
	}
	second, err := w.Technician.AddJob(ctx, client.NewJob{Reason: "a new roll", Units: []string{"S-0001"}})
	if err != nil {
		t.Fatal(err)
	}
	_, err = w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0", Again: true, Reason: "to be sure"})
	follow(t, w, "technician", err)
	if _, err := w.Technician.CloseJob(ctx, second.Number, client.JobClosing{Note: "asked for twice"}); err != nil {
		t.Fatal(err)
	}
	w.AddRelease("3.0.0", coretest.SmallProgram("3.0.0"), map[string][]string{"revision": {"D"}})
	r = w.Follow(w.Open(client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0", Again: true, Reason: "to be sure"}).ID)
	if r, err = w.Technician.Run(ctx, r.ID); err != nil || r.After == nil {
		t.Fatalf("%+v %v", r.After, err)
	}
	if _, err := w.Lead.Withdraw(ctx, "small@1.0.0", "it smears"); err != nil { // b runs it, and its revision is not known
		t.Fatal(err)
	}
	today("a unit whose revision nobody knows")
	if _, err := w.Lead.Withdraw(ctx, "small@2.0.0", "it smears as well"); err != nil {
		t.Fatal(err)
	}
	_, err = w.Lead.OpenRun(ctx, client.NewRun{Kind: "restore", At: "b/a"})
	follow(t, w, "lead", err)
	followTodo(t, w, "technician", r.After.Todo) // given while 2.0.0 was in use
	today("a newer one fits")
	if _, err := w.Lead.Withdraw(ctx, "small@3.0.0", "it hums"); err != nil {
		t.Fatal(err)
	}
	today("nothing is left that may follow")
}

// TestAdviceAtTheLink: what is said while something goes wrong on it.
func TestAdviceAtTheLink(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, nil)
	follow := advised(t, w, "technician")
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	open := func(n client.NewRun) error { _, err := w.Technician.OpenRun(ctx, n); return err }
	w.Units["a"].Set(sim.Faults{Silent: true})
	if k, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a"}); err != nil || k.Passed {
		t.Fatal(k, err)
	}
	w.Units["a"].Set(sim.Faults{})
	follow("a link that fell silent since", open(client.NewRun{Kind: "flash", At: "b/a"}))
	w.Units["a"].Set(sim.Faults{Wiring: sim.Wiring{HeldReset: true}})
	_, err := w.Technician.Identify(ctx, "b/a", "")
	if err == nil || !strings.Contains(err.Error(), "nothing answers on b/a, and its line is held low") {
		t.Errorf("a unit that is off: %v", err)
	}
	follow("a unit that is off", err)
	w.Units["a"].Set(sim.Faults{Wiring: sim.Wiring{OpenGround: true}})
	_, err = w.Technician.Identify(ctx, "b/a", "")
	if err == nil || !strings.Contains(err.Error(), "something speaks on b/a, and it is no answer") {
		t.Errorf("a ground that is off: %v", err)
	}
	w.Units["a"].Set(sim.Faults{})
	follow("a ground that is off", err)
	w.Units["a"].Set(sim.Faults{})
	w.Units["a"].Set(sim.Faults{Serial: "S-0077"})
	_, err = w.Technician.Identify(ctx, "S-0001", "")
	follow("another unit than was asked for", err)
	w.Units["a"].Set(sim.Faults{})
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	w.Units["a"].Set(sim.Faults{Serial: "S-0077"})
	r, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"})
	if err != nil {
		t.Fatal(err)
	}
	r = w.Follow(r.ID)
	w.Units["a"].Set(sim.Faults{})
	followTodo(t, w, "technician", r.Progress.Fault.Todo)
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	w.HoldAt(run.KindJudged, 1) // the line is proved next
	if r, err = w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"}); err != nil {
		t.Fatal(err)
	}
	<-w.Held()
	w.Units["a"].Set(sim.Faults{Noise: 0.02})
	w.LetGo()
	if r = w.Follow(r.ID); r.Progress.Fault == nil || !strings.Contains(r.Progress.Fault.Message, "too bad to write over") {
		t.Errorf("a bad line: %s %+v", r.Outcome, r.Progress.Fault)
	} else {
		w.Units["a"].Set(sim.Faults{})
		followTodo(t, w, "technician", r.Progress.Fault.Todo)
	}
	w.Units["a"].Set(sim.Faults{})

	// A run that stands still, and one that is closed.
	r = w.InTheMiddle(client.NewRun{Kind: "flash", At: "b/b"}, 2)
	if r = w.Stop(r); r.Outcome != string(run.Interrupted) {
		t.Fatalf("%s", r.Outcome)
	}
	_, err = w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: "lamp", Value: "yes"})
	follow("an answer to a run that stands still", err)

	// The disk of the bench takes nothing more in the middle.
	w.Full(true)
	_, err = w.Technician.ResumeRun(ctx, r.ID, client.Resume{})
	follow("a bench whose disk is full", err)
	w.Full(false)

	// The bench is restarted while it takes the run up.
	w.HoldAt(run.KindTakenUp, 1)
	said := make(chan error, 1)
	go func() {
		_, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{})
		said <- err
	}()
	select {
	case err := <-said:
		t.Fatalf("there is room again, and the run is not taken up: %v", err)
	case <-w.Held():
	}
	w.StopBench()
	w.StartBench(nil)
	follow("a bench that was restarted meanwhile", <-said)
}

// TestAdviceOfALockedUnitAndOfASheet: what only a lock or a sheet brings about.
func TestAdviceOfALockedUnitAndOfASheet(t *testing.T) {
	t.Parallel()
	w := handed(t, "gangway", func(s *sim.Spec) { s.Locked = true })
	_, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "backup", At: "b/a"})
	follow(t, w, "technician", err)
	w = handed(t, "gangway", nil)
	r, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a"})
	if err != nil {
		t.Fatal(err)
	}
	item := turn(t, w, r.ID)
	if _, err := w.Technician.Answer(ctx, r.ID, client.NewAnswer{Item: item, Value: "no", Note: "the red light blinks"}); err != nil {
		t.Fatal(err)
	}
	for r = w.Follow(r.ID); r.Progress.Fault == nil; {
		t.Fatalf("%s", r.Outcome)
	}
	followTodo(t, w, "technician", r.Progress.Fault.Todo)
}

// TestAdviceWhileTheBenchIsSlow: two ask on one link; and a model that has no release.
func TestAdviceWhileTheBenchIsSlow(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Says = "LONE" })
	follow := advised(t, w, "technician")
	w.Units["a"].Set(sim.Faults{Silent: true})
	const many = 8 // each waits for the unit that is silent, the last ones for longer than a question waits
	said := make(chan error, many)
	for range many {
		go func() {
			_, err := w.Technician.Identify(ctx, "b/a", "")
			said <- err
		}()
	}
	var busy error
	for range many {
		if err := <-said; core.KindOf(err) == core.Busy {
			busy = err
		}
	}
	follow("many ask at once", busy)

	// A unit of a model that has no release.
	if _, err := w.Lead.PutModel(ctx, lone()); err != nil {
		t.Fatal(err)
	}
	w.Wait("the bench to hear of the sheet", func() bool {
		_, err := w.Technician.Identify(ctx, "b/b", "")
		return err == nil
	})
	_, err := w.Lead.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/b"})
	advised(t, w, "lead")("a model that has no release", err)
}

// lone is the sheet of a model that no unit of a world is of.
func lone() []byte {
	return []byte(strings.NewReplacer("model: small", "model: lone", "says: SMALL", "says: LONE").Replace(string(coretest.Small)))
}

// TestAdviceOfRareConditions: each brought about by itself.
func TestAdviceOfRareConditions(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t, nil, func(s *sim.Spec) { s.Kind, s.Parity = "xmodem", "odd" })
	follow := advised(t, w, "technician")
	_, err := w.Technician.Identify(ctx, "b/b", "")
	follow("what speaks is spoilt", err)

	// A version that cannot be compared.
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.EnterUnit(ctx, client.NewUnit{Model: "small", Serial: "S-0009"}); err != nil {
		t.Fatal(err)
	}
	kept, err := w.Lead.PutImage(ctx, "5.bin", model.Part{Format: "raw", Address: 0x1000}, coretest.SmallProgram("5.0.0"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: "small", Version: "5.0.0", Channel: model.Stable, Rules: []model.Rule{{Fact: "running", AtLeast: "1.5.0"}}, Accept: "made by the test",
		Parts: []client.NewPart{{Name: "program", Image: kept.Digest, Address: 0x1000, Format: "raw"}}}); err != nil {
		t.Fatal(err)
	}
	photo, err := w.Technician.PutEvidence(ctx, "image/png", pictureOf(80))
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Technician.Note(ctx, "S-0009", client.Noted{Facts: []client.NotedFact{{Name: "running", Value: "spring", Source: "person", Photo: photo.Digest.String()}}}); err != nil {
		t.Fatal(err)
	}
	f, err := w.Technician.Fit(ctx, "S-0009", "", "")
	if err != nil {
		t.Fatal(err)
	}
	followReason(t, w, f, "again, or note it")

	// Another model is plugged in after the unit was identified.
	w.Units["a"].Says = "LONE"
	r, err := w.Technician.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0"})
	if err != nil {
		t.Fatal(err)
	}
	if r = w.Follow(r.ID); r.Progress.Fault == nil {
		t.Fatalf("%s", r.Outcome)
	}
	followTodo(t, w, "technician", r.Progress.Fault.Todo)
	w.Units["a"].Says = "SMALL"

	// A backup under a run whose signed record names another.
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	first := w.Flash("a", "2.0.0")
	w.AddRelease("3.0.0", coretest.SmallProgram("3.0.0"), map[string][]string{"revision": {"D"}})
	second := w.Flash("a", "3.0.0")
	if first.Outcome != string(run.Done) || second.Outcome != string(run.Done) {
		t.Fatalf("%s, %s", first.Outcome, second.Outcome)
	}
	if _, err := w.DB.Open(t, w.DB.Root).Exec(`UPDATE backup b, backup o SET b.manifest = o.manifest WHERE b.id = ? AND o.id = ?`, second.ID, first.ID); err != nil {
		t.Fatal(err)
	}
	_, err = w.Technician.OpenRun(ctx, client.NewRun{Kind: "restore", At: "b/a", Backup: second.ID})
	follow("a backup that was put in the place of another", err)

	// An adapter that does not hear itself.
	joined(t, w, "TT-9")
	if _, err := w.Lead.PutAdapter(ctx, client.NewAdapter{Serial: "TT-9", Name: "tide cable"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	w.Units["a"].Set(sim.Faults{Wiring: sim.Wiring{DeadAdapter: true}})
	for _, a := range []*diagnose.Answer{nil, {Came: map[string]bool{"plug": false, "adapter": false}}} {
		if _, err := w.Technician.Check(ctx, client.NewCheck{At: "b/a", Answer: a}); err != nil {
			t.Fatal(err)
		}
	}
	w.Units["a"].Set(sim.Faults{})
	if _, err := w.Technician.Identify(ctx, "b/a", ""); err != nil {
		t.Fatal(err)
	}
	_, err = w.Lead.OpenRun(ctx, client.NewRun{Kind: "flash", At: "b/a", Again: true, Reason: "to be sure"})
	follow("an adapter that does not hear itself", err)

	// A procedure that hangs on what nobody knows.
	hangs := strings.Replace(underSeat, "    place: bench\n", "    place: bench\n    when: [{ fact: revision, one-of: [D] }]\n", 1)
	if _, err := w.Lead.PutModel(ctx, append(coretest.SmallSheetOf("gangway"), hangs...)); err != nil {
		t.Fatal(err)
	}
	_, err = w.Technician.Card(ctx, "S-0009", client.CardAbout{})
	follow("a card that hangs on what nobody knows", err)

	w.StopBench()
	_, err = w.Technician.Identify(ctx, "b/a", "")
	follow("a bench that went a moment ago", err)
}

// followReason follows the first reason of a verdict whose advice has these words.
func followReason(t *testing.T, w *testkit.World, f client.Fit, words string) {
	t.Helper()
	for _, v := range f.Verdicts {
		for _, r := range v.Reasons {
			if strings.Contains(r.Todo.Next, words) {
				followTodo(t, w, "technician", r.Todo)
				return
			}
		}
	}
	t.Errorf("nothing advises %q: %+v", words, f.Verdicts)
}

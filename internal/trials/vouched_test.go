package trials

import (
	"encoding/json"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/core/trust"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
)

// TestABenchHoldsAReleaseAgainstItsOwnKeys: what a trusted key has signed is written, and the run's
// opening says whose word it was; a key that is revoked while the run is under way stops it before
// the first erase; what the service believes by its rows, but what is not what was signed, is not
// written; and a bench that wants a signature does not take people's word.
func TestABenchHoldsAReleaseAgainstItsOwnKeys(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Lead.AddKey(ctx, client.NewKey{Name: "Marsk Boards", Public: key.Public()}); err != nil {
		t.Fatal(err)
	}
	sign := func(version string) client.Release {
		t.Helper()
		r := w.AddRelease(version, coretest.SmallProgram(version), map[string][]string{"revision": {"D"}})
		document, err := w.Lead.Document(ctx, r.ID)
		if err != nil {
			t.Fatal(err)
		}
		jws, err := key.SignDetached(trust.PurposeRelease, document)
		if err != nil {
			t.Fatal(err)
		}
		if r, err = w.Lead.Sign(ctx, r.ID, jws); err != nil || r.Trust.State != "signed" {
			t.Fatalf("%+v %v", r.Trust, err)
		}
		return r
	}
	sign("3.0.0")
	r := w.Flash("a", "3.0.0")
	if r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	var o run.Opened
	if err := json.Unmarshal(r.Progress.Events[0].Body, &o); err != nil {
		t.Fatal(err)
	}
	if o.Word == nil || o.Word.How != trust.BySignature || o.Word.Key != key.Public().ID() || o.Word.Signed != o.Release {
		t.Errorf("whose word it was: %+v", o.Word)
	}

	// A bench that wants a signature.
	w.StopBench()
	w.SignedOnly = true
	w.StartBench(nil)
	w.Wait("the bench to be back", func() bool { _, err := w.Technician.Identify(ctx, "b/a", ""); return err == nil })
	w.AddRelease("3.0.5", coretest.SmallProgram("3.0.5"), map[string][]string{"revision": {"D"}})
	l := commandLine(t, w, "technician")
	refused := w.Flash("a", "3.0.5")
	if refused.State != "closed" || refused.Outcome == string(run.Done) || w.Units["a"].Version() != "3.0.0" {
		t.Fatalf("%s %s, the unit has %s", refused.State, refused.Outcome, w.Units["a"].Version())
	}
	told(t, l.must(0, "history", "S-0001"), "people vouch for it, and this bench writes only what a key that it holds has signed")

	// The key is revoked between the opening and the first erase.
	sign("3.1.0")
	w.HoldAt(run.KindPlanned, 1)
	r = w.Open(client.NewRun{Kind: run.Flash, At: "b/a", Release: "3.1.0", Reason: "the next one"})
	<-w.Held()
	if err := w.Lead.RevokeKey(ctx, key.Public().ID(), "stolen"); err != nil {
		t.Fatal(err)
	}
	w.LetGo()
	r = w.Follow(r.ID)
	if r.Outcome == string(run.Done) || r.Progress.View.Touched || w.Units["a"].Version() != "3.0.0" {
		t.Fatalf("%s, touched %v, the unit has %s", r.Outcome, r.Progress.View.Touched, w.Units["a"].Version())
	}
	if f := r.Progress.Fault; f == nil && r.Record == nil || f != nil && !strings.Contains(f.Message, "revoked") {
		t.Errorf("%+v %+v", f, r.Record)
	}
	if r = w.Flash("a", "3.1.0"); r.Outcome == string(run.Done) || w.Units["a"].Version() != "3.0.0" {
		t.Errorf("with a lead's word alone: %s", r.Outcome)
	}
}

// TestABenchReadsOnlyWhatItsWorkWants: sheets and images are for every bench; a backup's pieces
// and a release's documents are for the bench of an open run that goes by them, and for no other,
// whoever knows their digests.
func TestABenchReadsOnlyWhatItsWorkWants(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	r := w.Flash("a", "2.0.0")
	if r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	rows, err := w.Technician.Backups(ctx, "S-0001")
	if err != nil || len(rows.Backups) == 0 {
		t.Fatalf("%+v %v", rows, err)
	}
	backup := rows.Backups[0]
	piece, err := w.Store.Piece(ctx, backup.Digest)
	if err != nil {
		t.Fatal(err)
	}
	m, err := shelf.DecodeManifest(piece)
	if err != nil {
		t.Fatal(err)
	}
	names, err := m.Pieces(w.Store.Shelf(ctx))
	if err != nil || len(names) == 0 {
		t.Fatalf("%v %v", names, err)
	}
	own, _, key := stolen(t, w.Dir)
	own.SignAs(key)
	other := t.TempDir()
	code, err := w.Lead.NewBenchCode(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if err := bench.Enrol(ctx, other, w.Base, code.Code, "c"); err != nil {
		t.Fatal(err)
	}
	stranger, _, key := stolen(t, other)
	stranger.SignAs(key)
	image := core.DigestOf(coretest.SmallProgram("2.0.0"))
	reads := func(c *client.Client, d core.Digest) bool {
		t.Helper()
		_, err := c.Blob(ctx, d)
		_, both := c.Pieces(ctx, []core.Digest{d})
		if err != nil && core.KindOf(err) != core.NotAllowed || both != nil && core.KindOf(both) != core.NotAllowed && core.KindOf(both) != core.NotFound {
			t.Fatalf("%v, %v", err, both)
		}
		if both == nil && err != nil {
			t.Error("what is not read alone is read with others")
		}
		return err == nil
	}
	for name, c := range map[string]*client.Client{"the bench of the run": own, "another bench": stranger} {
		if !reads(c, image) || !reads(c, core.DigestOf(coretest.Small)) {
			t.Errorf("%s reads no image or sheet", name)
		}
		if reads(c, backup.Digest) || reads(c, names[0]) {
			t.Errorf("%s reads a backup after its run was closed", name)
		}
	}

	// While a run goes by it, its bench reads it.
	w.HoldAt(run.KindPlanned, 1)
	r = w.Open(client.NewRun{Kind: run.Restore, At: "b/a", Backup: backup.ID, Reason: "as it was"})
	<-w.Held()
	if !reads(own, backup.Digest) || !reads(own, names[0]) || !reads(own, names[len(names)-1]) {
		t.Error("the bench of a restore does not read the backup that it puts back")
	}
	if reads(stranger, backup.Digest) || reads(stranger, names[0]) {
		t.Error("another bench reads it meanwhile")
	}
	w.LetGo()
	if r = w.Follow(r.ID); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	if reads(own, backup.Digest) {
		t.Error("it is read after the restore was closed")
	}
}

package trials

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit"
)

// TestLaw12RowsAreSealed: with all rights over the database but without the service's key, nobody
// gets in, gets another role, is believed, or changes what is trusted, withdrawn or known. Each
// deed is refused where it would count, and named by an audit.
func TestLaw12RowsAreSealed(t *testing.T) {
	t.Parallel()
	w := testkit.NewWorld(t)
	w.Flash("a", "1.0.0")
	gone := w.AddRelease("3.0.0", coretest.SmallProgram("3.0.0"), map[string][]string{"revision": {"D"}})
	if _, err := w.Lead.Withdraw(ctx, gone.ID, "it overheats"); err != nil {
		t.Fatal(err)
	}
	one, err := w.Lead.Unit(ctx, "S-0001")
	if err != nil {
		t.Fatal(err)
	}
	l := commandLine(t, w, "lead")
	told(t, l.must(0, "audit"), "none missing")
	w.StopBench()
	_, bench, _ := stolen(t, w.Dir)
	db := w.DB.Open(t, w.DB.Root)
	back := copies(t, db, "copy", []string{"person", "secret", "bench", "trusted_key", "vouch", "firmware", "model", "fact", "team_rule", "consent", "second_word"})
	text, digest := people.Secret()
	key, err := trust.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	thief := client.New(w.Base, text, core.System{})
	t.Cleanup(thief.Close)
	refused := func(err error, want string) string {
		switch {
		case err == nil:
			return "it counts"
		case !strings.Contains(err.Error(), want):
			return err.Error()
		}
		return ""
	}
	const changed = "behind the service's back"
	for name, x := range map[string]struct {
		do    string
		named string
		try   func() string // what is wrong with what came of it
	}{
		"a session of a lead": {`INSERT INTO secret (digest, kind, person, name, created_at) SELECT UNHEX('` + hex.EncodeToString(digest[:]) + `'), 'session', id, 'own', NOW(6) FROM person WHERE role = 'lead'`, "a session called own",
			func() string { _, err := thief.Seconds(ctx, false); return refused(err, changed) }},
		"a token of somebody else": {`UPDATE secret SET person = (SELECT id FROM person WHERE role = 'lead') WHERE kind = 'token' AND person = (SELECT id FROM person WHERE role = 'technician')`, "a token called",
			func() string { _, err := w.Technician.Seconds(ctx, false); return refused(err, changed) }},
		"another role": {`UPDATE person SET role = 'lead' WHERE role = 'technician'`, "person",
			func() string { _, err := w.Technician.Seconds(ctx, false); return refused(err, changed) }},
		"another password": {`UPDATE person SET password = '` + people.HashPassword("a long tide table") + `' WHERE role = 'lead'`, "person",
			func() string { _, err := w.Lead.Seconds(ctx, false); return refused(err, changed) }},
		"another key of a bench": {`UPDATE bench SET public_key = FROM_BASE64('` + base64.StdEncoding.EncodeToString(key.Public()) + `') WHERE id = '` + bench + `'`, "bench b",
			func() string {
				_, err := ofBench(t, w.Dir).Join(ctx, client.Joining{Protocol: client.Protocol})
				return refused(err, changed)
			}},
		"a key that is trusted": {`INSERT INTO trusted_key (id, name, public, valid_from, added_by, added_at) VALUES ('` + key.Public().ID() + `', 'Own', FROM_BASE64('` + base64.StdEncoding.EncodeToString(key.Public()) + `'), '2020-01-01', '', NOW(6))`, "key Own",
			func() string {
				if keys, err := w.Lead.Keys(ctx); err != nil || len(keys.Keys) > 0 {
					return "it is in the list"
				}
				return ""
			}},
		"a word for a release": {`UPDATE vouch SET reason = 'changed', dated_at = '2020-01-01'`, "a word for release",
			func() string {
				p, err := w.Lead.ReleasePage(ctx, gone.Model+"@2.0.0")
				if err != nil || p.Trust.State != "not-vouched" {
					return "it counts"
				}
				return ""
			}},
		"a withdrawn release": {`UPDATE firmware SET withdrawn_at = NULL WHERE withdrawn_at IS NOT NULL`, "release " + gone.Model + " 3.0.0",
			func() string {
				_, err := w.Lead.ReleasePage(ctx, gone.Model+"@3.0.0")
				if wrong := refused(err, changed); wrong != "" {
					return wrong
				}
				// It counts for nothing, and keeps nobody from the others.
				all, err := w.Viewer.Releases(ctx, "", "", "", 50)
				if err != nil || len(all.Releases) != 2 {
					return fmt.Sprintf("a list has %d releases: %v", len(all.Releases), err)
				}
				f, err := w.Technician.Fit(ctx, "S-0001", "", "")
				if err != nil || len(f.Verdicts) != 2 {
					return fmt.Sprintf("%d verdicts: %v", len(f.Verdicts), err)
				}
				return ""
			}},
		"another sheet": {`UPDATE model SET sheet = UNHEX(SHA2('other', 256))`, "model " + gone.Model,
			func() string { _, err := w.Lead.Unit(ctx, "S-0001"); return refused(err, "") }},
		"where a fact comes from": {`UPDATE fact SET source = 'label' WHERE name = 'revision'`, "fact revision of unit S-0001",
			func() string {
				if u, err := w.Lead.Unit(ctx, "S-0001"); err != nil || u.Facts["revision"].Value != "" {
					return "it is known still"
				}
				return ""
			}},
		"a consent": {`INSERT INTO consent (id, unit, what, reason, given_by, given_at, until_at) SELECT UUID(), id, 'step-back', 'own', '', NOW(6), NOW(6) + INTERVAL 1 DAY FROM unit`, "a consent to step-back",
			func() string {
				if all, err := w.Store.Consents(ctx, one.ID, time.Now()); err != nil || len(all) > 0 {
					return "it counts"
				}
				return ""
			}},
		"leave": {`INSERT INTO second_word (unit, kind, wants, reason, asked_by, asked_at, given, until_at) SELECT id, 'flash', '[]', 'own', '', NOW(6), 1, NOW(6) + INTERVAL 1 DAY FROM unit`, "leave number",
			func() string {
				if all, err := w.Store.LeaveFor(ctx, one.ID, time.Now()); err != nil || len(all) > 0 {
					return "it counts"
				}
				return ""
			}},
		"a rule of the team": {`UPDATE team_rule SET value = 'always' WHERE name = 'two-persons'`, "the rule two-persons",
			func() string { _, err := w.Lead.Seconds(ctx, false); return refused(err, changed) }},
	} {
		if _, err := db.ExecContext(ctx, x.do); err != nil {
			t.Fatal(name, err)
		}
		if wrong := x.try(); wrong != "" {
			t.Errorf("%s: %s", name, wrong)
		}
		// A service that starts anew does not seal what it finds.
		again, err := store.Open(ctx, w.DB.Serve)
		if err != nil {
			t.Fatal(err)
		}
		if err := again.WithKey(ctx, w.Key); err != nil {
			t.Fatal(err)
		}
		found, err := again.Unsealed(ctx, "")
		if unit, wrong := w.Store.Unit(ctx, "S-0001"); wrong == nil {
			facts, _ := again.Unsealed(ctx, unit.ID)
			for _, f := range facts {
				found = append(found, f+" of unit S-0001")
			}
		}
		again.Close()
		if err != nil || !strings.Contains(strings.Join(found, "; "), x.named) {
			t.Errorf("%s: found is %q, %v", name, found, err)
		}
		if name != "another password" { // then the lead himself is kept out
			if said := l.must(16, "audit"); !strings.Contains(said, x.named) || !strings.Contains(said, changed) {
				t.Errorf("%s: an audit says %s", name, said)
			}
		}
		back()
	}
	told(t, l.must(0, "audit"), "none missing")
	w.StartBench(nil)
	w.Wait("the bench to be there again", func() bool {
		all, err := w.Lead.Benches(ctx)
		return err == nil && all.Benches[0].Online
	})
	if r := w.Flash("a", "2.0.0"); r.Outcome != string(run.Done) {
		t.Errorf("after all of it: %s", r.Outcome)
	}
}

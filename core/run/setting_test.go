package run_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/sim"
)

// lampSettings describe what the small board can be set to, on three pages.
const lampSettings = `settings:
  by: loader
  pages:
    - { page: lamps, title: { en: Lamps } }
    - { page: network, title: { en: Network }, save: network.save, restart: 2s, keep: network.keep, within: 60s }
    - { page: access, title: { en: Access }, each: true }
  values:
    - { name: level, as: number, page: lamps }
    - { name: cap, title: { en: Brightness cap }, as: number, unit: "%", most: 100, page: lamps }
    - { name: pair, title: { en: Output pair }, as: choice, page: lamps, choices: [{ value: a-b, says: { en: A and B } }, { value: c-d, says: { en: C and D } }], suits: [{ when: [{ fact: revision, one-of: [D] }], not: [c-d], take: a-b, why: { en: "revision D has no output D" } }] }
    - { name: quay-lamp, title: { en: Lamp next to the quay }, as: choice, page: lamps, choices: [{ value: "1", says: { en: lamp 1 } }, { value: "16", says: { en: lamp 16 } }] }
    - { name: ssid, title: { en: Network name }, as: text, page: network, network: name, public: [LAMP] }
    - { name: password, title: { en: Operator password }, as: text, page: access, secret: true, public: [lamp] }
    - { name: radio-key, title: { en: Radio key }, as: text, page: access, secret: true }
`

const lampText = "level=204\npair=c-d\nssid=LAMP\nfan=3\npassword=lamp\nradio-key=open water\n"

// lit is a small board with settings, a release that carries them over, and a person who
// answers.
func lit(t testing.TB, sheet, text string, fill []settings.Fill, answers map[string]procedure.Answer) *bench {
	t.Helper()
	return litWith(t, sheet, text, fill, answers, nil)
}

func litWith(t testing.TB, sheet, text string, fill []settings.Fill, answers map[string]procedure.Answer, change func(*sim.Spec)) *bench {
	t.Helper()
	b := newBench(t, func(s *sim.Spec) {
		s.Paged = []sim.Paged{{Names: []string{"ssid"}, Save: "network.save", Keep: "network.keep"}}
		if change != nil {
			change(s)
		}
	})
	raw := append(coretest.SmallSheetOf("gangway"), sheet...)
	b.open.Sheet = b.Put(raw)
	of, err := model.ReadSheet(raw)
	if err != nil {
		t.Fatal(err)
	}
	blob, err := b.Alone.Blob(context.Background(), b.open.Release)
	if err != nil {
		t.Fatal(err)
	}
	var r model.Release
	if err := json.Unmarshal(blob, &r); err != nil {
		t.Fatal(err)
	}
	r.Settings = []model.Carry{{From: []string{"0.9"}, Changes: []model.Change{{Setting: "level", Gone: true}}},
		{From: []string{"1.0.0"}, Changes: []model.Change{{Setting: "level", To: "cap", Scale: &model.Scale{From: 255, To: 100}}, {Setting: "fan", Gone: true}, {To: "quay-lamp", Ask: true}}}}
	blob, _ = json.Marshal(r)
	b.open.Release = b.Put(blob)
	b.open.Noted = []core.Fact{{Name: core.FactRevision, Value: "D", Source: core.FromLabel, At: time.Now()}}
	b.open.Fill = fill
	if text != "" {
		at := make([]byte, b.unit.Settings.Length)
		for i := range at {
			at[i] = 0xFF
		}
		copy(at, text)
		b.unit.Write(b.unit.Settings.Address, at)
	}
	b.sheet = of
	b.hand = b.answering(t, answers)
	return b
}

// answering is a person who answers what is asked: what the table says, or yes.
func (b *bench) answering(t testing.TB, answers map[string]procedure.Answer) func() {
	last := ""
	return func() {
		if b.journal == nil || b.run == nil {
			return
		}
		h := b.journal.State().Hands
		if h == nil || h.Calling {
			last = ""
			return
		}
		if h.Item == last {
			return
		}
		last = h.Item
		a, ok := answers[h.Item]
		if !ok {
			a.Value = procedure.Yes
		}
		a.Item, a.By = h.Item, "p"
		r := b.run
		go answer(r, a)
	}
}

func (b *bench) text() []settings.Value {
	m := b.unit.Memory()[b.unit.Settings.Address:][:b.unit.Settings.Length]
	all, err := settings.ReadText([]byte(strings.TrimRight(string(m), "\xFF")))
	if err != nil {
		panic(err)
	}
	return all
}

func has(all []settings.Value, name, value string) bool {
	return slices.Contains(all, settings.Value{Name: name, Value: value})
}

var lampAnswers = map[string]procedure.Answer{"set-quay-lamp": {Value: "16"}, "set-password": {Value: procedure.Offered}}

var pier = []settings.Fill{{Name: "ssid", Value: "skerry-pier", From: "Skerry Point"}}

// settled checks that the unit has what it is to have.
func settled(t *testing.T, b *bench, s *run.State) {
	t.Helper()
	if s.Closed == nil || s.Closed.Outcome != run.Done || s.Closed.Reason != "" {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	now := b.text()
	for name, value := range map[string]string{"cap": "80", "pair": "a-b", "quay-lamp": "16", "ssid": "skerry-pier", "radio-key": "open water"} {
		if !has(now, name, value) {
			t.Errorf("it has no %s=%s: %v", name, value, now)
		}
	}
	for _, gone := range []string{"level", "fan"} {
		if slices.ContainsFunc(now, func(v settings.Value) bool { return v.Name == gone }) {
			t.Errorf("%s is still there", gone)
		}
	}
	if has(now, "password", "lamp") {
		t.Error("everybody knows its password")
	}
	if x := s.Main().Settled; x.Back != 6 || len(x.Differ) > 0 || len(x.Now) != 6 {
		t.Errorf("settled %+v", x)
	}
}

// TestSettingsOverAnUpdate: read before, mapped, filled, asked and made, put back page by
// page and read again; no secret stands in the journal.
func TestSettingsOverAnUpdate(t *testing.T) {
	b := lit(t, lampSettings, lampText, pier, lampAnswers)
	s := b.flash(t, b.open)
	settled(t, b, s)
	for _, e := range b.journal.Events() {
		if raw := string(e.Body); strings.Contains(raw, "open water") || strings.Contains(raw, `"lamp"`) {
			t.Errorf("event %d (%s) tells a secret: %s", e.N, e.Kind, raw)
		}
	}
	var how []string
	for _, l := range s.Wanted(s.Main()) {
		how = append(how, l.Name+" "+string(l.How))
	}
	if got, want := strings.Join(how, ", "), "fan gone, cap rescaled, pair by-rule, quay-lamp said, ssid filled, password made, radio-key carried"; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	b.unit.Power(false)
	b.unit.Power(true)
	if !has(b.text(), "ssid", "skerry-pier") {
		t.Error("the page was saved, and not kept")
	}
}

// TestSettingsOfALockedUnit are read all the same, and put back once the lock was lifted.
func TestSettingsOfALockedUnit(t *testing.T) {
	b := litWith(t, lampSettings, lampText, pier, lampAnswers, func(s *sim.Spec) { s.Locked = true })
	b.open.Waivers = []run.Waiver{{Gate: run.GateProtection, Reason: "the lamp must burn", By: "lead", Role: "lead"}}
	settled(t, b, b.flash(t, b.open))
}

// TestWhatEverybodyKnowsIsLeftByName: the value stays, and stays with the unit as an
// obligation that somebody excused.
func TestWhatEverybodyKnowsIsLeftByName(t *testing.T) {
	b := lit(t, lampSettings, lampText, pier, map[string]procedure.Answer{"set-quay-lamp": {Value: "1"}, "set-password": {Value: procedure.Excused, Note: "the owner changes it on Monday"}})
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || !has(b.text(), "password", "lamp") {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	owed := s.Closed.Owed
	if len(owed) != 1 || owed[0].Kind != run.OwePublic || owed[0].By != "p" || owed[0].Reason != "the owner changes it on Monday" || owed[0].State != run.OweExcused {
		t.Errorf("owed %+v", owed)
	}
}

// TestAnswersThatASettingCannotHave are refused, and asked again.
func TestAnswersThatASettingCannotHave(t *testing.T) {
	b := lit(t, lampSettings, lampText, pier, nil)
	var refused []string
	b.hand = func() {}
	tries := map[string][]procedure.Answer{
		"set-quay-lamp": {{Value: "7"}, {Value: procedure.Excused, Note: "who knows"}, {Value: "16"}},
		"set-password":  {{Value: "lamp"}, {Value: procedure.Excused}, {Value: "a new one"}},
	}
	asked := ""
	b.OnChange = func() {
		if b.journal == nil || b.run == nil {
			return
		}
		h := b.journal.State().Hands
		if h == nil || h.Item == asked {
			return
		}
		asked = h.Item
		r, item := b.run, h.Item
		all := tries[item]
		if all == nil {
			all = []procedure.Answer{{Value: procedure.Yes}}
		}
		go func() {
			for _, a := range all {
				a.Item, a.By = item, "p"
				if err := answer(r, a); err != nil {
					refused = append(refused, err.Error())
				}
			}
		}()
	}
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || !has(b.text(), "password", "a new one") {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	if len(refused) != 4 || strings.Contains(strings.Join(refused, " "), `"lamp"`) {
		t.Errorf("refused: %q", refused)
	}
}

// TestSettingsAlone: a run that writes no program; once they are right it finds nothing to
// do.
// A reset puts back what the sheet has a default for, and nothing else; what was there before
// is kept, and somebody has looked at it.
func TestSettingsBackToDefaults(t *testing.T) {
	sheet := strings.Replace(lampSettings, "{ name: level, as: number,", "{ name: level, as: number, default: \"255\",", 1)
	b := lit(t, sheet, "level=204\npair=a-b\nssid=skerry\nfan=3\npassword=own\nradio-key=open water\n", nil, nil)
	o := b.open
	o.Kind, o.Reset, o.Release, o.Version = run.SetUp, true, core.Digest{}, ""
	s := b.flash(t, o)
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	for name, want := range map[string]string{"level": "255", "pair": "a-b", "ssid": "skerry", "fan": "3", "password": "own", "radio-key": "open water"} {
		if !has(b.text(), name, want) {
			t.Errorf("%s is not %q: %+v", name, want, b.text())
		}
	}
	if i := slices.IndexFunc(s.Main().Settings.Settings, func(v settings.Value) bool { return v.Name == "level" && v.Value == "204" }); i < 0 {
		t.Error("what it was set to is not kept")
	}
	if !slices.ContainsFunc(s.Answers, func(a procedure.Answer) bool {
		return strings.HasPrefix(a.Item, "settings-") || strings.Contains(a.Item, "look")
	}) {
		t.Errorf("nobody was asked: %+v", s.Answers)
	}
}

// A value for a setting that the program which runs does not have is refused before anything
// is put.
func TestASettingThatTheProgramHasNot(t *testing.T) {
	b := lit(t, lampSettings, lampText, []settings.Fill{{Name: "cap", Value: "60", From: "p", First: true, Of: settings.OfPerson}}, nil)
	o := b.open
	o.Kind, o.Release, o.Version, o.Fill = run.SetUp, core.Digest{}, "", []settings.Fill{{Name: "cap", Value: "60", From: "p", First: true, Of: settings.OfPerson}}
	s := b.flash(t, o)
	if s.Fault == nil || s.Fault.Kind != core.NotUnderstood || !strings.Contains(s.Fault.Message, `no setting "cap"; it has level`) {
		t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
	}
	if !has(b.text(), "level", "204") || has(b.text(), "cap", "60") {
		t.Errorf("%+v", b.text())
	}
}

func TestSettingsAlone(t *testing.T) {
	fill := append(pier, settings.Fill{Name: "level", Value: "60", From: "p", First: true, Of: settings.OfPerson})
	b := lit(t, lampSettings, lampText, fill, lampAnswers)
	b.open.Kind, b.open.Release, b.open.Version = run.SetUp, core.Digest{}, ""
	program := b.unit.Memory()[0x1000:0x7000]
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || !has(b.text(), "level", "60") || !has(b.text(), "ssid", "skerry-pier") || !has(b.text(), "fan", "3") {
		t.Fatalf("%+v %+v %v", s.Closed, s.Fault, b.text())
	}
	if string(b.unit.Memory()[0x1000:0x7000]) != string(program) {
		t.Error("the program was changed")
	}
	if s = b.flash(t, b.open); s.Closed == nil || s.Closed.Outcome != run.NothingToDo {
		t.Errorf("once more: %+v %+v", s.Closed, s.Fault)
	}
}

// TestSettingsInBytes are patched into their sectors, and nothing else there is changed.
func TestSettingsInBytes(t *testing.T) {
	b := lit(t, `settings:
  by: memory
  pages: [{ page: one }, { page: two }]
  values:
    - { name: cap, as: number, page: one, at: { address: 0x7010, length: 2 } }
    - { name: ssid, as: text, page: two, at: { address: 0x7020, length: 16 }, public: [LAMP] }
    - { name: fan, as: number, page: one, at: { address: 0x7410, length: 1 } }
`, "", pier, map[string]procedure.Answer{"set-quay-lamp": {Value: "3"}})
	b.unit.Write(0x7010, []byte{50, 1})
	b.unit.Write(0x7020, append([]byte("LAMP"), make([]byte, 12)...))
	b.unit.Write(0x7410, []byte{3})
	before := b.unit.Memory()
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	after := b.unit.Memory()
	if string(after[0x7010:0x7012]) != "\x32\x01" || string(after[0x7020:0x702C]) != "skerry-pier\x00" || after[0x7410] != 0xFF {
		t.Errorf("%q %q %x", after[0x7010:0x7012], after[0x7020:0x7030], after[0x7410])
	}
	for at := 0x7000; at < 0x7800; at++ {
		if before[at] != after[at] && (at < 0x7020 || at >= 0x7030) && at != 0x7410 {
			t.Fatalf("the byte at 0x%X was changed", at)
		}
	}
}

// TestSettingsByEye: a person reads them off the display and enters them again.
func TestSettingsByEye(t *testing.T) {
	sheet := strings.Replace(strings.SplitAfter(lampSettings, "pages:")[0], "by: loader", "by: display", 1)
	sheet = strings.TrimSuffix(sheet, "  pages:") + `  values:
    - { name: level, as: number }
    - { name: cap, title: { en: Brightness cap }, as: number, unit: "%", most: 100 }
    - { name: quay-lamp, as: choice, choices: [{ value: "yes", says: { en: lit } }, { value: "no", says: { en: dark } }] }
`
	b := lit(t, sheet, "", nil, map[string]procedure.Answer{"found-level": {Value: "204"}, "found-cap": {Value: "70"}, "found-quay-lamp": {Value: "no"}, "set-quay-lamp": {Value: "no"},
		"left-cap": {Value: "81"}, "left-quay-lamp": {Value: "no"}})
	s := b.flash(t, b.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done || !strings.Contains(s.Closed.Reason, "not taken: cap") {
		t.Fatalf("%+v %+v, hands %+v", s.Closed, s.Fault, s.Hands)
	}
	if x := s.Main().Settled; x.Back != 1 || len(x.Now) != 3 {
		t.Errorf("%+v", x)
	}
}

// TestSettingsKilledAtEveryEvent is law 3 over an update with settings, over a run of nothing
// but settings, and over a reset to the sheet's defaults.
func TestSettingsKilledAtEveryEvent(t *testing.T) {
	reset := strings.Replace(lampSettings, "{ name: level, as: number,", "{ name: level, as: number, default: \"255\",", 1)
	for name, x := range map[string]struct {
		sheet string
		open  func(*run.Opened)
		right func(*testing.T, *bench, *run.State)
	}{
		"an update": {lampSettings, func(*run.Opened) {}, settled},
		"settings alone": {lampSettings, func(o *run.Opened) { o.Kind, o.Release, o.Version = run.SetUp, core.Digest{}, "" }, func(t *testing.T, b *bench, s *run.State) {
			if s.Closed.Outcome != run.Done || !has(b.text(), "ssid", "skerry-pier") || has(b.text(), "password", "lamp") || !has(b.text(), "fan", "3") {
				t.Errorf("%+v %v", s.Closed, b.text())
			}
		}},
		"a reset": {reset, func(o *run.Opened) {
			o.Kind, o.Reset, o.Release, o.Version, o.Fill = run.SetUp, true, core.Digest{}, "", nil
		}, func(t *testing.T, b *bench, s *run.State) {
			if s.Closed.Outcome != run.Done || !has(b.text(), "level", "255") || !has(b.text(), "pair", "a-b") || !has(b.text(), "radio-key", "open water") {
				t.Errorf("%+v %v", s.Closed, b.text())
			}
		}},
	} {
		make := func(t testing.TB) *bench {
			b := lit(t, x.sheet, lampText, pier, lampAnswers)
			x.open(&b.open)
			return b
		}
		b := make(t)
		events := 0
		b.OnChange = func() { events++ }
		x.right(t, b, b.flash(t, b.open))
		for n := 1; n <= events; n += trials(5, 1) {
			t.Run(fmt.Sprintf("%s, after event %d", name, n), func(t *testing.T) {
				t.Parallel()
				b := make(t)
				s, err := killAt(b, &coretest.Disk{}, n)
				if err != nil {
					t.Fatal(err)
				}
				x.right(t, b, s)
				if f := s.Main().Settings; f == nil || !slices.ContainsFunc(f.Settings, func(v settings.Value) bool { return v.Name == "level" && v.Value == "204" }) {
					t.Error("what it was set to before is no longer told")
				}
				saving := false
				for _, e := range b.journal.Events() {
					saving = saving || e.Kind == run.KindSaving || e.Kind == run.KindAboutTo
					if saving && e.Kind == run.KindHands && strings.Contains(string(e.Body), `"set-`) {
						t.Errorf("asked once more what was settled and is being put: %s", e.Body)
					}
				}
			})
		}
	}
}

// TestSettingsCutAtRandomBytes: the lead slips, and whoever goes on brings the unit to what
// it is to have.
func TestSettingsCutAtRandomBytes(t *testing.T) {
	whole := lit(t, lampSettings, lampText, pier, lampAnswers)
	whole.flash(t, whole.open)
	all := whole.unit.Received()
	for i := range trials(12, 200) {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(uint64(i), 3))
			b := lit(t, lampSettings, lampText, pier, lampAnswers)
			from := all / 2
			if i%2 == 0 {
				from = all * 9 / 10 // most of the settings come late
			}
			b.unit.Set(sim.Faults{CutLead: from + r.Int64N(all-from)})
			s := b.flash(t, b.open)
			for range 3 {
				if s.Closed != nil && s.Closed.Outcome == run.Done {
					break
				}
				b.unit.Set(sim.Faults{})
				if s.Closed != nil {
					s = b.flash(t, b.open)
					continue
				}
				again, err := run.TakeUp(b.journal, run.TakenUp{By: "p"}, b, b.pace)
				if err != nil {
					t.Fatal(err)
				}
				b.run = again
				b.hand = b.answering(t, lampAnswers)
				if err := again.Work(context.Background()); err != nil {
					t.Fatal(err)
				}
				s = b.journal.State()
			}
			settled(t, b, s)
		})
	}
}

// TestSettingsInAFile of the unit are put back line by line, though the release has a file
// of that name and removes what it does not know.
func TestSettingsInAFile(t *testing.T) {
	p := newWide(t, func(s *sim.Spec) {
		s.Files = map[string][]byte{"conf/unit.txt": []byte("# printer\nwidth=80\nzone=UTC\n"), "old.fnt": []byte("old")}
	})
	raw := strings.Replace(string(coretest.Wide), "    files: { bytes: 262144, count: 64, exact: true }", `    files: { bytes: 262144, count: 64, exact: true }
    settings:
      by: file
      file: conf/unit.txt
      values: [{ name: width, as: number }, { name: zone, as: text }]`, 1)
	p.open.Sheet = p.Put([]byte(raw))
	p.open.Fill = []settings.Fill{{Name: "zone", Value: "UTC+1", From: "Ormsay", First: true}}
	s := p.flash(t, p.open)
	if s.Closed == nil || s.Closed.Outcome != run.Done {
		t.Fatalf("%+v %+v", s.Closed, s.Fault)
	}
	files := p.unit.Tree()
	if got := files["conf/unit.txt"]; got != "# printer\nwidth=80\nzone=UTC+1\n" || files["old.fnt"] != "" {
		t.Errorf("%q, %d files", got, len(files))
	}
}

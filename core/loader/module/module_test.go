package module_test

import (
	"context"
	"slices"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/loader/module"
	"zealousferry/sim"
)

func open(t *testing.T, own loader.Own, change func(*sim.Spec)) (loader.Session, *sim.Unit) {
	t.Helper()
	u, sheet, err := coretest.SmallUnitOf("module", change)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	s, leave := openOn(t, u, sheet.Main().Loader.Own, own)
	t.Cleanup(leave)
	return s, u
}

// openOn opens a module that is there; leave closes it and its link.
func openOn(t *testing.T, u *sim.Unit, sheet, own loader.Own) (s loader.Session, leave func()) {
	t.Helper()
	l, err := coretest.Dial(context.Background(), u)
	if err != nil {
		t.Fatal(err)
	}
	all := loader.Own{}
	for name, v := range sheet {
		all[name] = v
	}
	for name, v := range own {
		all[name] = v
	}
	s, err = module.Kind{}.Open(context.Background(), l, loader.Options{Own: all, Key: coretest.Key, Pace: link.Pace{Clock: core.System{}, Scale: 0.1}})
	if err != nil {
		t.Fatal(err)
	}
	return s, func() {
		s.Close()
		l.Close()
	}
}

func facts(t *testing.T, s loader.Session) map[string]string {
	t.Helper()
	all, err := s.Identify(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	by := map[string]string{}
	for _, f := range all {
		by[f.Name] = f.Value
	}
	return by
}

// What a module says becomes facts as the sheet has it; in its boot loader it tells no
// version, and that is no fact.
func TestIdentifiersBecomeFacts(t *testing.T) {
	t.Parallel()
	s, u := open(t, loader.Own{"identify": []any{
		map[string]any{"did": 0xF193, "fact": "revision", "is": map[string]any{"HW 04": "D"}},
		map[string]any{"did": 0xF186, "fact": "session", "as": "number"},
		map[string]any{"did": 0xF18C, "fact": "serial-hex", "as": "hex"},
		map[string]any{"did": 0xF195, "fact": "running"},
	}}, func(s *sim.Spec) { s.Revision = "HW 04" })
	by := facts(t, s)
	if by["revision"] != "D" || by["session"] != "1" || by["serial-hex"] != "532D30303031" || by["running"] != "1.0.0" {
		t.Errorf("%v", by)
	}
	u.Write(0x1000, make([]byte, 64)) // its program is gone
	if by = facts(t, s); by["running"] != "" || by["revision"] != "D" {
		t.Errorf("without a program: %v", by)
	}
}

func TestAnIdentifierThatIsNoText(t *testing.T) {
	t.Parallel()
	for name, serial := range map[string]string{"control characters": "S\x1b[2J", "too long": strings.Repeat("S", 121), "no UTF-8": "S\xC3\x28"} {
		s, _ := open(t, nil, func(s *sim.Spec) { s.Serial = serial })
		if all, err := s.Identify(context.Background()); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "0xF18C") || strings.Contains(err.Error(), "\x1b") {
			t.Errorf("%s: %v %v", name, all, err)
		}
	}
}

// Three wrong keys close the module for a while; that is said, and what to do.
func TestWrongKeys(t *testing.T) {
	t.Parallel()
	s, _ := open(t, nil, func(s *sim.Spec) { s.Password, s.Scale = "another", 1 })
	var last error
	for _, want := range []string{"the key is wrong (0x35)", "the key is wrong (0x35)", "too many wrong keys came (0x36)", "it wants a pause before the next key (0x37)"} {
		last = s.Read(context.Background(), 0x1000, make([]byte, 16), nil)
		if core.KindOf(last) != core.Protected || !strings.Contains(last.Error(), want) || core.AsError(last, "").Next == "" {
			t.Errorf("want %q: %v", want, last)
		}
	}
}

// Its fault codes, with the sheet's words.
func TestCodes(t *testing.T) {
	t.Parallel()
	s, _ := open(t, loader.Own{"codes": map[string]any{"U0129-87": "No message from the brake."}}, func(s *sim.Spec) { s.Codes = []uint32{0xC1298709, 0x0A7F0050, 0x5A101228} })
	all, err := s.(loader.Coder).Codes(context.Background(), true)
	if err != nil || len(all) != 2 { // one has only not been tested
		t.Fatalf("%+v %v", all, err)
	}
	if c := all[0]; c.Code != "U0129-87" || c.Says != "No message from the brake." || strings.Join(c.Is, ", ") != "now, confirmed" {
		t.Errorf("%+v", c)
	}
	if r := all[0].Recorded; r == nil || r.Snapshot != "0101FD0200F4" || r.Extended != "0103" {
		t.Errorf("recorded with it: %+v", r)
	}
	if c := all[1]; c.Code != "C1A10-12" || c.Says != "" || strings.Join(c.Is, ", ") != "confirmed, since the last clear" {
		t.Errorf("%+v", c)
	}
}

// A sheet without an identifier for the version says nothing of a program, and so nobody
// says that there is none.
func TestFactsThatASheetAsksFor(t *testing.T) {
	own := loader.Own{"identify": []any{map[string]any{"did": 0xF18C, "fact": "serial"}}}
	if got := (module.Kind{}).Facts(own); len(got) != 1 || got[0] != core.FactSerial {
		t.Errorf("%v", got)
	}
}

// The secret's names and how keys are made are read out of the steps.
func TestSecretsOfASequence(t *testing.T) {
	sheet, err := coretest.SmallSheetNamed("module")
	if err != nil {
		t.Fatal(err)
	}
	own := sheet.Main().Loader.Own
	if rule, n, ok := (module.Kind{}).KeyOf(own, "diagnosis", 0x11); !ok || rule != "hmac-sha-256" || n != 8 {
		t.Errorf("%s %d %v", rule, n, ok)
	}
	if _, _, ok := (module.Kind{}).KeyOf(own, "diagnosis", 0x01); ok {
		t.Error("a level that the sheet does not open")
	}
	if _, _, ok := (module.Kind{}).KeyOf(own, "other", 0x11); ok {
		t.Error("a secret that the sheet does not name")
	}
}

// A number may be told in parts of its unit.
func TestTenthsOfAUnit(t *testing.T) {
	t.Parallel()
	s, u := open(t, loader.Own{"identify": []any{
		map[string]any{"did": 0xFD01, "fact": "key", "as": "hex", "is": map[string]any{"00": "off", "01": "on"}},
		map[string]any{"did": 0xFD02, "fact": "supply", "as": "number", "over": 10},
	}}, nil)
	v := sim.NewVehicle(u)
	v.Supply(208)
	v.Key(false)
	if by := facts(t, s); by["supply"] != "20.8" || by["key"] != "off" {
		t.Errorf("%v", by)
	}
}

// A module that was written has lost what it had learnt, and says so until it has learnt it
// again, whoever clears its codes. It learns nothing where what feeds it is too weak.
func TestLearning(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	routine := func(change map[string]any) loader.Own {
		l := map[string]any{"name": "ends", "first": []any{map[string]any{"session": "extended"}}, "routine": 0x0310, "within": "60s", "busy": "01", "well": "00", "is": map[string]any{"02": "it did not get there"}}
		for k, v := range change {
			l[k] = v
		}
		return loader.Own{"learn": []any{l}}
	}
	codes := func(s loader.Session) (all []string) {
		t.Helper()
		is, err := s.(loader.Coder).Codes(ctx, false)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range is {
			all = append(all, c.Code)
		}
		return all
	}
	u, sheet, err := coretest.SmallUnitOf("module", func(s *sim.Spec) { s.Unlearned = 0x5A115409 })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	s, leave := openOn(t, u, sheet.Main().Loader.Own, nil)
	program := sheet.Main().Memory.Regions[1]
	v := sim.NewVehicle(u)
	if all := codes(s); len(all) > 0 {
		t.Fatalf("before it was written it says %v", all)
	}
	next := []loader.Op{{Erase: true, Address: program.Address, Length: program.Sector}, {Address: program.Address, Length: 4, Data: []byte{1, 2, 3, 4}}}
	if err := s.Change(ctx, func() (loader.Op, bool, error) {
		if len(next) == 0 {
			return loader.Op{}, false, nil
		}
		op := next[0]
		next = next[1:]
		return op, true, nil
	}, nil); err != nil {
		t.Fatal(err)
	}
	if err := s.(loader.Cleaner).ClearCodes(ctx); err != nil {
		t.Fatal(err)
	}
	if all := codes(s); len(all) != 1 || all[0] != "C1A11-54" {
		t.Errorf("cleared, and not learnt: %v", all)
	}
	leave()
	again := func(own loader.Own) error {
		t.Helper()
		s, leave := openOn(t, u, sheet.Main().Loader.Own, own)
		defer leave()
		if err := s.(loader.Learner).Learn(ctx, "ends"); err != nil {
			return err
		}
		if left := codes(s); len(left) > 0 {
			t.Errorf("it has learnt, and says %v", left)
		}
		return nil
	}
	v.Supply(190)
	for name, c := range map[string]struct {
		change map[string]any
		says   string
	}{
		"what feeds it is too weak":        {nil, "it did not get there"},
		"an end that the sheet lacks":      {map[string]any{"is": map[string]any{}}, "ends with 02"},
		"another name":                     {map[string]any{"name": "other"}, "knows no learning"},
		"a routine that it does not have":  {map[string]any{"routine": 0x0311}, "0x31"},
		"no session in which it may learn": {map[string]any{"first": []any{}}, "0x7F"},
		"it takes longer than it may":      {map[string]any{"within": "1ms"}, "not over within"},
	} {
		if err := again(routine(c.change)); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	v.Supply(256)
	if err := again(routine(nil)); err != nil {
		t.Error(err)
	}
}

// TestSettings: each is shown as the sheet says, put back in as many bytes as the module has
// for it, and what does not suit it is refused before it is sent.
func TestSettings(t *testing.T) {
	ctx := context.Background()
	first := []any{map[string]any{"session": "extended", "may-refuse": []any{0x7F}}, map[string]any{"access": 0x11, "secret": "diagnosis", "rule": "hmac-sha-256", "key-bytes": 8}}
	own := loader.Own{"settings": map[string]any{"first": first, "each": []any{
		map[string]any{"did": 0x0D00, "name": "brightness", "as": "number"}, map[string]any{"did": 0x0D01, "name": "quiet"}, map[string]any{"did": 0x0D02, "name": "zero-point", "as": "text"}, map[string]any{"did": 0x0D09, "name": "not-there"}}}}
	s, u := open(t, own, func(x *sim.Spec) {
		fresh := x.Fresh
		x.Fresh = func() []byte {
			b := fresh()
			at := b[x.Settings.Address:][:64]
			copy(at, strings.Repeat("\xFF", 64))
			copy(at, "brightness=A\nquiet=1\nzero-point=2.5\n")
			return b
		}
	})
	k := s.(loader.Keeper)
	all, err := k.Settings(ctx)
	if err != nil {
		t.Fatal(err)
	}
	want := []loader.Setting{{Name: "brightness", Value: "4683743612465315840"}, {Name: "quiet", Value: "3100000000000000"}, {Name: "zero-point", Value: "2.5"}}
	if !slices.Equal(all, want) {
		t.Errorf("%+v", all)
	}
	if err := s.Read(ctx, 0x1000, make([]byte, 64), nil); err != nil { // in its own session again
		t.Error(err)
	}
	for _, x := range append(all, loader.Setting{Name: "quiet", Value: "3000000000000000"}, loader.Setting{Name: "zero-point", Value: "-12.25"}) {
		if err := k.PutSetting(ctx, x); err != nil {
			t.Errorf("%+v: %v", x, err)
		}
	}
	for _, x := range []loader.Setting{{Name: "none", Value: "1"}, {Name: "brightness", Value: "-1"}, {Name: "brightness", Value: "36893488147419103232"}, {Name: "zero-point", Value: "more than it has"}, {Name: "quiet", Value: "xyz"}} {
		if err := k.PutSetting(ctx, x); core.KindOf(err) != core.RefusedByUnit {
			t.Errorf("%+v: %v", x, err)
		}
	}
	if got := string(u.Memory()[0x7000+512:][:40]); !strings.HasPrefix(got, "brightness=A\nquiet=0\nzero-point=-12.25\n") {
		t.Errorf("it has %q", got)
	}
}

package core

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"testing"
	"time"
)

func TestErrorsKeepKindStateAndCause(t *testing.T) {
	plain := Fail(NotAnswering, "the link is gone: %w", io.EOF)
	e := plain.Unit("nothing was changed").Do("look")
	if plain.State != "" || e.State != "nothing was changed" || e.Next != "look" || e.Error() != "the link is gone: EOF" {
		t.Errorf("%+v", e)
	}
	wrapped := fmt.Errorf("run 1: %w", e)
	if KindOf(wrapped) != NotAnswering || !errors.Is(wrapped, io.EOF) || AsError(wrapped, Busy) != e {
		t.Errorf("%v", wrapped)
	}
	if KindOf(io.EOF) != "" || AsError(io.EOF, Busy).Kind != Busy || KindOf(nil) != "" {
		t.Error("an error without a kind has one")
	}
	outer := Fail(Busy, "in use: %w", e)
	if KindOf(outer) != Busy {
		t.Error("the outermost kind counts")
	}
}

func TestKindsStandOnce(t *testing.T) {
	seen := map[Kind]bool{}
	for _, k := range Kinds {
		if seen[k] {
			t.Errorf("%s twice", k)
		}
		seen[k] = true
	}
	if len(Kinds) != 15 {
		t.Errorf("%d kinds; exit codes and docs/cli.md go by their order", len(Kinds))
	}
}

func TestDigests(t *testing.T) {
	d := DigestOf([]byte("abc")) // FIPS 180-4's example
	const hex = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
	if d.String() != hex || d.Short() != "ba78 16bf … 15ad" || d.IsZero() || !(Digest{}).IsZero() {
		t.Errorf("%s %s", d, d.Short())
	}
	raw, err := json.Marshal(map[string]Digest{"d": d})
	var back map[string]Digest
	if err != nil || json.Unmarshal(raw, &back) != nil || back["d"] != d {
		t.Errorf("%s %v", raw, err)
	}
	for _, bad := range []string{"", hex[:62], hex + "00", "g" + hex[1:]} {
		if _, err := ParseDigest(bad); KindOf(err) != BadFile {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

func TestAMessageHasAnId(t *testing.T) {
	for format, want := range map[string]string{
		"Unit %s has an open run, %s.":      "unit-has-an-open-run.2",
		"no model answers on %q":            "no-model-answers-on.1",
		"100 %% of %d bytes":                "100-of-bytes.1",
		"part %s reaches to 0x%04X":         "part-reaches-to-0x.2",
		"%s":                                "",
		"%s runs":                           "1-runs.1", // and not the same as:
		"runs %s":                           "runs.1",
		"the bench's key is not the unit's": "the-benchs-key-is-not-the-units",
	} {
		if got := MessageID(format); got != want {
			t.Errorf("%q has id %q, want %q", format, got, want)
		}
	}
	e := Fail(Busy, "link %s is in use by run %s", "van/a", "r1").Do("Wait.").Go(Step{ID: "x", Verb: "ferry x", Page: "/x"}.To("Look"))
	if s := e.Unit("the %s was left alone", "lamp"); s.State != "the lamp was left alone" || s.StateID != "the-was-left-alone.1" || len(s.StateParams) != 1 || e.State != "" {
		t.Errorf("%+v", s.UnitState)
	}
	if e.ID != "link-is-in-use-by-run.2" || len(e.Params) != 2 || e.Params[0] != "van/a" || e.Next != "Wait. Look: ferry x." || len(e.Steps) != 2 || e.Steps[0].SaysID != "wait" || e.Steps[1].ID != "x" || e.Steps[1].SaysID != "look" {
		t.Errorf("%+v", e)
	}
}

// What was put into a message is as it stands there: with it the message, as docs/messages.md
// has it, gives the text.
func TestWhatIsPutInIsAsItStands(t *testing.T) {
	for format, x := range map[string]struct {
		args   []any
		params []string
	}{
		"checksum is 0x%02X, the bytes give 0x%02X": {[]any{byte(0x0B), byte(0x40)}, []string{"0B", "40"}},
		"%q is no speed; %d are":                    {[]any{"fast\n", 3}, []string{`"fast\n"`, "3"}},
		"%.1f V of %g, %s":                          {[]any{3.25, 3.3, 200 * time.Millisecond}, []string{"3.2", "3.3", "200ms"}},
		"%[2]s before %[1]s, %[2]s":                 {[]any{"b", "a"}, []string{"b", "a"}},
		"at 0x%0*X, 100 %% of %v":                   {[]any{6, 255, []string{"a", "b"}}, []string{"6", "0000FF", "[a b]"}},
		"% X came":                                  {[]any{[]byte{1, 2}}, []string{"01 02"}},
		"nothing":                                   {},
	} {
		s := Say(format, x.args...)
		if !slices.Equal(s.Params, x.params) {
			t.Errorf("%s: %q, want %q", format, s.Params, x.params)
		}
		e := Fail(BadFile, format, x.args...)
		if !slices.Equal(e.Params, s.Params) || e.Message != s.Text {
			t.Errorf("%s: of the error %q %q", format, e.Message, e.Params)
		}
	}
	if e := Fail(BadFile, "cannot: %w", errors.New("gone")); e.Params[0] != "gone" || e.Cause == nil {
		t.Errorf("%q %v", e.Params, e.Cause)
	}
	at := BadAt(Line(3), "expected %d bytes", 4)
	if at.Message != "line 3: expected 4 bytes" || at.ID != "expected-bytes.1" || len(at.Params) != 1 || at.At.N != 3 {
		t.Errorf("with a place: %+v", at)
	}
}

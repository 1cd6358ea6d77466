package run_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/history"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
)

// reachable is a board that is started once more after the write and asked on the network,
// where its settings say that it is.
const reachable = lampSettings + `procedures:
  - name: pier
    edition: 1
    place: in-place
    takes: 5m
    items:
      - { id: again, do: start, at: left, says: { en: "The tool starts it once more." } }
      - { id: version, do: read, at: left, says: { en: "The tool asks for its version." } }
      - { id: page, do: reach, at: left, test: true, says: { en: "The tool asks for its web page." }, where: ssid, port: 80, path: /, text: "(?:(?P<serial>S-[0-9]+) )?program (?P<version>[0-9.]+)", within: 20s }
`

// answered is what came of an item.
func answered(s *run.State, id string) procedure.Answer {
	i := slices.IndexFunc(s.Answers, func(a procedure.Answer) bool { return a.Item == id })
	if i < 0 {
		return procedure.Answer{}
	}
	return s.Answers[i]
}

// A slow starter is asked again, and what ran before does not pass for what was written.
func TestReachableAgain(t *testing.T) {
	const is = "level=204\npair=a-b\nssid=10.4.0.7\npassword=own\n"
	for _, x := range []struct {
		name    string
		says    []string // in their order; the last one stays
		outcome run.Outcome
		note    string
	}{
		{"a slow starter", []string{"", "", "<p>S-0001 program 2.0.0</p>"}, run.Done, ""},
		{"what ran before", []string{"<p>program 1.0.0</p>"}, run.NotProven, `it is "1.0.0", expected 2.0.0`},
		{"another device", []string{"a kettle"}, run.NotProven, "does not say"},
		{"another unit", []string{"S-0002 program 2.0.0"}, run.NotProven, "it is S-0002; the run is of S-0001"},
		{"nobody", []string{""}, run.NotProven, "nobody answers at 10.4.0.7:80"},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			b := lit(t, reachable, is, nil, lampAnswers)
			b.pace.Scale = 0.1
			asked := 0
			b.Network = func(address, path string) ([]byte, error) {
				says := x.says[min(asked, len(x.says)-1)]
				if asked++; says == "" {
					return nil, core.Fail(core.NotAnswering, "nobody answers at %s", address)
				}
				if address != "10.4.0.7:80" || path != "/" {
					t.Errorf("asked at %s%s", address, path)
				}
				return []byte(says), nil
			}
			s := b.flash(t, b.open)
			if s.Closed == nil || s.Closed.Outcome != x.outcome {
				t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
			}
			if a := answered(s, "version"); a.Value != "2.0.0" {
				t.Errorf("after its second start it says %+v", a)
			}
			a := answered(s, "page")
			if x.outcome == run.Done && a.Value != "S-0001 program 2.0.0" || !strings.Contains(a.Note, x.note) {
				t.Errorf("%+v", a)
			}
			if b.unit.Version() != "2.0.0" {
				t.Error("it was not written")
			}
		})
	}
}

// TestReachKilledAtEveryEvent is law 3 over the second start and the question on the network: a
// run that is killed there does not pass for one whose unit was reached.
func TestReachKilledAtEveryEvent(t *testing.T) {
	const is = "level=204\npair=a-b\nssid=10.4.0.7\npassword=own\n"
	make := func(t testing.TB) *bench {
		b := lit(t, reachable, is, nil, lampAnswers)
		b.pace.Scale = 0.1
		b.Network = func(address, path string) ([]byte, error) {
			return []byte("<p>S-0001 program " + b.unit.Version() + "</p>"), nil
		}
		return b
	}
	b := make(t)
	events := 0
	b.OnChange = func() { events++ }
	b.flash(t, b.open)
	for n := 1; n <= events; n += trials(4, 1) {
		t.Run(fmt.Sprintf("after event %d", n), func(t *testing.T) {
			t.Parallel()
			b := make(t)
			s, err := killAt(b, &coretest.Disk{}, n)
			if err != nil {
				t.Fatal(err)
			}
			if s.Closed.Outcome != run.Done || answered(s, "version").Value != "2.0.0" || answered(s, "page").Value != "S-0001 program 2.0.0" {
				t.Errorf("closed %+v, version %+v, page %+v", s.Closed, answered(s, "version"), answered(s, "page"))
			}
		})
	}
}

// What belongs to the unit and was paired with it goes to somebody by name, and the record says to
// whom; where nobody takes it, that stays owed to the unit.
func TestWhatIsHandedOver(t *testing.T) {
	sheet := lampSettings + `procedures:
  - name: pier
    edition: 1
    place: in-place
    takes: 5m
    items:
      - { id: pair, do: confirm, at: left, says: { en: "Hold both keys until both lamps blink." } }
      - { id: box, do: give, at: left, says: { en: "Give the paired hand-box to whoever steers." } }
`
	for value, want := range map[string]string{" Edda Rooke ": "Edda Rooke", procedure.No: "", procedure.Excused: ""} {
		answers := maps.Clone(lampAnswers)
		answers["box"] = procedure.Answer{Value: value, Note: "nobody is at the pier"}
		b := lit(t, sheet, "level=204\npair=a-b\nssid=10.4.0.7\npassword=own\n", nil, answers)
		s := b.flash(t, b.open)
		if s.Closed == nil || s.Closed.Outcome != run.Done {
			t.Fatalf("closed %+v, fault %+v", s.Closed, s.Fault)
		}
		r, err := history.DecodeRecord(s.Closed.Record)
		if err != nil {
			t.Fatal(err)
		}
		if want == "" && (len(r.Handed) != 0 || !slices.ContainsFunc(r.Owed, func(o history.Owed) bool { return o.Item == "box" })) {
			t.Errorf("nobody took it (%s): handed %+v, owed %+v", value, r.Handed, r.Owed)
		}
		if want != "" && (len(r.Handed) != 1 || r.Handed[0].To != want || r.Handed[0].By != "p" || r.Handed[0].Says != "Give the paired hand-box to whoever steers.") {
			t.Errorf("handed %+v", r.Handed)
		}
	}
}

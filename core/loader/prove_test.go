package loader

import (
	"context"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/memory"
)

// slowly is a session that answers each question after a while, of its own time.
type slowly struct {
	Session
	now   time.Time
	takes time.Duration
	file  bool
	asked int
}

func (s *slowly) Now() time.Time                       { return s.now }
func (s *slowly) After(time.Duration) <-chan time.Time { return nil }
func (s *slowly) Probe(context.Context) error          { s.asked++; s.now = s.now.Add(s.takes); return nil }
func (s *slowly) Can(a Ability) error {
	if (a == File) == s.file {
		return nil
	}
	return core.Fail(core.RefusedByUnit, "it cannot")
}

// A check is bounded by time, and a unit that waits for a file is asked once.
func TestAProofIsBounded(t *testing.T) {
	for name, x := range map[string]struct {
		takes time.Duration
		file  bool
		most  time.Duration
		want  int
	}{
		"a quick one":               {time.Millisecond, false, 30 * time.Second, 100},
		"a slow one":                {6 * time.Second, false, 30 * time.Second, 6},
		"a slow one, without bound": {6 * time.Second, false, 0, 100},
		"one that waits for a file": {13 * time.Second, true, 30 * time.Second, 1},
	} {
		s := &slowly{takes: x.takes, file: x.file}
		var told []int
		p, err := Prove(context.Background(), s, 100, x.most, s, func(p Proof) { told = append(told, p.Asked) })
		if err != nil || p.Asked != x.want || s.asked != x.want || p.Err() != nil || len(told) != x.want || told[x.want-1] != x.want {
			t.Errorf("%s: asked %d, %+v %v", name, s.asked, p, err)
		}
	}
}

// What a change names lies within one region that may be written, an erase in whole
// sectors; anything else is refused, and says why.
func TestAChangeKeepsToTheMap(t *testing.T) {
	m := &memory.Map{Regions: []memory.Region{
		{Name: "boot", Use: memory.Loader, Address: 0x1000, Length: 0x800, Sector: 0x400, ReadOnly: true},
		{Name: "program", Use: memory.Program, Address: 0x1800, Length: 0x1000, Sector: 0x800},
		{Name: "settings", Use: memory.Settings, Address: 0x4000, Length: 0x400, Sector: 0x100},
	}}
	for says, ops := range map[string][]Op{
		"": {{Erase: true, Address: 0x1800, Length: 0x800}, {Erase: true, Address: 0x1800, Length: 0x1000}, {Erase: true, Address: 0x4300, Length: 0x100},
			{Address: 0x1804, Length: 4, Data: make([]byte, 4)}, {Address: 0x27FF, Length: 1, Data: make([]byte, 1)}},
		"names no memory there":                       {{Erase: true, Address: 0, Length: 0x400}, {Erase: true, Address: 0x2800, Length: 0x800}, {Address: 0x4400, Length: 1, Data: make([]byte, 1)}},
		`region "boot" is not to be written`:          {{Erase: true, Address: 0x1000, Length: 0x400}, {Address: 0x17FF, Length: 1, Data: make([]byte, 1)}},
		`reaches beyond the sheet's region "program"`: {{Erase: true, Address: 0x2000, Length: 0x1000}, {Address: 0x27FF, Length: 2, Data: make([]byte, 2)}, {Erase: true, Address: 0x1800, Length: 1 << 62}},
		"has sectors of 2048 bytes from 0x1800 on":    {{Erase: true, Address: 0x1C00, Length: 0x800}, {Erase: true, Address: 0x1800, Length: 0x400}},
		"it names 5 bytes and brings 4":               {{Address: 0x1800, Length: 5, Data: make([]byte, 4)}},
		"it names 0 bytes and brings 0":               {{Erase: true, Address: 0x1800}},
	} {
		for _, op := range ops {
			err := Within(m, op)
			if says == "" && err != nil || says != "" && (core.KindOf(err) != core.DoesNotFit || !strings.Contains(err.Error(), says)) {
				t.Errorf("%+v: %v, want %q", op, err, says)
			}
		}
	}
	if err := Within(nil, Op{Address: 1, Length: 1, Data: []byte{1}}); core.KindOf(err) != core.DoesNotFit {
		t.Errorf("without a map: %v", err)
	}
}

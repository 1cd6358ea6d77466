package history

import (
	"strings"
	"testing"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// chain is a good history of three entries, one with a bench's record.
func chain(t *testing.T) (stored []Stored, heads []Head, service, bench trust.Key) {
	t.Helper()
	service, _ = trust.NewKey()
	bench, _ = trust.NewKey()
	previous := core.Digest{}
	for n := uint64(1); n <= 3; n++ {
		e := Entry{Unit: "u", N: n, Previous: previous, Kind: Entered, HappenedAt: int64(n), By: "p"}
		if n == 2 {
			e.Kind, e.Bench = Flashed, "b"
			e.Record = (&Record{Run: "r", Unit: "u", Outcome: "done"}).Encode()
			e.Signature = bench.Sign(RecordDomain, e.Record)
		}
		raw := e.Encode()
		previous = HashEntry(raw)
		stored = append(stored, Stored{n, previous, e.Kind, raw})
		h := Head{Unit: "u", N: n, Hash: previous}
		h.Sign(service)
		heads = append(heads, h)
	}
	return stored, heads, service, bench
}

func TestTheCheckerFindsWhatWasDoneBehindItsBack(t *testing.T) {
	check := func(name, want string, change func(s []Stored, h []Head, bench trust.Key) ([]Stored, []Head)) {
		stored, heads, service, bench := chain(t)
		if change != nil {
			stored, heads = change(stored, heads, bench)
		}
		found := Check("u", stored, heads, Line{Now: service.Public()}, func(string) trust.Any { return trust.Any{bench.Public()} })
		if text := core.Texts(found, "; "); (want == "") != (text == "") || !strings.Contains(text, want) {
			t.Errorf("%s: found %q, want %q", name, text, want)
		}
	}
	edit := func(s *Stored, change func(*Entry)) {
		e, _ := DecodeEntry(s.Encoded)
		change(e)
		s.Encoded = e.Encode()
	}
	check("nothing", "", nil)
	check("a changed byte", "entry 2 was changed", func(s []Stored, h []Head, _ trust.Key) ([]Stored, []Head) {
		edit(&s[1], func(e *Entry) { e.By = "somebody else" })
		return s, h
	})
	check("a changed entry with a new hash", "entry 3 does not continue entry 2", func(s []Stored, h []Head, _ trust.Key) ([]Stored, []Head) {
		edit(&s[1], func(e *Entry) { e.By = "somebody else" })
		s[1].Hash = HashEntry(s[1].Encoded)
		return s, h
	})
	check("a chain computed anew", "the chain was computed anew", func(s []Stored, h []Head, _ trust.Key) ([]Stored, []Head) {
		edit(&s[1], func(e *Entry) { e.By = "somebody else" })
		s[1].Hash = HashEntry(s[1].Encoded)
		edit(&s[2], func(e *Entry) { e.Previous = s[1].Hash })
		s[2].Hash = HashEntry(s[2].Encoded)
		return s, h
	})
	check("a missing entry", "entry 2 is missing", func(s []Stored, h []Head, _ trust.Key) ([]Stored, []Head) { return append(s[:1], s[2]), h })
	check("a missing tail", "entry 3 is missing", func(s []Stored, h []Head, _ trust.Key) ([]Stored, []Head) { return s[:2], h })
	check("an entry put in", "entry 3 has no signed head", func(s []Stored, h []Head, _ trust.Key) ([]Stored, []Head) { return s, h[:2] })
	check("a forged head", "was not signed by this service", func(s []Stored, h []Head, bench trust.Key) ([]Stored, []Head) {
		h[2].Sign(bench)
		return s, h
	})
	check("a column", "its columns were changed", func(s []Stored, h []Head, _ trust.Key) ([]Stored, []Head) {
		s[1].Kind = Restored
		return s, h
	})
	check("a forged record", "was not signed by bench b", func(s []Stored, h []Head, _ trust.Key) ([]Stored, []Head) {
		edit(&s[1], func(e *Entry) { e.Signature[0] ^= 1 })
		return s, h
	})
}

func TestAKeyIsGoodForOneDomain(t *testing.T) {
	k, _ := trust.NewKey()
	sig := k.Sign(RecordDomain, []byte("x"))
	if k.Public().Verify(HeadDomain, []byte("x"), sig) || !k.Public().Verify(RecordDomain, []byte("x"), sig) {
		t.Error("a signature crosses domains")
	}
	again, err := trust.DecodeKey(k.Encode())
	if err != nil || again.Public().ID() != k.Public().ID() {
		t.Error("a key does not come back from its file")
	}
	if _, err := trust.DecodeKey("no key"); core.KindOf(err) != core.BadFile {
		t.Error("a bad key file was read")
	}
}

func FuzzDecodeEntry(f *testing.F) {
	f.Add((&Entry{Unit: "u", N: 1}).Encode())
	f.Add((&Record{Run: "r"}).Encode())
	f.Fuzz(func(_ *testing.T, data []byte) {
		DecodeEntry(data)
		DecodeRecord(data)
	})
}

// A time that cannot be is not believed, whoever has signed it.
func TestWhenAnEntryHappened(t *testing.T) {
	const minute, day = int64(60e6), int64(24 * 3600e6)
	for name, x := range map[string]struct {
		happened, entered, opened, want int64
		doubted                         bool
	}{
		"in between":            {10 * day, 11 * day, 9 * day, 10 * day, false},
		"years ago":             {0, 11 * day, 9 * day, 11 * day, true},
		"years ahead":           {5000 * day, 11 * day, 9 * day, 11 * day, true},
		"clocks a bit apart":    {11*day + minute, 11 * day, 11 * day, 11*day + minute, false},
		"a bit before it began": {9*day - minute, 9*day + 1, 9 * day, 9*day - minute, false},
		"of no run, long ago":   {0, 11 * day, 0, 0, false},
		"of no run, to come":    {12 * day, 11 * day, 0, 11 * day, true},
	} {
		e := Entry{HappenedAt: x.happened, EnteredAt: x.entered}
		if at, doubted := e.Happened(x.opened); at != x.want || doubted != x.doubted {
			t.Errorf("%s: %d %v", name, at, doubted)
		}
	}
}

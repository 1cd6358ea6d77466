package module

import (
	"testing"

	"zealousferry/core/loader"
)

func in[T any](v T) *T { return &v }

// parts are what the sheet of these tests knows of records.
var parts = options{Records: []recording{
	{DID: in[uint16](0xFD02), Name: "supply", Bytes: 2, As: "number", Over: 10, Unit: "V"},
	{DID: in[uint16](0xFD01), Name: "key", Bytes: 1, Is: map[string]string{"01": "on"}},
	{DID: in[uint16](0xFD05), Name: "word", Bytes: 3, As: "text"},
	{Extended: in[uint8](1), Name: "came", Bytes: 1, As: "number"},
	{Extended: in[uint8](1), Name: "went", Bytes: 2, As: "number"},
	{Extended: in[uint8](2), Name: "last", Bytes: 2},
}}

// Vectors worked by hand: number, count, identifiers with data (snapshot); number, data
// (extended).
func TestRecordsInWords(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct{ snapshot, extended, want string }{
		"one of each":                       {"0101FD0200F4", "01030002", "when it arose: supply 24.4 V; since then: came 3, went 2"},
		"two identifiers":                   {"0102FD0200F4FD0101", "", "when it arose: supply 24.4 V, key on"},
		"two records":                       {"0101FD0200F40201FD0100", "", "when it arose: supply 24.4 V, key 00"},
		"an identifier nobody knows":        {"0102FD0101BEEF010203", "", "when it arose: key on"},
		"the first one is that":             {"0102BEEF01FD0101", "", ""},
		"cut off in the data":               {"0102FD0101FD0200", "", "when it arose: key on"},
		"cut off in the head":               {"01", "", ""},
		"two extended records":              {"", "010300020299AA", "since then: came 3, went 2, last 99AA"},
		"an extended record nobody knows":   {"", "7F010203", ""},
		"an extended record that is cut":    {"", "010300", "since then: came 3"},
		"text":                              {"0101FD05616263", "", "when it arose: word abc"},
		"text that is none":                 {"0101FD050A0D1B", "", "when it arose: word 0A0D1B"},
		"a record with nothing in it":       {"01000201FD0101", "", "when it arose: key on"},
		"what a unit has said is not hex":   {"zz", "zz", ""},
		"nothing was recorded with a fault": {"", "", ""},
	} {
		r := loader.Recorded{Snapshot: x.snapshot, Extended: x.extended}
		r.Means = parts.means(r)
		if got := inWords(&r); got != x.want {
			t.Errorf("%s: %q, want %q", name, got, x.want)
		}
	}
}

func FuzzRecords(f *testing.F) {
	f.Add("0102FD0200F4FD0101", "010300020299AA")
	f.Fuzz(func(t *testing.T, snapshot, extended string) {
		for _, m := range parts.means(loader.Recorded{Snapshot: snapshot, Extended: extended}) {
			if m.Name == "" {
				t.Fatalf("%+v", m)
			}
		}
	})
}

func inWords(r *loader.Recorded) string {
	if says := r.InWords(); says != nil {
		return says.Text
	}
	return ""
}

package version

import "testing"

func TestCompare(t *testing.T) {
	for _, x := range []struct {
		order Order
		a, b  string
		want  int
	}{
		{Semantic, "4.2.1", "4.2.1", 0}, {Semantic, "4.2.1", "4.10.0", -1}, {Semantic, "5.0.0-rc.1", "5.0.0", -1},
		{Semantic, "1.0.0-alpha", "1.0.0-alpha.1", -1}, {Semantic, "1.0.0-alpha.1", "1.0.0-alpha.beta", -1},
		{Semantic, "1.0.0-beta.2", "1.0.0-beta.11", -1}, {Semantic, "1.0.0-rc.1", "1.0.0-beta.11", 1}, {Semantic, "1.0.0+b1", "1.0.0+b2", 0},
		{Dotted, "4.2", "4.2.0", 0}, {Dotted, "4.2.0.17", "4.2.0.9", 1}, {Dotted, "10", "9.9", 1},
		{Date, "2026-03-14", "2026-03-09", 1}, {Date, "2026.03.14", "2026-03-14", 0}, {Date, "2026-03-14.2", "2026-03-14", 1}, {Date, "2025-12-31", "2026-01-01", -1},
		{Part, "QP-2210-C", "QP-2210-B", 1}, {Part, "QP-2210-AA", "QP-2210-Z", 1}, {Part, "22104471B", "22104471A", 1}, {Part, "QP-2210-C", "QP-2210-C", 0},
		{Number, "0x80000", "524288", 0}, {Number, "1048576", "524288", 1},
		{Build, "1207", "1206", 1}, {Build, "1207c3", "1207", -1}, {Build, "1207c3", "1207c12", -1}, {Build, "1208c1", "1207", 1},
	} {
		if got, ok := Compare(x.order, x.a, x.b); !ok || got != x.want {
			t.Errorf("%s: %s against %s: %d %v, want %d", x.order, x.a, x.b, got, ok, x.want)
		}
		if got, ok := Compare(x.order, x.b, x.a); !ok || got != -x.want {
			t.Errorf("%s: %s against %s: %d %v, want %d", x.order, x.b, x.a, got, ok, -x.want)
		}
	}
}

func TestWhatCannotBeReadIsNeverNewer(t *testing.T) {
	for _, x := range []struct {
		order Order
		s     string
	}{{Semantic, "4.2"}, {Semantic, "04.2.1"}, {Semantic, "4.2.x"}, {Semantic, "4.2.1-"}, {Semantic, "4.2.1-a..b"}, {Semantic, ""}, {Dotted, "4..2"}, {Dotted, "-1"},
		{Dotted, "1234567890123456789"}, {Build, "c3"}, {Build, "12c"}, {Build, "1.2"}, {Date, "2026-13-01"}, {Date, "2026-02-30"}, {Date, "2026-03.14"}, {Date, "14.03.2026"}, {Date, "2026-03-14x"}, {Part, "QP-2210"}, {Part, "QPC"}, {Part, "QP-2210-ABC"}, {Part, "QP 2210-C"}, {Number, "-1"}, {Number, "many"}, {"unknown", "1"}} {
		if c, ok := Compare(x.order, x.s, "0.0.1"); ok || c > 0 {
			t.Errorf("%s %q counts as %d", x.order, x.s, c)
		}
		if Valid(x.order, x.s) {
			t.Errorf("%s %q is valid", x.order, x.s)
		}
	}
}

func TestAnotherPartNumberIsNeitherNewerNorOlder(t *testing.T) {
	if c, ok := Compare(Part, "QP-3300-A", "QP-2210-C"); ok || c != 0 {
		t.Errorf("%d %v", c, ok)
	}
}

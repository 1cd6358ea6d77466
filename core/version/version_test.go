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
		{Dotted, "1234567890123456789"}, {Build, "c3"}, {Build, "12c"}, {Build, "1.2"}, {"unknown", "1"}} {
		if c, ok := Compare(x.order, x.s, "0.0.1"); ok || c > 0 {
			t.Errorf("%s %q counts as %d", x.order, x.s, c)
		}
		if Valid(x.order, x.s) {
			t.Errorf("%s %q is valid", x.order, x.s)
		}
	}
}

// Package version orders version strings. Each model names its order; a string
// that its order cannot read is never newer than anything.
package version

import (
	"strconv"
	"strings"
)

// Order is the way in which a model counts its versions.
type Order string

// The orders known.
const (
	Semantic Order = "semantic" // 4.2.1, 5.0.0-rc.1 (Semantic Versioning 2.0.0, section 11)
	Dotted   Order = "dotted"   // 4.2, 4.2.0.17: numbers, a missing one counts as 0
	Build    Order = "build"    // 1207, 1207c3: build number, a candidate comes before its final
	Date     Order = "date"     // 2026-03-14, 2026.03.14, 2026-03-14.2: day, then a count within the day
	Part     Order = "part"     // QP-2210-C: part number, then a revision of letters; other numbers do not compare
	Number   Order = "number"   // 524288, 0x80000: whole numbers, as of bytes
)

// Orders lists them for schemas and help.
var Orders = []Order{Semantic, Dotted, Build, Date, Part, Number}

// Compare tells whether a is older (-1), the same (0) or newer (1) than b.
// ok is false if either cannot be read in this order.
func Compare(order Order, a, b string) (c int, ok bool) {
	switch order {
	case Semantic:
		return compare(a, b, parseSemantic, semantic.compare)
	case Dotted:
		return compare(a, b, parseDotted, compareNumbers)
	case Build:
		return compare(a, b, parseBuild, compareNumbers)
	case Date:
		return compare(a, b, parseDate, compareNumbers)
	case Number:
		return compare(a, b, parseNumber, compareNumbers)
	case Part:
		x, y, ok := SplitPart(a)
		v, w, ok2 := SplitPart(b)
		if !ok || !ok2 || x != v {
			return 0, false
		}
		switch {
		case y == w:
			return 0, true
		case len(y) != len(w): // Z, then AA
			return sign(len(y) < len(w)), true
		}
		return sign(y < w), true
	}
	return 0, false
}

// SplitPart takes a part number apart: the number, and the one or two letters of
// its revision behind a hyphen or a digit.
func SplitPart(s string) (number, revision string, ok bool) {
	if len(s) > 64 || strings.ContainsAny(s, " \t") {
		return "", "", false
	}
	i := len(s)
	for i > 0 && s[i-1] >= 'A' && s[i-1] <= 'Z' {
		i--
	}
	number, revision = strings.TrimSuffix(s[:i], "-"), s[i:]
	if revision == "" || len(revision) > 2 || number == "" || !strings.ContainsAny(number, "0123456789") {
		return "", "", false
	}
	if last := s[i-1]; last != '-' && (last < '0' || last > '9') {
		return "", "", false
	}
	return number, revision, true
}

// Valid tells whether the order can read s.
func Valid(order Order, s string) bool {
	_, ok := Compare(order, s, s)
	return ok
}

func compare[T any](a, b string, parse func(string) (T, bool), by func(T, T) int) (int, bool) {
	x, ok := parse(a)
	y, ok2 := parse(b)
	if !ok || !ok2 {
		return 0, false
	}
	return by(x, y), true
}

// number reads digits only, without sign; more than 18 digits are refused.
func number(s string) (int64, bool) {
	if s == "" || len(s) > 18 || strings.Trim(s, "0123456789") != "" {
		return 0, false
	}
	n, err := strconv.ParseInt(s, 10, 64)
	return n, err == nil
}

func compareNumbers(a, b []int64) int {
	for i := range max(len(a), len(b)) {
		var x, y int64
		if i < len(a) {
			x = a[i]
		}
		if i < len(b) {
			y = b[i]
		}
		if x != y {
			return sign(x < y)
		}
	}
	return 0
}

func sign(less bool) int {
	if less {
		return -1
	}
	return 1
}

func parseDotted(s string) ([]int64, bool) {
	var all []int64
	for _, part := range strings.Split(s, ".") {
		n, ok := number(part)
		if !ok {
			return nil, false
		}
		all = append(all, n)
	}
	return all, true
}

// parseBuild reads "1207" or "1207c3". A final counts as an endless candidate.
func parseBuild(s string) ([]int64, bool) {
	build, stage, candidate := strings.Cut(s, "c")
	n, ok := number(build)
	if !ok {
		return nil, false
	}
	if !candidate {
		return []int64{n, 1 << 62}, true
	}
	c, ok := number(stage)
	return []int64{n, c}, ok
}

var daysOf = [...]int64{31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

func parseDate(s string) ([]int64, bool) {
	if len(s) < 10 || s[4] != s[7] || s[4] != '-' && s[4] != '.' {
		return nil, false
	}
	y, ok := number(s[:4])
	m, ok2 := number(s[5:7])
	d, ok3 := number(s[8:10])
	if !ok || !ok2 || !ok3 || m < 1 || m > 12 || d < 1 || d > daysOf[m-1] {
		return nil, false
	}
	v := []int64{y, m, d}
	if rest := s[10:]; rest != "" {
		n, ok := number(rest[1:])
		if rest[0] != '.' || !ok {
			return nil, false
		}
		v = append(v, n)
	}
	return v, true
}

func parseNumber(s string) ([]int64, bool) {
	n, err := strconv.ParseInt(s, 0, 64)
	return []int64{n}, err == nil && n >= 0
}

type semantic struct {
	core []int64
	pre  []string
}

func parseSemantic(s string) (v semantic, ok bool) {
	s, _, _ = strings.Cut(s, "+") // build metadata does not count
	numbers, pre, has := strings.Cut(s, "-")
	v.core, ok = parseDotted(numbers)
	if !ok || len(v.core) != 3 {
		return v, false
	}
	for _, part := range strings.Split(numbers, ".") {
		if len(part) > 1 && part[0] == '0' {
			return v, false
		}
	}
	if has {
		v.pre = strings.Split(pre, ".")
		for _, id := range v.pre {
			if id == "" || strings.Trim(id, "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ-") != "" {
				return v, false
			}
		}
	}
	return v, true
}

func (v semantic) compare(w semantic) int {
	if c := compareNumbers(v.core, w.core); c != 0 {
		return c
	}
	switch {
	case len(v.pre) == 0 && len(w.pre) == 0:
		return 0
	case len(v.pre) == 0:
		return 1
	case len(w.pre) == 0:
		return -1
	}
	for i := range min(len(v.pre), len(w.pre)) {
		a, b := v.pre[i], w.pre[i]
		if a == b {
			continue
		}
		x, xNumber := number(a)
		y, yNumber := number(b)
		switch {
		case xNumber && yNumber && x != y:
			return sign(x < y)
		case xNumber != yNumber:
			return sign(xNumber)
		case !xNumber:
			return sign(a < b)
		}
	}
	if len(v.pre) == len(w.pre) {
		return 0
	}
	return sign(len(v.pre) < len(w.pre))
}

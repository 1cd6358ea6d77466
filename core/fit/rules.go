package fit

import (
	"slices"
	"strings"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/version"
)

// holds judges a rule for a value. What cannot be compared is never a yes.
func holds(sheet *model.Sheet, rule *model.Rule, value string) Answer {
	if len(rule.OneOf) > 0 && !slices.Contains(rule.OneOf, value) && !(rule.OrLater && supersedesAny(sheet, rule, value)) {
		return DoesNotFit
	}
	if slices.Contains(rule.NoneOf, value) {
		return DoesNotFit
	}
	if rule.AtLeast != "" || rule.Below != "" {
		if value == None { // a companion that is not there has no version
			return DoesNotFit
		}
		order := sheet.OrderOf(*rule)
		if rule.AtLeast != "" {
			if c, ok := version.Compare(order, value, rule.AtLeast); !ok {
				return CannotTell
			} else if c < 0 {
				return DoesNotFit
			}
		}
		if rule.Below != "" {
			if c, ok := version.Compare(order, value, rule.Below); !ok {
				return CannotTell
			} else if c >= 0 {
				return DoesNotFit
			}
		}
	}
	if len(rule.Between) > 0 && !slices.ContainsFunc(rule.Between, func(r model.Range) bool {
		return natural(r.From, value) <= 0 && natural(value, r.To) <= 0
	}) {
		return DoesNotFit
	}
	return Fits
}

// None is the value of a companion that is not there.
const None = "none"

// supersedesAny tells whether a part number is a later revision of one of those
// that the rule names, or follows one of them.
func supersedesAny(sheet *model.Sheet, rule *model.Rule, value string) bool {
	follows := sheet.Facts[rule.Fact].Follows
	for n := 0; value != "" && n < 100; n++ {
		for _, wanted := range rule.OneOf {
			if c, ok := version.Compare(version.Part, value, wanted); ok && c >= 0 {
				return true
			}
		}
		value = follows[value]
	}
	return false
}

// natural compares texts with the digits in them as numbers: Q80-99 before Q80-100.
func natural(a, b string) int {
	for a != "" && b != "" {
		x, y := digits(a), digits(b)
		if x > 0 && y > 0 {
			m, n := strings.TrimLeft(a[:x], "0"), strings.TrimLeft(b[:y], "0")
			if len(m) != len(n) {
				return len(m) - len(n)
			}
			if c := strings.Compare(m, n); c != 0 {
				return c
			}
			a, b = a[x:], b[y:]
			continue
		}
		if a[0] != b[0] {
			return int(a[0]) - int(b[0])
		}
		a, b = a[1:], b[1:]
	}
	return len(a) - len(b)
}

func digits(s string) (n int) {
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}

// all judges rules that must hold together. The fact is the one that decided, or
// the first for a yes.
func all(sheet *model.Sheet, rules []model.Rule, known Known) (Answer, core.Fact) {
	answer, decided := Fits, core.Fact{}
	for i, rule := range rules {
		f, ok := known.Best(rule.Fact)
		a := CannotTell
		if ok {
			a = holds(sheet, &rules[i], f.Value)
		}
		if _, _, contradicts := known.Contradiction(rule.Fact); contradicts {
			a = CannotTell
		}
		if i == 0 {
			decided = f
		}
		if a == DoesNotFit {
			return DoesNotFit, f
		}
		if a == CannotTell && answer == Fits {
			answer, decided = CannotTell, f
		}
	}
	return answer, decided
}

// Judge tells whether rules hold together, or surely do not; what is not known is
// neither. Faces and procedures ask it; verdicts have their own reasons.
func (k Known) Judge(sheet *model.Sheet, rules []model.Rule) (yes, no bool) {
	answer, _ := all(sheet, rules, k)
	return answer == Fits, answer == DoesNotFit
}

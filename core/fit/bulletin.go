package fit

import (
	"slices"
	"strings"
	"unicode"

	"zealousferry/core"

	"zealousferry/core/model"
)

// Bulletin is what is known of a complaint: which units have it, how it shows, what mends
// it. Of one that names neither codes nor words, every unit that its rules hold for is told.
type Bulletin struct {
	Title string       `json:"title"`
	Says  string       `json:"says"`
	When  []model.Rule `json:"when,omitempty"`
	Codes []string     `json:"codes,omitempty"` // fault codes; of one without its failure type, all with it
	Words []string     `json:"words,omitempty"` // in what whoever complains says
}

// Shown is what there is of a complaint: the fault codes that a unit has noted, and what was
// said of it.
type Shown struct {
	Codes []string
	Says  string
}

// Speaks tells whether a bulletin speaks to a unit, and by what. A rule for which a fact is
// missing counts as holding: the bulletin is read then, and says itself whom it means.
func Speaks(sheet *model.Sheet, b Bulletin, known Known, shown Shown) (why []core.Said, ok bool) {
	answer, _ := all(sheet, b.When, known)
	if answer == DoesNotFit {
		return nil, false
	}
	for _, c := range b.Codes {
		for _, has := range shown.Codes {
			if strings.EqualFold(has, c) || !strings.Contains(c, "-") && strings.HasPrefix(strings.ToUpper(has), strings.ToUpper(c)+"-") {
				why = append(why, core.Say("it has fault code %s", has))
			}
		}
	}
	said := wordsOf(shown.Says)
	for _, w := range b.Words {
		if standIn(said, wordsOf(w)) {
			why = append(why, core.Say("%q is said of it", w))
		}
	}
	if len(b.Codes)+len(b.Words) > 0 && len(why) == 0 {
		return nil, false
	}
	if len(why) == 0 {
		why = append(why, core.Say("every such unit"))
	}
	if answer == CannotTell {
		why = append(why, core.Say("it is not known whether this unit is meant"))
	}
	return why, true
}

// wordsOf takes a text apart into words without case.
func wordsOf(s string) []string {
	return strings.FieldsFunc(strings.ToLower(s), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
}

// standIn tells whether words stand in a text one after another.
func standIn(text, words []string) bool {
	for i := 0; len(words) > 0 && i+len(words) <= len(text); i++ {
		if slices.Equal(text[i:i+len(words)], words) {
			return true
		}
	}
	return false
}

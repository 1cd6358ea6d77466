package trust

import (
	"strings"
	"testing"

	"zealousferry/core"
)

// TestPasswords: what is guessed early is refused, what is long and not made up of that is taken,
// whatever signs are in it.
func TestPasswords(t *testing.T) {
	for _, good := range []string{"a long tide table", "correct horse battery", "Regen an der Mole 7", "日本語の長い合言葉です、これは", "service the tide at noon", "kvz8qwn2hd41", strings.Repeat("tide table ", 18)} {
		if err := CheckPassword(good, "Sunniva Dale"); err != nil {
			t.Errorf("%q: %v", good, err)
		}
	}
	for bad, kind := range map[string]core.Kind{"": core.NotUnderstood, "short one": core.NotUnderstood, strings.Repeat("x y", 80): core.NotUnderstood, "password1234": core.NotAllowed, "Passw0rd!!!!": core.NotAllowed,
		"P@55word2026": core.NotAllowed, "sunnivadale1": core.NotAllowed, "Dale-Sunniva-99": core.NotAllowed, "qwertyuiop12": core.NotAllowed, "aaaaaaaaaaaaaa": core.NotAllowed,
		"123456789012": core.NotAllowed, "abcdefghijklm": core.NotAllowed, "zealous ferry 2026": core.NotAllowed, "welcome admin 1": core.NotAllowed, "987654321098": core.NotAllowed} {
		if err := CheckPassword(bad, "Sunniva Dale"); core.KindOf(err) != kind {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

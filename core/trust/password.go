package trust

import (
	"strings"
	"unicode"

	"zealousferry/core"
)

// The length of a password, in characters (NIST SP 800-63B, section 3.1.1.2, asks for 15 where it
// stands alone and 8 with a second factor; OWASP ASVS 5.0, 6.2.1, for 8, and recommends 15).
const (
	LeastPassword = 12
	MostPassword  = 200
)

// often are words of which passwords are made that whoever guesses tries first.
var often = strings.Fields(`password passwort passphrase pass word secret login logon letmein welcome hello admin administrator root user
guest default changeme change me please test testing demo temp temporary summer winter spring autumn monday january iloveyou love
football baseball soccer hockey dragon monkey sunshine princess master shadow superman batman michael jordan computer internet
qwerty qwertz azerty abc firmware ferry zealous zealousferry service technician bench unit flash team company office printer drone
vehicle module`)

// rows are those of a keyboard.
var rows = []string{"1234567890", "qwertyuiop", "qwertzuiop", "azertyuiop", "asdfghjkl", "yxcvbnm", "zxcvbnm"}

// looksLike are letters in place of which people type figures and signs.
var looksLike = strings.NewReplacer("0", "o", "1", "i", "3", "e", "4", "a", "5", "s", "7", "t", "@", "a", "$", "s", "!", "i")

// CheckPassword refuses a password that is too short, or that is guessed early: made of the name,
// of words that everybody takes, or by running along the keys. Which signs are in it is no matter.
func CheckPassword(password, name string) error {
	n := len([]rune(password))
	switch {
	case n < LeastPassword:
		return core.Fail(core.NotUnderstood, "the password has %d characters, %d are the least", n, LeastPassword).Do("Take a sentence: several words that do not belong together.")
	case n > MostPassword:
		return core.Fail(core.NotUnderstood, "the password has %d characters, %d are the most", n, MostPassword).Do("Take a shorter one.")
	}
	low := strings.ToLower(password)
	why := ""
	own := strings.Fields(strings.ToLower(name))
	inner := strings.TrimFunc(low, func(r rune) bool { return !unicode.IsLetter(r) }) // figures and signs around it are tried too
	for _, x := range []string{low, looksLike.Replace(inner)} {
		switch {
		case madeOf(letters(x), append(own, often...)):
			why = "is made of words that are tried first"
		case runs(low) <= 3:
			why = "runs along the keys, or repeats itself"
		}
	}
	if why == "" {
		return nil
	}
	return core.Fail(core.NotAllowed, "this password %s", why).Unit("nothing was changed").Do("Take a sentence: several words that do not belong together.")
}

// letters is a text without what is no letter.
func letters(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) {
			return r
		}
		return -1
	}, s)
}

// madeOf tells whether a text is nothing but some of the words, one behind the other.
func madeOf(s string, words []string) bool {
	reached := make([]bool, len(s)+1)
	reached[0] = true
	for at := range s {
		if !reached[at] {
			continue
		}
		for _, w := range words {
			if w != "" && strings.HasPrefix(s[at:], w) {
				reached[at+len(w)] = true
			}
		}
	}
	return reached[len(s)]
}

// runs counts the stretches of a text in which each character is the one before, its neighbour in
// the alphabet or among the figures, or its neighbour on a keyboard.
func runs(s string) int {
	n := 0
	last := rune(-1)
	for _, r := range s {
		if !beside(last, r) {
			n++
		}
		last = r
	}
	return n
}

func beside(a, b rune) bool {
	if d := a - b; a >= 0 && d >= -1 && d <= 1 {
		return true
	}
	for _, row := range rows {
		i, j := strings.IndexRune(row, a), strings.IndexRune(row, b)
		if i >= 0 && j >= 0 && (i-j == 1 || j-i == 1) {
			return true
		}
	}
	return false
}

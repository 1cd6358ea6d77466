package link_test

import (
	"testing"

	"zealousferry/core/link"
)

// TestALineHeldLowIsNoSpeaker: the character that stands beside a break was sent by nobody.
func TestALineHeldLowIsNoSpeaker(t *testing.T) {
	for _, x := range []struct {
		signs link.Signs
		want  uint64
	}{
		{link.Signs{}, 0},
		{link.Signs{Framing: 1, Breaks: 1}, 0},
		{link.Signs{Breaks: 3}, 0}, // an adapter that counts it as a break alone
		{link.Signs{Framing: 7, Breaks: 2}, 5},
		{link.Signs{Framing: 1, Breaks: 1, Parity: 4}, 4},
		{link.Signs{Overrun: 9}, 0},
	} {
		if got := x.signs.Spoilt(); got != x.want {
			t.Errorf("%+v: %d characters, want %d", x.signs, got, x.want)
		}
	}
}

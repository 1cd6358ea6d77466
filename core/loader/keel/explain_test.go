package keel

import "testing"

// TestFramesInWords: requests and replies, the beginning of one, and what is none.
func TestFramesInWords(t *testing.T) {
	for _, x := range []struct {
		sent bool
		data []byte
		want string
	}{
		{true, []byte{hail}, "the hail"},
		{true, frame(3<<4|opRead, []byte{0, 0x10, 0, 0, 0, 4}), "read, turn 3 at 0x1000, 1024 bytes"},
		{true, frame(4<<4|opWrite, []byte{0, 0x20, 0, 0, 1, 2, 3, 4})[:9], "write, turn 4 at 0x2000"},
		{true, frame(5<<4|opErase, []byte{0, 0x20, 0, 0, 0, 8, 0, 0}), "erase, turn 5 at 0x2000, 2048 bytes"},
		{false, []byte{sayMark, 5<<4 | opErase, 5, 0, failed, 0, 0x20, 0, 0}, "erase, turn 5: the memory did not do it"},
		{false, []byte{sayMark, 15, 1, 0, again}, "the check was wrong"},
		{false, []byte("program 1.0"), ""},
		{true, []byte{askMark, 0}, ""},
	} {
		if got := (Kind{}).Explain("", x.sent, x.data); got != x.want {
			t.Errorf("%x: %q, want %q", x.data, got, x.want)
		}
	}
}

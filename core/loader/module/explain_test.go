package module

import "testing"

// TestFramesAndMessagesInWords: frames of a bus (ISO 15765-2) by their control information,
// messages of a gateway as they are.
func TestFramesAndMessagesInWords(t *testing.T) {
	for _, x := range []struct {
		about string
		sent  bool
		data  []byte
		want  string
	}{
		{"7E0", true, []byte{0x02, 0x10, 0x03}, "DiagnosticSessionControl"},
		{"7E8", false, []byte{0x06, 0x50, 0x03}, "DiagnosticSessionControl: done"},
		{"18DA10F1", true, []byte{0x14, 0x02, 0x36, 0x01}, "TransferData, first of 1026 bytes"},
		{"7E0", true, []byte{0x21, 1, 2}, "goes on, frame 1"},
		{"7E8", false, []byte{0x30, 0, 0}, "clear to send"},
		{"7E8", false, []byte{0x03, 0x7F, 0x36}, "TransferData: refused"},
		{"0E80", false, []byte{0x7F, 0x34, 0xEE}, "RequestDownload: refused, code 0xEE"},
		{"1001", true, []byte{0x3E, 0x80}, "TesterPresent"},
		{"7E0", true, nil, ""},
	} {
		if got := (Kind{}).Explain(x.about, x.sent, x.data); got != x.want {
			t.Errorf("%s %x: %q, want %q", x.about, x.data, got, x.want)
		}
	}
}

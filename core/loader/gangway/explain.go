package gangway

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
)

// names are the operations as a person does them, states what comes of them.
var (
	names = [...]string{opHello: "hello", opRead: "read", opErase: "erase", opWrite: "write", opDigest: "digest", opReset: "reset", opBoot: "boot", opSettingsGet: "settings get", opSettingsPut: "settings put", opSpeed: "speed", opProtection: "protection", opConsole: "console",
		opFilesList: "list files", opFileGet: "get a file", opFilePut: "put a file", opFileKeep: "keep a file", opFileRemove: "remove a file", opSettingsRemove: "settings remove"}
	states = [...]string{done: "done", working: "working", gap: "gap", refused: "refused", failed: "failed", unknownOp: "operation not known", badRequest: "bad request", noSession: "no session"}
)

// mostFrames is how many frames of one piece are put into words.
const mostFrames = 4

// Explain puts frames into words, also the beginning of one.
func (Kind) Explain(_ string, sent bool, data []byte) string {
	var all []string
	for len(data) > 0 && len(all) < mostFrames {
		wire, rest, whole := bytes.Cut(data, []byte{0})
		data = rest
		if says := inWords(wire, sent, whole); says != "" {
			all = append(all, says)
		}
	}
	return strings.Join(all, "; ")
}

func inWords(wire []byte, sent, whole bool) string {
	p := beginning(wire)
	if len(p) < headLength {
		return ""
	}
	if whole {
		if body, ok := open(wire); ok {
			p = body
		} else if len(wire) > headLength+4 {
			return "a damaged frame"
		}
	}
	op := int(p[0] &^ 0x80)
	if op >= len(names) || names[op] == "" || sent != (p[0] < 0x80) {
		return ""
	}
	says := fmt.Sprintf("%s, tag %d", names[op], binary.LittleEndian.Uint16(p[3:]))
	if p[5] > 0 {
		says += fmt.Sprintf(", turn %d", p[5])
	}
	if !sent {
		if len(p) > headLength && int(p[headLength]) < len(states) {
			says += ": " + states[p[headLength]]
		}
		return says
	}
	switch body := p[headLength:]; {
	case len(body) >= 8 && op == opWrite:
		says += fmt.Sprintf(" at 0x%X", binary.LittleEndian.Uint64(body))
	case len(body) >= 12 && (op == opRead || op == opErase || op == opDigest):
		says += fmt.Sprintf(" %d bytes at 0x%X", binary.LittleEndian.Uint32(body[8:]), binary.LittleEndian.Uint64(body))
	case len(body) >= 8 && (op == opRead || op == opErase || op == opDigest):
		says += fmt.Sprintf(" at 0x%X", binary.LittleEndian.Uint64(body))
	case len(body) >= 4 && op == opSpeed:
		says += fmt.Sprintf(" %d baud", binary.LittleEndian.Uint32(body))
	}
	return says
}

// beginning undoes the stuffing of as much as there is.
func beginning(b []byte) (out []byte) {
	for len(b) > 0 && b[0] > 0 {
		n := min(int(b[0]), len(b))
		out = append(out, b[1:n]...)
		if b[0] < 255 && int(b[0]) < len(b) {
			out = append(out, 0)
		}
		b = b[n:]
	}
	return out
}

package keel

import (
	"encoding/binary"
	"fmt"
)

// names are the operations, states what comes of them.
var (
	names  = [...]string{opWho: "who", opRead: "read", opWrite: "write", opErase: "erase", opGuard: "guard", opLock: "lock", opStart: "start"}
	states = [...]string{done: "done", isLocked: "locked", bounds: "bounds", guarded: "guarded", failed: "the memory did not do it", unknown: "operation not known", again: "the check was wrong"}
)

// Explain puts the first frame of a piece into words, also the beginning of one.
func (Kind) Explain(_ string, sent bool, data []byte) string {
	if sent && len(data) == 1 && data[0] == hail {
		return "the hail"
	}
	mark := byte(sayMark)
	if sent {
		mark = askMark
	}
	if len(data) < 5 || data[0] != mark {
		return ""
	}
	op := data[1] & 0x0F
	if int(op) >= len(names) {
		if !sent && int(data[4]) < len(states) {
			return states[data[4]]
		}
		return ""
	}
	says := fmt.Sprintf("%s, turn %d", names[op], data[1]>>4)
	if !sent {
		if int(data[4]) < len(states) {
			says += ": " + states[data[4]]
		}
		return says
	}
	body := data[4:]
	if len(body) >= 4 && (op == opRead || op == opWrite || op == opErase || op == opGuard) {
		says += fmt.Sprintf(" at 0x%X", binary.LittleEndian.Uint32(body))
	}
	switch {
	case len(body) >= 6 && op == opRead:
		says += fmt.Sprintf(", %d bytes", binary.LittleEndian.Uint16(body[4:]))
	case len(body) >= 8 && op == opErase:
		says += fmt.Sprintf(", %d bytes", binary.LittleEndian.Uint32(body[4:]))
	}
	return says
}

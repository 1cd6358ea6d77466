package module

import (
	"fmt"

	"zealousferry/core/link/uds"
)

// Explain puts a frame (ISO 15765-2) or a message into words. Whom it concerns tells which it
// is: a logical address has four digits, an identifier of the bus three or eight.
func (Kind) Explain(about string, sent bool, data []byte) string {
	if len(data) == 0 {
		return ""
	}
	if len(about) == 4 {
		return uds.Explain(sent, data)
	}
	switch low := data[0] & 0x0F; data[0] >> 4 {
	case 0:
		return uds.Explain(sent, data[1:])
	case 1:
		if len(data) < 3 {
			return ""
		}
		return fmt.Sprintf("%s, first of %d bytes", uds.Explain(sent, data[2:]), int(low)<<8|int(data[1]))
	case 2:
		return fmt.Sprintf("goes on, frame %d", low)
	case 3:
		if low < 3 {
			return [...]string{"clear to send", "wait", "overflow"}[low]
		}
	}
	return ""
}

package transfer

import "fmt"

// Explain puts the beginning of what went one way into words; a block's number is modulo 256.
func Explain(data []byte) string {
	if len(data) == 0 {
		return ""
	}
	switch data[0] {
	case soh, stx:
		size := old
		if data[0] == stx {
			size = big
		}
		if len(data) < 2 {
			return fmt.Sprintf("a block of %d bytes", size)
		}
		return fmt.Sprintf("block %d, %d bytes", data[1], size)
	case eot:
		return "the end of the file"
	case ack:
		return "taken"
	case nak:
		return "once more"
	case can:
		return "cancelled"
	case 'C':
		return "asks for the first block, with CRC"
	}
	return ""
}

package uds

import (
	"fmt"

	"zealousferry/core"
)

// Negative is a negative response.
type Negative struct {
	Service, Code byte
}

func (n *Negative) Error() string {
	if x, ok := codes[n.Code]; ok {
		return fmt.Sprintf("the module refuses %s: %s (0x%02X)", name(n.Service), x.says, n.Code)
	}
	return fmt.Sprintf("the module refuses %s with code 0x%02X, which has no meaning for everybody", name(n.Service), n.Code)
}

// Codes that a client itself minds.
const (
	BusyRepeat   = 0x21
	OutOfOrder   = 0x24
	OutOfRange   = 0x31
	InvalidKey   = 0x35
	TooManyTries = 0x36
	TooSoon      = 0x37
	Pending      = 0x78
	NotInSession = 0x7F
)

// refused is an error of kind refused-by-unit, with what to do.
func refused(service, code byte) error {
	n := &Negative{service, code}
	kind := core.RefusedByUnit
	if code >= 0x33 && code <= 0x37 {
		kind = core.Protected
	}
	e := core.Fail(kind, "%w", n)
	if x := codes[code]; x.do != "" {
		return e.Go(core.Plain("%s", x.do))
	}
	return e
}

const (
	session   = "Its sheet names the session to be in beforehand; see that it is right."
	condition = "Read what the module wants beforehand, then try again: supply, ignition, standstill."
	standing  = "Bring the vehicle to a standstill as its procedure says, then try again."
	engine    = "See to the engine as the procedure says, then try again."
	supply    = "Measure the supply at the module, and connect a charger that holds it."
	again     = "Take its power off and on, then begin again; if it comes again, set the module apart."
)

// codes are the negative response codes (ISO 14229-1, annex A), and what a person can do.
var codes = map[byte]struct{ says, do string }{
	0x10: {"it gives no reason", again},
	0x11: {"it does not have this service", "See that the sheet is of this module."},
	0x12: {"it does not have this form of the service", "See that the sheet is of this module."},
	0x13: {"the request has another length than it expects", "See that the sheet is of this module."},
	0x14: {"the answer would be too long", "Ask for less at a time: a smaller block in the sheet."},
	0x21: {"it is busy", "Wait, and try again."},
	0x22: {"the conditions are not right", condition},
	0x24: {"the order of requests is wrong", again},
	0x25: {"a module behind it does not answer", "Look at the module behind it: supply and bus."},
	0x26: {"a fault that it has noted keeps it from that", "Read its fault codes first."},
	0x31: {"it does not have that identifier, address or value", "See that the sheet is of this module and its map right."},
	0x33: {"it is locked", "The sheet names the access to be opened beforehand."},
	0x34: {"it wants an authentication", ""},
	0x35: {"the key is wrong", "A lead enters the right secret for this model; a module bears few wrong keys."},
	0x36: {"too many wrong keys came", "Take its power off, wait ten minutes with power on, and try again once the secret is right."},
	0x37: {"it wants a pause before the next key", "Leave it with power on for ten minutes, then try again."},
	0x70: {"it takes no transfer now", condition},
	0x71: {"it broke the transfer off", again},
	0x72: {"its memory cannot be programmed", "Try again once; if it comes again, set the module apart: its memory is worn or damaged."},
	0x73: {"it expects another block", again},
	0x78: {"its answer is pending", ""},
	0x7E: {"it does not have this form of the service in this session", session},
	0x7F: {"it does not have this service in this session", session},
	0x81: {"the engine runs too fast", engine}, 0x82: {"the engine runs too slowly", engine},
	0x83: {"the engine is running", engine}, 0x84: {"the engine is not running", engine}, 0x85: {"the engine has not run long enough", engine},
	0x86: {"it is too warm", "Let it cool, then try again."}, 0x87: {"it is too cold", "Let it warm up, then try again."},
	0x88: {"the vehicle is too fast", standing}, 0x89: {"the vehicle is too slow", condition},
	0x8A: {"the pedal is pressed too far", standing}, 0x8B: {"the pedal is not pressed far enough", condition},
	0x8C: {"the gear is not in neutral", standing}, 0x8D: {"no gear is in", condition}, 0x8F: {"the brake is not pressed", standing},
	0x90: {"the lever is not in park", standing}, 0x91: {"the converter clutch is locked", condition},
	0x92: {"the supply voltage is too high", supply}, 0x93: {"the supply voltage is too low", supply},
}

// names are the services in words.
var names = map[byte]string{
	SessionControl: "the session", EcuReset: "the restart", ClearInformation: "to clear fault codes", ReadInformation: "the fault codes", ReadData: "an identifier",
	ReadMemoryAt: "to give memory", SecurityAccess: "the access", Communication: "to be quiet", WriteData: "to take an identifier", RoutineControl: "a routine",
	RequestDownload: "a download", RequestUpload: "an upload", TransferData: "a block", TransferExit: "the end of a transfer", TesterPresent: "the question whether it is there",
	CodeSetting: "to leave fault codes alone",
}

func name(service byte) string {
	if n := names[service]; n != "" {
		return n
	}
	return fmt.Sprintf("service 0x%02X", service)
}

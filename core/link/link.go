// Package link is the way to a unit. A link has one of three shapes: a byte
// stream (Stream), CAN frames (Frames), or addressed messages (Messages).
package link

import (
	"context"
	"time"

	"zealousferry/core"
)

// Link is what every shape has.
type Link interface {
	// Generation changes whenever anything about the link changed: it was opened
	// anew, its far end vanished, a modem line that tells of the unit dropped. An
	// identity that was read in another generation is dead.
	Generation() uint64
	Close() error
}

// Mode is the line setting of a serial stream.
type Mode struct {
	Baud   int    `yaml:"baud" json:"baud"`
	Bits   int    `yaml:"bits" json:"bits"`     // 5 to 8
	Parity string `yaml:"parity" json:"parity"` // none, odd, even, mark, space
	Stop   string `yaml:"stop" json:"stop"`     // 1, 1.5, 2
}

// Default is 8 bits, no parity, one stop bit.
func Default(baud int) Mode { return Mode{Baud: baud, Bits: 8, Parity: "none", Stop: "1"} }

// CharacterBits counts the bits that one character takes on the line.
func (m Mode) CharacterBits() int {
	n := 2 + m.Bits
	if m.Parity != "none" {
		n++
	}
	if m.Stop != "1" {
		n++
	}
	return n
}

// Line is a modem line that the bench drives.
type Line string

// The lines.
const (
	DTR Line = "dtr"
	RTS Line = "rts"
)

// Stream is a byte stream with the settings of a serial line. One goroutine may
// read while another writes; the settings are changed while neither runs.
type Stream interface {
	Link
	// Read returns what has arrived, at least one byte. After the deadline it
	// returns os.ErrDeadlineExceeded. A link that is gone returns an error of kind
	// not-answering.
	Read(p []byte) (int, error)
	Write(p []byte) (int, error)
	SetReadDeadline(t time.Time) error
	SetMode(m Mode) error
	// SetLine drives a modem line. A stream without modem lines returns an error
	// of kind refused-by-unit.
	SetLine(l Line, on bool) error
	// Purge drops what has arrived and was not read.
	Purge() error
}

// Signs are what a stream has seen beside bytes.
type Signs struct {
	Told    bool   `json:"told"` // the link can tell at all
	Framing uint64 `json:"framing"`
	Parity  uint64 `json:"parity"`
	Overrun uint64 `json:"overrun"`
	Breaks  uint64 `json:"breaks"`
	CTS     bool   `json:"cts"`
	DSR     bool   `json:"dsr"`
	DCD     bool   `json:"dcd"`
	RI      bool   `json:"ri"`
}

// Spoilt is how many characters came without a stop bit or with a wrong parity. A line that is
// held low for longer than a character shows as a break, and as one such character beside it,
// which nobody has sent.
func (s Signs) Spoilt() uint64 {
	return s.Framing - min(s.Framing, s.Breaks) + s.Parity
}

// Watcher is a stream that tells of them.
type Watcher interface{ Signs() Signs }

// SignsOf is what a stream has seen; nothing where it cannot tell.
func SignsOf(s Stream) Signs {
	for {
		if w, ok := s.(Watcher); ok {
			return w.Signs()
		}
		inner, ok := s.(interface{ Within() Stream })
		if !ok {
			return Signs{}
		}
		s = inner.Within()
	}
}

// Break holds a line low for a time, as some boards want it to stop in their boot code.
func Break(s Stream, d time.Duration) error {
	for {
		if b, ok := s.(interface{ Break(d time.Duration) error }); ok {
			return b.Break(d)
		}
		inner, ok := s.(interface{ Within() Stream })
		if !ok {
			return core.Fail(core.RefusedByUnit, "this link cannot send a break")
		}
		s = inner.Within()
	}
}

// Hush has nothing but lengths kept, in a trace of the link, of what is said until the
// function that it returns is called. On a link without a trace it does nothing.
func Hush(l Link) (done func()) {
	for {
		if h, ok := l.(interface{ Hush() func() }); ok {
			return h.Hush()
		}
		inner, ok := l.(interface{ Within() Stream })
		if !ok {
			return func() {}
		}
		l = inner.Within()
	}
}

// Settings say where a link is: the keys depend on the kind of link.
type Settings map[string]string

// Kind opens links of one kind. core/registry lists them.
type Kind interface {
	Name() string // the word in a bench's configuration
	Open(ctx context.Context, s Settings, clock core.Clock) (Link, error)
}

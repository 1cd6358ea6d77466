// Package isotp is the transport of ISO 15765-2 on classic CAN: messages of any length in
// frames of eight bytes. Sender and Receiver are the two state machines, which are told
// the time and do no input or output; Talk drives them over a bus. Names of timers and
// results are those of the standard.
package isotp

import (
	"time"

	"zealousferry/core"
)

// Types of a protocol control information, its first nibble.
const (
	single      = 0x0
	first       = 0x1
	consecutive = 0x2
	flow        = 0x3
)

// Flow status.
const (
	clearToSend = 0
	wait        = 1
	overflow    = 2
)

// Config are the parameters of one end. Zero values are those of Defaults.
type Config struct {
	// Prefix is the target address that stands before the control information where
	// addressing is extended; nil where it is normal.
	Prefix *byte
	// Padding fills frames up to eight bytes; nil sends them as short as they are.
	Padding *byte
	// BlockSize and SeparationTime are what this end asks of one that sends to it:
	// consecutive frames until it wants to be asked again (0: never), and the least time
	// between them, as the octet STmin.
	BlockSize      uint8
	SeparationTime uint8
	// Largest is the longest message that this end takes.
	Largest int
	// Waits is how many flow controls with "wait" in a row are borne (N_WFTmax).
	Waits int
	// The timeouts: until a frame is on the bus, until a flow control comes, until a
	// consecutive frame comes.
	As, Bs, Cr time.Duration
}

// Defaults are the timeouts of one second, no padding, and no wish for pauses.
var Defaults = Config{Largest: 1 << 20, Waits: 16, As: time.Second, Bs: time.Second, Cr: time.Second}

func (c Config) or(d Config) Config {
	if c.Largest == 0 {
		c.Largest = d.Largest
	}
	if c.Waits == 0 {
		c.Waits = d.Waits
	}
	for _, x := range []struct {
		mine *time.Duration
		std  time.Duration
	}{{&c.As, d.As}, {&c.Bs, d.Bs}, {&c.Cr, d.Cr}} {
		if *x.mine == 0 {
			*x.mine = x.std
		}
	}
	return c
}

// room is how many bytes of a frame are left behind an address.
func (c Config) room() int {
	if c.Prefix != nil {
		return 7
	}
	return 8
}

// frame is what goes into a CAN frame: address, control information, data, padding.
func (c Config) frame(parts ...[]byte) []byte {
	f := make([]byte, 0, 8)
	if c.Prefix != nil {
		f = append(f, *c.Prefix)
	}
	for _, p := range parts {
		f = append(f, p...)
	}
	if c.Padding != nil {
		for len(f) < 8 {
			f = append(f, *c.Padding)
		}
	}
	return f
}

// inside takes the address off that stands in front of what comes (own, where it is not
// nil); false if the frame is for another or has nothing in it.
func (c Config) inside(frame []byte, own *byte) ([]byte, bool) {
	if c.Prefix != nil {
		if len(frame) < 2 || own != nil && frame[0] != *own {
			return nil, false
		}
		return frame[1:], true
	}
	return frame, len(frame) > 0
}

// Separation is the time that an STmin octet stands for. Reserved values mean the longest,
// 127 ms (clause on handling of reserved STmin values).
func Separation(stmin uint8) time.Duration {
	switch {
	case stmin <= 0x7F:
		return time.Duration(stmin) * time.Millisecond
	case stmin >= 0xF1 && stmin <= 0xF9:
		return time.Duration(stmin-0xF0) * 100 * time.Microsecond
	}
	return 127 * time.Millisecond
}

// result is an error under the standard's own name for it.
func result(kind core.Kind, name, format string, args ...any) error {
	e := core.Fail(kind, format, args...)
	e.Message += " (" + name + ")"
	return e
}

// Sender sends one message.
type Sender struct {
	c     Config
	data  []byte
	at    int
	sn    byte
	state int
	until time.Time // N_Bs runs out, or the next frame is due
	gap   time.Duration
	left  int // consecutive frames of this block; -1: no end
	waits int
	err   error
}

const (
	toStart = iota
	awaitsFlow
	sending
	finished
)

// NewSender begins a message.
func NewSender(c Config, message []byte) (*Sender, error) {
	if len(message) == 0 || uint64(len(message)) > 1<<32-1 {
		return nil, core.Fail(core.BadFile, "a message has 1 to 4294967295 bytes, this one %d", len(message))
	}
	return &Sender{c: c.or(Defaults), data: message}, nil
}

// Next says what to do at a time: send a frame now (told again by Sent), wait until a
// time, or nothing more.
func (s *Sender) Next(now time.Time) (frame []byte, at time.Time, done bool, err error) {
	switch {
	case s.err != nil:
		return nil, now, true, s.err
	case s.state == finished:
		return nil, now, true, nil
	case s.state == toStart:
		if room := s.c.room() - 1; len(s.data) <= room {
			return s.c.frame([]byte{byte(len(s.data))}, s.data), now, false, nil
		}
		head, n := s.head()
		return s.c.frame(head, s.data[:n]), now, false, nil
	case s.state == awaitsFlow:
		if now.Before(s.until) {
			return nil, s.until, false, nil
		}
		s.err = result(core.NotAnswering, "N_TIMEOUT_Bs", "the module took %d of %d bytes and sent no flow control for %s", s.at, len(s.data), s.c.Bs)
		return nil, now, true, s.err
	case now.Before(s.until):
		return nil, s.until, false, nil
	}
	n := min(s.c.room()-1, len(s.data)-s.at)
	return s.c.frame([]byte{consecutive<<4 | s.sn}, s.data[s.at:s.at+n]), now, false, nil
}

// head is the control information of a first frame, and how many bytes it carries.
func (s *Sender) head() ([]byte, int) {
	n := len(s.data)
	head := []byte{first<<4 | byte(n>>8), byte(n)}
	if n > 4095 { // the escape: a length of 0, and 32 bits behind it
		head = []byte{first << 4, 0, byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}
	}
	return head, s.c.room() - len(head)
}

// Sent says that the frame of Next is on the bus.
func (s *Sender) Sent(now time.Time) {
	switch s.state {
	case toStart:
		if len(s.data) <= s.c.room()-1 {
			s.at, s.state = len(s.data), finished
			return
		}
		_, s.at = s.head()
		s.sn, s.state, s.until = 1, awaitsFlow, now.Add(s.c.Bs)
	case sending:
		s.at += min(s.c.room()-1, len(s.data)-s.at)
		s.sn = (s.sn + 1) & 0xF
		s.until = now.Add(s.gap)
		if s.at == len(s.data) {
			s.state = finished
			return
		}
		if s.left > 0 {
			if s.left--; s.left == 0 {
				s.state, s.until = awaitsFlow, now.Add(s.c.Bs)
			}
		}
	}
}

// Flow takes a flow control: what stands behind an address. One that nobody waits for is
// passed over.
func (s *Sender) Flow(now time.Time, pci []byte) {
	if s.state != awaitsFlow || s.err != nil {
		return
	}
	if len(pci) < 3 {
		s.err = result(core.RefusedByUnit, "N_ERROR", "the module's flow control has %d bytes, 3 are the least", len(pci))
		return
	}
	switch pci[0] & 0xF {
	case clearToSend:
		s.state, s.waits, s.gap, s.until = sending, 0, Separation(pci[2]), now
		if s.left = int(pci[1]); s.left == 0 {
			s.left = -1
		}
	case wait:
		if s.waits++; s.waits > s.c.Waits {
			s.err = result(core.NotAnswering, "N_WFT_OVRN", "the module asked %d times in a row to wait", s.waits)
			return
		}
		s.until = now.Add(s.c.Bs)
	case overflow:
		s.err = result(core.RefusedByUnit, "N_BUFFER_OVFLW", "the module has no room for a message of %d bytes", len(s.data))
	default:
		s.err = result(core.RefusedByUnit, "N_INVALID_FS", "the module's flow status is %d, which has no meaning", pci[0]&0xF)
	}
}

// Receiver puts messages together, one after another.
type Receiver struct {
	c       Config
	message []byte
	length  int
	sn      byte
	left    int // consecutive frames until this end answers again; -1: never
	until   time.Time
}

// NewReceiver waits for messages.
func NewReceiver(c Config) *Receiver { return &Receiver{c: c.or(Defaults)} }

// Until is when N_Cr runs out; zero while no message is coming.
func (r *Receiver) Until() time.Time { return r.until }

// Expire ends a message of which no more came in time.
func (r *Receiver) Expire(now time.Time) error {
	if r.until.IsZero() || now.Before(r.until) {
		return nil
	}
	err := result(core.NotAnswering, "N_TIMEOUT_Cr", "a message of %d bytes broke off after %d: nothing came for %s", r.length, len(r.message), r.c.Cr)
	r.drop()
	return err
}

func (r *Receiver) drop() { r.message, r.length, r.until = nil, 0, time.Time{} }

// Heard takes what stands behind an address in a frame. reply is a frame to send at once,
// message one that is whole. An error ends the message that was coming, and no other.
func (r *Receiver) Heard(now time.Time, pci []byte) (reply, message []byte, err error) {
	if len(pci) == 0 {
		return nil, nil, nil
	}
	switch pci[0] >> 4 {
	case single:
		n := int(pci[0] & 0xF)
		if n == 0 || n > len(pci)-1 || n > r.c.room()-1 { // passed over, as the standard says
			return nil, nil, nil
		}
		err = r.interrupted()
		return nil, append([]byte(nil), pci[1:1+n]...), err
	case first:
		return r.first(now, pci)
	case consecutive:
		return r.consecutive(now, pci)
	}
	return nil, nil, nil
}

// interrupted ends a message that another one has overtaken.
func (r *Receiver) interrupted() error {
	if r.until.IsZero() {
		return nil
	}
	err := result(core.Interrupted, "N_UNEXP_PDU", "a message of %d bytes broke off after %d: another one began", r.length, len(r.message))
	r.drop()
	return err
}

func (r *Receiver) first(now time.Time, pci []byte) (reply, message []byte, err error) {
	if len(pci) < r.c.room() {
		return nil, nil, nil // a first frame is always full
	}
	n, head := int(pci[0]&0xF)<<8|int(pci[1]), 2
	if n == 0 {
		n, head = int(pci[2])<<24|int(pci[3])<<16|int(pci[4])<<8|int(pci[5]), 6
		if n <= 4095 {
			return nil, nil, nil
		}
	}
	if n <= r.c.room()-1 { // it would have fitted into a single frame
		return nil, nil, nil
	}
	err = r.interrupted()
	if n > r.c.Largest {
		return r.c.frame([]byte{flow<<4 | overflow, 0, 0}), nil, err
	}
	r.length, r.sn, r.until = n, 1, now.Add(r.c.Cr)
	r.message = append(make([]byte, 0, min(n, 4096)), pci[head:]...)
	return r.clear(), nil, err
}

// clear is the flow control that lets the other one go on.
func (r *Receiver) clear() []byte {
	if r.left = int(r.c.BlockSize); r.left == 0 {
		r.left = -1
	}
	return r.c.frame([]byte{flow<<4 | clearToSend, r.c.BlockSize, r.c.SeparationTime})
}

func (r *Receiver) consecutive(now time.Time, pci []byte) (reply, message []byte, err error) {
	if r.until.IsZero() {
		return nil, nil, nil
	}
	if pci[0]&0xF != r.sn {
		err = result(core.Interrupted, "N_WRONG_SN", "a message of %d bytes broke off after %d: frame %d came where %d was due", r.length, len(r.message), pci[0]&0xF, r.sn)
		r.drop()
		return nil, nil, err
	}
	n := min(r.length-len(r.message), r.c.room()-1)
	if len(pci)-1 < n { // too short for what is due: as if it were lost
		return nil, nil, nil
	}
	r.message = append(r.message, pci[1:1+n]...)
	r.sn, r.until = (r.sn+1)&0xF, now.Add(r.c.Cr)
	if len(r.message) == r.length {
		message = r.message
		r.drop()
		return nil, message, nil
	}
	if r.left > 0 {
		if r.left--; r.left == 0 {
			return r.clear(), nil, nil
		}
	}
	return nil, nil, nil
}

package sim

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"strconv"
	"time"
)

// A CAN adapter that speaks the ASCII framing documented by Linux as slcan, with one
// vehicle module on its bus, which speaks ISO 15765-2 and the services of module.go. The
// adapter has the bench's power; the module has its own.

// canBits is a frame of classic CAN with 8 bytes, stuffing included, about (ISO 11898-1).
const canBits = 130

// CanSpeed is the adapter's serial speed: one on USB has none, and is as fast as that.
const CanSpeed = 2_000_000

// Identifiers of the module on the bus.
const (
	CanRequest  = 0x642
	CanResponse = 0x64A
)

const (
	canWaits = time.Second // N_Cr, N_Bs
	canRoom  = 4095        // the longest message that the module takes
)

// canBus is the adapter and the module's transport.
type canBus struct {
	m    module
	rate int // bit/s; 0 while the bus is closed
	free time.Time

	got   []byte // of a message that is coming
	want  int    // 0: none is
	next  byte
	until time.Time // N_Cr

	waiting [][]byte // messages to go
	going   []byte   // the one that goes
	sent    int
	sn      byte
	asked   time.Time // since when it waits for a flow control; zero: it does not
	since   int       // frames that came since it sent one
}

func (c *canBus) at() uart { return uart{CanSpeed, "none", false} }

// enter is a restart of the module; the adapter knows nothing of it.
func (c *canBus) enter() {
	c.m.enter()
	c.want, c.got, c.waiting, c.going = 0, nil, nil, nil
}

func (c *canBus) called() bool { return true }

// rates are those of the digits behind S.
var rates = []int{10_000, 20_000, 50_000, 100_000, 125_000, 250_000, 500_000, 800_000, 1_000_000}

// turn takes a line from the bench.
func (c *canBus) turn() bool {
	u := c.m.u
	i := bytes.IndexByte(u.rx, '\r')
	if i < 0 {
		if len(u.rx) > 64 {
			u.rx = u.rx[:0]
		}
		return false
	}
	line := string(u.rx[:i])
	u.rx = append(u.rx[:0], u.rx[i+1:]...)
	const well, bad = "\r", "\a"
	now := u.clock.Now()
	say := func(s string) { c.toBench(s, now) }
	switch {
	case line == "":
		say(well)
	case line == "C" && c.rate > 0:
		c.rate = 0
		say(well)
	case line[0] == 'S' && len(line) == 2 && c.rate == 0 && line[1] >= '0' && line[1] <= '8':
		c.free = now
		c.m.bus = rates[line[1]-'0']
		say(well)
	case line == "O" && c.rate == 0 && c.m.bus > 0:
		c.rate = c.m.bus
		say(well)
	case line == "V":
		say("V1013\r")
	case line[0] == 't' && c.rate > 0:
		id, data, ok := readFrame(line[1:])
		if !ok {
			say(bad)
			return true
		}
		c.bus(now)
		if !u.listens() || c.rate != u.busRate() { // nobody takes it: the adapter gives up
			c.toBench(bad, c.free.Add(u.scaled(10*time.Millisecond)))
			return true
		}
		c.toBench("z\r", c.free)
		if id == CanRequest && !u.faults.Silent && !c.lost() {
			u.busy = later(u.busy, c.free)
			c.frame(data)
		}
	default:
		say(bad)
	}
	return true
}

func later(a, b time.Time) time.Time {
	if a.Before(b) {
		return b
	}
	return a
}

// busRate is the rate of the module's bus.
func (u *Unit) busRate() int {
	if u.Bus == 0 {
		return 500_000
	}
	return u.Bus
}

func readFrame(s string) (id uint64, data []byte, ok bool) {
	if len(s) < 4 {
		return 0, nil, false
	}
	id, err := strconv.ParseUint(s[:3], 16, 16)
	n := int(s[3] - '0')
	if err != nil || n < 0 || n > 8 || len(s) != 4+2*n {
		return 0, nil, false
	}
	data, err = hex.DecodeString(s[4:])
	return id, data, err == nil
}

// bus takes the time of a frame.
func (c *canBus) bus(from time.Time) {
	c.free = later(c.free, from).Add(c.m.u.scaled(canBits * time.Second / time.Duration(c.rate)))
}

// lost tells whether a frame is spoilt on the bus: its check finds that, and nobody gets it.
func (c *canBus) lost() bool {
	n := c.m.u.faults.Noise
	return n > 0 && c.m.u.random.Float64() < 8*n
}

func (c *canBus) toBench(s string, at time.Time) {
	if a := c.m.u.adapter; a != nil {
		a.say([]byte(s), at)
	}
}

// put sends a frame of the module.
func (c *canBus) put(at time.Time, data ...byte) {
	u := c.m.u
	if c.rate == 0 || c.rate != u.busRate() || !u.listens() || u.faults.Silent {
		return
	}
	c.bus(at)
	if !c.lost() {
		c.toBench(fmt.Sprintf("t%03X%d%X\r", CanResponse, len(data), data), c.free)
	}
}

// frame takes what came in a frame for the module.
func (c *canBus) frame(b []byte) {
	u := c.m.u
	if len(b) == 0 {
		return
	}
	now := u.busy
	if c.want > 0 && now.After(c.until) {
		c.want, c.got = 0, nil
	}
	switch b[0] >> 4 {
	case 0:
		if n := int(b[0] & 0xF); n > 0 && n < len(b) {
			c.want = 0
			c.take(b[1 : 1+n])
		}
	case 1:
		if len(b) < 8 {
			return
		}
		n, head := int(b[0]&0xF)<<8|int(b[1]), 2
		if n == 0 {
			n, head = int(b[2])<<24|int(b[3])<<16|int(b[4])<<8|int(b[5]), 6
		}
		if n > canRoom {
			c.put(now, 0x32, 0, 0)
			return
		}
		c.want, c.next, c.got, c.until = n, 1, append([]byte(nil), b[head:]...), now.Add(canWaits)
		c.since = 0
		c.put(now, 0x30, u.BlockSize, 0)
	case 2:
		if c.want == 0 {
			return
		}
		if b[0]&0xF != c.next {
			c.want, c.got = 0, nil
			return
		}
		c.got = append(c.got, b[1:]...)
		c.next, c.until = (c.next+1)&0xF, now.Add(canWaits)
		if len(c.got) >= c.want {
			q := c.got[:c.want]
			c.want, c.got = 0, nil
			c.take(q)
		} else if c.since++; u.BlockSize > 0 && c.since == int(u.BlockSize) {
			c.since = 0
			c.put(now, 0x30, u.BlockSize, 0)
		}
	case 3:
		c.flow(b)
	}
}

// take carries out a request.
func (c *canBus) take(q []byte) {
	c.m.handle(append([]byte(nil), q...), func(m []byte) { c.send(append([]byte(nil), m...)) })
}

// send begins a message, or queues it behind the one that goes.
func (c *canBus) send(m []byte) {
	now := later(c.m.u.busy, c.m.u.clock.Now())
	if c.going != nil && now.Sub(c.asked) < canWaits {
		c.waiting = append(c.waiting, m)
		return
	}
	c.going = nil
	if len(m) < 8 {
		c.put(now, append([]byte{byte(len(m))}, m...)...)
		return
	}
	c.going, c.sent, c.sn, c.asked = m, 6, 1, now
	c.put(now, append([]byte{0x10 | byte(len(m)>>8), byte(len(m))}, m[:6]...)...)
}

// flow takes a flow control of the bench.
func (c *canBus) flow(b []byte) {
	if c.going == nil || len(b) < 3 {
		return
	}
	now := c.m.u.busy
	switch b[0] & 0xF {
	case 1:
		c.asked = now
		return
	case 2:
		c.going = nil
		return
	}
	block, gap := int(b[1]), time.Duration(b[2])*time.Millisecond
	if b[2] > 0xF0 {
		gap = time.Duration(b[2]-0xF0) * 100 * time.Microsecond
	}
	for n := 0; c.sent < len(c.going) && (block == 0 || n < block); n++ {
		part := c.going[c.sent:min(c.sent+7, len(c.going))]
		c.put(now, append([]byte{0x20 | c.sn}, part...)...)
		now = now.Add(gap)
		c.sent, c.sn = c.sent+len(part), (c.sn+1)&0xF
	}
	c.asked = now
	if c.sent == len(c.going) {
		c.going = nil
		if len(c.waiting) > 0 {
			m := c.waiting[0]
			c.waiting = c.waiting[1:]
			c.send(m)
		}
	}
}

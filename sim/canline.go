package sim

import (
	"bytes"
	"cmp"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"time"
)

// A CAN adapter that speaks the ASCII framing documented by Linux as slcan. On its bus is
// one vehicle module, or, of an adapter that is no module itself, all of a vehicle; they
// speak ISO 15765-2 and the services of module.go. The adapter has the bench's power; the
// modules have their own.

// canBits is a frame of classic CAN with 8 bytes, stuffing included, about (ISO 11898-1).
const canBits = 130

// CanSpeed is the adapter's serial speed: one on USB has none, and is as fast as that.
const CanSpeed = 2_000_000

// Identifiers of a module on the bus that has no others, and the one at which all modules
// of a vehicle are spoken to at once (ISO 15765-4).
const (
	CanRequest  = 0x642
	CanResponse = 0x64A
	CanAll      = 0x7DF
)

const (
	canWaits = time.Second // N_Cr, N_Bs
	canRoom  = 4095        // the longest message that a module takes
)

// canBus is the adapter, and the bus behind it.
type canBus struct {
	u    *Unit
	told int // bit/s that it was told
	rate int // bit/s; 0 while the bus is closed
	free time.Time
	node *canNode                   // on the table; nil where a vehicle is on the bus
	all  map[*Unit]chan func(*Unit) // of a vehicle: what its modules are to take, one after another
}

// canNode is a module's transport.
type canNode struct {
	m   module
	put func(at time.Time, data ...byte) // a frame of the module, onto the bus on which it was asked

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

// CanAdapter is a CAN adapter for the bus of a vehicle (Vehicle.Bus).
func CanAdapter(name string) Spec {
	return Spec{Name: name, Kind: "can-adapter", Baud: CanSpeed, Size: 256, Sector: 256, Window: 16 << 10}
}

func newCanBus(u *Unit) *canBus {
	c := &canBus{u: u}
	if u.Kind == "module" {
		c.node = &canNode{m: module{u: u}}
		c.node.put = func(at time.Time, data ...byte) { c.put(u, at, data) }
	}
	return c
}

// request and response are the module's identifiers on the bus.
func (u *Unit) request() uint64  { return uint64(cmp.Or(u.Request, CanRequest)) }
func (u *Unit) response() uint32 { return cmp.Or(u.Response, CanResponse) }

func (c *canBus) at() uart { return uart{CanSpeed, "none", false} }

// enter is a restart of the module; the adapter knows nothing of it.
func (c *canBus) enter() {
	if n := c.node; n != nil {
		n.m.enter()
		n.want, n.got, n.waiting, n.going = 0, nil, nil, nil
	}
}

func (c *canBus) called() bool { return true }

// rates are those of the digits behind S.
var rates = []int{10_000, 20_000, 50_000, 100_000, 125_000, 250_000, 500_000, 800_000, 1_000_000}

// turn takes a line from the bench.
func (c *canBus) turn() bool {
	u := c.u
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
		c.told = rates[line[1]-'0']
		say(well)
	case line == "O" && c.rate == 0 && c.told > 0:
		c.rate = c.told
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
		if !c.heard() { // nobody takes it: the adapter gives up
			c.toBench(bad, c.free.Add(u.scaled(10*time.Millisecond)))
			return true
		}
		c.toBench("z\r", c.free)
		if u.faults.Stranger {
			c.toBench(fmt.Sprintf("t%03X3023E00\r", CanRequest), c.free)
		}
		if c.node == nil {
			c.pass(id, data)
		} else if id == u.request() {
			c.node.frame(data, c.free, false)
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
	c.free = later(c.free, from).Add(c.u.scaled(canBits * time.Second / time.Duration(c.rate)))
}

// heard tells whether anybody on the bus takes a frame.
func (c *canBus) heard() bool {
	if c.node != nil {
		return c.u.listens() && c.rate == c.u.busRate()
	}
	return c.rate == c.u.busRate() && c.u.vehicle.awake()
}

// pass hands a frame to the modules of the vehicle for which it is. Each takes its own one
// after another, and is not held up by another one's work.
func (c *canBus) pass(id uint64, data []byte) {
	at := c.free
	for _, m := range c.u.vehicle.in() {
		if id != CanAll && id != m.request() {
			continue
		}
		if c.all == nil {
			c.all = map[*Unit]chan func(*Unit){}
		}
		queue := c.all[m]
		if queue == nil {
			queue = make(chan func(*Unit), 256)
			c.all[m] = queue
			go func() {
				for {
					select {
					case do := <-queue:
						m.mu.Lock()
						do(m)
						m.mu.Unlock()
					case <-m.ended:
						return
					}
				}
			}()
		}
		take := func(m *Unit) {
			b, ok := m.boot.(*canBus)
			if !ok || b.node == nil || !m.listens() {
				return
			}
			b.node.put = func(at time.Time, data ...byte) {
				c.u.mu.Lock()
				defer c.u.mu.Unlock()
				c.put(m, at, data)
			}
			b.node.frame(data, at, id == CanAll)
		}
		select {
		case queue <- take:
		default: // it is asked faster than it can take it: lost
		}
	}
}

// lost tells whether a frame of a module, or for it, is spoilt on the bus: its check finds
// that, and nobody gets it.
func (u *Unit) lost() bool {
	n := u.faults.Noise
	return n > 0 && u.random.Float64() < 8*n
}

func (c *canBus) toBench(s string, at time.Time) {
	if a := c.u.adapter; a != nil {
		a.say([]byte(s), at)
	}
}

// put sends a frame of a module; called with its lock and the adapter's.
func (c *canBus) put(m *Unit, at time.Time, data []byte) {
	if c.rate == 0 || c.rate != m.busRate() || !m.listens() || m.faults.Silent {
		return
	}
	c.bus(at)
	if !m.lost() {
		c.toBench(fmt.Sprintf("t%03X%d%X\r", m.response(), len(data), data), c.free)
	}
}

// frame takes what came in a frame for the module, or for all of them.
func (n *canNode) frame(b []byte, at time.Time, toAll bool) {
	u := n.m.u
	if len(b) == 0 || u.faults.Silent || u.lost() || toAll && b[0]>>4 != 0 {
		return
	}
	u.busy = later(u.busy, at)
	now := u.busy
	if n.want > 0 && now.After(n.until) {
		n.want, n.got = 0, nil
	}
	switch b[0] >> 4 {
	case 0:
		if l := int(b[0] & 0xF); l > 0 && l < len(b) {
			if !toAll {
				n.want = 0
			}
			n.take(b[1:1+l], toAll)
		}
	case 1:
		if len(b) < 8 {
			return
		}
		l, head := int(b[0]&0xF)<<8|int(b[1]), 2
		if l == 0 {
			l, head = int(b[2])<<24|int(b[3])<<16|int(b[4])<<8|int(b[5]), 6
		}
		if l > canRoom {
			n.put(now, 0x32, 0, 0)
			return
		}
		n.want, n.next, n.got, n.until = l, 1, append([]byte(nil), b[head:]...), now.Add(canWaits)
		n.since = 0
		n.put(now, 0x30, u.BlockSize, 0)
	case 2:
		if n.want == 0 {
			return
		}
		if b[0]&0xF != n.next {
			n.want, n.got = 0, nil
			return
		}
		n.got = append(n.got, b[1:]...)
		n.next, n.until = (n.next+1)&0xF, now.Add(canWaits)
		if len(n.got) >= n.want {
			q := n.got[:n.want]
			n.want, n.got = 0, nil
			n.take(q, false)
		} else if n.since++; u.BlockSize > 0 && n.since == int(u.BlockSize) {
			n.since = 0
			n.put(now, 0x30, u.BlockSize, 0)
		}
	case 3:
		n.flow(b)
	}
}

// take carries out a request.
func (n *canNode) take(q []byte, toAll bool) {
	n.m.handle(append([]byte(nil), q...), func(m []byte) {
		if !toAll || !passedOver(m) {
			n.send(append([]byte(nil), m...))
		}
	})
}

// passedOver tells whether an answer to what is asked of all modules is kept to itself: a
// module to which it does not apply is silent (ISO 14229-1).
func passedOver(m []byte) bool {
	return len(m) == 3 && m[0] == 0x7F && slices.Contains([]byte{nrcService, nrcForm, nrcRange, 0x7E, nrcSession}, m[2])
}

// send begins a message, or queues it behind the one that goes.
func (n *canNode) send(m []byte) {
	now := later(n.m.u.busy, n.m.u.clock.Now())
	if n.going != nil && now.Sub(n.asked) < canWaits {
		n.waiting = append(n.waiting, m)
		return
	}
	n.going = nil
	if len(m) < 8 {
		n.put(now, append([]byte{byte(len(m))}, m...)...)
		return
	}
	n.going, n.sent, n.sn, n.asked = m, 6, 1, now
	n.put(now, append([]byte{0x10 | byte(len(m)>>8), byte(len(m))}, m[:6]...)...)
}

// flow takes a flow control of the bench.
func (n *canNode) flow(b []byte) {
	if n.going == nil || len(b) < 3 {
		return
	}
	now := n.m.u.busy
	switch b[0] & 0xF {
	case 1:
		n.asked = now
		return
	case 2:
		n.going = nil
		return
	}
	block, gap := int(b[1]), time.Duration(b[2])*time.Millisecond
	if b[2] > 0xF0 {
		gap = time.Duration(b[2]-0xF0) * 100 * time.Microsecond
	}
	for i := 0; n.sent < len(n.going) && (block == 0 || i < block); i++ {
		part := n.going[n.sent:min(n.sent+7, len(n.going))]
		n.put(now, append([]byte{0x20 | n.sn}, part...)...)
		now = now.Add(gap)
		n.sent, n.sn = n.sent+len(part), (n.sn+1)&0xF
	}
	n.asked = now
	if n.sent == len(n.going) {
		n.going = nil
		if len(n.waiting) > 0 {
			m := n.waiting[0]
			n.waiting = n.waiting[1:]
			n.send(m)
		}
	}
}

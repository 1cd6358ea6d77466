package sim

import (
	"encoding/binary"
	"net"
	"sync"
	"time"
)

// connection is one visitor of the unit's serial server: Telnet (RFC 854) with
// the com port option (RFC 2217, section 3).
type connection struct {
	net.Conn
	adapter *adapter
	write   sync.Mutex
}

// accept serves one visitor at a time; a second one is turned away.
func (u *Unit) accept() {
	for {
		raw, err := u.listener.Accept()
		if err != nil {
			return
		}
		u.vacant()
		c := &connection{Conn: raw}
		if c.adapter = u.plug(c); c.adapter == nil {
			raw.Close()
			continue
		}
		go c.adapter.carry(c.listen)
	}
}

// plug puts an adapter on the unit; nil if another is there.
func (u *Unit) plug(h host) *adapter {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.adapter != nil {
		return nil
	}
	u.adapter = newAdapter(u, h)
	return u.adapter
}

// vacant gives a visitor who has hung up a moment to be gone.
func (u *Unit) vacant() {
	for range 100 {
		u.mu.Lock()
		free := u.adapter == nil
		u.mu.Unlock()
		if free {
			return
		}
		select {
		case <-u.clock.After(5 * time.Millisecond):
		case <-u.ended:
			return
		}
	}
}

func (c *connection) deliver(data []byte) { c.raw(double(data)) }

// lineState and modemState are notices 106 and 107 of RFC 2217, section 3.
func (c *connection) lineState(bits byte)  { c.command(106, bits) }
func (c *connection) modemState(bits byte) { c.command(107, bits) }

func (c *connection) raw(b []byte) {
	c.write.Lock()
	defer c.write.Unlock()
	c.SetWriteDeadline(time.Now().Add(10 * time.Second))
	if _, err := c.Conn.Write(b); err != nil {
		c.adapter.unplug()
	}
}

func (c *connection) command(code byte, value ...byte) {
	c.raw(append(append([]byte{255, 250, 44, code}, double(value)...), 255, 240))
}

func double(b []byte) []byte {
	out := make([]byte, 0, len(b)+8)
	for _, x := range b {
		if out = append(out, x); x == 255 {
			out = append(out, 255)
		}
	}
	return out
}

// listen takes the visitor's stream apart.
func (c *connection) listen() {
	buf := make([]byte, 8192)
	var sub, data []byte
	state := 0 // 0 data, 1 IAC, 2 DO, 3 WILL, 4 other verb, 5 in a sub-negotiation, 6 IAC in one
	for {
		n, err := c.Conn.Read(buf)
		data = data[:0]
		for _, x := range buf[:n] {
			switch state {
			case 0:
				if x == 255 {
					state = 1
				} else {
					data = append(data, x)
				}
			case 1:
				state = map[byte]int{253: 2, 251: 3, 252: 4, 254: 4, 250: 5}[x]
				if x == 255 {
					data = append(data, x)
				}
				sub = sub[:0]
			case 2: // DO: we will, for binary and SGA
				if x == 0 || x == 3 {
					c.raw([]byte{255, 251, x})
				} else {
					c.raw([]byte{255, 252, x})
				}
				state = 0
			case 3: // WILL: do
				if x == 0 || x == 3 || x == 44 {
					c.raw([]byte{255, 253, x})
				} else {
					c.raw([]byte{255, 254, x})
				}
				state = 0
			case 4:
				state = 0
			case 5:
				if x == 255 {
					state = 6
				} else if len(sub) < 64 {
					sub = append(sub, x)
				}
			case 6:
				state = 5
				if x == 240 {
					state = 0
					c.set(sub)
				} else if len(sub) < 64 {
					sub = append(sub, x)
				}
			}
		}
		if len(data) > 0 && !c.adapter.take(append([]byte(nil), data...)) || err != nil {
			return
		}
	}
}

var parityNames = map[byte]string{1: "none", 2: "odd", 3: "even"}

// set carries out a com port command and answers with what is in force.
func (c *connection) set(sub []byte) {
	if len(sub) < 2 || sub[0] != 44 {
		return
	}
	code, value := sub[1], append([]byte(nil), sub[2:]...)
	u := c.adapter.unit
	u.mu.Lock()
	delay := 2 * time.Duration(u.faults.Delay) * time.Millisecond
	u.mu.Unlock()
	if delay > 0 { // a slow network delays the server's own answers too
		<-u.clock.After(delay)
	}
	on, off := true, false
	switch {
	case code == 1 && len(value) == 4:
		u.mu.Lock()
		if b := int(binary.BigEndian.Uint32(value)); b > 0 {
			c.adapter.mode.baud = b
		}
		u.mu.Unlock()
	case code == 3 && len(value) == 1 && parityNames[value[0]] != "":
		u.mu.Lock()
		c.adapter.mode.parity = parityNames[value[0]]
		u.mu.Unlock()
	case code == 5 && len(value) == 1:
		switch value[0] {
		case 5:
			u.broken()
		case 8:
			u.lines(&on, nil)
		case 9:
			u.lines(&off, nil)
		case 11:
			u.lines(nil, &on)
		case 12:
			u.lines(nil, &off)
		}
	}
	c.command(code+100, value...)
	if code == 11 { // how the lines stand, without a change: DSR is the unit's power
		u.mu.Lock()
		state := byte(0)
		if u.powered {
			state = 0x20
		}
		u.mu.Unlock()
		c.modemState(state)
	}
}

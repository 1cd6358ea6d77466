package sim

import (
	"bytes"
	"strconv"
	"strings"
	"time"
)

// fileBoot is a loader that waits for a file: XMODEM or YMODEM, written from
// Forsberg, "XMODEM/YMODEM Protocol Reference" (1988). It asks with C until the
// first block comes, writes each block as it arrives, and starts the program when
// the file is whole.
type fileBoot struct {
	u       *Unit
	batch   bool
	begun   bool   // the first block of data has come
	named   bool   // YMODEM: block 0 has come
	last    bool   // YMODEM: waits for the empty block 0
	next    byte   // number of the block that is due
	place   uint64 // where it goes
	left    int    // bytes of the file that are still to come; -1 if nobody said
	erased  uint64 // memory is erased up to here
	refused bool
	tick    int
}

const (
	soh = 0x01
	stx = 0x02
	eot = 0x04
	ack = 0x06
	nak = 0x15
	can = 0x18
)

func (f *fileBoot) enter() {
	*f = fileBoot{u: f.u, batch: f.batch, place: f.u.Program, erased: f.u.Program, left: -1, next: 1, tick: f.tick + 1}
	if f.batch {
		f.next = 0
	}
	f.ask(f.tick)
}

func (f *fileBoot) at() uart { return uart{f.u.Baud, f.u.Parity, f.u.Inverted} }

func (f *fileBoot) called() bool { return f.begun || f.named }

// ask sends C, and again as long as nothing comes.
func (f *fileBoot) ask(tick int) {
	u := f.u
	if f.tick != tick || !u.inLoader {
		return
	}
	u.speak([]byte{'C'}, u.clock.Now())
	u.afterWaiting(3*time.Second, func() { f.ask(tick) })
}

// missed asks again for the block in hand if nothing comes for ten seconds.
func (f *fileBoot) missed() {
	f.tick++
	tick, u := f.tick, f.u
	u.afterWaiting(10*time.Second, func() {
		if f.tick == tick && u.inLoader {
			u.rx = u.rx[:0]
			u.speak([]byte{nak}, u.clock.Now())
			f.missed()
		}
	})
}

// stalled gives up a block whose bytes stop coming for a second.
func (u *Unit) stalled(do func()) {
	u.piece++
	piece := u.piece
	u.afterWaiting(time.Second, func() {
		if u.piece == piece && len(u.rx) > 0 {
			u.rx = u.rx[:0]
			do()
		}
	})
}

func (f *fileBoot) say(b ...byte) { f.u.speak(b, f.u.busy) }

func crc16(b []byte) uint16 {
	var crc uint16
	for _, c := range b {
		crc ^= uint16(c) << 8
		for range 8 {
			if crc&0x8000 != 0 {
				crc = crc<<1 ^ 0x1021
			} else {
				crc <<= 1
			}
		}
	}
	return crc
}

func (f *fileBoot) turn() bool {
	u := f.u
	for len(u.rx) > 0 && u.rx[0] != soh && u.rx[0] != stx && u.rx[0] != eot && u.rx[0] != can {
		u.rx = append(u.rx[:0], u.rx[1:]...)
	}
	if len(u.rx) == 0 {
		return false
	}
	switch u.rx[0] {
	case eot:
		u.rx = u.rx[:0]
		f.ended()
		return true
	case can:
		if len(u.rx) < 2 {
			return false
		}
		u.rx = u.rx[:0]
		u.restart(u.strapped())
		return true
	}
	size := 128
	if u.rx[0] == stx {
		size = 1024
	}
	if len(u.rx) < size+5 {
		u.stalled(func() { f.say(nak) })
		return false
	}
	b := bytes.Clone(u.rx[:size+5])
	u.rx = append(u.rx[:0], u.rx[size+5:]...)
	u.piece++
	data, sum := b[3:size+3], uint16(b[size+3])<<8|uint16(b[size+4])
	switch {
	case b[1]^b[2] != 0xFF || crc16(data) != sum:
		u.rx = u.rx[:0]
		f.missed()
		f.say(nak)
	case b[1] == f.next-1 && (f.begun || f.named):
		f.missed()
		f.say(ack) // its answer was lost
	case b[1] != f.next:
		f.say(can, can)
		u.restart(u.strapped())
	default:
		f.missed()
		f.block(data)
	}
	return true
}

// block takes the block that was due.
func (f *fileBoot) block(data []byte) {
	u := f.u
	if f.batch && !f.named {
		name, rest, _ := bytes.Cut(data, []byte{0})
		if len(name) == 0 { // the end of the batch
			f.tick++
			f.say(ack)
			if f.last {
				u.life++
				u.restart(false)
			}
			return
		}
		size, _, _ := strings.Cut(string(rest), " ")
		size, _, _ = strings.Cut(size, "\x00")
		n, err := strconv.Atoi(size)
		room := int(u.Base) + u.Size - int(u.Program)
		if err != nil || n <= 0 || n > room {
			f.say(can, can)
			return
		}
		f.named, f.left, f.next = true, n, 1
		f.say(ack, 'C')
		return
	}
	f.begun = true
	if f.left >= 0 {
		data = data[:min(f.left, len(data))]
		f.left -= len(data)
	}
	for f.erased < f.place+uint64(len(data)) {
		if !u.flash.holds(f.erased, uint64(u.Sector)) || u.closed(f.erased, uint64(u.Sector)) {
			f.say(can, can)
			return
		}
		if !u.labour(u.Erase) {
			u.flash.ruin(f.erased, uint64(u.Sector), u.random)
			return
		}
		u.flash.erase(f.erased, uint64(u.Sector))
		f.erased += uint64(u.Sector)
	}
	if !u.labour(u.Page * time.Duration(len(data)) / 256) {
		return
	}
	u.flash.program(f.place, data)
	f.place += uint64(len(data))
	f.next++
	f.say(ack)
}

// ended is EOT: YMODEM then waits for the next name.
func (f *fileBoot) ended() {
	u := f.u
	f.tick++
	if !f.begun {
		return
	}
	f.say(ack)
	if f.batch {
		f.named, f.begun, f.last, f.next = false, false, true, 0
		f.say('C')
		return
	}
	u.life++
	u.after(20*time.Millisecond, func() { u.restart(false) })
}

package sim

import (
	"encoding/binary"
)

// romBoot is the unit's side of a UART ROM loader, written from AN3155: 0x7F
// finds the speed, each command is followed by its complement, 0x79 and 0x1F are
// yes and no, parity is even.
type romBoot struct {
	u      *Unit
	synced bool
	baud   int
	need   int // bytes that the step in hand waits for
	step   func(b []byte)
}

const (
	romYes = 0x79
	romNo  = 0x1F
)

// romCommands are what this loader offers, in the order of Get.
var romCommands = []byte{0x00, 0x01, 0x02, 0x11, 0x21, 0x31, 0x44, 0x63, 0x73, 0x82, 0x92}

func (r *romBoot) enter() { *r = romBoot{u: r.u} }

// at takes the bench's own speed until the sync byte has fixed it.
func (r *romBoot) at() uart {
	baud := r.baud
	if !r.synced {
		baud = r.u.Baud
		if a := r.u.adapter; a != nil {
			baud = a.mode.baud
		}
	}
	return uart{baud, "even", r.u.Inverted}
}

func (r *romBoot) called() bool { return r.synced }

func (r *romBoot) say(b ...byte) { r.u.speak(b, r.u.busy) }

func (r *romBoot) turn() bool {
	u := r.u
	if !r.synced {
		for i, c := range u.rx {
			if c == 0x7F {
				u.rx = append(u.rx[:0], u.rx[i+1:]...)
				r.baud = r.at().baud
				r.synced = true
				r.command()
				r.say(romYes)
				return true
			}
		}
		u.rx = u.rx[:0]
		return false
	}
	if len(u.rx) < r.need {
		return false
	}
	b := append([]byte(nil), u.rx[:r.need]...)
	u.rx = append(u.rx[:0], u.rx[r.need:]...)
	r.step(b)
	return true
}

// command waits for the next command.
func (r *romBoot) command() { r.need, r.step = 2, r.obey }

func (r *romBoot) refuse() {
	r.command()
	r.say(romNo)
}

func (r *romBoot) obey(b []byte) {
	u := r.u
	if b[0]^b[1] != 0xFF {
		r.u.rx = r.u.rx[:0]
		r.refuse()
		return
	}
	r.command()
	locked := u.locked
	switch b[0] {
	case 0x00: // Get: version and commands
		r.say(append(append([]byte{romYes, byte(len(romCommands)), 0x31}, romCommands...), romYes)...)
	case 0x01: // Get version, and two option bytes
		r.say(romYes, 0x31, 0, 0, romYes)
	case 0x02: // Get ID
		r.say(romYes, 1, byte(u.ChipID>>8), byte(u.ChipID), romYes)
	case 0x11, 0x31, 0x21:
		if locked || b[0] == 0x11 && u.NoRead {
			r.refuse()
			return
		}
		r.say(romYes)
		r.need, r.step = 5, func(a []byte) { r.addressed(b[0], a) }
	case 0x44:
		if locked {
			r.refuse()
			return
		}
		r.say(romYes)
		r.need, r.step = 2, r.erase
	case 0x63: // write protect: N-1, N sector numbers, checksum
		if locked {
			r.refuse()
			return
		}
		r.say(romYes)
		r.need, r.step = 1, func(n []byte) {
			r.need, r.step = int(n[0])+2, func(list []byte) {
				if !summed(append(n, list...)) {
					r.refuse()
					return
				}
				for _, s := range list[:len(list)-1] {
					u.guarded[u.Base+uint64(s)*uint64(u.Sector)] = true
				}
				r.say(romYes)
				u.restart(true)
			}
		}
	case 0x73: // write unprotect
		clear(u.guarded)
		r.say(romYes, romYes)
		u.restart(true)
	case 0x82: // readout protect
		r.say(romYes, romYes)
		u.lock(true)
		u.restart(true)
	case 0x92: // readout unprotect: erases all
		r.say(romYes)
		if !u.eraseAll() {
			return
		}
		u.lock(false)
		r.say(romYes)
		u.restart(true)
	default:
		r.refuse()
	}
}

func summed(b []byte) bool {
	x := byte(0)
	for _, c := range b {
		x ^= c
	}
	return x == 0
}

func (r *romBoot) addressed(op byte, a []byte) {
	u := r.u
	at := uint64(binary.BigEndian.Uint32(a))
	if !summed(a) || !u.flash.holds(at, 1) {
		r.refuse()
		return
	}
	r.command()
	r.say(romYes)
	switch op {
	case 0x11: // N-1 and its complement
		r.need, r.step = 2, func(n []byte) {
			if n[0]^n[1] != 0xFF || !u.flash.holds(at, uint64(n[0])+1) {
				r.refuse()
				return
			}
			r.command()
			r.say(append([]byte{romYes}, u.flash.slice(at, uint64(n[0])+1)...)...)
		}
	case 0x31: // N-1, the bytes, their checksum
		r.need, r.step = 1, func(n []byte) {
			r.need, r.step = int(n[0])+2, func(data []byte) {
				if !summed(append(n, data...)) {
					r.refuse()
					return
				}
				r.command()
				data = data[:len(data)-1]
				if u.closed(at, uint64(len(data))) || u.guarded[at-(at-u.Base)%uint64(u.Sector)] {
					r.say(romNo)
					return
				}
				a, ok := u.writeBytes(at, data)
				switch {
				case !ok:
				case a.status == stDone:
					r.say(romYes)
				default:
					r.say(romNo)
				}
			}
		}
	case 0x21:
		u.life++
		u.after(0, u.start)
	}
}

// erase is Extended Erase: 0xFFFF all, 0xFFFE and 0xFFFD a bank, otherwise N-1
// page numbers of two bytes.
func (r *romBoot) erase(n []byte) {
	u := r.u
	count := int(binary.BigEndian.Uint16(n))
	if count >= 0xFFF0 {
		r.need, r.step = 1, func(sum []byte) {
			r.command()
			if !summed(append(n, sum...)) || count < 0xFFFD {
				r.refuse()
				return
			}
			half := uint64(u.Size) / 2
			for at := u.Base; at < u.Base+uint64(u.Size); at += uint64(u.Sector) {
				first := at-u.Base < half
				if count == 0xFFFE && !first || count == 0xFFFD && first {
					continue
				}
				if !r.page(at) {
					return
				}
			}
			r.say(romYes)
		}
		return
	}
	r.need, r.step = 2*(count+1)+1, func(list []byte) {
		r.command()
		if !summed(append(n, list...)) {
			r.refuse()
			return
		}
		for i := 0; i+2 < len(list); i += 2 {
			at := u.Base + uint64(binary.BigEndian.Uint16(list[i:]))*uint64(u.Sector)
			if !u.flash.holds(at, uint64(u.Sector)) || u.closed(at, uint64(u.Sector)) || u.guarded[at] {
				r.refuse()
				return
			}
			if s := u.faults.Stuck; s != nil && *s >= at && *s < at+uint64(u.Sector) {
				r.refuse()
				return
			}
			if !r.page(at) {
				return
			}
		}
		r.say(romYes)
	}
}

func (r *romBoot) page(at uint64) bool {
	u := r.u
	if u.closed(at, uint64(u.Sector)) {
		return true
	}
	if !u.labour(u.Erase) {
		u.flash.ruin(at, uint64(u.Sector), u.random)
		return false
	}
	u.flash.erase(at, uint64(u.Sector))
	return true
}

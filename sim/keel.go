package sim

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"time"
)

// The unit's side of Keel, from docs/protocols/keel.md. Section numbers are of that
// document.

// keelBoot is section 1: a speed once a hail was measured, then one frame at a time.
type keelBoot struct {
	u    *Unit
	baud int       // measured; 0 before the first hail
	seen int       // bytes of a frame that had come when the unit last looked
	when time.Time // and when that was
}

const (
	keelHail  = 0x80
	keelAsk   = 0x96
	keelReply = 0x69
	keelPause = 100 * time.Millisecond // section 2: it ends a frame
)

// Operations, section 5.
const (
	keelWho = iota
	keelRead
	keelWrite
	keelErase
	keelGuard
	keelLock
	keelStart
)

// Statuses, section 4.
const (
	keelDone = iota
	keelLocked
	keelBounds
	keelGuarded
	keelFailed
	keelUnknown
	keelAgain
)

// Abilities of a Keel loader, section 5, as Spec.Lacks takes them away.
const (
	KeelErasePage = 1 << 2
	KeelEraseBank = 1 << 3
	KeelEraseAll  = 1 << 4
	KeelGuards    = 1 << 5
	KeelLocks     = 1 << 6
)

func (k *keelBoot) enter() { *k = keelBoot{u: k.u} }

// at takes the bench's own speed until a hail was measured.
func (k *keelBoot) at() uart {
	baud := k.baud
	if baud == 0 {
		baud = k.u.Baud
		if a := k.u.adapter; a != nil {
			baud = a.mode.baud
		}
	}
	return uart{baud, k.u.Parity, k.u.Inverted}
}

func (k *keelBoot) called() bool { return k.baud > 0 }

// piece is the most bytes of a READ or WRITE.
func (k *keelBoot) piece() int { return min(k.u.WriteMax, 1024) }

// turn takes a hail or a frame out of what has arrived, section 2.
func (k *keelBoot) turn() bool {
	u := k.u
	if k.seen > 0 && len(u.rx) > k.seen && u.rxAt.Sub(k.when) > u.scaled(keelPause) {
		u.rx = append(u.rx[:0], u.rx[k.seen:]...)
	}
	k.seen = 0
	for i, c := range u.rx {
		switch {
		case c == keelHail:
			u.rx = append(u.rx[:0], u.rx[i+1:]...)
			k.baud = k.at().baud
			k.reply(keelWho, keelDone, k.record())
			return true
		case c != keelAsk || k.baud == 0:
			continue
		}
		b := u.rx[i:]
		if len(b) >= 4 && int(binary.LittleEndian.Uint16(b[2:])) > 8+k.piece() {
			continue
		}
		if len(b) < 4 || len(b) < 6+int(binary.LittleEndian.Uint16(b[2:])) {
			u.rx = append(u.rx[:0], b...)
			k.seen, k.when = len(u.rx), u.rxAt
			return false
		}
		n := 4 + int(binary.LittleEndian.Uint16(b[2:]))
		head, body, sum := b[1], bytes.Clone(b[4:n]), binary.LittleEndian.Uint16(b[n:])
		good := v41(b[1:n]) == sum
		u.rx = append(u.rx[:0], b[n+2:]...)
		if !good {
			k.reply(0x0F, keelAgain, nil)
			return true
		}
		k.obey(head, body)
		return true
	}
	u.rx = u.rx[:0]
	return false
}

// v41 is the check of section 2, bit by bit.
func v41(b []byte) uint16 {
	c := uint16(0xFFFF)
	for _, x := range b {
		for bit := 7; bit >= 0; bit-- {
			top := c>>15 ^ uint16(x>>bit&1)
			c <<= 1
			if top == 1 {
				c ^= 0x1021
			}
		}
	}
	return c
}

func (k *keelBoot) reply(head, status byte, body []byte) {
	f := append([]byte{keelReply, head, 0, 0, status}, body...)
	binary.LittleEndian.PutUint16(f[2:], uint16(1+len(body)))
	k.u.speak(binary.LittleEndian.AppendUint16(f, v41(f[1:])), k.u.busy)
}

// abilities, section 5.
func (k *keelBoot) abilities() uint16 {
	all := uint16(0xFF)
	if k.u.Bank == 0 {
		all &^= KeelEraseBank
	}
	if k.u.NoRead {
		all &^= 1 << 0
	}
	return all &^ k.u.Lacks
}

// record is what WHO answers.
func (k *keelBoot) record() []byte {
	u, le := k.u, binary.LittleEndian
	b := le.AppendUint32([]byte{1}, u.ChipID)
	b = le.AppendUint16(b, k.abilities())
	b = le.AppendUint16(b, uint16(k.piece()))
	state := byte(0)
	if u.locked {
		state = 1
	}
	b = append(b, 4, state)
	b = le.AppendUint32(b, uint32(u.Bank))
	b = append(b, 1)
	b = le.AppendUint32(b, uint32(u.Base))
	b = le.AppendUint16(b, uint16(u.Size/u.Sector))
	return le.AppendUint32(b, uint32(u.Sector))
}

// obey carries a request out and answers it; a unit that loses its power on the way
// says nothing.
func (k *keelBoot) obey(head byte, b []byte) {
	u, op := k.u, head&0x0F
	needs := map[byte]uint16{keelRead: 1, keelWrite: 2, keelErase: KeelErasePage | KeelEraseBank | KeelEraseAll, keelGuard: KeelGuards, keelLock: KeelLocks, keelStart: 1 << 7}
	done := func(body ...byte) { k.reply(head, keelDone, body) }
	no := func(status byte) { k.reply(head, status, nil) }
	at := func(status byte, address uint64) {
		k.reply(head, status, binary.LittleEndian.AppendUint32(nil, uint32(address)))
	}
	switch {
	case op == keelWho:
		done(k.record()...)
		return
	case bits.OnesCount16(k.abilities()&needs[op]) == 0:
		no(keelUnknown)
		return
	case u.locked && op >= keelRead && op <= keelGuard:
		no(keelLocked)
		return
	}
	switch op {
	case keelStart:
		done()
		u.life++
		u.after(0, func() { u.restart(false) })
		return
	case keelLock:
		k.lock(b, done, no)
		return
	}
	if len(b) < 5 {
		no(keelBounds)
		return
	}
	address, rest := uint64(binary.LittleEndian.Uint32(b)), b[4:]
	switch op {
	case keelRead:
		n := 0
		if len(rest) == 2 {
			n = int(binary.LittleEndian.Uint16(rest))
		}
		if n == 0 || n > k.piece() || !u.flash.holds(address, uint64(n)) {
			no(keelBounds)
			return
		}
		done(u.sample(address, uint64(n))...)
	case keelWrite:
		n := uint64(len(rest))
		if address%4 != 0 || n%4 != 0 || int(n) > k.piece() || !u.flash.holds(address, n) {
			no(keelBounds)
			return
		}
		if page, found := k.guarded(address, n); found {
			at(keelGuarded, page)
			return
		}
		a, ok := u.writeBytes(address, rest)
		switch {
		case !ok:
		case a.status == stDone:
			done()
		default:
			for i, c := range rest {
				if u.flash.slice(address, n)[i] != c {
					at(keelFailed, address+uint64(i))
					return
				}
			}
			no(keelBounds)
		}
	case keelErase:
		n := uint64(0)
		if len(rest) == 4 {
			n = uint64(binary.LittleEndian.Uint32(rest))
		}
		k.erase(address, n, done, no, at)
	case keelGuard:
		if (address-u.Base)%uint64(u.Sector) != 0 || !u.flash.holds(address, uint64(u.Sector)) || len(rest) != 1 || rest[0] > 2 {
			no(keelBounds)
			return
		}
		if rest[0] != 0 {
			u.guarded[address] = rest[0] == 1
		}
		state, next := byte(0), uint64(0xFFFFFFFF)
		if _, closed := k.guarded(address, 1); closed {
			state = 1
		}
		if end := u.Base + uint64(u.Size); address+uint64(u.Sector) < end {
			if page, found := k.guarded(address+uint64(u.Sector), end-address-uint64(u.Sector)); found {
				next = page
			}
		}
		done(binary.LittleEndian.AppendUint32([]byte{state}, uint32(next))...)
	}
}

// guarded finds the first page of a stretch that is closed to writing.
func (k *keelBoot) guarded(address, length uint64) (uint64, bool) {
	u, page := k.u, uint64(k.u.Sector)
	for p := address - (address-u.Base)%page; p < address+length; p += page {
		if u.guarded[p] || u.closed(p, page) {
			return p, true
		}
	}
	return 0, false
}

// erase is ERASE: exactly a page, a bank or everything.
func (k *keelBoot) erase(address, length uint64, done func(...byte), no func(byte), at func(byte, uint64)) {
	u := k.u
	is := func(of uint64, ability uint16) bool {
		return k.abilities()&ability != 0 && of > 0 && length == of && (address-u.Base)%of == 0
	}
	if !u.flash.holds(address, length) || !is(uint64(u.Sector), KeelErasePage) && !is(uint64(u.Bank), KeelEraseBank) && !is(uint64(u.Size), KeelEraseAll) {
		no(keelBounds)
		return
	}
	if page, found := k.guarded(address, length); found {
		at(keelGuarded, page)
		return
	}
	for p := address; p < address+length; p += uint64(u.Sector) {
		if s := u.faults.Stuck; s != nil && *s >= p && *s < p+uint64(u.Sector) {
			at(keelFailed, p)
			return
		}
		if !u.labour(u.Erase) {
			u.flash.ruin(p, uint64(u.Sector), u.random)
			return
		}
		u.flash.erase(p, uint64(u.Sector))
	}
	done()
}

// lock is LOCK, section 6.
func (k *keelBoot) lock(b []byte, done func(...byte), no func(byte)) {
	u := k.u
	if len(b) != 1 || b[0] > 2 {
		no(keelBounds)
		return
	}
	if b[0] == 2 && u.locked {
		if !u.eraseAll() {
			return
		}
		clear(u.guarded)
	}
	if b[0] != 0 {
		u.lock(b[0] == 1)
	}
	if u.locked {
		done(1)
	} else {
		done(0)
	}
}

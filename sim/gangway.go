package sim

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"hash/crc32"
	"os"
	"time"

	"github.com/fxamacker/cbor/v2"
)

// The unit's side of Gangway, from docs/protocols/gangway.md. Section numbers
// are of that document.

var crcTable = crc32.MakeTable(crc32.Castagnoli)

// gangwayBoot is section 4: the session's number, the tag that is due, and the
// answers already given to requests that must not be done twice.
type gangwayBoot struct {
	u      *Unit
	open   bool
	number uint16
	due    uint16
	given  map[uint16]answer
	gap    int // turn in which a gap was reported, -1 for none
}

func (g *gangwayBoot) enter() { *g = gangwayBoot{u: g.u} }

func (g *gangwayBoot) at() uart {
	baud := g.u.Baud
	if g.u.speed > 0 {
		baud = g.u.speed
	}
	return uart{baud, g.u.Parity, g.u.Inverted}
}

func (g *gangwayBoot) called() bool { return g.open }

// turn takes one frame.
func (g *gangwayBoot) turn() bool {
	u := g.u
	i := bytes.IndexByte(u.rx, 0)
	if i < 0 {
		return false
	}
	frame := bytes.Clone(u.rx[:i])
	u.rx = append(u.rx[:0], u.rx[i+1:]...)
	g.frame(frame)
	return true
}

type answer struct {
	status byte
	body   []byte
}

// Statuses, section 5.
const (
	stDone       = 0
	stWorking    = 1
	stGap        = 2
	stRefused    = 3
	stFailed     = 4
	stUnknown    = 5
	stBadRequest = 6
	stNoSession  = 7
)

// frame takes one frame without its closing zero, sections 2 and 3.
func (g *gangwayBoot) frame(wire []byte) {
	u := g.u
	p := decodeCOBS(wire)
	if len(p) < 10 {
		return
	}
	body, sum := p[:len(p)-4], binary.LittleEndian.Uint32(p[len(p)-4:])
	if crc32.Checksum(body, crcTable) != sum || body[0]&0x80 != 0 {
		return
	}
	op, session, tag, turn := body[0], binary.LittleEndian.Uint16(body[1:]), binary.LittleEndian.Uint16(body[3:]), body[5]
	reply := func(a answer) {
		head := []byte{op | 0x80, body[1], body[2], body[3], body[4], turn, a.status}
		u.speak(encodeFrame(append(head, a.body...)), u.busy)
	}
	if op == 1 {
		if !g.open || g.number != session {
			*g = gangwayBoot{u: u, open: true, number: session, due: tag + 1, given: map[uint16]answer{}, gap: -1}
		}
		u.takeHold()
		reply(answer{stDone, u.identity()})
		return
	}
	s := g
	switch ahead := int16(tag - s.due); {
	case !s.open || s.number != session:
		reply(answer{status: stNoSession})
	case ahead > 0:
		if s.gap != int(turn) {
			s.gap = int(turn)
			reply(answer{stGap, binary.LittleEndian.AppendUint16(nil, s.due)})
		}
	case ahead < 0:
		if a, ok := s.given[tag]; ok {
			reply(a)
		} else if reads(op) { // reading again does no harm
			if a, ok := u.carryOut(op, body[6:], reply); ok {
				reply(a)
			}
		}
	default:
		life := u.life
		a, ok := u.carryOut(op, body[6:], reply)
		if !ok || u.life != life {
			return
		}
		s.gap = -1
		if !reads(op) {
			s.given[tag] = a
			delete(s.given, tag-1024)
		}
		s.due++
		reply(a)
		switch {
		case op == 6 || op == 7:
			if u.OpensFor > 0 && !(len(body) > 6 && body[6] == 1) {
				u.life++
				u.start()
				return
			}
			u.restart(len(body) > 6 && body[6] == 1)
		case op == 10 && a.status == stDone: // once the answer is through, section 6
			speed := int(binary.LittleEndian.Uint32(body[6:]))
			u.after(time.Duration(len(wire)+40)*g.at().character(), func() { u.speed = speed })
		}
	}
}

// reads tells whether an operation changes nothing, so that its answer need not be
// kept: READ, DIGEST, FILES LIST, FILE GET.
func reads(op byte) bool { return op == 2 || op == 5 || op == 13 || op == 14 }

func (u *Unit) identity() []byte {
	serial, revision := u.Serial, u.Revision
	if u.faults.Serial != "" {
		serial = u.faults.Serial
	}
	if u.faults.Revision != "" {
		revision = u.faults.Revision
	}
	chip, locked, runs := u.Chip, u.locked, u.version()
	if t := u.target; t != nil {
		chip, locked, runs = t.Chip, t.locked, ""
		if u.faults.Loose {
			chip = "none"
		}
	}
	ops, no := []int{1}, map[int]string{}
	for op := 2; op <= 18; op++ {
		switch {
		case (op == 8 || op == 9 || op == 18) && u.Settings.Length == 0:
		case op > 12 && op < 18 && u.tree == nil:
		case op == 2 && (u.NoRead || locked):
			no[op] = "reading is locked in this unit"
		case op == 5 && u.NoDigest:
			no[op] = "this loader computes no digests"
		default:
			ops = append(ops, op)
		}
	}
	b, err := cbor.Marshal(map[string]any{"v": 1, "model": u.Says, "rev": revision, "serial": serial, "region": u.Region,
		"run": runs, "chip": chip, "ldr": u.Loader, "mem": u.Size, "wmax": u.WriteMax, "rmax": u.ReadMax, "win": u.Window,
		"er": int(u.Erase / time.Millisecond), "dr": u.DigestBPS, "ops": ops, "no": no, "prot": locked})
	if err != nil {
		panic(err)
	}
	return b
}

// carryOut does what a request asks, section 6. ok is false if the unit lost its
// power on the way.
func (u *Unit) carryOut(op byte, b []byte, reply func(answer)) (a answer, ok bool) {
	bad := func(text string) (answer, bool) { return answer{stBadRequest, []byte(text)}, true }
	if op == 6 || op == 7 {
		return answer{}, true
	}
	if u.target != nil && u.faults.Loose && op != 10 {
		return answer{stFailed, []byte("no chip answers at the header")}, true
	}
	switch op {
	case 10:
		if len(b) != 4 || binary.LittleEndian.Uint32(b) < 1200 || binary.LittleEndian.Uint32(b) > 4_000_000 {
			return bad("no such speed")
		}
		return answer{}, true
	case 11:
		return u.protect(b)
	case 12:
		return answer{body: []byte(u.console(bytes.TrimRight(b, "\r\n")))}, true
	}
	if op > 12 && op <= 17 && u.tree != nil {
		return u.ofTree(op, b)
	}
	if op > 12 && op != 18 || (op == 8 || op == 9 || op == 18) && u.Settings.Length == 0 {
		return answer{status: stUnknown}, true
	}
	if op == 8 {
		text := u.settings()
		if len(b) != 4 {
			return bad("no offset")
		}
		from := min(int(binary.LittleEndian.Uint32(b)), len(text))
		return answer{body: []byte(text[from:min(len(text), from+u.ReadMax)])}, true
	}
	if op == 9 {
		if !u.putSetting(string(b)) {
			return answer{stRefused, []byte("no such setting")}, true
		}
		return answer{}, true
	}
	if op == 18 {
		if !u.dropSetting(string(b)) {
			return answer{stRefused, []byte("it stays")}, true
		}
		return answer{}, true
	}
	if len(b) < 8 {
		return bad("too short")
	}
	address := binary.LittleEndian.Uint64(b)
	if op == 4 {
		return u.writeBytes(address, b[8:])
	}
	if len(b) < 12 {
		return bad("too short")
	}
	length := uint64(binary.LittleEndian.Uint32(b[8:]))
	if !u.flash.holds(address, length) {
		return bad("outside the memory")
	}
	switch op {
	case 2:
		if length > uint64(u.ReadMax) {
			return bad("more than one reply holds")
		}
		if u.NoRead || u.guards().locked {
			return answer{stRefused, []byte("reading is locked")}, true
		}
		return answer{body: u.sample(address, length)}, true
	case 3:
		if (address-u.Base)%uint64(u.Sector) != 0 || length%uint64(u.Sector) != 0 || length == 0 {
			return bad("not whole sectors")
		}
		if u.closed(address, length) {
			return answer{stRefused, []byte("this range is closed")}, true
		}
		if u.waitsForPower(address) {
			return answer{stRefused, []byte("switch the power off and on first")}, true
		}
		return u.eraseSectors(address, length)
	case 5:
		if u.NoDigest {
			return answer{status: stUnknown}, true
		}
		if len(b) < 16 {
			return bad("too short")
		}
		piece := uint64(binary.LittleEndian.Uint32(b[12:]))
		if piece == 0 || length%piece != 0 || length/piece*32 > uint64(u.ReadMax) {
			return bad("pieces do not divide the range or do not fit into one reply")
		}
		return u.digest(address, length, piece, reply)
	}
	return answer{status: stUnknown}, true
}

// protect is PROTECTION: 0 asks, 1 locks reading, 2 lifts that, which erases all
// that the loader may write.
func (u *Unit) protect(b []byte) (answer, bool) {
	if len(b) != 1 || b[0] > 2 {
		return answer{stBadRequest, []byte("not 0, 1 or 2")}, true
	}
	if b[0] == 2 && u.guards().locked {
		if !u.eraseAll() {
			return answer{}, false
		}
	}
	if b[0] != 0 {
		u.guards().lock(b[0] == 1)
	}
	state := byte(0)
	if u.guards().locked {
		state = 1
	}
	return answer{body: []byte{state}}, true
}

// lock sets the protection against reading, which outlives the power.
func (u *Unit) lock(on bool) {
	u.locked = on
	if u.Path != "" {
		os.Remove(u.Path + ".locked")
		if on {
			os.WriteFile(u.Path+".locked", nil, 0o644)
		}
	}
}

// eraseAll erases every sector that the loader may write.
func (u *Unit) eraseAll() bool {
	for at := u.Base; at < u.Base+uint64(u.Size); at += uint64(u.Sector) {
		if u.closed(at, uint64(u.Sector)) {
			continue
		}
		if !u.labour(u.Erase) {
			u.flash.ruin(at, uint64(u.Sector), u.random)
			return false
		}
		u.flash.erase(at, uint64(u.Sector))
	}
	return true
}

func (u *Unit) closed(address, length uint64) bool {
	for _, r := range u.Closed {
		if address < r.Address+r.Length && r.Address < address+length {
			return true
		}
	}
	return false
}

func (u *Unit) eraseSectors(address, length uint64) (answer, bool) {
	for at := address; at < address+length; at += uint64(u.Sector) {
		if !u.labour(u.Erase) {
			u.flash.ruin(at, uint64(u.Sector), u.random)
			return answer{}, false
		}
		if s := u.faults.Stuck; s != nil && *s >= at && *s < at+uint64(u.Sector) {
			return answer{stFailed, []byte("the sector does not erase")}, true
		}
		u.flash.erase(at, uint64(u.Sector))
	}
	return answer{}, true
}

func (u *Unit) writeBytes(address uint64, data []byte) (answer, bool) {
	switch {
	case len(data) == 0 || len(data) > u.WriteMax:
		return answer{stBadRequest, []byte("not 1 to wmax bytes")}, true
	case !u.flash.holds(address, uint64(len(data))):
		return answer{stBadRequest, []byte("outside the memory")}, true
	case u.closed(address, uint64(len(data))):
		return answer{stRefused, []byte("this range is closed")}, true
	case u.waitsForPower(address):
		return answer{stRefused, []byte("switch the power off and on first")}, true
	}
	if l := u.Latch; address >= l.Address && address < l.Address+l.Length {
		u.latched = true
	}
	if !u.labour(u.Page * time.Duration(len(data)) / 256) {
		u.flash.program(address, data[:u.random.IntN(len(data))])
		return answer{}, false
	}
	if !u.flash.program(address, data) {
		return answer{stFailed, []byte("a cell does not hold what was written")}, true
	}
	return answer{}, true
}

func (u *Unit) digest(address, length, piece uint64, reply func(answer)) (answer, bool) {
	var out []byte
	since := u.busy
	for at := address; at < address+length; at += piece {
		if u.DigestBPS > 0 && !u.labour(time.Duration(float64(piece)/float64(u.DigestBPS)*float64(time.Second))) {
			return answer{}, false
		}
		if u.busy.Sub(since) > u.scaled(200*time.Millisecond) {
			since = u.busy
			reply(answer{status: stWorking})
		}
		sum := sha256.Sum256(u.sample(at, piece))
		out = append(out, sum[:]...)
	}
	return answer{body: out}, true
}

// encodeFrame is section 2: CRC-32C, COBS, zero.
func encodeFrame(payload []byte) []byte {
	p := binary.LittleEndian.AppendUint32(payload, crc32.Checksum(payload, crcTable))
	var out []byte
	for {
		n := 0
		for n < len(p) && n < 254 && p[n] != 0 {
			n++
		}
		out = append(append(out, byte(n+1)), p[:n]...)
		switch {
		case n == len(p):
			return append(out, 0)
		case n < 254: // p[n] is the zero that this block stands for
			p = p[n+1:]
			if len(p) == 0 {
				return append(out, 1, 0)
			}
		default:
			p = p[n:]
		}
	}
}

// decodeCOBS returns nil for what is not COBS.
func decodeCOBS(b []byte) []byte {
	var out []byte
	for i := 0; i < len(b); {
		n := int(b[i])
		if n == 0 || i+n > len(b) {
			return nil
		}
		out = append(out, b[i+1:i+n]...)
		i += n
		if n < 255 && i < len(b) {
			out = append(out, 0)
		}
	}
	return out
}

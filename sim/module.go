package sim

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"slices"
	"strings"
	"time"
)

// A vehicle module's side of the diagnostic services, from ISO 14229-1. It is asked
// through a CAN adapter (canline.go) or a gateway (gateway.go), which hand it messages.

// Negative response codes that it gives.
const (
	nrcService   = 0x11
	nrcForm      = 0x12
	nrcLength    = 0x13
	nrcCondition = 0x22
	nrcSequence  = 0x24
	nrcRange     = 0x31
	nrcDenied    = 0x33
	nrcKey       = 0x35
	nrcTries     = 0x36
	nrcDelay     = 0x37
	nrcProgram   = 0x72
	nrcCounter   = 0x73
	nrcPending   = 0x78
	nrcSession   = 0x7F
)

const (
	sessionDefault  = 1
	sessionProgram  = 2
	sessionExtended = 3
	fallsBack       = 5 * time.Second // S3_Server
	answersWithin   = 50 * time.Millisecond
	keyPause        = 10 * time.Second
	learnTakes      = 3 * time.Second
	firstSetting    = 0x0D00 // identifier of its first setting; the others follow
	settingBytes    = 8
)

// module is the state of one between two restarts.
type module struct {
	u       *Unit
	session byte
	last    time.Time // of a request, for S3
	open    bool      // its security level
	seed    []byte
	tries   int
	closed  time.Time // no key is taken before
	asked   []byte    // what transfer is under way: 0x34 or 0x35
	at, end uint64
	counter byte
	held    []byte    // the last block that it gave or took
	print   []byte    // fingerprint
	quiet   bool      // it neither sends nor hears what modules tell one another
	blind   bool      // it notes no fault codes
	learns  time.Time // when it has learnt what it was told to
}

// Notes has a module note a fault: 24 bits of code and the status octet.
func (u *Unit) Notes(code uint32) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.codes = append(slices.Clone(u.codes), code)
}

// enter is a restart.
func (m *module) enter() {
	*m = module{u: m.u, session: sessionDefault, tries: m.tries, closed: m.closed, print: m.print}
	if m.u.version() != "" {
		m.u.boots++
	}
}

// runs tells whether its program runs: in a programming session it does not.
func (m *module) runs() bool { return m.session != sessionProgram && m.u.version() != "" }

// handle carries a request out. say sends a response; it may be called several times, and
// not at all. Called with the unit's lock, which it gives up while it works.
func (m *module) handle(q []byte, say func(response []byte)) {
	u := m.u
	now := u.clock.Now()
	if m.session != sessionDefault && now.Sub(m.last) > fallsBack {
		m.toDefault()
	}
	life := u.life
	if len(q) == 0 || u.Answers > 0 && !u.labour(u.Answers) {
		return
	}
	sid := q[0]
	quiet := false // a positive response is not wanted
	var body []byte
	var nrc byte
	switch sid {
	case 0x10, 0x11, 0x27, 0x28, 0x31, 0x3E, 0x85:
		if len(q) < 2 {
			nrc = nrcLength
			break
		}
		quiet = q[1]&0x80 != 0
		q = append([]byte{sid, q[1] & 0x7F}, q[2:]...)
		body, nrc = m.byForm(sid, q, say)
	case 0x14:
		if len(q) != 4 {
			nrc = nrcLength
			break
		}
		u.codes = nil
		if u.unlearned { // it is still so, and is noted anew
			u.codes = []uint32{u.Unlearned}
		}
		u.vehicle.forget(u)
	case 0x19:
		body, nrc = m.codes(q)
	case 0x22:
		body, nrc = m.data(q)
	case 0x2E:
		body, nrc = m.putData(q)
	case 0x23:
		body, nrc = m.memory(q)
	case 0x34, 0x35:
		body, nrc = m.begin(sid, q)
	case 0x36:
		body, nrc = m.block(q)
	case 0x37:
		if m.asked == nil || m.at != m.end {
			nrc = nrcSequence
		}
		m.asked = nil
	default:
		nrc = nrcService
	}
	if u.life != life || !u.powered { // it lost its power on the way
		return
	}
	if m.last = u.clock.Now(); m.blind {
		u.vehicle.blinds(u, true)
	}
	switch {
	case nrc != 0:
		say([]byte{0x7F, sid, nrc})
	case !quiet:
		say(append([]byte{sid + 0x40}, body...))
	}
	if sid == 0x11 && nrc == 0 {
		u.restart(false)
	}
}

func (m *module) toDefault() {
	was := m.session
	m.session, m.open, m.seed, m.asked, m.quiet, m.blind = sessionDefault, false, nil, nil, false, false
	m.u.vehicle.blinds(m.u, false)
	if was == sessionProgram { // the way back from its boot loader is a restart
		m.u.boots++
		if m.u.version() == "" {
			m.u.boots--
		}
	}
}

func (m *module) byForm(sid byte, q []byte, say func([]byte)) (body []byte, nrc byte) {
	form := q[1]
	switch sid {
	case 0x10:
		switch form {
		case sessionDefault:
			m.toDefault()
		case sessionProgram, sessionExtended:
			if form == sessionExtended && m.session == sessionProgram {
				return nil, nrcSession
			}
			m.session, m.open, m.seed, m.asked = form, false, nil, nil
			if form == sessionProgram {
				m.u.vehicle.misses(m.u)
			}
		default:
			return nil, nrcForm
		}
		return []byte{form, 0, byte(answersWithin / time.Millisecond), 0x01, 0xF4}, 0 // P2* is 5 s, in 10 ms
	case 0x11:
		if form < 1 || form > 3 {
			return nil, nrcForm
		}
		return []byte{form}, 0
	case 0x27:
		return m.access(form, q[2:])
	case 0x28:
		if form != 0 && form != 3 {
			return nil, nrcForm
		}
		if m.session == sessionDefault {
			return nil, nrcSession
		}
		m.quiet = form == 3
		return []byte{form}, 0
	case 0x31:
		return m.routine(form, q, say)
	case 0x3E:
		if form != 0 {
			return nil, nrcForm
		}
		return []byte{0}, 0
	case 0x85:
		if form != 1 && form != 2 {
			return nil, nrcForm
		}
		if m.session == sessionDefault {
			return nil, nrcSession
		}
		m.blind = form == 2
		m.u.vehicle.blinds(m.u, m.blind)
		return []byte{form}, 0
	}
	return nil, nrcService
}

// access is level 0x11, and its key 0x12.
func (m *module) access(form byte, rest []byte) (body []byte, nrc byte) {
	switch {
	case m.session == sessionDefault:
		return nil, nrcSession
	case form != 0x11 && form != 0x12:
		return nil, nrcForm
	case m.u.clock.Now().Before(m.closed):
		return nil, nrcDelay
	case form == 0x11 && (m.open || m.u.Password == ""):
		m.open = true
		return append([]byte{form}, make([]byte, 8)...), 0
	case form == 0x11:
		m.seed = binary.BigEndian.AppendUint64(nil, m.u.random.Uint64()|1)
		return append([]byte{form}, m.seed...), 0
	case m.seed == nil:
		return nil, nrcSequence
	}
	h := hmac.New(sha256.New, []byte(m.u.Password))
	h.Write(append([]byte{0x11}, m.seed...))
	m.seed = nil
	if hmac.Equal(rest, h.Sum(nil)[:8]) {
		m.open, m.tries = true, 0
		return []byte{form}, 0
	}
	if m.tries++; m.tries >= 3 {
		m.tries, m.closed = 0, m.u.clock.Now().Add(m.u.scaled(keyPause))
		return nil, nrcTries
	}
	return nil, nrcKey
}

// codes are the faults that it has noted: how many (01), or which (02), by a mask.
func (m *module) codes(q []byte) (body []byte, nrc byte) {
	const available = 0xFF
	noted := append(slices.Clip(m.u.codes), m.u.vehicle.noted(m.u)...)
	switch {
	case len(q) == 2 && q[1] == 0x0A:
		body = []byte{0x0A, available}
		for _, c := range noted {
			body = binary.BigEndian.AppendUint32(body, c)
		}
		return body, 0
	case len(q) == 6 && (q[1] == 0x04 || q[1] == 0x06):
		return m.recorded(q, noted)
	case len(q) != 3:
		return nil, nrcLength
	}
	var all []byte
	for _, c := range noted {
		if byte(c)&q[2] != 0 {
			all = binary.BigEndian.AppendUint32(all, c)
		}
	}
	switch q[1] {
	case 0x01:
		return binary.BigEndian.AppendUint16([]byte{0x01, available, 0x01}, uint16(len(all)/4)), 0
	case 0x02:
		return append([]byte{0x02, available}, all...), 0
	}
	return nil, nrcForm
}

// recorded is what it has recorded with a code: what fed it then (04), how often it came
// (06). Record number FF is all.
func (m *module) recorded(q []byte, noted []uint32) (body []byte, nrc byte) {
	number := uint32(q[2])<<16 | uint32(q[3])<<8 | uint32(q[4])
	i := slices.IndexFunc(noted, func(c uint32) bool { return c>>8 == number })
	if i < 0 || q[5] != 0xFF && q[5] != 0x01 {
		return nil, nrcRange
	}
	body = append(q[1:5:5], byte(noted[i]))
	if q[1] == 0x06 {
		return append(body, 0x01, 0x03), 0
	}
	return append(body, 0x01, 0x01, 0xFD, 0x02, 0x00, 0xF4), 0
}

// data are its identifiers.
func (m *module) data(q []byte) (body []byte, nrc byte) {
	if len(q) != 3 {
		return nil, nrcLength
	}
	u, said := m.u, ""
	switch did := binary.BigEndian.Uint16(q[1:]); did {
	case 0xF186:
		return append(q[1:3:3], m.session), 0
	case 0xF187:
		said = u.Says
	case 0xF18C:
		said = u.Serial
	case 0xF193:
		said = u.Revision
	case 0xF195:
		if m.runs() {
			said = u.version()
		}
	case 0xF15A:
		return append(q[1:3:3], m.print...), 0
	default:
		if _, value, ok := u.settingAt(did); ok {
			if m.session == sessionDefault {
				return nil, nrcSession
			}
			return append(append(q[1:3:3], value...), make([]byte, settingBytes-min(len(value), settingBytes))...), 0
		}
	case 0xFD01: // where the key stands
		if v := u.vehicle; v != nil {
			return append(q[1:3:3], v.keyed()), 0
		}
	case 0xFD02: // what feeds it, in tenths of a volt
		if v := u.vehicle; v != nil {
			return binary.BigEndian.AppendUint16(q[1:3:3], v.supply()), 0
		}
	}
	if said == "" {
		return nil, nrcRange
	}
	return append(q[1:3:3], said...), 0
}

func (m *module) putData(q []byte) (body []byte, nrc byte) {
	did := binary.BigEndian.Uint16(append(slices.Clone(q), 0, 0)[1:])
	name, _, isSetting := m.u.settingAt(did)
	switch {
	case len(q) < 4:
		return nil, nrcLength
	case isSetting && m.session == sessionDefault:
		return nil, nrcSession
	case isSetting && !m.open && m.u.Password != "":
		return nil, nrcDenied
	case isSetting:
		if len(q) != 3+settingBytes || !m.u.putSetting(name+"="+strings.TrimRight(string(q[3:]), "\x00")) {
			return nil, nrcRange
		}
		return q[1:3:3], 0
	case did != 0xF15A:
		return nil, nrcRange
	case m.session != sessionProgram:
		return nil, nrcSession
	case !m.open && m.u.Password != "":
		return nil, nrcDenied
	}
	m.print = append([]byte(nil), q[3:]...)
	return q[1:3:3], 0
}

// place reads format, address and length.
func (m *module) place(b []byte) (address, length uint64, ok bool) {
	if len(b) < 1 {
		return 0, 0, false
	}
	a, n := int(b[0]&0xF), int(b[0]>>4)
	if a == 0 || n == 0 || a > 8 || n > 8 || len(b) != 1+a+n {
		return 0, 0, false
	}
	for _, c := range b[1 : 1+a] {
		address = address<<8 | uint64(c)
	}
	for _, c := range b[1+a:] {
		length = length<<8 | uint64(c)
	}
	return address, length, true
}

// may tells whether memory may be touched now.
func (m *module) may(write bool) (nrc byte) {
	switch {
	case write && m.session != sessionProgram || m.session == sessionDefault:
		return nrcSession
	case !m.open && m.u.Password != "":
		return nrcDenied
	}
	return 0
}

func (m *module) memory(q []byte) (body []byte, nrc byte) {
	address, length, ok := m.place(q[1:])
	switch nrc := m.may(false); {
	case !ok:
		return nil, nrcLength
	case nrc != 0:
		return nil, nrc
	case m.u.NoRead || length == 0 || length > uint64(m.u.ReadMax) || !m.u.flash.holds(address, length):
		return nil, nrcRange
	}
	return m.u.sample(address, length), 0
}

func (m *module) begin(sid byte, q []byte) (body []byte, nrc byte) {
	if len(q) < 3 {
		return nil, nrcLength
	}
	address, length, ok := m.place(q[2:])
	switch nrc := m.may(sid == 0x34); {
	case !ok:
		return nil, nrcLength
	case nrc != 0:
		return nil, nrc
	case q[1] != 0 || length == 0 || !m.u.flash.holds(address, length) || sid == 0x34 && m.u.closed(address, length):
		return nil, nrcRange
	}
	m.asked, m.at, m.end, m.counter, m.held = []byte{sid}, address, address+length, 1, nil
	return binary.BigEndian.AppendUint16([]byte{0x20}, uint16(m.u.WriteMax+2)), 0
}

// block takes a block, or gives one. The one before is answered again without being taken
// twice.
func (m *module) block(q []byte) (body []byte, nrc byte) {
	u := m.u
	switch {
	case len(q) < 2:
		return nil, nrcLength
	case m.asked == nil:
		return nil, nrcSequence
	case q[1] == m.counter-1 && m.held != nil:
		if m.asked[0] == 0x34 {
			return q[1:2:2], 0
		}
		return append(q[1:2:2], m.held...), 0
	case q[1] != m.counter:
		return nil, nrcCounter
	}
	if m.asked[0] == 0x35 {
		n := min(uint64(u.WriteMax), m.end-m.at)
		if n == 0 || len(q) != 2 {
			return nil, nrcSequence
		}
		m.held = u.sample(m.at, n)
		m.at, m.counter = m.at+n, m.counter+1
		return append(q[1:2:2], m.held...), 0
	}
	data := q[2:]
	if len(data) == 0 || len(data) > u.WriteMax || uint64(len(data)) > m.end-m.at {
		return nil, nrcRange
	}
	life := u.life
	if f := &u.faults; f.RefuseAt > 0 {
		if f.RefuseAt--; f.RefuseAt == 0 {
			return nil, nrcProgram
		}
	} else if f.ResetAt > 0 {
		if f.ResetAt--; f.ResetAt == 0 {
			u.restart(false)
			return nil, nrcProgram
		}
	}
	if a, ok := u.writeBytes(m.at, data); !ok || u.life != life {
		return nil, nrcProgram
	} else if a.status != stDone {
		return nil, nrcProgram
	}
	u.piece++
	if u.Unlearned != 0 && !u.unlearned { // what it had learnt does not go with another program
		u.unlearned, u.codes = true, append(slices.DeleteFunc(u.codes, func(c uint32) bool { return c>>8 == u.Unlearned>>8 }), u.Unlearned)
	}
	m.held, m.at, m.counter = data, m.at+uint64(len(data)), m.counter+1
	return q[1:2:2], 0
}

func (m *module) routine(form byte, q []byte, say func([]byte)) (body []byte, nrc byte) {
	if len(q) < 4 {
		return nil, nrcLength
	}
	u, echo := m.u, q[1:4:4]
	if id := binary.BigEndian.Uint16(q[2:]); id == 0x0310 && u.Unlearned != 0 {
		return m.learn(form, echo)
	}
	if form != 1 {
		return nil, nrcForm
	}
	switch binary.BigEndian.Uint16(q[2:]) {
	case 0x0203: // may it be programmed now?
		if m.session == sessionDefault {
			return nil, nrcSession
		}
		return append(echo, 0), 0
	case 0xFF00:
		address, length, ok := m.place(q[4:])
		switch nrc := m.may(true); {
		case !ok:
			return nil, nrcLength
		case nrc != 0:
			return nil, nrc
		case length == 0 || !u.flash.holds(address, length) || u.closed(address, length) || (address-u.Base)%uint64(u.Sector) != 0 || length%uint64(u.Sector) != 0:
			return nil, nrcRange
		}
		for at := address; at < address+length; at += uint64(u.Sector) {
			if !m.waits(u.Erase, say) {
				u.flash.ruin(at, uint64(u.Sector), u.random)
				return nil, nrcProgram
			}
			if s := u.faults.Stuck; s != nil && *s >= at && *s < at+uint64(u.Sector) {
				return nil, nrcProgram
			}
			u.flash.erase(at, uint64(u.Sector))
		}
		return append(echo, 0), 0
	case 0x0202: // is what was downloaded last there?
		address, length, ok := m.place(q[4:])
		if !ok || !u.flash.holds(address, length) {
			return nil, nrcRange
		}
		if nrc := m.may(true); nrc != 0 {
			return nil, nrc
		}
		if u.Rejects != "" && u.head() == u.Rejects {
			return append(echo, 2), 0
		}
		return append(echo, 0), 0
	case 0xFF01: // would its program start?
		if u.version() == "" {
			return append(echo, 1), 0
		}
		return append(echo, 0), 0
	}
	return nil, nrcRange
}

// learn finds its end stops, which takes a while: 01 until it is over, then 00; 02 where
// what feeds it is too weak to get there.
func (m *module) learn(form byte, echo []byte) (body []byte, nrc byte) {
	u, now := m.u, m.u.clock.Now()
	switch {
	case form == 1 && m.session == sessionDefault:
		return nil, nrcSession
	case form == 1:
		m.learns = now.Add(u.scaled(learnTakes))
		return append(echo, 0x01), 0
	case form != 3:
		return nil, nrcForm
	case m.learns.IsZero():
		return nil, nrcSequence
	case now.Before(m.learns):
		return append(echo, 0x01), 0
	case u.vehicle.supply() < weak:
		return append(echo, 0x02), 0
	}
	u.unlearned = false
	u.codes = slices.DeleteFunc(u.codes, func(c uint32) bool { return c>>8 == u.Unlearned>>8 })
	return append(echo, 0x00), 0
}

// waits works for a time, and says now and then that its answer is pending. False if it
// lost its power.
func (m *module) waits(d time.Duration, say func([]byte)) bool {
	const turn = 2 * time.Second
	for first := true; d > 0; first = false {
		if first && d > answersWithin || !first {
			say([]byte{0x7F, 0x31, nrcPending})
		}
		now := min(d, turn)
		if !m.u.labour(now) {
			return false
		}
		d -= now
	}
	return true
}

package sim

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"strconv"
	"strings"
)

// Boot monitors that talk in text, as boards have them. They differ in their habits,
// and each is made so that a sheet can describe it without a line of Go.

// The habits.
const (
	HabitLines  = "lines"  // a prompt that echoes; S-records, each answered
	HabitSilent = "silent" // no echo, XON and XOFF, a password, log lines in the middle; Intel HEX
	HabitMenu   = "menu"   // keys, colours, cleared screens; files and memory by YMODEM
)

// textBoot is a monitor.
type textBoot struct {
	u       *Unit
	here    bool // somebody has stopped its countdown, or the strap brought the unit here
	line    []byte
	last    byte
	then    func(line string) // takes the next line in place of a command
	key     func(c byte)      // takes the next key in place of one of the menu
	load    bool              // records are coming
	taken   int
	spoilt  int
	allowed bool
	stopped bool // XOFF was said
	moving  transfer
	logged  int
	upper   uint64 // of the addresses of Intel HEX
}

func (m *textBoot) enter() {
	*m = textBoot{u: m.u, here: m.u.OpensFor == 0}
	m.say("\r\nstop 2 ")
	if m.here {
		m.arrived()
	}
}

// arrived is the end of the countdown with somebody there.
func (m *textBoot) arrived() {
	m.here = true
	m.say("\r\n%s boot monitor %s\r\n", m.u.Says, m.u.Loader)
	m.prompt()
}

func (m *textBoot) at() uart     { return uart{m.u.Baud, m.u.Parity, m.u.Inverted} }
func (m *textBoot) called() bool { return m.here }

func (m *textBoot) say(format string, args ...any) {
	m.u.speak(fmt.Appendf(nil, format, args...), m.u.busy)
}

// prompt is what the monitor shows when it waits.
func (m *textBoot) prompt() {
	m.then, m.key, m.moving, m.load = nil, nil, nil, false
	switch m.u.Habit {
	case HabitSilent:
		m.chatter()
		m.say("] ")
	case HabitMenu:
		m.say("\x1b[2J\x1b[H\x1b[1;36m* %s *\x1b[0m\r\n\x1b[33m1\x1b[0m who\r\n\x1b[33m2\x1b[0m fetch\r\n\x1b[33m3\x1b[0m wipe\r\n\x1b[33m4\x1b[0m store\r\n\x1b[33m5\x1b[0m files\r\n\x1b[33m9\x1b[0m leave\r\n\x1b[1mKey: \x1b[0m", m.u.Says)
	default:
		m.say("boot> ")
	}
}

// chatter is a line of the silent one's log.
func (m *textBoot) chatter() {
	m.logged++
	m.say("~%04d tide %d.%02d\r\n", m.logged, m.logged%7, m.logged%100)
}

// filled is told that bytes have arrived; the silent one holds the bench back when
// three quarters of its buffer are full.
func (m *textBoot) filled() {
	if m.u.Habit == HabitSilent && !m.stopped && len(m.u.rx) > m.u.Window*3/4 {
		m.stopped = true
		m.u.speak([]byte{0x13}, m.u.clock.Now())
	}
}

func (m *textBoot) turn() bool {
	u := m.u
	if m.moving != nil {
		return m.moving.feed()
	}
	if len(u.rx) == 0 {
		return false
	}
	c := u.rx[0]
	u.rx = append(u.rx[:0], u.rx[1:]...)
	if m.stopped && len(u.rx) < u.Window/4 {
		m.stopped = false
		m.say("\x11")
	}
	if !m.here {
		m.arrived()
		return true
	}
	if u.Habit == HabitMenu && m.then == nil {
		m.pressed(c)
		return true
	}
	was := m.last
	m.last = c
	switch {
	case c == 0x15:
		m.line, m.then, m.load = m.line[:0], nil, false
		m.say("\r\n")
		m.prompt()
	case c == '\n' && was == '\r':
	case c == '\r' || c == '\n':
		line := string(m.line)
		m.line = m.line[:0]
		if u.Habit != HabitSilent && !m.load {
			m.say("\r\n")
		}
		m.obey(line)
	case len(m.line) > 300:
		m.line = m.line[:0]
	default:
		m.line = append(m.line, c)
		if u.Habit != HabitSilent && !m.load {
			u.speak([]byte{c}, u.busy)
		}
	}
	return true
}

// obey takes a line.
func (m *textBoot) obey(line string) {
	switch {
	case m.then != nil:
		then := m.then
		m.then = nil
		then(line)
	case m.load:
		m.record(strings.TrimSpace(line))
	case m.u.Habit == HabitSilent:
		m.silent(strings.Fields(line))
	default:
		m.lines(strings.Fields(line))
	}
}

// span reads an address and a length in hex.
func (m *textBoot) span(words []string) (at, n uint64, ok bool) {
	if len(words) != 2 {
		return 0, 0, false
	}
	at, err1 := strconv.ParseUint(words[0], 16, 32)
	n, err2 := strconv.ParseUint(words[1], 16, 32)
	return at, n, err1 == nil && err2 == nil && n > 0 && m.u.flash.holds(at, n)
}

// wipe erases whole sectors; empty if it did. ok is false if the power went.
func (m *textBoot) wipe(at, n uint64) (no string, ok bool) {
	u, sector := m.u, uint64(m.u.Sector)
	switch {
	case u.locked:
		return "locked", true
	case (at-u.Base)%sector != 0 || n%sector != 0:
		return "not whole sectors", true
	case u.closed(at, n):
		return "closed", true
	}
	a, ok := u.eraseSectors(at, n)
	if ok && a.status != stDone {
		return "failed", true
	}
	return "", ok
}

// put programs bytes; empty if it did.
func (m *textBoot) put(at uint64, data []byte) (no string, ok bool) {
	u := m.u
	if u.locked {
		return "locked", true
	}
	for len(data) > 0 {
		part := data[:min(len(data), u.WriteMax)]
		a, ok := u.writeBytes(at, part)
		switch {
		case !ok:
			return "", false
		case a.status == stFailed:
			return "failed", true
		case a.status != stDone:
			return "closed", true
		}
		at, data = at+uint64(len(part)), data[len(part):]
	}
	return "", true
}

// lines is the prompt that echoes.
func (m *textBoot) lines(w []string) {
	u := m.u
	if len(w) == 0 {
		m.prompt()
		return
	}
	no := func(text string) { m.say("?%s\r\n", text) }
	at, n, ok := m.span(w[1:])
	switch w[0] {
	case "who":
		m.say("model   %s\r\nserial  %s\r\nboard   %s\r\nprogram %s\r\nmonitor %s\r\n", u.Says, m.serial(), m.revision(), u.version(), u.Loader)
	case "show":
		switch {
		case !ok:
			no("what")
		case u.locked || u.NoRead:
			no("locked")
		default:
			for i := uint64(0); i < n; i += 16 {
				b := u.flash.slice(at+i, min(16, n-i))
				m.say("%08X  % X\r\n", at+i, b)
			}
		}
	case "wipe":
		if !ok {
			no("what")
			break
		}
		text, alive := m.wipe(at, n)
		switch {
		case !alive:
			return
		case text != "":
			no(text)
		default:
			m.say("wiped\r\n")
		}
	case "take":
		m.load, m.taken, m.spoilt = true, 0, 0
		m.say("ready\r\n")
		return
	case "sum":
		if !ok {
			no("what")
		} else if u.locked {
			no("locked")
		} else {
			m.say("sum %08x\r\n", crc32.ChecksumIEEE(u.flash.slice(at, n)))
		}
	case "keep":
		if name, value, found := strings.Cut(strings.Join(w[1:], " "), "="); found && u.putSetting(name+"="+value) {
			m.say("kept\r\n")
		} else {
			no("refused")
		}
	case "kept":
		for _, l := range strings.Split(strings.TrimSpace(u.settings()), "\n") {
			m.say("  %s\r\n", l)
		}
	case "lock":
		switch strings.Join(w[1:], " ") {
		case "on":
			u.lock(true)
		case "off":
			if u.locked && !u.eraseAll() {
				return
			}
			u.lock(false)
		}
		m.say("lock %s\r\n", map[bool]string{true: "on", false: "off"}[u.locked])
	case "go":
		m.say("going\r\n")
		m.leave()
		return
	default:
		no("what")
	}
	m.prompt()
}

// leave starts the program, if there is a whole one.
func (m *textBoot) leave() {
	u := m.u
	u.life++
	u.after(0, func() {
		if u.version() == "" {
			u.restart(true)
			return
		}
		u.start()
	})
}

func (m *textBoot) serial() string {
	if s := m.u.faults.Serial; s != "" {
		return s
	}
	return m.u.Serial
}

func (m *textBoot) revision() string {
	if r := m.u.faults.Revision; r != "" {
		return r
	}
	return m.u.Revision
}

// record takes one line of S-records or Intel HEX.
func (m *textBoot) record(line string) {
	if line == "" {
		return
	}
	sRecord := m.u.Habit != HabitSilent
	at, data, end, ok := m.parse(line, sRecord)
	answer := func(good bool) {
		m.taken++
		if !good {
			m.spoilt++
		}
		if sRecord {
			m.say("%s\r\n", map[bool]string{true: "+", false: "-"}[good])
		} else if m.taken%8 == 0 {
			m.chatter()
		}
	}
	switch {
	case !ok:
		answer(false)
		return
	case end:
		answer(true)
		if sRecord {
			m.say("end %d\r\n", m.taken)
		} else {
			m.say("lines %d spoilt %d\r\n", m.taken, m.spoilt)
		}
		m.prompt()
		return
	case data == nil:
		answer(true)
		return
	}
	no, alive := m.put(at, data)
	switch {
	case !alive:
	case no != "":
		m.say("?%s\r\n", no)
		m.prompt()
	default:
		answer(true)
	}
}

// parse reads a line; data is nil for one that brings no bytes.
func (m *textBoot) parse(line string, sRecord bool) (at uint64, data []byte, end, ok bool) {
	skip := 1
	if sRecord {
		skip = 2
	}
	if len(line) < skip+4 || sRecord && line[0] != 'S' || !sRecord && line[0] != ':' {
		return 0, nil, false, false
	}
	b, err := hex.DecodeString(line[skip:])
	if err != nil || len(b) < 3 {
		return 0, nil, false, false
	}
	sum := byte(0)
	for _, c := range b {
		sum += c
	}
	if !sRecord {
		if sum != 0 || len(b) != int(b[0])+5 {
			return 0, nil, false, false
		}
		switch b[3] {
		case 0:
			return m.upper | uint64(b[1])<<8 | uint64(b[2]), b[4 : len(b)-1], false, true
		case 1:
			m.upper = 0
			return 0, nil, true, true
		case 4:
			m.upper = uint64(b[4])<<24 | uint64(b[5])<<16
		}
		return 0, nil, false, true
	}
	if sum != 0xFF || len(b) != int(b[0])+1 {
		return 0, nil, false, false
	}
	switch line[1] {
	case '1', '2', '3':
		n := int(line[1]-'0') + 1
		if len(b) < n+2 {
			return 0, nil, false, false
		}
		for _, c := range b[1 : 1+n] {
			at = at<<8 | uint64(c)
		}
		return at, b[1+n : len(b)-1], false, true
	case '7', '8', '9':
		return 0, nil, true, true
	}
	return 0, nil, false, true
}

// silent is the one that does not echo.
func (m *textBoot) silent(w []string) {
	u := m.u
	if len(w) == 0 {
		m.prompt()
		return
	}
	at, n, ok := m.span(w[1:])
	if strings.Contains("r e w c k", w[0]) && !m.allowed {
		m.say("!no key\r\n")
		m.prompt()
		return
	}
	switch w[0] {
	case "i":
		m.say("=%s,%s,%s,", u.Says, m.serial(), m.revision())
		m.say("%s\r\n", u.version())
	case "key":
		m.say("Key? ")
		m.then = func(line string) {
			if m.allowed = line == u.Password; m.allowed {
				m.say("open\r\n")
			} else {
				m.say("!wrong\r\n")
			}
			m.prompt()
		}
		return
	case "r":
		if !ok || u.NoRead {
			m.say("!what\r\n")
			break
		}
		base := uint64(1) << 40
		for i := uint64(0); i < n; {
			if top := (at + i) >> 16; top != base {
				base = top
				m.say("%s\r\n", hexLine(0, 4, []byte{byte(top >> 8), byte(top)}))
			}
			k := min(32-(at+i)%32, n-i)
			m.say("%s\r\n", hexLine(uint16(at+i), 0, u.flash.slice(at+i, k)))
			if i += k; i%256 == 0 {
				m.chatter()
			}
		}
		m.say("%s\r\n", hexLine(0, 1, nil))
	case "e":
		if !ok {
			m.say("!what\r\n")
			break
		}
		m.say("%08X to %08X, y? ", at, at+n-1)
		m.then = func(line string) {
			if line != "y" {
				m.say("left\r\n")
			} else if no, alive := m.wipe(at, n); !alive {
				return
			} else if no != "" {
				m.say("!%s\r\n", no)
			} else {
				m.say("clean\r\n")
			}
			m.prompt()
		}
		return
	case "w":
		m.load, m.taken, m.spoilt, m.upper = true, 0, 0, 0
		return
	case "c":
		if !ok {
			m.say("!what\r\n")
		} else {
			m.say("%08X+%X: %08X\r\n", at, n, crc32.ChecksumIEEE(u.flash.slice(at, n)))
		}
	case "g":
		m.leave()
		return
	default:
		m.say("!what\r\n")
	}
	m.prompt()
}

func hexLine(at uint16, kind byte, data []byte) string {
	b := append([]byte{byte(len(data)), byte(at >> 8), byte(at), kind}, data...)
	sum := byte(0)
	for _, c := range b {
		sum -= c
	}
	return fmt.Sprintf(":%X%02X", b, sum)
}

// pressed is a key of the menu.
func (m *textBoot) pressed(c byte) {
	u := m.u
	if m.key != nil {
		key := m.key
		m.key = nil
		key(c)
		return
	}
	asks := func(question string, then func(string)) {
		m.say("\x1b[32m%s\x1b[0m ", question)
		m.then = then
	}
	span := func(then func(at, n uint64)) {
		asks("From:", func(from string) {
			asks("Bytes:", func(bytes string) {
				at, n, ok := m.span([]string{from, bytes})
				if !ok {
					m.say("\x1b[31m# no such stretch\x1b[0m\r\n")
					m.prompt()
					return
				}
				then(at, n)
			})
		})
	}
	no := func(text string) {
		if text != "" {
			m.say("\x1b[31m# %s\x1b[0m\r\n", text)
		} else {
			m.say("done\r\n")
		}
		m.prompt()
	}
	m.say("%c\r\n", c)
	switch c {
	case '1':
		m.say("\x1b[1m%s\x1b[0m no. %s board %s runs %s\r\n", u.Says, m.serial(), m.revision(), u.version())
	case '2':
		span(func(at, n uint64) {
			if u.locked || u.NoRead {
				no("locked")
				return
			}
			m.say("ready\r\n")
			m.moving = newFileOut(u, "memory", bytes.Clone(u.flash.slice(at, n)), func(bool) { m.prompt() })
		})
		return
	case '3':
		span(func(at, n uint64) {
			m.say("wipe %X to %X (y/n)? ", at, at+n-1)
			m.key = func(c byte) {
				if c != 'y' {
					no("left")
				} else if text, alive := m.wipe(at, n); alive {
					no(text)
				}
			}
		})
		return
	case '4':
		asks("From:", func(from string) {
			at, err := strconv.ParseUint(from, 16, 32)
			if err != nil || !u.flash.holds(at, 1) {
				no("no such place")
				return
			}
			m.say("ready\r\n")
			m.moving = newFileIn(u, func(_ string, data []byte) {
				if data == nil || !u.flash.holds(at, uint64(len(data))) {
					no("nothing was stored")
				} else if text, alive := m.put(at, data); alive {
					no(text)
				}
			})
		})
		return
	case '5':
		m.say("\x1b[1m[l]ist [g]et [p]ut [d]rop:\x1b[0m ")
		m.key = func(c byte) { m.filesKey(c, asks, no) }
		return
	case '9':
		m.leave()
		return
	case '\r', '\n', 0x15:
	default:
		m.say("# no such key\r\n")
	}
	m.prompt()
}

// filesKey is the menu of files.
func (m *textBoot) filesKey(c byte, asks func(string, func(string)), no func(string)) {
	u := m.u
	m.say("%c\r\n", c)
	if u.tree == nil {
		no("no files here")
		return
	}
	switch c {
	case 'l':
		for _, name := range u.tree.names() {
			sum := sha256.Sum256(u.tree.kept[name])
			m.say("%9d %x %s\r\n", len(u.tree.kept[name]), sum, name)
		}
		no("")
	case 'g':
		asks("Name:", func(name string) {
			data, there := u.tree.kept[name]
			if !there {
				no("no such file")
				return
			}
			m.say("ready\r\n")
			m.moving = newFileOut(u, "file", data, func(bool) { m.prompt() })
		})
	case 'p':
		asks("Name:", func(name string) {
			if !plainPath(name) {
				no("no such name")
				return
			}
			m.say("ready\r\n")
			m.moving = newFileIn(u, func(_ string, data []byte) {
				if data == nil || !u.tree.keep(name, data) {
					no("nothing was kept")
				} else {
					no("")
				}
			})
		})
	case 'd':
		asks("Name:", func(name string) {
			if _, there := u.tree.kept[name]; !there {
				no("no such file")
				return
			}
			u.tree.remove(name)
			no("")
		})
	default:
		no("no such key")
	}
}

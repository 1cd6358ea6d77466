package sim

import (
	"bufio"
	"context"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"sync"
	"syscall"
	"time"

	"zealousferry/core"
)

// A vehicle's gateway, from ISO 13400-2: it announces itself over UDP and passes
// diagnostic messages on to its modules over TCP.

// GatewaySpec is what a gateway is.
type GatewaySpec struct {
	VIN     string
	Logical uint16
	EID     [6]byte
	Testers int // connections with routing at once; 2 where it is 0
	Longest int // of a message; 4 KiB where it is 0
	Modules map[uint16]*Unit
	All     uint16 // at which all modules are spoken to at once; 0xE400 where it is 0
	Dull    bool   // it answers nothing about itself
	Asleep  bool   // the vehicle is not ready for diagnosis
	Hears   string // a broadcast address at which it is asked too, e.g. "127.255.255.255:13400"
}

// Payload types and codes, as the standard numbers them.
const (
	ipNack          = 0x0000
	ipWho           = 0x0001
	ipWhoByEID      = 0x0002
	ipWhoByVIN      = 0x0003
	ipHere          = 0x0004
	ipActivate      = 0x0005
	ipActivated     = 0x0006
	ipAlive         = 0x0007
	ipIsAlive       = 0x0008
	ipStatus        = 0x4001
	ipHasStatus     = 0x4002
	ipPower         = 0x4003
	ipHasPower      = 0x4004
	ipMessage       = 0x8001
	ipTaken         = 0x8002
	ipNotTaken      = 0x8003
	nackPattern     = 0x00
	nackType        = 0x01
	nackTooLong     = 0x02
	nackLength      = 0x04
	routeUnknown    = 0x00
	routeFull       = 0x01
	routeOther      = 0x02
	routeInUse      = 0x03
	routeKind       = 0x06
	routed          = 0x10
	notSource       = 0x02
	notTarget       = 0x03
	notThatLong     = 0x04
	aliveWithin     = 500 * time.Millisecond
	routeWithin     = 2 * time.Second
	ipHead          = 8
	firstTester     = 0x0E00
	lastTester      = 0x0FFF
	connectionsMost = 16
)

// Gateway is a running one.
type Gateway struct {
	GatewaySpec
	clock core.Clock
	tcp   net.Listener
	udp   net.PacketConn
	all   net.PacketConn // what is asked of everybody; nil if it does not hear that
	mu    sync.Mutex
	open  map[*tester]bool
	cut   int // close the connection after so many more diagnostic messages; 0: never
}

// asked is a request for one module, or for all of them.
type asked struct {
	request []byte
	toAll   bool
}

// tester is a connection.
type tester struct {
	net.Conn
	g      *Gateway
	write  sync.Mutex
	corked bool
	out    []byte // what was put and has not left
	source uint16 // 0: no routing is activated
	alive  chan struct{}
	asks   map[uint16]chan asked
	gone   chan struct{}
}

// StartGateway listens for TCP and UDP at an address, e.g. "127.0.0.1:0".
func StartGateway(s GatewaySpec, address string, clock core.Clock) (*Gateway, error) {
	if s.Testers == 0 {
		s.Testers = 2
	}
	if s.Longest == 0 {
		s.Longest = 4 << 10
	}
	if s.All == 0 {
		s.All = 0xE400
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	p, err := net.ListenPacket("udp", l.Addr().String())
	if err != nil {
		l.Close()
		return nil, err
	}
	g := &Gateway{GatewaySpec: s, clock: clock, tcp: l, udp: p, open: map[*tester]bool{}}
	if s.Hears != "" {
		shared := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) (err error) {
			c.Control(func(fd uintptr) { err = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_REUSEADDR, 1) })
			return err
		}}
		if g.all, err = shared.ListenPacket(context.Background(), "udp4", s.Hears); err != nil {
			l.Close()
			p.Close()
			return nil, err
		}
		go g.answer(g.all)
	}
	go g.accept()
	go g.answer(g.udp)
	return g, nil
}

// Address is where it listens.
func (g *Gateway) Address() string { return g.tcp.Addr().String() }

// Close ends it; its modules go on.
func (g *Gateway) Close() {
	g.tcp.Close()
	g.udp.Close()
	if g.all != nil {
		g.all.Close()
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for t := range g.open {
		t.Close()
	}
}

// CutAfter breaks the connection after so many more diagnostic messages.
func (g *Gateway) CutAfter(n int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.cut = n
}

func ipMessageOf(kind uint16, parts ...[]byte) []byte { return appendMessage(nil, kind, parts...) }

func appendMessage(b []byte, kind uint16, parts ...[]byte) []byte {
	began := len(b)
	b = append(b, 0x02, 0xFD, byte(kind>>8), byte(kind), 0, 0, 0, 0)
	for _, p := range parts {
		b = append(b, p...)
	}
	binary.BigEndian.PutUint32(b[began+4:], uint32(len(b)-began-ipHead))
	return b
}

// lengths are those of payloads that have one length.
var lengths = map[uint16][]int{ipWho: {0}, ipWhoByEID: {6}, ipWhoByVIN: {17}, ipActivate: {7, 11}, ipIsAlive: {2}, ipStatus: {0}, ipPower: {0}}

// wrong is the generic header check: a code, and whether the connection ends; -1: it is
// right. A request to identify may have a version of FF.
func (g *Gateway) wrong(head []byte, udp bool) (code int, ends bool) {
	kind, n := binary.BigEndian.Uint16(head[2:]), int64(binary.BigEndian.Uint32(head[4:]))
	any := udp && kind <= ipWhoByVIN && head[0] == 0xFF && head[1] == 0x00
	if !any && (head[0] != 0x02 || head[1] != 0xFD) {
		return nackPattern, true
	}
	_, known := lengths[kind]
	switch {
	case !known && kind != ipMessage:
		return nackType, false
	case n > int64(g.Longest)+4:
		return nackTooLong, false
	case kind == ipMessage && n < 5:
		return nackLength, true
	case known:
		for _, l := range lengths[kind] {
			if int64(l) == n {
				return -1, false
			}
		}
		return nackLength, true
	}
	return -1, false
}

// answer serves UDP. What comes to a broadcast address is answered from its own.
func (g *Gateway) answer(asked net.PacketConn) {
	buf := make([]byte, 1500)
	for {
		n, from, err := asked.ReadFrom(buf)
		if err != nil {
			return
		}
		b := buf[:n]
		if n < ipHead {
			continue
		}
		kind, p := binary.BigEndian.Uint16(b[2:]), b[ipHead:]
		if code, _ := g.wrong(b, true); code >= 0 || len(p) != int(binary.BigEndian.Uint32(b[4:])) {
			g.udp.WriteTo(ipMessageOf(ipNack, []byte{byte(max(code, 0))}), from)
			continue
		}
		switch kind {
		case ipWhoByEID:
			if [6]byte(p) != g.EID {
				continue
			}
		case ipWhoByVIN:
			if string(p) != g.VIN {
				continue
			}
		}
		switch kind {
		case ipWho, ipWhoByEID, ipWhoByVIN:
			vin := make([]byte, 17)
			copy(vin, g.VIN)
			g.udp.WriteTo(ipMessageOf(ipHere, vin, binary.BigEndian.AppendUint16(nil, g.Logical), g.EID[:], g.EID[:], []byte{0}), from)
		case ipStatus:
			if g.Dull {
				continue
			}
			g.mu.Lock()
			open := byte(len(g.open))
			g.mu.Unlock()
			g.udp.WriteTo(ipMessageOf(ipHasStatus, []byte{0, byte(g.Testers), open}, binary.BigEndian.AppendUint32(nil, uint32(g.Longest))), from)
		case ipPower:
			mode := byte(1)
			if g.Asleep {
				mode = 0
			}
			if !g.Dull {
				g.udp.WriteTo(ipMessageOf(ipHasPower, []byte{mode}), from)
			}
		}
	}
}

func (g *Gateway) accept() {
	for {
		c, err := g.tcp.Accept()
		if err != nil {
			return
		}
		t := &tester{Conn: c, g: g, alive: make(chan struct{}, 1), asks: map[uint16]chan asked{}, gone: make(chan struct{})}
		g.mu.Lock()
		if len(g.open) >= connectionsMost {
			g.mu.Unlock()
			c.Close()
			continue
		}
		g.open[t] = true
		g.mu.Unlock()
		go t.serve()
	}
}

func (t *tester) put(kind uint16, parts ...[]byte) {
	t.write.Lock()
	defer t.write.Unlock()
	t.out = appendMessage(t.out, kind, parts...)
	if !t.corked {
		t.Write(t.out)
		t.out = t.out[:0]
	}
}

// cork keeps what is put until it is let go: what a gateway says at one moment leaves in
// one piece.
func (t *tester) cork(on bool) {
	t.write.Lock()
	defer t.write.Unlock()
	if t.corked = on; !on && len(t.out) > 0 {
		t.Write(t.out)
		t.out = t.out[:0]
	}
}

func (t *tester) serve() {
	defer func() {
		t.Close()
		close(t.gone)
		t.g.mu.Lock()
		delete(t.g.open, t)
		t.g.mu.Unlock()
	}()
	head, from := make([]byte, ipHead), bufio.NewReaderSize(t, 16<<10)
	var p []byte
	for {
		if t.source == 0 {
			t.SetReadDeadline(time.Now().Add(routeWithin))
		} else {
			t.SetReadDeadline(time.Time{})
		}
		if _, err := io.ReadFull(from, head); err != nil {
			return
		}
		kind, n := binary.BigEndian.Uint16(head[2:]), int64(binary.BigEndian.Uint32(head[4:]))
		if code, ends := t.g.wrong(head, false); code >= 0 {
			t.put(ipNack, []byte{byte(code)})
			if ends {
				return
			}
			if _, err := io.CopyN(io.Discard, from, n); err != nil {
				return
			}
			continue
		}
		p = slices.Grow(p[:0], int(n))[:n]
		if _, err := io.ReadFull(from, p); err != nil {
			return
		}
		if !t.take(kind, p) {
			return
		}
	}
}

// take is one message; false ends the connection.
func (t *tester) take(kind uint16, p []byte) bool {
	switch kind {
	case ipActivate:
		code := t.g.activate(t, p)
		t.put(ipActivated, p[:2], binary.BigEndian.AppendUint16(nil, t.g.Logical), []byte{code, 0, 0, 0, 0})
		return code == routed
	case ipIsAlive:
		select {
		case t.alive <- struct{}{}:
		default:
		}
	case ipMessage:
		source, target, q := binary.BigEndian.Uint16(p), binary.BigEndian.Uint16(p[2:]), p[4:]
		no := func(code byte) { t.put(ipNotTaken, p[2:4], p[:2], []byte{code}) }
		u := t.g.Modules[target]
		switch {
		case t.source == 0 || source != t.source:
			no(notSource)
			return false
		case u == nil && target != t.g.All:
			no(notTarget)
			return true
		case len(q) > t.g.Longest:
			no(notThatLong)
			return true
		}
		t.g.mu.Lock()
		if t.g.cut > 0 {
			if t.g.cut--; t.g.cut == 0 {
				t.g.mu.Unlock()
				return false
			}
		}
		t.g.mu.Unlock()
		if u != nil && u.instant() {
			t.cork(true)
			defer t.cork(false)
		}
		t.put(ipTaken, p[2:4], p[:2], []byte{0})
		if u != nil {
			t.hand(target, u, q, false)
		} else {
			for at, u := range t.g.Modules {
				t.hand(at, u, q, true)
			}
		}
	}
	return true
}

// hand gives a request to a module, which carries its requests out one after another.
func (t *tester) hand(target uint16, u *Unit, q []byte, toAll bool) {
	if u.instant() {
		t.carryOut(target, u, asked{q, toAll})
		return
	}
	asks := t.asks[target]
	if asks == nil {
		asks = make(chan asked, 16)
		t.asks[target] = asks
		go t.pass(target, u, asks)
	}
	select {
	case asks <- asked{slices.Clone(q), toAll}:
	default: // it is asked faster than it can answer: lost
	}
}

// activate decides whether a tester gets routing.
func (g *Gateway) activate(t *tester, p []byte) byte {
	source := binary.BigEndian.Uint16(p)
	switch {
	case source < firstTester || source > lastTester:
		return routeUnknown
	case p[2] != 0:
		return routeKind
	case t.source != 0 && t.source != source:
		return routeOther
	}
	g.mu.Lock()
	var other *tester
	n := 0
	for x := range g.open {
		if x != t && x.source != 0 {
			n++
			if x.source == source {
				other = x
			}
		}
	}
	g.mu.Unlock()
	if other != nil { // it may have gone without a word: the standard has it asked
		other.put(ipAlive)
		select {
		case <-other.alive:
			return routeInUse
		case <-other.gone:
		case <-g.clock.After(aliveWithin):
			other.Close()
		}
		n--
	}
	if n >= g.Testers {
		return routeFull
	}
	g.mu.Lock()
	t.source = source
	g.mu.Unlock()
	return routed
}

// pass hands requests to a module, one after another.
func (t *tester) pass(target uint16, u *Unit, asks chan asked) {
	for {
		select {
		case <-t.gone:
			return
		case q := <-asks:
			t.carryOut(target, u, q)
		}
	}
}

func (t *tester) carryOut(target uint16, u *Unit, q asked) {
	u.ask(q.request, func(m []byte) {
		if !q.toAll || !passedOver(m) {
			t.put(ipMessage, binary.BigEndian.AppendUint16(nil, target), binary.BigEndian.AppendUint16(nil, t.source), m)
		}
	})
}

// instant tells whether a unit takes no time for anything, so that nobody waits behind it.
func (u *Unit) instant() bool { return u.Answers == 0 && u.Erase == 0 && u.Page == 0 }

// ask has a module carry out a request that came another way than by its own adapter.
func (u *Unit) ask(q []byte, say func([]byte)) {
	u.mu.Lock()
	defer u.mu.Unlock()
	c, ok := u.boot.(*canBus)
	if !ok || c.node == nil || !u.listens() || u.faults.Silent || u.lost() {
		return
	}
	u.received += int64(len(q))
	if u.faults.CutPower > 0 && u.received >= u.faults.CutPower {
		u.faults.CutPower = 0
		u.power(false)
		return
	}
	if now := u.clock.Now(); u.busy.Before(now) {
		u.busy = now
	}
	c.node.m.handle(q, func(m []byte) {
		if !u.lost() && !u.faults.Silent {
			say(append([]byte(nil), m...))
		}
	})
}

package doip

import (
	"context"
	"encoding/binary"
	"net"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Entity asks the gateway, over UDP beside the connection, how many testers it takes and has
// (entity status), and whether the vehicle is ready for diagnosis (diagnostic power mode).
// Both are optional in the standard: what does not come within a second stays unknown.
func (g *gateway) Entity(ctx context.Context) (link.Entity, error) {
	var e link.Entity
	conn, err := (&net.Dialer{}).DialContext(ctx, "udp", g.conn.RemoteAddr().String())
	if err != nil {
		return e, core.Fail(core.NotAnswering, "the gateway is not asked over UDP: %w", err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	conn.SetDeadline(time.Now().Add(entityLasts))
	for _, kind := range []uint16{statusRequest, powerRequest} {
		if _, err := conn.Write(message(kind)); err != nil {
			return e, core.Fail(core.NotAnswering, "the gateway is not asked over UDP: %w", err)
		}
	}
	buf := make([]byte, 1500)
	for !e.Counted || e.Power == link.PowerUnknown {
		n, err := conn.Read(buf)
		if err != nil {
			break // nobody answers any more, or answered at all
		}
		tells(&e, buf[:n])
	}
	return e, ctx.Err()
}

const entityLasts = time.Second

// tells takes an answer; what is none, or is malformed, says nothing.
func tells(e *link.Entity, b []byte) {
	kind, n, err := readHead(b)
	if err != nil || len(b) < headLength+n {
		return
	}
	switch p := b[headLength:][:n]; {
	case kind == statusResponse && (n == 3 || n == 7): // node type, most and open sockets, longest message
		e.Counted, e.Most, e.Open = true, int(p[1]), int(p[2])
		if n == 7 {
			e.Longest = binary.BigEndian.Uint32(p[3:])
		}
	case kind == powerResponse && n == 1:
		e.Power = map[byte]link.Power{0: link.PowerNotReady, 1: link.PowerReady, 2: link.PowerNotTold}[p[0]]
	}
}

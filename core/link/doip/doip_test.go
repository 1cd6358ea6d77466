package doip_test

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/doip"
	"zealousferry/sim"
)

var ctx = context.Background()

func vehicle(t *testing.T, change func(*sim.GatewaySpec)) (*sim.Gateway, *sim.Unit) {
	t.Helper()
	u, _, err := coretest.SmallUnitOf("module", nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	s := sim.GatewaySpec{VIN: "ZFTUG000000000042", Logical: 0x1001, EID: [6]byte{2, 0, 0, 0, 0, 42}, Modules: map[uint16]*sim.Unit{0x0042: u}}
	if change != nil {
		change(&s)
	}
	g, err := sim.StartGateway(s, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(g.Close)
	return g, u
}

func connect(t *testing.T, g *sim.Gateway, tester string) (link.Messages, error) {
	t.Helper()
	l, err := doip.Kind{}.Open(ctx, link.Settings{"address": g.Address(), "tester": tester}, core.System{})
	if err != nil {
		return nil, err
	}
	t.Cleanup(func() { l.Close() })
	return l.(link.Messages), nil
}

func TestAVehicleIsFoundAndAsked(t *testing.T) {
	t.Parallel()
	g, _ := vehicle(t, nil)
	found, err := doip.Find(ctx, []string{g.Address()}, core.System{})
	if err != nil || len(found) != 1 || found[0].VIN != "ZFTUG000000000042" || found[0].Logical != 0x1001 || found[0].EID[5] != 42 || found[0].Address != g.Address() {
		t.Fatalf("%+v %v", found, err)
	}
	m, err := connect(t, g, "")
	if err != nil {
		t.Fatal(err)
	}
	c, err := m.Talk(ctx, 0x0042)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.Talk(ctx, 0x0042); core.KindOf(err) != core.Busy {
		t.Errorf("two at once: %v", err)
	}
	if err := c.Send(ctx, []byte{0x22, 0xF1, 0x8C}); err != nil {
		t.Fatal(err)
	}
	if got, err := c.Receive(ctx, time.Now().Add(coretest.Patience)); err != nil || string(got) != "\x62\xF1\x8CS-0001" {
		t.Errorf("% X %v", got, err)
	}
	if _, err := c.Receive(ctx, time.Now()); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("nothing more comes: %v", err)
	}
	other, err := m.Talk(ctx, 0x0043)
	if err != nil {
		t.Fatal(err)
	}
	if err := other.Send(ctx, []byte{0x3E, 0}); core.KindOf(err) != core.NotAnswering || !strings.Contains(err.Error(), "no module has that address") {
		t.Errorf("a module that is not there: %v", err)
	}
	c.Close()
	if _, err := m.Talk(ctx, 0x0042); err != nil {
		t.Errorf("after it was closed: %v", err)
	}
	was := m.Generation()
	g.Close()
	if err := other.Send(ctx, []byte{0x3E, 0}); core.KindOf(err) != core.NotAnswering {
		t.Errorf("a gateway that is gone: %v", err)
	}
	if m.Generation() == was {
		t.Error("the identity outlives the connection")
	}
}

func TestTheActivationOfRoutingIsRefused(t *testing.T) {
	t.Parallel()
	g, _ := vehicle(t, func(s *sim.GatewaySpec) { s.Testers = 1 })
	if _, err := connect(t, g, "0x0100"); core.KindOf(err) != core.NotAllowed || !strings.Contains(err.Error(), "does not know this tester's address") {
		t.Errorf("an address that is no tester's: %v", err)
	}
	if _, err := connect(t, g, "nothing"); core.KindOf(err) != core.BadFile {
		t.Errorf("an address that is none: %v", err)
	}
	first, err := connect(t, g, "0x0E01")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := connect(t, g, "0x0E02"); core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), "places for testers are taken") {
		t.Errorf("a second one: %v", err)
	}
	if _, err := connect(t, g, "0x0E01"); core.KindOf(err) != core.Busy || !strings.Contains(err.Error(), "in use on another connection") { // the first answered the alive check
		t.Errorf("the same address twice: %v", err)
	}
	first.Close()
	if _, err := connect(t, g, "0x0E01"); err != nil {
		t.Errorf("after the first has gone: %v", err)
	}
}

// A tester that has gone without a word does not answer the alive check, and gives way.
func TestADeadTesterGivesWay(t *testing.T) {
	t.Parallel()
	g, _ := vehicle(t, func(s *sim.GatewaySpec) { s.Testers = 1 })
	dead, err := net.Dial("tcp", g.Address())
	if err != nil {
		t.Fatal(err)
	}
	defer dead.Close()
	dead.Write(unhex("02FD000500000007 0E01 00 00000000"))
	io.ReadFull(dead, make([]byte, 17))
	if _, err := connect(t, g, "0x0E01"); err != nil {
		t.Error(err)
	}
}

func unhex(s string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	if err != nil {
		panic(err)
	}
	return b
}

// What is on the wire, and what a gateway may send. The bytes were worked by hand from the
// layout of header and payloads.
func TestMessagesAsTheStandardHasThem(t *testing.T) {
	t.Parallel()
	peer := func(answers ...string) (got chan []byte, address string) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		got = make(chan []byte, 8)
		go func() {
			c, err := l.Accept()
			if err != nil {
				return
			}
			defer c.Close()
			for _, a := range answers {
				head := make([]byte, 8)
				if _, err := io.ReadFull(c, head); err != nil {
					return
				}
				rest := make([]byte, head[7])
				io.ReadFull(c, rest)
				got <- append(head, rest...)
				c.Write(unhex(a))
			}
			io.Copy(io.Discard, c)
		}()
		return got, l.Addr().String()
	}
	routed := "02FD0006 00000009 0E00 1001 10 00000000"
	got, at := peer(routed, "02FD8002 00000005 0042 0E00 00 02FD8001 00000006 0042 0E00 7E00")
	l, err := doip.Kind{}.Open(ctx, link.Settings{"address": at}, core.System{})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if b := <-got; !bytes.Equal(b, unhex("02FD0005 00000007 0E00 00 00000000")) {
		t.Errorf("activation: % X", b)
	}
	c, _ := l.(link.Messages).Talk(ctx, 0x0042)
	if err := c.Send(ctx, []byte{0x3E, 0x00}); err != nil {
		t.Error(err)
	}
	if b := <-got; !bytes.Equal(b, unhex("02FD8001 00000006 0E00 0042 3E00")) {
		t.Errorf("diagnostic: % X", b)
	}
	if m, err := c.Receive(ctx, time.Now().Add(coretest.Patience)); err != nil || !bytes.Equal(m, []byte{0x7E, 0}) {
		t.Errorf("% X %v", m, err)
	}
	for name, x := range map[string]struct {
		answer, says string
		kind         core.Kind
	}{
		"a header that is none":        {"0102 0006 00000009", "no header of ISO 13400-2", core.RefusedByUnit},
		"a message without end":        {"02FD0006 7FFFFFFF", "are the most", core.RefusedByUnit},
		"wants to be confirmed":        {"02FD0006 00000009 0E00 1001 11 00000000", "confirmed", core.NotAllowed},
		"a code of the maker's own":    {"02FD0006 00000009 0E00 1001 E0 00000000", "code 0xE0", core.NotAllowed},
		"an answer that is cut off":    {"02FD0006 00000004 0E00 1001", "has 4 bytes", core.RefusedByUnit},
		"it wants an encrypted line":   {"02FD0006 00000009 0E00 1001 07 00000000", "encrypted", core.Protected},
		"it hangs up":                  {"", "closed", core.NotAnswering},
		"it hangs up within a message": {"02FD0006 00000009 0E00", "closed", core.NotAnswering},
	} {
		_, at := peer(x.answer)
		if strings.HasPrefix(name, "it hangs up") {
			l, _ := net.Listen("tcp", "127.0.0.1:0")
			t.Cleanup(func() { l.Close() })
			at = l.Addr().String()
			go func() {
				if c, err := l.Accept(); err == nil {
					c.Write(unhex(x.answer))
					c.Close()
				}
			}()
		}
		if _, err := (doip.Kind{}).Open(ctx, link.Settings{"address": at}, core.System{}); core.KindOf(err) != x.kind || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, x := range map[string]struct{ answer, says string }{
		"the header was wrong": {"02FD0000 00000001 02", "it is too long (0x02)"},
		"not in reach":         {"02FD8003 00000005 0042 0E00 06", "not in reach"},
		"no memory":            {"02FD8003 00000005 0042 0E00 05", "no memory left"},
	} {
		_, at := peer(routed, x.answer)
		l, err := doip.Kind{}.Open(ctx, link.Settings{"address": at}, core.System{})
		if err != nil {
			t.Fatal(err)
		}
		c, _ := l.(link.Messages).Talk(ctx, 0x0042)
		if err := c.Send(ctx, []byte{0x3E, 0}); err == nil || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%s: %v", name, err)
		}
		l.Close()
	}
}

// How the simulated gateway answers what is malformed: the standard says with which code,
// and whether the connection ends.
func TestMalformedHeadersAreAnswered(t *testing.T) {
	t.Parallel()
	g, _ := vehicle(t, nil)
	for name, x := range map[string]struct {
		send, want string
		ends       bool
	}{
		"a wrong pattern":       {"0202 0005 00000007 0E00 00 00000000", "02FD0000 00000001 00", true},
		"a type that is none":   {"02FD 7777 00000002 0000", "02FD0000 00000001 01", false},
		"too long":              {"02FD 8001 00010000", "02FD0000 00000001 02", false},
		"a length that is none": {"02FD 0005 00000003 0E0000", "02FD0000 00000001 04", true},
		"no routing":            {"02FD 8001 00000006 0E00 0042 3E00", "02FD8003 00000005 0042 0E00 02", true},
	} {
		c, err := net.Dial("tcp", g.Address())
		if err != nil {
			t.Fatal(err)
		}
		c.Write(unhex(x.send))
		c.SetReadDeadline(time.Now().Add(coretest.Patience))
		got := make([]byte, len(unhex(x.want)))
		if _, err := io.ReadFull(c, got); err != nil || !bytes.Equal(got, unhex(x.want)) {
			t.Errorf("%s: % X %v", name, got, err)
		}
		if x.ends {
			if _, err := c.Read(got); err == nil {
				t.Errorf("%s: the connection stays", name)
			}
		}
		c.Close()
	}
}

// TestAGatewaySaysWhoElseIsThere: entity status and power mode, of one that answers, one
// whose vehicle sleeps, and one that says nothing of itself.
func TestAGatewaySaysWhoElseIsThere(t *testing.T) {
	t.Parallel()
	ask := func(change func(*sim.GatewaySpec)) link.Entity {
		t.Helper()
		g, _ := vehicle(t, change)
		m, err := connect(t, g, "")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := connect(t, g, "0x0E01"); err != nil {
			t.Fatal(err)
		}
		e, err := m.(link.Told).Entity(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	if e := ask(nil); !e.Counted || e.Most != 2 || e.Open != 2 || e.Longest != 4096 || e.Power != link.PowerReady {
		t.Errorf("%+v", e)
	}
	if e := ask(func(s *sim.GatewaySpec) { s.Asleep = true }); e.Power != link.PowerNotReady {
		t.Errorf("%+v", e)
	}
	if e := ask(func(s *sim.GatewaySpec) { s.Dull = true }); e.Counted || e.Power != link.PowerUnknown {
		t.Errorf("%+v", e)
	}
}

func FuzzAnnounced(f *testing.F) {
	f.Add(unhex("02FD0004 00000021 5A46545547303030303030303030303432 1001 020000000042 020000000042 00"))
	f.Add([]byte{2, 0xFD, 0, 4, 0xFF, 0xFF, 0xFF, 0xFF})
	f.Fuzz(func(t *testing.T, b []byte) {
		if v, ok := doip.Announced(b); ok && len(v.VIN) > 17 {
			t.Fatalf("%+v", v)
		}
	})
}

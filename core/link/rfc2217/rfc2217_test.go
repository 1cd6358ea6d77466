package rfc2217

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// heard collects what the parser finds.
type heard struct{ log []string }

func (h *heard) option(verb, option byte) { h.log = append(h.log, fmt.Sprintf("%d %d", verb, option)) }
func (h *heard) command(b []byte)         { h.log = append(h.log, fmt.Sprintf("sub %v", b)) }

func TestTheParserSurvivesCutsAtAnyByte(t *testing.T) {
	stream := []byte{'a', iac, iac, 'b', iac, do, 44, 'c', iac, sb, 44, 101, 0, iac, iac, 7, iac, se, 'd', iac, 241, 'e'}
	whole := &heard{}
	var p telnet
	want := string(p.feed(stream, whole))
	if want != "a\xffbcde" || fmt.Sprint(whole.log) != "[253 44 sub [44 101 0 255 7]]" {
		t.Fatalf("%q %v", want, whole.log)
	}
	for cut := range stream {
		h := &heard{}
		var p telnet
		got := string(p.feed(stream[:cut], h))
		got += string(p.feed(stream[cut:], h))
		if got != want || fmt.Sprint(h.log) != fmt.Sprint(whole.log) {
			t.Errorf("cut at %d: %q %v", cut, got, h.log)
		}
	}
}

func FuzzTelnet(f *testing.F) {
	f.Add([]byte{'a', iac, iac, iac, sb, 44, 107, iac, se, iac, do, 3})
	f.Fuzz(func(t *testing.T, data []byte) {
		var p telnet
		if got := p.feed(data, &heard{}); len(got) > len(data) || len(p.sub) > subLimit {
			t.Fatal("more came out than went in")
		}
	})
}

// server answers as RFC 2217 asks, until it is told otherwise.
func server(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		c, err := l.Accept()
		if err == nil {
			defer c.Close()
			serve(c)
		}
	}()
	return l.Addr().String()
}

func open(address string) (link.Stream, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	l, err := Kind{}.Open(ctx, link.Settings{"address": address}, core.System{})
	if err != nil {
		return nil, err
	}
	return l.(link.Stream), nil
}

func TestServersThatAreNone(t *testing.T) {
	for name, serve := range map[string]func(net.Conn){
		"says nothing": func(c net.Conn) { c.Read(make([]byte, 100)); time.Sleep(500 * time.Millisecond) },
		"refuses": func(c net.Conn) {
			c.Read(make([]byte, 100))
			c.Write([]byte{iac, dont, optComPort})
			c.Read(make([]byte, 100))
		},
		"hangs up": func(net.Conn) {},
	} {
		if _, err := open(server(t, serve)); core.KindOf(err) != core.NotAnswering {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := open("127.0.0.1:1"); core.KindOf(err) != core.NotAnswering {
		t.Errorf("nobody there: %v", err)
	}
}

// echo is a server that answers commands with value, and sends data back.
func echo(answer func(command byte, value []byte) []byte) func(net.Conn) {
	return func(c net.Conn) {
		var p telnet
		w := &echoer{conn: c, answer: answer}
		buf := make([]byte, 1000)
		for {
			n, err := c.Read(buf)
			if data := p.feed(buf[:n], w); len(data) > 0 {
				c.Write(escaped(nil, data))
			}
			if err != nil {
				return
			}
		}
	}
}

type echoer struct {
	conn   net.Conn
	answer func(command byte, value []byte) []byte
}

func (e *echoer) option(verb, option byte) {
	if verb == will {
		e.conn.Write([]byte{iac, do, option})
	}
}

func (e *echoer) command(b []byte) {
	if v := e.answer(b[1], b[2:]); v != nil {
		e.conn.Write(append(append([]byte{iac, sb, optComPort, b[1] + fromServer}, escaped(nil, v)...), iac, se))
	}
}

func agree(_ byte, value []byte) []byte { return value }

func TestDataSettingsAndDeadline(t *testing.T) {
	s, err := open(server(t, echo(agree)))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.SetMode(link.Mode{Baud: 255 << 8, Bits: 8, Parity: "even", Stop: "1.5"}); err != nil {
		t.Error(err)
	}
	if err := s.SetLine(link.RTS, true); err != nil {
		t.Error(err)
	}
	if err := s.SetMode(link.Mode{Baud: 9600, Bits: 8, Parity: "left", Stop: "1"}); core.KindOf(err) != core.BadFile {
		t.Errorf("a parity that does not exist: %v", err)
	}
	want := []byte{1, 255, 2, 255, 255, 3}
	s.Write(want)
	var got []byte
	buf := make([]byte, 4)
	s.SetReadDeadline(time.Now().Add(2 * time.Second))
	for len(got) < len(want) {
		n, err := s.Read(buf)
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, buf[:n]...)
	}
	if !bytes.Equal(got, want) {
		t.Errorf("got %v", got)
	}
	s.SetReadDeadline(time.Now().Add(10 * time.Millisecond))
	if _, err := s.Read(buf); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("after the deadline: %v", err)
	}
}

func TestAServerThatSetsSomethingElseIsRefused(t *testing.T) {
	s, err := open(server(t, echo(func(command byte, v []byte) []byte {
		if command == setBaudRate {
			return []byte{0, 0, 0x25, 0x80}
		}
		return v
	})))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.SetMode(link.Default(115200)); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("got %v", err)
	}
}

func TestTheGenerationEndsWithDSRAndWithTheConnection(t *testing.T) {
	step := make(chan struct{})
	s, err := open(server(t, func(c net.Conn) {
		go echo(agree)(c)
		<-step
		c.Write([]byte{iac, sb, optComPort, notifyModemState + fromServer, deltaDSR, iac, se})
		<-step
	}))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	first := s.Generation()
	step <- struct{}{}
	await(t, func() bool { return s.Generation() > first })
	second := s.Generation()
	step <- struct{}{}
	await(t, func() bool { return s.Generation() > second })
	if _, err := s.Read(make([]byte, 1)); core.KindOf(err) != core.NotAnswering {
		t.Errorf("a link that is gone: %v", err)
	}
}

func await(t *testing.T, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(5 * time.Second); !holds(); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("it did not come")
		}
	}
}

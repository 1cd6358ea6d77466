package doip_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/doip"
	"zealousferry/sim"
)

// otherEnd is a connection on which the test itself is the vehicle; routing is activated.
func otherEnd(t *testing.T) (link.Messages, net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	got := make(chan net.Conn, 1)
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		io.ReadFull(c, make([]byte, 15))
		c.Write(unhex("02FD0006 00000009 0E00 1001 10 00000000"))
		got <- c
	}()
	m, err := doip.Kind{}.Open(ctx, link.Settings{"address": l.Addr().String()}, core.System{})
	if err != nil {
		t.Fatal(err)
	}
	c := <-got
	t.Cleanup(func() { m.Close(); c.Close() })
	return m.(link.Messages), c
}

func talk(t *testing.T, m link.Messages, to uint16) link.Conversation {
	t.Helper()
	c, err := m.Talk(ctx, to)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func soon() time.Time { return time.Now().Add(coretest.Patience) }

// TestWhoeverReadsHandsOnWhatIsForOthers: of two who wait, one reads the connection. He
// gets nothing for long and the other is answered; then he is told to stop, and the other
// reads on alone.
func TestWhoeverReadsHandsOnWhatIsForOthers(t *testing.T) {
	t.Parallel()
	m, v := otherEnd(t)
	a, b := talk(t, m, 0x42), talk(t, m, 0x43)
	stop, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan error, 1)
	go func() {
		_, err := a.Receive(stop, soon())
		ended <- err
	}()
	for n := range byte(3) {
		v.Write(append(unhex("02FD8001 00000006 0043 0E00 62"), n))
		if got, err := b.Receive(ctx, soon()); err != nil || !bytes.Equal(got, []byte{0x62, n}) {
			t.Fatalf("% X %v", got, err)
		}
	}
	cancel()
	if err := <-ended; core.KindOf(err) != core.Interrupted {
		t.Fatal(err)
	}
	v.Write(unhex("02FD8001 00000005 0043 0E00 63"))
	if got, err := b.Receive(ctx, soon()); err != nil || got[0] != 0x63 {
		t.Fatalf("% X %v", got, err)
	}
	v.Write(unhex("02FD8001 00000005 0042 0E00 64 02FD8001 00000005 0043 0E00 65"))
	if got, err := b.Receive(ctx, soon()); err != nil || got[0] != 0x65 {
		t.Fatalf("% X %v", got, err)
	}
	if got, err := a.Receive(ctx, time.Now()); err != nil || got[0] != 0x64 {
		t.Fatalf("what came for the other is lost: % X %v", got, err)
	}
}

// TestWhatCameIsThereWithoutWaiting: what is in the machine already is given to whoever
// has no time to wait, so that an answer that came late is not taken for the next one's.
func TestWhatCameIsThereWithoutWaiting(t *testing.T) {
	t.Parallel()
	m, v := otherEnd(t)
	a := talk(t, m, 0x42)
	if _, err := a.Receive(ctx, time.Now()); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Fatal(err)
	}
	v.Write(unhex("02FD8001 00000005 0042 0E00 61"))
	for by := soon(); ; {
		got, err := a.Receive(ctx, time.Now())
		if err == nil && got[0] == 0x61 {
			return
		}
		if !errors.Is(err, os.ErrDeadlineExceeded) || time.Now().After(by) {
			t.Fatalf("% X %v", got, err)
		}
	}
}

// TestAMessageInPieces, one that is longer than what is read at once, and one that a
// deadline cuts in two.
func TestAMessageInPieces(t *testing.T) {
	t.Parallel()
	m, v := otherEnd(t)
	a := talk(t, m, 0x42)
	v.Write(unhex("02FD8001 00000006 0042"))
	if _, err := a.Receive(ctx, time.Now().Add(20*time.Millisecond)); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Fatal(err)
	}
	v.Write(unhex("0E00 6101"))
	if got, err := a.Receive(ctx, soon()); err != nil || !bytes.Equal(got, []byte{0x61, 1}) {
		t.Fatalf("% X %v", got, err)
	}
	long := bytes.Repeat([]byte{0x5A}, 100_000)
	go v.Write(append(unhex("02FD8001 000186A4 0042 0E00"), long...))
	if got, err := a.Receive(ctx, soon()); err != nil || !bytes.Equal(got, long) {
		t.Fatalf("%d bytes, %v", len(got), err)
	}
}

// TestNobodyWaits: the vehicle's alive check is answered, and its end noticed.
func TestNobodyWaits(t *testing.T) {
	t.Parallel()
	m, v := otherEnd(t)
	a := talk(t, m, 0x42)
	for range 3 {
		v.Write(unhex("02FD0007 00000000"))
		got := make([]byte, 10)
		v.SetReadDeadline(soon())
		if _, err := io.ReadFull(v, got); err != nil || !bytes.Equal(got, unhex("02FD0008 00000002 0E00")) {
			t.Fatalf("% X %v", got, err)
		}
		v.Write(unhex("02FD8001 00000005 0042 0E00 61")) // and what is asked between two checks is heard
		if got, err := a.Receive(ctx, soon()); err != nil || got[0] != 0x61 {
			t.Fatalf("% X %v", got, err)
		}
	}
	was := m.Generation()
	v.Close()
	for by := soon(); m.Generation() == was; {
		if time.Now().After(by) {
			t.Fatal("nobody noticed that the vehicle hung up")
		}
		<-core.System{}.After(time.Millisecond)
	}
	if _, err := a.Receive(ctx, soon()); core.KindOf(err) != core.NotAnswering {
		t.Error(err)
	}
}

// TestManySideBySide: five modules, each with its own pace, are asked at the same time.
// Every answer comes to whoever asked, and nobody waits for one that is there.
func TestManySideBySide(t *testing.T) {
	t.Parallel()
	const modules, questions = 5, 100
	g, _ := vehicle(t, func(s *sim.GatewaySpec) {
		for n := range uint16(modules) {
			u, _, err := coretest.SmallUnitOf("module", func(x *sim.Spec) {
				x.Serial, x.Answers = fmt.Sprintf("S-%04d", n), time.Duration(n)*time.Millisecond
			})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(u.Close)
			s.Modules[0x50+n] = u
		}
	})
	m, err := connect(t, g, "")
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for n := range uint16(modules) {
		wg.Go(func() {
			for range questions {
				c, err := m.Talk(ctx, 0x50+n)
				if err == nil {
					err = c.Send(ctx, []byte{0x22, 0xF1, 0x8C})
				}
				var got []byte
				if err == nil {
					got, err = c.Receive(ctx, soon())
				}
				if want := fmt.Sprintf("\x62\xF1\x8CS-%04d", n); err != nil || string(got) != want {
					t.Errorf("module %d: %q %v", n, got, err)
					return
				}
				c.Close()
			}
		})
	}
	wg.Wait()
}

package serial

import (
	"context"
	"errors"
	"os"
	"testing"
	"time"

	"github.com/creack/pty"

	"zealousferry/core"
	"zealousferry/core/link"
)

func open(t *testing.T) (link.Stream, *os.File) {
	t.Helper()
	far, near, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { far.Close(); near.Close() })
	l, err := Kind{}.Open(context.Background(), link.Settings{"path": near.Name()}, core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l.(link.Stream), far
}

func TestAPseudoTerminalIsAStreamWithoutModemLines(t *testing.T) {
	s, far := open(t)
	if err := s.SetMode(link.Default(115200)); err != nil {
		t.Fatal(err)
	}
	if err := s.SetLine(link.DTR, true); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("a modem line: %v", err)
	}
	if err := link.Play(context.Background(), s, []link.Hand{{Line: link.RTS, On: true}, {Wait: time.Millisecond}}, link.Pace{Clock: core.System{}}); err != nil {
		t.Errorf("a script passes over lines that are not there: %v", err)
	}
	far.Write([]byte("ahoy"))
	buf := make([]byte, 10)
	s.SetReadDeadline(time.Now().Add(2 * time.Second))
	if n, err := s.Read(buf); err != nil || string(buf[:n]) != "ahoy" {
		t.Errorf("%q %v", buf[:n], err)
	}
	s.SetReadDeadline(time.Now().Add(5 * time.Millisecond))
	if _, err := s.Read(buf); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("after the deadline: %v", err)
	}
	s.Write([]byte("hello"))
	if n, _ := far.Read(buf); string(buf[:n]) != "hello" {
		t.Errorf("the far end read %q", buf[:n])
	}
}

func TestAPortIsOpenedOnce(t *testing.T) {
	s, _ := open(t)
	path := s.(*port).path
	if _, err := (Kind{}).Open(context.Background(), link.Settings{"path": path}, core.System{}); core.KindOf(err) != core.Busy {
		t.Errorf("a second time: %v", err)
	}
	before := s.Generation()
	s.Close()
	if s.Generation() == before {
		t.Error("closing leaves the generation")
	}
	again, err := Kind{}.Open(context.Background(), link.Settings{"path": path}, core.System{})
	if err != nil {
		t.Fatalf("after closing: %v", err)
	}
	again.Close()
}

func TestPortsThatAreNotThere(t *testing.T) {
	if _, err := (Kind{}).Open(context.Background(), link.Settings{"path": "/dev/ferry-none"}, core.System{}); core.KindOf(err) != core.NotAnswering {
		t.Errorf("got %v", err)
	}
	if _, err := (Kind{}).Open(context.Background(), link.Settings{}, core.System{}); core.KindOf(err) != core.BadFile {
		t.Errorf("got %v", err)
	}
}

package socketcan

import (
	"context"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"zealousferry/core"
	"zealousferry/core/link"
)

const patience = 10 * time.Second

// pair is a bus over one end of a pair of sockets that keep messages apart, as a CAN socket
// does; the other end is the bus's.
func pair(t *testing.T) (link.Frames, *os.File) {
	t.Helper()
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		t.Fatal(err)
	}
	b, far := Over(os.NewFile(uintptr(fds[0]), "near"), core.System{}), os.NewFile(uintptr(fds[1]), "far")
	t.Cleanup(func() { b.Close(); far.Close() })
	return b, far
}

func word(id uint32, rest ...byte) []byte {
	b := binary.NativeEndian.AppendUint32(nil, id)
	return append(b, rest...)
}

func TestFramesOnASocket(t *testing.T) {
	ctx := context.Background()
	b, far := pair(t)
	for _, x := range []struct {
		frame link.Frame
		raw   []byte
	}{
		{link.NewFrame(0x642, false, []byte{0x02, 0x3E, 0x00}), word(0x642, 3, 0, 0, 0, 0x02, 0x3E, 0x00, 0, 0, 0, 0, 0)},
		{link.NewFrame(0x18DA42F1, true, []byte{1, 2, 3, 4, 5, 6, 7, 8}), word(0x98DA42F1, 8, 0, 0, 0, 1, 2, 3, 4, 5, 6, 7, 8)},
		{link.Frame{ID: 0x7DF, Remote: true, N: 4}, word(0x400007DF, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)},
	} {
		ear := b.Hear(x.frame.Extended, x.frame.ID)
		if err := b.SendFrame(ctx, x.frame); err != nil {
			t.Fatal(err)
		}
		got := make([]byte, 64)
		far.SetReadDeadline(time.Now().Add(patience))
		if n, err := far.Read(got); err != nil || string(got[:n]) != string(x.raw) {
			t.Errorf("%v is % X on the socket, expected % X: %v", x.frame, got[:n], x.raw, err)
		}
		if _, err := far.Write(x.raw); err != nil {
			t.Fatal(err)
		}
		if f, err := ear.Next(ctx, time.Now().Add(patience)); err != nil || f != x.frame {
			t.Errorf("% X is %v, expected %v: %v", x.raw, f, x.frame, err)
		}
		ear.Close()
	}
	if err := b.SendFrame(ctx, link.Frame{ID: 0x800}); core.KindOf(err) != core.BadFile {
		t.Errorf("12 bits: %v", err)
	}
	ear := b.Hear(false)
	far.Write(word(0x20000004, 8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)) // the interface's own notice
	far.Write(word(0x123, 9, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0))
	far.Write([]byte{1, 2, 3})
	far.Write(word(0x124, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0))
	if f, err := ear.Next(ctx, time.Now().Add(patience)); err != nil || f.ID != 0x124 {
		t.Errorf("what is no frame is given as one: %v %v", f, err)
	}
	far.Close()
	if _, err := ear.Next(ctx, time.Now().Add(patience)); core.KindOf(err) != core.NotAnswering {
		t.Errorf("a bus that is gone: %v", err)
	}
	if b.Generation() == 1 {
		t.Error("the identity outlives the bus")
	}
}

func TestAnInterfaceThatIsNotThere(t *testing.T) {
	_, err := Kind{}.Open(context.Background(), link.Settings{"interface": "can-none"}, core.System{})
	if core.KindOf(err) != core.NotAnswering || core.AsError(err, "").Next == "" {
		t.Errorf("%v", err)
	}
	tree := t.TempDir()
	if err := os.MkdirAll(filepath.Join(tree, "class", "net", "can0"), 0o755); err != nil {
		t.Fatal(err)
	}
	if !There(tree, "can0") || There(tree, "can1") || There(tree, "../../etc") {
		t.Error("which interfaces there are")
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(word(0x98DA42F1, 8, 0, 0, 0, 1, 2, 3, 4, 5, 6, 7, 8))
	f.Fuzz(func(t *testing.T, raw []byte) {
		frame, ok := decode(raw)
		if !ok {
			return
		}
		again, ok := decode(func() []byte { x := encode(frame); return x[:] }())
		if !ok || again != frame {
			t.Errorf("%v becomes %v", frame, again)
		}
	})
}

// Package socketcan is a CAN bus on an interface of this machine, through the sockets that
// Linux has for CAN (Documentation/networking/can.rst). The bus's bit rate is the
// interface's, and is set with it.
package socketcan

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Kind is "can-socket".
type Kind struct{}

// Name is "can-socket".
func (Kind) Name() string { return "can-socket" }

// Open opens the bus on the interface that the settings name, such as can0.
func (Kind) Open(_ context.Context, s link.Settings, clock core.Clock) (link.Link, error) {
	name := s["interface"]
	in, err := net.InterfaceByName(name)
	if err != nil {
		return nil, core.Fail(core.NotAnswering, "this machine has no CAN interface %q", name).Do("See that the adapter is plugged in, and that its driver is there: `ip link` lists the interfaces.")
	}
	fd, err := unix.Socket(unix.AF_CAN, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, unix.CAN_RAW)
	if err != nil {
		return nil, core.Fail(core.NotAnswering, "this machine's kernel has no CAN sockets: %w", err).Do("Use a serial-line adapter, or a kernel with CAN.")
	}
	if err := unix.Bind(fd, &unix.SockaddrCAN{Ifindex: in.Index}); err != nil {
		unix.Close(fd)
		return nil, core.Fail(core.NotAnswering, "CAN interface %s cannot be used: %w", name, err).Do("See that it is a CAN interface.")
	}
	if in.Flags&net.FlagUp == 0 {
		unix.Close(fd)
		return nil, core.Fail(core.NotAnswering, "CAN interface %s is down", name).Do("Whoever looks after this machine sets its bit rate and brings it up: ip link set %s up type can bitrate 500000.", name)
	}
	return Over(os.NewFile(uintptr(fd), name), clock), nil
}

// There tells whether this machine has such an interface; tree is where its devices are.
func There(tree, name string) bool {
	_, err := os.Stat(filepath.Join(tree, "class", "net", filepath.Base(name)))
	return err == nil
}

// frameLength is that of struct can_frame: identifier with flags, length, three bytes that
// fill, data.
const frameLength = 16

// Over is the bus behind an open socket, which it owns from then on.
func Over(socket *os.File, clock core.Clock) link.Frames {
	b := &bus{socket: socket, clock: clock}
	b.ears.Clock = clock
	go b.receive()
	return b
}

type bus struct {
	socket *os.File
	clock  core.Clock
	ears   link.Ears
	mu     sync.Mutex
	ended  atomic.Uint64 // 1 once the interface went: who was on the bus may not be there any more
}

func (b *bus) Generation() uint64 { return 1 + b.ended.Load() }

func (b *bus) Close() error {
	err := b.socket.Close()
	b.ears.End(core.Fail(core.NotAnswering, "the CAN bus was closed"))
	return err
}

func (b *bus) Hear(extended bool, ids ...uint32) link.Ear { return b.ears.Hear(extended, ids...) }

// retryFull is how long the interface's queue is given before a frame is tried again.
const retryFull = time.Millisecond

// SendFrame hands a frame to the interface. While its queue is full, it waits.
func (b *bus) SendFrame(ctx context.Context, f link.Frame) error {
	if f.N > 8 || f.ID > 0x7FF && !f.Extended || f.ID > 0x1FFFFFFF {
		return core.Fail(core.BadFile, "%v is no frame of classic CAN", f)
	}
	raw := encode(f)
	b.mu.Lock()
	defer b.mu.Unlock()
	for {
		_, err := b.socket.Write(raw[:])
		switch {
		case errors.Is(err, unix.ENOBUFS):
			select {
			case <-b.clock.After(retryFull):
				continue
			case <-ctx.Done():
				return core.Fail(core.NotAnswering, "the CAN bus does not take frames: its queue stays full").
					Do("See that the module has power and hangs on the bus, that the bus is terminated, and that its rate is right.")
			}
		case errors.Is(err, unix.ENETDOWN):
			return core.Fail(core.NotAnswering, "the CAN interface went down").Do("Bring it up again; a bus that is shorted or has the wrong rate takes it down.")
		case err != nil:
			return core.Fail(core.NotAnswering, "a frame cannot be sent: %w", err)
		}
		return nil
	}
}

func (b *bus) receive() {
	raw := make([]byte, frameLength)
	for {
		n, err := b.socket.Read(raw)
		if err != nil {
			b.ended.Store(1)
		}
		if errors.Is(err, unix.ENETDOWN) {
			b.ears.End(core.Fail(core.NotAnswering, "the CAN interface went down"))
			return
		}
		if err != nil {
			b.ears.End(core.Fail(core.NotAnswering, "the CAN bus is gone: %w", err))
			return
		}
		if f, ok := decode(raw[:n]); ok {
			b.ears.Give(f)
		}
	}
}

func encode(f link.Frame) (raw [frameLength]byte) {
	id := f.ID
	if f.Extended {
		id |= unix.CAN_EFF_FLAG
	}
	if f.Remote {
		id |= unix.CAN_RTR_FLAG
	}
	binary.NativeEndian.PutUint32(raw[:], id)
	raw[4] = f.N
	if !f.Remote {
		copy(raw[8:], f.Data[:f.N])
	}
	return raw
}

// decode reads a frame; false for what is none, such as the interface's own notices.
func decode(raw []byte) (f link.Frame, ok bool) {
	if len(raw) != frameLength || raw[4] > 8 {
		return f, false
	}
	id := binary.NativeEndian.Uint32(raw)
	if id&unix.CAN_ERR_FLAG != 0 {
		return f, false
	}
	f.Extended, f.Remote = id&unix.CAN_EFF_FLAG != 0, id&unix.CAN_RTR_FLAG != 0
	if f.ID = id & unix.CAN_SFF_MASK; f.Extended {
		f.ID = id & unix.CAN_EFF_MASK
	}
	f.N = raw[4]
	if !f.Remote {
		copy(f.Data[:f.N], raw[8:])
	}
	return f, true
}

// Package serial opens a serial port of this machine. A pseudo-terminal has no
// modem lines; it is a stream all the same.
package serial

import (
	"context"
	"errors"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"go.bug.st/serial"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Kind is "serial"; its settings are {path}.
type Kind struct{}

// Name is "serial".
func (Kind) Name() string { return "serial" }

// held are the ports open in this process: root may open a port twice.
var held sync.Map

// Open opens the port at 8N1, 115200 baud. A port that this process already has
// open is an error of kind busy.
func (Kind) Open(_ context.Context, s link.Settings, clock core.Clock) (link.Link, error) {
	path := s["path"]
	if path == "" {
		return nil, core.Fail(core.BadFile, "a serial link needs a path, such as /dev/ttyUSB0")
	}
	if _, taken := held.LoadOrStore(path, true); taken {
		return nil, core.Fail(core.Busy, "port %s is open in this bench already", path)
	}
	raw, err := serial.Open(path, &serial.Mode{BaudRate: 115200, DataBits: 8})
	if err != nil {
		held.Delete(path)
		return nil, openError(path, err)
	}
	p := &port{path: path, raw: raw, clock: clock}
	p.generation.Store(1)
	return p, nil
}

func openError(path string, err error) error {
	var e *serial.PortError
	if errors.As(err, &e) {
		switch e.Code() {
		case serial.PortBusy:
			return core.Fail(core.Busy, "another program holds port %s: %w", path, err).Do("Close that program, then try again.")
		case serial.PermissionDenied:
			return core.Fail(core.NotAllowed, "port %s may not be opened by this user: %w", path, err)
		}
	}
	return core.Fail(core.NotAnswering, "port %s cannot be opened: %w", path, err).Do("See that the adapter is plugged in.")
}

type port struct {
	path       string
	raw        serial.Port
	clock      core.Clock
	mu         sync.Mutex
	deadline   time.Time
	generation atomic.Uint64
	closed     atomic.Bool
}

func (p *port) Generation() uint64 { return p.generation.Load() }

func (p *port) Close() error {
	if p.closed.Swap(true) {
		return nil
	}
	p.generation.Add(1)
	held.Delete(p.path)
	return p.raw.Close()
}

func (p *port) SetReadDeadline(t time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.deadline = t
	return nil
}

// Read asks the port in short turns, so that a deadline moved meanwhile counts.
func (p *port) Read(b []byte) (int, error) {
	for {
		p.mu.Lock()
		deadline := p.deadline
		p.mu.Unlock()
		wait := 100 * time.Millisecond
		if !deadline.IsZero() {
			left := deadline.Sub(p.clock.Now())
			if left <= 0 {
				return 0, os.ErrDeadlineExceeded
			}
			wait = min(wait, max(left, time.Millisecond))
		}
		if err := p.raw.SetReadTimeout(wait); err != nil {
			return 0, p.gone(err)
		}
		n, err := p.raw.Read(b)
		if err != nil {
			return n, p.gone(err)
		}
		if n > 0 {
			return n, nil
		}
	}
}

func (p *port) Write(b []byte) (int, error) {
	n, err := p.raw.Write(b)
	if err != nil {
		err = p.gone(err)
	}
	return n, err
}

func (p *port) gone(err error) error {
	p.generation.Add(1)
	return core.Fail(core.NotAnswering, "port %s is gone: %w", p.path, err).Do("Plug the adapter in again.")
}

var parities = map[string]serial.Parity{"none": serial.NoParity, "odd": serial.OddParity,
	"even": serial.EvenParity, "mark": serial.MarkParity, "space": serial.SpaceParity}

var stops = map[string]serial.StopBits{"1": serial.OneStopBit, "1.5": serial.OnePointFiveStopBits, "2": serial.TwoStopBits}

func (p *port) SetMode(m link.Mode) error {
	parity, known := parities[m.Parity]
	stop, known2 := stops[m.Stop]
	if !known || !known2 {
		return core.Fail(core.BadFile, "port %s: no such line setting: %+v", p.path, m)
	}
	if err := p.raw.SetMode(&serial.Mode{BaudRate: m.Baud, DataBits: m.Bits, Parity: parity, StopBits: stop}); err != nil {
		return core.Fail(core.RefusedByUnit, "port %s does not take %d baud, %d bits, parity %s, stop %s: %w", p.path, m.Baud, m.Bits, m.Parity, m.Stop, err)
	}
	return nil
}

// Break holds the line low.
func (p *port) Break(d time.Duration) error {
	if err := p.raw.Break(d); err != nil {
		return core.Fail(core.RefusedByUnit, "port %s sends no break: %w", p.path, err)
	}
	return nil
}

func (p *port) SetLine(l link.Line, on bool) error {
	set := p.raw.SetDTR
	if l == link.RTS {
		set = p.raw.SetRTS
	}
	if err := set(on); err != nil {
		return core.Fail(core.RefusedByUnit, "port %s has no modem line %s: %w", p.path, l, err)
	}
	return nil
}

func (p *port) Purge() error {
	if err := p.raw.ResetInputBuffer(); err != nil {
		return p.gone(err)
	}
	return nil
}

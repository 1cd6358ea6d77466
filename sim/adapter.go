package sim

import (
	"fmt"
	"sync"
	"time"
)

// Wiring is what is wrong between the bench and the unit, in the adapter's words.
type Wiring struct {
	Crossed     bool   `json:"crossed,omitempty"`     // transmit is wired to transmit
	OpenToUnit  bool   `json:"openToUnit,omitempty"`  // the wire that the unit listens on is off
	OpenToBench bool   `json:"openToBench,omitempty"` // the wire that the unit speaks on is off
	OpenGround  bool   `json:"openGround,omitempty"`
	Bridged     bool   `json:"bridged,omitempty"`     // the two data wires touch each other
	Inverted    bool   `json:"inverted,omitempty"`    // the adapter stands the other way round than the unit
	LowLevel    bool   `json:"lowLevel,omitempty"`    // its voltage is too low for the unit's input
	DeadAdapter bool   `json:"deadAdapter,omitempty"` // it opens, and that is all
	NoStrap     bool   `json:"noStrap,omitempty"`     // the strap is not fitted, nor its line
	NoReset     bool   `json:"noReset,omitempty"`     // the reset line is off
	HeldReset   bool   `json:"heldReset,omitempty"`   // the unit is held in reset
	Sag         bool   `json:"sag,omitempty"`         // the supply gives way whenever the unit works
	Weak        int64  `json:"weak,omitempty"`        // the supply gives way once the unit was sent so many bytes since it was called, each time
	LongLead    bool   `json:"longLead,omitempty"`    // bytes are spoilt above 57 600 baud
	Slow        int    `json:"slow,omitempty"`        // what is faster than this many baud comes as noise
	Latency     int64  `json:"latency,omitempty"`     // ms that the adapter holds bytes back
	Delay       int64  `json:"delay,omitempty"`       // ms of the network, each way
	Baud        int    `json:"baud,omitempty"`        // the unit's true speed
	Parity      string `json:"parity,omitempty"`      // the unit's true parity
}

// host is whoever has plugged the adapter in: a telnet visitor or a terminal.
type host interface {
	deliver(data []byte)
	lineState(bits byte)  // of a 16550's line status register
	modemState(bits byte) // of its modem status register
	Close() error
}

// Bits of the line status register.
const (
	lineParity  = 0x04
	lineFraming = 0x08
	lineBreak   = 0x10
)

// adapter is the thing between bench and unit: it turns bytes into levels and
// back, at the bench's settings, over wires that may be wrong.
type adapter struct {
	unit *Unit
	host host
	mode uart        // as the bench set it
	rx   *wire       // bench to unit
	tx   *wire       // unit to bench
	told chan func() // notices to the host, in their order
	gone chan struct{}
	once sync.Once
}

func newAdapter(u *Unit, h host) *adapter {
	return &adapter{unit: u, host: h, mode: uart{u.Baud, "none", u.Inverted}, told: make(chan func(), 64), gone: make(chan struct{}),
		rx: newWire(u.clock, u.Exact, 8), tx: newWire(u.clock, u.Exact, 0)}
}

// carry moves bytes both ways while listen runs, then unplugs the adapter.
func (a *adapter) carry(listen func()) {
	var carriers sync.WaitGroup
	carriers.Add(3)
	go func() {
		defer carriers.Done()
		for tell := range a.told {
			tell()
		}
	}()
	go func() { defer carriers.Done(); a.rx.carry(a.unit.arrive) }()
	go func() { defer carriers.Done(); a.tx.carry(a.toBench) }()
	a.unit.mu.Lock()
	a.idle()
	a.unit.mu.Unlock()
	listen()
	a.unplug()
	a.unit.mu.Lock()
	a.unit.adapter = nil
	a.tx.close()
	close(a.told)
	a.unit.mu.Unlock()
	a.rx.close()
	carriers.Wait()
}

// tell queues a notice; called with the lock. A host that takes none loses them.
func (a *adapter) tell(notice func()) {
	select {
	case a.told <- notice:
	default:
	}
}

func (a *adapter) unplug() {
	a.once.Do(func() { close(a.gone) })
	a.host.Close()
}

// take is bytes from the bench. False if the adapter was unplugged.
func (a *adapter) take(data []byte) bool {
	u := a.unit
	u.mu.Lock()
	f, character := u.faults, u.scaled(a.mode.character())
	delay := u.Delay/2 + time.Duration(f.Delay)*time.Millisecond
	now := u.clock.Now()
	if a.echoes() {
		a.tx.send(data, now, character, delay+time.Duration(f.Latency)*time.Millisecond, a.mode, a.gone)
	}
	lost := f.Crossed || f.OpenToUnit || f.DeadAdapter || f.LowLevel || u.bridge != ""
	u.mu.Unlock()
	if lost {
		return true
	}
	return a.rx.send(data, now, character, delay, a.mode, a.gone)
}

// echoes tells whether the bench hears what it sends.
func (a *adapter) echoes() bool {
	u, f := a.unit, a.unit.faults
	switch u.bridge {
	case BridgeAdapter:
		return !f.DeadAdapter
	case BridgeOff:
		return !f.DeadAdapter && u.OneWire
	case BridgePlug:
		return !f.DeadAdapter && !f.OpenToUnit && !f.OpenToBench
	}
	return !f.DeadAdapter && (u.OneWire || f.Bridged)
}

// say puts the unit's bytes on the line to the bench; called with the unit's lock.
func (a *adapter) say(data []byte, ready time.Time) {
	u, f := a.unit, a.unit.faults
	if f.Crossed || f.OpenToBench || f.DeadAdapter || u.bridge != "" {
		return
	}
	s := u.setting()
	a.tx.send(append([]byte(nil), data...), ready, u.scaled(s.character()), u.Delay/2+time.Duration(f.Delay+f.Latency)*time.Millisecond, s, a.gone)
}

// toBench is bytes that have come through the line.
func (a *adapter) toBench(p parcel) {
	u := a.unit
	u.mu.Lock()
	chars := u.heard(p.data, p.from, a.mode)
	u.mu.Unlock()
	data := make([]byte, 0, len(chars))
	for _, c := range chars {
		if c.framing || c.parity {
			if len(data) > 0 {
				a.host.deliver(data)
				data = data[:0:0]
			}
			state := byte(1)
			if c.framing {
				state |= lineFraming
			}
			if c.parity {
				state |= lineParity
			}
			if c.broken {
				state |= lineBreak
			}
			a.host.lineState(state)
		}
		data = append(data, c.value)
	}
	if len(data) > 0 {
		a.host.deliver(data)
	}
}

// heard is what arrives at an end with the setting to, with all that the
// wires do to it; called with the lock.
func (u *Unit) heard(data []byte, from, to uart) []char {
	f := u.faults
	out := make([]char, 0, len(data))
	if from.alike(to) {
		for _, c := range data {
			out = append(out, char{value: c})
		}
	} else {
		out = sampled(data, from, to)
	}
	noise, loss := f.Noise, f.Loss
	if f.LongLead && from.baud > 57600 {
		noise = max(noise, 0.0006)
	}
	if f.OpenGround || f.Slow > 0 && from.baud > f.Slow {
		noise = max(noise, 0.5)
	}
	if u.onBus() { // its noise is on the bus, where a check finds it
		return out
	}
	if noise == 0 && loss == 0 {
		return out
	}
	kept := out[:0]
	for _, c := range out {
		if u.random.Float64() < loss {
			continue
		}
		if u.random.Float64() < noise {
			c.value ^= 1 << u.random.UintN(8)
			c.framing = c.framing || u.random.UintN(4) == 0
		}
		kept = append(kept, c)
	}
	return kept
}

// idle tells the bench of a line that is held low: nothing drives it, or it idles
// the other way round. Called with the lock.
func (a *adapter) idle() {
	u, f := a.unit, a.unit.faults
	if u.bridge != "" || f.Crossed || f.OpenToBench || f.DeadAdapter {
		return
	}
	low := !u.powered || u.reset || f.HeldReset || u.setting().inverted != a.mode.inverted
	if low {
		a.tell(func() { a.host.lineState(lineBreak | lineFraming | 1); a.host.deliver([]byte{0}) })
	}
	if f.OpenGround { // the mains hum comes in
		hum := make([]byte, 6+u.random.IntN(6))
		for i := range hum {
			hum[i] = byte(u.random.Uint32())
		}
		a.tell(func() { a.host.lineState(lineFraming | 1); a.host.deliver(hum) })
	}
}

// Where a person may bridge the two data wires, the unit being unplugged.
const (
	BridgeAdapter = "adapter"
	BridgePlug    = "plug"
	BridgeOff     = "off" // none; the lead is off the adapter
)

// Bridge is a person's wire bridge between the data pins; "" takes it off and
// plugs the unit in again.
func (u *Unit) Bridge(where string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.bridge = where
}

// Measure is what a meter shows: volts at "supply" and at "transmit" (of the
// adapter), ohms at "ground" (between adapter and unit).
func (u *Unit) Measure(what string) (float64, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	f := u.faults
	switch what {
	case "supply":
		switch {
		case !u.powered:
			return 0, nil
		case f.Sag || f.Weak > 0:
			return 2.4, nil
		}
		return 3.3, nil
	case "transmit":
		switch {
		case f.DeadAdapter:
			return 0, nil
		case f.LowLevel:
			return 1.8, nil
		}
		return 3.3, nil
	case "ground":
		if f.OpenGround {
			return 1e6, nil
		}
		return 0.3, nil
	}
	return 0, fmt.Errorf("there is nothing to measure called %q", what)
}

// String names the faults, for messages of tests.
func (w Wiring) String() string {
	type plain Wiring
	return fmt.Sprintf("%+v", plain(w))
}

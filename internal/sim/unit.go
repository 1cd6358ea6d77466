// Package sim is simulated units: each is a serial server on loopback (RFC 2217)
// with boot straps on DTR and RTS, an application that prints a banner and tells
// its version, a Gangway loader, flash in a file, and the pace of the real thing.
// Its codecs are its own, written from docs/protocols/gangway.md and RFC 2217.
package sim

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
	"time"

	"zealousferry/core"
)

// Range is a stretch of memory that the loader does not write.
type Range struct{ Address, Length uint64 }

// Spec is what a simulated unit is.
type Spec struct {
	Name     string // of its socket, e.g. "quay-3"
	Says     string // model
	Revision string
	Serial   string
	Region   string // empty: it does not tell
	Chip     string
	Loader   string

	Base      uint64
	Size      int
	Sector    int
	Program   uint64 // address of the program's header
	Closed    []Range
	Baud      int
	WriteMax  int
	ReadMax   int
	Window    int
	Erase     time.Duration // of one sector
	Page      time.Duration // to program 256 bytes
	DigestBPS int
	NoDigest  bool
	NoRead    bool

	Scale float64       // of all its times; 0 is 1
	Delay time.Duration // added to the round trip, half each way
	Path  string        // of its memory; empty keeps it in the process
	Fresh func() []byte // its memory when it is new
	Seed  uint64
}

// Unit is a running simulated unit.
type Unit struct {
	Spec
	clock    core.Clock
	listener net.Listener
	ended    chan struct{}
	end      sync.Once

	mu       sync.Mutex
	faults   Faults
	flash    *flash
	random   *rand.Rand
	conn     *connection
	powered  bool
	reset    bool
	strap    bool
	inLoader bool
	life     int // grows with every reset and loss of power
	baud     int
	rx       []byte
	rxAt     time.Time
	wake     chan struct{}
	received int64
	busy     time.Time // until when the unit works
	boots    int
	session  sessionState
}

// Start opens a unit on address, e.g. "127.0.0.1:0".
func Start(s Spec, address string, clock core.Clock) (*Unit, error) {
	if s.Scale == 0 {
		s.Scale = 1
	}
	if s.Fresh == nil {
		s.Fresh = func() []byte { return bytes.Repeat([]byte{0xFF}, s.Size) }
	}
	f, err := openFlash(s.Path, s.Base, uint64(s.Sector), s.Fresh)
	if err != nil {
		return nil, fmt.Errorf("unit %s: %w", s.Name, err)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("unit %s: %w", s.Name, err)
	}
	u := &Unit{Spec: s, clock: clock, listener: l, flash: f, ended: make(chan struct{}), wake: make(chan struct{}, 1),
		powered: true, random: rand.New(rand.NewPCG(s.Seed, 7)), baud: s.Baud}
	go u.accept()
	go u.work()
	return u, nil
}

// Address is where the unit's serial server listens.
func (u *Unit) Address() string { return u.listener.Addr().String() }

// Close ends the unit.
func (u *Unit) Close() {
	u.end.Do(func() {
		close(u.ended)
		u.listener.Close()
		u.mu.Lock()
		if u.conn != nil {
			u.conn.Close()
		}
		if u.flash.file != nil {
			u.flash.file.Close()
		}
		u.mu.Unlock()
	})
}

// Set changes the faults.
func (u *Unit) Set(f Faults) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if f.CutPower > 0 {
		f.CutPower += u.received
	}
	if f.CutLead > 0 {
		f.CutLead += u.received
	}
	u.faults = f
}

// Power switches the unit off or on; on, it starts in its program.
func (u *Unit) Power(on bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.power(on)
}

func (u *Unit) power(on bool) {
	if u.powered == on {
		return
	}
	u.powered = on
	u.restart(u.strap)
	if u.conn != nil {
		u.conn.modem(on)
	}
}

// Swap puts another unit on the lead: serial, revision and memory are its own.
func (u *Unit) Swap(serial, revision string, memory []byte) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.power(false)
	u.Serial, u.Revision = serial, revision
	if memory != nil {
		copy(u.flash.data, memory)
		u.flash.keep(u.Base, uint64(u.Size))
	}
	u.power(true)
}

// Memory copies the unit's memory.
func (u *Unit) Memory() []byte {
	u.mu.Lock()
	defer u.mu.Unlock()
	return bytes.Clone(u.flash.data)
}

// Write puts bytes into the unit's memory behind everybody's back.
func (u *Unit) Write(address uint64, data []byte) {
	u.mu.Lock()
	defer u.mu.Unlock()
	copy(u.flash.slice(address, uint64(len(data))), data)
	u.flash.keep(address, uint64(len(data)))
}

// Version is what the program in memory would run as; empty if none would.
func (u *Unit) Version() string {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.version()
}

func (u *Unit) version() string { return programVersion(u.flash.data[u.Program-u.Base:]) }

// Received counts the bytes that the unit was sent.
func (u *Unit) Received() int64 {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.received
}

func (u *Unit) scaled(d time.Duration) time.Duration { return time.Duration(float64(d) * u.Scale) }

// character is the time of one byte: ten bits.
func (u *Unit) character() time.Duration {
	return u.scaled(time.Second * 10 / time.Duration(u.Baud))
}

// restart begins a new life in the loader or in the program.
func (u *Unit) restart(loader bool) {
	u.life++
	u.inLoader = loader || u.version() == ""
	u.rx = u.rx[:0]
	u.session = sessionState{}
	u.busy = u.clock.Now()
	if u.powered && !u.inLoader {
		u.boots++
		u.speak([]byte(fmt.Sprintf("\r\n%s %s starting, program %s\r\n", u.Says, u.Revision, u.version())), u.busy.Add(u.scaled(30*time.Millisecond)))
	}
}

// lines takes DTR (reset while on) and RTS (the boot strap).
func (u *Unit) lines(dtr, rts *bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if rts != nil {
		u.strap = *rts
	}
	if dtr == nil || *dtr == u.reset {
		return
	}
	u.reset = *dtr
	if u.reset {
		u.life++
		u.rx = u.rx[:0]
	} else if u.powered {
		u.restart(u.strap)
	}
}

// arrive takes bytes off the line.
func (u *Unit) arrive(p parcel) {
	u.mu.Lock()
	defer u.mu.Unlock()
	data := u.spoil(p.data)
	for _, c := range data {
		u.received++
		if u.faults.CutLead > 0 && u.received >= u.faults.CutLead {
			u.faults.CutLead = 0
			if u.conn != nil {
				u.conn.Close()
			}
			return
		}
		if u.faults.CutPower > 0 && u.received >= u.faults.CutPower {
			u.faults.CutPower = 0
			u.power(false)
			return
		}
		if u.powered && !u.reset && len(u.rx) < u.Window {
			u.rx = append(u.rx, c)
		}
	}
	u.rxAt = p.at
	select {
	case u.wake <- struct{}{}:
	default:
	}
}

// spoil applies noise, loss and a wrong line speed.
func (u *Unit) spoil(data []byte) []byte {
	if u.faults.Noise == 0 && u.faults.Loss == 0 && u.baud == u.Baud {
		return data
	}
	out := make([]byte, 0, len(data))
	for _, c := range data {
		if u.random.Float64() < u.faults.Loss {
			continue
		}
		if u.random.Float64() < u.faults.Noise {
			c ^= 1 << u.random.UintN(8)
		}
		if u.baud != u.Baud {
			c = byte(u.random.Uint32())
		}
		out = append(out, c)
	}
	return out
}

// speak sends bytes to whoever holds the lead.
func (u *Unit) speak(data []byte, ready time.Time) {
	if u.conn == nil || u.faults.Silent || !u.powered {
		return
	}
	u.conn.out(u.spoil(data), ready)
}

// work is the unit's processor: it takes what arrived, piece by piece.
func (u *Unit) work() {
	for {
		select {
		case <-u.ended:
			return
		case <-u.wake:
		}
		for u.turn() {
		}
	}
}

// turn handles one frame or one line of text; false if there is none.
func (u *Unit) turn() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	if !u.powered || u.reset {
		return false
	}
	end := byte(0)
	if !u.inLoader {
		end = '\r'
	}
	i := bytes.IndexByte(u.rx, end)
	if i < 0 {
		if !u.inLoader && len(u.rx) > 80 {
			u.rx = u.rx[:0]
		}
		return false
	}
	frame := bytes.Clone(u.rx[:i])
	u.rx = append(u.rx[:0], u.rx[i+1:]...)
	if u.busy.Before(u.rxAt) {
		u.busy = u.rxAt
	}
	if u.inLoader {
		u.frame(frame)
	} else if bytes.HasSuffix(frame, []byte("V?")) {
		u.speak([]byte("program "+u.version()+"\r\n"), u.busy.Add(u.scaled(2*time.Millisecond)))
	}
	return true
}

// labour lets time pass while the unit works; it is called with the lock held
// and gives it up meanwhile. False if the unit lost its power or was reset.
func (u *Unit) labour(d time.Duration) bool {
	life := u.life
	u.busy = u.busy.Add(u.scaled(d))
	if wait := u.busy.Sub(u.clock.Now()); wait > 0 {
		u.mu.Unlock()
		select {
		case <-u.clock.After(wait):
		case <-u.ended:
		}
		u.mu.Lock()
	}
	return u.life == life && u.powered
}

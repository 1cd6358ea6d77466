// Package sim is simulated units: each is a serial server on loopback (RFC 2217)
// or a pseudo-terminal, with boot straps on DTR and RTS, an application that
// prints a banner and tells its version, a loader, flash in a file, the pace of
// the real thing, and an adapter whose wires may be wrong. Its codecs are its own,
// written from docs/protocols and the standards; they import nothing of core.
package sim

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"sync"
	"sync/atomic"
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
	Loader   string // its version
	Kind     string // of loader: gangway (the default), keel, monitor, xmodem, ymodem; module is one of a vehicle, behind a CAN adapter; can-adapter is one on the bus of a vehicle, and no module itself

	Parity    string            // of its loader; none where it is empty
	Inverted  bool              // its lines idle low
	OneWire   bool              // it speaks and listens on one wire, so that the bench hears itself
	OpensFor  time.Duration     // after power-up it waits so long for its loader to be called; 0: the strap decides
	ChipID    uint32            // that a keel tells
	Habit     string            // of a monitor: lines (the default), silent, menu
	Password  string            // that the silent one wants before it touches memory
	Codes     []uint32          // faults that a module has noted when it is new: 24 bits of code and the status octet
	Unlearned uint32            // the fault code and status that a module notes from when it was written until it has learnt its end stops; 0: it learns nothing
	Rejects   string            // the version of a program that a module's own check finds to be for other hardware
	Misses    map[string]uint32 // the fault code and status that a module notes while another one, by what it says that it is, is silent
	Answers   time.Duration     // that a module takes for each answer
	Bus       int               // bit/s of a module's bus; 500 000 where it is 0
	Request   uint32            // identifiers of a module on its bus; CanRequest and CanResponse where they are 0
	Response  uint32
	BlockSize uint8  // frames that a module takes before it wants to be asked again; 0: all
	Bank      int    // bytes of its banks; none where it is 0
	Lacks     uint16 // abilities that its keel is without
	Locked    bool   // its memory is locked against reading when it is new

	Boot      Range // where its boot loader stands, a program like any; without a whole one there nothing runs. Always there where it has no length
	Base      uint64
	Size      int
	Sector    int
	Program   uint64 // address of the program's header
	Settings  Range  // where its settings stand as text; none where it has no length
	Paged     []Paged
	Closed    []Range
	Latch     Range             // after a write into it the loader takes no write elsewhere before the power was off; none where it has no length
	Files     map[string][]byte // its file tree when it is new; none where it is nil
	HasFiles  bool              // it has a tree, if an empty one
	Baud      int
	WriteMax  int
	ReadMax   int
	Window    int
	Erase     time.Duration // of one sector
	Page      time.Duration // to program 256 bytes
	DigestBPS int
	NoDigest  bool
	Calls     string // the line of text for which its program goes into its loader; none where it is empty
	Mute      bool   // its program says nothing of itself
	NoRead    bool

	Exact    bool          // its bytes come to the microsecond: it burns a core meanwhile
	Scale    float64       // of all its times; 0 is 1
	Delay    time.Duration // added to the round trip, half each way
	Path     string        // of its memory; empty keeps it in the process
	Fresh    func() []byte // its memory when it is new
	Web      string        // address of its own web page; none where it is empty
	WebAfter time.Duration // from its start until that answers
	Seed     uint64
}

// Unit is a running simulated unit.
type Unit struct {
	Spec
	clock    core.Clock
	listener net.Listener
	ended    chan struct{}
	end      sync.Once

	mu        *sync.Mutex // a helper tool at its header has the same
	target    *Unit       // of a helper tool: at whose programming header it is
	held      bool        // in reset, by a helper tool
	faults    Faults
	flash     *flash
	random    *rand.Rand
	adapter   *adapter
	bridge    string // where a person has bridged the data pins
	boot      bootloader
	locked    bool            // against reading
	guarded   map[uint64]bool // sectors locked against writing
	powered   bool
	dark      atomic.Bool // it has no power, for others to see without its lock
	reset     bool
	strap     bool
	loaded    int64 // bytes that it was sent in this life
	inLoader  bool
	life      int // grows with every reset and loss of power
	speed     int // that the loader was told to take; 0 is its own
	rx        []byte
	rxAt      time.Time
	wake      chan struct{}
	received  int64
	busy      time.Time // until when the unit works
	latched   bool      // see Spec.Latch
	behind    *Unit     // see Relay
	through   bool      // its line goes on to the one behind it
	tree      *tree
	paged     paged
	codes     []uint32 // faults that it has noted
	unlearned bool     // see Spec.Unlearned
	vehicle   *Vehicle // that it is in; nil for one on the table
	boots     int
	began     time.Time // its program
	web       net.Listener
	piece     int // grows with each block of a transfer, and each time that one stalls
}

// bootloader is the unit's side of a loader; it is called with the unit's lock.
type bootloader interface {
	enter()       // the unit starts in it
	turn() bool   // takes a piece of what has arrived; false if there is too little yet
	at() uart     // its line setting
	called() bool // somebody has spoken to it: it stays
}

// Start opens a unit on address, e.g. "127.0.0.1:0".
func Start(s Spec, address string, clock core.Clock) (*Unit, error) {
	return start(s, address, clock, nil)
}

func start(s Spec, address string, clock core.Clock, target *Unit) (*Unit, error) {
	if s.Scale == 0 {
		s.Scale = 1
	}
	if s.Fresh == nil {
		s.Fresh = func() []byte { return bytes.Repeat([]byte{0xFF}, s.Size) }
	}
	_, err := os.Stat(s.Path)
	known := s.Path != "" && err == nil
	f, err := openFlash(s.Path, s.Base, uint64(s.Sector), s.Fresh)
	if err != nil {
		return nil, fmt.Errorf("unit %s: %w", s.Name, err)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("unit %s: %w", s.Name, err)
	}
	u := &Unit{Spec: s, mu: new(sync.Mutex), clock: clock, listener: l, flash: f, ended: make(chan struct{}), wake: make(chan struct{}, 1),
		powered: true, random: rand.New(rand.NewPCG(s.Seed, 7)), guarded: map[uint64]bool{}, target: target}
	if target != nil {
		u.mu, u.flash = target.mu, target.flash
	}
	if known {
		_, err := os.Stat(s.Path + ".locked")
		u.locked = err == nil
	} else if s.Locked {
		u.lock(true)
	}
	if s.HasFiles || s.Files != nil {
		if u.tree, err = openTree(s.Path, s.Files); err != nil {
			return nil, fmt.Errorf("unit %s: %w", s.Name, err)
		}
	}
	if s.Web != "" {
		if u.web, err = net.Listen("tcp", s.Web); err != nil {
			l.Close()
			return nil, fmt.Errorf("unit %s: its web page: %w", s.Name, err)
		}
	}
	u.boot, u.codes = u.newBoot(), s.Codes
	u.mu.Lock()
	u.restart(false)
	u.mu.Unlock()
	go u.accept()
	go u.work()
	if u.web != nil {
		go u.serveWeb(u.web)
	}
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
		if u.adapter != nil {
			u.adapter.unplug()
		}
		if u.flash.file != nil && u.target == nil {
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
	held := u.faults.HeldReset
	u.faults = f
	if held && !f.HeldReset || f.Sag {
		u.restart(u.strapped())
	}
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
	if !on {
		u.goBack()
	}
	u.dark.Store(!on)
	u.speed = 0
	u.latched = u.latched && on
	u.restart(u.strapped())
	if a := u.adapter; a != nil { // DSR (bit 5) and that it changed (bit 1), RFC 2217 section 3
		state := byte(0x02)
		if on {
			state |= 0x20
		}
		a.tell(func() { a.host.modemState(state) })
		a.idle()
	}
}

// strapped tells whether the strap brings the unit into its loader.
func (u *Unit) strapped() bool { return u.strap && !u.faults.NoStrap }

// setting is the line setting of what runs now.
func (u *Unit) setting() uart {
	s := uart{u.Baud, "none", u.Inverted}
	if u.inLoader {
		s = u.boot.at()
	}
	if u.faults.Baud > 0 {
		s.baud = u.faults.Baud
	}
	if u.faults.Parity != "" {
		s.parity = u.faults.Parity
	}
	if u.faults.Inverted {
		s.inverted = !s.inverted
	}
	return s
}

func (u *Unit) newBoot() bootloader {
	switch u.Kind {
	case "keel":
		return &keelBoot{u: u}
	case "monitor":
		return &textBoot{u: u}
	case "module", "can-adapter":
		return newCanBus(u)
	case "xmodem", "ymodem":
		return &fileBoot{u: u, batch: u.Kind == "ymodem"}
	}
	return &gangwayBoot{u: u}
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

// version is empty too for a program that the unit's hardware does not start.
func (u *Unit) version() string {
	v := programVersion(u.flash.data[u.Program-u.Base:])
	if v != "" && v == u.Rejects {
		return ""
	}
	return v
}

// head is the version in the header of the program, whole or not.
func (u *Unit) head() string {
	b := u.flash.data[u.Program-u.Base:]
	if len(b) < programHead || string(b[:4]) != "TIDE" {
		return ""
	}
	return string(bytes.TrimRight(b[4:28], "\x00"))
}

// SpokenTo tells whether its loader is at work: what a lamp beside it would show.
func (u *Unit) SpokenTo() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.inLoader
}

// Received counts the bytes that the unit was sent.
func (u *Unit) Received() int64 {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.received
}

func (u *Unit) scaled(d time.Duration) time.Duration { return time.Duration(float64(d) * u.Scale) }

// restart begins a new life in the loader or in the program.
func (u *Unit) restart(loader bool) {
	u.life++
	u.loaded, u.through = 0, false
	u.rx = u.rx[:0]
	u.busy = u.clock.Now()
	if u.target != nil {
		u.inLoader = true
		u.boot.enter()
		u.letGo()
		return
	}
	if !u.listens() {
		return
	}
	if u.faults.Sag {
		u.after(150*time.Millisecond, func() { u.restart(false) })
	}
	if u.onBus() {
		u.inLoader = true
		u.boot.enter()
		return
	}
	if u.OpensFor > 0 && !loader && u.version() != "" {
		u.inLoader = true
		u.boot.enter()
		u.afterWaiting(u.OpensFor, func() {
			if !u.boot.called() {
				u.start()
			}
		})
		return
	}
	if loader || u.version() == "" {
		u.inLoader = true
		u.boot.enter()
		return
	}
	u.start()
}

// start lets the program run.
func (u *Unit) start() {
	u.inLoader, u.speed, u.rx = false, 0, u.rx[:0]
	u.boots++
	u.began = u.clock.Now()
	if u.Mute {
		return
	}
	u.speak([]byte(fmt.Sprintf("\r\n%s %s starting, program %s\r\n", u.Says, u.Revision, u.version())), u.clock.Now().Add(u.scaled(30*time.Millisecond)))
}

// lines takes DTR (reset while on) and RTS (the boot strap). A unit that opens
// its loader by itself after power-up has neither.
func (u *Unit) lines(dtr, rts *bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.OpensFor > 0 || u.faults.DeadAdapter || u.bridge != "" || u.onBus() {
		return
	}
	if rts != nil {
		u.strap = *rts
	}
	if dtr == nil || *dtr == u.reset || u.faults.NoReset {
		return
	}
	u.reset = *dtr
	if u.reset {
		u.life++
		u.rx, u.speed = u.rx[:0], 0
	} else if u.powered {
		u.restart(u.strapped())
	}
}

// arrive takes bytes off the line; what has no stop bit or a wrong parity is no
// byte.
func (u *Unit) arrive(p parcel) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, c := range u.heard(p.data, p.from, u.setting()) {
		u.received++
		if u.faults.CutLead > 0 && u.received >= u.faults.CutLead {
			u.faults.CutLead = 0
			if u.adapter != nil {
				u.adapter.unplug()
			}
			return
		}
		if u.faults.CutPower > 0 && u.received >= u.faults.CutPower {
			u.faults.CutPower = 0
			u.power(false)
			return
		}
		if u.loaded++; u.faults.Weak > 0 && u.inLoader && u.loaded >= u.faults.Weak {
			u.restart(false)
			return
		}
		if (u.listens() || u.onBus()) && !c.framing && !c.parity && len(u.rx) < u.Window {
			u.rx = append(u.rx, c.value)
		}
	}
	u.rxAt = p.at
	if m, ok := u.boot.(*textBoot); ok && u.inLoader {
		m.filled()
	}
	select {
	case u.wake <- struct{}{}:
	default:
	}
}

// onBus tells whether the bench has a CAN adapter, and what it reaches a bus behind it.
func (u *Unit) onBus() bool { return u.Kind == "module" || u.Kind == "can-adapter" }

// listens tells whether anything runs in the unit.
func (u *Unit) listens() bool {
	return u.powered && !u.reset && !u.faults.HeldReset && !u.held && (u.Boot.Length == 0 || programVersion(u.flash.slice(u.Boot.Address, u.Boot.Length)) != "")
}

// speak sends bytes to whoever holds the lead.
func (u *Unit) speak(data []byte, ready time.Time) {
	if u.adapter != nil && !u.faults.Silent && u.listens() {
		u.adapter.say(data, ready)
	}
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

// turn handles one piece of what arrived: of the loader's talk, or a line of text
// for the program; false if there is none.
func (u *Unit) turn() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	if !u.listens() && u.Kind != "module" { // a module's adapter has the bench's power
		return false
	}
	if u.busy.Before(u.rxAt) {
		u.busy = u.rxAt
	}
	if u.inLoader {
		return u.boot.turn()
	}
	if u.through {
		return u.passOn()
	}
	i := bytes.IndexByte(u.rx, '\r')
	if i < 0 {
		if len(u.rx) > 80 {
			u.rx = u.rx[:0]
		}
		return false
	}
	line := bytes.Clone(u.rx[:i])
	u.rx = append(u.rx[:0], u.rx[i+1:]...)
	if said := u.console(line); said != "" {
		u.speak([]byte(said), u.busy.Add(u.scaled(2*time.Millisecond)))
	}
	return true
}

// console is what the program answers to a line.
func (u *Unit) console(line []byte) string {
	switch {
	case u.behind != nil && bytes.HasSuffix(line, []byte("LINE THROUGH")):
		u.through = true
		return "LINE OPEN\r\n"
	case u.Calls != "" && bytes.HasSuffix(line, []byte(u.Calls)):
		u.restart(true)
		return ""
	}
	if bytes.HasSuffix(line, []byte("V?")) && !u.Mute {
		return "program " + u.version() + "\r\n"
	}
	return ""
}

// labour lets time pass while the unit works; it is called with the lock held
// and gives it up meanwhile. False if the unit lost its power or was reset.
func (u *Unit) labour(d time.Duration) bool {
	life := u.life
	u.busy = u.busy.Add(u.scaled(d))
	if wait := u.busy.Sub(u.clock.Now()); wait > 0 {
		busy := u.busy
		u.mu.Unlock()
		if u.Exact {
			until(u.clock, busy, true)
		} else {
			select {
			case <-u.clock.After(wait):
			case <-u.ended:
			}
		}
		u.mu.Lock()
	}
	return u.life == life && u.powered
}

// broken is a break on the line: a monitor that counts down stops at it.
func (u *Unit) broken() {
	u.mu.Lock()
	defer u.mu.Unlock()
	if m, ok := u.boot.(*textBoot); ok && u.inLoader && u.listens() && !m.here {
		m.arrived()
	}
}

// sample reads the cells, as they look to the unit just now; called with the lock.
func (u *Unit) sample(address, length uint64) []byte {
	b := bytes.Clone(u.flash.slice(address, length))
	if f := u.faults.Flicker; f != nil && *f >= address && *f < address+length {
		b[*f-address] ^= 0x10
		u.faults.Flicker = nil
	}
	return b
}

// Starts counts how often the unit's program was started.
func (u *Unit) Starts() int {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.boots
}

// File copies a file out of the unit's tree; nil where there is none.
func (u *Unit) File(path string) []byte {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.tree == nil {
		return nil
	}
	return bytes.Clone(u.tree.kept[path])
}

// Lock locks the unit's memory against reading, as another tool might have done.
func (u *Unit) Lock(on bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.lock(on)
}

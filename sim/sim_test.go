package sim

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"zealousferry/core"
)

// The vectors of docs/protocols/gangway.md, section 8, on the unit's side.
func TestVectors(t *testing.T) {
	for _, x := range []struct{ payload, wire string }{
		{"01010000000001", "03010101010106" + "01BFAE66CE00"},
		{"83010002000000", "03830102020101" + "05595902A600"},
		{"023412050001008000000000000000010000", "050234120502010280010101010101020101" + "05B69711E500"},
	} {
		payload, _ := hex.DecodeString(x.payload)
		wire, _ := hex.DecodeString(x.wire)
		if got := encodeFrame(bytes.Clone(payload)); !bytes.Equal(got, wire) {
			t.Errorf("%s goes out as %X, want %s", x.payload, got, x.wire)
		}
		if got := decodeCOBS(wire[:len(wire)-1]); len(got) < 4 || !bytes.Equal(got[:len(got)-4], payload) {
			t.Errorf("%s comes in as %X", x.wire, got)
		}
	}
	ones := bytes.Repeat([]byte{1}, 254)
	if got := decodeCOBS(append(append([]byte{255}, ones...), 2, 1)); len(got) != 255 {
		t.Errorf("255 ones come in as %d bytes", len(got))
	}
}

func TestFlashBehavesLikeFlash(t *testing.T) {
	f, err := openFlash(filepath.Join(t.TempDir(), "m"), 0x100, 16, func() []byte { return bytes.Repeat([]byte{0xFF}, 64) })
	if err != nil {
		t.Fatal(err)
	}
	if !f.program(0x110, []byte{0xF0, 0x0F}) || f.program(0x110, []byte{0x0F, 0x0F}) {
		t.Error("programming sets bits")
	}
	if got := f.slice(0x110, 2); got[0] != 0 || got[1] != 0x0F {
		t.Errorf("cells %X", got)
	}
	f.ruin(0x110, 16, rand.New(rand.NewPCG(1, 1)))
	if bytes.Equal(f.slice(0x112, 14), bytes.Repeat([]byte{0}, 14)) || f.slice(0x111, 1)[0]&0x0F != 0x0F {
		t.Error("a cut erase sets some bits and clears none")
	}
	f.erase(0x110, 16)
	if !bytes.Equal(f.slice(0x110, 16), bytes.Repeat([]byte{0xFF}, 16)) {
		t.Error("an erase leaves bits")
	}
	raw, _ := os.ReadFile(f.file.Name())
	if !bytes.Equal(raw, f.data) {
		t.Error("the file is not the memory")
	}
	for _, x := range []struct {
		address, length uint64
		want            bool
	}{{0x100, 64, true}, {0xFF, 1, false}, {0x100, 65, false}, {0x13F, 1, true}, {0x140, 1, false}, {^uint64(0), 2, false}} {
		if f.holds(x.address, x.length) != x.want {
			t.Errorf("holds 0x%X, %d: %v", x.address, x.length, !x.want)
		}
	}
}

func TestOnlyAWholeProgramRuns(t *testing.T) {
	p := Program("4.2.1", 10000, 1, 2)
	if got := programVersion(append(bytes.Clone(p), 0xFF, 0xFF)); got != "4.2.1" {
		t.Errorf("runs %q", got)
	}
	for name, spoil := range map[string]func([]byte){"a byte": func(b []byte) { b[5000] ^= 1 }, "the head": func(b []byte) { b[0] = 0xFF }, "the length": func(b []byte) { b[31] = 0x7F }} {
		b := bytes.Clone(p)
		spoil(b)
		if got := programVersion(b); got != "" {
			t.Errorf("%s: runs %q", name, got)
		}
	}
	if bytes.Equal(Program("1.0.0", 90000, 1, 2)[100:], Program("1.0.0", 90000, 1, 3)[100:]) {
		t.Error("two seeds, one program")
	}
}

// visitor is a bare Telnet visitor.
func visitor(t *testing.T, u *Unit) net.Conn {
	t.Helper()
	c, err := net.Dial("tcp", u.Address())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	c.SetDeadline(time.Now().Add(5 * time.Second))
	return c
}

func board(t *testing.T) *Unit {
	t.Helper()
	u, err := Start(Spec{Name: "u", Says: "U", Revision: "D", Serial: "U-1", Size: 8192, Sector: 1024, Baud: 115200, WriteMax: 256, ReadMax: 1024, Window: 2048, Scale: 0.02,
		Fresh: func() []byte { return Program("1.2.3", 8192, 1, 1) }}, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(u.Close)
	return u
}

func TestTheProgramPrintsABannerAndTellsItsVersion(t *testing.T) {
	u := board(t)
	c := visitor(t, u)
	c.Write([]byte{255, 251, 44}) // IAC WILL COM-PORT-OPTION
	answer := make([]byte, 3)
	if _, err := c.Read(answer); err != nil || !bytes.Equal(answer, []byte{255, 253, 44}) {
		t.Fatalf("%v %v", answer, err)
	}
	for _, set := range []byte{9, 12, 8, 9} { // DTR off, RTS off, DTR on, DTR off: a reset into the program
		c.Write([]byte{255, 250, 44, 5, set, 255, 240})
	}
	c.Write([]byte("V?\r"))
	heard := ""
	in := bufio.NewReader(c)
	for !strings.Contains(heard, "program 1.2.3\r\n") {
		b, err := in.ReadByte()
		if err != nil {
			t.Fatalf("%v after %q", err, heard)
		}
		heard += string(b)
	}
	if !strings.Contains(heard, "U D starting, program 1.2.3") {
		t.Errorf("no banner in %q", heard)
	}
}

func TestOneVisitorAtATime(t *testing.T) {
	u := board(t)
	first := visitor(t, u)
	first.Write([]byte{255, 251, 44})
	first.Read(make([]byte, 3))
	second := visitor(t, u)
	if n, err := second.Read(make([]byte, 1)); err == nil {
		t.Errorf("the second was let in: %d", n)
	}
	first.Close()
	third := visitor(t, u)
	third.Write([]byte{255, 251, 44})
	if _, err := third.Read(make([]byte, 3)); err != nil {
		t.Errorf("after the first had left: %v", err)
	}
}

// past is a clock for which all that was to come has come.
type past struct{ time.Time }

func (l past) Now() time.Time                       { return l.Time }
func (l past) After(time.Duration) <-chan time.Time { panic("nothing is to be waited for") }

// The pace is that of the line: 2000 bytes at 115200 baud take 174 ms.
func TestBytesTakeTheirTime(t *testing.T) {
	at := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	w := newWire(core.System{}, false, 0)
	w.send(make([]byte, 2000), at, time.Second*10/115200, 20*time.Millisecond, uart{}, nil)
	w.send(make([]byte, 1), at, time.Second*10/115200, 20*time.Millisecond, uart{}, nil)
	w.close()
	var last parcel
	n := 0
	w.clock = past{at.Add(time.Hour)}
	w.carry(func(p parcel) {
		last = p
		n += len(p.data)
	})
	if took := last.at.Sub(at); n != 2001 || took < 193*time.Millisecond || took > 195*time.Millisecond {
		t.Errorf("%d bytes took %s, want 193.7 ms", n, took)
	}
}

// deaf is a host that nobody reads from.
type deaf struct{}

func (deaf) deliver([]byte)  {}
func (deaf) lineState(byte)  {}
func (deaf) modemState(byte) {}
func (deaf) Close() error    { return nil }

// A unit that says very much in small pieces, as a monitor does to whoever sends it a
// file by mistake, stands still for nobody: it can be set meanwhile, and all of it arrives.
func TestAUnitThatSaysVeryMuch(t *testing.T) {
	u, err := Start(Spec{Name: "u", Size: 8192, Sector: 1024, Baud: 115200, WriteMax: 256, ReadMax: 1024, Window: 2048, Scale: 1e-6, Fresh: func() []byte { return make([]byte, 8192) }}, "127.0.0.1:0", core.System{})
	if err != nil {
		t.Fatal(err)
	}
	defer u.Close()
	a := newAdapter(u, deaf{})
	left, over := make(chan struct{}), make(chan struct{})
	go func() {
		a.carry(func() { <-left })
		close(over)
	}()
	u.mu.Lock()
	for range 10000 {
		a.say([]byte("?"), time.Time{})
	}
	u.mu.Unlock()
	u.Set(Faults{})
	close(left)
	<-over
}

func FuzzWhatComesOverTheLine(f *testing.F) {
	f.Add([]byte{3, 1, 1, 1, 1, 1, 6, 1, 0xBF, 0xAE, 0x66, 0xCE, 0})
	f.Add([]byte{255, 250, 44, 1, 0, 0, 0, 1, 255, 240})
	f.Fuzz(func(t *testing.T, data []byte) {
		u := &Unit{mu: new(sync.Mutex), Spec: Spec{Says: "U", Size: 256, Sector: 64, Baud: 9600, WriteMax: 64, ReadMax: 64, Window: 1024, Scale: 1e-9}, clock: core.System{}, powered: true, inLoader: true, random: rand.New(rand.NewPCG(1, 1)), ended: make(chan struct{}), wake: make(chan struct{}, 1)}
		u.boot = u.newBoot()
		u.boot.enter()
		u.flash, _ = openFlash("", 0, 64, func() []byte { return make([]byte, 256) })
		u.arrive(parcel{data, time.Now(), u.setting()})
		for range 100 {
			if !u.turn() {
				break
			}
		}
		if len(u.rx) > u.Window {
			t.Fatal("more in the buffer than it holds")
		}
	})
}

// What a receiver at another setting makes of bytes: with no fault the bytes, at
// half the speed rubbish with framing errors, with the wrong parity parity errors,
// inverted breaks.
func TestLevelsAreSampled(t *testing.T) {
	data := []byte("program 1.2.3\r\n")
	count := func(chars []char) (same, framing, parity int) {
		for i, c := range chars {
			if i < len(data) && c.value == data[i] && !c.framing {
				same++
			}
			if c.framing {
				framing++
			}
			if c.parity {
				parity++
			}
		}
		return
	}
	for _, x := range []struct {
		name                  string
		from, to              uart
		same, framing, parity func(int) bool
	}{
		{"alike", uart{9600, "none", false}, uart{9600, "none", false}, is(15), is(0), is(0)},
		{"inverted alike", uart{9600, "none", true}, uart{9600, "none", true}, is(15), is(0), is(0)},
		{"3 % off", uart{9600, "none", false}, uart{9888, "none", false}, is(15), is(0), is(0)},
		{"even", uart{9600, "even", false}, uart{9600, "even", false}, is(15), is(0), is(0)},
		{"even read as odd", uart{9600, "even", false}, uart{9600, "odd", false}, is(15), is(0), is(15)},
		{"half the speed", uart{9600, "none", false}, uart{4800, "none", false}, below(3), above(2), is(0)},
		{"twice the speed", uart{9600, "none", false}, uart{19200, "none", false}, below(3), above(2), is(0)},
		{"inverted", uart{9600, "none", false}, uart{9600, "none", true}, below(3), above(2), is(0)},
	} {
		same, framing, parity := count(sampled(data, x.from, x.to))
		if !x.same(same) || !x.framing(framing) || !x.parity(parity) {
			t.Errorf("%s: %d right, %d without a stop bit, %d with a wrong parity", x.name, same, framing, parity)
		}
	}
}

func is(n int) func(int) bool    { return func(m int) bool { return m == n } }
func below(n int) func(int) bool { return func(m int) bool { return m < n } }
func above(n int) func(int) bool { return func(m int) bool { return m > n } }

func ExampleProgram() {
	fmt.Println(programVersion(Program("2.0.0", 100, 1, 1)))
	// Output: 2.0.0
}

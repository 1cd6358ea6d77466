package keel

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
)

// The vectors of docs/protocols/keel.md, section 8.
const (
	vWho     = "96 10 00 00 FF 8F"
	vGreet   = "69 00 1B 00 00 01 17 00 A0 5E F7 00 00 01 04 00 00 00 00 00 01 00 00 30 00 20 00 00 04 00 00 25 86"
	vRead    = "96 11 06 00 10 14 30 00 03 00 06 CE"
	vReadABC = "69 11 04 00 00 61 62 63 A3 E5"
	vWrite   = "96 22 08 00 00 10 30 00 DE AD BE EF 2D 48"
	vDone    = "69 22 01 00 00 D6 69"
	vErase   = "96 33 08 00 00 14 30 00 00 04 00 00 08 1C"
	vGuarded = "69 33 05 00 03 00 14 30 00 D4 B2"
	vGuard   = "96 44 05 00 00 14 30 00 00 D7 A5"
	vClosed  = "69 44 06 00 00 01 FF FF FF FF 11 68"
	vLock    = "96 55 01 00 01 AF 6A"
	vStart   = "96 F6 00 00 6E 9D"
	vAgain   = "69 0F 01 00 06 D8 07"
)

func h(s string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	if err != nil {
		panic(err)
	}
	return b
}

func TestVectors(t *testing.T) {
	if c := check([]byte("123456789")); c != 0x29B1 {
		t.Errorf("the check of the nine digits is %04X", c)
	}
	for want, got := range map[string][]byte{
		vWho:   frame(0x10, nil),
		vRead:  frame(0x11, h("10143000 0300")),
		vWrite: frame(0x22, h("00103000 DEADBEEF")),
		vErase: frame(0x33, h("00143000 00040000")),
		vGuard: frame(0x44, h("00143000 00")),
		vLock:  frame(0x55, h("01")),
		vStart: frame(0xF6, nil),
	} {
		if !bytes.Equal(got, h(want)) {
			t.Errorf("% X, want %s", got, want)
		}
	}
	for wire, want := range map[string]said{
		vReadABC: {0x11, 0, []byte("abc")}, vDone: {0x22, 0, nil}, vGuarded: {0x33, 3, h("00143000")}, vClosed: {0x44, 0, h("01FFFFFFFF")}, vAgain: {0x0F, 6, nil},
	} {
		r, rest, spoilt := scan(append([]byte("\x69rubbish\x69\xFF\xFF"), append(h(wire), 0x69, 1)...))
		if r == nil || r.head != want.head || r.status != want.status || !bytes.Equal(r.body, want.body) || len(rest) != 2 || spoilt {
			t.Errorf("%s: %+v, rest % X", wire, r, rest)
		}
	}
	g, _, _ := scan(h(vGreet))
	r, ok := parse(g.body)
	if from, size, in := r.page(0x301410); !ok || r.chip != 0x5EA00017 || r.piece != 256 || r.grain != 4 || r.locked || r.abilities != 0xF7 || from != 0x301400 || size != 1024 || !in {
		t.Errorf("%+v", r)
	}
	raw, err := os.ReadFile("../../../docs/protocols/keel.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range []string{vWho, vGreet, vRead, vReadABC, vWrite, vDone, vErase, vGuarded, vGuard, vClosed, vLock, vStart, vAgain} {
		if !bytes.Contains(raw, []byte("`"+v+"`")) {
			t.Errorf("the document has no vector %s", v)
		}
	}
}

// played is a unit that answers from a script: bytes that it must be sent, and what it
// says then.
type played struct {
	t             *testing.T
	turns         [][2][]byte
	sent, answers []byte
}

func (p *played) Write(b []byte) (int, error) {
	p.sent = append(p.sent, b...)
	switch {
	case len(p.turns) == 0:
		p.t.Errorf("% X was sent, and nothing more was expected", p.sent)
		p.sent = nil
	case bytes.Equal(p.sent, p.turns[0][0]):
		p.answers = append(p.answers, p.turns[0][1]...)
		p.turns, p.sent = p.turns[1:], nil
	case !bytes.HasPrefix(p.turns[0][0], p.sent):
		p.t.Errorf("% X was sent, expected % X", p.sent, p.turns[0][0])
		p.sent = nil
	}
	return len(b), nil
}

func (p *played) Read(b []byte) (int, error) {
	if len(p.answers) == 0 {
		return 0, os.ErrDeadlineExceeded
	}
	n := copy(b, p.answers[:min(3, len(p.answers))]) // in bits, as a line gives them
	p.answers = p.answers[n:]
	return n, nil
}
func (p *played) SetReadDeadline(time.Time) error { return nil }
func (p *played) SetMode(link.Mode) error         { return nil }
func (p *played) SetLine(link.Line, bool) error   { return nil }
func (p *played) Purge() error                    { p.answers = nil; return nil }
func (p *played) Generation() uint64              { return 1 }
func (p *played) Close() error                    { return nil }

// reply is a reply on the wire.
func reply(head, status byte, body ...byte) []byte {
	f := frame(head, append([]byte{status}, body...))
	f[0] = sayMark
	return f
}

// aRecord is a record with these abilities, and runs of pages as first address, count
// and size.
func aRecord(abilities uint16, locked byte, bank uint32, runs ...[3]uint32) []byte {
	b := []byte{1, 0x17, 0, 0xA0, 0x5E, byte(abilities), byte(abilities >> 8), 0, 1, 4, locked, byte(bank), byte(bank >> 8), byte(bank >> 16), byte(bank >> 24), byte(len(runs))}
	for _, r := range runs {
		b = append(b, u32(uint64(r[0]))...)
		b = append(b, byte(r[1]), byte(r[1]>>8))
		b = append(b, u32(uint64(r[2]))...)
	}
	return b
}

var sheet = &memory.Map{Erased: 0xFF, Write: 4, Regions: []memory.Region{{Name: "program", Use: memory.Program, Address: 0x300000, Length: 0x8000, Sector: 0x400}}}

var plain = [3]uint32{0x300000, 32, 0x400}

func options(m *memory.Map, own loader.Own) loader.Options {
	all := loader.Own{"baud": 115200, "parity": "even"}
	for k, v := range own {
		all[k] = v
	}
	return loader.Options{Own: all, Map: m, Pace: link.Pace{Clock: core.System{}, Scale: 1e-9}}
}

// open opens a session with a unit that greets with the record; then follow these turns.
func open(t *testing.T, m *memory.Map, own loader.Own, record []byte, turns ...[2][]byte) *session {
	t.Helper()
	p := &played{t: t, turns: append([][2][]byte{{{hail}, reply(0, 0, record...)}}, turns...)}
	s, err := Kind{}.Open(context.Background(), p, options(m, own))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if len(p.turns) > 0 {
			t.Errorf("%d turns were not played; next % X", len(p.turns), p.turns[0][0])
		}
	})
	return s.(*session)
}

const noGuard = 0xFF &^ canGuard

func erase(s *session, m *memory.Map, at, n uint64) error {
	return changed(s, m, loader.Op{Erase: true, Address: at, Length: n})
}

func changed(s *session, m *memory.Map, ops ...loader.Op) error {
	return loader.Change(context.Background(), s, m, func() (loader.Op, bool, error) {
		if len(ops) == 0 {
			return loader.Op{}, false, nil
		}
		op := ops[0]
		ops = ops[1:]
		return op, true, nil
	}, nil, func(loader.Op) error { return nil })
}

// An erase is what was named: pages, a bank or the whole memory as the unit can, and a
// unit that can only more than was named is not asked at all.
func TestAnEraseNamesItsStretch(t *testing.T) {
	turn := func(n byte, at, length uint64) [2][]byte {
		return [2][]byte{frame(n<<4|opErase, append(u32(at), u32(length)...)), reply(n<<4|opErase, done)}
	}
	for name, x := range map[string]struct {
		abilities uint16
		bank      uint32
		at, n     uint64
		turns     [][2][]byte
		refused   string
	}{
		"two pages":                          {noGuard, 0, 0x300400, 0x800, [][2][]byte{turn(1, 0x300400, 0x400), turn(2, 0x300800, 0x400)}, ""},
		"a bank and a page":                  {noGuard, 0x4000, 0x304000 - 0x400, 0x4400, [][2][]byte{turn(1, 0x303C00, 0x400), turn(2, 0x304000, 0x4000)}, ""},
		"everything":                         {noGuard, 0x4000, 0x300000, 0x8000, [][2][]byte{turn(1, 0x300000, 0x8000)}, ""},
		"everything, by banks":               {noGuard &^ canEraseAll, 0x4000, 0x300000, 0x8000, [][2][]byte{turn(1, 0x300000, 0x4000), turn(2, 0x304000, 0x4000)}, ""},
		"a page, which it cannot alone":      {noGuard &^ canErasePage, 0x4000, 0x300400, 0x400, nil, "it erases banks of 16384 bytes or all 32768 bytes of its memory"},
		"a bank and a page, which it cannot": {noGuard &^ canErasePage, 0x4000, 0x304000, 0x4000, [][2][]byte{turn(1, 0x304000, 0x4000)}, ""},
		"only everything":                    {noGuard &^ canErasePage &^ canEraseBank, 0, 0x300000, 0x4000, nil, "it erases all 32768 bytes"},
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t, sheet, nil, aRecord(x.abilities, 0, x.bank, plain), x.turns...)
			err := erase(s, sheet, x.at, x.n)
			if x.refused == "" && err != nil || x.refused != "" && (core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), x.refused)) {
				t.Error(err)
			}
		})
	}
}

// What the unit tells of its pages is held against the sheet before anything changes.
func TestPagesAreHeldAgainstTheSheet(t *testing.T) {
	region := func(at, n, sector uint64) *memory.Map {
		return &memory.Map{Regions: []memory.Region{{Name: "program", Use: memory.Program, Address: at, Length: n, Sector: sector}}}
	}
	for name, x := range map[string]struct {
		m    *memory.Map
		runs [][3]uint32
		says string
	}{
		"as the sheet says":           {sheet, [][3]uint32{plain}, ""},
		"a sheet that begins late":    {region(0x302000, 0x2000, 0x400), [][3]uint32{plain}, ""},
		"two pages in a sector":       {region(0x302000, 0x2000, 0x800), [][3]uint32{plain}, ""},
		"pages of several sizes":      {region(0x302000, 0x2000, 0x1000), [][3]uint32{{0x300000, 8, 0x400}, {0x302000, 8, 0x1000}}, ""},
		"a larger page":               {sheet, [][3]uint32{{0x300000, 16, 0x800}}, "begins at 0x300000 and has 2048: an erase would reach beyond"},
		"pages that stand elsewhere":  {sheet, [][3]uint32{{0x2FFE00, 40, 0x400}}, "begins at 0x2FFE00"},
		"less memory":                 {sheet, [][3]uint32{{0x300000, 16, 0x400}}, "at 0x304000, where the unit has no memory"},
		"a hole":                      {sheet, [][3]uint32{{0x300000, 8, 0x400}, {0x303000, 20, 0x400}}, "at 0x302000, where the unit has no memory"},
		"a sector of a page and half": {region(0x300000, 0xC00, 0xC00), [][3]uint32{{0x300000, 16, 0x800}}, "page there begins at 0x300800"},
	} {
		s := open(t, x.m, nil, aRecord(noGuard, 0, 0, x.runs...))
		for _, a := range []loader.Ability{loader.Write, loader.Erase} {
			err := s.Can(a)
			if x.says == "" && err != nil || x.says != "" && (core.KindOf(err) != core.DoesNotFit || !strings.Contains(err.Error(), x.says)) {
				t.Errorf("%s: %v", name, err)
			}
		}
		if err := s.Can(loader.Read); err != nil {
			t.Errorf("%s: reading harms nobody: %v", name, err)
		}
	}
}

// Pages that the chip keeps closed stop the work before it begins, or are opened where
// the sheet says so; from each the unit tells the next.
func TestClosedPages(t *testing.T) {
	ask := func(n byte, at uint64, want, shut byte, behind uint64) [2][]byte {
		return [2][]byte{frame(n<<4|opGuard, append(u32(at), want)), reply(n<<4|opGuard, done, append([]byte{shut}, u32(behind)...)...)}
	}
	s := open(t, sheet, nil, aRecord(0xFF, 0, 0, plain), ask(1, 0x300000, 0, 0, 0x301400), ask(2, 0x301400, 0, 1, 0xFFFFFFFF))
	for _, a := range []loader.Ability{loader.Write, loader.Erase} {
		if err := s.Can(a); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), `0x301400 (region "program")`) || !strings.Contains(core.AsError(err, "").Next, "guards: lift") {
			t.Errorf("%s: %v", a, err)
		}
	}
	s = open(t, sheet, loader.Own{"guards": "lift"}, aRecord(0xFF, 0, 0, plain), ask(1, 0x300000, 0, 0, 0x301400), ask(2, 0x301400, 0, 1, 0xFFFFFFFF),
		ask(3, 0x301400, 2, 0, 0xFFFFFFFF), [2][]byte{frame(4<<4|opErase, append(u32(0x301400), u32(0x400)...)), reply(4<<4|opErase, done)})
	if err := s.Can(loader.Write); err != nil {
		t.Error(err)
	}
	if err := erase(s, sheet, 0x301400, 0x400); err != nil {
		t.Error(err)
	}
	s = open(t, sheet, loader.Own{"guards": "lift"}, aRecord(0xFF, 0, 0, plain), ask(1, 0x300000, 0, 1, 0xFFFFFFFF), ask(2, 0x300000, 2, 1, 0xFFFFFFFF))
	if err := erase(s, sheet, 0x300000, 0x400); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "for good") {
		t.Errorf("a page that stays closed: %v", err)
	}
}

// A question that comes spoilt, an answer that comes spoilt or late and an answer that
// is lost are each made good by the same question; nothing is done twice beside it.
func TestALineThatLoses(t *testing.T) {
	readX := frame(1<<4|opRead, append(u32(0x300000), 1, 0))
	q, answer := readX, reply(1<<4|opRead, done, 'q')
	bad := bytes.Clone(answer)
	bad[5] ^= 4
	hailed := [2][]byte{{hail}, reply(0, 0, aRecord(noGuard, 0, 0, plain)...)}
	for name, turns := range map[string][][2][]byte{
		"the question":               {{q, h(vAgain)}, {q, answer}},
		"the answer":                 {{q, bad}, {q, answer}},
		"an answer lost":             {{q, nil}, {q, answer}},
		"an old answer before it":    {{q, append(reply(9<<4|opRead, done, 'z'), answer...)}},
		"it lost its place":          {{q, nil}, {q, nil}, hailed, {q, answer}},
		"rubbish, and a late answer": {{q, append([]byte{1, 2, 0x69, 0x69}, answer...)}},
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t, sheet, nil, aRecord(noGuard, 0, 0, plain), turns...)
			b := make([]byte, 1)
			if err := s.Read(context.Background(), 0x300000, b, nil); err != nil || b[0] != 'q' {
				t.Errorf("%q %v", b, err)
			}
		})
	}
	other := aRecord(noGuard, 0, 0, plain)
	other[1] = 0x18
	s := open(t, sheet, nil, aRecord(noGuard, 0, 0, plain), [2][]byte{q, nil}, [2][]byte{q, nil}, [2][]byte{{hail}, reply(0, 0, other...)})
	if err := s.Read(context.Background(), 0x300000, make([]byte, 1), nil); core.KindOf(err) != core.WrongUnit {
		t.Errorf("another chip answers in the middle: %v", err)
	}
}

// What a unit says no to is said in words, with the place; damage is said only where
// the unit says it.
func TestWhatAUnitSaysNoTo(t *testing.T) {
	ask := frame(1<<4|opErase, append(u32(0x300400), u32(0x400)...))
	silent := make([][2][]byte, 0)
	for n := range rounds * tries {
		if n > 0 && n%tries == 0 {
			silent = append(silent, [2][]byte{{hail}, reply(0, 0, aRecord(noGuard, 0, 0, plain)...)})
		}
		silent = append(silent, [2][]byte{ask, nil})
	}
	for name, x := range map[string]struct {
		turns []([2][]byte)
		kind  core.Kind
		says  string
		worn  bool
	}{
		"locked":   {[][2][]byte{{ask, reply(0x13, isLocked)}}, core.Protected, "locked against reading", false},
		"bounds":   {[][2][]byte{{ask, reply(0x13, bounds)}}, core.RefusedByUnit, "not on its boundaries", false},
		"guarded":  {[][2][]byte{{ask, reply(0x13, guarded, u32(0x300400)...)}}, core.RefusedByUnit, `0x300400 (region "program")`, false},
		"failed":   {[][2][]byte{{ask, reply(0x13, failed, u32(0x300404)...)}}, core.RefusedByUnit, "did not do it, at 0x300404", true},
		"unknown":  {[][2][]byte{{ask, reply(0x13, unknown)}}, core.RefusedByUnit, "does not have that", false},
		"nonsense": {[][2][]byte{{ask, reply(0x13, 77)}}, core.RefusedByUnit, "status 77", false},
		"too slow": {silent, core.NotAnswering, "asked to erase 8 times", false},
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t, sheet, nil, aRecord(noGuard, 0, 0, plain), x.turns...)
			err := erase(s, sheet, 0x300400, 0x400)
			if core.KindOf(err) != x.kind || !strings.Contains(err.Error(), x.says) {
				t.Error(err)
			}
			if worn := strings.Contains(core.AsError(err, "").Next, "worn"); worn != x.worn {
				t.Errorf("worn or damaged is said: %v", worn)
			}
		})
	}
}

// What greets and is no Keel loader is an error in words, and never a panic.
func TestOddRecords(t *testing.T) {
	for name, body := range map[string][]byte{
		"nothing": {}, "too short": make([]byte, 15), "no runs": aRecord(0xFF, 0, 0), "a run of no pages": aRecord(0xFF, 0, 0, [3]uint32{0, 0, 4}),
		"runs that overlap": aRecord(0xFF, 0, 0, plain, plain), "past the end": aRecord(0xFF, 0, 0, [3]uint32{0xFFFFFFFF, 65535, 0x80000000}),
	} {
		p := &played{t: t, turns: [][2][]byte{{{hail}, reply(0, 0, body...)}}}
		if _, err := (Kind{}).Open(context.Background(), p, options(sheet, nil)); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "no record") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := (Kind{}).Open(context.Background(), &played{t: t}, loader.Options{}); core.KindOf(err) != core.BadFile {
		t.Errorf("without a map: %v", err)
	}
}

// A locked unit gives what it is and takes its lock off, and nothing else.
func TestALockedUnit(t *testing.T) {
	s := open(t, sheet, nil, aRecord(noGuard, 1, 0, plain), [2][]byte{frame(1<<4|opLock, []byte{2}), reply(1<<4|opLock, done, 0)}, [2][]byte{frame(2<<4|opLock, []byte{1}), reply(2<<4|opLock, done, 0)})
	for _, a := range []loader.Ability{loader.Read, loader.Write, loader.Erase} {
		if err := s.Can(a); core.KindOf(err) != core.Protected {
			t.Errorf("%s of a locked unit: %v", a, err)
		}
	}
	if err := s.Can(loader.Guard); err != nil {
		t.Errorf("the lock itself: %v", err)
	}
	if err := s.Unlock(context.Background()); err != nil || s.Can(loader.Read) != nil {
		t.Errorf("lifted: %v", err)
	}
	if err := s.Lock(context.Background()); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "it did not") {
		t.Errorf("a lock that does not hold: %v", err)
	}
}

// FuzzAnswers: whatever a unit says, the loader ends with an error or a session.
func FuzzAnswers(f *testing.F) {
	f.Add(append(h(vGreet), h(vReadABC)...))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, says []byte) {
		o := options(sheet, nil)
		s, err := Kind{}.Open(context.Background(), &speaking{says: says}, o)
		if err != nil {
			if core.KindOf(err) == "" {
				t.Errorf("no kind: %v", err)
			}
			return
		}
		s.Read(context.Background(), 0x300000, make([]byte, 300), nil)
		erase(s.(*session), sheet, 0x300000, 0x400)
	})
}

// speaking says what it says, whatever it is sent.
type speaking struct {
	played
	says []byte
}

func (p *speaking) Write(b []byte) (int, error) { return len(b), nil }
func (p *speaking) Purge() error                { return nil }
func (p *speaking) Read(b []byte) (int, error) {
	if len(p.says) == 0 {
		return 0, os.ErrDeadlineExceeded
	}
	n := copy(b, p.says)
	p.says = p.says[n:]
	return n, nil
}

// The words of every operation are there.
func TestEveryOperationHasAName(t *testing.T) {
	for op := range byte(opStart + 1) {
		if fmt.Sprint(opNames[op]) == "" {
			t.Errorf("operation %d", op)
		}
	}
}

package uartrom

import (
	"bytes"
	"context"
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

// A unit that is played from a script: what it must be sent, and what it answers.
// The bytes are worked out by hand from the application note.

type turn struct{ sent, answer string }

type played struct {
	t       *testing.T
	turns   []turn
	sent    []byte
	answers []byte
}

func (p *played) Write(b []byte) (int, error) {
	p.sent = append(p.sent, b...)
	if len(p.turns) == 0 {
		p.t.Errorf("% X was sent, and nothing more was expected", p.sent)
		p.sent = nil
		return len(b), nil
	}
	want := []byte(p.turns[0].sent)
	switch {
	case bytes.Equal(p.sent, want):
		p.answers = append(p.answers, p.turns[0].answer...)
		p.turns, p.sent = p.turns[1:], nil
	case !bytes.HasPrefix(want, p.sent):
		p.t.Errorf("% X was sent, expected % X", p.sent, want)
		p.sent = nil
	}
	return len(b), nil
}

func (p *played) Read(b []byte) (int, error) {
	if len(p.answers) == 0 {
		return 0, os.ErrDeadlineExceeded
	}
	n := copy(b, p.answers)
	p.answers = p.answers[n:]
	return n, nil
}
func (p *played) SetReadDeadline(time.Time) error { return nil }
func (p *played) SetMode(link.Mode) error         { return nil }
func (p *played) SetLine(link.Line, bool) error   { return nil }
func (p *played) Purge() error                    { p.answers = nil; return nil }
func (p *played) Generation() uint64              { return 1 }
func (p *played) Close() error                    { return nil }

const (
	y = "\x79"
	n = "\x1F"
)

// opening is what Open asks of a unit with these commands: 0x7F, Get, Get ID, and
// whether Read Memory is refused.
func opening(commands string, locked bool) []turn {
	all := []turn{
		{"\x7F", y},
		{"\x00\xFF", y + string(rune(len(commands))) + "\x31" + commands + y},
		{"\x02\xFD", y + "\x01\x0A\x17" + y},
	}
	if locked {
		return append(all, turn{"\x11\xEE", n})
	}
	return append(all, turn{"\x11\xEE", y}, turn{"\x00\x00\x00\x00\x01", n})
}

var pages = &memory.Map{Erased: 0xFF, Regions: []memory.Region{
	{Name: "program", Use: memory.Program, Address: 0x08000000, Length: 0x4000, Sector: 0x400}}}

const (
	modern = "\x00\x01\x02\x11\x21\x31\x44\x63\x73\x82\x92"
	old    = "\x00\x01\x02\x11\x21\x31\x43"
)

func open(t *testing.T, commands string, locked bool, then ...turn) (*session, *played) {
	t.Helper()
	p := &played{t: t, turns: append(opening(commands, locked), then...)}
	s, err := Kind{}.Open(context.Background(), p, loader.Options{Own: loader.Own{"baud": 115200, "parity": "even"}, Map: pages, Pace: link.Pace{Clock: core.System{}, Scale: 1e-9}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if len(p.turns) > 0 || len(p.answers) > 0 {
			t.Errorf("%d turns were not played, % X not read", len(p.turns), p.answers)
		}
	})
	return s.(*session), p
}

// The answer to the first byte comes late, when the byte was sent once more: the unit
// then holds half of a command, which it must be rid of before it is asked.
func TestALateAnswerToTheFirstByte(t *testing.T) {
	for name, more := range map[string][]turn{
		"it had both":              {{"\x7F", n}},
		"the second was not taken": {{"\x7F", ""}, {"\x7F", n}},
	} {
		t.Run(name, func(t *testing.T) {
			turns := append([]turn{{"\x7F", ""}, {"\x7F", y}}, more...)
			p := &played{t: t, turns: append(turns, opening(modern, false)[1:]...)}
			if _, err := (Kind{}).Open(context.Background(), p, loader.Options{Own: loader.Own{"baud": 115200, "parity": "even"}, Map: pages, Pace: link.Pace{Clock: core.System{}, Scale: 1e-9}}); err != nil || len(p.turns) > 0 {
				t.Errorf("%v, %d turns were not played", err, len(p.turns))
			}
		})
	}
}

func TestTheBytesOfEachCommand(t *testing.T) {
	ctx := context.Background()
	page := strings.Repeat("\xA5", 256)
	sum := func(s string) string { return string(summed([]byte(s))) }
	for name, x := range map[string]struct {
		commands string
		locked   bool
		turns    []turn
		do       func(s *session) error
	}{
		"read 3 bytes": {modern, false, []turn{{"\x11\xEE", y}, {"\x08\x00\x04\x10\x1C", y}, {"\x02\xFD", y + "abc"}}, func(s *session) error {
			b := make([]byte, 3)
			if err := s.Read(ctx, 0x08000410, b, nil); err != nil || string(b) != "abc" {
				return fmt.Errorf("%q %w", b, err)
			}
			return nil
		}},
		"write a page": {modern, false, []turn{{"\x31\xCE", y}, {"\x08\x00\x00\x00\x08", y}, {sum("\xFF" + page), y}}, func(s *session) error {
			return change(s, loader.Op{Address: 0x08000000, Length: 256, Data: []byte(page)})
		}},
		"erase pages 2 and 3": {modern, false, []turn{{"\x44\xBB", y}, {"\x00\x01\x00\x02\x00\x03\x00", y}}, func(s *session) error {
			return change(s, loader.Op{Erase: true, Address: 0x08000800, Length: 0x800})
		}},
		"erase page 15 the old way": {old, false, []turn{{"\x43\xBC", y}, {"\x00\x0F\x0F", y}}, func(s *session) error {
			return change(s, loader.Op{Erase: true, Address: 0x08003C00, Length: 0x400})
		}},
		"erase everything":             {modern, false, []turn{{"\x44\xBB", y}, {"\xFF\xFF\x00", y}}, func(s *session) error { return s.EraseAll(ctx) }},
		"erase everything the old way": {old, false, []turn{{"\x43\xBC", y}, {"\xFF\x00", y}}, func(s *session) error { return s.EraseAll(ctx) }},
		"erase bank 1":                 {modern, false, []turn{{"\x44\xBB", y}, {"\xFF\xFE\x01", y}}, func(s *session) error { return s.EraseBank(ctx, 1) }},
		"erase bank 2":                 {modern, false, []turn{{"\x44\xBB", y}, {"\xFF\xFD\x02", y}}, func(s *session) error { return s.EraseBank(ctx, 2) }},
		"protect pages 1 and 4":        {modern, false, append([]turn{{"\x63\x9C", y}, {"\x01\x01\x04\x04", y}}, opening(modern, false)...), func(s *session) error { return s.Guard(ctx, []byte{1, 4}) }},
		"lift that":                    {modern, false, append([]turn{{"\x73\x8C", y + y}}, opening(modern, false)...), func(s *session) error { return s.Unguard(ctx) }},
		"lock":                         {modern, false, append([]turn{{"\x82\x7D", y + y}}, opening(modern, true)...), func(s *session) error { return s.Lock(ctx) }},
		"unlock":                       {modern, true, append([]turn{{"\x92\x6D", y + y}}, opening(modern, false)...), func(s *session) error { return s.Unlock(ctx) }},
		"go":                           {modern, false, []turn{{"\x21\xDE", y}, {"\x08\x00\x00\x00\x08", y}}, func(s *session) error { return s.Restart(ctx, false) }},
		"a harmless question":          {modern, false, []turn{{"\x02\xFD", y + "\x01\x0A\x17" + y}}, func(s *session) error { return s.Probe(ctx) }},
	} {
		t.Run(name, func(t *testing.T) {
			s, _ := open(t, x.commands, x.locked, x.turns...)
			if err := x.do(s); err != nil {
				t.Error(err)
			}
		})
	}
}

// change carries one op out.
func change(s *session, op loader.Op) error {
	done := false
	return s.Change(context.Background(), func() (loader.Op, bool, error) {
		if done {
			return loader.Op{}, false, nil
		}
		done = true
		return op, true, nil
	}, func(loader.Op) error { return nil })
}

func TestWhatAUnitRefuses(t *testing.T) {
	ctx := context.Background()
	s, _ := open(t, old, false)
	for name, err := range map[string]error{
		"a bank the old way":        s.EraseBank(ctx, 1),
		"a bank that is not there":  s.EraseBank(ctx, 3),
		"no page begins there":      change(s, loader.Op{Erase: true, Address: 0x08000010, Length: 0x400}),
		"a digest":                  s.Can(loader.Digest),
		"a lock that it lacks":      s.Can(loader.Guard),
		"protection of no pages":    s.Guard(ctx, nil),
		"protection of many pages":  s.Guard(ctx, make([]byte, 257)),
		"settings, a console, file": s.Can(loader.File),
	} {
		if core.KindOf(err) != core.RefusedByUnit || len(err.Error()) < 20 {
			t.Errorf("%s: %v", name, err)
		}
	}
	many := *pages
	many.Regions = []memory.Region{{Name: "program", Use: memory.Program, Address: 0x08000000, Length: 300 << 10, Sector: 1 << 10}}
	s.sectors = many.Sectors()
	if err := change(s, loader.Op{Erase: true, Address: 0x08000000 + 260<<10, Length: 1 << 10}); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "counts pages in one byte") {
		t.Errorf("page 260 the old way: %v", err)
	}
	s, _ = open(t, modern, true)
	for _, a := range []loader.Ability{loader.Read, loader.Write, loader.Erase, loader.Reset} {
		if err := s.Can(a); core.KindOf(err) != core.Protected {
			t.Errorf("%s of a locked unit: %v", a, err)
		}
	}
	if err := s.Can(loader.Guard); err != nil {
		t.Errorf("the lock itself: %v", err)
	}
}

// What a unit answers that is no answer is an error in words, and never a panic.
func TestOddAnswers(t *testing.T) {
	for name, x := range map[string]struct {
		turns []turn
		kind  core.Kind
		says  string
	}{
		"silence":                 {[]turn{{"\x7F", ""}, {"\x7F", ""}, {"\x7F", ""}, {"\x7F", ""}, {"\x7F", ""}}, core.NotAnswering, "does not answer"},
		"it lists nothing":        {[]turn{{"\x7F", y}, {"\x00\xFF", y + "\x00\x31" + y}}, core.RefusedByUnit, "lists 1 bytes of commands"},
		"its list does not end":   {[]turn{{"\x7F", y}, {"\x00\xFF", y + "\x01\x31\x00" + n}}, core.RefusedByUnit, "expected 0x79"},
		"its list is cut off":     {[]turn{{"\x7F", y}, {"\x00\xFF", y + "\x0B\x31\x00"}}, core.NotAnswering, "of 13 bytes came"},
		"it answers with rubbish": {[]turn{{"\x7F", y}, {"\x00\xFF", "\x42"}}, core.NotAnswering, "expected 0x79 or 0x1F"},
		"it refuses to tell":      {[]turn{{"\x7F", n}, {"\x00\xFF", n}}, core.RefusedByUnit, "refuses command 0x00"},
	} {
		p := &played{t: t, turns: x.turns}
		_, err := Kind{}.Open(context.Background(), p, loader.Options{Own: loader.Own{"baud": 115200}, Map: pages, Pace: link.Pace{Clock: core.System{}, Scale: 1e-9}})
		if core.KindOf(err) != x.kind || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := (Kind{}).Open(context.Background(), &played{t: t}, loader.Options{}); core.KindOf(err) != core.BadFile {
		t.Errorf("without a map: %v", err)
	}
}

// After a no that a spoilt byte may have caused, a piece is asked for once more.
func TestAPieceIsAskedForOnceMore(t *testing.T) {
	s, _ := open(t, modern, false, turn{"\x11\xEE", y}, turn{"\x08\x00\x00\x00\x08", n}, turn{"\x11\xEE", y}, turn{"\x08\x00\x00\x00\x08", y}, turn{"\x00\xFF", y + "q"})
	b := make([]byte, 1)
	if err := s.Read(context.Background(), 0x08000000, b, nil); err != nil || b[0] != 'q' {
		t.Errorf("%q %v", b, err)
	}
}

// FuzzAnswers: whatever a unit says, the loader ends with an error or a session.
func FuzzAnswers(f *testing.F) {
	f.Add([]byte(y + y + "\x01\x31\x00" + y + y + "\x01\x0A\x17" + y + n))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, says []byte) {
		s, err := Kind{}.Open(context.Background(), &speaking{says: says}, loader.Options{Own: loader.Own{"baud": 115200}, Map: pages, Pace: link.Pace{Clock: core.System{}, Scale: 1e-9}})
		if err != nil {
			if core.KindOf(err) == "" {
				t.Errorf("no kind: %v", err)
			}
			return
		}
		s.Read(context.Background(), 0x08000000, make([]byte, 300), nil)
		change(s.(*session), loader.Op{Erase: true, Address: 0x08000000, Length: 0x400})
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

package monitor

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"go.yaml.in/yaml/v3"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
)

// board is the far end of a line: it is called with all that it has been sent since it
// took something last, says how much of that it takes, and what it answers.
type board struct {
	hears func(sent string) (takes int, says string)
	sent  string
	out   []byte
	most  int // bytes sent and not taken, at most
	all   strings.Builder
}

func (b *board) Write(p []byte) (int, error) {
	b.all.Write(p)
	b.sent += string(p)
	b.most = max(b.most, len(b.sent))
	return len(p), nil
}

func (b *board) Read(p []byte) (int, error) {
	if len(b.out) == 0 {
		n, says := b.hears(b.sent)
		b.sent = b.sent[n:]
		b.out = append(b.out, says...)
	}
	if len(b.out) == 0 {
		return 0, os.ErrDeadlineExceeded
	}
	n := copy(p, b.out[:min(7, len(b.out))]) // in bits, as a line gives them
	b.out = b.out[n:]
	return n, nil
}
func (b *board) SetReadDeadline(time.Time) error { return nil }
func (b *board) SetMode(link.Mode) error         { return nil }
func (b *board) SetLine(link.Line, bool) error   { return nil }
func (b *board) Purge() error                    { b.out = nil; return nil }
func (b *board) Generation() uint64              { return 1 }
func (b *board) Close() error                    { return nil }

// byLine makes a board that takes lines and answers each.
func byLine(answer func(line string) string) *board {
	return &board{hears: func(sent string) (int, string) {
		i := strings.IndexByte(sent, '\r')
		if i < 0 {
			return 0, ""
		}
		return i + 1, answer(strings.TrimLeft(sent[:i], "\x15 "))
	}}
}

const plainSheet = `baud: 115200
enter: [{ line: dtr, on: true }]
dialogue:
  prompt: "> "
  wait: 1s
  pass: ['^#']
  wrong: [{ match: '^E locked', means: locked }, { match: '^E worn', means: damaged }, { match: '^E huh', means: again }, { match: '^E', means: refused }]
  reach: { steps: [{ say: "" }] }
  identify: { steps: [{ say: id, expect: 'unit (?P<model>\S+) no (?P<serial>\S+)' }] }
  read: { most: 16, steps: [{ say: "d {address:04X} {length:X}", each: '^(?P<address>[0-9A-F]+): (?P<bytes>[0-9A-F ]+)$' }] }
  erase: { steps: [{ say: "e {address:X} {last:X}", expect: '^erased {address:X}-{last:X}$' }] }
  write: { steps: [{ say: w, expect: '^go$' }, { send: s-record, accept: '\+', refuse: '-' }, { expect: '^ok$' }] }
  settings: { list: { steps: [{ say: s, each: '^(?P<name>[a-z]+)=(?P<value>.*)$' }] }, put: { steps: [{ say: "s {name}={value}", expect: '^kept$' }] } }
`

func options(t testing.TB, sheet string) loader.Options {
	var own loader.Own
	if err := yaml.Unmarshal([]byte(sheet), &own); err != nil {
		t.Fatal(err)
	}
	return loader.Options{Own: own, Map: &memory.Map{}, Pace: link.Pace{Clock: core.System{}, Scale: 1e-6}}
}

func open(t *testing.T, sheet string, b *board) (*session, error) {
	t.Helper()
	s, err := Kind{}.Open(context.Background(), b, options(t, sheet))
	if err != nil {
		return nil, err
	}
	return s.(*session), nil
}

func TestWhatComesIsMadePlain(t *testing.T) {
	for in, want := range map[string]string{
		"a\r\nb\nc\rd\n\re":                     "a\nb\nc\nd\ne",
		"\x1b[1;36mred\x1b[0m line\r\n":         "red line\n",
		"half\x1b[2J\x1b[Hmenu":                 "half\nmenu",
		"\x1b[5;10Hat\x1b[6;1Hnext":             "at\nnext",
		"a\x00b\ac\bd\x7f":                      "abcd",
		"\x1b(Bplain":                           "Bplain",
		"\r\n\r\n":                              "\n\n",
		"\x1b[" + strings.Repeat("9", 40) + "m": strings.Repeat("9", 9) + "m",
	} {
		whole, bits := &talk{}, &talk{}
		whole.plain([]byte(in))
		for i := range len(in) {
			bits.plain([]byte{in[i]})
		}
		if string(whole.text) != want || string(bits.text) != want {
			t.Errorf("%q became %q, in pieces %q, want %q", in, whole.text, bits.text, want)
		}
	}
	x := &talk{holds: true}
	if x.plain([]byte("a\x13b")); !x.held || string(x.text) != "ab" {
		t.Errorf("XOFF: %v %q", x.held, x.text)
	}
	if x.plain([]byte("\x11")); x.held {
		t.Error("XON")
	}
}

// Facts, settings, log lines in the middle, a prompt with a log line behind it, an answer
// in several reads; and what errors lead to.
func TestADialogue(t *testing.T) {
	huh := 0
	b := byLine(func(line string) string {
		switch line {
		case "":
			return "\r\n> "
		case "id":
			if huh++; huh < 3 {
				return "E huh\r\n> "
			}
			return "# log\r\nunit GULL no 7\r\n# log\r\n> # late log\r\n"
		case "s":
			return "quiet=1\r\n# x=9\r\nname=low water \r\n> "
		case "s quiet=2":
			return "kept\r\n> "
		case "e 0 3FF":
			return "E worn 0200\r\n> "
		case "e 400 7FF":
			return "erased 400-4FF\r\n> "
		case "e 800 BFF":
			return "E locked\r\n> "
		case "e C00 FFF":
			return "erased C00-FFF\r\n> "
		}
		return "E no such thing\r\n> "
	})
	s, err := open(t, plainSheet, b)
	if err != nil {
		t.Fatal(err)
	}
	facts, err := s.Identify(context.Background())
	if err != nil || len(facts) != 2 || facts[0].Value != "GULL" || facts[1].Value != "7" {
		t.Errorf("%+v %v", facts, err)
	}
	if all, err := s.Settings(context.Background()); err != nil || len(all) != 2 || all[1].Value != "low water" {
		t.Errorf("%+v %v", all, err)
	}
	if err := s.PutSetting(context.Background(), loader.Setting{Name: "quiet", Value: "2"}); err != nil {
		t.Error(err)
	}
	for at, x := range map[uint64]struct {
		kind core.Kind
		says string
	}{
		0:     {core.RefusedByUnit, "its memory did not do it"},
		0x400: {core.NotAnswering, `"erased 400-4FF" came`}, // it understood another stretch
		0xC00: {"", ""},
		0x800: {core.Protected, "locked against reading"},
	} {
		_, err := s.once(context.Background(), "erase", s.d.Erase, over(at, 0x400), nil)
		if core.KindOf(err) != x.kind || err != nil && !strings.Contains(err.Error(), x.says) {
			t.Errorf("0x%X: %v", at, err)
		}
	}
	if err := s.Can(loader.Read); core.KindOf(err) != core.Protected {
		t.Errorf("after it said that it is locked: %v", err)
	}
	if err := s.Can(loader.Digest); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "nothing for it") {
		t.Errorf("what the dialogue has nothing for: %v", err)
	}
}

// A line whose echo shows that it was spoilt is never ended: its address might be another.
func TestASpoiltLineIsNeverEnded(t *testing.T) {
	var ended []string
	spoil := map[int]bool{3: true, 5: true}
	lines := 0
	b := &board{}
	b.hears = func(sent string) (int, string) {
		switch {
		case sent == "":
			return 0, ""
		case sent[0] == 0x15:
			return 1, "^U\r\n> "
		case strings.HasSuffix(sent, "\r"):
			line := strings.TrimSuffix(sent, "\r")
			if line != "" {
				ended = append(ended, line)
			}
			return len(sent), "\r\n> "
		}
		return 0, ""
	}
	echoing := strings.Replace(plainSheet, "  wait: 1s", "  echo: true\n  wait: 1s", 1)
	// the board keeps what it was sent as its own line, and echoes it
	mine, spoilt := "", 0
	b.hears = func(sent string) (int, string) {
		if sent == "" {
			return 0, ""
		}
		if sent[0] == 0x15 {
			mine = ""
			return 1, "\r\n> "
		}
		if sent[0] == '\r' {
			line := mine
			mine = ""
			if line != "" {
				ended = append(ended, line)
			}
			if strings.HasPrefix(line, "id") {
				return 1, "\r\nunit GULL no 7\r\n> "
			}
			if line == "e C00 FFF" {
				return 1, "\r\nerased C00-FFF\r\n> "
			}
			return 1, "\r\n> "
		}
		n := strings.IndexAny(sent, "\r\x15")
		if n < 0 {
			n = len(sent)
		}
		part := sent[:n]
		if lines++; spoil[lines] {
			spoilt++
			part = strings.Replace(part, "C", "4", 1)
		}
		mine += part
		return n, part
	}
	s, err := open(t, echoing, b)
	if err != nil {
		t.Fatal(err)
	}
	lines, spoil = 0, map[int]bool{1: true, 2: true}
	if _, err := s.once(context.Background(), "erase", s.d.Erase, over(0xC00, 0x400), nil); err != nil {
		t.Error(err)
	}
	for _, l := range ended {
		if l != "id" && l != "e C00 FFF" {
			t.Errorf("the unit was made to take %q", l)
		}
	}
	if spoilt != 2 {
		t.Errorf("%d lines were spoilt", spoilt)
	}
}

// Lines that are answered are sent as far ahead as the buffer holds, and what is refused
// or lost is sent again, and nothing else.
func TestLinesThatAreAnswered(t *testing.T) {
	for _, buffer := range []int{0, 200} {
		got := map[string]int{}
		n := 0
		writing := false
		b := &board{}
		b.hears = func(sent string) (int, string) {
			i := strings.IndexByte(sent, '\r')
			if i < 0 {
				return 0, ""
			}
			line := strings.Trim(sent[:i], "\x15 ")
			switch {
			case line == "w":
				writing = true
				return i + 1, "go\r\n"
			case line == "id":
				return i + 1, "unit GULL no 7\r\n> "
			case !writing || line == "":
				return i + 1, "\r\n> "
			}
			n++
			if n == 3 || n == 7 {
				return i + 1, "-"
			}
			got[line]++
			if line[:2] == "S7" || line[:2] == "S8" || line[:2] == "S9" {
				writing = false
				return i + 1, "+\r\nok\r\n> "
			}
			return i + 1, "+"
		}
		sheet := plainSheet
		if buffer > 0 {
			sheet = strings.Replace(sheet, "  wait: 1s", fmt.Sprintf("  wait: 1s\n  flow: { buffer: %d }", buffer), 1)
		}
		s, err := open(t, sheet, b)
		if err != nil {
			t.Fatal(err)
		}
		data := bytes.Repeat([]byte("abcdefgh"), 40)
		b.most = 0
		if err := s.write(context.Background(), 0x1000, data); err != nil {
			t.Fatalf("buffer %d: %v", buffer, err)
		}
		all, _ := records(sRecord, 0x1000, data)
		for _, r := range all {
			if got[string(r.line)] != 1 {
				t.Errorf("buffer %d: %s was taken %d times", buffer, r.line, got[string(r.line)])
			}
		}
		if len(got) != len(all) || buffer > 0 && (b.most > buffer || b.most < buffer/2) {
			t.Errorf("buffer %d: %d lines, %d bytes ahead", buffer, len(got), b.most)
		}
	}
}

// Nothing is poured while the unit says XOFF, and only what is missing is sent again.
func TestLinesThatNobodyAnswers(t *testing.T) {
	sheet := strings.NewReplacer("  wait: 1s", "  wait: 1s\n  flow: { kind: xon-xoff, buffer: 64 }\n  checksum: { steps: [{ say: \"c {address:X} {length:X}\", expect: '^sum (?P<crc32>[0-9A-F]{8})$' }] }",
		"{ send: s-record, accept: '\\+', refuse: '-' }, { expect: '^ok$' }", "{ send: intel-hex, expect: '^took [0-9]+$' }").Replace(plainSheet)
	held, lost, writing := false, 2, false
	holds := make([]byte, 256)
	var lines []string
	b := &board{}
	b.hears = func(sent string) (int, string) {
		if held {
			held = false
			return 0, "\x11"
		}
		i := strings.IndexByte(sent, '\r')
		if i < 0 {
			return 0, ""
		}
		line := strings.Trim(sent[:i], "\x15 ")
		switch {
		case line == "w":
			writing, lines = true, nil
			return i + 1, "go\r\n"
		case strings.HasPrefix(line, "c "):
			var at, n int
			fmt.Sscanf(line, "c %X %X", &at, &n)
			return i + 1, fmt.Sprintf("sum %08X\r\n> ", sumOf(holds[at-0x1000:][:n]))
		case strings.HasPrefix(line, "d "):
			var at, n int
			fmt.Sscanf(line, "d %X %X", &at, &n)
			return i + 1, fmt.Sprintf("%04X: % X\r\n> ", at, holds[at-0x1000:][:n])
		case line == "id":
			return i + 1, "unit GULL no 7\r\n> "
		case !writing || line == "":
			return i + 1, "\r\n> "
		}
		lines = append(lines, line)
		if line[7:9] == "01" {
			writing = false
			return i + 1, fmt.Sprintf("took %d\r\n> ", len(lines))
		}
		if lost > 0 && line[7:9] == "00" {
			lost--
			return i + 1, ""
		}
		var at, n int
		fmt.Sscanf(line[1:7], "%2X%4X", &n, &at)
		for k := range n {
			fmt.Sscanf(line[9+2*k:][:2], "%2X", &holds[at-0x1000+k])
		}
		if len(lines)%4 == 0 {
			held = true
			return i + 1, "\x13"
		}
		return i + 1, ""
	}
	s, err := open(t, sheet, b)
	if err != nil {
		t.Fatal(err)
	}
	data := make([]byte, 256)
	for i := range data {
		data[i] = byte(i * 3)
	}
	if err := s.write(context.Background(), 0x1000, data); err != nil || !bytes.Equal(holds, data) {
		t.Errorf("%v, holds % X", err, holds[:32])
	}
	if len(lines) != 3 { // the two that were lost, and the end
		t.Errorf("sent again were %q", lines)
	}
}

func sumOf(b []byte) uint32 {
	c := ^uint32(0)
	for _, x := range b {
		c ^= uint32(x)
		for range 8 {
			if c&1 == 1 {
				c = c>>1 ^ 0xEDB88320
			} else {
				c >>= 1
			}
		}
	}
	return ^c
}

// A dump carries no checksum: one digit that came wrong is found, by reading twice.
func TestADumpIsReadTwice(t *testing.T) {
	reads := 0
	b := byLine(func(line string) string {
		switch {
		case line == "id":
			return "unit GULL no 7\r\n> "
		case strings.HasPrefix(line, "d "):
			reads++
			if reads == 1 {
				return "0000: 11 32 33 34\r\n> "
			}
			return "0000: 31 32 33 34\r\n> "
		}
		return "\r\n> "
	})
	s, err := open(t, plainSheet, b)
	if err != nil {
		t.Fatal(err)
	}
	p := make([]byte, 4)
	if err := s.Read(context.Background(), 0, p, nil); err != nil || string(p) != "1234" || reads != 3 {
		t.Errorf("%q %v after %d reads", p, err, reads)
	}
}

// Whatever a unit says, and however long, a dialogue ends within its bounds.
func TestNoUnitMakesADialogueHang(t *testing.T) {
	for name, says := range map[string]func(n int) string{
		"silence":                 func(int) string { return "" },
		"log without end":         func(n int) string { return fmt.Sprintf("# log %d\r\n", n) },
		"one line without end":    func(int) string { return strings.Repeat("x", 1000) },
		"prompts without end":     func(int) string { return "> > > > " },
		"errors without end":      func(int) string { return "E huh\r\n> " },
		"escapes that do not end": func(int) string { return "\x1b[1;1;1;1" },
	} {
		t.Run(name, func(t *testing.T) {
			n := 0
			b := &board{hears: func(sent string) (int, string) { n++; return len(sent), says(n) }}
			ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			_, err := Kind{}.Open(ctx, b, options(t, plainSheet))
			if ctx.Err() != nil || core.KindOf(err) == "" {
				t.Errorf("%v", err)
			}
		})
	}
}

// What a schema cannot see in a dialogue is found, with the place where it stands.
func TestDialoguesThatCannotBe(t *testing.T) {
	for name, x := range map[string]struct{ change, to, path, says string }{
		"a pattern":              {`'^#'`, `'^(#'`, "pass.0", "is not a pattern"},
		"a placeholder":          {`{address:04X} {length:X}`, `{adress:04X} {length:X}`, "read.steps.0.say", "there is no {adress}"},
		"no bytes in a dump":     {`(?P<bytes>`, `(?P<bites>`, "read.steps", "address and bytes"},
		"nothing is sent":        {`{ send: s-record, accept: '\+', refuse: '-' }, `, ``, "write.steps", "sends the bytes"},
		"a write, and no erase":  {`  erase: { steps: [{ say: "e {address:X} {last:X}", expect: '^erased {address:X}-{last:X}$' }] }`, ``, "write", "both"},
		"settings without names": {`(?P<name>[a-z]+)`, `([a-z]+)`, "settings.list.steps", `named "name"`},
		"a secret elsewhere":     {`{ say: id,`, `{ secret: key }, { say: id,`, "identify.steps.0.secret", "alone"},
		"bytes where none go":    {`{ say: id,`, `{ take: ymodem }, { say: id,`, "identify.steps.0.take", "nothing is taken"},
	} {
		sheet := strings.Replace(plainSheet, x.change, x.to, 1)
		if sheet == plainSheet {
			t.Fatalf("%s changes nothing", name)
		}
		path, err := Kind{}.Check(options(t, sheet).Own)
		if err == nil || strings.Join(path, ".") != "dialogue."+x.path || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%s: at %s, %v", name, strings.Join(path, "."), err)
		}
	}
}

// What the dialogue can do shapes its limits.
func TestLimitsFollowTheDialogue(t *testing.T) {
	l := Kind{}.Limits(options(t, plainSheet).Own)
	for a, has := range map[loader.Ability]bool{loader.Read: true, loader.Write: true, loader.Keep: true, loader.Files: false, loader.Guard: false, loader.File: false, loader.Reset: false} {
		if l.Has(a) != has {
			t.Errorf("%s: %v", a, l.Has(a))
		}
	}
	if l.Identity != loader.ThisUnit {
		t.Errorf("it tells its serial, and identifies %q", l.Identity)
	}
	l = Kind{}.Limits(options(t, "baud: 9600\ndialogue:\n  prompt: '>'\n  reach: { steps: [{ key: x }] }\n  file: { steps: [{ key: f, send: ymodem }] }\n").Own)
	if !l.Has(loader.File) || l.Has(loader.Read) || l.Identity != loader.ByEye || l.Instead == "" {
		t.Errorf("%+v", l)
	}
}

func FuzzPlain(f *testing.F) {
	f.Add([]byte("\x1b[1;36mred\x1b[0m\r\n\x13\x11> "))
	f.Fuzz(func(t *testing.T, in []byte) {
		x := &talk{holds: true}
		x.plain(in)
		if len(x.text) > len(in)+1 || len(x.escape) > 33 || bytes.ContainsAny(x.text, "\r\x1b\x00") {
			t.Errorf("%q became %q", in, x.text)
		}
	})
}

// FuzzAnswers: whatever comes, opening and the work after it end with an error or without.
func FuzzAnswers(f *testing.F) {
	f.Add([]byte("> unit GULL no 7\r\n> 0000: 31\r\n> go\r\n++ok\r\n> "))
	f.Add([]byte("E huh\r\n> \x1b[2J"))
	f.Fuzz(func(t *testing.T, says []byte) {
		at := 0
		b := &board{hears: func(sent string) (int, string) {
			n := min(11, len(says)-at)
			at += n
			return len(sent), string(says[at-n : at])
		}}
		s, err := Kind{}.Open(context.Background(), b, options(t, plainSheet))
		if err != nil {
			if core.KindOf(err) == "" {
				t.Errorf("no kind: %v", err)
			}
			return
		}
		s.Read(context.Background(), 0, make([]byte, 40), nil)
		s.(*session).write(context.Background(), 0x1000, make([]byte, 40))
		s.(*session).Settings(context.Background())
	})
}

// virtual is a time that goes on only while somebody waits for a board.
type virtual struct{ now time.Time }

func (v *virtual) Now() time.Time { return v.now }
func (v *virtual) After(d time.Duration) <-chan time.Time {
	v.now = v.now.Add(d)
	c := make(chan time.Time, 1)
	c <- v.now
	return c
}

// paced is a board whose silences take the time that somebody waits.
type paced struct {
	*board
	clock    *virtual
	deadline time.Time
}

func (p *paced) SetReadDeadline(t time.Time) error { p.deadline = t; return nil }
func (p *paced) Read(b []byte) (int, error) {
	n, err := p.board.Read(b)
	if err != nil && p.deadline.After(p.clock.now) {
		p.clock.now = p.deadline
	}
	return n, err
}

// A board without any flow control is given the pause that its sheet names after each
// line, and the line its own time.
func TestAPauseAfterEachLine(t *testing.T) {
	sheet := strings.NewReplacer("  wait: 1s", "  wait: 1s\n  flow: { kind: paced, pause: 20ms }", "{ send: s-record, accept: '\\+', refuse: '-' }, { expect: '^ok$' }", "{ send: intel-hex, expect: '^took$' }").Replace(plainSheet)
	clock := &virtual{now: time.Unix(1000, 0)}
	var times []time.Time
	writing := false
	b := &paced{clock: clock, board: byLine(nil)}
	b.hears = func(sent string) (int, string) {
		i := strings.IndexByte(sent, '\r')
		if i < 0 {
			return 0, ""
		}
		line := strings.TrimLeft(sent[:i], "\x15 ")
		switch {
		case line == "id":
			return i + 1, "unit GULL no 7\r\n> "
		case line == "w":
			writing = true
			return i + 1, "go\r\n"
		case writing && line == ":00000001FF":
			writing = false
			return i + 1, "took\r\n> "
		case writing:
			times = append(times, clock.now)
			return i + 1, ""
		}
		return i + 1, "\r\n> "
	}
	o := options(t, sheet)
	o.Pace = link.Pace{Clock: clock}
	s, err := Kind{}.Open(context.Background(), b, o)
	if err != nil {
		t.Fatal(err)
	}
	load := &payload{address: 0x1000, data: make([]byte, 320)}
	if _, _, err := s.(*session).player.play(context.Background(), "write", s.(*session).d.Write, over(0x1000, 320), load); err != nil {
		t.Fatal(err)
	}
	if len(times) != 20 {
		t.Fatalf("%d lines", len(times))
	}
	each := times[19].Sub(times[0]) / 19
	if line := 44 * 10 * time.Second / 115200; each < (line+20*time.Millisecond)*98/100 || each > line+24*time.Millisecond { // the first one has no pause before it
		t.Errorf("%s from one line to the next", each)
	}
}

// A secret stands in no record and in no message, also where the unit gives it back.
func TestASecretIsNowhereToBeRead(t *testing.T) {
	sheet := strings.Replace(plainSheet, "  read:", "  allow: { steps: [{ say: unlock, asks: 'Key: ' }, { secret: boot-key, expect: '^open$' }] }\n  read:", 1)
	b := byLine(func(line string) string {
		switch line {
		case "id":
			return "unit GULL no 7\r\n> "
		case "unlock":
			return "Key: "
		case "low water":
			return "low water\r\nE low water is wrong\r\n> "
		}
		return "\r\n> "
	})
	o := options(t, sheet)
	o.Secret = func(context.Context, string) (string, error) { return "low water", nil }
	var noted strings.Builder
	var turns []loader.Turn
	o.Note = func(_ bool, p []byte) { noted.Write(p) }
	o.Watch = func(x loader.Turn) { turns = append(turns, x) }
	s, err := Kind{}.Open(context.Background(), b, o)
	if err != nil {
		t.Fatal(err)
	}
	err = s.Read(context.Background(), 0, make([]byte, 4), nil)
	if core.KindOf(err) != core.RefusedByUnit || !strings.Contains(b.all.String(), "low water") {
		t.Fatalf("%v; sent %q", err, b.all.String())
	}
	for what, text := range map[string]string{"the error": err.Error(), "the record": noted.String(), "the turns": fmt.Sprintf("%+v", turns)} {
		if strings.Contains(text, "low water") {
			t.Errorf("%s: %s", what, text)
		}
	}
}

// A prompt that belongs to what was said before is not the end of a question: one that
// comes late is passed over.
func TestALatePromptBeforeAQuestion(t *testing.T) {
	sheet := strings.Replace(plainSheet, "  read:", "  allow: { steps: [{ say: unlock, asks: 'Key: ' }, { secret: boot-key, expect: '^open$' }] }\n  read:", 1)
	b := byLine(func(line string) string {
		switch line {
		case "id":
			return "unit GULL no 7\r\n> "
		case "unlock":
			return "> Key: "
		case "low water":
			return "\r\nopen\r\n> "
		case "d 0000 4":
			return "0000: 01 02 03 04\r\n> "
		}
		return "\r\n> "
	})
	o := options(t, sheet)
	o.Secret = func(context.Context, string) (string, error) { return "low water", nil }
	s, err := Kind{}.Open(context.Background(), b, o)
	if err != nil {
		t.Fatal(err)
	}
	got := make([]byte, 4)
	if err := s.Read(context.Background(), 0, got, nil); err != nil || got[3] != 4 {
		t.Errorf("% X %v", got, err)
	}
}

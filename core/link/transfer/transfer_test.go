package transfer

import (
	"bytes"
	"context"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// The check value of this CRC for the nine digits, and a whole block by hand: 128
// times 0x1A sum up to 0x00 modulo 256.
func TestChecks(t *testing.T) {
	if got := CRC([]byte("123456789")); got != 0x31C3 {
		t.Errorf("CRC %04X, want 31C3", got)
	}
	b := block(3, nil, true)
	if len(b) != 132 || b[0] != soh || b[1] != 3 || b[2] != 0xFC || b[3] != sub || b[131] != 0x00 {
		t.Errorf("block % X", b)
	}
	if b := block(1, make([]byte, 1024), false); len(b) != 1029 || b[0] != stx || b[1027] != 0 || b[1028] != 0 {
		t.Errorf("a block of zeros has CRC % X", b[len(b)-2:])
	}
	if h := head(File{"dir/board.bin", make([]byte, 300)}); len(h) != 128 || string(h[:14]) != "board.bin\x00300\x00" {
		t.Errorf("block 0 begins % X", h[:16])
	}
}

// tape is a stream that plays what was recorded, and keeps what is said to it. The
// byte pause, if set, is one.
type tape struct {
	in       *bytes.Reader
	said     bytes.Buffer
	deadline time.Time
	pause    byte
}

func (p *tape) Read(b []byte) (int, error) {
	n, err := p.in.Read(b[:1])
	if n == 1 && p.pause != 0 && b[0] == p.pause {
		return 0, os.ErrDeadlineExceeded
	}
	if err == io.EOF {
		return n, os.ErrDeadlineExceeded
	}
	return n, err
}
func (p *tape) Write(b []byte) (int, error)       { return p.said.Write(b) }
func (p *tape) SetReadDeadline(t time.Time) error { p.deadline = t; return nil }
func (p *tape) SetMode(link.Mode) error           { return nil }
func (p *tape) SetLine(link.Line, bool) error     { return nil }
func (p *tape) Purge() error                      { return nil }
func (p *tape) Generation() uint64                { return 1 }
func (p *tape) Close() error                      { return nil }

func playing(in []byte) (*Line, *tape) {
	p := &tape{in: bytes.NewReader(in)}
	return &Line{p, link.Pace{Clock: core.System{}, Scale: 1e-9}}, p
}

func TestWhatASenderMeets(t *testing.T) {
	twice := func(s string) string { return s + s }
	for name, x := range map[string]struct {
		answers string
		kind    core.Kind
		words   string
	}{
		"dead in the middle":       {"C\x06", core.NotAnswering, "was not acknowledged"},
		"all well":                 {"C\x06\x06\x06", "", ""},
		"noise before the answer":  {"C\xff\x11\x06\x06\x06", "", ""},
		"a block sent again":       {"C\x15\x06\x06~\x06\x06", "", ""},
		"the end sent again":       {"C\x06\x06\x15\x06", "", ""},
		"nobody asks":              {"", core.NotAnswering, "no receiver has asked"},
		"one CAN is noise":         {"C\x18\x06\x06\x06", "", ""},
		"cancelled at once":        {twice("\x18"), core.RefusedByUnit, "cancelled"},
		"cancelled in the middle":  {"C\x06" + twice("\x18"), core.Interrupted, "cancelled the transfer at block 2"},
		"never acknowledged":       {"C" + strings.Repeat("\x15", 20), core.NotAnswering, "sent 10 times"},
		"the end not acknowledged": {"C\x06\x06" + strings.Repeat("\x15", 20), core.NotAnswering, "end of the file"},
	} {
		l, p := playing([]byte(x.answers))
		p.pause = '~'
		err := l.Send(context.Background(), make([]byte, 200), false, nil)
		if core.KindOf(err) != x.kind || err != nil && !strings.Contains(err.Error(), x.words) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// A person is told once to apply the power, also where a stray byte came before.
func TestAPersonIsToldOnceToApplyThePower(t *testing.T) {
	for _, in := range []string{"", "\x00", "\x00?\x00"} {
		l, _ := playing([]byte(in))
		told := 0
		if _, err := l.Invited(context.Background(), 5*time.Millisecond, func() { told++ }); core.KindOf(err) != core.NotAnswering || told != 1 {
			t.Errorf("after %q: told %d times, %v", in, told, err)
		}
	}
}

func TestWhatAReceiverMeets(t *testing.T) {
	one, two := block(1, bytes.Repeat([]byte{1}, 128), false), block(2, bytes.Repeat([]byte{2}, 128), false)
	spoilt := bytes.Clone(one)
	spoilt[9] ^= 1
	end := []byte{eot}
	for name, x := range map[string]struct {
		sent  [][]byte
		bytes int
		kind  core.Kind
		words string
	}{
		"two blocks":          {[][]byte{one, two, end}, 256, "", ""},
		"one twice":           {[][]byte{one, one, two, end}, 256, "", ""},
		"a block lost":        {[][]byte{one, block(3, nil, false), end}, 128, core.RefusedByUnit, "expected 2"},
		"another first block": {[][]byte{two, end}, 0, core.RefusedByUnit, "began with block 2"},
		"cancelled":           {[][]byte{one, {can, can}}, 128, core.Interrupted, "cancelled"},
		"nothing":             {nil, 0, core.NotAnswering, "asked for"},
		"breaks off":          {[][]byte{one}, 128, core.NotAnswering, "block 2"},
	} {
		l, _ := playing(bytes.Join(x.sent, nil))
		got, err := l.Receive(context.Background())
		if core.KindOf(err) != x.kind || err != nil && !strings.Contains(err.Error(), x.words) || len(got) != x.bytes {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
	}
}

func TestWhatAReceiverOfABatchMeets(t *testing.T) {
	named, last := block(0, head(File{"board.bin", make([]byte, 100)}), false), block(0, make([]byte, 128), false)
	one, end := block(1, bytes.Repeat([]byte{1}, 128), false), []byte{eot}
	for name, x := range map[string]struct {
		sent  [][]byte
		bytes int
		kind  core.Kind
		words string
	}{
		"one file":                      {[][]byte{named, one, end, last}, 100, "", ""},
		"its name twice":                {[][]byte{named, named, one, end, last}, 100, "", ""},
		"its name and its block twice":  {[][]byte{named, named, one, one, end, last}, 100, "", ""},
		"another name in the middle":    {[][]byte{named, block(0, head(File{"other.bin", nil}), false)}, 0, core.RefusedByUnit, "block 0 came, expected 1"},
		"its name and nothing else":     {[][]byte{bytes.Repeat(named, 40)}, 0, core.RefusedByUnit, "block 0 came, expected 1"},
		"begins with the wrong block":   {[][]byte{named, block(2, nil, false)}, 0, core.RefusedByUnit, "block 2 came, expected 1"},
		"begins without a name":         {[][]byte{one}, 0, core.RefusedByUnit, "expected block 0 with its name"},
		"cancelled before its contents": {[][]byte{named, {can, can}}, 0, core.Interrupted, "cancelled"},
	} {
		l, _ := playing(bytes.Join(x.sent, nil))
		files, err := l.ReceiveBatch(context.Background())
		got := 0
		for _, f := range files {
			got += len(f.Data)
		}
		if core.KindOf(err) != x.kind || err != nil && !strings.Contains(err.Error(), x.words) || got != x.bytes {
			t.Errorf("%s: %d bytes, %v", name, got, err)
		}
	}
}

func FuzzReceiver(f *testing.F) {
	f.Add(bytes.Join([][]byte{block(0, head(File{"a", make([]byte, 5)}), false), block(1, make([]byte, 5), false), {eot}, block(0, make([]byte, 128), false)}, nil))
	f.Add([]byte{soh, 1, 254})
	f.Fuzz(func(t *testing.T, sent []byte) {
		l, _ := playing(sent)
		got, err := l.ReceiveBatch(context.Background())
		total := 0
		for _, g := range got {
			total += len(g.Data)
		}
		if total > len(sent) || err == nil && len(got) > len(sent)/128 {
			t.Fatalf("%d bytes of files from %d sent", total, len(sent))
		}
		l, _ = playing(sent)
		l.Receive(context.Background())
		l, _ = playing(sent)
		l.SendBatch(context.Background(), []File{{"a", make([]byte, 300)}}, nil)
	})
}

func BenchmarkCRC(b *testing.B) {
	p := make([]byte, 1024)
	b.SetBytes(1024)
	for b.Loop() {
		CRC(p)
	}
}

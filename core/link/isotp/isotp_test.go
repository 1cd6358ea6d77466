package isotp

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
)

var began = time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC)

func count(n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(i)
	}
	return b
}

// The vectors were worked by hand from the layout of the protocol control information.
func TestFramesAsTheStandardHasThem(t *testing.T) {
	pad, address := byte(0xAA), byte(0x42)
	for name, x := range map[string]struct {
		c       Config
		message []byte
		frames  string
	}{
		"a single frame":             {Config{}, []byte{0x3E, 0x00}, "02 3E 00"},
		"padded":                     {Config{Padding: &pad}, []byte{0x3E, 0x00}, "02 3E 00 AA AA AA AA AA"},
		"as full as it can be":       {Config{}, count(7), "07 00 01 02 03 04 05 06"},
		"one byte more":              {Config{}, count(8), "10 08 00 01 02 03 04 05|21 06 07"},
		"the last one is full":       {Config{}, count(20), "10 14 00 01 02 03 04 05|21 06 07 08 09 0A 0B 0C|22 0D 0E 0F 10 11 12 13"},
		"behind an address, single":  {Config{Prefix: &address}, count(6), "42 06 00 01 02 03 04 05"},
		"behind an address, segment": {Config{Prefix: &address}, count(12), "42 10 0C 00 01 02 03 04|42 21 05 06 07 08 09 0A|42 22 0B"},
		"the longest short length":   {Config{}, count(4095)[:4095], "1F FF 00 01 02 03 04 05"},
		"the escape":                 {Config{}, make([]byte, 4096), "10 00 00 00 10 00 00 00"},
	} {
		s, err := NewSender(x.c, x.message)
		if err != nil {
			t.Fatal(err)
		}
		now, n := began, 0
		for _, want := range strings.Split(x.frames, "|") {
			f, _, _, err := s.Next(now)
			if err != nil || fmt.Sprintf("% X", f) != want {
				t.Fatalf("%s: frame %d is % X, want %s, %v", name, n, f, want, err)
			}
			if s.Sent(now); n == 0 {
				s.Flow(now, []byte{0x30, 0, 0})
			}
			n++
		}
	}
}

// The sequence number goes from 1 to 15 and then to 0.
func TestTheSequenceNumberTurnsOver(t *testing.T) {
	s, _ := NewSender(Config{}, count(6+17*7))
	s.Sent(began)
	s.Flow(began, []byte{0x30, 0, 0})
	for want := 1; want <= 17; want++ {
		if f, _, _, _ := s.Next(began); f[0] != 0x20|byte(want&0xF) {
			t.Fatalf("frame %d has %02X", want, f[0])
		}
		s.Sent(began)
	}
}

// What a sender sends a receiver gets, whatever the two have agreed on.
func TestSenderAndReceiver(t *testing.T) {
	r := rand.New(rand.NewPCG(15765, 2))
	own := byte(0x42)
	for range 400 {
		c := Config{BlockSize: uint8(r.IntN(5)), SeparationTime: []uint8{0, 5, 0x7F, 0xF1, 0xF9, 0x80}[r.IntN(6)]}
		if r.IntN(2) == 0 {
			c.Prefix = &own
		}
		if r.IntN(2) == 0 {
			c.Padding = &own
		}
		message := count(1 + r.IntN(1<<(1+r.IntN(14))))
		s, err := NewSender(c, message)
		if err != nil {
			t.Fatal(err)
		}
		in, now := NewReceiver(c), began
		var got []byte
		last := time.Time{}
		for got == nil {
			f, at, done, err := s.Next(now)
			if done || err != nil {
				t.Fatalf("%d bytes: the sender ends with %v", len(message), err)
			}
			if f == nil {
				now = at
				continue
			}
			pci, _ := c.inside(f, nil)
			if pci[0]>>4 == consecutive && pci[0]&0xF > 1 && c.BlockSize == 0 && now.Sub(last) < Separation(c.SeparationTime) {
				t.Fatalf("%s between frames, %s are asked for", now.Sub(last), Separation(c.SeparationTime))
			}
			last = now
			s.Sent(now)
			reply, m, err := in.Heard(now, pci)
			if err != nil {
				t.Fatal(err)
			}
			if got = m; reply != nil {
				back, _ := c.inside(reply, nil)
				s.Flow(now, back)
			}
		}
		if _, _, done, err := s.Next(now); !done || err != nil || !bytes.Equal(got, message) {
			t.Fatalf("%d bytes: %d came, the sender %v %v", len(message), len(got), done, err)
		}
	}
}

func TestSeparationTimes(t *testing.T) {
	for octet, want := range map[uint8]time.Duration{0: 0, 1: time.Millisecond, 0x7F: 127 * time.Millisecond, 0xF1: 100 * time.Microsecond, 0xF9: 900 * time.Microsecond,
		0x80: 127 * time.Millisecond, 0xF0: 127 * time.Millisecond, 0xFA: 127 * time.Millisecond, 0xFF: 127 * time.Millisecond} {
		if got := Separation(octet); got != want {
			t.Errorf("0x%02X: %s, want %s", octet, got, want)
		}
	}
	// 200 µs between frames is kept to the microsecond.
	s, _ := NewSender(Config{}, count(40))
	s.Sent(began)
	s.Flow(began, []byte{0x30, 0, 0xF2})
	s.Next(began)
	s.Sent(began)
	if f, at, _, _ := s.Next(began.Add(199 * time.Microsecond)); f != nil || at.Sub(began) != 200*time.Microsecond {
		t.Errorf("after 199 µs: %v, at %s", f, at.Sub(began))
	}
	if f, _, _, _ := s.Next(began.Add(200 * time.Microsecond)); f == nil {
		t.Error("after 200 µs nothing is sent")
	}
}

// Each timer of a sender, to its moment, and each way in which the other end says no.
func TestHowASenderEnds(t *testing.T) {
	start := func(n int) *Sender {
		s, _ := NewSender(Config{Waits: 2}, count(n))
		s.Next(began)
		s.Sent(began)
		return s
	}
	ends := func(name string, s *Sender, at time.Duration, kind core.Kind, says string) {
		t.Helper()
		if _, _, done, err := s.Next(began.Add(at)); !done || core.KindOf(err) != kind || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: done %v, %v", name, done, err)
		}
	}
	s := start(100)
	if _, at, done, err := s.Next(began.Add(time.Second - 1)); done || err != nil || at.Sub(began) != time.Second {
		t.Errorf("before N_Bs: %v %v", done, err)
	}
	ends("N_Bs after the first frame", s, time.Second, core.NotAnswering, "N_TIMEOUT_Bs")

	s = start(100)
	s.Flow(began, []byte{0x30, 2, 0})
	for range 2 {
		s.Next(began)
		s.Sent(began.Add(time.Millisecond))
	}
	if f, _, _, _ := s.Next(began.Add(time.Millisecond)); f != nil {
		t.Error("it goes on behind its block without being asked")
	}
	ends("N_Bs after a block", s, time.Second+time.Millisecond, core.NotAnswering, "took 20 of 100 bytes")

	s = start(100)
	for n := range 3 {
		s.Flow(began.Add(time.Duration(n)*900*time.Millisecond), []byte{0x31, 0, 0})
		if n < 2 {
			if _, at, done, _ := s.Next(began.Add(time.Duration(n) * 900 * time.Millisecond)); done || at.Sub(began) != time.Duration(n)*900*time.Millisecond+time.Second {
				t.Errorf("wait %d does not begin N_Bs anew: %s", n, at.Sub(began))
			}
		}
	}
	ends("too many waits", s, 1900*time.Millisecond, core.NotAnswering, "N_WFT_OVRN")

	s = start(100)
	s.Flow(began, []byte{0x32, 0, 0})
	ends("overflow", s, 0, core.RefusedByUnit, "N_BUFFER_OVFLW")
	s = start(100)
	s.Flow(began, []byte{0x33, 0, 0})
	ends("a status that is none", s, 0, core.RefusedByUnit, "N_INVALID_FS")
	s = start(100)
	s.Flow(began, []byte{0x30})
	ends("a flow control cut off", s, 0, core.RefusedByUnit, "3 are the least")
	if _, err := NewSender(Config{}, nil); core.KindOf(err) != core.BadFile {
		t.Errorf("nothing to send: %v", err)
	}
}

// A receiver's timer, and what it does with frames that are out of turn.
func TestHowAReceiverMinds(t *testing.T) {
	head := append([]byte{0x10, 20}, count(6)...)
	in := func() *Receiver {
		r := NewReceiver(Config{Largest: 64})
		if reply, m, err := r.Heard(began, head); fmt.Sprintf("% X", reply) != "30 00 00" || m != nil || err != nil {
			t.Fatalf("% X %v %v", reply, m, err)
		}
		return r
	}
	r := in()
	if err := r.Expire(began.Add(time.Second - 1)); err != nil || r.Until().Sub(began) != time.Second {
		t.Errorf("before N_Cr: %v", err)
	}
	r.Heard(began.Add(900*time.Millisecond), append([]byte{0x21}, count(7)...))
	if err := r.Expire(began.Add(1800 * time.Millisecond)); err != nil {
		t.Errorf("each frame begins N_Cr anew: %v", err)
	}
	if err := r.Expire(began.Add(1900 * time.Millisecond)); core.KindOf(err) != core.NotAnswering || !strings.Contains(err.Error(), "N_TIMEOUT_Cr") || !strings.Contains(err.Error(), "after 13") {
		t.Errorf("%v", err)
	}
	r = in()
	if _, _, err := r.Heard(began, append([]byte{0x22}, count(7)...)); !strings.Contains(fmt.Sprint(err), "N_WRONG_SN") || !r.Until().IsZero() {
		t.Errorf("a lost frame: %v", err)
	}
	r = in()
	if _, m, err := r.Heard(began, []byte{0x02, 0x7E, 0x00}); !bytes.Equal(m, []byte{0x7E, 0}) || !strings.Contains(fmt.Sprint(err), "N_UNEXP_PDU") {
		t.Errorf("a single frame between: % X %v", m, err)
	}
	r = in()
	if reply, _, err := r.Heard(began, head); reply == nil || !strings.Contains(fmt.Sprint(err), "N_UNEXP_PDU") {
		t.Errorf("a first frame between: % X %v", reply, err)
	}
	r = NewReceiver(Config{Largest: 64})
	if reply, _, _ := r.Heard(began, append([]byte{0x10, 65}, count(6)...)); fmt.Sprintf("% X", reply) != "32 00 00" || !r.Until().IsZero() {
		t.Errorf("too long: % X", reply)
	}
	for name, frame := range map[string][]byte{"a single frame of nothing": {0x00}, "one longer than its frame": {0x05, 1, 2}, "a first frame that would fit into one": append([]byte{0x10, 7}, count(6)...),
		"a first frame cut off": {0x10, 20, 1}, "an escape for a short one": {0x10, 0, 0, 0, 0x0F, 0xFF, 1, 2}, "a frame that nobody has begun": {0x21, 1, 2}, "a type that is none": {0x41}, "nothing": {}} {
		if reply, m, err := r.Heard(began, frame); reply != nil || m != nil || err != nil || !r.Until().IsZero() {
			t.Errorf("%s: % X % X %v", name, reply, m, err)
		}
	}
}

// Whatever comes, a receiver keeps no more than it was announced, and a sender ends.
func FuzzFrames(f *testing.F) {
	f.Add([]byte{8, 0x10, 20, 0, 1, 2, 3, 4, 5, 8, 0x21, 6, 7, 8, 9, 10, 11, 12})
	f.Add([]byte{3, 0x30, 2, 0xF1, 3, 0x31, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		r := NewReceiver(Config{Largest: 512})
		s, _ := NewSender(Config{Waits: 3}, count(300))
		now := began
		for len(b) > 0 {
			n := min(int(b[0]%9), len(b)-1)
			frame := b[1 : 1+n]
			b = b[1+n:]
			now = now.Add(time.Millisecond)
			_, m, _ := r.Heard(now, frame)
			if len(m) > 512 || len(r.message) > 512 {
				t.Fatalf("%d bytes", len(m))
			}
			if n > 0 && frame[0]>>4 == flow {
				s.Flow(now, frame)
			}
			if out, _, done, _ := s.Next(now); out != nil && !done {
				s.Sent(now)
			}
		}
		for range 2000 {
			out, at, done, _ := s.Next(now)
			if done {
				return
			}
			if now = at; out != nil {
				s.Sent(now)
			}
		}
		t.Fatal("the sender does not end")
	})
}

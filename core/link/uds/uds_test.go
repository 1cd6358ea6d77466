package uds_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/uds"
)

var ctx = context.Background()

// script is a module that gives set answers, and a clock that goes on by itself while it
// is waited for.
type script struct {
	clock   *coretest.Clock
	answers map[string][]string // to a request in hex, one after another; "+1s " in front: so much later
	asked   []string
	queue   []string
}

func (s *script) Send(_ context.Context, m []byte) error {
	q := fmt.Sprintf("%X", m)
	s.asked = append(s.asked, q)
	if all := s.answers[q]; len(all) > 0 {
		s.queue = append(s.queue, strings.Split(all[0], ",")...)
		if len(all) > 1 {
			s.answers[q] = all[1:]
		}
	}
	return nil
}

func (s *script) Receive(_ context.Context, by time.Time) ([]byte, error) {
	if len(s.queue) == 0 {
		s.clock.Move(max(by.Sub(s.clock.Now()), 0))
		return nil, os.ErrDeadlineExceeded
	}
	next := s.queue[0]
	if after, rest, late := strings.Cut(strings.TrimPrefix(next, "+"), " "); late {
		d, _ := time.ParseDuration(after)
		if at := s.clock.Now().Add(d); at.After(by) {
			s.clock.Move(max(by.Sub(s.clock.Now()), 0))
			s.queue[0] = fmt.Sprintf("+%s %s", at.Sub(by), rest)
			return nil, os.ErrDeadlineExceeded
		}
		s.clock.Move(d)
		next = rest
	}
	s.queue = s.queue[1:]
	var b []byte
	fmt.Sscanf(next, "%X", &b)
	return b, nil
}

func (s *script) Close() error { return nil }

func module(answers map[string][]string) (*uds.Client, *script) {
	s := &script{clock: coretest.NewClock(time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC)), answers: answers}
	return uds.New(s, link.Pace{Clock: s.clock}, 20*time.Second), s
}

// passing is a clock whose pauses pass at once.
type passing struct{ *coretest.Clock }

func (p passing) After(d time.Duration) <-chan time.Time {
	p.Move(d)
	return p.Clock.After(0)
}

// hurried is a module whose client's pauses pass at once.
func hurried(answers map[string][]string) (*uds.Client, *script) {
	_, s := module(answers)
	return uds.New(s, link.Pace{Clock: passing{s.clock}}, 20*time.Second), s
}

// What is asked and what comes back, byte by byte as the standard lays them out.
func TestServices(t *testing.T) {
	c, s := module(map[string][]string{
		"22F18C":               {"62F18C532D30303031"},
		"23440000100000000004": {"63DEADBEEF"},
		"23340000100000000004": {"63DEAD"},
		"2EF15A26112800":       {"6EF15A"},
		"3101FF00":             {"7101FF0000"},
		"2711":                 {"6711A1B2", "67110000"},
		"2712B2A1":             {"6712"},
		"1101":                 {"5101"},
		"22F190":               {"62F19141"},
		"22F191":               {"62"},
		"14FFFFFF":             {"54"},
		"31030310":             {"7103031001"},
		"31030311":             {"7103"},
		"190109":               {"590109010003"},
		"190A":                 {"590AFFC1298709" + "5A115400"},
		"1904C12987FF":         {"5904C12987090101FD0200CD"},
		"1906C12987FF":         {"5906C1298809"},
	})
	if d, err := c.Data(ctx, 0xF18C); err != nil || string(d) != "S-0001" {
		t.Errorf("% X %v", d, err)
	}
	p := make([]byte, 4)
	if err := c.Memory(ctx, uds.Format{Address: 4, Length: 4}, 0x1000, p); err != nil || !bytes.Equal(p, []byte{0xDE, 0xAD, 0xBE, 0xEF}) {
		t.Errorf("% X %v", p, err)
	}
	if err := c.PutData(ctx, 0xF15A, []byte{0x26, 0x11, 0x28, 0x00}); err != nil {
		t.Error(err)
	}
	if st, err := c.Start(ctx, 0xFF00, nil); err != nil || !bytes.Equal(st, []byte{0}) {
		t.Errorf("% X %v", st, err)
	}
	turned := func(seed []byte) ([]byte, error) { return []byte{seed[1], seed[0]}, nil }
	if err := c.Unlock(ctx, 0x11, turned); err != nil {
		t.Error(err)
	}
	if err := c.Unlock(ctx, 0x11, func([]byte) ([]byte, error) { t.Error("a key for a seed of zeros"); return nil, nil }); err != nil {
		t.Error(err)
	}
	if err := c.Reset(ctx, 1); err != nil {
		t.Error(err)
	}
	if _, err := c.Data(ctx, 0xF190); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "answers for 0xF191") {
		t.Errorf("another identifier: %v", err)
	}
	if _, err := c.Data(ctx, 0xF191); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("an answer cut off: %v", err)
	}
	if err := c.Clear(ctx); err != nil {
		t.Error(err)
	}
	if st, err := c.Results(ctx, 0x0310); err != nil || !bytes.Equal(st, []byte{1}) {
		t.Errorf("% X %v", st, err)
	}
	if _, err := c.Results(ctx, 0x0311); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("results cut off: %v", err)
	}
	if n, err := c.Count(ctx, 0x09); err != nil || n != 3 {
		t.Errorf("%d %v", n, err)
	}
	if all, err := c.Supported(ctx); err != nil || len(all) != 2 || all[0].String() != "U0129-87" || all[1].String() != "C1A11-54" {
		t.Errorf("%v %v", all, err)
	}
	if b, err := c.Recorded(ctx, uds.Snapshot, 0xC12987); err != nil || !bytes.Equal(b, []byte{1, 1, 0xFD, 2, 0, 0xCD}) {
		t.Errorf("% X %v", b, err)
	}
	if _, err := c.Recorded(ctx, uds.Extended, 0xC12987); core.KindOf(err) != core.RefusedByUnit || !strings.Contains(err.Error(), "about 0xC12988") {
		t.Errorf("another code: %v", err)
	}
	if got, want := strings.Join(s.asked, " "), "22F18C 23440000100000000004 2EF15A26112800 3101FF00 2711 2712B2A1 2711 1101 22F190 22F191 14FFFFFF 31030310 31030311 190109 190A 1904C12987FF 1906C12987FF"; got != want {
		t.Errorf("asked %s\nwant  %s", got, want)
	}
}

// Negative responses are told in words, with code, kind and what to do.
func TestRefusals(t *testing.T) {
	for code := range 256 {
		c, _ := hurried(map[string][]string{"22F190": {fmt.Sprintf("7F22%02X", code)}})
		_, err := c.Data(ctx, 0xF190)
		var n *uds.Negative
		switch {
		case code == uds.Pending: // and nothing after it
			if core.KindOf(err) != core.NotAnswering {
				t.Errorf("pending for ever: %v", err)
			}
			continue
		case !errors.As(err, &n) || n.Code != byte(code) || n.Service != 0x22:
			t.Errorf("0x%02X: %v", code, err)
		case !strings.Contains(err.Error(), fmt.Sprintf("0x%02X", code)):
			t.Errorf("0x%02X is not named: %v", code, err)
		}
		want := core.RefusedByUnit
		if code >= 0x33 && code <= 0x37 {
			want = core.Protected
		}
		if core.KindOf(err) != want {
			t.Errorf("0x%02X is %s", code, core.KindOf(err))
		}
	}
}

// P2 and P2*, to the moment; how long "pending" is borne; what is asked again.
func TestTimes(t *testing.T) {
	c, s := module(map[string][]string{"3E00": {"+549ms 7E00"}})
	if err := c.Present(ctx); err != nil {
		t.Errorf("within P2 and the way: %v", err)
	}
	c, s = module(map[string][]string{"3E00": {"+551ms 7E00", "7E00"}})
	began := s.clock.Now()
	if err := c.Present(ctx); core.KindOf(err) != core.NotAnswering || s.clock.Now().Sub(began) != 550*time.Millisecond {
		t.Errorf("after P2 and the way: %v, %s", err, s.clock.Now().Sub(began))
	}
	if _, err := c.Data(ctx, 0xF190); core.KindOf(err) != core.NotAnswering { // and the late answer is no answer to the next question
		t.Errorf("%v", err)
	}
	c, s = module(map[string][]string{"3101FF00": {"7F3178,+5400ms 7F3178,+5400ms 7101FF0000"}})
	if _, err := c.Start(ctx, 0xFF00, nil); err != nil {
		t.Errorf("pending twice: %v", err)
	}
	c, s = module(map[string][]string{"3101FF00": {"7F3178" + strings.Repeat(",+5s 7F3178", 40)}})
	began = s.clock.Now()
	if _, err := c.Start(ctx, 0xFF00, nil); core.KindOf(err) != core.NotAnswering || s.clock.Now().Sub(began) > 26*time.Second {
		t.Errorf("pending without end: %v after %s", err, s.clock.Now().Sub(began))
	}
	c, s = module(map[string][]string{"1003": {"500300190064"}, "3E00": {"+2024ms 7E00", "+2026ms 7E00"}}) // P2 is 25 ms now, P2* a second; it has answered, and the way is given two
	if err := c.Session(ctx, uds.ExtendedSession); err != nil {
		t.Fatal(err)
	}
	if err := c.Present(ctx); err != nil {
		t.Errorf("within the session's own P2: %v", err)
	}
	if err := c.Present(ctx); core.KindOf(err) != core.NotAnswering {
		t.Errorf("after it: %v", err)
	}
	c.Close()
}

// A block whose answer was lost is sent once more with the same counter; a transfer ends
// with its exit.
func TestATransfer(t *testing.T) {
	begin := "340044" + "00001000" + "00000005"
	c, s := module(map[string][]string{begin: {"74200004"}, "36010102": {"7601"}, "36020304": {"", "7602"}, "360305": {"7603"}, "37": {"77"}})
	var told []int
	if err := c.Download(ctx, uds.Format{Address: 4, Length: 4}, 0x1000, []byte{1, 2, 3, 4, 5}, func(n int) { told = append(told, n) }); err != nil {
		t.Fatal(err)
	}
	if got, want := strings.Join(s.asked, " "), begin+" 36010102 36020304 36020304 360305 37"; got != want || fmt.Sprint(told) != "[2 4 5]" {
		t.Errorf("asked %s, told %v", got, told)
	}
	up := "350044" + "00001000" + "00000003"
	p := make([]byte, 3)
	c, _ = module(map[string][]string{up: {"751004"}, "3601": {"7601AABB"}, "3602": {"7602CC"}, "37": {"77"}})
	if err := c.Upload(ctx, uds.Format{Address: 4, Length: 4}, 0x1000, p, nil); err != nil || !bytes.Equal(p, []byte{0xAA, 0xBB, 0xCC}) {
		t.Errorf("% X %v", p, err)
	}
	c, s = module(map[string][]string{up: {"751004"}, "3601": {"", "", "7601AABB"}, "3602": {"7602CC"}, "37": {"77"}}) // an answer that was lost is given again
	if err := c.Upload(ctx, uds.Format{Address: 4, Length: 4}, 0x1000, p, nil); err != nil || !bytes.Equal(p, []byte{0xAA, 0xBB, 0xCC}) || strings.Count(strings.Join(s.asked, " "), "3601") != 3 {
		t.Errorf("a lost answer: % X %v, asked %v", p, err, s.asked)
	}
	c, s = module(map[string][]string{up: {"751004"}})
	if err := c.Upload(ctx, uds.Format{Address: 4, Length: 4}, 0x1000, p, nil); core.KindOf(err) != core.NotAnswering || strings.Count(strings.Join(s.asked, " "), "3601") != 4 {
		t.Errorf("answers that are lost for ever: %v, asked %v", err, s.asked)
	}
	for _, lost := range []string{"7F3624", "7F367F"} { // it has started anew in the middle
		c, s = module(map[string][]string{begin: {"74200004"}, "36010102": {"7601"}, "36020304": {"", lost}})
		if err := c.Download(ctx, uds.Format{Address: 4, Length: 4}, 0x1000, []byte{1, 2, 3, 4, 5}, nil); core.KindOf(err) != core.Interrupted || !strings.Contains(err.Error(), "lost the transfer") {
			t.Errorf("%s: %v, asked %v", lost, err, s.asked)
		}
	}
	for name, answer := range map[string]string{"no block size": "74", "cut off": "742000", "too small a block": "74200002"} {
		c, _ = module(map[string][]string{begin: {answer}})
		if err := c.Download(ctx, uds.Format{Address: 4, Length: 4}, 0x1000, []byte{1, 2, 3, 4, 5}, nil); core.KindOf(err) != core.RefusedByUnit {
			t.Errorf("%s: %v", name, err)
		}
	}
	c, _ = module(map[string][]string{up: {"751004"}, "3601": {"7601AABBCCDD"}})
	if err := c.Upload(ctx, uds.Format{Address: 4, Length: 4}, 0x1000, p, nil); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("more than was asked for: %v", err)
	}
}

// A module that is busy is asked again, and not for ever.
func TestBusy(t *testing.T) {
	c, s := hurried(map[string][]string{"22F190": {"7F2221", "7F2221", "62F19041"}})
	if d, err := c.Data(ctx, 0xF190); err != nil || string(d) != "A" {
		t.Errorf("%s %v", d, err)
	}
	c, s = hurried(map[string][]string{"22F190": {"7F2221"}})
	if _, err := c.Data(ctx, 0xF190); core.KindOf(err) != core.RefusedByUnit || len(s.asked) != 11 {
		t.Errorf("busy for ever: asked %d times, %v", len(s.asked), err)
	}
}

func FuzzAnswers(f *testing.F) {
	f.Add([]byte{0x7F, 0x22, 0x31})
	f.Add([]byte{0x62, 0xF1})
	f.Fuzz(func(t *testing.T, b []byte) {
		c, _ := hurried(map[string][]string{"22F190": {fmt.Sprintf("%X", b)}, "350044" + "00000000" + "00000010": {fmt.Sprintf("%X", b)}})
		c.Data(ctx, 0xF190)
		c.Upload(ctx, uds.Format{Address: 4, Length: 4}, 0, make([]byte, 16), nil)
	})
}

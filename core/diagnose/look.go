package diagnose

import (
	"bytes"
	"context"
	"errors"
	"os"
	"regexp"
	"strings"
	"sync"
	"time"
	"unicode"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/visit"
)

// Seen is what the tool saw on a line.
type Seen struct {
	Kind      string        `json:"kind"`             // of the loader that was called
	Asked     link.Mode     `json:"asked"`            // the setting that the sheet names
	Volts     float64       `json:"volts,omitempty"`  // of the signals, as the sheet's wiring has it; 0 where it has none
	Supply    float64       `json:"supply,omitempty"` // of the unit's supply, likewise
	Held      bool          `json:"held"`             // the line stood low before anything was asked
	Loader    bool          `json:"loader"`
	Other     string        `json:"other,omitempty"` // what answered instead
	OtherKind string        `json:"otherKind,omitempty"`
	Waits     bool          `json:"waits,omitempty"` // the model opens its loader only at power-up
	Echo      bool          `json:"echo"`
	Banner    string        `json:"banner,omitempty"`
	Restarts  int           `json:"restarts"`
	Version   string        `json:"version,omitempty"` // the program's own word
	Heard     int           `json:"heard"`             // bytes that were not our echo
	Framing   uint64        `json:"framing"`
	Parity    uint64        `json:"parity"`
	Decodes   *link.Mode    `json:"decodes,omitempty"`
	Proof     loader.Proof  `json:"proof"`
	Due       time.Duration `json:"due"`               // what one answer takes on the line
	Server    time.Duration `json:"server"`            // the serial server's own answer
	Adapter   time.Duration `json:"adapter,omitempty"` // a CAN adapter's own answer
	Slower    *loader.Proof `json:"slower,omitempty"`
}

// Tell is told how far a look at a link is.
type Tell func(core.Said)

func (t Tell) say(format string, args ...any) {
	if t != nil {
		t(core.Say(format, args...))
	}
}

// asked tells of harmless questions.
func (t Tell) asked(p loader.Proof) {
	t.say("%d of at most %d questions asked, %d without an answer", p.Asked, questions, p.Lost)
}

// Pinger is a stream whose own far end can be asked.
type Pinger interface {
	Ping(ctx context.Context) (time.Duration, error)
}

// questions of a check, and how long they may take: a slow unit is asked fewer.
const (
	questions = 100
	patience  = 30 * time.Second
)

// tap records what passes through a stream.
type tap struct {
	link.Stream
	mu   sync.Mutex
	sent []byte
	got  []byte
}

const most = 64 << 10

func (t *tap) Read(p []byte) (int, error) {
	n, err := t.Stream.Read(p)
	t.mu.Lock()
	if len(t.got) < most {
		t.got = append(t.got, p[:n]...)
	}
	t.mu.Unlock()
	return n, err
}

func (t *tap) Write(p []byte) (int, error) {
	t.mu.Lock()
	if len(t.sent) < most {
		t.sent = append(t.sent, p...)
	}
	t.mu.Unlock()
	return t.Stream.Write(p)
}

func (t *tap) Within() link.Stream { return t.Stream }

// taken gives what was recorded, and begins anew.
func (t *tap) taken() (sent, got []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	sent, got = t.sent, t.got
	t.sent, t.got = nil, nil
	return sent, got
}

// volts are those of the signals and of the supply, of the first procedure that names
// them; 0 where none does.
func volts(sheet *model.Sheet) (signals, supply float64) {
	for _, p := range sheet.Procedures {
		for _, w := range p.Wiring {
			if signals == 0 {
				signals = w.Volts
			}
		}
		if supply == 0 && p.Supply != nil {
			supply = p.Supply.Volts
		}
	}
	return signals, supply
}

// Watch asks and listens, harmlessly: nothing that it sends changes memory, and a unit
// whose loader answered is left in its program. The first sheet's loader is the one
// that should be there. What the unit itself does wrong is what is seen; an error means
// that the link is gone.
func Watch(ctx context.Context, s link.Stream, all []*model.Sheet, p link.Pace, tell Tell) (seen Seen, err error) {
	first := all[0]
	x := first.Main().Loader
	seen = Seen{Kind: x.Kind, Asked: x.Serial().Mode(), Waits: x.Await > 0}
	seen.Volts, seen.Supply = volts(first)
	t := &tap{Stream: s}
	before := link.SignsOf(s)
	defer func() {
		now := link.SignsOf(s)
		seen.Framing, seen.Parity = now.Framing-before.Framing, now.Parity-before.Parity
	}()
	if err := s.SetMode(seen.Asked); err != nil {
		return seen, err
	}
	idle, err := listen(ctx, t, p, 200*time.Millisecond)
	if err != nil {
		return seen, err
	}
	seen.Held = link.SignsOf(s).Breaks > 0 && len(bytes.Trim(idle, "\x00")) == 0
	seen.Heard = len(bytes.Trim(idle, "\x00"))
	t.taken()
	if done, err := seen.call(ctx, t, all, p, tell); done || err != nil {
		return seen, err
	}
	tell.say("no loader answers: the unit is reset, and its program heard")
	if err := seen.reset(ctx, t, first, p); err != nil {
		return seen, err
	}
	if seen.Banner == "" && seen.Version == "" && seen.Heard > 0 && seen.Restarts == 0 {
		return seen, seen.sweep(ctx, t, first, p, tell)
	}
	if seen.silent() && core.KindOf(s.SetLine(link.RTS, false)) == core.RefusedByUnit {
		tell.say("nothing comes at all: the program is asked at the usual speeds")
		return seen, seen.elsewhere(ctx, t, first, p)
	}
	return seen, nil
}

// silent tells whether nothing at all came back.
func (seen *Seen) silent() bool {
	return seen.Heard == 0 && !seen.Echo && !seen.Held && seen.Banner == "" && seen.Version == "" && seen.Restarts == 0
}

// elsewhere asks the program for its version at the usual speeds, on a link whose
// lines cannot make it speak by itself.
func (seen *Seen) elsewhere(ctx context.Context, t *tap, sheet *model.Sheet, p link.Pace) error {
	for _, baud := range speeds {
		a := sheet.Main().Application
		if baud == a.Baud {
			continue
		}
		a.Baud, a.Wait = baud, 250*time.Millisecond
		version, err := link.AskVersion(ctx, t, a, sheet.Main().Loader.Serial().Through, p)
		switch k := core.KindOf(err); {
		case err == nil && version != "":
			m := link.Default(baud)
			seen.Decodes = &m
			return t.SetMode(seen.Asked)
		case ctx.Err() != nil || err != nil && k != core.NotAnswering && k != core.RefusedByUnit: // an adapter may lack a speed
			return err
		}
	}
	return t.SetMode(seen.Asked)
}

// call tries the loaders; done if one of them answered.
func (seen *Seen) call(ctx context.Context, t *tap, all []*model.Sheet, p link.Pace, tell Tell) (done bool, err error) {
	for i, c := range all {
		x := c.Main().Loader
		tell.say("the loader %s is called, %d of %d", x.Kind, i+1, len(all))
		session, err := visit.OpenSlower(ctx, t, c.Main(), p)
		sent, got := t.taken()
		if i == 0 {
			seen.unecho(sent, got, x.Serial().OneWire)
		}
		if err != nil {
			if ctx.Err() != nil {
				return true, ctx.Err()
			}
			if k := core.KindOf(err); k != core.NotAnswering && k != core.RefusedByUnit {
				return true, err
			}
			continue
		}
		says, err := calls(ctx, session)
		if err != nil {
			session.Close()
			continue
		}
		switch {
		case i == 0 && (says == x.Says || says == "" || x.Says == ""):
			seen.Loader = true
			err = seen.prove(ctx, t, session, x, p, tell)
		default:
			seen.Other, seen.OtherKind = pick(says == "", "loader "+x.Kind, says+" ("+x.Kind+")"), x.Kind
		}
		visit.Leave(ctx, session, t, c.Main(), p)
		t.taken()
		return true, err
	}
	return false, nil
}

// calls is what the unit calls itself: its model, or its chip.
func calls(ctx context.Context, s loader.Session) (string, error) {
	facts, err := s.Identify(ctx)
	return model.Calls(facts), err
}

// unecho takes our own bytes off what was heard: on a line that echoes, what was
// sent comes first.
func (seen *Seen) unecho(sent, got []byte, oneWire bool) {
	got = bytes.TrimLeft(got, "\x00")
	sent = bytes.TrimLeft(sent, "\x00")
	same := 0
	for same < len(sent) && same < len(got) && sent[same] == got[same] {
		same++
	}
	if same > 2 && same == min(len(sent), len(got)) {
		got = got[same:]
		seen.Echo = !oneWire
	}
	seen.Heard += len(got)
}

// prove asks many times, and where that is bad asks at a lower speed, where it is
// slow asks the server.
func (seen *Seen) prove(ctx context.Context, t *tap, s loader.Session, x model.Loader, p link.Pace, tell Tell) error {
	m := x.Serial().Mode()
	seen.Due = time.Duration(250*m.CharacterBits()) * time.Second / time.Duration(m.Baud)
	var err error
	if seen.Proof, err = loader.Prove(ctx, s, questions, patience, p.Clock, tell.asked); err != nil {
		return err
	}
	if ping, ok := t.Stream.(Pinger); ok {
		if seen.Server, err = ping.Ping(ctx); err != nil {
			return err
		}
	}
	slow, can := s.(interface {
		Hurry(ctx context.Context, baud int) error
	})
	if seen.Proof.Stopped() {
		return nil
	}
	if seen.Proof.Share() <= 0.02 || !can || m.Baud <= slowest {
		return nil
	}
	tell.say("answers get lost: the same is asked at %d baud", slowest)
	if err := slow.Hurry(ctx, slowest); err != nil {
		return nil // it stays bad: that is the answer
	}
	lower, err := loader.Prove(ctx, s, questions/2, patience/2, p.Clock, nil)
	seen.Slower = &lower
	if err != nil {
		return err
	}
	slow.Hurry(ctx, m.Baud)
	return nil
}

const slowest = 38400

// listen collects what comes within a while.
func listen(ctx context.Context, s link.Stream, p link.Pace, while time.Duration) ([]byte, error) {
	var all []byte
	buf := make([]byte, 1024)
	s.SetReadDeadline(p.Clock.Now().Add(p.Scaled(while)))
	defer s.SetReadDeadline(time.Time{})
	for len(all) < most {
		n, err := s.Read(buf)
		all = append(all, buf[:n]...)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			return all, ctx.Err()
		}
		if err != nil {
			return all, err
		}
	}
	return all, ctx.Err()
}

// reset brings the unit into its program and listens for its banner, then asks
// for its version.
func (seen *Seen) reset(ctx context.Context, t *tap, sheet *model.Sheet, p link.Pace) error {
	said, clean, err := hear(ctx, t, sheet, link.Default(sheet.Main().Application.Baud), p)
	if err != nil {
		return err
	}
	lines := texts(said)
	if clean && len(lines) > 0 {
		seen.Banner = lines[0]
		for _, l := range lines {
			if l == lines[0] {
				seen.Restarts++
			}
		}
		if seen.Restarts == 1 {
			seen.Restarts = 0
		}
	} else {
		seen.Heard += len(bytes.Trim(said, "\x00"))
	}
	t.taken()
	pattern, err := regexp.Compile(sheet.Main().Application.Answer)
	if err != nil {
		return err
	}
	if _, err := t.Write([]byte(sheet.Main().Application.Ask)); err != nil {
		return err
	}
	got, err := listen(ctx, t, p, 500*time.Millisecond)
	if m := pattern.FindSubmatch(got); m != nil && len(m) > 1 {
		seen.Version = string(m[1])
	} else if seen.Banner == "" {
		if seen.Echo {
			got = bytes.ReplaceAll(got, []byte(sheet.Main().Application.Ask), nil)
		}
		seen.Heard += len(bytes.Trim(got, "\x00"))
	}
	return err
}

// hear resets the unit into its program and listens for a second. clean tells
// that every byte had its stop bit and parity, as far as the link tells.
func hear(ctx context.Context, t *tap, sheet *model.Sheet, m link.Mode, p link.Pace) (said []byte, clean bool, err error) {
	if err := t.SetMode(m); err != nil {
		return nil, false, err
	}
	if err := link.Play(ctx, t, sheet.Main().Loader.Serial().Asking(), p); err != nil {
		return nil, false, err
	}
	before := link.SignsOf(t)
	said, err = listen(ctx, t, p, time.Second)
	now := link.SignsOf(t)
	return said, now.Parity == before.Parity && now.Framing == before.Framing, err
}

// texts are the lines of readable text of at least eight letters.
func texts(b []byte) []string {
	var all []string
	for _, line := range strings.FieldsFunc(string(b), func(r rune) bool { return r == '\r' || r == '\n' }) {
		line = strings.Trim(line, "\x00")
		readable := len(line) >= 8
		for _, r := range line {
			readable = readable && r < unicode.MaxASCII && unicode.IsPrint(r)
		}
		if readable {
			all = append(all, line)
		}
	}
	return all
}

// speeds that are tried, the usual ones first.
var speeds = []int{115200, 9600, 57600, 38400, 19200, 230400, 460800, 921600, 4800, 2400}

// sweep resets the unit once with each usual setting until its banner can be read.
func (seen *Seen) sweep(ctx context.Context, t *tap, sheet *model.Sheet, p link.Pace, tell Tell) error {
	for _, parity := range []string{"none", "even", "odd"} {
		for _, baud := range append([]int{sheet.Main().Application.Baud}, speeds...) {
			m := link.Mode{Baud: baud, Bits: 8, Parity: parity, Stop: "1"}
			if m == link.Default(sheet.Main().Application.Baud) || parity != "none" && baud != sheet.Main().Application.Baud {
				continue
			}
			tell.say("it is heard at %d baud, parity %s", baud, parity)
			said, clean, err := hear(ctx, t, sheet, m, p)
			if core.KindOf(err) == core.RefusedByUnit {
				continue // this adapter does not have the setting
			}
			if err != nil {
				return err
			}
			if clean && len(texts(said)) > 0 {
				seen.Decodes = &m
				return t.SetMode(seen.Asked)
			}
		}
	}
	return t.SetMode(seen.Asked)
}

// ComesBack sends a few bytes and tells whether they come back: the self-test of
// an adapter whose data pins are bridged.
func ComesBack(ctx context.Context, s link.Stream, p link.Pace) (bool, error) {
	if err := s.Purge(); err != nil {
		return false, err
	}
	sent := []byte("ferry \x55\xAA\x00\xFF 0123456789")
	if _, err := s.Write(sent); err != nil {
		return false, err
	}
	got, err := listen(ctx, s, p, 400*time.Millisecond)
	return bytes.Contains(got, sent), err
}

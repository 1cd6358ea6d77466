// Package gangway is the client of Gangway, our own boot loader protocol,
// version 1, specified in docs/protocols/gangway.md with test vectors.
//
// Requests are numbered by tag and carried out in order. Several may be under
// way at once, as far as the unit's receive buffer allows; what is lost or
// damaged is sent again from the first gap on, and a request that the unit has
// carried out already is answered again but not done again.
package gangway

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/fxamacker/cbor/v2"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
)

// Operation codes.
const (
	opHello = iota + 1
	opRead
	opErase
	opWrite
	opDigest
	opReset
	opBoot
	opSettingsGet
	opSettingsPut
	opSpeed
	opProtection
	opConsole
	opFilesList
	opFileGet
	opFilePut
	opFileKeep
	opFileRemove
	opSettingsRemove
)

// Reply states.
const (
	done = iota
	working
	gap
	refused
	failed
	unknownOp
	badRequest
	noSession
)

// headLength is the request header: op, session, tag, turn.
const headLength = 6

// record is the identity and capability record, the CBOR body of HELLO's reply.
type record struct {
	Version   int            `cbor:"v"`
	Model     string         `cbor:"model"`
	Revision  string         `cbor:"rev"`
	Serial    string         `cbor:"serial"`
	Region    string         `cbor:"region"`
	Running   string         `cbor:"run"`
	Chip      string         `cbor:"chip"`
	Loader    string         `cbor:"ldr"`
	Memory    uint64         `cbor:"mem"`
	WriteMax  int            `cbor:"wmax"` // data bytes of one WRITE
	ReadMax   int            `cbor:"rmax"` // body bytes of one reply
	Window    int            `cbor:"win"`  // receive buffer, bytes on the wire
	EraseMS   int            `cbor:"er"`   // longest erase of a sector, ms
	DigestBPS int            `cbor:"dr"`   // digest rate, bytes per second
	Ops       []int          `cbor:"ops"`
	Reasons   map[int]string `cbor:"no"` // why an op that others have is not here
	Protected bool           `cbor:"prot"`
}

// decodeRecord is bounded: the record comes from outside.
var decodeRecord = func() cbor.DecMode {
	m, err := cbor.DecOptions{MaxNestedLevels: 4, MaxArrayElements: 256, MaxMapPairs: 256, DupMapKey: cbor.DupMapKeyEnforcedAPF}.DecMode()
	if err != nil {
		panic(err)
	}
	return m
}()

func (r *record) check() error {
	switch {
	case r.Version != 1:
		return core.Fail(core.RefusedByUnit, "the unit speaks Gangway version %d, this bench version 1", r.Version)
	case r.WriteMax < 16 || r.WriteMax > 1<<16, r.ReadMax < 32 || r.ReadMax > 1<<16:
		return core.Fail(core.RefusedByUnit, "the unit names pieces of %d bytes to write and %d to read; 16 or 32 to 65536 are possible", r.WriteMax, r.ReadMax)
	case r.Window < r.WriteMax+r.WriteMax/254+32 || r.Window > 1<<20:
		return core.Fail(core.RefusedByUnit, "the unit names a receive buffer of %d bytes, which does not hold one piece of %d", r.Window, r.WriteMax)
	case len(r.Model) > 64 || len(r.Serial) > 64 || len(r.Revision) > 32 || len(r.Region) > 32 || len(r.Running) > 64 || len(r.Chip) > 64 || len(r.Loader) > 32:
		return core.Fail(core.RefusedByUnit, "the unit's record has a field that is too long")
	}
	return nil
}

// Kind is the Gangway loader.
type Kind struct{}

// Name is "gangway".
func (Kind) Name() string { return "gangway" }

// Open plays the enter script and says HELLO, three times if need be.
func (Kind) Open(ctx context.Context, l link.Link, o loader.Options) (loader.Session, error) {
	stream, err := o.Begin(ctx, l, "gangway")
	if err != nil {
		return nil, err
	}
	s := &session{stream: stream, o: o}
	if err := o.Own.Read(&s.own); err != nil {
		return nil, err
	}
	s.mode = s.own.Mode()
	if err := s.enter(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Limits: all that a loader can do.
func (Kind) Limits(loader.Own) loader.Limits {
	return loader.Limits{Can: []loader.Ability{loader.Read, loader.Erase, loader.Write, loader.Digest, loader.Reset, loader.Guard, loader.Talk, loader.Keep, loader.Files},
		Identity: loader.ThisUnit, Verify: "the unit's own SHA-256 of every sector"}
}

// own are the options that this loader alone reads.
type own struct {
	link.Serial `yaml:",inline"`
	Fast        int `yaml:"fast"` // baud to change to once the loader answers; 0 stays
}

// Schema has the serial line, and the speed to go on with.
func (Kind) Schema() []byte {
	return loader.LineSchema(`{ "fast": { "type": "integer", "minimum": 300, "maximum": 12000000, "description": "Speed to go on with once the loader has answered." } }`)
}

// Pace is the line's at the speed that it goes on with.
func (Kind) Pace(o loader.Own) float64 {
	var x own
	if o.Read(&x) != nil {
		return 0
	}
	return x.Serial.Pace(max(x.Baud, x.Fast))
}

type session struct {
	stream  link.Stream
	own     own
	mode    link.Mode // of the line now
	o       loader.Options
	rec     record
	number  uint16
	nextTag uint16
	turn    byte
	in      *receiver
}

func (s *session) enter(ctx context.Context) error {
	s.in = listen(s.stream)
	if s.o.Await > 0 {
		if err := s.knock(ctx); err != nil {
			return err
		}
	}
	if _, err := s.Identify(ctx); err != nil {
		return err
	}
	if !s.o.Steady && s.own.Fast > 0 && s.own.Fast != s.own.Baud && s.offers(opSpeed) {
		return s.Hurry(ctx, s.own.Fast)
	}
	return nil
}

// knock says HELLO until anybody answers: the unit opens its loader only for a
// moment after it is switched on.
func (s *session) knock(ctx context.Context) error {
	return s.o.Wait(ctx, knockEvery, 1, func(pause time.Duration) (bool, error) {
		s.number = uint16(rand.Uint32()) | 1
		if err := s.send(&request{op: opHello, body: []byte{1}}); err != nil {
			return false, err
		}
		late := s.o.Clock.After(pause)
		for {
			select {
			case r, open := <-s.in.replies:
				if !open {
					return false, s.in.failure()
				}
				if r.op == opHello|0x80 && r.session == s.number {
					return true, nil
				}
			case <-late:
				return false, nil
			case <-ctx.Done():
				return false, ctx.Err()
			}
		}
	})
}

// knockEvery is well below the shortest moment in which a unit listens.
const knockEvery = 100 * time.Millisecond

// Hurry changes the speed of both ends, section 6: the answer still comes at the
// old one.
func (s *session) Hurry(ctx context.Context, baud int) error {
	err := s.exchange(ctx, once(s.request(opSpeed, binary.LittleEndian.AppendUint32(nil, uint32(baud)))), func(*request, []byte) error { return nil })
	if err != nil {
		return err
	}
	s.mode.Baud = baud
	if err := s.stream.SetMode(s.mode); err != nil {
		return err
	}
	_, err = s.Identify(ctx)
	return err
}

func (s *session) Close() error {
	if s.in != nil {
		s.in.stop()
		s.in = nil
	}
	return nil
}

// Identify opens a new session with the unit, whose record it returns as facts.
func (s *session) Identify(ctx context.Context) ([]core.Fact, error) {
	if s.in == nil {
		return nil, core.Fail(core.NotAnswering, "the session was closed")
	}
	s.number, s.nextTag, s.turn = uint16(rand.Uint32())|1, 0, 0
	hello := s.request(opHello, []byte{1})
	var body []byte
	err := s.exchange(ctx, once(hello), func(_ *request, b []byte) error { body = b; return nil })
	if err != nil {
		return nil, err
	}
	var rec record
	if err := decodeRecord.Unmarshal(body, &rec); err != nil {
		return nil, core.Fail(core.RefusedByUnit, "the unit's identity record cannot be read: %w", err)
	}
	if err := rec.check(); err != nil {
		return nil, err
	}
	s.rec = rec
	return s.facts(), nil
}

func (s *session) facts() []core.Fact {
	now := s.o.Clock.Now().UTC()
	var facts []core.Fact
	add := func(name, value string) {
		if value != "" {
			facts = append(facts, core.Fact{Name: name, Value: value, Source: core.FromWire, At: now})
		}
	}
	add(core.FactModel, s.rec.Model)
	add(core.FactRevision, s.rec.Revision)
	add(core.FactSerial, s.rec.Serial)
	add(core.FactRegion, s.rec.Region)
	add(core.FactRunning, s.rec.Running)
	add(core.FactChip, s.rec.Chip)
	add(core.FactLoader, s.rec.Loader)
	if s.rec.Protected {
		add(core.FactLock, "locked")
	}
	if s.rec.Memory > 0 {
		add(core.FactMemory, strconv.FormatUint(s.rec.Memory, 10))
	}
	return facts
}

var opOf = map[loader.Ability]int{loader.Read: opRead, loader.Erase: opErase, loader.Write: opWrite,
	loader.Digest: opDigest, loader.Reset: opReset, loader.Guard: opProtection, loader.Talk: opConsole, loader.Keep: opSettingsGet, loader.Files: opFilesList}

func (s *session) offers(op int) bool {
	for _, has := range s.rec.Ops {
		if has == op {
			return true
		}
	}
	return false
}

func (s *session) Can(a loader.Ability) error {
	op := opOf[a]
	if s.offers(op) {
		return nil
	}
	kind, reason := core.RefusedByUnit, s.rec.Reasons[op]
	if s.rec.Protected {
		kind = core.Protected
	}
	if reason == "" {
		reason = "its loader does not have it"
	}
	return core.Fail(kind, "the unit does not offer %s: %s", a, reason)
}

func (s *session) request(op byte, body []byte) *request {
	r := &request{op: op, tag: s.nextTag, body: body, size: headLength + len(body) + len(body)/254 + 7}
	s.nextTag++
	return r
}

func ranged(address, length uint64) []byte {
	b := binary.LittleEndian.AppendUint64(nil, address)
	return binary.LittleEndian.AppendUint32(b, uint32(length))
}

func (s *session) Read(ctx context.Context, address uint64, p []byte, got func(int)) error {
	asked, have := 0, 0
	next := func() (*request, error) {
		if asked == len(p) {
			return nil, nil
		}
		n := min(s.rec.ReadMax, len(p)-asked)
		r := s.request(opRead, ranged(address+uint64(asked), uint64(n)))
		r.answer = n
		asked += n
		return r, nil
	}
	return s.exchange(ctx, next, func(r *request, body []byte) error {
		if len(body) != r.answer {
			return core.Fail(core.RefusedByUnit, "the unit was asked for %d bytes and sent %d", r.answer, len(body))
		}
		have += copy(p[have:], body)
		if got != nil {
			got(have)
		}
		return nil
	})
}

// Widest is the longest piece that is digested in one go: a unit that says how fast it is is waited
// for as long as that takes.
func (s *session) Widest() uint64 {
	if s.rec.DigestBPS == 0 {
		return 0
	}
	return 64 << 10
}

func (s *session) Digest(ctx context.Context, address, length, piece uint64) ([]core.Digest, error) {
	if piece == 0 || length%piece != 0 {
		return nil, core.Fail(core.RefusedByUnit, "%d bytes cannot be digested in pieces of %d", length, piece)
	}
	var all []core.Digest
	asked := uint64(0)
	most := uint64(s.rec.ReadMax/32) * piece
	next := func() (*request, error) {
		if asked == length {
			return nil, nil
		}
		n := min(most, length-asked)
		r := s.request(opDigest, binary.LittleEndian.AppendUint32(ranged(address+asked, n), uint32(piece)))
		r.answer = int(n/piece) * 32
		if s.rec.DigestBPS > 0 {
			r.takes = time.Duration(float64(n) / float64(s.rec.DigestBPS) * float64(time.Second))
		}
		asked += n
		return r, nil
	}
	err := s.exchange(ctx, next, func(r *request, body []byte) error {
		if len(body) != r.answer {
			return core.Fail(core.RefusedByUnit, "the unit was asked for %d bytes of digests and sent %d", r.answer, len(body))
		}
		for ; len(body) > 0; body = body[32:] {
			all = append(all, core.Digest(body[:32]))
		}
		return nil
	})
	return all, err
}

// Change turns each write op into pieces of the unit's size; the op is acked
// with its last piece.
func (s *session) Change(ctx context.Context, next func() (loader.Op, bool, error), acked func(loader.Op) error) error {
	var op loader.Op
	left, ended := []byte(nil), false
	pull := func() (*request, error) {
		if ended {
			return nil, nil
		}
		if len(left) == 0 {
			var ok bool
			var err error
			if op, ok, err = next(); err != nil || !ok {
				ended = true
				return nil, err
			}
			if op.Erase {
				r := s.request(opErase, ranged(op.Address, op.Length))
				r.op1, r.last = op, true
				r.takes = s.o.Scaled(time.Duration(s.rec.EraseMS) * time.Millisecond)
				return r, nil
			}
			left = op.Data
		}
		n := min(s.rec.WriteMax, len(left))
		at := op.Address + uint64(len(op.Data)-len(left))
		r := s.request(opWrite, append(binary.LittleEndian.AppendUint64(make([]byte, 0, 8+n), at), left[:n]...))
		left = left[n:]
		r.op1, r.last = op, len(left) == 0
		return r, nil
	}
	return s.exchange(ctx, pull, func(r *request, _ []byte) error {
		if r.last {
			return acked(r.op1)
		}
		return nil
	})
}

func (s *session) Restart(ctx context.Context, intoLoader bool) error {
	target := byte(0)
	if intoLoader {
		target = 1
	}
	err := s.exchange(ctx, once(s.request(opReset, []byte{target})), func(*request, []byte) error { return nil })
	if err != nil || !intoLoader {
		return err
	}
	_, err = s.Identify(ctx)
	return err
}

// Probe is one HELLO, sent once.
func (s *session) Probe(ctx context.Context) error {
	if s.in == nil {
		return core.Fail(core.NotAnswering, "the session was closed")
	}
	r := &request{op: opHello, body: []byte{1}, size: headLength + 8, answer: 200}
	if err := s.send(r); err != nil {
		return err
	}
	late := s.o.Clock.After(s.wait([]*request{r}))
	for {
		select {
		case got, open := <-s.in.replies:
			switch {
			case !open:
				return s.in.failure()
			case got.op == opHello|0x80 && got.session == s.number && got.turn == s.turn:
				s.turn++
				return nil
			}
		case <-late:
			s.turn++
			return core.Fail(core.NotAnswering, "no answer to one question within %s", s.wait([]*request{r}).Round(time.Millisecond))
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Protection, section 6.
const (
	askLock  = 0
	setLock  = 1
	liftLock = 2
)

func (s *session) protection(ctx context.Context, what byte) (locked bool, err error) {
	r := s.request(opProtection, []byte{what})
	if what == liftLock { // it erases sector by sector
		r.takes = s.o.Scaled(time.Duration(s.rec.EraseMS)*time.Millisecond) * time.Duration(s.rec.Memory>>10+1)
	}
	err = s.exchange(ctx, once(r), func(_ *request, body []byte) error {
		if len(body) != 1 {
			return core.Fail(core.RefusedByUnit, "the unit told its protection in %d bytes, not 1", len(body))
		}
		locked = body[0]&1 != 0
		return nil
	})
	s.rec.Protected = locked
	return locked, err
}

// Locked, Unlock and Lock are PROTECTION 0, 2 and 1.
func (s *session) Locked(ctx context.Context) (bool, error) { return s.protection(ctx, askLock) }

func (s *session) Unlock(ctx context.Context) error {
	if _, err := s.protection(ctx, liftLock); err != nil {
		return err
	}
	_, err := s.Identify(ctx) // what it offers has changed
	return err
}

func (s *session) Lock(ctx context.Context) error { _, err := s.protection(ctx, setLock); return err }

// Say is CONSOLE.
func (s *session) Say(ctx context.Context, line string) (said string, err error) {
	err = s.exchange(ctx, once(s.request(opConsole, []byte(line))), func(_ *request, body []byte) error {
		said = string(body)
		return nil
	})
	return said, err
}

// mostSettings bounds the text of a unit's settings.
const mostSettings = 64 << 10

// Settings is SETTINGS GET, piece by piece: lines of name=value.
func (s *session) Settings(ctx context.Context) ([]loader.Setting, error) {
	var text []byte
	for {
		var piece []byte
		r := s.request(opSettingsGet, binary.LittleEndian.AppendUint32(nil, uint32(len(text))))
		r.answer = s.rec.ReadMax
		if err := s.exchange(ctx, once(r), func(_ *request, body []byte) error { piece = body; return nil }); err != nil {
			return nil, err
		}
		if len(piece) == 0 {
			break
		}
		if text = append(text, piece...); len(text) > mostSettings {
			return nil, core.Fail(core.RefusedByUnit, "the unit's settings have more than %d bytes of text", mostSettings)
		}
	}
	var all []loader.Setting
	for n, line := range strings.Split(strings.TrimSuffix(string(text), "\n"), "\n") {
		if line == "" {
			continue
		}
		name, value, ok := strings.Cut(line, "=")
		if !ok || name == "" || !utf8.ValidString(line) {
			return nil, core.Fail(core.RefusedByUnit, "line %d of the unit's settings is %q, expected name=value", n+1, line)
		}
		all = append(all, loader.Setting{Name: name, Value: value})
	}
	return all, nil
}

// PutSetting is SETTINGS PUT.
func (s *session) PutSetting(ctx context.Context, x loader.Setting) error {
	return s.exchange(ctx, once(s.request(opSettingsPut, []byte(x.Name+"="+x.Value))), func(*request, []byte) error { return nil })
}

// DropSetting is SETTINGS REMOVE; a unit that does not offer it keeps the setting.
func (s *session) DropSetting(ctx context.Context, name string) error {
	if !s.offers(opSettingsRemove) {
		return core.Fail(core.RefusedByUnit, "the unit's loader takes no settings out")
	}
	return s.exchange(ctx, once(s.request(opSettingsRemove, []byte(name))), func(*request, []byte) error { return nil })
}

func once(r *request) func() (*request, error) {
	return func() (*request, error) {
		one := r
		r = nil
		return one, nil
	}
}

// explain turns a reply that is not done into an error.
func explain(r *request, status byte, body []byte) error {
	text := ""
	if len(body) > 0 && len(body) <= 200 {
		text = fmt.Sprintf(": %q", body)
	}
	name := names[r.op]
	where := ""
	if len(r.body) >= 8 && r.op >= opRead && r.op <= opDigest {
		where = fmt.Sprintf(" at 0x%06X", binary.LittleEndian.Uint64(r.body))
	}
	switch status {
	case failed:
		return core.Fail(core.RefusedByUnit, "the unit's memory failed to %s%s%s", name, where, text).
			Do("Try the run again; if the same sector fails twice, set the unit apart: its flash is worn or damaged.")
	case unknownOp:
		return core.Fail(core.RefusedByUnit, "the unit's loader does not know %s", name)
	case badRequest:
		return core.Fail(core.RefusedByUnit, "the unit's loader says that %s%s is not possible%s", name, where, text)
	}
	return core.Fail(core.RefusedByUnit, "the unit refuses to %s%s%s", name, where, text)
}

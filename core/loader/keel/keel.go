// Package keel is the bench's side of Keel, our loader for the mask ROM of a chip, as
// docs/protocols/keel.md has it; section numbers are of that document. One question is
// under way at a time, every one can be carried out twice without harm, and an erase
// names its stretch, so that it can never take more than was meant.
package keel

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
)

// Operations, section 5.
const (
	opWho = iota
	opRead
	opWrite
	opErase
	opGuard
	opLock
	opStart
)

// Statuses, section 4.
const (
	done = iota
	isLocked
	bounds
	guarded
	failed
	unknown
	again
)

// Abilities of the record, section 5.
const (
	canRead = 1 << iota
	canWrite
	canErasePage
	canEraseBank
	canEraseAll
	canGuard
	canLock
	canStart
)

// patience is how long a reply may take beside the line's and the memory's own time;
// a request is sent tries times, rounds times, with a hail between the rounds, section
// 3; between is the pause from one hail to the next, section 1.
const (
	patience = 600 * time.Millisecond
	tries    = 2
	rounds   = 4
	between  = 150 * time.Millisecond
	hails    = 5
)

// Kind is the loader.
type Kind struct{}

// Name is "keel".
func (Kind) Name() string { return "keel" }

// Limits: it tells its chip and no serial, and computes no digests.
func (Kind) Limits(loader.Own) loader.Limits {
	return loader.Limits{Pages: true, Can: []loader.Ability{loader.Read, loader.Erase, loader.Write, loader.Reset, loader.Guard},
		Identity: loader.ThisKind, Verify: "every byte read back and compared"}
}

// own are the options that this loader alone reads.
type own struct {
	Page   string `yaml:"page-erase"`
	Whole  string `yaml:"whole-erase"`
	Guards string `yaml:"guards"`
}

// Schema has the serial line, the memory's own times, and what to do with pages that
// the chip closes to writing.
func (Kind) Schema() []byte {
	return loader.LineSchema(`{
  "page-erase": { "type": "string", "pattern": "^[0-9]+(ms|s)$", "description": "Longest erase of one page; 500ms where it is left out." },
  "whole-erase": { "type": "string", "pattern": "^[0-9]+(ms|s)$", "description": "Longest erase of a bank or of the whole memory; 30s where it is left out." },
  "guards": { "enum": ["stop", "lift"], "description": "What to do where the chip keeps a page closed to writing that is to be written: stop before anything is changed, or open the page. It is not closed again. stop where it is left out." }
}`)
}

// Pace is the line's.
func (Kind) Pace(o loader.Own) float64 { return loader.LinePace(o) }

// Open plays the enter script, hails the unit and asks who it is.
func (Kind) Open(ctx context.Context, l link.Link, o loader.Options) (loader.Session, error) {
	if o.Map == nil {
		return nil, core.Fail(core.BadFile, "the loader keel holds the unit's pages against the memory map of the model, and there is none")
	}
	var on link.Serial
	if err := o.Own.Read(&on); err != nil {
		return nil, err
	}
	s := &session{link: l, o: o, mode: on.Mode(), pageErase: 500 * time.Millisecond, wholeErase: 30 * time.Second}
	var own own
	if err := o.Own.Read(&own); err != nil {
		return nil, err
	}
	for text, into := range map[string]*time.Duration{own.Page: &s.pageErase, own.Whole: &s.wholeErase} {
		if text == "" {
			continue
		}
		d, err := time.ParseDuration(text)
		if err != nil {
			return nil, core.Fail(core.BadFile, "the loader's erase time %q is no time: %w", text, err)
		}
		*into = d
	}
	s.lift = own.Guards == "lift"
	return s, s.enter(ctx, o.Await)
}

type session struct {
	link       link.Link
	stream     link.Stream
	o          loader.Options
	mode       link.Mode
	pageErase  time.Duration
	wholeErase time.Duration
	lift       bool
	in         []byte
	turn       byte
	known      bool // somebody has greeted
	record     record
	closed     []uint64 // pages that the sheet would have written, and the chip keeps closed
}

// enter brings the unit into its loader and learns all of it.
func (s *session) enter(ctx context.Context, await time.Duration) error {
	if err := s.call(ctx, await); err != nil {
		return err
	}
	return s.feel(ctx)
}

// call brings the unit into its loader, hails it and learns what it is.
func (s *session) call(ctx context.Context, await time.Duration) (err error) {
	if s.stream, err = s.o.Begin(ctx, s.link, "keel"); err != nil {
		return err
	}
	s.in = nil
	o := s.o
	o.Await = await
	var greeting *said
	err = o.Wait(ctx, between, hails, func(pause time.Duration) (bool, error) {
		if _, err := s.stream.Write([]byte{hail}); err != nil {
			return false, err
		}
		greeting, err = s.next(ctx, s.o.Clock.Now().Add(pause+s.line(60)), func(r *said) bool { return r.head == opWho && r.status == done })
		if errors.Is(err, errSpoilt) || errors.Is(err, os.ErrDeadlineExceeded) {
			err = nil
		}
		return greeting != nil, err
	})
	if err != nil {
		return err
	}
	return s.learn(greeting.body)
}

// learn takes a record; a chip that is another one is another unit.
func (s *session) learn(body []byte) error {
	r, ok := parse(body)
	if !ok {
		return core.Fail(core.RefusedByUnit, "the unit tells of itself in %d bytes that are no record: % X", len(body), body).
			Do("Its loader does not keep to docs/protocols/keel.md, section 5; tell its maker.")
	}
	if s.known && r.chip != s.record.chip {
		return core.Fail(core.WrongUnit, "the chip was 0x%08X, now it is 0x%08X: another unit is on the link", s.record.chip, r.chip)
	}
	s.record, s.known = r, true
	return nil
}

// feel finds the pages that are closed to writing and would be written: from each the
// unit tells the next.
func (s *session) feel(ctx context.Context) error {
	s.closed = nil
	if s.record.abilities&canGuard == 0 || s.record.locked {
		return nil
	}
	for _, r := range s.o.Map.Regions {
		if r.ReadOnly {
			continue
		}
		for at := r.Address; at < r.End(); {
			page, size, ok := s.record.page(at)
			if !ok {
				break
			}
			shut, behind, err := s.guard(ctx, page, 0)
			if err != nil {
				return err
			}
			if shut {
				s.closed = append(s.closed, page)
			}
			at = max(behind, page+size)
		}
	}
	return nil
}

// guard is GUARD: 0 asks, 2 opens a page. behind is the next closed page.
func (s *session) guard(ctx context.Context, page uint64, want byte) (shut bool, behind uint64, err error) {
	b, err := s.ask(ctx, opGuard, append(u32(page), want), s.pageErase)
	if err != nil {
		return false, 0, err
	}
	if len(b) < 5 {
		return false, 0, core.Fail(core.RefusedByUnit, "the unit answered in %d bytes whether the page at 0x%X is closed, expected 5", len(b), page)
	}
	return b[0] != 0, uint64(binary.LittleEndian.Uint32(b[1:])), nil
}

func u32(n uint64) []byte { return binary.LittleEndian.AppendUint32(nil, uint32(n)) }

// line is the time that so many characters take.
func (s *session) line(n int) time.Duration {
	return time.Duration(n*s.mode.CharacterBits()) * time.Second / time.Duration(s.mode.Baud)
}

var (
	errSpoilt = errors.New("a reply came spoilt")
	errLost   = errors.New("no reply")
)

// next waits for the reply that is wanted; others are passed over.
func (s *session) next(ctx context.Context, until time.Time, wanted func(*said) bool) (*said, error) {
	s.stream.SetReadDeadline(until)
	defer s.stream.SetReadDeadline(time.Time{})
	buffer := make([]byte, 2048)
	for {
		r, rest, spoilt := scan(s.in)
		s.in = append([]byte(nil), rest...)
		switch {
		case r != nil && (wanted(r) || r.head == 0x0F && r.status == again):
			return r, nil
		case r != nil:
			continue
		case spoilt:
			return nil, errSpoilt
		}
		if err := ctx.Err(); err != nil {
			return nil, core.Fail(core.Interrupted, "the exchange with the unit was ended: %w", err)
		}
		n, err := s.stream.Read(buffer)
		s.in = append(s.in, buffer[:n]...)
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded) && len(s.in) > 0: // what looks like a reply and does not end may hide one
			s.in = s.in[1:]
		case err != nil:
			return nil, err
		}
	}
}

// once sends a request and waits for its reply. Of what went wrong on the line it says
// errLost.
func (s *session) once(ctx context.Context, f []byte, takes time.Duration) (*said, error) {
	if _, err := s.stream.Write(f); err != nil {
		return nil, err
	}
	until := s.o.Clock.Now().Add(s.o.Scaled(patience+takes) + 2*s.line(len(f)+s.record.piece+16))
	r, err := s.next(ctx, until, func(r *said) bool { return r.head == f[1] })
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return nil, fmt.Errorf("%w within %s", errLost, s.o.Scaled(patience+takes).Round(time.Millisecond))
	case errors.Is(err, errSpoilt):
		return nil, fmt.Errorf("%w that was not spoilt", errLost)
	case err == nil && r.status == again:
		return nil, fmt.Errorf("%w but that the question came spoilt", errLost)
	}
	return r, err
}

// request is the next one, with its turn.
func (s *session) request(op byte, body []byte) []byte {
	s.turn = s.turn%15 + 1
	return frame(s.turn<<4|op, body)
}

// ask asks until the answer has come, as section 3 says; a unit that does not greet any
// more is given up at once.
func (s *session) ask(ctx context.Context, op byte, body []byte, takes time.Duration) ([]byte, error) {
	before := s.link.Generation()
	f := s.request(op, body)
	for n := 1; ; n++ {
		r, err := s.once(ctx, f, takes)
		if err == nil {
			return r.body, s.verdict(op, r)
		}
		if !errors.Is(err, errLost) {
			return nil, err
		}
		if n == rounds*tries {
			return nil, core.Fail(core.NotAnswering, "the unit was asked %s %d times: %w. The sheet gives it %s", opNames[op], n, err, s.o.Scaled(takes+patience).Round(time.Millisecond)).
				Do("Look at the plug, the supply and the strap, then try again. A memory that is slower than the sheet says needs page-erase or whole-erase in it.")
		}
		if n%tries == 0 {
			if s.link.Generation() != before {
				return nil, core.Fail(core.Interrupted, "the unit left the link: %w", err).Do("Identify the unit again.")
			}
			if err := s.call(ctx, 0); err != nil {
				return nil, err
			}
		}
	}
}

var opNames = [...]string{"who it is", "to read", "to write", "to erase", "for its closed pages", "for its lock", "to start"}

// verdict says in words why a request was not done.
func (s *session) verdict(op byte, r *said) error {
	where := ""
	if len(r.body) >= 4 {
		where = fmt.Sprintf("0x%X", binary.LittleEndian.Uint32(r.body))
	}
	switch r.status {
	case done:
		return nil
	case isLocked:
		s.record.locked = true
		return core.Fail(core.Protected, "the unit was asked %s: its memory is locked against reading, which also closes it to writing", opNames[op])
	case bounds:
		return core.Fail(core.RefusedByUnit, "the unit was asked %s: it says that this is not in its memory, or not on its boundaries", opNames[op]).
			Do("Hold the memory map of the sheet against the unit.")
	case guarded:
		return s.shut(where)
	case failed:
		return core.Fail(core.RefusedByUnit, "the unit was asked %s: its memory did not do it, at %s", opNames[op], where).
			Do("Try the run again. If the same place fails twice, set the unit apart: its flash is worn or damaged.")
	case unknown:
		return core.Fail(core.RefusedByUnit, "the unit was asked %s: its loader does not have that", opNames[op])
	}
	return core.Fail(core.RefusedByUnit, "the unit was asked %s: it answered with status %d, which the protocol does not define", opNames[op], r.status)
}

// shut is the error of a page that is closed to writing.
func (s *session) shut(where string) error {
	name := ""
	var at uint64
	if _, err := fmt.Sscanf(where, "0x%X", &at); err == nil {
		if r, ok := s.o.Map.At(at); ok {
			name = r.Name
		}
	}
	return core.Fail(core.RefusedByUnit, "the chip keeps the page at %s (region %q) closed to writing", where, name).
		Do("If it may be opened, the sheet says so: `guards: lift` under its loader. If not, the sheet says that the region is read-only.")
}

// Identify asks anew.
func (s *session) Identify(ctx context.Context) ([]core.Fact, error) {
	b, err := s.ask(ctx, opWho, nil, 0)
	if err == nil {
		err = s.learn(b)
	}
	if err == nil {
		err = s.feel(ctx)
	}
	if err != nil {
		return nil, err
	}
	now := s.o.Clock.Now().UTC()
	return []core.Fact{{Name: core.FactChip, Value: fmt.Sprintf("0x%08X", s.record.chip), Source: core.FromWire, At: now},
		{Name: core.FactLoader, Value: fmt.Sprint(s.record.version), Source: core.FromWire, At: now},
		{Name: core.FactLock, Value: map[bool]string{true: "locked", false: "open"}[s.record.locked], Source: core.FromWire, At: now}}, nil
}

// Probe is WHO, once.
func (s *session) Probe(ctx context.Context) error {
	_, err := s.once(ctx, s.request(opWho, nil), 0)
	if errors.Is(err, errLost) {
		return core.Fail(core.NotAnswering, "the unit was asked who it is: %w", err).Do("Look at the plug, the supply and the strap, then try again.")
	}
	return err
}

var abilityOf = map[loader.Ability]uint16{loader.Read: canRead, loader.Write: canWrite, loader.Erase: canErasePage | canEraseBank | canEraseAll, loader.Reset: canStart, loader.Guard: canLock}

// Can holds the record against what is asked, and the unit's pages against the sheet.
func (s *session) Can(a loader.Ability) error {
	needs, known := abilityOf[a]
	switch {
	case !known || s.record.abilities&needs == 0:
		return core.Fail(core.RefusedByUnit, "the unit does not offer %s: its loader does not have it", a)
	case s.record.locked && a != loader.Guard && a != loader.Reset:
		return core.Fail(core.Protected, "the unit does not offer %s: its memory is locked against reading, which also closes it to writing", a)
	case a != loader.Write && a != loader.Erase:
		return nil
	}
	if err := s.fits(); err != nil {
		return err
	}
	if len(s.closed) > 0 && !s.lift {
		return s.shut(fmt.Sprintf("0x%X", s.closed[0]))
	}
	return nil
}

// fits holds what the unit tells of its pages against the sheet: every sector that may
// be written must be whole pages, or an erase would reach beyond it.
func (s *session) fits() error {
	for _, x := range s.o.Map.Sectors() {
		if x.Region.ReadOnly {
			continue
		}
		for at := x.Address; at < x.End(); {
			from, size, ok := s.record.page(at)
			if !ok {
				return core.Fail(core.DoesNotFit, "the sheet's region %q has a sector at 0x%X, where the unit has no memory", x.Region.Name, x.Address).
					Do("Is it the right model? If it is, mend the memory map of the sheet.")
			}
			if from != at || from+size > x.End() {
				return core.Fail(core.DoesNotFit, "the sheet's region %q has sectors of %d bytes at 0x%X, the unit's page there begins at 0x%X and has %d: an erase would reach beyond", x.Region.Name, x.Length, x.Address, from, size).
					Do("Is it the right model? If it is, mend the memory map of the sheet.")
			}
			at = from + size
		}
	}
	return nil
}

// Read is READ, piece by piece.
func (s *session) Read(ctx context.Context, address uint64, p []byte, got func(int)) error {
	for n := 0; n < len(p); {
		m := min(s.record.piece, len(p)-n)
		b, err := s.ask(ctx, opRead, binary.LittleEndian.AppendUint16(u32(address+uint64(n)), uint16(m)), 0)
		if err != nil {
			return err
		}
		if len(b) != m {
			return core.Fail(core.RefusedByUnit, "the unit gave %d bytes at 0x%X, it was asked for %d", len(b), address+uint64(n), m)
		}
		n += copy(p[n:], b)
		if got != nil {
			got(n)
		}
	}
	return nil
}

// Digest is not offered.
func (s *session) Digest(context.Context, uint64, uint64, uint64) ([]core.Digest, error) {
	return nil, s.Can(loader.Digest)
}

// Change carries out one op after the other.
func (s *session) Change(ctx context.Context, next func() (loader.Op, bool, error), acked func(loader.Op) error) error {
	for {
		op, ok, err := next()
		if err != nil || !ok {
			return err
		}
		if op.Erase {
			err = s.erase(ctx, op.Address, op.Length)
		} else {
			err = s.write(ctx, op.Address, op.Data)
		}
		if err != nil {
			return err
		}
		if err := acked(op); err != nil {
			return err
		}
	}
}

// erase erases exactly a stretch: the whole memory or banks where they are among it
// and the unit can, pages otherwise. Nothing is sent before all of it is found to be
// possible.
func (s *session) erase(ctx context.Context, address, length uint64) error {
	type stretch struct{ from, length uint64 }
	var todo []stretch
	can := func(a uint16) bool { return s.record.abilities&a != 0 }
	start, all := s.record.whole()
	for at := address; at < address+length; {
		left := address + length - at
		from, size, ok := s.record.page(at)
		n := uint64(0)
		switch bank := s.record.bank; {
		case can(canEraseAll) && at == start && all <= left:
			n = all
		case can(canEraseBank) && bank > 0 && at >= start && (at-start)%bank == 0 && bank <= left:
			n = bank
		case can(canErasePage) && ok && from == at && size <= left:
			n = size
		default:
			return core.Fail(core.RefusedByUnit, "the unit cannot erase 0x%X to 0x%X and nothing else: %s", address, address+length-1, s.erases())
		}
		todo = append(todo, stretch{at, n})
		at += n
	}
	for _, x := range todo {
		if err := s.openPages(ctx, x.from, x.length); err != nil {
			return err
		}
		takes := s.wholeErase
		if _, size, _ := s.record.page(x.from); x.length == size {
			takes = s.pageErase
		}
		if _, err := s.ask(ctx, opErase, append(u32(x.from), u32(x.length)...), takes); err != nil {
			return err
		}
	}
	return nil
}

// erases says what stretches the unit erases.
func (s *session) erases() string {
	_, all := s.record.whole()
	var ways []string
	for _, x := range []struct {
		ability uint16
		words   string
	}{{canErasePage, fmt.Sprintf("pages of %d bytes", s.record.runs[0].size)}, {canEraseBank, fmt.Sprintf("banks of %d bytes", s.record.bank)}, {canEraseAll, fmt.Sprintf("all %d bytes of its memory", all)}} {
		if s.record.abilities&x.ability != 0 {
			ways = append(ways, x.words)
		}
	}
	return "it erases " + strings.Join(ways, " or ")
}

// openPages opens the closed pages of a stretch, where the sheet says so.
func (s *session) openPages(ctx context.Context, address, length uint64) error {
	var still []uint64
	for _, page := range s.closed {
		if page < address || page >= address+length {
			still = append(still, page)
			continue
		}
		shut, _, err := s.guard(ctx, page, 2)
		if err != nil {
			return err
		}
		if shut {
			return core.Fail(core.RefusedByUnit, "the chip keeps the page at 0x%X closed to writing for good", page).
				Do("The sheet says that the region is read-only, or the unit is not of this model.")
		}
	}
	s.closed = still
	return nil
}

// write is WRITE, piece by piece.
func (s *session) write(ctx context.Context, address uint64, data []byte) error {
	for n := 0; n < len(data); {
		m := min(s.record.piece, len(data)-n)
		if _, err := s.ask(ctx, opWrite, append(u32(address+uint64(n)), data[n:n+m]...), s.pageErase); err != nil {
			return err
		}
		n += m
	}
	return nil
}

// Restart is START, or the enter script again. Whether the program runs is asked
// afterwards: a unit that has started says no more here.
func (s *session) Restart(ctx context.Context, intoLoader bool) error {
	if intoLoader {
		return s.enter(ctx, 0)
	}
	_, err := s.once(ctx, s.request(opStart, nil), 0)
	if errors.Is(err, errLost) {
		return core.Fail(core.NotAnswering, "the unit was asked to start its program: %w", err).Do("Ask its program for its version, or switch it off and on.")
	}
	return err
}

// Locked tells what the record says.
func (s *session) Locked(context.Context) (bool, error) { return s.record.locked, nil }

// Unlock is LOCK with 2: the unit erases its memory first.
func (s *session) Unlock(ctx context.Context) error { return s.lock(ctx, 2, false) }

// Lock is LOCK with 1.
func (s *session) Lock(ctx context.Context) error { return s.lock(ctx, 1, true) }

func (s *session) lock(ctx context.Context, want byte, locked bool) error {
	takes := s.pageErase
	if !locked {
		takes = s.wholeErase
	}
	b, err := s.ask(ctx, opLock, []byte{want}, takes)
	if err != nil {
		return err
	}
	if len(b) < 1 || (b[0] != 0) != locked {
		return core.Fail(core.RefusedByUnit, "the unit was asked to change its lock, and answers % X: it did not", b)
	}
	s.record.locked = locked
	return s.feel(ctx)
}

// Close leaves the unit waiting.
func (s *session) Close() error { return nil }

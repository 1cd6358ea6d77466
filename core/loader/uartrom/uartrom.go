// Package uartrom is the client of the UART ROM loader that is published as
// application note AN3155: a byte 0x7F finds the speed, every command is followed
// by its complement, 0x79 says yes and 0x1F no, the parity is even. Section
// titles below are of that note.
//
// The loader has no numbers, no window and no repetition: a lost byte leaves both
// ends waiting for each other. What is asked of it can be done twice without harm,
// so after a silence the unit is brought into its loader anew and asked again, as
// long as the link's generation and the chip are the same.
package uartrom

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
)

// Commands, "Bootloader command set".
const (
	cmdGet            = 0x00
	cmdVersion        = 0x01
	cmdID             = 0x02
	cmdRead           = 0x11
	cmdGo             = 0x21
	cmdWrite          = 0x31
	cmdErase          = 0x43
	cmdExtendedErase  = 0x44
	cmdWriteProtect   = 0x63
	cmdWriteUnprotect = 0x73
	cmdLock           = 0x82 // Readout Protect
	cmdUnlock         = 0x92 // Readout Unprotect
)

const (
	syncByte = 0x7F
	yes      = 0x79
	no       = 0x1F
	piece    = 256 // bytes of one Read or Write
)

// Patience is how long an answer may take beside the line's and the memory's own
// time.
const patience = 600 * time.Millisecond

// perPage is the longest erase of a page.
const perPage = 120 * time.Millisecond

// Kind is the UART ROM loader.
type Kind struct{}

// Name is "uartrom".
func (Kind) Name() string { return "uartrom" }

// Limits: it tells its chip and no serial, and computes no digests.
func (Kind) Limits() loader.Limits {
	return loader.Limits{Pages: true, Can: []loader.Ability{loader.Read, loader.Erase, loader.Write, loader.Reset, loader.Guard},
		Identity: loader.ThisKind, Verify: "every byte read back and compared"}
}

// Schema has the serial line alone.
func (Kind) Schema() []byte { return loader.LineSchema("") }

// Pace is the line's.
func (Kind) Pace(o loader.Own) float64 { return loader.LinePace(o) }

// Open plays the enter script, finds the speed and asks what the unit can do.
func (Kind) Open(ctx context.Context, l link.Link, o loader.Options) (loader.Session, error) {
	if o.Map == nil {
		return nil, core.Fail(core.BadFile, "the loader uartrom counts pages and needs the memory map of the model")
	}
	var on link.Serial
	if err := o.Own.Read(&on); err != nil {
		return nil, err
	}
	s := &session{link: l, o: o, mode: on.Mode(), sectors: o.Map.Sectors()}
	return s, s.enter(ctx, o.Await)
}

type session struct {
	link     link.Link
	stream   link.Stream
	o        loader.Options
	mode     link.Mode
	sectors  []memory.Sector
	version  byte
	commands []byte
	chip     string
	locked   bool
	lost     bool
}

func (s *session) enter(ctx context.Context, await time.Duration) (err error) {
	if s.stream, err = s.o.Begin(ctx, s.link, "uartrom"); err != nil {
		return err
	}
	o := s.o
	o.Await = await
	// "Bootloader code sequence": 0x7F; a loader that was found already says no.
	knocks := 0
	err = o.Wait(ctx, 100*time.Millisecond, 5, func(pause time.Duration) (bool, error) {
		b, err := s.knock(ctx, pause)
		knocks++
		if b == yes && knocks > 1 { // that may have been a late answer to the knock before: this one is then half of a command
			for range 2 {
				if b, err = s.knock(ctx, pause); b == no || err != nil {
					break
				}
			}
			return err == nil, err
		}
		return b == yes || b == no, err
	})
	if err != nil {
		return err
	}
	return s.ask(ctx)
}

// knock sends the first byte once and gives the answer; 0 where none came.
func (s *session) knock(ctx context.Context, pause time.Duration) (byte, error) {
	if _, err := s.stream.Write([]byte{syncByte}); err != nil {
		return 0, err
	}
	b, err := s.take(ctx, 1, pause)
	if core.KindOf(err) == core.NotAnswering && errors.Is(err, os.ErrDeadlineExceeded) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return b[0], nil
}

// ask reads version, commands, chip and protection: Get and Get ID.
func (s *session) ask(ctx context.Context) error {
	answer, err := s.listed(ctx, cmdGet)
	if err != nil {
		return err
	}
	if len(answer) < 2 {
		return core.Fail(core.RefusedByUnit, "the unit lists %d bytes of commands", len(answer))
	}
	s.version, s.commands = answer[0], answer[1:]
	id, err := s.listed(ctx, cmdID)
	if err != nil {
		return err
	}
	chip := fmt.Sprintf("0x%0*X", 2*len(id), id)
	if s.chip != "" && chip != s.chip {
		return core.Fail(core.WrongUnit, "the chip was %s, now it is %s: another unit is on the link", s.chip, chip)
	}
	s.chip = chip
	return s.feel(ctx)
}

// feel finds out whether reading is locked: Read Memory is refused at once then.
// Where it is not, an address with a wrong checksum ends the command again.
func (s *session) feel(ctx context.Context) error {
	if err := s.command(cmdRead); err != nil {
		return err
	}
	b, err := s.take(ctx, 1, s.o.Scaled(patience))
	if err != nil {
		return err
	}
	if s.locked = b[0] == no; s.locked {
		return nil
	}
	if _, err := s.stream.Write([]byte{0, 0, 0, 0, 1}); err != nil {
		return err
	}
	_, err = s.take(ctx, 1, s.o.Scaled(patience))
	return err
}

// command sends a command and its complement.
func (s *session) command(c byte) error {
	_, err := s.stream.Write([]byte{c, ^c})
	return err
}

// listed is a command whose answer is yes, a count less one, so many bytes, yes.
func (s *session) listed(ctx context.Context, c byte) ([]byte, error) {
	if err := s.command(c); err != nil {
		return nil, err
	}
	if err := s.confirmed(ctx, 0, "command 0x%02X", c); err != nil {
		return nil, err
	}
	n, err := s.take(ctx, 1, s.o.Scaled(patience))
	if err != nil {
		return nil, err
	}
	b, err := s.take(ctx, int(n[0])+2, s.o.Scaled(patience))
	if err != nil {
		return nil, err
	}
	if b[len(b)-1] != yes {
		return nil, core.Fail(core.RefusedByUnit, "the unit ended its answer to command 0x%02X with 0x%02X, expected 0x79", c, b[len(b)-1])
	}
	return b[:len(b)-1], nil
}

// take waits for n bytes.
func (s *session) take(ctx context.Context, n int, wait time.Duration) ([]byte, error) {
	line := time.Duration(n*s.mode.CharacterBits()) * time.Second / time.Duration(s.mode.Baud)
	s.stream.SetReadDeadline(s.o.Clock.Now().Add(wait + 2*line))
	defer s.stream.SetReadDeadline(time.Time{})
	b := make([]byte, n)
	for got := 0; got < n; {
		if err := ctx.Err(); err != nil {
			return nil, core.Fail(core.Interrupted, "the exchange with the unit was ended: %w", err)
		}
		m, err := s.stream.Read(b[got:])
		got += m
		if errors.Is(err, os.ErrDeadlineExceeded) {
			s.lost = true
			return nil, core.Fail(core.NotAnswering, "%d of %d bytes came within %s: %w", got, n, wait.Round(time.Millisecond), err).
				Do("Look at the plug, the supply and the strap, then try again.")
		}
		if err != nil {
			return nil, err
		}
	}
	return b, nil
}

var errNo = errors.New("it said no")

// confirmed waits for yes.
func (s *session) confirmed(ctx context.Context, takes time.Duration, what string, args ...any) error {
	b, err := s.take(ctx, 1, s.o.Scaled(patience+takes))
	if err != nil {
		return err
	}
	switch b[0] {
	case yes:
		return nil
	case no:
		kind := core.RefusedByUnit
		if s.locked {
			kind = core.Protected
		}
		return core.Fail(kind, "the unit refuses %s: %w", fmt.Sprintf(what, args...), errNo)
	}
	s.lost = true
	return core.Fail(core.NotAnswering, "the unit answered %s with 0x%02X; expected 0x79 or 0x1F", fmt.Sprintf(what, args...), b[0])
}

const tries = 4

// surely does a piece of work, and once more after a loss or a no that a spoilt
// byte may have caused.
func (s *session) surely(ctx context.Context, work func() error) error {
	before := s.link.Generation()
	for n := 1; ; n++ {
		err := work()
		if err == nil || n == tries || ctx.Err() != nil || s.locked {
			return err
		}
		if s.lost || n > 1 {
			if s.link.Generation() != before {
				return core.Fail(core.Interrupted, "the unit left the link: %w", err).Do("Identify the unit again.")
			}
			s.lost = false
			if e := s.enter(ctx, 0); e != nil {
				return e
			}
		} else if !errors.Is(err, errNo) {
			return err
		}
	}
}

func (s *session) Identify(ctx context.Context) ([]core.Fact, error) {
	if err := s.surely(ctx, func() error { return s.ask(ctx) }); err != nil {
		return nil, err
	}
	now := s.o.Clock.Now().UTC()
	return []core.Fact{{Name: core.FactChip, Value: s.chip, Source: core.FromWire, At: now},
		{Name: core.FactLoader, Value: fmt.Sprintf("%d.%d", s.version>>4, s.version&15), Source: core.FromWire, At: now},
		{Name: core.FactLock, Value: map[bool]string{true: "locked", false: "open"}[s.locked], Source: core.FromWire, At: now}}, nil
}

// Probe is Get ID.
func (s *session) Probe(ctx context.Context) error {
	_, err := s.listed(ctx, cmdID)
	return err
}

var commandOf = map[loader.Ability]byte{loader.Read: cmdRead, loader.Write: cmdWrite, loader.Reset: cmdGo, loader.Guard: cmdUnlock}

func (s *session) Can(a loader.Ability) error {
	has := slices.Contains(s.commands, commandOf[a])
	switch a {
	case loader.Erase:
		has = slices.Contains(s.commands, cmdExtendedErase) || slices.Contains(s.commands, cmdErase)
	case loader.Read, loader.Write, loader.Reset, loader.Guard:
	default:
		has = false
	}
	switch {
	case !has:
		return core.Fail(core.RefusedByUnit, "the unit does not offer %s: its loader does not have it", a)
	case s.locked && a != loader.Guard:
		return core.Fail(core.Protected, "the unit does not offer %s: its memory is locked against reading, which also closes it to writing", a)
	}
	return nil
}

// addressed sends an address and its checksum.
func (s *session) addressed(ctx context.Context, c byte, at uint64) error {
	if err := s.command(c); err != nil {
		return err
	}
	if err := s.confirmed(ctx, 0, "command 0x%02X", c); err != nil {
		return err
	}
	if _, err := s.stream.Write(summed(binary.BigEndian.AppendUint32(nil, uint32(at)))); err != nil {
		return err
	}
	return s.confirmed(ctx, 0, "the address 0x%08X", at)
}

// summed adds the XOR of the bytes.
func summed(b []byte) []byte {
	x := byte(0)
	for _, c := range b {
		x ^= c
	}
	return append(b, x)
}

// Read is Read Memory, 256 bytes at a time.
func (s *session) Read(ctx context.Context, address uint64, p []byte, got func(int)) error {
	for done := 0; done < len(p); {
		n := min(piece, len(p)-done)
		err := s.surely(ctx, func() error {
			if err := s.addressed(ctx, cmdRead, address+uint64(done)); err != nil {
				return err
			}
			if _, err := s.stream.Write([]byte{byte(n - 1), ^byte(n - 1)}); err != nil {
				return err
			}
			if err := s.confirmed(ctx, 0, "to give %d bytes", n); err != nil {
				return err
			}
			b, err := s.take(ctx, n, s.o.Scaled(patience))
			copy(p[done:], b)
			return err
		})
		if err != nil {
			return err
		}
		done += n
		if got != nil {
			got(done)
		}
	}
	return nil
}

// Digest is not offered.
func (s *session) Digest(context.Context, uint64, uint64, uint64) ([]core.Digest, error) {
	return nil, s.Can(loader.Digest)
}

// Change erases page by page and writes 256 bytes at a time.
func (s *session) Change(ctx context.Context, next func() (loader.Op, bool, error), acked func(loader.Op) error) error {
	for {
		op, ok, err := next()
		if err != nil || !ok {
			return err
		}
		if op.Erase {
			err = s.erase(ctx, op.Address, op.Length)
		} else {
			err = s.writeAll(ctx, op)
		}
		if err != nil {
			return err
		}
		if err := acked(op); err != nil {
			return err
		}
	}
}

// extended tells which of the two erase commands the unit has: Erase Memory counts
// pages in one byte, Extended Erase in two. A unit has one of them.
func (s *session) extended() bool { return slices.Contains(s.commands, cmdExtendedErase) }

func (s *session) eraseCommand() byte {
	if s.extended() {
		return cmdExtendedErase
	}
	return cmdErase
}

// erase erases pages; a page's number is its place in the map.
func (s *session) erase(ctx context.Context, address, length uint64) error {
	first := slices.IndexFunc(s.sectors, func(x memory.Sector) bool { return x.Address == address })
	if first < 0 {
		return core.Fail(core.RefusedByUnit, "0x%X is not where a page begins", address)
	}
	var pages []int
	for i := first; i < len(s.sectors) && s.sectors[i].Address < address+length; i++ {
		pages = append(pages, i)
	}
	count := len(pages)
	var list []byte
	switch {
	case s.extended():
		list = binary.BigEndian.AppendUint16(list, uint16(count-1))
		for _, n := range pages {
			list = binary.BigEndian.AppendUint16(list, uint16(n))
		}
	case pages[count-1] > 254:
		return core.Fail(core.RefusedByUnit, "page %d cannot be erased: this unit's loader counts pages in one byte", pages[count-1])
	default:
		list = append(list, byte(count-1))
		for _, n := range pages {
			list = append(list, byte(n))
		}
	}
	err := s.surely(ctx, func() error {
		if err := s.command(s.eraseCommand()); err != nil {
			return err
		}
		if err := s.confirmed(ctx, 0, "to erase"); err != nil {
			return err
		}
		if _, err := s.stream.Write(summed(slices.Clone(list))); err != nil {
			return err
		}
		return s.confirmed(ctx, time.Duration(count)*perPage, "to erase the page at 0x%X", address)
	})
	if errors.Is(err, errNo) {
		return core.Fail(core.RefusedByUnit, "the unit's memory failed to erase the page at 0x%06X, or it is protected: %w", address, err).
			Do("Try the run again; if the same page fails twice, set the unit apart: its flash is worn or damaged.")
	}
	return err
}

func (s *session) writeAll(ctx context.Context, op loader.Op) error {
	for done := 0; done < len(op.Data); {
		n := min(piece, len(op.Data)-done)
		at := op.Address + uint64(done)
		err := s.surely(ctx, func() error {
			if err := s.addressed(ctx, cmdWrite, at); err != nil {
				return err
			}
			if _, err := s.stream.Write(summed(append([]byte{byte(n - 1)}, op.Data[done:done+n]...))); err != nil {
				return err
			}
			return s.confirmed(ctx, perPage, "to write at 0x%06X", at)
		})
		if err != nil {
			return err
		}
		done += n
	}
	return nil
}

// Restart is Go to the program, or the enter script again.
func (s *session) Restart(ctx context.Context, intoLoader bool) error {
	if intoLoader {
		return s.enter(ctx, 0)
	}
	for _, r := range s.o.Map.Regions {
		if r.Use == memory.Program {
			return s.addressed(ctx, cmdGo, r.Address)
		}
	}
	return core.Fail(core.RefusedByUnit, "the memory map has no program to start")
}

// Locked tells what was felt at the opening.
func (s *session) Locked(context.Context) (bool, error) { return s.locked, nil }

// Unlock is Readout Unprotect: the unit erases its memory and starts anew.
func (s *session) Unlock(ctx context.Context) error {
	if err := s.command(cmdUnlock); err != nil {
		return err
	}
	if err := s.confirmed(ctx, 0, "to lift its lock"); err != nil {
		return err
	}
	if err := s.confirmed(ctx, time.Duration(len(s.sectors))*perPage, "to erase itself"); err != nil {
		return err
	}
	return s.enter(ctx, 0)
}

// Lock is Readout Protect; the unit starts anew.
func (s *session) Lock(ctx context.Context) error {
	if err := s.command(cmdLock); err != nil {
		return err
	}
	if err := s.confirmed(ctx, 0, "to lock its memory"); err != nil {
		return err
	}
	if err := s.confirmed(ctx, perPage, "to lock its memory"); err != nil {
		return err
	}
	return s.enter(ctx, 0)
}

// EraseAll and EraseBank are the special forms of the erase: everything, or one of
// two banks (1 and 2), which Extended Erase alone knows.
func (s *session) EraseAll(ctx context.Context) error { return s.special(ctx, 0xFFFF) }

func (s *session) EraseBank(ctx context.Context, bank int) error {
	if bank != 1 && bank != 2 {
		return core.Fail(core.RefusedByUnit, "there is no bank %d; a memory has banks 1 and 2 at most", bank)
	}
	return s.special(ctx, uint16(0xFFFF-bank))
}

func (s *session) special(ctx context.Context, code uint16) error {
	if err := s.Can(loader.Erase); err != nil {
		return err
	}
	say := summed(binary.BigEndian.AppendUint16(nil, code))
	if !s.extended() {
		if code != 0xFFFF {
			return core.Fail(core.RefusedByUnit, "this unit's loader erases pages or everything, and no banks")
		}
		say = []byte{0xFF, 0x00} // "Erase Memory command", global erase
	}
	if err := s.command(s.eraseCommand()); err != nil {
		return err
	}
	if err := s.confirmed(ctx, 0, "to erase"); err != nil {
		return err
	}
	if _, err := s.stream.Write(say); err != nil {
		return err
	}
	return s.confirmed(ctx, time.Duration(len(s.sectors))*perPage, "to erase 0x%04X", code)
}

// Guard and Unguard are Write Protect of pages by their numbers, and its lifting.
func (s *session) Guard(ctx context.Context, pages []byte) error {
	if len(pages) == 0 || len(pages) > 256 {
		return core.Fail(core.RefusedByUnit, "1 to 256 pages can be protected at once, not %d", len(pages))
	}
	if err := s.command(cmdWriteProtect); err != nil {
		return err
	}
	if err := s.confirmed(ctx, 0, "to protect pages"); err != nil {
		return err
	}
	if _, err := s.stream.Write(summed(append([]byte{byte(len(pages) - 1)}, pages...))); err != nil {
		return err
	}
	if err := s.confirmed(ctx, perPage, "to protect %d pages", len(pages)); err != nil {
		return err
	}
	return s.enter(ctx, 0)
}

func (s *session) Unguard(ctx context.Context) error {
	if err := s.command(cmdWriteUnprotect); err != nil {
		return err
	}
	for range 2 {
		if err := s.confirmed(ctx, perPage, "to lift the protection of its pages"); err != nil {
			return err
		}
	}
	return s.enter(ctx, 0)
}

func (s *session) Close() error { return nil }

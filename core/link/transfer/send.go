// Package transfer is XMODEM (checksum, CRC, 1K) and YMODEM (batch, name, size),
// sender and receiver, after C. Forsberg, "XMODEM/YMODEM Protocol Reference"
// (1988), whose section titles are cited.
package transfer

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// NAK asks for a block again, or for a first one with a checksum.
const NAK = nak

// Bytes of the protocol.
const (
	soh = 0x01 // a block of 128 bytes follows
	stx = 0x02 // a block of 1024 bytes follows
	eot = 0x04
	ack = 0x06
	nak = 0x15
	can = 0x18 // two of them cancel
	sub = 0x1A // fills the last block
	big = 1024
	old = 128
)

// Waits, after "Timing considerations".
const (
	AskEvery  = 3 * time.Second         // a receiver asks for the first block
	BlockIn   = 10 * time.Second        // a block, or the answer to one, must have come
	firstIn   = 4 * time.Second         // the answer to the first block; not as long as a receiver waits for one, or the two would miss each other for ever
	quiet     = 1 * time.Second         // between the bytes of a block
	askedAnew = 1500 * time.Millisecond // after the first block: who asks then has not got it
	Asks      = 20
	again     = 10 // of one block
	silences  = 4  // in a row, after which the other end is gone
)

// File is a file on its way.
type File struct {
	Name string
	Data []byte
}

// Line is what both ends need.
type Line struct {
	Stream link.Stream
	link.Pace
}

var errLate = errors.New("nothing came")

// Byte waits for one byte; errLate if none came.
func (l *Line) Byte(ctx context.Context, wait time.Duration) (byte, error) {
	var b [1]byte
	_, err := l.full(ctx, b[:], wait)
	return b[0], err
}

func (l *Line) full(ctx context.Context, b []byte, wait time.Duration) (int, error) {
	l.Stream.SetReadDeadline(l.Clock.Now().Add(l.Scaled(wait)))
	defer l.Stream.SetReadDeadline(time.Time{})
	for got := 0; ; {
		if err := ctx.Err(); err != nil {
			return got, core.Fail(core.Interrupted, "the transfer was ended: %w", err)
		}
		n, err := l.Stream.Read(b[got:])
		if got += n; got == len(b) {
			return got, nil
		}
		if errors.Is(err, os.ErrDeadlineExceeded) {
			return got, errLate
		}
		if err != nil {
			return got, err
		}
	}
}

func (l *Line) say(b ...byte) error { _, err := l.Stream.Write(b); return err }

// cancel tells the other end that it is over; eight of them, as "Canceling" has it.
func (l *Line) cancel() { l.say(can, can, can, can, can, can, can, can) }

// CRC is the 16-bit CRC of "CRC-16 option": polynomial 0x1021, start 0.
func CRC(b []byte) uint16 {
	var crc uint16
	for _, c := range b {
		crc = crc<<8 ^ table[byte(crc>>8)^c]
	}
	return crc
}

var table = func() (t [256]uint16) {
	for i := range t {
		crc := uint16(i) << 8
		for range 8 {
			if crc&0x8000 != 0 {
				crc = crc<<1 ^ 0x1021
			} else {
				crc <<= 1
			}
		}
		t[i] = crc
	}
	return t
}()

// Sum is the one-byte checksum of the first form.
func Sum(b []byte) (sum byte) {
	for _, c := range b {
		sum += c
	}
	return sum
}

// block makes a block on the wire. short means a one-byte checksum.
func block(n byte, data []byte, short bool) []byte {
	size, head := old, byte(soh)
	if len(data) > old {
		size, head = big, stx
	}
	b := make([]byte, 3, size+5)
	b[0], b[1], b[2] = head, n, ^n
	b = append(b, data...)
	for len(b) < size+3 {
		b = append(b, sub)
	}
	if short {
		return append(b, Sum(b[3:]))
	}
	crc := CRC(b[3:])
	return append(b, byte(crc>>8), byte(crc))
}

// Invited waits for a receiver that asks: C for a CRC, NAK for a checksum.
func (l *Line) Invited(ctx context.Context, wait time.Duration, ready func()) (short bool, err error) {
	end := l.Clock.Now().Add(l.Scaled(wait))
	cans := 0
	told := false
	for {
		c, err := l.Byte(ctx, min(AskEvery, max(wait, time.Millisecond)))
		switch {
		case errors.Is(err, errLate):
			if !told && ready != nil { // also where a stray byte came before
				told = true
				ready()
			}
			if !l.Clock.Now().Before(end) {
				return false, core.Fail(core.NotAnswering, "no receiver has asked for a file within %s", wait).
					Do("See that the unit waits for a file: its sign, its strap; then try again.")
			}
		case err != nil:
			return false, err
		case c == 'C':
			return false, nil
		case c == nak:
			return true, nil
		case c == can:
			if cans++; cans >= 2 {
				return false, core.Fail(core.RefusedByUnit, "the unit cancelled the transfer")
			}
		}
	}
}

// put sends a block until it is acknowledged. asked tells that the receiver has
// asked for what comes next already, while late answers were let pass.
func (l *Line) put(ctx context.Context, n byte, data []byte, short bool) (asked bool, err error) {
	wire, most := block(n, data, short), silences
	if n <= 1 {
		most = 2 * silences // each is shorter
	}
	tries := again
	if n <= 1 && short { // its NAK may be that of a transfer which broke off: it takes no first block then
		tries = 3
	}
	for try, silent := 1, 0; ; try++ {
		if err := l.say(wire...); err != nil {
			return false, err
		}
		answer, err := l.answer(ctx, n <= 1)
		switch {
		case core.KindOf(err) == core.RefusedByUnit && n > 1: // it took the file at first, so it may take it once more
			return false, core.Fail(core.Interrupted, "the unit cancelled the transfer at block %d", n).
				Do("Look at the plug and the ground; then begin again: the file is sent from its start.")
		case err != nil && !errors.Is(err, errLate):
			return false, err
		case err == nil && answer == ack && try == 1:
			return false, nil
		case err == nil && answer == ack: // a second answer to the same block must not count for the next
			return l.settle(ctx)
		case try == tries || silent == most-1:
			l.cancel()
			return false, core.Fail(core.NotAnswering, "block %d was not acknowledged, though it was sent %d times", n, try).
				Do("Look at the plug and the ground; then begin again: the file is sent from its start.")
		case errors.Is(err, errLate):
			silent++
		default:
			silent = 0
		}
	}
}

// settle lets answers pass that are still under way, and tells whether a C was
// among them.
func (l *Line) settle(ctx context.Context) (asked bool, err error) {
	for range 4 * big {
		c, err := l.Byte(ctx, quiet/4)
		if errors.Is(err, errLate) {
			return asked, nil
		}
		if err != nil {
			return asked, err
		}
		asked = asked || c == 'C'
	}
	return asked, nil
}

// answer is the next ACK or NAK; other bytes are noise. A receiver that asks for the
// file again, well after its first block went out, has not got that block.
func (l *Line) answer(ctx context.Context, first bool) (byte, error) {
	sent, wait := l.Clock.Now(), BlockIn
	if first {
		wait = firstIn
	}
	for cans, noise := 0, 0; noise < 4*big; noise++ {
		c, err := l.Byte(ctx, wait)
		switch {
		case err != nil:
			return 0, err
		case c == ack || c == nak:
			return c, nil
		case c == 'C' && first && l.Clock.Now().Sub(sent) > l.Scaled(askedAnew):
			return nak, nil
		case c == can:
			if cans++; cans >= 2 {
				return 0, core.Fail(core.RefusedByUnit, "the unit cancelled the transfer").
					Do("It takes no such file: see its name, its size, and whether it is made for this model.")
			}
		default:
			cans = 0
		}
	}
	return 0, errLate
}

// body sends the bytes of a file, and EOT.
func (l *Line) body(ctx context.Context, data []byte, short, oneK bool, sent func(int)) error {
	n := byte(1)
	for at := 0; at < len(data); n++ {
		size := old
		if oneK && !short && len(data)-at > old { // what is short goes in short blocks
			size = big
		}
		size = min(size, len(data)-at)
		if _, err := l.put(ctx, n, data[at:at+size], short); err != nil {
			return err
		}
		at += size
		if sent != nil {
			sent(at)
		}
	}
	for try := 1; ; try++ {
		if err := l.say(eot); err != nil {
			return err
		}
		c, err := l.answer(ctx, false)
		switch {
		case err != nil && !errors.Is(err, errLate):
			return err
		case err == nil && c == ack:
			return nil
		case try == again:
			return core.Fail(core.NotAnswering, "the end of the file was not acknowledged")
		}
	}
}

// Send sends one file by XMODEM: in blocks of 1024 bytes where oneK is set and
// the receiver asks for CRCs. The receiver gets it filled up to whole blocks.
func (l *Line) Send(ctx context.Context, data []byte, oneK bool, sent func(int)) error {
	short, err := l.Invited(ctx, Asks*AskEvery, nil)
	if err != nil {
		return err
	}
	return l.body(ctx, data, short, oneK, sent)
}

// SendBatch sends files by YMODEM: a block 0 with name and size before each, an
// empty one at the end.
func (l *Line) SendBatch(ctx context.Context, files []File, sent func(int)) error {
	short, err := l.Invited(ctx, Asks*AskEvery, nil)
	if err != nil {
		return err
	}
	done := 0
	for _, f := range files {
		asked, err := l.put(ctx, 0, head(f), short)
		if err != nil {
			return err
		}
		if !asked {
			if short, err = l.Invited(ctx, BlockIn, nil); err != nil {
				return err
			}
		}
		before := done
		if err := l.body(ctx, f.Data, short, true, func(n int) {
			if sent != nil {
				sent(before + n)
			}
		}); err != nil {
			return err
		}
		done += len(f.Data)
		if short, err = l.Invited(ctx, BlockIn, nil); err != nil {
			return err
		}
	}
	// Every file was acknowledged by now. A receiver that has gone once it saw the
	// end of the batch, and whose last answer was lost, has them all.
	if _, err := l.put(ctx, 0, make([]byte, old), short); err != nil && core.KindOf(err) != core.NotAnswering {
		return err
	}
	return nil
}

// head is block 0: name, zero, size in decimal, filled with zeros.
func head(f File) []byte {
	text := fmt.Sprintf("%s\x00%d", path.Base(f.Name), len(f.Data))
	size := old
	if len(text) >= old {
		size = big
	}
	b := make([]byte, size)
	copy(b, text)
	return b
}

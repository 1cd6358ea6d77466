package transfer

import (
	"bytes"
	"context"
	"errors"
	"strconv"
	"strings"

	"zealousferry/core"
)

// MostReceived bounds the files of one transfer, in bytes.
const MostReceived = 64 << 20

// receiver is one file's or batch's state.
type receiver struct {
	*Line
	short bool // one-byte checksums
}

// Receive takes one file by XMODEM. It asks for CRCs three times, then for
// checksums. The file comes with the filling of its last block.
func (l *Line) Receive(ctx context.Context) ([]byte, error) {
	r := &receiver{Line: l}
	first, data, err := r.begin(ctx)
	if err != nil {
		return nil, err
	}
	if first != 1 {
		l.cancel()
		return nil, core.Fail(core.RefusedByUnit, "the transfer began with block %d, expected 1", first)
	}
	return r.body(ctx, data)
}

// ReceiveBatch takes files by YMODEM.
func (l *Line) ReceiveBatch(ctx context.Context) ([]File, error) {
	var files []File
	total := 0
	for len(files) < 1000 {
		r := &receiver{Line: l}
		n, head, err := r.begin(ctx)
		if err != nil {
			return files, err
		}
		name, rest, found := bytes.Cut(head, []byte{0})
		if n != 0 || !found {
			l.cancel()
			return files, core.Fail(core.RefusedByUnit, "the file began with block %d, expected block 0 with its name", n)
		}
		if err := l.say(ack); err != nil {
			return files, err
		}
		if len(name) == 0 {
			return files, nil
		}
		size := -1
		if text, _, _ := strings.Cut(string(bytes.TrimRight(rest, "\x00")), " "); text != "" {
			text, _, _ = strings.Cut(text, "\x00")
			if v, err := strconv.ParseInt(text, 10, 64); err == nil && v >= 0 && v <= MostReceived {
				size = int(v)
			}
		}
		r = &receiver{Line: l}
		n, first, err := r.begin(ctx)
		for again := 0; err == nil && n == 0 && bytes.Equal(first, head) && again < Asks; again++ {
			// block 0 once more: its acknowledgement was lost or late
			if err = r.say(ack); err == nil {
				n, first, err = r.begin(ctx)
			}
		}
		if err != nil {
			return files, err
		}
		var data []byte
		switch {
		case n == 1:
			data, err = r.body(ctx, first)
		case n == 0 && first == nil: // an empty file: EOT at once
		default:
			l.cancel()
			err = core.Fail(core.RefusedByUnit, "block %d came, expected 1", n)
		}
		if err != nil {
			return files, err
		}
		if size >= 0 && size <= len(data) {
			data = data[:size]
		}
		if total += len(data); total > MostReceived {
			l.cancel()
			return files, core.Fail(core.RefusedByUnit, "more than %d MiB were sent", MostReceived>>20)
		}
		files = append(files, File{string(name), data})
	}
	l.cancel()
	return files, core.Fail(core.RefusedByUnit, "more than 1000 files were sent")
}

// begin asks until the first block comes. A nil block is an EOT.
func (r *receiver) begin(ctx context.Context) (byte, []byte, error) {
	for try := 0; try < Asks; try++ {
		r.short = try >= 3
		ask := byte('C')
		if r.short {
			ask = nak
		}
		if err := r.say(ask); err != nil {
			return 0, nil, err
		}
		c, err := r.Byte(ctx, AskEvery)
		for err == nil && c != soh && c != stx && c != eot && c != can {
			c, err = r.Byte(ctx, AskEvery)
		}
		if errors.Is(err, errLate) {
			continue
		}
		if err != nil {
			return 0, nil, err
		}
		n, data, err := r.block(ctx, c)
		switch {
		case errors.Is(err, errSpoilt):
			continue
		case err != nil:
			return 0, nil, err
		case c == eot:
			return 0, nil, r.say(ack)
		}
		return n, data, nil
	}
	return 0, nil, core.Fail(core.NotAnswering, "nothing was sent, though it was asked for %d times", Asks)
}

var errSpoilt = errors.New("a spoilt block")

// block reads the rest of a block after its first byte.
func (r *receiver) block(ctx context.Context, head byte) (byte, []byte, error) {
	size := old
	switch head {
	case eot:
		return 0, nil, nil
	case can:
		if c, err := r.Byte(ctx, quiet); err == nil && c == can {
			return 0, nil, core.Fail(core.Interrupted, "the sender cancelled the transfer")
		}
		return 0, nil, errSpoilt
	case stx:
		size = big
	case soh:
	default:
		return 0, nil, r.drain(ctx)
	}
	b := make([]byte, size+4)
	if r.short {
		b = b[:size+3]
	}
	if _, err := r.full(ctx, b, BlockIn/4); errors.Is(err, errLate) {
		return 0, nil, errSpoilt
	} else if err != nil {
		return 0, nil, err
	}
	data := b[2 : size+2]
	right := r.short && b[size+2] == Sum(data) || !r.short && CRC(data) == uint16(b[size+2])<<8|uint16(b[size+3])
	if !right || b[0]^b[1] != 0xFF {
		return 0, nil, r.drain(ctx)
	}
	return b[0], data, nil
}

// drain waits until the line is quiet, so that the next block is met at its start.
func (r *receiver) drain(ctx context.Context) error {
	for range 2 * big {
		if _, err := r.Byte(ctx, quiet/4); errors.Is(err, errLate) {
			return errSpoilt
		} else if err != nil {
			return err
		}
	}
	return errSpoilt
}

// body takes the blocks after the first, to EOT.
func (r *receiver) body(ctx context.Context, first []byte) ([]byte, error) {
	all := bytes.Clone(first)
	due := byte(2)
	answer := byte(ack)
	for bad := 0; ; {
		if err := r.say(answer); err != nil {
			return all, err
		}
		c, err := r.Byte(ctx, BlockIn)
		var n byte
		var data []byte
		if err == nil {
			n, data, err = r.block(ctx, c)
		}
		switch {
		case errors.Is(err, errLate) || errors.Is(err, errSpoilt):
			if bad++; bad > again {
				r.cancel()
				return all, core.Fail(core.NotAnswering, "block %d came spoilt or not at all, %d times", due, bad)
			}
			answer = nak
			continue
		case err != nil:
			return all, err
		case c == eot:
			return all, r.say(ack)
		case n == due-1: // its acknowledgement was lost
		case n != due:
			r.cancel()
			return all, core.Fail(core.RefusedByUnit, "block %d came, expected %d: a block was lost", n, due)
		case len(all)+len(data) > MostReceived:
			r.cancel()
			return all, core.Fail(core.RefusedByUnit, "more than %d MiB were sent", MostReceived>>20)
		default:
			all = append(all, data...)
			due++
		}
		bad, answer = 0, ack
	}
}

package monitor

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/image/ihex"
	"zealousferry/core/image/srec"
	"zealousferry/core/link"
	"zealousferry/core/link/transfer"
	"zealousferry/core/loader"
)

// record is a line of a record file, with the bytes that it carries.
type record struct {
	line    []byte
	address uint64
	n       int
}

// records makes the lines that carry bytes, by an image format of ours.
func records(form string, address uint64, data []byte) ([]record, error) {
	var b image.Builder
	if err := b.Add(address, data, 0); err != nil {
		return nil, err
	}
	im, err := b.Image()
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if form == intelHex {
		err = ihex.Format{}.Encode(&out, im, image.Options{})
	} else {
		err = srec.Format{}.Encode(&out, im, image.Options{})
	}
	if err != nil {
		return nil, err
	}
	var all []record
	at := address
	for line := range bytes.Lines(out.Bytes()) {
		r := record{line: bytes.Clone(bytes.TrimSpace(line)), address: at}
		if r.n = carries(form, r.line); r.n > 0 {
			at += uint64(r.n)
		}
		all = append(all, r)
	}
	return all, nil
}

// carries is how many bytes of memory a record of our own brings.
func carries(form string, line []byte) int {
	digits := func(s []byte) int {
		n, err := strconv.ParseUint(string(s), 16, 8)
		if err != nil {
			return 0
		}
		return int(n)
	}
	switch {
	case form == intelHex && len(line) > 9 && string(line[7:9]) == "00":
		return digits(line[1:3])
	case form == sRecord && len(line) > 4 && line[1] >= '1' && line[1] <= '3':
		return digits(line[2:4]) - int(line[1]-'0') - 2
	}
	return 0
}

// send sends the payload in the form that a step names.
func (p *player) send(ctx context.Context, s step, load *payload, seen *loader.Turn) error {
	if s.Send == xModem || s.Send == yModem {
		line := p.transfer()
		if s.Send == yModem {
			return line.SendBatch(ctx, []transfer.File{{Name: load.file, Data: load.data}}, load.sent)
		}
		return line.Send(ctx, load.data, true, load.sent)
	}
	lines := load.lines
	if lines == nil {
		all, err := records(s.Send, load.address, load.data)
		if err != nil {
			return err
		}
		for _, r := range all {
			lines = append(lines, r.line)
		}
	}
	if s.Accept != "" {
		return p.answered(ctx, s, lines, seen)
	}
	return p.poured(ctx, lines, seen)
}

// transfer is the line for a transfer, which begins with what was heard already: the
// unit may have asked for the first block.
func (p *player) transfer() transfer.Line {
	rest := p.text
	p.text = nil
	return transfer.Line{Stream: &ahead{p.stream, rest, p.note}, Pace: p.pace}
}

// ahead is a stream of which some was read before.
type ahead struct {
	link.Stream
	rest []byte
	note func(sent bool, b []byte)
}

func (a *ahead) Read(b []byte) (int, error) {
	if len(a.rest) > 0 {
		n := copy(b, a.rest)
		a.rest = a.rest[n:]
		return n, nil
	}
	n, err := a.Stream.Read(b)
	if n > 0 && a.note != nil {
		a.note(false, b[:n])
	}
	return n, err
}

func (a *ahead) Write(b []byte) (int, error) {
	if a.note != nil {
		a.note(true, b)
	}
	return a.Stream.Write(b)
}

// answered sends lines that the unit answers one by one, as many ahead as its buffer
// holds. A line that it refuses, or does not answer, is sent again; the last line, which
// ends the file, goes alone, once all others were taken.
func (p *player) answered(ctx context.Context, s step, lines [][]byte, seen *loader.Turn) error {
	accept := compiled(`\A(?:` + s.Accept + `)`)
	refuse := compiled(`\A(?:` + s.Refuse + `)`)
	end := p.d.lineEnd()
	room := max(p.d.Flow.Buffer, 1)
	var under [][]byte // sent and not yet answered
	ahead, lost := 0, 0
	again := func(count int) error {
		if lost += count; lost > 8+len(lines)/4 {
			return fmt.Errorf("%w: %d of %d lines were refused or lost", errAgain, lost, len(lines))
		}
		return nil
	}
	until := time.Time{}
	for len(lines) > 0 || len(under) > 0 {
		// Each line is a write of its own: lines that go together are answered together, and
		// then the line stands still for a round trip.
		for len(lines) > 0 && (len(under) == 0 || len(lines) > 1 && ahead+len(lines[0])+len(end) <= room) {
			out := append(append([]byte{}, lines[0]...), end...)
			ahead += len(out)
			under, lines = append(under, lines[0]), lines[1:]
			if err := p.say(out); err != nil {
				return err
			}
			until = p.pace.Clock.Now().Add(p.pace.Scaled(p.d.wait(s)) + 2*p.onLine(ahead))
			p.most += 8 * len(out)
		}
		took := false
		for len(under) > 0 {
			verdict := 0
			if _, ok := p.begins(accept); ok {
				verdict = 1
			} else if refuse != nil {
				if _, ok := p.begins(refuse); ok {
					verdict = -1
				}
			}
			if verdict == 0 {
				break
			}
			took = true
			first := under[0]
			under, ahead = under[1:], ahead-len(first)-len(end)
			if verdict < 0 {
				lines = slices.Insert(lines, max(len(lines)-1, 0), first) // the end record waits for it
				if err := again(1); err != nil {
					return err
				}
			}
		}
		if took {
			continue
		}
		if p.prompt != nil {
			if _, ok := p.begins(p.prompt); ok {
				return fmt.Errorf("%w: it went back to its prompt with %d lines not taken", errAgain, len(lines)+len(under))
			}
		}
		if line, ok := p.line(); ok {
			if line != "" && !p.isEcho(line, under) {
				if err := p.judge(line, seen); err != nil {
					return err
				}
			}
			continue
		}
		err := p.hear(ctx, until)
		if errors.Is(err, errQuiet) { // lines or answers were lost: which, nobody knows
			if err := again(len(under)); err != nil {
				return err
			}
			lines, under, ahead = append(under, lines...), nil, 0
			p.text = nil
			if err := p.say([]byte(end)); err != nil { // whatever the unit holds of a line is over
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// isEcho tells whether a line is one of those under way, given back.
func (p *player) isEcho(line string, under [][]byte) bool {
	for _, u := range under {
		if line == string(u) {
			return true
		}
	}
	return false
}

// poured sends lines that nobody answers: no more ahead of the line than a quarter of
// the unit's buffer, and nothing while the unit says XOFF.
func (p *player) poured(ctx context.Context, lines [][]byte, seen *loader.Turn) error {
	end := []byte(p.d.lineEnd())
	pause := p.pace.Scaled(duration(p.d.Flow.Pause, 0))
	if p.d.Flow.Kind != "paced" {
		pause = 0
	}
	piece := 64
	if p.d.Flow.Buffer > 0 {
		piece = max(p.d.Flow.Buffer/8, 8)
	}
	clock := p.pace.Clock
	through := clock.Now() // when the line has carried what was sent
	for _, l := range lines {
		whole := append(bytes.Clone(l), end...)
		for len(whole) > 0 {
			out := whole[:min(piece, len(whole))]
			whole = whole[len(out):]
			for ahead := through.Add(-p.onLine(piece)); ; { // hears XOFF meanwhile
				err := p.hear(ctx, ahead)
				if err != nil && !errors.Is(err, errQuiet) {
					return err
				}
				if !clock.Now().Before(ahead) {
					break
				}
			}
			if p.held {
				until := clock.Now().Add(p.pace.Scaled(p.d.wait(step{})) + p.onLine(max(p.d.Flow.Buffer, 256)))
				for p.held {
					if err := p.hear(ctx, until); errors.Is(err, errQuiet) {
						return core.Fail(core.NotAnswering, "the unit said XOFF, and not XON again").Do("Switch it off and on, and try again.")
					} else if err != nil {
						return err
					}
				}
			}
			if now := clock.Now(); through.Before(now) {
				through = now
			}
			if err := p.say(out); err != nil {
				return err
			}
			through = through.Add(p.onLine(len(out)))
			p.most += 2 * len(out)
		}
		through = through.Add(pause)
		for {
			line, ok := p.line()
			if !ok {
				break
			}
			if p.isEcho(line, [][]byte{l}) {
				continue
			}
			if err := p.judge(line, seen); err != nil {
				return err
			}
		}
	}
	return nil
}

// take takes bytes in the form that a step names.
func (p *player) take(ctx context.Context, s step, load *payload) (prompted bool, err error) {
	if s.Take == xModem || s.Take == yModem {
		line := p.transfer()
		if s.Take == xModem {
			load.whole, err = line.Receive(ctx)
			return false, err
		}
		files, err := line.ReceiveBatch(ctx)
		if err == nil && len(files) != 1 {
			err = core.Fail(core.RefusedByUnit, "the unit sent %d files, one was asked for", len(files))
		}
		if err == nil {
			load.whole = files[0].Data
		}
		return false, err
	}
	seen := &loader.Turn{Wanted: s.Take}
	first := compiled(map[string]string{intelHex: `^\s*:[0-9A-Fa-f]+\s*$`, sRecord: `^\s*S[0-9][0-9A-Fa-f]+\s*$`}[s.Take])
	var text strings.Builder
	var rows []map[string]string
	until := p.patience(p.d.wait(s))
	for {
		if p.prompt != nil {
			if _, ok := p.begins(p.prompt); ok {
				break
			}
		}
		line, ok := p.line()
		if !ok {
			if err := p.hear(ctx, until); err != nil {
				return false, p.lost(err, p.d.Prompt, seen)
			}
			continue
		}
		if first.MatchString(line) {
			text.WriteString(strings.TrimSpace(line) + "\n")
			rows = append(rows, nil)
			continue
		}
		if err := p.judge(line, seen); err != nil {
			return false, err
		}
	}
	if len(rows) == 0 {
		return true, fmt.Errorf("%w: %s", errAgain, p.missed("records of "+s.Take, seen))
	}
	var im *image.Image
	if s.Take == intelHex {
		im, err = ihex.Format{}.Decode(strings.NewReader(text.String()), image.Options{})
	} else {
		im, err = srec.Format{}.Decode(strings.NewReader(text.String()), image.Options{})
	}
	if err != nil {
		return true, fmt.Errorf("%w: %w", errAgain, err)
	}
	load.taken = map[uint64][]byte{}
	for _, seg := range im.Segments {
		load.taken[seg.Address] = seg.Data
	}
	return true, nil
}

// dumped reads the lines of a dump: the parts address and bytes, in hex.
func dumped(rows []map[string]string) (map[uint64][]byte, error) {
	out := map[uint64][]byte{}
	for _, r := range rows {
		at, err := strconv.ParseUint(strings.TrimPrefix(r["address"], "0x"), 16, 64)
		if err != nil {
			return nil, fmt.Errorf("%w: %q is no address", errAgain, r["address"])
		}
		b, err := hex.DecodeString(strings.Map(func(c rune) rune {
			if strings.ContainsRune("0123456789abcdefABCDEF", c) {
				return c
			}
			return -1
		}, r["bytes"]))
		if err != nil {
			return nil, fmt.Errorf("%w: %q are no bytes", errAgain, r["bytes"])
		}
		out[at] = b
	}
	return out, nil
}

// lay puts stretches into p, which stands for memory from address on; it says whether
// all of it came.
func lay(p []byte, address uint64, stretches map[uint64][]byte) bool {
	covered := make([]bool, len(p))
	for at, b := range stretches {
		for i, c := range b {
			if k := at + uint64(i) - address; at+uint64(i) >= address && k < uint64(len(p)) {
				p[k], covered[k] = c, true
			}
		}
	}
	for _, c := range covered {
		if !c {
			return false
		}
	}
	return true
}

package keel

import (
	"encoding/binary"
)

// The two marks, and the byte that the unit measures (docs/protocols/keel.md,
// sections 1 and 2).
const (
	hail     = 0x80
	askMark  = 0x96
	sayMark  = 0x69
	mostBody = 4 + 1024 // of a reply, with its status
)

// check is the remainder by the polynomial of ITU-T V.41, begun with FFFF.
func check(b []byte) uint16 {
	c := uint16(0xFFFF)
	for _, x := range b {
		c = c<<8 ^ table[byte(c>>8)^x]
	}
	return c
}

var table = func() (t [256]uint16) {
	for i := range t {
		c := uint16(i) << 8
		for range 8 {
			if c&0x8000 != 0 {
				c = c<<1 ^ 0x1021
			} else {
				c <<= 1
			}
		}
		t[i] = c
	}
	return t
}()

// frame is a request on the wire.
func frame(head byte, body []byte) []byte {
	f := make([]byte, 4, 6+len(body))
	f[0], f[1] = askMark, head
	binary.LittleEndian.PutUint16(f[2:], uint16(len(body)))
	f = append(f, body...)
	return binary.LittleEndian.AppendUint16(f, check(f[1:]))
}

// said is a reply.
type said struct {
	head, status byte
	body         []byte
}

// scan takes the first sound reply out of what came, and gives what follows it.
// spoilt tells that a whole frame was there whose check is wrong.
func scan(in []byte) (reply *said, rest []byte, spoilt bool) {
	for len(in) > 0 {
		if in[0] != sayMark {
			in = in[1:]
			continue
		}
		if len(in) < 4 {
			return nil, in, spoilt
		}
		n := int(binary.LittleEndian.Uint16(in[2:]))
		if n == 0 || n > mostBody {
			in = in[1:]
			continue
		}
		if len(in) < 6+n {
			return nil, in, spoilt
		}
		if check(in[1:4+n]) != binary.LittleEndian.Uint16(in[4+n:]) {
			in, spoilt = in[1:], true
			continue
		}
		return &said{in[1], in[4], in[5 : 4+n]}, in[6+n:], false
	}
	return nil, nil, spoilt
}

// pages is a run of pages of one size, as the unit tells.
type pages struct {
	first uint64
	count int
	size  uint64
}

func (p pages) end() uint64 { return p.first + uint64(p.count)*p.size }

// record is what a unit tells of itself, section 5.
type record struct {
	version   byte
	chip      uint32
	abilities uint16
	piece     int
	grain     int
	locked    bool
	bank      uint64
	runs      []pages
}

// parse reads a record; ok is false for what is none.
func parse(b []byte) (r record, ok bool) {
	le := binary.LittleEndian
	if len(b) < 16 || b[0] == 0 {
		return r, false
	}
	r = record{version: b[0], chip: le.Uint32(b[1:]), abilities: le.Uint16(b[5:]), piece: int(le.Uint16(b[7:])), grain: int(b[9]), locked: b[10]&1 != 0, bank: uint64(le.Uint32(b[11:]))}
	n := int(b[15])
	if n == 0 || len(b) < 16+10*n || r.piece < 16 || r.piece > 1024 || r.grain == 0 || r.piece%r.grain != 0 {
		return r, false
	}
	end := uint64(0)
	for i := range n {
		x := b[16+10*i:]
		p := pages{uint64(le.Uint32(x)), int(le.Uint16(x[4:])), uint64(le.Uint32(x[6:]))}
		if p.count == 0 || p.size == 0 || p.first < end || p.end() > 1<<32 {
			return r, false
		}
		end = p.end()
		r.runs = append(r.runs, p)
	}
	return r, true
}

// whole is the stretch from the first page to the last.
func (r record) whole() (from, length uint64) {
	from = r.runs[0].first
	return from, r.runs[len(r.runs)-1].end() - from
}

// page finds the page that an address lies in.
func (r record) page(at uint64) (from, size uint64, ok bool) {
	for _, p := range r.runs {
		if at >= p.first && at < p.end() {
			return at - (at-p.first)%p.size, p.size, true
		}
	}
	return 0, 0, false
}

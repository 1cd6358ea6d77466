package sim

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// The unit's side of a YMODEM transfer that a monitor has begun, from Forsberg,
// "XMODEM/YMODEM Protocol Reference" (1988): one file each way.

// transfer takes bytes off what has arrived; it is over when ended says so.
type transfer interface {
	feed() bool // took something
}

// fileIn receives one file and hands it on; a transfer that breaks off hands on nil.
type fileIn struct {
	u     *Unit
	next  byte
	named bool
	last  bool // the file is whole; the empty block 0 is to come
	size  int
	data  []byte
	tick  int
	quiet int // waits in a row in which nothing came
	done  func(name string, data []byte)
	name  string
}

func newFileIn(u *Unit, done func(string, []byte)) *fileIn {
	f := &fileIn{u: u, size: -1, done: done}
	f.ask()
	return f
}

// ask sends C, and again as long as nothing comes.
func (f *fileIn) ask() {
	f.u.speak([]byte{'C'}, f.u.busy)
	f.await(3*time.Second, func() { f.ask() })
}

// await does something if nothing comes for a time; after ten such times the transfer
// is given up.
func (f *fileIn) await(d time.Duration, do func()) {
	f.tick++
	tick, u := f.tick, f.u
	u.afterWaiting(d, func() {
		if f.tick != tick || f.done == nil {
			return
		}
		if f.quiet++; f.quiet > 10 {
			f.end(nil)
			return
		}
		u.rx = u.rx[:0]
		do()
	})
}

func (f *fileIn) end(data []byte) {
	done := f.done
	f.done = nil
	f.tick++
	if done != nil {
		done(f.name, data)
	}
}

func (f *fileIn) feed() bool {
	u := f.u
	for len(u.rx) > 0 && u.rx[0] != soh && u.rx[0] != stx && u.rx[0] != eot && u.rx[0] != can {
		u.rx = append(u.rx[:0], u.rx[1:]...)
	}
	if len(u.rx) == 0 {
		return false
	}
	say := func(b ...byte) { u.speak(b, u.busy) }
	nakLater := func() { f.await(10*time.Second, func() { say(nak) }) }
	switch u.rx[0] {
	case eot:
		u.rx = u.rx[:0]
		say(ack)
		if !f.last {
			f.last, f.next = true, 0
			f.ask()
		}
		return true
	case can:
		if len(u.rx) < 2 {
			return false
		}
		u.rx = u.rx[:0]
		f.end(nil)
		return true
	}
	size := 128
	if u.rx[0] == stx {
		size = 1024
	}
	if len(u.rx) < size+5 {
		u.stalled(func() { say(nak) })
		return false
	}
	b := bytes.Clone(u.rx[:size+5])
	u.rx = append(u.rx[:0], u.rx[size+5:]...)
	data, sum := b[3:size+3], uint16(b[size+3])<<8|uint16(b[size+4])
	f.quiet = 0
	u.piece++
	switch {
	case b[1] != ^b[2] || crc16(data) != sum:
		u.rx = u.rx[:0]
		say(nak)
		nakLater()
	case b[1] == f.next-1 && !(b[1] == 0 && f.last): // the one before, again
		say(ack)
		if b[1] == 0 {
			say('C')
		}
		nakLater()
	case b[1] != f.next:
		say(can, can)
		f.end(nil)
	case f.last:
		say(ack)
		if len(f.data) >= f.size && f.size >= 0 {
			f.data = f.data[:f.size]
		}
		if f.data == nil {
			f.data = []byte{}
		}
		f.end(f.data)
	case !f.named:
		name, rest, _ := bytes.Cut(data, []byte{0})
		f.name, f.named, f.next = string(name), true, 1
		text, _, _ := strings.Cut(string(bytes.TrimRight(rest, "\x00")), " ")
		if n, err := strconv.Atoi(text); err == nil {
			f.size = n
		}
		say(ack)
		f.ask()
	default:
		f.data = append(f.data, data...)
		f.next++
		say(ack)
		nakLater()
	}
	return true
}

// fileOut sends one file.
type fileOut struct {
	u      *Unit
	blocks [][]byte // all that is sent, in order; EOT is one byte
	at     int
	wait   byte // what must come before the block in hand is sent for the first time: C, or nothing
	sent   bool
	done   func(ok bool)
	cans   int
}

func newFileOut(u *Unit, name string, data []byte, done func(bool)) *fileOut {
	f := &fileOut{u: u, done: done}
	head := make([]byte, 128)
	copy(head, fmt.Sprintf("%s\x00%d", name, len(data)))
	f.blocks = append(f.blocks, fileBlock(0, head))
	for n := byte(1); len(data) > 0; n++ {
		size := 1024
		if len(data) <= 128 {
			size = 128
		}
		b := bytes.Repeat([]byte{0x1A}, size)
		data = data[copy(b, data):]
		f.blocks = append(f.blocks, fileBlock(n, b))
	}
	f.blocks = append(f.blocks, []byte{eot}, fileBlock(0, make([]byte, 128)))
	return f
}

func fileBlock(n byte, data []byte) []byte {
	head := byte(soh)
	if len(data) == 1024 {
		head = stx
	}
	sum := crc16(data)
	return append(append([]byte{head, n, ^n}, data...), byte(sum>>8), byte(sum))
}

// onAsk tells whether the block in hand is sent when the receiver asks with C.
func (f *fileOut) onAsk() bool { return f.at == 0 || f.at == 1 || f.at == len(f.blocks)-1 }

func (f *fileOut) feed() bool {
	u := f.u
	if len(u.rx) == 0 || f.done == nil {
		return false
	}
	c := u.rx[0]
	u.rx = append(u.rx[:0], u.rx[1:]...)
	if c != can {
		f.cans = 0
	}
	switch {
	case c == can:
		if f.cans++; f.cans == 2 {
			f.end(false)
		}
	case c == 'C' && f.onAsk(), c == nak && f.sent:
		f.put()
	case c == ack && f.sent:
		f.at++
		f.sent = false
		switch {
		case f.at == len(f.blocks):
			f.end(true)
		case !f.onAsk():
			f.put()
		}
	}
	return true
}

func (f *fileOut) put() {
	f.sent = true
	f.u.speak(f.blocks[f.at], f.u.busy)
}

func (f *fileOut) end(ok bool) {
	done := f.done
	f.done = nil
	done(ok)
}

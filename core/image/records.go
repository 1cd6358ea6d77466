package image

import (
	"bytes"
	"io"
	"runtime"

	"zealousferry/core"
)

// Record is a line of a format whose lines are a few characters and then hex.
// It is good until the next one is asked for.
type Record struct {
	Line  int64
	Head  [2]byte // its first characters; 0 where there are none
	Text  int     // characters of the line without trailing blanks, at least 1
	Raw   []byte  // what its hex digits spell
	Sum   byte    // of Raw
	Bad   int     // column of the first character that is no hex digit, from 1; 0 for none
	Wrong byte    // that character

	// Many records of nothing but data, line behind line, of as many bytes each and
	// side by side in memory, come as one: Line is that of the first, Data what all
	// of them hold from Address on. 0 for a record of another kind.
	Many    int
	Address uint64
	Data    []byte
}

// Each is the number of bytes in each of Many records.
func (r *Record) Each() int { return len(r.Data) / r.Many }

// Remark tells whether the line is a comment.
func (r *Record) Remark() bool { return Comment(r.Head[:1]) }

// Odd tells whether a digit is missing.
func (r *Record) Odd(prefix int) bool { return (r.Text-prefix)%2 != 0 }

// Records reads a text whose lines end in CR, LF or CRLF. Stretches of it are
// read on all cores; the caller gets the records in order. Blank lines are
// counted and passed over. Memory is bounded, whatever the text's size.
type Records struct {
	Line int64 // number of the line that Next gave last, or at which it ended, from 1

	form   Form
	order  chan *stretch
	spare  chan *stretch
	work   chan *stretch
	stop   chan struct{}
	now    *stretch
	at     int
	before int64 // lines before the stretch in hand
}

// Form is what lines of a format look like.
type Form struct {
	Most    int    // characters of the longest line
	Longest string // what that is, e.g. "the longest record"
	Prefix  int    // characters at a line's beginning that are no digits

	// Data is the bytes of a record that is right and holds nothing but data, and their
	// address, which does not run over within it. It is called from several cores.
	Data func(*Record) (address uint64, data []byte, is bool)
}

// stretch is some whole lines and the records in them, with line numbers that
// count from its beginning.
type stretch struct {
	text    []byte
	raw     []byte
	records []Record
	record  Record // the one in hand
	lines   int64
	tooLong int64 // the line that is longer than allowed; 0 for none
	err     error // behind the text
	done    chan struct{}
}

const (
	stretchBytes = 64 << 10
	stretches    = 8
)

// NewRecords reads lines of a form. Close must be called.
func NewRecords(r io.Reader, f Form) *Records {
	x := &Records{form: f, order: make(chan *stretch, stretches), spare: make(chan *stretch, stretches), work: make(chan *stretch, stretches), stop: make(chan struct{})}
	for range stretches {
		x.spare <- &stretch{text: make([]byte, 0, stretchBytes), raw: make([]byte, stretchBytes/2), done: make(chan struct{}, 1)}
	}
	x.now = &stretch{}
	go x.split(r)
	for range min(runtime.GOMAXPROCS(0), 4) {
		go func() {
			for s := range x.work {
				s.read(&x.form)
				s.done <- struct{}{}
			}
		}()
	}
	return x
}

// split cuts the text into stretches behind line ends.
func (x *Records) split(r io.Reader) {
	defer close(x.work)
	var rest []byte
	for {
		var s *stretch
		select {
		case s = <-x.spare:
		case <-x.stop:
			return
		}
		s.err = nil
		s.text = append(s.text[:0], rest...)
		for len(s.text) < stretchBytes && s.err == nil {
			var n int
			n, s.err = r.Read(s.text[len(s.text):stretchBytes])
			s.text = s.text[:len(s.text)+n]
		}
		rest = rest[:0]
		if s.err == nil {
			cut := bytes.LastIndexByte(s.text, '\n') + 1
			if cut == 0 { // a CR at the very end may have its LF behind it
				cut = bytes.LastIndexByte(s.text[:len(s.text)-1], '\r') + 1
			}
			if cut == 0 {
				cut = len(s.text) // a line longer than any; it is refused
				s.err = io.EOF
			}
			rest = append(rest, s.text[cut:]...)
			s.text = s.text[:cut]
		}
		end := s.err != nil
		select {
		case x.order <- s:
			x.work <- s // has room for every stretch
		case <-x.stop:
			return
		}
		if end {
			return
		}
	}
}

// read finds the records of the text. Nearly all texts end their lines alike: CRs
// are looked for only where counting shows that one stands alone.
func (s *stretch) read(f *Form) {
	crs := bytes.Count(s.text, []byte{'\r'})
	if s.cut(f, false) != crs {
		s.cut(f, true)
	}
	s.closeUp() // the last ones
}

// cut returns how many CRs stood before an LF.
func (s *stretch) cut(f *Form, lone bool) (paired int) {
	s.records, s.lines, s.tooLong = s.records[:0], 0, 0
	text := s.text
	used := 0 // of raw
	for at := 0; at < len(text); {
		end, next := len(text), len(text)
		if i := bytes.IndexByte(text[at:], '\n'); i >= 0 {
			end, next = at+i, at+i+1
			if i > 0 && text[end-1] == '\r' {
				end--
				paired++
			}
		}
		if lone {
			if c := bytes.IndexByte(text[at:end], '\r'); c >= 0 {
				end, next = at+c, at+c+1
			}
		}
		line := text[at:end]
		at = next
		s.lines++
		for len(line) > 0 && (line[len(line)-1] == ' ' || line[len(line)-1] == '\t') {
			line = line[:len(line)-1]
		}
		if len(line) == 0 {
			continue
		}
		if len(line) > f.Most {
			s.tooLong = s.lines
			return paired
		}
		r := &s.record
		*r = Record{Line: s.lines, Text: len(line), Head: [2]byte{line[0]}}
		if len(line) > 1 {
			r.Head[1] = line[1]
		}
		if len(line) > f.Prefix {
			digits := line[f.Prefix:]
			r.Raw = s.raw[used : used+len(digits)/2]
			sum, bad := Hex(r.Raw, digits)
			if r.Sum = sum; bad >= 0 {
				r.Bad, r.Wrong = f.Prefix+bad+1, digits[bad]
			}
		}
		used += len(r.Raw)
		if address, data, is := f.Data(r); is && len(data) > 0 {
			if s.joins(address, data) {
				continue
			}
			r.Many, r.Address, r.Data = 1, address, data
		}
		s.closeUp()
		s.records = append(s.records, *r)
	}
	return paired
}

// joins counts the record in hand to the one before, if both belong together.
func (s *stretch) joins(address uint64, data []byte) bool {
	if len(s.records) == 0 {
		return false
	}
	r := &s.records[len(s.records)-1]
	each := uint64(len(r.Data))
	if r.Many == 0 || r.Head != s.record.Head || r.Address+uint64(r.Many)*each != address || len(r.Data) != len(data) || len(r.Raw) != len(s.record.Raw) || r.Line+int64(r.Many) != s.lines {
		return false
	}
	r.Many++
	return true
}

// closeUp puts the data of the records that came as one side by side. It is done for all of them at once: a
// processor waits for what it has just written in smaller pieces.
func (s *stretch) closeUp() {
	if len(s.records) == 0 {
		return
	}
	r := &s.records[len(s.records)-1]
	each, apart := len(r.Data), len(r.Raw)
	if r.Many < 2 || each == 0 || apart == 0 {
		return
	}
	all := r.Data[:(r.Many-1)*apart+each]
	for i := 1; i < r.Many; i++ {
		copy(all[i*each:], all[i*apart:i*apart+each])
	}
	r.Data, r.Raw = all[:r.Many*each], nil
}

// Next gives the next record. The error is io.EOF at the end, and has kind
// bad-file otherwise.
func (x *Records) Next() (*Record, error) {
	for x.at == len(x.now.records) {
		s := x.now
		if s.tooLong > 0 {
			x.Line = x.before + s.tooLong
			return nil, core.BadAt(core.Line(x.Line), "longer than the %d characters of %s", x.form.Most, x.form.Longest).Do(FetchAgain)
		}
		x.before += s.lines
		if s.err == io.EOF {
			x.Line = x.before + 1
			return nil, io.EOF
		}
		if s.err != nil {
			x.Line = x.before + 1
			return nil, core.BadAt(core.Line(x.Line), "%w", s.err)
		}
		if s.done != nil {
			s.lines = 0
			x.spare <- s
		}
		x.now, x.at = <-x.order, 0
		<-x.now.done
	}
	r := &x.now.records[x.at]
	x.at++
	r.Line += x.before
	x.Line = r.Line
	return r, nil
}

// Close ends the reading.
func (x *Records) Close() { close(x.stop) }

// Each gives every record that is no remark to f, until f says that the file has
// ended with it. A remark is a warning, anything behind the end an error.
func (x *Records) Each(b *Builder, f func(*Record) (ended bool, err error)) (ended bool, err error) {
	for {
		r, err := x.Next()
		if err == io.EOF {
			return ended, nil
		}
		if err != nil {
			return ended, err
		}
		switch {
		case r.Remark():
			b.Warn(core.Say("line %d is a remark, which the format does not know; it was passed over", r.Line))
		case ended:
			return ended, core.BadAt(core.Line(r.Line), "text after the end record").Do(FetchAgain)
		default:
			if ended, err = f(r); err != nil {
				return ended, err
			}
		}
	}
}

// FetchAgain is what to do about a damaged file.
const FetchAgain = "Fetch the file again from where it came; nothing of it was used."

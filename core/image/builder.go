package image

import (
	"cmp"
	"slices"

	"zealousferry/core"
	"zealousferry/core/words"
)

// Bounds of what one file may hold.
const (
	MaxPayload  = 256 << 20 // bytes
	MaxSegments = 1 << 15   // pieces that do not touch
	maxMarks    = 1 << 18   // places kept to name in errors
	maxRunning  = 8 << 10   // pieces that wait for sorting
	merged      = 1 << 20   // pieces grow to this size by merging
)

// Builder puts records together in whatever order they come. Bytes that come in
// the order of their addresses are copied once.
type Builder struct {
	Unit   string // what places count: line or offset
	Size   int64  // of the bytes to come, where that is known; a guess does no harm
	Counts        // which record counts where two give different bytes; none means that such a file is refused

	runs     []run
	made     int // runs that were begun
	marks    int
	total    int
	warnings []core.Said
	start    *uint64
	notes    []Note
	repeated int
	reserved int64
	next     int // number of runs at which they are sorted again
}

// run is bytes side by side, and where they came from.
type run struct {
	Segment
	marks []mark
	nth   int // in the order of the file
}

// mark says that records of step bytes each came from places that grow by pace,
// from offset off on.
type mark struct {
	off    uint64
	place  int64
	step   uint32
	pace   uint32
	last   uint64 // offset of the newest record
	newest int64  // and its place
}

func (m *mark) at(off uint64) int64 {
	if m.step == 0 {
		return m.place
	}
	return m.place + int64(min(off, m.last)-m.off)/int64(m.step)*int64(m.pace)
}

// Add puts in a record. place is the number of its line, or its offset.
func (b *Builder) Add(address uint64, data []byte, place int64) error {
	if len(data) == 0 {
		return nil
	}
	if address+uint64(len(data)) < address {
		return core.BadAt(b.at(place), "%d bytes at 0x%X run past the end of the address space", len(data), address)
	}
	if b.total += len(data); b.total > MaxPayload {
		return core.BadAt(b.at(place), "the file holds more than %d MiB", MaxPayload>>20)
	}
	if n := len(b.runs); n > 0 {
		if last := &b.runs[n-1]; last.End() == address {
			b.mark(last, uint64(len(last.Data)), place)
			if len(last.Data)+len(data) > cap(last.Data) {
				b.grow(last, len(data))
			}
			last.Data = append(last.Data, data...)
			return nil
		}
	}
	if len(b.runs) >= max(maxRunning, b.next) {
		if err := b.settle(merged); err != nil {
			return err
		}
		if len(b.runs) > MaxSegments {
			return core.BadAt(b.at(place), "more than %d pieces that do not touch; a firmware file has a few", MaxSegments)
		}
		b.next = min(2*len(b.runs), MaxSegments+1)
	}
	b.made++
	r := run{Segment: Segment{Address: address}, nth: b.made}
	b.mark(&r, 0, place)
	r.Data = append(r.Data, data...)
	b.runs = append(b.runs, r)
	return nil
}

// AddEach is Add for records of each bytes, side by side in memory and from places
// one behind the other, the first of them from place.
func (b *Builder) AddEach(address uint64, data []byte, each int, place int64) error {
	for n := len(b.runs); n == 0 || b.runs[n-1].End() != address || b.total+len(data) > MaxPayload; n = len(b.runs) {
		first := min(each, len(data)) // begins a piece, or is the one too many
		if err := b.Add(address, data[:first], place); err != nil || first == len(data) {
			return err
		}
		address, data, place = address+uint64(first), data[first:], place+1
	}
	last := &b.runs[len(b.runs)-1]
	from := uint64(len(last.Data))
	for off := 0; off < len(data); off += each {
		b.mark(last, from+uint64(off), place+int64(off/each))
		if m := &last.marks[len(last.marks)-1]; off > 0 && int(m.step) == each && m.pace == 1 { // and so all that follow
			n := (len(data) - 1) / each
			m.last, m.newest = from+uint64(n*each), place+int64(n)
			break
		}
	}
	b.total += len(data)
	if len(last.Data)+len(data) > cap(last.Data) {
		b.grow(last, len(data))
	}
	last.Data = append(last.Data, data...)
	return nil
}

// Give is Add for bytes that nobody else uses: they are not copied where they
// begin a piece of their own.
func (b *Builder) Give(address uint64, data []byte, place int64) error {
	if n := len(b.runs); len(data) == 0 || n > 0 && b.runs[n-1].End() == address || address+uint64(len(data)) < address || b.total+len(data) > MaxPayload {
		return b.Add(address, data, place)
	}
	b.total += len(data)
	b.made++
	r := run{Segment: Segment{Address: address}, nth: b.made}
	b.mark(&r, 0, place)
	r.Data = data
	b.runs = append(b.runs, r)
	return nil
}

// grow makes room in a run. Large ones take in one go what may still come, as long
// as that is not taken too often: room that is never touched costs no memory,
// copying does.
func (b *Builder) grow(r *run, n int) {
	need := len(r.Data) + n
	if need < 256<<10 {
		return
	}
	room := b.Size - int64(b.total-n)
	if b.reserved += room; b.reserved > 4*b.Size {
		room = min(room, 2*int64(need))
	}
	if room > int64(n) {
		r.Data = append(Room(len(r.Data)+int(room)), r.Data...)
	}
}

// mark notes the place of a record that is about to be put behind r, at off.
func (b *Builder) mark(r *run, off uint64, place int64) {
	if n := len(r.marks); n > 0 {
		m := &r.marks[n-1]
		step, pace := off-m.last, place-m.newest
		if uint64(m.step) == step && int64(m.pace) == pace {
			m.last, m.newest = off, place
			return
		}
		if m.step == 0 && step < 1<<31 && pace >= 0 && pace <= 1<<20 {
			m.step, m.pace, m.last, m.newest = uint32(step), uint32(pace), off, place
			return
		}
		if b.marks >= maxMarks {
			return
		}
	}
	b.marks++
	r.marks = append(r.marks, mark{off: off, place: place, last: off, newest: place})
}

// where is the place from which the byte at address came.
func (r *run) where(address uint64) int64 {
	off := address - r.Address
	i, found := slices.BinarySearchFunc(r.marks, off, func(m mark, off uint64) int { return cmp.Compare(m.off, off) })
	if !found && i > 0 {
		i--
	}
	if i >= len(r.marks) {
		return 0
	}
	return r.marks[i].at(off)
}

func (b *Builder) at(place int64) core.Place {
	if b.Unit == "" {
		return core.Offset(place)
	}
	return core.Place{Unit: b.Unit, N: place}
}

// SetStart names the entry point.
func (b *Builder) SetStart(address uint64) { b.start = &address }

// Note keeps something that the file says beside its bytes.
func (b *Builder) Note(name, value string) { b.notes = append(b.notes, Note{name, value}) }

// Warn adds a warning; after a hundred of them the rest is passed over.
func (b *Builder) Warn(says core.Said) {
	if len(b.warnings) < 100 {
		b.warnings = append(b.warnings, says)
	}
}

// settle sorts the runs and merges those that touch into pieces of at most limit
// bytes. Two records that give different bytes to an address are an error, unless it
// was said which of them counts; equal ones are a warning.
func (b *Builder) settle(limit int) error {
	sorted := slices.IsSortedFunc(b.runs, func(x, y run) int { return cmp.Compare(x.Address, y.Address) })
	if !sorted {
		slices.SortStableFunc(b.runs, func(x, y run) int { return cmp.Compare(x.Address, y.Address) })
	}
	out := b.runs[:0]
	for i := 0; i < len(b.runs); {
		// Runs i to j-1 touch and fit into one piece.
		first := &b.runs[i]
		end, size, j := first.End(), len(first.Data), i+1
		for j < len(b.runs) && b.runs[j].Address <= end && (b.runs[j].Address < end || size+len(b.runs[j].Data) <= limit) {
			end = max(end, b.runs[j].End())
			size = int(end - first.Address)
			j++
		}
		joined, err := b.join(b.runs[i:j], end)
		if err != nil {
			return err
		}
		for k := i; k < j; k++ {
			b.runs[k] = run{}
		}
		out = append(out, joined)
		i = j
	}
	clear(b.runs[len(out):])
	b.runs = out
	return nil
}

func (b *Builder) join(runs []run, end uint64) (run, error) {
	all := runs[0]
	if len(runs) == 1 {
		return all, nil
	}
	if size := int(end - all.Address); cap(all.Data) < size {
		all.Data = append(make([]byte, 0, size), all.Data...)
	}
	given, differ := slices.Clone(runs), false
	for i := 1; i < len(runs); i++ {
		r := &runs[i]
		over := 0
		if all.End() > r.Address {
			over = int(min(all.End()-r.Address, uint64(len(r.Data))))
			off := r.Address - all.Address
			for k := range over {
				if all.Data[off+uint64(k)] != r.Data[k] {
					if b.Counts != "" {
						differ = true
						at := r.Address + uint64(k)
						one, two := all.where(at), r.where(at)
						b.Warn(core.Say("%s and %s give different bytes at 0x%X; the %s of them counts, as was said", b.at(min(one, two)), b.at(max(one, two)), at, b.Counts))
						break
					}
					at := r.Address + uint64(k)
					one, two := all.where(at), r.where(at)
					if one > two {
						one, two = two, one
					}
					x, y := all.byteFrom(at), r.Data[k]
					if all.where(at) != one {
						x, y = y, x
					}
					e := core.BadAt(b.at(two), "gives byte 0x%X as 0x%02X, %s gave it as 0x%02X", at, y, b.at(one), x)
					return all, e.Do("Ask the maker which of the two is meant; nothing of the file was used.").Go(words.ReleaseCounts().To("A lead who knows can say which one counts"))
				}
			}
			if b.repeated++; !differ && b.repeated <= 20 {
				b.Warn(core.Say("%s repeats %d bytes at 0x%X that %s has already given, with the same value", b.at(r.where(r.Address)), over, r.Address, b.at(all.where(r.Address))))
			}
		}
		if over < len(r.Data) {
			for _, m := range r.marks {
				if m.last < uint64(over) {
					continue
				}
				shift := r.Address - all.Address
				if m.off < uint64(over) { // the first part of these records is there already
					m.place, m.off = m.at(uint64(over)), uint64(over)
				}
				m.off, m.last = m.off+shift, m.last+shift
				all.marks = append(all.marks, m)
			}
			all.Data = append(all.Data, r.Data[over:]...)
		}
		r.Data = nil
	}
	if differ {
		all.Data = b.paint(given, all.Address, len(all.Data))
	}
	for _, r := range given {
		all.nth = max(all.nth, r.nth)
	}
	return all, nil
}

// paint lays runs over each other so that the one that counts comes on top.
func (b *Builder) paint(runs []run, from uint64, size int) []byte {
	slices.SortFunc(runs, func(x, y run) int {
		if b.Counts == First {
			x, y = y, x
		}
		return cmp.Compare(x.nth, y.nth)
	})
	out := make([]byte, size)
	for _, r := range runs {
		copy(out[r.Address-from:], r.Data)
	}
	return out
}

func (r *run) byteFrom(address uint64) byte { return r.Data[address-r.Address] }

// Image ends the building. The builder must not be used afterwards.
func (b *Builder) Image() (*Image, error) {
	if err := b.settle(MaxPayload); err != nil {
		return nil, err
	}
	if len(b.runs) > MaxSegments {
		return nil, core.Fail(core.BadFile, "the file holds %d pieces that do not touch; at most %d are read", len(b.runs), MaxSegments)
	}
	im := &Image{Start: b.start, Notes: b.notes}
	im.Segments = make([]Segment, 0, len(b.runs))
	for _, r := range b.runs {
		im.Segments = append(im.Segments, r.Segment)
	}
	if b.repeated > 20 {
		b.Warn(core.Say("%d more places were given twice, with the same value", b.repeated-20))
	}
	im.Warnings = b.warnings
	return im, nil
}

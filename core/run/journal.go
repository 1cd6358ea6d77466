package run

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash"
	"hash/crc32"

	"zealousferry/core"
	"zealousferry/core/words"
)

// File is a journal's file. Nothing counts as kept before Sync has returned.
type File interface {
	ReadAt(p []byte, off int64) (int, error)
	WriteAt(p []byte, off int64) (int, error)
	// Size is the number of bytes written, without reserved space.
	Size() (int64, error)
	Sync() error
	Truncate(size int64) error
	// Reserve makes sure that n more bytes can be written; no-space if not.
	Reserve(n int64) error
	Close() error
}

// A record is: payload length (u32), CRC-32C of the length, CRC-32C of the
// payload, payload; numbers are little endian.
const (
	recordHead = 12
	maxRecord  = 4 << 20
	maxJournal = 256 << 20
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Journal is the events of one run on disk. One goroutine writes it.
type Journal struct {
	file   File
	size   int64
	hash   hash.Hash
	epoch  uint64
	broken error
	events []Event
	state  State
	pace   *pace
}

// OpenJournal reads what the file holds. A torn last record is cut off; any
// other damage is an error of kind bad-file that names the offset.
func OpenJournal(f File) (*Journal, error) {
	size, err := f.Size()
	if err != nil {
		return nil, err
	}
	if size > maxJournal {
		return nil, core.Fail(core.BadFile, "a journal of %d bytes is larger than any run makes", size)
	}
	raw := make([]byte, size)
	if n, err := f.ReadAt(raw, 0); n < len(raw) {
		return nil, core.Fail(core.BadFile, "the journal cannot be read: %w", err)
	}
	j := &Journal{file: f, hash: sha256.New()}
	end, err := j.scan(raw)
	if err != nil {
		return nil, err
	}
	j.size = int64(end)
	if j.size < size {
		if err := f.Truncate(j.size); err != nil {
			return nil, err
		}
		if err := f.Sync(); err != nil {
			return nil, err
		}
	}
	return j, nil
}

// Rebuild writes the events of a run that another bench has begun into an empty file,
// as they were received, so that the journal is the same to the byte.
func Rebuild(f File, events [][]byte) (*Journal, error) {
	if size, err := f.Size(); err != nil || size > 0 {
		return nil, core.Fail(core.Busy, "there is a journal of this run already")
	}
	var raw []byte
	for _, payload := range events {
		raw = frame(raw, payload)
	}
	if _, err := f.WriteAt(raw, 0); err != nil {
		return nil, err
	}
	if err := f.Sync(); err != nil {
		return nil, err
	}
	return OpenJournal(f)
}

// frame appends a record to raw.
func frame(raw, payload []byte) []byte {
	at := len(raw)
	raw = binary.LittleEndian.AppendUint32(raw, uint32(len(payload)))
	raw = binary.LittleEndian.AppendUint32(raw, crc32.Checksum(raw[at:at+4], castagnoli))
	raw = binary.LittleEndian.AppendUint32(raw, crc32.Checksum(payload, castagnoli))
	return append(raw, payload...)
}

// scan returns the offset behind the last whole record.
func (j *Journal) scan(raw []byte) (int, error) {
	at := 0
	damaged := func(why string) error {
		return core.Fail(core.BadFile, "the journal is damaged at offset %d, after event %d: %s", at, len(j.events), why).
			Do("Keep the file; restore the unit from the backup that the service holds.")
	}
	for at < len(raw) {
		rest := raw[at:]
		if len(rest) < recordHead || zero(rest) {
			return at, nil
		}
		n := binary.LittleEndian.Uint32(rest)
		if crc32.Checksum(rest[:4], castagnoli) != binary.LittleEndian.Uint32(rest[4:]) || n > maxRecord {
			return at, damaged("the length of a record is not what was written")
		}
		if uint64(len(rest)) < recordHead+uint64(n) {
			return at, nil
		}
		payload := rest[recordHead : recordHead+n]
		if crc32.Checksum(payload, castagnoli) != binary.LittleEndian.Uint32(rest[8:]) {
			if len(rest) == recordHead+int(n) {
				return at, nil
			}
			return at, damaged("a record's checksum is wrong")
		}
		var e Event
		if err := json.Unmarshal(payload, &e); err != nil {
			return at, damaged(err.Error())
		}
		if err := j.take(e); err != nil {
			return at, damaged(err.Error())
		}
		j.hash.Write(rest[:recordHead+n])
		at += recordHead + int(n)
	}
	return at, nil
}

func zero(b []byte) bool {
	for _, c := range b {
		if c != 0 {
			return false
		}
	}
	return true
}

// take adds an event to the state.
func (j *Journal) take(e Event) error {
	if want := uint64(len(j.events)) + 1; e.N != want {
		return fmt.Errorf("event %d stands in the place of %d", e.N, want)
	}
	if err := j.state.Apply(e); err != nil {
		return err
	}
	j.events = append(j.events, e)
	j.epoch = e.Epoch
	return nil
}

// Append writes an event about the run; see AppendOf.
func (j *Journal) Append(kind string, body any, flush bool) (Event, error) {
	return j.AppendOf("", kind, body, flush)
}

// AppendOf writes an event about a section; with flush it returns only when the
// event is on disk. After one failure every later call fails: nobody knows what the
// disk holds.
func (j *Journal) AppendOf(section, kind string, body any, flush bool) (Event, error) {
	if j.broken != nil {
		return Event{}, j.broken
	}
	raw, err := json.Marshal(body)
	if err != nil {
		return Event{}, err
	}
	e := Event{Schema: Schema, N: uint64(len(j.events)) + 1, Epoch: max(j.epoch, 1), Kind: kind, Section: section, Body: raw}
	e.At, e.Mono = j.pace.now()
	if t, ok := body.(TakenUp); ok {
		e.Epoch = t.Epoch
	}
	payload, err := json.Marshal(e)
	if err != nil {
		return Event{}, err
	}
	if len(payload) > maxRecord {
		return Event{}, fmt.Errorf("an event of %d bytes is too large", len(payload))
	}
	record := frame(make([]byte, 0, recordHead+len(payload)), payload)
	if _, err = j.file.WriteAt(record, j.size); err == nil && flush {
		err = j.file.Sync()
	}
	if err == nil {
		err = j.take(e)
	}
	if err != nil {
		j.broken = core.Fail(core.NoSpace, "the journal cannot be written: %w", err).
			Go(words.RunResume(j.name()).To("Make room on the bench's disk, then take the run up again"))
		return Event{}, j.broken
	}
	j.hash.Write(record)
	j.size += int64(len(record))
	return e, nil
}

func (j *Journal) name() string {
	if o := j.state.Opened; o != nil {
		return o.Run
	}
	return "RUN"
}

// Flush puts what was appended on disk.
func (j *Journal) Flush() error {
	if j.broken == nil {
		if err := j.file.Sync(); err != nil {
			j.broken = core.Fail(core.NoSpace, "the journal cannot be flushed: %w", err)
		}
	}
	return j.broken
}

// Broken is why the journal takes nothing more; nil if it does. It is read anew then.
func (j *Journal) Broken() error { return j.broken }

// Epoch is that of the newest event.
func (j *Journal) Epoch() uint64 { return max(j.epoch, 1) }

// Events are all events so far; the slice only grows.
func (j *Journal) Events() []Event { return j.events }

// State is what the events add up to.
func (j *Journal) State() *State { return &j.state }

// Digest is the SHA-256 of the journal's bytes so far.
func (j *Journal) Digest() (d core.Digest) {
	j.hash.Sum(d[:0])
	return d
}

// DigestOf is what Digest gives for a journal of these events, as they were received.
func DigestOf(events [][]byte) (d core.Digest) {
	h, one := sha256.New(), []byte(nil)
	for _, payload := range events {
		one = frame(one[:0], payload)
		h.Write(one)
	}
	h.Sum(d[:0])
	return d
}

// Close closes the file.
func (j *Journal) Close() error { return j.file.Close() }

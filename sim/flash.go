package sim

import (
	"encoding/binary"
	"hash/crc32"
	"math/rand/v2"
	"os"
)

// flash is a memory that behaves like one: programming only clears bits, an
// erase sets whole sectors. It is kept in a file.
type flash struct {
	data   []byte
	file   *os.File
	sector uint64
	base   uint64
}

// openFlash reads the memory's file, or makes one that holds fresh.
func openFlash(path string, base, sector uint64, fresh func() []byte) (*flash, error) {
	f := &flash{sector: sector, base: base}
	if path == "" {
		f.data = fresh()
		return f, nil
	}
	data, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		data = fresh()
		err = os.WriteFile(path, data, 0o644)
	}
	if err != nil {
		return nil, err
	}
	f.data = data
	f.file, err = os.OpenFile(path, os.O_RDWR, 0)
	return f, err
}

func (f *flash) holds(address, length uint64) bool {
	return address >= f.base && address-f.base <= uint64(len(f.data)) && length <= uint64(len(f.data))-(address-f.base)
}

func (f *flash) slice(address, length uint64) []byte { return f.data[address-f.base:][:length] }

func (f *flash) keep(address, length uint64) error {
	if f.file == nil {
		return nil
	}
	_, err := f.file.WriteAt(f.slice(address, length), int64(address-f.base))
	return err
}

// program clears bits; it reports whether the cells now hold the data.
func (f *flash) program(address uint64, data []byte) bool {
	right := true
	cells, rest := f.slice(address, uint64(len(data))), data
	for len(rest) >= 8 {
		c := binary.LittleEndian.Uint64(rest)
		is := binary.LittleEndian.Uint64(cells) & c
		binary.LittleEndian.PutUint64(cells, is)
		right = right && is == c
		cells, rest = cells[8:], rest[8:]
	}
	for i, c := range rest {
		cells[i] &= c
		right = right && cells[i] == c
	}
	return f.keep(address, uint64(len(data))) == nil && right
}

func (f *flash) erase(address, length uint64) {
	cells := f.slice(address, length)
	for i := range cells {
		cells[i] = 0xFF
	}
	f.keep(address, length)
}

// ruin leaves what a sector holds when its erase was cut off.
func (f *flash) ruin(address, length uint64, r *rand.Rand) {
	cells := f.slice(address, length)
	for i := range cells {
		cells[i] |= byte(r.Uint32())
	}
	f.keep(address, length)
}

// A program begins with a header: "TIDE", the version in 24 bytes padded with
// zeros, its whole length (u32) and the CRC-32 (IEEE) of what follows the 36
// bytes of the header; numbers are little endian.
const programHead = 36

// Program makes a program image of the size; content is a pure function of the
// seed, and alike in most places for seeds of the same family.
func Program(version string, size int, family, seed uint64) []byte {
	b := make([]byte, size)
	common := rand.New(rand.NewPCG(family, 1))
	own := rand.New(rand.NewPCG(seed, 2))
	const block = 4096
	for at := 0; at < size; at += block {
		part := b[at:min(at+block, size)]
		from := common
		fill := make([]byte, block)
		for i := range fill {
			fill[i] = byte(common.Uint32())
		}
		copy(part, fill)
		if own.Uint32()%3 == 0 { // a third of it is this version's own
			from = own
			for i := range part {
				part[i] = byte(from.Uint32())
			}
		}
	}
	Seal(b, version)
	return b
}

// Seal puts in front of a program what makes it one: its version, its length and its
// checksum. Without it the unit does not start it.
func Seal(b []byte, version string) {
	copy(b, "TIDE")
	copy(b[4:28], make([]byte, 24))
	copy(b[4:28], version)
	binary.LittleEndian.PutUint32(b[28:], uint32(len(b)))
	binary.LittleEndian.PutUint32(b[32:], crc32.ChecksumIEEE(b[programHead:]))
}

// version reads the header of the program in memory; empty if no whole program
// is there.
func programVersion(b []byte) string {
	if len(b) < programHead || string(b[:4]) != "TIDE" {
		return ""
	}
	n := binary.LittleEndian.Uint32(b[28:])
	if uint64(n) > uint64(len(b)) || n < programHead || crc32.ChecksumIEEE(b[programHead:n]) != binary.LittleEndian.Uint32(b[32:]) {
		return ""
	}
	v := b[4:28]
	for i, c := range v {
		if c == 0 {
			return string(v[:i])
		}
	}
	return string(v)
}

// Faults are what can be wrong with a unit or its lead; they may be changed
// while it runs.
type Faults struct {
	Silent     bool    `json:"silent,omitempty"`     // it says nothing
	Noise      float64 `json:"noise,omitempty"`      // share of bytes with a flipped bit, each way
	Loss       float64 `json:"loss,omitempty"`       // share of bytes lost, each way
	Stuck      *uint64 `json:"stuck,omitempty"`      // address of a sector that no longer erases
	CutPower   int64   `json:"cutPower,omitempty"`   // power fails after so many more received bytes; 0 is never
	CutLead    int64   `json:"cutLead,omitempty"`    // the connection breaks after so many more received bytes
	Serial     string  `json:"serial,omitempty"`     // it gives another serial
	Revision   string  `json:"revision,omitempty"`   // it gives another revision
	Stubborn   string  `json:"stubborn,omitempty"`   // a setting that it says to have taken, and has not
	NoSettings bool    `json:"noSettings,omitempty"` // it takes no settings
	Flicker    *uint64 `json:"flicker,omitempty"`    // address whose byte is read wrong once
	RefuseAt   int     `json:"refuseAt,omitempty"`   // a module refuses a block after so many more, once
	ResetAt    int     `json:"resetAt,omitempty"`    // a module starts anew instead of taking a block after so many more, once
	Loose      bool    `json:"loose,omitempty"`      // of a helper tool: its clip is not on the header
	Stranger   bool    `json:"stranger,omitempty"`   // of a CAN adapter: another tester asks on its bus whenever the bench does
	Wiring
}

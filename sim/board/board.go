// Package board makes simulated units for model sheets.
package board

import (
	"bytes"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"sort"
	"strconv"
	"strings"
	"time"

	"zealousferry/core/memory"
	"zealousferry/core/model"
	"zealousferry/sim"
)

// Whole is the memory of a unit as its sheet has it, of all sections on its own link.
func Whole(sheet *model.Sheet) memory.Map {
	m := sheet.Main().Memory
	m.Regions = nil
	for _, x := range sheet.Sections {
		if x.Link == "" {
			m.Regions = append(m.Regions, x.Memory.Regions...)
		}
	}
	sort.Slice(m.Regions, func(i, j int) bool { return m.Regions[i].Address < m.Regions[j].Address })
	return m
}

// Board is a simulated unit for a sheet, with nothing in its memory.
func Board(sheet *model.Sheet, serial string) sim.Spec {
	x := *sheet.Main()
	x.Memory = Whole(sheet)
	s := Section(&x, serial)
	if s.Kind == "keel" {
		s.Says = strings.ToUpper(sheet.Model)
	}
	return s
}

// Section is a simulated board that is one section of a unit.
func Section(x *model.Section, serial string) sim.Spec {
	m, on := x.Memory, x.Loader.Serial()
	s := sim.Spec{Says: x.Loader.Says, Serial: serial, Revision: "D", Region: "inner-sound", Chip: "brine-7", Loader: "1.3",
		Base: m.Regions[0].Address, Size: int(m.Bytes()), Sector: int(m.Regions[0].Sector), Baud: on.Baud,
		WriteMax: 1024, ReadMax: 4096, Window: 16 << 10, Erase: 15 * time.Millisecond, Page: 350 * time.Microsecond, DigestBPS: 1 << 20,
		Seed: hash(serial)}
	if s.Sector > 4096 {
		s.Erase = 60 * time.Millisecond
	}
	s.Kind, s.Parity, s.OneWire = x.Loader.Kind, on.Parity, on.OneWire
	if s.Kind == "module" {
		s.Baud = sim.CanSpeed
	}
	if s.Kind == "keel" {
		id, _ := strconv.ParseUint(x.Loader.Says, 0, 32) // the sheet was made for it
		s.ChipID = uint32(id)
	}
	if x.Loader.Await > 0 {
		s.OpensFor = 800 * time.Millisecond
	}
	for _, r := range m.Regions {
		if r.Use == memory.Program && s.Program == 0 {
			s.Program = r.Address
		}
		if r.Use == memory.Settings && r.Length > settingsAt && s.Settings.Length == 0 {
			s.Settings = sim.Range{Address: r.Address + settingsAt, Length: r.Length - settingsAt}
		}
		if r.ReadOnly {
			s.Closed = append(s.Closed, sim.Range{Address: r.Address, Length: r.Length})
		}
	}
	return s
}

// settingsAt is where in its region a unit keeps its settings as text.
const settingsAt = 512

// Memory is a unit's memory as it came from the maker with a program in it: the
// loader, the settings and the identity are its own.
func Memory(sheet *model.Sheet, serial string, program []byte) []byte {
	return MemoryOf(Whole(sheet), sheet.Model, serial, program)
}

// MemoryOf is the same for a memory map.
func MemoryOf(m memory.Map, name, serial string, program []byte) []byte {
	b := bytes.Repeat([]byte{0xFF}, int(m.Bytes()))
	base := m.Regions[0].Address
	own := rand.New(rand.NewPCG(hash(serial), 3))
	common := rand.New(rand.NewPCG(hash(name), 4))
	for _, r := range m.Regions {
		part := b[r.Address-base:][:r.Length]
		switch r.Use {
		case memory.Loader:
			for i := range part {
				part[i] = byte(common.Uint32())
			}
		case memory.Program:
			copy(part, program)
			program = nil
		case memory.Settings:
			copy(part, fmt.Sprintf("SET1 serial=%s ", serial))
			for i := 64; i < 264; i++ {
				part[i] = byte(own.Uint32())
			}
			if len(part) > settingsAt {
				copy(part[settingsAt:], fmt.Sprintf("brightness=%d\nquiet=%d\nzero-point=%d.%d\n", 1+own.IntN(9), own.IntN(2), own.IntN(40), own.IntN(10)))
			}
		case memory.Identity:
			copy(part, fmt.Sprintf("ID1 %s %s", name, serial))
		}
	}
	return b
}

func hash(s string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(s))
	return h.Sum64()
}

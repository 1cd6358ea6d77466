// Package memory describes the memory of a model: its regions, their sectors,
// and what flash may and may not do there.
package memory

import (
	"sort"

	"zealousferry/core"
)

// Use says what a region is for.
type Use string

// The uses of a region.
const (
	Program  Use = "program"  // written from releases
	Settings Use = "settings" // configuration and calibration, kept
	Loader   Use = "loader"   // the boot loader, never written
	Identity Use = "identity" // what makes the unit itself: serial, region, keys
)

// Uncovered says what becomes of the bytes of a touched sector that no image covers.
type Uncovered string

// The two fates of uncovered bytes.
const (
	Keep  Uncovered = "keep"  // carried over from this run's backup
	Erase Uncovered = "erase" // left at the erased value
)

// Region is a named stretch of memory with sectors of one size.
type Region struct {
	Name      string    `yaml:"name" json:"name"`
	Use       Use       `yaml:"use" json:"use"`
	Address   uint64    `yaml:"address" json:"address"` // in bytes
	Length    uint64    `yaml:"length" json:"length"`   // in bytes
	Sector    uint64    `yaml:"sector" json:"sector"`   // smallest erasable piece, bytes
	Uncovered Uncovered `yaml:"uncovered" json:"uncovered,omitempty"`
	Secret    bool      `yaml:"secret" json:"secret,omitempty"` // masked in every view
	Own       bool      `yaml:"own" json:"own,omitempty"`       // belongs to this one unit; never put into another
	ReadOnly  bool      `yaml:"read-only" json:"readOnly,omitempty"`
}

// End is the first address behind the region.
func (r Region) End() uint64 { return r.Address + r.Length }

// Map is the memory of a model. Addresses and lengths are in bytes.
type Map struct {
	Erased  byte     `yaml:"erased" json:"erased"`   // value of an erased byte
	Write   uint64   `yaml:"write" json:"write"`     // write granularity, bytes
	Regions []Region `yaml:"regions" json:"regions"` // sorted, not overlapping
}

// Sector is one erasable piece.
type Sector struct {
	Address uint64
	Length  uint64
	Region  *Region
}

// End is the first address behind the sector.
func (s Sector) End() uint64 { return s.Address + s.Length }

// Check finds what a schema cannot: overlap, lengths that sectors do not divide.
func (m *Map) Check() error {
	if m.Write == 0 {
		return core.Fail(core.BadFile, "memory: write must be at least 1")
	}
	if len(m.Regions) == 0 {
		return core.Fail(core.BadFile, "memory: there is no region")
	}
	end := uint64(0)
	for i, r := range m.Regions {
		switch {
		case r.Sector == 0 || r.Length == 0 || r.Length%r.Sector != 0:
			return core.Fail(core.BadFile, "memory: region %q has %d bytes, which sectors of %d bytes do not divide", r.Name, r.Length, r.Sector)
		case r.Sector%m.Write != 0:
			return core.Fail(core.BadFile, "memory: region %q has sectors of %d bytes, which the write granularity of %d does not divide", r.Name, r.Sector, m.Write)
		case r.End() < r.Address:
			return core.Fail(core.BadFile, "memory: region %q runs past the end of the address space", r.Name)
		case i > 0 && r.Address < end:
			return core.Fail(core.BadFile, "memory: region %q begins at 0x%X, inside the region before it", r.Name, r.Address)
		}
		end = r.End()
	}
	return nil
}

// Bytes is the size of all regions together.
func (m *Map) Bytes() (n uint64) {
	for _, r := range m.Regions {
		n += r.Length
	}
	return n
}

// Sectors lists every sector in the order of addresses.
func (m *Map) Sectors() []Sector {
	var all []Sector
	for i := range m.Regions {
		r := &m.Regions[i]
		for at := r.Address; at < r.End(); at += r.Sector {
			all = append(all, Sector{at, r.Sector, r})
		}
	}
	return all
}

// Private tells whether any of a stretch is to be masked, or holds what the unit was set to.
func (m *Map) Private(address, length uint64) bool {
	for i := range m.Regions {
		if r := &m.Regions[i]; (r.Secret || r.Use == Settings) && r.Address < address+length && address < r.End() {
			return true
		}
	}
	return false
}

// At finds the region that holds the address.
func (m *Map) At(address uint64) (*Region, bool) {
	i := sort.Search(len(m.Regions), func(i int) bool { return m.Regions[i].End() > address })
	if i == len(m.Regions) || m.Regions[i].Address > address {
		return nil, false
	}
	return &m.Regions[i], true
}

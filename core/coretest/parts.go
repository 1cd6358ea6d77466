package coretest

import (
	"encoding/json"
	"fmt"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

const gangwayOptions = `baud: 115200
      enter: [{ line: rts, on: true }, { line: dtr, on: true }, { wait: 20ms }, { line: dtr, on: false }, { wait: 20ms }]
      leave: [{ line: rts, on: false }, { line: dtr, on: true }, { wait: 20ms }, { line: dtr, on: false }]`

const partsHead = `sheet: 2
model: %s
name: { en: %s }
kind: { en: trial board }
version-order: semantic
facts:
  revision: { values: [C, D] }
program: program
sections:
`

const programSection = `  - name: program
    title: { en: Program }
    loader:
      kind: gangway
      says: %s
      ` + gangwayOptions + `
    application: { baud: 115200, ask: "V?\r", answer: "program ([0-9A-Za-z.+-]+)\r", wait: 12s }
    memory:
      address-unit: 1
      erased: 255
      write: 4
      regions:
        - { name: program, use: program, address: 0x1000, length: 24576, sector: 1024, uncovered: keep }
        - { name: settings, use: settings, address: 0x7000, length: 2048, sector: 1024, uncovered: keep }
        - { name: identity, use: identity, address: 0x7800, length: 2048, sector: 1024, read-only: true, own: true }
`

// Wide is the sheet of a board of three parts: a boot loader that takes effect at the
// next power-up, a program, and fonts in a file tree.
var Wide = []byte(fmt.Sprintf(partsHead, "wide", "Wide") + `  - name: boot
    title: { en: Boot loader }
    loader:
      kind: gangway
      says: WIDE
      ` + gangwayOptions + `
    memory:
      address-unit: 1
      erased: 255
      write: 4
      regions: [{ name: loader, use: loader, address: 0, length: 4096, sector: 1024, uncovered: keep }]
` + fmt.Sprintf(programSection, "WIDE") + `  - name: fonts
    title: { en: Fonts }
    loader:
      kind: gangway
      says: WIDE
      ` + gangwayOptions + `
    files: { bytes: 262144, count: 64, exact: true }
procedures:
  - name: wide-bench
    edition: 1
    place: bench
    takes: 5m
    items:
      - { id: static, do: confirm, at: hazard, says: { en: "Touch bare metal first." } }
      - { id: cycle, do: confirm, at: between, section: program, after: boot, says: { en: "Switch the board off, and on again." } }
      - { id: ticket, do: confirm, at: left, test: true, says: { en: "Print a wide ticket." } }
`)

// Winch is the sheet of a controller with a plug-in panel behind a link of its own,
// which must be written first.
var Winch = []byte(fmt.Sprintf(partsHead, "winch", "Winch") + `  - name: panel
    title: { en: Panel }
    link: panel
    loader:
      kind: gangway
      says: PANEL
      ` + gangwayOptions + `
    application: { baud: 115200, ask: "V?\r", answer: "program ([0-9A-Za-z.+-]+)\r", wait: 12s }
    memory:
      address-unit: 1
      erased: 255
      write: 4
      regions: [{ name: program, use: program, address: 0x1000, length: 24576, sector: 1024, uncovered: keep }]
` + fmt.Sprintf(programSection, "WINCH"))

// Fonts are files of a version.
func Fonts(version string) map[string][]byte {
	return map[string][]byte{
		"fonts/harbour.fnt": sim.Program(version, 5000, 5, hash("harbour"+version)),
		"fonts/quay.fnt":    sim.Program("1", 3000, 5, 6), // the same in every version
		"index.txt":         []byte("fonts of " + version + "\n"),
	}
}

func hash(s string) (n uint64) {
	for _, c := range s {
		n = n*31 + uint64(c)
	}
	return n
}

// WideUnit starts a board of three parts that runs version 1.0.0.
func WideUnit(change func(*sim.Spec)) (*sim.Unit, error) {
	return partsUnit(Wide, "W-0001", func(s *sim.Spec) {
		s.Latch = sim.Range{Address: 0, Length: 4096}
		s.Files = Fonts("1.0.0")
		s.Files["old/unused.fnt"] = []byte("left by an earlier version")
		fresh := s.Fresh
		s.Fresh = func() []byte {
			b := fresh()
			copy(b, sim.Program("boot 1.0.0", 4096, 9, 9))
			return b
		}
		if change != nil {
			change(s)
		}
	})
}

// WinchUnits start a controller and its panel, which run version 1.0.0.
func WinchUnits(change func(*sim.Spec)) (controller, panel *sim.Unit, err error) {
	controller, err = partsUnit(Winch, "N-0001", func(s *sim.Spec) {
		if change != nil {
			change(s)
		}
	})
	if err != nil {
		return nil, nil, err
	}
	panel, err = partsUnit(Winch, "P-0001", func(s *sim.Spec) {
		s.Says = "PANEL"
		if change != nil {
			change(s)
		}
	})
	return controller, panel, err
}

func partsUnit(sheet []byte, serial string, change func(*sim.Spec)) (*sim.Unit, error) {
	m, err := model.ReadSheet(sheet)
	if err != nil {
		return nil, err
	}
	s := board.Board(m, serial)
	s.Scale, s.WriteMax, s.ReadMax, s.Window = 0.02, 256, 1024, 2048
	s.Fresh = func() []byte { return board.Memory(m, serial, SmallProgram("1.0.0")) }
	change(&s)
	return sim.Start(s, "127.0.0.1:0", core.System{})
}

// PartOf is a part of a release of several: bytes at an address, or files.
type PartOf struct {
	Section string
	Address uint64
	Data    []byte
	Files   map[string][]byte
}

// ReleaseOf puts a release of several parts on the shelf, for revision D.
func (a *Alone) ReleaseOf(sheet *model.Sheet, version string, parts ...PartOf) core.Digest {
	return a.ReleaseFor(sheet, version, map[string][]string{"revision": {"D"}}, parts...)
}

// ReleaseFor is the same for others.
func (a *Alone) ReleaseFor(sheet *model.Sheet, version string, fits map[string][]string, parts ...PartOf) core.Digest {
	r := model.Release{ID: "r-" + version, Model: sheet.Model, Version: version, Channel: model.Stable, Fits: fits}
	for _, p := range parts {
		part := model.Part{Name: p.Section, Section: p.Section}
		if p.Files != nil {
			packed := registry.PackTree(p.Files)
			files, err := registry.Tree(registry.Bytes(packed, ""))
			if err != nil {
				panic(err)
			}
			part.Image, part.Format, part.Content = a.Put(packed), registry.TreeFormat, registry.TreeContent(files)
			for _, f := range files {
				part.Bytes += uint64(len(f.Data))
			}
		} else {
			var b image.Builder
			b.Add(p.Address, p.Data, 0)
			im, err := b.Image()
			if err != nil {
				panic(err)
			}
			part.Image, part.Format, part.Address, part.Content, part.Bytes = a.Put(p.Data), "raw", p.Address, im.Content(), im.Bytes()
			part.From, part.To = im.Extent()
		}
		r.Parts = append(r.Parts, part)
	}
	raw, err := json.Marshal(r)
	if err != nil {
		panic(err)
	}
	return a.Put(raw)
}

// Plate is the sheet of a board with a programming header: its own loader never writes the
// boot loader, a helper tool at the header does.
var Plate = []byte(`sheet: 1
model: plate
name: { en: Plate }
kind: { en: trial board }
version-order: semantic
facts:
  revision: { values: [C, D] }
loader:
  kind: gangway
  says: PLATE
  baud: 115200
  enter: [{ line: rts, on: true }, { line: dtr, on: true }, { wait: 20ms }, { line: dtr, on: false }, { wait: 20ms }]
  leave: [{ line: rts, on: false }, { line: dtr, on: true }, { wait: 20ms }, { line: dtr, on: false }]
application: { baud: 115200, ask: "V?\r", answer: "program ([0-9A-Za-z.+-]+)\r", wait: 12s }
memory:
  address-unit: 1
  erased: 255
  write: 4
  regions:
    - { name: loader, use: loader, address: 0, length: 4096, sector: 1024, uncovered: keep, read-only: true }
    - { name: program, use: program, address: 0x1000, length: 24576, sector: 1024, uncovered: keep }
    - { name: settings, use: settings, address: 0x7000, length: 2048, sector: 1024, uncovered: keep }
    - { name: identity, use: identity, address: 0x7800, length: 2048, sector: 1024, uncovered: keep, own: true }
header:
  title: { en: "Programming header J4, for a Thole" }
  chip: PL-32
  loader: { kind: gangway, says: THOLE, baud: 115200, enter: [], leave: [] }
  procedures:
    - name: plate-header
      edition: 1
      place: bench
      takes: 10m
      items:
        - { id: clip, do: confirm, at: connect, says: { en: "Clip the Thole onto J4, pin 1 at the notch." }, undo: unclip }
        - { id: unclip, do: confirm, at: left, says: { en: "Take the clip off J4." } }
        - { id: shows, do: confirm, at: left, test: true, says: { en: "Look whether the plate shows its page." } }
`)

// PlateUnit starts a board whose boot loader is boot, with a helper tool at its header; a
// boot loader that is no whole program leaves it dead.
func PlateUnit(boot []byte, change func(*sim.Spec)) (plate, tool *sim.Unit, err error) {
	m, err := model.ReadSheet(Plate)
	if err != nil {
		return nil, nil, err
	}
	s := board.Board(m, "L-0001")
	s.Scale, s.WriteMax, s.ReadMax, s.Window, s.Chip, s.Boot = 0.02, 256, 1024, 2048, "PL-32", sim.Range{Length: 4096}
	s.Fresh = func() []byte {
		b := board.Memory(m, "L-0001", SmallProgram("1.0.0"))
		copy(b, boot)
		return b
	}
	if change != nil {
		change(&s)
	}
	if plate, err = sim.Start(s, "127.0.0.1:0", core.System{}); err != nil {
		return nil, nil, err
	}
	t := s
	t.Says, t.Loader, t.Locked = "THOLE", "1", false
	tool, err = sim.Clip(plate, t, "127.0.0.1:0", core.System{})
	return plate, tool, err
}

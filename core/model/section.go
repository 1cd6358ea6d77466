package model

import (
	"reflect"
	"regexp"
	"slices"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/memory"
	"zealousferry/core/words"
)

// TheOne is the name of the only section of a sheet of the first form.
const TheOne = "main"

// Section is a place in a unit that holds firmware or files and is spoken to in a
// way of its own. It has a memory map or a file tree.
type Section struct {
	Name        string           `yaml:"name" json:"name"`
	Title       Words            `yaml:"title" json:"title,omitempty"`
	Link        string           `yaml:"link" json:"link,omitempty"` // which of the unit's links; empty for the one at which the unit is identified
	Loader      Loader           `yaml:"loader" json:"loader"`
	Application link.Application `yaml:"application" json:"application"` // without an ask: there is no program that could be asked
	Memory      memory.Map       `yaml:"memory" json:"memory"`           // without regions where there are files
	Files       *Files           `yaml:"files" json:"files,omitempty"`
	Settings    *Settings        `yaml:"settings" json:"settings,omitempty"`
	Header      *Header          `yaml:"header" json:"header,omitempty"` // of the main section: the way to its memory around its own loader
}

// Header is a programming header, through which a helper tool reads and writes the memory of
// a unit whose own loader is gone, or cannot do it. The tool is on a link of its own, and
// gives the unit's chip as its chip; it cannot tell the unit's serial.
type Header struct {
	Title      Words       `yaml:"title" json:"title"`
	Loader     Loader      `yaml:"loader" json:"loader"`         // that the tool speaks; what it says is the tool's name
	Chip       string      `yaml:"chip" json:"chip"`             // that must be at the header
	Procedures []Procedure `yaml:"procedures" json:"procedures"` // its wiring, its items, its undo
}

// Files describes a file tree in a unit.
type Files struct {
	Bytes uint64 `yaml:"bytes" json:"bytes"`           // that all files may have together
	Count int    `yaml:"count" json:"count"`           // files at most
	Exact bool   `yaml:"exact" json:"exact,omitempty"` // files that a release does not name are removed
}

// Tells says whether the section has a program that can be asked for its version.
func (s *Section) Tells() bool { return s.Application.Ask != "" }

// Says is the section's title, or its name.
func (s *Section) Says() string { return s.Title.Or(s.Name) }

// Alike names the sections of two models whose loaders would give the same answer,
// so that a unit of one could be taken for the other.
func Alike(a, b *Sheet) (names []string) {
	for i := range a.Sections {
		for j := range b.Sections {
			x, y := &a.Sections[i], &b.Sections[j]
			if x.Loader.Says != "" && x.Loader.Kind == y.Loader.Kind && x.Loader.Says == y.Loader.Says && !slices.Contains(names, x.Name) {
				names = append(names, x.Name)
			}
		}
	}
	return names
}

// Main is the section that holds the unit's own program: its loader tells the
// unit's serial, its program the version that the unit runs.
func (s *Sheet) Main() *Section {
	for i := range s.Sections {
		if s.Sections[i].Name == s.Program {
			return &s.Sections[i]
		}
	}
	return &s.Sections[0]
}

// Section finds a section by its name; an empty name is the main one.
func (s *Sheet) Section(name string) (*Section, bool) {
	if name == "" {
		return s.Main(), true
	}
	i := slices.IndexFunc(s.Sections, func(x Section) bool { return x.Name == name })
	if i < 0 {
		return nil, false
	}
	return &s.Sections[i], true
}

func (s *Sheet) sectionNames() string {
	var all []string
	for _, x := range s.Sections {
		all = append(all, x.Name)
	}
	return either(all)
}

// Through is the sheet as a run goes by it that works through the programming header: of one
// section, whose memory the helper tool reads and writes, the boot loader too.
func (s *Sheet) Through() (*Sheet, error) {
	main := *s.Main()
	h := main.Header
	if h == nil {
		return nil, core.Fail(core.CannotTell, "the sheet of %s names no programming header", s.Model).Unit("nothing was changed").Go(words.ModelAdd().To("A lead adds it to the sheet"))
	}
	main.Loader, main.Header, main.Settings = h.Loader, nil, nil
	main.Memory.Regions = slices.Clone(main.Memory.Regions)
	for i := range main.Memory.Regions {
		if r := &main.Memory.Regions[i]; r.Use == memory.Loader {
			r.ReadOnly = false
		}
	}
	t := *s
	t.Sections, t.Procedures, t.Sign = []Section{main}, h.Procedures, nil
	return &t, nil
}

// OnlyThrough tells whether a part goes in through the programming header alone: it is a boot
// loader that the section's own loader never writes.
func (x *Section) OnlyThrough(p Part) bool {
	return x.Header != nil && p.To > p.From && slices.ContainsFunc(x.Memory.Regions, func(r memory.Region) bool {
		return r.Use == memory.Loader && r.ReadOnly && p.From >= r.Address && p.To <= r.End()
	})
}

// HasLoader tells whether a release brings the boot loader of the main section along.
func (s *Sheet) HasLoader(r *Release) bool {
	main := s.Main()
	return slices.ContainsFunc(main.Memory.Regions, func(region memory.Region) bool {
		return region.Use == memory.Loader && slices.ContainsFunc(r.Parts, func(p Part) bool {
			x, ok := s.Section(p.Section)
			return ok && x.Name == main.Name && p.From < region.End() && p.To > region.Address
		})
	})
}

// In lists the parts of a release that go into a section.
func (s *Sheet) In(r *Release, section *Section) (all []Part) {
	for _, p := range r.Parts {
		if x, ok := s.Section(p.Section); ok && x.Name == section.Name && !x.OnlyThrough(p) {
			all = append(all, p)
		}
	}
	return all
}

// Links names the further links that a unit of this model needs beside its own.
func (s *Sheet) Links() (all []string) {
	for _, x := range s.Sections {
		if x.Link != "" && !slices.Contains(all, x.Link) {
			all = append(all, x.Link)
		}
	}
	return all
}

// SameWay tells whether two sections are spoken to over one link by one loader, so
// that they share a session of it.
func (s *Section) SameWay(other *Section) bool {
	a, b := s.Loader, other.Loader
	return s.Link == other.Link && a.Kind == b.Kind && a.Says == b.Says && reflect.DeepEqual(a.Own, b.Own)
}

// Slot is a place in a unit for another unit, which has a model, a serial and a history
// of its own.
type Slot struct {
	Name   string   `yaml:"slot" json:"slot"`
	Title  Words    `yaml:"title" json:"title"`
	Models []string `yaml:"models" json:"models"`         // whose units fit into it
	Bus    Words    `yaml:"bus" json:"bus,omitempty"`     // on which of its buses the unit there is
	Empty  bool     `yaml:"empty" json:"empty,omitempty"` // it may be empty
	After  []string `yaml:"after" json:"after,omitempty"` // slots whose units are written before this one
	// Causes are fault codes that other modules note because the one here is silent while it
	// is written.
	Causes []string `yaml:"causes" json:"causes,omitempty"`
}

// checkSections finds what the schema cannot.
func (s *Sheet) checkSections() error {
	seen := map[string]bool{}
	for i := range s.Sections {
		x := &s.Sections[i]
		if seen[x.Name] {
			return core.Fail(core.BadFile, "sections.%d.name: %s is there twice", i, x.Name)
		}
		seen[x.Name] = true
		if x.Files == nil {
			if err := x.Memory.Check(); err != nil {
				return err
			}
		} else if len(x.Memory.Regions) > 0 {
			return core.Fail(core.BadFile, "sections.%d: %s has both a memory map and files; expected one of them", i, x.Name)
		}
		if _, err := regexp.Compile(x.Application.Answer); err != nil {
			return core.Fail(core.BadFile, "sections.%d.application.answer is not a regular expression: %w", i, err)
		}
		if err := s.checkSettings(i); err != nil {
			return err
		}
		if x.Header != nil && (x.Files != nil || x.Link != "") {
			return core.Fail(core.BadFile, "sections.%d.header: %s has files, or is on a further link; a programming header leads to the memory of the section that holds the unit's own program", i, x.Name)
		}
	}
	slots := map[string]bool{}
	for i, x := range s.Holds {
		switch {
		case slots[x.Name]:
			return core.Fail(core.BadFile, "holds.%d.slot: %s is there twice", i, x.Name)
		case slices.Contains(x.Models, s.Model):
			return core.Fail(core.BadFile, "holds.%d.models: a unit of %s cannot hold one of its own model", i, s.Model)
		}
		slots[x.Name] = true
		for _, before := range x.After {
			if !slots[before] || before == x.Name {
				return core.Fail(core.BadFile, "holds.%d.after: %q is no slot named before %s; expected those that are written first, in the order of the list", i, before, x.Name)
			}
		}
	}
	if err := s.checkRound(slots); err != nil {
		return err
	}
	if s.Program == "" && len(s.Sections) == 1 {
		s.Program = s.Sections[0].Name
	}
	switch main := s.Main(); {
	case !seen[s.Program]:
		return core.Fail(core.BadFile, "program: %q is no section; expected the one that holds the unit's own program", s.Program)
	case main.Link != "":
		return core.Fail(core.BadFile, "program: section %s is on the further link %q; the unit's own program is on the link at which it is identified", main.Name, main.Link)
	case main.Files != nil:
		return core.Fail(core.BadFile, "program: section %s holds files; the unit's own program is in a memory", main.Name)
	}
	for _, x := range s.Sections {
		if x.Header != nil && x.Name != s.Program {
			return core.Fail(core.BadFile, "section %s has a programming header; expected it at %s, which holds the unit's own program", x.Name, s.Program)
		}
	}
	return nil
}

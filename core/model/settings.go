package model

import (
	"fmt"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/memory"
)

// Where the settings of a section are read and written.
const (
	SettingsByLoader  = "loader"  // the loader gives and takes them
	SettingsInFile    = "file"    // lines of name=value in a file of the unit
	SettingsInMemory  = "memory"  // bytes at addresses that the sheet names
	SettingsOnDisplay = "display" // a person reads and enters them at the unit itself
)

// Settings describes what a section of a unit can be set to.
type Settings struct {
	By     string    `yaml:"by" json:"by" enum:"loader,file,memory,display"`
	File   string    `yaml:"file" json:"file,omitempty"` // by file: its path in the unit
	Pages  []Page    `yaml:"pages" json:"pages,omitempty"`
	Values []Setting `yaml:"values" json:"values"`
}

// Page is what one save reaches.
type Page struct {
	Name    string        `yaml:"page" json:"page"`
	Title   Words         `yaml:"title" json:"title,omitempty"`
	Each    bool          `yaml:"each" json:"each,omitempty"`       // every value is saved alone
	Save    string        `yaml:"save" json:"save,omitempty"`       // put as a setting, saves what was put before; empty where each put is kept at once
	Restart time.Duration `yaml:"restart" json:"restart,omitempty"` // how long the unit is away after a save
	Keep    string        `yaml:"keep" json:"keep,omitempty"`       // put as a setting within Within, keeps what was saved; without it the unit goes back by itself
	Within  time.Duration `yaml:"within" json:"within,omitempty"`
}

// Setting is one value, as some version of the program has it.
type Setting struct {
	Name    string   `yaml:"name" json:"name"`
	Title   Words    `yaml:"title" json:"title,omitempty"`
	Page    string   `yaml:"page" json:"page,omitempty"`
	As      string   `yaml:"as" json:"as" enum:"text,number,choice"`
	Unit    string   `yaml:"unit" json:"unit,omitempty"` // of a number
	Least   *float64 `yaml:"least" json:"least,omitempty"`
	Most    *float64 `yaml:"most" json:"most,omitempty"`
	Choices []Choice `yaml:"choices" json:"choices,omitempty"`
	Secret  bool     `yaml:"secret" json:"secret,omitempty"`
	Public  []string `yaml:"public" json:"public,omitempty"`   // values with which units come, and which everybody knows
	Default string   `yaml:"default" json:"default,omitempty"` // that a unit comes with; a reset puts it back
	Network string   `yaml:"network" json:"network,omitempty"` // name or address: where others find the unit
	Profile string   `yaml:"profile" json:"profile,omitempty"` // under which a site's profile has it; empty for its own name
	Suits   []Suit   `yaml:"suits" json:"suits,omitempty"`
	At      *Bytes   `yaml:"at" json:"at,omitempty"` // by memory
}

// Suit is a value that some units cannot have, and what they get in its place.
type Suit struct {
	When []Rule   `yaml:"when" json:"when"`
	Not  []string `yaml:"not" json:"not"`
	Take string   `yaml:"take" json:"take,omitempty"` // empty: a person says what
	Why  Words    `yaml:"why" json:"why"`
}

// Bytes are where a value stands in a memory.
type Bytes struct {
	Address uint64 `yaml:"address" json:"address"`
	Length  uint64 `yaml:"length" json:"length"`
	Order   string `yaml:"order" json:"order,omitempty" enum:"big,little"` // of a number; little where nothing is said
}

// Says is what people call the setting.
func (s *Setting) Says() string { return s.Title.Or(s.Name) }

// Key is the name under which a site's profile has it.
func (s *Setting) Key() string {
	if s.Profile != "" {
		return s.Profile
	}
	return s.Name
}

// Shows puts a value into the words that people read.
func (s *Setting) Shows(value string) string {
	for _, c := range s.Choices {
		if c.Value == value {
			return c.Says.Or(value)
		}
	}
	if s.Unit != "" && value != "" {
		return value + " " + s.Unit
	}
	return value
}

// Check refuses a value that the setting cannot have. It says nothing of the value of
// one that is secret.
func (s *Setting) Check(value string) error {
	came := strconv.Quote(value)
	if s.Secret {
		came = "another one"
	}
	switch {
	case strings.ContainsAny(value, "\r\n\x00") || len(value) > MaxSetting:
		return core.Fail(core.NotUnderstood, "a value of %s is one line of at most %d bytes", s.Says(), MaxSetting)
	case s.As == "number":
		n, err := strconv.ParseFloat(value, 64)
		if err != nil || math.IsNaN(n) || math.IsInf(n, 0) {
			return core.Fail(core.NotUnderstood, "%s is a number, came %s", s.Says(), came)
		}
		if s.Least != nil && n < *s.Least || s.Most != nil && n > *s.Most {
			return core.Fail(core.NotUnderstood, "%s is %s, came %s", s.Says(), s.limits(), came)
		}
	case s.As == "choice" && !slices.ContainsFunc(s.Choices, func(c Choice) bool { return c.Value == value }):
		var all []string
		for _, c := range s.Choices {
			all = append(all, c.Value)
		}
		return core.Fail(core.NotUnderstood, "%s is one of %s, came %s", s.Says(), strings.Join(all, ", "), came)
	}
	return nil
}

// MaxSetting bounds a value.
const MaxSetting = 4096

func (s *Setting) limits() string {
	number := func(n float64) string { return strconv.FormatFloat(n, 'g', -1, 64) }
	switch {
	case s.Most == nil:
		return "at least " + number(*s.Least)
	case s.Least == nil:
		return "at most " + number(*s.Most)
	}
	return "from " + number(*s.Least) + " to " + number(*s.Most)
}

// IsPublic tells whether everybody knows a value.
func (s *Setting) IsPublic(value string) bool { return slices.Contains(s.Public, value) }

// Is tells whether the settings stand there.
func (s *Settings) Is(by string) bool { return s != nil && s.By == by }

// Value finds a setting by its name; nil where the sheet does not know it.
func (s *Settings) Value(name string) *Setting {
	if s == nil {
		return nil
	}
	for i := range s.Values {
		if s.Values[i].Name == name {
			return &s.Values[i]
		}
	}
	return nil
}

// Page finds a page by its name; what stands on none is kept at once, each alone.
func (s *Settings) Page(name string) Page {
	if s != nil {
		for _, p := range s.Pages {
			if p.Name == name {
				return p
			}
		}
	}
	return Page{Name: name}
}

// Carry is what a release does with settings that units come to it with.
type Carry struct {
	From    []string `json:"from,omitempty" yaml:"from"` // versions that ran before; empty: whichever
	Changes []Change `json:"changes" yaml:"changes"`
}

// Change is what becomes of one setting: it is renamed, its value is put otherwise, it is
// gone, or it is new. What no change names is carried as it is.
type Change struct {
	Setting string            `json:"setting,omitempty" yaml:"setting"` // as the version before has it; empty: it is new
	To      string            `json:"to,omitempty" yaml:"to"`           // as this one has it; empty: as before
	Scale   *Scale            `json:"scale,omitempty" yaml:"scale"`
	Values  map[string]string `json:"values,omitempty" yaml:"values"` // value before to value now; one that is not here must be asked
	Gone    bool              `json:"gone,omitempty" yaml:"gone"`
	Value   string            `json:"value,omitempty" yaml:"value"` // new, or a new default in place of what was
	Ask     bool              `json:"ask,omitempty" yaml:"ask"`     // a person says what
	Why     Words             `json:"why,omitempty" yaml:"why"`
}

// Scale puts a number from one scale on another: 255 of 255 become 100 of 100.
type Scale struct {
	From  float64 `json:"from" yaml:"from"`
	To    float64 `json:"to" yaml:"to"`
	Round float64 `json:"round,omitempty" yaml:"round"` // to multiples of this; 0: of 1
}

// Name is what the setting is called in the release.
func (c Change) Name() string {
	if c.To != "" {
		return c.To
	}
	return c.Setting
}

// CarryFrom is what the release does with settings of units that ran a version.
func (r *Release) CarryFrom(running string) []Change {
	if r == nil {
		return nil
	}
	for _, c := range r.Settings {
		if len(c.From) == 0 || slices.Contains(c.From, running) {
			return c.Changes
		}
	}
	return nil
}

// Sets tells whether the sheet says what units can be set to.
func (s *Sheet) Sets() bool {
	return slices.ContainsFunc(s.Sections, func(x Section) bool { return x.Settings != nil })
}

// HasDefaults tells whether it says of any what a unit comes with.
func (s *Sheet) HasDefaults() bool {
	return slices.ContainsFunc(s.Sections, func(x Section) bool {
		return x.Settings != nil && slices.ContainsFunc(x.Settings.Values, func(v Setting) bool { return v.Default != "" })
	})
}

// SettingNamed finds a setting of any section.
func (s *Sheet) SettingNamed(name string) *Setting {
	for i := range s.Sections {
		if v := s.Sections[i].Settings.Value(name); v != nil {
			return v
		}
	}
	return nil
}

// checkCarries finds what is wrong with what a release does with settings.
func (s *Sheet) checkCarries(all []Carry) error {
	for n, c := range all {
		from, to := map[string]bool{}, map[string]bool{}
		for i, x := range c.Changes {
			bad := func(format string, args ...any) error {
				return core.Fail(core.BadFile, format, args...).Under(fmt.Sprintf("settings.%d.changes.%d", n, i))
			}
			def := s.SettingNamed(x.Name())
			switch {
			case x.Setting != "" && from[x.Setting]:
				return bad("%s is changed twice", x.Setting)
			case !x.Gone && to[x.Name()]:
				return bad("two settings become %s", x.Name())
			case x.Gone && (x.To != "" || x.Scale != nil || x.Values != nil || x.Value != "" || x.Ask):
				return bad("%s is gone, and becomes nothing else", x.Setting)
			case !x.Gone && def == nil:
				return bad("the sheet of %s knows no setting %q", s.Model, x.Name())
			case x.Setting == "" && x.Value == "" && !x.Ask:
				return bad("%s is new: expected its value, or ask", x.To)
			}
			from[x.Setting] = x.Setting != ""
			to[x.Name()] = !x.Gone
			if x.Gone {
				continue
			}
			values := []string{x.Value}
			for _, v := range x.Values {
				values = append(values, v)
			}
			for _, v := range values {
				if v == "" {
					continue
				}
				if err := def.Check(v); err != nil {
					return bad("%w", err)
				}
			}
		}
	}
	return nil
}

// checkSettings finds what the schema cannot.
func (s *Sheet) checkSettings(i int) error {
	x := &s.Sections[i]
	if x.Settings == nil {
		return nil
	}
	bad := func(at, format string, args ...any) error {
		return core.Fail(core.BadFile, format, args...).Under(fmt.Sprintf("sections.%d.settings.%s", i, at))
	}
	pages := map[string]bool{}
	for n, p := range x.Settings.Pages {
		at := fmt.Sprintf("pages.%d", n)
		switch {
		case pages[p.Name]:
			return bad(at, "page %s is there twice", p.Name)
		case p.Keep != "" && (p.Within <= 0 || p.Save == ""):
			return bad(at, "a page with keep has save, and within, the time after which the unit goes back by itself")
		case (p.Save != "" || p.Restart > 0) && x.Settings.By != SettingsByLoader:
			return bad(at, "save, restart and keep are for settings that the loader takes")
		}
		pages[p.Name] = true
	}
	if x.Settings.By == SettingsInFile {
		if x.Files == nil || x.Settings.File == "" || path.Clean(x.Settings.File) != x.Settings.File || path.IsAbs(x.Settings.File) {
			return bad("file", "settings in a file want a section of files, and the file's path in it, such as conf/unit.txt")
		}
	}
	seen := map[string]bool{}
	for n := range x.Settings.Values {
		v := &x.Settings.Values[n]
		at := fmt.Sprintf("values.%d", n)
		if seen[v.Name] {
			return bad(at, "setting %s is there twice", v.Name)
		}
		seen[v.Name] = true
		if v.Page != "" && !pages[v.Page] {
			return bad(at, "setting %s is on page %q, which is not among the pages", v.Name, v.Page)
		}
		if v.As == "choice" && len(v.Choices) < 2 {
			return bad(at, "setting %s is a choice; expected at least two choices", v.Name)
		}
		if err := v.checkBytes(x); err != nil {
			return bad(at, "%w", err)
		}
		if v.Default != "" {
			if err := v.Check(v.Default); err != nil {
				return bad(at, "default: %w", err)
			}
			if v.Secret || v.IsPublic(v.Default) {
				return bad(at, "setting %s has a default that everybody knows; expected none", v.Name)
			}
		}
		for _, suit := range v.Suits {
			for _, r := range suit.When {
				if err := s.CheckRule("setting "+v.Name, r); err != nil {
					return err
				}
			}
			if suit.Take != "" {
				if err := v.Check(suit.Take); err != nil || slices.Contains(suit.Not, suit.Take) {
					return bad(at, "setting %s cannot take %q in place of what does not suit", v.Name, suit.Take)
				}
			}
		}
	}
	return nil
}

// checkBytes finds what is wrong with the place of a value in memory.
func (v *Setting) checkBytes(x *Section) error {
	if x.Settings.By != SettingsInMemory {
		if v.At != nil {
			return core.Fail(core.BadFile, "at is for settings by memory")
		}
		return nil
	}
	if v.At == nil || v.At.Length == 0 || v.At.Length > 256 {
		return core.Fail(core.BadFile, "setting %s wants at: its address and its length of 1 to 256 bytes", v.Name)
	}
	if v.As == "number" && v.At.Length > 8 {
		return core.Fail(core.BadFile, "setting %s is a number in %d bytes; at most 8 are read", v.Name, v.At.Length)
	}
	for _, r := range x.Memory.Regions {
		if v.At.Address >= r.Address && v.At.Address+v.At.Length <= r.Address+r.Length {
			if r.Use != memory.Settings || r.ReadOnly {
				return core.Fail(core.BadFile, "setting %s stands in region %s, which is %s; expected one for settings that may be written", v.Name, r.Name, r.Use)
			}
			return nil
		}
	}
	return core.Fail(core.BadFile, "setting %s stands at 0x%X, in no region of the memory", v.Name, v.At.Address)
}

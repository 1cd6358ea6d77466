// Package model holds what is known of a kind of product: the model sheet (our
// own YAML format, checked against sheet.schema.json and described in
// docs/model-sheet.md) and the releases made for it.
package model

import (
	"cmp"
	_ "embed"
	"maps"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/link"
	"zealousferry/core/version"
	"zealousferry/core/words"
)

// Schema is the JSON Schema (2020-12) of a model sheet.
//
//go:embed sheet.schema.json
var Schema []byte

// ReleaseSchema is the JSON Schema (2020-12) of a release sheet.
//
//go:embed release.schema.json
var ReleaseSchema []byte

// Words is a text for people by language; "en" is always there.
type Words map[string]string

// In gives the text in a language, or in English.
func (w Words) In(language string) string {
	if s, ok := w[language]; ok {
		return s
	}
	return w["en"]
}

// Or gives the English text, or what stands for it where there is none.
func (w Words) Or(name string) string {
	if s := w["en"]; s != "" {
		return s
	}
	return name
}

// Sheet describes one model.
type Sheet struct {
	Format     int                 `yaml:"sheet" json:"sheet"`
	Model      string              `yaml:"model" json:"model"`
	Name       Words               `yaml:"name" json:"name"`
	Kind       Words               `yaml:"kind" json:"kind"`
	Order      version.Order       `yaml:"version-order" json:"versionOrder"`
	Serial     SerialRule          `yaml:"serial" json:"serial,omitzero"`
	Facts      map[string]FactRule `yaml:"facts" json:"facts"`
	Tells      []Tell              `yaml:"tells" json:"tells,omitempty"`
	Flaws      []Flaw              `yaml:"flaws" json:"flaws,omitempty"`
	Wants      []Want              `yaml:"wants" json:"wants,omitempty"`
	Sisters    []Sister            `yaml:"sisters" json:"sisters,omitempty"`
	Sections   []Section           `yaml:"sections" json:"sections"`     // in the order in which they are written
	Program    string              `yaml:"program" json:"program"`       // the section that holds the unit's own program
	Holds      []Slot              `yaml:"holds" json:"holds,omitempty"` // places for other units
	Round      []Turn              `yaml:"round" json:"round,omitempty"` // what is done around the writing of those units
	Sign       Words               `yaml:"sign" json:"sign,omitempty"`   // what a unit shows while its loader is spoken to
	Permits    map[string]string   `yaml:"permits" json:"permits,omitempty"`
	Procedures []Procedure         `yaml:"procedures" json:"procedures,omitempty"`

	Digest core.Digest `yaml:"-" json:"digest"` // of the sheet's bytes
}

// What not every unit may have, and what it wants.
const (
	StepBack    = "step-back"
	OfCandidate = "candidate"
	OfUnknown   = "unknown-program"

	ByReason  = "reason"  // of the technician
	ByConsent = "consent" // and a lead's consent
)

// Permit says what a step back, a candidate or a write over an unknown program wants.
func (s *Sheet) Permit(what string) string { return cmp.Or(s.Permits[what], ByConsent) }

// SerialRule says what a serial of a model looks like; empty where any does.
type SerialRule struct {
	Pattern string `yaml:"pattern" json:"pattern"`
	Looks   Words  `yaml:"looks" json:"looks"`
}

// plainSerial is what a serial has at least: a letter or a digit, and nothing that is
// never on a label.
var plainSerial = regexp.MustCompile(`^[\p{L}\p{N} ./_#:+-]*[\p{L}\p{N}][\p{L}\p{N} ./_#:+-]*$`)

// maxSerial is how long a serial may be.
const maxSerial = 64

// TypedSerial is a serial as a person has typed it, without the spaces around it, held
// against what serials of this model look like.
func (s *Sheet) TypedSerial(typed string) (string, error) {
	t := strings.TrimSpace(typed)
	if len(t) > maxSerial || !plainSerial.MatchString(t) {
		return "", core.Fail(core.NotUnderstood, "%q is no serial", typed).Unit("nothing was changed").Do("Read it from the label again: letters, digits and hyphens, at most 64.")
	}
	if s.Serial.Pattern == "" {
		return t, nil
	}
	whole, err := regexp.Compile("^(?:" + s.Serial.Pattern + ")$")
	if err != nil {
		return "", core.Fail(core.BadFile, "serial.pattern is not a regular expression: %w", err)
	}
	for _, form := range []string{t, strings.ToUpper(strings.ReplaceAll(t, " ", ""))} {
		if whole.MatchString(form) {
			return form, nil
		}
	}
	return "", core.Fail(core.NotUnderstood, "%q is no serial of a %s, which looks like this: %s", t, s.Name.In("en"), s.Serial.Looks.In("en")).Unit("nothing was changed").
		Do("Read it from the label again, or choose another model.")
}

// SameSerial tells whether two serials are one, whatever their case and spaces.
func SameSerial(a, b string) bool {
	plain := func(s string) string { return strings.ToUpper(strings.ReplaceAll(s, " ", "")) }
	return plain(a) == plain(b)
}

// FactRule says which values a fact of this model may have and how a person
// finds it out.
type FactRule struct {
	Values  []string          `yaml:"values" json:"values,omitempty"`
	Name    Words             `yaml:"name" json:"name,omitempty"` // within a sentence, "the … is not known"; the fact's own where it is left out
	Ask     Words             `yaml:"ask" json:"ask,omitempty"`
	Look    Words             `yaml:"look" json:"look,omitempty"`        // where to look, what to read
	Answers map[string]Shown  `yaml:"answers" json:"answers,omitempty"`  // what each value looks like
	Order   version.Order     `yaml:"order" json:"order,omitempty"`      // for facts that are versions or numbers
	Changes bool              `yaml:"changes" json:"changes,omitempty"`  // in a unit's life: the newest reading holds
	GoodFor string            `yaml:"good-for" json:"goodFor,omitempty"` // a duration such as 720h, after which it counts as unknown
	Same    map[string]string `yaml:"same" json:"same,omitempty"`        // alternate values, to the one that rules name
	Follows map[string]string `yaml:"follows" json:"follows,omitempty"`  // part number to the one that it supersedes
}

// Called is what a fact is called within a sentence.
func (s *Sheet) Called(fact string) string {
	if n := s.Facts[fact].Name.In("en"); n != "" {
		return n
	}
	if n, ok := words.Facts[fact]; ok {
		return n
	}
	return strings.ReplaceAll(fact, "-", " ")
}

// Life is how long a reading of the fact holds; 0 means for ever.
func (f FactRule) Life() time.Duration {
	d, _ := time.ParseDuration(f.GoodFor) // the sheet was checked
	return d
}

// Shown is what a person sees where a fact has a value.
type Shown struct {
	Says Words    `yaml:"says" json:"says"`
	Draw []Stroke `yaml:"draw" json:"draw,omitempty"`
}

// Stroke is a piece of a small drawing, 136 wide and 94 high.
type Stroke struct {
	Shape  string  `yaml:"shape" json:"shape"` // rect, circle, line, text
	X      float64 `yaml:"x" json:"x"`
	Y      float64 `yaml:"y" json:"y"`
	W      float64 `yaml:"w" json:"w,omitempty"`
	H      float64 `yaml:"h" json:"h,omitempty"`
	R      float64 `yaml:"r" json:"r,omitempty"`
	Text   string  `yaml:"text" json:"text,omitempty"`
	Fill   string  `yaml:"fill" json:"fill,omitempty"` // none, part, ink, sand
	Dashed bool    `yaml:"dashed" json:"dashed,omitempty"`
}

// Rule is a condition on one fact. All of its parts must hold. A rule on a fact
// that is not known cannot be judged.
type Rule struct {
	Fact    string        `yaml:"fact" json:"fact"`
	OneOf   []string      `yaml:"one-of" json:"oneOf,omitempty"`
	NoneOf  []string      `yaml:"none-of" json:"noneOf,omitempty"`
	AtLeast string        `yaml:"at-least" json:"atLeast,omitempty"`
	Below   string        `yaml:"below" json:"below,omitempty"`
	Between []Range       `yaml:"between" json:"between,omitempty"`  // serial ranges, any of them
	OrLater bool          `yaml:"or-later" json:"orLater,omitempty"` // of OneOf: part numbers that supersede them hold too
	Order   version.Order `yaml:"order" json:"order,omitempty"`      // instead of the fact's own
	Why     Words         `yaml:"why" json:"why,omitempty"`
}

// Range is from and to, both included. Digits in it count as numbers.
type Range struct {
	From string `yaml:"from" json:"from"`
	To   string `yaml:"to" json:"to"`
}

// Tell concludes a fact from others, e.g. that a unit is a clone from its chip.
type Tell struct {
	Fact  string `yaml:"fact" json:"fact"`
	Value string `yaml:"value" json:"value"`
	When  []Rule `yaml:"when" json:"when"`
	Why   Words  `yaml:"why" json:"why,omitempty"`
}

// Flaw is a known defect of some units: a warning, or a bar to every write.
type Flaw struct {
	When []Rule `yaml:"when" json:"when"`
	Says Words  `yaml:"says" json:"says"`
	Bars bool   `yaml:"bars" json:"bars,omitempty"`
}

// Sister is a model that is easily taken for this one.
type Sister struct {
	Model string `yaml:"model" json:"model"`
	Says  Words  `yaml:"says" json:"says"`
}

// The kinds of thing that a job may want.
const (
	Accessory   = "accessory"
	Cable       = "cable"
	Adapter     = "adapter"
	Software    = "software"
	Entitlement = "entitlement"
)

// Want is something that must be there before a release can be put into a unit.
type Want struct {
	Kind     string `yaml:"kind" json:"kind"`
	Name     string `yaml:"name" json:"name"`
	AtLeast  string `yaml:"at-least" json:"atLeast,omitempty"` // version, dotted
	AtMost   string `yaml:"at-most" json:"atMost,omitempty"`
	Absent   bool   `yaml:"absent" json:"absent,omitempty"` // it, in these versions, must be removed first
	Says     Words  `yaml:"says" json:"says,omitempty"`     // its constraint, or where to get it
	LeadDays int    `yaml:"lead-days" json:"leadDays,omitempty"`
	Optional bool   `yaml:"optional" json:"optional,omitempty"`
	When     []Rule `yaml:"when" json:"when,omitempty"`
}

// Loader says how a section is spoken to.
type Loader struct {
	Kind  string         `yaml:"kind" json:"kind"`
	Says  string         `yaml:"says" json:"says"`             // what the unit calls its model, or its chip where the loader tells no more
	Await time.Duration  `yaml:"await" json:"await,omitempty"` // the tool calls first, and a person then applies the power
	Own   map[string]any `yaml:",inline" json:"own"`           // what the loader alone reads; its schema says what may stand here

	serial link.Serial
}

// UnmarshalYAML also reads how the loader is met on a serial line: the program is
// asked for its version there too.
func (l *Loader) UnmarshalYAML(n *yaml.Node) error {
	type plain Loader
	if err := n.Decode((*plain)(l)); err != nil {
		return err
	}
	return n.Decode(&l.serial)
}

// Serial is how the loader is met on a serial line; nothing where it is on no such
// line.
func (l Loader) Serial() link.Serial { return l.serial }

// With is the loader with another value for one of its own options.
func (l Loader) With(name string, value any) Loader {
	l.Own = maps.Clone(l.Own)
	l.Own[name] = value
	raw, err := yaml.Marshal(l.Own)
	if err == nil {
		err = yaml.Unmarshal(raw, &l.serial)
	}
	if err != nil {
		panic(err) // the caller's own value
	}
	return l
}

// Calls is what a unit calls itself by these facts: its model, or its chip where
// its loader tells no more.
func Calls(facts []core.Fact) (says string) {
	for _, f := range facts {
		if f.Name == core.FactModel {
			return f.Value
		}
		if f.Name == core.FactChip {
			says = f.Value
		}
	}
	return says
}

// Channel is how far a release is trusted.
type Channel string

// The channels.
const (
	Stable    Channel = "stable"
	Candidate Channel = "candidate"
)

// Release is a version of the firmware of a model.
type Release struct {
	ID         string              `json:"id"`
	Model      string              `json:"model"`
	Version    string              `json:"version"`
	Number     string              `json:"number,omitempty"` // part number
	Channel    Channel             `json:"channel"`
	Cures      Words               `json:"cures,omitempty"`      // why it exists
	Changes    Words               `json:"changes,omitempty"`    // what will look different
	Supersedes []string            `json:"supersedes,omitempty"` // versions or part numbers
	Floor      string              `json:"floor,omitempty"`      // once it runs, nothing older than this may follow
	Fits       map[string][]string `json:"fits"`                 // fact name to the values that fit
	Rules      []Rule              `json:"rules,omitempty"`      // beside Fits; a rule on running says from where it may be reached
	Wants      []Want              `json:"wants,omitempty"`
	Parts      []Part              `json:"parts"`
	Settings   []Carry             `json:"settings,omitempty"` // what becomes of a unit's settings
	Origin     *Origin             `json:"origin,omitempty"`
	Withdrawn  *Withdrawal         `json:"withdrawn,omitempty"`
	At         time.Time           `json:"at"`
}

// Origin is where the images of a release came from.
type Origin struct {
	From      string                 `json:"from" yaml:"from"`                               // maker, page or person
	Source    string                 `json:"source,omitempty" yaml:"source"`                 // label of the source it was built from
	BuiltBy   string                 `json:"builtBy,omitempty" yaml:"built-by"`              // who, with which tools
	BuiltAt   string                 `json:"builtAt,omitempty" yaml:"built-at"`              // day
	Published map[string]core.Digest `json:"published,omitempty" yaml:"published,omitempty"` // part to the SHA-256 that the maker gives
	Overlaps  map[string]Overlap     `json:"overlaps,omitempty" yaml:"-"`                    // part to who said which record counts
}

// Overlap is why one of two records counts that give different bytes to one address,
// and who said so.
type Overlap struct {
	Reason string `json:"reason"`
	By     string `json:"by"`
}

// AllRules are Fits and Rules together, in a fixed order.
func (r *Release) AllRules() []Rule {
	names := make([]string, 0, len(r.Fits))
	for name := range r.Fits {
		names = append(names, name)
	}
	sort.Strings(names)
	all := make([]Rule, 0, len(names)+len(r.Rules))
	for _, name := range names {
		all = append(all, Rule{Fact: name, OneOf: r.Fits[name]})
	}
	return append(all, r.Rules...)
}

// Part is one image of a release, in the order in which parts are written.
type Part struct {
	Name    string       `json:"name"`
	Section string       `json:"section,omitempty"` // of the unit; empty for its main one
	Runs    string       `json:"runs,omitempty"`    // what the section's program says of itself once this is in it, where it is not the release's version
	Image   core.Digest  `json:"image"`             // SHA-256 of the file
	Format  string       `json:"format"`            // of the file
	Address uint64       `json:"address"`           // for formats that carry none
	Counts  image.Counts `json:"counts,omitempty"`  // which record counts where two give different bytes
	Content core.Digest  `json:"content"`           // of addresses and bytes, whatever the format
	From    uint64       `json:"from"`              // first address
	To      uint64       `json:"to"`                // first address behind
	Bytes   uint64       `json:"bytes"`
}

// Withdrawal takes a release back.
type Withdrawal struct {
	At     time.Time `json:"at"`
	Reason string    `json:"reason"`
	By     string    `json:"by"`
}

var plainName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Check finds what keeps a release from being entered for the sheet.
func (r *Release) Check(s *Sheet) error {
	if r.Model != s.Model {
		return core.Fail(core.BadFile, "release %s is for model %q, the sheet is of %q", r.Version, r.Model, s.Model)
	}
	if !version.Valid(s.Order, r.Version) {
		return core.Fail(core.BadFile, "version %q cannot be read in the order %s that the sheet of %s names", r.Version, s.Order, s.Model)
	}
	if r.Channel != Stable && r.Channel != Candidate {
		return core.Fail(core.BadFile, "channel is %q; expected stable or candidate", r.Channel)
	}
	if len(r.Parts) == 0 || len(r.Parts) > 64 {
		return core.Fail(core.BadFile, "a release has 1 to 64 parts, this has %d", len(r.Parts))
	}
	seen := map[string]bool{}
	for _, p := range r.Parts {
		if !plainName.MatchString(p.Name) || seen[p.Name] {
			return core.Fail(core.BadFile, "part name %q: expected lower-case letters, digits and hyphens, each name once", p.Name)
		}
		seen[p.Name] = true
		if _, ok := s.Section(p.Section); !ok {
			return core.Fail(core.BadFile, "part %s is for section %q; the sheet of %s has %s", p.Name, p.Section, s.Model, s.sectionNames())
		}
	}
	for _, rule := range r.AllRules() {
		if err := s.CheckRule("the release", rule); err != nil {
			return err
		}
	}
	for _, w := range r.Wants {
		if err := s.checkWant("the release", w); err != nil {
			return err
		}
	}
	if err := s.checkCarries(r.Settings); err != nil {
		return err
	}
	if r.Floor != "" && !version.Valid(s.Order, r.Floor) {
		return core.Fail(core.BadFile, "floor %q cannot be read in the order %s", r.Floor, s.Order)
	}
	if r.Number != "" && len(r.Number) > 64 {
		return core.Fail(core.BadFile, "a part number has at most 64 characters")
	}
	return r.checkOrigin()
}

func (r *Release) checkOrigin() error {
	for _, p := range r.Parts {
		if p.Counts == "" {
			continue
		}
		if p.Counts != image.First && p.Counts != image.Last {
			return core.Fail(core.BadFile, "part %s: which record counts is %q; expected first or last", p.Name, p.Counts)
		}
		if r.Origin == nil || len(strings.TrimSpace(r.Origin.Overlaps[p.Name].Reason)) < 3 || r.Origin.Overlaps[p.Name].By == "" {
			return core.Fail(core.BadFile, "part %s says that the %s record counts, and not why", p.Name, p.Counts).Do("Give the reason: it is kept in the release's origin with your name.")
		}
	}
	if r.Origin == nil {
		return nil
	}
	for part, want := range r.Origin.Published {
		i := slices.IndexFunc(r.Parts, func(p Part) bool { return p.Name == part })
		if i < 0 {
			return core.Fail(core.BadFile, "a published checksum is for part %q, which the release does not have", part)
		}
		if r.Parts[i].Image != want {
			return core.Fail(core.BadFile, "the maker publishes SHA-256 %s for part %s; this file has %s", want, part, r.Parts[i].Image).
				Do("Fetch the file again from its maker; nothing of it was used.")
		}
	}
	return nil
}

// common are the facts that every model has.
var common = map[string]bool{core.FactRunning: true, core.FactSerial: true, core.FactMemory: true, core.FactLoader: true, core.FactChip: true, core.FactFitted: true}

// OrderOf is the order of a fact's values.
func (s *Sheet) OrderOf(rule Rule) version.Order {
	switch {
	case rule.Order != "":
		return rule.Order
	case s.Facts[rule.Fact].Order != "":
		return s.Facts[rule.Fact].Order
	case rule.Fact == core.FactRunning:
		return s.Order
	case rule.Fact == core.FactMemory:
		return version.Number
	}
	return version.Dotted
}

// CheckRule tells whether a rule makes sense for units of the model; of says where it stands.
func (s *Sheet) CheckRule(of string, rule Rule) error {
	f, known := s.Facts[rule.Fact]
	if !known && !common[rule.Fact] {
		return core.Fail(core.BadFile, "%s has a rule on %q, which the sheet of %s does not list among its facts", of, rule.Fact, s.Model)
	}
	if rule.Fact == core.FactFitted {
		f.Values = []string{core.InAssembly, core.Alone}
	}
	for _, v := range append(slices.Clone(rule.OneOf), rule.NoneOf...) {
		if len(f.Values) > 0 && !slices.Contains(f.Values, v) {
			return core.Fail(core.BadFile, "%s has a rule on %s %q; the sheet knows only %s", of, rule.Fact, v, either(f.Values))
		}
	}
	for _, v := range []string{rule.AtLeast, rule.Below} {
		if v != "" && !version.Valid(s.OrderOf(rule), v) {
			return core.Fail(core.BadFile, "%s compares %s with %q, which cannot be read in the order %s", of, rule.Fact, v, s.OrderOf(rule))
		}
	}
	if len(rule.OneOf)+len(rule.NoneOf)+len(rule.Between) == 0 && rule.AtLeast == "" && rule.Below == "" {
		return core.Fail(core.BadFile, "%s has a rule on %s that asks for nothing; expected one-of, none-of, at-least, below or between", of, rule.Fact)
	}
	return nil
}

func (s *Sheet) checkWant(of string, w Want) error {
	if w.AtLeast != "" && !version.Valid(version.Dotted, w.AtLeast) {
		return core.Fail(core.BadFile, "%s wants %s %s at least %q; expected a dotted version", of, w.Kind, w.Name, w.AtLeast)
	}
	if w.AtMost != "" && !version.Valid(version.Dotted, w.AtMost) {
		return core.Fail(core.BadFile, "%s wants %s %s at most %q; expected a dotted version", of, w.Kind, w.Name, w.AtMost)
	}
	for _, rule := range w.When {
		if err := s.CheckRule(of, rule); err != nil {
			return err
		}
	}
	return nil
}

// check finds in the sheet what its schema cannot.
func (s *Sheet) check() error {
	if _, err := regexp.Compile(s.Serial.Pattern); err != nil {
		return core.Fail(core.BadFile, "serial.pattern is not a regular expression: %w", err)
	}
	for name, f := range s.Facts {
		if f.GoodFor != "" {
			if d, err := time.ParseDuration(f.GoodFor); err != nil || d <= 0 {
				return core.Fail(core.BadFile, "facts.%s.good-for: %q is not a duration; write it like 720h", name, f.GoodFor)
			}
		}
		for v := range f.Answers {
			if len(f.Values) > 0 && !slices.Contains(f.Values, v) {
				return core.Fail(core.BadFile, "facts.%s.answers: %q is not among its values, %s", name, v, either(f.Values))
			}
		}
		seen := map[string]bool{}
		for v := range f.Follows {
			for clear(seen); v != ""; v = f.Follows[v] {
				if seen[v] {
					return core.Fail(core.BadFile, "facts.%s.follows: %s supersedes itself", name, v)
				}
				seen[v] = true
			}
		}
	}
	var rules []Rule
	for _, t := range s.Tells {
		rules = append(rules, append(slices.Clone(t.When), Rule{Fact: t.Fact, OneOf: []string{t.Value}})...)
	}
	for _, f := range s.Flaws {
		rules = append(rules, f.When...)
	}
	for _, r := range rules {
		if err := s.CheckRule("the sheet", r); err != nil {
			return err
		}
	}
	for _, w := range s.Wants {
		if err := s.checkWant("the sheet", w); err != nil {
			return err
		}
	}
	if err := s.checkProcedures(); err != nil || s.Main().Header == nil {
		return err
	}
	through, err := s.Through()
	if err != nil {
		return err
	}
	if err := through.checkProcedures(); err != nil {
		return core.Fail(core.BadFile, "of the programming header: %w", err)
	}
	return nil
}

// either joins values: A, B or C.
func either(all []string) string {
	if len(all) < 2 {
		return strings.Join(all, "")
	}
	return strings.Join(all[:len(all)-1], ", ") + " or " + all[len(all)-1]
}

// Plain writes a rule as a person says it.
func (r Rule) Plain() string {
	var all []string
	if len(r.OneOf) > 0 {
		all = append(all, either(r.OneOf))
	}
	if r.OrLater {
		all = append(all, "or what supersedes it")
	}
	if len(r.NoneOf) > 0 {
		all = append(all, "not "+strings.Join(r.NoneOf, ", nor "))
	}
	if r.AtLeast != "" {
		all = append(all, "at least "+r.AtLeast)
	}
	if r.Below != "" {
		all = append(all, "below "+r.Below)
	}
	for i, b := range r.Between {
		word := "from "
		if i > 0 {
			word = "or from "
		}
		all = append(all, word+b.From+" to "+b.To)
	}
	return strings.Join(all, " ")
}

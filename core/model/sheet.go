// Package model holds what is known of a kind of product: the model sheet (our
// own YAML format, checked against sheet.schema.json and described in
// docs/model-sheet.md) and the releases made for it.
package model

import (
	_ "embed"
	"regexp"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/memory"
	"zealousferry/core/version"
)

// Schema is the JSON Schema (2020-12) of a model sheet.
//
//go:embed sheet.schema.json
var Schema []byte

// Words is a text for people by language; "en" is always there.
type Words map[string]string

// In gives the text in a language, or in English.
func (w Words) In(language string) string {
	if s, ok := w[language]; ok {
		return s
	}
	return w["en"]
}

// Sheet describes one model.
type Sheet struct {
	Format      int                 `yaml:"sheet" json:"sheet"`
	Model       string              `yaml:"model" json:"model"`
	Name        Words               `yaml:"name" json:"name"`
	Kind        Words               `yaml:"kind" json:"kind"`
	Order       version.Order       `yaml:"version-order" json:"versionOrder"`
	Facts       map[string]FactRule `yaml:"facts" json:"facts"`
	Loader      Loader              `yaml:"loader" json:"loader"`
	Application link.Application    `yaml:"application" json:"application"`
	Memory      memory.Map          `yaml:"memory" json:"memory"`

	Digest core.Digest `yaml:"-" json:"digest"` // of the sheet's bytes
}

// FactRule says which values a fact of this model may have and how a person
// finds it out.
type FactRule struct {
	Values []string `yaml:"values" json:"values,omitempty"`
	Ask    Words    `yaml:"ask" json:"ask,omitempty"`
}

// Loader says how a unit of this model is spoken to.
type Loader struct {
	Kind  string      `yaml:"kind" json:"kind"`
	Says  string      `yaml:"says" json:"says"` // what the unit calls its model
	Baud  int         `yaml:"baud" json:"baud"`
	Enter []link.Hand `yaml:"enter" json:"enter"`
	Leave []link.Hand `yaml:"leave" json:"leave"`
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
	Channel    Channel             `json:"channel"`
	Cures      Words               `json:"cures,omitempty"` // why it exists
	Supersedes []string            `json:"supersedes,omitempty"`
	Fits       map[string][]string `json:"fits"` // fact name to the values that fit
	Parts      []Part              `json:"parts"`
	Withdrawn  *Withdrawal         `json:"withdrawn,omitempty"`
	At         time.Time           `json:"at"`
}

// Part is one image of a release, in the order in which parts are written.
type Part struct {
	Name    string      `json:"name"`
	Image   core.Digest `json:"image"`   // SHA-256 of the file
	Format  string      `json:"format"`  // of the file
	Address uint64      `json:"address"` // for formats that carry none
	Content core.Digest `json:"content"` // of addresses and bytes, whatever the format
	From    uint64      `json:"from"`    // first address
	To      uint64      `json:"to"`      // first address behind
	Bytes   uint64      `json:"bytes"`
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
	}
	for name, values := range r.Fits {
		rule, known := s.Facts[name]
		if !known {
			return core.Fail(core.BadFile, "the release fits by %q, which the sheet of %s does not list among its facts", name, s.Model)
		}
		for _, v := range values {
			if len(rule.Values) > 0 && !contains(rule.Values, v) {
				return core.Fail(core.BadFile, "the release fits %s %q; the sheet knows only %v", name, v, rule.Values)
			}
		}
	}
	return nil
}

func contains(all []string, s string) bool {
	for _, a := range all {
		if a == s {
			return true
		}
	}
	return false
}

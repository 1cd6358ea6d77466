package client

import (
	"context"
	"net/url"
	"time"

	"zealousferry/core"
	"zealousferry/core/settings"
)

// Setup is how the settings of a run's sections stand: as found, wanted, as left.
type Setup struct {
	Lines []SettingLine `json:"lines" nullable:"false" doc:"In the order of the pages."`
	Pages []SettingPage `json:"pages" nullable:"false"`
	Head  core.Said     `json:"head" doc:"How far they are."`
	Count core.Said     `json:"count" doc:"How many were found, are wanted, given up and new: all of them."`
	Alike int           `json:"alike" doc:"Read back alike."`
	Other int           `json:"other" doc:"Read back otherwise."`
	Ahead int           `json:"ahead" doc:"Still to be put or asked."`
}

// SettingLine is one setting over a run. A secret value is masked.
type SettingLine struct {
	Section string       `json:"section,omitempty" doc:"Title of the section, where there are several."`
	Page    string       `json:"page"`
	Name    string       `json:"name"`
	Title   string       `json:"title"`
	Was     string       `json:"was,omitempty" doc:"The name under which it was found, where that is another."`
	Found   string       `json:"found,omitempty" doc:"As people read it; empty where it was not there."`
	Want    string       `json:"want,omitempty" doc:"Empty where it is asked, or given up."`
	How     settings.How `json:"how" enum:"carried,renamed,rescaled,mapped,by-rule,filled,default,said,made,asked,gone,left"`
	Why     *core.Said   `json:"why,omitempty"`
	From    string       `json:"from,omitempty" doc:"Which profile, or who."`
	Other   string       `json:"other,omitempty" doc:"What a profile has in place of what is carried."`
	Whose   string       `json:"whose,omitempty" doc:"That profile."`
	Secret  bool         `json:"secret,omitempty"`
	Public  bool         `json:"public,omitempty" doc:"It was found with a value that everybody knows."`
	Left    string       `json:"left" enum:"not-yet,alike,other,gone" doc:"How it was read back."`
	Now     string       `json:"now,omitempty" doc:"What was read back, where it is other than wanted."`
}

// SettingPage is what one save reaches.
type SettingPage struct {
	Name  string    `json:"name"`
	Title string    `json:"title"`
	Says  core.Said `json:"says" doc:"How far a save reaches, and what it wants."`
	State string    `json:"state" enum:"saved,next,later,nothing"`
	Lines int       `json:"lines"`
}

// UnitSetting is what a unit is set to, as it was read last.
type UnitSetting struct {
	Section string    `json:"section"`
	Name    string    `json:"name"`
	Title   string    `json:"title"`
	Page    string    `json:"page,omitempty"`
	Value   string    `json:"value" doc:"Masked where it is secret."`
	Secret  bool      `json:"secret,omitempty"`
	Public  bool      `json:"public,omitempty" doc:"Everybody knows this value."`
	Network string    `json:"network,omitempty" enum:"name,address"`
	Shows   int       `json:"shows,omitempty" doc:"How often its value was shown to somebody."`
	Run     string    `json:"run"`
	At      time.Time `json:"at"`
}

// UnitSettings lists them.
type UnitSettings struct {
	Unit     string        `json:"unit"`
	Settings []UnitSetting `json:"settings" nullable:"false"`
}

// ShowSetting asks for the value of a secret setting.
type ShowSetting struct {
	Section string `json:"section,omitempty" maxLength:"63"`
	Name    string `json:"name" maxLength:"63"`
	Reason  string `json:"reason,omitempty" maxLength:"400" doc:"Wanted of whoever is not the first to see it."`
}

// ShownSetting is the answer.
type ShownSetting struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Value string `json:"value"`
}

// ProfileValue is what a profile has for a setting.
type ProfileValue struct {
	Name   string    `json:"name"`
	Value  string    `json:"value" doc:"Masked where it is secret."`
	Secret bool      `json:"secret,omitempty"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// Profile is what a site, or the template of a model, has for settings.
type Profile struct {
	Kind   string         `json:"kind" enum:"site,model"`
	Of     string         `json:"of"`
	Values []ProfileValue `json:"values" nullable:"false"`
	// Asks are the names under which sheets look for a value here.
	Asks []ProfileAsk `json:"asks" nullable:"false" doc:"What the sheets of models look for under which name."`
}

// ProfileAsk is a name that sheets look for in a profile.
type ProfileAsk struct {
	Name   string `json:"name"`
	Title  string `json:"title"`
	Models string `json:"models"`
	Secret bool   `json:"secret,omitempty"`
}

// NewProfile changes a profile.
type NewProfile struct {
	Kind   string            `json:"kind" enum:"site,model"`
	Of     string            `json:"of" maxLength:"120"`
	Values map[string]string `json:"values" doc:"Name to value; an empty value takes it out. What is not named stays."`
}

// SiteAddress is where a unit of a site is found on its network.
type SiteAddress struct {
	Serial string    `json:"serial"`
	Place  string    `json:"place"`
	Title  string    `json:"title"`
	Value  string    `json:"value"`
	Public bool      `json:"public,omitempty"`
	At     time.Time `json:"at"`
}

// WantSettingsKey asks for the key under which an open run seals secret settings.
type WantSettingsKey struct {
	Run string `json:"run"`
}

// UnitSettings reads what a unit is set to.
func (c *Client) UnitSettings(ctx context.Context, unit string) (UnitSettings, error) {
	return get[UnitSettings](ctx, c, "/api/units/"+segment(unit)+"/settings")
}

// ShowSetting reads the value of a secret setting; that is noted.
func (c *Client) ShowSetting(ctx context.Context, unit string, s ShowSetting) (ShownSetting, error) {
	return post[ShownSetting](ctx, c, "/api/units/"+segment(unit)+"/settings/show", s)
}

// Profile reads what a site, or the template of a model, has for settings.
func (c *Client) Profile(ctx context.Context, kind, of string) (Profile, error) {
	return get[Profile](ctx, c, "/api/profiles?"+url.Values{"kind": {kind}, "of": {of}}.Encode())
}

// PutProfile changes it.
func (c *Client) PutProfile(ctx context.Context, p NewProfile) (Profile, error) {
	return post[Profile](ctx, c, "/api/profiles", p)
}

// SettingsKey asks for the key of a run, as the bench that works on it.
func (c *Client) SettingsKey(ctx context.Context, run string) ([]byte, error) {
	k, err := post[GivenKey](ctx, c, "/api/bench/settings-key", WantSettingsKey{run})
	return k.Key, err
}

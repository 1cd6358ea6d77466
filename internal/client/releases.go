package client

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/image"
	"zealousferry/core/model"
)

// ReleasePage gives a release, by id or MODEL@VERSION.
func (c *Client) ReleasePage(ctx context.Context, release string) (ReleasePage, error) {
	return get[ReleasePage](ctx, c, "/api/releases/"+segment(release))
}

// Document gives a release's document byte for byte.
func (c *Client) Document(ctx context.Context, release string) (data []byte, err error) {
	err = c.call(ctx, "GET", "/api/releases/"+segment(release)+"/document", nil, &data)
	return data, err
}

// TakeOut takes a release out of the catalogue that nobody has used.
func (c *Client) TakeOut(ctx context.Context, release, reason string) (TakenOut, error) {
	return post[TakenOut](ctx, c, "/api/releases/"+segment(release)+"/take-out", Reason{reason})
}

// Withdraw takes a release back.
func (c *Client) Withdraw(ctx context.Context, release, reason string) (Withdrawn, error) {
	return post[Withdrawn](ctx, c, "/api/releases/"+segment(release)+"/withdraw", Reason{reason})
}

// Accept vouches for a release by name.
func (c *Client) Accept(ctx context.Context, release, reason string) (Release, error) {
	return post[Release](ctx, c, "/api/releases/"+segment(release)+"/accept", Reason{reason})
}

// Releases searches the catalogue: words, and the model or "" for all.
func (c *Client) Releases(ctx context.Context, words, model, after string, size int) (Releases, error) {
	return get[Releases](ctx, c, "/api/releases?"+url.Values{"q": {words}, "model": {model}, "after": {after}, "size": {fmt.Sprint(size)}}.Encode())
}

// AddRelease adds a release.
func (c *Client) AddRelease(ctx context.Context, r NewRelease) (Release, error) {
	return post[Release](ctx, c, "/api/releases", r)
}

// Release is a release in the catalogue.
type Release struct {
	model.Release
	Document core.Digest `json:"document"`
	Trust    *Trust      `json:"trust,omitempty"`
}

// Releases is a page of releases.
type Releases struct {
	Releases []Release `json:"releases" nullable:"false"`
	Paged
}

// Trust is who vouches for a release.
type Trust struct {
	core.Said
	State   string  `json:"state" enum:"signed,accepted,not-vouched"`
	Vouches []Vouch `json:"vouches" nullable:"false"`
}

// Vouch is somebody's word for a release.
type Vouch struct {
	How     string    `json:"how" enum:"signature,pack,person,before"`
	Who     string    `json:"who" doc:"Name of the key or the person."`
	Key     string    `json:"key,omitempty"`
	Reason  string    `json:"reason,omitempty"`
	Dated   time.Time `json:"dated"`
	Entered time.Time `json:"entered"`
	By      string    `json:"by,omitempty"`
	Counts  bool      `json:"counts"`
	// Why it does not count.
	Bars       string   `json:"bars,omitempty" doc:"Why it does not count."`
	BarsID     string   `json:"barsId,omitempty" doc:"Of that message, as docs/messages.md lists it."`
	BarsParams []string `json:"barsParams,omitempty" doc:"What was put into it, in order."`
}

// Bar makes it count for nothing.
func (v *Vouch) Bar(s core.Said) {
	v.Counts, v.Bars, v.BarsID, v.BarsParams = false, s.Text, s.ID, s.Params
}

// ReleasePage is a release with all that is known of it.
type ReleasePage struct {
	Release
	ModelName    string         `json:"modelName"`
	Now          core.Said      `json:"now" doc:"How it stands, in a sentence."`
	Places       []PartPlace    `json:"places" nullable:"false"`
	Regions      []Region       `json:"regions" nullable:"false"`
	Units        []Unit         `json:"units" nullable:"false" doc:"The first 50 that say they run it."`
	UnitsTotal   int            `json:"unitsTotal"`
	SupersededBy []string       `json:"supersededBy" nullable:"false"`
	ReachedFrom  string         `json:"reachedFrom,omitempty" doc:"From which running versions it can be put in."`
	Targets      []Target       `json:"targets" nullable:"false" doc:"Where the team has chosen it."`
	Needs        []fit.Need     `json:"needs" nullable:"false"`
	RuleTexts    []core.Said    `json:"ruleTexts" nullable:"false" doc:"What it fits, as sentences."`
	OriginTexts  []core.Said    `json:"originTexts" nullable:"false"`
	Files        map[string]int `json:"files" doc:"Bytes of each image file, by its digest."`
}

// PartPlace is a part on the memory strip.
type PartPlace struct {
	Section string      `json:"section,omitempty" doc:"Of a model with several."`
	Name    string      `json:"name"`
	Image   core.Digest `json:"image"`
	Content core.Digest `json:"content"`
	File    string      `json:"file"`
	Format  string      `json:"format"`
	From    uint64      `json:"from"`
	To      uint64      `json:"to"`
	Bytes   uint64      `json:"bytes"`
	Regions []string    `json:"regions" nullable:"false"`
	Loader  bool        `json:"loader" doc:"It would write the boot loader."`
	Agrees  string      `json:"agrees" enum:"published,unpublished" doc:"Whether its maker publishes the checksum that it has."`
}

// NewRelease adds a release.
type NewRelease struct {
	Model      string              `json:"model"`
	Version    string              `json:"version"`
	Number     string              `json:"number,omitempty"`
	Channel    model.Channel       `json:"channel" enum:"stable,candidate"`
	Cures      string              `json:"cures,omitempty"`
	Changes    string              `json:"changes,omitempty"`
	Supersedes []string            `json:"supersedes,omitempty"`
	Floor      string              `json:"floor,omitempty"`
	Fits       map[string][]string `json:"fits,omitempty"`
	Rules      []model.Rule        `json:"rules,omitempty"`
	Wants      []model.Want        `json:"wants,omitempty"`
	Origin     *model.Origin       `json:"origin,omitempty"`
	Settings   []model.Carry       `json:"settings,omitempty" doc:"What becomes of a unit's settings."`
	Parts      []NewPart           `json:"parts"`
	Accept     string              `json:"accept,omitempty" maxLength:"400" doc:"Why the lead who adds it vouches for its images by name."`
}

// NewPart is a part of a new release, by the digest of an image that was sent.
type NewPart struct {
	Name    string       `json:"name"`
	Section string       `json:"section,omitempty" doc:"Of the unit; its main one where it is empty."`
	Runs    string       `json:"runs,omitempty" doc:"What that section's program says of itself once this is in it, where it is not the release's version."`
	Image   core.Digest  `json:"image"`
	Format  string       `json:"format,omitempty" doc:"Found by content where it is empty."`
	Address uint64       `json:"address,omitempty" doc:"Of the first byte, for formats that carry none."`
	Counts  image.Counts `json:"counts,omitempty" doc:"Which record counts where two give different bytes to one address: first, last."`
	Because string       `json:"because,omitempty" doc:"Why that one; kept in the origin by the lead's name."`
}

// Withdrawn is what a withdrawal meets.
type Withdrawn struct {
	Version string `json:"version"`
	Model   string `json:"model"`
	Units   []Unit `json:"units" nullable:"false" doc:"The first 200 units that say they run it."`
	Total   int    `json:"total"`
	Runs    int    `json:"runs" doc:"Open runs that were about to write it."`
}

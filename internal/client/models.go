package client

import (
	"context"
	"net/url"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
)

// ModelPage gives a model with its sheet and matrix.
func (c *Client) ModelPage(ctx context.Context, model string) (ModelPage, error) {
	return get[ModelPage](ctx, c, "/api/models/"+segment(model))
}

// Targets lists the team's choices.
func (c *Client) Targets(ctx context.Context) (Targets, error) {
	return whole(ctx, c, "/api/targets", func(all *Targets, p Targets) { all.Targets = append(all.Targets, p.Targets...) })
}

// PutTarget chooses the release that the team uses.
func (c *Client) PutTarget(ctx context.Context, t NewTarget) (Target, error) {
	return post[Target](ctx, c, "/api/targets", t)
}

// Models lists the models that the words are found in, a page at a time.
func (c *Client) Models(ctx context.Context, words, after string) (Models, error) {
	return get[Models](ctx, c, "/api/models?q="+url.QueryEscape(words)+"&after="+url.QueryEscape(after))
}

// PutModel puts a model sheet in force.
func (c *Client) PutModel(ctx context.Context, sheet []byte) (m Model, err error) {
	err = c.call(ctx, "PUT", "/api/models", sheet, &m)
	return m, err
}

// Region is a stretch of a model's memory.
type Region struct {
	Name     string `json:"name"`
	Use      string `json:"use"`
	Address  uint64 `json:"address"`
	Length   uint64 `json:"length"`
	Sector   uint64 `json:"sector"`
	ReadOnly bool   `json:"readOnly"`
	Own      bool   `json:"own"`
}

// Model is a model in the catalogue.
type Model struct {
	Model    string      `json:"model"`
	Name     string      `json:"name"`
	Kind     string      `json:"kind"`
	Sheet    core.Digest `json:"sheet"`
	Bytes    uint64      `json:"bytes" doc:"Size of its memory."`
	Releases int         `json:"releases"`
	Units    int         `json:"units"`
	Newest   string      `json:"newest,omitempty" doc:"Its newest stable release."`

	Procedures     int         `json:"procedures"`
	Contradictions []core.Said `json:"contradictions,omitempty" doc:"What its procedures disagree on; a lead settles it."`
	Alike          []core.Said `json:"alike,omitempty" doc:"Models whose units would answer as this one's do; said when the sheet is put in force."`
	Waits          bool        `json:"waits,omitempty" doc:"The sheet is not in force: it waits for a second lead who puts in the same."`
}

// ModelSection is a part of a model's units.
type ModelSection struct {
	Name   string `json:"name"`
	Title  string `json:"title"`
	Link   string `json:"link,omitempty" doc:"Which of the unit's links, where it is not the one at which it is identified."`
	Loader string `json:"loader"`
	Bytes  uint64 `json:"bytes" doc:"Of its memory, or what its files may have together."`
	Files  int    `json:"files,omitempty" doc:"How many files it holds at most."`
}

// Models is a list of models.
type Models struct {
	Models []Model `json:"models" nullable:"false"`
	Paged
}

// ModelPage is a model with its sheet and its matrix.
type ModelPage struct {
	TakenOut []TakenOut `json:"takenOut,omitempty" doc:"Releases that were taken out again before anybody used them."`
	Model
	SheetText string               `json:"sheetText" doc:"The sheet as it was sent."`
	Facts     map[string]ModelFact `json:"facts"`
	Sections  []ModelSection       `json:"sections" nullable:"false" doc:"Its parts, in the order in which they are written."`
	Holds     []ModelSlot          `json:"holds" nullable:"false" doc:"Places for other units."`
	Regions   []Region             `json:"regions" nullable:"false" doc:"Of the section with the unit's own program."`
	Flaws     []string             `json:"flaws" nullable:"false"`
	Sisters   []core.Said          `json:"sisters" nullable:"false"`
	Wants     []fit.Need           `json:"wants" nullable:"false"`
	Targets   []Target             `json:"targets" nullable:"false"`
	Secrets   []ModelSecret        `json:"secrets,omitempty" doc:"What its units ask for before they let anybody touch their memory."`
	Proof     core.Said            `json:"proof" doc:"Whether the sheet in force is proven, in a sentence."`
	Proven    *ProvenSheet         `json:"proven,omitempty" doc:"How the sheet in force was tried on a unit; missing: never yet."`
	Sets      bool                 `json:"sets,omitempty" doc:"The sheet says what its units can be set to."`
	Matrix    Matrix               `json:"matrix"`
}

// ProvenSheet is how a sheet was tried on a unit first.
type ProvenSheet struct {
	How string    `json:"how"`
	At  time.Time `json:"at"`
}

// ModelSlot is a place in a unit for another unit.
type ModelSlot struct {
	Slot   string   `json:"slot"`
	Title  string   `json:"title"`
	Models []string `json:"models" nullable:"false"`
	Empty  bool     `json:"empty,omitempty" doc:"It may be empty."`
}

// ModelFact is a fact that releases of a model ask for.
type ModelFact struct {
	Values []string `json:"values" nullable:"false"`
	Ask    string   `json:"ask,omitempty"`
	Look   string   `json:"look,omitempty"`
}

// TakenOut is a release that was taken out again before anybody used it.
type TakenOut struct {
	Version string    `json:"version"`
	Reason  string    `json:"reason"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
}

// Target is the release that the team has chosen for a model and revision.
type Target struct {
	Model     string    `json:"model"`
	Revision  string    `json:"revision"`
	Release   string    `json:"release,omitempty" doc:"Id."`
	Version   string    `json:"version,omitempty"`
	Withdrawn string    `json:"withdrawn,omitempty" doc:"Why that release was taken back; another one is to be chosen."`
	By        string    `json:"by"`
	At        time.Time `json:"at"`
	Reason    string    `json:"reason"`
}

// NewTarget chooses a release; without one the choice is open again.
type NewTarget struct {
	Model    string `json:"model"`
	Revision string `json:"revision"`
	Version  string `json:"version,omitempty"`
	Reason   string `json:"reason" minLength:"3" maxLength:"400"`
}

// Targets are the team's choices.
type Targets struct {
	Targets []Target `json:"targets" nullable:"false"`
	Paged
}

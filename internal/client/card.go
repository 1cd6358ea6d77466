package client

import (
	"context"
	"net/url"
	"strconv"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
	"zealousferry/core/fit"
	"zealousferry/core/model"
)

// Answer answers the item that a run waits for.
func (c *Client) Answer(ctx context.Context, id string, a NewAnswer) (Run, error) {
	return post[Run](ctx, c, "/api/runs/"+segment(id)+"/answers", a)
}

// Card is the job card of a unit or of what is on a link.
func (c *Client) Card(ctx context.Context, at string, about CardAbout) (Card, error) {
	return get[Card](ctx, c, "/api/card?"+url.Values{"at": {at}, "release": {about.Release}, "adapter": {about.Adapter}, "day": {about.Day}, "header": {strconv.FormatBool(about.Header)}}.Encode())
}

// CardAbout says what a card is about; what is empty is chosen.
type CardAbout struct {
	Release, Adapter string
	Day              string // on which the job is planned
	Header           bool   // the way through the programming header, in place of the unit's own lead
}

// Card is the job card of a unit: what a person does before, during and after.
type Card struct {
	Unit         string        `json:"unit,omitempty"`
	Serial       string        `json:"serial,omitempty"`
	Site         string        `json:"site,omitempty"`
	Model        string        `json:"model"`
	ModelName    string        `json:"modelName"`
	Revision     string        `json:"revision,omitempty"`
	Running      string        `json:"running,omitempty"`
	Release      string        `json:"release,omitempty" doc:"Version that the job is about."`
	Reason       string        `json:"reason,omitempty" doc:"What the release cures."`
	Link         string        `json:"link,omitempty"`
	Procedure    string        `json:"procedure,omitempty" doc:"Empty where the sheet has none for this unit."`
	Edition      int           `json:"edition,omitempty"`
	Standing     string        `json:"standing,omitempty" enum:"proven,unproven,failed,barred"`
	StandingSays string        `json:"standingSays,omitempty"`
	Place        string        `json:"place,omitempty" enum:"bench,in-place"`
	Minutes      int           `json:"minutes,omitempty"`
	Took         *Took         `json:"took,omitempty" doc:"Learned from runs by this procedure."`
	Meanwhile    string        `json:"meanwhile,omitempty"`
	Test         string        `json:"test,omitempty" doc:"What counts as done."`
	Supply       *model.Supply `json:"supply,omitempty"`
	Wiring       *model.Wiring `json:"wiring,omitempty" doc:"For the adapter that is chosen."`
	Wires        *Wires        `json:"wires,omitempty" doc:"As somebody saw them last on this link; the wiring has their colours."`
	Unsuited     string        `json:"unsuited,omitempty" doc:"Why the adapter on the link must not be used as it is set."`
	Adapters     []string      `json:"adapters" nullable:"false" doc:"That the sheet has a wiring for."`
	Items        []model.Item  `json:"items" nullable:"false"`
	Needs        []fit.Need    `json:"needs" nullable:"false"`
	Flaws        []string      `json:"flaws" nullable:"false"`
	Bulletins    []Bulletin    `json:"bulletins" nullable:"false" doc:"That speak to the unit, by what its open jobs are for."`
	Asks         []CardSetting `json:"asks" nullable:"false" doc:"Settings that a person will be asked for, as far as is known before the unit is read."`
	Header       string        `json:"header,omitempty" doc:"The programming header that it is about, in place of the unit's own lead."`
	Loader       string        `json:"loader"`
	Identity     string        `json:"identity" doc:"The strongest identity that its loader gives."`
	Verify       string        `json:"verify" doc:"How the write will be proved."`
	Instead      string        `json:"instead,omitempty" doc:"What stands in for a backup where none can be read."`
	WayBack      string        `json:"wayBack" enum:"full,settings,image,none"`
	Locked       bool          `json:"locked" doc:"Its memory is locked against reading; lifting that erases all."`
	NoBackup     *core.Said    `json:"noBackup,omitempty" doc:"Why no full backup can be taken."`
	WaysOn       []core.Said   `json:"waysOn" nullable:"false" doc:"What can be done where no full backup can be taken."`
	Reference    string        `json:"reference,omitempty" doc:"Version that it runs and whose image the catalogue keeps."`
	Fates        []Fate        `json:"fates" nullable:"false" doc:"What becomes of each region, where its memory cannot be saved whole."`
	Day          string        `json:"day,omitempty" doc:"For which what the job needs was judged; today where it is empty."`
	SiteInfo     *Site         `json:"siteInfo,omitempty" doc:"The site: whom to ask, how to get in."`
	Jobs         []Job         `json:"jobs" nullable:"false" doc:"Open ones that the unit is in the scope of."`
	Bars         []admit.Bar   `json:"bars" nullable:"false" doc:"What would stop a run, but for the link."`
	Made         time.Time     `json:"made"`
}

// CardSetting is a setting that somebody must be able to say.
type CardSetting struct {
	Title string `json:"title"`
	Why   string `json:"why,omitempty"`
}

// Took is how long the team's runs by a procedure took.
type Took struct {
	Runs    int `json:"runs"`
	Seconds int `json:"seconds" doc:"At the middle."`
}

// Fate is what becomes of a region of memory that cannot be saved.
type Fate struct {
	Name  string `json:"name"`
	Use   string `json:"use"`
	Bytes uint64 `json:"bytes"`
	Fate  string `json:"fate" enum:"stays,written,put-back,lost"`
}

package client

import (
	"context"
	"net/url"
	"time"

	"zealousferry/core"
)

// Hold keeps a unit, or a model with a revision, at a release.
type Hold struct {
	Unit     string    `json:"unit,omitempty" doc:"Id; empty for a model and revision."`
	Serial   string    `json:"serial,omitempty"`
	Model    string    `json:"model"`
	Revision string    `json:"revision,omitempty"`
	Release  string    `json:"release" doc:"Id."`
	Version  string    `json:"version"`
	Reason   string    `json:"reason"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Until    string    `json:"until,omitempty" doc:"Last day, as 2027-01-31; empty: until somebody ends it."`
}

// Holds lists holds.
type Holds struct {
	Holds []Hold `json:"holds" nullable:"false"`
	Paged
}

// NewHold is a hold that a lead puts on a unit, or on a model and revision.
type NewHold struct {
	Unit     string `json:"unit,omitempty" maxLength:"64" doc:"Id or serial; empty for a model and revision."`
	Model    string `json:"model,omitempty" maxLength:"63"`
	Revision string `json:"revision,omitempty" maxLength:"32"`
	Version  string `json:"version" minLength:"1" maxLength:"64"`
	Reason   string `json:"reason" minLength:"3" maxLength:"400"`
	Until    string `json:"until,omitempty" maxLength:"10" doc:"Last day, as 2027-01-31."`
}

// HoldEnd ends the hold of a unit, or of a model and revision.
type HoldEnd struct {
	Unit     string `json:"unit,omitempty" maxLength:"64"`
	Model    string `json:"model,omitempty" maxLength:"63"`
	Revision string `json:"revision,omitempty" maxLength:"32"`
	Reason   string `json:"reason,omitempty" maxLength:"400"`
}

// Consent is a lead's leave for what not every unit may have.
type Consent struct {
	For    string    `json:"for" enum:"step-back,candidate,unknown-program"`
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Until  time.Time `json:"until"`
}

// NewConsent gives it.
type NewConsent struct {
	For    string `json:"for" enum:"step-back,candidate,unknown-program"`
	Reason string `json:"reason" minLength:"3" maxLength:"400"`
	Until  string `json:"until,omitempty" maxLength:"10" doc:"Last day, as 2027-01-31; a week from now where it is empty."`
}

// OpenTest is a finishing test that a unit has still to pass.
type OpenTest struct {
	Unit   string    `json:"unit" doc:"Id."`
	Serial string    `json:"serial"`
	Site   string    `json:"site,omitempty"`
	Item   string    `json:"item"`
	Says   string    `json:"says"`
	State  string    `json:"state" enum:"open,handed,excused" doc:"handed: somebody who is named answers it; excused: it was not passed, or left undone."`
	Whose  string    `json:"whose,omitempty"`
	Due    string    `json:"due,omitempty" doc:"Day, as 2027-01-31."`
	Late   bool      `json:"late,omitempty" doc:"That day is over."`
	By     string    `json:"by,omitempty"`
	Reason string    `json:"reason,omitempty"`
	Since  time.Time `json:"since"`
	Run    string    `json:"run,omitempty"`
}

// TestAnswer answers a test without a run.
type TestAnswer struct {
	Item  string `json:"item,omitempty" maxLength:"60" doc:"Which test; may be empty where there is only one."`
	Value string `json:"value" enum:"yes,no,elsewhere" doc:"yes: passed; no: not passed; elsewhere: somebody who is named answers it."`
	Note  string `json:"note,omitempty" maxLength:"400" doc:"What was seen; wanted where it was not passed."`
	Whose string `json:"whose,omitempty" maxLength:"120"`
	Due   string `json:"due,omitempty" maxLength:"10"`
}

// Today is what is unfinished, and what was closed lately.
type Today struct {
	Runs      []Run      `json:"runs" nullable:"false" doc:"That are open; paused ones first."`
	Rounds    []RoundRow `json:"rounds" nullable:"false" doc:"Of vehicles, that are open."`
	Trays     []TrayRow  `json:"trays" nullable:"false" doc:"That are open."`
	HalfDone  []Unit     `json:"halfDone" nullable:"false" doc:"A write was begun and did not end well, and no run is open."`
	NotProven []Unit     `json:"notProven" nullable:"false" doc:"Written, and nobody has seen them run."`
	Tests     []OpenTest `json:"tests" nullable:"false"`
	Seconds   []Second   `json:"seconds" nullable:"false" doc:"Leave that leads are asked for; at most 20."`
	Left      []Owed     `json:"left" nullable:"false" doc:"What was left at units by name."`
	Offers    []Offer    `json:"offers" nullable:"false" doc:"What was seen and not ordered, that nobody has decided on; at most 20."`
	Withdrawn []Carrier  `json:"withdrawn" nullable:"false" doc:"Units that run a release that was taken back; at most 20."`
	Wanting   Wanting    `json:"wanting"`
	Jobs      []Job      `json:"jobs" nullable:"false" doc:"That are open, by their day."`
	Closed    []Run      `json:"closed" nullable:"false" doc:"The newest."`
}

// Wanting counts the units that want something that nobody has begun.
type Wanting struct {
	Behind   int           `json:"behind" doc:"Units that should have another release than the one that runs, as far as they were counted."`
	More     bool          `json:"more" doc:"There are more than that."`
	Models   []ModelBehind `json:"models" nullable:"false" doc:"Those of which most of them are; at most 6."`
	Judging  bool          `json:"judging,omitempty" doc:"Some units have not been judged yet since something changed."`
	NoBackup int           `json:"noBackup" doc:"Units of which there is no backup, as far as they were counted."`
	MoreOf   bool          `json:"moreNoBackup" doc:"There are more than that."`
}

// ModelBehind counts those of a model.
type ModelBehind struct {
	Model string `json:"model"`
	Name  string `json:"name"`
	Units int    `json:"units"`
}

// Carrier is a unit that runs a withdrawn release, and what to do about it.
type Carrier struct {
	Unit Unit   `json:"unit"`
	Why  string `json:"why" doc:"Why the release was withdrawn."`
	core.Said
	core.Todo
}

// Today asks for what is unfinished.
func (c *Client) Today(ctx context.Context) (Today, error) {
	return get[Today](ctx, c, "/api/today")
}

// Holds lists the holds of a model, or all.
func (c *Client) Holds(ctx context.Context, model string) (Holds, error) {
	return whole(ctx, c, "/api/holds?"+url.Values{"model": {model}}.Encode(), func(all *Holds, p Holds) { all.Holds = append(all.Holds, p.Holds...) })
}

// PutHold holds a unit, or a model and revision, at a release.
func (c *Client) PutHold(ctx context.Context, h NewHold) (Hold, error) {
	return post[Hold](ctx, c, "/api/holds", h)
}

// EndHold ends a hold.
func (c *Client) EndHold(ctx context.Context, h HoldEnd) error {
	return c.call(ctx, "POST", "/api/holds/end", h, nil)
}

// Consent gives a lead's leave.
func (c *Client) Consent(ctx context.Context, unit string, x NewConsent) (Consent, error) {
	return post[Consent](ctx, c, "/api/units/"+segment(unit)+"/consents", x)
}

// AnswerTest answers a test without a run.
func (c *Client) AnswerTest(ctx context.Context, unit string, x TestAnswer) (UnitPage, error) {
	return post[UnitPage](ctx, c, "/api/units/"+segment(unit)+"/tests", x)
}

// NameBackup gives a backup a name.
func (c *Client) NameBackup(ctx context.Context, unit, backup, name string) error {
	return c.call(ctx, "POST", "/api/units/"+segment(unit)+"/backups/"+segment(backup)+"/name", BackupName{name}, nil)
}

// BackupName is what people call a backup.
type BackupName struct {
	Name string `json:"name" maxLength:"120"`
}

package client

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"zealousferry/core"
	"zealousferry/core/round"
)

// Round is what is done around the writing of a vehicle's modules, and how far it is.
type Round struct {
	RoundRow
	Turns      []RoundTurn     `json:"turns" nullable:"false"`
	Next       int             `json:"next" doc:"Number of the turn that is next, from 0; as many as there are turns where only the closing is left, -1 where it is closed."`
	Notes      []RoundNote     `json:"notes" nullable:"false" doc:"When the modules were asked, in the order of the work."`
	Modules    []Module        `json:"modules" nullable:"false" doc:"As they answered last, and how they stand now."`
	Site       string          `json:"site,omitempty"`
	Found      []Module        `json:"found" nullable:"false" doc:"The modules as they answered first, before anything was changed."`
	Conditions []core.Fact     `json:"conditions" nullable:"false" doc:"What the vehicle told of itself last that changes while one looks on, such as where its key stands."`
	Behind     []string        `json:"behind" nullable:"false" doc:"Slots of modules that are to be written: a newer release fits, or they run no program."`
	Written    []round.Written `json:"written" nullable:"false" doc:"Modules that runs of this round have changed, so far."`
	Lines      []round.Line    `json:"lines" nullable:"false" doc:"Every fault code of every module through the round, those that want somebody first."`
	Open       []core.Said     `json:"open" nullable:"false" doc:"What is not as it should be; with it the round is closed only with a reason."`
	Tree       *Tree           `json:"tree,omitempty" doc:"The checkpoint of all histories when this was put together: on paper it holds them."`
	Now        core.Said       `json:"now" doc:"How it stands, in a sentence."`
	Steps      []core.Step     `json:"steps,omitempty" doc:"What is to be done now, step by step."`
	Closing    string          `json:"closing,omitempty" doc:"What was said when it was closed."`
	Whole      *bool           `json:"whole,omitempty" doc:"Of a closed one: whether its events are those of which the vehicle's history holds the digest."`
}

// RoundRow is what lists show of a round.
type RoundRow struct {
	ID        string     `json:"id"`
	Unit      string     `json:"unit" doc:"Id of the vehicle."`
	Serial    string     `json:"serial"`
	Model     string     `json:"model"`
	ModelName string     `json:"modelName"`
	Link      string     `json:"link"`
	Job       uint64     `json:"job"`
	Reason    string     `json:"reason"`
	By        string     `json:"by"`
	At        time.Time  `json:"at"`
	Closed    *time.Time `json:"closed,omitempty"`
	Waits     string     `json:"waits,omitempty" doc:"What is next, of an open one."`
	// Of the message in Waits, and what was put into it.
	WaitsID     string   `json:"waitsId,omitempty" doc:"Of that message, as docs/messages.md lists it."`
	WaitsParams []string `json:"waitsParams,omitempty" doc:"What was put into it, in order."`
}

// RoundTurn is a turn of a round.
type RoundTurn struct {
	Do     string     `json:"do" enum:"note,modules,hands,clear,learn"`
	Says   string     `json:"says" doc:"What it is, for a person."`
	SaysID string     `json:"saysId,omitempty" doc:"Of the message in says, as docs/messages.md lists it."`
	Params []string   `json:"params,omitempty" doc:"What was put into it, in order."`
	State  string     `json:"state" enum:"open,unknown,done,left,passed" doc:"unknown: it was begun, and nobody knows how far it is; left: undone, by name; passed: there was nothing to do."`
	Read   *core.Said `json:"read,omitempty" doc:"What was read from the vehicle afterwards."`
	Reason string     `json:"reason,omitempty" doc:"Why it is left."`
	By     string     `json:"by,omitempty"`
	At     *time.Time `json:"at,omitempty"`
}

// RoundNote says when the modules were asked.
type RoundNote struct {
	As    string    `json:"as" enum:"found,written,cleared,left"`
	Title string    `json:"title"`
	At    time.Time `json:"at"`
	Codes int       `json:"codes"`
}

// Rounds is a page of rounds.
type Rounds struct {
	Rounds []RoundRow `json:"rounds" nullable:"false"`
	Paged
}

// NewRound begins a round: all modules are asked, and what they say is kept as found.
type NewRound struct {
	At     string `json:"at" minLength:"1" maxLength:"120" doc:"The link to the vehicle (BENCH/NAME)."`
	Model  string `json:"model,omitempty" maxLength:"63" doc:"Of the vehicle; the only one whose sheet names slots, where it is left out."`
	Reason string `json:"reason,omitempty" maxLength:"400" doc:"Why it is done; of a job of its own."`
	Asked  string `json:"asked,omitempty" maxLength:"120" doc:"Who asked for it."`
	Job    uint64 `json:"job,omitempty" doc:"That it belongs to; one of its own where it is 0."`
}

// RoundStep is a person's word on the turn that is next.
type RoundStep struct {
	Turn   int    `json:"turn" minimum:"0" maximum:"64" doc:"Number of the turn, from 0; as many as there are turns to close the round."`
	Do     string `json:"do" enum:"go,leave,again,close" doc:"go: it is done now, or a person has done it; leave: it stays undone; again: it and all after it are done anew; close: the round is over."`
	Reason string `json:"reason,omitempty" maxLength:"400" doc:"Why it stays undone, or why the round is closed with something open."`
}

// BeginRound begins a round of the vehicle on a link.
func (c *Client) BeginRound(ctx context.Context, n NewRound) (Round, error) {
	return post[Round](ctx, c, "/api/rounds", n)
}

// Round gets a round by its id, or the open one, or else the newest, of a vehicle.
func (c *Client) Round(ctx context.Context, idOrUnit string) (Round, error) {
	return get[Round](ctx, c, "/api/rounds/"+url.PathEscape(idOrUnit))
}

// Rounds lists rounds, open ones first, then the newest; of one vehicle, or of all.
func (c *Client) Rounds(ctx context.Context, unit string, open bool, after string) (Rounds, error) {
	q := url.Values{"unit": {unit}, "open": {fmt.Sprint(open)}, "after": {after}}
	return get[Rounds](ctx, c, "/api/rounds?"+q.Encode())
}

// StepRound carries the turn that is next out, leaves it, goes back, or closes the round.
func (c *Client) StepRound(ctx context.Context, id string, s RoundStep) (Round, error) {
	return post[Round](ctx, c, "/api/rounds/"+url.PathEscape(id)+"/step", s)
}

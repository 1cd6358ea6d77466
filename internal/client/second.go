package client

import (
	"context"
	"fmt"
	"time"

	"zealousferry/core"
	"zealousferry/core/admit"
)

// NewSecond asks a lead for leave to do what cannot be taken back, for one run.
type NewSecond struct {
	At      string `json:"at" minLength:"1" maxLength:"120" doc:"A unit's serial or id, or a link."`
	Kind    string `json:"kind,omitempty" enum:"flash,restore" doc:"flash where it is empty."`
	Release string `json:"release,omitempty" maxLength:"64" doc:"Of a flash: version or id; the recommended one where it is empty."`
	Backup  string `json:"backup,omitempty" maxLength:"64" doc:"Of a restore."`
	Reason  string `json:"reason" minLength:"3" maxLength:"400"`
}

// SecondWant is something that a lead is asked to give leave for.
type SecondWant struct {
	For string `json:"for" doc:"A gate (backup, protection, release, hold …) or what wants consent: step-back, candidate, unknown-program."`
	core.Said
}

// Second is leave for one run that somebody asks for, and what came of it.
type Second struct {
	Number  uint64       `json:"number"`
	Unit    string       `json:"unit" doc:"Id."`
	Serial  string       `json:"serial"`
	Model   string       `json:"model"`
	Site    string       `json:"site,omitempty"`
	Kind    string       `json:"kind" enum:"flash,restore"`
	From    string       `json:"from,omitempty" doc:"The version that it runs."`
	Version string       `json:"version,omitempty"`
	Release string       `json:"release,omitempty" doc:"Id."`
	Wants   []SecondWant `json:"wants" nullable:"false"`
	Reason  string       `json:"reason"`
	By      string       `json:"by"`
	At      time.Time    `json:"at"`
	State   string       `json:"state" enum:"waits,given,refused,over" doc:"over: it was given, and its end is past."`
	Decided string       `json:"decided,omitempty" doc:"Who decided."`
	Why     string       `json:"why,omitempty"`
	Until   *time.Time   `json:"until,omitempty"`
	Own     bool         `json:"own,omitempty" doc:"Whoever looks has asked it, and cannot decide it."`
}

// SecondPage is one with what stands in the way now, as whoever asks sees it.
type SecondPage struct {
	Second
	Bars []admit.Bar `json:"bars" nullable:"false"`
}

// Seconds are those that wait, and the newest that do not.
type Seconds struct {
	Seconds []Second `json:"seconds" nullable:"false"`
	Rule    string   `json:"rule" enum:"auto,on,off" doc:"Whether what cannot be taken back wants two persons: auto, if more than one may open runs."`
	On      bool     `json:"on" doc:"What that comes to now."`
	By      string   `json:"by,omitempty" doc:"Who settled it."`

	TrustRule string `json:"trustRule" enum:"auto,on,off" doc:"Whether what is to be trusted (keys, a lead's word for images, sheets in force) wants two leads: auto, if there is more than one."`
	Trust     bool   `json:"trust" doc:"What that comes to now."`

	Waits      core.Said `json:"waits" doc:"That a lead wants the rule of two persons off and a second one is waited for; empty where none does."`
	TrustWaits core.Said `json:"trustWaits" doc:"The same of the rule of two leads."`
}

// SecondDecision is a lead's word.
type SecondDecision struct {
	Give   bool   `json:"give"`
	Reason string `json:"reason" minLength:"3" maxLength:"400"`
	Hours  int    `json:"hours,omitempty" minimum:"1" maximum:"336" doc:"How long the leave holds; 24 where nothing is said."`
}

// SecondRule settles whether what cannot be taken back wants two persons.
type SecondRule struct {
	Rule  string `json:"rule" enum:"auto,on,off"`
	About string `json:"about,omitempty" enum:"runs,trust" doc:"runs where it is empty: two persons for what cannot be taken back; trust: two leads for what is to be trusted."`
}

// AskSecond asks for leave.
func (c *Client) AskSecond(ctx context.Context, n NewSecond) (Second, error) {
	return post[Second](ctx, c, "/api/seconds", n)
}

// Seconds lists them.
func (c *Client) Seconds(ctx context.Context, all bool) (Seconds, error) {
	return get[Seconds](ctx, c, fmt.Sprintf("/api/seconds?all=%t", all))
}

// Second is one of them.
func (c *Client) Second(ctx context.Context, number uint64) (SecondPage, error) {
	return get[SecondPage](ctx, c, fmt.Sprintf("/api/seconds/%d", number))
}

// DecideSecond gives leave, or does not.
func (c *Client) DecideSecond(ctx context.Context, number uint64, d SecondDecision) (Second, error) {
	return post[Second](ctx, c, fmt.Sprintf("/api/seconds/%d", number), d)
}

// PutSecondRule settles the rule.
func (c *Client) PutSecondRule(ctx context.Context, rule, about string) (Seconds, error) {
	return post[Seconds](ctx, c, "/api/seconds/rule", SecondRule{rule, about})
}

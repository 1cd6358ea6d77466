package client

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/advise"
)

// Trouble is what to do with a unit whose run has stopped.
type Trouble struct {
	Run  string `json:"run"`
	Unit string `json:"unit"`
	Link string `json:"link"`
	advise.Advice
}

// Trace is what was said over a link until something went wrong.
type Trace struct {
	Link   string       `json:"link"`
	At     time.Time    `json:"at"`
	Phase  string       `json:"phase" doc:"Stop on the line of the run at which it went wrong."`
	Began  time.Time    `json:"began" doc:"Its times count from here."`
	Gone   *core.Said   `json:"gone,omitempty" doc:"Why there is no text."`
	Pieces []TracePiece `json:"pieces" nullable:"false" doc:"The newest alone, oldest first."`
	Text   string       `json:"text" doc:"The same as a recording: docs/protocols/monitor.md."`
}

// TracePiece is bytes that went one way.
type TracePiece struct {
	After float64 `json:"after" doc:"Seconds."`
	About string  `json:"about,omitempty" doc:"Whom it concerns (CAN identifier, logical address), or what was set on the line."`
	Sent  bool    `json:"sent" doc:"To the unit."`
	Text  string  `json:"text" doc:"Beginning of the bytes, as a string in Go is quoted."`
	Means string  `json:"means,omitempty" doc:"What it is in the loader's protocol, where that tells."`
	More  int     `json:"more,omitempty" doc:"Bytes behind it that are not kept: of memory little is, of secrets nothing."`
}

// Traces are those of a run.
type Traces struct {
	Run    string  `json:"run"`
	Traces []Trace `json:"traces" nullable:"false" doc:"Oldest first."`
}

// TriedRung says which rung of the ladder was tried.
type TriedRung struct {
	Rung string `json:"rung" enum:"plug,ask,restart,lead,slower,adapter,by-hand"`
}

// UnitDecision is what a person decides about a unit.
type UnitDecision struct {
	Standing string `json:"standing" enum:"set apart,do not use,in service" doc:"in service takes it back; how it stands then follows from its runs."`
	Reason   string `json:"reason" minLength:"3" maxLength:"400"`
	Place    string `json:"place,omitempty" maxLength:"120" doc:"Where it is put."`
}

// Trouble reads what to do.
func (c *Client) Trouble(ctx context.Context, run string) (Trouble, error) {
	return get[Trouble](ctx, c, "/api/runs/"+segment(run)+"/trouble")
}

// Traces reads what was said over a run's links until something went wrong.
func (c *Client) Traces(ctx context.Context, run string) (Traces, error) {
	return get[Traces](ctx, c, "/api/runs/"+segment(run)+"/traces")
}

// TryRung asks the unit once a rung was tried.
func (c *Client) TryRung(ctx context.Context, run, rung string) (Trouble, error) {
	return post[Trouble](ctx, c, "/api/runs/"+segment(run)+"/tried", TriedRung{rung})
}

// DecideUnit sets a unit apart, or takes it back.
func (c *Client) DecideUnit(ctx context.Context, unit string, d UnitDecision) (UnitPage, error) {
	return post[UnitPage](ctx, c, "/api/units/"+segment(unit)+"/decision", d)
}

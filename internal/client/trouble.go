package client

import (
	"context"

	"zealousferry/core/advise"
)

// Trouble is what to do with a unit whose run has stopped.
type Trouble struct {
	Run  string `json:"run"`
	Unit string `json:"unit"`
	Link string `json:"link"`
	advise.Advice
}

// TriedRung says which rung of the ladder was tried.
type TriedRung struct {
	Rung string `json:"rung" enum:"plug,ask,restart,lead,adapter,by-hand"`
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

// TryRung asks the unit once a rung was tried.
func (c *Client) TryRung(ctx context.Context, run, rung string) (Trouble, error) {
	return post[Trouble](ctx, c, "/api/runs/"+segment(run)+"/tried", TriedRung{rung})
}

// DecideUnit sets a unit apart, or takes it back.
func (c *Client) DecideUnit(ctx context.Context, unit string, d UnitDecision) (UnitPage, error) {
	return post[UnitPage](ctx, c, "/api/units/"+segment(unit)+"/decision", d)
}

package client

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
)

// Adapters lists the adapters and what is known of them.
func (c *Client) Adapters(ctx context.Context) (Adapters, error) {
	return whole(ctx, c, "/api/adapters", func(all *Adapters, p Adapters) { all.Adapters = append(all.Adapters, p.Adapters...) })
}

// PutAdapter enters an adapter, or what changed about it.
func (c *Client) PutAdapter(ctx context.Context, a NewAdapter) (Adapter, error) {
	return post[Adapter](ctx, c, "/api/adapters", a)
}

// Gear lists what the team has for its jobs.
func (c *Client) Gear(ctx context.Context) (Gear, error) {
	return whole(ctx, c, "/api/gear", func(all *Gear, p Gear) { all.Gear = append(all.Gear, p.Gear...) })
}

// PutGear adds or changes a thing.
func (c *Client) PutGear(ctx context.Context, g NewGear) (fit.Have, error) {
	return post[fit.Have](ctx, c, "/api/gear", g)
}

// DropGear takes a thing off the list.
func (c *Client) DropGear(ctx context.Context, id string) error {
	return c.call(ctx, "POST", "/api/gear/"+segment(id)+"/drop", nil, nil)
}

// Gear is what the team has for its jobs.
type Gear struct {
	Gear []fit.Have `json:"gear" nullable:"false"`
	Paged
}

// NewGear adds a thing, or changes the one with the id.
type NewGear struct {
	ID      string     `json:"id,omitempty" maxLength:"36"`
	Kind    string     `json:"kind" enum:"accessory,cable,adapter,software,entitlement"`
	Name    string     `json:"name" minLength:"1" maxLength:"80"`
	Version string     `json:"version,omitempty" maxLength:"40"`
	Owner   string     `json:"owner" minLength:"1" maxLength:"120"`
	Expires *time.Time `json:"expires,omitempty"`
	Left    *int       `json:"left,omitempty" minimum:"0" maximum:"1000000"`
	Cost    string     `json:"cost,omitempty" maxLength:"40"`
	Note    string     `json:"note,omitempty" maxLength:"400"`
}

// Kept is evidence that was stored.
type Kept struct {
	Digest core.Digest `json:"digest"`
}

// Adapter is an adapter with its record.
type Adapter struct {
	Serial   string     `json:"serial"`
	Name     string     `json:"name" doc:"As in a sheet's wants."`
	Volts    string     `json:"volts,omitempty" doc:"Position of its voltage selector."`
	Inverted bool       `json:"inverted"`
	Firmware string     `json:"firmware,omitempty" doc:"Its own."`
	Latency  int        `json:"latency,omitempty" doc:"ms, of its driver."`
	State    string     `json:"state" enum:"ready,lent,set-aside,retired"`
	Note     string     `json:"note,omitempty"`
	Tested   *time.Time `json:"tested,omitempty" doc:"Its last self-test."`
	Sound    bool       `json:"sound" doc:"The self-test's result."`
	Links    []string   `json:"links" nullable:"false" doc:"Where it is now."`
	Changed  time.Time  `json:"changed"`
	By       string     `json:"by"`
	Families []Family   `json:"families" nullable:"false" doc:"Learned from runs."`
	Unit     string     `json:"unit,omitempty" doc:"Its id in the register, where it is a unit itself: its own firmware is updated by a run like any other."`
	Newer    string     `json:"newer,omitempty" doc:"The release of its own firmware that fits and is newer."`
	At       string     `json:"at,omitempty" doc:"The link where it was read last as a unit."`
}

// Family is how an adapter did with a model.
type Family struct {
	Model  string `json:"model"`
	Worked int    `json:"worked"`
	Failed int    `json:"failed"`
}

// Adapters is a list.
type Adapters struct {
	Adapters []Adapter `json:"adapters" nullable:"false"`
	Paged
}

// NewAdapter enters an adapter, or what changed about it.
type NewAdapter struct {
	Serial   string `json:"serial" minLength:"1" maxLength:"64"`
	Name     string `json:"name" minLength:"1" maxLength:"80"`
	Volts    string `json:"volts,omitempty" maxLength:"20"`
	Inverted bool   `json:"inverted,omitempty"`
	Firmware string `json:"firmware,omitempty" maxLength:"40"`
	Latency  int    `json:"latency,omitempty" minimum:"0" maximum:"1000"`
	State    string `json:"state,omitempty" enum:"ready,lent,set-aside,retired"`
	Note     string `json:"note,omitempty" maxLength:"400"`
}

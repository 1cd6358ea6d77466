package client

import (
	"context"
	"net/url"
	"time"
)

// Site is where units are. A unit is at it if its place is the site's name, or begins
// with that and a comma.
type Site struct {
	Name     string            `json:"name"`
	Customer string            `json:"customer,omitempty"`
	Contact  string            `json:"contact,omitempty" doc:"Whom to ask."`
	Note     string            `json:"note,omitempty" doc:"How to get in."`
	Facts    map[string]string `json:"facts" nullable:"false" doc:"What holds for every unit there, where nothing better is known: region, video standard, supply."`
	By       string            `json:"by"`
	At       time.Time         `json:"at"`
	// Addresses are of the list alone.
	Addresses []SiteAddress `json:"addresses,omitempty" doc:"Where its units are found on its network, as they were read last."`
}

// Sites lists sites.
type Sites struct {
	Sites []Site `json:"sites" nullable:"false"`
	Paged
}

// NewSite enters a site, or changes it.
type NewSite struct {
	Name     string            `json:"name" minLength:"2" maxLength:"120"`
	Customer string            `json:"customer,omitempty" maxLength:"120"`
	Contact  string            `json:"contact,omitempty" maxLength:"400"`
	Note     string            `json:"note,omitempty" maxLength:"800"`
	Facts    map[string]string `json:"facts,omitempty"`
}

// Join says that a unit was entered twice.
type Join struct {
	Into   string `json:"into" minLength:"1" maxLength:"64" doc:"The unit that it is: id or serial."`
	Reason string `json:"reason" minLength:"3" maxLength:"400"`
}

// Sites lists all sites.
func (c *Client) Sites(ctx context.Context, begins, after string) (Sites, error) {
	return get[Sites](ctx, c, "/api/sites?q="+url.QueryEscape(begins)+"&after="+url.QueryEscape(after))
}

// PutSite enters a site, or changes it.
func (c *Client) PutSite(ctx context.Context, s NewSite) (Site, error) {
	return post[Site](ctx, c, "/api/sites", s)
}

// JoinUnit says that a unit was entered twice, and which one it is.
func (c *Client) JoinUnit(ctx context.Context, unit string, j Join) (UnitPage, error) {
	return post[UnitPage](ctx, c, "/api/units/"+segment(unit)+"/join", j)
}

// MarkMistake says that a unit was never there.
func (c *Client) MarkMistake(ctx context.Context, unit, reason string) (Unit, error) {
	return post[Unit](ctx, c, "/api/units/"+segment(unit)+"/mistake", Reason{reason})
}

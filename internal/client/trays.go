package client

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/run"
)

// Tray is many units that get the same release in one go, and how far each of them is.
type Tray struct {
	TrayRow
	Links    []TrayLink  `json:"links" nullable:"false" doc:"As they lie on the bench."`
	Places   []TrayPlace `json:"places" nullable:"false"`
	Any      bool        `json:"any" doc:"Whatever is plugged in gets a place."`
	Alone    bool        `json:"alone" doc:"The first goes alone, and opens the rest when it is proven."`
	Opener   int         `json:"opener,omitempty" doc:"Number of the place that went first and was proven."`
	Stop     int         `json:"stop" doc:"As many failures stop it; 0 is never."`
	Failures []int       `json:"failures" nullable:"false" doc:"Numbers of the places that count against it."`
	Gate     *core.Said  `json:"gate,omitempty" doc:"Why no further unit is begun now."`
	Now      core.Said   `json:"now" doc:"How it stands, in a sentence."`
	core.Todo
	Stopped string     `json:"stopped,omitempty" doc:"Why a person has stopped it."`
	Hand    *TrayHand  `json:"hand,omitempty" doc:"The one hand that is wanted first, for all places."`
	Hands   []TrayItem `json:"hands" nullable:"false" doc:"What hands do, for all places, as far as it is asked now."`
	Open    []int      `json:"open" nullable:"false" doc:"Numbers of the places that are not done; they stay on its list by name when it is closed."`
	Closing string     `json:"closing,omitempty"`
	Tree    *Tree      `json:"tree,omitempty" doc:"The checkpoint of all histories when this was put together: on paper it holds them."`
}

// TrayRow is what lists show of a tray.
type TrayRow struct {
	ID        string         `json:"id"`
	Bench     string         `json:"bench"`
	Online    bool           `json:"online"`
	Model     string         `json:"model"`
	ModelName string         `json:"modelName"`
	Release   string         `json:"release"`
	Version   string         `json:"version"`
	Job       uint64         `json:"job"`
	Reason    string         `json:"reason"`
	By        string         `json:"by"`
	At        time.Time      `json:"at"`
	Closed    *time.Time     `json:"closed,omitempty"`
	Units     int            `json:"units"`
	Count     map[string]int `json:"count" nullable:"false" doc:"Places by their state."`
}

// TrayLink is a link of a tray.
type TrayLink struct {
	Link   string     `json:"link"`
	Place  int        `json:"place,omitempty" doc:"Number of the place whose unit is on it, as far as is known."`
	Absent string     `json:"absent,omitempty"`
	Says   *core.Said `json:"says,omitempty" doc:"Who was met on it and was not begun, and why."`
	Seen   *time.Time `json:"seen,omitempty" doc:"When that was."`
}

// TrayPlace is a unit of a tray.
type TrayPlace struct {
	N       int        `json:"n" doc:"From 1."`
	Unit    string     `json:"unit"`
	Serial  string     `json:"serial"`
	Link    string     `json:"link,omitempty"`
	State   string     `json:"state" enum:"not-seen,at-work,hands-off,waits,half-done,done,current,not-proven,failed,refused,left-out,again"`
	Says    core.Said  `json:"says"`
	From    string     `json:"from,omitempty" doc:"What it ran."`
	Run     string     `json:"run,omitempty"`
	Step    run.Phase  `json:"step,omitempty" doc:"Stop on the line of its run."`
	Done    uint64     `json:"done,omitempty" doc:"Bytes of the step."`
	Total   uint64     `json:"total,omitempty"`
	Touch   int64      `json:"touch,omitempty" doc:"Microseconds until it may be touched; -1 where it is not known."`
	Hands   *run.Hands `json:"hands,omitempty"`
	Changed *time.Time `json:"changed,omitempty"`
	By      string     `json:"by,omitempty"`
}

// TrayHand is what a person is to do next.
type TrayHand struct {
	Place int         `json:"place"`
	Run   string      `json:"run"`
	Hands run.Hands   `json:"hands"`
	Item  *model.Item `json:"item,omitempty"`
	Turn  int         `json:"turn"`
	Turns int         `json:"turns"`
	Back  string      `json:"back,omitempty"`
}

// TrayItem is one thing that hands do, for all places.
type TrayItem struct {
	Says  string `json:"says"`
	Turn  int    `json:"turn"`
	Waits []int  `json:"waits" nullable:"false" doc:"Numbers of the places that wait for it."`
}

// Trays is a page of trays.
type Trays struct {
	Trays []TrayRow `json:"trays" nullable:"false"`
	Paged
}

// NewTray opens a tray.
type NewTray struct {
	Model   string   `json:"model" minLength:"1" maxLength:"63"`
	Release string   `json:"release" minLength:"1" maxLength:"64" doc:"Version or id."`
	Links   []string `json:"links" minItems:"1" maxItems:"64" doc:"BENCH/LINK, of one bench, as they lie on it."`
	Units   []string `json:"units,omitempty" maxItems:"500" doc:"Ids or serials of the units that are expected."`
	Site    string   `json:"site,omitempty" maxLength:"120" doc:"All units of the model at this site are expected."`
	Behind  bool     `json:"behind,omitempty" doc:"Of those at the site, or of the whole model where none is named, the ones are expected that are due this release."`
	InOrder bool     `json:"inOrder,omitempty" doc:"The units named are on the links, in this order."`
	Any     bool     `json:"any,omitempty" doc:"Whatever is plugged in gets a place."`
	Alone   bool     `json:"alone,omitempty" doc:"The first goes alone, and opens the rest when it is proven."`
	Stop    int      `json:"stop,omitempty" minimum:"0" maximum:"500" doc:"As many failures stop it; 0 is never."`
	Reason  string   `json:"reason,omitempty" maxLength:"400" doc:"Why it is done; of a job of its own."`
	Asked   string   `json:"asked,omitempty" maxLength:"120" doc:"Who asked for it."`
	Test    string   `json:"test,omitempty" maxLength:"400" doc:"What is tried on each unit in the end."`
	Job     uint64   `json:"job,omitempty" doc:"That it belongs to; one of its own where it is 0."`
	Waive   []string `json:"waive,omitempty" maxItems:"8" doc:"Gates that a lead passes by name for each of its units, with the reason."`
}

// TrayStep is a person's word about a tray.
type TrayStep struct {
	Do     string `json:"do" enum:"next,leave,again,stop,go-on,close" doc:"next: the next unit is on a link; leave: a unit is left out; again: it may be begun once more; stop: no further unit is begun; go-on: in spite of what stopped it; close: the tray is over."`
	Link   string `json:"link,omitempty" maxLength:"120" doc:"On which the next unit is."`
	Unit   string `json:"unit,omitempty" maxLength:"64" doc:"Id or serial. With next: the serial on the label, where the unit is told by it alone."`
	Reason string `json:"reason,omitempty" maxLength:"400"`
}

// OpenTray opens a tray.
func (c *Client) OpenTray(ctx context.Context, n NewTray) (Tray, error) {
	return post[Tray](ctx, c, "/api/trays", n)
}

// Tray gets a tray by its id, or the start of it.
func (c *Client) Tray(ctx context.Context, id string) (Tray, error) {
	return get[Tray](ctx, c, "/api/trays/"+url.PathEscape(id))
}

// Trays lists trays, open ones first, then the newest.
func (c *Client) Trays(ctx context.Context, open bool, after string) (Trays, error) {
	return get[Trays](ctx, c, fmt.Sprintf("/api/trays?open=%t&after=%s", open, url.QueryEscape(after)))
}

// StepTray says a person's word about a tray.
func (c *Client) StepTray(ctx context.Context, id string, s TrayStep) (Tray, error) {
	return post[Tray](ctx, c, "/api/trays/"+url.PathEscape(id)+"/step", s)
}

// BenchTray is a tray as a bench goes by it: which of its links it asks who is there.
type BenchTray struct {
	ID    string            `json:"id"`
	Model string            `json:"model"`
	Stays []string          `json:"stays,omitempty"` // serials of units that are half done: they stay in their loader
	Marks map[string]uint64 `json:"marks"`           // by link: one that has settled is asked again when its number has changed
	Put   []string          `json:"put,omitempty"`   // links of which a person has said which unit is on them
}

// TraySeen is who answered on a link of a tray; with an empty result the unit is there that a
// person has said, and cannot be asked.
type TraySeen struct {
	Link   string `json:"link"`
	Result Result `json:"result"`
}

// TrayTold is what came of it.
type TrayTold struct {
	Settled bool `json:"settled"` // it need not be asked again before something changes
}

// TraySeen tells the service who answered on a link of a tray.
func (c *Client) TraySeen(ctx context.Context, id string, s TraySeen) (TrayTold, error) {
	return post[TrayTold](ctx, c, "/api/bench/trays/"+segment(id)+"/seen", s)
}

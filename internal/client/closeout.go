package client

import (
	"context"
	"fmt"
	"time"

	"zealousferry/core/handover"
)

// Owed is what a run has left at a unit by name.
type Owed struct {
	Unit    string    `json:"unit" doc:"Id."`
	Serial  string    `json:"serial"`
	Site    string    `json:"site,omitempty"`
	Kind    string    `json:"kind" enum:"lock,settings,undo,finding,give,public"`
	Section string    `json:"section,omitempty"`
	Item    string    `json:"item,omitempty"`
	Says    string    `json:"says"`
	By      string    `json:"by,omitempty" doc:"Who left it."`
	Reason  string    `json:"reason,omitempty"`
	Since   time.Time `json:"since"`
	Run     string    `json:"run,omitempty"`
	ByHand  bool      `json:"byHand" doc:"A person may say that it is done; the rest a run discharges."`
}

// OwedDone says that it is done.
type OwedDone struct {
	Kind    string `json:"kind" enum:"undo,finding,give"`
	Section string `json:"section,omitempty" maxLength:"63"`
	Item    string `json:"item,omitempty" maxLength:"140" doc:"Which; may be empty where there is only one."`
	Note    string `json:"note" minLength:"3" maxLength:"400" doc:"How it was done."`
}

// Offer is what was seen at a unit and not ordered.
type Offer struct {
	Number uint64     `json:"number"`
	Unit   string     `json:"unit" doc:"Id."`
	Serial string     `json:"serial"`
	Site   string     `json:"site,omitempty"`
	Says   string     `json:"says"`
	Photo  string     `json:"photo,omitempty"`
	Run    string     `json:"run,omitempty"`
	By     string     `json:"by"`
	At     time.Time  `json:"at"`
	Ended  *time.Time `json:"ended,omitempty"`
	How    string     `json:"how,omitempty" doc:"What came of it."`
}

// NewOffer notes one.
type NewOffer struct {
	Says  string `json:"says" minLength:"3" maxLength:"400"`
	Photo string `json:"photo,omitempty" maxLength:"64" doc:"Digest of evidence that was sent."`
	Run   string `json:"run,omitempty" maxLength:"36" doc:"During which it was seen."`
}

// OfferEnd says what came of an offer.
type OfferEnd struct {
	How string `json:"how" minLength:"3" maxLength:"400" doc:"A job was made of it, the customer does not want it, it was nothing."`
}

// HandOver is the note for whoever has a unit next.
type HandOver struct {
	Unit      string    `json:"unit"`
	ModelName string    `json:"modelName"`
	Site      string    `json:"site,omitempty"`
	Running   string    `json:"running,omitempty"`
	At        time.Time `json:"at"`
	Job       uint64    `json:"job,omitempty"`
	Why       string    `json:"why,omitempty"`
	handover.Note
	Offers []Offer     `json:"offers" nullable:"false"`
	Photos []PhotoPair `json:"photos" nullable:"false" doc:"Of the last run: as found beside as left."`
	Tree   *Tree       `json:"tree,omitempty" doc:"The checkpoint of all histories when this was put together: on paper it holds them."`
}

// PhotoPair is a picture as found beside one as left.
type PhotoPair struct {
	Says  string `json:"says"`
	Found string `json:"found,omitempty"`
	Left  string `json:"left,omitempty"`
}

// NewBorrowed notes a change for a while.
type NewBorrowed struct {
	Says string `json:"says" minLength:"3" maxLength:"200" doc:"What was changed, as it is to be put back: the plug of the satellite receiver, borrowed."`
}

// Borrow notes a change for a while in a run.
func (c *Client) Borrow(ctx context.Context, run string, n NewBorrowed) (Run, error) {
	return post[Run](ctx, c, "/api/runs/"+segment(run)+"/borrowed", n)
}

// OwedDone says that what was left at a unit is done.
func (c *Client) OwedDone(ctx context.Context, unit string, d OwedDone) (UnitPage, error) {
	return post[UnitPage](ctx, c, "/api/units/"+segment(unit)+"/owed", d)
}

// AddOffer notes what was seen at a unit.
func (c *Client) AddOffer(ctx context.Context, unit string, n NewOffer) (Offer, error) {
	return post[Offer](ctx, c, "/api/units/"+segment(unit)+"/offers", n)
}

// EndOffer says what came of an offer.
func (c *Client) EndOffer(ctx context.Context, number uint64, e OfferEnd) error {
	_, err := post[struct{}](ctx, c, fmt.Sprintf("/api/offers/%d/end", number), e)
	return err
}

// HandOver reads the note for whoever has a unit next.
func (c *Client) HandOver(ctx context.Context, unit string) (HandOver, error) {
	return get[HandOver](ctx, c, "/api/units/"+segment(unit)+"/handover")
}

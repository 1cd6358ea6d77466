package client

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
)

// Bulletin is what is known of a complaint about a model: which units have it, how it
// shows, what mends it.
type Bulletin struct {
	Number    uint64      `json:"number"`
	Model     string      `json:"model"`
	Title     string      `json:"title"`
	Says      string      `json:"says" doc:"What it is and what mends it."`
	For       string      `json:"for" doc:"Which units are meant, in words; empty: all."`
	Codes     []string    `json:"codes" nullable:"false"`
	Words     []string    `json:"words" nullable:"false"`
	By        string      `json:"by"`
	At        time.Time   `json:"at"`
	Ended     *time.Time  `json:"ended,omitempty"`
	EndedWhy  string      `json:"endedWhy,omitempty"`
	SpeaksWhy []core.Said `json:"speaksWhy,omitempty" doc:"Of a unit: by what it speaks to it."`
}

// Bulletins is a list of bulletins.
type Bulletins struct {
	Bulletins []Bulletin `json:"bulletins" nullable:"false"`
	Paged
}

// NewBulletin enters what is known of a complaint.
type NewBulletin struct {
	Model string       `json:"model" minLength:"1" maxLength:"63"`
	Title string       `json:"title" minLength:"3" maxLength:"120"`
	Says  string       `json:"says" minLength:"3" maxLength:"2000" doc:"What it is and what mends it."`
	When  []model.Rule `json:"when,omitempty" maxItems:"20" doc:"Which units are meant: all of these rules hold, or it is not known whether they do; all units where it is empty."`
	Codes []string     `json:"codes,omitempty" maxItems:"50" doc:"Fault codes by which it shows, such as C1A10-12, or C1A10 for any failure type."`
	Words []string     `json:"words,omitempty" maxItems:"50" doc:"What is said of a unit that has it, such as drops. Without codes and words, it speaks to every unit that is meant."`
}

// BulletinEnd has nobody told of it any more.
type BulletinEnd struct {
	Reason string `json:"reason" minLength:"3" maxLength:"400"`
}

// CodeTextsPut is what came of a list of texts.
type CodeTextsPut struct {
	Model string `json:"model"`
	Put   int    `json:"put" doc:"Texts that stand now."`
	Taken int    `json:"taken" doc:"Codes whose line had no text: theirs is taken away."`
}

// Bulletins lists those of a model, or of all; with ended, also those that have ended.
func (c *Client) Bulletins(ctx context.Context, modelName string, ended bool) (Bulletins, error) {
	return whole(ctx, c, "/api/bulletins?"+url.Values{"model": {modelName}, "ended": {fmt.Sprint(ended)}}.Encode(), func(all *Bulletins, p Bulletins) { all.Bulletins = append(all.Bulletins, p.Bulletins...) })
}

// AddBulletin enters one.
func (c *Client) AddBulletin(ctx context.Context, n NewBulletin) (Bulletin, error) {
	return post[Bulletin](ctx, c, "/api/bulletins", n)
}

// EndBulletin has nobody told of it any more.
func (c *Client) EndBulletin(ctx context.Context, number uint64, reason string) error {
	_, err := post[struct{}](ctx, c, fmt.Sprintf("/api/bulletins/%d/end", number), BulletinEnd{Reason: reason})
	return err
}

// PutCodeTexts gives the service a CSV file (RFC 4180) with the columns code and says.
func (c *Client) PutCodeTexts(ctx context.Context, modelName string, file []byte) (out CodeTextsPut, err error) {
	err = c.call(ctx, "POST", "/api/models/"+segment(modelName)+"/codes", file, &out)
	return out, err
}

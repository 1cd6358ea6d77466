package client

import (
	"context"
	"fmt"
	"net/url"
	"time"
)

// Sign enters a signature of a release's document.
func (c *Client) Sign(ctx context.Context, release, signature string) (Release, error) {
	return post[Release](ctx, c, "/api/releases/"+segment(release)+"/sign", Signature{signature})
}

// ImportPack takes in a release pack.
func (c *Client) ImportPack(ctx context.Context, pack []byte, accept string, older bool) (Imported, error) {
	return post[Imported](ctx, c, "/api/packs?"+url.Values{"accept": {accept}, "older": {fmt.Sprint(older)}}.Encode(), pack)
}

// Keys lists the keys whose signatures count.
func (c *Client) Keys(ctx context.Context) (Keys, error) {
	return whole(ctx, c, "/api/keys", func(all *Keys, p Keys) { all.Keys = append(all.Keys, p.Keys...) })
}

// AddKey decides to trust a key.
func (c *Client) AddKey(ctx context.Context, k NewKey) (Key, error) {
	return post[Key](ctx, c, "/api/keys", k)
}

// RevokeKey ends the trust in a key.
func (c *Client) RevokeKey(ctx context.Context, id, reason string) error {
	return c.call(ctx, "POST", "/api/keys/"+segment(id)+"/revoke", Reason{reason}, nil)
}

// Signature is a detached JWS of a release's document.
type Signature struct {
	Signature string `json:"signature" maxLength:"4096"`
}

// Key is a key in the team's list.
type Key struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Public  []byte     `json:"public" doc:"Ed25519, base64."`
	From    time.Time  `json:"from"`
	Until   *time.Time `json:"until,omitempty"`
	Revoked *time.Time `json:"revoked,omitempty"`
	Reason  string     `json:"reason,omitempty"`
	By      string     `json:"by"`
	State   string     `json:"state" enum:"trusted,not-yet,over,revoked,waits" doc:"waits: for a second lead, who trusts it too."`
	Second  string     `json:"second,omitempty" doc:"The second lead."`
}

// Keys is the team's list.
type Keys struct {
	Keys []Key `json:"keys" nullable:"false"`
	Paged
}

// NewKey puts a key into the list.
type NewKey struct {
	Name   string     `json:"name" minLength:"1" maxLength:"120"`
	Public []byte     `json:"public"`
	From   *time.Time `json:"from,omitempty"`
	Until  *time.Time `json:"until,omitempty"`
}

// Imported is what came of a release pack.
type Imported struct {
	Series   string    `json:"series"`
	Number   uint64    `json:"number"`
	Date     time.Time `json:"date"`
	By       string    `json:"by,omitempty" doc:"Name of the key that signed it."`
	Releases []Release `json:"releases" nullable:"false"`
	New      int       `json:"new" doc:"Releases that were not there yet."`
}

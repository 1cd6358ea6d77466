package client

import (
	"context"
	"time"
)

// ModelSecret is what units of a model ask for before they let anybody touch their
// memory. Its value is never shown.
type ModelSecret struct {
	Name  string     `json:"name"`
	Asked bool       `json:"asked" doc:"The sheet in force asks for it."`
	By    string     `json:"by,omitempty" doc:"Who entered it; empty: nobody has."`
	At    *time.Time `json:"at,omitempty"`
	Uses  int        `json:"uses" doc:"How often it was given to a bench."`
	Last  *time.Time `json:"last,omitempty" doc:"When it was given last."`
}

// NewModelSecret enters one; an empty value removes it.
type NewModelSecret struct {
	Name  string `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,39}$"`
	Value string `json:"value" maxLength:"200"`
}

// WantSecret asks for a secret for an open run.
type WantSecret struct {
	Run  string `json:"run"`
	Name string `json:"name"`
}

// GivenSecret is the answer.
type GivenSecret struct {
	Value string `json:"value"`
}

// WantKey asks for the key that is made of a module's seed with a secret, for an open run.
type WantKey struct {
	WantSecret
	Level uint8  `json:"level" doc:"Of security access (ISO 14229-1); odd."`
	Seed  []byte `json:"seed" maxLength:"256"`
}

// GivenKey is the answer.
type GivenKey struct {
	Key []byte `json:"key"`
}

// PutModelSecret enters a secret of a model, or removes it.
func (c *Client) PutModelSecret(ctx context.Context, model string, s NewModelSecret) error {
	_, err := post[struct{}](ctx, c, "/api/models/"+segment(model)+"/secrets", s)
	return err
}

// BenchSecret asks for a secret of a model, as the bench that works on a run.
func (c *Client) BenchSecret(ctx context.Context, w WantSecret) (string, error) {
	g, err := post[GivenSecret](ctx, c, "/api/bench/secret", w)
	return g.Value, err
}

// BenchKey asks for the key of a module, as the bench that works on a run. The secret
// itself stays with the service.
func (c *Client) BenchKey(ctx context.Context, w WantKey) ([]byte, error) {
	g, err := post[GivenKey](ctx, c, "/api/bench/key", w)
	return g.Key, err
}

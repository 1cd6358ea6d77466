package client

import (
	"context"
	"time"

	"zealousferry/core"
)

// WhoAmI is the person whose token this is.
func (c *Client) WhoAmI(ctx context.Context) (Person, error) {
	return get[Person](ctx, c, "/api/session")
}

// NewSignInCode asks for a one-use code to open the console.
func (c *Client) NewSignInCode(ctx context.Context) (Code, error) {
	return post[Code](ctx, c, "/api/session/codes", nil)
}

// Person is somebody of the team.
type Person struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Role string `json:"role" enum:"technician,lead,viewer"`
}

// Code is a one-use code, shown once.
type Code struct {
	Code    string    `json:"code"`
	Expires time.Time `json:"expires"`
}

// Names is a list of digests.
type Names struct {
	Names []core.Digest `json:"names"`
}

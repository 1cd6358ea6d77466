package client

import (
	"context"

	"zealousferry/core/visit"
)

// NewTry tries a sheet on a link.
type NewTry struct {
	At      string `json:"at" minLength:"1" maxLength:"120" doc:"A link (BENCH/NAME) or a unit's serial."`
	Sheet   string `json:"sheet" minLength:"1" maxLength:"1048576" doc:"The sheet, as YAML; it need not be in force."`
	Section string `json:"section,omitempty" maxLength:"40" doc:"Which part; the one with the unit's own program where it is empty."`
	Write   bool   `json:"write,omitempty" doc:"Also erase the last sector that the program may fill, and write back what it held (lead)."`
}

// Tried is what came of it.
type Tried struct {
	visit.Tried
	Link      string `json:"link"`
	Model     string `json:"model"`
	Well      bool   `json:"well" doc:"All that was tried went well."`
	Proven    bool   `json:"proven" doc:"The sheet is the one in force, and counts as tried from now on."`
	Recording string `json:"recording" doc:"All that was said, in the form of docs/protocols/monitor.md."`
}

// Try tries a sheet on a link.
func (c *Client) Try(ctx context.Context, n NewTry) (Tried, error) {
	return post[Tried](ctx, c, "/api/try", n)
}

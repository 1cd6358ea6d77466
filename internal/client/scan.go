package client

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/loader"
)

// NewScan asks a whole assembly, such as a vehicle, what is in it.
type NewScan struct {
	At    string `json:"at" minLength:"1" maxLength:"120" doc:"The link to its gateway or bus (BENCH/NAME)."`
	Model string `json:"model,omitempty" maxLength:"63" doc:"Model of the assembly; the only one whose sheet names slots and that answers there, where it is left out."`
}

// Scanned is what was found.
type Scanned struct {
	Link       string       `json:"link"`
	Model      string       `json:"model"`
	ModelName  string       `json:"modelName"`
	Serial     string       `json:"serial,omitempty" doc:"What the assembly itself says that it is, such as its vehicle identification number."`
	Unit       string       `json:"unit,omitempty"`
	Modules    []Module     `json:"modules" nullable:"false"`
	Gateway    *GatewayTold `json:"gateway,omitempty" doc:"What its gateway says of itself, where there is one that does."`
	Warn       []string     `json:"warn" nullable:"false" doc:"What may disturb a write to any of its modules."`
	Conditions []core.Fact  `json:"conditions" nullable:"false" doc:"What it tells of itself that changes while one looks on, such as where its key stands."`
	Silent     int          `json:"silent" doc:"How many modules that should be there do not answer."`
	Behind     int          `json:"behind" doc:"For how many a newer release fits."`
	Faults     int          `json:"faults" doc:"How many fault codes there are."`
}

// GatewayTold is what a vehicle's gateway says of itself (ISO 13400-2: entity status and
// diagnostic power mode).
type GatewayTold struct {
	Others int    `json:"others" doc:"How many other testers are connected to it now."`
	Most   int    `json:"most" doc:"How many it takes; 0 where it does not tell."`
	Power  string `json:"power,omitempty" enum:"ready,not-ready,not-told" doc:"Whether the vehicle is ready for diagnosis."`
}

// Module is what is in a slot.
type Module struct {
	Slot      string `json:"slot" doc:"Empty for the assembly's own section."`
	At        string `json:"at" doc:"BENCH/LINK, and the slot behind it."`
	Title     string `json:"title"`
	Bus       string `json:"bus,omitempty"`
	Model     string `json:"model,omitempty"`
	ModelName string `json:"modelName,omitempty"`
	Serial    string `json:"serial,omitempty"`
	Unit      string `json:"unit,omitempty"`
	State     string `json:"state,omitempty" doc:"The unit's standing in the register."`
	Revision  string `json:"revision,omitempty"`
	Running   string `json:"running,omitempty" doc:"The version that it says it runs; empty where it runs none."`
	Boot      bool   `json:"boot,omitempty" doc:"It answers and runs no program: it is in its boot loader, where an earlier write may have left it."`
	Newer     string `json:"newer,omitempty" doc:"The release that fits and should go in."`
	Current   bool   `json:"current,omitempty" doc:"It runs what should go in."`
	Verdict   string `json:"verdict,omitempty" doc:"Why that one, or why none."`
	// Of the message in Verdict, and what was put into it.
	VerdictID     string        `json:"verdictId,omitempty" doc:"Of that message, as docs/messages.md lists it."`
	VerdictParams []string      `json:"verdictParams,omitempty" doc:"What was put into it, in order."`
	Codes         []loader.Code `json:"codes" nullable:"false"`
	Bulletins     []Bulletin    `json:"bulletins" nullable:"false" doc:"That speak to it, by its codes and by what is said of it."`
	Silent        bool          `json:"silent,omitempty"`
	Empty         bool          `json:"empty,omitempty" doc:"It is silent and its slot may be empty."`
	Error         string        `json:"error,omitempty"`
	Next          string        `json:"next,omitempty"`
}

// Scan asks a whole assembly what is in it.
func (c *Client) Scan(ctx context.Context, n NewScan) (Scanned, error) {
	return post[Scanned](ctx, c, "/api/scan", n)
}

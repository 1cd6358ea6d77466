package client

import (
	"context"
	"net/url"
)

// IdentifyAs asks as one model; with await a person applies the power while the
// bench calls.
func (c *Client) IdentifyAs(ctx context.Context, at, label, model string, await bool) (Identity, error) {
	return post[Identity](ctx, c, "/api/identify", NewIdentify{At: at, Label: label, Model: model, Await: await})
}

// Check proves a link, or finds out why nothing sensible comes over it.
func (c *Client) Check(ctx context.Context, n NewCheck) (Check, error) {
	return post[Check](ctx, c, "/api/checks", n)
}

// Checks lists the checks of a link.
func (c *Client) Checks(ctx context.Context, at string) (Checks, error) {
	return get[Checks](ctx, c, "/api/checks?"+url.Values{"at": {at}}.Encode())
}

// Listen hears what is on a line.
func (c *Client) Listen(ctx context.Context, n NewListen) (Heard, error) {
	return post[Heard](ctx, c, "/api/listen", n)
}

// PutWires says which colours the wires on a link have.
func (c *Client) PutWires(ctx context.Context, n NewWires) (Wires, error) {
	return post[Wires](ctx, c, "/api/wires", n)
}

// Echo asks whether what is sent comes back.
func (c *Client) Echo(ctx context.Context, at string) (Echoed, error) {
	return post[Echoed](ctx, c, "/api/echo", Echo{At: at})
}

// Ports lists the serial ports of a bench.
func (c *Client) Ports(ctx context.Context, bench string) (Ports, error) {
	return get[Ports](ctx, c, "/api/benches/"+segment(bench)+"/ports")
}

// Answer answers the item that a run waits for.
func (c *Client) Answer(ctx context.Context, id string, a NewAnswer) (Run, error) {
	return post[Run](ctx, c, "/api/runs/"+segment(id)+"/answers", a)
}

// Card is the job card of a unit or of what is on a link.
func (c *Client) Card(ctx context.Context, at, release, adapter string) (Card, error) {
	return get[Card](ctx, c, "/api/card?"+url.Values{"at": {at}, "release": {release}, "adapter": {adapter}}.Encode())
}

// Adapters lists the adapters and what is known of them.
func (c *Client) Adapters(ctx context.Context) (Adapters, error) {
	return get[Adapters](ctx, c, "/api/adapters")
}

// PutAdapter enters an adapter, or what changed about it.
func (c *Client) PutAdapter(ctx context.Context, a NewAdapter) (Adapter, error) {
	return post[Adapter](ctx, c, "/api/adapters", a)
}

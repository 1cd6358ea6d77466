package links

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// Routes are the room's calls: who may call what.
func (v *Links) Routes(api huma.API) {
	frame.Route(v.Frame, api, "GET", "/api/links", "list-links", frame.Viewer, "Links of all benches, and what is on them", v.listLinks)
	frame.Route(v.Frame, api, "POST", "/api/identify", "identify", frame.Technician, "Ask the unit on a link who it is", v.Identify)
	frame.Route(v.Frame, api, "POST", "/api/links", "set-link", frame.Technician, "Make a link of a bench, change where it goes, or remove it", v.setLink)
	frame.Route(v.Frame, api, "GET", "/api/benches/{bench}/ports", "list-ports", frame.Viewer, "Serial ports of a bench and the adapters behind them", v.listPorts)
	frame.Route(v.Frame, api, "POST", "/api/checks", "check-link", frame.Technician, "Prove a link, or find out why nothing sensible comes", v.Check)
	frame.Route(v.Frame, api, "GET", "/api/asked", "get-asked", frame.Viewer, "What is being asked on a link just now, and how far it is", v.getAsked)
	frame.Route(v.Frame, api, "POST", "/api/asked/end", "end-asked", frame.Technician, "End what is being asked on a link before it is over", v.endAsked)
	frame.Route(v.Frame, api, "GET", "/api/checks", "list-checks", frame.Viewer, "The checks of a link, the newest first", v.listChecks)
	frame.Route(v.Frame, api, "POST", "/api/echo", "echo", frame.Technician, "Send a few bytes on a link and see whether they come back", v.echo)
	frame.Route(v.Frame, api, "POST", "/api/listen", "listen", frame.Technician, "Hear what is on a line, and say a line of text to the program", v.listen)
	frame.Route(v.Frame, api, "POST", "/api/wires", "put-wires", frame.Technician, "Say which colours the wires on a link have this time", v.putWires)
	frame.Route(v.Frame, api, "GET", "/api/adapters", "list-adapters", frame.Viewer, "Adapters and their records", v.listAdapters)
	frame.Route(v.Frame, api, "POST", "/api/adapters", "put-adapter", frame.Technician, "Enter an adapter, or what changed about it", v.putAdapter)
	frame.Route(v.Frame, api, "POST", "/api/try", "try-sheet", frame.Technician, "Try a sheet on a link: what was said, what came, which pattern took what", v.try)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/orders/{order}/told", "tell-order", frame.BenchOnly, "How far the bench is with an order", v.tellOrder)
}

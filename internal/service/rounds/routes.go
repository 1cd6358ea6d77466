package rounds

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// Routes are the room's calls: who may call what.
func (v *Rounds) Routes(api huma.API) {
	frame.Route(v.Frame, api, "GET", "/api/rounds", "list-rounds", frame.Viewer, "Rounds of vehicles: open ones first, then the newest", v.listRounds)
	frame.Route(v.Frame, api, "POST", "/api/rounds", "begin-round", frame.Technician, "Begin a round of a vehicle: all modules are asked, and what they say is kept as found", v.beginRound)
	frame.Route(v.Frame, api, "GET", "/api/rounds/{round}", "get-round", frame.Viewer, "A round by its id, or the open one, or else the newest, of a vehicle", v.getRound)
	frame.Raw(v.Frame, api, "GET", "/api/rounds/{round}/report.pdf", "print-round", frame.Viewer, "The report of a round to print: each module as found and as left, every fault code, what was done", v.printRound)
	frame.Route(v.Frame, api, "POST", "/api/rounds/{round}/step", "step-round", frame.Technician, "Carry the turn that is next out, leave it, go back, or close the round", v.stepRound)
	frame.Route(v.Frame, api, "GET", "/api/trays", "list-trays", frame.Viewer, "Trays: open ones first, then the newest", v.ListTrays)
	frame.Route(v.Frame, api, "POST", "/api/trays", "open-tray", frame.Technician, "Open a tray: many units that get the same release in one go. Whoever is plugged in and belongs to it is begun", v.openTray)
	frame.Route(v.Frame, api, "GET", "/api/trays/{tray}", "get-tray", frame.Viewer, "A tray by its id or the start of it: each place, which hand is wanted first, why nobody is begun", v.getTray)
	frame.Raw(v.Frame, api, "GET", "/api/trays/{tray}/sheet.pdf", "print-tray", frame.Viewer, "The sheet of a tray to print: every unit, how it stands and why", v.printTray)
	frame.Raw(v.Frame, api, "GET", "/api/trays/{tray}/labels.pdf", "print-labels", frame.Viewer, "Labels to print of the units of a tray that run its release: Code 128 and QR", v.printLabels)
	frame.Route(v.Frame, api, "POST", "/api/trays/{tray}/step", "step-tray", frame.Technician, "Say that the next unit is on a link, leave one out, begin one again, stop the tray, let it go on, close it", v.stepTray)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/trays/{tray}/seen", "tray-seen", frame.BenchOnly, "Who is on a link of a tray; whoever belongs to it is begun", v.traySeen)
}

package service

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// routes is the table of the API: who may call what.
func (v *Service) routes(api huma.API) {
	v.Runs.Routes(api)
	v.Units.Routes(api)
	v.Links.Routes(api)
	v.Catalogue.Routes(api)
	v.Gear.Routes(api)
	v.Evidence.Routes(api)
	v.People.Routes(api)

	frame.Route(v.Frame, api, "GET", "/api/benches", "list-benches", frame.Viewer, "Benches", v.listBenches)
	frame.Route(v.Frame, api, "POST", "/api/benches/codes", "new-bench-code", frame.Lead, "A one-use code to enrol a bench", v.newBenchCode)
	frame.Route(v.Frame, api, "POST", "/api/benches/{bench}/name", "rename-bench", frame.Lead, "Give a bench another name", v.renameBench)
	frame.Route(v.Frame, api, "POST", "/api/benches/{bench}/revoke", "revoke-bench", frame.Lead, "End a bench's right to speak", v.revokeBench)

	frame.Route(v.Frame, api, "GET", "/api/rounds", "list-rounds", frame.Viewer, "Rounds of vehicles: open ones first, then the newest", v.listRounds)
	frame.Route(v.Frame, api, "POST", "/api/rounds", "begin-round", frame.Technician, "Begin a round of a vehicle: all modules are asked, and what they say is kept as found", v.beginRound)
	frame.Route(v.Frame, api, "GET", "/api/rounds/{round}", "get-round", frame.Viewer, "A round by its id, or the open one, or else the newest, of a vehicle", v.getRound)
	frame.Raw(v.Frame, api, "GET", "/api/rounds/{round}/report.pdf", "print-round", frame.Viewer, "The report of a round to print: each module as found and as left, every fault code, what was done", v.printRound)
	frame.Route(v.Frame, api, "POST", "/api/rounds/{round}/step", "step-round", frame.Technician, "Carry the turn that is next out, leave it, go back, or close the round", v.stepRound)
	frame.Route(v.Frame, api, "GET", "/api/trays", "list-trays", frame.Viewer, "Trays: open ones first, then the newest", v.listTrays)
	frame.Route(v.Frame, api, "POST", "/api/trays", "open-tray", frame.Technician, "Open a tray: many units that get the same release in one go. Whoever is plugged in and belongs to it is begun", v.openTray)
	frame.Route(v.Frame, api, "GET", "/api/trays/{tray}", "get-tray", frame.Viewer, "A tray by its id or the start of it: each place, which hand is wanted first, why nobody is begun", v.getTray)
	frame.Raw(v.Frame, api, "GET", "/api/trays/{tray}/sheet.pdf", "print-tray", frame.Viewer, "The sheet of a tray to print: every unit, how it stands and why", v.printTray)
	frame.Raw(v.Frame, api, "GET", "/api/trays/{tray}/labels.pdf", "print-labels", frame.Viewer, "Labels to print of the units of a tray that run its release: Code 128 and QR", v.printLabels)
	frame.Route(v.Frame, api, "POST", "/api/trays/{tray}/step", "step-tray", frame.Technician, "Say that the next unit is on a link, leave one out, begin one again, stop the tray, let it go on, close it", v.stepTray)

	frame.Route(v.Frame, api, "GET", "/api/today", "today", frame.Viewer, "What is unfinished, and what was closed lately", v.today)

	frame.Tolerant(v.Frame, api, "POST", "/api/bench/enrol", "enrol", frame.Anybody, "Enrol with a one-use code", v.enrol)
	frame.Route(v.Frame, api, "POST", "/api/bench/renew-key", "renew-bench-key", frame.BenchOnly, "Have the bench sign with another key from now on, as both keys have signed", v.renewBenchKey)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/join", "join", frame.BenchOnly, "Say what the bench has, every few seconds", v.join)
	frame.Stream(v.Frame, api, "/api/bench/orders", "orders", frame.BenchOnly, "The bench's orders", v.orders)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/orders/{order}", "end-order", frame.BenchOnly, "What came of an order", v.endOrder)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/events", "take-events", frame.BenchOnly, "A run's events, each once", v.takeEvents)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/missing", "missing", frame.BenchOnly, "Which pieces the shelf lacks", v.missing)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/backups", "store-backup", frame.BenchOnly, "Keep a backup whose pieces are there", v.storeBackup)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/trays/{tray}/seen", "tray-seen", frame.BenchOnly, "Who is on a link of a tray; whoever belongs to it is begun", v.traySeen)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/may-write", "may-write", frame.BenchOnly, "Whether a run's release still stands, before its first erase", v.mayWrite)
	frame.Route(v.Frame, api, "GET", "/api/bench/runs/{run}/events", "moved-run", frame.BenchOnly, "The events of a run that was handed to this bench", v.movedRun)
	frame.Raw(v.Frame, api, "POST", "/api/bench/pieces", "get-pieces", frame.BenchOnly, "Many pieces of the shelf, framed as docs/api.md says", v.getPieces)
	frame.Upload(v.Frame, api, "PUT", "/api/bench/pieces", "put-pieces", frame.BenchOnly, "Pieces for the shelf, framed as docs/api.md says", "application/octet-stream", v.putPieces)
	frame.Raw(v.Frame, api, "GET", "/api/bench/blobs/{digest}", "get-blob", frame.BenchOnly, "Content by SHA-256", v.getBlob)
}

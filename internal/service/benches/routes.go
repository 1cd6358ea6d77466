package benches

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// Routes are the room's calls: who may call what.
func (v *Benches) Routes(api huma.API) {
	frame.Route(v.Frame, api, "GET", "/api/benches", "list-benches", frame.Viewer, "Benches", v.listBenches)
	frame.Route(v.Frame, api, "POST", "/api/benches/codes", "new-bench-code", frame.Lead, "A one-use code to enrol a bench", v.newBenchCode)
	frame.Route(v.Frame, api, "POST", "/api/benches/{bench}/name", "rename-bench", frame.Lead, "Give a bench another name", v.renameBench)
	frame.Route(v.Frame, api, "POST", "/api/benches/{bench}/revoke", "revoke-bench", frame.Lead, "End a bench's right to speak", v.revokeBench)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/enrol", "enrol", frame.Anybody, "Enrol with a one-use code", v.enrol)
	frame.Route(v.Frame, api, "POST", "/api/bench/renew-key", "renew-bench-key", frame.BenchOnly, "Have the bench sign with another key from now on, as both keys have signed", v.renewBenchKey)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/join", "join", frame.BenchOnly, "Say what the bench has, every few seconds", v.join)
	frame.Stream(v.Frame, api, "/api/bench/orders", "orders", frame.BenchOnly, "The bench's orders", v.orders)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/orders/{order}", "end-order", frame.BenchOnly, "What came of an order", v.endOrder)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/events", "take-events", frame.BenchOnly, "A run's events, each once", v.takeEvents)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/missing", "missing", frame.BenchOnly, "Which pieces the shelf lacks", v.missing)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/backups", "store-backup", frame.BenchOnly, "Keep a backup whose pieces are there", v.storeBackup)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/may-write", "may-write", frame.BenchOnly, "Whether a run's release still stands, before its first erase", v.mayWrite)
	frame.Route(v.Frame, api, "GET", "/api/bench/runs/{run}/events", "moved-run", frame.BenchOnly, "The events of a run that was handed to this bench", v.movedRun)
	frame.Raw(v.Frame, api, "POST", "/api/bench/pieces", "get-pieces", frame.BenchOnly, "Many pieces of the shelf, framed as docs/api.md says", v.getPieces)
	frame.Upload(v.Frame, api, "PUT", "/api/bench/pieces", "put-pieces", frame.BenchOnly, "Pieces for the shelf, framed as docs/api.md says", "application/octet-stream", v.putPieces)
	frame.Raw(v.Frame, api, "GET", "/api/bench/blobs/{digest}", "get-blob", frame.BenchOnly, "Content by SHA-256", v.getBlob)
}

package evidence

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// Routes are the room's calls: who may call what.
func (v *Evidence) Routes(api huma.API) {
	frame.Route(v.Frame, api, "GET", "/api/audit", "get-audit", frame.Lead, "What was done about who may what, the newest first", v.getAudit)
	frame.Route(v.Frame, api, "POST", "/api/audit/all", "audit-all", frame.Lead, "Hold the histories of all units against the tree, a part at a time", v.checkAll, frame.Of(frame.Looks))
	frame.Route(v.Frame, api, "GET", "/api/retention", "retention", frame.Viewer, "How long photos, traces and the audit log are kept", v.retention)
	frame.Route(v.Frame, api, "POST", "/api/retention", "put-retention", frame.Lead, "Settle how long photos, traces and the audit log are kept", v.putRetention)
	frame.Upload(v.Frame, api, "POST", "/api/evidence", "put-evidence", frame.Technician, "Keep a photo or a text that stands behind a fact", "application/octet-stream", v.putEvidence)
	frame.Route(v.Frame, api, "POST", "/api/evidence/{digest}/remove", "remove-evidence", frame.Lead, "Remove a photo or text for good; its digest stays wherever it is named", v.removeEvidence)
	frame.Raw(v.Frame, api, "GET", "/api/evidence/{digest}", "get-evidence", frame.Viewer, "Evidence by its SHA-256", v.getEvidence)
	frame.Route(v.Frame, api, "GET", "/api/units/{unit}/history", "get-history", frame.Viewer, "A unit's history, checked", v.GetHistory)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/heads", "show-heads", frame.BenchOnly, "The heads of history that a bench has kept: what is here is held against them", v.showHeads)
}

package units

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// Routes are the room's calls: who may call what.
func (v *Units) Routes(api huma.API) {
	frame.Route(v.Frame, api, "POST", "/api/scan", "scan", frame.Technician, "Ask a whole assembly, such as a vehicle, which modules it has, what they run and which faults they have noted; nothing is changed", v.scan)
	frame.Route(v.Frame, api, "GET", "/api/units", "list-units", frame.Viewer, "Units, a page at a time", v.listUnits)
	frame.Route(v.Frame, api, "POST", "/api/units", "enter-unit", frame.Technician, "Enter a unit before anybody has seen it", v.enterUnit)
	frame.Upload(v.Frame, api, "POST", "/api/units/list", "enter-units", frame.Technician, "Enter the units of a CSV file (RFC 4180) with the columns model, serial, site, customer, note; the answer reports line by line", "text/csv", v.enterUnits)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/correct", "correct-unit", frame.Technician, "Correct what the register says of a unit", v.correctUnit)
	frame.Route(v.Frame, api, "GET", "/api/units/{unit}", "get-unit", frame.Viewer, "A unit by id or serial", frame.Reading(v.GetUnit))
	frame.Route(v.Frame, api, "GET", "/api/units/{unit}/backups", "list-backups", frame.Viewer, "A unit's backups", v.listBackups)
	frame.Route(v.Frame, api, "GET", "/api/units/{unit}/memory", "get-memory", frame.Viewer, "A unit's memory against a release, by sectors", v.getMemory)
	frame.Route(v.Frame, api, "GET", "/api/units/{unit}/inside", "get-inside", frame.Viewer, "What a unit's memory holds, by content", v.getInside)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/facts", "note-facts", frame.Technician, "Note what a label or a person says", v.noteFacts)
	frame.Route(v.Frame, api, "GET", "/api/fit", "fit", frame.Viewer, "Which release fits a unit, and why", frame.Reading(v.fit))
	frame.Route(v.Frame, api, "GET", "/api/bulletins", "list-bulletins", frame.Viewer, "What is known of complaints, by model", v.listBulletins)
	frame.Route(v.Frame, api, "POST", "/api/bulletins", "add-bulletin", frame.Lead, "Enter what is known of a complaint: which units have it, how it shows, what mends it", v.addBulletin)
	frame.Route(v.Frame, api, "POST", "/api/bulletins/{bulletin}/end", "end-bulletin", frame.Lead, "Have nobody told of a bulletin any more", v.endBulletin)
	frame.Upload(v.Frame, api, "POST", "/api/models/{model}/codes", "put-code-texts", frame.Lead, "What fault codes of a model mean, as a CSV file (RFC 4180) with the columns code and says; it goes before what the sheet says. A line without a text takes the code's text away", "text/csv", v.putCodeTexts)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/join", "join-unit", frame.Lead, "Say that a unit was entered twice, and which one it is", v.joinUnit)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/mistake", "mark-mistake", frame.Technician, "Say that a unit was entered by mistake", v.markMistake)
	frame.Route(v.Frame, api, "GET", "/api/sites", "list-sites", frame.Viewer, "Sites: whose they are, whom to ask, how to get in, what holds for every unit there", v.listSites)
	frame.Route(v.Frame, api, "POST", "/api/sites", "put-site", frame.Technician, "Enter a site, or what changed about it", v.putSite)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/consents", "consent", frame.Lead, "Consent to what not every unit may have", v.consent)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/tests", "answer-test", frame.Technician, "Answer a finishing test that an earlier run left open", v.answerTest)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/backups/{backup}/name", "name-backup", frame.Technician, "Give a backup a name", v.nameBackup)
	frame.Route(v.Frame, api, "GET", "/api/holds", "list-holds", frame.Viewer, "Units, and models with a revision, that are to stay at a release", v.listHolds)
	frame.Route(v.Frame, api, "POST", "/api/holds", "put-hold", frame.Lead, "Hold a unit, or a model with a revision, at a release", v.putHold)
	frame.Route(v.Frame, api, "POST", "/api/holds/end", "end-hold", frame.Lead, "End a hold", v.endHold)
	frame.Route(v.Frame, api, "GET", "/api/jobs", "list-jobs", frame.Viewer, "Jobs: open ones by their day, or closed ones", v.listJobs)
	frame.Route(v.Frame, api, "POST", "/api/jobs", "add-job", frame.Technician, "Enter a job", v.addJob)
	frame.Route(v.Frame, api, "GET", "/api/jobs/{job}", "get-job", frame.Viewer, "A job, its units and how far they are", v.GetJob)
	frame.Route(v.Frame, api, "POST", "/api/jobs/{job}", "change-job", frame.Technician, "Change an open job, and its scope", v.changeJob)
	frame.Route(v.Frame, api, "POST", "/api/jobs/{job}/close", "close-job", frame.Technician, "Close a job", v.closeJob)
}

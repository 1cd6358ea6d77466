package runs

import (
	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service/frame"
)

// Routes are the room's calls: who may call what.
func (v *Runs) Routes(api huma.API) {
	frame.Route(v.Frame, api, "GET", "/api/card", "get-card", frame.Viewer, "The job card of a unit", frame.Reading(v.getCard))
	frame.Raw(v.Frame, api, "GET", "/api/card.pdf", "print-card", frame.Viewer, "The job card to print", frame.Reading(v.printCard))
	frame.Route(v.Frame, api, "GET", "/api/units/{unit}/settings", "unit-settings", frame.Viewer, "What a unit is set to, as it was read last; secret values are masked", v.unitSettings)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/settings/show", "show-setting", frame.Technician, "The value of a secret setting: once to whoever comes first after it was set, later to a lead who says why; each time is noted", v.showSetting)
	frame.Route(v.Frame, api, "GET", "/api/profiles", "get-profile", frame.Viewer, "What a site, or the template of a model, has for settings; secret values are masked", v.getProfile)
	frame.Route(v.Frame, api, "POST", "/api/profiles", "put-profile", frame.Technician, "Change what a site, or the template of a model, has for settings", v.putProfile)
	frame.Route(v.Frame, api, "GET", "/api/seconds", "list-seconds", frame.Viewer, "What leads are asked to give leave for, and whether that is wanted", v.listSeconds)
	frame.Route(v.Frame, api, "POST", "/api/seconds", "ask-second", frame.Technician, "Ask a lead for leave to do what cannot be taken back, for one run", v.askSecond)
	frame.Route(v.Frame, api, "POST", "/api/seconds/rule", "put-second-rule", frame.Lead, "Settle whether what cannot be taken back wants two persons", v.putSecondRule)
	frame.Route(v.Frame, api, "GET", "/api/seconds/{second}", "get-second", frame.Viewer, "What somebody asks leave for, and what stands in the way now", v.getSecond)
	frame.Route(v.Frame, api, "POST", "/api/seconds/{second}", "decide-second", frame.Lead, "Give leave, or refuse it; nobody decides on what he has asked himself", v.decideSecond)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/decision", "decide-unit", frame.Technician, "Set a unit apart, say that it is not to be used, or take it back", v.decideUnit)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/owed", "owed-done", frame.Technician, "Say that what a run has left at a unit is done", v.owedDone)
	frame.Route(v.Frame, api, "POST", "/api/units/{unit}/offers", "add-offer", frame.Technician, "Note what was seen at a unit that nobody had ordered", v.addOffer)
	frame.Route(v.Frame, api, "POST", "/api/offers/{offer}/end", "end-offer", frame.Technician, "Say what came of an offer", v.endOffer)
	frame.Route(v.Frame, api, "GET", "/api/units/{unit}/handover", "handover", frame.Viewer, "What was done to a unit, what was not, and what whoever has it next does first", v.handover)
	frame.Raw(v.Frame, api, "GET", "/api/units/{unit}/handover.pdf", "print-handover", frame.Viewer, "The same to print", v.printHandover)
	frame.Raw(v.Frame, api, "GET", "/api/jobs/{job}/take.zip", "take-job", frame.Technician, "What a job wants on the laptop: the card of each unit, the files of the releases that are to go in, the model sheets", v.takeJob, frame.Of(frame.Works))
	frame.Route(v.Frame, api, "GET", "/api/runs", "list-runs", frame.Viewer, "Runs, the newest first", v.listRuns)
	frame.Route(v.Frame, api, "POST", "/api/admission", "admission", frame.Viewer, "What would stop a run, before anybody moves a hand", frame.Reading(v.admission))
	frame.Route(v.Frame, api, "POST", "/api/runs", "open-run", frame.Technician, "Open a run", v.openRun)
	frame.Route(v.Frame, api, "POST", "/api/rehearsals", "rehearse", frame.Technician, "Do a run on a twin of the unit, made from its backup: does it end right, what is asked, what is lost", v.rehearse, frame.Of(frame.Works))
	frame.Route(v.Frame, api, "POST", "/api/releases/{release}/rehearsals", "rehearse-release", frame.Lead, "Rehearse a release over the backups of its model's units, some at a time", v.rehearseRelease, frame.Of(frame.Works))
	frame.Route(v.Frame, api, "GET", "/api/runs/{run}", "get-run", frame.Viewer, "A run and how it stands", v.getRun)
	frame.Stream(v.Frame, api, "/api/runs/{run}/events", "follow-run", frame.Viewer, "A run's live stream", v.followRun)
	frame.Raw(v.Frame, api, "GET", "/api/runs/{run}/support.zip", "support-run", frame.Technician, "One file that explains a run to somebody who was not there: events, record, history, sheet, release, checks of the link, traces of the line, pictures; no secret", v.supportRun, frame.Of(frame.Works))
	frame.Route(v.Frame, api, "POST", "/api/runs/{run}/answers", "answer-run", frame.Technician, "Answer the item that a run waits for", v.answerRun)
	frame.Route(v.Frame, api, "POST", "/api/runs/{run}/stop", "stop-run", frame.Technician, "Stop after the action in hand", v.stopRun)
	frame.Route(v.Frame, api, "POST", "/api/runs/{run}/resume", "resume-run", frame.Technician, "Take a paused run up again", v.resumeRun)
	frame.Route(v.Frame, api, "GET", "/api/runs/{run}/trouble", "trouble", frame.Viewer, "What to do with a unit whose run has stopped: what condition it is in, the choices in order of safety, the ladder of repeats", v.trouble)
	frame.Route(v.Frame, api, "GET", "/api/runs/{run}/traces", "traces", frame.Technician, "What was said over a run's links until something went wrong; of memory little, of secrets nothing", v.traces)
	frame.Route(v.Frame, api, "POST", "/api/runs/{run}/tried", "try-rung", frame.Technician, "Ask the unit once a rung of the ladder was tried, and keep what came of it", v.tryRung)
	frame.Route(v.Frame, api, "POST", "/api/runs/{run}/borrowed", "borrow", frame.Technician, "Note a change for a while that no procedure names; the run closes once it is taken back, or left by name", v.borrow)
	frame.Route(v.Frame, api, "POST", "/api/runs/{run}/lay-aside", "lay-aside-run", frame.Technician, "Let a run wait for days, with the unit where it is; its link is free meanwhile", v.layAsideRun)
	frame.Route(v.Frame, api, "POST", "/api/runs/{run}/abandon", "abandon-run", frame.Technician, "Close a paused run by name; what it owes stays with the unit", v.abandonRun)
	frame.Route(v.Frame, api, "POST", "/api/runs/{run}/release", "release-run", frame.Lead, "Give up a run whose bench does not come back", v.releaseRun)
	frame.Tolerant(v.Frame, api, "POST", "/api/bench/settings-key", "bench-settings-key", frame.BenchOnly, "The key under which an open run seals secret settings", v.benchSettingsKey)
}

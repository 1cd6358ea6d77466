package service

import (
	"context"
	"encoding/json"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/client"
)

// none is a call without parameters or answer.
type none struct{}

// body wraps an answer for huma.
type body[T any] struct{ Body T }

// routes is the table of the API: who may call what.
func (v *Service) routes(api huma.API) {
	raw(v, api, "POST", "/api/session", "sign-in", anybody, "Sign in with a one-use code or a password", v.signIn)
	raw(v, api, "DELETE", "/api/session", "sign-out", Viewer, "Sign out", v.signOut)
	route(v, api, "GET", "/api/session", "who-am-i", Viewer, "Who is signed in", v.whoAmI)
	route(v, api, "GET", "/api/session/provider", "which-provider", anybody, "The team's identity provider, if it has one", v.whichProvider)
	route(v, api, "POST", "/api/session/provider", "leave-for-provider", anybody, "Where the browser goes to be signed in by the identity provider (OpenID Connect, code flow with PKCE)", v.leaveFor)
	route(v, api, "POST", "/api/session/passkey", "dare-passkey", anybody, "What a passkey is to sign to sign somebody in", v.daresPasskey)
	route(v, api, "POST", "/api/session/confirm/passkey", "dare-again", Viewer, "What a passkey of one's own is to sign to make sure that it is oneself", v.daresAgain)
	route(v, api, "POST", "/api/passkeys/begin", "new-passkey", Viewer, "Begin to add a passkey of one's own", v.newPasskey)
	route(v, api, "POST", "/api/passkeys", "add-passkey", Viewer, "Keep the passkey that one's device has made", v.addPasskey)
	route(v, api, "POST", "/api/passkeys/{id}/end", "end-passkey", Viewer, "Take a passkey of one's own away", v.endPasskey)
	route(v, api, "POST", "/api/session/password", "set-password", Viewer, "Set one's own password", v.setPassword)
	route(v, api, "POST", "/api/session/codes", "new-sign-in-code", Viewer, "A one-use code to sign in to the console as oneself", v.newSignInCode)

	route(v, api, "POST", "/api/session/factor", "new-factor", Viewer, "Make a second factor of one's own (TOTP, RFC 6238); it counts once its first code was shown", v.newFactor)
	route(v, api, "POST", "/api/session/confirm", "confirm", Viewer, "Show one's second factor: the first code makes it count, each makes sure for five minutes that it is oneself", v.confirm)
	route(v, api, "POST", "/api/people/{person}/factor/end", "end-factor", Lead, "Take somebody's second factor away, whose device is lost", v.endFactor)
	route(v, api, "GET", "/api/people", "list-people", Viewer, "The team; where somebody is signed in, for leads and of oneself", v.listPeople)
	route(v, api, "POST", "/api/people", "invite", Lead, "Add somebody, who gets a one-use link", v.invite)
	route(v, api, "POST", "/api/people/{person}", "change-person", Lead, "Give somebody another role or address", v.changeMember)
	route(v, api, "POST", "/api/people/{person}/end", "end-person", Lead, "End somebody's account at once: sessions, tokens, links and streams", v.endMember)
	route(v, api, "POST", "/api/people/{person}/link", "link-for-person", Lead, "A new one-use link for somebody", v.newLinkFor)
	route(v, api, "POST", "/api/access/tokens", "make-token", Viewer, "Make a token of one's own, with a name, a scope and an end", v.makeToken)
	route(v, api, "POST", "/api/access/{id}/end", "end-access", Viewer, "End a session or token: one's own, or as a lead anybody's", v.endAccess)
	route(v, api, "POST", "/api/machines", "ask-machine", anybody, "Ask for a machine to be signed in as somebody (RFC 8628)", v.askMachine)
	route(v, api, "POST", "/api/machines/ask", "machine-state", anybody, "Whether somebody has let the machine in; its token comes once", v.machineState)
	route(v, api, "GET", "/api/machines/{code}", "waiting-machine", Viewer, "The machine that waits with a code", v.waitingMachine)
	route(v, api, "POST", "/api/machines/{code}", "let-in", Viewer, "Let a machine in as oneself, or refuse it", v.letIn)
	route(v, api, "GET", "/api/audit", "get-audit", Lead, "What was done about who may what, the newest first", v.getAudit)
	route(v, api, "POST", "/api/audit/all", "audit-all", Lead, "Hold the histories of all units against the tree, a part at a time", v.checkAll)
	route(v, api, "GET", "/api/benches", "list-benches", Viewer, "Benches", v.listBenches)
	route(v, api, "POST", "/api/benches/codes", "new-bench-code", Lead, "A one-use code to enrol a bench", v.newBenchCode)
	route(v, api, "GET", "/api/retention", "retention", Viewer, "How long photos are kept", v.retention)
	route(v, api, "POST", "/api/retention", "put-retention", Lead, "Settle how long photos are kept", v.putRetention)
	route(v, api, "POST", "/api/benches/{bench}/name", "rename-bench", Lead, "Give a bench another name", v.renameBench)
	route(v, api, "POST", "/api/benches/{bench}/revoke", "revoke-bench", Lead, "End a bench's right to speak", v.revokeBench)
	route(v, api, "GET", "/api/links", "list-links", Viewer, "Links of all benches, and what is on them", v.listLinks)
	route(v, api, "POST", "/api/identify", "identify", Technician, "Ask the unit on a link who it is", v.identify)
	route(v, api, "POST", "/api/links", "set-link", Technician, "Make a link of a bench, change where it goes, or remove it", v.setLink)
	route(v, api, "GET", "/api/benches/{bench}/ports", "list-ports", Viewer, "Serial ports of a bench and the adapters behind them", v.listPorts)
	route(v, api, "POST", "/api/checks", "check-link", Technician, "Prove a link, or find out why nothing sensible comes", v.check)
	route(v, api, "GET", "/api/asked", "get-asked", Viewer, "What is being asked on a link just now, and how far it is", v.getAsked)
	route(v, api, "POST", "/api/asked/end", "end-asked", Technician, "End what is being asked on a link before it is over", v.endAsked)
	route(v, api, "GET", "/api/checks", "list-checks", Viewer, "The checks of a link, the newest first", v.listChecks)
	route(v, api, "POST", "/api/echo", "echo", Technician, "Send a few bytes on a link and see whether they come back", v.echo)
	route(v, api, "POST", "/api/listen", "listen", Technician, "Hear what is on a line, and say a line of text to the program", v.listen)
	route(v, api, "POST", "/api/wires", "put-wires", Technician, "Say which colours the wires on a link have this time", v.putWires)
	route(v, api, "GET", "/api/adapters", "list-adapters", Viewer, "Adapters and their records", v.listAdapters)
	route(v, api, "POST", "/api/adapters", "put-adapter", Technician, "Enter an adapter, or what changed about it", v.putAdapter)
	route(v, api, "GET", "/api/card", "get-card", Viewer, "The job card of a unit", v.getCard)
	raw(v, api, "GET", "/api/card.pdf", "print-card", Viewer, "The job card to print", v.printCard)

	route(v, api, "GET", "/api/models", "list-models", Viewer, "Models, a page at a time", v.listModels)
	upload(v, api, "PUT", "/api/models", "put-model", Lead, "Put a model sheet in force", "application/yaml", v.putModel)
	route(v, api, "POST", "/api/scan", "scan", Technician, "Ask a whole assembly, such as a vehicle, which modules it has, what they run and which faults they have noted; nothing is changed", v.scan)
	route(v, api, "GET", "/api/rounds", "list-rounds", Viewer, "Rounds of vehicles: open ones first, then the newest", v.listRounds)
	route(v, api, "POST", "/api/rounds", "begin-round", Technician, "Begin a round of a vehicle: all modules are asked, and what they say is kept as found", v.beginRound)
	route(v, api, "GET", "/api/rounds/{round}", "get-round", Viewer, "A round by its id, or the open one, or else the newest, of a vehicle", v.getRound)
	raw(v, api, "GET", "/api/rounds/{round}/report.pdf", "print-round", Viewer, "The report of a round to print: each module as found and as left, every fault code, what was done", v.printRound)
	route(v, api, "POST", "/api/rounds/{round}/step", "step-round", Technician, "Carry the turn that is next out, leave it, go back, or close the round", v.stepRound)
	route(v, api, "GET", "/api/trays", "list-trays", Viewer, "Trays: open ones first, then the newest", v.listTrays)
	route(v, api, "POST", "/api/trays", "open-tray", Technician, "Open a tray: many units that get the same release in one go. Whoever is plugged in and belongs to it is begun", v.openTray)
	route(v, api, "GET", "/api/trays/{tray}", "get-tray", Viewer, "A tray by its id or the start of it: each place, which hand is wanted first, why nobody is begun", v.getTray)
	raw(v, api, "GET", "/api/trays/{tray}/sheet.pdf", "print-tray", Viewer, "The sheet of a tray to print: every unit, how it stands and why", v.printTray)
	raw(v, api, "GET", "/api/trays/{tray}/labels.pdf", "print-labels", Viewer, "Labels to print of the units of a tray that run its release: Code 128 and QR", v.printLabels)
	route(v, api, "POST", "/api/trays/{tray}/step", "step-tray", Technician, "Say that the next unit is on a link, leave one out, begin one again, stop the tray, let it go on, close it", v.stepTray)
	route(v, api, "POST", "/api/try", "try-sheet", Technician, "Try a sheet on a link: what was said, what came, which pattern took what", v.try)
	route(v, api, "POST", "/api/models/{model}/secrets", "put-secret", Lead, "Enter a secret that a model's units ask for, or remove it; it is never shown again", v.putSecret)
	route(v, api, "GET", "/api/models/{model}", "get-model", Viewer, "A model, its sheet, and the matrix of revisions and releases", v.getModel)
	route(v, api, "GET", "/api/targets", "list-targets", Viewer, "Which release the team uses for which model and revision", v.listTargets)
	route(v, api, "POST", "/api/targets", "put-target", Lead, "Choose the release that the team uses for a model and revision", v.putTarget)
	upload(v, api, "POST", "/api/images", "put-image", Lead, "Keep an image file", "application/octet-stream", v.putImage)
	upload(v, api, "POST", "/api/images/inspect", "inspect-image", Viewer, "Look at a firmware file without keeping it", "application/octet-stream", v.inspect)
	upload(v, api, "POST", "/api/images/diff", "diff-images", Viewer, "How two firmware files differ", "application/octet-stream", v.diffImages)
	rawUpload(v, api, "POST", "/api/images/convert", "convert-image", Viewer, "A firmware file in another format", "application/octet-stream", v.convertImage)
	raw(v, api, "GET", "/api/images/{digest}", "get-image", Technician, "An image file by its SHA-256", v.getImage)
	route(v, api, "GET", "/api/releases", "list-releases", Viewer, "Releases, searched, a page at a time", v.listReleases)
	route(v, api, "POST", "/api/releases", "add-release", Lead, "Add a release", v.addRelease)
	route(v, api, "GET", "/api/releases/{release}", "get-release", Viewer, "A release by id or MODEL@VERSION", v.getRelease)
	raw(v, api, "GET", "/api/releases/{release}/document", "get-document", Viewer, "A release's document, byte for byte, to be signed", v.getDocument)
	route(v, api, "POST", "/api/releases/{release}/withdraw", "withdraw-release", Lead, "Take a release back, with a reason", v.withdraw)
	route(v, api, "POST", "/api/releases/{release}/take-out", "take-out-release", Lead, "Take a release out of the catalogue that nobody has used yet; its version is free again", v.takeOut)
	route(v, api, "POST", "/api/releases/{release}/accept", "accept-release", Lead, "Vouch by name for images that no trusted key signed", v.acceptRelease)
	route(v, api, "POST", "/api/releases/{release}/sign", "sign-release", Lead, "Enter a signature of a release's document", v.signRelease)
	upload(v, api, "POST", "/api/packs", "import-pack", Lead, "Take in a release pack", "application/zip", v.importPack)
	route(v, api, "GET", "/api/keys", "list-keys", Viewer, "Keys whose signatures count", v.listKeys)
	route(v, api, "POST", "/api/keys", "add-key", Lead, "Decide to trust a key", v.addKey)
	route(v, api, "POST", "/api/keys/{key}/revoke", "revoke-key", Lead, "End the trust in a key", v.revokeKey)
	route(v, api, "GET", "/api/gear", "list-gear", Viewer, "Adapters, cables, software and entitlements that the team has", v.listGear)
	route(v, api, "POST", "/api/gear", "put-gear", Technician, "Add or change a thing that the team has", v.putGear)
	route(v, api, "POST", "/api/gear/{gear}/drop", "drop-gear", Technician, "Take a thing off the list", v.dropGear)
	upload(v, api, "POST", "/api/evidence", "put-evidence", Technician, "Keep a photo or a text that stands behind a fact", "application/octet-stream", v.putEvidence)
	route(v, api, "POST", "/api/evidence/{digest}/remove", "remove-evidence", Lead, "Remove a photo or text for good; its digest stays wherever it is named", v.removeEvidence)
	raw(v, api, "GET", "/api/evidence/{digest}", "get-evidence", Viewer, "Evidence by its SHA-256", v.getEvidence)

	route(v, api, "GET", "/api/units", "list-units", Viewer, "Units, a page at a time", v.listUnits)
	route(v, api, "POST", "/api/units", "enter-unit", Technician, "Enter a unit before anybody has seen it", v.enterUnit)
	upload(v, api, "POST", "/api/units/list", "enter-units", Technician, "Enter the units of a CSV file (RFC 4180) with the columns model, serial, site, customer, note; the answer reports line by line", "text/csv", v.enterUnits)
	route(v, api, "POST", "/api/units/{unit}/correct", "correct-unit", Technician, "Correct what the register says of a unit", v.correctUnit)
	route(v, api, "GET", "/api/units/{unit}", "get-unit", Viewer, "A unit by id or serial", v.getUnit)
	route(v, api, "GET", "/api/units/{unit}/history", "get-history", Viewer, "A unit's history, checked", v.getHistory)
	route(v, api, "GET", "/api/units/{unit}/backups", "list-backups", Viewer, "A unit's backups", v.listBackups)
	route(v, api, "GET", "/api/units/{unit}/memory", "get-memory", Viewer, "A unit's memory against a release, by sectors", v.getMemory)
	route(v, api, "GET", "/api/units/{unit}/inside", "get-inside", Viewer, "What a unit's memory holds, by content", v.getInside)
	route(v, api, "POST", "/api/units/{unit}/facts", "note-facts", Technician, "Note what a label or a person says", v.noteFacts)
	route(v, api, "GET", "/api/fit", "fit", Viewer, "Which release fits a unit, and why", v.fit)

	route(v, api, "GET", "/api/bulletins", "list-bulletins", Viewer, "What is known of complaints, by model", v.listBulletins)
	route(v, api, "POST", "/api/bulletins", "add-bulletin", Lead, "Enter what is known of a complaint: which units have it, how it shows, what mends it", v.addBulletin)
	route(v, api, "POST", "/api/bulletins/{bulletin}/end", "end-bulletin", Lead, "Have nobody told of a bulletin any more", v.endBulletin)
	upload(v, api, "POST", "/api/models/{model}/codes", "put-code-texts", Lead, "What fault codes of a model mean, as a CSV file (RFC 4180) with the columns code and says; it goes before what the sheet says. A line without a text takes the code's text away", "text/csv", v.putCodeTexts)
	route(v, api, "POST", "/api/units/{unit}/join", "join-unit", Lead, "Say that a unit was entered twice, and which one it is", v.joinUnit)
	route(v, api, "POST", "/api/units/{unit}/mistake", "mark-mistake", Technician, "Say that a unit was entered by mistake", v.markMistake)
	route(v, api, "GET", "/api/units/{unit}/settings", "unit-settings", Viewer, "What a unit is set to, as it was read last; secret values are masked", v.unitSettings)
	route(v, api, "POST", "/api/units/{unit}/settings/show", "show-setting", Technician, "The value of a secret setting: once to whoever comes first after it was set, later to a lead who says why; each time is noted", v.showSetting)
	route(v, api, "GET", "/api/profiles", "get-profile", Viewer, "What a site, or the template of a model, has for settings; secret values are masked", v.getProfile)
	route(v, api, "POST", "/api/profiles", "put-profile", Technician, "Change what a site, or the template of a model, has for settings", v.putProfile)
	route(v, api, "GET", "/api/sites", "list-sites", Viewer, "Sites: whose they are, whom to ask, how to get in, what holds for every unit there", v.listSites)
	route(v, api, "POST", "/api/sites", "put-site", Technician, "Enter a site, or what changed about it", v.putSite)
	route(v, api, "GET", "/api/seconds", "list-seconds", Viewer, "What leads are asked to give leave for, and whether that is wanted", v.listSeconds)
	route(v, api, "POST", "/api/seconds", "ask-second", Technician, "Ask a lead for leave to do what cannot be taken back, for one run", v.askSecond)
	route(v, api, "POST", "/api/seconds/rule", "put-second-rule", Lead, "Settle whether what cannot be taken back wants two persons", v.putSecondRule)
	route(v, api, "GET", "/api/seconds/{second}", "get-second", Viewer, "What somebody asks leave for, and what stands in the way now", v.getSecond)
	route(v, api, "POST", "/api/seconds/{second}", "decide-second", Lead, "Give leave, or refuse it; nobody decides on what he has asked himself", v.decideSecond)
	route(v, api, "POST", "/api/units/{unit}/consents", "consent", Lead, "Consent to what not every unit may have", v.consent)
	route(v, api, "POST", "/api/units/{unit}/decision", "decide-unit", Technician, "Set a unit apart, say that it is not to be used, or take it back", v.decideUnit)
	route(v, api, "POST", "/api/units/{unit}/owed", "owed-done", Technician, "Say that what a run has left at a unit is done", v.owedDone)
	route(v, api, "POST", "/api/units/{unit}/offers", "add-offer", Technician, "Note what was seen at a unit that nobody had ordered", v.addOffer)
	route(v, api, "POST", "/api/offers/{offer}/end", "end-offer", Technician, "Say what came of an offer", v.endOffer)
	route(v, api, "GET", "/api/units/{unit}/handover", "handover", Viewer, "What was done to a unit, what was not, and what whoever has it next does first", v.handover)
	raw(v, api, "GET", "/api/units/{unit}/handover.pdf", "print-handover", Viewer, "The same to print", v.printHandover)
	route(v, api, "POST", "/api/units/{unit}/tests", "answer-test", Technician, "Answer a finishing test that an earlier run left open", v.answerTest)
	route(v, api, "POST", "/api/units/{unit}/backups/{backup}/name", "name-backup", Technician, "Give a backup a name", v.nameBackup)
	route(v, api, "GET", "/api/holds", "list-holds", Viewer, "Units, and models with a revision, that are to stay at a release", v.listHolds)
	route(v, api, "POST", "/api/holds", "put-hold", Lead, "Hold a unit, or a model with a revision, at a release", v.putHold)
	route(v, api, "POST", "/api/holds/end", "end-hold", Lead, "End a hold", v.endHold)

	route(v, api, "GET", "/api/today", "today", Viewer, "What is unfinished, and what was closed lately", v.today)
	route(v, api, "GET", "/api/jobs", "list-jobs", Viewer, "Jobs: open ones by their day, or closed ones", v.listJobs)
	route(v, api, "POST", "/api/jobs", "add-job", Technician, "Enter a job", v.addJob)
	route(v, api, "GET", "/api/jobs/{job}", "get-job", Viewer, "A job, its units and how far they are", v.getJob)
	raw(v, api, "GET", "/api/jobs/{job}/take.zip", "take-job", Technician, "What a job wants on the laptop: the card of each unit, the files of the releases that are to go in, the model sheets", v.takeJob)
	route(v, api, "POST", "/api/jobs/{job}", "change-job", Technician, "Change an open job, and its scope", v.changeJob)
	route(v, api, "POST", "/api/jobs/{job}/close", "close-job", Technician, "Close a job", v.closeJob)

	route(v, api, "GET", "/api/runs", "list-runs", Viewer, "Runs, the newest first", v.listRuns)
	route(v, api, "POST", "/api/admission", "admission", Viewer, "What would stop a run, before anybody moves a hand", v.admission)
	route(v, api, "POST", "/api/runs", "open-run", Technician, "Open a run", v.openRun)
	route(v, api, "POST", "/api/rehearsals", "rehearse", Technician, "Do a run on a twin of the unit, made from its backup: does it end right, what is asked, what is lost", v.rehearse)
	route(v, api, "POST", "/api/releases/{release}/rehearsals", "rehearse-release", Lead, "Rehearse a release over the backups of its model's units, some at a time", v.rehearseRelease)
	route(v, api, "GET", "/api/runs/{run}", "get-run", Viewer, "A run and how it stands", v.getRun)
	stream(v, api, "/api/runs/{run}/events", "follow-run", Viewer, "A run's live stream", v.followRun)
	raw(v, api, "GET", "/api/runs/{run}/support.zip", "support-run", Technician, "One file that explains a run to somebody who was not there: events, record, history, sheet, release, checks of the link, traces of the line, pictures; no secret", v.supportRun)
	route(v, api, "POST", "/api/runs/{run}/answers", "answer-run", Technician, "Answer the item that a run waits for", v.answerRun)
	route(v, api, "POST", "/api/runs/{run}/stop", "stop-run", Technician, "Stop after the action in hand", v.stopRun)
	route(v, api, "POST", "/api/runs/{run}/resume", "resume-run", Technician, "Take a paused run up again", v.resumeRun)
	route(v, api, "GET", "/api/runs/{run}/trouble", "trouble", Viewer, "What to do with a unit whose run has stopped: what condition it is in, the choices in order of safety, the ladder of repeats", v.trouble)
	route(v, api, "GET", "/api/runs/{run}/traces", "traces", Technician, "What was said over a run's links until something went wrong; of memory little, of secrets nothing", v.traces)
	route(v, api, "POST", "/api/runs/{run}/tried", "try-rung", Technician, "Ask the unit once a rung of the ladder was tried, and keep what came of it", v.tryRung)
	route(v, api, "POST", "/api/runs/{run}/borrowed", "borrow", Technician, "Note a change for a while that no procedure names; the run closes once it is taken back, or left by name", v.borrow)
	route(v, api, "POST", "/api/runs/{run}/lay-aside", "lay-aside-run", Technician, "Let a run wait for days, with the unit where it is; its link is free meanwhile", v.layAsideRun)
	route(v, api, "POST", "/api/runs/{run}/abandon", "abandon-run", Technician, "Close a paused run by name; what it owes stays with the unit", v.abandonRun)
	route(v, api, "POST", "/api/runs/{run}/release", "release-run", Lead, "Give up a run whose bench does not come back", v.releaseRun)

	tolerant(v, api, "POST", "/api/bench/enrol", "enrol", anybody, "Enrol with a one-use code", v.enrol)
	route(v, api, "POST", "/api/bench/renew-key", "renew-bench-key", benchOnly, "Have the bench sign with another key from now on, as both keys have signed", v.renewBenchKey)
	tolerant(v, api, "POST", "/api/bench/join", "join", benchOnly, "Say what the bench has, every few seconds", v.join)
	stream(v, api, "/api/bench/orders", "orders", benchOnly, "The bench's orders", v.orders)
	tolerant(v, api, "POST", "/api/bench/orders/{order}", "end-order", benchOnly, "What came of an order", v.endOrder)
	tolerant(v, api, "POST", "/api/bench/orders/{order}/told", "tell-order", benchOnly, "How far the bench is with an order", v.tellOrder)
	tolerant(v, api, "POST", "/api/bench/events", "take-events", benchOnly, "A run's events, each once", v.takeEvents)
	tolerant(v, api, "POST", "/api/bench/heads", "show-heads", benchOnly, "The heads of history that a bench has kept: what is here is held against them", v.showHeads)
	tolerant(v, api, "POST", "/api/bench/missing", "missing", benchOnly, "Which pieces the shelf lacks", v.missing)
	tolerant(v, api, "POST", "/api/bench/backups", "store-backup", benchOnly, "Keep a backup whose pieces are there", v.storeBackup)
	tolerant(v, api, "POST", "/api/bench/secret", "bench-secret", benchOnly, "A secret of the team's for an open run; each time is noted", v.benchSecret)
	tolerant(v, api, "POST", "/api/bench/settings-key", "bench-settings-key", benchOnly, "The key under which an open run seals secret settings", v.benchSettingsKey)
	tolerant(v, api, "POST", "/api/bench/key", "bench-key", benchOnly, "The key that is made of a module's seed with a secret of the team's, for an open run; each time is noted", v.benchSeedKey)
	tolerant(v, api, "POST", "/api/bench/trays/{tray}/seen", "tray-seen", benchOnly, "Who is on a link of a tray; whoever belongs to it is begun", v.traySeen)
	tolerant(v, api, "POST", "/api/bench/may-write", "may-write", benchOnly, "Whether a run's release still stands, before its first erase", v.mayWrite)
	route(v, api, "GET", "/api/bench/runs/{run}/events", "moved-run", benchOnly, "The events of a run that was handed to this bench", v.movedRun)
	raw(v, api, "POST", "/api/bench/pieces", "get-pieces", benchOnly, "Many pieces of the shelf, framed as docs/api.md says", v.getPieces)
	upload(v, api, "PUT", "/api/bench/pieces", "put-pieces", benchOnly, "Pieces for the shelf, framed as docs/api.md says", "application/octet-stream", v.putPieces)
	raw(v, api, "GET", "/api/bench/blobs/{digest}", "get-blob", benchOnly, "Content by SHA-256", v.getBlob)
}

// operation is a call that asks for a role before anything of the request is read.
func (v *Service) operation(method, path, id, role, summary string) huma.Operation {
	o := huma.Operation{Middlewares: huma.Middlewares{v.onlyFor(role)}, OperationID: id, Method: method, Path: path, Summary: summary, Errors: []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusConflict}}
	if role != anybody {
		o.Security = []map[string][]string{{"token": {}}, {"session": {}}}
		o.Description = "Role: " + role + "."
	}
	return o
}

// onlyFor refuses whoever has not the role, before parameters or body are read.
func (v *Service) onlyFor(role string) func(huma.Context, func(huma.Context)) {
	return func(c huma.Context, next func(huma.Context)) {
		changes := c.Method() != http.MethodGet
		err := allow(who(c.Context()), role, c.Operation().Path, changes)
		if err == nil && role == Technician && changes {
			if err = v.withinBenches(c.Context(), c.Param("run"), c.Param("tray"), c.Param("round")); err == nil {
				err = v.withinSites(c.Context(), c.Param("unit"), c.Param("run"))
			}
		}
		if err == nil {
			next(c)
			return
		}
		err = v.fail(c.Context(), err)
		p, ok := err.(*problem)
		if !ok {
			p = &problem{Explain(err)}
		}
		c.SetStatus(p.Status)
		c.SetHeader("Content-Type", "application/problem+json")
		json.NewEncoder(c.BodyWriter()).Encode(p)
	}
}

// raw registers a handler that makes its whole answer itself.
func raw[I, O any](v *Service, api huma.API, method, path, id, role, summary string, f func(context.Context, *I) (*O, error)) {
	huma.Register(api, v.operation(method, path, id, role, summary), func(ctx context.Context, in *I) (*O, error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, v.fail(ctx, err)
		}
		return out, nil
	})
}

// route registers a handler whose answer is JSON.
func route[I, O any](v *Service, api huma.API, method, path, id, role, summary string, f func(context.Context, *I) (O, error)) {
	raw(v, api, method, path, id, role, summary, func(ctx context.Context, in *I) (*body[O], error) {
		out, err := f(ctx, in)
		return &body[O]{out}, err
	})
}

// Uploads and bench calls have bounds of their own.
const (
	maxUpload = 64 << 20
	maxTalk   = 16 << 20
)

func received(o huma.Operation, most int64) huma.Operation {
	o.MaxBodyBytes, o.BodyReadTimeout = most, -1
	return o
}

// upload registers a handler that takes bytes.
func upload[I, O any](v *Service, api huma.API, method, path, id, role, summary, contentType string, f func(context.Context, *I) (O, error)) {
	o := received(v.operation(method, path, id, role, summary), maxUpload)
	o.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{contentType: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
	register(v, api, o, f)
}

// rawUpload takes bytes and makes its whole answer itself.
func rawUpload[I, O any](v *Service, api huma.API, method, path, id, role, summary, contentType string, f func(context.Context, *I) (*O, error)) {
	o := received(v.operation(method, path, id, role, summary), maxUpload)
	o.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{contentType: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
	huma.Register(api, o, func(ctx context.Context, in *I) (*O, error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, v.fail(ctx, err)
		}
		return out, nil
	})
}

// tolerant registers a call of a bench: JSON that may hold fields that this
// version does not know, decoded by the handler.
func tolerant[I, O any](v *Service, api huma.API, method, path, id, role, summary string, f func(context.Context, *I) (O, error)) {
	o := received(v.operation(method, path, id, role, summary), maxTalk)
	o.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {Schema: &huma.Schema{Type: "object", AdditionalProperties: true}}}}
	o.SkipValidateBody = true
	register(v, api, o, func(ctx context.Context, in *I) (out O, err error) {
		if role == benchOnly {
			if err := v.said(ctx, reflect.ValueOf(in).Elem().FieldByName("RawBody").Bytes()); err != nil {
				return out, err
			}
		}
		return f(ctx, in)
	})
}

func register[I, O any](v *Service, api huma.API, o huma.Operation, f func(context.Context, *I) (O, error)) {
	huma.Register(api, o, func(ctx context.Context, in *I) (*body[O], error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, v.fail(ctx, err)
		}
		return &body[O]{out}, nil
	})
}

const eventStream = "text/event-stream"

// follow sends a live stream until its context ends.
type follow func(ctx context.Context, s *sender) error

// stream registers a live stream of server-sent events. open refuses before
// anything is sent.
func stream[I any](v *Service, api huma.API, path, id, role, summary string, open func(context.Context, *I) (follow, error)) {
	o := v.operation("GET", path, id, role, summary)
	o.Responses = map[string]*huma.Response{"200": {Description: "Server-sent events", Content: map[string]*huma.MediaType{eventStream: {Schema: &huma.Schema{Type: "string"}}}}}
	huma.Register(api, o, func(ctx context.Context, in *I) (*huma.StreamResponse, error) {
		f, err := open(ctx, in)
		if err != nil {
			return nil, v.fail(ctx, err)
		}
		return &huma.StreamResponse{Body: func(h huma.Context) {
			h.SetHeader("Content-Type", eventStream)
			h.SetHeader("Cache-Control", "no-store")
			s := &sender{out: h.BodyWriter()}
			ctx, end := context.WithCancel(h.Context())
			defer end()
			defer v.door.in(who(ctx).secret, end)()
			if err := f(ctx, s); err != nil && ctx.Err() == nil {
				v.log.Warn("a live stream ended", "route", path, "error", err)
			}
		}}, nil
	})
}

func (v *Service) whoAmI(ctx context.Context, _ *none) (client.Person, error) {
	return person(who(ctx).person), nil
}

package words

import (
	"slices"
	"strings"
)

// Names are the words for values that stand in the API, each named once. Faces show
// these; the console has them generated.
type Names map[string]string

// In gives the name of a value; one that is not listed is its own name.
func (n Names) In(value string) string {
	if s, ok := n[value]; ok {
		return s
	}
	return value
}

// Listed sets what there is of some values side by side; each of them stands for itself.
func Listed(values ...string) string {
	return strings.Join(slices.DeleteFunc(slices.Clone(values), func(v string) bool { return v == "" }), ", ")
}

var (
	// Outcomes are how a run stands or has ended.
	Outcomes = Names{
		"done": "done", "nothing-to-do": "nothing to do", "refused": "refused", "failed": "failed", "interrupted": "interrupted",
		"waiting": "waiting", "abandoned": "given up", "not-proven": "not proven", "": "at work",
	}
	// Conditions are how a section stands.
	Conditions = Names{
		"untouched": "untouched", "unknown": "unknown", "partly written": "partly written", "written": "written",
		"verified": "verified", "proven": "proven",
	}
	// Standings are how a unit stands.
	Standings = Names{
		"known": "no run yet", "done": "last run well", "half-done": "half done", "not-proven": "not proven",
		"do-not-use": "do not use", "set-apart": "set apart",
	}
	// Notes are as what the modules' word is noted in a round of a vehicle.
	Notes = Names{"found": "as found", "written": "after the writing", "cleared": "after clearing", "left": "as left"}
	// CodeStands are how a fault code stands at the newest of them.
	CodeStands = Names{
		"stays": "was there before", "gone": "was there, is gone", "new": "new", "back": "cleared, came again", "passing": "came and went with the work",
		"not-known": "not known: the module does not answer",
	}
	// Turns are how a turn of a round stands.
	Turns = Names{"open": "to do", "unknown": "begun, nobody knows how far", "done": "done", "left": "left undone", "passed": "not needed"}
	// Audit is what the audit log keeps.
	Audit = Names{
		"signed-in": "signed in", "sign-in-failed": "wrong name or password", "person-added": "person added", "person-changed": "person changed", "person-ended": "account ended",
		"link-made": "sign-in link made", "access-ended": "session or token ended", "token-made": "token made", "machine-let-in": "machine asked to be let in", "bench-code-made": "bench invited",
		"bench-enrolled": "bench enrolled", "bench-revoked": "bench revoked", "bench-renamed": "bench renamed", "bench-key-renewed": "bench's key renewed", "service-key-renewed": "service's key renewed", "key-trusted": "key trusted", "key-revoked": "key revoked", "sheet-in-force": "sheet in force",
		"release-vouched": "release vouched for", "release-withdrawn": "release withdrawn", "photo-removed": "photo removed", "password-set": "password set", "rule-settled": "rule settled", "passkey-added": "passkey added", "passkey-taken-away": "passkey taken away", "tied-to-provider": "known by the identity provider", "second-lead-wanted": "second lead wanted", "bench-forged": "a bench is not believed", "events-differ": "events came again, changed", "history-cut": "history was changed", "log-cut": "old entries let go", "quota-reached": "as much was sent as one may in a day", "rows-sealed": "rows of the database were sealed",
		"factor-set-up": "second factor set up", "factor-taken-away": "second factor taken away",
	}
	// Seats are how a unit of a tray stands.
	Seats = Names{
		"not-seen": "never seen", "at-work": "at work", "hands-off": "being written", "waits": "waits for you", "half-done": "half done", "done": "done and proven",
		"current": "current already", "not-proven": "not proven", "failed": "failed", "refused": "refused", "left-out": "left out", "again": "once more",
	}
	// Questions are what a bench asks on a link that changes nothing.
	Questions = Names{
		"identify": "who is there is being asked", "check": "being checked", "scan": "all modules are being asked", "listen": "somebody listens",
		"echo": "its adapter is being tested", "try": "a sheet is being tried",
	}
	// SettingWays are how it came to be what a setting is to be.
	SettingWays = Names{"carried": "carried", "renamed": "renamed", "rescaled": "rescaled", "mapped": "put in its words", "by-rule": "by rule", "filled": "from the profile", "default": "the release's", "said": "said", "made": "new one made",
		"asked": "must be asked", "gone": "given up", "left": "left by name"}
	// LinkKinds are what a link of a bench is.
	LinkKinds = Names{"serial": "serial port", "rfc2217": "serial over the network", "can-line": "CAN adapter", "can-socket": "CAN interface", "doip": "gateway of a vehicle"}
	// Stages are when an item of a procedure comes.
	Stages = Names{
		"hazard": "hazards", "tool": "take along", "prepare": "prepare", "found": "as found", "connect": "connect",
		"power": "power and hands, in this order", "between": "between two parts", "left": "after the write",
	}
	// WaysBack are what there is to go back to.
	WaysBack = Names{
		"full": "full backup, before the first erase", "settings": "its settings, read before the write and put back after it",
		"image": "no backup; the image of the version that it runs", "none": "none: nothing brings it back",
	}
	// Fates are what becomes of a region.
	Fates = Names{
		"stays": "stays as it is", "written": "erased, and written anew", "put-back": "erased; the settings that it tells are put back",
		"lost": "erased, and lost",
	}
	// Verdicts are the answers to whether a release fits.
	Verdicts = Names{"fits": "fits", "does-not-fit": "does not fit", "cannot-tell": "cannot tell"}
	// Proofs are how it was made sure that memory was read or written right.
	Proofs = Names{
		"unit-digest": "by the unit's own digest", "read-twice": "read twice, both alike", "read-back": "by reading it back",
		"transfer": "by the checks of the transfer and the version that it tells",
	}
	// Sources are where a fact comes from.
	Sources = Names{
		"wire": "read on the wire", "label": "on the label", "person": "said by a person", "record": "from the record", "site": "holds for its site",
		"sheet": "follows from the model sheet",
	}
	// Facts are those that the tool itself reads, in the middle of a sentence; those of a
	// sheet have names that people chose.
	Facts = Names{
		"running": "version that it runs", "memory": "size of its memory", "chip": "number of its chip", "loader": "version of its loader",
		"lock": "lock of its memory", "version-unread": "why its version was not read", "fitted": "place where it is worked on",
	}
	// Channels are how far a release is trusted.
	Channels = Names{"stable": "stable", "candidate": "candidate, on trial"}
	// NeedStates are how a need stands.
	NeedStates = Names{
		"ready": "ready", "missing": "missing", "too-old": "too old", "expired": "run out", "runs-out": "ready, runs out soon",
		"used-up": "used up", "cannot-tell": "cannot tell", "too-new": "too new: replace it first", "remove-first": "remove it first", "elsewhere": "not here",
	}
	// Procedures are how a procedure has stood the test.
	Procedures = Names{
		"proven": "proven on this revision", "failed": "known to fail on this revision", "unproven": "not proven on this revision",
		"barred": "this unit must not be written",
	}
	// Supplies are who feeds the unit.
	Supplies = Names{"adapter": "the adapter feeds the unit", "own": "its own supply feeds the unit", "none": "nothing may feed it"}
	// Places are where the work is done.
	Places = Names{"bench": "at the bench", "in-place": "where it stands"}
	// Classes are what a check of a link finds.
	Classes = Names{
		"sound": "sound", "silent": "nothing comes at all", "held-low": "the line is held low", "deaf": "it speaks, and does not hear",
		"echo": "only our own echo", "setting": "it speaks with another line setting", "rubbish": "bytes that mean nothing",
		"program": "its program answers, not its loader", "other-loader": "another loader or model answers", "lossy": "answers get lost",
		"late": "answers come late", "restarts": "it starts over and over", "stops": "sound answers, and then none",
	}
	// JobStands are how far a job is with a unit.
	JobStands = Names{"to-do": "still to do", "at-work": "at work", "interrupted": "interrupted: its run is open", "done": "done", "not-done": "not done"}
	// Gates are what a lead passes by name.
	Gates = Names{
		"backup": "writing without a backup", "protection": "lifting the lock", "needs": "a missing need", "adapter": "the adapter",
		"procedure": "the procedure", "release": "going back to this release", "hold": "the hold", "step-back": "a step back",
		"candidate": "a candidate", "unknown-program": "writing over an unknown program",
	}
	// Permits are what not every unit may have.
	Permits = Names{"step-back": "step back", "candidate": "candidate", "unknown-program": "write over an unknown program"}
	// Tests are how a finishing test stands, by the state of the obligation.
	Tests = Names{"open": "to be answered", "handed": "handed on", "excused": "not passed", "discharged": "passed"}
	// Answers are those to a finishing test.
	Answers = Names{"yes": "passed", "no": "not passed", "elsewhere": "not possible here", "excused": "left undone"}
	// Formats are those of firmware files.
	Formats = Names{
		"intel-hex": "Intel HEX", "s-record": "S-record", "elf": "ELF", "raw": "raw binary", "address-text": "text with @address lines", "uf2": "UF2", "dfu": "USB DFU",
	}
)

// All are the names by what they are of, as the console takes them.
var All = map[string]Names{
	"outcomes": Outcomes, "conditions": Conditions, "standings": Standings, "stages": Stages, "waysBack": WaysBack, "fates": Fates,
	"verdicts": Verdicts, "proofs": Proofs, "sources": Sources, "channels": Channels, "facts": Facts, "needStates": NeedStates, "procedures": Procedures,
	"supplies": Supplies, "places": Places, "classes": Classes, "permits": Permits, "jobStands": JobStands, "gates": Gates, "tests": Tests, "answers": Answers, "formats": Formats, "linkKinds": LinkKinds, "settingWays": SettingWays, "questions": Questions,
	"codeStands": CodeStands, "turns": Turns, "seats": Seats, "audit": Audit,
}

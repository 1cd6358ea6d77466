// Made from core/words by make types; not to be changed by hand.

export const answers: Record<string, string> = {
  "elsewhere": "not possible here",
  "excused": "left undone",
  "no": "not passed",
  "yes": "passed",
}

export const audit: Record<string, string> = {
  "access-ended": "session or token ended",
  "bench-code-made": "bench invited",
  "bench-enrolled": "bench enrolled",
  "bench-forged": "a bench is not believed",
  "bench-key-renewed": "bench's key renewed",
  "bench-renamed": "bench renamed",
  "bench-revoked": "bench revoked",
  "events-differ": "events came again, changed",
  "factor-set-up": "second factor set up",
  "factor-taken-away": "second factor taken away",
  "history-cut": "history was changed",
  "key-revoked": "key revoked",
  "key-trusted": "key trusted",
  "link-made": "sign-in link made",
  "log-cut": "old entries let go",
  "machine-let-in": "machine asked to be let in",
  "passkey-added": "passkey added",
  "passkey-taken-away": "passkey taken away",
  "password-set": "password set",
  "person-added": "person added",
  "person-changed": "person changed",
  "person-ended": "account ended",
  "photo-removed": "photo removed",
  "quota-reached": "as much was sent as one may in a day",
  "release-vouched": "release vouched for",
  "release-withdrawn": "release withdrawn",
  "rows-sealed": "rows of the database were sealed",
  "rule-settled": "rule settled",
  "second-lead-wanted": "second lead wanted",
  "service-key-renewed": "service's key renewed",
  "sheet-in-force": "sheet in force",
  "sign-in-failed": "wrong name or password",
  "signed-in": "signed in",
  "tied-to-provider": "known by the identity provider",
  "token-made": "token made",
}

export const channels: Record<string, string> = {
  "candidate": "candidate, on trial",
  "stable": "stable",
}

export const classes: Record<string, string> = {
  "deaf": "it speaks, and does not hear",
  "echo": "only our own echo",
  "held-low": "the line is held low",
  "late": "answers come late",
  "lossy": "answers get lost",
  "other-loader": "another loader or model answers",
  "program": "its program answers, not its loader",
  "restarts": "it starts over and over",
  "rubbish": "bytes that mean nothing",
  "setting": "it speaks with another line setting",
  "silent": "nothing comes at all",
  "sound": "sound",
  "stops": "sound answers, and then none",
}

export const codeStands: Record<string, string> = {
  "back": "cleared, came again",
  "gone": "was there, is gone",
  "new": "new",
  "not-known": "not known: the module does not answer",
  "passing": "came and went with the work",
  "stays": "was there before",
}

export const conditions: Record<string, string> = {
  "partly written": "partly written",
  "proven": "proven",
  "unknown": "unknown",
  "untouched": "untouched",
  "verified": "verified",
  "written": "written",
}

export const facts: Record<string, string> = {
  "chip": "number of its chip",
  "fitted": "place where it is worked on",
  "loader": "version of its loader",
  "lock": "lock of its memory",
  "memory": "size of its memory",
  "running": "version that it runs",
  "version-unread": "why its version was not read",
}

export const fates: Record<string, string> = {
  "lost": "erased, and lost",
  "put-back": "erased; the settings that it tells are put back",
  "stays": "stays as it is",
  "written": "erased, and written anew",
}

export const formats: Record<string, string> = {
  "address-text": "text with @address lines",
  "dfu": "USB DFU",
  "elf": "ELF",
  "intel-hex": "Intel HEX",
  "raw": "raw binary",
  "s-record": "S-record",
  "uf2": "UF2",
}

export const gates: Record<string, string> = {
  "adapter": "the adapter",
  "backup": "writing without a backup",
  "candidate": "a candidate",
  "hold": "the hold",
  "needs": "a missing need",
  "procedure": "the procedure",
  "protection": "lifting the lock",
  "release": "going back to this release",
  "step-back": "a step back",
  "unknown-program": "writing over an unknown program",
}

export const jobStands: Record<string, string> = {
  "at-work": "at work",
  "done": "done",
  "interrupted": "interrupted: its run is open",
  "not-done": "not done",
  "to-do": "still to do",
}

export const linkKinds: Record<string, string> = {
  "can-line": "CAN adapter",
  "can-socket": "CAN interface",
  "doip": "gateway of a vehicle",
  "rfc2217": "serial over the network",
  "serial": "serial port",
}

export const needStates: Record<string, string> = {
  "cannot-tell": "cannot tell",
  "elsewhere": "not here",
  "expired": "run out",
  "missing": "missing",
  "ready": "ready",
  "remove-first": "remove it first",
  "runs-out": "ready, runs out soon",
  "too-new": "too new: replace it first",
  "too-old": "too old",
  "used-up": "used up",
}

export const outcomes: Record<string, string> = {
  "": "at work",
  "abandoned": "given up",
  "done": "done",
  "failed": "failed",
  "interrupted": "interrupted",
  "not-proven": "not proven",
  "nothing-to-do": "nothing to do",
  "refused": "refused",
  "waiting": "waiting",
}

export const permits: Record<string, string> = {
  "candidate": "candidate",
  "step-back": "step back",
  "unknown-program": "write over an unknown program",
}

export const places: Record<string, string> = {
  "bench": "at the bench",
  "in-place": "where it stands",
}

export const procedures: Record<string, string> = {
  "barred": "this unit must not be written",
  "failed": "known to fail on this revision",
  "proven": "proven on this revision",
  "unproven": "not proven on this revision",
}

export const proofs: Record<string, string> = {
  "read-back": "by reading it back",
  "read-twice": "read twice, both alike",
  "transfer": "by the checks of the transfer and the version that it tells",
  "unit-digest": "by the unit's own digest",
}

export const questions: Record<string, string> = {
  "check": "being checked",
  "echo": "its adapter is being tested",
  "identify": "who is there is being asked",
  "listen": "somebody listens",
  "scan": "all modules are being asked",
  "try": "a sheet is being tried",
}

export const seats: Record<string, string> = {
  "again": "once more",
  "at-work": "at work",
  "current": "current already",
  "done": "done and proven",
  "failed": "failed",
  "half-done": "half done",
  "hands-off": "being written",
  "left-out": "left out",
  "not-proven": "not proven",
  "not-seen": "never seen",
  "refused": "refused",
  "waits": "waits for you",
}

export const settingWays: Record<string, string> = {
  "asked": "must be asked",
  "by-rule": "by rule",
  "carried": "carried",
  "default": "the release's",
  "filled": "from the profile",
  "gone": "given up",
  "left": "left by name",
  "made": "new one made",
  "mapped": "put in its words",
  "renamed": "renamed",
  "rescaled": "rescaled",
  "said": "said",
}

export const sources: Record<string, string> = {
  "label": "on the label",
  "person": "said by a person",
  "record": "from the record",
  "sheet": "follows from the model sheet",
  "site": "holds for its site",
  "wire": "read on the wire",
}

export const stages: Record<string, string> = {
  "between": "between two parts",
  "connect": "connect",
  "found": "as found",
  "hazard": "hazards",
  "left": "after the write",
  "power": "power and hands, in this order",
  "prepare": "prepare",
  "tool": "take along",
}

export const standings: Record<string, string> = {
  "do-not-use": "do not use",
  "done": "last run well",
  "half-done": "half done",
  "known": "no run yet",
  "not-proven": "not proven",
  "set-apart": "set apart",
}

export const supplies: Record<string, string> = {
  "adapter": "the adapter feeds the unit",
  "none": "nothing may feed it",
  "own": "its own supply feeds the unit",
}

export const tests: Record<string, string> = {
  "discharged": "passed",
  "excused": "not passed",
  "handed": "handed on",
  "open": "to be answered",
}

export const turns: Record<string, string> = {
  "done": "done",
  "left": "left undone",
  "open": "to do",
  "passed": "not needed",
  "unknown": "begun, nobody knows how far",
}

export const verdicts: Record<string, string> = {
  "cannot-tell": "cannot tell",
  "does-not-fit": "does not fit",
  "fits": "fits",
}

export const waysBack: Record<string, string> = {
  "full": "full backup, before the first erase",
  "image": "no backup; the image of the version that it runs",
  "none": "none: nothing brings it back",
  "settings": "its settings, read before the write and put back after it",
}

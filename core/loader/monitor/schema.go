package monitor

import "zealousferry/core/loader"

// Schema is that of the serial line and of the dialogue.
func (Kind) Schema() []byte {
	return loader.LineSchema(`{ "dialogue": { "$ref": "#/$defs/dialogue" } }`,
		"dialogue", `{ "type": "object", "additionalProperties": false, "required": ["prompt", "reach"], "properties": {
  "prompt": { "type": "string", "minLength": 1, "maxLength": 200, "description": "Pattern (RE2) of the prompt: what stands at the beginning of a line that does not end, when the monitor waits." },
  "line-end": { "type": "string", "enum": ["\r", "\n", "\r\n"], "description": "What ends a line that is said; CR where it is left out." },
  "echo": { "type": "boolean", "description": "The monitor gives back what it is sent. A line's end is then sent only once the echo shows that the line arrived as it was meant." },
  "cancel": { "type": "string", "minLength": 1, "maxLength": 8, "description": "Key that throws away a line that was begun; 0x15 where it is left out." },
  "wait": { "$ref": "#/$defs/time", "description": "How long an answer may take; 2s where it is left out." },
  "flow": { "type": "object", "additionalProperties": false, "properties": {
    "kind": { "enum": ["none", "xon-xoff", "paced"] },
    "buffer": { "type": "integer", "minimum": 1, "maximum": 1048576, "description": "Bytes that it takes ahead of what it has worked off; one line where it is left out." },
    "pause": { "$ref": "#/$defs/time", "description": "After each line, where it is paced." } } },
  "pass": { "type": "array", "maxItems": 32, "items": { "$ref": "#/$defs/pattern" }, "description": "Patterns of lines that are passed over, such as those of a log." },
  "wrong": { "type": "array", "maxItems": 32, "items": { "type": "object", "additionalProperties": false, "required": ["match", "means"], "properties": {
    "match": { "$ref": "#/$defs/pattern" }, "means": { "enum": ["refused", "locked", "damaged", "again"] } } },
    "description": "What an error looks like, and what follows: the unit will not; its memory is locked against reading; its memory did not do it; it did not understand, and is told again." },
  "reach": { "$ref": "#/$defs/exchange", "description": "The way from anywhere to the prompt." },
  "identify": { "$ref": "#/$defs/exchange", "description": "Named parts become facts: model, serial, revision, region, running, chip, loader, and others." },
  "allow": { "$ref": "#/$defs/exchange", "description": "What must be said before memory may be read or changed; a secret may stand here." },
  "read": { "$ref": "#/$defs/exchange" }, "erase": { "$ref": "#/$defs/exchange" }, "write": { "$ref": "#/$defs/exchange" },
  "file": { "$ref": "#/$defs/exchange", "description": "The image goes as one file, where the monitor takes nothing less." },
  "checksum": { "$ref": "#/$defs/exchange", "description": "Part crc32 (CRC-32 of IEEE 802.3, in hex) or sha256." },
  "start": { "$ref": "#/$defs/exchange" },
  "protection": { "type": "object", "additionalProperties": false, "properties": { "ask": { "$ref": "#/$defs/exchange" }, "lock": { "$ref": "#/$defs/exchange" }, "lift": { "$ref": "#/$defs/exchange" } } },
  "settings": { "type": "object", "additionalProperties": false, "properties": { "list": { "$ref": "#/$defs/exchange" }, "put": { "$ref": "#/$defs/exchange" } } },
  "files": { "type": "object", "additionalProperties": false, "properties": { "list": { "$ref": "#/$defs/exchange" }, "get": { "$ref": "#/$defs/exchange" }, "put": { "$ref": "#/$defs/exchange" }, "remove": { "$ref": "#/$defs/exchange" } } }
} }`,
		"exchange", `{ "type": "object", "additionalProperties": false, "required": ["steps"], "properties": {
  "most": { "type": "integer", "minimum": 16, "maximum": 1048576, "description": "Bytes of one exchange." },
  "steps": { "type": "array", "minItems": 1, "maxItems": 32, "items": { "$ref": "#/$defs/step" } } } }`,
		"step", `{ "type": "object", "additionalProperties": false, "minProperties": 1, "properties": {
  "say": { "type": "string", "maxLength": 200, "description": "A line. Placeholders such as {address:X} stand for values." },
  "key": { "type": "string", "minLength": 1, "maxLength": 16, "description": "Sent as it is, without a line end." },
  "secret": { "type": "string", "pattern": "^[a-z0-9][a-z0-9-]{0,39}$", "description": "Name of a secret of the team's, sent as a line, for an open run alone." },
  "break": { "$ref": "#/$defs/time", "description": "The line is held low so long." },
  "line": { "enum": ["dtr", "rts"] }, "on": { "type": "boolean" },
  "pause": { "$ref": "#/$defs/time" },
  "send": { "enum": ["intel-hex", "s-record", "xmodem", "ymodem"] },
  "accept": { "$ref": "#/$defs/pattern", "description": "Where each line is answered: what says that it was taken." },
  "refuse": { "$ref": "#/$defs/pattern", "description": "What says that it is to be sent again." },
  "take": { "enum": ["intel-hex", "s-record", "xmodem", "ymodem"] },
  "each": { "$ref": "#/$defs/pattern", "description": "Pattern of the answer's lines, up to the prompt." },
  "expect": { "$ref": "#/$defs/pattern", "description": "Pattern within a line of the answer; the prompt before it is an error." },
  "asks": { "$ref": "#/$defs/pattern", "description": "Pattern at the beginning of a line that does not end: the unit asks something." },
  "wait": { "$ref": "#/$defs/time" },
  "ends": { "type": "boolean", "description": "No prompt comes after this." } } }`,
		"pattern", `{ "type": "string", "minLength": 1, "maxLength": 400 }`,
		"time", `{ "type": "string", "pattern": "^[0-9]+(ms|s)$" }`)
}

package loader

import (
	"encoding/json"
	"maps"

	"go.yaml.in/yaml/v3"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Own are the options that a loader reads itself, as the sheet has them. The
// loader's schema says which there are; only the loader knows what they mean.
type Own map[string]any

// Read fills a loader's own structure, by its yaml names.
func (o Own) Read(into any) error {
	raw, err := yaml.Marshal(map[string]any(o))
	if err == nil {
		err = yaml.Unmarshal(raw, into)
	}
	if err != nil {
		return core.Fail(core.BadFile, "the loader's options cannot be read: %w", err)
	}
	return nil
}

// OnLine are the schema's properties for loaders on a serial line.
const onLine = `{
  "baud": { "type": "integer", "minimum": 300, "maximum": 12000000, "description": "Speed at which the loader is called." },
  "parity": { "enum": ["none", "even", "odd"], "description": "Of the loader's line; none where it is left out." },
  "one-wire": { "type": "boolean", "description": "One wire carries both ways: the bench hears what it sends." },
  "enter": { "$ref": "#/$defs/script", "description": "What the modem lines do, or what is said, to bring the unit into its loader." },
  "through": { "$ref": "#/$defs/script", "description": "What has a thing between bench and unit pass the line on, before the loader or the program is called. The modem lines are that thing's." },
  "leave": { "$ref": "#/$defs/script", "description": "What they do to bring it back into its program." }
}`

const script = `{ "type": "array", "maxItems": 64, "items": { "type": "object", "additionalProperties": false,
  "properties": { "line": { "enum": ["dtr", "rts"] }, "on": { "type": "boolean" }, "wait": { "type": "string", "pattern": "^[0-9]+(ms|s)$" },
    "say": { "type": "string", "minLength": 1, "maxLength": 120, "description": "Text that is sent." }, "hear": { "type": "string", "minLength": 1, "maxLength": 120, "description": "Text that is waited for, as long as wait says (2 s where it says nothing)." } } } }`

// LineSchema is the schema of the options of a loader on a serial line, with further
// properties of its own (a JSON object; empty where it has none) and definitions, each by
// its name.
func LineSchema(further string, defs ...string) []byte {
	properties := map[string]json.RawMessage{}
	for _, part := range []string{onLine, further} {
		var more map[string]json.RawMessage
		if part == "" {
			continue
		}
		if err := json.Unmarshal([]byte(part), &more); err != nil {
			panic(err)
		}
		maps.Copy(properties, more)
	}
	all := map[string]json.RawMessage{"script": json.RawMessage(script)}
	for i := 0; i+1 < len(defs); i += 2 {
		all[defs[i]] = json.RawMessage(defs[i+1])
	}
	raw, err := json.Marshal(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "type": "object", "additionalProperties": false,
		"required": []string{"baud", "enter", "leave"}, "properties": properties,
		"$defs": all,
	})
	if err != nil {
		panic(err)
	}
	return raw
}

// LinePace is what a loader's line carries at best, in bytes a second.
func LinePace(o Own) float64 {
	var s link.Serial
	if o.Read(&s) != nil {
		return 0
	}
	return s.Pace(s.Baud)
}

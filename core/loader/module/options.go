package module

import (
	"encoding/json"
	"math/big"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/link/uds"
	"zealousferry/core/loader"
)

// options are what the sheet says to this loader: where the module is, what it says of
// itself, and the programming sequence.
type options struct {
	At       at                `yaml:"at"`
	Identify []identify        `yaml:"identify"`
	Address  int               `yaml:"address-bytes"`
	Length   int               `yaml:"length-bytes"`
	Longest  string            `yaml:"longest"`
	Read     *reading          `yaml:"read"`
	Write    *writing          `yaml:"write"`
	Leave    []step            `yaml:"leave"`
	Codes    map[string]string `yaml:"codes"` // what fault codes mean
	Records  []recording       `yaml:"records"`
	Learn    []learning        `yaml:"learn"`
	Watch    []watching        `yaml:"watch"`
	Settings *keeping          `yaml:"settings"`
}

// keeping is how the module's settings are read and put back, each by its identifier.
type keeping struct {
	First []step    `yaml:"first"`
	Each  []setting `yaml:"each"`
}

// setting is an identifier that holds one.
type setting struct {
	DID  uint16 `yaml:"did"`
	Name string `yaml:"name"`
	As   string `yaml:"as"` // hex where it is left out
}

// watching is an identifier that is to have a value, or at least one, for a write.
type watching struct {
	identify `yaml:",inline"`
	Unit     string   `yaml:"unit"`
	AtLeast  *float64 `yaml:"at-least"`
	Be       string   `yaml:"be"`
}

// recording is what a stretch of a record of a fault code means: of a snapshot by its
// identifier, of an extended record by the record's number, one after another.
type recording struct {
	DID      *uint16           `yaml:"did"`
	Extended *uint8            `yaml:"extended"`
	Name     string            `yaml:"name"`
	Bytes    int               `yaml:"bytes"`
	As       string            `yaml:"as"` // hex where it is left out
	Over     int               `yaml:"over"`
	Unit     string            `yaml:"unit"`
	Is       map[string]string `yaml:"is"`
}

// learning is a routine by which the module learns something anew after work on it. Well,
// Busy and the keys of Is are status records in hex.
type learning struct {
	Name    string            `yaml:"name"`
	First   []step            `yaml:"first"`
	Routine uint16            `yaml:"routine"`
	Data    string            `yaml:"data"`
	Within  string            `yaml:"within"`
	Well    string            `yaml:"well"`
	Busy    string            `yaml:"busy"`
	Is      map[string]string `yaml:"is"` // how else it may end, for a person
}

// at is where the module is, on each sort of link.
type at struct {
	Logical  *uint16  `yaml:"logical"`
	Request  *uint32  `yaml:"request"`
	Response *uint32  `yaml:"response"`
	Long     bool     `yaml:"long"`
	Target   *uint8   `yaml:"target"`
	Source   *uint8   `yaml:"source"`
	Padding  *uint8   `yaml:"padding"`
	All      struct { // where all modules are spoken to at once
		Logical *uint16 `yaml:"logical"`
		Request *uint32 `yaml:"request"`
	} `yaml:"all"`
}

// identify is an identifier that becomes a fact.
type identify struct {
	DID  uint16            `yaml:"did"`
	Fact string            `yaml:"fact"`
	As   string            `yaml:"as"`
	Over int               `yaml:"over"`
	Is   map[string]string `yaml:"is"` // what the fact is called for what the module says
}

type reading struct {
	By    string `yaml:"by"`
	Block int    `yaml:"block"`
	First []step `yaml:"first"`
}

type writing struct {
	First []step `yaml:"first"`
	Erase uint16 `yaml:"erase"`
	Check uint16 `yaml:"check"`
}

// step is one thing to do; exactly one of its parts is there.
type step struct {
	Session string  `yaml:"session"`
	Access  uint8   `yaml:"access"`
	Secret  string  `yaml:"secret"`
	Rule    string  `yaml:"rule"`
	Key     int     `yaml:"key-bytes"`
	Routine uint16  `yaml:"routine"`
	Put     uint16  `yaml:"put"`
	Data    string  `yaml:"data"`
	Codes   string  `yaml:"codes"`
	Talk    string  `yaml:"talk"`
	Reset   string  `yaml:"reset"`
	Wait    string  `yaml:"wait"`
	To      string  `yaml:"to"` // all: every module of the vehicle, without an answer
	May     []uint8 `yaml:"may-refuse"`
}

var (
	sessions = map[string]byte{"default": uds.DefaultSession, "programming": uds.ProgrammingSession, "extended": uds.ExtendedSession}
	resets   = map[string]byte{"hard": 0x01, "key": 0x02, "soft": 0x03}
)

// read takes the options, with what is left out filled in.
func read(own loader.Own) (o options, longest time.Duration, err error) {
	if err = own.Read(&o); err != nil {
		return o, 0, err
	}
	if o.Address == 0 {
		o.Address = 4
	}
	if o.Length == 0 {
		o.Length = 4
	}
	longest = time.Minute
	if o.Longest != "" {
		if longest, err = time.ParseDuration(o.Longest); err != nil {
			return o, 0, core.Fail(core.BadFile, "longest: %w", err)
		}
	}
	return o, longest, nil
}

// steps are all steps of the options.
func (o options) steps() (all []step) {
	if o.Read != nil {
		all = append(all, o.Read.First...)
	}
	if o.Write != nil {
		all = append(all, o.Write.First...)
	}
	for _, l := range o.Learn {
		all = append(all, l.First...)
	}
	if o.Settings != nil {
		all = append(all, o.Settings.First...)
	}
	return append(all, o.Leave...)
}

// Schema is of the options.
func (Kind) Schema() []byte {
	number := func(most int, says string) map[string]any {
		return map[string]any{"type": "integer", "minimum": 0, "maximum": most, "description": says}
	}
	steps := func(says string) map[string]any {
		return map[string]any{"type": "array", "maxItems": 64, "items": map[string]any{"$ref": "#/$defs/step"}, "description": says}
	}
	object := func(required []string, properties map[string]any) map[string]any {
		m := map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
		if required != nil {
			m["required"] = required
		}
		return m
	}
	text := func(pattern, says string) map[string]any {
		return map[string]any{"type": "string", "pattern": pattern, "description": says}
	}
	one := func(says string, of ...string) map[string]any { return map[string]any{"enum": of, "description": says} }
	all := object([]string{"at", "identify"}, map[string]any{
		"at": object(nil, map[string]any{
			"logical": number(0xFFFF, "Its logical address behind a gateway (ISO 13400-2)."), "request": number(0x1FFFFFFF, "CAN identifier of requests to it."), "response": number(0x1FFFFFFF, "CAN identifier of its responses."),
			"long":   map[string]any{"type": "boolean", "description": "The identifiers have 29 bits."},
			"target": number(0xFF, "Its address in front of each frame (extended addressing of ISO 15765-2)."), "source": number(0xFF, "The tester's address in front of its frames."),
			"all":     object(nil, map[string]any{"logical": number(0xFFFF, "Logical address of all modules behind a gateway, e.g. 0xE400 (ISO 13400-2)."), "request": number(0x1FFFFFFF, "CAN identifier of requests to all modules, e.g. 0x7DF.")}),
			"padding": number(0xFF, "Fills frames up to 8 bytes; left out: they are as short as they are."),
		}),
		"identify": map[string]any{"type": "array", "minItems": 1, "maxItems": 32, "description": "Identifiers that become facts.", "items": object([]string{"did", "fact"}, map[string]any{
			"did": number(0xFFFF, "Data identifier, e.g. 0xF18C for the serial (ISO 14229-1, annex C)."), "fact": text("^[a-z][a-z-]{0,31}$", "The fact's name."),
			"as":   one("How it is read; text where it is left out.", "text", "hex", "number"),
			"over": map[string]any{"enum": []int{10, 100, 1000}, "description": "A number is told in such parts of the unit, e.g. 10 for tenths of a volt."},
			"is":   map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "string"}, "description": "The fact's value for what the module says."},
		})},
		"address-bytes": map[string]any{"type": "integer", "minimum": 1, "maximum": 8, "description": "Bytes of an address in requests; 4 where it is left out."},
		"length-bytes":  map[string]any{"type": "integer", "minimum": 1, "maximum": 4, "description": "Bytes of a length in requests; 4 where it is left out."},
		"longest":       text("^[0-9]+(ms|s|m)$", "How long it may say that an answer is pending; 1m where it is left out."),
		"read": object([]string{"by"}, map[string]any{
			"by": one("By ReadMemoryByAddress or by RequestUpload.", "memory", "upload"), "block": map[string]any{"type": "integer", "minimum": 1, "maximum": 4095, "description": "Bytes asked for at once by memory; 256 where it is left out."},
			"first": steps("What goes before reading."),
		}),
		"write": object([]string{"erase"}, map[string]any{
			"first": steps("What goes before the first erase: pre-programming and the way into the programming session."),
			"erase": number(0xFFFF, "Routine that erases; its option is the format of address and length, and both."),
			"check": number(0xFFFF, "Routine that checks a stretch after its download, with the same option; left out: none."),
		}),
		"codes": map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "string", "minLength": 1, "maxLength": 200}, "propertyNames": map[string]any{"pattern": "^[PCBU][0-3][0-9A-F]{3}-[0-9A-F]{2}$"},
			"description": "What its fault codes mean, by code (such as U0100-87)."},
		"records": map[string]any{"type": "array", "maxItems": 200, "description": "What it records with a fault code means, and how long each part is: the standard's messages do not tell that.", "items": func() map[string]any {
			o := object([]string{"name", "bytes"}, map[string]any{
				"did": number(0xFFFF, "Identifier within a snapshot (reportDTCSnapshotRecordByDTCNumber)."), "extended": number(0xEF, "Number of an extended record (reportDTCExtDataRecordByDTCNumber); several with the same number follow one another in it."),
				"name": text("^[a-z][a-z0-9-]{0,39}$", "What it is called."), "bytes": map[string]any{"type": "integer", "minimum": 1, "maximum": 255, "description": "Its length."},
				"as": one("How it is read; hex where it is left out.", "text", "hex", "number"), "over": map[string]any{"enum": []int{10, 100, 1000}, "description": "A number is told in such parts of the unit."},
				"unit": text("^.{1,12}$", "Of the number."), "is": map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "string"}, "description": "The value for what the module says."},
			})
			o["oneOf"] = []any{map[string]any{"required": []string{"did"}}, map[string]any{"required": []string{"extended"}}}
			return o
		}()},
		"learn": map[string]any{"type": "array", "maxItems": 32, "description": "Routines by which it learns something anew after work on it.", "items": object([]string{"name", "routine", "within", "well"}, map[string]any{
			"name": text("^[a-z0-9][a-z0-9-]{0,39}$", "By which the vehicle's sheet calls for it."), "first": steps("What goes before."),
			"routine": number(0xFFFF, "Routine that is started, and asked for its results until it is over."), "data": text("^([0-9A-Fa-f]{2})*$", "Its option, in hex."),
			"within": text("^[0-9]+(ms|s|m)$", "How long it may take."),
			"well":   text("^([0-9A-Fa-f]{2})+$", "Status record, in hex, with which it ends well."),
			"busy":   text("^([0-9A-Fa-f]{2})+$", "Status record, in hex, while it is still at it."),
			"is":     map[string]any{"type": "object", "propertyNames": map[string]any{"pattern": "^([0-9A-F]{2})+$"}, "additionalProperties": map[string]any{"type": "string", "minLength": 1, "maxLength": 200}, "description": "How else it may end: the status record, and what that means for a person."},
		})},
		"watch": map[string]any{"type": "array", "maxItems": 8, "description": "What it tells of its surroundings and is wanted for a write: asked before the first erase, where what is wanted must be so, and again and again during the write.", "items": func() map[string]any {
			o := object([]string{"did", "fact"}, map[string]any{
				"did": number(0xFFFF, "Data identifier that tells it."), "fact": text("^[a-z][a-z-]{0,31}$", "What it is called."),
				"as": one("How it is read; text where it is left out.", "text", "hex", "number"), "over": map[string]any{"enum": []int{10, 100, 1000}, "description": "A number is told in such parts of the unit."},
				"is":   map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "string"}, "description": "The value for what the module says."},
				"unit": text("^.{1,12}$", "Of the number."), "at-least": map[string]any{"type": "number", "description": "The number is to be this or more."}, "be": text("^.{1,60}$", "The value is to be this."),
			})
			o["oneOf"] = []any{map[string]any{"required": []string{"at-least"}}, map[string]any{"required": []string{"be"}}}
			return o
		}()},
		"settings": object([]string{"each"}, map[string]any{
			"first": steps("What goes before they are read or written: a session and an access in which the module gives and takes them."),
			"each": map[string]any{"type": "array", "minItems": 1, "maxItems": 200, "description": "What it is set to, each by an identifier that can be read and written: kept where its memory cannot be read, and put back after the write.", "items": object([]string{"did", "name"}, map[string]any{
				"did": number(0xFFFF, "Data identifier that holds it."), "name": text("^[a-z][a-z0-9-]{0,39}$", "What it is called."),
				"as": one("How its bytes are shown; hex where it is left out. Text and numbers are put back in as many bytes as the module has for them.", "text", "hex", "number"),
			})},
		}),
		"leave": steps("What goes after all of it: dependencies, and the restart that starts the program."),
	})
	all["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	all["$defs"] = map[string]any{"step": map[string]any{
		"type": "object", "additionalProperties": false, "minProperties": 1,
		"properties": map[string]any{
			"session": one("Takes it into a session.", "default", "programming", "extended"),
			"access":  map[string]any{"type": "integer", "minimum": 1, "maximum": 0x41, "description": "Opens a security level (odd) by a key that the service makes of the module's seed."},
			"secret":  text("^[a-z][a-z0-9-]{0,39}$", "With access: the team's secret that the key is made with."), "rule": one("With access: how.", "hmac-sha-256"),
			"key-bytes": map[string]any{"type": "integer", "minimum": 1, "maximum": 32, "description": "With access: the key's length."},
			"routine":   number(0xFFFF, "Starts a routine."), "put": number(0xFFFF, "Writes an identifier, such as a fingerprint."),
			"data":       text("^([0-9A-Fa-f]{2})*$", "With routine or put: the bytes, in hex."),
			"codes":      one("Whether it notes fault codes.", "off", "on"),
			"talk":       one("Whether it sends and hears the messages that modules send to one another.", "off", "on"),
			"reset":      one("Restarts it.", "hard", "key", "soft"),
			"wait":       text("^[0-9]+(ms|s)$", "Waits."),
			"to":         one("With session, codes or talk: it is said to every module of the vehicle at once, without an answer.", "all"),
			"may-refuse": map[string]any{"type": "array", "items": number(0xFF, "A negative response code."), "description": "It is no failure if it refuses the step with one of these codes."},
		},
		"dependentSchemas":  map[string]any{"to": map[string]any{"anyOf": []any{map[string]any{"required": []string{"session"}}, map[string]any{"required": []string{"codes"}}, map[string]any{"required": []string{"talk"}}}}},
		"dependentRequired": map[string]any{"access": []string{"secret", "rule", "key-bytes"}, "secret": []string{"access"}, "rule": []string{"access"}, "key-bytes": []string{"access"}},
	}}
	raw, err := json.Marshal(all)
	if err != nil {
		panic(err)
	}
	return raw
}

// Requests are the CAN identifiers at which a module is asked, alone and together with all
// others.
func (Kind) Requests(own loader.Own) (long bool, ids []uint32) {
	o, _, err := read(own)
	if err != nil {
		return false, nil
	}
	for _, id := range []*uint32{o.At.Request, o.At.All.Request} {
		if id != nil {
			ids = append(ids, *id)
		}
	}
	return o.At.Long, ids
}

// Facts are those that it reads off a module.
func (Kind) Facts(own loader.Own) (names []string) {
	o, _, err := read(own)
	if err != nil {
		return nil
	}
	for _, i := range o.Identify {
		names = append(names, i.Fact)
	}
	return names
}

// Secrets are the names of the secrets that its steps ask for.
func (Kind) Secrets(own loader.Own) (names []string) {
	o, _, err := read(own)
	if err != nil {
		return nil
	}
	for _, s := range o.steps() {
		if s.Secret != "" {
			names = append(names, s.Secret)
		}
	}
	return names
}

// KeyOf is how the key is made with a secret; false where it stands for no access. Such a
// secret never leaves the service.
func (Kind) KeyOf(own loader.Own, secret string, level byte) (rule string, length int, ok bool) {
	o, _, err := read(own)
	if err != nil {
		return "", 0, false
	}
	for _, s := range o.steps() {
		if s.Secret == secret && s.Access == level {
			return s.Rule, s.Key, true
		}
	}
	return "", 0, false
}

// says puts an identifier's data into words.
func (i identify) says(data []byte) string {
	s := strings.Trim(string(data), "\x00 \xff")
	switch i.As {
	case "hex":
		s = strings.ToUpper(hexOf(data))
	case "number":
		s = numberOf(data)
		if i.Over > 1 {
			s = new(big.Rat).SetFrac(new(big.Int).SetBytes(data), big.NewInt(int64(i.Over))).FloatString(len(strconv.Itoa(i.Over)) - 1)
		}
	}
	if is, ok := i.Is[s]; ok {
		return is
	}
	return s
}

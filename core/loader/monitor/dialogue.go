// Package monitor is a loader whose dialogue is data in the model sheet, for boards
// whose boot code talks in lines of text or shows a menu. docs/protocols/monitor.md
// describes the data; this package plays it. Patterns are RE2 and every wait is
// bounded, so that no unit can make a dialogue hang or grow without end.
package monitor

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/loader"
)

// dialogue is how a unit of a model is talked to.
type dialogue struct {
	Prompt  string   `yaml:"prompt"`
	LineEnd string   `yaml:"line-end"`
	Echo    bool     `yaml:"echo"`
	Cancel  string   `yaml:"cancel"`
	Wait    string   `yaml:"wait"`
	Flow    flow     `yaml:"flow"`
	Pass    []string `yaml:"pass"`
	Wrong   []wrong  `yaml:"wrong"`

	Reach    exchange   `yaml:"reach"`
	Identify exchange   `yaml:"identify"`
	Allow    exchange   `yaml:"allow"`
	Read     exchange   `yaml:"read"`
	Erase    exchange   `yaml:"erase"`
	Write    exchange   `yaml:"write"`
	File     exchange   `yaml:"file"`
	Checksum exchange   `yaml:"checksum"`
	Start    exchange   `yaml:"start"`
	Lock     protection `yaml:"protection"`
	Settings settings   `yaml:"settings"`
	Files    cabinet    `yaml:"files"`
}

// flow is how the monitor keeps up with what it is sent.
type flow struct {
	Kind   string `yaml:"kind"`   // none, xon-xoff, paced
	Buffer int    `yaml:"buffer"` // bytes that it takes ahead of what it has worked off
	Pause  string `yaml:"pause"`  // after each line, where it is paced
}

// wrong is what an error looks like, and what follows from it.
type wrong struct {
	Match string `yaml:"match"`
	Means string `yaml:"means"`
}

// What an error may mean.
const (
	meansRefused = "refused" // the unit will not
	meansLocked  = "locked"  // its memory is locked against reading
	meansDamaged = "damaged" // its memory did not do it
	meansAgain   = "again"   // it did not understand, or a line came spoilt
)

// exchange is what is said and expected for one thing.
type exchange struct {
	Most  uint64 `yaml:"most"` // bytes of one exchange, for read and write
	Steps []step `yaml:"steps"`
}

func (e exchange) there() bool { return len(e.Steps) > 0 }

// step says something, or moves bytes, and waits for something.
type step struct {
	Say    *string `yaml:"say"`    // a line; placeholders stand in braces
	Key    string  `yaml:"key"`    // sent as it is, without a line end
	Secret string  `yaml:"secret"` // name of a secret, sent as a line
	Break  string  `yaml:"break"`  // the line is held low so long
	Line   string  `yaml:"line"`   // dtr or rts
	On     bool    `yaml:"on"`
	Pause  string  `yaml:"pause"` // before anything is waited for

	Send   string `yaml:"send"` // intel-hex, s-record, xmodem, ymodem
	Accept string `yaml:"accept"`
	Refuse string `yaml:"refuse"`
	Take   string `yaml:"take"` // intel-hex, s-record, xmodem, ymodem

	Each   string `yaml:"each"`   // pattern of each line of the answer, up to the prompt
	Expect string `yaml:"expect"` // pattern within a line of the answer
	Asks   string `yaml:"asks"`   // pattern at the beginning of a line that does not end
	Wait   string `yaml:"wait"`
	Ends   bool   `yaml:"ends"` // no prompt comes after this: the program runs
}

// protection is the lock against reading.
type protection struct {
	Ask  exchange `yaml:"ask"`
	Lock exchange `yaml:"lock"`
	Lift exchange `yaml:"lift"`
}

// settings are listed and put.
type settings struct {
	List exchange `yaml:"list"`
	Put  exchange `yaml:"put"`
}

// cabinet is the files in the unit.
type cabinet struct {
	List   exchange `yaml:"list"`
	Get    exchange `yaml:"get"`
	Put    exchange `yaml:"put"`
	Remove exchange `yaml:"remove"`
}

// The forms in which images travel.
const (
	intelHex = "intel-hex"
	sRecord  = "s-record"
	xModem   = "xmodem"
	yModem   = "ymodem"
)

// exchanges lists all of them by the path at which they stand.
func (d *dialogue) exchanges() map[string]*exchange {
	return map[string]*exchange{"reach": &d.Reach, "identify": &d.Identify, "allow": &d.Allow, "read": &d.Read, "erase": &d.Erase, "write": &d.Write,
		"file": &d.File, "checksum": &d.Checksum, "start": &d.Start, "protection.ask": &d.Lock.Ask, "protection.lock": &d.Lock.Lock, "protection.lift": &d.Lock.Lift,
		"settings.list": &d.Settings.List, "settings.put": &d.Settings.Put,
		"files.list": &d.Files.List, "files.get": &d.Files.Get, "files.put": &d.Files.Put, "files.remove": &d.Files.Remove}
}

// values are the placeholders that each exchange knows.
var values = map[string][]string{
	"read": span, "erase": span, "write": span, "checksum": span, "file": {"name", "length"},
	"settings.put": {"name", "value"},
	"files.get":    {"path", "length"}, "files.put": {"path", "length"}, "files.remove": {"path"},
}

var span = []string{"address", "length", "last", "end"}

// groups are the named parts that an exchange's patterns must give.
var groups = map[string][]string{
	"settings.list": {"name", "value"}, "files.list": {"path", "length"},
}

var (
	placeholder = regexp.MustCompile(`\{([a-z]+)(?::(0?[0-9]*)([xXd]))?\}`)
	groupNamed  = regexp.MustCompile(`\(\?P?<([a-z0-9-]+)>`)
)

// fill puts values into a text; quoted tells that the text is a pattern.
func fill(text string, with map[string]any, quoted bool) string {
	return placeholder.ReplaceAllStringFunc(text, func(all string) string {
		m := placeholder.FindStringSubmatch(all)
		v, ok := with[m[1]]
		if !ok {
			return all
		}
		out := fmt.Sprint(v)
		if m[3] != "" {
			out = fmt.Sprintf("%"+m[2]+m[3], v)
		}
		if quoted {
			return regexp.QuoteMeta(out)
		}
		return out
	})
}

// check finds what the schema cannot; path is where it stands.
func (d *dialogue) check() (path []string, err error) {
	pattern := func(text string, at ...string) bool {
		if _, e := regexp.Compile(fill(text, map[string]any{"address": 0, "length": 0, "last": 0, "end": 0, "path": "", "name": "", "value": ""}, true)); e != nil && err == nil {
			path, err = at, core.Fail(core.BadFile, "%q is not a pattern: %w", text, e)
		}
		return err == nil
	}
	bad := func(at []string, format string, args ...any) {
		if err == nil {
			path, err = at, core.Fail(core.BadFile, format, args...)
		}
	}
	pattern(d.Prompt, "prompt")
	for i, p := range d.Pass {
		pattern(p, "pass", strconv.Itoa(i))
	}
	for i, w := range d.Wrong {
		pattern(w.Match, "wrong", strconv.Itoa(i), "match")
	}
	all := d.exchanges()
	for _, name := range slices.Sorted(maps.Keys(all)) {
		e := all[name]
		within := append(strings.Split(name, "."), "steps")
		given := ""
		for i, s := range e.Steps {
			at := append(slices.Clone(within), strconv.Itoa(i))
			for field, text := range map[string]string{"accept": s.Accept, "refuse": s.Refuse, "each": s.Each, "expect": s.Expect, "asks": s.Asks} {
				pattern(text, append(slices.Clone(at), field)...)
				given += text
				e.knows(name, text, append(slices.Clone(at), field), bad)
			}
			if s.Say != nil {
				e.knows(name, *s.Say, append(slices.Clone(at), "say"), bad)
			}
			if s.Send != "" && name != "write" && name != "file" && name != "files.put" {
				bad(append(at, "send"), "nothing is sent to a unit in %q", name)
			}
			if s.Take != "" && name != "read" && name != "files.get" {
				bad(append(at, "take"), "nothing is taken from a unit in %q", name)
			}
			if (s.Send == intelHex || s.Send == sRecord || s.Take == intelHex || s.Take == sRecord) && strings.HasPrefix(name, "files.") {
				bad(at, "a file has no addresses: it travels by xmodem or ymodem")
			}
			if s.Secret != "" && name != "reach" && name != "allow" {
				bad(append(at, "secret"), "a secret is sent in \"reach\" and \"allow\" alone")
			}
		}
		if !e.there() {
			continue
		}
		named := map[string]bool{}
		for _, m := range groupNamed.FindAllStringSubmatch(given, -1) {
			named[m[1]] = true
		}
		for _, g := range groups[name] {
			if !named[g] {
				bad(within, "no pattern of %q has a part named %q: (?P<%s>…)", name, g, g)
			}
		}
		moves := func(kind func(step) string) bool {
			return slices.ContainsFunc(e.Steps, func(s step) bool { return kind(s) != "" })
		}
		switch name {
		case "write", "file", "files.put":
			if !moves(func(s step) string { return s.Send }) {
				bad(within, "no step of %q sends the bytes: send: intel-hex, s-record, xmodem or ymodem", name)
			}
		case "read", "files.get":
			if !moves(func(s step) string { return s.Take }) && !(name == "read" && named["address"] && named["bytes"]) {
				bad(within, "no step of %q takes the bytes: take: …, or each: with the parts address and bytes", name)
			}
		case "checksum":
			if !named["crc32"] && !named["sha256"] {
				bad(within, "no pattern of \"checksum\" has a part named crc32 or sha256")
			}
		case "protection.ask":
			if !named["locked"] && !named["open"] {
				bad(within, "no pattern of \"protection.ask\" has a part named locked or open")
			}
		}
	}
	if (d.Write.there() || d.Erase.there()) && !(d.Write.there() && d.Erase.there()) {
		bad([]string{"write"}, "to change memory both \"erase\" and \"write\" are needed")
	}
	if (d.Lock.Lock.there() || d.Lock.Lift.there()) && !d.Lock.Ask.there() {
		bad([]string{"protection"}, "a lock that can be changed must be asked for: protection.ask")
	}
	return path, err
}

// knows finds placeholders that the exchange does not have.
func (e *exchange) knows(name, text string, at []string, bad func([]string, string, ...any)) {
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(values[name], m[1]) {
			bad(at, "there is no {%s} in %q; there are %s", m[1], name, strings.Join(values[name], ", "))
		}
	}
}

// gives lists the named parts of an exchange's patterns.
func (e exchange) gives() map[string]bool {
	out := map[string]bool{}
	for _, s := range e.Steps {
		for _, m := range groupNamed.FindAllStringSubmatch(s.Each+s.Expect+s.Asks, -1) {
			out[m[1]] = true
		}
	}
	return out
}

// limits are what the dialogue can do.
func (d *dialogue) limits() loader.Limits {
	l := loader.Limits{Identity: loader.ByEye, Verify: "every byte read back and compared"}
	for _, x := range []struct {
		has bool
		a   loader.Ability
	}{
		{d.Read.there(), loader.Read}, {d.Erase.there(), loader.Erase}, {d.Write.there(), loader.Write}, {d.Checksum.gives()["sha256"], loader.Digest},
		{d.Start.there(), loader.Reset}, {d.File.there() && !d.Write.there(), loader.File}, {d.Lock.Lift.there() && d.Lock.Lock.there(), loader.Guard},
		{d.Settings.List.there() && d.Settings.Put.there(), loader.Keep},
		{d.Files.List.there() && d.Files.Get.there() && d.Files.Put.there() && d.Files.Remove.there(), loader.Files},
	} {
		if x.has {
			l.Can = append(l.Can, x.a)
		}
	}
	switch tells := d.Identify.gives(); {
	case tells["serial"]:
		l.Identity = loader.ThisUnit
	case len(tells) > 0:
		l.Identity = loader.ThisKind
	}
	if !d.Read.there() {
		l.Instead = "the image of the version that it runs, kept in the catalogue"
		l.Verify = "what the monitor says of the transfer, and the version that the program tells afterwards"
	}
	return l
}

// transfers tells whether bytes travel by XMODEM or YMODEM.
func (d *dialogue) transfers() bool {
	for _, e := range d.exchanges() {
		for _, s := range e.Steps {
			if s.Send == xModem || s.Send == yModem || s.Take == xModem || s.Take == yModem {
				return true
			}
		}
	}
	return false
}

// duration reads a time of the sheet; what is not given is standard.
func duration(text string, standard time.Duration) time.Duration {
	d, err := time.ParseDuration(text)
	if err != nil {
		return standard
	}
	return d
}

// lineEnd ends a line that is said.
func (d *dialogue) lineEnd() string {
	if d.LineEnd == "" {
		return "\r"
	}
	return d.LineEnd
}

// standardWait is how long an answer may take where nothing is said of it.
const standardWait = 2 * time.Second

func (d *dialogue) wait(s step) time.Duration {
	return duration(s.Wait, duration(d.Wait, standardWait))
}

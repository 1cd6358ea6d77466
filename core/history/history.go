// Package history is the chain of entries that makes a unit's record.
//
// The hashed bytes of an entry are "ferry-entry/1", a zero byte, and the entry in
// deterministic CBOR (RFC 8949, section 4.2.1); they are stored as they are.
// Each entry names the hash of the one before it. The service signs the head.
package history

import (
	"fmt"
	"maps"
	"slices"

	"github.com/fxamacker/cbor/v2"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// Domains of hashes and signatures.
const (
	EntryDomain  = "ferry-entry/1"
	RecordDomain = "ferry-record/1"
	HeadDomain   = "ferry-head/1"
)

// The kinds of entry.
const (
	Entered   = "entered" // the unit came into the register
	Flashed   = "flash"   // a flash run closed, whatever its outcome
	BackedUp  = "backup"  // a backup run closed
	Restored  = "restore" // a restore run closed
	Released  = "claim-released"
	Refused   = "refused"   // a run was asked for and not opened
	Corrected = "corrected" // a person changed what the register says of the unit
	Noted     = "noted"     // a person noted what the label or he himself says
	Joined    = "joined"    // the unit and another entry are one
	Tested    = "tested"    // a person answered a test that was open
	Held      = "held"      // the unit is to stay at a release, or no longer
	Allowed   = "allowed"   // a lead let the unit have what not every unit may have
	Round     = "round"     // a round of a vehicle was closed, or did something to the module
	Late      = "late"      // a record that came after its run was given up or handed on: evidence
)

// Record is what a bench signs when a run closes. Times are microseconds since
// 1970 UTC.
type Record struct {
	Run        string        `cbor:"run" json:"run"`
	Kind       string        `cbor:"kind" json:"kind"`
	Unit       string        `cbor:"unit" json:"unit"`
	Model      string        `cbor:"model" json:"model"`
	Serial     string        `cbor:"serial" json:"serial"`
	By         string        `cbor:"by" json:"by"`
	Bench      string        `cbor:"bench" json:"bench"`
	Link       string        `cbor:"link" json:"link"`
	Header     string        `cbor:"header,omitempty" json:"header,omitempty"` // link of the helper tool, where the run went through the programming header
	From       string        `cbor:"from" json:"from"`                         // running version before
	To         string        `cbor:"to" json:"to"`                             // running version after
	Release    string        `cbor:"release" json:"release"`
	Images     []core.Digest `cbor:"images" json:"images"` // of the files
	Plan       core.Digest   `cbor:"plan" json:"plan"`     // zero if there was none
	Backup     core.Digest   `cbor:"backup" json:"backup"` // of the manifest; zero if there was none
	Obtained   []Obtained    `cbor:"obtained" json:"obtained"`
	Verified   string        `cbor:"verified" json:"verified"` // how: unit-digest, read-back, or why not
	Identity   string        `cbor:"identity" json:"identity"` // strength
	Facts      []core.Fact   `cbor:"facts" json:"facts"`
	Outcome    string        `cbor:"outcome" json:"outcome"`
	Reason     string        `cbor:"reason" json:"reason"`
	Waivers    []string      `cbor:"waivers" json:"waivers"` // of records from before Waived: gate, person's id, reason in a sentence
	Waived     []Waived      `cbor:"waived,omitempty" json:"waived,omitempty"`
	Sections   []Section     `cbor:"sections,omitempty" json:"sections,omitempty"`
	Owed       []Owed        `cbor:"owed,omitempty" json:"owed,omitempty"` // handed on to the unit
	Tests      []Test        `cbor:"tests,omitempty" json:"tests,omitempty"`
	Handed     []Given       `cbor:"handed,omitempty" json:"handed,omitempty"`
	WayBack    string        `cbor:"wayback,omitempty" json:"wayBack,omitempty"`
	Card       string        `cbor:"card,omitempty" json:"card,omitempty"`           // procedure/edition
	Reference  string        `cbor:"reference,omitempty" json:"reference,omitempty"` // release that the unit ran, where none of its memory could be saved: what to put in to go back
	Adapter    string        `cbor:"adapter,omitempty" json:"adapter,omitempty"`     // serial of what stood between
	Undone     []string      `cbor:"undone,omitempty" json:"undone,omitempty"`       // of records from before Owed: temporary changes that were left, with the reason
	Job        uint64        `cbor:"job,omitempty" json:"job,omitempty"`
	Why        string        `cbor:"why,omitempty" json:"why,omitempty"`     // the job's reason
	Asked      string        `cbor:"asked,omitempty" json:"asked,omitempty"` // who asked for the job
	Given      string        `cbor:"given,omitempty" json:"given,omitempty"` // what was said for this run beside the job's reason
	Left       []Left        `cbor:"left,omitempty" json:"left,omitempty"`
	Before     *Before       `cbor:"before,omitempty" json:"before,omitempty"` // where From comes from, if not from the wire
	Conditions []Condition   `cbor:"conditions,omitempty" json:"conditions,omitempty"`
	Settings   []Setting     `cbor:"settings,omitempty" json:"settings,omitempty"`
	Halves     int           `cbor:"halves" json:"halves"` // how often the bench took the run up
	Opened     int64         `cbor:"opened" json:"opened"`
	Closed     int64         `cbor:"closed" json:"closed"`
	Events     uint64        `cbor:"events" json:"events"`     // how many the journal holds
	Journal    core.Digest   `cbor:"journal" json:"journal"`   // of the journal up to here
	Previous   core.Digest   `cbor:"previous" json:"previous"` // this bench's record before, zero for its first
}

// Before is how a version before the run was learnt that the unit does not tell on the
// wire: somebody has read it from a display, a banner or a sticker, or could not.
type Before struct {
	Source string       `cbor:"source" json:"source"` // label or person
	By     string       `cbor:"by" json:"by"`
	At     int64        `cbor:"at" json:"at"` // microseconds
	Photo  *core.Digest `cbor:"photo,omitempty" json:"photo,omitempty"`
	Unread string       `cbor:"unread,omitempty" json:"unread,omitempty"` // why nobody could read it
}

// Setting is what a unit was set to before a run, and after it. The value of a secret one is
// in neither.
type Setting struct {
	Section string `cbor:"section,omitempty" json:"section,omitempty"`
	Name    string `cbor:"name" json:"name"`
	Was     string `cbor:"was,omitempty" json:"was,omitempty"` // the name under which it was found, if another
	Found   string `cbor:"found,omitempty" json:"found,omitempty"`
	Left    string `cbor:"left,omitempty" json:"left,omitempty"`
	How     string `cbor:"how" json:"how"`
	Back    string `cbor:"back" json:"back"` // not-yet, alike, other, gone
	Secret  bool   `cbor:"secret,omitempty" json:"secret,omitempty"`
}

// Condition is what the unit told of its surroundings before it was changed, or during that
// where it was not as its sheet wants it.
type Condition struct {
	Section string `cbor:"section,omitempty" json:"section,omitempty"`
	Name    string `cbor:"name" json:"name"`
	Value   string `cbor:"value" json:"value"`
	Unit    string `cbor:"unit,omitempty" json:"unit,omitempty"`
	Wants   string `cbor:"wants" json:"wants"`
	During  bool   `cbor:"during,omitempty" json:"during,omitempty"`
}

// Left is a section that the job knowingly left as it is.
type Left struct {
	Section string `cbor:"section" json:"section"`
	Why     string `cbor:"why" json:"why"`
}

// Waived is a gate that a named person let the run pass.
type Waived struct {
	Gate    string `cbor:"gate" json:"gate"`
	Section string `cbor:"section,omitempty" json:"section,omitempty"`
	By      string `cbor:"by" json:"by"` // person's id
	Reason  string `cbor:"reason" json:"reason"`
}

// Section is how a section of the unit stands at the end of the run.
type Section struct {
	Name      string      `cbor:"name" json:"name"`
	Title     string      `cbor:"title,omitempty" json:"title,omitempty"`
	Condition string      `cbor:"condition" json:"condition"` // untouched, unknown, partly written, written, verified, proven
	From      string      `cbor:"from,omitempty" json:"from,omitempty"`
	To        string      `cbor:"to,omitempty" json:"to,omitempty"` // what its program said of itself
	Backup    core.Digest `cbor:"backup" json:"backup"`
	Plan      core.Digest `cbor:"plan" json:"plan"`
	Verified  string      `cbor:"verified,omitempty" json:"verified,omitempty"`
}

// Owed is what a run came to owe and did not do: excused by name, it stays with the
// unit.
type Owed struct {
	Kind    string `cbor:"kind" json:"kind"` // lock, settings, undo, test, finding
	Section string `cbor:"section,omitempty" json:"section,omitempty"`
	Item    string `cbor:"item,omitempty" json:"item,omitempty"`
	Says    string `cbor:"says,omitempty" json:"says,omitempty"`
	State   string `cbor:"state" json:"state"`
	By      string `cbor:"by,omitempty" json:"by,omitempty"` // person's id
	Reason  string `cbor:"reason,omitempty" json:"reason,omitempty"`
	Whose   string `cbor:"whose,omitempty" json:"whose,omitempty"` // a test that was handed on: to whom
	Due     string `cbor:"due,omitempty" json:"due,omitempty"`     // and until when: YYYY-MM-DD
	Since   int64  `cbor:"since" json:"since"`                     // microseconds since 1970 UTC
}

// Test is the answer to a finishing test.
type Test struct {
	Item  string `cbor:"item" json:"item"`
	Says  string `cbor:"says" json:"says"`
	Value string `cbor:"value" json:"value"` // yes, no, excused, elsewhere
	Note  string `cbor:"note,omitempty" json:"note,omitempty"`
	Whose string `cbor:"whose,omitempty" json:"whose,omitempty"`
	Due   string `cbor:"due,omitempty" json:"due,omitempty"`
	By    string `cbor:"by" json:"by"` // person's id
	At    int64  `cbor:"at" json:"at"`
}

// Given says that something which belongs to the unit was handed over, and to whom.
type Given struct {
	Item string `cbor:"item" json:"item"`
	Says string `cbor:"says" json:"says"`
	To   string `cbor:"to" json:"to"`
	By   string `cbor:"by" json:"by"` // person's id
	At   int64  `cbor:"at" json:"at"`
}

// Obtained says how sectors of a backup came about.
type Obtained struct {
	How     string `cbor:"how" json:"how"` // wire, digest
	Sectors int    `cbor:"sectors" json:"sectors"`
	Bytes   uint64 `cbor:"bytes" json:"bytes"`
}

var deterministic = func() cbor.EncMode {
	m, err := cbor.CoreDetEncOptions().EncMode()
	if err != nil {
		panic(err)
	}
	return m
}()

// Encode gives the bytes that the bench signs.
func (r *Record) Encode() []byte { return encode(r) }

func encode(v any) []byte {
	b, err := deterministic.Marshal(v)
	if err != nil {
		panic(err) // plain structs always encode
	}
	return b
}

// DecodeRecord reads what Encode wrote.
func DecodeRecord(b []byte) (*Record, error) {
	var r Record
	if err := cbor.Unmarshal(b, &r); err != nil {
		return nil, core.Fail(core.BadFile, "a run's record cannot be read: %w", err)
	}
	return &r, nil
}

// Entry is one link of a unit's chain.
type Entry struct {
	Unit       string      `cbor:"unit"`
	N          uint64      `cbor:"n"` // from 1
	Previous   core.Digest `cbor:"prev"`
	Kind       string      `cbor:"kind"`
	HappenedAt int64       `cbor:"happened"` // microseconds
	EnteredAt  int64       `cbor:"entered"`
	By         string      `cbor:"by"`     // person's id
	Run        string      `cbor:"run"`    // where it belongs to one
	Text       string      `cbor:"text"`   // for entries without a record
	Record     []byte      `cbor:"record"` // the bench's bytes, verbatim
	Bench      string      `cbor:"bench"`
	Signature  []byte      `cbor:"sig"` // of the record, by the bench
}

// clocksApart is how far the clocks of a service and its benches may be apart, in microseconds.
const clocksApart = 2 * 60 * 1e6

// Happened is when it happened, as far as that can be believed: not after it was entered, and not
// before what it is the end of was opened, by the service's clock (0 where it is the end of
// nothing). A time that cannot be is replaced by when it was entered, and told of.
func (e *Entry) Happened(opened int64) (at int64, doubted bool) {
	if e.HappenedAt > e.EnteredAt+clocksApart || opened > 0 && e.HappenedAt < opened-clocksApart {
		return e.EnteredAt, true
	}
	return e.HappenedAt, false
}

// Encode gives the bytes that are stored and hashed.
func (e *Entry) Encode() []byte { return encode(e) }

// HashEntry is the entry's place in the chain.
func HashEntry(encoded []byte) core.Digest {
	return core.DigestOf(append([]byte(EntryDomain+"\x00"), encoded...))
}

// TeamChain is the chain of the audit log: what was done about who may what, beside the chains of
// units.
const TeamChain = "team"

// LogCut is the kind of an entry of the audit log by which the bytes of older ones are let go: their
// hashes stay, in the chain and in the tree.
const LogCut = "log-cut"

const cutText = "of the entries up to %d the hashes alone are kept"

// CutText is what such an entry says.
func CutText(to uint64) string { return fmt.Sprintf(cutText, to) }

// CutTo is up to which entry of its chain it lets the bytes go; 0 where it is another entry.
func (e *Entry) CutTo() (to uint64) {
	if e.Unit != TeamChain || e.Kind != LogCut {
		return 0
	}
	if n, err := fmt.Sscanf(e.Text, cutText, &to); n != 1 || err != nil || to >= e.N || CutText(to) != e.Text {
		return 0
	}
	return to
}

// isCut tells whether the bytes of an entry of some chain are gone, as they may be of the audit log.
func (s *Stored) isCut(unit string) bool { return unit == TeamChain && len(s.Encoded) == 0 }

// DecodeEntry reads what Encode wrote.
func DecodeEntry(b []byte) (*Entry, error) {
	var e Entry
	if err := cbor.Unmarshal(b, &e); err != nil {
		return nil, core.Fail(core.BadFile, "an entry of the history cannot be read: %w", err)
	}
	return &e, nil
}

// link is what of an entry binds it to the one before it, and what a bench has signed of it: an audit
// reads no more of most.
type link struct {
	Unit      string      `cbor:"unit"`
	N         uint64      `cbor:"n"`
	Previous  core.Digest `cbor:"prev"`
	Kind      string      `cbor:"kind"`
	Record    []byte      `cbor:"record"`
	Bench     string      `cbor:"bench"`
	Signature []byte      `cbor:"sig"`
}

// Head is the newest entry of a unit, as the service signed it.
type Head struct {
	Unit      string      `cbor:"unit" json:"unit"`
	N         uint64      `cbor:"n" json:"n"`
	Hash      core.Digest `cbor:"hash" json:"hash"`
	Signature []byte      `cbor:"-" json:"signature"`
}

func (h *Head) message() []byte {
	return encode(struct {
		Unit string `cbor:"unit"`
		N    uint64 `cbor:"n"`
		Hash []byte `cbor:"hash"`
	}{h.Unit, h.N, h.Hash[:]})
}

// Sign signs the head with the service's key.
func (h *Head) Sign(k trust.Key) { h.Signature = k.Sign(HeadDomain, h.message()) }

// Verify tells whether one of these keys has signed this head.
func (h *Head) Verify(keys ...trust.Public) bool {
	return trust.Any(keys).Verify(HeadDomain, h.message(), h.Signature)
}

// entries names one or several entries with their verb.
func entries(from, to uint64) string {
	if from == to {
		return fmt.Sprintf("entry %d is", from)
	}
	return fmt.Sprintf("entries %d to %d are", from, to)
}

// Stored is an entry as the database has it: verbatim bytes, and the columns that
// were derived from them.
type Stored struct {
	N       uint64
	Hash    core.Digest
	Kind    string
	Encoded []byte
}

// Check walks a unit's chain. heads are the heads that somebody kept (the
// database, a bench); benches gives a bench's keys, none for an unknown one. The
// findings are in words; none means the chain is intact.
func Check(unit string, chain []Stored, heads []Head, service Line, benches func(id string) trust.Any) []core.Said {
	return CheckFrom(Mark{}, unit, chain, heads, service, benches)
}

// Mark is an entry up to which a chain was checked; none is before the first one.
type Mark struct {
	N    uint64
	Hash core.Digest
}

// CheckFrom goes on with a check behind a mark: chain are the entries behind it, heads those of
// the mark and of what is behind it.
func CheckFrom(from Mark, unit string, chain []Stored, heads []Head, service Line, benches func(id string) trust.Any) []core.Said {
	var found []core.Said
	say := func(s core.Said) { found = append(found, s) }
	previous := from.Hash
	last := from.N + uint64(len(chain))
	gone, cut := uint64(0), uint64(0)
	for i, s := range chain {
		n := from.N + uint64(i+1)
		if s.N != n {
			say(core.Say("entry %d is missing: entry %d stands in its place", n, s.N))
			return found
		}
		if s.isCut(unit) {
			gone, previous = n, s.Hash
			continue
		}
		if HashEntry(s.Encoded) != s.Hash {
			say(core.Say("entry %d was changed: its bytes do not give its hash", n))
		}
		e, err := DecodeEntry(s.Encoded)
		if err != nil {
			say(core.Say("entry %d cannot be read", n))
			previous = s.Hash
			continue
		}
		cut = max(cut, e.CutTo())
		if e.Unit != unit || e.N != n || e.Kind != s.Kind {
			say(core.Say("entry %d says of itself that it is %s %d of unit %s: its columns were changed", n, e.Kind, e.N, e.Unit))
		}
		if e.Previous != previous {
			say(core.Say("entry %d does not continue entry %d", n, n-1))
		}
		if len(e.Record) > 0 {
			if key := benches(e.Bench); !key.Verify(RecordDomain, e.Record, e.Signature) {
				say(core.Say("entry %d: the record was not signed by bench %s", n, e.Bench))
			}
		}
		previous = s.Hash
	}
	if gone > cut {
		say(core.Say("entry %d was changed: its bytes are gone, and no later entry lets them go", gone))
	}
	newest, signed := uint64(0), map[uint64]int{}
	for i := range heads {
		h := &heads[i]
		newest = max(newest, h.N)
		by := service.rank(h)
		if by >= 0 && len(service.Before) > 0 {
			signed[h.N] = max(signed[h.N], by)
		}
		switch {
		case by < 0:
			say(core.Say("the head at entry %d was not signed by this service", h.N))
		case h.N > last:
			say(core.Say("%s missing: a signed head of entry %d was kept", entries(last+1, h.N), h.N))
		case h.N == from.N && h.N > 0 && from.Hash != h.Hash || h.N > from.N && chain[h.N-from.N-1].Hash != h.Hash:
			say(core.Say("entry %d is not the one that was signed: the chain was computed anew", h.N))
		}
	}
	before := 0
	for _, n := range slices.Sorted(maps.Keys(signed)) {
		if signed[n] < before {
			say(core.Say("the head at entry %d was signed with a key that was out of use when it was entered", n))
		}
		before = max(before, signed[n])
	}
	if last > 0 && newest < last {
		say(core.Say("entry %d has no signed head: it was put in behind the service's back", last))
	}
	return found
}

// Leads tells whether some entries, one behind the other, are what they were when a mark was made
// of the last of them. Of those up to cut the bytes may be gone.
func Leads(to Mark, chain []Stored, cut uint64) bool {
	for i, s := range chain {
		if s.N != chain[0].N+uint64(i) {
			return false
		}
		if s.N <= cut && len(s.Encoded) == 0 {
			continue
		}
		if HashEntry(s.Encoded) != s.Hash {
			return false
		}
		if i > 0 {
			if e, err := DecodeEntry(s.Encoded); err != nil || e.Previous != chain[i-1].Hash {
				return false
			}
		}
	}
	n := len(chain)
	return n > 0 && chain[n-1].N == to.N && chain[n-1].Hash == to.Hash
}

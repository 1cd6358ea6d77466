// Package core is the ground floor of the heart: the kinds of error, the clock
// and the digest that every package above it shares. It knows nothing of HTTP,
// SQL, terminals or files.
package core

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"time"
)

// Kind classifies an error for faces that must act on it: an exit code, an
// RFC 9457 problem, a console message. Faces never parse text.
type Kind string

// The kinds. Their spelling is part of the public API.
const (
	NotAnswering  Kind = "not-answering"
	WrongUnit     Kind = "wrong-unit"
	DoesNotFit    Kind = "does-not-fit"
	CannotTell    Kind = "cannot-tell"
	Protected     Kind = "protected"
	RefusedByUnit Kind = "refused-by-unit"
	VerifyDiffers Kind = "verify-differs"
	BadFile       Kind = "bad-file"
	Interrupted   Kind = "interrupted"
	Busy          Kind = "busy"
	NotAllowed    Kind = "not-allowed"
	NotFound      Kind = "not-found"
	NoWayBack     Kind = "no-way-back"
	NoSpace       Kind = "no-space"
	NotUnderstood Kind = "not-understood" // what a person typed or a call said; what is wrong with a file is BadFile
)

// Kinds lists every kind in the order of its exit code: Kinds[i] exits with 10+i.
var Kinds = []Kind{NotAnswering, WrongUnit, DoesNotFit, CannotTell, Protected, RefusedByUnit,
	VerifyDiffers, BadFile, Interrupted, Busy, NotAllowed, NotFound, NoWayBack, NoSpace, NotUnderstood}

// Error is what a technician reads: what happened, what state the unit is in
// now, what to do next.
type Error struct {
	Kind      Kind
	Message   string
	ID        string   // of the message
	Params    []string // what was put into it, in order
	UnitState          // empty where no unit is concerned
	Todo               // what to do next
	At        *Place   // where in a file, for kind bad-file
	Cause     error    // already part of Message
}

// Place is a place in a file: the number of a line, from 1, or an offset in
// bytes, from 0.
type Place struct {
	Unit string // line or offset
	N    int64
}

// Line is the place of a line; Offset that of a byte.
func Line(n int64) Place   { return Place{"line", n} }
func Offset(n int64) Place { return Place{"offset", n} }

func (p Place) String() string { return fmt.Sprintf("%s %d", p.Unit, p.N) }

// BadAt makes an error of kind bad-file that begins with the place.
func BadAt(at Place, format string, args ...any) *Error {
	e := Fail(BadFile, format, args...).Under(at.String())
	e.At = &at
	return e
}

// Under is the error with what it is about before it, such as a place in a file. The message
// stays the same.
func (e *Error) Under(what string) *Error {
	c := *e
	c.Message = what + ": " + e.Message
	return &c
}

func (e *Error) Error() string { return e.Message }

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Cause }

// Fail makes an error of the kind. A %w in the format becomes its cause.
func Fail(kind Kind, format string, args ...any) *Error {
	err := fmt.Errorf(format, args...)
	return &Error{Kind: kind, Message: err.Error(), ID: MessageID(format), Params: putIn(format, args), Cause: errors.Unwrap(err)}
}

// Unit adds the state that the unit is in.
func (e *Error) Unit(format string, args ...any) *Error {
	c := *e
	c.UnitState = StateOf(Say(format, args...))
	return &c
}

// Do adds what to do next, in words alone.
func (e *Error) Do(format string, args ...any) *Error { return e.Go(Plain(format, args...)) }

// Go adds what to do next, with the verb and the page that do it.
func (e *Error) Go(steps ...Step) *Error { c := *e; c.Todo = c.Todo.And(steps...); return &c }

// KindOf returns the kind of the outermost Error in err's chain, or "".
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return ""
}

// AsError returns the outermost Error in err's chain; an error without a kind
// is given the kind fallback.
func AsError(err error, fallback Kind) *Error {
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	return &Error{Kind: fallback, Message: err.Error(), Cause: err}
}

// Clock is the time that a package is given from outside. Now carries a
// monotonic reading when it comes from System.
type Clock interface {
	Now() time.Time
	After(d time.Duration) <-chan time.Time
}

// System is the machine's own clock.
type System struct{}

// Now is time.Now.
func (System) Now() time.Time { return time.Now() }

// After is time.After.
func (System) After(d time.Duration) <-chan time.Time { return time.After(d) }

// Digest is a SHA-256.
type Digest [32]byte

// DigestOf hashes b.
func DigestOf(b []byte) Digest { return sha256.Sum256(b) }

func (d Digest) String() string { return hex.EncodeToString(d[:]) }

// Short is the form for people: four hex digits, twice, and the last four.
func (d Digest) Short() string {
	s := d.String()
	return s[:4] + " " + s[4:8] + " … " + s[60:]
}

// IsZero tells whether no digest was set.
func (d Digest) IsZero() bool { return d == Digest{} }

// UnmarshalCBOR reads a byte string of 32 bytes (RFC 8949, section 3.1), which is what a digest is written
// as: at once, where the library would read it byte by byte.
func (d *Digest) UnmarshalCBOR(b []byte) error {
	if len(b) != 2+len(d) || b[0] != 0x58 || int(b[1]) != len(d) {
		return Fail(BadFile, "a digest is a byte string of 32 bytes, not %d bytes that begin with %x", len(b), b[:min(len(b), 2)])
	}
	copy(d[:], b[2:])
	return nil
}

// MarshalText writes 64 hex digits.
func (d Digest) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads 64 hex digits.
func (d *Digest) UnmarshalText(b []byte) error {
	p, err := ParseDigest(string(b))
	if err == nil {
		*d = p
	}
	return err
}

// ParseDigest reads 64 hex digits.
func ParseDigest(s string) (Digest, error) {
	var d Digest
	raw, err := hex.DecodeString(s)
	if err != nil || len(raw) != len(d) {
		return d, Fail(BadFile, "a SHA-256 has 64 hex digits, this has %d characters", len(s))
	}
	copy(d[:], raw)
	return d, nil
}

// Fact is one thing known of one unit. Facts are appended, never overwritten.
type Fact struct {
	Name   string    `json:"name" cbor:"name"`
	Value  string    `json:"value" cbor:"value"`
	Source string    `json:"source" cbor:"source"` // wire, label, person, record, sheet
	At     time.Time `json:"at" cbor:"at"`
	By     string    `json:"by,omitempty" cbor:"by,omitempty"` // person's id, where a person said it
	Photo  *Digest   `json:"photo,omitempty" cbor:"photo,omitempty"`
}

// The sources of a fact, from the strongest.
const (
	FromWire   = "wire"
	FromLabel  = "label"
	FromPerson = "person"
	FromSite   = "site" // the profile of the site where the unit is
	FromRecord = "record"
)

// The facts that the tool itself reads or relies on. Models may name more.
const (
	FactModel    = "model"
	FactRevision = "revision"
	FactSerial   = "serial"
	FactRegion   = "region"
	FactRunning  = "running"
	FactChip     = "chip"
	FactLoader   = "loader"
	FactMemory   = "memory"         // bytes, decimal
	FactLock     = "lock"           // of the memory against reading: locked or open
	FactAssembly = "assembly"       // serial of the assembly that it was found in, e.g. a vehicle
	FactFitted   = "fitted"         // where the unit is worked on: InAssembly or Alone
	FactUnread   = "version-unread" // why nobody could read which version runs
)

// The values of FactFitted.
const (
	InAssembly = "in-assembly" // in a slot of an assembly, such as a vehicle
	Alone      = "alone"       // out of any, on a link of its own
)

// Package loader is what the boot loaders of units have in common. A loader is
// a subfolder with a Kind; core/registry lists them.
//
// What a unit can do is known only at run time, so every ability is asked for
// and may be refused with a reason.
package loader

import (
	"context"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Ability is something that a unit's loader may or may not do.
type Ability string

// The abilities.
const (
	Read   Ability = "read"
	Erase  Ability = "erase"
	Write  Ability = "write"
	Digest Ability = "digest"
	Reset  Ability = "reset"
)

// Op is one change to memory: an erase of whole sectors, or a write of bytes
// that lie in erased cells.
type Op struct {
	N       int // the caller's number, handed back when the op is durable
	Erase   bool
	Address uint64
	Length  uint64 // bytes; of Data for a write
	Data    []byte
}

// Session is an open loader. It is used by one goroutine at a time. Every error
// has a kind; after not-answering the session is of no further use.
type Session interface {
	// Identify asks the unit again, on the wire, and returns what it says of itself.
	Identify(ctx context.Context) ([]core.Fact, error)
	// Can returns nil, or an error of kind refused-by-unit or protected that says why not.
	Can(a Ability) error
	// Read fills p from the address on. got is told after each piece how many
	// bytes of p are there; it may be nil.
	Read(ctx context.Context, address uint64, p []byte, got func(n int)) error
	// Digest returns the SHA-256 of each piece of the range; piece divides length.
	Digest(ctx context.Context, address, length, piece uint64) ([]core.Digest, error)
	// Change carries out the ops that next yields, in order, until it yields
	// false. next is called ahead of the unit as far as its window allows, so what
	// must be on disk before an op is put there by next. acked is called in order,
	// once the unit says that the op is durable. An error of next stops the flow
	// after what was sent, and is returned.
	Change(ctx context.Context, next func() (Op, bool, error), acked func(Op) error) error
	// Restart leaves the loader for the application, or enters it anew.
	Restart(ctx context.Context, intoLoader bool) error
	// Close ends the session and leaves the link open.
	Close() error
}

// Options come from the model sheet and the bench.
type Options struct {
	Mode  link.Mode
	Enter []link.Hand // how the link's lines bring the unit into its loader
	link.Pace
}

// Kind opens sessions of one loader.
type Kind interface {
	Name() string
	// Open plays Enter, finds the unit and asks who it is. A unit that says nothing
	// is an error of kind not-answering.
	Open(ctx context.Context, l link.Link, o Options) (Session, error)
}

// Stream takes the byte stream out of a link, which some loaders need.
func Stream(l link.Link, loader string) (link.Stream, error) {
	s, ok := l.(link.Stream)
	if !ok {
		return nil, core.Fail(core.RefusedByUnit, "loader %s needs a byte stream; this link carries %T", loader, l)
	}
	return s, nil
}

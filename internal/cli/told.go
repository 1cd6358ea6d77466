package cli

import (
	"fmt"
	"io"

	"zealousferry/core"
)

// What this face says of its own is a message like any other: it stands in the catalogue
// (docs/messages.md) with what is put into it.

// told is a message, filled in.
func told(format string, args ...any) string { return core.Say(format, args...).Text }

// toldOf is one of two messages, for one and for any other number, which is put in first.
func toldOf(n int, one, many string, args ...any) string {
	if n != 1 {
		one = many
	}
	return told(one, append([]any{grouped(uint64(n))}, args...)...)
}

// tell writes a message, filled in.
func tell(w io.Writer, format string, args ...any) { fmt.Fprint(w, told(format, args...)) }

// mistyped says what is wrong with a command line; there is no kind of error for it.
func mistyped(format string, args ...any) error {
	return core.Fail("", format, args...).Do("See ferry help.")
}

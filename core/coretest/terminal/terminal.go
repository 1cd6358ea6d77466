// Package terminal opens pseudo-terminals for tests. It stands apart from testkit
// so that tests within the packages of links and loaders can use it.
package terminal

import (
	"os"
	"testing"

	"github.com/creack/pty"
	"golang.org/x/term"
)

// Raw opens a pseudo-terminal that passes every byte as it is, and closes it with
// the test. Programs open near by its name.
func Raw(t testing.TB) (far, near *os.File) {
	t.Helper()
	far, near, err := pty.Open()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { far.Close(); near.Close() })
	if _, err := term.MakeRaw(int(near.Fd())); err != nil {
		t.Fatal(err)
	}
	return far, near
}

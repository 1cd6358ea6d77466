package demo

import (
	"context"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zealousferry/core"
)

// A demo beside another program on its address says so, and starts nothing.
func TestADemoBesideAStranger(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	dir := t.TempDir()
	err = Run(context.Background(), Options{Dir: dir, Listen: l.Addr().String(), Scale: 1, Out: io.Discard, Err: io.Discard})
	if core.KindOf(err) != core.Busy || !strings.Contains(core.AsError(err, "").Next, "make demo LISTEN=") {
		t.Errorf("got %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "db")); err == nil {
		t.Error("a database was made all the same")
	}
}

package database

import (
	"os/exec"
	"runtime"
	"syscall"
	"testing"
)

// TestWhatElseWasStartedLivesOn: a server ends, and a child that was started on its thread
// before, to die with that, lives on.
func TestWhatElseWasStartedLivesOn(t *testing.T) {
	var children []*exec.Cmd
	for range 40 { // on whatever threads there are
		c := exec.Command("sleep", "60")
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Process.Kill(); c.Wait() })
		children = append(children, c)
		runtime.Gosched()
	}
	for range 4 {
		t.Run("a server", func(t *testing.T) { NewEmpty(t) })
	}
	for i, c := range children {
		var status syscall.WaitStatus
		if pid, _ := syscall.Wait4(c.Process.Pid, &status, syscall.WNOHANG, nil); pid != 0 {
			t.Fatalf("child %d of %d is dead: %v", i, len(children), status)
		}
	}
}

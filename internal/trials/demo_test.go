package trials

import (
	"bytes"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"zealousferry/core/coretest"
	"zealousferry/internal/testkit"
)

// processes lists those whose command line or environment names the folder.
func processes(folder string) (found []string) {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, path := range all {
		raw, err := os.ReadFile(path)
		if err == nil && bytes.Contains(raw, []byte(folder)) {
			found = append(found, strings.ReplaceAll(string(raw), "\x00", " "))
		}
	}
	return found
}

// startDemo starts the demo and waits until it says that it is up.
func startDemo(t *testing.T, path, dir, listen string) (*exec.Cmd, *testkit.Text, *testkit.Text) {
	t.Helper()
	c := exec.Command(path, "demo", "--dir", dir, "--listen", listen, "--scale", "0.2")
	out, errs := &testkit.Text{}, &testkit.Text{}
	c.Stdout, c.Stderr = out, errs
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Process.Kill() })
	for end := time.Now().Add(coretest.Patience); !strings.Contains(out.String(), "Ctrl-C stops"); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("the demo does not come up: %s\n%s", out, errs)
		}
	}
	return c, out, errs
}

func stopDemo(t *testing.T, c *exec.Cmd, dir string) {
	t.Helper()
	c.Process.Signal(os.Interrupt)
	c.Wait()
	for end := time.Now().Add(coretest.Patience); ; time.Sleep(50 * time.Millisecond) {
		left := processes(dir)
		if len(left) == 0 {
			return
		}
		if time.Now().After(end) {
			t.Fatalf("processes that the demo has left: %v", left)
		}
	}
}

// loopback is 127.0.0.0/8 with a port, as procfs has it: the first octet stands last.
var loopback = regexp.MustCompile(`^[0-9A-F]{6}7F:`)

// TestTheDemoComesUpTwiceAndLeavesNothing: the first start loads the world, the
// second finds it; each ends with all its processes.
func TestTheDemoComesUpTwiceAndLeavesNothing(t *testing.T) {
	path, err := ferry()
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	listen := l.Addr().String()
	l.Close()
	dir, err := os.MkdirTemp("", "ferry-demo-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	open := listening(t)
	c, out, _ := startDemo(t, path, dir, listen)
	for _, at := range listening(t) {
		if !strings.Contains(strings.Join(open, " "), at) {
			t.Errorf("the demo listens on more than loopback: %s", at)
		}
	}
	if n := strings.Count(out.String(), "/sign-in#"); n != 2 {
		t.Errorf("%d sign-in links: %s", n, out)
	}
	info, err := os.Stat(filepath.Join(dir, "env"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("env: %v %v", info, err)
	}
	sh := func(line string) (string, error) {
		raw, err := exec.Command("sh", "-c", ". "+filepath.Join(dir, "env")+" && "+line).CombinedOutput()
		return string(raw), err
	}
	for _, x := range []struct {
		line, want string
		fails      bool
	}{
		{path + " links", "van/quay-8", false},
		{path + " identify van/quay-2 && " + path + " fit van/quay-2", "Up to date: nothing to do.", false},
		{path + " flash van/quay-1 --yes", "WRITTEN AND VERIFIED", false},
		{path + " identify van/quay-4", "D ≠ label", false},
		{path + " identify van/quay-5 && " + path + " fit van/quay-5", "ONE QUESTION", false},
		{path + " identify van/quay-6", "NOT ANSWERING", true},
		{path + " demo --dir " + dir + " --listen " + listen, "a demo runs in", true},
	} {
		got, err := sh(x.line)
		if !strings.Contains(got, x.want) || (err != nil) != x.fails {
			t.Errorf("%s: %v\n%s", x.line, err, got)
		}
	}
	stopDemo(t, c, dir)
	c, _, _ = startDemo(t, path, dir, listen)
	if got, err := sh(path + " history Q80-4417-206"); err != nil || !strings.Contains(got, "3.9.4 → 4.2.1") || !strings.Contains(got, "checked: as it was entered") {
		t.Errorf("the data of the first: %v\n%s", err, got)
	}
	stopDemo(t, c, dir)
}

// listening lists sockets that listen on more than loopback, as they stand in
// /proc/net/tcp.
func listening(t *testing.T) (found []string) {
	t.Helper()
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		raw, err := os.ReadFile(table)
		if err != nil {
			continue
		}
		for _, line := range strings.Split(string(raw), "\n") {
			f := strings.Fields(line)
			if len(f) > 3 && f[3] == "0A" && !loopback.MatchString(f[1]) && !strings.HasPrefix(f[1], "00000000000000000000000001000000:") {
				found = append(found, f[1])
			}
		}
	}
	return found
}

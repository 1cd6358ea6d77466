package rfc2217

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"zealousferry/core"
	"zealousferry/core/coretest/terminal"
	"zealousferry/core/link"
)

// served is a pseudo-terminal behind ser2net, and our client on it.
func served(t *testing.T) (far *os.File, s link.Stream, server *exec.Cmd) {
	t.Helper()
	path, err := exec.LookPath("ser2net")
	if err != nil {
		path = "/usr/sbin/ser2net"
	}
	far, near := terminal.Raw(t)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := free.Addr().String()
	free.Close()
	config := filepath.Join(t.TempDir(), "ser2net.yaml")
	_, number, _ := net.SplitHostPort(address)
	text := fmt.Sprintf("connection: &c\n    accepter: telnet(rfc2217=true),tcp,127.0.0.1,%s\n    connector: serialdev(nouucplock=true),%s,115200n81,local\n", number, near.Name())
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	server = exec.Command(path, "-n", "-c", config)
	var said bytes.Buffer
	server.Stderr = &said
	if err := server.Start(); err != nil {
		t.Fatalf("%v: apt-get install ser2net", err)
	}
	t.Cleanup(func() { server.Process.Kill(); server.Wait() })
	for n := 0; ; n++ {
		l, err := Kind{}.Open(context.Background(), link.Settings{"address": address}, core.System{})
		if err == nil {
			t.Cleanup(func() { l.Close() })
			return far, l.(link.Stream), server
		}
		if n == 100 {
			t.Fatalf("%v\n%s", err, said.String())
		}
		<-time.After(20 * time.Millisecond) // it binds its port in its own time
	}
}

// TestAgainstAnotherServer holds the client against ser2net: settings arrive at
// the port, every byte value passes both ways, and its end is noticed.
func TestAgainstAnotherServer(t *testing.T) {
	far, s, server := served(t)
	for _, m := range []link.Mode{link.Default(9600), {Baud: 57600, Bits: 8, Parity: "none", Stop: "2"}, {Baud: 230400, Bits: 7, Parity: "none", Stop: "1"}, link.Default(115200)} {
		if err := s.SetMode(m); err != nil {
			t.Fatalf("%+v: %v", m, err)
		}
		got, err := unix.IoctlGetTermios(int(far.Fd()), unix.TCGETS2)
		if err != nil {
			t.Fatal(err)
		}
		if int(got.Ospeed) != m.Baud || got.Cflag&unix.CSTOPB != 0 != (m.Stop == "2") {
			t.Errorf("asked for %+v, the port has %d baud, flags %o", m, got.Ospeed, got.Cflag)
		}
	}
	all := make([]byte, 4096)
	for i := range all {
		all[i] = byte(i * 5)
	}
	go s.Write(all)
	got := make([]byte, len(all))
	far.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := io.ReadFull(far, got); err != nil || !bytes.Equal(got, all) {
		t.Errorf("to the port: %v", err)
	}
	go far.Write(all)
	s.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := io.ReadFull(s, got); err != nil || !bytes.Equal(got, all) {
		t.Errorf("from the port: %v", err)
	}
	if err := s.Purge(); err != nil {
		t.Errorf("purge: %v", err)
	}
	before := s.Generation()
	server.Process.Kill()
	s.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := s.Read(got); core.KindOf(err) != core.NotAnswering || s.Generation() == before {
		t.Errorf("after its end: %v, generation %d then %d", err, before, s.Generation())
	}
}

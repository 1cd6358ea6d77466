package xmodem

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest/terminal"
	"zealousferry/core/link"
	"zealousferry/core/link/serial"
	"zealousferry/core/link/transfer"
)

// terminals are two pseudo-terminals joined by a relay that on a bad line spoils
// one byte and loses another, each way. One end is ours, the other the peer's; what the peer says
// goes through a pipe, for it flushes its terminal at its end, and its last
// answer with it.
func terminals(t *testing.T, bad bool) (l *transfer.Line, in, out *os.File) {
	t.Helper()
	far1, near1 := terminal.Raw(t)
	far2, near2 := terminal.Raw(t)
	relay := func(to io.Writer, from io.Reader, spoilt, lost int) {
		buf := make([]byte, 256)
		for at := 1; ; {
			n, err := from.Read(buf)
			if err != nil {
				return
			}
			out := buf[:0:256]
			for _, c := range buf[:n] {
				switch at {
				case lost:
				case spoilt:
					out = append(out, c^4)
				default:
					out = append(out, c)
				}
				at++
			}
			to.Write(out)
		}
	}
	said, out, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { said.Close(); out.Close() })
	if bad { // answers are few: the fourth is spoilt, the sixth lost; the last one of a peer that has gone cannot be had again
		go relay(far1, said, 4, 6)
		go relay(far2, far1, 1500, 3200)
	} else {
		go relay(far1, said, 0, 0)
		go relay(far2, far1, 0, 0)
	}
	port, err := serial.Kind{}.Open(context.Background(), link.Settings{"path": near1.Name()}, core.System{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { port.Close() })
	return &transfer.Line{Stream: port.(link.Stream), Pace: link.Pace{Clock: core.System{}}}, near2, out
}

// end is the peer's.
type end struct{ in, out *os.File }

// peer runs a program of lrzsz on its end.
func peer(t *testing.T, on end, dir, name string, args ...string) func() {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Fatalf("%s is missing: apt-get install lrzsz", name)
	}
	c := exec.Command(path, args...)
	c.Dir, c.Stdin, c.Stdout = dir, on.in, on.out
	var said bytes.Buffer
	c.Stderr = &said
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Process.Kill() })
	return func() {
		t.Helper()
		if err := c.Wait(); err != nil {
			t.Errorf("%s %v: %v\n%s", name, args, err, said.String())
		}
	}
}

// TestAgainstAnotherProgram exchanges files with lrzsz, both ways, over
// pseudo-terminals, clean and with losses.
func TestAgainstAnotherProgram(t *testing.T) {
	data := make([]byte, 4*1024+300)
	random := rand.New(rand.NewPCG(1, 2))
	for i := range data {
		data[i] = byte(random.Uint32())
	}
	data[len(data)-1] = 7 // not what a last block is filled with
	padded := func(got []byte) bool {
		return bytes.HasPrefix(got, data) && len(bytes.TrimRight(got[len(data):], "\x1a")) == 0 && len(got) < len(data)+1024
	}
	for _, line := range []struct {
		name string
		bad  bool
	}{{"clean", false}, {"with losses", true}} {
		for name, exchange := range map[string]func(t *testing.T, ctx context.Context, l *transfer.Line, on end, dir string){
			"XMODEM to it, checksum": func(t *testing.T, ctx context.Context, l *transfer.Line, on end, dir string) {
				wait := peer(t, on, dir, "rx", "got")
				if err := l.Send(ctx, data, false, nil); err != nil {
					t.Fatal(err)
				}
				wait()
				if got, _ := os.ReadFile(filepath.Join(dir, "got")); !padded(got) {
					t.Errorf("%d bytes arrived otherwise", len(got))
				}
			},
			"XMODEM-1K to it, CRC": func(t *testing.T, ctx context.Context, l *transfer.Line, on end, dir string) {
				wait := peer(t, on, dir, "rx", "-c", "got")
				if err := l.Send(ctx, data, true, nil); err != nil {
					t.Fatal(err)
				}
				wait()
				if got, _ := os.ReadFile(filepath.Join(dir, "got")); !padded(got) {
					t.Errorf("%d bytes arrived otherwise", len(got))
				}
			},
			"YMODEM to it, two files": func(t *testing.T, ctx context.Context, l *transfer.Line, on end, dir string) {
				wait := peer(t, on, dir, "rb", "-b")
				if err := l.SendBatch(ctx, []transfer.File{{Name: "one.bin", Data: data}, {Name: "two.bin", Data: data[:77]}}, nil); err != nil {
					t.Fatal(err)
				}
				wait()
				one, _ := os.ReadFile(filepath.Join(dir, "one.bin"))
				two, _ := os.ReadFile(filepath.Join(dir, "two.bin"))
				if !bytes.Equal(one, data) || !bytes.Equal(two, data[:77]) {
					t.Errorf("%d and %d bytes arrived", len(one), len(two))
				}
			},
			"XMODEM from it": func(t *testing.T, ctx context.Context, l *transfer.Line, on end, dir string) {
				wait := peer(t, on, dir, "sx", "-b", "src")
				got, err := l.Receive(ctx)
				if err != nil {
					t.Fatal(err)
				}
				wait()
				if !padded(got) {
					t.Errorf("%d bytes arrived otherwise", len(got))
				}
			},
			"XMODEM-1K from it": func(t *testing.T, ctx context.Context, l *transfer.Line, on end, dir string) {
				wait := peer(t, on, dir, "sx", "-b", "-k", "src")
				got, err := l.Receive(ctx)
				if err != nil {
					t.Fatal(err)
				}
				wait()
				if !padded(got) {
					t.Errorf("%d bytes arrived otherwise", len(got))
				}
			},
			"YMODEM from it, two files": func(t *testing.T, ctx context.Context, l *transfer.Line, on end, dir string) {
				wait := peer(t, on, dir, "sb", "-b", "-k", "src", "small")
				got, err := l.ReceiveBatch(ctx)
				if err != nil {
					t.Fatal(err)
				}
				wait()
				if len(got) != 2 || got[0].Name != "src" || !bytes.Equal(got[0].Data, data) || !bytes.Equal(got[1].Data, data[:77]) {
					t.Errorf("got %d files", len(got))
				}
			},
		} {
			t.Run(line.name+"/"+name, func(t *testing.T) {
				t.Parallel()
				dir := t.TempDir()
				os.WriteFile(filepath.Join(dir, "src"), data, 0o600)
				os.WriteFile(filepath.Join(dir, "small"), data[:77], 0o600)
				l, in, out := terminals(t, line.bad)
				ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
				defer cancel()
				exchange(t, ctx, l, end{in, out}, dir)
			})
		}
	}
}

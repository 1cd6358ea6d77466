package trials

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"zealousferry/core/coretest"
	"zealousferry/core/run"
	"zealousferry/internal/client"
)

// wiretap stands between a bench and a unit's TCP address, and keeps what goes both ways in
// the order in which it passed.
type wiretap struct {
	net.Listener
	mu     sync.Mutex
	pieces []piece
}

// piece is what one end has sent at once, on the n-th connection.
type piece struct {
	conn   int
	toUnit bool
	b      []byte
}

func tap(t *testing.T, unit string) *wiretap {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w := &wiretap{Listener: l}
	t.Cleanup(func() { l.Close() })
	go func() {
		for n := 0; ; n++ {
			bench, err := l.Accept()
			if err != nil {
				return
			}
			to, err := net.Dial("tcp", unit)
			if err != nil {
				bench.Close()
				continue
			}
			pass := func(from, to net.Conn, toUnit bool) {
				buf := make([]byte, 16<<10)
				for {
					k, err := from.Read(buf)
					if k > 0 {
						w.mu.Lock()
						w.pieces = append(w.pieces, piece{n, toUnit, bytes.Clone(buf[:k])})
						w.mu.Unlock()
						if _, err := to.Write(buf[:k]); err != nil {
							break
						}
					}
					if err != nil {
						break
					}
				}
				from.Close()
				to.Close()
			}
			go pass(bench, to, true)
			go pass(to, bench, false)
		}
	}()
	return w
}

// capture writes a file of captured packets: each has a time of its own, a second after
// the other.
func capture(t *testing.T, kind uint32, packets [][]byte) string {
	t.Helper()
	b := binary.LittleEndian.AppendUint32(nil, 0xA1B2C3D4)
	b = binary.LittleEndian.AppendUint16(b, 2)
	b = binary.LittleEndian.AppendUint16(b, 4)
	b = append(b, make([]byte, 8)...)
	b = binary.LittleEndian.AppendUint32(b, 1<<18)
	b = binary.LittleEndian.AppendUint32(b, kind)
	for i, p := range packets {
		for _, n := range []int{1_790_000_000 + i/1000, i % 1000 * 1000, len(p), len(p)} {
			b = binary.LittleEndian.AppendUint32(b, uint32(n))
		}
		b = append(b, p...)
	}
	path := filepath.Join(t.TempDir(), "wire.pcap")
	if err := os.WriteFile(path, b, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// asIP dresses what was tapped as TCP over IPv4, the unit's end at a port.
func (w *wiretap) asIP(port uint16) (packets [][]byte) {
	w.mu.Lock()
	defer w.mu.Unlock()
	next := map[[2]int]uint32{}
	for _, p := range w.pieces {
		bench, unit := [4]byte{10, 0, 0, 1}, [4]byte{10, 0, 0, 2}
		from, to, source, target, way := bench, unit, uint16(40000+p.conn), port, [2]int{p.conn, 0}
		back := [2]int{p.conn, 1}
		if !p.toUnit {
			from, to, source, target, way, back = unit, bench, port, uint16(40000+p.conn), [2]int{p.conn, 1}, [2]int{p.conn, 0}
		}
		for rest := p.b; len(rest) > 0; {
			data := rest[:min(len(rest), 1400)]
			rest = rest[len(data):]
			b := []byte{0x45, 0}
			b = binary.BigEndian.AppendUint16(b, uint16(40+len(data)))
			b = append(b, 0, 0, 0x40, 0, 64, 6, 0, 0)
			b = append(append(b, from[:]...), to[:]...)
			b = binary.BigEndian.AppendUint16(b, source)
			b = binary.BigEndian.AppendUint16(b, target)
			b = binary.BigEndian.AppendUint32(b, 1+next[way])
			b = binary.BigEndian.AppendUint32(b, 1+next[back])
			b = append(b, 0x50, 0x18, 0xFF, 0xFF, 0, 0, 0, 0)
			next[way] += uint32(len(data))
			packets = append(packets, append(b, data...))
		}
	}
	return packets
}

// dissect has an independent dissector read a capture and returns what it says of a field,
// one line a packet, and whatever it calls malformed.
func dissect(t *testing.T, path string, more ...string) (lines []string, malformed string) {
	t.Helper()
	read := func(args ...string) string {
		t.Helper()
		c := exec.Command("tshark", append(append([]string{"-n", "-r", path}, more...), args...)...)
		var e bytes.Buffer
		c.Stderr = &e
		out, err := c.Output()
		if err != nil {
			t.Fatalf("%v: %v\n%s", c.Args, err, e.String())
		}
		return string(out)
	}
	malformed = read("-Y", `_ws.malformed || _ws.expert.severity >= "Warning"`, "-V")
	fields := []string{"-T", "fields", "-E", "separator=|"}
	for _, f := range []string{"doip.type", "uds.sid", "uds.reply", "uds.err.code", "iso15765.message_type"} {
		fields = append(fields, "-e", f)
	}
	return strings.Split(strings.TrimSpace(read(fields...)), "\n"), malformed
}

// TestAnIndependentDissectorReadsTheWire: what the bench and a module say to one another
// while it is identified, read, written and started is well-formed to somebody else's
// eyes: over a gateway, and over a CAN bus.
func TestAnIndependentDissectorReadsTheWire(t *testing.T) {
	t.Parallel()
	if os.Getenv("FERRY_TRIALS") != "full" {
		t.Skip("make trials installs the dissector and runs this")
	}
	w := moduled(t, nil)
	if err := w.Lead.PutModelSecret(ctx, "small", client.NewModelSecret{Name: "diagnosis", Value: coretest.Password}); err != nil {
		t.Fatal(err)
	}
	g := gatewayTo(t, w.Units["a"])
	through := tap(t, g.Address())
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/tug", PortChoice: client.PortChoice{Gateway: through.Addr().String()}}); err != nil {
		t.Fatal(err)
	}
	if r := w.Follow(w.Open(client.NewRun{Kind: "flash", At: "b/tug"}).ID); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	lines, malformed := dissect(t, capture(t, 101, through.asIP(13400)))
	if malformed != "" {
		t.Errorf("over the gateway:\n%.3000s", malformed)
	}
	all := strings.Join(lines, "\n")
	for _, s := range []string{"0x0005|", "0x0006|", "0x8001|0x10", "0x8001|0x22", "0x8001|0x27", "0x8001|0x31", "0x8001|0x34", "0x8001|0x36", "0x8001|0x37", "0x8001|0x3e"} {
		if !strings.Contains(all, s) {
			t.Errorf("the dissector has not seen %s among %d packets:\n%.400s", s, len(lines), all)
		}
	}

	broken := through.asIP(13400)
	broken[len(broken)/2] = broken[len(broken)/2][:40+8+3] // an address is cut off
	binary.BigEndian.PutUint16(broken[len(broken)/2][2:], 40+8+3)
	binary.BigEndian.PutUint32(broken[len(broken)/2][40+4:], 3)
	if _, malformed := dissect(t, capture(t, 101, broken)); malformed == "" {
		t.Error("a message that is cut off is well to the dissector's eyes: so this proves nothing")
	}

	bus := tap(t, w.Units["a"].Address())
	if err := w.Technician.SetLink(ctx, client.NewLink{Link: "b/bus", PortChoice: client.PortChoice{Address: bus.Addr().String(), Rate: 500000}}); err != nil {
		t.Fatal(err)
	}
	if r := w.Follow(w.Open(client.NewRun{Kind: "restore", At: "b/bus"}).ID); r.Outcome != string(run.Done) {
		t.Fatalf("%s %+v", r.Outcome, r.Progress.Fault)
	}
	lines, malformed = dissect(t, capture(t, 227, bus.asFrames(t)), "-d", "can.subdissector,iso15765", "-d", "iso15765.subdissector,uds")
	if malformed != "" {
		t.Errorf("over the bus:\n%.3000s", malformed)
	}
	all = strings.Join(lines, "\n")
	for _, s := range []string{"|0x10|", "|0x22|", "|0x34|", "|0x36|", "|0x37|"} {
		if !strings.Contains(all, s) {
			t.Errorf("the dissector has not seen %s among %d frames:\n%.400s", s, len(lines), all)
		}
	}
}

// asFrames takes the CAN frames out of the adapter's lines, as the kernel lays them out.
func (w *wiretap) asFrames(t *testing.T) (packets [][]byte) {
	t.Helper()
	w.mu.Lock()
	defer w.mu.Unlock()
	var ends [2]bytes.Buffer
	frame := func(line string) {
		if len(line) < 5 || line[0] != 't' && line[0] != 'T' {
			return
		}
		digits := map[byte]int{'t': 3, 'T': 8}[line[0]]
		var id uint32
		var n int
		if _, err := fmt.Sscanf(line[1:], fmt.Sprintf("%%%dx%%1d", digits), &id, &n); err != nil || len(line) < 2+digits+2*n {
			t.Errorf("the line %q is no frame: %v", line, err)
			return
		}
		data, err := hex.DecodeString(line[2+digits:][:2*n])
		if err != nil {
			t.Errorf("the line %q: %v", line, err)
			return
		}
		if line[0] == 'T' {
			id |= 1 << 31
		}
		packets = append(packets, append(append(binary.BigEndian.AppendUint32(nil, id), byte(n), 0, 0, 0), data...))
	}
	for _, p := range w.pieces {
		b := &ends[map[bool]int{true: 0, false: 1}[p.toUnit]]
		b.Write(unescaped(p.b))
		for {
			line, err := b.ReadString('\r')
			if err == io.EOF {
				b.WriteString(line)
				break
			}
			frame(strings.Trim(line, "\r\x07zZ"))
		}
	}
	return packets
}

// unescaped takes the options of RFC 2217 out of a stream of bytes.
func unescaped(raw []byte) (b []byte) {
	from := bufio.NewReader(bytes.NewReader(raw))
	for {
		c, err := from.ReadByte()
		if err != nil {
			return b
		}
		if c != 0xFF {
			b = append(b, c)
			continue
		}
		switch c, _ = from.ReadByte(); c {
		case 0xFF:
			b = append(b, c)
		case 0xFA: // until IAC SE
			for last := byte(0); err == nil && !(last == 0xFF && c == 0xF0); {
				last = c
				c, err = from.ReadByte()
			}
		default:
			from.ReadByte()
		}
	}
}

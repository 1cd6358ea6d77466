package gangway_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/rfc2217"
)

// mangled is a stream whose frames are lost, repeated, held back until later
// ones have gone, or delayed, both ways.
type mangled struct {
	link.Stream
	mu     sync.Mutex
	random *rand.Rand
	how    func(*mangled, []byte) [][]byte
	held   []byte
	late   [][]byte
	in     []byte // bytes of a frame that is not whole yet
	ready  []byte // what may be read
	on     bool
}

func (m *mangled) Write(p []byte) (int, error) {
	m.mu.Lock()
	out := [][]byte{p}
	if m.on {
		out = m.how(m, bytes.Clone(p))
	}
	m.mu.Unlock()
	for _, f := range out {
		if _, err := m.Stream.Write(f); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

func (m *mangled) Read(p []byte) (int, error) {
	for {
		m.mu.Lock()
		if len(m.ready) > 0 {
			n := copy(p, m.ready)
			m.ready = m.ready[n:]
			m.mu.Unlock()
			return n, nil
		}
		m.mu.Unlock()
		buf := make([]byte, 512)
		n, err := m.Stream.Read(buf)
		m.mu.Lock()
		m.in = append(m.in, buf[:n]...)
		for {
			i := bytes.IndexByte(m.in, 0)
			if i < 0 {
				break
			}
			f := bytes.Clone(m.in[:i+1])
			m.in = m.in[i+1:]
			if m.on {
				for _, x := range m.how(m, f) {
					m.ready = append(m.ready, x...)
				}
			} else {
				m.ready = append(m.ready, f...)
			}
		}
		m.mu.Unlock()
		if err != nil {
			return 0, err
		}
	}
}

// The ways to mangle a frame. chance is one in so many.
func (m *mangled) chance(n int) bool { return m.random.IntN(n) == 0 }

func lose(m *mangled, f []byte) [][]byte {
	if m.chance(12) {
		return nil
	}
	return [][]byte{f}
}

func repeat(m *mangled, f []byte) [][]byte {
	if m.chance(4) {
		return [][]byte{f, f}
	}
	return [][]byte{f}
}

func reorder(m *mangled, f []byte) [][]byte {
	if held := m.held; held != nil {
		m.held = nil
		return [][]byte{f, held}
	}
	if m.chance(8) {
		m.held = f
		return nil
	}
	return [][]byte{f}
}

// delay keeps a copy of a frame and sends it again much later, when its request
// is long done.
func delay(m *mangled, f []byte) [][]byte {
	out := [][]byte{f}
	if m.chance(6) {
		m.late = append(m.late, f)
	}
	if len(m.late) > 12 {
		out = append(out, m.late[0])
		m.late = m.late[1:]
	}
	return out
}

func everything(m *mangled, f []byte) [][]byte {
	var out [][]byte
	for _, x := range delay(m, f) {
		for _, y := range repeat(m, x) {
			for _, z := range reorder(m, y) {
				out = append(out, lose(m, z)...)
			}
		}
	}
	return out
}

func TestLostRepeatedReorderedAndDelayedFrames(t *testing.T) {
	for name, how := range map[string]func(*mangled, []byte) [][]byte{"lost": lose, "repeated": repeat, "reordered": reorder, "delayed": delay, "everything": everything} {
		for seed := range uint64(3) {
			t.Run(fmt.Sprintf("%s %d", name, seed), func(t *testing.T) {
				t.Parallel()
				u := board(t, nil)
				raw, err := rfc2217.Kind{}.Open(context.Background(), link.Settings{"address": u.Address()}, core.System{})
				if err != nil {
					t.Fatal(err)
				}
				defer raw.Close()
				m := &mangled{Stream: raw.(link.Stream), random: rand.New(rand.NewPCG(seed, 3)), how: how}
				s, err := coretest.Session(context.Background(), m, coretest.SmallSheet().Main(), 0.1)
				if err != nil {
					t.Fatal(err)
				}
				defer s.Close()
				m.mu.Lock()
				m.on = true
				m.mu.Unlock()
				ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
				defer cancel()
				for sector := range uint64(8) {
					data := bytes.Repeat([]byte{byte(sector), 0, 0xFF, byte(seed)}, 256)
					if err := change(ctx, s, 0x1000+sector*1024, data); err != nil {
						t.Fatalf("sector %d: %v", sector, err)
					}
				}
				memory := u.Memory()
				for sector := range 8 {
					if !bytes.Equal(memory[0x1000+sector*1024:][:1024], bytes.Repeat([]byte{byte(sector), 0, 0xFF, byte(seed)}, 256)) {
						t.Errorf("sector %d holds other bytes", sector)
					}
				}
			})
		}
	}
}

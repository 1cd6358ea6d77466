package sim

import (
	"bytes"

	"zealousferry/core"
)

// Relay starts a unit behind a box: what the box's program is told with LINE THROUGH it
// passes on, both ways, until it starts anew. The unit has no modem lines, and no adapter of
// the bench.
func Relay(box *Unit, s Spec, clock core.Clock) (*Unit, error) {
	u, err := Start(s, "127.0.0.1:0", clock)
	if err != nil {
		return nil, err
	}
	a := u.plug(&relay{box})
	go a.carry(func() { <-u.ended })
	box.mu.Lock()
	box.behind = u
	box.mu.Unlock()
	return u, nil
}

// relay is the box's side of the wire to the unit behind it.
type relay struct{ box *Unit }

func (r *relay) deliver(data []byte) {
	b := r.box
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.through && !b.inLoader {
		b.speak(data, b.clock.Now())
	}
}

func (*relay) lineState(byte)  {}
func (*relay) modemState(byte) {}
func (*relay) Close() error    { return nil }

// passOn gives what has arrived to the unit behind; called with the lock.
func (u *Unit) passOn() bool {
	if len(u.rx) == 0 {
		return false
	}
	data := bytes.Clone(u.rx)
	u.rx = u.rx[:0]
	u.behind.mu.Lock()
	a := u.behind.adapter
	u.behind.mu.Unlock()
	if a != nil {
		a.take(data)
	}
	return true
}

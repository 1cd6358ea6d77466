package isotp

import (
	"context"
	"errors"
	"os"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
)

// Address says which identifiers a conversation uses.
type Address struct {
	Request  uint32 // that this end sends with
	Response uint32 // that the other end sends with
	Extended bool   // they have 29 bits
	Own      *byte  // this end's address, where addressing is extended: it stands before what comes
}

// Talk holds a conversation over a bus. c.Prefix is the other end's address.
func Talk(bus link.Frames, a Address, c Config, clock core.Clock) link.Conversation {
	c = c.or(Defaults)
	return &talk{bus: bus, a: a, c: c, clock: clock, ear: bus.Hear(a.Extended, a.Response), in: NewReceiver(c)}
}

type talk struct {
	bus   link.Frames
	a     Address
	c     Config
	clock core.Clock
	ear   link.Ear
	in    *Receiver
	ready [][]byte // messages that came while this end was sending
	broke error    // how the last one broke off that did not come whole
}

// maxReady bounds what is kept of one who talks while nobody listens.
const maxReady = 64

func (t *talk) Close() error {
	t.ear.Close()
	return nil
}

func (t *talk) put(ctx context.Context, payload []byte) error {
	ctx, cancel := context.WithTimeout(ctx, t.c.As)
	defer cancel()
	err := t.bus.SendFrame(ctx, link.NewFrame(t.a.Request, t.a.Extended, payload))
	if errors.Is(err, context.DeadlineExceeded) {
		return result(core.NotAnswering, "N_TIMEOUT_A", "the adapter did not take a frame for %s", t.c.As)
	}
	return err
}

func (t *talk) Send(ctx context.Context, message []byte) error {
	s, err := NewSender(t.c, message)
	if err != nil {
		return err
	}
	for {
		frame, at, done, err := s.Next(t.clock.Now())
		if done || err != nil {
			return err
		}
		if frame != nil {
			if err := t.put(ctx, frame); err != nil {
				return err
			}
			s.Sent(t.clock.Now())
			continue
		}
		if err := t.take(ctx, at, s); err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			return err
		}
	}
}

// take hears one frame, by a time at the latest.
func (t *talk) take(ctx context.Context, by time.Time, s *Sender) error {
	if until := t.in.Until(); !until.IsZero() && until.Before(by) {
		by = until
	}
	f, err := t.ear.Next(ctx, by)
	now := t.clock.Now()
	if err != nil {
		if e := t.in.Expire(now); e != nil {
			t.broke = e
		}
		return err
	}
	pci, ours := t.c.inside(f.Data[:f.N], t.a.Own)
	if !ours || f.Remote {
		return nil
	}
	if pci[0]>>4 == flow {
		if s != nil {
			s.Flow(now, pci)
		}
		return nil
	}
	reply, message, err := t.in.Heard(now, pci)
	if err != nil {
		t.broke = err
	}
	if message != nil && len(t.ready) < maxReady {
		t.ready, t.broke = append(t.ready, message), nil
	}
	if reply != nil {
		return t.put(ctx, reply)
	}
	return nil
}

func (t *talk) Receive(ctx context.Context, by time.Time) ([]byte, error) {
	for {
		if len(t.ready) > 0 {
			m := t.ready[0]
			t.ready = t.ready[1:]
			return m, nil
		}
		if err := t.broke; err != nil {
			t.broke = nil
			return nil, err
		}
		until := by
		if u := t.in.Until(); !u.IsZero() { // it has begun: the standard's own time counts
			until = u
		}
		err := t.take(ctx, until, nil)
		if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
			return nil, err
		}
		if err != nil && t.broke == nil && t.in.Until().IsZero() {
			return nil, os.ErrDeadlineExceeded
		}
	}
}

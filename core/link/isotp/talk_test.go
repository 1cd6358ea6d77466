package isotp_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"sync"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/isotp"
)

// wire is a bus in memory: what one end sends all others hear.
type wire struct{ link.Ears }

func (w *wire) SendFrame(_ context.Context, f link.Frame) error { w.Give(f); return nil }
func (w *wire) Generation() uint64                              { return 1 }
func (w *wire) Close() error                                    { w.End(core.Fail(core.NotAnswering, "the bus is gone")); return nil }

// Many conversations at once over one bus, each in both directions, do not meddle.
func TestConversationsAtOnce(t *testing.T) {
	w := &wire{link.Ears{Clock: core.System{}}}
	own, other := byte(0xF1), byte(0x42)
	var all sync.WaitGroup
	for n := range uint32(12) {
		a, b := isotp.Address{Request: 0x600 + n, Response: 0x700 + n}, isotp.Address{Request: 0x700 + n, Response: 0x600 + n}
		ca, cb := isotp.Config{BlockSize: uint8(n)}, isotp.Config{BlockSize: 3}
		if n%3 == 0 {
			a.Own, b.Own, ca.Prefix, cb.Prefix = &own, &other, &other, &own
		}
		here, there := isotp.Talk(w, a, ca, core.System{}), isotp.Talk(w, b, cb, core.System{})
		message := bytes.Repeat([]byte{byte(n), 1, 2, 3, 4}, int(n)*300+1)
		all.Add(2)
		go func() {
			defer all.Done()
			defer there.Close()
			m, err := there.Receive(context.Background(), time.Now().Add(coretest.Patience))
			if err != nil || !bytes.Equal(m, message) {
				t.Errorf("conversation %d: %d bytes came, %v", n, len(m), err)
			}
			if err := there.Send(context.Background(), m); err != nil {
				t.Errorf("conversation %d, back: %v", n, err)
			}
		}()
		go func() {
			defer all.Done()
			defer here.Close()
			if err := here.Send(context.Background(), message); err != nil {
				t.Errorf("conversation %d: %v", n, err)
			}
			if m, err := here.Receive(context.Background(), time.Now().Add(coretest.Patience)); err != nil || !bytes.Equal(m, message) {
				t.Errorf("conversation %d, back: %d bytes, %v", n, len(m), err)
			}
		}()
	}
	all.Wait()
}

func TestABusThatGoesAway(t *testing.T) {
	w := &wire{link.Ears{Clock: core.System{}}}
	c := isotp.Talk(w, isotp.Address{Request: 1, Response: 2}, isotp.Config{}, core.System{})
	if _, err := c.Receive(context.Background(), time.Now()); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("nobody speaks: %v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := c.Receive(ctx, time.Now().Add(coretest.Patience)); core.KindOf(err) != core.Interrupted {
		t.Errorf("it is stopped: %v", err)
	}
	w.Close()
	if _, err := c.Receive(context.Background(), time.Now().Add(coretest.Patience)); core.KindOf(err) != core.NotAnswering {
		t.Errorf("the bus is gone: %v", err)
	}
	if _, err := isotp.Talk(w, isotp.Address{Request: 1, Response: 2}, isotp.Config{}, core.System{}).Receive(context.Background(), time.Now().Add(coretest.Patience)); core.KindOf(err) != core.NotAnswering {
		t.Errorf("and a new conversation: %v", err)
	}
}

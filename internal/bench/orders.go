package bench

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"zealousferry/core"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// readOrders opens the list of orders carried out and locks it: it is also what
// keeps a second process out of the folder.
func (b *Bench) readOrders() error {
	f, err := os.OpenFile(filepath.Join(b.dir, "orders"), os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return core.Fail(core.Busy, "another bench process has %s", b.dir).Do("Stop that one first.")
	}
	b.log = f
	var id string
	for {
		if _, err := fmt.Fscanln(f, &id); err != nil {
			return nil
		}
		b.done[id] = true
	}
}

// ordered listens for orders.
func (b *Bench) ordered(ctx context.Context) {
	for ctx.Err() == nil {
		if err := b.client.Orders(ctx, func(o client.Order) { b.take(ctx, o) }); err != nil && core.KindOf(err) == core.NotAllowed {
			b.Log.Error("the service does not let this bench in", "error", err)
		}
		select {
		case <-b.Clock.After(500 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

// take carries out an order, once: that it was taken is on disk before anything
// is done.
func (b *Bench) take(ctx context.Context, o client.Order) {
	b.mu.Lock()
	late := b.Clock.Now().Add(b.offset).After(o.Deadline)
	again := b.done[o.ID]
	b.done[o.ID] = true
	b.mu.Unlock()
	if again {
		left := core.Fail(core.Interrupted, "the bench was restarted while it carried this order out")
		if o.Run != "" {
			left = left.Go(words.RunShow(o.Run).To("Look how the run stands"))
		} else {
			left = left.Do("Ask again.")
		}
		go b.end(ctx, o, client.Result{Error: refuse(left)})
		return
	}
	if err := b.noteOrder(o.ID); err != nil { // it might be carried out twice
		go b.end(ctx, o, client.Result{Error: refuse(core.Fail(core.NoSpace, "the bench cannot note that it was given this order: %w", err).
			Unit("nothing was changed").Do("Make room on the bench's disk, then give it again."))})
		return
	}
	if late {
		go b.end(ctx, o, client.Result{Error: refuse(core.Fail(core.Interrupted, "the order came after its deadline; the bench was away").Do("Give it again."))})
		return
	}
	go b.carryOut(ctx, o)
}

// noteOrder puts on disk that an order was taken.
func (b *Bench) noteOrder(id string) error {
	if _, err := fmt.Fprintln(b.log, id); err != nil {
		return err
	}
	return b.log.Sync()
}

func refuse(err error) *client.Problem {
	e := core.AsError(err, core.Interrupted)
	return &client.Problem{Type: "about:blank", Status: 409, Title: "Refused by the bench", Detail: e.Message, Kind: e.Kind, State: e.State, ID: e.ID, Params: e.Params, Todo: e.Todo}
}

// end tells the service what came of an order, until it hears it.
func (b *Bench) end(ctx context.Context, o client.Order, r client.Result) {
	for ctx.Err() == nil {
		err := b.client.EndOrder(ctx, o.ID, r)
		if err == nil || core.KindOf(err) != core.NotAnswering {
			return
		}
		select {
		case <-b.Clock.After(time.Second):
		case <-ctx.Done():
		}
	}
}

func (b *Bench) carryOut(ctx context.Context, o client.Order) {
	var r client.Result
	var err error
	switch o.Kind {
	case client.OrderIdentify:
		r, err = b.identify(ctx, o)
	case client.OrderRun:
		err = b.begin(ctx, o)
	case client.OrderResume:
		err = b.resume(ctx, o)
	case client.OrderStop:
		err = b.stop(o)
	case client.OrderAbandon:
		err = b.abandon(o)
	case client.OrderLayAside:
		err = b.layAside(o)
	case client.OrderAnswer:
		err = b.answer(ctx, o)
	case client.OrderCheck:
		r, err = b.check(ctx, o)
	case client.OrderListen:
		r, err = b.listen(ctx, o)
	case client.OrderEcho:
		r, err = b.echo(ctx, o)
	case client.OrderTry:
		r, err = b.try(ctx, o)
	case client.OrderScan:
		r, err = b.scan(ctx, o)
	case client.OrderClear:
		r, err = b.clear(ctx, o)
	case client.OrderLearn:
		err = b.learn(ctx, o)
	case client.OrderSetLink:
		if err = b.setLink(ctx, o); err == nil {
			b.join(ctx)
		}
	case client.OrderPorts:
		if r.Ports, err = b.serialPorts(); err == nil && o.Vehicles {
			r.Vehicles, r.Asked = b.vehicles(ctx)
		}
	default:
		err = core.Fail(core.NotAllowed, "this bench does not know the order %q", o.Kind).Do("Use a newer version of the program on the bench.")
	}
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		r.Error = refuse(err)
	}
	b.end(ctx, o, r)
}

package bench

import (
	"bytes"
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

// lock keeps other processes out of a bench's folder until the file is closed.
func lock(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "orders"), os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, core.Fail(core.Busy, "another bench process has %s", dir).Do("Stop that one first.")
	}
	return f, nil
}

// readOrders opens the list of orders carried out and locks it: it is also what
// keeps a second process out of the folder.
func (b *Bench) readOrders() error {
	f, err := lock(b.dir)
	if err != nil {
		return err
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
		b.listenForOrders(ctx)
		select {
		case <-b.Clock.After(500 * time.Millisecond):
		case <-ctx.Done():
		}
	}
}

// listenForOrders takes orders as they come, until the connection ends. Where one is not signed with the
// key that is held, the service is asked for its key; with a new one they are listened for again,
// and it comes again.
func (b *Bench) listenForOrders(ctx context.Context) {
	key := b.service.get().Now
	until, end := context.WithCancel(ctx)
	defer end()
	err := b.client.Orders(until, b.id.Bench, key, func(o client.Order, signed bool) {
		if !signed && b.join(ctx) == nil && !bytes.Equal(b.service.get().Now, key) {
			end()
			return
		}
		b.takeSigned(ctx, o, signed)
	})
	if err != nil && core.KindOf(err) == core.NotAllowed {
		b.Log.Error("the service does not let this bench in", "error", err)
	}
}

// takeSigned carries out what the service has signed for this bench, with the key that it
// showed when the bench was enrolled, or one that has followed it. Anything else came from
// elsewhere, or was changed.
func (b *Bench) takeSigned(ctx context.Context, o client.Order, signed bool) {
	if !signed {
		b.Log.Error("an order was not signed by the service that has enrolled this bench; it is not carried out", "order", o.ID, "kind", o.Kind)
		return
	}
	b.take(ctx, o)
}

// take carries out an order, once: that it was taken is on disk before anything
// is done.
func (b *Bench) take(ctx context.Context, o client.Order) {
	b.mu.Lock()
	late := b.Clock.Now().Add(b.offset).After(o.Deadline)
	again, untold := b.done[o.ID], b.untold[o.ID]
	b.done[o.ID], b.untold[o.ID] = true, true
	_, begun := b.jobs[o.Run]
	b.mu.Unlock()
	if untold { // a service tells it anew that has not heard its end yet
		return
	}
	if again && begun && o.Kind == client.OrderRun { // its journal tells how it stands
		go b.end(ctx, o, client.Result{})
		return
	}
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
	return &client.Problem{Type: "about:blank", Status: 409, Title: "Refused by the bench", Detail: e.Message, Kind: e.Kind, UnitState: e.UnitState, ID: e.ID, Params: e.Params, Todo: e.Todo}
}

// end tells the service what came of an order, until it hears it.
func (b *Bench) end(ctx context.Context, o client.Order, r client.Result) {
	defer func() {
		b.mu.Lock()
		delete(b.untold, o.ID)
		b.mu.Unlock()
	}()
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

// question is an order that changes nothing, while it is carried out.
type question struct {
	end  context.CancelCauseFunc
	told chan core.Said // the newest that is to be told
	said bool           // a line of text goes to the program
}

// telling takes how far an order is; the service is told the newest of it, now and then.
func (b *Bench) telling(o client.Order) func(core.Said) {
	b.mu.Lock()
	q := b.questions[o.ID]
	b.mu.Unlock()
	return func(s core.Said) {
		if q == nil {
			return
		}
		select {
		case <-q.told: // it is out of date
		default:
		}
		select {
		case q.told <- s:
		default:
		}
	}
}

// tellEvery is how often the service is told how far an order is.
const tellEvery = 300 * time.Millisecond

// tell tells the service how far an order is, until it is over.
func (b *Bench) tell(ctx context.Context, o client.Order, q *question) {
	for {
		select {
		case <-b.Clock.After(tellEvery): // what is over sooner needs no telling
		case <-ctx.Done():
			return
		}
		select {
		case s := <-q.told:
			call, cancel := context.WithTimeout(ctx, askLasts)
			b.client.TellOrder(call, o.ID, s) // what does not arrive is out of date with the next
			cancel()
		case <-ctx.Done():
			return
		}
	}
}

// endQuestion ends an order before it is over.
func (b *Bench) endQuestion(o client.Order) error {
	b.mu.Lock()
	q := b.questions[o.Ends]
	b.mu.Unlock()
	if q == nil {
		return core.Fail(core.NotFound, "this bench is not asking that any more")
	}
	ended := core.Fail(core.Interrupted, "it was ended by %s", o.By).Unit("nothing was changed")
	if q.said {
		ended = ended.Unit("what was said to it was said; nothing else was done")
	}
	q.end(ended.Do("Ask again when you want to know."))
	return nil
}

func (b *Bench) carryOut(ctx context.Context, o client.Order) {
	var r client.Result
	var err error
	switch o.Kind {
	case client.OrderIdentify, client.OrderCheck, client.OrderScan, client.OrderListen, client.OrderEcho:
		r, err = b.ask(ctx, o)
	default:
		r, err = b.result(ctx, o)
	}
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		r.Error = refuse(err)
	}
	b.end(ctx, o, r)
}

// ask carries out an order that changes nothing in a unit: how far it is is told, and it
// can be ended before it is over.
func (b *Bench) ask(ctx context.Context, o client.Order) (client.Result, error) {
	asking, end := context.WithCancelCause(ctx)
	defer end(nil)
	q := &question{end: end, told: make(chan core.Said, 1), said: o.Say != ""}
	b.mu.Lock()
	b.questions[o.ID] = q
	b.mu.Unlock()
	go b.tell(asking, o, q)
	r, err := b.result(asking, o)
	b.mu.Lock()
	delete(b.questions, o.ID)
	b.mu.Unlock()
	if ended := context.Cause(asking); ended != nil && ctx.Err() == nil {
		return r, ended
	}
	return r, err
}

// result is what comes of an order.
func (b *Bench) result(ctx context.Context, o client.Order) (r client.Result, err error) {
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
	case client.OrderBorrow:
		err = b.borrow(o)
	case client.OrderAnswer:
		err = b.answer(ctx, o)
	case client.OrderCheck:
		r, err = b.check(ctx, o)
	case client.OrderListen:
		r, err = b.listen(ctx, o)
	case client.OrderEnd:
		err = b.endQuestion(o)
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
	return r, err
}

package sim

import (
	"runtime"
	"sync"
	"time"

	"zealousferry/core"
)

// parcel is bytes with the time at which the last of them is through the line.
type parcel struct {
	data []byte
	at   time.Time
	from uart // the setting of the end that sent them
}

// wire is one direction of a serial line: it takes as long as the line rate
// says, plus a delay that stands for the network on the way.
type wire struct {
	clock core.Clock
	exact bool
	free  time.Time     // when the line is free again
	room  chan struct{} // holds one for each parcel on the way, where the sender waits for room; nil: it never does

	mu     sync.Mutex
	queue  []parcel
	more   chan struct{} // rung when something was put on the line, or it was closed
	closed bool
}

// newWire is a line on which so many parcels find room; 0 is any number.
func newWire(clock core.Clock, exact bool, room int) *wire {
	w := &wire{clock: clock, exact: exact, more: make(chan struct{}, 1)}
	if room > 0 {
		w.room = make(chan struct{}, room)
	}
	return w
}

// coarse is more than what timers are late by.
const coarse = 1500 * time.Microsecond

// until waits for a time; exactly, it spins at the end.
func until(clock core.Clock, at time.Time, exact bool) {
	d := at.Sub(clock.Now())
	if exact {
		d -= coarse
	}
	if d > 0 {
		<-clock.After(d)
	}
	for exact && clock.Now().Before(at) {
		runtime.Gosched()
	}
}

// parcelSize bounds the bytes that arrive at one instant.
const parcelSize = 512

// carry hands parcels to deliver when they are due, until the line is closed and empty.
func (w *wire) carry(deliver func(parcel)) {
	for {
		w.mu.Lock()
		if len(w.queue) == 0 {
			closed := w.closed
			w.mu.Unlock()
			if closed {
				return
			}
			<-w.more
			continue
		}
		p := w.queue[0]
		w.queue = w.queue[1:]
		w.mu.Unlock()
		until(w.clock, p.at, w.exact)
		deliver(p)
		if w.room != nil {
			<-w.room
		}
	}
}

// close lets what is on the line arrive and takes nothing more.
func (w *wire) close() {
	w.mu.Lock()
	w.closed = true
	w.mu.Unlock()
	w.ring()
}

func (w *wire) ring() {
	select {
	case w.more <- struct{}{}:
	default:
	}
}

func (w *wire) put(p parcel) {
	w.mu.Lock()
	if !w.closed {
		w.queue = append(w.queue, p)
	}
	w.mu.Unlock()
	w.ring()
}

// send puts bytes on the line, not before ready. character is the time of one
// byte; delay is added to the arrival and does not occupy the line.
func (w *wire) send(data []byte, ready time.Time, character, delay time.Duration, from uart, ended <-chan struct{}) bool {
	if w.free.Before(ready) {
		w.free = ready
	}
	for len(data) > 0 {
		n := min(len(data), parcelSize)
		w.free = w.free.Add(time.Duration(n) * character)
		if w.room != nil {
			select {
			case w.room <- struct{}{}:
			case <-ended:
				return false
			}
		}
		w.put(parcel{data[:n:n], w.free.Add(delay), from})
		data = data[n:]
	}
	return true
}

package sim

import (
	"runtime"
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
	free  time.Time // when the line is free again
	queue chan parcel
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

// carry hands parcels to deliver when they are due, until the queue is closed.
func (w *wire) carry(deliver func(parcel)) {
	for p := range w.queue {
		until(w.clock, p.at, w.exact)
		deliver(p)
	}
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
		select {
		case w.queue <- parcel{data[:n:n], w.free.Add(delay), from}:
		case <-ended:
			return false
		}
		data = data[n:]
	}
	return true
}

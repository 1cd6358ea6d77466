package link

import (
	"sync"
	"time"

	"zealousferry/core"
)

// OneWire is a stream over a line on which the bench hears all that it sends: it
// takes the echo off again. The echo is told by its place, not by its value: as
// many bytes as were sent come back first, for nobody else speaks meanwhile; what
// has not come when the line must long have carried it is not waited for.
func OneWire(s Stream, m Mode, clock core.Clock) Stream {
	return &oneWire{Stream: s, mode: m, clock: clock}
}

// slack is what adapters and networks may add to an echo.
const slack = 200 * time.Millisecond

type oneWire struct {
	Stream
	clock core.Clock
	mu    sync.Mutex
	mode  Mode
	due   int       // bytes of echo that are still to come
	until time.Time // when the line has carried what was sent
}

func (o *oneWire) SetMode(m Mode) error {
	o.mu.Lock()
	o.mode = m
	o.mu.Unlock()
	return o.Stream.SetMode(m)
}

func (o *oneWire) Write(p []byte) (int, error) {
	o.mu.Lock()
	now := o.clock.Now()
	if now.After(o.until.Add(slack)) {
		o.due = 0
	}
	if o.until.Before(now) {
		o.until = now
	}
	o.due += len(p)
	o.until = o.until.Add(time.Duration(len(p)*o.mode.CharacterBits()) * time.Second / time.Duration(o.mode.Baud))
	o.mu.Unlock()
	return o.Stream.Write(p)
}

func (o *oneWire) Read(p []byte) (int, error) {
	for {
		n, err := o.Stream.Read(p)
		o.mu.Lock()
		if o.clock.Now().After(o.until.Add(slack)) {
			o.due = 0
		}
		drop := min(o.due, n)
		o.due -= drop
		o.mu.Unlock()
		left := copy(p, p[drop:n])
		if left > 0 || err != nil || n == 0 {
			return left, err
		}
	}
}

func (o *oneWire) Purge() error {
	o.mu.Lock()
	o.due = 0
	o.mu.Unlock()
	return o.Stream.Purge()
}

// Within is the stream with its echo.
func (o *oneWire) Within() Stream { return o.Stream }

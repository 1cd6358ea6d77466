package frame

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"zealousferry/core"
)

// door ends live streams when the session or token is gone with which they were opened. However
// many there are, it asks for all of them together, and rests while there is none.
type door struct {
	clock core.Clock
	log   *slog.Logger
	good  func(context.Context, []core.Digest) (map[core.Digest]bool, error) // those that still count

	mu      sync.Mutex
	inside  map[core.Digest]map[int]func() // by secret, what ends each of its streams
	last    int
	looking bool
}

// streamCheck is how long a live stream outlives the session with which it was opened.
const streamCheck = 3 * time.Second

// doorLasts is how long it may take to ask.
const doorLasts = 10 * time.Second

// in has end called once the secret is gone, until leave is called.
func (d *door) in(secret core.Digest, end func()) (leave func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.inside == nil {
		d.inside = map[core.Digest]map[int]func(){}
	}
	if d.inside[secret] == nil {
		d.inside[secret] = map[int]func(){}
	}
	d.last++
	n := d.last
	d.inside[secret][n] = end
	if !d.looking {
		d.looking = true
		go d.look()
	}
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if delete(d.inside[secret], n); len(d.inside[secret]) == 0 {
			delete(d.inside, secret)
		}
	}
}

// look asks until nobody is inside.
func (d *door) look() {
	for {
		<-d.clock.After(streamCheck)
		d.mu.Lock()
		var all []core.Digest
		for secret := range d.inside {
			all = append(all, secret)
		}
		if d.looking = len(all) > 0; !d.looking {
			d.mu.Unlock()
			return
		}
		d.mu.Unlock()
		ctx, cancel := context.WithTimeout(context.Background(), doorLasts)
		good, err := d.good(ctx, all)
		cancel()
		if err != nil { // a database that does not answer ends nobody's session
			d.log.Warn("whether live streams may go on could not be asked", "error", err)
			continue
		}
		d.mu.Lock()
		var ends []func()
		for _, secret := range all {
			if good[secret] {
				continue
			}
			for _, end := range d.inside[secret] {
				ends = append(ends, end)
			}
		}
		d.mu.Unlock()
		for _, end := range ends {
			end()
		}
	}
}

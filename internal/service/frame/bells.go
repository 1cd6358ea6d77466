package frame

import "sync"

// Bell wakes whoever waits for something that this process has just written.
type Bell struct {
	mu   sync.Mutex
	rung chan struct{}
}

// Ring wakes all who wait.
func (b *Bell) Ring() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.rung != nil {
		close(b.rung)
		b.rung = nil
	}
}

// Wait gives what is closed at the next ring.
func (b *Bell) Wait() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.rung == nil {
		b.rung = make(chan struct{})
	}
	return b.rung
}

// Bells are bells by name, for as long as somebody waits at one.
type Bells struct {
	mu     sync.Mutex
	listen map[string]int
	by     map[string]*Bell
}

// At is the bell of a name, until leave is called.
func (b *Bells) At(name string) (one *Bell, leave func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.by == nil {
		b.by, b.listen = map[string]*Bell{}, map[string]int{}
	}
	if b.by[name] == nil {
		b.by[name] = new(Bell)
	}
	b.listen[name]++
	return b.by[name], func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		if b.listen[name]--; b.listen[name] == 0 {
			delete(b.listen, name)
			delete(b.by, name)
		}
	}
}

// Ring wakes those who wait at one.
func (b *Bells) Ring(name string) {
	b.mu.Lock()
	one := b.by[name]
	b.mu.Unlock()
	if one != nil {
		one.Ring()
	}
}

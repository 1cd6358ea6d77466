package sim

import (
	"slices"
	"sync"
	"time"
)

// Vehicle is what the modules of one have in common: the key, what feeds them, and what
// they notice of one another.
type Vehicle struct {
	mu      sync.Mutex
	off     bool   // the key
	tenths  uint16 // of a volt
	modules []*Unit
	gateway *Gateway            // nil where there is none
	blind   map[*Unit]time.Time // until when a module notes no codes
	missed  map[*Unit][]uint32  // codes that a module has noted because another one was silent
}

// Feeds a module well, and too badly to move anything.
const (
	full = 256
	weak = 220
)

// NewVehicle puts modules into one, whose key is on.
func NewVehicle(modules ...*Unit) *Vehicle {
	v := &Vehicle{tenths: full, modules: modules, missed: map[*Unit][]uint32{}, blind: map[*Unit]time.Time{}}
	for _, u := range modules {
		u.mu.Lock()
		u.vehicle = v
		u.mu.Unlock()
	}
	return v
}

// Bus puts a CAN adapter, which is no module itself, on the vehicle's bus.
func (v *Vehicle) Bus(adapter *Unit) {
	adapter.mu.Lock()
	defer adapter.mu.Unlock()
	adapter.vehicle = v
}

// Behind says which gateway leads to it.
func (v *Vehicle) Behind(g *Gateway) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.gateway = g
}

// hangUp has the gateway end the connection after so many more messages.
func (v *Vehicle) hangUp(after int) {
	v.mu.Lock()
	g := v.gateway
	v.mu.Unlock()
	if g != nil && after > 0 {
		g.CutAfter(after)
	}
}

// in are its modules.
func (v *Vehicle) in() []*Unit {
	if v == nil {
		return nil
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	return slices.Clone(v.modules)
}

// awake tells whether any module has power.
func (v *Vehicle) awake() bool {
	return slices.ContainsFunc(v.in(), func(u *Unit) bool { return !u.dark.Load() })
}

// in is the vehicle that a unit is in.
func (u *Unit) in() *Vehicle {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.vehicle
}

// Key turns the key.
func (v *Vehicle) Key(on bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.off = !on
}

// Supply sets what feeds the modules, in tenths of a volt.
func (v *Vehicle) Supply(tenths uint16) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.tenths = tenths
}

// keyed is 1 where the key is on.
func (v *Vehicle) keyed() byte {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.off {
		return 0
	}
	return 1
}

// supply is what feeds the modules, in tenths of a volt; one on the table is fed well.
func (v *Vehicle) supply() uint16 {
	if v == nil {
		return full
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.tenths
}

// misses has the others note that a module has fallen silent.
func (v *Vehicle) misses(silent *Unit) {
	if v == nil {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, u := range v.modules {
		if code := u.Misses[silent.Says]; u != silent && code != 0 && !v.blind[u].After(silent.clock.Now()) && !slices.Contains(v.missed[u], code) {
			v.missed[u] = append(v.missed[u], code)
		}
	}
}

// blinds has a module note no codes until it falls back into its default session, or again.
func (v *Vehicle) blinds(u *Unit, blind bool) {
	if v == nil {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	delete(v.blind, u)
	if blind {
		v.blind[u] = u.clock.Now().Add(fallsBack)
	}
}

// noted are the codes that a module has noted of others.
func (v *Vehicle) noted(u *Unit) []uint32 {
	if v == nil {
		return nil
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	return slices.Clone(v.missed[u])
}

// forget is a module's clearing.
func (v *Vehicle) forget(u *Unit) {
	if v == nil {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	delete(v.missed, u)
}

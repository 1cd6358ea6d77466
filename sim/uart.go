package sim

import "time"

// uart is the setting of one end of a line. An inverted end idles low.
type uart struct {
	baud     int
	parity   string // none, even, odd
	inverted bool
}

func (s uart) bits() int {
	if s.parity == "none" || s.parity == "" {
		return 10
	}
	return 11
}

func (s uart) character() time.Duration {
	return time.Second * time.Duration(s.bits()) / time.Duration(max(s.baud, 1))
}

// alike tells whether a receiver at the one setting reads what the other sends. A
// speed within 2 % is near enough.
func (s uart) alike(o uart) bool {
	off := float64(s.baud-o.baud) / float64(max(o.baud, 1))
	return off < 0.02 && off > -0.02 && s.bits() == o.bits() && (s.bits() == 10 || s.parity == o.parity) && s.inverted == o.inverted
}

// char is what a receiver makes of the levels on its line.
type char struct {
	value   byte
	framing bool // no stop bit
	parity  bool // its parity bit is wrong
	broken  bool // low all the way: a break
}

// sampled gives what a receiver at the setting to makes of bytes sent one after
// the other at the setting from, idle before and after. It works on levels: bits
// least significant first, a start bit low, a stop bit high, sampled in their
// middle from the falling edge on.
func sampled(data []byte, from, to uart) []char {
	var levels []bool
	for range 3 {
		levels = append(levels, true)
	}
	for _, c := range data {
		levels = append(levels, false)
		ones := 0
		for i := range 8 {
			bit := c>>i&1 == 1
			if bit {
				ones++
			}
			levels = append(levels, bit)
		}
		switch {
		case from.bits() == 11 && from.parity == "odd":
			levels = append(levels, ones%2 == 0)
		case from.bits() == 11:
			levels = append(levels, ones%2 == 1)
		}
		levels = append(levels, true)
	}
	step := float64(to.baud) / float64(from.baud) // receiver bits in one sender bit
	end := float64(len(levels)) * step
	invert := from.inverted != to.inverted
	at := func(t float64) bool {
		i := int(t / step)
		if i < 0 || i >= len(levels) {
			return !invert
		}
		return levels[i] != invert
	}
	var out []char
	t := 0.0
	was := at(0)
	for t < end {
		if now := at(t); was && !now { // a falling edge; fine steps find it
			c, next := receive(at, t, to)
			out = append(out, c)
			t = next
			was = at(t)
			continue
		} else {
			was = now
		}
		t += min(step, 1) / 16
	}
	return out
}

func receive(at func(float64) bool, start float64, to uart) (char, float64) {
	var c char
	t := start + 0.5
	if at(t) {
		return char{framing: true}, t // a spike
	}
	ones, low := 0, true
	for i := range 8 {
		t++
		if at(t) {
			c.value |= 1 << i
			ones++
			low = false
		}
	}
	if to.bits() == 11 {
		t++
		bit := at(t)
		low = low && !bit
		even := ones%2 == 1
		if to.parity == "odd" {
			even = !even
		}
		c.parity = bit != even
	}
	t++
	if !at(t) {
		c.framing, c.broken = true, low
	}
	return c, t + 0.25
}

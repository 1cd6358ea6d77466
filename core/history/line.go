package history

import (
	"bytes"
	"encoding/json"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/trust"
)

// What a succession is signed for: by the key that goes, and by the one that comes.
const (
	LeavesDomain = "ferry-key-leaves/1"
	ComesDomain  = "ferry-key-comes/1"
)

// Succession says that a key of the service has taken the place of another. The entries of the
// tree up to Size are those that were entered while the one that goes was in force.
type Succession struct {
	From trust.Public `json:"from"`
	To   trust.Public `json:"to"`
	At   time.Time    `json:"at"`
	Size uint64       `json:"size"`
	Root core.Digest  `json:"root"` // of the tree of that size
}

// SignedSuccession is a succession as it is kept and told.
type SignedSuccession struct {
	Says   json.RawMessage `json:"says"`
	Leaves []byte          `json:"leaves"` // signature by the key that goes
	Comes  []byte          `json:"comes"`  // by the one that comes, which shows that somebody has it
}

// Sign signs a succession with both keys.
func (s Succession) Sign(from, to trust.Key) (SignedSuccession, error) {
	s.From, s.To = from.Public(), to.Public()
	raw, err := json.Marshal(s)
	return SignedSuccession{raw, from.Sign(LeavesDomain, raw), to.Sign(ComesDomain, raw)}, err
}

// Open reads a succession that both of its keys have signed.
func (x SignedSuccession) Open() (s Succession, err error) {
	if err := json.Unmarshal(x.Says, &s); err != nil {
		return s, core.Fail(core.BadFile, "a succession of keys cannot be read: %w", err)
	}
	if !s.From.Verify(LeavesDomain, x.Says, x.Leaves) || !s.To.Verify(ComesDomain, x.Says, x.Comes) {
		return s, core.Fail(core.NotAllowed, "the succession of key %s by key %s is not signed by both", s.From.ID(), s.To.ID())
	}
	return s, nil
}

// Line is the keys of a service: the one in force, and those before it.
type Line struct {
	Now    trust.Public `json:"now"`
	Before []Succession `json:"before,omitempty"` // the oldest first
}

// Follow goes on from the key in force to the one that is in force by what is told. A succession
// that does not begin at it is passed over; one that is not signed by it ends the line there.
func (l Line) Follow(told []SignedSuccession) (Line, error) {
	out := Line{l.Now, slices.Clone(l.Before)}
	for {
		i := slices.IndexFunc(told, func(x SignedSuccession) bool {
			var s Succession
			return json.Unmarshal(x.Says, &s) == nil && bytes.Equal(s.From, out.Now)
		})
		if i < 0 {
			return out, nil
		}
		s, err := told[i].Open()
		if err != nil {
			return l, err
		}
		if out.of(s.To) {
			return l, core.Fail(core.NotAllowed, "key %s would come back after it was put out of use", s.To.ID())
		}
		out.Now, out.Before = s.To, append(out.Before, s)
	}
}

// LineTo is the line that ends at a key, by what is told.
func LineTo(now trust.Public, told []SignedSuccession) (Line, error) {
	first := now
	for range told { // back to the first
		for _, x := range told {
			if s, err := x.Open(); err == nil && bytes.Equal(s.To, first) {
				first = s.From
			}
		}
	}
	l, err := Line{Now: first}.Follow(told)
	if err == nil && !bytes.Equal(l.Now, now) {
		err = core.Fail(core.NotAllowed, "key %s was put out of use; key %s is in force", now.ID(), l.Now.ID())
	}
	return l, err
}

func (l Line) of(k trust.Public) bool {
	return bytes.Equal(l.Now, k) || slices.ContainsFunc(l.Before, func(s Succession) bool { return bytes.Equal(s.From, k) })
}

// Any are all keys of the line.
func (l Line) Any() trust.Any {
	all := trust.Any{l.Now}
	for _, s := range slices.Backward(l.Before) {
		all = append(all, s.From)
	}
	return all
}

// rank is which key of the line has signed a head, from 0; -1 where it is none.
func (l Line) rank(h *Head) int {
	if h.Verify(l.Now) {
		return len(l.Before)
	}
	return slices.IndexFunc(l.Before, func(s Succession) bool { return h.Verify(s.From) })
}

// OpenCheckpoint reads a checkpoint that a key of the line has signed while it was in force.
func (l Line) OpenCheckpoint(signed []byte) (Checkpoint, error) {
	c, err := OpenCheckpoint(l.Now, signed)
	for i := len(l.Before) - 1; err != nil && i >= 0; i-- {
		s := l.Before[i]
		if old, no := OpenCheckpoint(s.From, signed); no == nil && old.Size <= s.Size {
			return old, nil
		}
	}
	return c, err
}

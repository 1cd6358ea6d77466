package loader

import (
	"context"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/words"
)

// Proof is what a number of harmless questions showed of a link.
type Proof struct {
	Asked  int           `json:"asked"`
	Lost   int           `json:"lost"`                    // questions without a sound answer
	Tail   int           `json:"tail,omitempty" cbor:"-"` // of those, how many were the last ones asked
	Median time.Duration `json:"median"`                  // of the answers' times, nanoseconds
	Worst  time.Duration `json:"worst"`
	At     time.Time     `json:"at"`
}

// Share is the share of questions lost.
func (p Proof) Share() float64 {
	if p.Asked == 0 {
		return 0
	}
	return float64(p.Lost) / float64(p.Asked)
}

// Stopped tells whether the answers were sound and then stopped, which is another thing than
// losing one here and there.
func (p Proof) Stopped() bool { return p.Tail > 5 && p.Tail == p.Lost && p.Asked > p.Lost }

// MostLost is the share of lost questions from which a link is not fit for a
// write: the loaders repeat what is lost, but a line this bad gets worse.
const MostLost = 0.1

// fewest is how many questions are asked at least, however long they take: a unit that
// waits for a file asks in its own time, and one invitation more than the first is proof.
const fewest = 1

// Prove asks n times, and no longer than most (0: no bound). It gives up early once so
// many are lost that the rest cannot change the verdict. The end of the context is an
// error. told is given how far it is after each question; it may be nil.
func Prove(ctx context.Context, s Session, n int, most time.Duration, clock core.Clock, told func(Proof)) (Proof, error) {
	start := clock.Now()
	p := Proof{At: start.UTC()}
	var times []time.Duration
	if s.Can(File) == nil {
		n = fewest
	}
	for p.Asked < n && p.Lost <= int(float64(n)*MostLost) {
		began := clock.Now()
		if most > 0 && p.Asked >= fewest && began.Sub(start) > most {
			break
		}
		err := s.Probe(ctx)
		if ctx.Err() != nil {
			return p, core.Fail(core.Interrupted, "the check was ended; questions asked until then: %d: %w", p.Asked, ctx.Err())
		}
		p.Asked++
		if err != nil {
			p.Lost++
			p.Tail++
		} else {
			p.Tail = 0
			times = append(times, clock.Now().Sub(began))
		}
		if told != nil {
			told(p)
		}
	}
	if len(times) > 0 {
		slices.Sort(times)
		p.Median, p.Worst = times[len(times)/2], times[len(times)-1]
	}
	return p, nil
}

// Err says why a link with this proof must not carry a write; nil if it may.
func (p Proof) Err() error {
	if p.Share() <= MostLost {
		return nil
	}
	return core.Fail(core.NotAnswering, "%d of %d questions were not answered soundly; the line is too bad to write over", p.Lost, p.Asked).
		Go(words.Check("BENCH/LINK").To("Look at plug, ground and lead; then"))
}

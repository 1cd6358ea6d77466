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
	Lost   int           `json:"lost"`   // questions without a sound answer
	Median time.Duration `json:"median"` // of the answers' times, nanoseconds
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

// MostLost is the share of lost questions from which a link is not fit for a
// write: the loaders repeat what is lost, but a line this bad gets worse.
const MostLost = 0.1

// Prove asks n times. It gives up early once so many are lost that the rest
// cannot change the verdict. The end of the context is an error.
func Prove(ctx context.Context, s Session, n int, clock core.Clock) (Proof, error) {
	p := Proof{At: clock.Now().UTC()}
	var times []time.Duration
	for p.Asked < n && p.Lost <= int(float64(n)*MostLost) {
		began := clock.Now()
		err := s.Probe(ctx)
		if ctx.Err() != nil {
			return p, core.Fail(core.Interrupted, "the check was ended: %w", ctx.Err())
		}
		p.Asked++
		if err != nil {
			p.Lost++
			continue
		}
		times = append(times, clock.Now().Sub(began))
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

package link

import (
	"context"
	"time"

	"zealousferry/core"
)

// Hand is one turn of a line script: set a line, or wait.
type Hand struct {
	Line Line          `yaml:"line" json:"line,omitempty"`
	On   bool          `yaml:"on" json:"on,omitempty"`
	Wait time.Duration `yaml:"wait" json:"wait,omitempty"`
}

// Pace is the time that a bench keeps: its clock, and a factor on every wait that
// stands for the unit's own pace (0 and 1 are true pace).
type Pace struct {
	Clock core.Clock
	Scale float64
}

// Scaled is d in this pace.
func (p Pace) Scaled(d time.Duration) time.Duration {
	if p.Scale == 0 {
		return d
	}
	return time.Duration(float64(d) * p.Scale)
}

// Play carries out a line script. A link without modem lines passes over the
// lines: then a person sets the strap.
func Play(ctx context.Context, s Stream, script []Hand, p Pace) error {
	for _, h := range script {
		if h.Line != "" {
			if err := s.SetLine(h.Line, h.On); err != nil && core.KindOf(err) != core.RefusedByUnit {
				return err
			}
		}
		if h.Wait > 0 {
			select {
			case <-p.Clock.After(p.Scaled(h.Wait)):
			case <-ctx.Done():
				return core.Fail(core.Interrupted, "the work was ended: %w", ctx.Err())
			}
		}
	}
	return nil
}

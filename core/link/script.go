package link

import (
	"bytes"
	"context"
	"errors"
	"os"
	"time"

	"zealousferry/core"
)

// Hand is one turn of a line script: set a line, wait, or say something and hear an answer.
type Hand struct {
	Line Line          `yaml:"line" json:"line,omitempty"`
	On   bool          `yaml:"on" json:"on,omitempty"`
	Wait time.Duration `yaml:"wait" json:"wait,omitempty"` // with Hear, how long at most
	Say  string        `yaml:"say" json:"say,omitempty"`
	Hear string        `yaml:"hear" json:"hear,omitempty"` // text that is waited for
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
		if h.Say != "" {
			if err := s.Purge(); err != nil {
				return err
			}
			if _, err := s.Write([]byte(h.Say)); err != nil {
				return err
			}
		}
		if h.Hear != "" {
			if err := hear(ctx, s, h, p); err != nil {
				return err
			}
			continue
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

// hearsFor is how long an answer is waited for where a script does not say it.
const hearsFor = 2 * time.Second

// hear waits for a text.
func hear(ctx context.Context, s Stream, h Hand, p Pace) error {
	wait := h.Wait
	if wait == 0 {
		wait = hearsFor
	}
	end := p.Clock.Now().Add(p.Scaled(wait))
	var heard []byte
	buf := make([]byte, 256)
	for !bytes.Contains(heard, []byte(h.Hear)) {
		s.SetReadDeadline(end)
		n, err := s.Read(buf)
		heard = append(heard, buf[:n]...)
		if bytes.Contains(heard, []byte(h.Hear)) {
			return nil
		}
		if ctx.Err() != nil {
			return core.Fail(core.Interrupted, "the work was ended: %w", ctx.Err())
		}
		if errors.Is(err, os.ErrDeadlineExceeded) || len(heard) >= maxChatter {
			const todo = "See that it has power, and that the unit is plugged into it."
			if len(heard) == 0 {
				return core.Fail(core.NotAnswering, "what is between the bench and the unit is silent: %q was expected within %s", h.Hear, wait).Do(todo)
			}
			return core.Fail(core.NotAnswering, "what is between the bench and the unit did not say %q within %s; %d bytes came, at the end %q", h.Hear, wait, len(heard), heard[max(0, len(heard)-lastShown):]).Do(todo)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

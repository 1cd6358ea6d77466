package link

import (
	"context"
	"errors"
	"os"
	"regexp"
	"time"

	"zealousferry/core"
)

// Application says how the running program is asked for its version.
type Application struct {
	Baud   int           `yaml:"baud" json:"baud"`
	Ask    string        `yaml:"ask" json:"ask"`       // sent once the program is up
	Answer string        `yaml:"answer" json:"answer"` // regular expression; its first group is the version
	Wait   time.Duration `yaml:"wait" json:"wait"`     // how long a slow starter may take
}

// maxChatter bounds what a program may say before it gives its version.
const maxChatter = 64 << 10

// AskVersion plays the leave script, and asks the running program for its
// version until it answers or Wait has passed (not-answering).
func AskVersion(ctx context.Context, s Stream, a Application, leave []Hand, p Pace) (string, error) {
	if err := s.Purge(); err != nil {
		return "", err
	}
	return HearVersion(ctx, s, a, leave, p)
}

// lastShown is how much of what came in place of a version is shown.
const lastShown = 60

// HearVersion is AskVersion of a program that was started just now: what it has said
// since counts.
func HearVersion(ctx context.Context, s Stream, a Application, leave []Hand, p Pace) (string, error) {
	pattern, err := regexp.Compile(a.Answer)
	if err != nil || pattern.NumSubexp() < 1 {
		return "", core.Fail(core.BadFile, "the sheet's answer %q is not a pattern with one group", a.Answer)
	}
	if err := s.SetMode(Default(a.Baud)); err != nil {
		return "", err
	}
	if err := Play(ctx, s, leave, p); err != nil {
		return "", err
	}
	var heard []byte
	buf := make([]byte, 1024)
	end := p.Clock.Now().Add(p.Scaled(a.Wait))
	for p.Clock.Now().Before(end) && ctx.Err() == nil && len(heard) < maxChatter {
		if _, err := s.Write([]byte(a.Ask)); err != nil {
			return "", err
		}
		turn := p.Clock.Now().Add(p.Scaled(300 * time.Millisecond))
		for {
			s.SetReadDeadline(turn)
			n, err := s.Read(buf)
			heard = append(heard, buf[:n]...)
			if m := pattern.FindSubmatch(heard); m != nil {
				return string(m[1]), nil
			}
			if errors.Is(err, os.ErrDeadlineExceeded) {
				break
			}
			if err != nil {
				return "", err
			}
			if len(heard) >= maxChatter {
				break
			}
		}
	}
	if err := ctx.Err(); err != nil {
		return "", err
	}
	if len(heard) == 0 {
		return "", core.Fail(core.NotAnswering, "the program did not give its version within %s; nothing came", a.Wait).
			Do("See whether the unit shows signs of life; if not, restore its backup.")
	}
	return "", core.Fail(core.NotAnswering, "the program did not give its version within %s; %d bytes came, at the end %q", a.Wait, len(heard), heard[max(0, len(heard)-lastShown):]).
		Do("See whether the unit shows signs of life; if not, restore its backup.")
}

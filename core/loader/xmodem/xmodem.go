// Package xmodem has the loaders for units that just wait for a file, by XMODEM or
// YMODEM (core/link/transfer): such a unit cannot be asked who it is, cannot be read,
// and proves a write only by the checks of the transfer and by what its program says
// afterwards.
package xmodem

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/link/transfer"
	"zealousferry/core/loader"
)

// Kind is the loader "xmodem", or "ymodem" where Batch is set.
type Kind struct{ Batch bool }

// Name is "xmodem" or "ymodem".
func (k Kind) Name() string {
	if k.Batch {
		return "ymodem"
	}
	return "xmodem"
}

// Limits: it takes a file.
func (Kind) Limits(loader.Own) loader.Limits {
	return loader.Limits{Can: []loader.Ability{loader.File}, Identity: loader.ByEye,
		Verify:  "the CRC of every block, as the unit acknowledged it, and the version that the program tells afterwards",
		Instead: "the image of the version that it runs, kept in the catalogue"}
}

// own are the options that this loader alone reads.
type own struct {
	File string `yaml:"file"`       // name under which the file is sent
	Asks string `yaml:"asks-every"` // how often a waiting unit asks
}

// resumes is longer than a receiver waits for a block before it asks for it again: one
// that a transfer has left in the middle is heard too.
const resumes = transfer.BlockIn + 2*time.Second

// every is how often a waiting unit asks.
func (o own) every() time.Duration {
	if d, err := time.ParseDuration(o.Asks); err == nil && d > 0 {
		return d
	}
	return transfer.AskEvery
}

// Schema has the serial line, and the name of the file.
func (Kind) Schema() []byte {
	return loader.LineSchema(`{ "file": { "type": "string", "minLength": 1, "maxLength": 60, "description": "Name under which a whole file is sent." },
  "asks-every": { "type": "string", "pattern": "^[0-9]+(ms|s)$", "description": "How often a waiting unit asks for the file; 3s where it is left out, 10s and more are common." } }`)
}

// Explain puts blocks and the answers to them into words.
func (Kind) Explain(_ string, _ bool, data []byte) string { return transfer.Explain(data) }

// Pace is the line's.
func (Kind) Pace(o loader.Own) float64 { return loader.LinePace(o) }

// Open waits until the unit asks for a file.
func (k Kind) Open(ctx context.Context, l link.Link, o loader.Options) (loader.Session, error) {
	stream, err := o.Begin(ctx, l, k.Name())
	if err != nil {
		return nil, err
	}
	s := &session{kind: k, line: transfer.Line{Stream: stream, Pace: o.Pace}}
	if err := o.Own.Read(&s.own); err != nil {
		return nil, err
	}
	wait := max(o.Await, 2*s.own.every(), resumes)
	short, err := s.line.Invited(ctx, wait, o.Ready)
	s.short = short
	return s, err
}

type session struct {
	kind  Kind
	own   own
	line  transfer.Line
	short bool
}

// Identify has nothing to ask; that it waits for a file is all that is known.
func (s *session) Identify(context.Context) ([]core.Fact, error) { return nil, nil }

func (s *session) Can(a loader.Ability) error {
	if a == loader.File {
		return nil
	}
	return core.Fail(core.RefusedByUnit, "the unit does not offer %s: it waits for a file, and can do nothing else", a)
}

func (s *session) Read(context.Context, uint64, []byte, func(int)) error { return s.Can(loader.Read) }

func (s *session) Digest(context.Context, uint64, uint64, uint64) ([]core.Digest, error) {
	return nil, s.Can(loader.Digest)
}

func (s *session) Change(context.Context, func() (loader.Op, bool, error), func(loader.Op) error) error {
	return s.Can(loader.Write)
}

// SendFile sends the file from its start.
func (s *session) SendFile(ctx context.Context, name string, data []byte, sent func(int)) error {
	if s.own.File != "" {
		name = s.own.File
	}
	taken := false
	told := func(n int) {
		taken = true
		if sent != nil {
			sent(n)
		}
	}
	send := func() error {
		if s.kind.Batch {
			return s.line.SendBatch(ctx, []transfer.File{{Name: name, Data: data}}, told)
		}
		return s.line.Send(ctx, data, true, told)
	}
	err := send()
	if k := core.KindOf(err); !taken && ctx.Err() == nil && (k == core.RefusedByUnit || k == core.NotAnswering && s.short) { // it was in the middle of a transfer that broke off, and has given that up now
		return send()
	}
	return err
}

// Restart waits for the next invitation: such a unit starts by itself.
func (s *session) Restart(ctx context.Context, intoLoader bool) error {
	if !intoLoader {
		return s.Can(loader.Reset)
	}
	_, err := s.line.Invited(ctx, transfer.Asks*s.own.every(), nil)
	return err
}

// Probe waits for the next time that the unit asks; for twice as long as units
// take to ask again, so that one that is a little late counts.
func (s *session) Probe(ctx context.Context) error {
	c, err := s.line.Byte(ctx, 2*s.own.every())
	if err == nil && c != 'C' && c != transfer.NAK {
		return core.Fail(core.NotAnswering, "0x%02X came, expected C or NAK", c)
	}
	return err
}

// Close leaves the unit waiting.
func (s *session) Close() error {
	s.line.Stream.SetReadDeadline(time.Time{})
	return nil
}

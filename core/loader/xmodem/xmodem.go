// Package xmodem is XMODEM (checksum, CRC, 1K) and YMODEM (batch, name, size),
// sender and receiver, after C. Forsberg, "XMODEM/YMODEM Protocol Reference"
// (1988), whose section titles are cited. As loaders they serve units that just
// wait for a file: such a unit cannot be asked who it is, cannot be read, and
// proves a write only by the checks of the transfer and by what its program says
// afterwards.
package xmodem

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
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
	File string `yaml:"file"` // name under which the file is sent
}

// Schema has the serial line, and the name of the file.
func (Kind) Schema() []byte {
	return loader.LineSchema(`{ "file": { "type": "string", "minLength": 1, "maxLength": 60, "description": "Name under which a whole file is sent." } }`)
}

// Pace is the line's.
func (Kind) Pace(o loader.Own) float64 { return loader.LinePace(o) }

// Open waits until the unit asks for a file.
func (k Kind) Open(ctx context.Context, l link.Link, o loader.Options) (loader.Session, error) {
	stream, err := o.Begin(ctx, l, k.Name())
	if err != nil {
		return nil, err
	}
	s := &session{kind: k, line: Line{stream, o.Pace}}
	if err := o.Own.Read(&s.own); err != nil {
		return nil, err
	}
	wait := max(o.Await, 2*askEvery)
	short, err := s.line.invited(ctx, wait, o.Ready)
	s.short = short
	return s, err
}

type session struct {
	kind  Kind
	own   own
	line  Line
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
	if s.kind.Batch {
		return s.line.SendBatch(ctx, []File{{name, data}}, sent)
	}
	return s.line.Send(ctx, data, true, sent)
}

// Restart waits for the next invitation: such a unit starts by itself.
func (s *session) Restart(ctx context.Context, intoLoader bool) error {
	if !intoLoader {
		return s.Can(loader.Reset)
	}
	_, err := s.line.invited(ctx, asks*askEvery, nil)
	return err
}

// Probe waits for the next time that the unit asks; for twice as long as units
// take to ask again, so that one that is a little late counts.
func (s *session) Probe(ctx context.Context) error {
	c, err := s.line.byteIn(ctx, 2*askEvery)
	if err == nil && c != 'C' && c != nak {
		return core.Fail(core.NotAnswering, "0x%02X came, expected C or NAK", c)
	}
	return err
}

// Close leaves the unit waiting.
func (s *session) Close() error {
	s.line.Stream.SetReadDeadline(time.Time{})
	return nil
}

// Package module is the loader of vehicle modules, which are programmed by the services
// of ISO 14229-1 over CAN (ISO 15765-2) or behind a gateway (ISO 13400-2). The order of
// services is data in the sheet: docs/protocols/modules.md.
package module

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/link/isotp"
	"zealousferry/core/link/uds"
	"zealousferry/core/loader"
)

// Kind is "module".
type Kind struct{}

// Name is "module".
func (Kind) Name() string { return "module" }

// Limits follow from what the sheet has steps for.
func (Kind) Limits(own loader.Own) loader.Limits {
	l := loader.Limits{Shape: link.Addressed, Quiet: true, Identity: loader.ThisKind, Verify: "by reading it back", Instead: "its identifiers, and the release that it says it runs"}
	o, _, err := read(own)
	if err != nil {
		return l
	}
	if slices.ContainsFunc(o.Identify, func(i identify) bool { return i.Fact == core.FactSerial }) {
		l.Identity = loader.ThisUnit
	}
	if o.Read != nil {
		l.Can, l.Instead = append(l.Can, loader.Read), ""
	} else {
		l.Verify = "by the module's own check"
	}
	if o.Write != nil {
		l.Can = append(l.Can, loader.Erase, loader.Write)
	}
	if o.resets() {
		l.Can = append(l.Can, loader.Reset)
	}
	if o.Settings != nil {
		l.Can = append(l.Can, loader.Keep)
	}
	l.Watches = len(o.Watch) > 0
	return l
}

func (o options) resets() bool {
	return slices.ContainsFunc(o.Leave, func(s step) bool { return s.Reset != "" })
}

// Pace is that of a CAN bus at 500 kbit/s: seven bytes in a frame of some 130 bits.
func (Kind) Pace(loader.Own) float64 { return 500e3 / 130 * 7 }

// talk begins a conversation with the module on a link of either sort.
func talk(ctx context.Context, l link.Link, o options, clock core.Clock) (link.Conversation, error) {
	switch l := l.(type) {
	case link.Messages:
		if o.At.Logical == nil {
			return nil, core.Fail(core.BadFile, "the sheet does not say which logical address the module has behind a gateway").Do("Add `logical` under `at` of its loader.")
		}
		return l.Talk(ctx, *o.At.Logical)
	case link.Frames:
		if o.At.Request == nil || o.At.Response == nil {
			return nil, core.Fail(core.BadFile, "the sheet does not say which CAN identifiers the module has").Do("Add `request` and `response` under `at` of its loader.")
		}
		return isotp.Talk(l, isotp.Address{Request: *o.At.Request, Response: *o.At.Response, Extended: o.At.Long, Own: o.At.Source},
			isotp.Config{Prefix: o.At.Target, Padding: o.At.Padding}, clock), nil
	}
	return nil, core.Fail(core.RefusedByUnit, "loader module needs a CAN bus or a gateway; this link carries %T", l)
}

// Open calls the module until it answers. It is asked in the session that it is in, and
// nothing about it is changed.
func (Kind) Open(ctx context.Context, l link.Link, lo loader.Options) (loader.Session, error) {
	o, longest, err := read(lo.Own)
	if err != nil {
		return nil, err
	}
	c, err := talk(ctx, l, o, lo.Clock)
	if err != nil {
		return nil, err
	}
	s := &session{o: o, lo: lo, uds: uds.New(c, lo.Pace, longest), format: uds.Format{Address: o.Address, Length: o.Length}, link: l}
	var last error
	err = lo.Wait(ctx, 200*time.Millisecond, 2, func(pause time.Duration) (bool, error) {
		err := s.uds.Present(ctx)
		last = err
		if core.KindOf(err) != core.NotAnswering {
			var n *uds.Negative
			return true, unless(err, errors.As(err, &n)) // a refusal is an answer
		}
		select {
		case <-lo.Clock.After(pause):
			return false, nil
		case <-ctx.Done():
			return false, core.Fail(core.Interrupted, "it was stopped while the module was called: %w", ctx.Err())
		}
	})
	if err != nil {
		s.uds.Close()
		if core.KindOf(last) == core.NotAnswering && lo.Await == 0 { // it says why: the bus, the way, or the module
			return nil, last
		}
		return nil, err
	}
	return s, nil
}

func unless(err error, well bool) error {
	if well {
		return nil
	}
	return err
}

// What a session is ready for.
const (
	inSettings = iota - 1 // which is another session: reading and writing begin anew after it
	asleep
	toRead
	toWrite
)

type session struct {
	o      options
	lo     loader.Options
	uds    *uds.Client
	format uds.Format
	ready  int
	link   link.Link
	all    *uds.Everybody // once somebody has spoken to all modules
}

// longestFact is the longest value of a fact, in bytes.
const longestFact = 120

// Identify reads the identifiers. One that the module does not have, such as the version
// while it is in its boot loader, is no fact; one that it refuses for another reason is an error.
func (s *session) Identify(ctx context.Context) ([]core.Fact, error) {
	facts := []core.Fact{}
	for _, i := range s.o.Identify {
		data, err := s.uds.Data(ctx, i.DID)
		var n *uds.Negative
		if errors.As(err, &n) && n.Code == uds.OutOfRange {
			continue
		}
		if err != nil {
			return nil, err
		}
		v := i.says(data)
		switch {
		case len(v) > longestFact || !utf8.ValidString(v) || slices.ContainsFunc([]rune(v), unicode.IsControl):
			return nil, core.Fail(core.RefusedByUnit, "identifier 0x%04X of the module is no text of at most %d bytes: % X", i.DID, longestFact, data[:min(len(data), 32)]).
				Do("If it is a number, the sheet says so: `as: hex` or `as: number`.")
		case v != "":
			facts = append(facts, core.Fact{Name: i.Fact, Value: v, Source: core.FromWire, At: s.lo.Clock.Now().UTC()})
		}
	}
	return facts, nil
}

// mostRecorded is of how many codes what was recorded with them is read.
const mostRecorded = 32

// Codes lists the faults that it has noted: failing now, pending, confirmed, or failed since
// the last clear.
func (s *session) Codes(ctx context.Context, deep bool) ([]loader.Code, error) {
	all, err := s.uds.Codes(ctx, 0x2D)
	if err != nil {
		return nil, err
	}
	codes := []loader.Code{}
	for i, c := range all {
		code := loader.Code{Code: c.String(), Status: c.Status, Is: c.Is(), Says: s.o.Codes[c.String()]}
		if deep && i < mostRecorded {
			if code.Recorded, err = s.recorded(ctx, c.Number); err != nil {
				return nil, err
			}
		}
		codes = append(codes, code)
	}
	return codes, nil
}

// recorded is what the module has recorded with a code; nil where it has nothing, or does
// not tell.
func (s *session) recorded(ctx context.Context, number uint32) (*loader.Recorded, error) {
	var r loader.Recorded
	for _, x := range []struct {
		kind byte
		into *string
	}{{uds.Snapshot, &r.Snapshot}, {uds.Extended, &r.Extended}} {
		b, err := s.uds.Recorded(ctx, x.kind, number)
		var n *uds.Negative
		if errors.As(err, &n) {
			continue
		}
		if err != nil {
			return nil, err
		}
		*x.into = strings.ToUpper(hexOf(b))
	}
	if r.Snapshot == "" && r.Extended == "" {
		return nil, nil
	}
	r.Means = s.o.means(r)
	return &r, nil
}

// Conditions are what the sheet wants for a write, as far as the module tells of it in the
// session in which it is.
func (s *session) Conditions(ctx context.Context) ([]loader.Condition, error) {
	var all []loader.Condition
	for _, w := range s.o.Watch {
		data, err := s.uds.Data(ctx, w.DID)
		var n *uds.Negative
		if errors.As(err, &n) {
			continue
		}
		if err != nil {
			return nil, err
		}
		c := loader.Condition{Name: w.Fact, Value: w.says(data), Unit: w.Unit}
		if w.AtLeast != nil {
			is, err := strconv.ParseFloat(c.Value, 64)
			c.Wants, c.Well = strings.TrimSpace(fmt.Sprintf("at least %g %s", *w.AtLeast, w.Unit)), err == nil && is >= *w.AtLeast
		} else {
			c.Wants, c.Well = w.Be, c.Value == w.Be
		}
		all = append(all, c)
	}
	return all, nil
}

// ClearCodes takes all its faults away.
func (s *session) ClearCodes(ctx context.Context) error {
	return s.again(ctx, func() error { return s.uds.Clear(ctx) }) // twice is the same as once
}

// Learn carries a routine out by which the module learns something anew.
func (s *session) Learn(ctx context.Context, name string) error {
	at := slices.IndexFunc(s.o.Learn, func(l learning) bool { return l.Name == name })
	if at < 0 {
		return core.Fail(core.NotFound, "the module's sheet knows no learning %q", name)
	}
	l := s.o.Learn[at]
	if err := s.play(ctx, l.First); err != nil {
		return err
	}
	option, err := hex.DecodeString(l.Data)
	if err != nil {
		return core.Fail(core.BadFile, "learn: %w", err)
	}
	within, err := time.ParseDuration(l.Within)
	if err != nil {
		return core.Fail(core.BadFile, "learn: %w", err)
	}
	end := s.lo.Clock.Now().Add(s.lo.Scaled(within))
	status, err := s.uds.Start(ctx, l.Routine, option)
	for err == nil {
		switch says := strings.ToUpper(hexOf(status)); {
		case strings.EqualFold(says, l.Well):
			return nil
		case l.Is[says] != "":
			return core.Fail(core.RefusedByUnit, "%s: %s", name, l.Is[says])
		case says != "" && !strings.EqualFold(says, l.Busy):
			return core.Fail(core.RefusedByUnit, "%s: it ends with %s, which the sheet does not know", name, says)
		case s.lo.Clock.Now().After(end):
			return core.Fail(core.NotAnswering, "%s: it was not over within %s", name, l.Within)
		}
		select {
		case <-s.lo.Clock.After(s.lo.Scaled(learnEvery)):
		case <-ctx.Done():
			return core.Fail(core.Interrupted, "it was stopped while the module was learning: %w", ctx.Err())
		}
		status, err = s.uds.Results(ctx, l.Routine)
	}
	return err
}

// learnEvery is how often a module that learns is asked how far it is.
const learnEvery = 300 * time.Millisecond

func hexOf(b []byte) string    { return hex.EncodeToString(b) }
func numberOf(b []byte) string { return new(big.Int).SetBytes(b).String() }

func (s *session) Can(a loader.Ability) error {
	no := func(why string) error { return core.Fail(core.RefusedByUnit, "%s", why) }
	switch {
	case a == loader.Read && s.o.Read == nil:
		return no("the sheet says no way to read this module's memory")
	case (a == loader.Erase || a == loader.Write) && s.o.Write == nil:
		return no("the sheet says no way to write this module's memory")
	case a == loader.Reset && !s.o.resets():
		return no("the sheet says no way to restart this module")
	case a == loader.Read || a == loader.Erase || a == loader.Write || a == loader.Reset:
		return nil
	case a == loader.Keep && s.o.Settings != nil:
		return nil
	case a == loader.Keep:
		return no("the sheet names no identifiers of this module's settings")
	case a == loader.Digest:
		return no("a module gives no digest that could stand for its content")
	}
	return no(fmt.Sprintf("a module has no service for %q", a))
}

// need takes the steps that go before reading or writing, once. What is ready for writing
// is read in the same session.
func (s *session) need(ctx context.Context, what int) error {
	if s.ready >= what {
		return nil
	}
	var first []step
	if what == toRead {
		first = s.o.Read.First
	} else {
		first = s.o.Write.First
	}
	if err := s.play(ctx, first); err != nil {
		return err
	}
	s.ready = what
	return nil
}

func (s *session) play(ctx context.Context, steps []step) error {
	for _, x := range steps {
		err := s.step(ctx, x)
		var n *uds.Negative
		if errors.As(err, &n) && slices.Contains(x.May, n.Code) {
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (s *session) step(ctx context.Context, x step) error {
	data, err := hex.DecodeString(x.Data)
	if err != nil {
		return core.Fail(core.BadFile, "data: %w", err)
	}
	switch {
	case x.To != "":
		return s.toAll(ctx, x)
	case x.Session != "":
		return s.uds.Session(ctx, sessions[x.Session])
	case x.Access != 0:
		defer link.Hush(s.link)()
		return s.uds.Unlock(ctx, x.Access, func(seed []byte) ([]byte, error) {
			if s.lo.Key == nil {
				return nil, core.Fail(core.NotAllowed, "the module is locked, and the team's secret %q is used in an open run alone", x.Secret).Unit("nothing was changed")
			}
			return s.lo.Key(ctx, x.Secret, x.Access, seed)
		})
	case x.Routine != 0:
		_, err := s.uds.Start(ctx, x.Routine, data)
		return err
	case x.Put != 0:
		return s.uds.PutData(ctx, x.Put, data)
	case x.Codes != "":
		_, err := s.uds.Ask(ctx, uds.CodeSetting, codeForms[x.Codes])
		return err
	case x.Talk != "":
		_, err := s.uds.Ask(ctx, uds.Communication, talkForms[x.Talk], normalMessages)
		return err
	case x.Reset != "":
		return s.uds.Reset(ctx, resets[x.Reset])
	case x.Wait != "":
		d, err := time.ParseDuration(x.Wait)
		if err != nil {
			return core.Fail(core.BadFile, "wait: %w", err)
		}
		select {
		case <-s.lo.Clock.After(s.lo.Scaled(d)):
			return nil
		case <-ctx.Done():
			return core.Fail(core.Interrupted, "it was stopped in a pause of the sequence: %w", ctx.Err())
		}
	}
	return core.Fail(core.BadFile, "a step of the sheet's sequence says nothing to do")
}

var (
	codeForms = map[string]byte{"on": 0x01, "off": 0x02}
	talkForms = map[string]byte{"on": 0x00, "off": 0x03} // both ways
)

const normalMessages = 0x01

// toAll says a step to every module of the vehicle. On a sort of link for which the sheet
// has no address of all, such as a bench with one module, there is nobody else.
func (s *session) toAll(ctx context.Context, x step) error {
	if s.all == nil {
		c, err := s.everybody(ctx)
		if err != nil || c == nil {
			return err
		}
		s.all = uds.ToAll(c, s.lo.Pace)
	}
	switch {
	case x.Session != "":
		return s.all.Say(ctx, uds.SessionControl, sessions[x.Session])
	case x.Codes != "":
		return s.all.Say(ctx, uds.CodeSetting, codeForms[x.Codes])
	}
	return s.all.Say(ctx, uds.Communication, talkForms[x.Talk], normalMessages)
}

// everybody begins to speak to the common address of all modules; nil where there is none.
func (s *session) everybody(ctx context.Context) (link.Conversation, error) {
	at := s.o.At.All
	switch l := s.link.(type) {
	case link.Messages:
		if at.Logical != nil {
			return l.Talk(ctx, *at.Logical)
		}
	case link.Frames:
		if at.Request != nil { // nobody answers: what is heard under the same identifier is nothing
			return isotp.Talk(l, isotp.Address{Request: *at.Request, Response: *at.Request, Extended: s.o.At.Long}, isotp.Config{Padding: s.o.At.Padding}, s.lo.Clock), nil
		}
	}
	return nil, nil
}

func (s *session) Read(ctx context.Context, address uint64, p []byte, got func(n int)) error {
	if err := s.Can(loader.Read); err != nil {
		return err
	}
	if err := s.need(ctx, toRead); err != nil {
		return err
	}
	if s.o.Read.By == "upload" {
		return s.uds.Upload(ctx, s.format, address, p, got)
	}
	block := s.o.Read.Block
	if block == 0 {
		block = 256
	}
	for at := 0; at < len(p); {
		n := min(block, len(p)-at)
		if err := s.again(ctx, func() error { return s.uds.Memory(ctx, s.format, address+uint64(at), p[at:at+n]) }); err != nil {
			return err
		}
		if at += n; got != nil {
			got(at)
		}
	}
	return nil
}

// tries is how often something is asked whose answer gets lost.
const tries = 4

// again asks what does not matter if it is asked twice, until its answer is not lost.
func (s *session) again(ctx context.Context, ask func() error) (err error) {
	for range tries {
		err = ask()
		if k := core.KindOf(err); k != core.NotAnswering && k != core.Interrupted || ctx.Err() != nil {
			break
		}
	}
	return err
}

func (s *session) Digest(context.Context, uint64, uint64, uint64) ([]core.Digest, error) {
	return nil, s.Can(loader.Digest)
}

func (s *session) Change(ctx context.Context, next func() (loader.Op, bool, error), acked func(loader.Op) error) error {
	for {
		op, ok, err := next()
		if err != nil || !ok {
			return err
		}
		if err := s.Can(loader.Write); err != nil {
			return err
		}
		if err := s.need(ctx, toWrite); err != nil {
			return err
		}
		if err := s.change(ctx, op); err != nil {
			return err
		}
		if acked != nil {
			if err := acked(op); err != nil {
				return err
			}
		}
	}
}

func (s *session) change(ctx context.Context, op loader.Op) error {
	if op.Erase { // twice is the same as once
		return s.again(ctx, func() error {
			_, err := s.uds.Start(ctx, s.o.Write.Erase, s.format.Place(op.Address, op.Length))
			return err
		})
	}
	if err := s.uds.Download(ctx, s.format, op.Address, op.Data, nil); err != nil {
		return err
	}
	if s.o.Write.Check == 0 {
		return nil
	}
	status, err := s.uds.Start(ctx, s.o.Write.Check, s.format.Place(op.Address, op.Length))
	if err == nil && len(status) > 0 && status[0] != 0 {
		return core.Fail(core.VerifyDiffers, "the module's check of %d bytes at 0x%X says 0x%02X, which is not well", op.Length, op.Address, status[0])
	}
	return err
}

func (s *session) Restart(ctx context.Context, intoLoader bool) error {
	if intoLoader {
		s.ready = asleep
		return s.uds.Present(ctx)
	}
	if err := s.Can(loader.Reset); err != nil {
		return err
	}
	s.ready = asleep
	return s.play(ctx, s.o.Leave)
}

func (s *session) Probe(ctx context.Context) error { return s.uds.Present(ctx) }

// Close leaves the module in its default session, where it was taken into another.
func (s *session) Close() error {
	if s.all != nil {
		s.all.Close()
	}
	if s.uds.InSession() != uds.DefaultSession {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		s.uds.Session(ctx, uds.DefaultSession)
	}
	return s.uds.Close()
}

// AskProgram asks the program for its version until it answers or the sheet's wait has
// passed: ask is a request in hex, and the answer's pattern is held against what comes
// behind the echo of the request.
func (Kind) AskProgram(ctx context.Context, l link.Link, lo loader.Options, a link.Application) (string, error) {
	o, longest, err := read(lo.Own)
	if err != nil {
		return "", err
	}
	request, err := hex.DecodeString(a.Ask)
	if err != nil || len(request) == 0 {
		return "", core.Fail(core.BadFile, "the sheet's ask %q is no request in hex, such as 22F195", a.Ask)
	}
	pattern, err := regexp.Compile(a.Answer)
	if err != nil || pattern.NumSubexp() < 1 {
		return "", core.Fail(core.BadFile, "the sheet's answer %q is not a pattern with one group", a.Answer)
	}
	c, err := talk(ctx, l, o, lo.Clock)
	if err != nil {
		return "", err
	}
	u := uds.New(c, lo.Pace, longest)
	defer u.Close()
	end := lo.Clock.Now().Add(lo.Scaled(a.Wait))
	last := error(nil)
	for first := true; first || lo.Clock.Now().Before(end); first = false {
		m, err := u.Ask(ctx, request...)
		if err == nil && len(m) >= len(request)-1 {
			if x := pattern.FindSubmatch(m[len(request)-1:]); x != nil {
				return string(x[1]), nil
			}
		}
		if last = err; ctx.Err() != nil {
			return "", core.Fail(core.Interrupted, "it was stopped while the program was asked: %w", ctx.Err())
		}
		select {
		case <-lo.Clock.After(lo.Scaled(300 * time.Millisecond)):
		case <-ctx.Done():
		}
	}
	why := "it gave none that the sheet's pattern knows"
	if last != nil {
		why = last.Error()
	}
	return "", core.Fail(core.NotAnswering, "the program did not give its version within %s: %s", a.Wait, why).
		Do("See whether the module runs; if not, restore its backup.")
}

package monitor

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
)

// player plays exchanges with a unit.
type player struct {
	*talk
	d      *dialogue
	mode   link.Mode
	prompt *regexp.Regexp
	pass   []*regexp.Regexp
	wrong  []*regexp.Regexp
	secret func(ctx context.Context, name string) (string, error)
	watch  func(loader.Turn)
	locked bool
	hidden string // the secret that was sent last: it stands in no record and no message
}

// masked is a text in which no secret stands, if the unit gives it back.
func (p *player) masked(text string) string {
	if p.hidden == "" {
		return text
	}
	return strings.ReplaceAll(text, p.hidden, "(secret)")
}

func newPlayer(t *talk, d *dialogue, mode link.Mode) *player {
	p := &player{talk: t, d: d, mode: mode, prompt: compiled(`\A(?:` + d.Prompt + `)`)}
	for _, x := range d.Pass {
		p.pass = append(p.pass, compiled(x))
	}
	for _, x := range d.Wrong {
		p.wrong = append(p.wrong, compiled(x.Match))
	}
	t.holds = d.Flow.Kind == "xon-xoff"
	return p
}

// compiled is a pattern that the sheet's check has seen.
func compiled(text string) *regexp.Regexp {
	if text == "" || text == `\A(?:)` {
		return nil
	}
	r, err := regexp.Compile(text)
	if err != nil {
		return regexp.MustCompile(regexp.QuoteMeta(text)) // a sheet from before the check
	}
	return r
}

// errAgain is what the unit did not understand, or did not hear whole: the exchange can
// be played once more.
var errAgain = errors.New("the unit did not take it")

// payload is the bytes that an exchange moves.
type payload struct {
	address uint64
	data    []byte            // to send
	lines   [][]byte          // records to send; made from data where nil
	file    string            // name of a file by ymodem
	sent    func(n int)       // bytes of data acknowledged
	taken   map[uint64][]byte // by address, from records and dumps
	whole   []byte            // from a transfer
	expect  int               // bytes that should come
}

// play plays an exchange, to the prompt. with are the placeholders' values; rows are
// the parts of each line that "each" matched, parts those of "expect".
func (p *player) play(ctx context.Context, name string, e exchange, with map[string]any, load *payload) (parts map[string]string, rows []map[string]string, err error) {
	parts = map[string]string{}
	expected := 0
	if load != nil {
		expected = len(load.data) + load.expect
	}
	p.fresh(expected)
	prompted := false
	for i, s := range e.Steps {
		seen := loader.Turn{Exchange: name, Step: i}
		prompted = false
		note, hushed := p.note, func() {}
		if s.Secret != "" { // neither what is sent nor what may be given back is recorded
			p.note, hushed = nil, link.Hush(p.stream)
		}
		err := p.do(ctx, s, with, &seen)
		if err == nil && s.Send != "" {
			err = p.send(ctx, s, load, &seen)
		}
		if err == nil && s.Take != "" {
			prompted, err = p.take(ctx, s, load)
		}
		if err == nil && !prompted {
			var got []map[string]string
			got, prompted, err = p.await(ctx, s, with, &seen)
			if s.Each != "" {
				rows = append(rows, got...)
			}
			if s.Each == "" && len(got) > 0 {
				maps.Copy(parts, got[0])
			}
			if len(got) > 0 {
				seen.Parts = got[0]
			}
			seen.Rows = len(got)
		}
		p.note = note
		hushed()
		if err != nil {
			seen.Error = err.Error()
		}
		if p.watch != nil {
			p.watch(seen)
		}
		if err != nil {
			return parts, rows, err
		}
		if s.Ends {
			return parts, rows, nil
		}
	}
	if !prompted && p.prompt != nil {
		seen := loader.Turn{Exchange: name, Step: len(e.Steps), Wanted: p.d.Prompt}
		_, _, err = p.until(ctx, nil, nil, p.patience(standardOf(p.d, e)), &seen)
	}
	return parts, rows, err
}

// standardOf is the wait for the prompt at an exchange's end: its last step's.
func standardOf(d *dialogue, e exchange) time.Duration {
	if n := len(e.Steps); n > 0 {
		return d.wait(e.Steps[n-1])
	}
	return d.wait(step{})
}

// patience is a wait in this pace, beside what the line itself takes.
func (p *player) patience(d time.Duration) time.Time {
	return p.pace.Clock.Now().Add(p.pace.Scaled(d) + p.onLine(p.most-mostText) + p.onLine(200))
}

// onLine is how long the line takes for so many bytes.
func (p *player) onLine(n int) time.Duration {
	return time.Duration(n*p.mode.CharacterBits()) * time.Second / time.Duration(p.mode.Baud)
}

// do says what a step says.
func (p *player) do(ctx context.Context, s step, with map[string]any, seen *loader.Turn) error {
	switch {
	case s.Line != "":
		if err := link.Play(ctx, p.stream, []link.Hand{{Line: link.Line(s.Line), On: s.On}}, p.pace); err != nil {
			return err
		}
	case s.Break != "":
		if err := link.Break(p.stream, p.pace.Scaled(duration(s.Break, 0))); err != nil {
			return err
		}
	case s.Secret != "":
		if p.secret == nil {
			return core.Fail(core.NotAllowed, "the monitor asks for the secret %q, which is given for an open run alone", s.Secret)
		}
		text, err := p.secret(ctx, s.Secret)
		if err != nil {
			return err
		}
		seen.Said = "(secret " + s.Secret + ")"
		p.hidden = text
		if err := p.say([]byte(text + p.d.lineEnd())); err != nil {
			return err
		}
	case s.Key != "":
		seen.Said = s.Key
		if err := p.say([]byte(s.Key)); err != nil {
			return err
		}
	case s.Say != nil:
		seen.Said = fill(*s.Say, with, false)
		if strings.ContainsAny(seen.Said, "\r\n") {
			return core.Fail(core.BadFile, "what is to be said holds the end of a line: %q", seen.Said)
		}
		if err := p.sayLine(ctx, seen.Said); err != nil {
			return err
		}
	}
	if s.Pause != "" {
		return link.Play(ctx, p.stream, []link.Hand{{Wait: duration(s.Pause, 0)}}, p.pace)
	}
	return nil
}

// sayLine says a line. Where the unit echoes, the line's end is sent only once the echo
// shows that it has the line as it was meant: a spoilt address would be another one.
func (p *player) sayLine(ctx context.Context, text string) error {
	if !p.d.Echo || text == "" {
		return p.say([]byte(text + p.d.lineEnd()))
	}
	for try := 1; ; try++ {
		p.text = nil
		if err := p.say([]byte(text)); err != nil {
			return err
		}
		until := p.pace.Clock.Now().Add(p.pace.Scaled(p.d.wait(step{})) + 2*p.onLine(len(text)))
		var err error
		for err == nil && !p.echoed(text) && len(p.text) < len(text)+mostText/2 {
			err = p.hear(ctx, until)
		}
		if p.echoed(text) {
			p.text = nil
			return p.say([]byte(p.d.lineEnd()))
		}
		if err != nil && !errors.Is(err, errQuiet) {
			return err
		}
		if try == 4 {
			return core.Fail(core.NotAnswering, "the unit was sent %q and gave back %q", text, short(p.masked(string(p.text)))).
				Do("Look at the plug and the ground. If it gives nothing back, the sheet says so: `echo: false`.")
		}
		if err := p.home(ctx); err != nil {
			return err
		}
	}
}

// echoed tells whether the unfinished line ends in the text, alone or behind the prompt.
func (p *player) echoed(text string) bool {
	tail := string(p.text)
	if i := strings.LastIndexByte(tail, '\n'); i >= 0 {
		tail = tail[i+1:]
	}
	return strings.HasSuffix(tail, text)
}

func short(s string) string {
	if len(s) > 80 {
		return s[:80] + "…"
	}
	return s
}

// home brings the unit back to its prompt: what was begun is cancelled.
func (p *player) home(ctx context.Context) error {
	for range 3 {
		cancel := p.d.Cancel
		if cancel == "" {
			cancel = "\x15"
		}
		if p.d.transfers() { // one that is under way, perhaps another bench's, is ended first
			cancel = strings.Repeat("\x18", 8) + cancel
		}
		if err := p.say([]byte(cancel + p.d.lineEnd())); err != nil {
			return err
		}
		p.fresh(0)
		_, _, err := p.until(ctx, nil, nil, p.pace.Clock.Now().Add(p.pace.Scaled(500*time.Millisecond)+p.onLine(400)), &loader.Turn{})
		if err == nil {
			return p.settle(ctx)
		}
		if ctx.Err() != nil || !errors.Is(err, errQuiet) && core.KindOf(err) != core.NotAnswering && !errors.Is(err, errAgain) {
			return err
		}
	}
	return core.Fail(core.NotAnswering, "the unit does not come back to its prompt %q", p.d.Prompt).
		Do("Look at the plug, the supply and the strap, then try again.")
}

// settle lets pass what is still on its way, until the line is quiet for a moment; a log
// that never is, is not waited for.
func (p *player) settle(ctx context.Context) error {
	defer p.fresh(0)
	clock := p.pace.Clock
	end := clock.Now().Add(p.pace.Scaled(time.Second))
	for clock.Now().Before(end) {
		p.fresh(0)
		if err := p.hear(ctx, clock.Now().Add(p.pace.Scaled(60*time.Millisecond)+p.onLine(16))); errors.Is(err, errQuiet) {
			return nil
		} else if err != nil {
			return err
		}
	}
	return nil
}

// await waits for what a step waits for.
func (p *player) await(ctx context.Context, s step, with map[string]any, seen *loader.Turn) (rows []map[string]string, prompted bool, err error) {
	until := p.patience(p.d.wait(s))
	switch {
	case s.Each != "":
		seen.Wanted = s.Each
		rows, _, err = p.until(ctx, compiled(fill(s.Each, with, true)), nil, until, seen)
		return rows, true, err
	case s.Expect != "":
		seen.Wanted = s.Expect
		pattern := compiled(fill(s.Expect, with, true))
		rows, found, err := p.until(ctx, nil, pattern, until, seen)
		if err == nil && !found {
			return nil, true, fmt.Errorf("%w: %s", errAgain, p.missed(s.Expect, seen))
		}
		return rows, false, err
	case s.Asks != "":
		seen.Wanted = s.Asks
		pattern := compiled(`\A(?:` + fill(s.Asks, with, true) + `)`)
		for {
			if parts, ok := p.begins(pattern); ok {
				return []map[string]string{named(pattern, parts)}, false, nil
			}
			if p.prompt != nil {
				if _, ok := p.begins(p.prompt); ok { // it belongs to what was said before, and came late
					continue
				}
			}
			if line, ok := p.line(); ok {
				if err := p.judge(line, seen); err != nil {
					return nil, false, err
				}
				continue
			}
			if err := p.hear(ctx, until); err != nil {
				return nil, false, p.lost(err, s.Asks, seen)
			}
		}
	}
	return nil, false, nil
}

// until takes lines up to the prompt, or up to one that is wanted. Of each that
// matches, the named parts are kept.
func (p *player) until(ctx context.Context, each, wanted *regexp.Regexp, until time.Time, seen *loader.Turn) (rows []map[string]string, found bool, err error) {
	for {
		if p.prompt != nil {
			if _, ok := p.begins(p.prompt); ok {
				return rows, false, nil
			}
		}
		line, ok := p.line()
		if !ok {
			if err := p.hear(ctx, until); err != nil {
				text := p.d.Prompt
				if wanted != nil {
					text = wanted.String()
				}
				return rows, false, p.lost(err, text, seen)
			}
			continue
		}
		pattern := each
		if wanted != nil {
			pattern = wanted
		}
		if pattern != nil && !p.passes(line) {
			if m := pattern.FindStringSubmatch(line); m != nil {
				seen.Heard = append(seen.Heard, p.masked(line))
				rows = append(rows, named(pattern, m))
				if wanted != nil {
					return rows, true, nil
				}
				continue
			}
		}
		if err := p.judge(line, seen); err != nil {
			return rows, false, err
		}
	}
}

// lost says in words what was waited for and what came instead.
func (p *player) lost(err error, pattern string, seen *loader.Turn) error {
	if !errors.Is(err, errQuiet) {
		return err
	}
	return core.Fail(core.NotAnswering, "%s: %w", p.missed(pattern, seen), err).Do("Look at the plug, the supply and the strap, then try again.")
}

func (p *player) missed(pattern string, seen *loader.Turn) string {
	heard := "nothing came"
	if len(seen.Heard) > 0 {
		heard = fmt.Sprintf("%q came", short(strings.Join(seen.Heard, " / ")))
	} else if len(p.text) > 0 {
		heard = fmt.Sprintf("%q came", short(p.masked(string(p.text))))
	}
	after := ""
	if seen.Said != "" {
		after = fmt.Sprintf(" after %q", seen.Said)
	}
	return fmt.Sprintf("the pattern %q was waited for%s, %s", pattern, after, heard)
}

// passes tells whether a line is one to be passed over.
func (p *player) passes(line string) bool {
	for _, x := range p.pass {
		if x.MatchString(line) {
			return true
		}
	}
	return strings.TrimSpace(line) == ""
}

// judge looks at a line that was not waited for: one to be passed over, an error, or
// something else, which is kept for the words.
func (p *player) judge(line string, seen *loader.Turn) error {
	if p.passes(line) {
		seen.Passed++
		return nil
	}
	for i, x := range p.wrong {
		if !x.MatchString(line) {
			continue
		}
		said := short(p.masked(strings.TrimSpace(line)))
		switch p.d.Wrong[i].Means {
		case meansLocked:
			p.locked = true
			return core.Fail(core.Protected, "the unit says %q: its memory is locked against reading", said)
		case meansDamaged:
			return core.Fail(core.RefusedByUnit, "the unit says %q: its memory did not do it", said).
				Do("Try the run again. If the same place fails twice, set the unit apart: its flash is worn or damaged.")
		case meansAgain:
			return fmt.Errorf("%w: it says %q", errAgain, said)
		}
		return core.Fail(core.RefusedByUnit, "the unit says %q", said)
	}
	if len(seen.Heard) < 64 {
		seen.Heard = append(seen.Heard, p.masked(line))
	}
	return nil
}

// named are the named parts of a match.
func named(pattern *regexp.Regexp, m []string) map[string]string {
	out := map[string]string{}
	for i, name := range pattern.SubexpNames() {
		if name != "" && i < len(m) && m[i] != "" {
			out[name] = strings.TrimSpace(m[i])
		}
	}
	return out
}

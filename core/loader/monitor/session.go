package monitor

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"
	"strconv"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
)

// Kind is the loader.
type Kind struct{}

// Name is "monitor".
func (Kind) Name() string { return "monitor" }

// own are the options that this loader alone reads.
type own struct {
	Dialogue dialogue `yaml:"dialogue"`
}

// read takes the dialogue out of the options.
func read(o loader.Own) (*dialogue, error) {
	var x own
	if err := o.Read(&x); err != nil {
		return nil, err
	}
	return &x.Dialogue, nil
}

// Limits are what the dialogue has exchanges for.
func (Kind) Limits(o loader.Own) loader.Limits {
	d, err := read(o)
	if err != nil {
		return loader.Limits{Identity: loader.ByEye}
	}
	return d.limits()
}

// Check finds in the options what their schema cannot; path is where it stands.
func (Kind) Check(o map[string]any) (path []string, err error) {
	d, err := read(o)
	if err != nil {
		return nil, err
	}
	path, err = d.check()
	return append([]string{"dialogue"}, path...), err
}

// Secrets are the names of those that the dialogue asks for.
func (Kind) Secrets(o loader.Own) (names []string) {
	d, err := read(o)
	if err != nil {
		return nil
	}
	for _, s := range append(slices.Clone(d.Reach.Steps), d.Allow.Steps...) {
		if s.Secret != "" {
			names = append(names, s.Secret)
		}
	}
	return names
}

// Pace is the line's; text takes more characters than it carries bytes.
func (Kind) Pace(o loader.Own) float64 {
	pace := loader.LinePace(o)
	d, err := read(o)
	if err != nil {
		return pace
	}
	for _, s := range append(slices.Clone(d.Write.Steps), d.Read.Steps...) {
		if s.Send == intelHex || s.Send == sRecord || s.Take == intelHex || s.Take == sRecord || s.Each != "" {
			return pace / 2.8
		}
	}
	return pace
}

// again is how often an exchange is played that the unit did not take.
const again = 5

// Open reaches the monitor's prompt and asks who is there.
func (Kind) Open(ctx context.Context, l link.Link, o loader.Options) (loader.Session, error) {
	d, err := read(o.Own)
	if err != nil {
		return nil, err
	}
	stream, err := loader.Stream(l, "loader monitor")
	if err != nil {
		return nil, err
	}
	var on link.Serial
	if err := o.Own.Read(&on); err != nil {
		return nil, err
	}
	if err := stream.SetMode(on.Mode()); err != nil {
		return nil, err
	}
	t := &talk{stream: stream, pace: o.Pace, note: o.Note}
	s := &session{link: l, o: o, on: on, d: d, player: newPlayer(t, d, on.Mode())}
	s.player.secret = o.Secret
	s.player.watch = o.Watch
	return s, s.enter(ctx, o.Await)
}

type session struct {
	link    link.Link
	o       loader.Options
	on      link.Serial
	d       *dialogue
	player  *player
	parts   map[string]string // of the identity
	allowed bool
}

// enter brings the unit to its prompt and asks who it is.
func (s *session) enter(ctx context.Context, await time.Duration) error {
	o := s.o
	o.Await = await
	s.allowed = false
	first := true
	var last error
	err := o.Wait(ctx, 100*time.Millisecond, 3, func(time.Duration) (bool, error) {
		if first && await > 0 { // whoever applies the power is told before anything is waited for
			first = false
			return false, nil
		}
		first = false
		err := s.reach(ctx)
		switch {
		case err == nil:
			return true, nil
		case core.KindOf(err) == core.NotAnswering || errors.Is(err, errQuiet) || errors.Is(err, errAgain):
			last = err
			return false, nil
		}
		return false, err
	})
	if err != nil {
		if core.KindOf(err) == core.NotAnswering && last != nil {
			return core.Fail(core.NotAnswering, "the unit is not at its monitor: %w", last).Do("Look at the supply, the plug and the strap; then try again.")
		}
		return err
	}
	return s.ask(ctx)
}

// reach plays the lines and what the sheet says of the way to the prompt. A unit
// without lines that is at its prompt already is left there.
func (s *session) reach(ctx context.Context) error {
	p := s.player
	if len(s.on.Enter) == 0 {
		if err := p.stream.Purge(); err != nil {
			return err
		}
		p.fresh(0)
		if err := p.say([]byte(s.d.lineEnd())); err != nil {
			return err
		}
		if _, _, err := p.until(ctx, nil, nil, p.pace.Clock.Now().Add(p.pace.Scaled(300*time.Millisecond)+p.onLine(200)), &loader.Turn{}); err == nil {
			return p.settle(ctx)
		}
		if err := p.home(ctx); err == nil || ctx.Err() != nil { // whatever it is in the middle of is given up
			return err
		}
	}
	if err := p.stream.Purge(); err != nil {
		return err
	}
	if err := link.Play(ctx, p.stream, s.on.Enter, p.pace); err != nil {
		return err
	}
	_, _, err := p.play(ctx, "reach", s.d.Reach, nil, nil)
	if err != nil {
		return err
	}
	return p.settle(ctx)
}

// ask asks who is there; another one than before is another unit.
func (s *session) ask(ctx context.Context) error {
	if !s.d.Identify.there() {
		return nil
	}
	parts, err := s.once(ctx, "identify", s.d.Identify, nil, nil)
	if err != nil {
		return err
	}
	for _, name := range []string{"serial", "model", "chip"} {
		if s.parts != nil && s.parts[name] != parts[name] {
			return core.Fail(core.WrongUnit, "its %s was %q, now it is %q: another unit is on the link", name, s.parts[name], parts[name])
		}
	}
	s.parts = parts
	return s.feel(ctx)
}

// feel asks for the lock.
func (s *session) feel(ctx context.Context) error {
	if !s.d.Lock.Ask.there() {
		return nil
	}
	parts, err := s.once(ctx, "protection.ask", s.d.Lock.Ask, nil, nil)
	if err == nil {
		s.player.locked = parts["locked"] != ""
	}
	return err
}

// once plays an exchange until the unit has taken it; after each failure the unit is
// brought back to its prompt, or reached anew.
func (s *session) once(ctx context.Context, name string, e exchange, with map[string]any, load *payload) (map[string]string, error) {
	parts, _, err := s.rows(ctx, name, e, with, load, nil)
	return parts, err
}

// rows is once, with the lines that "each" matched; sound looks at what came.
func (s *session) rows(ctx context.Context, name string, e exchange, with map[string]any, load *payload, sound func(rows []map[string]string) error) (map[string]string, []map[string]string, error) {
	before := s.link.Generation()
	for try := 1; ; try++ {
		parts, rows, err := s.player.play(ctx, name, e, with, load)
		if err == nil && sound != nil {
			err = sound(rows)
		}
		if err == nil {
			return parts, rows, nil
		}
		late := errors.Is(err, errQuiet) || core.KindOf(err) == core.NotAnswering
		if ctx.Err() != nil {
			return nil, nil, core.Fail(core.Interrupted, "the talk with the unit was ended: %w", ctx.Err())
		}
		if !late && !errors.Is(err, errAgain) {
			s.player.home(ctx)
			return nil, nil, err
		}
		if try == again {
			return nil, nil, core.Fail(core.NotAnswering, "the unit was asked %d times (%s): %w", try, name, err).
				Do("Look at the plug, the supply and the strap, then try again.")
		}
		if s.link.Generation() != before {
			return nil, nil, core.Fail(core.Interrupted, "the unit left the link: %w", err).Do("Identify the unit again.")
		}
		if s.player.home(ctx) == nil {
			continue
		}
		if err := s.back(ctx); err != nil {
			return nil, nil, err
		}
	}
}

// back reaches the monitor anew in the middle of the work, and sees that it is the same
// unit.
func (s *session) back(ctx context.Context) error {
	var err error
	for range 2 {
		if err = s.reach(ctx); err == nil {
			break
		}
	}
	if err != nil {
		return core.Fail(core.NotAnswering, "the unit is not at its monitor: %w", err).Do("Look at the supply, the plug and the strap; then try again.")
	}
	was := s.allowed
	s.allowed = false
	if s.d.Identify.there() {
		parts, _, err := s.player.play(ctx, "identify", s.d.Identify, nil, nil)
		if err != nil {
			return err
		}
		if s.parts != nil && parts["serial"] != s.parts["serial"] {
			return core.Fail(core.WrongUnit, "its serial was %q, now it is %q: another unit is on the link", s.parts["serial"], parts["serial"])
		}
	}
	if was {
		return s.allow(ctx)
	}
	return nil
}

// allow plays what the sheet wants before memory is read or changed, once.
func (s *session) allow(ctx context.Context) error {
	if s.allowed || !s.d.Allow.there() {
		return nil
	}
	if _, _, err := s.player.play(ctx, "allow", s.d.Allow, nil, nil); err != nil {
		return err
	}
	s.allowed = true
	return nil
}

// Identify asks again.
func (s *session) Identify(ctx context.Context) ([]core.Fact, error) {
	if err := s.ask(ctx); err != nil {
		return nil, err
	}
	return s.Said(), nil
}

// Said is what the unit has said of itself when it was asked last.
func (s *session) Said() []core.Fact {
	now := s.o.Clock.Now().UTC()
	var facts []core.Fact
	for _, name := range slices.Sorted(maps.Keys(s.parts)) {
		if v := s.parts[name]; v != "" {
			facts = append(facts, core.Fact{Name: name, Value: v, Source: core.FromWire, At: now})
		}
	}
	if s.d.Lock.Ask.there() {
		facts = append(facts, core.Fact{Name: core.FactLock, Value: map[bool]string{true: "locked", false: "open"}[s.player.locked], Source: core.FromWire, At: now})
	}
	return facts
}

// Probe asks for the prompt, once.
func (s *session) Probe(ctx context.Context) error {
	p := s.player
	p.fresh(0)
	if err := p.say([]byte(s.d.lineEnd())); err != nil {
		return err
	}
	_, _, err := p.until(ctx, nil, nil, p.pace.Clock.Now().Add(p.pace.Scaled(600*time.Millisecond)+p.onLine(200)), &loader.Turn{})
	return err
}

func (s *session) Can(a loader.Ability) error {
	if !s.d.limits().Has(a) {
		return core.Fail(core.RefusedByUnit, "the unit does not offer %s: the sheet's dialogue has nothing for it", a)
	}
	if s.player.locked && (a == loader.Read || a == loader.Write || a == loader.Erase || a == loader.Digest) {
		return core.Fail(core.Protected, "the unit does not offer %s: its memory is locked against reading", a)
	}
	return nil
}

// over are the placeholders' values for a stretch.
func over(address, length uint64) map[string]any {
	return map[string]any{"address": address, "length": length, "last": address + length - 1, "end": address + length}
}

func (s *session) most(e exchange, standard uint64) uint64 {
	if e.Most > 0 {
		return e.Most
	}
	return standard
}

// Read reads piece by piece. A form that carries a checksum is believed; a dump that
// carries none is held against the unit's own checksum, or read twice.
func (s *session) Read(ctx context.Context, address uint64, p []byte, got func(int)) error {
	if err := s.Can(loader.Read); err != nil {
		return err
	}
	if err := s.allow(ctx); err != nil {
		return err
	}
	most := int(s.most(s.d.Read, 1024))
	for n := 0; n < len(p); {
		m := min(most, len(p)-n)
		if err := s.piece(ctx, address+uint64(n), p[n:n+m]); err != nil {
			return err
		}
		n += m
		if got != nil {
			got(n)
		}
	}
	return nil
}

func (s *session) piece(ctx context.Context, address uint64, p []byte) error {
	proven := slices.ContainsFunc(s.d.Read.Steps, func(x step) bool { return x.Take != "" })
	once := func(into []byte) error {
		load := &payload{expect: len(into)}
		_, _, err := s.rows(ctx, "read", s.d.Read, over(address, uint64(len(into))), load, func(rows []map[string]string) error {
			stretches := load.taken
			if load.whole != nil {
				stretches = map[uint64][]byte{address: load.whole}
			}
			if !proven {
				var err error
				if stretches, err = dumped(rows); err != nil {
					return err
				}
			}
			if !lay(into, address, stretches) {
				return fmt.Errorf("%w: not all of the %d bytes at 0x%X came", errAgain, len(into), address)
			}
			return nil
		})
		return err
	}
	if err := once(p); err != nil || proven {
		return err
	}
	if s.d.Checksum.gives()["crc32"] {
		for try := 1; ; try++ {
			same, err := s.sums(ctx, address, p)
			if err != nil || same {
				return err
			}
			if try == again {
				return core.Fail(core.NotAnswering, "the %d bytes at 0x%X were read %d times, and never as the unit's checksum says", len(p), address, try)
			}
			if err := once(p); err != nil {
				return err
			}
		}
	}
	second := make([]byte, len(p))
	for try := 1; ; try++ {
		if err := once(second); err != nil {
			return err
		}
		if bytes.Equal(second, p) {
			return nil
		}
		if try == again {
			return core.Fail(core.NotAnswering, "the %d bytes at 0x%X were read %d times, and never twice alike", len(p), address, try+1)
		}
		copy(p, second)
	}
}

// sums asks for the unit's own checksum and holds it against the bytes.
func (s *session) sums(ctx context.Context, address uint64, data []byte) (bool, error) {
	parts, err := s.once(ctx, "checksum", s.d.Checksum, over(address, uint64(len(data))), nil)
	if err != nil {
		return false, err
	}
	if text := parts["sha256"]; text != "" {
		return text == fmt.Sprintf("%x", sha256.Sum256(data)), nil
	}
	n, err := strconv.ParseUint(parts["crc32"], 16, 32)
	return err == nil && uint32(n) == crc32.ChecksumIEEE(data), nil
}

// Digest asks for the digest of each piece, where the monitor computes SHA-256.
func (s *session) Digest(ctx context.Context, address, length, piece uint64) ([]core.Digest, error) {
	if err := s.Can(loader.Digest); err != nil {
		return nil, err
	}
	if err := s.allow(ctx); err != nil {
		return nil, err
	}
	var all []core.Digest
	for at := address; at < address+length; at += piece {
		parts, err := s.once(ctx, "checksum", s.d.Checksum, over(at, piece), nil)
		if err != nil {
			return nil, err
		}
		d, err := core.ParseDigest(parts["sha256"])
		if err != nil {
			return nil, core.Fail(core.RefusedByUnit, "the unit gives %q as a digest", parts["sha256"])
		}
		all = append(all, d)
	}
	return all, nil
}

// Change carries out one op after the other.
func (s *session) Change(ctx context.Context, next func() (loader.Op, bool, error), acked func(loader.Op) error) error {
	for {
		op, ok, err := next()
		if err != nil || !ok {
			return err
		}
		if err = s.allow(ctx); err != nil {
			return err
		}
		if op.Erase {
			_, err = s.once(ctx, "erase", s.d.Erase, over(op.Address, op.Length), nil)
		} else {
			err = s.write(ctx, op.Address, op.Data)
		}
		if err != nil {
			return err
		}
		if err := acked(op); err != nil {
			return err
		}
	}
}

// write writes in pieces.
func (s *session) write(ctx context.Context, address uint64, data []byte) error {
	most := int(s.most(s.d.Write, uint64(len(data))))
	for n := 0; n < len(data); n += most {
		if err := s.lay(ctx, address+uint64(n), data[n:min(n+most, len(data))]); err != nil {
			return err
		}
	}
	return nil
}

// lay writes one piece. Where neither each line is answered nor the transfer has its own
// checks, the unit's checksum or what is read back says whether all of it arrived, and
// only what is missing is sent again.
func (s *session) lay(ctx context.Context, address uint64, data []byte) error {
	form, sure := "", false
	for _, x := range s.d.Write.Steps {
		if x.Send != "" {
			form, sure = x.Send, x.Accept != "" || x.Send == xModem || x.Send == yModem
		}
	}
	if sure {
		_, err := s.once(ctx, "write", s.d.Write, over(address, uint64(len(data))), &payload{address: address, data: data, file: "image.bin"})
		return err
	}
	all, err := records(form, address, data)
	if err != nil {
		return err
	}
	missing := all
	for try := 1; ; try++ {
		load := &payload{address: address, data: data}
		for _, r := range missing {
			load.lines = append(load.lines, r.line)
		}
		_, _, err := s.player.play(ctx, "write", s.d.Write, over(address, uint64(len(data))), load)
		switch {
		case err != nil && ctx.Err() != nil:
			return core.Fail(core.Interrupted, "the talk with the unit was ended: %w", ctx.Err())
		case err != nil && (errors.Is(err, errAgain) || errors.Is(err, errQuiet) || core.KindOf(err) == core.NotAnswering):
			if s.player.home(ctx) != nil {
				if err := s.back(ctx); err != nil {
					return err
				}
			}
		case err != nil:
			s.player.home(ctx)
			return err
		}
		said := err
		if missing, err = s.lacks(ctx, all, address, data, said); err != nil || missing == nil {
			return err
		}
		if try == again {
			return core.Fail(core.NotAnswering, "%d bytes at 0x%X were sent %d times and are not all there: %w", len(data), address, try, said).
				Do("Look at the plug and the ground, then try again.")
		}
	}
}

// lacks finds the records whose bytes are not in the unit, with the ones that open and
// end a file; nil if all are there.
func (s *session) lacks(ctx context.Context, all []record, address uint64, data []byte, said error) ([]record, error) {
	if s.d.Checksum.there() {
		same, err := s.sums(ctx, address, data)
		if err != nil || same {
			return nil, err
		}
	}
	if !s.d.Read.there() {
		if s.d.Checksum.there() || said != nil {
			return all, nil
		}
		return nil, nil // it says that all went well, and nobody can look
	}
	held := make([]byte, len(data))
	if err := s.Read(ctx, address, held, nil); err != nil {
		return nil, err
	}
	if bytes.Equal(held, data) {
		return nil, nil
	}
	var out []record
	for _, r := range all {
		from := r.address - address
		if r.n == 0 || !bytes.Equal(held[from:from+uint64(r.n)], data[from:from+uint64(r.n)]) {
			out = append(out, r)
		}
	}
	return out, nil
}

// SendFile sends the image whole.
func (s *session) SendFile(ctx context.Context, name string, data []byte, sent func(int)) error {
	if err := s.Can(loader.File); err != nil {
		return err
	}
	if err := s.allow(ctx); err != nil {
		return err
	}
	_, err := s.once(ctx, "file", s.d.File, map[string]any{"name": name, "length": len(data)}, &payload{data: data, file: name, sent: sent})
	return err
}

// Restart starts the program, or reaches the monitor anew.
func (s *session) Restart(ctx context.Context, intoLoader bool) error {
	if intoLoader {
		return s.back(ctx)
	}
	if err := s.Can(loader.Reset); err != nil {
		return err
	}
	_, _, err := s.player.play(ctx, "start", s.d.Start, nil, nil)
	return err
}

// Locked asks.
func (s *session) Locked(ctx context.Context) (bool, error) {
	err := s.feel(ctx)
	return s.player.locked, err
}

// Unlock lifts the lock.
func (s *session) Unlock(ctx context.Context) error {
	return s.lock(ctx, "protection.lift", s.d.Lock.Lift, false)
}

// Lock locks the memory against reading.
func (s *session) Lock(ctx context.Context) error {
	return s.lock(ctx, "protection.lock", s.d.Lock.Lock, true)
}

func (s *session) lock(ctx context.Context, name string, e exchange, want bool) error {
	if err := s.allow(ctx); err != nil {
		return err
	}
	if _, err := s.once(ctx, name, e, nil, nil); err != nil {
		return err
	}
	locked, err := s.Locked(ctx)
	if err == nil && locked != want {
		err = core.Fail(core.RefusedByUnit, "the unit was asked to change its lock, and it did not")
	}
	return err
}

// Settings lists them.
func (s *session) Settings(ctx context.Context) ([]loader.Setting, error) {
	var all []loader.Setting
	_, rows, err := s.rows(ctx, "settings.list", s.d.Settings.List, nil, nil, nil)
	for _, r := range rows {
		if r["name"] != "" {
			all = append(all, loader.Setting{Name: r["name"], Value: r["value"]})
		}
	}
	return all, err
}

// PutSetting puts one; whether it holds is looked at by whoever lists them again.
func (s *session) PutSetting(ctx context.Context, x loader.Setting) error {
	if x.Name == "" {
		return core.Fail(core.RefusedByUnit, "a setting has a name")
	}
	if err := s.allow(ctx); err != nil {
		return err
	}
	_, err := s.once(ctx, "settings.put", s.d.Settings.Put, map[string]any{"name": x.Name, "value": x.Value}, nil)
	return err
}

// Files lists them; where the list has no digests, the files are fetched for it.
func (s *session) Files(ctx context.Context) ([]loader.FileInfo, error) {
	var all []loader.FileInfo
	_, rows, err := s.rows(ctx, "files.list", s.d.Files.List, nil, nil, nil)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		n, err := strconv.ParseUint(r["length"], 10, 32)
		if err != nil {
			return nil, core.Fail(core.RefusedByUnit, "the unit says that file %q has %q bytes", r["path"], r["length"])
		}
		f := loader.FileInfo{Path: r["path"], Length: n}
		if text := r["sha256"]; text != "" {
			if f.Digest, err = core.ParseDigest(text); err != nil {
				return nil, core.Fail(core.RefusedByUnit, "the unit gives %q as the digest of %q", text, f.Path)
			}
		} else {
			data := make([]byte, n)
			if err := s.GetFile(ctx, f.Path, data, nil); err != nil {
				return nil, err
			}
			f.Digest = core.DigestOf(data)
		}
		all = append(all, f)
	}
	slices.SortFunc(all, func(a, b loader.FileInfo) int { return bytes.Compare([]byte(a.Path), []byte(b.Path)) })
	return all, nil
}

// GetFile fetches a file.
func (s *session) GetFile(ctx context.Context, path string, p []byte, got func(int)) error {
	if err := s.allow(ctx); err != nil {
		return err
	}
	load := &payload{expect: len(p)}
	_, _, err := s.rows(ctx, "files.get", s.d.Files.Get, map[string]any{"path": path, "length": len(p)}, load, func([]map[string]string) error {
		if len(load.whole) < len(p) {
			return fmt.Errorf("%w: %d of %d bytes came", errAgain, len(load.whole), len(p))
		}
		return nil
	})
	if err != nil {
		return err
	}
	copy(p, load.whole)
	if got != nil {
		got(len(p))
	}
	return nil
}

// PutFile puts a file.
func (s *session) PutFile(ctx context.Context, path string, data []byte, sent func(int)) error {
	if path == "" {
		return core.Fail(core.RefusedByUnit, "a file has a name")
	}
	if err := s.allow(ctx); err != nil {
		return err
	}
	_, err := s.once(ctx, "files.put", s.d.Files.Put, map[string]any{"path": path, "length": len(data)}, &payload{data: data, file: path, sent: sent})
	if err == nil && sent != nil {
		sent(len(data))
	}
	return err
}

// RemoveFile removes one; that it is not there is no error.
func (s *session) RemoveFile(ctx context.Context, path string) error {
	if err := s.allow(ctx); err != nil {
		return err
	}
	_, rows, err := s.rows(ctx, "files.list", s.d.Files.List, nil, nil, nil)
	if err != nil || !slices.ContainsFunc(rows, func(r map[string]string) bool { return r["path"] == path }) {
		return err
	}
	_, err = s.once(ctx, "files.remove", s.d.Files.Remove, map[string]any{"path": path}, nil)
	return err
}

// Close leaves the unit at its prompt.
func (s *session) Close() error {
	s.player.stream.SetReadDeadline(time.Time{})
	return nil
}

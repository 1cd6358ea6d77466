// Package loadertest is the test that every loader must pass on a unit of its
// kind: that it can do what its limits say and refuses the rest in words, that
// silence, noise and the end of the context end every call, and that memory
// becomes what was asked for.
package loadertest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/memory"
)

// Unit is a unit on a link, and the hands of whoever tests it.
type Unit interface {
	Link(ctx context.Context) (link.Link, error)
	Memory() []byte
	Power(on bool)
	Silent(on bool)
	Noise(share float64)
}

// Subject is a loader under test.
type Subject struct {
	Kind    loader.Kind
	Options loader.Options
	// New makes a unit with power and a valid program, whose sectors from
	// 0x1000 to 0x7000, of 1 KiB, may be written; what lies below may not.
	New func(t *testing.T) Unit
	// Waiting makes one without straps: it opens its loader for a while after it
	// gets power, and then runs its program. It has no power yet.
	Waiting func(t *testing.T) Unit
	// Program is a file that the unit takes as its program.
	Program []byte
}

type unit struct {
	Unit
	s *Subject
}

// open opens a session; a unit that waits for its power gets it when the loader
// is ready.
func (u unit) open(t *testing.T) (loader.Session, link.Link, error) {
	t.Helper()
	l, err := u.Link(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	o := u.s.Options
	if o.Await > 0 {
		u.Power(false)
		o.Ready = func() { u.Power(true) }
	}
	s, err := u.s.Kind.Open(context.Background(), l, o)
	if err == nil {
		t.Cleanup(func() { s.Close() })
	}
	return s, l, err
}

func (u unit) mustOpen(t *testing.T) loader.Session {
	t.Helper()
	s, _, err := u.open(t)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

var abilities = []loader.Ability{loader.Read, loader.Erase, loader.Write, loader.Digest, loader.Reset, loader.File, loader.Guard, loader.Talk, loader.Keep, loader.Files}

// Run runs it.
func Run(t *testing.T, s Subject) {
	fresh := func(t *testing.T) unit { return unit{s.New(t), &s} }
	has := s.Kind.Limits(s.Options.Own).Has
	t.Run("limits hold", func(t *testing.T) {
		session := fresh(t).mustOpen(t)
		for _, a := range abilities {
			err := session.Can(a)
			if has(a) != (err == nil) {
				t.Errorf("%s: the limits say %v, the session %v", a, has(a), err)
			}
			if err != nil && (core.KindOf(err) != core.RefusedByUnit || len(err.Error()) < 20) {
				t.Errorf("%s is refused as %s, %v", a, core.KindOf(err), err)
			}
		}
		if s.Kind.Limits(s.Options.Own).Verify == "" || !has(loader.Read) && s.Kind.Limits(s.Options.Own).Instead == "" {
			t.Error("the limits lack words")
		}
	})
	t.Run("identity", func(t *testing.T) {
		session := fresh(t).mustOpen(t)
		for range 3 {
			facts, err := session.Identify(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			serial, any := false, false
			for _, f := range facts {
				serial = serial || f.Name == core.FactSerial
				any = true
				if f.Source != core.FromWire || f.At.IsZero() || f.Value == "" {
					t.Errorf("fact %+v", f)
				}
			}
			strength := map[bool]string{true: loader.ThisUnit, false: loader.ThisKind}[serial]
			if !any {
				strength = loader.ByEye
			}
			if want := s.Kind.Limits(s.Options.Own).Identity; strength != want {
				t.Errorf("it identifies %q, its limits say %q", strength, want)
			}
		}
	})
	if has(loader.Files) {
		t.Run("files", func(t *testing.T) { fresh(t).cabinet(t) })
	}
	t.Run("a harmless question", func(t *testing.T) {
		u := fresh(t)
		before := u.Memory()
		session := u.mustOpen(t)
		for range 5 {
			if err := session.Probe(context.Background()); err != nil {
				t.Error(err)
			}
		}
		u.Silent(true)
		if err := session.Probe(context.Background()); err == nil {
			t.Error("the question is answered by a silent unit: a proof that cannot fail")
		}
		if !bytes.Equal(u.Memory(), before) {
			t.Error("the question changed memory")
		}
	})
	t.Run("silence is not-answering", func(t *testing.T) {
		short := s
		if s.Options.Await > 0 {
			short.Options.Await = 300 * time.Millisecond
		}
		u := unit{s.New(t), &short}
		u.Silent(true)
		if _, _, err := u.open(t); core.KindOf(err) != core.NotAnswering || core.AsError(err, "").Next == "" {
			t.Errorf("%v", err)
		}
	})
	t.Run("waiting for power", func(t *testing.T) { awaits(t, s) })
	t.Run("the end of the context", func(t *testing.T) {
		u := fresh(t)
		session := u.mustOpen(t)
		u.Silent(true)
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Millisecond)
		defer cancel()
		var err error
		if has(loader.File) {
			err = session.(loader.Filer).SendFile(ctx, "x", s.Program, nil)
		} else {
			err = session.Read(ctx, 0x1000, make([]byte, 64), nil)
		}
		if k := core.KindOf(err); k != core.Interrupted && k != core.NotAnswering {
			t.Errorf("%v", err)
		}
	})
	if has(loader.Write) {
		t.Run("memory", func(t *testing.T) { writes(t, fresh) })
		t.Run("an erase keeps to the sheet", func(t *testing.T) { keepsTo(t, s) })
	}
	if has(loader.File) {
		t.Run("a file", func(t *testing.T) { files(t, fresh, s) })
	}
	if has(loader.Guard) {
		t.Run("protection", func(t *testing.T) { guards(t, fresh) })
	}
	if has(loader.Keep) {
		t.Run("settings", func(t *testing.T) { keeps(t, fresh) })
	}
	t.Run("a line that spoils bytes", func(t *testing.T) {
		u := fresh(t)
		session := u.mustOpen(t)
		before := u.Memory()
		u.Noise(0.0004)
		if has(loader.File) {
			err := session.(loader.Filer).SendFile(context.Background(), "x", s.Program, nil)
			if err == nil && !bytes.Equal(u.Memory()[0x1000:][:len(s.Program)], s.Program) {
				t.Error("it says done, and the memory is not the file")
			}
			if err != nil && core.KindOf(err) == "" {
				t.Errorf("an error without a kind: %v", err)
			}
			return
		}
		want := pattern(1024, 9)
		err := change(context.Background(), session, 0x2000, want)
		if err == nil && !bytes.Equal(u.Memory()[0x2000:0x2400], want) {
			t.Error("it says done, and the memory is not what was written")
		}
		if err != nil && core.KindOf(err) == "" {
			t.Errorf("an error without a kind: %v", err)
		}
		if !bytes.Equal(u.Memory()[:0x2000], before[:0x2000]) {
			t.Error("memory elsewhere changed")
		}
	})
}

// awaits: a person applies the power while the loader calls, and not before it said
// that it does.
func awaits(t *testing.T, s Subject) {
	w := Subject{Kind: s.Kind, Options: s.Options}
	w.Options.Own, w.Options.Await = maps.Clone(s.Options.Own), 20*time.Second
	delete(w.Options.Own, "enter")
	u := unit{s.Waiting(t), &w}
	session, _, err := u.open(t)
	if err != nil {
		t.Fatal(err)
	}
	if f, ok := session.(loader.Filer); ok && session.Can(loader.File) == nil { // it stays for a file, and for nothing else
		if err := f.SendFile(context.Background(), "x.bin", s.Program, nil); err != nil || !bytes.Equal(u.Memory()[0x1000:][:len(s.Program)], s.Program) {
			t.Errorf("its file: %v", err)
		}
	} else if _, err := session.Identify(context.Background()); err != nil {
		t.Error(err)
	} else if err := session.Probe(context.Background()); err != nil {
		t.Errorf("once it was called it stays: %v", err)
	}
	l, err := s.Waiting(t).Link(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	ready := 0
	w.Options.Await, w.Options.Ready = 300*time.Millisecond, func() { ready++ }
	if _, err := s.Kind.Open(context.Background(), l, w.Options); core.KindOf(err) != core.NotAnswering || ready != 1 {
		t.Errorf("nobody applies the power: %v, asked for %d times", err, ready)
	}
}

func pattern(n int, seed byte) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(i)*7 ^ seed
	}
	return b
}

// change erases a sector and writes it.
func change(ctx context.Context, s loader.Session, address uint64, data []byte) error {
	return changeWithin(ctx, s, everything(), address, data)
}

// everything is a map that would allow all of it, so that the unit itself is tried.
func everything() *memory.Map {
	m := *Map()
	m.Regions = []memory.Region{{Name: "all", Use: memory.Program, Length: 0x8000, Sector: 1024}}
	return &m
}

func changeWithin(ctx context.Context, s loader.Session, within *memory.Map, address uint64, data []byte) error {
	ops := []loader.Op{{N: 0, Erase: true, Address: address, Length: 1024}, {N: 1, Address: address, Length: uint64(len(data)), Data: data}}
	asked, acked := 0, 0
	err := loader.Change(ctx, s, within, func() (loader.Op, bool, error) {
		if asked == len(ops) {
			return loader.Op{}, false, nil
		}
		asked++
		return ops[asked-1], true, nil
	}, nil, func(op loader.Op) error {
		if op.N != acked {
			return errors.New("acknowledged out of order")
		}
		acked++
		return nil
	})
	if err == nil && acked != 2 {
		return errors.New("not everything was acknowledged")
	}
	return err
}

func writes(t *testing.T, fresh func(*testing.T) unit) {
	ctx := context.Background()
	u := fresh(t)
	session := u.mustOpen(t)
	before := u.Memory()
	want := pattern(1024, 5)
	if err := change(ctx, session, 0x1400, want); err != nil {
		t.Fatal(err)
	}
	copy(before[0x1400:], want)
	if !bytes.Equal(u.Memory(), before) {
		t.Error("the memory is not as before beside what was written")
	}
	got, told := make([]byte, 3000), 0
	if err := session.Read(ctx, 0x1000, got, func(n int) { told = n }); err != nil || !bytes.Equal(got, before[0x1000:][:3000]) || told != 3000 {
		t.Errorf("read back: %v, told %d", err, told)
	}
	if session.Can(loader.Digest) == nil {
		d, err := session.Digest(ctx, 0x1000, 2048, 1024)
		if err != nil || len(d) != 2 || d[1] != core.DigestOf(want) {
			t.Errorf("digests %v %v", d, err)
		}
	} else if _, err := session.Digest(ctx, 0x1000, 2048, 1024); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("a digest that it cannot do: %v", err)
	}
	if err := change(ctx, session, 0, make([]byte, 1024)); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("the closed loader: %v", err)
	}
	stop := errors.New("no more")
	if err := loader.Change(ctx, session, Map(), func() (loader.Op, bool, error) { return loader.Op{}, false, stop }, nil, nil); !errors.Is(err, stop) {
		t.Errorf("the caller's own error became %v", err)
	}
	if err := change(ctx, session, 0x1800, pattern(64, 1)); err != nil {
		t.Errorf("after the refusals: %v", err)
	}
	if err := session.Restart(ctx, true); err != nil {
		t.Errorf("into the loader again: %v", err)
	}
	if _, err := session.Identify(ctx); err != nil {
		t.Error(err)
	}
}

// keepsTo: whatever the sheet's map looks like, an erase takes the sector that is
// named and nothing beside it, and what the map does not name is never erased.
func keepsTo(t *testing.T, s Subject) {
	region := func(at, length, sector uint64) memory.Region {
		return memory.Region{Name: "program", Use: memory.Program, Address: at, Length: length, Sector: sector}
	}
	for name, x := range map[string]struct {
		regions []memory.Region
		may     []uint64 // where a sector of 1 KiB may be erased
		mayNot  []uint64
	}{
		"it begins late":         {[]memory.Region{region(0x2000, 0x4000, 1024)}, []uint64{0x2000, 0x5C00}, []uint64{0, 0x1000, 0x1C00, 0x6000}},
		"it has a hole":          {[]memory.Region{region(0x1000, 0x800, 1024), region(0x3000, 0x1000, 1024)}, []uint64{0x1400, 0x3000}, []uint64{0x1800, 0x2C00, 0x4000}},
		"pages of several sizes": {[]memory.Region{region(0x1000, 0x1000, 2048), region(0x2000, 0x1000, 1024)}, []uint64{0x2400}, []uint64{0x1000, 0x1400, 0x3000}},
	} {
		t.Run(name, func(t *testing.T) {
			m := &memory.Map{Erased: 0xFF, Write: 4, Regions: x.regions}
			late := s
			late.Options.Map = m
			u := unit{s.New(t), &late}
			session := u.mustOpen(t)
			want := u.Memory()
			data := pattern(1024, 3)
			for _, at := range x.may {
				if err := changeWithin(context.Background(), session, m, at, data); err != nil {
					t.Fatalf("0x%X: %v", at, err)
				}
				copy(want[at:], data)
			}
			for _, at := range x.mayNot {
				if err := changeWithin(context.Background(), session, m, at, data); core.KindOf(err) != core.DoesNotFit {
					t.Errorf("0x%X: %v", at, err)
				}
			}
			if !bytes.Equal(u.Memory(), want) {
				t.Error("memory that was not named changed")
			}
		})
	}
}

func files(t *testing.T, fresh func(*testing.T) unit, s Subject) {
	u := fresh(t)
	session := u.mustOpen(t)
	before := u.Memory()
	told := 0
	if err := session.(loader.Filer).SendFile(context.Background(), "x.bin", s.Program, func(n int) {
		if n < told {
			t.Errorf("%d bytes after %d", n, told)
		}
		told = n
	}); err != nil {
		t.Fatal(err)
	}
	after := u.Memory()
	if !bytes.Equal(after[0x1000:][:len(s.Program)], s.Program) || told != len(s.Program) {
		t.Errorf("the memory is not the file; told %d of %d", told, len(s.Program))
	}
	if !bytes.Equal(after[:0x1000], before[:0x1000]) || !bytes.Equal(after[0x7000:], before[0x7000:]) {
		t.Error("memory elsewhere changed")
	}
}

func guards(t *testing.T, fresh func(*testing.T) unit) {
	ctx := context.Background()
	u := fresh(t)
	session := u.mustOpen(t)
	g := session.(loader.Guarded)
	before := u.Memory()
	if locked, err := g.Locked(ctx); locked || err != nil {
		t.Fatalf("new, and locked %v, %v", locked, err)
	}
	if err := g.Lock(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := session.Identify(ctx); err != nil {
		t.Fatal(err)
	}
	if err := session.Can(loader.Read); core.KindOf(err) != core.Protected {
		t.Errorf("reading a locked memory: %v", err)
	}
	if !bytes.Equal(u.Memory(), before) {
		t.Error("locking changed memory")
	}
	if err := g.Unlock(ctx); err != nil {
		t.Fatal(err)
	}
	if locked, err := g.Locked(ctx); locked || err != nil || session.Can(loader.Read) != nil {
		t.Errorf("unlocked, and locked %v, %v, %v", locked, err, session.Can(loader.Read))
	}
	if after := u.Memory(); !bytes.Equal(after[0x1000:0x7000], bytes.Repeat([]byte{0xFF}, 0x6000)) {
		t.Error("lifting the lock erased nothing")
	}
}

func keeps(t *testing.T, fresh func(*testing.T) unit) {
	ctx := context.Background()
	session := fresh(t).mustOpen(t)
	k := session.(loader.Keeper)
	all, err := k.Settings(ctx)
	if err != nil || len(all) < 2 {
		t.Fatalf("%+v %v", all, err)
	}
	all[1].Value = "17"
	if err := k.PutSetting(ctx, all[1]); err != nil {
		t.Fatal(err)
	}
	if g, ok := session.(loader.Guarded); ok { // they are to be had while the memory is locked
		if err := g.Lock(ctx); err != nil {
			t.Fatal(err)
		}
		if _, err := session.Identify(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if now, err := k.Settings(ctx); err != nil || !slices.Equal(now, all) {
		t.Errorf("put back %+v, read %+v, %v", all, now, err)
	}
	if err := k.PutSetting(ctx, loader.Setting{Value: "x"}); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("a setting without a name: %v", err)
	}
}

// cabinet puts, replaces, lists, fetches and removes files, on a clean line and on a
// noisy one.
func (u unit) cabinet(t *testing.T) {
	ctx := context.Background()
	c, ok := u.mustOpen(t).(loader.Cabinet)
	if !ok {
		t.Fatal("it has no calls for files, its limits say that it can")
	}
	want := map[string][]byte{}
	listed := func(when string) {
		t.Helper()
		all, err := c.Files(ctx)
		if err != nil || len(all) != len(want) || !slices.IsSortedFunc(all, func(a, b loader.FileInfo) int { return strings.Compare(a.Path, b.Path) }) {
			t.Fatalf("%s: %+v %v", when, all, err)
		}
		for _, f := range all {
			if data, there := want[f.Path]; !there || f.Length != uint64(len(data)) || f.Digest != core.DigestOf(data) {
				t.Errorf("%s: %+v", when, f)
			}
			got := make([]byte, f.Length)
			told := 0
			if err := c.GetFile(ctx, f.Path, got, func(n int) { told = n }); err != nil || !bytes.Equal(got, want[f.Path]) || told != len(got) {
				t.Errorf("%s: %s comes back as %d bytes, told %d, %v", when, f.Path, len(got), told, err)
			}
		}
	}
	listed("a new unit")
	for _, noise := range []float64{0, 0.0003} {
		u.Noise(noise)
		for path, data := range map[string][]byte{"b.txt": []byte("two"), "a/long.bin": bytes.Repeat([]byte{0, 1, 2, 3, 0xFF}, 1500), "empty": {}} {
			data = append(bytes.Clone(data), byte(10000*noise))
			told := 0
			if err := c.PutFile(ctx, path, data, func(n int) { told = n }); err != nil || told != len(data) {
				t.Fatalf("put %s: told %d of %d, %v", path, told, len(data), err)
			}
			want[path] = data
		}
		listed(fmt.Sprintf("noise %g", noise))
	}
	u.Noise(0)
	for range 2 { // the second time it is not there, which is no error
		if err := c.RemoveFile(ctx, "b.txt"); err != nil {
			t.Error(err)
		}
		delete(want, "b.txt")
	}
	listed("after one was removed")
	if err := c.GetFile(ctx, "b.txt", make([]byte, 3), nil); core.KindOf(err) != core.RefusedByUnit {
		t.Errorf("a file that is not there: %v", err)
	}
	if err := c.PutFile(ctx, "", []byte("x"), nil); err == nil {
		t.Error("a file without a name was taken")
	}
}

// Map is the memory of the units that New makes.
func Map() *memory.Map {
	return &memory.Map{Erased: 0xFF, Write: 4, Regions: []memory.Region{
		{Name: "loader", Use: memory.Loader, Length: 0x1000, Sector: 1024, ReadOnly: true},
		{Name: "program", Use: memory.Program, Address: 0x1000, Length: 0x6000, Sector: 1024}}}
}

package coretest

import (
	"context"
	"encoding/json"
	"strings"
	"sync"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/link"
	"zealousferry/core/link/canline"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/core/shelf"
	"zealousferry/core/trust"
	"zealousferry/core/visit"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

// Alone is a bench for core/run without a service: its shelf is in memory and
// outlives it, as the service's would.
type Alone struct {
	Unit *sim.Unit
	// Further are what hangs on further links, by the link's name.
	Further map[string]*sim.Unit
	Key     trust.Key

	mu     sync.Mutex
	blobs  map[core.Digest][]byte
	Record []byte
	Stored [][]run.Reading
	// OnChange is called after each event.
	OnChange func()
	// Withdrawn is why the service says that the release was taken back.
	Withdrawn string
	// NoSecret: nobody has entered the monitor's password.
	NoSecret bool
	// Network answers for the unit on the network.
	Network func(address, path string) ([]byte, error)
	// Far tells which pieces the service holds and this bench does not.
	Far func(core.Digest) bool
	// Away makes the service unreachable.
	Away func() bool
}

// NewAlone makes a bench for one unit.
func NewAlone(u *sim.Unit) *Alone {
	key, err := trust.NewKey()
	if err != nil {
		panic(err)
	}
	return &Alone{Unit: u, Key: key, blobs: map[core.Digest][]byte{}}
}

// MayWrite says that the release stands, unless the test has withdrawn it.
func (a *Alone) MayWrite(context.Context, *run.Opened) error {
	if a.Withdrawn != "" {
		return core.Fail(core.DoesNotFit, "%s", a.Withdrawn)
	}
	return nil
}

// Dial opens the link to a simulated unit.
func Dial(ctx context.Context, u *sim.Unit) (link.Link, error) {
	if u.Kind == "module" {
		return canline.Kind{Net: rfc2217.Kind{}}.Open(ctx, link.Settings{"address": u.Address(), "rate": "500000"}, core.System{})
	}
	return rfc2217.Kind{}.Open(ctx, link.Settings{"address": u.Address()}, core.System{})
}

// Session opens a section's loader on a link, at a share of the true times.
func Session(ctx context.Context, l link.Link, x *model.Section, scale float64) (loader.Session, error) {
	return visit.Open(ctx, l, x, link.Pace{Clock: core.System{}, Scale: scale}, visit.Hooks{})
}

// Put lays content on the shelf.
func (a *Alone) Put(b []byte) core.Digest {
	a.mu.Lock()
	defer a.mu.Unlock()
	d := core.DigestOf(b)
	a.blobs[d] = append([]byte(nil), b...)
	return d
}

// Secret gives the password of the simulated monitor.
func (a *Alone) Secret(_ context.Context, _ *run.Opened, name string) (string, error) {
	if a.NoSecret {
		return "", core.Fail(core.NotAllowed, "nobody has entered the secret %q", name)
	}
	return Password, nil
}

func (a *Alone) Open(ctx context.Context, name string) (link.Link, error) {
	u := a.Unit
	if name != "" {
		u = a.Further[name]
	}
	return Dial(ctx, u)
}

func (a *Alone) Blob(_ context.Context, d core.Digest) ([]byte, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if b, ok := a.blobs[d]; ok {
		return b, nil
	}
	return nil, core.Fail(core.NotFound, "no blob %s", d.Short())
}

// Held gets what lies on this bench, which is all of its shelf but for what is Far.
func (a *Alone) Held(d core.Digest) ([]byte, error) {
	if a.Far != nil && a.Far(d) {
		return nil, core.Fail(core.NotFound, "%s is elsewhere", d.Short())
	}
	return a.Blob(context.Background(), d)
}

func (a *Alone) Missing(_ context.Context, names []core.Digest) ([]core.Digest, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	var lacks []core.Digest
	for _, n := range names {
		if _, ok := a.blobs[n]; !ok {
			lacks = append(lacks, n)
		}
	}
	return lacks, nil
}

func (a *Alone) Keep(pieces []shelf.Piece) error {
	for _, p := range pieces {
		a.Put(p.Data)
	}
	return nil
}

func (a *Alone) Store(_ context.Context, o *run.Opened, all []run.Reading) (run.Stored, error) {
	if a.Away != nil && a.Away() {
		return run.Stored{}, core.Fail(core.NotAnswering, "the service is away")
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.Stored = append(a.Stored, all)
	return run.Stored{Backup: "b-" + o.Run}, nil
}

func (a *Alone) Reach(_ context.Context, address, path string) ([]byte, error) {
	if a.Network == nil {
		return nil, core.Fail(core.NotAnswering, "nobody answers at %s", address)
	}
	return a.Network(address, path)
}

func (a *Alone) Seal(record func(core.Digest) []byte, put func(record, signature []byte) error) error {
	a.mu.Lock()
	previous := core.Digest{}
	if a.Record != nil {
		previous = core.DigestOf(a.Record)
	}
	a.mu.Unlock()
	raw := record(previous)
	if err := put(raw, a.Key.Sign("ferry-record/1", raw)); err != nil {
		return err
	}
	a.mu.Lock()
	a.Record = raw
	a.mu.Unlock()
	return nil
}

// SeedKey makes a module's key as the service does.
// SettingsKey is one and the same for every run.
func (a *Alone) SettingsKey(context.Context, *run.Opened) (settings.Safe, error) {
	return make([]byte, settings.KeyBytes), nil
}

func (a *Alone) SeedKey(ctx context.Context, _ *run.Opened, name string, level byte, seed []byte) ([]byte, error) {
	return Key(ctx, name, level, seed)
}

func (a *Alone) Changed() {
	if a.OnChange != nil {
		a.OnChange()
	}
}

// Release puts a release of one program on the shelf.
func (a *Alone) Release(sheet *model.Sheet, version string, address uint64, program []byte, fits map[string][]string) core.Digest {
	var b image.Builder
	b.Add(address, program, 0)
	im, err := b.Image()
	if err != nil {
		panic(err)
	}
	from, to := im.Extent()
	r := model.Release{ID: "r-" + version, Model: sheet.Model, Version: version, Channel: model.Stable, Fits: fits,
		Parts: []model.Part{{Name: "program", Image: a.Put(program), Format: "raw", Address: address, Content: im.Content(), From: from, To: to, Bytes: im.Bytes()}}}
	raw, err := json.Marshal(r)
	if err != nil {
		panic(err)
	}
	return a.Put(raw)
}

// loaders are the small board's, by name.
var loaders = map[string]string{
	"gangway": `  kind: gangway
  says: SMALL
  baud: 115200
  enter: [{ line: rts, on: true }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }, { wait: 10ms }]
  leave: [{ line: rts, on: false }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }]
`,
	"one-wire": `  kind: gangway
  says: SMALL
  baud: 115200
  one-wire: true
  await: 20s
  enter: []
  leave: []
`,
	"keel": `  kind: keel
  says: "0x5EA00017"
  baud: 115200
  parity: even
  enter: [{ line: rts, on: true }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }, { wait: 10ms }]
  leave: [{ line: rts, on: false }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }]
`,
	"module":         module,
	"monitor-lines":  strapped(Monitor("lines")),
	"monitor-silent": strapped(Monitor("silent")),
	"monitor-menu":   strapped(Monitor("menu")),
	"xmodem": `  kind: xmodem
  says: ""
  baud: 115200
  enter: [{ line: rts, on: true }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }, { wait: 10ms }]
  leave: [{ line: rts, on: false }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }]
`,
	"ymodem": `  kind: ymodem
  says: ""
  baud: 115200
  file: small.bin
  enter: [{ line: rts, on: true }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }, { wait: 10ms }]
  leave: [{ line: rts, on: false }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }]
`,
}

// module is the small board as a vehicle module: its programming sequence.
const module = `  kind: module
  says: SMALL
  at: { request: 0x642, response: 0x64A, logical: 0x0042, padding: 0xAA }
  identify:
    - { did: 0xF187, fact: model }
    - { did: 0xF18C, fact: serial }
    - { did: 0xF193, fact: revision }
    - { did: 0xF195, fact: running }
  longest: 20s
  read: { by: upload, first: [{ session: extended, may-refuse: [0x7F] }, { access: 0x11, secret: diagnosis, rule: hmac-sha-256, key-bytes: 8 }] }
  write:
    first:
      - { session: extended, may-refuse: [0x7F] }
      - { routine: 0x0203 }
      - { codes: off }
      - { talk: off }
      - { session: programming }
      - { access: 0x11, secret: diagnosis, rule: hmac-sha-256, key-bytes: 8 }
      - { put: 0xF15A, data: "26112800" }
    erase: 0xFF00
    check: 0x0202
  records:
    - { did: 0xFD02, name: supply-volts, bytes: 2, as: number, over: 10, unit: V }
    - { extended: 0x01, name: times-seen, bytes: 1, as: number }
  watch:
    - { did: 0xFD02, fact: supply-volts, as: number, over: 10, unit: V, at-least: 24 }
    - { did: 0xFD01, fact: key, as: hex, is: { "00": "off", "01": "on" }, be: "on" }
  settings:
    first: [{ session: extended, may-refuse: [0x7F] }, { access: 0x11, secret: diagnosis, rule: hmac-sha-256, key-bytes: 8 }]
    each:
      - { did: 0x0D00, name: brightness, as: text }
      - { did: 0x0D01, name: quiet, as: text }
      - { did: 0x0D02, name: zero-point, as: text }
  leave: [{ routine: 0xFF01, may-refuse: [0x7F] }, { reset: hard }]
`

// strapped is the small board's loader with a dialogue.
func strapped(dialogue string) string {
	return `  kind: monitor
  says: SMALL
  baud: 115200
  enter: [{ line: rts, on: true }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }, { wait: 10ms }]
  leave: [{ line: rts, on: false }, { line: dtr, on: true }, { wait: 10ms }, { line: dtr, on: false }]
` + dialogue
}

// Password is what the silent monitor wants before it touches memory.
const Password = "low water"

// Key makes a module's key of its seed, as the service does.
func Key(_ context.Context, _ string, level byte, seed []byte) ([]byte, error) {
	return trust.SeedKey(trust.HMAC, Password, level, seed, 8)
}

// Secret gives it to a loader.
func Secret(context.Context, string) (string, error) { return Password, nil }

// Loaders are the names that SmallSheetOf knows.
var Loaders = []string{"gangway", "one-wire", "keel", "module", "monitor-lines", "monitor-silent", "monitor-menu", "xmodem", "ymodem"}

// SmallSheetOf is the sheet of the small board with one of Loaders.
func SmallSheetOf(name string) []byte {
	ask, answer := `V?\r`, `program ([0-9A-Za-z.+-]+)\r`
	if name == "module" {
		ask, answer = "22F195", "^([0-9A-Za-z.+-]+)$"
	}
	return []byte(`sheet: 1
model: small
name: { en: Small }
kind: { en: trial board }
version-order: semantic
facts:
  revision: { values: [C, D] }
loader:
` + loaders[name] + `application: { baud: 115200, ask: "` + ask + `", answer: "` + answer + `", wait: 12s }
memory:
  address-unit: 1
  erased: 255
  write: 4
  regions:
    - { name: loader, use: loader, address: 0, length: 4096, sector: 1024, read-only: true }
    - { name: program, use: program, address: 0x1000, length: 24576, sector: 1024, uncovered: keep }
    - { name: settings, use: settings, address: 0x7000, length: 2048, sector: 1024, uncovered: keep }
    - { name: identity, use: identity, address: 0x7800, length: 2048, sector: 1024, read-only: true, own: true }
`)
}

// Small is a board with little memory, for trials that end at many places: a
// loader of 4 KiB, a program of 24 KiB, settings and identity of 2 KiB each.
var Small = SmallSheetOf("gangway")

// SmallUnit starts a small board that runs version 1.0.0, at a fiftieth of the
// true times.
func SmallUnit(change func(*sim.Spec)) (*sim.Unit, *model.Sheet, error) {
	return SmallUnitOf("gangway", change)
}

// SmallUnitOf starts a small board with one of Loaders.
func SmallUnitOf(name string, change func(*sim.Spec)) (*sim.Unit, *model.Sheet, error) {
	sheet, err := model.ReadSheet(SmallSheetOf(name))
	if err != nil {
		return nil, nil, err
	}
	s := board.Board(sheet, "S-0001")
	s.Scale, s.WriteMax, s.ReadMax, s.Window = 0.02, 256, 1024, 2048
	if name == "module" {
		s.Password = Password
	}
	if habit, ok := strings.CutPrefix(name, "monitor-"); ok {
		s.Habit, s.Password = habit, Password
		if habit == sim.HabitSilent {
			s.Window = 256
		}
	}
	s.Fresh = func() []byte { return board.Memory(sheet, "S-0001", SmallProgram("1.0.0")) }
	if change != nil {
		change(&s)
	}
	u, err := sim.Start(s, "127.0.0.1:0", core.System{})
	return u, sheet, err
}

// SmallProgram is a program for the small board; no two versions share a sector.
func SmallProgram(version string) []byte {
	seed := uint64(0)
	for _, c := range version {
		seed = seed*31 + uint64(c)
	}
	return sim.Program(version, 20<<10, seed, seed)
}

// SmallSheet is the sheet of the small board.
func SmallSheet() *model.Sheet {
	s, err := model.ReadSheet(Small)
	if err != nil {
		panic(err)
	}
	return s
}

// SmallSheetNamed reads SmallSheetOf.
func SmallSheetNamed(name string) (*model.Sheet, error) { return model.ReadSheet(SmallSheetOf(name)) }

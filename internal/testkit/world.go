// Package testkit is the whole of it on loopback, for tests of the whole: MariaDB, a
// service, a bench and simulated units.
package testkit

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zealousferry/console"
	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/trust"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/demo/world"
	"zealousferry/internal/service"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
	"zealousferry/internal/testkit/database"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

// World is the whole of it on loopback: MariaDB, a service, a bench, small
// simulated boards. Any part can be killed and started again.
type World struct {
	Provider   *people.Provider // of identity, from the next start of the service on
	SignedOnly bool             // its bench writes only what a key has signed
	t          database.T
	Scale      float64 // of the units' times
	pace       float64 // of the bench, which is more patient than the slowest unit
	DB         *database.Database
	Store      *store.Store
	Key        trust.Key
	Base       string
	Units      map[string]*sim.Unit // by link
	Dir        string               // of the bench
	Bench      *bench.Bench
	Sheet      *model.Sheet

	// Slow is a path whose calls come late, by SlowBy, as over a bad line; both are set
	// before anything calls it.
	Slow   string
	SlowBy time.Duration

	Technician, Lead, Viewer *client.Client
	Tokens                   map[string]string // by role

	address    string
	service    *service.Service
	unbounded  bool // calls are not counted
	server     *http.Server
	endStreams func()
	benchEnd   func()
	benchEnded chan struct{}
	gate       *gate // of the bench's disk
	log        Text  // of the service and the bench
}

// Version1 and Version2 are the releases of the small board in a World.
const (
	Version1 = "1.0.0"
	Version2 = "2.0.0"
)

// NewWorld starts everything with units on links a, b, … as the specs say;
// without specs one small board is on link a.
func NewWorld(t database.T, change ...func(*sim.Spec)) *World {
	return newWorld(t, database.New(t, false), change)
}

// NewDurableWorld is a World whose database may be killed.
func NewDurableWorld(t database.T, change ...func(*sim.Spec)) *World {
	return newWorld(t, database.New(t, true), change)
}

// NewWorldOn is a World on a database in which there may be something already.
func NewWorldOn(t database.T, db *database.Database, change ...func(*sim.Spec)) *World {
	return newWorld(t, db, change)
}

func newWorld(t database.T, db *database.Database, change []func(*sim.Spec)) *World {
	t.Helper()
	w := &World{t: t, Scale: 0.02, pace: 1, DB: db, Units: map[string]*sim.Unit{}, Tokens: map[string]string{}}
	t.Cleanup(w.tellLog)
	ctx := context.Background()
	var err error
	if w.Store, err = store.Open(ctx, w.DB.Serve); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.Store.Close() })
	if w.Key, err = trust.NewKey(); err != nil {
		t.Fatal(err)
	}
	if err := w.Store.WithKey(ctx, w.Key); err != nil {
		t.Fatal(err)
	}
	w.StartService()
	t.Cleanup(w.StopService)
	for _, p := range world.People {
		if err := w.Store.PutPerson(ctx, store.Person{ID: p.ID, Name: p.Name, Role: p.Role}); err != nil {
			t.Fatal(err)
		}
		text, digest := people.Secret()
		if err := w.Store.AddSecret(ctx, store.Secret{Digest: digest[:], Kind: store.SecretToken, Person: sql.NullString{String: p.ID, Valid: true}}); err != nil {
			t.Fatal(err)
		}
		w.Tokens[p.Role] = text
	}
	w.Technician, w.Lead, w.Viewer = w.Client("technician"), w.Client("lead"), w.Client("viewer")
	// A world is of a team in which a lead alone may pass what cannot be taken back, but where
	// a trial is about two persons.
	if err := w.Store.PutTeamRule(ctx, "two-persons", "off", world.People[0].ID, time.Now()); err != nil {
		t.Fatal(err)
	}
	w.catalogue()
	if len(change) == 0 {
		change = []func(*sim.Spec){nil}
	}
	var links []bench.Port
	for i, c := range change {
		name := string(rune('a' + i))
		u, sheet, err := coretest.SmallUnit(func(s *sim.Spec) {
			s.Serial, s.Scale = fmt.Sprintf("S-%04d", i+1), w.Scale
			s.Fresh = func() []byte { return board.Memory(w.sheet(), s.Serial, coretest.SmallProgram(Version1)) }
			if c != nil {
				c(s)
			}
		})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(u.Close)
		w.pace = max(w.pace, u.Scale)
		w.Units[name], w.Sheet = u, sheet
		links = append(links, PortOf(name, u))
	}
	w.Dir = t.TempDir()
	if err := os.MkdirAll(w.Journals(), 0o700); err != nil {
		t.Fatal(err)
	}
	w.gate = &gate{Disk: bench.Folder(w.Journals())}
	code, err := w.Lead.NewBenchCode(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if err := bench.Enrol(ctx, w.Dir, w.Base, code.Code, "b"); err != nil {
		t.Fatal(err)
	}
	w.StartBench(links)
	t.Cleanup(w.StopBench)
	w.Wait("the bench to join", func() bool {
		l, err := w.Technician.Links(ctx)
		own := slices.DeleteFunc(l.Links, func(x client.Link) bool { return !strings.HasPrefix(x.Link, "b/") })
		return err == nil && len(own) == len(links) && own[0].State == "free"
	})
	return w
}

// PortOf is a link of a bench to a unit: its serial line, or its bus.
func PortOf(name string, u *sim.Unit) bench.Port {
	p := bench.Port{Name: name, Kind: "rfc2217", Settings: map[string]string{"address": u.Address()}}
	if u.Kind == "module" {
		p.Kind, p.Settings["rate"] = "can-line", "500000"
	}
	return p
}

func (w *World) sheet() *model.Sheet {
	s, err := model.ReadSheet(coretest.Small)
	if err != nil {
		w.t.Fatal(err)
	}
	return s
}

// catalogue puts the small board and two releases of it into the service.
func (w *World) catalogue() {
	ctx := context.Background()
	if _, err := w.Lead.PutModel(ctx, coretest.Small); err != nil {
		w.t.Fatal(err)
	}
	for _, v := range []string{Version1, Version2} {
		w.AddRelease(v, coretest.SmallProgram(v), map[string][]string{"revision": {"D"}})
	}
}

// AddRelease puts a release of the small board into the catalogue.
func (w *World) AddRelease(version string, program []byte, fits map[string][]string) client.Release {
	return w.AddReleaseOf("small", version, program, 0x1000, fits)
}

// AddReleaseOf puts a release of any model into it.
func (w *World) AddReleaseOf(of, version string, program []byte, address uint64, fits map[string][]string) client.Release {
	ctx := context.Background()
	im, err := w.Lead.PutImage(ctx, "small.bin", model.Part{Format: "raw", Address: address}, program)
	if err != nil {
		w.t.Fatal(err)
	}
	r, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: of, Version: version, Channel: model.Stable, Fits: fits, Accept: "made by the test",
		Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: address}}})
	if err != nil {
		w.t.Fatal(err)
	}
	return r
}

// Client calls the service as somebody of the role.
func (w *World) Client(role string) *client.Client {
	return client.New(w.Base, w.Tokens[role], core.System{})
}

// StartService starts the service, at the address where it was before.
func (w *World) StartService() {
	w.t.Helper()
	if w.address == "" {
		w.address = "127.0.0.1:0"
	}
	l, err := net.Listen("tcp", w.address)
	if err != nil {
		w.t.Fatal(err)
	}
	w.address = l.Addr().String()
	w.Base = "http://" + w.address
	v := service.New(w.Store, w.Key, console.Files(), core.System{}, w.logger("service"), false)
	if w.Provider != nil {
		v.People.UseProvider(w.Provider)
	}
	if w.unbounded {
		v.Limited(nil)
	}
	w.service = v
	w.server = v.Server()
	inner := w.server.Handler
	w.server.Handler = http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.URL.Path == w.Slow {
			time.Sleep(w.SlowBy)
		}
		w.advising(inner).ServeHTTP(rw, r)
	})
	streams, end := context.WithCancel(context.Background())
	w.endStreams = end
	w.server.BaseContext = func(net.Listener) context.Context { return streams }
	go w.server.Serve(l)
}

// Unbounded has the service take as many calls of one caller as come, for whoever measures or makes
// them up.
func (w *World) Unbounded() *World {
	w.unbounded = true
	w.service.Limited(nil)
	return w
}

// StopService cuts every connection at once.
func (w *World) StopService() {
	w.endStreams()
	w.server.Close()
}

// Service is a second service on the same database, set as a test wants it.
func (w *World) Service(set ...func(*service.Service)) http.Handler {
	v := service.New(w.Store, w.Key, console.Files(), core.System{}, w.logger("second service"), false)
	for _, f := range set {
		f(v)
	}
	return v.Handler()
}

// StartBench starts the bench on its folder. Without links it reads what it had.
func (w *World) StartBench(links []bench.Port) {
	w.t.Helper()
	if links == nil {
		for name, u := range w.Units {
			links = append(links, bench.Port{Name: name, Kind: "rfc2217", Settings: map[string]string{"address": u.Address()}})
		}
	}
	b, err := bench.Open(w.Dir, links, bench.Options{Clock: core.System{}, Scale: w.pace, Log: w.logger("bench"), Disk: w.gate, SignedOnly: w.SignedOnly})
	if err != nil {
		w.t.Fatal(err)
	}
	ctx, end := context.WithCancel(context.Background())
	w.Bench, w.benchEnd, w.benchEnded = b, end, make(chan struct{})
	ended := w.benchEnded
	go func() {
		b.Work(ctx)
		b.Close()
		close(ended)
	}()
}

// StopBench ends the bench where it is; runs at work are left in the middle.
func (w *World) StopBench() {
	w.benchEnd()
	w.LetGo()
	<-w.benchEnded
}

// Journals is the folder of the bench's journals.
func (w *World) Journals() string { return filepath.Join(w.Dir, "journals") }

// Wait waits until a condition holds, by asking again, for 30 s at most.
func (w *World) Wait(what string, holds func() bool) {
	w.t.Helper()
	for end := time.Now().Add(coretest.Patience); !holds(); {
		if time.Now().After(end) {
			w.t.Fatalf("waited %s for %s", coretest.Patience, what)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// Flash identifies the unit on a link, opens a run and follows it to its end or
// pause.
func (w *World) Flash(link, release string) client.Run {
	w.t.Helper()
	r := w.Open(client.NewRun{Kind: "flash", At: "b/" + link, Release: release, Reason: "a test"})
	return w.Follow(r.ID)
}

// Consent has the lead consent to what not every unit may have.
func (w *World) Consent(serial, what string) {
	w.t.Helper()
	if _, err := w.Lead.Consent(context.Background(), serial, client.NewConsent{For: what, Reason: "agreed"}); err != nil {
		w.t.Fatal(err)
	}
}

// Refused identifies and asks for a flash that is not admitted; it gives the reason.
func (w *World) Refused(link, release string) error {
	w.t.Helper()
	return w.Refuses(client.NewRun{Kind: "flash", At: "b/" + link, Release: release, Reason: "a test"})
}

// Refuses is the same for any run.
func (w *World) Refuses(n client.NewRun) error {
	w.t.Helper()
	if _, err := w.Technician.Identify(context.Background(), n.At, n.Label); err != nil {
		w.t.Fatalf("identify %s: %v", n.At, err)
	}
	r, err := w.Technician.OpenRun(context.Background(), n)
	if err == nil {
		w.t.Fatalf("run %s was opened", r.ID)
	}
	return err
}

// Open identifies and opens a run.
func (w *World) Open(n client.NewRun) client.Run {
	w.t.Helper()
	ctx := context.Background()
	if _, err := w.Technician.Identify(ctx, n.At, n.Label); err != nil {
		w.t.Fatalf("identify %s: %v", n.At, err)
	}
	r, err := w.Technician.OpenRun(ctx, n)
	if err != nil {
		w.t.Fatalf("open: %v", err)
	}
	return r
}

// Follow follows a run until it is closed or paused.
func (w *World) Follow(id string) client.Run {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), coretest.Patience)
	defer cancel()
	err := w.Technician.FollowRun(ctx, id, 0, func(p client.Progress) bool { return p.Outcome != "interrupted" })
	if err != nil {
		w.t.Fatalf("following run %s: %v", id, err)
	}
	var r client.Run
	w.Wait("the bench to say that it has put the run down", func() bool { // its events may come before that
		if r, err = w.Technician.Run(context.Background(), id); err != nil {
			w.t.Fatal(err)
		}
		return r.State != "open"
	})
	return r
}

// Right is how many sectors of a run the service knows to be done.
func (w *World) Right(id string) int {
	r, err := w.Technician.Run(context.Background(), id)
	if err != nil {
		return 0
	}
	return r.Progress.View.Right
}

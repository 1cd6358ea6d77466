// Package service is the team's memory and rules behind an HTTP API: people,
// catalogue, units, runs, history. It keeps nothing but what is in MariaDB, so
// several can run side by side. It never speaks to a unit; benches do.
package service

import (
	"context"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"path"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service/benches"
	"zealousferry/internal/service/catalogue"
	"zealousferry/internal/service/evidence"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/gear"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/people"
	"zealousferry/internal/service/rounds"
	"zealousferry/internal/service/runs"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// Service answers the API.
type Service struct {
	*frame.Frame
	People    *people.People
	Evidence  *evidence.Evidence
	Gear      *gear.Gear
	Catalogue *catalogue.Catalogue
	Links     *links.Links
	Units     *units.Units
	Runs      *runs.Runs
	Rounds    *rounds.Rounds
	Benches   *benches.Benches
	store     *store.Store
	clock     core.Clock
	log       *slog.Logger
	console   fs.FS

	todays frame.Shared[client.Today]
}

// New makes a service. console holds the built console; key signs history heads
// and never lies in the database.
func New(s *store.Store, key trust.Key, console fs.FS, clock core.Clock, log *slog.Logger, secure bool) *Service {
	v := &Service{store: s, clock: clock, log: log, console: console}
	v.Frame = frame.New(frame.Options{Clock: clock, Log: log, Secure: secure,
		Hears: func(ctx context.Context, raw []byte) error { return v.Benches.Said(ctx, raw) },
		Good: func(ctx context.Context, all []core.Digest) (map[core.Digest]bool, error) {
			return s.StillGood(ctx, all, clock.Now())
		},
		Within: func(ctx context.Context, param func(string) string) error {
			if err := v.People.WithinBenches(ctx, param("run"), param("tray"), param("round")); err != nil {
				return err
			}
			return v.People.WithinSites(ctx, param("unit"), param("run"))
		}})
	v.People = people.New(v.Frame, s, key)
	v.Evidence = evidence.New(v.People, s, key)
	v.Gear = gear.New(v.Frame, s)
	v.Catalogue = catalogue.New(v.People, v.Gear, s, key, func(ctx context.Context, all []store.Unit) ([]client.Unit, error) { return v.Units.Shown(ctx, all) })
	v.Links = links.New(v.Frame, s, key, func(ctx context.Context, u store.Unit) (string, error) { return v.Units.Newer(ctx, u) })
	v.Units = units.New(v.Gear, v.Catalogue, v.Links, s, key)
	v.Runs = runs.New(v.Evidence, v.Units, s, key)
	v.Rounds = rounds.New(v.Runs, s, key)
	v.Benches = benches.New(v.Rounds, s, key)
	return v
}

// Handler is the whole service: /api, the console, and the pages for machines.
func (v *Service) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.RequestID, frame.UsualPace.Paced, v.Guard, v.Observe, v.Recover, frame.Compressed)
	r.Use(http.NewCrossOriginProtection().Handler)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("alive\n")) })
	r.Get("/readyz", v.ready)
	r.Method("GET", "/metrics", v.People.IdentifyCaller(v.measured(http.HandlerFunc(v.metrics))))
	r.Group(func(r chi.Router) {
		r.Use(v.Changing, frame.Tagged, v.People.IdentifyCaller)
		v.API(r)
	})
	r.Mount("/", v.consoleHandler())
	return r
}

// API puts the routes of the API on a router.
func (v *Service) API(r chi.Router) huma.API {
	config := huma.DefaultConfig("Zealous Ferry", "1")
	config.Info.Description = "Firmware service for deployed units. Errors are problems of RFC 9457 with kind, state and next."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath, config.CreateHooks = "/api/openapi", "", "", nil
	config.RejectUnknownQueryParameters = true
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer", Description: "A token of a person or a bench."},
		"session": {Type: "apiKey", In: "cookie", Name: v.People.SessionCookie()},
	}
	api := humachi.New(r, config)
	v.routes(api)
	frame.Bounded(api.OpenAPI())
	return api
}

// schemaName tells types of the same name in different packages apart: those of
// core carry their package's name.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if from := path.Base(t.PkgPath()); strings.Contains(t.PkgPath(), "/core/") {
		return strings.ToUpper(from[:1]) + from[1:] + name
	}
	return name
}

func (v *Service) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := v.store.Ping(ctx); err != nil {
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	w.Write([]byte("ready\n"))
}

// measured lets the numbers be read from this machine, and by whoever is signed in.
func (v *Service) measured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := frame.Who(r.Context())
		if ip := net.ParseIP(c.Address); (ip == nil || !ip.IsLoopback()) && c.Person.ID == "" {
			frame.WriteProblem(w, frame.PlainProblem(http.StatusUnauthorized, "nobody is signed in"))
			return
		}
		next.ServeHTTP(w, r)
	})
}

// Server wraps the handler with the timeouts that live streams allow.
func (v *Service) Server() *http.Server {
	return &http.Server{Handler: v.Handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(v.log.Handler(), slog.LevelWarn)}
}

// Describe gives the API's description without a database behind it.
func Describe() *huma.OpenAPI {
	v := New(nil, trust.Key{}, nil, core.System{}, slog.New(slog.DiscardHandler), false)
	return v.API(chi.NewRouter()).OpenAPI()
}

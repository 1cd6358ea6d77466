// Package service is the team's memory and rules behind an HTTP API: people,
// catalogue, units, runs, history. It keeps nothing but what is in MariaDB, so
// several can run side by side. It never speaks to a unit; benches do.
package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"path"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/klauspost/compress/gzhttp"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"zealousferry/core"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// Service answers the API.
type Service struct {
	store   *store.Store
	key     trust.Key
	clock   core.Clock
	log     *slog.Logger
	console fs.FS
	secure  bool // cookies only over TLS
	proxies Proxies

	hashing   chan struct{} // bounds the memory of password checks
	registry  *prometheus.Registry
	requests  *prometheus.CounterVec
	seconds   *prometheus.HistogramVec
	closed    *prometheus.CounterVec
	audited   *prometheus.CounterVec
	follower  *follower
	door      *door
	written   bell // something that streams tell was written by this process: an order, the end of a run
	reading   reading
	provider  *Provider // nil where the team has none
	orderEnds bells     // one was ended, by its id
	growing   sync.Mutex
	checked   checkedChains
	changes   atomic.Uint64 // by people, in this process
	todays    shared[client.Today]
	benches   shared[map[string]store.Bench]
	sheets    shared[sheetList]
	forgeries struct {
		mu   sync.Mutex
		told map[string]time.Time // when it was told last that a bench is not believed, by bench
	}
}

// forgedEvery is how often it is told of one and the same bench that it is not believed.
const forgedEvery = time.Minute

// New makes a service. console holds the built console; key signs history heads
// and never lies in the database.
func New(s *store.Store, key trust.Key, console fs.FS, clock core.Clock, log *slog.Logger, secure bool) *Service {
	v := &Service{store: s, key: key, clock: clock, log: log, console: console, secure: secure, hashing: make(chan struct{}, 2), registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ferry_http_requests_total", Help: "Requests by route and status."}, []string{"route", "status"}),
		seconds:  prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "ferry_http_seconds", Help: "Time to answer, by route; live streams are left out."}, []string{"route"}),
		audited:  prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ferry_audit_total", Help: "Entries of the audit log by kind."}, []string{"kind"}),
		closed:   prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ferry_runs_closed_total", Help: "Closed runs by kind and outcome."}, []string{"kind", "outcome"}),
		follower: &follower{store: s, clock: clock, tails: map[string]*tail{}, boxes: map[string]*box{}}}
	v.door = &door{clock: clock, log: log, good: func(ctx context.Context, all []core.Digest) (map[core.Digest]bool, error) {
		return s.StillGood(ctx, all, clock.Now())
	}}
	v.follower.bell = &v.written
	v.forgeries.told = map[string]time.Time{}
	v.registry.MustRegister(v.requests, v.seconds, v.closed, v.audited, newStanding(v))
	for kind := range words.Audit { // what begins with its first one has not increased
		v.audited.WithLabelValues(kind)
	}
	return v
}

func init() {
	huma.DefaultArrayNullable = false
	huma.NewErrorWithContext = func(_ huma.Context, status int, msg string, errs ...error) huma.StatusError {
		return plainProblem(status, msg, errs...)
	}
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		return plainProblem(status, msg, errs...)
	}
}

// Handler is the whole service: /api, the console, and the pages for machines.
func (v *Service) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.RequestID, v.guard, v.observe, v.recover, compressed)
	r.Use(http.NewCrossOriginProtection().Handler)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("alive\n")) })
	r.Get("/readyz", v.ready)
	r.Method("GET", "/metrics", v.identifyCaller(v.measured(promhttp.HandlerFor(v.registry, promhttp.HandlerOpts{}))))
	r.Group(func(r chi.Router) {
		r.Use(v.changing, tagged, v.identifyCaller)
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
		"session": {Type: "apiKey", In: "cookie", Name: v.sessionCookie()},
	}
	api := humachi.New(r, config)
	v.routes(api)
	bounded(api.OpenAPI())
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

// known is a method by its name, if it is one of those that there are: whoever asks makes no
// names up that are counted.
func known(method string) string {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodOptions:
		return method
	}
	return "other"
}

// guard puts on every answer what keeps browsers from guessing, from keeping what is private,
// and from coming back without encryption.
func (v *Service) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		if v.secure {
			h.Set("Strict-Transport-Security", "max-age=31536000; includeSubDomains")
		}
		next.ServeHTTP(w, r)
	})
}

// leastCompressed is from how many bytes on an answer is compressed: for a smaller one it costs more
// than it saves, and the answer to a batch of events is one.
const leastCompressed = 1200

var compressing = sync.OnceValues(func() (func(http.Handler) http.HandlerFunc, error) {
	return gzhttp.NewWrapper(gzhttp.MinSize(leastCompressed), gzhttp.EnableZstd(false), gzhttp.ContentTypes([]string{"application/json", "application/problem+json", "text/html", "text/javascript", "text/css", "image/svg+xml"}))
})

// compressed makes answers smaller for whoever says that he can read them. Live streams pass: each
// of their lines goes out when it is written.
func compressed(next http.Handler) http.Handler {
	wrap, err := compressing()
	if err != nil {
		panic(err) // its options are those above
	}
	smaller := wrap(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.Header.Get("Accept"), "text/event-stream") {
			next.ServeHTTP(w, r)
			return
		}
		smaller(w, r)
	})
}

// measured lets the numbers be read from this machine, and by whoever is signed in.
func (v *Service) measured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := who(r.Context())
		if ip := net.ParseIP(c.address); (ip == nil || !ip.IsLoopback()) && c.person.ID == "" {
			writeProblem(w, plainProblem(http.StatusUnauthorized, "nobody is signed in"))
			return
		}
		next.ServeHTTP(w, r)
	})
}

// observe logs and counts every request. Query strings are not logged.
func (v *Service) observe(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := v.clock.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		took := v.clock.Now().Sub(began)
		v.requests.WithLabelValues(known(r.Method)+" "+route, strconv.Itoa(cmp.Or(ww.Status(), http.StatusOK))).Inc()
		if ww.Header().Get("Content-Type") != eventStream {
			v.seconds.WithLabelValues(known(r.Method) + " " + route).Observe(took.Seconds())
		}
		level := slog.LevelDebug
		if ww.Status() >= 500 && r.Context().Err() == nil { // whoever has gone hears no answer
			level = slog.LevelError
		}
		v.log.Log(r.Context(), level, "request", "method", r.Method, "route", route, "status", ww.Status(), "took", took, "id", middleware.GetReqID(r.Context()))
	})
}

func (v *Service) recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if e := recover(); e != nil && e != http.ErrAbortHandler {
				v.log.Error("a request failed", "panic", e, "route", r.URL.Path, "id", middleware.GetReqID(r.Context()))
				writeProblem(w, plainProblem(http.StatusInternalServerError, ""))
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// Server wraps the handler with the timeouts that live streams allow.
func (v *Service) Server() *http.Server {
	return &http.Server{Handler: v.Handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(v.log.Handler(), slog.LevelWarn)}
}

// problem is client.Problem as an answer.
type problem struct{ client.Problem }

func (p *problem) Error() string             { return p.Detail }
func (p *problem) GetStatus() int            { return p.Status }
func (p *problem) ContentType(string) string { return "application/problem+json" }

var statusOf = map[core.Kind]int{
	core.NotAnswering: http.StatusGatewayTimeout, core.WrongUnit: http.StatusConflict, core.DoesNotFit: http.StatusConflict,
	core.CannotTell: http.StatusConflict, core.Protected: http.StatusConflict, core.RefusedByUnit: http.StatusBadGateway,
	core.VerifyDiffers: http.StatusConflict, core.BadFile: http.StatusUnprocessableEntity, core.NotUnderstood: http.StatusUnprocessableEntity, core.Interrupted: http.StatusConflict,
	core.Busy: http.StatusConflict, core.NotAllowed: http.StatusForbidden, core.NotFound: http.StatusNotFound,
	core.NoWayBack: http.StatusConflict, core.NoSpace: http.StatusInsufficientStorage,
}

// Explain makes a problem of an error.
func Explain(err error) client.Problem {
	e := core.AsError(err, core.Interrupted)
	p := client.Problem{Type: "about:blank", Title: http.StatusText(statusOf[e.Kind]), Status: statusOf[e.Kind], Detail: e.Message, Kind: e.Kind, State: e.State, ID: e.ID, Params: e.Params, Todo: e.Todo}
	if e.At != nil {
		p.Place, p.At = e.At.Unit, e.At.N
	}
	return p
}

// plainProblem is for errors that have no kind of ours; what went wrong inside
// is logged, not told.
func plainProblem(status int, msg string, errs ...error) *problem {
	p := client.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: msg, Kind: core.NotUnderstood}
	switch {
	case status == http.StatusUnauthorized || status == http.StatusForbidden:
		p.Kind = core.NotAllowed
	case status == http.StatusNotFound || status == http.StatusMethodNotAllowed:
		p.Kind = core.NotFound
	case status == http.StatusServiceUnavailable:
		p.Kind, p.Detail, p.Todo = core.NotAnswering, "the database does not answer the service", core.Todos(core.Plain("Try again in a moment; if it stays so, tell whoever looks after the service."))
		return &problem{p}
	case status >= 500:
		p.Kind, p.Detail, p.Todo = core.Interrupted, "the service could not do this", core.Todos(core.Plain("Try again; if it stays so, tell whoever looks after the service the time of this message."))
		return &problem{p}
	}
	var wrong []string
	for _, err := range errs {
		if err != nil {
			wrong = append(wrong, inWords(err))
		}
	}
	if len(wrong) > 0 {
		p.Detail = strings.Join(wrong, "; ")
	}
	return &problem{p}
}

// inWords says what is wrong with a field that was sent, by its own name.
func inWords(err error) string {
	var d *huma.ErrorDetail
	if !errors.As(err, &d) {
		return err.Error()
	}
	field := strings.TrimSuffix(d.Location, ".")
	for _, where := range []string{"body.", "query.", "path.", "header."} {
		field = strings.TrimPrefix(field, where)
	}
	switch field {
	case "", "body", "query", "path":
		return d.Message
	}
	if s, ok := d.Value.(string); ok && s == "" {
		return fmt.Sprintf("%s is empty: %s", field, d.Message)
	}
	if d.Value == nil {
		return fmt.Sprintf("%s: %s", field, d.Message)
	}
	return fmt.Sprintf("%s: %s, this is %v", field, d.Message, d.Value)
}

// fail turns any error of a handler into what is told to the caller.
func (v *Service) fail(ctx context.Context, err error) error {
	var p *problem
	if errors.As(err, &p) {
		return p
	}
	if core.KindOf(err) != "" {
		return &problem{Explain(err)}
	}
	if ctx.Err() != nil { // whoever asked has gone: nothing failed here, and nobody reads the answer
		return plainProblem(http.StatusInternalServerError, "")
	}
	if store.Away(err) {
		v.log.Error("the database does not answer", "error", err, "id", middleware.GetReqID(ctx))
		return plainProblem(http.StatusServiceUnavailable, "")
	}
	v.log.Error("a request failed", "error", err, "id", middleware.GetReqID(ctx))
	return plainProblem(http.StatusInternalServerError, "")
}

// Describe gives the API's description without a database behind it.
func Describe() *huma.OpenAPI {
	v := New(nil, trust.Key{}, nil, core.System{}, slog.New(slog.DiscardHandler), false)
	return v.API(chi.NewRouter()).OpenAPI()
}

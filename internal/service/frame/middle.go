package frame

import (
	"cmp"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"sync"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/klauspost/compress/gzhttp"
)

// known is a method by its name, if it is one of those that there are: whoever asks makes no
// names up that are counted.
func known(method string) string {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodOptions:
		return method
	}
	return "other"
}

// Guard puts on every answer what keeps browsers from guessing, from keeping what is private,
// and from coming back without encryption.
func (v *Frame) Guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		if v.Secure {
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

// Compressed makes answers smaller for whoever says that he can read them. Live streams pass: each
// of their lines goes out when it is written.
func Compressed(next http.Handler) http.Handler {
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

// Observe logs and counts every request. Query strings are not logged.
func (v *Frame) Observe(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := v.Clock.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		took := v.Clock.Now().Sub(began)
		v.Counter("ferry_http_requests_total", "route", known(r.Method)+" "+route, "status", strconv.Itoa(cmp.Or(ww.Status(), http.StatusOK))).Inc()
		if ww.Header().Get("Content-Type") != eventStream {
			v.counted.GetOrCreatePrometheusHistogram(Labelled("ferry_http_seconds", "route", known(r.Method)+" "+route)).Update(took.Seconds())
		}
		level := slog.LevelDebug
		if ww.Status() >= 500 && r.Context().Err() == nil { // whoever has gone hears no answer
			level = slog.LevelError
		}
		v.Log.Log(r.Context(), level, "request", "method", r.Method, "route", route, "status", ww.Status(), "took", took, "id", middleware.GetReqID(r.Context()))
	})
}

// Recover makes an answer of what would end the process.
func (v *Frame) Recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if e := recover(); e != nil && e != http.ErrAbortHandler {
				v.Log.Error("a request failed", "panic", e, "route", r.URL.Path, "id", middleware.GetReqID(r.Context()))
				WriteProblem(w, PlainProblem(http.StatusInternalServerError, ""))
			}
		}()
		next.ServeHTTP(w, r)
	})
}

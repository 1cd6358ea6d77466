package frame

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"strings"
	"sync"
	"time"
)

// sharedFor is how old an answer that is shared by all who ask may be, of what others do; what
// whoever asks has done himself is in it.
const sharedFor = time.Second

// Shared is an answer that many ask for at once, and that is worked out once for all of them.
type Shared[T any] struct {
	mu    sync.Mutex
	known bool
	at    time.Time
	done  uint64 // how many changes by people it has in it
	Is    T      // the last one
}

// Get gives the answer, worked out anew where it is too old or somebody has changed something
// since.
func (s *Shared[T]) Get(ctx context.Context, v *Frame, work func(context.Context) (T, error)) (T, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	done, now := v.changes.Load(), v.Clock.Now()
	if s.known && s.done == done && now.Sub(s.at) >= 0 && now.Sub(s.at) < sharedFor {
		return s.Is, nil
	}
	is, err := work(ctx)
	if err != nil {
		return is, err
	}
	s.known, s.at, s.done, s.Is = true, now, done, is
	return is, nil
}

// Forget has it worked out anew.
func (s *Shared[T]) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known = false
}

// Changing counts the changes that people make, as soon as they are made.
func (v *Frame) Changing(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(w, r)
		if r.Method != http.MethodGet && r.Method != http.MethodHead && !strings.HasPrefix(r.URL.Path, "/api/bench/") {
			v.changes.Add(1)
		}
	})
}

// Tagged gives answers in JSON a tag (RFC 9110, 8.8.3), and to whoever has the answer already
// nothing but that it is still so (15.4.5).
func Tagged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet {
			next.ServeHTTP(w, r)
			return
		}
		t := &tagging{ResponseWriter: w, status: http.StatusOK}
		next.ServeHTTP(t, r)
		t.end(r.Header.Get("If-None-Match"))
	})
}

// tagging holds an answer in JSON back until it is whole; everything else passes.
type tagging struct {
	http.ResponseWriter
	status       int
	body         bytes.Buffer
	begun, holds bool
}

func (t *tagging) begin() {
	if !t.begun {
		t.begun = true
		t.holds = t.status == http.StatusOK && strings.HasPrefix(t.Header().Get("Content-Type"), "application/json") && t.Header().Get("Content-Disposition") == ""
		if !t.holds {
			t.ResponseWriter.WriteHeader(t.status)
		}
	}
}

func (t *tagging) WriteHeader(status int) {
	if !t.begun {
		t.status = status
		t.begin()
	}
}

func (t *tagging) Write(b []byte) (int, error) {
	t.begin()
	if t.holds {
		return t.body.Write(b)
	}
	return t.ResponseWriter.Write(b)
}

// Unwrap lets a live stream reach the connection.
func (t *tagging) Unwrap() http.ResponseWriter { return t.ResponseWriter }

// Flush sends what a live stream has written.
func (t *tagging) Flush() {
	t.begin()
	if f, ok := t.ResponseWriter.(http.Flusher); ok && !t.holds {
		f.Flush()
	}
}

func (t *tagging) end(has string) {
	if !t.holds {
		return
	}
	sum := sha256.Sum256(t.body.Bytes())
	tag := `W/"` + base64.RawURLEncoding.EncodeToString(sum[:15]) + `"` // weak: what is packed differs by byte
	t.Header().Set("ETag", tag)
	if has == tag {
		t.Header().Del("Content-Type")
		t.ResponseWriter.WriteHeader(http.StatusNotModified)
		return
	}
	t.ResponseWriter.WriteHeader(t.status)
	t.ResponseWriter.Write(t.body.Bytes())
}

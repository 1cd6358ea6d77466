package testkit

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strings"

	"zealousferry/core"
)

// Advised, where a program of tests sets it, is told of each list of steps that a service
// gives to a person, before the answer goes out: nothing has happened since.
var Advised func(w *World, todo core.Todo)

// advising hands what the service answers to Advised, and lets streams pass.
func (w *World) advising(inner http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if Advised == nil || strings.Contains(r.Header.Get("Accept"), "event-stream") {
			inner.ServeHTTP(rw, r)
			return
		}
		if strings.HasPrefix(r.URL.Path, "/api/") {
			r.Header.Del("Accept-Encoding") // so that it can be read here
		}
		held := &held{ResponseWriter: rw, status: http.StatusOK}
		inner.ServeHTTP(held, r)
		if held.passing {
			return
		}
		var answer any
		if bytes.Contains(held.body.Bytes(), []byte(`"steps"`)) && json.Unmarshal(held.body.Bytes(), &answer) == nil {
			w.steps(answer)
		}
		rw.WriteHeader(held.status)
		rw.Write(held.body.Bytes())
	})
}

func (w *World) steps(in any) {
	switch x := in.(type) {
	case []any:
		for _, v := range x {
			w.steps(v)
		}
	case map[string]any:
		if raw, err := json.Marshal(x["steps"]); err == nil && x["steps"] != nil {
			var todo core.Todo
			if json.Unmarshal(raw, &todo.Steps) == nil && len(todo.Steps) > 0 {
				Advised(w, todo)
			}
		}
		for _, v := range x {
			w.steps(v)
		}
	}
}

// held is an answer that is kept until it is known to be whole; what is flushed on its way
// passes from there on.
type held struct {
	http.ResponseWriter
	status  int
	body    bytes.Buffer
	passing bool
}

func (h *held) WriteHeader(status int) {
	if h.passing {
		h.ResponseWriter.WriteHeader(status)
	}
	h.status = status
}

func (h *held) Write(p []byte) (int, error) {
	if h.passing {
		return h.ResponseWriter.Write(p)
	}
	return h.body.Write(p)
}

// FlushError is how a stream shows that it is one.
func (h *held) FlushError() error {
	if !h.passing {
		h.passing = true
		h.ResponseWriter.WriteHeader(h.status)
		if _, err := h.ResponseWriter.Write(h.body.Bytes()); err != nil {
			return err
		}
	}
	return http.NewResponseController(h.ResponseWriter).Flush()
}

func (h *held) Flush() { h.FlushError() }

package service

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"zealousferry/core"
	"zealousferry/internal/service/frame"
)

// noncePlace stands in the index page where each answer's nonce goes.
const noncePlace = "FERRY-NONCE"

// consoleHandler serves the built console: assets for ever, everything else the
// index page, so that an address of the console can be opened anew.
func (v *Service) consoleHandler() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		switch {
		case name == "api" || strings.HasPrefix(name, "api/"):
			frame.WriteProblem(w, core.Fail(core.NotFound, "there is no such call: %s %s", r.Method, r.URL.Path))
		case r.Method != http.MethodGet && r.Method != http.MethodHead:
			frame.WriteProblem(w, frame.PlainProblem(http.StatusMethodNotAllowed, "pages are only read"))
		case strings.HasPrefix(name, "assets/"):
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			http.ServeFileFS(w, r, v.console, name)
		case name != "" && exists(v.console, name):
			w.Header().Set("Cache-Control", "no-cache")
			http.ServeFileFS(w, r, v.console, name)
		default:
			v.index(w)
		}
	})
}

func exists(f fs.FS, name string) bool {
	s, err := fs.Stat(f, name)
	return err == nil && !s.IsDir()
}

func (v *Service) index(w http.ResponseWriter) {
	page, err := fs.ReadFile(v.console, "index.html")
	if err != nil {
		http.Error(w, "the console was not built into this binary: run make build", http.StatusNotFound)
		return
	}
	b := make([]byte, 16)
	rand.Read(b)
	nonce := base64.RawStdEncoding.EncodeToString(b)
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "no-cache")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'nonce-"+nonce+"'; img-src 'self' data:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	w.Write(bytes.ReplaceAll(page, []byte(noncePlace), []byte(nonce)))
}

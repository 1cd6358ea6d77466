package testkit

import (
	"bytes"
	"log/slog"
	"sync"
)

// Text is what was written so far, by whomever: it may be read meanwhile.
type Text struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (t *Text) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.b.Write(p)
}

func (t *Text) String() string { return string(t.Bytes()) }

// Bytes is a copy of it.
func (t *Text) Bytes() []byte {
	t.mu.Lock()
	defer t.mu.Unlock()
	return bytes.Clone(t.b.Bytes())
}

func (w *World) logger(of string) *slog.Logger {
	return slog.New(slog.NewTextHandler(&w.log, &slog.HandlerOptions{Level: slog.LevelWarn})).With("of", of)
}

// tellLog shows what the service and the bench had to say, where the test failed.
func (w *World) tellLog() {
	t, ok := w.t.(interface {
		Failed() bool
		Log(...any)
	})
	if !ok || !t.Failed() {
		return
	}
	t.Log("what the service and the bench had to say:\n" + w.log.String())
}

// Said is what the service and the bench had to say so far.
func (w *World) Said() string { return w.log.String() }

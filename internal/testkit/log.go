package testkit

import (
	"bytes"
	"log/slog"
	"sync"
)

// log is what the service and the bench of a World had to say: it is shown where the test
// failed.
type log struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (w *World) logger(of string) *slog.Logger {
	return slog.New(slog.NewTextHandler(&w.log, &slog.HandlerOptions{Level: slog.LevelWarn})).With("of", of)
}

// Said is what the service and the bench had to say so far.
func (w *World) Said() string {
	w.log.mu.Lock()
	defer w.log.mu.Unlock()
	return w.log.text.String()
}

func (w *World) tellLog() {
	t, ok := w.t.(interface {
		Failed() bool
		Log(...any)
	})
	if !ok || !t.Failed() {
		return
	}
	t.Log("what the service and the bench had to say:\n" + w.Said())
}

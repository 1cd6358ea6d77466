package frame

import (
	"io"
	"net/http"
	"time"
)

// Pace is how long the other side may keep still while it sends a body or takes an answer, and how
// slowly it may send.
type Pace struct {
	Still time.Duration
	Least int64 // bytes a second, of a whole body
}

// UsualPace gets a file through from a poor line, and lets nobody hold a connection by sending a
// byte now and then.
var UsualPace = Pace{20 * time.Second, 8 << 10}

// atATime is how much of an answer is written in the time in which the other side may keep still.
const atATime = 64 << 10

// Paced ends requests whose body does not come, and answers that nobody takes. It goes by the
// machine's time, as connections do.
func (p Pace) Paced(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := http.NewResponseController(w)
		if r.Body != nil && r.Body != http.NoBody {
			r.Body = &pacedBody{ReadCloser: r.Body, pace: p, on: c, began: time.Now()}
		}
		next.ServeHTTP(&pacedAnswer{w, p, c}, r)
		c.SetWriteDeadline(time.Now().Add(p.Still)) // for what is written behind the handler
	})
}

// pacedBody is read as fast as it has to come.
type pacedBody struct {
	io.ReadCloser
	pace  Pace
	on    *http.ResponseController
	began time.Time
	size  int64
}

func (b *pacedBody) Read(p []byte) (int, error) {
	now := time.Now()
	until := now.Add(b.pace.Still)
	if slowest := b.began.Add(b.pace.Still + time.Duration(b.size)*time.Second/time.Duration(b.pace.Least)); slowest.Before(until) {
		until = slowest
	}
	b.on.SetReadDeadline(until)
	n, err := b.ReadCloser.Read(p)
	b.size += int64(n)
	if err == io.EOF {
		b.on.SetReadDeadline(time.Time{}) // whoever waits for the answer may be still
	}
	return n, err
}

// pacedAnswer is written as fast as it has to be taken.
type pacedAnswer struct {
	http.ResponseWriter
	pace Pace
	on   *http.ResponseController
}

func (a *pacedAnswer) Unwrap() http.ResponseWriter { return a.ResponseWriter }

func (a *pacedAnswer) WriteHeader(status int) {
	a.on.SetWriteDeadline(time.Now().Add(a.pace.Still))
	a.ResponseWriter.WriteHeader(status)
}

func (a *pacedAnswer) Write(b []byte) (all int, err error) {
	for first := true; first || len(b) > 0 && err == nil; first = false {
		some := b[:min(len(b), atATime)]
		a.on.SetWriteDeadline(time.Now().Add(a.pace.Still))
		var n int
		n, err = a.ResponseWriter.Write(some)
		all, b = all+n, b[n:]
	}
	return all, err
}

// Flush sends what a live stream has written.
func (a *pacedAnswer) Flush() {
	a.on.SetWriteDeadline(time.Now().Add(a.pace.Still))
	a.on.Flush()
}

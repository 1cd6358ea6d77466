package frame

import (
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

// TestAnswersAreCompressed: large ones for whoever can read them; small ones, files and live streams
// go as they are, and a stream's lines go out one by one.
func TestAnswersAreCompressed(t *testing.T) {
	long := strings.Repeat("a long answer ", 500)
	next := make(chan struct{})
	s := httptest.NewServer(Compressed(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", r.URL.Query().Get("type"))
		switch r.URL.Path {
		case "/short":
			io.WriteString(w, "{}")
		case "/long":
			io.WriteString(w, long)
		case "/stream":
			io.WriteString(w, "data: one\n\n")
			http.NewResponseController(w).Flush()
			<-next
		}
	})))
	defer s.Close()
	for _, x := range []struct {
		path, kind, reads string
		packed            bool
	}{
		{"/long", "application/json", "gzip", true},
		{"/long", "application/problem+json", "gzip", true},
		{"/long", "text/html; charset=utf-8", "gzip, deflate, br, zstd", true},
		{"/long", "application/json", "", false},
		{"/long", "application/pdf", "gzip", false},
		{"/short", "application/json", "gzip", false},
	} {
		r, _ := http.NewRequest("GET", s.URL+x.path+"?type="+strings.ReplaceAll(strings.ReplaceAll(x.kind, "+", "%2B"), "; ", "%3B%20"), nil)
		if x.reads != "" {
			r.Header.Set("Accept-Encoding", x.reads)
		}
		got, err := (&http.Transport{DisableCompression: true}).RoundTrip(r)
		if err != nil {
			t.Fatal(err)
		}
		var body io.Reader = got.Body
		if packed := got.Header.Get("Content-Encoding") == "gzip"; packed != x.packed {
			t.Errorf("%+v: %v", x, got.Header)
		} else if packed {
			if body, err = gzip.NewReader(body); err != nil {
				t.Fatal(err)
			}
		}
		want := map[string]string{"/long": long, "/short": "{}"}[x.path]
		if raw, err := io.ReadAll(body); err != nil || string(raw) != want {
			t.Errorf("%+v: %d bytes, %v", x, len(raw), err)
		}
		got.Body.Close()
	}
	r, _ := http.NewRequest("GET", s.URL+"/stream?type=text/event-stream", nil)
	r.Header.Set("Accept", "text/event-stream")
	got, err := http.DefaultClient.Do(r) // it says that it reads gzip
	if err != nil {
		t.Fatal(err)
	}
	defer got.Body.Close()
	line := make([]byte, 11)
	if _, err := io.ReadFull(got.Body, line); err != nil || string(line) != "data: one\n\n" {
		t.Errorf("%q %v", line, err)
	}
	close(next)
}

package client

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"zealousferry/core"
)

// TestAnAnswerThatCameCounts: a connection that breaks behind an answer takes nothing of it away:
// whoever has begun a run must not hear that nobody knows.
func TestAnAnswerThatCameCounts(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		json.NewEncoder(w).Encode(Person{Name: "Brine"})
		http.NewResponseController(w).Flush()
		panic(http.ErrAbortHandler) // before the end of the answer
	}))
	defer s.Close()
	c := New(s.URL, "t", core.System{})
	defer c.Close()
	for range 20 {
		if p, err := c.WhoAmI(context.Background()); err != nil || p.Name != "Brine" {
			t.Fatalf("%+v %v", p, err)
		}
	}
}

// TestAConnectionIsKept: calls that follow one another go over one connection, however their answers
// are cut: over TLS a new one costs several round trips.
func TestAConnectionIsKept(t *testing.T) {
	for name, answer := range map[string]func(http.ResponseWriter){
		"of known length": func(w http.ResponseWriter) { json.NewEncoder(w).Encode(Person{Name: "Brine"}) },
		"in chunks": func(w http.ResponseWriter) {
			json.NewEncoder(w).Encode(Person{Name: "Brine"})
			http.NewResponseController(w).Flush()
		},
		"compressed": func(w http.ResponseWriter) {
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			json.NewEncoder(z).Encode(Person{Name: strings.Repeat("Brine", 5000)})
			z.Close()
		},
	} {
		var opened atomic.Int32
		s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { answer(w) }))
		s.Config.ConnState = func(_ net.Conn, state http.ConnState) {
			if state == http.StateNew {
				opened.Add(1)
			}
		}
		s.Start()
		c := New(s.URL, "t", core.System{})
		for range 20 {
			if _, err := c.WhoAmI(context.Background()); err != nil {
				t.Fatal(name, err)
			}
		}
		if n := opened.Load(); n != 1 {
			t.Errorf("%s: %d connections for 20 calls", name, n)
		}
		for range 20 { // as a bench with sixteen links
			var all sync.WaitGroup
			for range 16 {
				all.Go(func() {
					if _, err := c.WhoAmI(context.Background()); err != nil {
						t.Error(name, err)
					}
				})
			}
			all.Wait()
		}
		c.Close()
		s.Close()
		if n := opened.Load(); n > 2*16 {
			t.Errorf("%s: %d connections for sixteen calls at a time", name, n)
		}
	}
}

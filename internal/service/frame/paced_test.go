package frame

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"
)

// TestABodyThatDoesNotCome: whoever begins a body and keeps still, and whoever sends it a byte at
// a time, is not waited for; whoever sends it slowly, but as fast as it has to come, gets through,
// and may then wait for the answer longer than he may keep still.
func TestABodyThatDoesNotCome(t *testing.T) {
	t.Parallel()
	const still = 200 * time.Millisecond
	ended, answers := make(chan error, 1), make(chan struct{})
	server := httptest.NewServer(Pace{still, 1000}.Paced(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, err := io.Copy(io.Discard, r.Body)
		ended <- err
		if err == nil {
			select {
			case <-answers:
			case <-r.Context().Done():
				return
			}
			io.WriteString(w, "got it")
		}
	})))
	defer server.Close()
	begin := func(length int) net.Conn {
		t.Helper()
		c, err := net.Dial("tcp", server.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		fmt.Fprintf(c, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\n\r\n", length)
		return c
	}
	begin(10)
	if err := <-ended; !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("keeps still: %v", err)
	}
	c, stop := begin(1<<20), make(chan struct{})
	go func() {
		for { // a byte each time that a quarter of the time is over in which one may keep still
			select {
			case <-stop:
				return
			case <-time.After(still / 4):
				c.Write([]byte("x"))
			}
		}
	}()
	if err := <-ended; !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("a byte at a time: %v", err)
	}
	close(stop)
	c = begin(1000)
	for range 10 {
		<-time.After(still / 4)
		c.Write(make([]byte, 100))
	}
	if err := <-ended; err != nil {
		t.Fatalf("slow, and fast enough: %v", err)
	}
	<-time.After(2 * still) // the work takes longer than one may keep still
	close(answers)
	resp, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil {
		t.Fatal(err)
	}
	if b, _ := io.ReadAll(resp.Body); string(b) != "got it" {
		t.Errorf("the answer: %q", b)
	}
}

// TestAnAnswerThatNobodyTakes: whoever asks for much and reads nothing is not waited for; a
// connection that rested between two calls is as good as before.
func TestAnAnswerThatNobodyTakes(t *testing.T) {
	t.Parallel()
	const still = 100 * time.Millisecond
	ended := make(chan error, 1)
	server := httptest.NewServer(Pace{still, 1000}.Paced(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/small" {
			return // nothing is written by the handler itself
		}
		_, err := io.WriteString(w, strings.Repeat("much", 16<<20))
		ended <- err
	})))
	defer server.Close()
	c, err := net.Dial("tcp", server.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	read := bufio.NewReader(c)
	for range 2 {
		fmt.Fprint(c, "GET /small HTTP/1.1\r\nHost: x\r\n\r\n")
		if resp, err := http.ReadResponse(read, nil); err != nil || resp.StatusCode != http.StatusOK {
			t.Fatalf("%v", err)
		}
		<-time.After(2 * still)
	}
	fmt.Fprint(c, "GET /much HTTP/1.1\r\nHost: x\r\n\r\n")
	if err := <-ended; !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("%v", err)
	}
}

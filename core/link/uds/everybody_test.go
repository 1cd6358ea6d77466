package uds_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/uds"
)

// said is a conversation that hands on what is sent.
type said chan string

func (s said) Send(_ context.Context, m []byte) error { s <- fmt.Sprintf("%X", m); return nil }
func (s said) Receive(context.Context, time.Time) ([]byte, error) {
	return nil, fmt.Errorf("nobody answers")
}
func (s said) Close() error { close(s); return nil }

// TestEverybodyIsKeptInItsSession: what is said to all suppresses the response; "tester
// present" follows every two seconds until they are back in their default session.
func TestEverybodyIsKeptInItsSession(t *testing.T) {
	clock := coretest.NewClock(time.Date(2026, 11, 28, 8, 0, 0, 0, time.UTC))
	s := make(said, 16)
	all := uds.ToAll(s, link.Pace{Clock: clock})
	heard := func(want string) {
		t.Helper()
		select {
		case got := <-s:
			if got != want {
				t.Errorf("sent %s, want %s", got, want)
			}
		case <-time.After(coretest.Patience):
			t.Fatalf("%s was not sent", want)
		}
	}
	say := func(want string, service, form byte, rest ...byte) {
		t.Helper()
		if err := all.Say(ctx, service, form, rest...); err != nil {
			t.Fatal(err)
		}
		heard(want)
	}
	say("1083", uds.SessionControl, uds.ExtendedSession)
	say("8582", uds.CodeSetting, 0x02)
	say("288301", uds.Communication, 0x03, 0x01)
	for range 3 {
		clock.Awaited()
		clock.Move(2 * time.Second)
		heard("3E80")
	}
	say("1081", uds.SessionControl, uds.DefaultSession)
	clock.Move(time.Minute)
	if err := all.Close(); err != nil {
		t.Fatal(err)
	}
	if m, ok := <-s; ok {
		t.Errorf("after they were taken back: %s", m)
	}
}

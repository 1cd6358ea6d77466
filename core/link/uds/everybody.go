package uds

import (
	"context"
	"sync"
	"time"

	"zealousferry/core/link"
)

// Everybody speaks to all modules at once (functional addressing). Nothing is answered: a
// positive response is suppressed, and a module to which it does not apply is silent.
type Everybody struct {
	c       link.Conversation
	pace    link.Pace
	mu      sync.Mutex
	present upkeep
}

// ToAll begins to speak to everybody over a conversation with their common address, which
// it owns.
func ToAll(c link.Conversation, pace link.Pace) *Everybody {
	return &Everybody{c: c, pace: pace}
}

// Say sends a request of a service that has a sub-function, whose response is suppressed.
// Once they were taken into a session other than the default one, "tester present" keeps
// all of them there until they are taken back, or Close.
func (e *Everybody) Say(ctx context.Context, service, form byte, rest ...byte) error {
	if err := e.send(ctx, append([]byte{service, form | suppressResponse}, rest...)); err != nil {
		return err
	}
	if service != SessionControl {
		return nil
	}
	e.present.end()
	if form != DefaultSession {
		e.present.begin(e.pace, s3Half, func() {
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			defer cancel()
			e.send(ctx, []byte{TesterPresent, suppressResponse})
		})
	}
	return nil
}

func (e *Everybody) send(ctx context.Context, m []byte) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.c.Send(ctx, m)
}

// Close ends it. Modules that are in another session fall back by themselves.
func (e *Everybody) Close() error {
	e.present.end()
	return e.c.Close()
}

package service

import (
	"context"
	"time"

	"zealousferry/internal/store"
)

// How often is swept, how many rows at a time, and how long is rested where there are more.
const (
	sweepEvery = 10 * time.Minute
	sweepRests = time.Second
	sweepMost  = 500
)

// KeepSwept takes away what is over and nobody asks for, until the context ends. Of several
// services one does it at a time.
func (v *Service) KeepSwept(ctx context.Context) {
	me := store.NewID()
	for {
		rest := sweepEvery
		has, err := v.store.Lease(ctx, "sweep", me, 2*sweepEvery)
		if err == nil && has {
			var swept map[string]int64
			var more bool
			swept, more, err = v.store.Sweep(ctx, v.clock.Now(), sweepMost)
			if len(swept) > 0 {
				v.log.Info("swept what is over", "rows", swept)
			}
			if more {
				rest = sweepRests
			}
		}
		if err != nil && ctx.Err() == nil {
			v.log.Error("what is over could not be swept", "error", err)
		}
		select {
		case <-v.clock.After(rest):
		case <-ctx.Done():
			return
		}
	}
}

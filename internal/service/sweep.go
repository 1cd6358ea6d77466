package service

import (
	"context"
	"maps"
	"time"

	"zealousferry/internal/store"
)

// How often is swept, how many rows at a time, and how long is rested where there are more.
const (
	sweepEvery = 10 * time.Minute
	sweepRests = time.Second
	sweepMost  = 500
)

// sweep takes away some of what is over, and of what is older than the team keeps it.
func (v *Service) sweep(ctx context.Context) (map[string]int64, bool, error) {
	swept, more, err := v.store.Sweep(ctx, v.clock.Now(), sweepMost)
	if err != nil {
		return swept, more, err
	}
	also, rest, err := v.Evidence.Sweep(ctx, sweepMost)
	maps.Copy(swept, also)
	return swept, more || rest, err
}

// KeepSwept takes away what is over and nobody asks for, until the context ends. Of several
// services one does it at a time.
func (v *Service) KeepSwept(ctx context.Context) {
	me := store.NewID()
	defer v.GiveBack(v.store, "sweep", me)
	for {
		rest := sweepEvery
		has, err := v.store.Lease(ctx, "sweep", me, 2*sweepEvery)
		if err == nil && has {
			var swept map[string]int64
			var more bool
			swept, more, err = v.sweep(ctx)
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

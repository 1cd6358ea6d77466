package frame

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"zealousferry/core"
)

// TestTheDoorAsksOnceForAll: two hundred streams of twenty people cost one question each three
// seconds; whose session is gone is put out within that time, and nobody else.
func TestTheDoorAsksOnceForAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		asked, gone := 0, core.DigestOf([]byte{7})
		var silent error
		ended := false
		d := &door{clock: core.System{}, log: slog.New(slog.DiscardHandler), good: func(_ context.Context, all []core.Digest) (map[core.Digest]bool, error) {
			asked++
			good := map[core.Digest]bool{}
			for _, x := range all {
				good[x] = !ended || x != gone
			}
			return good, silent
		}}
		out := map[core.Digest]int{}
		var leave []func()
		for i := range 200 {
			secret := core.DigestOf([]byte{byte(i % 20)})
			var l func()
			l = d.in(secret, func() { out[secret]++; l() })
			leave = append(leave, l)
		}
		time.Sleep(10 * streamCheck)
		synctest.Wait()
		if asked != 10 || len(out) != 0 {
			t.Errorf("asked %d times in ten turns, %d people were put out", asked, len(out))
		}
		ended, silent = true, errors.New("no database")
		time.Sleep(streamCheck)
		synctest.Wait()
		if len(out) != 0 {
			t.Errorf("%d people were put out because the database was silent", len(out))
		}
		silent = nil
		time.Sleep(streamCheck)
		synctest.Wait()
		if len(out) != 1 || out[gone] != 10 {
			t.Errorf("put out: %v", out)
		}
		for _, l := range leave {
			l()
		}
		asked = 0
		time.Sleep(10 * streamCheck)
		synctest.Wait()
		if asked != 0 || d.looking {
			t.Errorf("asked %d times for nobody", asked)
		}
	})
}

package visit

import (
	"context"
	"errors"
	"os"
	"slices"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/registry"
)

// Strangers listens on a bus for requests to modules of this assembly that this end has not
// made: whoever makes them is another tester. heard ends it and gives how many there were. On
// a link that is no bus it is nil; there the gateway knows.
func Strangers(l link.Link, of *model.Sheet, sheets map[string]*model.Sheet, clock core.Clock) (heard func() int) {
	bus, ok := l.(link.Frames)
	if !ok {
		return nil
	}
	ids := map[bool][]uint32{}
	in := []*model.Sheet{of} // another vehicle's module may be asked where one of this one answers
	for _, slot := range of.Holds {
		in = append(in, mayBe(slot, sheets)...)
	}
	for _, s := range in {
		kind, err := registry.Loader(s.Main().Loader.Kind)
		if err != nil {
			continue
		}
		if k, ok := kind.(interface {
			Requests(loader.Own) (long bool, ids []uint32)
		}); ok {
			long, all := k.Requests(s.Main().Loader.Own)
			ids[long] = append(ids[long], all...)
		}
	}
	var ears []link.Ear
	for long, all := range ids {
		slices.Sort(all)
		if all = slices.Compact(all); len(all) > 0 {
			ears = append(ears, bus.Hear(long, all...))
		}
	}
	return func() (n int) {
		for _, e := range ears {
			for {
				if _, err := e.Next(context.Background(), clock.Now()); err != nil {
					if !errors.Is(err, os.ErrDeadlineExceeded) {
						n = 0 // the bus is gone: nothing is known
					}
					break
				}
				n++
			}
			e.Close()
		}
		return n
	}
}

package runs

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// How often the follower looks into the database for all live streams, and how often a
// stream says that it is alive when there is nothing new. Several services follow one
// database, so what another one has done is found by looking; the bell only makes it
// sooner.
const (
	lookEvery  = 150 * time.Millisecond
	AliveEvery = 5 * time.Second
)

type followIn struct {
	Run   string `path:"run"`
	After uint64 `query:"after" doc:"Number of the last event that the reader has."`
	Last  uint64 `header:"Last-Event-ID"`
}

// followRun sends all events after the number given, and then each as it comes;
// the stream ends with the run.
func (v *Runs) followRun(ctx context.Context, in *followIn) (frame.Follow, error) {
	r, err := v.store.Run(ctx, in.Run)
	if err != nil {
		return nil, err
	}
	after := max(in.After, in.Last)
	return func(ctx context.Context, s *frame.Sender) error {
		t, leave := v.Follower.watch(r.ID)
		defer leave()
		if err := s.Alive(); err != nil {
			return err
		}
		var state run.State
		taken, seen, shown := 0, uint64(0), ""
		for {
			events, row, news, err := v.Follower.after(t, taken)
			if err != nil {
				return err
			}
			for _, e := range events {
				if err := state.Apply(e); err != nil {
					return err
				}
				seen = e.N
			}
			taken += len(events)
			ended := row.State == store.RunClosed && state.Closed == nil && row.Last <= seen // given up by a lead: no event will come
			if row.ID != "" && (len(events) > 0 || shown != row.State || ended) {
				fresh := []client.Told{}
				for _, e := range events {
					if e.N > after {
						fresh = append(fresh, told(&state, e))
					}
				}
				m := progress(&state, fresh, seen)
				switch {
				case row.State == store.RunPaused || ended:
					m.View, m.Outcome = state.Stands(row.State == store.RunPaused, ended), row.Outcome
				case row.State == store.RunOpen && m.Outcome == string(run.Interrupted):
					m.Outcome = "" // its bench has not let go of the link yet, and says so when it has
				}
				shown = row.State
				if err := s.Send(fmt.Sprint(seen), "progress", m); err != nil || ended || state.Closed != nil {
					return err
				}
			}
			select {
			case <-ctx.Done():
				return nil
			case <-news:
			case <-v.clock.After(AliveEvery):
				if err := s.Alive(); err != nil {
					return err
				}
			}
		}
	}, nil
}

// told is an event with its words, and with the part that it is about where there are
// several.
func told(s *run.State, e run.Event) client.Told {
	x := s.Section(e.Section)
	t := client.Told{Event: briefly(e), Said: run.Tell(e, x)}
	if t.Text != "" && e.Section != "" && x != nil && len(s.Sections) > 1 {
		t.Said = t.About(x.Title.Or(x.Name))
	}
	return t
}

// briefly drops from an event what only machines need, and what is asked for by itself.
func briefly(e run.Event) run.Event {
	switch e.Kind {
	case run.KindPlanned, run.KindBackedUp, run.KindCovered, run.KindClosed, run.KindOpened, run.KindSurveyed, run.KindTraced:
		var all map[string]json.RawMessage
		if json.Unmarshal(e.Body, &all) != nil {
			return e
		}
		for _, k := range []string{"sectors", "now", "record", "signature", "noted", "right", "text"} {
			delete(all, k)
		}
		if raw, err := json.Marshal(all); err == nil {
			e.Body = raw
		}
	}
	return e
}

func progress(s *run.State, events []client.Told, last uint64) client.Progress {
	if events == nil {
		events = []client.Told{}
	}
	out := client.Progress{Last: last, Events: events, View: s.View(), States: s.Strip(), Fault: s.Fault, Outcome: string(s.Outcome())}
	if s.Closed == nil && s.Opened != nil {
		stopped, given := s.IfStopped(), s.IfGivenUp()
		out.IfStopped, out.IfGivenUp = &stopped, &given
	}
	return out
}

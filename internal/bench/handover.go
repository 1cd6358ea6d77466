package bench

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/internal/client"
)

// handed is a line of the file handed: a closed run whose events the service has
// all. Its journal stays as evidence and is not read again.
type handed struct {
	Run      string      `json:"run"`
	Record   core.Digest `json:"record"`
	Previous core.Digest `json:"previous"`
}

// handed names a closed run's record and the one before it.
func (j *job) handed() (handed, bool) {
	s := j.journal.State()
	if s.Closed == nil && j.moved {
		return handed{Run: j.name}, true
	}
	if s.Closed == nil {
		return handed{}, false
	}
	r, err := history.DecodeRecord(s.Closed.Record)
	if err != nil {
		return handed{}, false
	}
	return handed{j.name, core.DigestOf(s.Closed.Record), r.Previous}, true
}

func (b *Bench) nudge() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// sideBySide is of how many runs events are handed over at the same time.
const sideBySide = 4

// longestPause is after how long the service is asked again that wants to hear no more for a while: a lead
// may have settled meanwhile that it does.
const longestPause = time.Minute

// gathers is how long events upon which nobody acts at once wait for more of them.
const gathers = 200 * time.Millisecond

// handOver sends events to the service as they come, and what is left from
// before; while the service is away it tries again and again. No run waits for another one, but
// for its turn: a tray of sixteen closes in one moment.
func (b *Bench) handOver(ctx context.Context) {
	type ended struct {
		j   *job
		err error
	}
	var all sync.WaitGroup
	defer all.Wait()
	turns, ends := make(chan struct{}, sideBySide), make(chan ended)
	due, at := map[*job]bool{}, map[*job]bool{} // those that may have news, and those that are at it
	pause, again := time.Duration(0), (<-chan time.Time)(nil)
	var gathered <-chan time.Time
	ripe := map[*job]bool{} // those whose events have waited
	look := func() {
		b.mu.Lock()
		for _, j := range b.jobs {
			due[j] = true
		}
		b.mu.Unlock()
	}
	look()
	for {
		for j := range due {
			if at[j] || again != nil {
				continue
			}
			some, mayWait := j.news()
			if some && mayWait && !ripe[j] {
				if gathered == nil {
					gathered = b.Clock.After(gathers)
				}
				continue
			}
			delete(due, j)
			delete(ripe, j)
			if !some && !j.over() {
				continue
			}
			at[j] = true
			all.Go(func() {
				err := error(nil)
				select {
				case turns <- struct{}{}:
					call, cancel := context.WithTimeout(ctx, 20*time.Second)
					err = j.handOverSome(call)
					cancel()
					<-turns
				case <-ctx.Done():
				}
				select {
				case ends <- ended{j, err}:
				case <-ctx.Done():
				}
			})
		}
		select {
		case <-ctx.Done():
			return
		case <-b.wake:
			look()
		case <-gathered:
			gathered = nil
			for j := range due {
				ripe[j] = true
			}
		case <-again:
			again = nil
			look()
		case e := <-ends:
			delete(at, e.j)
			var later *client.Later
			switch {
			case errors.As(e.err, &later): // it has heard enough of this bench for now: what is not told stays in the journal
				if again == nil {
					again = b.Clock.After(min(later.After, longestPause))
				}
				b.Log.Warn("the service takes no more events of this bench for now; they stay in its journal until it does", "run", e.j.id, "why", e.err)
			case core.KindOf(e.err) == core.NotAnswering:
				if again == nil { // whoever is at it as well says the same
					pause = min(max(2*pause, 250*time.Millisecond), 5*time.Second)
					again = b.Clock.After(pause)
				}
			case e.err != nil && ctx.Err() == nil:
				b.Log.Error("the service does not take a run's events", "run", e.j.id, "error", e.err)
			case e.err == nil:
				if pause = 0; e.j.over() {
					b.forget(e.j)
					delete(ripe, e.j)
					delete(due, e.j) // it was nudged meanwhile, and has no more to tell
				}
			}
		}
	}
}

// epochOf is the epoch under which this bench hands over.
func (j *job) epochOf() uint64 {
	j.mu.Lock()
	defer j.mu.Unlock()
	if n := len(j.events); n > 0 {
		return max(j.epoch, j.events[n-1].Epoch)
	}
	return j.epoch
}

// news tells whether the service has not heard all of this run, and whether that may wait for more.
func (j *job) news() (some, mayWait bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.stands() != j.told || !j.asked {
		return true, false
	}
	some, mayWait = uint64(len(j.events)) > j.sent, j.working // of a run that nobody works on no more comes
	for _, e := range j.events[min(j.sent, uint64(len(j.events))):] {
		if e.Hurries(e.At > j.wrote) {
			return true, false
		}
	}
	return some, mayWait
}

// handOver sends what the service does not have of this run yet.
func (j *job) handOver(ctx context.Context) error {
	return j.sendUntil(ctx, func() bool { return false })
}

// handOverSome sends it as well, but what came meanwhile and may wait.
func (j *job) handOverSome(ctx context.Context) error {
	return j.sendUntil(ctx, func() bool {
		_, mayWait := j.news()
		return mayWait
	})
}

// sendUntil sends batches until the service has all or somebody says that it is enough.
// One call at a time: how a run stands must not be told after what came later.
func (j *job) sendUntil(ctx context.Context, enough func() bool) error {
	j.handing.Lock()
	defer j.handing.Unlock()
	for n := 0; n == 0 || !enough(); n++ {
		j.mu.Lock() // how it stands belongs to the events: one that goes on meanwhile is not told as put down
		standing := j.stands()
		events, sent, told, asked, begins := j.events, j.sent, j.told, j.asked, max(j.begins, 1)
		j.mu.Unlock()
		if uint64(len(events)) <= sent && standing == told && asked {
			return nil
		}
		batch := client.Batch{Run: j.id, Epoch: max(j.epochOf(), 1), First: sent + 1, Outcome: string(standing)}
		if asked {
			for bytes := 0; sent < uint64(len(events)) && bytes < 512<<10 && len(batch.Events) < 500; sent++ {
				raw, err := json.Marshal(events[sent])
				if err != nil {
					return err
				}
				batch.Events = append(batch.Events, raw)
				bytes += len(raw)
				if text := j.textOf(events[sent]); text != nil {
					batch.Texts = append(batch.Texts, text)
					bytes += len(text)
				}
			}
		}
		if len(batch.Events) > 0 {
			p := history.Post{Bench: j.bench.id.Bench, Run: j.id, Epoch: batch.Epoch, Last: sent, Outcome: batch.Outcome}
			var err error
			if p.Chain, err = j.chainTo(events, begins, batch.First, batch.Events); err != nil {
				return err
			}
			batch.Chain, batch.Signature = p.Chain, p.Sign(j.bench.key)
		}
		have, err := j.bench.client.PutEvents(ctx, batch)
		if err != nil {
			return err
		}
		j.mu.Lock()
		noted := len(j.events) // by now: the run may have gone on, and handed over itself
		if have.Have <= uint64(noted) || have.Moved {
			j.sent, j.told, j.asked, j.moved, j.begins = have.Have, standing, true, have.Moved, have.First
		}
		j.mu.Unlock()
		if have.Have > uint64(noted) && !have.Moved {
			return core.Fail(core.BadFile, "the service has %d events of run %s, its journal holds %d", have.Have, j.id, noted)
		}
		if have.Head != nil {
			j.bench.keepHead(ctx, *have.Head)
		}
	}
	return nil
}

// textOf is what an event names by its digest, and was kept apart from it; nil of others, and where it
// is gone.
func (j *job) textOf(e run.Event) []byte {
	var t run.Traced
	if e.Kind != run.KindTraced || json.Unmarshal(e.Body, &t) != nil || t.Digest == nil {
		return nil
	}
	text, err := j.Held(*t.Digest)
	if err != nil {
		j.bench.Log.Error("what was said on a line is not on this bench's disk any more", "run", j.id, "error", err)
		return nil
	}
	return text
}

// chainTo is the digest of the epoch's events up to the last of a batch that begins with
// number first.
func (j *job) chainTo(events []run.Event, begins, first uint64, batch [][]byte) (core.Digest, error) {
	j.mu.Lock()
	was := j.chained
	j.mu.Unlock()
	if was.begins != begins || was.last >= first { // another epoch, or the service has fewer than it had said
		was.begins, was.last, was.chain = begins, begins-1, core.Digest{}
	}
	for n := was.last + 1; n < first; n++ {
		raw, err := json.Marshal(events[n-1])
		if err != nil {
			return core.Digest{}, err
		}
		was.chain, was.last = history.ChainOn(was.chain, raw), n
	}
	was.chain, was.last = history.ChainOn(was.chain, batch...), first+uint64(len(batch))-1
	j.mu.Lock()
	j.chained = was
	j.mu.Unlock()
	return was.chain, nil
}

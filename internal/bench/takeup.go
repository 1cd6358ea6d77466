package bench

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/core/shelf"
	"zealousferry/core/words"
	"zealousferry/internal/client"
)

// resume takes a paused run up again.
func (b *Bench) resume(ctx context.Context, o client.Order) error {
	j, err := b.job(o.Run)
	if err == nil && o.Epoch > j.epochOf() || core.KindOf(err) == core.NotFound { // it was elsewhere meanwhile
		j, err = b.takeOver(ctx, o)
	}
	if err != nil {
		return err
	}
	if err := j.claim(); err != nil {
		return err
	}
	t := run.TakenUp{Epoch: o.Epoch, By: o.By, Label: o.Label, Why: "taken up by order", Links: o.Links, Slower: o.Slower}
	was := j.journal.State().Opened
	if link := b.Name() + "/" + o.Link; was.Link != link || was.Bench != b.id.Bench {
		t.Bench, t.Link = b.id.Bench, link
	}
	names := []string{b.Name() + "/" + o.Link}
	for _, x := range j.journal.State().Sections {
		if at := cmp.Or(o.Links[x.Name], x.Own, x.Link); at != "" && !slices.Contains(names, at) {
			names = append(names, at)
		}
	}
	ports, err := b.holdAll(names, "run "+o.Run+" works on it")
	if err != nil {
		j.giveUp()
		return err
	}
	r, err := run.TakeUp(j.journal, t, j, b.pace())
	if err != nil {
		letGo(ports)
		j.giveUp()
		return err
	}
	j.mu.Lock()
	j.ports = ports
	j.mu.Unlock()
	j.work(ctx, r)
	return nil
}

// takeOver fetches a run that another bench has begun: its journal, and the pieces
// of its backup, so that nothing has to be asked for once memory is changed.
func (b *Bench) takeOver(ctx context.Context, o client.Order) (*job, error) {
	call, cancel := context.WithTimeout(ctx, orderLasts)
	defer cancel()
	var events [][]byte
	for {
		m, err := b.client.MovedRun(call, o.Run, uint64(len(events)))
		if err != nil {
			return nil, err
		}
		events = append(events, m.Events...)
		if len(m.Events) < client.MovedAtOnce {
			break
		}
	}
	name := fmt.Sprintf("%s.%d", o.Run, o.Epoch)
	f, err := b.Disk.Open(name)
	if err != nil {
		return nil, core.Fail(core.NoSpace, "the run's journal cannot be made: %w", err)
	}
	if size, err := f.Size(); err == nil && size > 0 { // an earlier try, which changed nothing
		if err := f.Truncate(0); err != nil {
			return nil, err
		}
	}
	journal, err := run.Rebuild(f, events)
	if err != nil {
		f.Close()
		return nil, err
	}
	if err := b.fetch(call, journal.State()); err != nil {
		f.Close()
		return nil, err
	}
	j := &job{bench: b, id: o.Run, name: name, journal: journal, epoch: o.Epoch}
	j.changed()
	b.mu.Lock()
	if old := b.jobs[o.Run]; old != nil {
		b.jobs[old.name+".old"] = old
	}
	b.jobs[o.Run] = j
	b.mu.Unlock()
	return j, nil
}

// orderLasts is how long the bench takes at most to fetch a run.
const orderLasts = 25 * time.Second

// fetch gets the pieces of a run's backups that this bench lacks: what names them level by
// level, then all of them.
func (b *Bench) fetch(ctx context.Context, s *run.State) error {
	here := shelf.Each(func(d core.Digest) ([]byte, error) {
		raw, ok, err := b.pack.get(d)
		if err == nil && !ok {
			err = core.Fail(core.NotFound, "this bench does not hold %s", d.Short())
		}
		return raw, err
	})
	for _, x := range s.Sections {
		if x.Stored == nil { // it is read anew here
			continue
		}
		for _, named := range []func(shelf.Get, core.Digest, bool) ([]core.Digest, error){run.ListsOf, run.PiecesOf} {
			for {
				names, err := named(here, x.BackedUp.Manifest, x.Files)
				if err != nil {
					return err
				}
				lacks := b.lacking(names)
				if len(lacks) == 0 {
					break
				}
				if err := b.fetchPieces(ctx, lacks); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// lacking are those of some pieces that this bench does not hold, each once.
func (b *Bench) lacking(names []core.Digest) (lacks []core.Digest) {
	seen := map[core.Digest]bool{}
	for _, n := range names {
		if !seen[n] && !b.pack.has(n) {
			lacks = append(lacks, n)
		}
		seen[n] = true
	}
	return lacks
}

// fetchPieces gets pieces from the service, and puts those that came onto the disk while
// the next are on their way.
func (b *Bench) fetchPieces(ctx context.Context, lacks []core.Digest) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	type batch struct {
		pieces []shelf.Piece
		err    error
	}
	came := make(chan batch, 1)
	go func() {
		defer close(came)
		for all := range slices.Chunk(lacks, 256) {
			pieces, err := b.client.Pieces(ctx, all)
			select {
			case came <- batch{pieces, err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	for x := range came {
		if x.err != nil {
			return x.err
		}
		if err := b.pack.put(x.pieces); err != nil {
			return err
		}
	}
	return nil
}

// layAside lets a run wait: after the action in hand if it is at work.
func (b *Bench) layAside(o client.Order) error {
	j, err := b.job(o.Run)
	if err != nil {
		return err
	}
	if o.Laid == nil {
		return core.Fail(core.BadFile, "the order does not say where the unit is")
	}
	j.mu.Lock()
	r, working := j.run, j.working
	j.mu.Unlock()
	if working && r != nil {
		r.LayAside(*o.Laid)
		return nil
	}
	if err := j.claim(); err != nil {
		return err
	}
	defer j.giveUp()
	if r, err = run.TakeUp(j.journal, run.TakenUp{By: o.Laid.By, Why: "laid aside"}, j, b.pace()); err != nil {
		return err
	}
	return r.PutAside(*o.Laid)
}

// borrow notes a change for a while in a run that is at work.
func (b *Bench) borrow(o client.Order) error {
	j, err := b.job(o.Run)
	if err != nil {
		return err
	}
	if o.Lent == nil {
		return core.Fail(core.BadFile, "the order does not say what was changed")
	}
	j.mu.Lock()
	r, working := j.run, j.working
	j.mu.Unlock()
	if !working || r == nil {
		return core.Fail(core.NotAllowed, "the run is not at work").Go(words.RunResume(o.Run).To("Go on with it, then note what you change"))
	}
	r.Borrow(*o.Lent)
	return nil
}

// claim makes the caller the only one that writes the run's journal. Whoever is just
// putting down the tools is waited for.
func (j *job) claim() error {
	j.mu.Lock()
	leaving, ended := j.working && j.outcome == run.Interrupted && j.ended != nil, j.ended
	j.mu.Unlock()
	if leaving {
		<-ended
	}
	j.handing.Lock() // that it was put down must not come to the service after it was taken up
	defer j.handing.Unlock()
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.working {
		return core.Fail(core.Busy, "run %s is at work", j.id).Go(words.RunShow(j.id).To("Look at it"))
	}
	if err := j.readAgain(); err != nil {
		return err
	}
	j.working = true
	return nil
}

// readAgain reads a journal from the disk that took no more of it: what the disk holds
// counts, and it may take more by now.
func (j *job) readAgain() error {
	if j.journal == nil || j.journal.Broken() == nil {
		return nil
	}
	f, err := j.bench.Disk.Open(j.name)
	if err != nil {
		return err
	}
	journal, err := run.OpenJournal(f)
	if err != nil {
		f.Close()
		return err
	}
	j.journal.Close()
	j.journal, j.events = journal, journal.Events()
	j.outcome, j.closed = journal.State().Outcome(), journal.State().Closed != nil
	return nil
}

// giveUp ends a claim that came to nothing.
func (j *job) giveUp() {
	j.mu.Lock()
	j.working = false
	j.mu.Unlock()
}

// stop ends a run after the action in hand.
func (b *Bench) stop(o client.Order) error {
	j, err := b.job(o.Run)
	if err != nil {
		return err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if !j.working || j.run == nil {
		return core.Fail(core.NotFound, "run %s is not at work", o.Run)
	}
	j.run.Stop(o.By)
	return nil
}

// abandon closes a paused run without touching its unit.
func (b *Bench) abandon(o client.Order) error {
	j, err := b.job(o.Run)
	if err != nil {
		return err
	}
	if err := j.claim(); err != nil {
		return err
	}
	defer j.giveUp()
	r, err := run.TakeUp(j.journal, run.TakenUp{By: o.By, Why: o.Reason}, j, b.pace())
	if err != nil {
		return err
	}
	return r.Abandon(o.By, o.Reason)
}

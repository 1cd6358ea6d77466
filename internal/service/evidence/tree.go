package evidence

import (
	"cmp"
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// auditCut is what the audit log keeps of a history that was cut.
const auditCut = "history-cut"

// keepEvery is how often the service itself sees to the tree; benches that join do it as well.
const keepEvery = 10 * time.Second

// grow gives entries that wait their places in the tree. One request at a time does it; the
// others need not wait. A tree that has lost hashes cannot grow, which an audit finds; it keeps
// nobody from his work.
func (v *Evidence) grow(ctx context.Context) error {
	if !v.growing.TryLock() {
		return nil
	}
	defer v.growing.Unlock()
	_, err := v.store.GrowTree(ctx, v.key, v.clock.Now())
	if core.KindOf(err) == core.NotFound {
		v.log.Error("the tree of all histories cannot grow: something of it was taken away", "error", err)
		return nil
	}
	return err
}

// checkpoint is the newest one; nil before there is one, and where the one that is there was not
// signed by this service, which an audit finds.
func (v *Evidence) checkpoint(ctx context.Context) (*history.Checkpoint, []byte, error) {
	signed, err := v.store.NewestCheckpoint(ctx)
	if err != nil || signed == nil {
		return nil, nil, err
	}
	c, err := v.store.Line().OpenCheckpoint(signed)
	if err != nil {
		v.log.Error("the newest checkpoint of all histories was not signed by this service", "error", err)
		return nil, nil, nil
	}
	return &c, signed, nil
}

// KeepTree lets the tree grow also where nobody joins, and keeps its newest checkpoint in a file
// beside the key, until the context ends. The file is exchanged for a checkpoint whose tree came
// of its own alone: a database that was put back to an older state, or changed, is found by it.
// It ends sooner where another key has taken the place of this service's.
func (v *Evidence) KeepTree(ctx context.Context, path string) error {
	var held history.Checkpoint
	old, err := os.ReadFile(path)
	if err == nil {
		held, err = v.store.Line().OpenCheckpoint(old)
	}
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	for shown := held.Size == 0; ; {
		err := v.store.KeyCounts(ctx)
		if core.KindOf(err) == core.NotAllowed {
			return err
		}
		if err == nil && !shown {
			err = v.showCheckpoint(ctx, old, "")
			shown = err == nil
		}
		if err == nil {
			err = v.keepNewer(ctx, path, &held)
		}
		if err != nil && ctx.Err() == nil {
			v.log.Error("the newest checkpoint of all histories is not kept beside the key", "file", path, "error", err)
		}
		select {
		case <-v.clock.After(keepEvery):
		case <-ctx.Done():
			return nil
		}
	}
}

// keepNewer exchanges the file that is held for a newer checkpoint.
func (v *Evidence) keepNewer(ctx context.Context, path string, held *history.Checkpoint) error {
	newer, err := v.NewerCheckpoint(ctx, held.Size)
	if err != nil || newer == nil {
		return err
	}
	c, err := v.store.Line().OpenCheckpoint([]byte(newer.Signed))
	if err == nil {
		err = history.Grew(*held, c, newer.Proof)
	}
	if err == nil {
		err = keepFile(path, []byte(newer.Signed))
	}
	if err == nil {
		*held = c
	}
	return err
}

// keepFile puts new content in a file's place, whole and on disk.
func keepFile(path string, content []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".checkpoint-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(content)
	if err := cmp.Or(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// NewerCheckpoint is the newest checkpoint for a bench that holds one of a size, with the proof
// that the tree grew from there.
func (v *Evidence) NewerCheckpoint(ctx context.Context, held uint64) (*client.Checkpoint, error) {
	if err := v.grow(ctx); err != nil {
		return nil, err
	}
	c, signed, err := v.checkpoint(ctx)
	if err != nil || c == nil || c.Size <= held {
		return nil, err
	}
	out := &client.Checkpoint{Signed: string(signed)}
	if held > 0 {
		// Where hashes are missing there is no proof: the bench finds that out by itself.
		if out.Proof, err = history.Growth(held, c.Size, v.store.TreeHashes(ctx)); core.KindOf(err) == core.NotFound {
			err = nil
		}
	}
	return out, err
}

// leads tells whether the tree here leads to a checkpoint.
func (v *Evidence) leads(ctx context.Context, c history.Checkpoint) (bool, error) {
	root, err := history.RootAt(c.Size, v.store.TreeHashes(ctx))
	if core.KindOf(err) == core.NotFound {
		return false, nil
	}
	return root == c.Root, err
}

// showCheckpoint holds the tree here against a checkpoint that was kept elsewhere: by a bench,
// or in a file beside the database. One to which it does not lead is kept, and told to the leads.
func (v *Evidence) showCheckpoint(ctx context.Context, signed []byte, bench string) error {
	c, err := v.store.Line().OpenCheckpoint(signed)
	if err != nil {
		return nil // not ours
	}
	leads, err := v.leads(ctx, c)
	if err != nil || leads {
		return err
	}
	news, err := v.store.KeepCheckpoint(ctx, c.Size, signed, bench, v.clock.Now())
	if err != nil || !news {
		return err
	}
	return v.People.Audit(ctx, auditCut, "", "the histories of all units do not lead to the checkpoint of %s, with %d entries: something was taken away or changed", c.At.UTC().Format("2 January 2006 15:04"), c.Size)
}

// inTree holds entries of a unit against the tree, those from a number to another. It gives the places of those that stand in
// it, and the checkpoint if that is all of them.
func (v *Evidence) inTree(ctx context.Context, unit string, chain []history.Stored, from, to uint64) (c *history.Checkpoint, places map[uint64]uint64, found []core.Said, err error) {
	places, waiting, err := v.store.PlacesOf(ctx, unit, from, to)
	if err != nil {
		return nil, nil, nil, err
	}
	there, waits := map[uint64]bool{}, false
	var numbers []uint64
	var stand []history.Place
	signed, err := v.store.NewestCheckpoint(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	if signed != nil {
		x, err := v.store.Line().OpenCheckpoint(signed)
		if err != nil {
			return nil, places, []core.Said{core.Say("the newest checkpoint of all histories was not signed by this service")}, nil
		}
		c = &x
	}
	for _, x := range chain {
		there[x.N] = true
		at, placed := places[x.N]
		switch {
		case waiting[x.N]:
			waits = true
		case !placed:
			found = append(found, core.Say("entry %d has no place in the tree of all histories", x.N))
		case placed && (c == nil || at >= c.Size):
			found = append(found, core.Say("entry %d stands in the tree of all histories where no checkpoint reaches", x.N))
		case placed:
			numbers, stand = append(numbers, x.N), append(stand, history.Place{At: at, Hash: x.Hash})
		}
	}
	for _, n := range slices.Sorted(maps.Keys(places)) {
		if !there[n] {
			found = append(found, core.Say("entry %d is missing; it stood in the tree of all histories", n))
		}
	}
	if len(stand) == 0 {
		return nil, places, found, nil
	}
	wrong, err := history.InTree(*c, stand, v.store.TreeHashes(ctx))
	switch {
	case core.KindOf(err) == core.NotFound:
		found, err = append(found, core.Say("the tree of all histories has lost hashes: it proves nothing any more")), nil
	case err == nil && wrong >= 0:
		found = append(found, core.Say("entry %d is not the one that stands in the tree of all histories", numbers[wrong]))
	}
	if waits { // not all of it is proven yet
		c = nil
	}
	return c, places, found, err
}

// auditLasts bounds one part of an audit.
const auditLasts = 2 * time.Second

type checkAllIn struct{ Body client.AuditStep }

// checkAll goes on with an audit of all histories: a part of it, as much as can be done while
// somebody waits.
func (v *Evidence) checkAll(ctx context.Context, in *checkAllIn) (client.AuditPart, error) {
	w := in.Body.Walk
	out := client.AuditPart{Findings: []core.Said{}}
	if !w.Whole() {
		return out, core.Fail(core.BadFile, "an audit cannot go on from here: %d leaves have %d subtrees, came %d", w.Next, len(history.EdgeOf(w.Next)), len(w.Edge)).Do("Begin it anew.")
	}
	if w.Next == 0 {
		if err := v.grow(ctx); err != nil {
			return out, err
		}
	}
	benches, err := v.store.Benches(ctx)
	if err != nil {
		return out, err
	}
	keys := map[string]trust.Any{}
	for _, b := range benches {
		keys[b.ID] = b.Keys()
	}
	a := &history.Audit{Service: v.store.Line(), Benches: func(id string) trust.Any { return keys[id] },
		Names: func(unit string) string { return v.called(ctx, unit) },
		Held: func(e *history.Entry, r *history.Record) ([]core.Said, error) {
			return store.Agrees(ctx, v.store, e, r)
		},
		Rows: func(unit string) ([]string, error) { return v.store.Unsealed(ctx, unit) }}
	for _, p := range in.Body.Printed {
		a.Against = append(a.Against, history.Checkpoint{Size: p.Size, Root: p.Root})
	}
	ends := v.clock.Now().Add(auditLasts)
	found, size, done, err := a.On(ctx, v.store, &w, func() bool { return !v.clock.Now().Before(ends) })
	if err != nil {
		return out, err
	}
	out.Walk, out.Size, out.Done, out.Findings = w, size, done, append(out.Findings, found...)
	if done {
		out.Tree, err = v.NewestTree(ctx)
	}
	return out, err
}

// called is how people call the owner of a chain.
func (v *Evidence) called(ctx context.Context, unit string) string {
	if unit == store.TeamChain {
		return "the audit log"
	}
	if u, err := v.store.Unit(ctx, unit); err == nil {
		return "unit " + u.Serial
	}
	return "unit " + unit
}

// NewestTree is what a report says of the newest checkpoint; nil before there is one.
func (v *Evidence) NewestTree(ctx context.Context) (*client.Tree, error) {
	if err := v.grow(ctx); err != nil {
		return nil, err
	}
	c, _, err := v.checkpoint(ctx)
	return treeOf(c), err
}

// treeOf is what people are told of a checkpoint.
func treeOf(c *history.Checkpoint) *client.Tree {
	if c == nil {
		return nil
	}
	return &client.Tree{Size: c.Size, Root: c.Root, At: c.At}
}

// showHeads holds the history here against the heads that a bench has kept out of the
// database's reach. What is missing or was computed anew is kept, told to the leads, and found
// in the unit's history from then on.
func (v *Evidence) showHeads(ctx context.Context, in *frame.RawIn) (frame.None, error) {
	shown, err := frame.Decode[client.Heads](in.RawBody)
	if err != nil {
		return frame.None{}, err
	}
	if len(shown.Heads) > client.HeadsAtOnce {
		return frame.None{}, core.Fail(core.BadFile, "a bench shows %d heads at once, not %d", client.HeadsAtOnce, len(shown.Heads))
	}
	if len(shown.Checkpoints) > client.CheckpointsAtOnce {
		return frame.None{}, core.Fail(core.BadFile, "a bench shows %d checkpoints at once, not %d", client.CheckpointsAtOnce, len(shown.Checkpoints))
	}
	for _, c := range shown.Checkpoints {
		if err := v.showCheckpoint(ctx, []byte(c), frame.Who(ctx).Bench); err != nil {
			return frame.None{}, err
		}
	}
	for _, h := range shown.Heads {
		if !h.Verify(v.store.Line().Any()...) {
			continue // not ours
		}
		there, err := v.store.LeadsTo(ctx, h)
		if err != nil {
			return frame.None{}, err
		}
		if there {
			continue
		}
		news, err := v.store.KeepHead(ctx, h, frame.Who(ctx).Bench, v.clock.Now())
		if err != nil {
			return frame.None{}, err
		}
		if !news {
			continue
		}
		serial := h.Unit
		if u, err := v.store.Unit(ctx, h.Unit); err == nil {
			serial = u.Serial
		}
		if err := v.People.Audit(ctx, auditCut, "", "unit %s: entry %d is missing or another, and a bench has kept its signed head", serial, h.N); err != nil {
			return frame.None{}, err
		}
	}
	return frame.None{}, nil
}

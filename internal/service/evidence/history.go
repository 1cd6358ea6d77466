package evidence

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// CheckRecord refuses a record that the bench has not signed, or of another run.
func (v *Evidence) CheckRecord(ctx context.Context, r store.Run, bench string, e run.Event) error {
	c, err := frame.Decode[run.Closed](e.Body)
	if err != nil {
		return err
	}
	key, err := v.BenchKeys(ctx, bench)
	if err != nil {
		return err
	}
	if !key.Verify(history.RecordDomain, c.Record, c.Signature) {
		return core.Fail(core.NotAllowed, "the record of run %s was not signed by its bench", r.ID)
	}
	record, err := history.DecodeRecord(c.Record)
	if err != nil {
		return err
	}
	if record.Run != r.ID || record.Unit != r.Unit {
		return core.Fail(core.BadFile, "the record is of run %s, expected %s", record.Run, r.ID)
	}
	return nil
}

// HistoryIn asks for a page of a unit's history.
type HistoryIn struct {
	frame.UnitPath
	Before uint64 `query:"before" doc:"Number of the entry before which the page is; the newest page where it is 0."`
	Size   int    `query:"size" minimum:"1" maximum:"200" default:"200"`
}

// GetHistory reads entries of a unit's chain, and checks it.
func (v *Evidence) GetHistory(ctx context.Context, in *HistoryIn) (client.History, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err == nil {
		err = v.grow(ctx)
	}
	if err != nil {
		return client.History{}, err
	}
	benches, err := v.store.Benches(ctx)
	if err != nil {
		return client.History{}, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return client.History{}, err
	}
	keys, benchNames := map[string]trust.Any{}, map[string]string{}
	for _, b := range benches {
		keys[b.ID], benchNames[b.ID] = b.Keys(), b.Name
	}
	out := client.History{Unit: u.Serial, ID: u.ID, Model: u.Model, Chain: "intact", Entries: []client.Entry{}}
	p, err := v.chain(ctx, u.ID, in.Before, in.Size, func(id string) trust.Any { return keys[id] })
	if err != nil {
		return out, err
	}
	out.Findings, out.Tree, out.Before = append([]core.Said{}, p.found...), treeOf(p.tree), p.before
	out.Total = p.total
	changed, err := v.store.Unsealed(ctx, u.ID)
	if err != nil {
		return out, err
	}
	for _, x := range changed {
		out.Findings = append(out.Findings, core.Say("%s was changed, or put in, behind the service's back: it does not count", x))
	}
	if len(out.Findings) > 0 {
		out.Chain = "broken"
	}
	kept, err := v.recordsOf(ctx, p.entries)
	if err != nil {
		return out, err
	}
	var spans [][2]int64
	for _, x := range p.entries {
		e, err := history.DecodeEntry(x.Encoded)
		if err != nil {
			continue // the findings say so
		}
		line := client.Entry{N: x.N, At: time.UnixMicro(e.HappenedAt).UTC(), Entered: time.UnixMicro(e.EnteredAt).UTC(), Kind: e.Kind, By: names[e.By], Run: e.Run, Reason: e.Text, Bench: benchNames[e.Bench], Hash: x.Hash}
		if at, placed := p.places[x.N]; placed {
			line.Place = &at
		}
		span, opened := [2]int64{}, int64(0)
		if e.Kind == history.Refused {
			line.Outcome = string(run.Refused)
		}
		if len(e.Record) > 0 {
			if r, err := history.DecodeRecord(e.Record); err == nil {
				line.From, line.To, line.Outcome, line.Reason, line.Halves = r.From, r.To, r.Outcome, r.Reason, r.Halves
				line.Job, line.Why, line.Asked, line.Tells = r.Job, r.Why, r.Asked, tells(r, names)
				span = [2]int64{r.Opened, r.Closed}
				if row, err := kept.Run(ctx, r.Run); err == nil {
					opened = row.OpenedAt.UnixMicro()
				}
				found, err := store.Agrees(ctx, kept, e, r)
				if err != nil {
					return out, err
				}
				for _, f := range found {
					out.Chain, out.Findings = "broken", append(out.Findings, f.About(fmt.Sprintf("entry %d", x.N)))
				}
			}
		}
		if at, doubted := e.Happened(opened); doubted {
			line.Tells = append(line.Tells, core.Say("Its bench says that it happened on %s, which cannot be: it stands here by when it was entered.", line.At.Format("2 January 2006 15:04 UTC")))
			line.At = time.UnixMicro(at).UTC()
		}
		line.Title = titleOf(line.Kind, line.Outcome, line.From, line.To)
		for _, s := range spans {
			line.Overlap = line.Overlap || span[1] > 0 && s[1] > 0 && span[0] < s[1] && s[0] < span[1]
		}
		spans = append(spans, span)
		out.Entries = append(out.Entries, line)
	}
	sort.SliceStable(out.Entries, func(i, j int) bool { return out.Entries[i].At.After(out.Entries[j].At) })
	return out, nil
}

// recordsOf reads what is kept of the runs of whose records some entries tell.
func (v *Evidence) recordsOf(ctx context.Context, entries []history.Stored) (store.KeptRuns, error) {
	var ids []string
	for _, x := range entries {
		e, err := history.DecodeEntry(x.Encoded)
		if err != nil || len(e.Record) == 0 {
			continue
		}
		if r, err := history.DecodeRecord(e.Record); err == nil && !slices.Contains(ids, r.Run) {
			ids = append(ids, r.Run)
		}
	}
	return v.store.KeptOf(ctx, ids)
}

// tells is what a record says beside versions and outcome: how sure the identity was,
// gates, tests, what is owed, what was left as it is.
func tells(r *history.Record, names map[string]string) (all []core.Said) {
	if r.Identity != "" && r.Identity != run.ThisUnit {
		if r.Header != "" {
			all = append(all, core.Say("Through its programming header, with the helper tool on %s; it is known by its label.", r.Header))
		} else {
			all = append(all, core.Say("Known %s, not by a serial that it tells.", r.Identity))
		}
	}
	if r.Given != "" {
		all = append(all, core.Say("For this run was said: %s.", strings.TrimSuffix(r.Given, ".")))
	}
	for _, c := range r.Conditions {
		what := strings.TrimSpace(words.Facts.In(c.Name) + " " + c.Value + " " + c.Unit)
		if c.During {
			all = append(all, core.Say("During the write it said: %s; wanted is %s.", what, c.Wants))
		} else {
			all = append(all, core.Say("Before the write it said: %s.", what))
		}
	}
	for _, w := range r.Waived {
		all = append(all, core.Say("By the name of %s, %s: %s.", cmp.Or(names[w.By], w.By), words.Gates.In(w.Gate), strings.TrimSuffix(w.Reason, ".")))
	}
	if b := r.Before; b != nil {
		switch {
		case b.Unread != "":
			all = append(all, core.Say("What it ran before could not be read (%s): %s.", cmp.Or(names[b.By], b.By), strings.TrimSuffix(b.Unread, ".")))
		case b.Photo != nil:
			all = append(all, core.Say("What it ran before, %s, was read off it by %s, with a photo.", r.From, cmp.Or(names[b.By], b.By)))
		default:
			all = append(all, core.Say("What it ran before, %s, was read off it by %s.", r.From, cmp.Or(names[b.By], b.By)))
		}
	}
	for _, l := range r.Left {
		all = append(all, core.Say("Part %s left as it is: %s.", l.Section, strings.TrimSuffix(l.Why, ".")))
	}
	for _, g := range r.Handed {
		all = append(all, core.Say("Handed to %s: %s", g.To, g.Says))
	}
	for _, x := range r.Tests {
		all = append(all, core.Say("%s %s, by %s.", x.Says, words.Answers.In(x.Value)+after(x.Note), names[x.By]))
	}
	for _, o := range r.Owed {
		switch {
		case o.Kind == run.OweTest && o.State == run.OweHanded:
			all = append(all, core.Say("Still to be tried by %s until %s: %s", o.Whose, o.Due, o.Says))
		case o.Kind != run.OweTest:
			all = append(all, core.Say("Left undone by %s: %s%s", cmp.Or(names[o.By], o.By), o.Says, after(o.Reason)))
		}
	}
	if r.Adapter != "" {
		all = append(all, core.Say("Through adapter %s.", r.Adapter))
	}
	return all
}

// after puts a note behind what it is about.
func after(note string) string {
	if note == "" {
		return ""
	}
	return " (" + note + ")"
}

// titleOf says in a few words what an entry tells.
func titleOf(kind, outcome, from, to string) core.Said {
	ended := words.Outcomes.In(outcome)
	switch {
	case kind == history.Entered:
		return core.Say("Entered the register")
	case kind == history.Joined:
		return core.Say("Joined with its double")
	case kind == history.Noted:
		return core.Say("Noted")
	case kind == history.Tested:
		return core.Say("A test was answered")
	case kind == history.Held:
		return core.Say("Where it is to stay")
	case kind == history.Round:
		return core.Say("A round of its vehicle")
	case kind == history.Allowed:
		return core.Say("A lead's consent")
	case kind == history.Corrected:
		return core.Say("Corrected in the register")
	case kind == history.Flashed && outcome == string(run.Done) && to != "":
		return core.Say("Flashed %s", to)
	case kind == history.Flashed && outcome == string(run.Done):
		return core.Say("Flashed; which version it runs was not told")
	case kind == history.Flashed && outcome == string(run.NotProven) && from == to:
		return core.Say("Not proven; it ran %s already", from)
	case kind == history.Flashed && outcome == string(run.NotProven):
		return core.Say("Flashed, not proven")
	case kind == history.Flashed && outcome == string(run.NothingToDo) && from != "":
		return core.Say("Nothing to do: it ran %s already", from)
	case kind == history.Flashed:
		return core.Say("Flash: %s", ended)
	case kind == history.Restored && outcome == string(run.Done) && to != "":
		return core.Say("Restored, runs %s", to)
	case kind == history.Restored:
		return core.Say("Restore: %s", ended)
	case kind == history.BackedUp && outcome == string(run.Done):
		return core.Say("Backed up")
	case kind == history.BackedUp:
		return core.Say("Backup: %s", ended)
	case kind == history.Refused:
		return core.Say("Refused before a run began")
	case kind == history.Late:
		return core.Say("Came too late, kept as evidence")
	case kind == history.Released:
		return core.Say("Run given up by a lead")
	}
	return core.Say("Entry: %s", kind)
}

// BenchKeys are the keys of a bench; none where its row was changed behind the service's back:
// nothing that it signs counts.
func (v *Evidence) BenchKeys(ctx context.Context, id string) (trust.Any, error) {
	b, err := v.store.BenchBy(ctx, id)
	if core.KindOf(err) == core.NotFound || errors.Is(err, store.ErrChanged) {
		return nil, nil
	}
	return b.Keys(), err
}

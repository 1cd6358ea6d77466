package service

import (
	"context"
	"fmt"
	"sort"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// checkRecord refuses a record that the bench has not signed, or of another run.
func (v *Service) checkRecord(ctx context.Context, r store.Run, bench string, e run.Event) error {
	c, err := decode[run.Closed](e.Body)
	if err != nil {
		return err
	}
	key, err := v.benchKey(ctx, bench)
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

// heldAgainst compares the journal that a record was signed for with the events that
// are held of its run. A record that came too late for its run speaks of others.
func (v *Service) heldAgainst(ctx context.Context, e *history.Entry, r *history.Record) (string, error) {
	if e.Kind == history.Late {
		return "", nil
	}
	events, err := v.store.RawEvents(ctx, r.Run, 0, int(min(r.Events, 1<<20)))
	if err != nil {
		return "", err
	}
	if uint64(len(events)) < r.Events {
		return fmt.Sprintf("its record was signed over %d events, %d of run %s are held", r.Events, len(events), r.Run), nil
	}
	if run.DigestOf(events) != r.Journal {
		return fmt.Sprintf("the events held of run %s are not those that its bench signed", r.Run), nil
	}
	return "", nil
}

// getHistory reads a unit's chain and checks it.
func (v *Service) getHistory(ctx context.Context, in *UnitPath) (client.History, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.History{}, err
	}
	chain, heads, err := v.store.Chain(ctx, u.ID)
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
	keys, benchNames := map[string]trust.Public{}, map[string]string{}
	for _, b := range benches {
		keys[b.ID], benchNames[b.ID] = trust.Public(b.PublicKey), b.Name
	}
	out := client.History{Unit: u.Serial, ID: u.ID, Model: u.Model, Chain: "intact", Entries: []client.Entry{}}
	out.Findings = append([]string{}, history.Check(u.ID, chain, heads, v.key.Public(), func(id string) trust.Public { return keys[id] })...)
	if len(out.Findings) > 0 {
		out.Chain = "broken"
	}
	var spans [][2]int64
	for _, x := range chain {
		e, err := history.DecodeEntry(x.Encoded)
		if err != nil {
			continue // the findings say so
		}
		line := client.Entry{N: x.N, At: time.UnixMicro(e.HappenedAt).UTC(), Entered: time.UnixMicro(e.EnteredAt).UTC(), Kind: e.Kind, By: names[e.By], Run: e.Run, Reason: e.Text, Bench: benchNames[e.Bench], Hash: x.Hash}
		span := [2]int64{}
		if e.Kind == history.Refused {
			line.Outcome = string(run.Refused)
		}
		if len(e.Record) > 0 {
			if r, err := history.DecodeRecord(e.Record); err == nil {
				line.From, line.To, line.Outcome, line.Reason, line.Halves = r.From, r.To, r.Outcome, r.Reason, r.Halves
				span = [2]int64{r.Opened, r.Closed}
				if finding, err := v.heldAgainst(ctx, e, r); err != nil {
					return out, err
				} else if finding != "" {
					out.Chain, out.Findings = "broken", append(out.Findings, fmt.Sprintf("entry %d: %s", x.N, finding))
				}
			}
		}
		for _, s := range spans {
			line.Overlap = line.Overlap || span[1] > 0 && s[1] > 0 && span[0] < s[1] && s[0] < span[1]
		}
		spans = append(spans, span)
		out.Entries = append(out.Entries, line)
	}
	sort.SliceStable(out.Entries, func(i, j int) bool { return out.Entries[i].At.After(out.Entries[j].At) })
	return out, nil
}

package evidence

import (
	"context"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/internal/client"
)

type auditIn struct {
	Before uint64 `query:"before" doc:"Number of the entry before which the page is; the newest page where it is 0."`
}

// auditPage is how many entries a page of the audit log has.
const auditPage = 100

// getAudit shows the audit log, and whether the whole of it is as it was entered.
func (v *Evidence) getAudit(ctx context.Context, in *auditIn) (client.Audit, error) {
	out := client.Audit{Entries: []client.AuditEntry{}, Chain: "intact"}
	p, err := v.teamChain(ctx, in.Before)
	if err != nil {
		return out, err
	}
	out.Found, out.Before = p.found, p.before
	cut, err := v.store.Elsewhere(ctx)
	if err != nil {
		return out, err
	}
	if len(cut) > 0 {
		out.Found = append(out.Found, core.Say("benches have kept what the histories no longer lead to; holding all of them against the tree tells more"))
	}
	if len(out.Found) > 0 {
		out.Chain = "changed"
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	for _, x := range slices.Backward(p.entries) {
		if len(x.Encoded) == 0 && len(out.Found) == 0 {
			out.Cut, out.Before = x.N, 0
			break
		}
		e, err := history.DecodeEntry(x.Encoded)
		if err != nil { // the check has told of it
			continue
		}
		out.Entries = append(out.Entries, client.AuditEntry{N: x.N, At: time.UnixMicro(e.HappenedAt).UTC(), Kind: e.Kind, By: names[e.By], Text: e.Text})
	}
	return out, nil
}

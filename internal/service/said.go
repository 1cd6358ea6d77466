package service

import (
	"context"
	"encoding/base64"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/run"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// What the audit log keeps of benches that are not believed.
const (
	auditForged   = "bench-forged"
	auditConflict = "events-differ"
)

// said refuses what a bench says where its key has not signed it. A bench from before benches
// signed may go on until it has signed once.
func (v *Service) said(ctx context.Context, raw []byte) error {
	c := frame.Who(ctx)
	b, err := v.benchRow(ctx, c.Bench)
	if err != nil {
		return err
	}
	if c.Signed == "" {
		if b.Signs.Valid {
			return v.forged(ctx, b, "what it said was not signed")
		}
		return nil
	}
	signature, _ := base64.StdEncoding.DecodeString(c.Signed) // what is no signature holds for nothing
	said := func(b store.Bench) bool {
		return trust.Public(b.PublicKey).Verify(history.SaidDomain, history.Said(c.Method, c.Path, raw), signature)
	}
	if b, err = v.renewedSince(ctx, b, said); err != nil { // a database that is away is no forgery
		return err
	}
	if !said(b) {
		return v.forged(ctx, b, "what it said was signed with another key, or changed on the way")
	}
	if !b.Signs.Valid {
		return v.store.BenchSigns(ctx, b.ID, v.clock.Now())
	}
	return nil
}

// benchRow is a bench's row as it was a moment ago: each thing that it says is held against its key.
// Whether it may speak at all is asked each time, with its token.
func (v *Service) benchRow(ctx context.Context, id string) (store.Bench, error) {
	all, err := v.benches.Get(ctx, v.Frame, v.store.BenchesByID)
	if err != nil {
		return store.Bench{}, err
	}
	if b, ok := all[id]; ok && b.Signs.Valid {
		return b, nil
	}
	return v.store.BenchBy(ctx, id) // it is new, or has not signed yet, or is not believed
}

// renewedSince is a bench's row as it is now, where what is remembered of it does not hold: it may
// have renewed its key at another service.
func (v *Service) renewedSince(ctx context.Context, b store.Bench, holds func(store.Bench) bool) (store.Bench, error) {
	if holds(b) {
		return b, nil
	}
	return v.store.BenchBy(ctx, b.ID)
}

// forged tells the leads, once a minute at most, and refuses.
func (v *Service) forged(ctx context.Context, b store.Bench, why string) error {
	refused := core.Fail(core.NotAllowed, "bench %s is not believed: %s", b.Name, why).Do("If this is the bench itself, its folder holds another bench's key: enrol it anew. Else revoke it; somebody has its token.")
	v.forgeries.mu.Lock()
	again := v.clock.Now().Sub(v.forgeries.told[b.ID]) < forgedEvery
	if !again {
		v.forgeries.told[b.ID] = v.clock.Now()
	}
	v.forgeries.mu.Unlock()
	if again {
		return refused
	}
	if err := v.Audit(ctx, auditForged, "", "%s, from %s: %s", b.Name, frame.Who(ctx).Address, why); err != nil {
		return err
	}
	return refused
}

// posted holds a batch of events against the signature of its bench.
func (v *Service) posted(ctx context.Context, p store.Posted) error {
	if len(p.Events) == 0 {
		return nil
	}
	b, err := v.benchRow(ctx, p.Bench)
	if err != nil {
		return err
	}
	if len(p.Signature) == 0 && !b.Signs.Valid {
		return nil
	}
	signed := func(b store.Bench) bool { return p.Verify(trust.Public(b.PublicKey), p.Signature) }
	if b, err = v.renewedSince(ctx, b, signed); err != nil {
		return err
	}
	if !signed(b) {
		return v.forged(ctx, b, "the events of run "+p.Run+" are not signed by it")
	}
	return nil
}

// conflict keeps an event that came again with other content, tells the leads, and refuses.
func (v *Service) conflict(ctx context.Context, r store.Run, epoch uint64, body []byte) error {
	news, err := v.store.AddConflict(ctx, r.ID, epoch, body, v.clock.Now())
	if err != nil {
		return err
	}
	if news {
		if err := v.Audit(ctx, auditConflict, "", "run %s: an event came again with other content; it is kept as evidence", r.ID); err != nil {
			return err
		}
	}
	return core.Fail(core.NotAllowed, "an event of run %s is here already, with other content", r.ID).Do("The first one counts. A lead finds what was refused in the audit log.")
}

// keptBy holds a backup that is to be stored against the signature of its bench: the manifests
// are those that the bench has read.
func (v *Service) keptBy(ctx context.Context, s client.Stow) error {
	b, err := v.benchRow(ctx, frame.Who(ctx).Bench)
	if err != nil || len(s.Signature) == 0 && !b.Signs.Valid {
		return err
	}
	kept := func(b store.Bench) error {
		return isKept(b, s.Run, s.Signed, s.Signature, s.Manifest, s.Sections)
	}
	if b, err = v.renewedSince(ctx, b, func(b store.Bench) bool { return kept(b) == nil }); err != nil {
		return err
	}
	if err := kept(b); err != nil {
		return v.forged(ctx, b, err.Error())
	}
	return nil
}

// isKept tells why a statement of a bench is not about this backup.
func isKept(b store.Bench, id string, signed, signature []byte, main core.Digest, sections []client.StowSection) error {
	if !trust.Public(b.PublicKey).Verify(history.KeptDomain, signed, signature) {
		return core.Fail(core.VerifyDiffers, "the backup of run %s is not signed by bench %s", id, b.Name)
	}
	k, err := history.DecodeKept(signed)
	if err != nil {
		return err
	}
	same := k.Bench == b.ID && k.Run == id && len(k.Sections) == len(sections)
	for i := 0; same && i < len(sections); i++ {
		x, y := k.Sections[i], sections[i]
		same = x.Section == y.Section && x.Main == y.Main && x.Files == y.Files && x.Manifest == y.Manifest && (!x.Main || x.Manifest == main)
	}
	if !same {
		return core.Fail(core.VerifyDiffers, "what bench %s has signed is about another backup than that of run %s", b.Name, id)
	}
	return nil
}

// stillKept holds a backup that is to be put back against what its bench has signed: whatever
// the database says, what is written into a unit is what its bench has read from it.
func (v *Service) stillKept(ctx context.Context, b store.Backup, s *run.Source) error {
	if len(b.Signature) == 0 {
		return nil // of a bench from before
	}
	k, err := history.DecodeKept(b.Signed)
	if err != nil {
		return err
	}
	bench, err := v.store.BenchBy(ctx, k.Bench)
	if err != nil {
		return err
	}
	differs := core.Fail(core.VerifyDiffers, "backup %s is not the one that bench %s has signed", b.ID, bench.Name).Unit("nothing was changed").Do("Choose another backup, and tell whoever keeps the database: it was changed behind the service's back.")
	if !bench.Keys().Verify(history.KeptDomain, b.Signed, b.Signature) || k.Run != b.ID {
		return differs
	}
	for _, x := range k.Sections {
		if named, ok := s.Sections[x.Section]; ok && named != x.Manifest || x.Main && s.Manifest != x.Manifest {
			return differs
		}
	}
	return nil
}

package catalogue

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/pack"
	"zealousferry/core/trust"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

// Vouched is who vouches for releases, as it was read once.
type Vouched struct {
	by   map[string]client.Trust // release's id
	rows []store.Vouch
	keys []trust.Trusted
}

// TrustOf says who vouches for each release of a model, or for one.
func (v *Catalogue) TrustOf(ctx context.Context, modelName, release string) (*Vouched, error) {
	vouches, err := v.store.Vouches(ctx, modelName, release)
	if err != nil {
		return nil, err
	}
	keys, _, err := v.store.Keys(ctx)
	if err != nil {
		return nil, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return nil, err
	}
	all := map[string]client.Trust{}
	words := map[string][]string{} // of leads whose word wants a second one, by release
	for _, w := range vouches {
		t := all[w.Firmware]
		if t.State == "" {
			t.State = "not-vouched"
		}
		x := client.Vouch{How: w.How, Who: names[w.Who], Reason: w.Reason, Dated: w.Dated, Entered: w.Entered, By: names[w.By], Counts: true}
		switch w.How {
		case store.VouchSignature, store.VouchPack:
			x.Key, x.Who = w.Who, "key "+w.Who
			bars := core.Say("The signature does not count: its key %s is not one of those that do.", w.Who)
			for _, k := range keys {
				if k.ID == w.Who {
					x.Who, bars = k.Name, k.Bars(w.Dated)
				}
			}
			if bars.Text == "" {
				t.State, t.Said = "signed", core.Say("Signed by %s.", x.Who)
				break
			}
			if x.Bar(bars); t.Text == "" {
				t.Said = bars
			}
		case store.VouchPerson:
			if !w.Alone {
				words[w.Firmware] = append(words[w.Firmware], x.Who)
			}
			if by := words[w.Firmware]; !w.Alone && len(by) < 2 {
				if x.Bar(core.Say("It does not count yet: a second lead's is wanted.")); t.State == "not-vouched" {
					t.Said = core.Say("%s vouches for it, and a second lead is wanted.", x.Who)
				}
			} else if t.State != "signed" {
				if !w.Alone {
					x.Who = strings.Join(by, " and ")
				}
				t.State, t.Said = "accepted", core.Say("Accepted by %s: %s.", x.Who, strings.TrimSuffix(w.Reason, "."))
			}
		default:
			if t.State == "not-vouched" {
				t.State, t.Said = "accepted", core.Said{Text: w.Reason}
			}
		}
		t.Vouches = append(t.Vouches, x)
		all[w.Firmware] = t
	}
	return &Vouched{all, vouches, keys}, nil
}

func (v *Catalogue) trustIn(ctx context.Context, release string) (client.Trust, error) {
	all, err := v.TrustOf(ctx, "", release)
	if err != nil {
		return client.Trust{}, err
	}
	return all.in(release), nil
}

func (a *Vouched) in(release string) client.Trust {
	if t, ok := a.by[release]; ok {
		return t
	}
	return client.Trust{State: "not-vouched", Said: core.Say("Nobody vouches for its images: it is not signed, and no lead has accepted it."), Vouches: []client.Vouch{}}
}

// Distrust says of which releases nobody vouches for, and why.
func (a *Vouched) Distrust(releases []*model.Release) map[string]core.Said {
	out := map[string]core.Said{}
	for _, r := range releases {
		if t := a.in(r.ID); t.State != "signed" && t.State != "accepted" {
			out[r.ID] = t.Said
		}
	}
	return out
}

// WordFor is whose word a bench is given for a release with the order to write it, the strongest
// that counts. A signature is checked here once more, and by the bench with the keys that it holds.
func (v *Catalogue) WordFor(ctx context.Context, r *store.Release, all *Vouched) (*trust.Word, error) {
	t := all.in(r.ID)
	if t.State == "not-vouched" {
		return nil, nil
	}
	people := &trust.Word{How: trust.ByPeople}
	var spoilt error
	for _, x := range all.rows {
		if x.Firmware != r.ID {
			continue
		}
		w := &trust.Word{Key: x.Who, Signature: x.Signature, Dated: x.Dated}
		switch x.How {
		case store.VouchSignature:
			w.How, w.Signed = trust.BySignature, r.Document
		case store.VouchPack:
			w.How, w.Signed = trust.ByPack, core.Digest(x.Signed)
		case store.VouchPerson:
			people.People, people.Reason, people.Dated = append(people.People, x.Who), x.Reason, x.Dated
			continue
		default:
			people.Reason, people.Dated = x.Reason, x.Dated
			continue
		}
		signed, err := v.store.Piece(ctx, w.Signed)
		if err != nil {
			return nil, err
		}
		if err = w.Check(all.keys, signed); err == nil && w.How == trust.ByPack {
			err = pack.Names(signed, r.Document)
		}
		if err == nil {
			return w, nil
		}
		spoilt = err
	}
	if t.State == "signed" { // it counted by its row, and does not by its bytes
		return nil, core.Fail(core.NotAllowed, "the signature of release %s does not hold: %w", r.Version, spoilt).Unit("nothing was changed").Do("A lead finds out who has changed it: the audit log, and an audit of all histories.")
	}
	return people, nil
}

func (v *Catalogue) acceptBy(ctx context.Context, release, reason string) error {
	now := v.clock.Now().UTC()
	two, _, err := v.People.TwoLeads(ctx)
	if err != nil {
		return err
	}
	if err := v.store.PutVouch(ctx, store.Vouch{Firmware: release, How: store.VouchPerson, Who: frame.Who(ctx).Person.ID, Reason: reason, Dated: now, By: frame.Who(ctx).Person.ID, Entered: now, Alone: !two}, nil); err != nil {
		return err
	}
	return v.People.Audit(ctx, people.AuditVouched, "", "release %s, by name: %s", release, reason)
}

// acceptRelease is a lead's word, by name, for images that no trusted key signed.
func (v *Catalogue) acceptRelease(ctx context.Context, in *reasonIn) (client.Release, error) {
	r, err := v.FindRelease(ctx, in.Release)
	if err != nil {
		return client.Release{}, err
	}
	words, err := v.store.Vouches(ctx, "", r.ID)
	if err != nil {
		return client.Release{}, err
	}
	for _, w := range words {
		if w.How == store.VouchPerson && w.Who == frame.Who(ctx).Person.ID {
			return client.Release{}, core.Fail(core.Busy, "you vouch for release %s already", r.Version).Unit("nothing was changed").Do("Where a second lead is wanted, another one vouches for it.")
		}
	}
	if err := v.acceptBy(ctx, r.ID, in.Body.Reason); err != nil {
		return client.Release{}, err
	}
	return v.release(ctx, r.ID)
}

type signatureIn struct {
	ReleasePath
	Body client.Signature
}

// signRelease takes a signature of a release's document, made elsewhere.
func (v *Catalogue) signRelease(ctx context.Context, in *signatureIn) (client.Release, error) {
	r, err := v.FindRelease(ctx, in.Release)
	if err != nil {
		return client.Release{}, err
	}
	document, err := v.store.Piece(ctx, r.Document)
	if err != nil {
		return client.Release{}, err
	}
	id, err := trust.KeyID(in.Body.Signature)
	if err != nil {
		return client.Release{}, err
	}
	keys, _, err := v.store.Keys(ctx)
	if err != nil {
		return client.Release{}, err
	}
	now := v.clock.Now().UTC()
	for _, k := range keys {
		if k.ID != id {
			continue
		}
		if err := k.Public.VerifyDetached(trust.PurposeRelease, document, in.Body.Signature); err != nil {
			return client.Release{}, err
		}
		if why := k.Bars(now); why.Text != "" {
			return client.Release{}, why.Fail(core.NotAllowed)
		}
		err := v.store.PutVouch(ctx, store.Vouch{Firmware: r.ID, How: store.VouchSignature, Who: id, Signature: in.Body.Signature, Dated: now, By: frame.Who(ctx).Person.ID, Entered: now}, document)
		if err != nil {
			return client.Release{}, err
		}
		return v.release(ctx, r.ID)
	}
	return client.Release{}, core.Fail(core.NotAllowed, "the signature is by key %s, which is not one of those that count here", id).Go(words.KeyTrust().To("A lead puts it into the list"))
}

func (v *Catalogue) listKeys(ctx context.Context, in *frame.PageIn) (client.Keys, error) {
	rows, p, err := v.store.KeysPage(ctx, in.After, in.Size)
	if err != nil {
		return client.Keys{}, err
	}
	names, err := v.store.Names(ctx)
	out := client.Keys{Keys: []client.Key{}, Paged: frame.Paged(p)}
	now := v.clock.Now()
	for _, k := range rows {
		x := client.Key{ID: k.ID, Name: k.Name, Public: k.Public, From: k.From, Until: frame.TimeOf(k.Until), Revoked: frame.TimeOf(k.Revoked), Reason: k.Reason, By: names[k.By], Second: names[k.Second.String], State: "trusted"}
		switch {
		case k.Revoked.Valid:
			x.State = "revoked"
		case !k.Counts():
			x.State = "waits"
		case now.Before(k.From):
			x.State = "not-yet"
		case k.Until.Valid && now.After(k.Until.Time):
			x.State = "over"
		}
		out.Keys = append(out.Keys, x)
	}
	return out, err
}

type newKeyIn struct{ Body client.NewKey }

func (v *Catalogue) addKey(ctx context.Context, in *newKeyIn) (client.Key, error) {
	b := in.Body
	if err := v.People.Sure(ctx); err != nil {
		return client.Key{}, err
	}
	if len(b.Public) != 32 {
		return client.Key{}, core.Fail(core.BadFile, "a public key has 32 bytes, this has %d", len(b.Public)).Go(words.KeyMake().To("Give what was printed when the key was made"))
	}
	now := v.clock.Now().UTC()
	k := store.TrustedKey{ID: trust.Public(b.Public).ID(), Name: b.Name, Public: b.Public, From: now.Add(-time.Minute), By: frame.Who(ctx).Person.ID, At: now}
	if b.From != nil {
		k.From = b.From.UTC()
	}
	if b.Until != nil {
		k.Until.Time, k.Until.Valid = b.Until.UTC(), true
		if !k.Until.Time.After(k.From) {
			return client.Key{}, core.Fail(core.NotUnderstood, "the key would end before it begins")
		}
	}
	two, _, err := v.People.TwoLeads(ctx)
	if err != nil {
		return client.Key{}, err
	}
	if done, err := v.secondKey(ctx, k); done != nil || err != nil {
		return *cmp.Or(done, &client.Key{}), err
	}
	k.Alone = !two
	if err := v.store.PutKey(ctx, k); err != nil {
		return client.Key{}, err
	}
	out := client.Key{ID: k.ID, Name: k.Name, Public: k.Public, From: k.From, Until: b.Until, By: frame.Who(ctx).Person.Name, State: "trusted"}
	if two {
		out.State = "waits"
		return out, v.People.Audit(ctx, people.AuditWanted, "", "key %s, %s", k.Name, k.ID)
	}
	return out, v.People.Audit(ctx, people.AuditKey, "", "%s, %s", k.Name, k.ID)
}

// secondKey lets a key count that another lead has put in the list, and that waits for a second
// one; nil if there is none.
func (v *Catalogue) secondKey(ctx context.Context, k store.TrustedKey) (*client.Key, error) {
	_, rows, err := v.store.Keys(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range rows {
		if x.ID != k.ID || x.Counts() || x.Revoked.Valid {
			continue
		}
		if x.By == k.By {
			return nil, core.Fail(core.Busy, "key %s waits for a second lead: you are the first", k.ID).Unit("nothing was changed").Do("Another lead puts it in the list too.")
		}
		if err := v.store.SecondKey(ctx, k.ID, k.By); err != nil {
			return nil, err
		}
		names, err := v.store.Names(ctx)
		if err != nil {
			return nil, err
		}
		out := &client.Key{ID: x.ID, Name: x.Name, Public: x.Public, From: x.From, Until: frame.TimeOf(x.Until), By: names[x.By], Second: names[k.By], State: "trusted"}
		return out, v.People.Audit(ctx, people.AuditKey, "", "%s, %s, after %s", x.Name, x.ID, out.By)
	}
	return nil, nil
}

type revokeKeyIn struct {
	Key  string `path:"key"`
	Body client.Reason
}

func (v *Catalogue) revokeKey(ctx context.Context, in *revokeKeyIn) (frame.None, error) {
	if err := v.People.Sure(ctx); err != nil {
		return frame.None{}, err
	}
	if err := v.store.RevokeKey(ctx, in.Key, frame.Who(ctx).Person.ID, in.Body.Reason, v.clock.Now()); err != nil {
		return frame.None{}, err
	}
	return frame.None{}, v.People.Audit(ctx, people.AuditKeyEnded, "", "%s: %s", in.Key, in.Body.Reason)
}

type packIn struct {
	Accept  string `query:"accept" maxLength:"400" doc:"Why the lead vouches by name for a pack that no trusted key signed."`
	Older   bool   `query:"older" doc:"Take it although its signer has sent a newer one."`
	RawBody []byte
}

// importPack takes the releases of a pack into the catalogue.
func (v *Catalogue) importPack(ctx context.Context, in *packIn) (client.Imported, error) {
	p, err := pack.Read(in.RawBody)
	if err != nil {
		return client.Imported{}, err
	}
	keys, _, err := v.store.Keys(ctx)
	if err != nil {
		return client.Imported{}, err
	}
	by, why, err := p.Signed(keys, v.clock.Now())
	if err != nil {
		return client.Imported{}, err
	}
	if by == nil && in.Accept == "" {
		return client.Imported{}, why.Fail(core.NotAllowed).Go(words.ReleaseImport().To("A lead may vouch for it by name"))
	}
	signer := frame.Who(ctx).Person.ID
	out := client.Imported{Series: p.Manifest.Series, Number: p.Manifest.Number, Date: p.Manifest.Date, Releases: []client.Release{}}
	if by != nil {
		signer, out.By = by.ID, by.Name
	}
	sheets := map[string]*model.Sheet{}
	for _, r := range p.Releases {
		if sheets[r.Model] == nil {
			if sheets[r.Model], err = v.store.Sheet(ctx, r.Model); err != nil {
				return out, core.Fail(core.NotFound, "the pack is for model %s, whose sheet is not here", r.Model).Go(words.ModelAdd().To("Add the sheet first"))
			}
		}
		if err := r.Check(sheets[r.Model]); err != nil {
			return out, err
		}
	}
	giveBack, err := v.People.Sends(ctx, people.SentImages, int64(len(in.RawBody)))
	if err != nil {
		return out, err
	}
	newest, ok, err := v.store.SeePack(ctx, signer, p.Manifest.Series, p.Manifest.Number, p.Manifest.Date, in.Older)
	if err != nil {
		return out, err
	}
	if !ok {
		giveBack()
		return out, core.Fail(core.NotAllowed, "this is pack %d of series %s; number %d was taken in before, so this one is old", p.Manifest.Number, p.Manifest.Series, newest).Do("Use the newest pack, or say that you mean the old one.")
	}
	for _, f := range p.Manifest.Images {
		if err := v.store.PutImage(ctx, p.Images[f.Image], f.Name, frame.Who(ctx).Person.ID); err != nil {
			return out, err
		}
	}
	now := v.clock.Now().UTC()
	for i, r := range p.Releases {
		if err := v.measure(ctx, r, true); err != nil {
			return out, err
		}
		if _, err := v.store.Release(ctx, r.ID); core.KindOf(err) == core.NotFound {
			out.New++
		}
		if _, err := v.store.AddRelease(ctx, r, p.Documents[i], sheets[r.Model].Main().Memory.Erased, frame.Who(ctx).Person.ID); err != nil {
			return out, err
		}
		if by != nil {
			err = v.store.PutVouch(ctx, store.Vouch{Firmware: r.ID, How: store.VouchPack, Who: by.ID, Reason: fmt.Sprintf("pack %d of series %s", p.Manifest.Number, p.Manifest.Series), Signature: p.Signature, Dated: p.Manifest.Date.UTC(), By: frame.Who(ctx).Person.ID, Entered: now}, p.Raw)
		} else {
			err = v.acceptBy(ctx, r.ID, in.Accept)
		}
		if err != nil {
			return out, err
		}
		one, err := v.release(ctx, r.ID)
		if err != nil {
			return out, err
		}
		out.Releases = append(out.Releases, one)
	}
	return out, nil
}

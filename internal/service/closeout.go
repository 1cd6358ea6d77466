package service

import (
	"context"
	"database/sql"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/handover"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/client/paper"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/store"
)

type borrowIn struct {
	frame.RunPath
	Body client.NewBorrowed
}

// borrow notes a change for a while in a run that is at work.
func (v *Service) borrow(ctx context.Context, in *borrowIn) (client.Run, error) {
	r, err := v.open(ctx, in.Run)
	if err != nil {
		return client.Run{}, err
	}
	b := &run.Borrowed{Says: strings.TrimSpace(in.Body.Says), By: frame.Who(ctx).Person.ID}
	if _, err := v.Ask(ctx, client.Order{Kind: client.OrderBorrow, Link: r.Link, Run: r.ID, By: b.By, Lent: b}, r.Bench, links.OrderLasts); err != nil {
		return client.Run{}, err
	}
	return v.run(ctx, r.ID)
}

// leftAt lists what runs have left at a unit by name.
func leftAt(u store.Unit, names map[string]string) []client.Owed {
	out := []client.Owed{}
	all, _ := owedTo(u) // what cannot be read is told where a run is opened
	for _, o := range all {
		if o.Kind == run.OweTest || o.State == run.OweDischarged {
			continue
		}
		out = append(out, client.Owed{Unit: u.ID, Serial: u.Serial, Site: u.Site, Kind: o.Kind, Section: o.Section, Item: o.Item, Says: o.Says, By: names[o.By], Reason: o.Reason,
			Since: time.UnixMicro(o.Since).UTC(), Run: o.Run, ByHand: byHand(o)})
	}
	return out
}

// byHand tells whether a person's word is enough for something that is owed.
func byHand(o run.Obligation) bool {
	return o.Kind == run.OweUndo || o.Kind == run.OweFinding || o.Kind == run.OweGive
}

type owedIn struct {
	frame.UnitPath
	Body client.OwedDone
}

// owedDone takes a person's word that what was left at a unit is done.
func (v *Service) owedDone(ctx context.Context, in *owedIn) (client.UnitPage, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.UnitPage{}, err
	}
	if u.Run.Valid {
		return client.UnitPage{}, core.Fail(core.Busy, "unit %s has an open run, %s", u.Serial, u.Run.String).Go(words.RunShow(u.Run.String).To("Look at it"))
	}
	owed, err := owedTo(u)
	if err != nil {
		return client.UnitPage{}, err
	}
	found, n := -1, 0
	for i, o := range owed {
		if byHand(o) && o.Kind == in.Body.Kind && (in.Body.Item == "" || in.Body.Item == o.Item) && (in.Body.Section == "" || in.Body.Section == o.Section) {
			found, n = i, n+1
		}
	}
	switch {
	case n == 0:
		return client.UnitPage{}, core.Fail(core.NotFound, "nothing like that was left at %s", u.Serial).Go(words.HandOver(u.Serial).To("See what was"))
	case n > 1:
		return client.UnitPage{}, core.Fail(core.CannotTell, "%d things like that were left at %s", n, u.Serial).Do("Say which.")
	}
	says := owed[found].Says
	return v.seenTo(ctx, u, history.Noted, slices.Delete(owed, found, found+1), strings.TrimSuffix(says, ".")+": done. "+strings.TrimSpace(in.Body.Note))
}

type offerIn struct {
	frame.UnitPath
	Body client.NewOffer
}

// addOffer notes what was seen at a unit that nobody had ordered.
func (v *Service) addOffer(ctx context.Context, in *offerIn) (client.Offer, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.Offer{}, err
	}
	o := store.Offer{Unit: u.ID, Says: strings.TrimSpace(in.Body.Says), By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()}
	if in.Body.Photo != "" {
		d, err := core.ParseDigest(in.Body.Photo)
		if err != nil {
			return client.Offer{}, err
		}
		if _, err := v.store.Evidence(ctx, d); err != nil {
			return client.Offer{}, err
		}
		o.Photo = d[:]
	}
	if in.Body.Run != "" {
		r, err := v.store.Run(ctx, in.Body.Run)
		if err != nil {
			return client.Offer{}, err
		}
		if r.Unit != u.ID {
			return client.Offer{}, core.Fail(core.NotUnderstood, "run %s is of another unit", r.ID)
		}
		o.Run = sql.NullString{String: r.ID, Valid: true}
	}
	if o.Number, err = v.store.AddOffer(ctx, o); err != nil {
		return client.Offer{}, err
	}
	return oneOffer(o, u, map[string]string{o.By: frame.Who(ctx).Person.Name}), nil
}

func oneOffer(o store.Offer, u store.Unit, names map[string]string) client.Offer {
	out := client.Offer{Number: o.Number, Unit: u.ID, Serial: u.Serial, Site: u.Site, Says: o.Says, Run: o.Run.String, By: names[o.By], At: o.At, How: o.How}
	if o.Photo != nil {
		out.Photo = core.Digest(o.Photo).String()
	}
	if o.Ended.Valid {
		out.Ended = &o.Ended.Time
	}
	return out
}

// mostOffers bounds the list of what was seen and not ordered.
const mostOffers = 20

// offers lists those on which nobody has decided, of a unit or of all.
func (v *Service) offers(ctx context.Context, unit string, names map[string]string) ([]client.Offer, error) {
	out := []client.Offer{}
	rows, err := v.store.Offers(ctx, unit, mostOffers)
	if err != nil {
		return out, err
	}
	for _, o := range rows {
		u, err := v.store.Unit(ctx, o.Unit)
		if err != nil {
			return out, err
		}
		out = append(out, oneOffer(o, u, names))
	}
	return out, nil
}

type offerEndIn struct {
	Number uint64 `path:"offer" minimum:"1"`
	Body   client.OfferEnd
}

func (v *Service) endOffer(ctx context.Context, in *offerEndIn) (frame.None, error) {
	return frame.None{}, v.store.EndOffer(ctx, in.Number, frame.Who(ctx).Person.ID, strings.TrimSpace(in.Body.How), v.clock.Now())
}

// handover is what whoever has a unit next has to know.
func (v *Service) handover(ctx context.Context, in *frame.UnitPath) (client.HandOver, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.HandOver{}, err
	}
	j, err := v.judge(ctx, u)
	if err != nil {
		return client.HandOver{}, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return client.HandOver{}, err
	}
	out := client.HandOver{Unit: u.Serial, ModelName: j.sheet.Name.Or(u.Model), Site: u.Site, Running: u.Running, At: v.clock.Now().UTC(), Photos: []client.PhotoPair{}}
	note := handover.Input{Unit: u.Serial, Open: u.Run.String, Names: names, Setting: func(name string) *model.Setting { return j.sheet.SettingNamed(name) }}
	if note.Owed, err = owedTo(u); err != nil {
		return out, err
	}
	for _, x := range j.verdicts {
		if x.Recommended && !x.Current && x.Answer == fit.Fits {
			note.Newer = x.Version
		}
	}
	runs, _, err := v.store.Runs(ctx, store.RunQuery{Unit: u.ID, Size: 5})
	if err != nil {
		return out, err
	}
	for _, r := range runs {
		s, err := v.folded(ctx, r.ID)
		if err != nil && core.KindOf(err) != core.NotFound {
			return out, err
		}
		if s == nil {
			continue
		}
		if r.ID == u.Run.String {
			note.Laid = s.LaidBy
			continue
		}
		if s.Closed == nil {
			continue
		}
		if note.Record, err = history.DecodeRecord(s.Closed.Record); err != nil {
			return out, err
		}
		out.Job, out.Why = note.Record.Job, note.Record.Why
		for _, x := range sides(s, names) {
			p := client.PhotoPair{Says: x.Says}
			if x.Found != nil {
				p.Found = x.Found.Photo
			}
			if x.Left != nil {
				p.Left = x.Left.Photo
			}
			if p.Found+p.Left != "" {
				out.Photos = append(out.Photos, p)
			}
		}
		break
	}
	out.Note = handover.Of(note)
	if out.Tree, err = v.NewestTree(ctx); err != nil {
		return out, err
	}
	out.Offers, err = v.offers(ctx, u.ID, names)
	return out, err
}

func (v *Service) printHandover(ctx context.Context, in *frame.UnitPath) (*printed, error) {
	h, err := v.handover(ctx, in)
	if err != nil {
		return nil, err
	}
	pdf, err := paper.HandOver(h, v.clock.Now())
	return &printed{"application/pdf", pdf}, err
}

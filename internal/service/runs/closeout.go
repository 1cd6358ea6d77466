package runs

import (
	"context"
	"database/sql"
	"slices"
	"strings"

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
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

type borrowIn struct {
	frame.RunPath
	Body client.NewBorrowed
}

// borrow notes a change for a while in a run that is at work.
func (v *Runs) borrow(ctx context.Context, in *borrowIn) (client.Run, error) {
	r, err := v.open(ctx, in.Run)
	if err != nil {
		return client.Run{}, err
	}
	b := &run.Borrowed{Says: strings.TrimSpace(in.Body.Says), By: frame.Who(ctx).Person.ID}
	if _, err := v.Links.Ask(ctx, client.Order{Kind: client.OrderBorrow, Link: r.Link, Run: r.ID, By: b.By, Lent: b}, r.Bench, links.OrderLasts); err != nil {
		return client.Run{}, err
	}
	return v.run(ctx, r.ID)
}

type owedIn struct {
	frame.UnitPath
	Body client.OwedDone
}

// owedDone takes a person's word that what was left at a unit is done.
func (v *Runs) owedDone(ctx context.Context, in *owedIn) (client.UnitPage, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.UnitPage{}, err
	}
	if u.Run.Valid {
		return client.UnitPage{}, core.Fail(core.Busy, "unit %s has an open run, %s", u.Serial, u.Run.String).Go(words.RunShow(u.Run.String).To("Look at it"))
	}
	owed, err := units.OwedTo(u)
	if err != nil {
		return client.UnitPage{}, err
	}
	found, n := -1, 0
	for i, o := range owed {
		if units.ByHand(o) && o.Kind == in.Body.Kind && (in.Body.Item == "" || in.Body.Item == o.Item) && (in.Body.Section == "" || in.Body.Section == o.Section) {
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
	return v.Units.SeenTo(ctx, u, history.Noted, slices.Delete(owed, found, found+1), strings.TrimSuffix(says, ".")+": done. "+strings.TrimSpace(in.Body.Note))
}

type offerIn struct {
	frame.UnitPath
	Body client.NewOffer
}

// addOffer notes what was seen at a unit that nobody had ordered.
func (v *Runs) addOffer(ctx context.Context, in *offerIn) (client.Offer, error) {
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
	return units.OneOffer(o, u, map[string]string{o.By: frame.Who(ctx).Person.Name}), nil
}

type offerEndIn struct {
	Number uint64 `path:"offer" minimum:"1"`
	Body   client.OfferEnd
}

func (v *Runs) endOffer(ctx context.Context, in *offerEndIn) (frame.None, error) {
	return frame.None{}, v.store.EndOffer(ctx, in.Number, frame.Who(ctx).Person.ID, strings.TrimSpace(in.Body.How), v.clock.Now())
}

// handover is what whoever has a unit next has to know.
func (v *Runs) handover(ctx context.Context, in *frame.UnitPath) (client.HandOver, error) {
	u, err := v.store.Unit(ctx, in.Unit)
	if err != nil {
		return client.HandOver{}, err
	}
	j, err := v.Units.Judge(ctx, u)
	if err != nil {
		return client.HandOver{}, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return client.HandOver{}, err
	}
	out := client.HandOver{Unit: u.Serial, ModelName: j.Sheet.Name.Or(u.Model), Site: u.Site, Running: u.Running, At: v.clock.Now().UTC(), Photos: []client.PhotoPair{}}
	note := handover.Input{Unit: u.Serial, Open: u.Run.String, Names: names, Setting: func(name string) *model.Setting { return j.Sheet.SettingNamed(name) }}
	if note.Owed, err = units.OwedTo(u); err != nil {
		return out, err
	}
	for _, x := range j.Verdicts {
		if x.Recommended && !x.Current && x.Answer == fit.Fits {
			note.Newer = x.Version
		}
	}
	runs, _, err := v.store.Runs(ctx, store.RunQuery{Unit: u.ID, Size: 5})
	if err != nil {
		return out, err
	}
	for _, r := range runs {
		s, err := v.Units.Folded(ctx, r.ID)
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
	if out.Tree, err = v.Evidence.NewestTree(ctx); err != nil {
		return out, err
	}
	out.Offers, err = v.Units.Offers(ctx, u.ID, names)
	return out, err
}

func (v *Runs) printHandover(ctx context.Context, in *frame.UnitPath) (*frame.File, error) {
	h, err := v.handover(ctx, in)
	if err != nil {
		return nil, err
	}
	pdf, err := paper.HandOver(h, v.clock.Now())
	return &frame.File{ContentType: "application/pdf", Body: pdf}, err
}

package gear

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/version"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// AdapterOf is an adapter as procedures know it.
func AdapterOf(r store.Adapter) procedure.Adapter {
	return procedure.Adapter{Serial: r.Serial, Name: r.Name, Volts: r.Volts, Inverted: r.Inverted, Firmware: r.Firmware, Latency: r.Latency}
}

func (v *Gear) gear(ctx context.Context) ([]fit.Have, error) {
	rows, err := v.store.Gear(ctx)
	return havesOf(rows), err
}

func havesOf(rows []store.Gear) []fit.Have {
	all := []fit.Have{}
	for _, g := range rows {
		h := fit.Have{ID: g.ID, Kind: g.Kind, Name: g.Name, Version: g.Version, Owner: g.Owner, Expires: frame.TimeOf(g.Expires), Cost: g.Cost, Note: g.Note}
		if g.Left.Valid {
			n := int(g.Left.Int64)
			h.Left = &n
		}
		all = append(all, h)
	}
	return all
}

// Needs are what a model and a release want for work on a bench, held against what there is for it.
// Where they want nothing, nobody is asked what there is.
func (v *Gear) Needs(ctx context.Context, bench string, day time.Time, sheet *model.Sheet, release *model.Release, known fit.Known) ([]fit.Need, error) {
	if len(sheet.Wants) == 0 && (release == nil || len(release.Wants) == 0) {
		return nil, nil
	}
	means, err := v.means(ctx, bench, day)
	if err != nil {
		return nil, err
	}
	return fit.Needs(sheet, release, known, means), nil
}

// means are what there is for work on a bench, or, where none is named, for whoever asks:
// what colleagues and other benches have is not at hand. Adapters with records of their
// own count, too.
func (v *Gear) means(ctx context.Context, bench string, day time.Time) (fit.Means, error) {
	m := fit.Means{Day: day, Uses: 1, Away: map[string]bool{}}
	var err error
	if m.Have, err = v.gear(ctx); err != nil {
		return m, err
	}
	adapters, err := v.store.Adapters(ctx)
	if err != nil {
		return m, err
	}
	links, err := v.store.LinksOfAdapters(ctx)
	if err != nil {
		return m, err
	}
	for _, a := range adapters {
		if a.State != "ready" || a.Tested.Valid && !a.Sound {
			continue
		}
		h := fit.Have{ID: a.Serial, Kind: model.Adapter, Name: a.Name, Version: a.Firmware, Owner: "the list of adapters, " + a.Serial, Note: a.Note}
		for _, l := range links[a.Serial] {
			h.Owner = l.BenchName
		}
		m.Have = append(m.Have, h)
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return m, err
	}
	me := frame.Who(ctx).Person.Name
	for _, name := range names {
		m.Away[name] = name != me
	}
	benches, err := v.store.Benches(ctx)
	for _, b := range benches {
		m.Away[b.Name] = bench != "" && b.Name != bench
	}
	return m, err
}

func (v *Gear) listGear(ctx context.Context, in *frame.PageIn) (client.Gear, error) {
	rows, p, err := v.store.GearPage(ctx, in.After, in.Size)
	return client.Gear{Gear: havesOf(rows), Paged: frame.Paged(p)}, err
}

type gearIn struct{ Body client.NewGear }

func (v *Gear) putGear(ctx context.Context, in *gearIn) (fit.Have, error) {
	b := in.Body
	if b.Left != nil && *b.Left < 0 {
		return fit.Have{}, core.Fail(core.NotUnderstood, "how many are left is 0 or more, this is %d", *b.Left)
	}
	if b.Version != "" && !version.Valid(version.Dotted, b.Version) {
		return fit.Have{}, core.Fail(core.NotUnderstood, "version %q is none; expected numbers with dots between them, such as 2.4.1", b.Version)
	}
	g := store.Gear{ID: b.ID, Kind: b.Kind, Name: b.Name, Version: b.Version, Owner: b.Owner, Cost: b.Cost, Note: b.Note, By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()}
	if g.ID == "" {
		g.ID = store.NewID()
	}
	if b.Expires != nil {
		g.Expires.Time, g.Expires.Valid = b.Expires.UTC(), true
	}
	if b.Left != nil {
		g.Left.Int64, g.Left.Valid = int64(*b.Left), true
	}
	return fit.Have{ID: g.ID, Kind: g.Kind, Name: g.Name, Version: g.Version, Owner: g.Owner, Expires: b.Expires, Left: b.Left, Cost: g.Cost, Note: g.Note}, v.store.PutGear(ctx, g)
}

// GearPath is a thing in a path.
type GearPath struct {
	Gear string `path:"gear"`
}

func (v *Gear) dropGear(ctx context.Context, in *GearPath) (frame.None, error) {
	return frame.None{}, v.store.DropGear(ctx, in.Gear, frame.Who(ctx).Person.ID, v.clock.Now())
}

package units

import (
	"context"
	"time"

	"zealousferry/core"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// LeftAt lists what runs have left at a unit by name.
func LeftAt(u store.Unit, names map[string]string) []client.Owed {
	out := []client.Owed{}
	all, _ := OwedTo(u) // what cannot be read is told where a run is opened
	for _, o := range all {
		if o.Kind == run.OweTest || o.State == run.OweDischarged {
			continue
		}
		out = append(out, client.Owed{Unit: u.ID, Serial: u.Serial, Site: u.Site, Kind: o.Kind, Section: o.Section, Item: o.Item, Says: o.Says, By: names[o.By], Reason: o.Reason,
			Since: time.UnixMicro(o.Since).UTC(), Run: o.Run, ByHand: ByHand(o)})
	}
	return out
}

// ByHand tells whether a person's word is enough for something that is owed.
func ByHand(o run.Obligation) bool {
	return o.Kind == run.OweUndo || o.Kind == run.OweFinding || o.Kind == run.OweGive
}

// OneOffer is how lists show an offer.
func OneOffer(o store.Offer, u store.Unit, names map[string]string) client.Offer {
	out := client.Offer{Number: o.Number, Unit: u.ID, Serial: u.Serial, Site: u.Site, Says: o.Says, Run: o.Run.String, By: names[o.By], At: o.At, How: o.How}
	if o.Photo != nil {
		out.Photo = core.Digest(o.Photo).String()
	}
	if o.Ended.Valid {
		out.Ended = &o.Ended.Time
	}
	return out
}

// Offers lists those on which nobody has decided, of a unit or of all.
func (v *Units) Offers(ctx context.Context, unit string, names map[string]string) ([]client.Offer, error) {
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
		out = append(out, OneOffer(o, u, names))
	}
	return out, nil
}

// mostOffers bounds the list of what was seen and not ordered.
const mostOffers = 20

package links

import (
	"context"
	"encoding/json"
	"slices"

	"zealousferry/core"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/store"
)

// questions are the orders that change nothing in a unit: they are shown while they are
// asked, and those of them that leave nothing half done can be ended.
var (
	questions = []string{client.OrderIdentify, client.OrderCheck, client.OrderScan, client.OrderListen, client.OrderEcho, client.OrderTry}
	endable   = []string{client.OrderIdentify, client.OrderCheck, client.OrderScan, client.OrderListen, client.OrderEcho}
)

// question is the one that a link is busy with, of several the newest, but a person's own
// before others'; nil where there is none.
func (v *Links) question(ctx context.Context, p Place, person string) (*store.Order, client.Order, error) {
	if !v.Online(p.Seen, p.Revoked) { // whatever it was asked, nobody knows of it
		return nil, client.Order{}, nil
	}
	var row *store.Order
	var is client.Order
	err := v.eachAsked(ctx, []string{p.Bench}, func(r store.Order, o client.Order) {
		if o.Link == p.Name && (row == nil || o.By == person || is.By != person) {
			row, is = &r, o
		}
	})
	return row, is, err
}

// allAsked are the kinds of the questions that links are busy with, by bench and link.
func (v *Links) allAsked(ctx context.Context, links []store.Link) (map[string]string, error) {
	var benches []string
	for _, l := range links {
		if !slices.Contains(benches, l.Bench) {
			benches = append(benches, l.Bench)
		}
	}
	kinds := map[string]string{}
	return kinds, v.eachAsked(ctx, benches, func(row store.Order, o client.Order) { kinds[row.Bench+"/"+o.Link] = o.Kind })
}

func (v *Links) eachAsked(ctx context.Context, benches []string, do func(store.Order, client.Order)) error {
	if len(benches) == 0 {
		return nil
	}
	open, err := v.store.OpenOrders(ctx, benches)
	if err != nil {
		return err
	}
	for _, rows := range open {
		for _, row := range rows {
			if !slices.Contains(questions, row.Kind) || v.clock.Now().Sub(row.Created) > identifyLasts {
				continue
			}
			o, err := frame.Decode[client.Order](row.Body)
			if err != nil {
				return err
			}
			do(row, o)
		}
	}
	return nil
}

type askedIn struct {
	At string `query:"at" minLength:"1" maxLength:"120"`
}

func (v *Links) getAsked(ctx context.Context, in *askedIn) (client.Asked, error) {
	p, err := v.Find(ctx, in.At)
	if err != nil {
		return client.Asked{}, err
	}
	row, o, err := v.question(ctx, p, "")
	if err != nil || row == nil {
		return client.Asked{Link: p.FullName()}, err
	}
	return v.told(ctx, p, row, o)
}

func (v *Links) told(ctx context.Context, p Place, row *store.Order, o client.Order) (client.Asked, error) {
	names, err := v.store.Names(ctx)
	if err != nil {
		return client.Asked{}, err
	}
	out := client.Asked{Link: p.FullName(), Kind: o.Kind, By: names[o.By], Since: &row.Created, Ends: slices.Contains(endable, o.Kind)}
	said, err := v.store.OrderTold(ctx, row.ID)
	if err == nil && said != "" {
		err = json.Unmarshal([]byte(said), &out.Told)
	}
	return out, err
}

type endAskedIn struct{ Body client.At }

// endAsked has the bench end what it asks on a link; whoever waits for the answer hears
// who has ended it.
func (v *Links) endAsked(ctx context.Context, in *endAskedIn) (client.Asked, error) {
	p, err := v.Find(ctx, in.Body.At)
	if err != nil {
		return client.Asked{}, err
	}
	row, o, err := v.question(ctx, p, frame.Who(ctx).Person.ID)
	if err != nil {
		return client.Asked{}, err
	}
	if row == nil {
		return client.Asked{}, core.Fail(core.NotFound, "nothing is being asked on %s", p.FullName()).Go(words.Links().To("See what the links are at"))
	}
	if !slices.Contains(endable, o.Kind) {
		return client.Asked{}, core.Fail(core.Busy, "on %s a sheet is being tried, which may have erased a sector: it ends by itself", p.FullName())
	}
	out, err := v.told(ctx, p, row, o)
	if err != nil {
		return out, err
	}
	_, err = v.Ask(ctx, client.Order{Kind: client.OrderEnd, Link: p.Name, Ends: row.ID, By: frame.Who(ctx).Person.Name}, p.Bench, OrderLasts)
	return out, err
}

type toldIn struct {
	Order   string `path:"order"`
	RawBody []byte
}

// longestTold is how much a bench may say of how far it is.
const longestTold = 2000

func (v *Links) tellOrder(ctx context.Context, in *toldIn) (frame.None, error) {
	said, err := frame.Decode[core.Said](in.RawBody)
	if err != nil {
		return frame.None{}, err
	}
	raw, err := json.Marshal(said)
	if err != nil {
		return frame.None{}, err
	}
	if len(raw) > longestTold {
		return frame.None{}, core.Fail(core.BadFile, "how far an order is was told with %d bytes, %d are the most", len(raw), longestTold)
	}
	return frame.None{}, v.store.TellOrder(ctx, frame.Who(ctx).Bench, in.Order, raw)
}

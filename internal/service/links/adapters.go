package links

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"strconv"
	"strings"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/gear"
	"zealousferry/internal/store"
)

func (v *Links) listAdapters(ctx context.Context, in *frame.PageIn) (client.Adapters, error) {
	rows, p, err := v.store.AdaptersPage(ctx, in.After, in.Size)
	if err != nil {
		return client.Adapters{}, err
	}
	all, err := v.adapters(ctx, rows)
	return client.Adapters{Adapters: all, Paged: frame.Paged(p)}, err
}

// adapters are some adapters as they are told of.
func (v *Links) adapters(ctx context.Context, rows []store.Adapter) ([]client.Adapter, error) {
	out := []client.Adapter{}
	families, err := v.store.Families(ctx)
	if err != nil {
		return out, err
	}
	links, err := v.store.LinksOfAdapters(ctx)
	if err != nil {
		return out, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return out, err
	}
	for _, r := range rows {
		a := client.Adapter{Serial: r.Serial, Name: r.Name, Volts: r.Volts, Inverted: r.Inverted, Firmware: r.Firmware, Latency: r.Latency, State: r.State, Note: r.Note,
			Tested: frame.TimeOf(r.Tested), Sound: r.Sound, Changed: r.At, By: names[r.By], Links: []string{}, Families: []client.Family{}}
		for _, f := range families {
			if f.Adapter == r.Serial {
				a.Families = append(a.Families, client.Family{Model: f.Model, Worked: f.Worked, Failed: f.Failed})
			}
		}
		for _, l := range links[r.Serial] {
			a.Links = append(a.Links, l.FullName())
		}
		if err := v.asUnit(ctx, &a); err != nil {
			return out, err
		}
		out = append(out, a)
	}
	return out, nil
}

// asUnit looks an adapter up in the register of units: one that has firmware of its
// own is a unit of a model of its own, and is brought up to date like any other.
func (v *Links) asUnit(ctx context.Context, a *client.Adapter) error {
	u, err := v.store.Unit(ctx, a.Serial)
	if core.KindOf(err) == core.NotFound {
		return nil
	}
	if err != nil {
		return err
	}
	a.Unit, a.Firmware = u.ID, cmp.Or(u.Running, a.Firmware)
	places, err := v.store.WhereAre(ctx, []string{u.ID})
	if err != nil {
		return err
	}
	if len(places) > 0 {
		a.At = places[0].FullName()
	}
	a.Newer, err = v.newer(ctx, u)
	return err
}

type adapterIn struct{ Body client.NewAdapter }

func (v *Links) putAdapter(ctx context.Context, in *adapterIn) (client.Adapter, error) {
	n := in.Body
	if err := procedure.CheckAdapter(gear.AdapterOf(store.Adapter{Serial: n.Serial, Name: n.Name, Volts: n.Volts, Firmware: n.Firmware})); err != nil {
		return client.Adapter{}, err
	}
	err := v.store.PutAdapter(ctx, store.Adapter{Serial: n.Serial, Name: n.Name, Volts: n.Volts, Inverted: n.Inverted, Firmware: n.Firmware, Latency: n.Latency,
		State: cmp.Or(n.State, "ready"), Note: n.Note, By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()})
	if err != nil {
		return client.Adapter{}, err
	}
	row, _, err := v.store.Adapter(ctx, n.Serial)
	if err != nil {
		return client.Adapter{}, err
	}
	all, err := v.adapters(ctx, []store.Adapter{row})
	if err != nil {
		return client.Adapter{}, err
	}
	return all[0], nil
}

// adapterOn is the adapter that a bench has on a link, as its record says that it
// is set; nil where nobody has entered one.
func (v *Links) adapterOn(ctx context.Context, l store.Link) (*procedure.Adapter, error) {
	if l.Adapter == "" {
		return nil, nil
	}
	r, there, err := v.store.Adapter(ctx, l.Adapter)
	if err != nil || !there {
		return nil, err
	}
	a := gear.AdapterOf(r)
	return &a, nil
}

type wiresIn struct{ Body client.NewWires }

// putWires keeps which colours the wires on a link have this time.
func (v *Links) putWires(ctx context.Context, in *wiresIn) (client.Wires, error) {
	p, err := v.Find(ctx, in.Body.At)
	if err != nil {
		return client.Wires{}, err
	}
	if err := in.Body.Wires.Check(); err != nil {
		return client.Wires{}, err
	}
	if err := v.hasPins(ctx, p.Link, in.Body.Wires); err != nil {
		return client.Wires{}, err
	}
	all := procedure.Colours{}
	if before, err := v.wires(ctx, p.Link); err == nil { // those that nobody speaks of now stay as they were seen
		maps.Copy(all, before.Wires)
	} else if core.KindOf(err) != core.NotFound {
		return client.Wires{}, err
	}
	maps.Copy(all, in.Body.Wires)
	if err := v.SawWires(ctx, p.Link, all); err != nil {
		return client.Wires{}, err
	}
	return v.wires(ctx, p.Link)
}

// hasPins refuses a wire on a pin that the unit's plug does not have, as far as the sheet
// of what is on the link draws one.
func (v *Links) hasPins(ctx context.Context, l store.Link, wires procedure.Colours) error {
	if l.Model == "" {
		return nil
	}
	sheet, err := v.store.Sheet(ctx, l.Model)
	if err != nil {
		return err
	}
	var plug *model.Connector
	for i := range sheet.Procedures {
		for k := range sheet.Procedures[i].Wiring {
			if c := &sheet.Procedures[i].Wiring[k].Unit; plug == nil || len(c.Pins) > len(plug.Pins) {
				plug = c
			}
		}
	}
	if plug == nil {
		return nil
	}
	for pin := range wires {
		if n, err := strconv.Atoi(pin); err == nil && n > len(plug.Pins) {
			var names []string
			for i, p := range plug.Pins {
				names = append(names, fmt.Sprintf("%d %s", i+1, p.Name))
			}
			return core.Fail(core.NotUnderstood, "the plug %s has no pin %d; it has %s", plug.Name, n, strings.Join(names, ", ")).Do("Count from the edge that the card names.")
		}
	}
	return nil
}

// SawWires keeps which colours the wires on a link have.
func (v *Links) SawWires(ctx context.Context, l store.Link, wires procedure.Colours) error {
	raw, err := json.Marshal(wires)
	if err != nil {
		return err
	}
	return v.store.PutLead(ctx, store.Lead{Bench: l.Bench, Link: l.Name, Adapter: l.Adapter, Wires: string(raw), By: frame.Who(ctx).Person.ID, At: v.clock.Now().UTC()})
}

// wires are those that somebody saw on a link with the adapter that is on it now.
func (v *Links) wires(ctx context.Context, l store.Link) (client.Wires, error) {
	row, err := v.store.Lead(ctx, l.Bench, l.Name)
	if err == nil && row.Adapter != l.Adapter {
		err = core.Fail(core.NotFound, "another adapter is on %s since its wires were looked at", l.FullName())
	}
	if err != nil {
		return client.Wires{}, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return client.Wires{}, err
	}
	out := client.Wires{Link: l.FullName(), Adapter: row.Adapter, By: names[row.By], At: row.At}
	return out, json.Unmarshal([]byte(row.Wires), &out.Wires)
}

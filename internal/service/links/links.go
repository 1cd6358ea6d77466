package links

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/fit"
	"zealousferry/core/history"
	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/people"
	"zealousferry/internal/store"
)

// How long a bench may take to begin an order, and an identification to end.
const (
	OrderLasts    = 30 * time.Second
	identifyLasts = 60 * time.Second
)

type linksIn struct {
	frame.PageIn
	At string `query:"at" maxLength:"120" doc:"Only this one, as BENCH/NAME."`
}

func (v *Links) listLinks(ctx context.Context, in *linksIn) (client.Links, error) {
	var rows []store.Link
	var p store.Paged
	var err error
	if in.At == "" {
		rows, p, err = v.store.Places(ctx, in.After, in.Size)
	} else if rows, err = v.store.PlacesAt(ctx, in.At); len(rows) > 0 {
		p.Total = 1
	}
	if err != nil {
		return client.Links{}, err
	}
	asked, err := v.allAsked(ctx, rows)
	out := client.Links{Links: []client.Link{}, Paged: frame.Paged(p)}
	for _, l := range rows { // the places behind a link follow it
		if l.Slot == "" {
			x := v.Link(l)
			x.Asked = asked[l.Bench+"/"+l.Name]
			out.Links = append(out.Links, x)
		} else if l.Unit.Valid {
			out.Links[len(out.Links)-1].Modules++
		}
	}
	return out, err
}

// Link is how lists show a link.
func (v *Links) Link(l store.Link) client.Link {
	state := "free"
	switch {
	case !v.Online(l.Seen, l.Revoked):
		state = "offline"
	case l.Run.Valid:
		state = "busy"
	case l.Absent != "":
		state = "absent"
	}
	return client.Link{Absent: l.Absent, Link: l.At(), Bench: l.BenchName, Name: l.Name, Kind: l.Kind, State: state, Run: l.Run.String, Unit: l.Unit.String,
		Serial: l.Serial.String, Model: l.Model, Site: l.Site.String, Identified: frame.TimeOf(l.Identified),
		Adapter: l.Adapter, Checked: frame.TimeOf(l.Checked), Class: l.Class.String}
}

// Place is where an order is to be carried out: a link, or a slot behind it, and the unit
// that the person named, if it was a unit.
type Place struct {
	store.Link
	unit *store.Unit
}

// Find resolves BENCH/LINK, BENCH/LINK/SLOT or a unit's serial. A serial means the place
// where the unit was last read.
func (v *Links) Find(ctx context.Context, at string) (Place, error) {
	if strings.Contains(at, "/") {
		places, err := v.store.PlacesAt(ctx, at)
		if err != nil {
			return Place{}, err
		}
		p, err := v.placeAt(ctx, places, at)
		if err != nil {
			return Place{}, err
		}
		return v.within(ctx, p)
	}
	u, err := v.store.Unit(ctx, at)
	if err != nil {
		return Place{}, err
	}
	places, err := v.store.WhereAre(ctx, []string{u.ID})
	if err != nil {
		return Place{}, err
	}
	if len(places) > 0 {
		return v.within(ctx, Place{places[0], &u})
	}
	return Place{}, core.Fail(core.NotFound, "unit %s is on no link now", u.Serial).Go(words.Identify("BENCH/LINK").To("Plug it in, then"))
}

// placeAt is a link, or a slot of the assembly that it leads to. A slot in which nothing
// was found yet is one, too.
func (v *Links) placeAt(ctx context.Context, places []store.Link, at string) (Place, error) {
	for _, l := range places {
		if l.At() == at {
			return Place{Link: l}, nil
		}
	}
	link, slot := at, ""
	if i := strings.LastIndex(at, "/"); strings.Count(at, "/") == 2 {
		link, slot = at[:i], at[i+1:]
	}
	for _, l := range places {
		if slot == "" || l.At() != link {
			continue
		}
		if l.Model == "" {
			return Place{}, core.Fail(core.CannotTell, "nobody knows what is on %s, and whether it has a slot %q", link, slot).Go(words.Identify(link).To("Identify it"))
		}
		sheet, err := v.store.Sheet(ctx, l.Model)
		if err != nil {
			return Place{}, err
		}
		for _, h := range sheet.Holds {
			if h.Name != slot {
				continue
			}
			l.Slot, l.Unit, l.Serial, l.Site, l.Identified, l.Model = slot, sql.NullString{}, sql.NullString{}, sql.NullString{}, sql.NullTime{}, ""
			if len(h.Models) == 1 {
				l.Model = h.Models[0]
			}
			return Place{Link: l}, nil
		}
		return Place{}, core.Fail(core.NotFound, "a %s has no slot %q; it has %s", l.Model, slot, holdNames(sheet))
	}
	return Place{}, core.Fail(core.NotFound, "there is no link %q", at).Go(words.Links().To("See which there are"))
}

func holdNames(s *model.Sheet) string {
	names := []string{}
	for _, h := range s.Holds {
		names = append(names, h.Name)
	}
	return strings.Join(append(names, "no others"), ", ")
}

// slotFor is the slot of the assembly on a link into which a model fits; empty where no
// such assembly is known to be there.
func (v *Links) slotFor(ctx context.Context, p Place, modelName string) (string, error) {
	if p.Slot != "" {
		return p.Slot, nil
	}
	links, err := v.store.PlacesAt(ctx, p.FullName())
	if err != nil {
		return "", err
	}
	for _, l := range links {
		if l.Slot != "" || l.Model == "" || l.Model == modelName || !l.Identified.Valid {
			continue
		}
		sheet, err := v.store.Sheet(ctx, l.Model)
		if err != nil {
			return "", err
		}
		for _, h := range sheet.Holds {
			if slices.Contains(h.Models, modelName) {
				return h.Name, nil
			}
		}
	}
	return "", nil
}

// Free refuses a link that a run has.
func (p Place) Free() error {
	if !p.Run.Valid {
		return nil
	}
	return core.Fail(core.Busy, "link %s is in use by run %s", p.FullName(), p.Run.String).Go(words.RunShow(p.Run.String).To("Look at it"))
}

// within refuses a link whose bench is out of reach.
func (v *Links) within(ctx context.Context, p Place) (Place, error) {
	if err := people.AtBench(frame.Who(ctx), p.Bench, p.BenchName); err != nil {
		return p, err
	}
	if !v.Online(p.Seen, p.Revoked) {
		return p, core.Fail(core.NotAnswering, "bench %s is not in touch with the service", p.BenchName).Go(words.BenchStart().To("Start it"))
	}
	if p.Absent != "" && !p.Run.Valid {
		return p, core.Fail(core.NotAnswering, "link %s cannot be opened: %s", p.FullName(), p.Absent).Unit("nothing was sent").
			Go(words.Ports(p.BenchName).To("Plug it in, or choose another port for the link"))
	}
	return p, nil
}

// IdentifyIn asks who is on a link.
type IdentifyIn struct{ Body client.NewIdentify }

// serialOf is the serial that a unit tells, or that a person has read from its label; a
// label that says another one than the unit is refused.
func (v *Links) serialOf(ctx context.Context, r client.Result, label string) (string, error) {
	wire := ""
	for _, f := range r.Found.Facts {
		if f.Name == core.FactSerial {
			wire = f.Value
		}
	}
	switch {
	case strings.TrimSpace(label) == "":
		return wire, nil
	case wire != "" && !model.SameSerial(wire, label):
		return "", core.Fail(core.WrongUnit, "the label says %s; the unit itself says that it is %s", strings.TrimSpace(label), wire).Unit("nothing was changed").
			Do("Look at the label again. If it is right, another unit is on this link.")
	case wire != "":
		return wire, nil
	}
	sheet, err := v.store.Sheet(ctx, r.Model)
	if err != nil {
		return "", err
	}
	known, err := v.store.SerialLike(ctx, r.Model, label)
	if err != nil || known != "" {
		return known, err
	}
	return sheet.TypedSerial(label)
}

// namedModel is the model that is meant: the one that was named, or the one as which the
// register knows the label. The two must not differ.
func (v *Links) namedModel(ctx context.Context, n client.NewIdentify) (string, error) {
	if n.Model != "" {
		if _, err := v.store.Sheet(ctx, n.Model); err != nil {
			return "", err
		}
	}
	label := strings.TrimSpace(n.Label)
	if label == "" {
		return n.Model, nil
	}
	known, err := v.store.ModelsOfSerial(ctx, label)
	switch {
	case err != nil || len(known) == 0 || slices.Contains(known, n.Model):
		return n.Model, err
	case n.Model != "":
		return "", core.Fail(core.WrongUnit, "the register has %s as a %s, and a %s was named", label, strings.Join(known, " and as a "), n.Model).Unit("nothing was changed").
			Do("Look at the label again. If the register is wrong, correct it first.")
	case len(known) > 1:
		return "", core.Fail(core.CannotTell, "the register has %s as a %s", label, strings.Join(known, " and as a ")).Do("Name the model.")
	}
	return known[0], nil
}

// asRegistered is the model as which the register knows a serial, if its units call
// themselves as those of the model that was found.
func (v *Links) asRegistered(ctx context.Context, serial, found string) (string, error) {
	known, err := v.store.ModelsOfSerial(ctx, serial)
	if err != nil || len(known) == 0 || slices.Contains(known, found) {
		return found, err
	}
	sheet, err := v.store.Sheet(ctx, found)
	if err != nil {
		return found, err
	}
	for _, name := range known {
		other, err := v.store.Sheet(ctx, name)
		if err != nil {
			return found, err
		}
		if a, b := sheet.Main().Loader, other.Main().Loader; a.Kind == b.Kind && a.Says == b.Says {
			return name, nil
		}
	}
	return found, nil
}

// Identify has the bench ask the unit, and enters what it said.
func (v *Links) Identify(ctx context.Context, in *IdentifyIn) (client.Identity, error) {
	p, err := v.Find(ctx, in.Body.At)
	if err != nil {
		return client.Identity{}, err
	}
	if err := p.Free(); err != nil {
		return client.Identity{}, err
	}
	named, err := v.namedModel(ctx, in.Body)
	if err != nil {
		return client.Identity{}, err
	}
	if named == "" && p.Slot != "" { // a slot is asked as what is in it, or nobody would know whom to call
		if named = p.Model; named == "" {
			return client.Identity{}, core.Fail(core.CannotTell, "units of several models fit into slot %s", p.At()).Do("Name the model.")
		}
	}
	order := client.Order{Kind: client.OrderIdentify, Link: p.Name, Model: cmp.Or(named, p.Model), Named: named != "", Label: in.Body.Label, Await: in.Body.Await, Slower: in.Body.Slower}
	if order.Stays, err = v.store.HalfDone(ctx); err != nil {
		return client.Identity{}, err
	}
	result, err := v.Ask(ctx, order, p.Bench, identifyLasts)
	if err != nil {
		return client.Identity{}, err
	}
	if named != "" && result.Model != named {
		return client.Identity{}, core.Fail(core.WrongUnit, "a %s was expected on %s; a %s answers", named, p.At(), result.Model).Unit("nothing was changed").
			Do("Look at the unit and its label again.")
	}
	return v.Welcome(ctx, p, result, in.Body.Label, named != "")
}

// Welcome puts who was found on a link into the register, with what it said.
func (v *Links) Welcome(ctx context.Context, p Place, result client.Result, label string, named bool) (client.Identity, error) {
	serial, err := v.serialOf(ctx, result, label)
	if err != nil {
		return client.Identity{}, err
	}
	if p.unit != nil && serial != p.unit.Serial {
		return client.Identity{}, core.Fail(core.WrongUnit, "on %s is now %q, not %s", p.At(), serial, p.unit.Serial).Go(words.Identify(p.At()).To("Plug in %s, or work with what is there", p.unit.Serial))
	}
	if !named && serial != "" { // the register knows a serial by its model, where units of two models call themselves alike
		if result.Model, err = v.asRegistered(ctx, serial, result.Model); err != nil {
			return client.Identity{}, err
		}
	}
	out := client.Identity{Serial: serial, Model: result.Model, Strength: result.Found.Strength}
	if result.Stays {
		stays := core.Say("It is half done: it was left in its loader, and its program was not started.")
		out.Stays = &stays
	}
	facts := result.Found.Facts
	if serial != "" {
		u, err := v.store.MeetUnit(ctx, v.key, result.Model, serial, "", frame.Who(ctx).Person.ID, v.clock.Now())
		if err != nil {
			return client.Identity{}, err
		}
		if err := v.store.AddFacts(ctx, u.ID, facts); err != nil {
			return client.Identity{}, err
		}
		if facts, err = v.store.Facts(ctx, u.ID); err != nil {
			return client.Identity{}, err
		}
		out.Unit, out.Site = u.ID, u.Site
	}
	p.Slot, err = v.slotFor(ctx, p, result.Model)
	if err != nil {
		return client.Identity{}, err
	}
	out.Link = p.At()
	if err := v.store.OnLink(ctx, p.Bench, p.Name, p.Slot, out.Unit, result.Model, v.clock.Now()); err != nil {
		return client.Identity{}, err
	}
	names, err := v.store.Names(ctx)
	if err != nil {
		return client.Identity{}, err
	}
	sheet, err := v.store.Sheet(ctx, result.Model)
	if err != nil {
		return client.Identity{}, err
	}
	out.ModelName = sheet.Name.In("en")
	out.Facts, out.Disagree = FactValues(sheet, facts, names, v.clock.Now())
	out.Missing = []string{}
	for name := range sheet.Facts {
		if _, known := out.Facts[name]; !known {
			out.Missing = append(out.Missing, name)
		}
	}
	sort.Strings(out.Missing)
	return out, nil
}

// FactValues gives the best value of each fact, and the names of those on which
// sources disagree.
func FactValues(sheet *model.Sheet, facts []core.Fact, names map[string]string, now time.Time) (map[string]client.FactValue, []string) {
	known := fit.Prepare(sheet, facts, now)
	out, disagree := map[string]client.FactValue{}, []string{}
	for _, name := range known.Names() {
		f, ok := known.Best(name)
		if !ok || f.Value == "" {
			continue // not told, or not known any more
		}
		out[name] = client.FactValue{Called: sheet.Called(name), Value: f.Value, Source: f.Source, At: f.At, By: names[f.By], Photo: photoOf(f)}
		if _, _, yes := known.Contradiction(name); yes {
			disagree = append(disagree, name)
		}
	}
	return out, disagree
}

func photoOf(f core.Fact) string {
	if f.Photo == nil {
		return ""
	}
	return f.Photo.String()
}

// Ask gives a bench an order and waits for what comes of it.
func (v *Links) Ask(ctx context.Context, o client.Order, bench string, lasts time.Duration) (client.Result, error) {
	o, err := v.give(ctx, o, bench)
	if err != nil {
		return client.Result{}, err
	}
	return v.Ended(ctx, o, lasts)
}

// give gives a bench an order.
func (v *Links) give(ctx context.Context, o client.Order, bench string) (client.Order, error) {
	if o.By == "" {
		o.By = frame.Who(ctx).Person.ID
	}
	order, err := v.Order(o, bench)
	if err != nil {
		return o, err
	}
	if err := v.store.AddOrder(ctx, order); err != nil {
		return o, err
	}
	v.Written.Ring()
	o.ID = order.ID
	return o, nil
}

// Ended waits for what comes of an order.
func (v *Links) Ended(ctx context.Context, o client.Order, lasts time.Duration) (client.Result, error) {
	late := v.clock.After(lasts)
	bell, leave := v.OrderEnds.At(o.ID)
	defer leave()
	for {
		news := bell.Wait()
		got, err := v.store.Order(ctx, o.ID)
		if err != nil {
			return client.Result{}, err
		}
		if got.Ended.Valid {
			r, err := frame.Decode[client.Result]([]byte(got.Result.String))
			if err == nil && r.Error != nil {
				err = r.Error.Err()
			}
			if err == nil && o.Kind == client.OrderIdentify && r.Found == nil {
				err = core.Fail(core.Interrupted, "the bench ended the order without an answer")
			}
			return r, err
		}
		select {
		case <-news:
		case <-v.clock.After(100 * time.Millisecond): // another service may have been told
		case <-late:
			return client.Result{}, core.Fail(core.NotAnswering, "the bench did not answer within %s", lasts).Go(words.Links().To("See that the bench runs"))
		case <-ctx.Done():
			return client.Result{}, ctx.Err()
		}
	}
}

// Order makes the row of an order.
func (v *Links) Order(o client.Order, bench string) (store.Order, error) {
	now := v.clock.Now().UTC()
	o.ID, o.Deadline = store.NewID(), now.Add(OrderLasts)
	raw, err := json.Marshal(o)
	return store.Order{ID: o.ID, Bench: bench, Kind: o.Kind, Body: raw, Created: now, Deadline: o.Deadline, Signature: v.key.Sign(history.OrderDomain, history.Ordered(bench, raw))}, err
}

type portsIn struct {
	Bench    string `path:"bench"`
	Vehicles bool   `query:"vehicles" doc:"Ask on the bench's networks too which vehicles are there, which takes two seconds."`
}

func (v *Links) listPorts(ctx context.Context, in *portsIn) (client.Ports, error) {
	benches, err := v.store.Benches(ctx)
	if err != nil {
		return client.Ports{}, err
	}
	for _, b := range benches {
		if b.Name != in.Bench && b.ID != in.Bench {
			continue
		}
		if err := people.AtBench(frame.Who(ctx), b.ID, b.Name); err != nil {
			return client.Ports{}, err
		}
		if !v.Online(b.Seen, b.Revoked) {
			return client.Ports{}, core.Fail(core.NotAnswering, "bench %s is not in touch with the service", b.Name).Go(words.BenchStart().To("Start it"))
		}
		r, err := v.Ask(ctx, client.Order{Kind: client.OrderPorts, Vehicles: in.Vehicles}, b.ID, OrderLasts)
		out := client.Ports{Bench: b.Name, Ports: r.Ports, Vehicles: append([]client.Vehicle{}, r.Vehicles...), Asked: r.Asked}
		if out.Ports == nil {
			out.Ports = out.Ports[:0:0]
		}
		return out, err
	}
	return client.Ports{}, core.Fail(core.NotFound, "there is no bench %q", in.Bench).Go(words.BenchList().To("See which there are"))
}

type newLinkIn struct{ Body client.NewLink }

// setLink has a bench make a link, change where it goes, or remove it. Who comes next
// must be asked.
func (v *Links) setLink(ctx context.Context, in *newLinkIn) (frame.None, error) {
	benchName, name, ok := strings.Cut(in.Body.Link, "/")
	if !ok {
		return frame.None{}, core.Fail(core.NotUnderstood, "expected BENCH/NAME, came %q", in.Body.Link)
	}
	to := in.Body.PortChoice
	if !to.Remove && to.Path+to.Adapter+to.Address+to.Gateway+to.Interface == "" {
		return frame.None{}, core.Fail(core.NotUnderstood, "nobody has said where %s goes", in.Body.Link).Do("Name a port, an adapter, an address, a gateway or a CAN interface.")
	}
	benches, err := v.store.Benches(ctx)
	if err != nil {
		return frame.None{}, err
	}
	for _, b := range benches {
		if b.Name != benchName || b.Revoked.Valid {
			continue
		}
		if !v.Online(b.Seen, b.Revoked) {
			return frame.None{}, core.Fail(core.NotAnswering, "bench %s is not in touch with the service", b.Name).Go(words.BenchStart().To("Start it"))
		}
		if _, err := v.Ask(ctx, client.Order{Kind: client.OrderSetLink, Link: name, Port: &to}, b.ID, OrderLasts); err != nil {
			return frame.None{}, err
		}
		return frame.None{}, v.store.OffLink(ctx, b.ID, name)
	}
	return frame.None{}, core.Fail(core.NotFound, "there is no bench %q", benchName).Go(words.BenchList().To("See which there are"))
}

// AsJoined lays the wires of the link over the sheet's: the adapter that is there,
// and the colours that somebody saw last.
func (v *Links) AsJoined(ctx context.Context, p *model.Procedure, out *client.Card) error {
	if out.Link == "" {
		return nil
	}
	l, err := v.Find(ctx, out.Link)
	if core.KindOf(err) == core.NotAnswering { // a bench that is away: the sheet's own
		return nil
	}
	if err != nil {
		return err
	}
	on, err := v.adapterOn(ctx, l.Link)
	if err != nil {
		return err
	}
	if on != nil {
		w := procedure.WiringFor(p, on.Name)
		if err := on.Suits(w); err != nil {
			e := core.AsError(err, core.DoesNotFit)
			out.Unsuited = e.Message + ". " + e.Next
		}
		if out.Wiring == nil {
			out.Wiring = w
		}
	}
	seen, err := v.wires(ctx, l.Link)
	if core.KindOf(err) == core.NotFound {
		return nil
	}
	if err != nil {
		return err
	}
	out.Wires = &seen
	if out.Wiring == nil && len(p.Wiring) > 0 {
		out.Wiring = &p.Wiring[0]
	}
	if out.Wiring != nil {
		w := *out.Wiring
		w.Wires = slices.Clone(w.Wires)
		for n, x := range w.Wires {
			w.Wires[n].Colour = cmp.Or(seen.Wires[strconv.Itoa(x.Unit)], x.Colour)
		}
		out.Wiring = &w
	}
	return nil
}

// UnitAt is the unit on a link, or the one named.
func (v *Links) UnitAt(ctx context.Context, at string) (store.Unit, string, error) {
	u, err := v.store.Unit(ctx, at)
	if err == nil {
		return u, "", nil
	}
	if core.KindOf(err) != core.NotFound {
		return u, "", err
	}
	places, err2 := v.store.PlacesAt(ctx, at)
	if err2 != nil {
		return u, "", err2
	}
	for _, l := range places {
		if l.At() != at {
			continue
		}
		if !l.Unit.Valid {
			return u, at, core.Fail(core.CannotTell, "nobody knows which unit is on %s", at).Go(words.Identify(at).To("Identify it"))
		}
		u, err = v.store.Unit(ctx, l.Unit.String)
		return u, at, err
	}
	return u, "", err
}

// Online tells whether a bench is in touch.
func (v *Links) Online(seen, revoked sql.NullTime) bool {
	return seen.Valid && !revoked.Valid && v.clock.Now().Sub(seen.Time) < Away
}

// Away is how long a bench may be silent before it counts as offline.
const Away = 12 * time.Second

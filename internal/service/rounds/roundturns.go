package rounds

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/round"
	"zealousferry/core/run"
	"zealousferry/core/visit"
	"zealousferry/core/words"
	"zealousferry/internal/client"
	"zealousferry/internal/service/frame"
	"zealousferry/internal/service/links"
	"zealousferry/internal/service/units"
	"zealousferry/internal/store"
)

// learnLasts is how long a bench may take until a module has learnt something.
const learnLasts = 5 * time.Minute

// written are events that are put at the end of a round.
type written struct {
	v      *Rounds
	id, by string
	n      uint64
	events []round.Event
	says   []store.Says
	ends   *store.Job // the job that ends with the round
	err    error
}

func (w *written) put(kind string, turn int, body any) {
	raw, err := json.Marshal(body)
	if err != nil {
		w.err = err
		return
	}
	w.n++
	w.events = append(w.events, round.Event{N: w.n, At: w.v.clock.Now().UnixMicro(), By: w.by, Kind: kind, Turn: turn, Body: raw})
}

// tell leaves words in the history of a unit; one that nobody knows has none.
func (w *written) tell(unit string, says string) {
	if unit != "" {
		w.says = append(w.says, store.Says{Unit: unit, Says: says})
	}
}

func (w *written) store(ctx context.Context) error {
	if w.err != nil {
		return w.err
	}
	err := w.v.store.AddRoundEvents(ctx, w.v.key, w.id, w.events, w.says, w.ends)
	w.events, w.says, w.ends = nil, nil, nil
	return err
}

type roundStepIn struct {
	RoundPath
	Body client.RoundStep
}

// stepRound carries the turn that is next out, leaves it, goes back, or closes the round.
func (v *Rounds) stepRound(ctx context.Context, in *roundStepIn) (client.Round, error) {
	r, s, raw, err := v.Runs.ReadRound(ctx, in.Round)
	if err != nil {
		return client.Round{}, err
	}
	b := in.Body
	b.Reason = strings.TrimSpace(b.Reason)
	w := &written{v: v, id: r.ID, by: frame.Who(ctx).Person.ID, n: s.N}
	if b.Do == "close" {
		err = v.closeRound(ctx, w, r, s, raw, b)
	} else {
		err = v.stepTurn(ctx, w, r, s, b)
	}
	if err == nil {
		err = w.store(ctx)
	}
	if err != nil {
		return client.Round{}, err
	}
	return v.getRound(ctx, &RoundPath{r.ID})
}

func (v *Rounds) stepTurn(ctx context.Context, w *written, r store.Round, s *round.State, b client.RoundStep) error {
	if b.Turn >= len(s.Turns) {
		return core.Fail(core.NotFound, "the round has %d turns, there is no turn %d", len(s.Turns), b.Turn+1)
	}
	kind := map[string]string{"leave": round.KindLeft, "again": round.KindAgain}[b.Do]
	if err := s.May(kind, b.Turn); err != nil {
		return err
	}
	t := s.Turns[b.Turn]
	switch {
	case b.Do == "again":
		w.put(round.KindAgain, b.Turn, struct{}{})
		return nil
	case b.Do == "leave" && len(b.Reason) < 3:
		return core.Fail(core.NotAllowed, "%q stays undone only with a reason", round.Says(t.Turn).Text).Unit("nothing was changed").Go(words.RoundLeave(r.ID).To("Say why"))
	case t.Do == model.TurnModules:
		return v.worked(ctx, w, r, s, b)
	case b.Do == "leave":
		w.put(round.KindLeft, b.Turn, round.Left{Reason: b.Reason})
		return nil
	case t.Do == model.TurnHands && t.Fact == "":
		w.put(round.KindDone, b.Turn, round.Done{})
		return nil
	}
	return v.atVehicle(ctx, w, r, s, b.Turn)
}

// worked ends the writing: what is not as it should be is left by name.
func (v *Rounds) worked(ctx context.Context, w *written, r store.Round, s *round.State, b client.RoundStep) error {
	now, err := v.showRound(ctx, r, s, nil)
	if err != nil {
		return err
	}
	for _, x := range now.Written {
		if x.Outcome == "" || x.Outcome == string(run.Interrupted) {
			return core.Fail(core.Busy, "the run of the %s is not closed", s.Title(x.Slot)).Go(words.RunShow(x.Run).To("Look at it"))
		}
	}
	var left []string
	for _, slot := range now.Behind {
		left = append(left, s.Title(slot))
	}
	if len(left) > 0 && b.Reason == "" {
		return core.Fail(core.NotAllowed, "not as they should be: %s", strings.Join(left, ", ")).Unit("nothing was changed").
			Go(words.Scan(r.Link).To("Write them"), words.RoundLeave(r.ID).To("Or leave them as they are, and say why"))
	}
	if len(left) == 0 {
		b.Reason = ""
	}
	w.put(round.KindWorked, b.Turn, round.Worked{Written: now.Written, Reason: b.Reason})
	return nil
}

// atVehicle does a turn for which a bench asks the vehicle.
func (v *Rounds) atVehicle(ctx context.Context, w *written, r store.Round, s *round.State, turn int) error {
	p, sheet, err := v.Units.ToScan(ctx, r.Link, r.Model)
	if err != nil {
		return err
	}
	t := s.Turns[turn]
	asked, err := v.Units.Slots(ctx, p, sheet, t.Do == model.TurnNote || t.Do == model.TurnClear)
	if err != nil {
		return err
	}
	slots := asked.Slots
	if who := visit.Value(slots[0].Facts, core.FactSerial); who != s.Opened.Serial { // also before anything is cleared or learnt
		return core.Fail(core.WrongUnit, "on %s is %s, and the round is of %s", p.FullName(), cmp.Or(who, "a vehicle that does not say which"), s.Opened.Serial).Unit("nothing was changed").Do("Plug in the vehicle that the round is of.")
	}
	switch t.Do {
	case model.TurnClear:
		if err := v.Units.Explain(ctx, slots); err != nil {
			return err
		}
		if n, at := s.NoteBefore(turn, slots); n != nil {
			w.put(round.KindNoted, at, n)
			if err := w.store(ctx); err != nil {
				return err
			}
			if _, s, _, err = v.Runs.ReadRound(ctx, r.ID); err != nil {
				return err
			}
		}
		return v.clearCodes(ctx, w, p, s, turn)
	case model.TurnLearn:
		return v.learn(ctx, w, p, r, s, turn)
	default:
		if t.Do == model.TurnHands {
			return proved(w, slots, t.Turn, turn)
		}
		seen, err := v.Units.EnterAll(ctx, p, sheet, slots, s.Opened.Why)
		if err == nil {
			w.put(round.KindNoted, turn, noted(slots, seen))
		}
		return err
	}
}

// proved holds what a person has done against what the vehicle says.
func proved(w *written, slots []visit.InSlot, t model.Turn, turn int) error {
	i := slices.IndexFunc(slots, func(x visit.InSlot) bool { return x.Slot == t.Slot })
	if i < 0 || slots[i].Error != "" {
		return core.Fail(core.CannotTell, "%q: the module that could tell does not answer", t.Says.In("en")).Do("Ask again.")
	}
	is := visit.Value(slots[i].Facts, t.Fact)
	if is != t.Is {
		return core.Fail(core.CannotTell, "%q: the vehicle says that its %s is %s", t.Says.In("en"), words.Facts.In(t.Fact), cmp.Or(is, "not known")).Unit("nothing was changed").
			Go(words.Round(w.id).To("Do it, then say so again"), words.RoundLeave(w.id).To("Where it cannot be done, say why"))
	}
	w.put(round.KindDone, turn, round.Done{Read: words.Facts.In(t.Fact) + " " + is})
	return nil
}

// clearCodes takes the codes of all modules away that answered last. What they were is in
// the note before, and in their histories.
func (v *Rounds) clearCodes(ctx context.Context, w *written, p links.Place, s *round.State, turn int) error {
	w.put(round.KindAboutTo, turn, struct{}{})
	if err := w.store(ctx); err != nil {
		return err
	}
	r, err := v.Links.Ask(ctx, client.Order{Kind: client.OrderClear, Link: p.Name, In: s.In()}, p.Bench, units.ScanLasts)
	if err != nil {
		return err
	}
	w.put(round.KindCleared, turn, round.Cleared{Slots: r.Cleared})
	n := s.Last()
	for _, c := range r.Cleared {
		i := slices.IndexFunc(n.Slots, func(x visit.InSlot) bool { return x.Slot == c.Slot })
		if i < 0 || len(n.Slots[i].Codes) == 0 {
			continue
		}
		var codes []string
		for _, x := range n.Slots[i].Codes {
			codes = append(codes, x.Code)
		}
		says := fmt.Sprintf("Fault codes cleared in the vehicle %s: %s.", s.Opened.Serial, strings.Join(codes, ", "))
		if c.Error != "" {
			says = fmt.Sprintf("Fault codes were to be cleared in the vehicle %s (%s), and were not: %s.", s.Opened.Serial, strings.Join(codes, ", "), c.Error)
		}
		w.tell(n.Units[c.Slot], says)
	}
	return nil
}

// learn has a module learn something anew.
func (v *Rounds) learn(ctx context.Context, w *written, p links.Place, r store.Round, s *round.State, turn int) error {
	t := s.Turns[turn]
	i := slices.IndexFunc(s.In(), func(x visit.In) bool { return x.Slot == t.Slot })
	if i < 0 {
		return core.Fail(core.NotAnswering, "the %s did not answer when all modules were asked last", s.Title(t.Slot)).Unit("nothing was changed").Do("See why it is silent; or leave this turn, and say why.")
	}
	w.put(round.KindAboutTo, turn, struct{}{})
	if err := w.store(ctx); err != nil {
		return err
	}
	if _, err := v.Links.Ask(ctx, client.Order{Kind: client.OrderLearn, Link: p.Name, In: s.In()[i : i+1], Learn: t.Name}, p.Bench, learnLasts); err != nil {
		e := core.AsError(err, core.Interrupted)
		return e.Unit("the %s has not learnt it; its program is as it was written", s.Title(t.Slot)).
			Go(words.Round(r.ID).To("Once that is mended, let it try again"), words.RoundLeave(r.ID).To("Or leave it, and say why"))
	}
	w.put(round.KindDone, turn, round.Done{})
	w.tell(s.Last().Units[t.Slot], fmt.Sprintf("It has learnt anew in the vehicle %s: %s", s.Opened.Serial, t.Says.In("en")))
	return nil
}

// closeRound ends a round. What is open is handed back with it, by name; the job that the
// round made for itself ends with it.
func (v *Rounds) closeRound(ctx context.Context, w *written, r store.Round, s *round.State, raw [][]byte, b client.RoundStep) error {
	if next := s.Next(); next != len(s.Turns) {
		if next < 0 {
			return s.May(round.KindClosed, next)
		}
		return core.Fail(core.Busy, "the round is at turn %d of %d: %s", next+1, len(s.Turns), round.Says(s.Turns[next].Turn).Text).Unit("nothing was changed").Go(words.Round(r.ID).To("Do it"), words.RoundLeave(r.ID).To("Or leave it, and say why"))
	}
	now, err := v.showRound(ctx, r, s, raw)
	if err != nil {
		return err
	}
	if len(now.Open) > 0 && len(b.Reason) < 3 {
		return core.Fail(core.NotAllowed, "not as it should be: %s", core.Texts(now.Open, "; ")).Unit("the round stays open").
			Go(words.RoundAgain(r.ID).To("Do something about it, and go back to the turn from which all is done anew"), words.RoundClose(r.ID).To("Or say why it is handed back like this"))
	}
	w.put(round.KindClosed, 0, round.Closed{Reason: b.Reason})
	w.tell(r.Unit, summary(s, now, b.Reason)+" "+sealOf(raw)+".")
	j, err := v.store.Job(ctx, r.Job)
	if err != nil || j.Closed.Valid {
		return err
	}
	page, err := v.Units.GetJob(ctx, &units.JobPath{Job: j.Number})
	if err != nil || page.Open > 0 && b.Reason == "" {
		return err
	}
	j.Closer, j.Closing = w.by, cmp.Or(b.Reason, "closed with the round of "+s.Opened.Serial)
	j.Closed.Time, j.Closed.Valid = w.v.clock.Now().UTC(), true
	w.ends = &j
	return nil
}

// summary is a round in a sentence for the vehicle's history.
func summary(s *round.State, r client.Round, reason string) string {
	var all []string
	for _, x := range r.Written {
		all = append(all, fmt.Sprintf("%s %s → %s", s.Title(x.Slot), cmp.Or(x.From, "?"), cmp.Or(x.To, "?")))
	}
	says := fmt.Sprintf("%s. Written: %s. Fault codes %s: %d, %s: %d.", strings.TrimSuffix(r.Reason, "."), cmp.Or(strings.Join(all, ", "), "nothing"),
		words.Notes.In(r.Notes[0].As), r.Notes[0].Codes, words.Notes.In(r.Notes[len(r.Notes)-1].As), r.Notes[len(r.Notes)-1].Codes)
	for _, t := range s.Turns {
		if t.State == round.IsLeft {
			says += fmt.Sprintf(" Left undone: %s (%s).", strings.TrimSuffix(round.Says(t.Turn).Text, "."), t.Reason)
		}
	}
	if len(r.Open) > 0 {
		says += fmt.Sprintf(" Handed back with: %s. %s.", core.Texts(r.Open, "; "), strings.TrimSuffix(reason, "."))
	}
	return says
}

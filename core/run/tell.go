package run

import (
	"cmp"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/loader"
	"zealousferry/core/plan"
	"zealousferry/core/procedure"
	"zealousferry/core/settings"
	"zealousferry/core/visit"
	"zealousferry/core/words"
)

// Tell tells an event in a few words; nothing for what says nothing to a person. x is
// the section that it is about, as the run stands.
func Tell(e Event, x *Section) core.Said {
	switch e.Kind {
	case KindOpened:
		return core.Say("opened")
	case KindTakenUp:
		return core.Say("taken up again")
	case KindIdentified:
		if id, err := body[Identified](e); err == nil && x != nil && x.Own != "" {
			return core.Say("the helper tool finds chip %s at the header", visit.Value(id.Facts, core.FactChip))
		}
		return core.Say("identified on the wire")
	case KindJudged:
		return core.Say("fit judged")
	case KindBackedUp:
		if x != nil && x.Files {
			return core.Say("files read")
		}
		return core.Say("memory read")
	case KindWaiting:
		return core.Say("waits for the service")
	case KindCarded:
		if c, err := body[Carded](e); err == nil && c.Procedure != "" {
			return core.Say("card of procedure %s laid out", c.Procedure)
		}
	case KindAnswered:
		a, err := body[procedure.Answer](e)
		switch {
		case err != nil || a.Item == "":
			return core.Say("the unit answered")
		case a.Value == procedure.Back:
			return core.Say("back to the item before")
		case a.Value == procedure.Elsewhere:
			return core.Say("%s: not possible here; %s answers it by %s", strings.ReplaceAll(a.Item, "-", " "), a.Whose, a.Due)
		case a.Sealed:
			return core.Say("%s: said, and sealed", strings.ReplaceAll(a.Item, "-", " "))
		case a.Note != "":
			return core.Say("%s: %s, %s (answered)", strings.ReplaceAll(a.Item, "-", " "), a.Value, a.Note)
		default:
			return core.Say("%s: %s (answered)", strings.ReplaceAll(a.Item, "-", " "), a.Value)
		}
	case KindProved:
		if p, err := body[loader.Proof](e); err == nil {
			return core.Say("link proved: %d of %d questions answered, %s at the middle", p.Asked-p.Lost, p.Asked, p.Median.Round(100*time.Microsecond))
		}
	case KindWaived:
		if w, err := body[Waiver](e); err == nil {
			return core.Say("let pass by name: %s; %s", words.Gates.In(w.Gate), w.Reason)
		}
	case KindSettings:
		if s, err := body[Settings](e); err == nil {
			return core.Say("settings read and kept: %d", len(s.Settings))
		}
	case KindBorrowed:
		if b, err := body[Borrowed](e); err == nil {
			return core.Say("changed for a while: %s", b.Says)
		}
	case KindTraced:
		if x, err := body[Traced](e); err == nil {
			return core.Say("what was said on %s last is kept: %d pieces", x.Link, x.Lines)
		}
	case KindLaid:
		if l, err := body[LaidOut](e); err == nil {
			return core.Say("what each setting is to be: %d carried, %d to be said by a person, %d given up", len(l.Lines)-settings.Counts(l.Lines)[settings.Gone]-settings.Counts(l.Lines)[settings.Asked], settings.Counts(l.Lines)[settings.Asked], settings.Counts(l.Lines)[settings.Gone])
		}
	case KindSaved:
		if p, err := body[Page](e); err == nil && p.Page != "" {
			return core.Say("page %s of the settings saved", p.Page)
		}
	case KindSettled:
		if s, err := body[Settled](e); err == nil {
			if len(s.Differ) > 0 {
				return core.Say("settings put back: %d; not taken: %s", s.Back, strings.Join(s.Differ, ", "))
			}
			return core.Say("settings put back and read again: %d", s.Back)
		}
	case KindLocked:
		return core.Say("memory locked again")
	case KindStored:
		return core.Say("backup stored by the service")
	case KindCovered:
		return core.Say("an earlier run's backup stands for this run's own")
	case KindPlanned:
		if x == nil || x.Planned == nil {
			break
		}
		changes, _ := x.count()
		switch {
		case x.Files:
			return core.Say("planned: files to send or remove: %d", changes)
		default:
			kept := 0
			for _, piece := range x.Planned.Sectors {
				if piece.State == plan.Kept {
					kept++
				}
			}
			return core.Say("planned: sectors to erase and write: %d, right already: %d, kept: %d", changes, len(x.Planned.Sectors)-changes-kept, kept)
		}
	case KindConditions:
		if c, err := body[Conditions](e); err == nil && len(c.All) > 0 {
			return core.Say("conditions that the unit tells: %s", inWords(c.All))
		}
	case KindOwn:
		if o, err := body[Own](e); err == nil {
			return core.Say("its own loader answers: %s", cmp.Or(visit.Value(o.Facts, core.FactSerial), "it tells no serial"))
		}
	case KindSame:
		if x != nil && x.Own != "" {
			return core.Say("the same chip is at the header")
		}
		return core.Say("identified again on the wire: same unit")
	case KindSurveyed:
		return core.Say("read again after the interruption")
	case KindDone:
		a, err := body[Act](e)
		switch {
		case err != nil:
		case a.Path != "" && a.Erase:
			return core.Say("file %s removed", a.Path)
		case a.Path != "":
			return core.Say("file %s written", a.Path)
		case a.File:
			return core.Say("file sent")
		case a.Unlock:
			return core.Say("memory unlocked; what the unit may erase is erased")
		case a.Last:
			return core.Say("sector %d written", a.Sector)
		}
	case KindVerified:
		return core.Say("verified")
	case KindStarted:
		if s, err := body[Started](e); err == nil && s.Version != "" {
			return core.Say("program %s started", s.Version)
		}
		return core.Say("loader left") // there is no program that could be asked, or it was not heard
	case KindLaidAside:
		if l, err := body[LaidAside](e); err == nil {
			return core.Say("laid aside: %s, with %s", l.Place, l.Holder)
		}
	case KindStopOrdered:
		return core.Say("stop ordered")
	case KindStopped:
		return core.Say("stopped; nothing is under way any more")
	case KindFault:
		if f, err := body[Fault](e); err == nil {
			return core.Say("fault: %s", strings.ReplaceAll(string(f.Kind), "-", " "))
		}
	case KindClosed:
		if c, err := body[Closed](e); err == nil {
			return core.Say("closed: %s", words.Outcomes.In(string(c.Outcome)))
		}
	}
	return core.Said{}
}

package procedure

import (
	"slices"
	"strconv"
	"strings"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/version"
	"zealousferry/core/words"
)

// Adapter is what stands between bench and unit, as its record says that it is set.
type Adapter struct {
	Serial   string `json:"serial"`
	Name     string `json:"name"`            // as sheets call it
	Volts    string `json:"volts,omitempty"` // position of its selector, e.g. "3.3 V"
	Inverted bool   `json:"inverted,omitempty"`
	Firmware string `json:"firmware,omitempty"`
	Latency  int    `json:"latency,omitempty"` // ms that its driver holds bytes back
}

// WiringFor finds a procedure's wiring for an adapter by name; nil if it has none.
func WiringFor(p *model.Procedure, adapter string) *model.Wiring {
	i := slices.IndexFunc(p.Wiring, func(w model.Wiring) bool { return w.Adapter == adapter })
	if i < 0 {
		return nil
	}
	return &p.Wiring[i]
}

// mostVolts is more than any signal line carries.
const mostVolts = 60

// CheckAdapter looks at what a person enters of an adapter.
func CheckAdapter(a Adapter) error {
	if v, ok := volts(a.Volts); a.Volts != "" && (!ok || v <= 0 || v > mostVolts) {
		return core.Fail(core.NotUnderstood, "volts %q is no voltage of a line; expected a number up to %d, such as 3.3 V", a.Volts, mostVolts)
	}
	if a.Firmware != "" && !version.Valid(version.Dotted, a.Firmware) {
		return core.Fail(core.NotUnderstood, "firmware %q is no version; expected numbers with dots between them, such as 2.4.1", a.Firmware)
	}
	return nil
}

// Suits holds the adapter's settings against what the wires want. A setting that
// the record does not tell, or that the sheet does not ask for, is no objection.
func (a Adapter) Suits(w *model.Wiring) error {
	if w == nil {
		return nil
	}
	set := func(flag string) core.Step {
		return words.AdapterSet(a.Serial, flag).To("Change it there, then enter it")
	}
	if v, ok := volts(a.Volts); ok && w.Volts > 0 && (v < w.Volts*0.9 || v > w.Volts*1.1) {
		return core.Fail(core.DoesNotFit, "adapter %s (%s) is set to %s; the unit's lines want %s V", a.Serial, a.Name, a.Volts, number(w.Volts)).
			Go(set("--volts \"" + number(w.Volts) + " V\""))
	}
	if a.Inverted != w.Inverted {
		return core.Fail(core.DoesNotFit, "adapter %s (%s) is set to %s lines; the unit wants %s", a.Serial, a.Name, upright(a.Inverted), upright(w.Inverted)).
			Go(set("--inverted=" + strconv.FormatBool(w.Inverted)))
	}
	return nil
}

func upright(inverted bool) string {
	if inverted {
		return "inverted"
	}
	return "upright"
}

// volts reads the number that a selector's position begins with.
func volts(position string) (float64, bool) {
	n := strings.IndexFunc(position, func(r rune) bool { return (r < '0' || r > '9') && r != '.' })
	if n < 0 {
		n = len(position)
	}
	v, err := strconv.ParseFloat(position[:n], 64)
	return v, err == nil
}

package runs

import (
	"bytes"
	"encoding/json"
	"testing"

	"zealousferry/core/model"
	"zealousferry/core/procedure"
	"zealousferry/core/run"
	"zealousferry/core/settings"
)

// TestSettingsStayHere: what others are given of a run names settings, and not their values.
func TestSettingsStayHere(t *testing.T) {
	all := []settings.Value{{Name: "network-key", Value: "low tide"}}
	for kind, body := range map[string]any{run.KindSettings: run.Settings{Settings: all}, run.KindOpened: run.Opened{Run: "r", Unit: "u", Settings: all, Fill: []settings.Fill{{Name: "zone", Value: "low tide"}}},
		run.KindSettled: run.Settled{Now: all}, run.KindAnswered: procedure.Answer{Item: "set-network-key", Value: "low tide", Set: true},
		run.KindHands: run.Hands{Item: "left-network-key", Says: "Set it to low tide at its display."},
		run.KindLaid: run.LaidOut{Lines: []settings.Line{{Name: "network-key", Found: &all[0], Want: &all[0], Other: &all[0]}}, Made: map[string]string{"x": "low tide"},
			Items: []model.Item{{ID: "set", Setting: "network-key", Why: model.Words{"en": "It was low tide."}}}}} {
		raw, err := json.Marshal(body)
		if err != nil {
			t.Fatal(err)
		}
		e, err := json.Marshal(run.Event{N: 1, Kind: kind, Body: raw})
		if err != nil {
			t.Fatal(err)
		}
		out, err := withoutSettings(e)
		if err != nil || bytes.Contains(out, []byte("low tide")) || !bytes.Contains(out, []byte("network-key")) || kind != run.KindHands && !bytes.Contains(out, []byte(keptBack)) {
			t.Errorf("%s: %s %v", kind, out, err)
		}
	}
	plain := []byte(`{"n":2,"kind":"verified"}`)
	if out, err := withoutSettings(plain); err != nil || !bytes.Equal(out, plain) {
		t.Errorf("%s %v", out, err)
	}
}

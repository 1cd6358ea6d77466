package service

import (
	"bytes"
	"encoding/json"
	"testing"

	"zealousferry/core/loader"
	"zealousferry/core/run"
)

// TestSettingsStayHere: what others are given of a run names settings, and not their values.
func TestSettingsStayHere(t *testing.T) {
	all := []loader.Setting{{Name: "network-key", Value: "low tide"}}
	for kind, body := range map[string]any{run.KindSettings: run.Settings{Settings: all}, run.KindOpened: run.Opened{Run: "r", Unit: "u", Settings: all}} {
		raw, err := json.Marshal(body)
		if err != nil {
			t.Fatal(err)
		}
		e, err := json.Marshal(run.Event{N: 1, Kind: kind, Body: raw})
		if err != nil {
			t.Fatal(err)
		}
		out, err := withoutSettings(e)
		if err != nil || bytes.Contains(out, []byte("low tide")) || !bytes.Contains(out, []byte("network-key")) || !bytes.Contains(out, []byte(keptBack)) {
			t.Errorf("%s: %s %v", kind, out, err)
		}
	}
	plain := []byte(`{"n":2,"kind":"verified"}`)
	if out, err := withoutSettings(plain); err != nil || !bytes.Equal(out, plain) {
		t.Errorf("%s %v", out, err)
	}
}

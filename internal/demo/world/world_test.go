package world_test

import (
	"testing"

	"zealousferry/core/model"
	"zealousferry/internal/demo/world"
)

func TestSheetsOfTheDemoAreGood(t *testing.T) {
	for name, raw := range world.Sheets {
		if s, err := model.ReadSheet(raw); err != nil || s.Model != name {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Every unit has a serial as its sheet says that serials look.
func TestSerialsOfTheDemoAreGood(t *testing.T) {
	for _, u := range world.Units {
		if got, err := u.Sheet().TypedSerial(" " + u.Serial + " "); err != nil || got != u.Serial {
			t.Errorf("%s: %q %v", u.Model, got, err)
		}
	}
}

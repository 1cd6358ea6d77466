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

package demo_test

import (
	"path/filepath"
	"strconv"
	"sync"
	"testing"

	"zealousferry/internal/demo"
)

// TestDatabasesAreMadeSideBySide: one that is being made takes nothing from under another.
func TestDatabasesAreMadeSideBySide(t *testing.T) {
	dir := t.TempDir()
	var all sync.WaitGroup
	for i := range 6 {
		all.Go(func() {
			if err := demo.InitDatabase(filepath.Join(dir, strconv.Itoa(i))); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
}

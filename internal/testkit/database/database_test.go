package database

import (
	"context"
	"testing"
)

// TestServersSideBySide: a second server starts while the first holds a passing table, as
// any large query does.
func TestServersSideBySide(t *testing.T) {
	ctx := context.Background()
	d := NewEmpty(t)
	c, err := d.Open(t, d.Root).Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.ExecContext(ctx, "CREATE TEMPORARY TABLE passing (n INT) ENGINE=Aria"); err != nil {
		t.Fatal(err)
	}
	NewEmpty(t)
	for _, q := range []string{"INSERT INTO passing VALUES (1)", "DROP TABLE passing", "SELECT 1"} {
		if _, err := c.ExecContext(ctx, q); err != nil {
			t.Errorf("%s: %v", q, err)
		}
	}
}

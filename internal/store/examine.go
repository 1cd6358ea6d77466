package store

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Examined is how a database is set up.
type Examined struct {
	Version   string
	Account   string
	Now       time.Time
	Flush     int    // innodb_flush_log_at_trx_commit: 1 is on disk before it is acknowledged
	Buffer    uint64 // bytes of pages in memory
	Hashed    bool   // innodb_adaptive_hash_index: rows that are looked up often are found without going down their tree
	DataDir   string // where this machine can see it
	MayChange []string
}

var grantLine = regexp.MustCompile("^GRANT (.+) ON (\\S+) TO ")

// exceeded tells whether a grant gives more than this.
func exceeded(table string, oldest int64, granted string) bool {
	if strings.Contains(granted, "ALL PRIVILEGES") || strings.Contains(granted, "DELETE") && !deletes(table, oldest) {
		return true
	}
	_, after, changes := strings.Cut(granted, "UPDATE")
	if !changes {
		return false
	}
	list, ok := strings.CutPrefix(after, " (")
	if list, _, _ = strings.Cut(list, ")"); !ok {
		return true
	}
	return slices.ContainsFunc(strings.Split(list, ", "), func(c string) bool { return !slices.Contains(rights[table], strings.Trim(c, "`")) })
}

// Examine tells how the database is set up, and which tables the account may change in ways that
// the service does not need.
func (s *Store) Examine(ctx context.Context) (x Examined, err error) {
	var row struct {
		Version string    `db:"version"`
		Account string    `db:"account"`
		Now     time.Time `db:"now"`
		Flush   int       `db:"flush"`
		Buffer  uint64    `db:"buffer"`
		Hashed  bool      `db:"hashed"`
		DataDir string    `db:"datadir"`
		Name    string    `db:"name"`
		Oldest  int64     `db:"oldest"`
	}
	if err := s.db.GetContext(ctx, &row, `SELECT VERSION() AS version, CURRENT_USER() AS account, UTC_TIMESTAMP(6) AS now, @@innodb_flush_log_at_trx_commit AS flush, @@innodb_buffer_pool_size AS buffer, @@innodb_adaptive_hash_index AS hashed, @@datadir AS datadir, DATABASE() AS name, (SELECT oldest FROM schema_promise WHERE one = 1) AS oldest`); err != nil {
		return x, err
	}
	x = Examined{Version: "MariaDB " + strings.SplitN(row.Version, "-", 2)[0], Account: row.Account, Now: row.Now, Flush: row.Flush, Buffer: row.Buffer, Hashed: row.Hashed, DataDir: row.DataDir}
	var grants []string
	if err := s.db.SelectContext(ctx, &grants, `SHOW GRANTS FOR CURRENT_USER()`); err != nil {
		return x, err
	}
	for _, g := range grants {
		m := grantLine.FindStringSubmatch(g)
		if m == nil || !strings.Contains(m[1], "ALL PRIVILEGES") && !strings.Contains(m[1], "UPDATE") && !strings.Contains(m[1], "DELETE") {
			continue
		}
		on := strings.ReplaceAll(strings.ReplaceAll(m[2], "`", ""), "\\_", "_")
		switch {
		case on == "*.*" || on == row.Name+".*":
			x.MayChange = append(x.MayChange, "all tables")
		case strings.HasPrefix(on, row.Name+"."):
			if table := on[len(row.Name)+1:]; exceeded(table, row.Oldest, m[1]) {
				x.MayChange = append(x.MayChange, table)
			}
		}
	}
	slices.Sort(x.MayChange)
	return x, nil
}

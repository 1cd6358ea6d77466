package store

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/shelf"
)

// Model is a model with the sheet that is in force.
type Model struct {
	Name    string    `db:"name"`
	Title   string    `db:"title"`
	Sheet   []byte    `db:"sheet"`
	Changed time.Time `db:"changed_at"`
	Proved
	Seal
}

// Proved says whether a sheet was ever tried on a unit.
type Proved struct {
	Tried []byte       `db:"tried"` // digest of the last sheet that was
	How   string       `db:"tried_how"`
	At    sql.NullTime `db:"tried_at"`
}

// PutModel keeps a sheet and puts it in force.
func (s *Store) PutModel(ctx context.Context, sheet *model.Sheet, raw []byte) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.putPieces(ctx, tx, []shelf.Piece{{Name: sheet.Digest, Data: raw}}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO model (name, title, sheet, changed_at) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE title = VALUES(title), sheet = VALUES(sheet), changed_at = VALUES(changed_at)`,
			sheet.Model, sheet.Name.In("en"), sheet.Digest[:], time.Now().UTC())
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `CALL sheet_in_force(?)`, sheet.Model); err != nil {
			return err
		}
		if err := judgeAnew(ctx, tx, "m.name = ?", sheet.Model); err != nil {
			return err
		}
		if err := s.seal(ctx, tx, "model", "name = ?", sheet.Model); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE model_change SET n = n + 1`)
		return err
	})
}

// WantedSheet is a sheet that one lead wants in force, and that waits for a second.
type WantedSheet struct {
	Name  string    `db:"name"`
	Sheet []byte    `db:"sheet"`
	By    string    `db:"wanted_by"`
	At    time.Time `db:"wanted_at"`
	Seal
}

// WantSheet keeps a sheet that waits for a second lead, in place of one that waited before.
func (s *Store) WantSheet(ctx context.Context, sheet *model.Sheet, raw []byte, by string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.putPieces(ctx, tx, []shelf.Piece{{Name: sheet.Digest, Data: raw}}); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO model_wanted (name, sheet, wanted_by, wanted_at) VALUES (?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE sheet = VALUES(sheet), wanted_by = VALUES(wanted_by), wanted_at = VALUES(wanted_at), seal = NULL`, sheet.Model, sheet.Digest[:], by, at.UTC()); err != nil {
			return err
		}
		return s.seal(ctx, tx, "model_wanted", "name = ?", sheet.Model)
	})
}

// WantedSheet is the one that waits for a model; nil where none does.
func (s *Store) WantedSheet(ctx context.Context, name string) (*WantedSheet, error) {
	var w WantedSheet
	err := s.db.GetContext(ctx, &w, `SELECT name, sheet, wanted_by, wanted_at, `+sealColumns("model_wanted", "")+` FROM model_wanted WHERE name = ?`, name)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, nil
	case err == nil && !s.holds(w.Seal):
		return nil, changedRow("the sheet that is wanted for model " + name)
	}
	return &w, err
}

// Models lists all, without those whose row was changed behind the service's back.
func (s *Store) Models(ctx context.Context) (all []Model, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT name, title, sheet, changed_at, tried, tried_how, tried_at, `+sealColumns("model", "")+` FROM model ORDER BY name`)
	return slices.DeleteFunc(all, func(m Model) bool { return !s.holds(m.Seal) }), err
}

// ModelChanges counts how often a sheet was put in force: another number, another list. It is zero as
// long as services may run that do not count.
func (s *Store) ModelChanges(ctx context.Context) (n uint64, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT IF(k.oldest >= ?, m.n, 0) FROM model_change m, schema_promise k WHERE m.one = 1 AND k.one = 1`, countedSchema)
	return n, err
}

// countedSchema is the first one whose services count them.
const countedSchema = 29

// Titles are those of models, by their names.
func (s *Store) Titles(ctx context.Context, names []string) (map[string]string, error) {
	out := make(map[string]string, len(names))
	if len(names) == 0 {
		return out, nil
	}
	query, args, err := sqlx.In(`SELECT name, title FROM model WHERE name IN (?)`, names)
	if err != nil {
		return out, err
	}
	var rows []struct {
		Name  string `db:"name"`
		Title string `db:"title"`
	}
	err = s.db.SelectContext(ctx, &rows, query, args...)
	for _, r := range rows {
		out[r.Name] = r.Title
	}
	return out, err
}

// Sheet reads the sheet in force of a model.
func (s *Store) Sheet(ctx context.Context, name string) (*model.Sheet, error) {
	var row struct {
		Sheet []byte `db:"sheet"`
		Seal
	}
	if err := s.db.GetContext(ctx, &row, `SELECT sheet, `+sealColumns("model", "")+` FROM model WHERE name = ?`, name); err != nil {
		return nil, none(err, "there is no model %q", name)
	}
	if !s.holds(row.Seal) {
		return nil, changedRow("which sheet is in force for model " + name)
	}
	return s.SheetBy(ctx, core.Digest(row.Sheet))
}

// gists brings up to date what is asked of all sheets at once: of those that came since.
func (s *Store) gists(ctx context.Context) error {
	var rows []Model
	if err := s.db.SelectContext(ctx, &rows, `SELECT name, sheet, `+sealColumns("model", "")+` FROM model WHERE gist IS NULL OR gist <> sheet ORDER BY name`); err != nil {
		return err
	}
	for _, m := range rows {
		if !s.holds(m.Seal) {
			continue
		}
		sheet, err := s.SheetBy(ctx, core.Digest(m.Sheet))
		if err != nil {
			return err
		}
		settings := false
		for i := range sheet.Sections {
			settings = settings || sheet.Sections[i].Settings != nil
		}
		if err := s.tx(ctx, func(tx *sqlx.Tx) error {
			if _, err := tx.ExecContext(ctx, `CALL answers_anew(?)`, m.Name); err != nil {
				return err
			}
			for _, x := range sheet.Sections {
				if _, err := tx.ExecContext(ctx, `INSERT INTO model_answer (model, section, kind, says) VALUES (?, ?, ?, LEFT(?, 200))`, m.Name, x.Name, x.Loader.Kind, x.Loader.Says); err != nil {
					return err
				}
			}
			_, err := tx.ExecContext(ctx, `UPDATE model SET gist = ?, holds = ?, has_settings = ? WHERE name = ? AND sheet = ?`, m.Sheet, len(sheet.Holds), settings, m.Name, m.Sheet)
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

// WithSlots reads the sheets in force that have slots for other units.
func (s *Store) WithSlots(ctx context.Context) ([]*model.Sheet, error) {
	return s.sheetsWhere(ctx, "holds > 0")
}

// WithSettings reads those that have settings.
func (s *Store) WithSettings(ctx context.Context) ([]*model.Sheet, error) {
	return s.sheetsWhere(ctx, "has_settings = 1")
}

// Answering reads those of which a section would answer as one of these does, but for the sheet's
// own model.
func (s *Store) Answering(ctx context.Context, sheet *model.Sheet) ([]*model.Sheet, error) {
	cond, args := "name <> ? AND name IN (SELECT a.model FROM model_answer a WHERE FALSE", []any{sheet.Model}
	for _, x := range sheet.Sections {
		if x.Loader.Says != "" {
			cond, args = cond+" OR a.kind = ? AND a.says = LEFT(?, 200)", append(args, x.Loader.Kind, x.Loader.Says)
		}
	}
	return s.sheetsWhere(ctx, cond+")", args...)
}

func (s *Store) sheetsWhere(ctx context.Context, cond string, args ...any) (all []*model.Sheet, err error) {
	if err := s.gists(ctx); err != nil {
		return nil, err
	}
	var rows []Model
	if err := s.db.SelectContext(ctx, &rows, `SELECT name, sheet, `+sealColumns("model", "")+` FROM model WHERE `+cond+` ORDER BY name`, args...); err != nil {
		return nil, err
	}
	for _, m := range rows {
		if !s.holds(m.Seal) {
			continue
		}
		sheet, err := s.SheetBy(ctx, core.Digest(m.Sheet))
		if err != nil {
			return nil, err
		}
		all = append(all, sheet)
	}
	return all, nil
}

// SheetBy reads a sheet by the digest of its bytes: the one in force, or an earlier one.
func (s *Store) SheetBy(ctx context.Context, digest core.Digest) (*model.Sheet, error) {
	return s.sheets.get(digest, func(d core.Digest) (*model.Sheet, error) {
		raw, err := s.Piece(ctx, d)
		if err != nil {
			return nil, err
		}
		return model.ReadSheet(raw)
	})
}

// SheetsBy reads some sheets by digest, those that are not kept all at once.
func (s *Store) SheetsBy(ctx context.Context, digests []core.Digest) (map[core.Digest]*model.Sheet, error) {
	all := map[core.Digest]*model.Sheet{}
	var lacks []core.Digest
	for _, d := range digests {
		if sheet := s.sheets.has(d); sheet != nil {
			all[d] = sheet
		} else {
			lacks = append(lacks, d)
		}
	}
	if len(lacks) == 0 {
		return all, nil
	}
	pieces, err := s.Pieces(ctx, lacks)
	if err != nil {
		return nil, err
	}
	for _, d := range lacks {
		raw, ok := pieces[d]
		if !ok {
			return nil, core.Fail(core.NotFound, "the shelf does not hold %s", d.Short())
		}
		if all[d], err = s.sheets.get(d, func(core.Digest) (*model.Sheet, error) { return model.ReadSheet(raw) }); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// sheetCache keeps sheets that were read lately. A sheet is named by its content,
// so that what is kept can never be old. What get returns must not be changed.
type sheetCache struct {
	mu   sync.Mutex
	kept map[core.Digest]*model.Sheet
}

const mostSheets = 256

func (c *sheetCache) has(d core.Digest) *model.Sheet {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.kept[d]
}

func (c *sheetCache) get(d core.Digest, read func(core.Digest) (*model.Sheet, error)) (*model.Sheet, error) {
	if s := c.has(d); s != nil {
		return s, nil
	}
	s, err := read(d)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.kept == nil || len(c.kept) >= mostSheets {
		c.kept = map[core.Digest]*model.Sheet{}
	}
	c.kept[d] = s
	return s, nil
}

// Counted is a model and how much there is of it.
type Counted struct {
	Name     string `db:"name"`
	Releases int    `db:"releases"`
	Units    int    `db:"units"`
	Newest   string `db:"newest"`
	Sheet    []byte `db:"sheet"`
	Seal
}

// tally is how many units there are of each model. To count them all takes long in a large fleet:
// it is as old as it may be for counting to take a fiftieth of the time.
type tally struct {
	mu   sync.Mutex
	at   time.Time
	took time.Duration
	of   map[string]int
}

func (s *Store) unitsOfModels(ctx context.Context) (map[string]int, error) {
	t := &s.tally
	t.mu.Lock()
	defer t.mu.Unlock()
	now := time.Now()
	if t.of != nil && now.Sub(t.at) < 50*t.took {
		return t.of, nil
	}
	var rows []struct {
		Model string `db:"model"`
		N     int    `db:"n"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT model, COUNT(*) AS n FROM unit GROUP BY model`); err != nil {
		return nil, err
	}
	of := make(map[string]int, len(rows))
	for _, r := range rows {
		of[r.Model] = r.N
	}
	t.at, t.took, t.of = now, time.Since(now), of
	return of, nil
}

const counted = `m.name, m.sheet, (SELECT COUNT(*) FROM firmware f WHERE f.model = m.name) AS releases,
	COALESCE((SELECT f.version FROM firmware f WHERE f.model = m.name AND f.channel = 'stable' AND f.withdrawn_at IS NULL ORDER BY f.added_at DESC, f.id DESC LIMIT 1), '') AS newest`

// FindModels searches models by words of name or title. A model whose row was changed behind the
// service's back is none.
func (s *Store) FindModels(ctx context.Context, words, after string, size int) (all []Counted, p Paged, err error) {
	of := selection{where: []string{"TRUE"}}
	for _, w := range strings.Fields(words) {
		like := likeOf(w)
		of.add("(m.name LIKE ? OR m.title LIKE ?)", like, like)
	}
	all, p, err = byName(ctx, s, counted+", "+sealColumns("model", "m."), "model m", of, after, size, "m.name", func(c Counted) string { return c.Name })
	if err != nil {
		return nil, p, err
	}
	all = slices.DeleteFunc(all, func(c Counted) bool { return !s.holds(c.Seal) })
	units, err := s.unitsOfModels(ctx)
	for i := range all {
		all[i].Units = units[all[i].Name]
	}
	return all, p, err
}

// CountModel is one model with its counts.
func (s *Store) CountModel(ctx context.Context, name string) (c Counted, err error) {
	if err = s.db.GetContext(ctx, &c, `SELECT `+counted+` FROM model m WHERE m.name = ?`, name); err != nil {
		return c, none(err, "there is no model %q", name)
	}
	err = s.db.GetContext(ctx, &c.Units, `SELECT COUNT(*) FROM unit u WHERE u.model = ?`, name)
	return c, err
}

// ProvedOf says whether the sheet of a model was tried on a unit.
func (s *Store) ProvedOf(ctx context.Context, name string) (p Proved, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT tried, tried_how, tried_at FROM model WHERE name = ?`, name)
	return p, none(err, "there is no model %q", name)
}

// ProveSheet notes that the sheet in force was tried on a unit, the first time; proven is
// false where another one is in force.
func (s *Store) ProveSheet(ctx context.Context, name string, sheet core.Digest, how string, at time.Time) (proven bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE model SET tried = ?, tried_how = ?, tried_at = ? WHERE name = ? AND sheet = ? AND (tried IS NULL OR tried <> ?)`, sheet[:], how, at.UTC(), name, sheet[:], sheet[:]); err != nil {
			return err
		}
		return tx.GetContext(ctx, &proven, `SELECT COUNT(*) FROM model WHERE name = ? AND sheet = ?`, name, sheet[:])
	})
	return proven, err
}

// CountUnits counts the units of a model by revision.
func (s *Store) CountUnits(ctx context.Context, modelName string) (map[string]int, error) {
	var rows []struct {
		Revision string `db:"revision"`
		N        int    `db:"n"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT revision, COUNT(*) AS n FROM unit WHERE model = ? GROUP BY revision`, modelName)
	all := map[string]int{}
	for _, r := range rows {
		all[r.Revision] = r.N
	}
	return all, err
}

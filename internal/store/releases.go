package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/shelf"
	"zealousferry/core/words"
)

type firmware struct {
	ID        string         `db:"id"`
	Model     string         `db:"model"`
	Version   string         `db:"version"`
	Document  []byte         `db:"document"`
	Withdrawn sql.NullTime   `db:"withdrawn_at"`
	By        sql.NullString `db:"withdrawn_by"`
	Reason    sql.NullString `db:"withdrawn_reason"`
	Body      []byte         `db:"body"` // the document, packed
	Seal
}

var firmwareColumns = `f.id, f.model, f.version, f.document, f.withdrawn_at, f.withdrawn_by, f.withdrawn_reason, d.body, ` + sealColumns("firmware", "f.")

const (
	firmwareTables = `firmware f JOIN piece d ON d.name = f.document`
)

// Release is a release with the digest of its document.
type Release struct {
	model.Release
	Document core.Digest `json:"document"`
}

// AddRelease keeps a release, its document byte for byte, and the chunks of its
// images, by which memory is recognised. A version that the model has already is
// busy, unless it is the very same release.
func (s *Store) AddRelease(ctx context.Context, r *model.Release, document []byte, erased byte, by string) (core.Digest, error) {
	name := core.DigestOf(document)
	if old, err := s.Release(ctx, r.ID); err == nil && old.Document == name {
		return name, nil
	}
	if err := checkID(core.BadFile, r.ID); err != nil {
		return name, err
	}
	marks, err := s.marks(ctx, r, erased)
	if err != nil {
		return name, err
	}
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.putPieces(ctx, tx, []shelf.Piece{{Name: name, Data: document}}); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO firmware (id, model, version, document, channel, number, added_at, added_by, words) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			r.ID, r.Model, r.Version, name[:], r.Channel, r.Number, time.Now().UTC(), by, searched(r)); err != nil {
			return err
		}
		if err := s.seal(ctx, tx, "firmware", "id = ?", r.ID); err != nil {
			return err
		}
		if err := judgeAnew(ctx, tx, "m.name = ?", r.Model); err != nil {
			return err
		}
		return putParts(ctx, tx, r, marks)
	})
	if duplicate(err) {
		return name, core.Fail(core.Busy, "%s has a release %s already", r.Model, r.Version).Do("A release is immutable: give the new one another version.")
	}
	return name, err
}

// searched is the text in which a release is looked for.
func searched(r *model.Release) string {
	words := []string{r.Model, r.Version, r.Number, string(r.Channel), r.Cures.In("en"), r.Changes.In("en")}
	words = append(words, r.Supersedes...)
	for _, rule := range r.AllRules() {
		words = append(words, rule.Fact, rule.Plain())
	}
	for _, p := range r.Parts {
		words = append(words, p.Name, p.Image.String())
	}
	if r.Origin != nil {
		words = append(words, r.Origin.From, r.Origin.Source)
	}
	return strings.Join(words, " ")
}

// fill computes what columns and tables that came later want of the releases that
// are there.
func fill(ctx context.Context, dsn string) error {
	s, err := Open(ctx, dsn)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.gists(ctx); err != nil {
		return err
	}
	var rows []firmware
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+firmwareColumns+` FROM `+firmwareTables+` WHERE f.words IS NULL`); err != nil {
		return err
	}
	erased := map[string]byte{}
	for _, row := range rows {
		r, err := s.release(ctx, row)
		if err != nil {
			return err
		}
		if _, ok := erased[r.Model]; !ok {
			sheet, err := s.Sheet(ctx, r.Model)
			if err != nil {
				return err
			}
			erased[r.Model] = sheet.Main().Memory.Erased
		}
		marks, err := s.marks(ctx, &r.Release, erased[r.Model])
		if err != nil {
			return err
		}
		if err := s.tx(ctx, func(tx *sqlx.Tx) error {
			if _, err := tx.ExecContext(ctx, `UPDATE firmware SET channel = ?, number = ?, added_at = ?, words = ? WHERE id = ?`, r.Channel, r.Number, r.At.UTC(), searched(&r.Release), r.ID); err != nil {
				return err
			}
			// What was there before images had to be vouched for was entered by a lead, whose rule it was.
			if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO vouch (firmware, how, who, reason, dated_at, entered_by, entered_at) VALUES (?, ?, '', 'It was in the catalogue before images had to be vouched for.', ?, '', ?)`,
				r.ID, VouchBefore, r.At.UTC(), time.Now().UTC()); err != nil {
				return err
			}
			return putParts(ctx, tx, &r.Release, marks)
		}); err != nil {
			return err
		}
	}
	return nil
}

// Releases lists the releases of a model.
func (s *Store) Releases(ctx context.Context, modelName string) ([]*Release, error) {
	var rows []firmware
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+firmwareColumns+` FROM `+firmwareTables+` WHERE f.model = ? ORDER BY f.id`, modelName); err != nil {
		return nil, err
	}
	return s.releases(ctx, rows)
}

// releases reads some. One whose row was changed behind the service's back counts for nothing,
// and keeps nobody from the others; whoever asks for it by name is told, and an audit names it.
func (s *Store) releases(ctx context.Context, rows []firmware) ([]*Release, error) {
	all := make([]*Release, 0, len(rows))
	for _, row := range rows {
		r, err := s.release(ctx, row)
		if errors.Is(err, ErrChanged) {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all, r)
	}
	return all, nil
}

// ReleaseQuery asks for a page of releases.
type ReleaseQuery struct {
	Words   string // all of which must be found; a version or part number by its beginning
	Model   string
	Channel string
	After   string // Next of the page before
	Size    int
}

// FindReleases searches the catalogue, the newest first. A number that no version
// and no part number of a release begins with is looked for in its rules: it may
// be a board's.
func (s *Store) FindReleases(ctx context.Context, q ReleaseQuery) (all []*Release, p Paged, err error) {
	all, p, err = s.findReleases(ctx, q, false)
	if err == nil && p.Total == 0 && strings.ContainsAny(q.Words, "0123456789") {
		return s.findReleases(ctx, q, true)
	}
	return all, p, err
}

func (s *Store) findReleases(ctx context.Context, q ReleaseQuery, anywhere bool) (all []*Release, p Paged, err error) {
	after, err := readCursor(q.After)
	if err != nil {
		return nil, p, err
	}
	var of selection
	where, args := q.where(anywhere)
	of.add(where, args...)
	if p.Total, p.More, err = s.count(ctx, "firmware f", of); err != nil || p.Total == 0 {
		return nil, p, err
	}
	of.behind(after, "f.added_at", "f.id", ofTime)
	var rows []struct {
		firmware
		Added time.Time `db:"added_at"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+firmwareColumns+`, f.added_at FROM `+firmwareTables+` WHERE `+of.String()+` ORDER BY f.added_at DESC, f.id DESC LIMIT ?`, append(of.args, q.Size+1)...); err != nil {
		return nil, p, err
	}
	if len(rows) > q.Size {
		last := rows[q.Size-1]
		rows, p.Next = rows[:q.Size], cursor{last.Added.UnixMicro(), last.ID}.String()
	}
	page := make([]firmware, len(rows))
	for i := range rows {
		page[i] = rows[i].firmware
	}
	all, err = s.releases(ctx, page)
	return all, p, err
}

func (q ReleaseQuery) where(anywhere bool) (string, []any) {
	where, args := []string{"1 = 1"}, []any{}
	if q.Model != "" {
		where, args = append(where, "f.model = ?"), append(args, q.Model)
	}
	if q.Channel != "" {
		where, args = append(where, "f.channel = ?"), append(args, q.Channel)
	}
	var full []string
	for _, word := range strings.Fields(q.Words) {
		like := beginning(word)
		plain := strings.Map(func(r rune) rune {
			if strings.ContainsRune(`+><()~*"@.:/`, r) || r == '-' && !anywhere {
				return ' '
			}
			return r
		}, word)
		if strings.TrimSpace(plain) == "" {
			continue
		}
		if len(word) < 3 || strings.ContainsAny(word, "0123456789") && len(word) < 40 && !anywhere {
			where = append(where, "(f.version LIKE ? OR f.number LIKE ? OR f.model LIKE ?)")
			args = append(args, like, like, like)
			continue
		}
		if anywhere && strings.Contains(word, "-") {
			full = append(full, `+"`+strings.ReplaceAll(plain, "-", " ")+`"`)
			continue
		}
		for _, p := range strings.Fields(plain) {
			if len(p) >= 3 {
				full = append(full, "+"+p+"*")
			}
		}
	}
	if len(full) > 0 {
		where, args = append(where, "MATCH (f.words) AGAINST (? IN BOOLEAN MODE)"), append(args, strings.Join(full, " "))
	}
	return strings.Join(where, " AND "), args
}

// ReleasesBy finds releases by their ids.
func (s *Store) ReleasesBy(ctx context.Context, ids []string) (map[string]*Release, error) {
	all := make(map[string]*Release, len(ids))
	if len(ids) == 0 {
		return all, nil
	}
	query, args, err := sqlx.In(`SELECT `+firmwareColumns+` FROM `+firmwareTables+` WHERE f.id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	var rows []firmware
	if err := s.db.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, err
	}
	found, err := s.releases(ctx, rows)
	for _, r := range found {
		all[r.ID] = r
	}
	return all, err
}

// Release finds one by id.
func (s *Store) Release(ctx context.Context, id string) (*Release, error) {
	var row firmware
	if err := s.db.GetContext(ctx, &row, `SELECT `+firmwareColumns+` FROM `+firmwareTables+` WHERE f.id = ?`, id); err != nil {
		return nil, none(err, "there is no release %q", id)
	}
	return s.release(ctx, row)
}

func (s *Store) release(_ context.Context, row firmware) (*Release, error) {
	if !s.holds(row.Seal) {
		return nil, changedRow("release " + row.Version + " of " + row.Model)
	}
	raw, err := opened(core.Digest(row.Document), row.Body)
	if err != nil {
		return nil, err
	}
	r := Release{Document: core.Digest(row.Document)}
	if err := json.Unmarshal(raw, &r.Release); err != nil {
		return nil, err
	}
	if row.Withdrawn.Valid {
		r.Withdrawn = &model.Withdrawal{At: row.Withdrawn.Time, Reason: row.Reason.String, By: row.By.String}
	}
	return &r, nil
}

// ReleaseOf finds a release of a model by its version, part number or id.
func (s *Store) ReleaseOf(ctx context.Context, modelName, name string) (*Release, error) {
	var row firmware
	if err := s.db.GetContext(ctx, &row, `SELECT `+firmwareColumns+` FROM `+firmwareTables+` WHERE f.model = ? AND (f.version = ? OR f.number = ? OR f.id = ?) ORDER BY f.version = ? DESC LIMIT 1`, modelName, name, name, name, name); err != nil {
		return nil, none(err, "model %s has no release %q", modelName, name)
	}
	return s.release(ctx, row)
}

// Withdraw takes a release back. A release that was withdrawn stays as it is.
func (s *Store) Withdraw(ctx context.Context, id, by, reason string, at time.Time) error {
	return s.changing(ctx, "firmware", id, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE firmware SET withdrawn_at = ?, withdrawn_by = ?, withdrawn_reason = ? WHERE id = ? AND withdrawn_at IS NULL`, at.UTC(), by, reason, id); err != nil {
			return err
		}
		return judgeAnew(ctx, tx, ofRelease, id)
	})
}

// ofRelease is the model of a release.
const ofRelease = `m.name = (SELECT f.model FROM firmware f WHERE f.id = ?)`

// Withdrawn says which of the releases that open runs of a bench write was
// withdrawn, and why.
func (s *Store) Withdrawn(ctx context.Context, bench string) (map[string]core.Said, error) {
	var rows []struct {
		Run     string `db:"id"`
		Version string `db:"version"`
		Reason  string `db:"withdrawn_reason"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT r.id, f.version, f.withdrawn_reason FROM run r JOIN firmware f ON f.id = r.firmware WHERE r.bench = ? AND r.state IN ('open', 'paused') AND f.withdrawn_at IS NOT NULL`, bench)
	all := map[string]core.Said{}
	for _, r := range rows {
		all[r.Run] = core.Say("release %s was withdrawn: %s", r.Version, r.Reason)
	}
	return all, err
}

// OpenRunsAt are the ids of the open runs of a bench.
func (s *Store) OpenRunsAt(ctx context.Context, bench string) (ids []string, err error) {
	err = s.db.SelectContext(ctx, &ids, `SELECT id FROM run WHERE bench = ? AND state IN ('open', 'paused')`, bench)
	return ids, err
}

// OpenRunsOf counts the open runs that write a release.
func (s *Store) OpenRunsOf(ctx context.Context, release string) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM run WHERE firmware = ? AND state IN ('open', 'paused')`, release)
	return n, err
}

// TakenOut is a release that was taken out again before anybody wrote it.
type TakenOut struct {
	ID       string    `db:"id"`
	Model    string    `db:"model"`
	Version  string    `db:"version"`
	Document []byte    `db:"document"`
	Reason   string    `db:"reason"`
	By       string    `db:"taken_by"`
	At       time.Time `db:"taken_at"`
}

// TakeOut takes a release out of the catalogue that no run was ever opened with and that
// nobody has chosen. That it was there stays known.
func (s *Store) TakeOut(ctx context.Context, r *Release, reason, by string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var used int
		if err := tx.GetContext(ctx, &used, `SELECT (SELECT COUNT(*) FROM run WHERE firmware = ?) + (SELECT COUNT(*) FROM target WHERE firmware = ?) + (SELECT COUNT(*) FROM hold WHERE firmware = ?)`, r.ID, r.ID, r.ID); err != nil {
			return err
		}
		if used > 0 {
			return core.Fail(core.NotAllowed, "release %s of %s was used: a run was opened with it, or the team has chosen it", r.Version, r.Model).Unit("nothing was changed").Go(words.Withdraw(r.Model, r.Version).To("Withdraw it instead"))
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO release_out (id, model, version, document, reason, taken_by, taken_at) VALUES (?, ?, ?, ?, ?, ?, ?)`, r.ID, r.Model, r.Version, r.Document[:], reason, by, at.UTC()); err != nil {
			return err
		}
		if err := judgeAnew(ctx, tx, "m.name = ?", r.Model); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `CALL take_out(?)`, r.ID)
		return err
	})
}

// TakenOut lists what was taken out of a model's releases.
func (s *Store) TakenOut(ctx context.Context, modelName string) (all []TakenOut, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(TakenOut{}, "")+` FROM release_out WHERE model = ? ORDER BY taken_at DESC`, modelName)
	return all, err
}

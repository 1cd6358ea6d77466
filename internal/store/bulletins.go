package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/fit"
)

// Bulletin is what is known of a complaint about a model.
type Bulletin struct {
	Number uint64       `db:"number"`
	Model  string       `db:"model"`
	Body   string       `db:"body"` // fit.Bulletin in JSON
	By     string       `db:"made_by"`
	At     time.Time    `db:"made_at"`
	Ender  *string      `db:"ended_by"`
	Ended  sql.NullTime `db:"ended_at"`
	Why    string       `db:"ended_why"`
}

// Read takes what it says out of its row.
func (b Bulletin) Read() (is fit.Bulletin, err error) {
	err = json.Unmarshal([]byte(b.Body), &is)
	return is, err
}

// AddBulletin enters one, and gives its number.
func (s *Store) AddBulletin(ctx context.Context, b Bulletin) (uint64, error) {
	r, err := s.db.NamedExecContext(ctx, `INSERT INTO bulletin (model, body, made_by, made_at) VALUES (:model, :body, :made_by, :made_at)`, b)
	if err != nil {
		return 0, err
	}
	n, err := r.LastInsertId()
	return uint64(n), err
}

// EndBulletin has nobody told of it any more.
func (s *Store) EndBulletin(ctx context.Context, number uint64, by, why string, at time.Time) error {
	r, err := s.db.ExecContext(ctx, `UPDATE bulletin SET ended_by = ?, ended_at = ?, ended_why = ? WHERE number = ? AND ended_at IS NULL`, by, at.UTC(), why, number)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return core.Fail(core.NotFound, "there is no bulletin %d that has not ended", number)
}

// Bulletins lists those of a model, or of all, the newest first; ended ones where they are
// wanted too.
func (s *Store) Bulletins(ctx context.Context, modelName string, ended bool) (all []Bulletin, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT `+named(Bulletin{}, "")+` FROM bulletin WHERE (? = '' OR model = ?) AND (ended_at IS NULL OR ?) ORDER BY number DESC`, modelName, modelName, ended)
	return all, err
}

// BulletinsPage reads a page of them.
func (s *Store) BulletinsPage(ctx context.Context, modelName string, ended bool, after string, size int) ([]Bulletin, Paged, error) {
	of := selection{where: []string{"TRUE"}}
	if modelName != "" {
		of.add("model = ?", modelName)
	}
	if !ended {
		of.add("ended_at IS NULL")
	}
	return inOrder(ctx, s, named(Bulletin{}, ""), "bulletin", of, after, size, "number", true, func(b Bulletin) []string { return []string{strconv.FormatUint(b.Number, 10)} })
}

// CodeTexts are what fault codes of a model mean, beside what its sheet says.
func (s *Store) CodeTexts(ctx context.Context, modelName string) (map[string]string, error) {
	var rows []struct {
		Code string `db:"code"`
		Says string `db:"says"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT code, says FROM code_text WHERE model = ?`, modelName)
	all := map[string]string{}
	for _, r := range rows {
		all[r.Code] = r.Says
	}
	return all, err
}

// PutCodeTexts adds texts; one that is empty takes the text away.
func (s *Store) PutCodeTexts(ctx context.Context, modelName string, texts map[string]string, by string, at time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		for code, says := range texts {
			var err error
			if says == "" {
				_, err = tx.ExecContext(ctx, `CALL drop_code_text(?, ?)`, modelName, code)
			} else {
				_, err = tx.ExecContext(ctx, `INSERT INTO code_text (model, code, says, put_by, put_at) VALUES (?, ?, ?, ?, ?)
					ON DUPLICATE KEY UPDATE says = VALUES(says), put_by = VALUES(put_by), put_at = VALUES(put_at)`, modelName, code, says, by, at.UTC())
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

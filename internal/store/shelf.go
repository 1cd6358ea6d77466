package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/model"
	"zealousferry/core/shelf"
)

// MaxPiece bounds one piece; larger content is cut into chunks first.
const MaxPiece = 4 << 20

// PutPieces keeps pieces durably; those that are there already cost nothing.
func (s *Store) PutPieces(ctx context.Context, pieces []shelf.Piece) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error { return s.putPieces(ctx, tx, pieces) })
}

func (s *Store) putPieces(ctx context.Context, tx *sqlx.Tx, pieces []shelf.Piece) error {
	for len(pieces) > 0 {
		n := min(len(pieces), 64)
		var args []any
		for _, p := range pieces[:n] {
			if len(p.Data) > MaxPiece || core.DigestOf(p.Data) != p.Name {
				return core.Fail(core.BadFile, "a piece does not have the digest that it is named by")
			}
			args = append(args, append([]byte(nil), p.Name[:]...), len(p.Data), s.enc.EncodeAll(p.Data, nil))
		}
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO piece (name, length, body) VALUES `+strings.Repeat("(?, ?, ?),", n-1)+"(?, ?, ?)", args...); err != nil {
			return err
		}
		pieces = pieces[n:]
	}
	return nil
}

// Piece gets content by digest.
func (s *Store) Piece(ctx context.Context, name core.Digest) ([]byte, error) {
	var row struct {
		Length int    `db:"length"`
		Body   []byte `db:"body"`
	}
	if err := s.db.GetContext(ctx, &row, `SELECT length, body FROM piece WHERE name = ?`, name[:]); err != nil {
		return nil, none(err, "the shelf does not hold %s", name.Short())
	}
	b, err := unpack.DecodeAll(row.Body, make([]byte, 0, row.Length))
	if err != nil || core.DigestOf(b) != name {
		return nil, core.Fail(core.BadFile, "the shelf holds other bytes under the name %s", name.Short())
	}
	return b, nil
}

// Missing tells which pieces are not on the shelf.
func (s *Store) Missing(ctx context.Context, names []core.Digest) ([]core.Digest, error) {
	has := map[core.Digest]bool{}
	for rest := names; len(rest) > 0; {
		n := min(len(rest), 512)
		var raw [][]byte
		for _, d := range rest[:n] {
			raw = append(raw, append([]byte(nil), d[:]...))
		}
		rest = rest[n:]
		q, args, err := sqlx.In(`SELECT name FROM piece WHERE name IN (?)`, raw)
		if err != nil {
			return nil, err
		}
		var found [][]byte
		if err := s.db.SelectContext(ctx, &found, q, args...); err != nil {
			return nil, err
		}
		for _, f := range found {
			has[core.Digest(f)] = true
		}
	}
	missing := []core.Digest{}
	for _, d := range names {
		if !has[d] {
			missing = append(missing, d)
			has[d] = true
		}
	}
	return missing, nil
}

// Model is a model with the sheet that is in force.
type Model struct {
	Name    string    `db:"name"`
	Title   string    `db:"title"`
	Sheet   []byte    `db:"sheet"`
	Changed time.Time `db:"changed_at"`
}

// PutModel keeps a sheet and puts it in force.
func (s *Store) PutModel(ctx context.Context, sheet *model.Sheet, raw []byte) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.putPieces(ctx, tx, []shelf.Piece{{Name: sheet.Digest, Data: raw}}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO model (name, title, sheet, changed_at) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE title = VALUES(title), sheet = VALUES(sheet), changed_at = VALUES(changed_at)`,
			sheet.Model, sheet.Name.In("en"), sheet.Digest[:], time.Now().UTC())
		return err
	})
}

// Models lists all.
func (s *Store) Models(ctx context.Context) (all []Model, err error) {
	err = s.db.SelectContext(ctx, &all, `SELECT * FROM model ORDER BY name`)
	return all, err
}

// Sheet reads the sheet in force of a model.
func (s *Store) Sheet(ctx context.Context, name string) (*model.Sheet, error) {
	var digest []byte
	if err := s.db.GetContext(ctx, &digest, `SELECT sheet FROM model WHERE name = ?`, name); err != nil {
		return nil, none(err, "there is no model %q", name)
	}
	raw, err := s.Piece(ctx, core.Digest(digest))
	if err != nil {
		return nil, err
	}
	return model.ReadSheet(raw)
}

// PutImage keeps an image file, in chunks. An image that is there is left as it is.
func (s *Store) PutImage(ctx context.Context, data []byte, fileName, by string) error {
	manifest, pages, err := shelf.Bind([]shelf.Stretch{{Length: uint64(len(data)), Chunks: shelf.Names(0, data)}})
	if err != nil {
		return err
	}
	raw := manifest.Encode()
	name, digest := core.DigestOf(raw), core.DigestOf(data)
	pieces := append(append(shelf.Cut(0, data), pages...), shelf.Piece{Name: name, Data: raw})
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.putPieces(ctx, tx, pieces); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT IGNORE INTO image (digest, manifest, length, file_name, added_by, added_at) VALUES (?, ?, ?, ?, ?, ?)`,
			digest[:], name[:], len(data), fileName, by, time.Now().UTC())
		return err
	})
}

// Image gets an image file.
func (s *Store) Image(ctx context.Context, digest core.Digest) ([]byte, error) {
	var row struct {
		Manifest []byte `db:"manifest"`
		Length   uint64 `db:"length"`
	}
	if err := s.db.GetContext(ctx, &row, `SELECT manifest, length FROM image WHERE digest = ?`, digest[:]); err != nil {
		return nil, none(err, "there is no image %s", digest.Short())
	}
	raw, err := s.Piece(ctx, core.Digest(row.Manifest))
	if err != nil {
		return nil, err
	}
	manifest, err := shelf.DecodeManifest(raw)
	if err != nil {
		return nil, err
	}
	data := make([]byte, row.Length)
	if err := manifest.Read(func(d core.Digest) ([]byte, error) { return s.Piece(ctx, d) }, 0, data); err != nil {
		return nil, err
	}
	if core.DigestOf(data) != digest {
		return nil, core.Fail(core.BadFile, "the image %s does not have its digest any more", digest.Short())
	}
	return data, nil
}

type firmware struct {
	ID        string         `db:"id"`
	Model     string         `db:"model"`
	Version   string         `db:"version"`
	Document  []byte         `db:"document"`
	Withdrawn sql.NullTime   `db:"withdrawn_at"`
	By        sql.NullString `db:"withdrawn_by"`
	Reason    sql.NullString `db:"withdrawn_reason"`
}

// Release is a release with the digest of its document.
type Release struct {
	model.Release
	Document core.Digest `json:"document"`
}

// AddRelease keeps a release. A version that the model has already is busy.
func (s *Store) AddRelease(ctx context.Context, r *model.Release) (core.Digest, error) {
	raw, err := json.Marshal(r)
	if err != nil {
		return core.Digest{}, err
	}
	name := core.DigestOf(raw)
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.putPieces(ctx, tx, []shelf.Piece{{Name: name, Data: raw}}); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO firmware (id, model, version, document) VALUES (?, ?, ?, ?)`, r.ID, r.Model, r.Version, name[:])
		return err
	})
	if duplicate(err) {
		return name, core.Fail(core.Busy, "%s has a release %s already", r.Model, r.Version).Do("A release is immutable: give the new one another version.")
	}
	return name, err
}

// Releases lists the releases of a model, or all for "".
func (s *Store) Releases(ctx context.Context, modelName string) ([]*Release, error) {
	var rows []firmware
	if err := s.db.SelectContext(ctx, &rows, `SELECT * FROM firmware WHERE ? = '' OR model = ? ORDER BY model, id`, modelName, modelName); err != nil {
		return nil, err
	}
	all := make([]*Release, 0, len(rows))
	for _, row := range rows {
		r, err := s.release(ctx, row)
		if err != nil {
			return nil, err
		}
		all = append(all, r)
	}
	return all, nil
}

// Release finds one by id.
func (s *Store) Release(ctx context.Context, id string) (*Release, error) {
	var row firmware
	if err := s.db.GetContext(ctx, &row, `SELECT * FROM firmware WHERE id = ?`, id); err != nil {
		return nil, none(err, "there is no release %q", id)
	}
	return s.release(ctx, row)
}

func (s *Store) release(ctx context.Context, row firmware) (*Release, error) {
	raw, err := s.Piece(ctx, core.Digest(row.Document))
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

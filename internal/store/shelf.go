package store

import (
	"context"
	"strings"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
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
	return opened(name, row.Body)
}

// Pieces gets content by digest, as far as the shelf has it.
func (s *Store) Pieces(ctx context.Context, names []core.Digest) (map[core.Digest][]byte, error) {
	found := map[core.Digest][]byte{}
	for rest := names; len(rest) > 0; {
		n := min(len(rest), 256)
		var raw [][]byte
		for _, d := range rest[:n] {
			raw = append(raw, append([]byte(nil), d[:]...))
		}
		rest = rest[n:]
		q, args, err := sqlx.In(`SELECT name, body FROM piece WHERE name IN (?)`, raw)
		if err != nil {
			return nil, err
		}
		var rows []struct {
			Name []byte `db:"name"`
			Body []byte `db:"body"`
		}
		if err := s.db.SelectContext(ctx, &rows, q, args...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			name := core.Digest(r.Name)
			if found[name], err = opened(name, r.Body); err != nil {
				return nil, err
			}
		}
	}
	return found, nil
}

// Shelf reads pieces by their names, many at once; one that is not there is an error.
func (s *Store) Shelf(ctx context.Context) shelf.Get {
	return func(names []core.Digest) ([][]byte, error) {
		found, err := s.Pieces(ctx, names)
		if err != nil {
			return nil, err
		}
		all := make([][]byte, 0, len(names))
		for _, n := range names {
			b, ok := found[n]
			if !ok {
				return nil, core.Fail(core.NotFound, "the shelf does not hold %s", n.Short())
			}
			all = append(all, b)
		}
		return all, nil
	}
}

// opened unpacks a piece and checks that it has its name.
func opened(name core.Digest, body []byte) ([]byte, error) {
	b, err := unpack().DecodeAll(body, nil)
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

package store

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/shelf"
)

// MaxPiece bounds one piece; larger content is cut into chunks first.
const MaxPiece = 4 << 20

// PutPieces keeps pieces durably; those that are there already cost nothing.
func (s *Store) PutPieces(ctx context.Context, pieces []shelf.Piece) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		news, err := missing(ctx, tx, namesOf(pieces))
		if err != nil || len(news) == 0 {
			return err
		}
		if _, err := tx.ExecContext(ctx, `CALL pieces_wait(?)`, listed(news)); err != nil {
			return err
		}
		added, err := s.addPieces(ctx, tx, pieces)
		if err == nil && added != int64(len(news)) { // somebody else sends them too, and may have named them already
			return errRaced
		}
		return err
	})
}

func namesOf(pieces []shelf.Piece) []core.Digest {
	all := make([]core.Digest, len(pieces))
	for i, p := range pieces {
		all[i] = p.Name
	}
	return all
}

// putPieces keeps pieces that something names from now on.
func (s *Store) putPieces(ctx context.Context, tx *sqlx.Tx, pieces []shelf.Piece) error {
	if _, err := s.addPieces(ctx, tx, pieces); err != nil {
		return err
	}
	return areNamed(ctx, tx, namesOf(pieces))
}

// addPieces adds those that are not there, and tells how many they were.
func (s *Store) addPieces(ctx context.Context, tx *sqlx.Tx, pieces []shelf.Piece) (added int64, err error) {
	for len(pieces) > 0 {
		n := min(len(pieces), 64)
		var args []any
		for _, p := range pieces[:n] {
			if len(p.Data) > MaxPiece || core.DigestOf(p.Data) != p.Name {
				return added, core.Fail(core.BadFile, "a piece does not have the digest that it is named by")
			}
			args = append(args, append([]byte(nil), p.Name[:]...), len(p.Data), forPieces().EncodeAll(p.Data, nil))
		}
		r, err := tx.ExecContext(ctx, `INSERT IGNORE INTO piece (name, length, body) VALUES `+strings.Repeat("(?, ?, ?),", n-1)+"(?, ?, ?)", args...)
		if err != nil {
			return added, err
		}
		got, _ := r.RowsAffected()
		added += got
		pieces = pieces[n:]
	}
	return added, nil
}

// areNamed keeps pieces for good: something that stays names them.
func areNamed(ctx context.Context, tx *sqlx.Tx, names []core.Digest) error {
	if len(names) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `CALL pieces_named(?)`, listed(names))
	return err
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
	for some := range slices.Chunk(names, 256) {
		q, args, err := sqlx.In(`SELECT name, body FROM piece WHERE name IN (?)`, raw(some))
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

// Missing tells which pieces are not on the shelf. Those that are there and that nothing names yet stay as
// long as if they had just been sent.
func (s *Store) Missing(ctx context.Context, names []core.Digest) ([]core.Digest, error) {
	for some := range slices.Chunk(names, 512) {
		q, args, err := sqlx.In(`UPDATE piece_waiting SET asked_at = ? WHERE name IN (?)`, time.Now().UTC(), raw(some))
		if err != nil {
			return nil, err
		}
		if _, err := s.db.ExecContext(ctx, q, args...); err != nil {
			return nil, err
		}
	}
	return missing(ctx, s.db, names)
}

// raw are digests as arguments of a statement.
func raw(names []core.Digest) [][]byte {
	all := make([][]byte, len(names))
	for i := range names {
		all[i] = names[i][:]
	}
	return all
}

func missing(ctx context.Context, db sqlx.QueryerContext, names []core.Digest) ([]core.Digest, error) {
	has := map[core.Digest]bool{}
	for some := range slices.Chunk(names, 512) {
		q, args, err := sqlx.In(`SELECT name FROM piece WHERE name IN (?)`, raw(some))
		if err != nil {
			return nil, err
		}
		var found [][]byte
		if err := sqlx.SelectContext(ctx, db, &found, q, args...); err != nil {
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

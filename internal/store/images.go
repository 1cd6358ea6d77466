package store

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/recognise"
	"zealousferry/core/registry"
	"zealousferry/core/shelf"
)

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
	if err := manifest.Read(s.Shelf(ctx), 0, data); err != nil {
		return nil, err
	}
	if core.DigestOf(data) != digest {
		return nil, core.Fail(core.BadFile, "the image %s does not have its digest any more", digest.Short())
	}
	return data, nil
}

// marks are the chunks of a release's images.
func (s *Store) marks(ctx context.Context, r *model.Release, erased byte) (map[core.Digest][]recognise.Chunk, error) {
	images, err := s.Images(ctx, r, "")
	if err != nil {
		return nil, err
	}
	all := map[core.Digest][]recognise.Chunk{}
	for _, im := range images {
		all[im.Content()] = recognise.Of(im, erased)
	}
	return all, nil
}

// Images are the images of a release that go into a section, by its name, read as its
// parts say, in their order; the main section's where the name is empty.
func (s *Store) Images(ctx context.Context, r *model.Release, section string) ([]*image.Image, error) {
	sheet, err := s.Sheet(ctx, r.Model)
	if err != nil {
		return nil, err
	}
	x := sheet.Main()
	if section != "" {
		var ok bool
		if x, ok = sheet.Section(section); !ok {
			return nil, core.Fail(core.NotFound, "model %s has no section %q", r.Model, section)
		}
	}
	var all []*image.Image
	for _, p := range sheet.In(r, x) {
		raw, err := s.Image(ctx, p.Image)
		if err != nil {
			return nil, err
		}
		im, _, err := registry.Decode(raw, p)
		if err != nil {
			return nil, err
		}
		all = append(all, im)
	}
	return all, nil
}

func putParts(ctx context.Context, tx *sqlx.Tx, r *model.Release, marks map[core.Digest][]recognise.Chunk) error {
	for n, p := range r.Parts {
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO firmware_part (firmware, n, name, image, content, from_at, to_at, bytes) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			r.ID, n, p.Name, p.Image[:], p.Content[:], p.From, p.To, p.Bytes); err != nil {
			return err
		}
		chunks := marks[p.Content]
		for len(chunks) > 0 {
			n := min(len(chunks), 500)
			var args []any
			for _, c := range chunks[:n] {
				args = append(args, c.Name[:], p.Content[:], c.Address, c.Edge)
			}
			if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO image_chunk (place, content, address, edge) VALUES (?, ?, ?, ?)`+strings.Repeat(", (?, ?, ?, ?)", n-1), args...); err != nil {
				return err
			}
			chunks = chunks[n:]
		}
	}
	return nil
}

// Holder is a release that has an image.
type Holder struct {
	Release string `db:"id"`
	Model   string `db:"model"`
	Version string `db:"version"`
	Part    string `db:"name"`
	Image   []byte `db:"image"`
	Content []byte `db:"content"`
}

const holders = `SELECT f.id, f.model, f.version, p.name, p.image, p.content FROM firmware_part p JOIN firmware f ON f.id = p.firmware WHERE `

// Holders lists the releases that hold an image, by the file or by its content.
func (s *Store) Holders(ctx context.Context, file, content core.Digest) (all []Holder, err error) {
	err = s.db.SelectContext(ctx, &all, holders+`p.image = ? OR p.content = ? ORDER BY f.added_at, f.id LIMIT 50`, file[:], content[:])
	return all, err
}

// Alike gives the images that have most chunks in common with a memory, and their
// chunks; of one model, or of all for "". What the best of them does not explain
// is looked for again, so that a boot sector from somewhere else is found too.
func (s *Store) Alike(ctx context.Context, modelName string, memory []recognise.Chunk) (images [][]recognise.Chunk, held [][]Holder, err error) {
	const rounds, each = 3, 24
	taken := map[string]bool{}
	left := memory
	for range rounds {
		contents, err := s.common(ctx, modelName, left, taken, each)
		if err != nil || len(contents) == 0 {
			return images, held, err
		}
		chunks, holders, err := s.chunksOf(ctx, modelName, contents)
		if err != nil {
			return nil, nil, err
		}
		explained := map[recognise.Name]bool{}
		for i, content := range contents {
			taken[content] = true
			if len(holders[content]) == 0 {
				continue
			}
			images, held = append(images, chunks[content]), append(held, holders[content])
			if i == 0 {
				for _, c := range chunks[content] {
					explained[c.Name] = true
				}
			}
		}
		left = slices.DeleteFunc(slices.Clone(left), func(c recognise.Chunk) bool { return explained[c.Name] })
	}
	return images, held, nil
}

// common lists the contents that have most chunks in common with a memory.
func (s *Store) common(ctx context.Context, modelName string, memory []recognise.Chunk, taken map[string]bool, most int) ([]string, error) {
	count := map[string]int{}
	for at := 0; at < len(memory); at += 500 {
		part := memory[at:min(at+500, len(memory))]
		args := make([]any, 0, len(part)+2)
		for _, c := range part {
			args = append(args, c.Name[:])
		}
		var rows []struct {
			Content []byte `db:"content"`
			N       int    `db:"n"`
		}
		if err := s.db.SelectContext(ctx, &rows, `SELECT c.content, COUNT(*) AS n FROM image_chunk c WHERE c.place IN (?`+strings.Repeat(",?", len(part)-1)+`)
			AND (? = '' OR EXISTS (SELECT 1 FROM firmware_part p JOIN firmware f ON f.id = p.firmware WHERE p.content = c.content AND f.model = ?)) GROUP BY c.content`, append(args, modelName, modelName)...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			if !taken[string(r.Content)] {
				count[string(r.Content)] += r.N
			}
		}
	}
	best := slices.Collect(maps.Keys(count))
	slices.SortFunc(best, func(a, b string) int { return cmp.Or(cmp.Compare(count[b], count[a]), cmp.Compare(a, b)) })
	return best[:min(len(best), most)], nil
}

// chunksOf gives the chunks of contents, and the releases that hold them, the
// newest first.
func (s *Store) chunksOf(ctx context.Context, modelName string, contents []string) (chunks map[string][]recognise.Chunk, held map[string][]Holder, err error) {
	args := make([]any, 0, len(contents)+2)
	for _, c := range contents {
		args = append(args, []byte(c))
	}
	in := `(?` + strings.Repeat(",?", len(contents)-1) + `)`
	var rows []struct {
		Content []byte `db:"content"`
		Place   []byte `db:"place"`
		Address uint64 `db:"address"`
		Edge    bool   `db:"edge"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT content, place, address, edge FROM image_chunk WHERE content IN `+in+` ORDER BY address`, args...); err != nil {
		return nil, nil, err
	}
	chunks, held = map[string][]recognise.Chunk{}, map[string][]Holder{}
	for _, r := range rows {
		chunks[string(r.Content)] = append(chunks[string(r.Content)], recognise.Chunk{Address: r.Address, Name: recognise.Name(r.Place), Edge: r.Edge})
	}
	var all []Holder
	if err := s.db.SelectContext(ctx, &all, holders+`p.content IN `+in+` AND (? = '' OR f.model = ?) ORDER BY f.added_at DESC, f.id DESC LIMIT 1000`, append(args, modelName, modelName)...); err != nil {
		return nil, nil, err
	}
	for _, h := range all {
		held[string(h.Content)] = append(held[string(h.Content)], h)
	}
	return chunks, held, nil
}

// Carriers lists the units of a model that say they run a version.
func (s *Store) Carriers(ctx context.Context, modelName, version string, limit int) (all []Unit, total int, err error) {
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM unit WHERE model = ? AND running = ?`, modelName, version); err != nil {
		return nil, 0, err
	}
	err = s.db.SelectContext(ctx, &all, `SELECT `+unitColumns+` FROM unit u WHERE u.model = ? AND u.running = ? ORDER BY u.serial LIMIT ?`, modelName, version, limit)
	return all, total, err
}

// ImageFile is an image's file name and length.
func (s *Store) ImageFile(ctx context.Context, digest core.Digest) (name string, bytes int, err error) {
	var row struct {
		Name   string `db:"file_name"`
		Length int    `db:"length"`
	}
	err = s.db.GetContext(ctx, &row, `SELECT file_name, length FROM image WHERE digest = ?`, digest[:])
	return row.Name, row.Length, none(err, "there is no image %s", digest.Short())
}

// PartRead says how an image is read that a release has: in which format, from
// which address on.
func (s *Store) PartRead(ctx context.Context, file core.Digest) (model.Part, error) {
	var row firmware
	if err := s.db.GetContext(ctx, &row, `SELECT `+firmwareColumns+` FROM `+firmwareTables+` JOIN firmware_part p ON p.firmware = f.id WHERE p.image = ? LIMIT 1`, file[:]); err != nil {
		return model.Part{}, none(err, "no release has an image %s", file.Short())
	}
	r, err := s.release(ctx, row)
	if err != nil {
		return model.Part{}, err
	}
	i := slices.IndexFunc(r.Parts, func(p model.Part) bool { return p.Image == file })
	if i < 0 {
		return model.Part{}, core.Fail(core.NotFound, "no release has an image %s", file.Short())
	}
	return r.Parts[i], nil
}

// AreImages gives those among some digests that are files of images.
func (s *Store) AreImages(ctx context.Context, names []core.Digest) (all []core.Digest, err error) {
	for some := range slices.Chunk(names, 500) {
		var raw [][]byte
		args := make([]any, len(some))
		for i := range some {
			args[i] = some[i][:]
		}
		if err := s.db.SelectContext(ctx, &raw, `SELECT digest FROM image WHERE digest IN (?`+strings.Repeat(",?", len(some)-1)+`)`, args...); err != nil {
			return nil, err
		}
		for _, r := range raw {
			all = append(all, core.Digest(r))
		}
	}
	return all, nil
}

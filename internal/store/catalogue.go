package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"zealousferry/core"
	"zealousferry/core/image"
	"zealousferry/core/model"
	"zealousferry/core/recognise"
	"zealousferry/core/registry"
	"zealousferry/core/shelf"
)

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
	return s.SheetBy(ctx, core.Digest(digest))
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

// sheetCache keeps sheets that were read lately. A sheet is named by its content,
// so that what is kept can never be old. What get returns must not be changed.
type sheetCache struct {
	mu   sync.Mutex
	kept map[core.Digest]*model.Sheet
}

const mostSheets = 256

func (c *sheetCache) get(d core.Digest, read func(core.Digest) (*model.Sheet, error)) (*model.Sheet, error) {
	c.mu.Lock()
	s := c.kept[d]
	c.mu.Unlock()
	if s != nil {
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
	Body      []byte         `db:"body"` // the document, packed
}

const (
	firmwareColumns = `f.id, f.model, f.version, f.document, f.withdrawn_at, f.withdrawn_by, f.withdrawn_reason, d.body`
	firmwareTables  = `firmware f JOIN piece d ON d.name = f.document`
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

// fill computes what columns and tables that came later want of the releases that
// are there.
func fill(ctx context.Context, dsn string) error {
	s, err := Open(ctx, dsn)
	if err != nil {
		return err
	}
	defer s.Close()
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

func (s *Store) releases(ctx context.Context, rows []firmware) ([]*Release, error) {
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

// ReleaseQuery asks for a page of releases.
type ReleaseQuery struct {
	Words      string // all of which must be found; a version or part number by its beginning
	Model      string
	Channel    string
	Page, Size int
}

// FindReleases searches the catalogue, the newest first. A number that no version
// and no part number of a release begins with is looked for in its rules: it may
// be a board's.
func (s *Store) FindReleases(ctx context.Context, q ReleaseQuery) (all []*Release, total int, err error) {
	all, total, err = s.findReleases(ctx, q, false)
	if err == nil && total == 0 && strings.ContainsAny(q.Words, "0123456789") {
		return s.findReleases(ctx, q, true)
	}
	return all, total, err
}

func (s *Store) findReleases(ctx context.Context, q ReleaseQuery, anywhere bool) (all []*Release, total int, err error) {
	where, args := q.where(anywhere)
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM firmware f WHERE `+where, args...); err != nil || total == 0 {
		return nil, total, err
	}
	var rows []firmware
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+firmwareColumns+` FROM `+firmwareTables+` WHERE `+where+` ORDER BY f.added_at DESC, f.id DESC LIMIT ? OFFSET ?`, append(args, q.Size, q.Page*q.Size)...); err != nil {
		return nil, total, err
	}
	all, err = s.releases(ctx, rows)
	return all, total, err
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
		like := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(word) + "%"
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

// Release finds one by id.
func (s *Store) Release(ctx context.Context, id string) (*Release, error) {
	var row firmware
	if err := s.db.GetContext(ctx, &row, `SELECT `+firmwareColumns+` FROM `+firmwareTables+` WHERE f.id = ?`, id); err != nil {
		return nil, none(err, "there is no release %q", id)
	}
	return s.release(ctx, row)
}

func (s *Store) release(_ context.Context, row firmware) (*Release, error) {
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
	_, err := s.db.ExecContext(ctx, `UPDATE firmware SET withdrawn_at = ?, withdrawn_by = ?, withdrawn_reason = ? WHERE id = ? AND withdrawn_at IS NULL`, at.UTC(), by, reason, id)
	return err
}

// Withdrawn says which of the releases that open runs of a bench write was
// withdrawn, and why.
func (s *Store) Withdrawn(ctx context.Context, bench string) (map[string]string, error) {
	var rows []struct {
		Run    string `db:"id"`
		Reason string `db:"reason"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT r.id, CONCAT('release ', f.version, ' was withdrawn: ', f.withdrawn_reason) AS reason FROM run r JOIN firmware f ON f.id = r.firmware WHERE r.bench = ? AND r.state <> ? AND f.withdrawn_at IS NOT NULL`, bench, RunClosed)
	all := map[string]string{}
	for _, r := range rows {
		all[r.Run] = r.Reason
	}
	return all, err
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

// Counted is a model and how much there is of it.
type Counted struct {
	Name     string `db:"name"`
	Releases int    `db:"releases"`
	Units    int    `db:"units"`
	Newest   string `db:"newest"`
}

const counted = `SELECT m.name, (SELECT COUNT(*) FROM firmware f WHERE f.model = m.name) AS releases, (SELECT COUNT(*) FROM unit u WHERE u.model = m.name) AS units,
	COALESCE((SELECT f.version FROM firmware f WHERE f.model = m.name AND f.channel = 'stable' AND f.withdrawn_at IS NULL ORDER BY f.added_at DESC, f.id DESC LIMIT 1), '') AS newest FROM model m WHERE `

// FindModels searches models by words of name or title.
func (s *Store) FindModels(ctx context.Context, words string, page, size int) (all []Counted, total int, err error) {
	where, args := []string{"1 = 1"}, []any{}
	for _, w := range strings.Fields(words) {
		like := "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(w) + "%"
		where, args = append(where, "(m.name LIKE ? OR m.title LIKE ?)"), append(args, like, like)
	}
	condition := strings.Join(where, " AND ")
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM model m WHERE `+condition, args...); err != nil {
		return nil, 0, err
	}
	err = s.db.SelectContext(ctx, &all, counted+condition+` ORDER BY m.name LIMIT ? OFFSET ?`, append(args, size, page*size)...)
	return all, total, err
}

// CountModel is one model with its counts.
func (s *Store) CountModel(ctx context.Context, name string) (c Counted, err error) {
	err = s.db.GetContext(ctx, &c, counted+`m.name = ?`, name)
	return c, none(err, "there is no model %q", name)
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

// ImageFile is an image's file name and length.
func (s *Store) ImageFile(ctx context.Context, digest core.Digest) (name string, bytes int, err error) {
	var row struct {
		Name   string `db:"file_name"`
		Length int    `db:"length"`
	}
	err = s.db.GetContext(ctx, &row, `SELECT file_name, length FROM image WHERE digest = ?`, digest[:])
	return row.Name, row.Length, none(err, "there is no image %s", digest.Short())
}

// OpenRunsOf counts the open runs that write a release.
func (s *Store) OpenRunsOf(ctx context.Context, release string) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM run WHERE firmware = ? AND state <> ?`, release, RunClosed)
	return n, err
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

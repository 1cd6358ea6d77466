package store

import (
	"context"
	"slices"
	"strings"
	"unicode"

	"github.com/jmoiron/sqlx"
)

// Units are found by words as a reader of a card index would: what many units have is met soon
// when one leafs through those seen last; what few have is looked up. So each search costs a
// bounded number of rows, however large the fleet.
const (
	glanced = 500   // units of which none has the words where few have them: they are looked up at once
	leafed  = 4000  // units that are leafed through: an index has all that is asked for
	picked  = 500   // among those of a model, a state or a site, whose rows must be read
	looked  = 6000  // units that a word may bring when it is looked up
	further = 40000 // units that are leafed through where no word is in an index
)

// Units lists a page of units: half-done ones first, then those with the newest sign of life.
// Every word must be the beginning of a word of site, customer or note, the beginning or the end
// of the serial, the beginning of the version that runs, or a part of the model's name.
func (s *Store) Units(ctx context.Context, q UnitQuery) (all []Unit, p Paged, err error) {
	after, err := readCursor(q.After)
	if err != nil {
		return nil, p, err
	}
	var of selection
	of.add("u.listed = 1")
	if q.Model != "" {
		of.add("u.model = ?", q.Model)
	}
	if q.Site != "" {
		of.add("u.site = ?", q.Site)
	}
	if q.Due != "" {
		of.add("u.behind = 1 AND u.due = ?", q.Due)
	}
	switch q.State {
	case "":
	case "public-default":
		of.add("u.id IN (SELECT s.unit FROM unit_setting s WHERE s.public = TRUE)")
	case "behind":
		of.add("u.behind = 1")
	case "no-backup":
		of.add("u.backed = 0")
	case "withdrawn":
		of.add("u.running <> '' AND (u.model, u.running) IN (SELECT f.model, f.version FROM firmware f WHERE f.withdrawn_at > '2000-01-01')")
	case "open":
		of.add("u.id IN (SELECT r.unit FROM claim c JOIN run r ON r.id = c.run WHERE c.kind = 'unit')")
	default:
		of.add("u.state = ?", q.State)
	}
	if words := strings.Fields(q.Words); len(words) > 0 {
		return s.unitsBy(ctx, words, of, after, q.Size)
	}
	if p.Total, p.More, err = s.count(ctx, "unit u", of); err != nil {
		return nil, p, err
	}
	of.behind(after, "u.place", "u.id", nil)
	err = s.db.SelectContext(ctx, &all, `SELECT `+unitColumns+` FROM unit u WHERE `+of.String()+` ORDER BY u.place DESC, u.id DESC LIMIT ?`, append(of.args, q.Size+1)...)
	all, p.Next = pageOfUnits(all, q.Size)
	return all, p, err
}

// count counts up to a bound.
func (s *Store) count(ctx context.Context, from string, of selection) (n int, more bool, err error) {
	return s.countTo(ctx, mostCounted, from, of)
}

func (s *Store) countTo(ctx context.Context, most int, from string, of selection) (n int, more bool, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM (SELECT 1 FROM `+from+` WHERE `+of.String()+` LIMIT ?) x`, append(of.args[:len(of.args):len(of.args)], most+1)...)
	return min(n, most), n > most, err
}

func pageOfUnits(all []Unit, size int) ([]Unit, string) {
	if len(all) <= size {
		return all, ""
	}
	last := all[size-1]
	return all[:size], cursor{last.Place, last.ID}.String()
}

// unitsBy finds units by words.
func (s *Store) unitsBy(ctx context.Context, words []string, of selection, after *cursor, size int) (all []Unit, p Paged, err error) {
	found := make([]word, len(words))
	for i, w := range words {
		if found[i], err = s.word(ctx, w); err != nil {
			return nil, p, err
		}
	}
	var match selection
	for _, w := range found {
		w.match(&match)
	}
	behind := selection{slices.Clone(of.where), slices.Clone(of.args)}
	behind.behind(after, "u.place", "u.id", nil)
	some := leafed
	if len(of.where) > 1 {
		some = picked
	} else {
		glance, err := s.leaf(ctx, of, match, glanced)
		if err != nil {
			return nil, p, err
		}
		if len(glance.hits) == 0 && glance.last != nil {
			ids, ok, err := s.lookUp(ctx, found)
			if err != nil {
				return nil, p, err
			}
			if ok {
				return s.hitsAmong(ctx, ids, match, of, after, size)
			}
		}
	}
	first, err := s.leaf(ctx, of, match, some)
	if err != nil {
		return nil, p, err
	}
	p.Total, p.More = len(first.hits), first.last != nil
	from := first
	if after != nil {
		if from, err = s.leaf(ctx, behind, match, some); err != nil {
			return nil, p, err
		}
	}
	if len(from.hits) > size || from.last == nil { // many have it, or all were leafed through
		all, p.Next, err = s.page(ctx, from.hits, size)
		return all, p, err
	}
	ids, ok, err := s.lookUp(ctx, found)
	if err != nil {
		return nil, p, err
	}
	if !ok {
		if from, err = s.leaf(ctx, behind, match, further); err != nil {
			return nil, p, err
		}
		all, p.Next, err = s.page(ctx, from.hits, size)
		if p.Next == "" && from.last != nil { // there may be more behind what was leafed through
			p.Next = from.last.String()
		}
		return all, p, err
	}
	return s.hitsAmong(ctx, ids, match, of, after, size)
}

// hitsAmong reads a page of those units of some that have the words, and counts them.
func (s *Store) hitsAmong(ctx context.Context, ids []string, match, of selection, after *cursor, size int) (all []Unit, p Paged, err error) {
	if len(ids) == 0 {
		return nil, p, nil
	}
	// By their ids: to weigh every other index against a long list takes longer than to read the rows.
	query, args, err := sqlx.In(`SELECT u.id, u.place FROM unit u FORCE INDEX (PRIMARY) WHERE u.id IN (?) AND `+match.String()+` AND `+of.String()+` ORDER BY u.place DESC, u.id DESC`, slices.Concat([]any{ids}, match.args, of.args)...)
	if err != nil {
		return nil, p, err
	}
	var hits []hit
	if err := s.db.SelectContext(ctx, &hits, query, args...); err != nil {
		return nil, p, err
	}
	p.Total = len(hits)
	if after != nil {
		hits = slices.DeleteFunc(hits, func(h hit) bool { return h.Place > after.by || h.Place == after.by && h.ID >= after.id })
	}
	all, p.Next, err = s.page(ctx, hits, size)
	return all, p, err
}

// hit is a unit that has the words, and its place in lists.
type hit struct {
	ID    string `db:"id"`
	Place int64  `db:"place"`
}

// leafing is what leafing through some units has found; last is the last of them where there are
// more.
type leafing struct {
	hits []hit
	last *cursor
}

func (s *Store) leaf(ctx context.Context, of, match selection, rows int) (l leafing, err error) {
	var all []struct {
		hit
		Is bool `db:"hit"`
	}
	err = s.db.SelectContext(ctx, &all, `SELECT u.id, u.place, `+match.String()+` AS hit FROM unit u WHERE `+of.String()+` ORDER BY u.place DESC, u.id DESC LIMIT ?`, slices.Concat(match.args, of.args, []any{rows})...)
	for _, x := range all {
		if x.Is {
			l.hits = append(l.hits, x.hit)
		}
	}
	if len(all) == rows {
		l.last = &cursor{all[rows-1].Place, all[rows-1].ID}
	}
	return l, err
}

// page reads the first of some units, and says with what the next ones are asked for.
func (s *Store) page(ctx context.Context, hits []hit, size int) (all []Unit, next string, err error) {
	if len(hits) > size {
		hits = hits[:size]
		next = cursor{hits[size-1].Place, hits[size-1].ID}.String()
	}
	ids := make([]string, len(hits))
	for i, h := range hits {
		ids[i] = h.ID
	}
	all, err = s.UnitsBy(ctx, ids)
	return all, next, err
}

// UnitsBy finds units by their ids, in that order; those that are not there are passed over.
func (s *Store) UnitsBy(ctx context.Context, ids []string) (all []Unit, err error) {
	if len(ids) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(`SELECT `+unitColumns+` FROM unit u WHERE u.id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	err = s.db.SelectContext(ctx, &all, query, args...)
	order := make(map[string]int, len(ids))
	for i, id := range ids {
		order[id] = i
	}
	slices.SortFunc(all, func(a, b Unit) int { return order[a.ID] - order[b.ID] })
	return all, err
}

// word is a word that is looked for.
type word struct {
	text   string
	models []string // whose name or title holds it
	tokens []string // of which the index of words knows
}

// mostModels is how many models a word may name.
const mostModels = 200

// untold are the words that an index of MariaDB leaves out as it comes.
var untold = strings.Fields("a about an are as at be by com de en for from how i in is it la of on or that the this to was what when where who will with und www")

func (s *Store) word(ctx context.Context, text string) (w word, err error) {
	w = word{text: text}
	like := likeOf(text)
	if err := s.db.SelectContext(ctx, &w.models, `SELECT name FROM model WHERE name COLLATE utf8mb4_unicode_ci LIKE ? OR title LIKE ? LIMIT ?`, like, like, mostModels); err != nil {
		return w, err
	}
	w.tokens = tokensOf(text)
	return w, nil
}

// tokensOf are the beginnings of words that the index of words is asked for.
func tokensOf(text string) (all []string) {
	for _, t := range strings.FieldsFunc(text, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		if len([]rune(t)) >= 3 && !slices.Contains(untold, strings.ToLower(t)) {
			all = append(all, "+"+t+"*")
		}
	}
	return all
}

// beginning is a pattern for text that begins so.
func beginning(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s) + "%"
}

func reversed(s string) string {
	r := []rune(s)
	slices.Reverse(r)
	return string(r)
}

// apart is what stands between words, and is a space in the column of a unit's words.
const apart = `-/.,;:()#_`

func spaced(text string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(apart, r) {
			return ' '
		}
		return r
	}, text)
}

// match adds that a unit has the word.
func (w word) match(of *selection) {
	key := strings.ToUpper(w.text)
	cond := `u.serial_key LIKE ? OR u.serial_key LIKE ? OR u.running LIKE ?`
	args := []any{beginning(key), "%" + strings.TrimSuffix(beginning(key), "%"), beginning(w.text)}
	if t := strings.Join(strings.Fields(spaced(w.text)), " "); t != "" {
		cond, args = cond+` OR u.words LIKE ?`, append(args, "% "+beginning(t))
	}
	if len(w.models) > 0 {
		cond += ` OR u.model IN (?` + strings.Repeat(",?", len(w.models)-1) + `)`
		for _, m := range w.models {
			args = append(args, m)
		}
	}
	of.add("("+cond+")", args...)
}

// telling weighs how few have a word: those with digits, and long ones, are of few.
func telling(word string) int {
	if strings.ContainsAny(word, "0123456789") {
		return 1000 + len(word)
	}
	return len(word)
}

// lookUp finds the units that one of the words brings, that which brings the fewest; not ok where
// each of them brings too many, or is in no index.
func (s *Store) lookUp(ctx context.Context, words []word) (ids []string, ok bool, err error) {
	try := func(w word) (got []string, ok bool, err error) {
		key := strings.ToUpper(w.text)
		parts := []string{`(SELECT id FROM unit WHERE serial_key LIKE ? LIMIT ?)`, `(SELECT id FROM unit WHERE serial_end LIKE ? LIMIT ?)`, `(SELECT id FROM unit WHERE running LIKE ? LIMIT ?)`}
		args := []any{beginning(key), looked + 1, beginning(reversed(key)), looked + 1, beginning(w.text), looked + 1}
		if len(w.models) > 0 {
			parts = append(parts, `(SELECT id FROM unit WHERE listed = 1 AND model IN (?`+strings.Repeat(",?", len(w.models)-1)+`) LIMIT ?)`)
			for _, m := range w.models {
				args = append(args, m)
			}
			args = append(args, looked+1)
		}
		if len(w.tokens) > 0 {
			parts = append(parts, `(SELECT id FROM unit WHERE MATCH (words) AGAINST (? IN BOOLEAN MODE) LIMIT ?)`)
			args = append(args, strings.Join(w.tokens, " "), looked+1)
		}
		err = s.db.SelectContext(ctx, &got, strings.Join(parts, " UNION ")+` LIMIT ?`, append(args, looked+1)...)
		return got, err == nil && len(got) <= looked, err
	}
	words = slices.Clone(words)
	slices.SortStableFunc(words, func(a, b word) int { return telling(b.text) - telling(a.text) })
	for _, w := range words {
		if len(w.tokens) == 0 { // what begins with so little may stand anywhere
			continue
		}
		got, fits, err := try(w)
		if err != nil {
			return nil, false, err
		}
		if fits && (!ok || len(got) < len(ids)) {
			ids, ok = got, true
		}
		if ok && len(ids) < 1000 {
			return ids, true, nil
		}
	}
	if !ok { // two that many have may meet in few
		var both word
		for _, w := range words {
			both.tokens = append(both.tokens, w.tokens...)
		}
		if len(both.tokens) > 1 {
			err = s.db.SelectContext(ctx, &ids, `SELECT id FROM unit WHERE MATCH (words) AGAINST (? IN BOOLEAN MODE) LIMIT ?`, strings.Join(both.tokens, " "), looked+1)
			return ids, err == nil && len(ids) <= looked && !slices.ContainsFunc(words, func(w word) bool { return len(w.tokens) == 0 || len(w.models) > 0 }), err
		}
	}
	return ids, ok, nil
}

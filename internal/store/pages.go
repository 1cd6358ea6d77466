package store

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"

	"zealousferry/core"
)

// Lists are read by key: a page begins behind the last row of the one before, so that page 4000
// costs what the first one does.

// Paged tells of a page of a list.
type Paged struct {
	Total int    // how many match, as far as they were counted
	More  bool   // there are more than Total
	Next  string // what the next page is asked for with; empty at the end
}

// mostCounted is up to where matches are counted.
const mostCounted = 10_000

// cursor is the last row of a page, by what the list is ordered by, and its id.
type cursor struct {
	by int64
	id string
}

func (c cursor) String() string {
	return base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, "%d %s", c.by, c.id))
}

// readCursor reads what String has written; nil of the empty text, which is the beginning.
func readCursor(text string) (*cursor, error) {
	if text == "" {
		return nil, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(text)
	var c cursor
	by, id, two := strings.Cut(string(raw), " ")
	if err == nil {
		c.id = id
		c.by, err = strconv.ParseInt(by, 10, 64)
	}
	if err != nil || !two {
		return nil, notAPage(text)
	}
	return &c, nil
}

func notAPage(after string) error {
	return core.Fail(core.NotUnderstood, "%q is not what a page of this list has ended with", after).Do("Begin with the first page.")
}

// selection is a list's WHERE, as it comes about.
type selection struct {
	where []string
	args  []any
}

func (s *selection) add(cond string, values ...any) {
	s.where, s.args = append(s.where, cond), append(s.args, values...)
}

// all selects every row.
var all = selection{where: []string{"TRUE"}}

// behind adds that rows are behind a cursor, in a list with the greatest first. Where value is
// given it makes of the cursor's number what the column holds.
func (s *selection) behind(c *cursor, column, id string, value func(int64) any) {
	if c == nil {
		return
	}
	v := any(c.by)
	if value != nil {
		v = value(c.by)
	}
	s.add(column+" <= ? AND ("+column+" < ? OR "+id+" < ?)", v, v, c.id)
}

func (s *selection) String() string { return strings.Join(s.where, " AND ") }

// firstOpen is where the open ones begin among trays and rounds: see migration 26.
const firstOpen = 1 << 60

// inTurn reads a page of a list that is ordered by a column which says whose turn it is, the
// greatest first; of counts are the rows of counted.
func inTurn[T any](ctx context.Context, s *Store, columns, tables, counted string, of selection, after string, size int, turn, id string, at func(T) cursor) (all []T, p Paged, err error) {
	from, err := readCursor(after)
	if err != nil {
		return nil, p, err
	}
	whole := of
	of.behind(from, turn, id, nil)
	err = s.db.SelectContext(ctx, &all, `SELECT `+columns+` FROM `+tables+` WHERE `+of.String()+` ORDER BY `+turn+` DESC, `+id+` DESC LIMIT ?`, append(of.args, size+1)...)
	if err == nil {
		p, err = s.paged(ctx, counted, whole, from, len(all), size)
	}
	if len(all) > size {
		p.Next = at(all[size-1]).String()
		all = all[:size]
	}
	return all, p, err
}

// paged counts the rows of a list of which a page and one more were asked for, and so many came:
// where that is all of them, nothing need be asked.
func (s *Store) paged(ctx context.Context, counted string, of selection, from *cursor, came, size int) (p Paged, err error) {
	if from == nil && came <= size {
		return Paged{Total: came}, nil
	}
	p.Total, p.More, err = s.count(ctx, counted, of)
	return p, err
}

// byName reads a page of a list that is ordered by a name which no two have.
func byName[T any](ctx context.Context, s *Store, columns, tables string, of selection, after string, size int, name string, at func(T) string) (all []T, p Paged, err error) {
	from, err := readCursor(after)
	if err != nil {
		return nil, p, err
	}
	whole := of
	if from != nil {
		of.add(name+" > ?", from.id)
	}
	err = s.db.SelectContext(ctx, &all, `SELECT `+columns+` FROM `+tables+` WHERE `+of.String()+` ORDER BY `+name+` LIMIT ?`, append(of.args, size+1)...)
	if err == nil {
		p, err = s.paged(ctx, tables, whole, from, len(all), size)
	}
	if len(all) > size {
		p.Next = cursor{0, at(all[size-1])}.String()
		all = all[:size]
	}
	return all, p, err
}

// inOrder reads a page of a list that is ordered by columns which together no two rows share; down
// has the greatest first.
func inOrder[T any](ctx context.Context, s *Store, columns, tables string, of selection, after string, size int, keys string, down bool, at func(T) []string) (all []T, p Paged, err error) {
	from, err := readCursor(after)
	if err != nil {
		return nil, p, err
	}
	whole, than, turn := of, ">", ""
	if down {
		than, turn = "<", " DESC"
	}
	if from != nil {
		var last []string
		if err := json.Unmarshal([]byte(from.id), &last); err != nil || len(last) != strings.Count(keys, ",")+1 {
			return nil, p, notAPage(after)
		}
		args := make([]any, len(last))
		for i, x := range last {
			args[i] = x
		}
		of.add("("+keys+") "+than+" (?"+strings.Repeat(", ?", len(last)-1)+")", args...)
	}
	err = s.db.SelectContext(ctx, &all, `SELECT `+columns+` FROM `+tables+` WHERE `+of.String()+` ORDER BY `+strings.ReplaceAll(keys, ",", turn+",")+turn+` LIMIT ?`, append(of.args, size+1)...)
	if err == nil {
		p, err = s.paged(ctx, tables, whole, from, len(all), size)
	}
	if err == nil && len(all) > size {
		raw, err := json.Marshal(at(all[size-1]))
		if err != nil {
			return nil, p, err
		}
		p.Next, all = cursor{0, string(raw)}.String(), all[:size]
	}
	return all, p, err
}

// ofTime is a time as a cursor's number.
func ofTime(us int64) any { return time.UnixMicro(us).UTC() }

// named are the columns of a row's structure, by their tags; without those that are no columns of
// the table. A column that a newer version has added is not among them.
func named(row any, alias string, without ...string) string {
	var all []string
	var walk func(t reflect.Type)
	walk = func(t reflect.Type) {
		for f := range t.Fields() {
			name := f.Tag.Get("db")
			if f.Anonymous && name == "" && f.Type != reflect.TypeFor[Seal]() { // a seal's columns are sealColumns
				walk(f.Type)
				continue
			}
			if name != "" && name != "-" && !strings.Contains(" "+strings.Join(without, " ")+" ", " "+name+" ") {
				all = append(all, alias+name)
			}
		}
	}
	walk(reflect.TypeOf(row))
	return strings.Join(all, ", ")
}

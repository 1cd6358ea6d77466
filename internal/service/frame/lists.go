package frame

import (
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"slices"
	"strings"

	"zealousferry/core"
)

// List reads a CSV file (RFC 4180) whose first line names the columns.
type List struct {
	r    *csv.Reader
	Head []string
	Line int // of the record that was read last
}

// ReadList begins a list. columns are those that it may have, wants those that it must.
func ReadList(raw []byte, columns []string, wants ...string) (*List, error) {
	l := &List{r: csv.NewReader(bytes.NewReader(bytes.TrimPrefix(raw, []byte("\xEF\xBB\xBF"))))} // some tables put a mark of their own first
	l.r.FieldsPerRecord, l.r.TrimLeadingSpace = -1, true
	var err error
	if l.Head, err = l.r.Read(); err != nil {
		return nil, core.Fail(core.BadFile, "the list has no first line that names its columns").Do("Write %s on its first line.", strings.Join(columns, ","))
	}
	for i := range l.Head {
		l.Head[i] = strings.ToLower(strings.TrimSpace(l.Head[i]))
		if !slices.Contains(columns, l.Head[i]) {
			return nil, core.BadAt(core.Line(1), "column %q is not known; expected %s", l.Head[i], strings.Join(columns, ", "))
		}
	}
	for _, w := range wants {
		if !slices.Contains(l.Head, w) {
			return nil, core.BadAt(core.Line(1), "the list wants the columns %s; it has %s", strings.Join(wants, " and "), strings.Join(l.Head, ", "))
		}
	}
	return l, nil
}

// Next is the next record by its columns, and how many fields it has; nil at the end.
func (l *List) Next() (field map[string]string, fields int, err error) {
	record, err := l.r.Read()
	if errors.Is(err, io.EOF) {
		return nil, 0, nil
	}
	l.Line, _ = l.r.FieldPos(0)
	if err != nil {
		return nil, 0, core.BadAt(core.Line(int64(l.Line)), "%w", err)
	}
	field = map[string]string{}
	for i, name := range l.Head {
		if i < len(record) {
			field[name] = strings.TrimSpace(record[i])
		}
	}
	return field, len(record), nil
}

package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"

	"zealousferry/core"
)

// csvOf writes the list that an answer holds as CSV (RFC 4180): a line for each of its
// entries, a column for each field that is no list, named as in JSON; a field of a field
// as OUTER.INNER.
func csvOf(out io.Writer, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	list, ok := listIn(raw)
	if !ok {
		return core.Fail(core.NotUnderstood, "this is no list, which --output csv is for").Do("Use --output json.")
	}
	var head []string
	at := map[string]int{}
	var rows []map[string]string
	for _, one := range list {
		row := map[string]string{}
		if err := flatten(one, "", func(name, value string) {
			if _, known := at[name]; !known {
				at[name] = len(head)
				head = append(head, name)
			}
			row[name] = value
		}); err != nil {
			return err
		}
		rows = append(rows, row)
	}
	w := csv.NewWriter(out)
	if err := w.Write(head); err != nil {
		return err
	}
	for _, row := range rows {
		line := make([]string, len(head))
		for name, i := range at {
			line[i] = row[name]
		}
		if err := w.Write(line); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// listIn finds the list of objects in an answer: itself, or the first field of it that
// is one, if all else in it are plain values and lists. What holds other things is about
// one thing, and no list.
func listIn(raw json.RawMessage) ([]json.RawMessage, bool) {
	var list []json.RawMessage
	if json.Unmarshal(raw, &list) == nil {
		return list, true
	}
	found, other := false, false
	fields(raw, func(_ string, value json.RawMessage) error {
		other = other || value[0] == '{'
		if !found && len(value) > 0 && value[0] == '[' && json.Unmarshal(value, &list) == nil {
			found = len(list) == 0 || list[0][0] == '{'
		}
		return nil
	})
	return list, found && !other
}

// fields goes through an object's fields in their order.
func fields(raw json.RawMessage, each func(name string, value json.RawMessage) error) error {
	d := json.NewDecoder(bytes.NewReader(raw))
	if _, err := d.Token(); err != nil {
		return err
	}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return err
		}
		var value json.RawMessage
		if err := d.Decode(&value); err != nil {
			return err
		}
		if err := each(fmt.Sprint(name), value); err != nil {
			return err
		}
	}
	return nil
}

// flatten gives every field of an object that is no list, by its name.
func flatten(raw json.RawMessage, before string, each func(name, value string)) error {
	return fields(raw, func(name string, value json.RawMessage) error {
		switch value[0] {
		case '[':
			return nil
		case '{':
			return flatten(value, before+name+".", each)
		case '"':
			var s string
			if err := json.Unmarshal(value, &s); err != nil {
				return err
			}
			if s != "" && (s[0] == '=' || s[0] == '+' || s[0] == '@' || s[0] == '-' && len(s) > 1 && (s[1] < '0' || s[1] > '9')) {
				s = "'" + s // a table program would take it for a formula
			}
			each(before+name, s)
		case 'n':
			each(before+name, "")
		default:
			each(before+name, string(value))
		}
		return nil
	})
}

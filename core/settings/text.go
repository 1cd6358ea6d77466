package settings

import (
	"bytes"
	"encoding/binary"
	"strconv"
	"strings"
	"unicode/utf8"

	"zealousferry/core"
	"zealousferry/core/model"
)

// maxText bounds the text of a unit's settings.
const maxText = 64 << 10

// ReadText reads lines of name=value. Lines that are empty or begin with # are no settings.
func ReadText(data []byte) ([]Value, error) {
	if len(data) > maxText {
		return nil, core.Fail(core.RefusedByUnit, "the unit's settings have %d bytes of text, more than %d", len(data), maxText)
	}
	var all []Value
	for n, line := range strings.Split(string(data), "\n") {
		line = strings.TrimSuffix(line, "\r")
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, value, ok := strings.Cut(line, "=")
		if !ok || name == "" || !utf8.ValidString(line) {
			return nil, core.Fail(core.RefusedByUnit, "line %d of the unit's settings is %q, expected name=value", n+1, line)
		}
		all = append(all, Value{Name: name, Value: value})
	}
	return all, nil
}

// WriteText puts values into such a text: what has a line keeps its place, what has none
// comes at the end, and what is named as gone is taken out. Everything else stays to the
// byte.
func WriteText(data []byte, put []Value, gone []string) []byte {
	value := map[string]string{}
	for _, v := range put {
		value[v.Name] = v.Value
	}
	drop := map[string]bool{}
	for _, name := range gone {
		drop[name] = true
	}
	var out bytes.Buffer
	for _, line := range strings.SplitAfter(string(data), "\n") {
		name, _, ok := strings.Cut(strings.TrimRight(line, "\r\n"), "=")
		comment := strings.HasPrefix(line, "#")
		if v, has := value[name]; ok && has && !comment {
			out.WriteString(name + "=" + v + "\n")
			delete(value, name)
			continue
		}
		if ok && drop[name] && !comment {
			continue
		}
		out.WriteString(line)
	}
	if out.Len() > 0 && !bytes.HasSuffix(out.Bytes(), []byte("\n")) {
		out.WriteByte('\n')
	}
	for _, v := range put {
		if x, has := value[v.Name]; has {
			out.WriteString(v.Name + "=" + x + "\n")
			delete(value, v.Name)
		}
	}
	return out.Bytes()
}

// FromBytes reads a value as it stands in memory. erased is what erased cells hold: bytes
// of nothing else are no value.
func FromBytes(def *model.Setting, data []byte, erased byte) (string, bool) {
	end := len(data)
	for end > 0 && data[end-1] == erased {
		end--
	}
	if end == 0 {
		return "", false
	}
	if def.As == "number" {
		return strconv.FormatUint(numberIn(def.At, data), 10), true
	}
	text, _, _ := bytes.Cut(data[:end], []byte{0})
	return string(text), utf8.Valid(text)
}

// ToBytes is the value as it stands in memory.
func ToBytes(def *model.Setting, value string) ([]byte, error) {
	out := make([]byte, def.At.Length)
	if def.As == "number" {
		n, err := strconv.ParseUint(value, 10, 64)
		if err != nil || def.At.Length < 8 && n >= 1<<(8*def.At.Length) {
			return nil, core.Fail(core.NotUnderstood, "%s is a whole number in %d bytes, came %q", def.Says(), def.At.Length, value)
		}
		var all [8]byte
		if def.At.Order == "big" {
			binary.BigEndian.PutUint64(all[:], n)
			copy(out, all[8-def.At.Length:])
		} else {
			binary.LittleEndian.PutUint64(all[:], n)
			copy(out, all[:])
		}
		return out, nil
	}
	if uint64(len(value)) > def.At.Length {
		return nil, core.Fail(core.NotUnderstood, "%s has room for %d bytes, came %d", def.Says(), def.At.Length, len(value))
	}
	copy(out, value)
	return out, nil
}

func numberIn(at *model.Bytes, data []byte) uint64 {
	var all [8]byte
	if at.Order == "big" {
		copy(all[8-len(data):], data)
		return binary.BigEndian.Uint64(all[:])
	}
	copy(all[:], data)
	return binary.LittleEndian.Uint64(all[:])
}

package module

import (
	"encoding/binary"
	"encoding/hex"
	"strings"
	"unicode"
	"unicode/utf8"

	"zealousferry/core/loader"
)

// means puts what was recorded with a fault code into the sheet's words. The lengths of
// the parts are the sheet's (ISO 14229-1, 11.3: the messages do not carry them), so what
// follows a part that the sheet does not know stays unknown.
func (o options) means(r loader.Recorded) []loader.Recalled {
	return append(o.snapshots(r.Snapshot), o.extended(r.Extended)...)
}

// snapshots are records one after another: number, count of identifiers, and each
// identifier with its data.
func (o options) snapshots(said string) (all []loader.Recalled) {
	b, err := hex.DecodeString(said)
	if err != nil {
		return nil
	}
	for len(b) >= 2 {
		number, count := b[0], int(b[1])
		for b = b[2:]; count > 0; count-- {
			if len(b) < 2 {
				return all
			}
			did := binary.BigEndian.Uint16(b)
			part := -1
			for i, x := range o.Records {
				if x.DID != nil && *x.DID == did {
					part = i
				}
			}
			if part < 0 || len(b) < 2+o.Records[part].Bytes {
				return all
			}
			x := o.Records[part]
			all = append(all, x.recalled(number, b[2:2+x.Bytes]))
			b = b[2+x.Bytes:]
		}
	}
	return all
}

// extended are records one after another: number, and data as long as the sheet's parts
// for that number are together.
func (o options) extended(said string) (all []loader.Recalled) {
	b, err := hex.DecodeString(said)
	if err != nil {
		return nil
	}
	for len(b) >= 1 {
		number, known := b[0], false
		b = b[1:]
		for _, x := range o.Records {
			if x.Extended == nil || *x.Extended != number {
				continue
			}
			if known = true; len(b) < x.Bytes {
				return all
			}
			all = append(all, x.recalled(number, b[:x.Bytes]))
			b = b[x.Bytes:]
		}
		if !known {
			return all
		}
	}
	return all
}

func (x recording) recalled(number byte, data []byte) loader.Recalled {
	as := x.As
	if as == "" {
		as = "hex"
	}
	v := identify{As: as, Over: x.Over, Is: x.Is}.says(data)
	if !utf8.ValidString(v) || strings.ContainsFunc(v, unicode.IsControl) {
		v = strings.ToUpper(hex.EncodeToString(data))
	}
	return loader.Recalled{Record: number, Since: x.Extended != nil, Name: x.Name, Value: v, Unit: x.Unit}
}

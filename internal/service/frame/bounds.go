package frame

import (
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// What comes in has a bound, also where its field names none: of a text in a path or a question,
// of a text in a body, of what a setting is set to and other values by name, of lists and maps,
// and of numbers (what is exact in JSON).
const (
	mostName   = 200
	mostText   = 10000
	mostValue  = 8192
	mostItems  = 1000
	mostNumber = 1 << 53
)

// Bounded gives a bound to all that the calls of the API take and that has none yet.
func Bounded(api *huma.OpenAPI) {
	b := bounding{api.Components.Schemas, map[*huma.Schema]bool{}}
	for _, item := range api.Paths {
		for _, o := range []*huma.Operation{item.Get, item.Post, item.Put, item.Delete} {
			if o == nil {
				continue
			}
			for _, p := range o.Parameters {
				b.bound(p.Schema, mostName)
			}
			if o.RequestBody == nil {
				continue
			}
			for kind, media := range o.RequestBody.Content {
				if strings.Contains(kind, "json") {
					b.bound(media.Schema, mostText)
				}
			}
		}
	}
}

type bounding struct {
	schemas huma.Registry
	done    map[*huma.Schema]bool
}

func (b bounding) bound(s *huma.Schema, text int) {
	if s != nil && s.Ref != "" {
		s = b.schemas.SchemaFromRef(s.Ref)
	}
	if s == nil || b.done[s] {
		return
	}
	b.done[s] = true
	least := func(p **int, n int) {
		if *p == nil {
			*p = &n
		}
	}
	switch s.Type {
	case huma.TypeString:
		if len(s.Enum) == 0 && s.Format != "date-time" && s.Format != "date" {
			most := text
			if s.ContentEncoding != "" || s.Format == "binary" { // bytes, as text
				most = maxTalk
			}
			least(&s.MaxLength, most)
		}
	case huma.TypeInteger, huma.TypeNumber:
		low, high := float64(-mostNumber), float64(mostNumber)
		if s.Minimum == nil {
			s.Minimum = &low
		}
		if s.Maximum == nil {
			s.Maximum = &high
		}
	case huma.TypeArray:
		least(&s.MaxItems, mostItems)
		b.bound(s.Items, text)
	case huma.TypeObject:
		for _, p := range s.Properties {
			b.bound(p, text)
		}
		if p, ok := s.AdditionalProperties.(*huma.Schema); ok {
			least(&s.MaxProperties, mostItems)
			b.bound(p, mostValue)
		}
	}
	s.PrecomputeMessages()
}

package trials

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"

	"zealousferry/internal/service"
)

// TestWhatComesInHasABound: every text that the API takes has a greatest length, every list a
// greatest number, every number a least and a greatest; what has none would be as large as
// somebody likes, or more than a column holds.
func TestWhatComesInHasABound(t *testing.T) {
	api := service.Describe()
	var without []string
	say := func(where, what string) { without = append(without, where+": "+what) }
	done := map[string]bool{}
	var look func(where string, s *huma.Schema)
	look = func(where string, s *huma.Schema) {
		if s == nil {
			return
		}
		if s.Ref != "" {
			name := s.Ref[strings.LastIndex(s.Ref, "/")+1:]
			if !done[name] {
				done[name] = true
				look(name, api.Components.Schemas.SchemaFromRef(s.Ref))
			}
			return
		}
		switch s.Type {
		case huma.TypeString:
			if s.MaxLength == nil && len(s.Enum) == 0 && s.Format == "" && s.ContentEncoding == "" {
				say(where, "a text")
			}
		case huma.TypeInteger, huma.TypeNumber:
			if s.Maximum == nil || s.Minimum == nil {
				say(where, "a number")
			}
		case huma.TypeArray:
			if s.MaxItems == nil {
				say(where, "a list")
			}
			look(where+"[]", s.Items)
		case huma.TypeObject:
			for name, p := range s.Properties {
				look(where+"."+name, p)
			}
			if p, ok := s.AdditionalProperties.(*huma.Schema); ok {
				if s.MaxProperties == nil {
					say(where, "a map")
				}
				look(where+"{}", p)
			}
		}
	}
	for path, item := range api.Paths {
		for method, o := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "PUT": item.Put, "DELETE": item.Delete} {
			if o == nil {
				continue
			}
			for _, p := range o.Parameters {
				look(fmt.Sprintf("%s %s ?%s", method, path, p.Name), p.Schema)
			}
			if o.RequestBody != nil {
				for kind, media := range o.RequestBody.Content {
					if strings.Contains(kind, "json") {
						look(fmt.Sprintf("%s %s", method, path), media.Schema)
					}
				}
			}
		}
	}
	slices.Sort(without)
	if len(without) > 0 {
		t.Errorf("%d have none:\n%s", len(without), strings.Join(without, "\n"))
	}
}

package visit

import (
	"context"

	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
)

// StandIn is a link behind which there is no unit: it opens loaders itself, and answers for
// programs and for what the tool does on the line. A rehearsal has one.
type StandIn interface {
	link.Link
	OpenSection(x *model.Section) (loader.Session, error)
	// Version is what the section's program says that it is.
	Version(x *model.Section) (string, error)
}

// open opens a section's loader where there is a unit, or what stands in for one.
func open(ctx context.Context, l link.Link, kind loader.Kind, x *model.Section, o loader.Options) (loader.Session, error) {
	if s, is := l.(StandIn); is {
		return s.OpenSection(x)
	}
	return kind.Open(ctx, l, o)
}

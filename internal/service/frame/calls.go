package frame

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// None is a call without parameters or answer.
type None struct{}

// File is an answer in bytes: a paper to print, an image, a piece.
type File struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

// body wraps an answer for huma.
type body[T any] struct{ Body T }

// operation is a call that asks for a role before anything of the request is read.
func (v *Frame) operation(method, path, id, role, summary string) huma.Operation {
	o := huma.Operation{Middlewares: huma.Middlewares{v.onlyFor(role)}, OperationID: id, Method: method, Path: path, Summary: summary, Errors: []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusConflict, http.StatusTooManyRequests}}
	if role == Anybody {
		o.MaxBodyBytes = maxNobodys
	} else {
		o.Security = []map[string][]string{{"token": {}}, {"session": {}}}
		o.Description = "Role: " + role + "."
	}
	return o
}

// onlyFor refuses whoever has not the role or calls too often, before parameters or body are read.
func (v *Frame) onlyFor(role string) func(huma.Context, func(huma.Context)) {
	return func(c huma.Context, next func(huma.Context)) {
		v.inTurn(c, func() {
			changes := c.Method() != http.MethodGet
			err := allow(Who(c.Context()), role, c.Operation().Path, changes)
			if err == nil && role == Technician && changes {
				err = v.Within(c.Context(), c.Param)
			}
			if err != nil {
				v.refuse(c, err)
				return
			}
			v.withRoom(c, func() { next(c) })
		})
	}
}

// refuse answers with an error before the handler of a call is asked.
func (v *Frame) refuse(c huma.Context, err error) {
	err = v.Fail(c.Context(), err)
	p, ok := err.(*Problem)
	if !ok {
		p = &Problem{Problem: Explain(err)}
	}
	for name := range p.GetHeaders() {
		c.SetHeader(name, p.GetHeaders().Get(name))
	}
	c.SetHeader("Content-Type", "application/problem+json")
	c.SetStatus(p.Status)
	json.NewEncoder(c.BodyWriter()).Encode(p)
}

// Raw registers a handler that makes its whole answer itself.
func Raw[I, O any](v *Frame, api huma.API, method, path, id, role, summary string, f func(context.Context, *I) (*O, error), also ...func(*huma.Operation)) {
	o := v.operation(method, path, id, role, summary)
	for _, f := range also {
		f(&o)
	}
	huma.Register(api, o, func(ctx context.Context, in *I) (*O, error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, v.Fail(ctx, err)
		}
		return out, nil
	})
}

// Route registers a handler whose answer is JSON.
func Route[I, O any](v *Frame, api huma.API, method, path, id, role, summary string, f func(context.Context, *I) (O, error), also ...func(*huma.Operation)) {
	Raw(v, api, method, path, id, role, summary, func(ctx context.Context, in *I) (*body[O], error) {
		out, err := f(ctx, in)
		return &body[O]{out}, err
	}, also...)
}

// Reading makes a call read the same rows once, where several parts of its answer ask for them.
func Reading[I, O any](f func(context.Context, *I) (O, error)) func(context.Context, *I) (O, error) {
	return func(ctx context.Context, in *I) (O, error) { return f(store.Remember(ctx), in) }
}

// Uploads and bench calls have bounds of their own, and so has whoever is not signed in.
const (
	maxUpload  = 64 << 20
	maxTalk    = 16 << 20
	maxNobodys = 64 << 10
)

func received(o huma.Operation, most int64) huma.Operation {
	if o.MaxBodyBytes == 0 {
		o.MaxBodyBytes = most
	}
	o.BodyReadTimeout = -1 // as patient as all bodies are read
	return o
}

// uploaded is a call that brings a file along.
func uploaded(o huma.Operation, contentType string) huma.Operation {
	o = received(o, maxUpload)
	Of(Files)(&o)
	o.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{contentType: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
	return o
}

// Upload registers a handler that takes bytes.
func Upload[I, O any](v *Frame, api huma.API, method, path, id, role, summary, contentType string, f func(context.Context, *I) (O, error)) {
	register(v, api, uploaded(v.operation(method, path, id, role, summary), contentType), f)
}

// RawUpload takes bytes and makes its whole answer itself.
func RawUpload[I, O any](v *Frame, api huma.API, method, path, id, role, summary, contentType string, f func(context.Context, *I) (*O, error)) {
	huma.Register(api, uploaded(v.operation(method, path, id, role, summary), contentType), func(ctx context.Context, in *I) (*O, error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, v.Fail(ctx, err)
		}
		return out, nil
	})
}

// Tolerant registers a call of a bench: JSON that may hold fields that this
// version does not know, decoded by the handler.
func Tolerant[I, O any](v *Frame, api huma.API, method, path, id, role, summary string, f func(context.Context, *I) (O, error)) {
	o := received(v.operation(method, path, id, role, summary), maxTalk)
	o.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {Schema: &huma.Schema{Type: "object", AdditionalProperties: true}}}}
	o.SkipValidateBody = true
	register(v, api, o, func(ctx context.Context, in *I) (out O, err error) {
		if role == BenchOnly {
			if err := v.Hears(ctx, reflect.ValueOf(in).Elem().FieldByName("RawBody").Bytes()); err != nil {
				return out, err
			}
		}
		return f(ctx, in)
	})
}

func register[I, O any](v *Frame, api huma.API, o huma.Operation, f func(context.Context, *I) (O, error)) {
	huma.Register(api, o, func(ctx context.Context, in *I) (*body[O], error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, v.Fail(ctx, err)
		}
		return &body[O]{out}, nil
	})
}

const eventStream = "text/event-stream"

// Follow sends a live stream until its context ends.
type Follow func(ctx context.Context, s *Sender) error

// Stream registers a live stream of server-sent events. open refuses before
// anything is sent.
func Stream[I any](v *Frame, api huma.API, path, id, role, summary string, open func(context.Context, *I) (Follow, error)) {
	o := v.operation("GET", path, id, role, summary)
	Of(Streams)(&o)
	o.Responses = map[string]*huma.Response{"200": {Description: "Server-sent events", Content: map[string]*huma.MediaType{eventStream: {Schema: &huma.Schema{Type: "string"}}}}}
	huma.Register(api, o, func(ctx context.Context, in *I) (*huma.StreamResponse, error) {
		f, err := open(ctx, in)
		if err != nil {
			return nil, v.Fail(ctx, err)
		}
		return &huma.StreamResponse{Body: func(h huma.Context) {
			h.SetHeader("Content-Type", eventStream)
			h.SetHeader("Cache-Control", "no-store")
			s := &Sender{out: h.BodyWriter()}
			ctx, end := context.WithCancel(h.Context())
			defer end()
			defer v.door.in(Who(ctx).Secret, end)()
			if err := f(ctx, s); err != nil && ctx.Err() == nil {
				v.Log.Warn("a live stream ended", "route", path, "error", err)
			}
		}}, nil
	})
}

// Sender writes server-sent events (HTML standard, section 9.2).
type Sender struct{ out io.Writer }

// Send writes an event; v is its data, in JSON.
func (s *Sender) Send(id, event string, v any) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if id != "" {
		if _, err := fmt.Fprintf(s.out, "id: %s\n", id); err != nil {
			return err
		}
	}
	if _, err := fmt.Fprintf(s.out, "event: %s\ndata: %s\n\n", event, raw); err != nil {
		return err
	}
	return s.push()
}

// Alive says that the stream goes on.
func (s *Sender) Alive() error {
	if _, err := io.WriteString(s.out, ": alive\n\n"); err != nil {
		return err
	}
	return s.push()
}

func (s *Sender) push() error {
	if w, ok := s.out.(http.ResponseWriter); ok {
		return http.NewResponseController(w).Flush()
	}
	return nil
}

// RawIn is a call whose body the handler decodes: fields that are not known are
// passed over.
type RawIn struct{ RawBody []byte }

// Decode reads a body that a handler takes as bytes.
func Decode[T any](raw []byte) (t T, err error) {
	if err := json.Unmarshal(raw, &t); err != nil {
		return t, core.Fail(core.BadFile, "the call's body cannot be read: %w", err)
	}
	return t, nil
}

// PageIn asks for a page of a list.
type PageIn struct {
	After string `query:"after" maxLength:"1000" doc:"What the page before gives as next; empty for the first one."`
	Size  int    `query:"size" minimum:"1" maximum:"500" default:"500"`
}

// Paged is what an answer says of its page.
func Paged(p store.Paged) client.Paged {
	return client.Paged{Total: p.Total, More: p.More, Next: p.Next}
}

// TimeOf is a time that may be none.
func TimeOf(t sql.NullTime) *time.Time {
	if !t.Valid {
		return nil
	}
	return &t.Time
}

package frame

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// Problem is client.Problem as an answer.
type Problem struct {
	client.Problem
	after time.Duration // when to call again; 0 where it does not say
}

func (p *Problem) Error() string { return p.Detail }

// Unwrap gives it as an error of its kind, to whoever asks inside what came of a call.
func (p *Problem) Unwrap() error { return p.Err() }

func (p *Problem) GetStatus() int { return p.Status }

func (p *Problem) ContentType(string) string { return "application/problem+json" }

var statusOf = map[core.Kind]int{
	core.NotAnswering: http.StatusGatewayTimeout, core.WrongUnit: http.StatusConflict, core.DoesNotFit: http.StatusConflict,
	core.CannotTell: http.StatusConflict, core.Protected: http.StatusConflict, core.RefusedByUnit: http.StatusBadGateway,
	core.VerifyDiffers: http.StatusConflict, core.BadFile: http.StatusUnprocessableEntity, core.NotUnderstood: http.StatusUnprocessableEntity, core.Interrupted: http.StatusConflict,
	core.Busy: http.StatusConflict, core.NotAllowed: http.StatusForbidden, core.NotFound: http.StatusNotFound,
	core.NoWayBack: http.StatusConflict, core.NoSpace: http.StatusInsufficientStorage,
}

// Explain makes a problem of an error.
func Explain(err error) client.Problem {
	e := core.AsError(err, core.Interrupted)
	p := client.Problem{Type: "about:blank", Title: http.StatusText(statusOf[e.Kind]), Status: statusOf[e.Kind], Detail: e.Message, Kind: e.Kind, UnitState: e.UnitState, ID: e.ID, Params: e.Params, Todo: e.Todo}
	if e.At != nil {
		p.Place, p.At = e.At.Unit, e.At.N
	}
	return p
}

// PlainProblem is for errors that have no kind of ours; what went wrong inside
// is logged, not told.
func PlainProblem(status int, msg string, errs ...error) *Problem {
	p := client.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: msg, Kind: core.NotUnderstood}
	switch {
	case status == http.StatusUnauthorized || status == http.StatusForbidden:
		p.Kind = core.NotAllowed
	case status == http.StatusNotFound || status == http.StatusMethodNotAllowed:
		p.Kind = core.NotFound
	case status == http.StatusServiceUnavailable:
		p.Kind, p.Detail, p.Todo = core.NotAnswering, "the database does not answer the service", core.Todos(core.Plain("Try again in a moment; if it stays so, tell whoever looks after the service."))
		return &Problem{Problem: p}
	case status >= 500:
		p.Kind, p.Detail, p.Todo = core.Interrupted, "the service could not do this", core.Todos(core.Plain("Try again; if it stays so, tell whoever looks after the service the time of this message."))
		return &Problem{Problem: p}
	}
	var wrong []string
	for _, err := range errs {
		if err != nil {
			wrong = append(wrong, inWords(err))
		}
	}
	if len(wrong) > 0 {
		p.Detail = strings.Join(wrong, "; ")
	}
	return &Problem{Problem: p}
}

// inWords says what is wrong with a field that was sent, by its own name.
func inWords(err error) string {
	var d *huma.ErrorDetail
	if !errors.As(err, &d) {
		return err.Error()
	}
	field := strings.TrimSuffix(d.Location, ".")
	for _, where := range []string{"body.", "query.", "path.", "header."} {
		field = strings.TrimPrefix(field, where)
	}
	switch field {
	case "", "body", "query", "path":
		return d.Message
	}
	if s, ok := d.Value.(string); ok && s == "" {
		return fmt.Sprintf("%s is empty: %s", field, d.Message)
	}
	if d.Value == nil {
		return fmt.Sprintf("%s: %s", field, d.Message)
	}
	return fmt.Sprintf("%s: %s, this is %v", field, d.Message, d.Value)
}

// Fail turns any error of a handler into what is told to the caller.
func (v *Frame) Fail(ctx context.Context, err error) error {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	if core.KindOf(err) != "" {
		return &Problem{Problem: Explain(err)}
	}
	if ctx.Err() != nil { // whoever asked has gone: nothing failed here, and nobody reads the answer
		return PlainProblem(http.StatusInternalServerError, "")
	}
	if store.Away(err) {
		v.Log.Error("the database does not answer", "error", err, "id", middleware.GetReqID(ctx))
		return PlainProblem(http.StatusServiceUnavailable, "")
	}
	v.Log.Error("a request failed", "error", err, "id", middleware.GetReqID(ctx))
	return PlainProblem(http.StatusInternalServerError, "")
}

// WriteProblem answers with an error where no handler of a call does.
func WriteProblem(w http.ResponseWriter, err error) {
	p, ok := err.(*Problem)
	if !ok {
		p = &Problem{Problem: Explain(err)}
	}
	maps.Copy(w.Header(), p.GetHeaders())
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}

func init() {
	huma.DefaultArrayNullable = false
	huma.NewErrorWithContext = func(_ huma.Context, status int, msg string, errs ...error) huma.StatusError {
		return PlainProblem(status, msg, errs...)
	}
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		return PlainProblem(status, msg, errs...)
	}
}

package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"reflect"
	"sync"

	"github.com/jmoiron/sqlx"
)

// Remember makes what is read with a context be read once: for a call that only reads, and whose parts
// ask for the same rows. As soon as the call writes something, all is forgotten.
func Remember(ctx context.Context) context.Context {
	return context.WithValue(ctx, remembering{}, &memory{read: map[string]any{}})
}

type remembering struct{}

// memory is what a call has read.
type memory struct {
	mu   sync.Mutex
	read map[string]any // rows, or the error that there is none, by the question
}

func (m *memory) get(question string) (any, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	v, ok := m.read[question]
	return v, ok
}

func (m *memory) put(question string, v any) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.read[question] = v
}

func forget(ctx context.Context) {
	if m, ok := ctx.Value(remembering{}).(*memory); ok {
		m.mu.Lock()
		defer m.mu.Unlock()
		clear(m.read)
	}
}

// pool is the database's connections. Readers get rows of their own, which share their bytes.
type pool struct{ *sqlx.DB }

func (p pool) once(ctx context.Context, dest any, query string, args []any, read func() error) error {
	m, ok := ctx.Value(remembering{}).(*memory)
	if !ok {
		return read()
	}
	to := reflect.ValueOf(dest).Elem()
	question := fmt.Sprintf("%s\x00%s\x00%#v", to.Type(), query, args)
	if was, ok := m.get(question); ok {
		if err, ok := was.(error); ok {
			return err
		}
		to.Set(own(reflect.ValueOf(was)))
		return nil
	}
	err := read()
	switch {
	case err == nil:
		m.put(question, own(to).Interface())
	case errors.Is(err, sql.ErrNoRows):
		m.put(question, err)
	}
	return err
}

// own is a value whose rows are not another's.
func own(v reflect.Value) reflect.Value {
	if v.Kind() != reflect.Slice || v.IsNil() {
		return v
	}
	c := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
	reflect.Copy(c, v)
	return c
}

func (p pool) SelectContext(ctx context.Context, dest any, query string, args ...any) error {
	return p.once(ctx, dest, query, args, func() error { return p.DB.SelectContext(ctx, dest, query, args...) })
}

func (p pool) GetContext(ctx context.Context, dest any, query string, args ...any) error {
	return p.once(ctx, dest, query, args, func() error { return p.DB.GetContext(ctx, dest, query, args...) })
}

func (p pool) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	defer forget(ctx)
	r, err := p.DB.ExecContext(ctx, query, args...)
	return r, noUUID(err)
}

func (p pool) NamedExecContext(ctx context.Context, query string, arg any) (sql.Result, error) {
	defer forget(ctx)
	r, err := p.DB.NamedExecContext(ctx, query, arg)
	return r, noUUID(err)
}

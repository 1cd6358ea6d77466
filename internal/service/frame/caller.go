package frame

import (
	"context"
	"net/http"
	"strings"

	"zealousferry/core"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// The roles, from the least.
const (
	Viewer     = "viewer"
	Technician = "technician"
	Lead       = "lead"
	BenchOnly  = "bench"
	Anybody    = ""
)

var rank = map[string]int{Viewer: 1, Technician: 2, Lead: 3}

// Caller is who made a request: a person, a bench, or nobody who is signed in.
type Caller struct {
	Person  store.Person
	Bench   string
	Secret  core.Digest
	By      store.Secret // the session or token with which it came
	Address string
	Method  string
	Path    string
	Signed  string // what a bench has put beside what it says
	Agent   string // a browser, the command line, a program
	Host    string // by which name the service was called
}

type callerKey struct{}

// As is a context in which a caller asks.
func As(ctx context.Context, c Caller) context.Context {
	return context.WithValue(ctx, callerKey{}, c)
}

// Who is whoever asks.
func Who(ctx context.Context) Caller {
	c, _ := ctx.Value(callerKey{}).(Caller)
	return c
}

// Agent is what a request came from, in plain words: what others call themselves is theirs to
// make up.
func Agent(said string) string {
	switch {
	case strings.HasPrefix(said, client.Agent):
		return "the command line"
	case strings.HasPrefix(said, "Mozilla/"): // as every browser begins
		return "a browser"
	}
	return "a program"
}

// Short is the beginning of a text that others have sent, without what moves a terminal.
func Short(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7F {
			return -1
		}
		return r
	}, s)
	if r := []rune(s); len(r) > most {
		s = string(r[:most])
	}
	return s
}

// allow checks the caller against the role that a route asks for.
// It may be that of a token for the catalogue alone: path is what is called, changes whether
// that may change anything.
func allow(c Caller, role, path string, changes bool) error {
	switch {
	case role == Anybody:
		return nil
	case role == BenchOnly && c.Bench != "":
		return nil
	case c.Person.ID == "" && c.Bench == "":
		return PlainProblem(http.StatusUnauthorized, "nobody is signed in")
	case c.By.Scope == client.ScopeCatalogue && changes && !catalogues(path):
		return core.Fail(core.NotAllowed, "this token is for the catalogue: models, releases, images, bulletins").Unit("nothing was changed").Do("Take another token, or sign in.")
	case c.Person.ID == "" || role == BenchOnly || rank[c.Person.Role] < rank[role]:
		return core.Fail(core.NotAllowed, "this needs the role %s; you are %s", role, roleOf(c)).Do("Ask somebody with that role.")
	}
	return nil
}

// catalogues tells whether a call is about the catalogue.
func catalogues(path string) bool {
	for _, p := range []string{"models", "releases", "images", "packs", "targets", "bulletins"} {
		if rest, ok := strings.CutPrefix(path, "/api/"+p); ok && (rest == "" || rest[0] == '/') {
			return true
		}
	}
	return false
}

func roleOf(c Caller) string {
	if c.Bench != "" {
		return "a bench"
	}
	return c.Person.Role
}

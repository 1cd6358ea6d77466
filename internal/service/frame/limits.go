package frame

import (
	"context"
	"net/http"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"golang.org/x/time/rate"

	"zealousferry/core"
)

// Sort is what sort of call it is: of each, one caller may make so many.
type Sort string

// The sorts of calls.
const (
	Looks   Sort = "looks"   // by people: what changes nothing
	Changes Sort = "changes" // by people: what changes something
	Works   Sort = "works"   // by people: what keeps a processor busy, such as a rehearsal
	Files   Sort = "files"   // by people: what brings a file along
	Streams Sort = "streams" // live streams
	Says    Sort = "says"    // by benches
	Pieces  Sort = "pieces"  // by benches: what brings pieces of memory along
	Nobodys Sort = "nobodys" // by whoever is not signed in
)

// Limit is how many calls of a sort one caller may make: so many in a burst, behind it so many a
// second, and so many that are not over yet (0: as many as there are).
type Limit struct {
	Burst     int
	PerSecond float64
	AtOnce    int
}

// Limits are those of all sorts; where one has none it is not bounded. A caller is a person with
// all their sessions and tokens, a bench, or an address from which nobody is signed in. Each
// service counts what comes to itself.
type Limits map[Sort]Limit

// Usual are the limits of a service that was not told others. Nobody who works by hand comes near
// them, and neither does a bench with all its links at work.
func Usual() Limits {
	return Limits{
		Looks:   {Burst: 600, PerSecond: 60},
		Changes: {Burst: 200, PerSecond: 20},
		Works:   {Burst: 60, PerSecond: 5, AtOnce: 4},
		Files:   {Burst: 60, PerSecond: 5, AtOnce: 4},
		Streams: {Burst: 100, PerSecond: 5, AtOnce: 50},
		Says:    {Burst: 2000, PerSecond: 400},
		Pieces:  {Burst: 400, PerSecond: 40, AtOnce: 16},
		Nobodys: {Burst: 120, PerSecond: 10, AtOnce: 20},
	}
}

// Times gives the limits so many times over; 0 takes them away.
func (l Limits) Times(n float64) Limits {
	out := Limits{}
	for sort, x := range l {
		if n == 0 {
			continue
		}
		x.Burst, x.PerSecond = max(1, int(n*float64(x.Burst))), n*x.PerSecond
		if x.AtOnce > 0 {
			x.AtOnce = max(1, int(n*float64(x.AtOnce)))
		}
		out[sort] = x
	}
	return out
}

// sortKey is under which an operation has its sort.
const sortKey = "sort"

// Of says of which sort a call is, where its method does not tell.
func Of(sort Sort) func(*huma.Operation) {
	return func(o *huma.Operation) { o.Metadata = map[string]any{sortKey: sort} }
}

func sortOf(o *huma.Operation, c Caller) Sort {
	sort, _ := o.Metadata[sortKey].(Sort)
	switch {
	case c.Person.ID == "" && c.Bench == "":
		return Nobodys
	case sort == Streams:
	case c.Bench != "" && sort == Files:
		return Pieces
	case c.Bench != "":
		return Says
	case sort == "" && o.Method == http.MethodGet:
		return Looks
	case sort == "":
		return Changes
	}
	return sort
}

// name is under which the calls of a caller are counted. Somebody's machine has a whole network of
// IPv6 to itself (RFC 6177, 2), so there that is one.
func (c Caller) name() string {
	switch {
	case c.Person.ID != "":
		return "person " + c.Person.ID
	case c.Bench != "":
		return "bench " + c.Bench
	}
	a, err := netip.ParseAddr(c.Address)
	if err != nil {
		return c.Address
	}
	if a = a.Unmap().WithZone(""); a.Is4() {
		return a.String()
	}
	return netip.PrefixFrom(a, 64).Masked().String()
}

type turnKey struct {
	caller string
	sort   Sort
}

// turn is what of a sort one caller has made.
type turn struct {
	bucket *rate.Limiter
	under  int // calls that are not over
}

// turns counts calls by caller.
type turns struct {
	mu     sync.Mutex
	limits Limits
	of     map[turnKey]*turn
}

// mostTurns is for how many callers is counted apart. Beyond it, with as many at it as that, all
// others are counted as one.
const mostTurns = 20000

// Limited settles how many calls one caller may make.
func (v *Frame) Limited(l Limits) {
	v.turns.mu.Lock()
	defer v.turns.mu.Unlock()
	v.turns.limits, v.turns.of = l, map[turnKey]*turn{}
}

// enter counts a call, until leave is called; where it comes too soon it says how long to wait.
func (t *turns) enter(k turnKey, now time.Time) (leave func(), wait time.Duration, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	l, ok := t.limits[k.sort]
	if !ok {
		return func() {}, 0, nil
	}
	x := t.of[k]
	if x == nil {
		if len(t.of) >= mostTurns {
			t.drop(now)
		}
		if len(t.of) >= mostTurns {
			k.caller = ""
			x = t.of[k]
		}
		if x == nil {
			x = &turn{bucket: rate.NewLimiter(rate.Limit(l.PerSecond), l.Burst)}
			t.of[k] = x
		}
	}
	if l.AtOnce > 0 && x.under >= l.AtOnce {
		return nil, time.Second, core.Fail(core.Busy, "%d calls of this sort are under way for you already, which is as many as one may have", l.AtOnce)
	}
	r := x.bucket.ReserveN(now, 1)
	if wait := r.DelayFrom(now); wait > 0 {
		r.CancelAt(now)
		return nil, wait, core.Fail(core.Busy, "your calls come faster than they are taken: %d in a burst, then %g a second", l.Burst, l.PerSecond)
	}
	x.under++
	return func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		x.under--
	}, 0, nil
}

// drop forgets those who may make as many calls as at the start.
func (t *turns) drop(now time.Time) {
	for k, x := range t.of {
		if x.under == 0 && x.bucket.TokensAt(now) >= float64(x.bucket.Burst()) {
			delete(t.of, k)
		}
	}
}

// What all bodies that are read at the same time may have together, and how long one waits for
// room.
const (
	roomForBodies = 512 << 20
	waitsForRoom  = 10 * time.Second
)

// taken waits until there is room for a body, and gives it back. What is small wants none.
func (v *Frame) taken(ctx context.Context, size, most int64) (leave func(), err error) {
	if size < 0 || most > 0 && size > most { // it is not said, or will be refused
		size = most
	}
	if size <= 1<<20 {
		return func() {}, nil
	}
	patience, end := context.WithCancel(ctx)
	defer end()
	go func() {
		select {
		case <-v.Clock.After(waitsForRoom):
			end()
		case <-patience.Done():
		}
	}()
	if err := v.bodies.Acquire(patience, size); err != nil {
		return nil, core.Fail(core.Busy, "so many files are being sent to this service that there is no room for another one")
	}
	return func() { v.bodies.Release(size) }, nil
}

// inTurn has a call wait for nobody, and lets nobody have more than his share: whoever calls too
// often is told when to call again (RFC 6585, 4), before anything of the request is read.
func (v *Frame) inTurn(c huma.Context, then func()) {
	who := Who(c.Context())
	sort := sortOf(c.Operation(), who)
	leave, wait, err := v.turns.enter(turnKey{who.name(), sort}, v.Clock.Now())
	if err != nil {
		v.putOff(c, sort, wait, err)
		return
	}
	defer leave()
	then()
}

// withRoom has a call read its body once there is room for it. Whoever has not the role for the call
// is refused before, and takes none.
func (v *Frame) withRoom(c huma.Context, then func()) {
	r, _ := humachi.Unwrap(c)
	leave, err := v.taken(c.Context(), r.ContentLength, c.Operation().MaxBodyBytes)
	if err != nil {
		v.putOff(c, sortOf(c.Operation(), Who(c.Context())), time.Second, err)
		return
	}
	defer leave()
	then()
}

// putOff refuses a call that came too soon.
func (v *Frame) putOff(c huma.Context, sort Sort, wait time.Duration, why error) {
	v.Counter("ferry_calls_refused_total", "sort", string(sort)).Inc()
	v.refuse(c, Later(wait, core.AsError(why, core.Busy).Unit("this call has changed nothing").Do("Wait a moment, then do it again.")))
}

// Later is an error that says after which time to call again.
func Later(after time.Duration, err error) *Problem {
	p := &Problem{Problem: Explain(err), after: max(after, time.Second)}
	p.Status, p.Title = http.StatusTooManyRequests, http.StatusText(http.StatusTooManyRequests)
	return p
}

// GetHeaders has the time in an answer.
func (p *Problem) GetHeaders() http.Header {
	h := http.Header{}
	if p.after > 0 {
		h.Set("Retry-After", strconv.Itoa(int((p.after+time.Second-1)/time.Second))) // RFC 9110, 10.2.3
	}
	return h
}

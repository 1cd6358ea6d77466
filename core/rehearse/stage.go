package rehearse

import (
	"context"
	"io"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/run"
	"zealousferry/core/settings"
	"zealousferry/core/shelf"
)

// clock is the time of a rehearsal: it moves as the line would carry, and whoever waits on
// it has waited.
type clock struct {
	mu  sync.Mutex
	now time.Time
}

func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *clock) move(d time.Duration) {
	c.mu.Lock()
	c.now = c.now.Add(max(d, 0))
	c.mu.Unlock()
}

func (c *clock) After(d time.Duration) <-chan time.Time {
	c.move(d)
	ch := make(chan time.Time, 1)
	ch <- c.Now()
	return ch
}

// paper is a journal's file that nobody keeps.
type paper struct{ b []byte }

func (p *paper) ReadAt(b []byte, off int64) (int, error) {
	if off >= int64(len(p.b)) {
		return 0, io.EOF
	}
	n := copy(b, p.b[off:])
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

func (p *paper) WriteAt(b []byte, off int64) (int, error) {
	if more := off + int64(len(b)) - int64(len(p.b)); more > 0 {
		p.b = append(p.b, make([]byte, more)...)
	}
	return copy(p.b[off:], b), nil
}

func (p *paper) Size() (int64, error) { return int64(len(p.b)), nil }
func (p *paper) Sync() error          { return nil }
func (p *paper) Truncate(n int64) error {
	p.b = p.b[:n]
	return nil
}
func (p *paper) Reserve(int64) error { return nil }
func (p *paper) Close() error        { return nil }

// stage is the bench of a rehearsal. What it is given to keep is gone with it.
type stage struct {
	twin    *twin
	get     shelf.Get
	safe    settings.Safe
	changed func()

	mu   sync.Mutex
	kept map[core.Digest][]byte
}

func (s *stage) Open(context.Context, string) (link.Link, error) { return s.twin, nil }

func (s *stage) Blob(_ context.Context, name core.Digest) ([]byte, error) {
	return shelf.Get(s.blobs).One(name)
}

// blobs gets what is at hand, and fetches the rest at once.
func (s *stage) blobs(names []core.Digest) ([][]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.get.Through(s.kept)(names)
}

// Held gets what is at hand.
func (s *stage) Held(name core.Digest) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if b, ok := s.kept[name]; ok {
		return b, nil
	}
	return nil, core.Fail(core.NotFound, "piece %s is not at hand", name.Short())
}

// Missing tells what is not at hand yet: what the twin was made of is.
func (s *stage) Missing(_ context.Context, names []core.Digest) (lacks []core.Digest, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, n := range names {
		if _, ok := s.kept[n]; !ok {
			lacks = append(lacks, n)
		}
	}
	return lacks, nil
}

func (s *stage) Keep(pieces []shelf.Piece) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range pieces {
		s.kept[p.Name] = p.Data
	}
	return nil
}

func (s *stage) Store(context.Context, *run.Opened, []run.Reading) (run.Stored, error) {
	return run.Stored{Backup: "rehearsal", At: s.twin.clock.Now().UnixMicro()}, nil
}

func (s *stage) MayWrite(context.Context, *run.Opened) error                     { return nil }
func (s *stage) Secret(context.Context, *run.Opened, string) (string, error)     { return "", nil }
func (s *stage) SettingsKey(context.Context, *run.Opened) (settings.Safe, error) { return s.safe, nil }
func (s *stage) Changed()                                                        { s.changed() }
func (s *stage) SeedKey(context.Context, *run.Opened, string, byte, []byte) ([]byte, error) {
	return nil, nil
}

// Reach is never called: there is no unit on the network.
func (s *stage) Reach(context.Context, string, string) ([]byte, error) { return nil, nil }

func (s *stage) Seal(record func(core.Digest) []byte, put func(record, signature []byte) error) error {
	return put(record(core.Digest{}), nil)
}

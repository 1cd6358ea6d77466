package run

import (
	"cmp"
	"context"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/link/recording"
	"zealousferry/core/link/recording/trace"
	"zealousferry/core/loader"
	"zealousferry/core/shelf"
)

// Traced is what was said over a link until something went wrong.
type Traced struct {
	Link  string `json:"link"`
	Phase Phase  `json:"phase"` // that failed
	// Text is a recording (core/link/recording); its times count from Began, in microseconds
	// since 1970 UTC. It is kept apart, under its digest, so that it can be let go while what
	// was signed stays; in the event it stands only where it could not be, and in older ones.
	Text   string       `json:"text,omitempty"`
	Digest *core.Digest `json:"digest,omitempty"`
	Began  int64        `json:"began"`
	Ended  int64        `json:"ended"`
	Lines  int          `json:"lines"`
}

// MostTrace is what the text of a trace takes at most, in the journal too where it has to stand there:
// each piece a line, four characters a byte.
const MostTrace = trace.Pieces * (4*trace.Talk + 60)

// ring is what is said over the link of a section.
func (r *Run) ring(x *Section) *trace.Ring {
	if r.rings[x.Link] == nil {
		r.rings[x.Link] = trace.New(r.pace.Clock)
	}
	return r.rings[x.Link]
}

// hush keeps nothing but lengths of what is said over the link of a section, until done is
// called.
func (r *Run) hush(x *Section) (done func()) { return r.ring(x).Hush() }

// listen says how much is kept of what a move says over the line, until done is called: of
// memory little, of files and settings nothing.
func (r *Run) listen(x *Section, p Phase) (done func()) {
	d, err := r.of(x)
	if err != nil {
		return func() {}
	}
	ring := r.ring(x)
	switch p {
	case PhaseKeep, PhaseSurvey, PhaseChange, PhaseVerify:
		if d.Files != nil {
			return ring.Hush()
		}
		ring.Keep(trace.Memory)
		return func() { ring.Keep(trace.Talk) }
	case PhaseRead, PhaseLay, PhaseSettings:
		return ring.Hush()
	}
	return func() {}
}

// read reads memory. Of what is private no trace is kept.
func (r *Run) read(ctx context.Context, x *Section, s loader.Session, address uint64, p []byte, got func(int)) error {
	d, err := r.of(x)
	if err != nil {
		return err
	}
	if d.Memory.Private(address, uint64(len(p))) {
		defer r.hush(x)()
	}
	return s.Read(ctx, address, p, got)
}

// keepTrace puts what was said over the link of a move that failed into the journal. One
// that failed at a gate has nothing to tell.
func (r *Run) keepTrace(m Move, f Fault) error {
	x := r.journal.State().Section(m.Section)
	if x == nil || f.Then == ThenRefused {
		return nil
	}
	ring := r.ring(x)
	said := recording.Recording{Pieces: ring.Taken()}
	if len(said.Pieces) == 0 {
		return nil
	}
	o := r.journal.State().Opened
	on := cmp.Or(x.Link, o.Link)
	said.Remarks = []string{
		"run " + o.Run + ", " + on + ", failed at: " + string(m.Phase),
		"times count from " + ring.Began().UTC().Format(time.RFC3339) + "; of each piece its beginning",
	}
	var text strings.Builder
	if err := said.Write(&text); err != nil {
		return err
	}
	t := Traced{Link: on, Phase: m.Phase, Began: ring.Began().UnixMicro(), Ended: r.pace.Clock.Now().UnixMicro(), Lines: len(said.Pieces)}
	piece := shelf.Piece{Name: core.DigestOf([]byte(text.String())), Data: []byte(text.String())}
	if r.bench.Keep([]shelf.Piece{piece}) == nil {
		t.Digest = &piece.Name
	} else { // the journal has room for it
		t.Text = text.String()
	}
	return r.appendOf(m.Section, KindTraced, t, false)
}

package bench

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/history"
	"zealousferry/core/trust"
	"zealousferry/internal/client"
)

// Witness keeps what the service has signed of its histories out of the service's reach, so that
// what is taken away or changed there is found: the newest head of each unit that the bench has
// worked on, and the newest checkpoint of all.
type Witness struct {
	dir     string
	log     *slog.Logger
	service *pinned

	mu     sync.Mutex
	heads  map[string]history.Head
	points points
	held   history.Checkpoint // the newest, read
}

// points are signed checkpoints as they stand in a file.
type points struct {
	Newest string   `json:"newest,omitempty"`
	Left   []string `json:"left,omitempty"` // those to which a later one did not lead
}

const (
	headsFile  = "heads"
	pointsFile = "checkpoints.json"
)

// ReadWitness reads what a bench has kept in its folder, which it may be working in.
func ReadWitness(dir string) (*Witness, error) {
	id, err := readIdentity(dir)
	if err != nil {
		return nil, err
	}
	w, _, err := readWitness(dir, pin(id), slog.New(slog.DiscardHandler))
	return w, err
}

// openWitness is what a bench itself begins with. Of its heads it leaves the newest alone in the
// file: older ones and a torn last line go. Checkpoints that cannot be read are put aside, and do
// not keep the bench from its work.
func openWitness(dir string, service *pinned, log *slog.Logger) (*Witness, error) {
	w, lines, err := readWitness(dir, service, log)
	if core.KindOf(err) == core.BadFile {
		path := filepath.Join(dir, pointsFile)
		log.Error("what was kept of the service's histories cannot be read; it is put aside, and a lead should see it", "file", path+".damaged", "error", err)
		if err = os.Rename(path, path+".damaged"); err == nil {
			w, lines, err = readWitness(dir, service, log)
		}
	}
	if err == nil && lines != nil {
		err = replace(filepath.Join(dir, headsFile), bytes.Join(slices.Collect(maps.Values(lines)), nil))
	}
	return w, err
}

func readWitness(dir string, service *pinned, log *slog.Logger) (w *Witness, lines map[string][]byte, err error) {
	w = &Witness{service: service, dir: dir, log: log, heads: map[string]history.Head{}}
	if lines, err = w.readHeads(); err != nil {
		return nil, nil, err
	}
	return w, lines, w.readPoints()
}

func (w *Witness) readPoints() error {
	raw, err := os.ReadFile(filepath.Join(w.dir, pointsFile))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err = json.Unmarshal(raw, &w.points); err == nil && w.points.Newest != "" {
		w.held, err = w.service.get().OpenCheckpoint([]byte(w.points.Newest))
	}
	if err != nil {
		return core.Fail(core.BadFile, "%s cannot be read: %w", filepath.Join(w.dir, pointsFile), err).Do("It is what this bench has kept of the service's histories. Start the bench: it puts the file aside and goes on. Show the file to a lead.")
	}
	return nil
}

// keepHead keeps a signed head of a unit's history.
func (w *Witness) keepHead(h history.Head) {
	if !h.Verify(w.service.get().Now) {
		w.log.Error("the service sent a head of history that its key did not sign", "unit", h.Unit, "entry", h.N)
		return
	}
	raw, err := json.Marshal(h)
	if err != nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	f, err := os.OpenFile(filepath.Join(w.dir, headsFile), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		w.log.Error("a head of history cannot be kept", "error", err)
		return
	}
	defer f.Close()
	if _, err = f.Write(append(raw, '\n')); err == nil {
		err = f.Sync()
	}
	if err != nil {
		w.log.Error("a head of history cannot be kept", "unit", h.Unit, "error", err)
		return
	}
	w.heads[h.Unit] = h
}

// readHeads reads the newest head of each unit, and gives their lines.
func (w *Witness) readHeads() (lines map[string][]byte, err error) {
	raw, err := os.ReadFile(filepath.Join(w.dir, headsFile))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	lines = map[string][]byte{}
	for line := range bytes.Lines(raw) {
		var h history.Head
		if json.Unmarshal(line, &h) == nil && h.N >= w.heads[h.Unit].N {
			w.heads[h.Unit], lines[h.Unit] = h, append(bytes.TrimSpace(line), '\n')
		}
	}
	return lines, err
}

// size is how many entries the checkpoint has that is held.
func (w *Witness) size() uint64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.held.Size
}

// take takes a newer checkpoint in place of the one that is held, if its tree came of that one.
// If it did not, the one that is held is left as evidence; take tells that.
func (w *Witness) take(c client.Checkpoint) (broken bool) {
	newer, err := w.service.get().OpenCheckpoint([]byte(c.Signed))
	if err != nil {
		w.log.Error("the service sent a checkpoint that its key did not sign", "error", err)
		return false
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	next := points{Newest: c.Signed, Left: w.points.Left}
	if err := history.Grew(w.held, newer, c.Proof); err != nil {
		w.log.Error("the histories at the service were changed; what they were is kept", "entries", w.held.Size, "error", err)
		broken = true
		if len(next.Left) < client.CheckpointsAtOnce-1 {
			next.Left = append(slices.Clone(next.Left), w.points.Newest)
		}
	}
	raw, err := json.Marshal(next)
	if err == nil {
		err = replace(filepath.Join(w.dir, pointsFile), raw)
	}
	if err != nil {
		w.log.Error("a checkpoint of all histories cannot be kept", "error", err)
		return false
	}
	w.points, w.held = next, newer
	return broken
}

// Line is the keys of the service against which it is held.
func (w *Witness) Line() history.Line { return w.service.get() }

// Kept is all that is kept.
func (w *Witness) Kept() client.Heads {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := client.Heads{Heads: slices.AppendSeq([]history.Head{}, maps.Values(w.heads)), Checkpoints: slices.Clone(w.points.Left)}
	if w.points.Newest != "" {
		out.Checkpoints = append(out.Checkpoints, w.points.Newest)
	}
	return out
}

// show shows the service what it has given to this bench, a part at a time.
func (w *Witness) show(ctx context.Context, c *client.Client) error {
	all := w.Kept()
	for part := range slices.Chunk(append(all.Heads, history.Head{}), client.HeadsAtOnce) {
		part = slices.DeleteFunc(slices.Clone(part), func(h history.Head) bool { return h.Unit == "" })
		call, cancel := context.WithTimeout(ctx, 20*time.Second)
		err := c.ShowHeads(call, client.Heads{Heads: part, Checkpoints: all.Checkpoints})
		cancel()
		if err != nil {
			return err
		}
		all.Checkpoints = nil
	}
	return nil
}

// Known is what a bench's folder says of it.
type Known struct{ Name, Service string }

// Know reads of which bench a folder is.
func Know(dir string) (Known, error) {
	id, err := readIdentity(dir)
	return Known{id.Name, id.Service}, err
}

// Believed asks the service whether it takes the word of the bench whose folder this is.
func Believed(ctx context.Context, dir string) error {
	id, err := readIdentity(dir)
	if err != nil {
		return err
	}
	key, err := trust.DecodeKey(id.Key)
	if err != nil {
		return err
	}
	c := client.New(id.Service, id.Token, core.System{})
	c.PinTo(id.Pins)
	defer c.Close()
	c.SignAs(key)
	_, err = c.Missing(ctx, []core.Digest{})
	return err
}

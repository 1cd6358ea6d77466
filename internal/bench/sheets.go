package bench

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"zealousferry/core"
	"zealousferry/core/link"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/shelf"
	"zealousferry/core/visit"
)

// brief is what asking a unit who it is goes by of a model sheet, so that of thousands of sheets
// only those are read that matter to the unit.
type brief struct {
	Sheet    core.Digest `json:"sheet"`
	Model    string      `json:"model"`
	Title    string      `json:"title"`
	Kind     string      `json:"kind"` // of the loader of its main section
	Says     string      `json:"says"` // what a unit calls itself there
	Baud     int         `json:"baud"`
	Parity   string      `json:"parity"`
	Shape    link.Shape  `json:"shape"`
	Known    bool        `json:"known"`    // there is such a loader
	ByEye    bool        `json:"byEye"`    // the loader cannot ask who is there
	Answers  bool        `json:"answers"`  // the unit can be asked at any time
	Quiet    bool        `json:"quiet"`    // asking leaves its program at work
	Dialogue bool        `json:"dialogue"` // its own, which is of no other model
	Through  bool        `json:"through"`  // something between passes the line on
	Holds    int         `json:"holds"`    // slots for other units
	ToolKind string      `json:"toolKind"` // loader of the helper tool at its programming header
	ToolSays string      `json:"toolSays"`
}

func briefOf(s *model.Sheet, sheet core.Digest) brief {
	x := s.Main()
	b := brief{Sheet: sheet, Model: s.Model, Title: s.Name.In("en"), Kind: x.Loader.Kind, Says: x.Loader.Says, Baud: x.Loader.Serial().Baud, Parity: x.Loader.Serial().Mode().Parity,
		Answers: visit.Answers(x), Quiet: visit.Quiet(x), Dialogue: x.Loader.Own["dialogue"] != nil, Holds: len(s.Holds), Through: len(x.Loader.Serial().Through) > 0}
	if kind, err := registry.Loader(x.Loader.Kind); err == nil {
		limits := kind.Limits(x.Loader.Own)
		b.Known, b.Shape, b.ByEye = true, limits.Shape, limits.Identity == loader.ByEye
	}
	if h := x.Header; h != nil {
		b.ToolKind, b.ToolSays = h.Loader.Kind, h.Loader.Says
	}
	return b
}

// sheets is what the bench knows of the sheets that the service has in force. What it has made of
// them is kept in a file, as are the sheets themselves on its shelf: without the service it goes
// by those.
type sheets struct {
	mu     sync.Mutex
	path   string // of the file; empty where nothing is kept
	briefs map[core.Digest]brief
	of     *core.Digest                 // the list that was asked for last
	newest []brief                      // and its briefs, which nobody changes
	read   map[core.Digest]*model.Sheet // lately
}

// keptBriefs is the file.
type keptBriefs struct {
	Version string  `json:"version"` // of the program that made them
	Briefs  []brief `json:"briefs"`
}

func (s *sheets) open(dir string) {
	s.path = filepath.Join(dir, "sheets.json")
	raw, err := os.ReadFile(s.path)
	var kept keptBriefs
	if err != nil || json.Unmarshal(raw, &kept) != nil || kept.Version != Version {
		return // they are made anew
	}
	s.briefs = map[core.Digest]brief{}
	for _, b := range kept.Briefs {
		s.briefs[b.Sheet] = b
	}
}

// studies reads the sheets that are new, so that whoever asks does not wait for it, and so that they
// are here when the service is away.
func (b *Bench) studies(ctx context.Context) {
	b.mu.Lock()
	names := b.inForce
	b.mu.Unlock()
	if _, err := b.briefs(ctx, names); err != nil && ctx.Err() == nil {
		b.Log.Warn("not all model sheets could be read", "error", err)
	}
}

// together is how many sheets are fetched at once.
const together = 200

// catalogue gives the briefs of the sheets that the service has now; where the service is away,
// of those that were heard of last.
func (b *Bench) catalogue(ctx context.Context) ([]brief, error) {
	asked := b.joinFresh(ctx) // a model may just have been added, and an order may come before the first joining
	b.mu.Lock()
	names, heard := b.inForce, b.heard
	b.mu.Unlock()
	if asked != nil && !heard {
		return nil, fmt.Errorf("the bench has not heard yet which models the catalogue has: %w", asked)
	}
	return b.briefs(ctx, names)
}

// briefs gives those of some sheets; sheets that it has not seen yet are fetched and read.
func (b *Bench) briefs(ctx context.Context, names []core.Digest) ([]brief, error) {
	s := &b.known
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(names) > 0 && len(names) == len(s.newest) && &names[0] == s.of {
		return s.newest, nil
	}
	var fresh []core.Digest
	for _, n := range names {
		if _, ok := s.briefs[n]; !ok {
			fresh = append(fresh, n)
		}
	}
	for some := range slices.Chunk(fresh, together) {
		if err := b.fetchSheets(ctx, some); err != nil {
			return nil, err
		}
		for _, n := range some {
			sheet, err := b.readSheet(ctx, n)
			if err != nil {
				return nil, err
			}
			if s.briefs == nil {
				s.briefs = map[core.Digest]brief{}
			}
			s.briefs[n] = briefOf(sheet, n)
		}
	}
	all := make([]brief, len(names))
	for i, n := range names {
		all[i] = s.briefs[n]
	}
	if len(fresh) > 0 && s.path != "" {
		raw, err := json.Marshal(keptBriefs{Version, all})
		if err == nil {
			err = replace(s.path, raw)
		}
		if err != nil {
			b.Log.Warn("what was made of the model sheets could not be kept", "error", err)
		}
	}
	if len(names) > 0 {
		s.of, s.newest = &names[0], all
	}
	return all, nil
}

// fetchSheets has the service send sheets that the shelf lacks, all in one go.
func (b *Bench) fetchSheets(ctx context.Context, names []core.Digest) error {
	lacks := slices.DeleteFunc(slices.Clone(names), b.pack.has)
	if len(lacks) < 2 {
		return nil // one comes when it is read
	}
	call, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	pieces, err := b.client.Pieces(call, lacks)
	if err != nil {
		return err
	}
	keep := make([]shelf.Piece, len(pieces))
	for i, p := range pieces {
		keep[i] = shelf.Piece{Name: p.Name, Data: p.Data}
	}
	return b.pack.put(keep)
}

// mostRead bounds how many sheets are kept as they were read.
const mostRead = 64

// readSheet reads one; the caller has the lock.
func (b *Bench) readSheet(ctx context.Context, name core.Digest) (*model.Sheet, error) {
	if s := b.known.read[name]; s != nil {
		return s, nil
	}
	raw, err := b.blob(ctx, name)
	if err != nil {
		return nil, err
	}
	s, err := model.ReadSheet(raw)
	if err != nil {
		return nil, err
	}
	if b.known.read == nil || len(b.known.read) >= mostRead {
		b.known.read = map[core.Digest]*model.Sheet{}
	}
	b.known.read[name] = s
	return s, nil
}

// sheet reads the sheet of a brief. It is not to be changed.
func (b *Bench) sheet(ctx context.Context, of brief) (*model.Sheet, error) {
	b.known.mu.Lock()
	defer b.known.mu.Unlock()
	return b.readSheet(ctx, of.Sheet)
}

// sheetsOf reads the sheets of some models, and those of the models that fit into their slots;
// those that are not there are passed over.
func (b *Bench) sheetsOf(ctx context.Context, models ...string) (map[string]*model.Sheet, error) {
	all, err := b.catalogue(ctx)
	if err != nil {
		return nil, err
	}
	by := map[string]*model.Sheet{}
	for len(models) > 0 {
		name := models[0]
		models = models[1:]
		i := slices.IndexFunc(all, func(x brief) bool { return x.Model == name })
		if i < 0 || by[name] != nil {
			continue
		}
		s, err := b.sheet(ctx, all[i])
		if err != nil {
			return nil, err
		}
		by[name] = s
		for _, slot := range s.Holds {
			models = append(models, slot.Models...)
		}
	}
	return by, nil
}

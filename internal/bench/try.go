package bench

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"zealousferry/core"
	"zealousferry/core/link/recording"
	"zealousferry/core/registry"
	"zealousferry/core/visit"
	"zealousferry/internal/client"
)

// try plays a sheet on a link, and records what was said.
func (b *Bench) try(ctx context.Context, o client.Order) (client.Result, error) {
	sheet, err := registry.Sheet([]byte(o.Sheet))
	if err != nil {
		return client.Result{}, err
	}
	x, ok := sheet.Section(o.Section)
	if !ok {
		return client.Result{}, core.Fail(core.NotFound, "the sheet has no section %q", o.Section)
	}
	l, done, err := b.held(ctx, o.Link, "a model sheet is tried")
	if err != nil {
		return client.Result{}, err
	}
	defer done()
	began := b.Clock.Now()
	said := recording.Recording{Remarks: []string{sheet.Model + ", section " + x.Name + ", tried on " + b.Name() + "/" + o.Link + " " + began.UTC().Format("2006-01-02 15:04")}}
	t := client.Tried{Link: b.Name() + "/" + o.Link, Model: sheet.Model}
	var keeper visit.Keeper
	if o.Write {
		keeper = heldFile(filepath.Join(b.dir, "held-"+o.Link+".json"))
	}
	t.Tried = visit.Try(ctx, l, x, b.pace(), keeper, func(sent bool, data []byte) { said.Add(b.Clock.Now().Sub(began), sent, data) })
	var text strings.Builder
	if err := said.Write(&text); err != nil {
		return client.Result{}, err
	}
	t.Recording, t.Well = text.String(), t.Tried.Well()
	return client.Result{Tried: &t}, nil
}

// heldFile is where the bench keeps what a trial on a link is about to erase.
type heldFile string

func (f heldFile) Kept() (*visit.Held, error) {
	raw, err := os.ReadFile(string(f))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var h visit.Held
	if err := json.Unmarshal(raw, &h); err != nil {
		return nil, core.Fail(core.BadFile, "%s holds what a trial has kept, and cannot be read: %w", string(f), err).Do("Look into it, and move it away.")
	}
	return &h, nil
}

func (f heldFile) Keep(h *visit.Held) error {
	if h == nil {
		if err := os.Remove(string(f)); err != nil {
			return err
		}
		return syncFolder(filepath.Dir(string(f)))
	}
	raw, err := json.Marshal(h)
	if err != nil {
		return err
	}
	if err := replace(string(f), raw); err != nil {
		return core.Fail(core.NoSpace, "the bench cannot keep what the sector holds: %w", err).Unit("nothing was changed")
	}
	return nil
}

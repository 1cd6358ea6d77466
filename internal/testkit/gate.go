package testkit

import (
	"bytes"
	"context"
	"database/sql"
	"sync"
	"syscall"
	"time"

	"zealousferry/core/run"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
)

// gate is a bench's disk on which a journal waits at a chosen event, so that a test
// meets a run in its middle however fast or slow the machine is.
type gate struct {
	bench.Disk
	mu    sync.Mutex
	marks []string      // that an event has, as JSON
	left  int           // such events until it holds; 0 is never
	since time.Time     // it was set
	held  chan struct{} // closed once one waits
	open  chan struct{} // closed once it may go on
	full  bool          // nothing more can be written
}

func (g *gate) Open(name string) (run.File, error) {
	f, err := g.Disk.Open(name)
	if err != nil {
		return nil, err
	}
	return gatedFile{f, g}, nil
}

type gatedFile struct {
	run.File
	gate *gate
}

func (f gatedFile) WriteAt(p []byte, off int64) (int, error) {
	if wait := f.gate.holds(p); wait != nil {
		<-wait
	}
	f.gate.mu.Lock()
	full := f.gate.full
	f.gate.mu.Unlock()
	if full {
		return 0, syscall.ENOSPC
	}
	return f.File.WriteAt(p, off)
}

// holds gives what an event waits for, if it is the one.
func (g *gate) holds(event []byte) <-chan struct{} {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.left == 0 {
		return nil
	}
	for _, m := range g.marks {
		if !bytes.Contains(event, []byte(m)) {
			return nil
		}
	}
	if g.left--; g.left > 0 {
		return nil
	}
	close(g.held)
	return g.open
}

func (g *gate) set(n int, marks ...string) {
	g.letGo()
	g.mu.Lock()
	defer g.mu.Unlock()
	g.marks, g.left, g.since = marks, n, time.Now().UTC()
	g.held, g.open = make(chan struct{}), make(chan struct{})
}

func (g *gate) letGo() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.open != nil {
		close(g.open)
	}
	g.left, g.open = 0, nil
}

// HoldAt has the next run wait before it notes its n-th event of a kind, until LetGo or
// StopBench.
func (w *World) HoldAt(kind string, n int) { w.gate.set(n, `"kind":"`+kind+`"`) }

// HoldAfter has the next run wait once so many sectors are written and noted.
func (w *World) HoldAfter(sectors int) {
	w.gate.set(sectors+1, `"kind":"`+run.KindDone+`"`, `"last":true`)
}

// Full has the disk of the bench's journals take nothing more, or again.
func (w *World) Full(full bool) {
	w.gate.mu.Lock()
	defer w.gate.mu.Unlock()
	w.gate.full = full
}

// Held is closed once a run waits where HoldAt or HoldAfter has said.
func (w *World) Held() <-chan struct{} {
	w.gate.mu.Lock()
	defer w.gate.mu.Unlock()
	return w.gate.held
}

// LetGo ends what HoldAt or HoldAfter began.
func (w *World) LetGo() { w.gate.letGo() }

// InTheMiddle opens a run and gives it back once so many sectors are right. There it
// waits until LetGo, or until its bench ends.
func (w *World) InTheMiddle(n client.NewRun, sectors int) client.Run {
	w.t.Helper()
	w.HoldAfter(sectors)
	r := w.Open(n)
	w.Wait("the middle of the write", func() bool { return w.Right(r.ID) >= sectors })
	return r
}

// Stop orders a run that waits in its middle to stop, and follows it until it has.
func (w *World) Stop(r client.Run) client.Run {
	w.t.Helper()
	if err := w.Technician.StopRun(context.Background(), r.ID); err != nil {
		w.t.Fatal(err)
	}
	w.LetGoOnce(client.OrderStop)
	return w.Follow(r.ID)
}

// LetGoOnce does what LetGo does as soon as the bench has got an order of a kind.
func (w *World) LetGoOnce(order string) {
	w.t.Helper()
	w.Wait("the bench to have the order "+order, func() bool {
		return w.finds(`SELECT EXISTS (SELECT 1 FROM bench_order WHERE kind = ? AND ended_at > ?)`, order, w.gate.since)
	})
	w.LetGo()
}

func (w *World) finds(query string, about ...any) (there bool) {
	db, err := sql.Open("mysql", w.DB.Serve)
	if err != nil {
		return false
	}
	defer db.Close()
	return db.QueryRow(query, about...).Scan(&there) == nil && there
}

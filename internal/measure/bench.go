package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"go.yaml.in/yaml/v3"

	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

// atABench is 16 backups at once through a bench process of its own, as a workshop
// has it: the slowest reading against the line, against one alone, and what the
// bench process takes of the machine.
func atABench(s *stand) {
	const links = 16
	// The small board with 256 KiB, so that what begins and ends a reading is not
	// most of it.
	text := strings.NewReplacer("length: 24576", "length: 258048", "address: 0x7000", "address: 0x40000", "address: 0x7800", "address: 0x40800").Replace(string(coretest.Small))
	sheet, err := model.ReadSheet([]byte(text))
	if err != nil {
		s.Fatal(err)
	}
	var specs []func(*sim.Spec)
	for i := range links {
		specs = append(specs, func(x *sim.Spec) {
			serial := x.Serial
			*x = board.Board(sheet, serial)
			x.Scale = 1
			x.Fresh = func() []byte {
				return board.Memory(sheet, serial, sim.Program(testkit.Version1, 240<<10, uint64(i), uint64(1000+i)))
			}
		})
	}
	w := testkit.NewWorld(s, specs...).Unbounded()
	if _, err := w.Lead.PutModel(context.Background(), []byte(text)); err != nil {
		s.Fatal(err)
	}
	w.StopBench()
	var ports []bench.Port
	for name, u := range w.Units {
		ports = append(ports, bench.Port{Name: name, Kind: "rfc2217", Settings: map[string]string{"address": u.Address()}})
	}
	raw, err := yaml.Marshal(map[string]any{"links": ports})
	if err == nil {
		err = os.WriteFile(filepath.Join(w.Dir, "links.yaml"), raw, 0o600)
	}
	if err != nil {
		s.Fatal(err)
	}
	c := exec.Command("bin/ferry", "bench", "--dir", w.Dir)
	c.Stderr = os.Stderr
	if err := c.Start(); err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { c.Process.Signal(syscall.SIGTERM); c.Wait() })
	ctx := context.Background()
	w.Wait("the bench process to join, with the catalogue", func() bool {
		_, err := w.Technician.Identify(ctx, "b/a", "")
		return err == nil
	})
	rate := func(name string) float64 {
		r := w.Open(client.NewRun{Kind: "backup", At: "b/" + name})
		if r = w.Follow(r.ID); r.Outcome != "done" {
			s.Fatal(r.Progress.Fault)
		}
		b := backedUp(s, r)
		return float64(b.wire) / (b.took - b.digests).Seconds() / 11520
	}
	alone := rate("a")
	rates := make([]float64, 0, links)
	var mu sync.Mutex
	var all sync.WaitGroup
	before, began := spentBy(s, c.Process.Pid), time.Now()
	for name := range w.Units {
		if name == "a" { // its pieces are on the shelf now
			continue
		}
		all.Add(1)
		go func() {
			defer all.Done()
			x := rate(name)
			mu.Lock()
			rates = append(rates, x)
			mu.Unlock()
		}()
	}
	all.Wait()
	report("one-backup-at-a-bench-115200", alone, "of-line", "")
	report("slowest-of-15-backups-at-a-bench", slices.Min(rates), "of-line", ">= 0.98")
	report("bench-process", (spentBy(s, c.Process.Pid)-before).Seconds()/time.Since(began).Seconds(), "cores", "<= 0.5")

	// The same release for all of them, as on a tray: one alone, then the others side by side;
	// one that changes a twelfth of the memory, then one that changes nearly all of it.
	flash := func(name, version string) float64 {
		began := time.Now()
		r := w.Open(client.NewRun{Kind: "flash", At: "b/" + name, Release: version, Reason: "a measure"})
		if err := w.Technician.FollowRun(ctx, r.ID, 0, func(client.Progress) bool { return true }); err != nil {
			s.Fatal(err)
		}
		took := time.Since(began).Seconds()
		if r = w.Follow(r.ID); r.Outcome != "done" {
			s.Fatal(r.Outcome, r.Progress.Fault)
		}
		return took
	}
	const whole = "3.0.0"
	w.AddRelease(whole, sim.Program(whole, 240<<10, 7, 77), map[string][]string{"revision": {"D"}})
	for _, x := range []struct{ version, name string }{{testkit.Version2, "slowest-of-15-flashes-at-a-bench-against-one"}, {whole, "slowest-of-15-flashes-of-a-whole-program-against-one"}} {
		one := flash("a", x.version)
		var took []float64
		for name := range w.Units {
			if name == "a" {
				continue
			}
			all.Add(1)
			go func() {
				defer all.Done()
				t := flash(name, x.version)
				mu.Lock()
				took = append(took, t)
				mu.Unlock()
			}()
		}
		all.Wait()
		report(x.name, slices.Max(took)/one, "ratio", "<= 1.1")
	}
}

type reading struct {
	wire          uint64
	took, digests time.Duration
}

// backedUp finds how long a run's reading took, in its events.
func backedUp(s *stand, r client.Run) (out reading) {
	for _, e := range r.Progress.Events {
		if e.Kind != "backed-up" {
			continue
		}
		var b struct {
			Took, Digests int64
			Obtained      []struct {
				How   string
				Bytes uint64
			}
		}
		if err := json.Unmarshal(e.Body, &b); err != nil {
			s.Fatal(err)
		}
		out.took, out.digests = time.Duration(b.Took)*time.Microsecond, time.Duration(b.Digests)*time.Microsecond
		for _, o := range b.Obtained {
			if o.How == "wire" {
				out.wire = o.Bytes
			}
		}
	}
	if out.took == 0 {
		s.Fatal("the run tells of no backup: " + fmt.Sprint(r.ID))
	}
	return out
}

// spentBy is the processor time of a process, from procfs in ticks of 10 ms.
func spentBy(s *stand, pid int) time.Duration {
	raw, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		s.Fatal(err)
	}
	f := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+2:]))
	user, _ := strconv.Atoi(f[11])
	system, _ := strconv.Atoi(f[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/recording/trace"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/client"
	"zealousferry/internal/demo/world"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

// traces is what keeping a trace costs a write and a read at 921600 baud: the same session,
// bare and with the ring around it, turn about.
func traces(s *stand) {
	const sector, erase, page, baud, size = 16 << 10, 60 * time.Millisecond, 350 * time.Microsecond, 921600, 1 << 20
	took := map[bool]float64{}
	const rounds = 3
	for i := range 2 * rounds {
		u, err := sim.Start(sim.Spec{Name: "u", Says: "U", Serial: "U-1", Size: 2 << 20, Sector: sector, Baud: baud, WriteMax: 1024, ReadMax: 4096, Window: 16 << 10,
			Erase: erase, Page: page, DigestBPS: 1 << 20}, "127.0.0.1:0", clock)
		if err != nil {
			s.Fatal(err)
		}
		traced := i%2 == 1
		over := func(l link.Link) link.Link { return l }
		if traced {
			ring := trace.New(clock)
			ring.Keep(trace.Memory)
			over = ring.Over
		}
		write, read := onceOver(s, u, baud, size, over)
		took[traced] += size/write + size/read
		u.Close()
	}
	report("run-with-traces-921600-against-without", took[true]/took[false], "ratio", "<= 1.01")
}

// rehearsals is a release rehearsed over a hundred backups of 512 KiB.
func rehearsals(s *stand) {
	const units = 100
	ctx := context.Background()
	f := fleets()[0]
	w := testkit.NewWorld(s, func(spec *sim.Spec) {
		*spec = board.Board(f.unit.Sheet(), "none")
		spec.Scale = 0.005
		spec.Fresh = func() []byte { return f.memory("none") }
	}).Unbounded()
	if _, err := w.Lead.PutModel(ctx, f.sheet); err != nil {
		s.Fatal(err)
	}
	person, err := w.Technician.WhoAmI(ctx)
	if err != nil {
		s.Fatal(err)
	}
	benches, err := w.Technician.Benches(ctx)
	if err != nil {
		s.Fatal(err)
	}
	for i := range units {
		backUp(s, w, f, benches.Benches[0].ID, person.ID, "a", fmt.Sprintf("Q-%04d-%03d", i/1000, i%1000))
	}
	r := world.Find("quill-80", "4.2.1")
	w.AddReleaseOf(f.unit.Model, r.Version, r.Bytes(), 0x8000, map[string][]string{"revision": {"C", "D"}})
	began := time.Now()
	n, well := 0, 0
	for after := ""; ; {
		some, err := w.Lead.RehearseRelease(ctx, f.unit.Model+"@"+r.Version, client.RehearseFleet{After: after, Limit: 25})
		if err != nil {
			s.Fatal(err)
		}
		for _, x := range some.Rehearsals {
			n++
			if x.Well {
				well++
			}
		}
		if after = some.Next; after == "" {
			break
		}
	}
	took := time.Since(began)
	fmt.Fprintf(os.Stderr, "%d rehearsals, %d end right\n", n, well)
	report("release-rehearsed-over-100-backups", took.Seconds()/float64(n)*units, "s", "<= 60")

}

// against is a rehearsal against the run that it rehearses: 240 KiB, all of them new, over a
// line of 921600 baud.
func against(s *stand) {
	ctx := context.Background()
	text := strings.NewReplacer("length: 24576", "length: 258048", "address: 0x7000", "address: 0x40000", "address: 0x7800", "address: 0x40800", "baud: 115200", "baud: 921600").Replace(string(coretest.Small))
	sheet, err := model.ReadSheet([]byte(text))
	if err != nil {
		s.Fatal(err)
	}
	program := func(version string, seed uint64) []byte { return sim.Program(version, 240<<10, seed, seed) }
	w := testkit.NewWorld(s, func(x *sim.Spec) {
		serial := x.Serial
		*x = board.Board(sheet, serial)
		x.Fresh = func() []byte { return board.Memory(sheet, serial, program(testkit.Version1, 1)) }
	}).Unbounded()
	if _, err := w.Lead.PutModel(ctx, []byte(text)); err != nil {
		s.Fatal(err)
	}
	w.AddReleaseOf("small", "3.0.0", program("3.0.0", 3), 0x1000, map[string][]string{"revision": {"D"}})
	begin := func(n client.NewRun) time.Duration {
		n.At, n.Reason = "b/a", "measured"
		r := w.Open(n)
		began := time.Now()
		follow(s, w, r.ID)
		return time.Since(began)
	}
	begin(client.NewRun{Kind: run.BackUp}) // so that the run reads as little as the rehearsal
	began := time.Now()
	x, err := w.Technician.Rehearse(ctx, client.NewRehearsal{At: "b/a", Release: "3.0.0"})
	rehearsed := time.Since(began)
	if err != nil || !x.Well {
		s.Fatalf("%+v %v", x, err)
	}
	real := begin(client.NewRun{Kind: run.Flash, Release: "3.0.0"})
	fmt.Fprintf(os.Stderr, "on the twin %d ms; rehearsed in %s, run in %s\n", x.Took, rehearsed.Round(time.Millisecond), real.Round(time.Millisecond))
	report("rehearsal-against-the-run", rehearsed.Seconds()/real.Seconds(), "ratio", "<= 0.03")
}

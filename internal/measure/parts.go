package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/testkit"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

// threeParts is a release of boot loader, program and fonts against the sum of three
// that have one of them each, on the same board at true pace, without a person.
func threeParts(s *stand) {
	raw, _, _ := bytes.Cut(coretest.Wide, []byte("procedures:\n"))
	sheet, err := model.ReadSheet(raw)
	if err != nil {
		s.Fatal(err)
	}
	all := []coretest.PartOf{{Section: "boot", Data: sim.Program("boot 2.0.0", 4096, 9, 10)}, {Section: "program", Address: 0x1000, Data: coretest.SmallProgram("2.0.0")}, {Section: "fonts", Files: coretest.Fonts("2.0.0")}}
	took := func(parts ...coretest.PartOf) float64 {
		u, err := coretest.WideUnit(func(x *sim.Spec) { x.Scale, x.Latch = 1, sim.Range{} })
		if err != nil {
			s.Fatal(err)
		}
		defer u.Close()
		a := coretest.NewAlone(u)
		o := run.Opened{Run: "r", Kind: run.Flash, Unit: "u", Model: "wide", Serial: "W-0001", Link: "b/l", Sheet: a.Put(raw), Version: "2.0.0", Deadline: time.Minute}
		o.Release = a.ReleaseOf(sheet, "2.0.0", parts...)
		document, err := a.Blob(context.Background(), o.Release)
		if err != nil {
			s.Fatal(err)
		}
		var release model.Release
		if err := json.Unmarshal(document, &release); err != nil {
			s.Fatal(err)
		}
		if err := o.Lay(sheet, &release, nil); err != nil {
			s.Fatal(err)
		}
		began := time.Now()
		alone(s, a, o, &coretest.Disk{})
		return time.Since(began).Seconds()
	}
	sum := 0.0
	for _, p := range all {
		sum += took(p)
	}
	report("three-parts-against-their-sum", took(all...)/sum, "ratio", "<= 1.05")
}

// bigSheet is the small board with 2 MiB of program.
func bigSheet() []byte {
	return []byte(strings.NewReplacer("small", "big", "SMALL", "BIG", "Small", "Big", "sector: 1024", "sector: 4096", "length: 24576", "length: 0x200000", "length: 2048", "length: 4096",
		"address: 0x7000,", "address: 0x201000,", "address: 0x7800,", "address: 0x202000,").Replace(string(coretest.Small)))
}

// fieldLine is what a bench in the field has to the service, in bytes a second:
// 20 Mbit/s.
const fieldLine = 20_000_000 / 8

// paced carries connections to an address at the pace of a line, both ways.
func paced(s *stand, to string, bytesPerSecond int) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { l.Close() })
	carry := func(out, in net.Conn) {
		defer out.Close()
		buf := make([]byte, 16<<10)
		due := time.Now()
		for {
			n, err := in.Read(buf)
			if n > 0 {
				if now := time.Now(); due.Before(now) {
					due = now
				}
				due = due.Add(time.Duration(n) * time.Second / time.Duration(bytesPerSecond))
				time.Sleep(time.Until(due)) // it stands for the line
				if _, err := out.Write(buf[:n]); err != nil {
					return
				}
			}
			if err != nil {
				return
			}
		}
	}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				continue
			}
			go carry(out, in)
			go carry(in, out)
		}
	}()
	return "http://" + l.Addr().String()
}

// handOver is how long it takes from the order until a second bench has taken up a
// run whose backup has 2 MiB that it lacks, against fetching the same pieces bare, over
// a line as a bench in the field has it.
func handOver(s *stand) {
	ctx := context.Background()
	sheet, err := model.ReadSheet(bigSheet())
	if err != nil {
		s.Fatal(err)
	}
	memory := bytes.Repeat([]byte{0xFF}, 0x203000)
	copy(memory[0x1000:], random(0x200000, 8))
	copy(memory[0x1000:], coretest.SmallProgram("1.0.0"))
	w := testkit.NewWorld(s, func(x *sim.Spec) {
		*x = board.Board(sheet, "B-0001")
		x.Scale, x.Fresh = 0.05, func() []byte { return bytes.Clone(memory) }
	}).Unbounded()
	if _, err := w.Lead.PutModel(ctx, bigSheet()); err != nil {
		s.Fatal(err)
	}
	program := append(coretest.SmallProgram("2.0.0"), random(0x100000, 9)...)
	im, err := w.Lead.PutImage(ctx, "big.bin", model.Part{Format: "raw", Address: 0x1000}, program)
	if err != nil {
		s.Fatal(err)
	}
	if _, err := w.Lead.AddRelease(ctx, client.NewRelease{Model: "big", Version: "2.0.0", Channel: model.Stable, Fits: map[string][]string{"revision": {"D"}}, Accept: "measured",
		Parts: []client.NewPart{{Name: "program", Image: im.Digest, Format: "raw", Address: 0x1000}}}); err != nil {
		s.Fatal(err)
	}
	w.StopBench()
	w.StartBench(nil)
	w.Wait("the bench to know the model", func() bool { _, err := w.Technician.Identify(ctx, "b/a", ""); return err == nil })
	w.Consent("B-0001", model.OfUnknown) // what it runs is in no catalogue
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0", Reason: "measured"})
	w.Wait("the write to begin", func() bool { return w.Right(r.ID) >= 3 })
	if _, err := w.Technician.LayAside(ctx, r.ID, client.LayAside{Place: "shed", Holder: "kay"}); err != nil {
		s.Fatal(err)
	}
	w.StopBench()
	code, err := w.Lead.NewBenchCode(ctx)
	if err != nil {
		s.Fatal(err)
	}
	w.Dir = s.TempDir()
	field := paced(s, strings.TrimPrefix(w.Base, "http://"), fieldLine)
	if err := bench.Enrol(ctx, w.Dir, field, code.Code, "c"); err != nil {
		s.Fatal(err)
	}
	w.StartBench(nil)
	w.Wait("the second bench to be there", func() bool { _, err := w.Technician.Identify(ctx, "c/a", ""); return err == nil })
	for range 2 { // the first time the database reads from its disk
		read(s, w, r.ID)
	}
	began := time.Now()
	if _, err := w.Technician.ResumeRun(ctx, r.ID, client.Resume{At: "c/a"}); err != nil {
		s.Fatal(err)
	}
	took := time.Since(began).Seconds()
	if err := w.Technician.StopRun(ctx, r.ID); err != nil { // the line to the service is free then
		s.Fatal(err)
	}
	w.Wait("the second bench to stop", func() bool { x, err := w.Technician.Run(ctx, r.ID); return err == nil && x.State == "paused" })
	bare := fetched(s, w, field, r.ID)
	report("hand-over-of-2-MiB-at-20-Mbit-s", took, "s", "")
	report("hand-over-against-bare-pieces", took/bare, "ratio", "<= 1.2")
}

// read reads the pieces of a run's backup from the database, and names them.
func read(s *stand, w *testkit.World, id string) []core.Digest {
	ctx := context.Background()
	r, err := w.Technician.Run(ctx, id)
	if err != nil {
		s.Fatal(err)
	}
	manifest, err := core.ParseDigest(r.Backup)
	if err != nil {
		s.Fatal(err)
	}
	names, err := run.PiecesOf(w.Store.Shelf(ctx), manifest, false)
	if err != nil {
		s.Fatal(err)
	}
	if _, err := w.Store.Pieces(ctx, names); err != nil {
		s.Fatal(err)
	}
	return names
}

// fetched is how long a bench takes to fetch the pieces of a run's backup, and no more.
func fetched(s *stand, w *testkit.World, from, id string) float64 {
	ctx := context.Background()
	raw, err := os.ReadFile(filepath.Join(w.Dir, "bench.json"))
	if err != nil {
		s.Fatal(err)
	}
	var who struct{ Token string }
	if err := json.Unmarshal(raw, &who); err != nil {
		s.Fatal(err)
	}
	names := read(s, w, id)
	c := client.New(from, who.Token, core.System{})
	defer c.Close()
	began, bytes := time.Now(), 0
	for len(names) > 0 {
		n := min(len(names), 512)
		pieces, err := c.Pieces(ctx, names[:n])
		if err != nil {
			s.Fatal(err)
		}
		for _, p := range pieces {
			bytes += len(p.Data)
		}
		names = names[n:]
	}
	if bytes < 2<<20 {
		s.Fatal(fmt.Sprintf("the pieces have %d bytes", bytes))
	}
	return time.Since(began).Seconds()
}

// watchers is how many queries 200 who watch one run cost, against one.
func watchers(s *stand) {
	ctx := context.Background()
	w := testkit.NewWorld(s, func(x *sim.Spec) { x.Scale = 1 }).Unbounded()
	r := w.Open(client.NewRun{Kind: "flash", At: "b/a", Release: "2.0.0"})
	w.Wait("the write to begin", func() bool { return w.Right(r.ID) >= 3 })
	if _, err := w.Technician.LayAside(ctx, r.ID, client.LayAside{Place: "shed", Holder: "kay"}); err != nil {
		s.Fatal(err)
	}
	w.StopBench()
	db := w.DB.Open(s, w.DB.Root)
	per := func(n int) float64 {
		watching, end := context.WithCancel(ctx)
		defer end()
		began := make(chan bool, n)
		for range n {
			go w.Technician.FollowRun(watching, r.ID, 0, func(client.Progress) bool { began <- true; return true })
		}
		for range n {
			<-began
		}
		const lasts = 4 * time.Second
		from := selects(s, db)
		time.Sleep(lasts)
		return float64(selects(s, db)-from) / lasts.Seconds()
	}
	one := per(1)
	many := per(200)
	report("queries-a-second-of-one-watcher", one, "1/s", "")
	report("queries-of-200-watchers-against-one", many/one, "ratio", "<= 2")
}

func selects(s *stand, db *sql.DB) (n int64) {
	var name string
	if err := db.QueryRow(`SHOW GLOBAL STATUS LIKE 'Com_select'`).Scan(&name, &n); err != nil {
		s.Fatal(err)
	}
	return n
}

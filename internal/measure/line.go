package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/run"
	"zealousferry/core/visit"
	"zealousferry/internal/bench"
	"zealousferry/internal/demo/world"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

var clock = core.System{}

func random(n int, seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 9))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// throughput is the payload per second of writes and reads at three round trips
// and two line rates, against the lower of the line and the unit's own rate. The
// journal is on disk and flushed as in a run.
func throughput(s *stand) {
	const sector, erase, page = 16 << 10, 60 * time.Millisecond, 350 * time.Microsecond
	own := sector / (erase + sector/256*page).Seconds()
	for _, baud := range []int{115200, 921600} {
		ceiling := min(float64(baud)/10, own)
		size := 256 << 10
		if baud == 921600 {
			size = 1 << 20
		}
		fmt.Fprintf(os.Stderr, "line %d B/s, unit's own rate %.0f B/s, lower %.0f B/s\n", baud/10, own, ceiling)
		for _, delay := range []time.Duration{0, 20 * time.Millisecond, 50 * time.Millisecond} {
			u, err := sim.Start(sim.Spec{Name: "u", Says: "U", Serial: "U-1", Size: 2 << 20, Sector: sector, Baud: baud, WriteMax: 1024, ReadMax: 4096, Window: 16 << 10,
				Erase: erase, Page: page, DigestBPS: 1 << 20, Delay: delay}, "127.0.0.1:0", clock)
			if err != nil {
				s.Fatal(err)
			}
			w, r := once(s, u, baud, size)
			u.Close()
			name := fmt.Sprintf("%d-baud-%dms", baud, delay.Milliseconds())
			report("write-"+name, w/ceiling, "of-ceiling", ">= 0.98")
			report("read-"+name, r/(float64(baud)/10), "of-line", ">= 0.99")
		}
	}
}

// once writes and reads size bytes; the rates are payload per second.
func once(s *stand, u *sim.Unit, baud, size int) (write, read float64) {
	return onceOver(s, u, baud, size, func(l link.Link) link.Link { return l })
}

// onceOver is the same with something around the link.
func onceOver(s *stand, u *sim.Unit, baud, size int, over func(link.Link) link.Link) (write, read float64) {
	ctx := context.Background()
	l, err := rfc2217.Kind{}.Open(ctx, link.Settings{"address": u.Address()}, clock)
	if err != nil {
		s.Fatal(err)
	}
	defer l.Close()
	session, err := visit.Open(ctx, over(l), plain("gangway", baud, "").Main(), link.Pace{Clock: clock}, visit.Hooks{})
	if err != nil {
		s.Fatal(err)
	}
	defer session.Close()
	j := diskJournal(s)
	data := random(size, 1)
	var began, ended time.Time
	n := 0
	next := func() (loader.Op, bool, error) {
		i := n
		n++
		at := uint64(i/2) * 16384
		if at >= uint64(size) {
			return loader.Op{}, false, nil
		}
		op := loader.Op{N: i, Erase: i%2 == 0, Address: at, Length: 16384}
		if !op.Erase {
			op.Data = data[at : at+16384]
		}
		_, err := j.Append(run.KindAboutTo, run.Act{N: i, Erase: op.Erase, Bytes: op.Length}, true)
		if !op.Erase && began.IsZero() {
			began = time.Now()
		}
		return op, true, err
	}
	if err := session.Change(ctx, next, func(op loader.Op) error {
		ended = time.Now()
		_, err := j.Append(run.KindDone, run.Act{N: op.N, Erase: op.Erase, Bytes: op.Length}, true)
		return err
	}); err != nil {
		s.Fatal(err)
	}
	write = float64(size) / ended.Sub(began).Seconds()
	back := make([]byte, size)
	began = time.Now()
	if err := session.Read(ctx, 0, back, nil); err != nil {
		s.Fatal(err)
	}
	read = float64(size) / time.Since(began).Seconds()
	if core.DigestOf(back) != core.DigestOf(data) {
		s.Fatal("what was read is not what was written")
	}
	return write, read
}

// diskJournal is an open journal on this machine's disk.
func diskJournal(s *stand) *run.Journal {
	f, err := bench.Folder(s.TempDir()).Open("j")
	if err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { f.Close() })
	j, err := run.OpenJournal(f)
	if err != nil {
		s.Fatal(err)
	}
	if _, err := j.Append(run.KindOpened, run.Opened{Run: "r"}, true); err != nil {
		s.Fatal(err)
	}
	return j
}

// journal is the cost of an event, flushed and not.
func journal(s *stand) {
	j := diskJournal(s)
	for _, x := range []struct {
		name  string
		flush bool
		n     int
	}{{"journal-event-flushed", true, 500}, {"journal-event-unflushed", false, 20000}} {
		began := time.Now()
		for i := range x.n {
			if _, err := j.Append(run.KindDone, run.Act{N: i, Bytes: 4096}, x.flush); err != nil {
				s.Fatal(err)
			}
		}
		report(x.name, float64(time.Since(began).Microseconds())/float64(x.n), "us", "")
	}
}

// changes is a flash of 3 % of the sectors, spread out, against one of all, from
// the backup acknowledged to the verify ended.
func changes(s *stand) {
	sheet, raw := at115200()
	few := timed(s, sheet, raw, func(program []byte) {
		for i := range len(program) / 4096 {
			if i%50 == 7 { // with the one that has the version four of 112
				program[i*4096+100] ^= 0xFF
			}
		}
	})
	all := timed(s, sheet, raw, func(program []byte) { copy(program, random(len(program), 77)) })
	fmt.Fprintf(os.Stderr, "3 %% of the sectors %.2f s, all %.2f s\n", few.Seconds(), all.Seconds())
	report("flash-3-percent-against-all", few.Seconds()/all.Seconds(), "ratio", "<= 0.05")
}

// at115200 is the sheet of the Quill 80 at the slower line.
func at115200() (*model.Sheet, []byte) {
	raw := []byte(replaceAll(string(world.Quill80), "921600", "115200"))
	sheet, err := model.ReadSheet(raw)
	if err != nil {
		panic(err)
	}
	return sheet, raw
}

func timed(s *stand, sheet *model.Sheet, raw []byte, change func(program []byte)) time.Duration {
	spec := board.Board(sheet, "Q80-0000-001")
	const programAt, programSize = 0x8000, 0x70000
	old := sim.Program("8.0.0", programSize, 5, 5)
	memory := board.Memory(sheet, spec.Serial, old)
	spec.Fresh = func() []byte { return memory }
	u, err := sim.Start(spec, "127.0.0.1:0", clock)
	if err != nil {
		s.Fatal(err)
	}
	defer u.Close()
	a := coretest.NewAlone(u)
	for at := 0; at < len(memory); at += 4096 { // the shelf has it all, so that the reading is short
		a.Put(memory[at : at+4096])
	}
	fresh := sim.Program("9.0.0", programSize, 5, 5) // it must tell its version, or the run is not proven
	change(fresh)
	sim.Seal(fresh, "9.0.0")
	o := run.Opened{Run: "r", Kind: run.Flash, Unit: "u", Model: sheet.Model, Serial: spec.Serial, Link: "b/l", Sheet: a.Put(raw), Version: "9.0.0", Deadline: time.Minute}
	o.Release = a.Release(sheet, "9.0.0", programAt, fresh, nil)
	f, err := bench.Folder(s.TempDir()).Open("j")
	if err != nil {
		s.Fatal(err)
	}
	defer f.Close()
	j := alone(s, a, o, f)
	var from, to int64
	for _, e := range j.Events() {
		switch e.Kind {
		case run.KindStored:
			from = e.Mono
		case run.KindVerified:
			to = e.Mono
		}
	}
	return time.Duration(to-from) * time.Microsecond
}

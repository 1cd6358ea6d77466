package main

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/loader"
	"zealousferry/core/model"
	"zealousferry/core/registry"
	"zealousferry/core/run"
	"zealousferry/core/visit"
	"zealousferry/internal/demo/world"
	"zealousferry/sim"
	"zealousferry/sim/board"
)

// lines is 16 links side by side at 115 200 baud against one: the payload read on
// each, against the line, and the processor time of the reading process. The units
// are in a process of their own.
func lines(s *stand) {
	const links, size = 16, 96 << 10
	self, err := os.Executable()
	if err != nil {
		s.Fatal(err)
	}
	c := exec.Command(self, "units", fmt.Sprint(links))
	c.Env = append(os.Environ(), "FERRY_MEASURED=1")
	in, _ := c.StdinPipe()
	out, err := c.StdoutPipe()
	if err != nil {
		s.Fatal(err)
	}
	if err := c.Start(); err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { in.Close(); c.Process.Kill(); c.Wait() })
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		s.Fatal(err)
	}
	addresses := strings.Fields(line)
	rate := func(address string) float64 {
		l, err := rfc2217.Kind{}.Open(context.Background(), link.Settings{"address": address}, clock)
		if err != nil {
			s.Fatal(err)
		}
		defer l.Close()
		session, err := visit.Open(context.Background(), l, plain("gangway", 115200, "").Main(), link.Pace{Clock: clock}, visit.Hooks{})
		if err != nil {
			s.Fatal(err)
		}
		defer session.Close()
		began := time.Now()
		if err := session.Read(context.Background(), 0, make([]byte, size), nil); err != nil {
			s.Fatal(err)
		}
		return size / time.Since(began).Seconds() / 11520
	}
	alone := rate(addresses[0])
	rates := make([]float64, links)
	before, began := spent(), time.Now()
	var all sync.WaitGroup
	for i := range links {
		all.Add(1)
		go func() { defer all.Done(); rates[i] = rate(addresses[i]) }()
	}
	all.Wait()
	report("one-link-115200", alone, "of-line", "")
	report("slowest-of-16-links-115200", slices.Min(rates), "of-line", ">= 0.98")
	report("16-links-processor", (spent()-before).Seconds()/time.Since(began).Seconds(), "cores", "<= 0.5")
}

// spent is the processor time of this process.
func spent() time.Duration {
	var u syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// units is the child of lines: it serves units until its input ends.
func units(n int) {
	for i := range n {
		u, err := sim.Start(sim.Spec{Name: fmt.Sprint(i), Says: "U", Serial: fmt.Sprintf("U-%d", i), Size: 1 << 20, Sector: 4096, Baud: 115200, WriteMax: 1024, ReadMax: 4096, Window: 16 << 10, DigestBPS: 1 << 20}, "127.0.0.1:0", clock)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		fmt.Print(u.Address(), " ")
	}
	fmt.Println()
	bufio.NewReader(os.Stdin).ReadString('\n')
}

// plain is a sheet of nothing but a loader behind a strap and a reset line.
func plain(kind string, baud int, parity string) *model.Sheet {
	sheet := coretest.SmallSheet()
	x := &sheet.Main().Loader
	*x = x.With("baud", baud).With("parity", cmp.Or(parity, "none"))
	x.Kind = kind
	return sheet
}

// protocols is the payload that is written by keel and by XMODEM-1K, against
// what each could carry at best at 0 ms round trip: its own bytes on the line and
// the unit's own time.
func protocols(s *stand) {
	const baud, page = 115200, 350 * time.Microsecond
	for _, x := range []struct {
		name, parity string
		piece, bytes int // payload of a block, and bytes on the line for it, both ways
		bits         int
		aim          string
	}{
		{"keel", "even", 1024, 1 + 1 + 2 + 4 + 1024 + 2 + 1 + 1 + 2 + 1 + 2, 11, ">= 0.97"},
		{"xmodem", "", 1024, 1029 + 1, 10, ">= 0.95"},
	} {
		spec := sim.Spec{Name: "u", Kind: x.name, Parity: x.parity, Says: "U", Size: 64 << 10, Sector: 1024, Program: 0x1000, Baud: baud, Window: 4096, WriteMax: 1024, Exact: true, Erase: time.Microsecond, Page: page, ChipID: 0x5EA00017}
		u, err := sim.Start(spec, "127.0.0.1:0", clock)
		if err != nil {
			s.Fatal(err)
		}
		l, err := rfc2217.Kind{}.Open(context.Background(), link.Settings{"address": u.Address()}, clock)
		if err != nil {
			s.Fatal(err)
		}
		session, err := visit.Open(context.Background(), l, plain(x.name, baud, x.parity).Main(), link.Pace{Clock: clock}, visit.Hooks{})
		if err != nil {
			s.Fatal(err)
		}
		data := random(20<<10, 3)
		var first, last time.Time
		told := func() {
			last = time.Now()
			if first.IsZero() {
				first = last
			}
		}
		blocks := float64(len(data) / x.piece)
		if f, ok := session.(loader.Filer); ok && session.Can(loader.File) == nil {
			err = f.SendFile(context.Background(), "u", data, func(int) { told() })
		} else {
			at := 0
			err = session.Change(context.Background(), func() (loader.Op, bool, error) {
				if at == len(data) {
					return loader.Op{}, false, nil
				}
				op := loader.Op{N: at, Address: 0x1000 + uint64(at), Length: uint64(x.piece), Data: data[at : at+x.piece]}
				at += x.piece
				return op, true, nil
			}, func(loader.Op) error { told(); return nil })
		}
		if err != nil {
			s.Fatal(err)
		}
		if core.DigestOf(u.Memory()[0x1000:][:len(data)]) != core.DigestOf(data) {
			s.Fatal("the memory is not what was written")
		}
		best := time.Duration(x.bytes*x.bits)*time.Second/baud + page*time.Duration(x.piece)/256
		report("write-"+x.name+"-115200-0ms", (blocks-1)*best.Seconds()/last.Sub(first).Seconds(), "of-protocol", x.aim)
		session.Close()
		l.Close()
		u.Close()
	}
}

// again is the second backup of an unchanged unit against the first.
func again(s *stand) {
	sheet, raw := at115200()
	spec := board.Board(sheet, "Q80-0000-002")
	memory := board.Memory(sheet, spec.Serial, random(0x70000, 6))
	spec.Fresh = func() []byte { return memory }
	u, err := sim.Start(spec, "127.0.0.1:0", clock)
	if err != nil {
		s.Fatal(err)
	}
	defer u.Close()
	a := coretest.NewAlone(u)
	o := run.Opened{Run: "r", Kind: run.BackUp, Unit: "u", Model: sheet.Model, Serial: spec.Serial, Link: "b/l", Sheet: a.Put(raw), Deadline: time.Minute}
	took := func() time.Duration {
		j := alone(s, a, o, &coretest.Disk{})
		return time.Duration(j.State().Main().BackedUp.Took) * time.Microsecond
	}
	first := took()
	report("second-backup-against-first", took().Seconds()/first.Seconds(), "ratio", "<= 0.01")
}

// alone works a run to its end without a service; its journal is in f.
func alone(s *stand, a *coretest.Alone, o run.Opened, f run.File) *run.Journal {
	j, err := run.OpenJournal(f)
	if err != nil {
		s.Fatal(err)
	}
	r, err := run.New(j, o, a, link.Pace{Clock: clock})
	if err != nil {
		s.Fatal(err)
	}
	if err := r.Work(context.Background()); err != nil {
		s.Fatal(err)
	}
	if c := j.State().Closed; c == nil || c.Outcome != run.Done {
		if c == nil {
			s.Fatal("the run did not close: ", j.State().Fault)
		}
		s.Fatal("the run did not end well: ", c.Outcome, c.Reason, j.State().Fault)
	}
	return j
}

// estimates is how long a run says, when its write begins, that the unit must not
// be touched, against how long that was: over the fleet of the demo, at true pace.
func estimates(s *stand) {
	var mu sync.Mutex
	var off []float64
	var all sync.WaitGroup
	room := make(chan bool, 2) // as many as there are processors: who waits for one says nothing of the line
	for _, unit := range world.Units {
		sheet := unit.Sheet()
		if k, err := registry.Loader(sheet.Main().Loader.Kind); err != nil || k.Limits(sheet.Main().Loader.Own).Identity != run.ThisUnit || sheet.Main().Loader.Await > 0 || unit.Section != "" || unit.Strange || unit.Locked || len(sheet.Procedures) > 0 { // nobody is there to answer
			continue
		}
		newest := ""
		for _, r := range world.Releases() {
			if r.Model == unit.Model && r.Version != unit.Runs {
				newest = r.Version
			}
		}
		all.Add(1)
		room <- true
		go func() {
			defer func() { <-room; all.Done() }()
			r := world.Find(unit.Model, newest)
			u, err := sim.Start(unit.Spec(), "127.0.0.1:0", clock)
			if err != nil {
				s.Fatal(err)
			}
			defer u.Close()
			a := coretest.NewAlone(u)
			o := run.Opened{Run: "r", Kind: run.Flash, Unit: "u", Model: unit.Model, Serial: unit.Serial, Link: "b/l", Sheet: a.Put(world.Sheets[unit.Model]), Version: newest, Deadline: time.Minute, Again: true}
			o.Release = a.Release(sheet, newest, r.Parts[len(r.Parts)-1].Address, r.Bytes(), nil)
			j := alone(s, a, o, &coretest.Disk{})
			var state run.State
			var said, from, to int64
			for _, e := range j.Events() {
				if err := state.Apply(e); err != nil {
					s.Fatal(err)
				}
				switch e.Kind {
				case run.KindSame:
					from, said = e.Mono, state.View().Touch
				case run.KindVerified:
					to = e.Mono
				}
			}
			mu.Lock()
			off = append(off, float64(said)/float64(to-from)-1)
			mu.Unlock()
		}()
	}
	all.Wait()
	slices.Sort(off)
	for i := range off {
		fmt.Fprintf(os.Stderr, "%+.0f %% ", off[i]*100)
	}
	fmt.Fprintln(os.Stderr)
	median := off[len(off)/2]
	report("estimate-off-median", max(median, -median), "of-duration", "<= 0.05")
}

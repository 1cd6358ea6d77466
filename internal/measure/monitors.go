package main

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"time"

	"zealousferry/core/coretest"
	"zealousferry/core/image"
	"zealousferry/core/image/ihex"
	"zealousferry/core/image/srec"
	"zealousferry/core/link"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/loader"
	"zealousferry/core/registry"
	"zealousferry/core/visit"
	"zealousferry/sim"
)

// monitors is what is written through a boot monitor at 115 200 baud, counted in the
// characters of its records, against what the line carries, what its buffer lets go ahead
// over a network, and what the unit itself takes.
func monitors(s *stand) {
	const baud, size = 115200, 16 << 10
	data := random(size, 5)
	for _, x := range []struct {
		name, habit string
		buffer      int
		delay       time.Duration // of the round trip
		page        time.Duration // of 256 bytes in the unit
		aim         string
	}{
		{"srecord-answered-0ms", sim.HabitLines, 256, 0, 350 * time.Microsecond, ">= 0.95"},
		{"srecord-answered-20ms", sim.HabitLines, 256, 20 * time.Millisecond, 350 * time.Microsecond, ">= 0.85"},
		{"hex-xon-xoff", sim.HabitSilent, 256, 0, 350 * time.Microsecond, ">= 0.90"},
		{"hex-xon-xoff-slow-unit", sim.HabitSilent, 256, 0, 24 * time.Millisecond, ">= 0.90"},
	} {
		raw := coretest.SmallSheetOf("monitor-" + x.habit)
		raw = []byte(strings.Replace(string(raw), "most: 2048, steps: [{ say: w }", "most: 32768, steps: [{ say: w }", 1))
		sheet, err := registry.Sheet(raw)
		if err != nil {
			s.Fatal(err)
		}
		spec := sim.Spec{Name: "u", Kind: "monitor", Habit: x.habit, Password: coretest.Password, Says: "SMALL", Serial: "S-0001", Revision: "D", Loader: "1", Size: 64 << 10, Sector: 1024, Program: 0x1000, Baud: baud,
			Window: x.buffer, WriteMax: 256, Exact: true, Erase: time.Microsecond, Page: x.page, Delay: x.delay}
		u, err := sim.Start(spec, "127.0.0.1:0", clock)
		if err != nil {
			s.Fatal(err)
		}
		l, err := rfc2217.Kind{}.Open(context.Background(), link.Settings{"address": u.Address()}, clock)
		if err != nil {
			s.Fatal(err)
		}
		session, err := visit.Open(context.Background(), l, sheet.Main(), link.Pace{Clock: clock}, visit.Hooks{Secret: coretest.Secret})
		if err != nil {
			s.Fatal(err)
		}
		if err := session.Read(context.Background(), 0x1000, make([]byte, 16), nil); err != nil { // what it asks for before memory is touched is over
			s.Fatal(err)
		}
		characters := carried(s, x.habit, data)
		before := u.Received()
		began := time.Now()
		n := 0
		err = session.Change(context.Background(), func() (loader.Op, bool, error) {
			n++
			return loader.Op{Address: 0x1000, Length: size, Data: data}, n == 1, nil
		}, func(loader.Op) error { return nil })
		took := time.Since(began)
		if err != nil {
			s.Fatal(x.name, ": ", err)
		}
		if !bytes.Equal(u.Memory()[0x1000:][:size], data) {
			s.Fatal("the memory is not what was written")
		}
		best := time.Duration(characters*10) * time.Second / baud
		if x.delay > 0 { // no more whole lines may be under way than the buffer holds
			const most = 46 // characters of a line with 16 bytes and its end
			lines, ahead := characters/most, x.buffer/most
			best = max(best, time.Duration(lines)*(x.delay+most*10*time.Second/baud)/time.Duration(ahead))
		}
		best = max(best, x.page*time.Duration(size)/256)
		report("write-monitor-"+x.name, best.Seconds()/took.Seconds(), "of-possible", x.aim)
		if sent := u.Received() - before; float64(sent) > 1.02*float64(characters) {
			report("monitor-"+x.name+"-sent-again", float64(sent)/float64(characters)-1, "of-characters", "<= 0.02")
		}
		session.Close()
		l.Close()
		u.Close()
	}
}

// carried is how many characters, each line with one end, the records of data are.
func carried(s *stand, habit string, data []byte) int {
	var b image.Builder
	b.Add(0x1000, data, 0)
	im, err := b.Image()
	if err != nil {
		s.Fatal(err)
	}
	var out bytes.Buffer
	if habit == sim.HabitSilent {
		err = ihex.Format{}.Encode(&out, im, image.Options{})
	} else {
		err = srec.Format{}.Encode(&out, im, image.Options{})
	}
	if err != nil {
		s.Fatal(fmt.Sprint(err))
	}
	return out.Len() - bytes.Count(out.Bytes(), []byte("\r"))
}

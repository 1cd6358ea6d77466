package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"time"

	"zealousferry/core"
	"zealousferry/core/coretest"
	"zealousferry/core/link"
	"zealousferry/core/link/canline"
	"zealousferry/core/link/doip"
	"zealousferry/core/link/isotp"
	"zealousferry/core/link/rfc2217"
	"zealousferry/core/link/uds"
	"zealousferry/core/model"
	"zealousferry/core/visit"
	"zealousferry/sim"
)

// modules is vehicle modules: a download behind a gateway, messages over a bus, and the
// scan of a whole vehicle.
func modules(s *stand) {
	behindAGateway(s)
	overABus(s)
	wholeVehicle(s)
}

func module(s *stand, change func(*sim.Spec)) *sim.Unit {
	u, _, err := coretest.SmallUnitOf("module", func(x *sim.Spec) {
		x.Password, x.Erase, x.Page, x.Scale = "", 0, 0, 1
		if change != nil {
			change(x)
		}
	})
	if err != nil {
		s.Fatal(err)
	}
	s.Cleanup(u.Close)
	return u
}

// programmed opens a module for writing.
func programmed(s *stand, c link.Conversation) *uds.Client {
	u := uds.New(c, link.Pace{Clock: clock}, 0)
	s.Cleanup(func() { u.Close() })
	if err := u.Session(context.Background(), uds.ProgrammingSession); err != nil {
		s.Fatal(err)
	}
	return u
}

// behindAGateway is a download in blocks of 4093 bytes, the unit's times being zero,
// against a bare connection on which the same blocks go and two short answers come.
func behindAGateway(s *stand) {
	const block, blocks, size = 4093, 256, 4093 * 256
	big := module(s, func(x *sim.Spec) {
		x.Size, x.WriteMax, x.Program, x.Closed = 2<<20, block, 0x1000, nil
		x.Fresh = func() []byte { return make([]byte, 2<<20) }
	})
	g, err := sim.StartGateway(sim.GatewaySpec{VIN: "ZFBENCH0000000001", Logical: 0x1001, Longest: 8 << 10, Modules: map[uint16]*sim.Unit{0x42: big}}, "127.0.0.1:0", clock)
	if err != nil {
		s.Fatal(err)
	}
	s.Cleanup(g.Close)
	l, err := doip.Kind{}.Open(context.Background(), link.Settings{"address": g.Address()}, clock)
	if err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { l.Close() })
	c, err := l.(link.Messages).Talk(context.Background(), 0x42)
	if err != nil {
		s.Fatal(err)
	}
	u := programmed(s, c)
	data := make([]byte, size)
	var theirs, ours []float64
	for range 5 {
		began := time.Now()
		if err := u.Download(context.Background(), uds.Format{Address: 4, Length: 4}, 0x2000, data, nil); err != nil {
			s.Fatal(err)
		}
		ours = append(ours, time.Since(began).Seconds())
		theirs = append(theirs, bare(s, block+14, blocks))
	}
	report("doip-download", slices.Min(theirs)/slices.Min(ours), "of-bare-tcp", ">= 0.8")
}

// bare is the time of blocks on a connection, each answered by two short messages.
func bare(s *stand, block, blocks int) float64 {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		s.Fatal(err)
	}
	defer l.Close()
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		buf := make([]byte, block)
		for {
			if _, err := io.ReadFull(c, buf); err != nil {
				return
			}
			c.Write(buf[:13])
			c.Write(buf[:14])
		}
	}()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		s.Fatal(err)
	}
	defer c.Close()
	buf := make([]byte, block)
	began := time.Now()
	for range blocks {
		c.Write(buf)
		if _, err := io.ReadFull(c, buf[:13]); err != nil {
			s.Fatal(err)
		}
		if _, err := io.ReadFull(c, buf[:14]); err != nil {
			s.Fatal(err)
		}
	}
	return time.Since(began).Seconds()
}

// overABus is messages of 4000 bytes to a module at 500 kbit/s, block size and STmin 0,
// against the bits of their frames with stuffing (130 a frame).
func overABus(s *stand) {
	const size, times, bits, rate = 4000, 5, 130, 500_000
	u := module(s, nil)
	l, err := canline.Kind{Net: rfc2217.Kind{}}.Open(context.Background(), link.Settings{"address": u.Address(), "rate": fmt.Sprint(rate)}, clock)
	if err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { l.Close() })
	c := programmed(s, isotp.Talk(l.(link.Frames), isotp.Address{Request: sim.CanRequest, Response: sim.CanResponse}, isotp.Config{}, clock))
	began := time.Now()
	for range times {
		if err := c.PutData(context.Background(), 0xF15A, make([]byte, size)); err != nil {
			s.Fatal(err)
		}
	}
	took := time.Since(began).Seconds()
	const message = size + 3
	frames := 1 + (message-6+6)/7 + 2 // its own, a flow control, and the answer
	report("isotp-500k", float64(frames*times*bits)/rate/took, "of-bus", ">= 0.9")
}

// wholeVehicle is the scan of 40 modules, each of which takes 20 ms for an answer and one
// 40 ms, against that one alone.
func wholeVehicle(s *stand) {
	const many = 40
	sheet, err := coretest.SmallSheetNamed("module")
	if err != nil {
		s.Fatal(err)
	}
	of := *sheet
	sheets, units := map[string]*model.Sheet{}, map[uint16]*sim.Unit{}
	for n := range many {
		one := *sheet
		one.Model, one.Sections = fmt.Sprintf("m%d", n), slices.Clone(sheet.Sections)
		logical := uint16(0x100 + n)
		one.Sections[0].Loader = one.Sections[0].Loader.With("at", map[string]any{"logical": int(logical)})
		sheets[one.Model] = &one
		of.Holds = append(of.Holds, model.Slot{Name: one.Model, Models: []string{one.Model}})
		units[logical] = module(s, func(x *sim.Spec) {
			x.Answers = 20 * time.Millisecond
			if n == 7 {
				x.Answers = 40 * time.Millisecond
			}
		})
	}
	units[0x42] = units[0x100]
	g, err := sim.StartGateway(sim.GatewaySpec{VIN: "ZFBENCH0000000002", Logical: 0x1001, Modules: units}, "127.0.0.1:0", clock)
	if err != nil {
		s.Fatal(err)
	}
	s.Cleanup(g.Close)
	scan := func(of *model.Sheet) float64 {
		l, err := doip.Kind{}.Open(context.Background(), link.Settings{"address": g.Address()}, clock)
		if err != nil {
			s.Fatal(err)
		}
		defer l.Close()
		began := time.Now()
		for _, m := range visit.Scan(context.Background(), l, of, sheets, false, nil, link.Pace{Clock: core.System{}}) {
			if m.Model == "" {
				s.Fatal(m.Error)
			}
		}
		return time.Since(began).Seconds()
	}
	slowest := *sheet
	slowest.Sections = slices.Clone(sheets["m7"].Sections)
	alone, all := scan(&slowest), scan(&of)
	report("scan-40-modules", all/alone, "of-slowest-module", "<= 2")
}

package cli

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"zealousferry/core/link/ports"
	"zealousferry/internal/client"
)

// watchPorts shows what comes and goes on a bench until Ctrl-C.
func (a *app) watchPorts(ctx context.Context, c *client.Client, bench string) error {
	before, err := c.Ports(ctx, bench)
	if err != nil {
		return err
	}
	a.ports(before.Ports)
	tell(a.err, "\nPull the adapter out and put it in again; Ctrl-C ends.\n")
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(700 * time.Millisecond):
		}
		now, err := c.Ports(ctx, bench)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		d := ports.Compare(before.Ports, now.Ports)
		for _, p := range d.Gone {
			tell(a.out, "%s  gone     %s\n", time.Now().Format("15:04:05"), portWords(p))
		}
		for _, p := range d.Came {
			fmt.Fprintf(a.out, "%s  %s     %s\n", time.Now().Format("15:04:05"), a.paint(teal+bold, "came"), portWords(p))
		}
		for _, p := range d.Renamed {
			tell(a.out, "%s  renamed  %s\n", time.Now().Format("15:04:05"), portWords(p))
		}
		before = now
	}
}

func portWords(p ports.Port) string {
	s := p.Path
	if p.Serial != "" {
		s += told("  %s, adapter %s", p.Name, p.Serial)
	}
	return s
}

func (a *app) ports(all []ports.Port) {
	if len(all) == 0 {
		tell(a.out, "No serial port is there.\n")
		return
	}
	var rows [][]string
	for _, p := range all {
		note := p.Aside
		if p.Held != "" {
			note = told("held by %s", p.Held)
		}
		latency := ""
		if p.Latency > 1 {
			latency = told("%d ms; 1 ms is better", p.Latency)
		}
		rows = append(rows, []string{a.paint(bold, p.Path), dash(p.Serial), dash(p.Name), latency, note})
	}
	a.table([]string{"port", "adapter", "calls itself", "latency", "note"}, rows)
}

// vehicles shows which announced themselves, and how one becomes a link.
func (a *app) vehicles(p client.Ports) {
	if !p.Asked {
		tell(a.out, "Bench %s could not ask for vehicles on its networks: they are reached by their address.\n", p.Bench)
		return
	}
	if len(p.Vehicles) == 0 {
		tell(a.out, "No vehicle has announced itself on the bench's networks.\n")
		return
	}
	var rows [][]string
	free := ""
	for _, v := range p.Vehicles {
		if v.Link == "" && free == "" {
			free = v.Address
		}
		rows = append(rows, []string{a.paint(bold, cmp.Or(v.VIN, "no number set")), v.Address, fmt.Sprintf("0x%04X", v.Logical), dash(v.Link)})
	}
	fmt.Fprintln(a.out)
	a.table([]string{"vehicle", "gateway", "logical", "link"}, rows)
	if free != "" {
		tell(a.out, "Make it a link: %s\n", a.paint(bold, fmt.Sprintf("ferry link set %s/NAME --gateway %s", p.Bench, free)))
	}
}

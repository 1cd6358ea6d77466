//go:build !field

package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zealousferry/core"
	"zealousferry/internal/demo"
	"zealousferry/internal/demo/world"
	"zealousferry/sim"
)

// switchboard is where ferry sim tells its units and its own address.
type switchboard struct {
	Control  string            `json:"control"`
	Units    []sim.Standing    `json:"units"`
	Gateways map[string]string `json:"gateways"` // of vehicles, by link
}

// demoVerbs are those of the demo and of simulated units. What is installed where units are worked
// on is built without them (build tag field).
func (a *app) demoVerbs() []*cobra.Command { return []*cobra.Command{a.simVerb(), a.demoVerb()} }

func (a *app) simVerb() *cobra.Command {
	dir, scale := "", 1.0
	v := &cobra.Command{Use: "sim", Short: "Simulated units on loopback", Args: cobra.NoArgs, Example: "  ferry sim --dir units\n  ferry sim set quay-1 silent=true",
		RunE: func(*cobra.Command, []string) error {
			if dir == "" {
				return core.Fail(core.NotUnderstood, "simulated units keep their memories in a folder, and none is named").Do("Say where: ferry sim --dir FOLDER.")
			}
			return untilStopped(func(ctx context.Context) error { return a.simulate(ctx, dir, scale) })
		}}
	v.PersistentFlags().StringVar(&dir, "dir", dir, "folder of their memories (for set: FERRY_SIM by itself)")
	v.Flags().Float64Var(&scale, "scale", scale, "factor on all their times")
	set := &cobra.Command{Use: "set UNIT [FAULT=VALUE...]", Short: "Put faults on a unit that runs, or take them off", Args: cobra.MinimumNArgs(1),
		Long:    "Faults: silent, noise, loss (shares of bytes), stuck (address), cutPower, cutLead (after so many\nbytes), serial, revision; of a module: refuseAt, resetAt (after so many\nmore blocks); of a CAN adapter: stranger (true); of a helper tool:\nloose (true); of the wires:\ncrossed, openToUnit, openToBench, openGround, bridged, inverted, lowLevel, deadAdapter, noStrap,\nnoReset, heldReset, sag, longLead (true), weak (bytes), slow (baud), latency, delay (ms), baud, parity. Without faults all are\ntaken off. Also: power=on|off|cycle, swap=SERIAL, bridge=adapter|plug|off|none; of a vehicle:\nkey=on|off, supply=VOLTS, hangUp=N (its gateway ends the connection after so many more messages).",
		Example: "  ferry sim set quay-1 noise=0.001\n  ferry sim set quay-1 cutPower=200000\n  ferry sim set quay-1 power=on\n  ferry sim set tug-9 key=off\n  ferry sim set quay-1",
		RunE: func(_ *cobra.Command, args []string) error {
			if dir == "" {
				dir = os.Getenv("FERRY_SIM")
			}
			standing, err := setFaults(dir, args[0], args[1:])
			if err != nil {
				return err
			}
			return a.show(standing, func() {
				fmt.Fprintf(a.out, "%s: %s\n", strings.TrimSpace(a.paint(bold, standing.Name)+" "+standing.Serial), faultWords(standing.Faults))
			})
		}}
	v.AddCommand(set)
	return v
}

// simulate starts the demo's units and their switchboard.
func (a *app) simulate(ctx context.Context, dir string, scale float64) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	fleet := sim.Fleet{}
	for _, u := range world.Present() {
		s := u.Spec()
		s.Scale, s.Path = scale, filepath.Join(dir, u.Link+".memory")
		start := func() (*sim.Unit, error) { return sim.Start(s, "127.0.0.1:0", a.clock) }
		if box := fleet[u.Through]; box != nil {
			start = func() (*sim.Unit, error) { return sim.Relay(box, s, a.clock) }
		}
		unit, err := start()
		if err != nil && s.Web != "" { // another demo has its address
			tell(a.err, "Unit %s has no page of its own: %v\n", u.Serial, err)
			s.Web = ""
			unit, err = start()
		}
		if err != nil {
			return err
		}
		defer unit.Close()
		f := sim.Faults{Silent: u.Silent}
		if u.Stuck != 0 {
			f.Stuck = &u.Stuck
		}
		unit.Set(f)
		fleet[u.Link] = unit
		if u.Clip != "" {
			s := u.ClipSpec()
			s.Scale = scale
			tool, err := sim.Clip(unit, s, "127.0.0.1:0", a.clock)
			if err != nil {
				return err
			}
			defer tool.Close()
			fleet[u.Clip] = tool
		}
	}
	gateways := map[string]string{}
	for _, u := range world.Units {
		if !u.Gateway() {
			continue
		}
		modules := map[uint16]*sim.Unit{u.Logical(): fleet[u.Link]}
		in := []*sim.Unit{fleet[u.Link]}
		for _, m := range world.Units {
			if m.Behind == u.Link {
				modules[m.Logical()] = fleet[m.Link]
				in = append(in, fleet[m.Link])
			}
		}
		vehicle := sim.NewVehicle(in...)
		if u.Bus != "" {
			s := sim.CanAdapter(u.Bus)
			s.Scale = scale
			adapter, err := sim.Start(s, "127.0.0.1:0", a.clock)
			if err != nil {
				return err
			}
			defer adapter.Close()
			vehicle.Bus(adapter)
			fleet[u.Bus] = adapter
		}
		spec := sim.GatewaySpec{VIN: u.Serial, Logical: u.Logical(), Modules: modules, Hears: "127.255.255.255:13400"}
		g, err := sim.StartGateway(spec, "127.0.0.1:0", a.clock)
		if err != nil { // another program has the port at which everybody is asked
			tell(a.err, "Vehicle %s is not found by itself, only at its address: %v\n", u.Serial, err)
			spec.Hears = ""
			g, err = sim.StartGateway(spec, "127.0.0.1:0", a.clock)
		}
		if err != nil {
			return err
		}
		defer g.Close()
		vehicle.Behind(g)
		gateways[u.Link] = g.Address()
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	server := &http.Server{Handler: fleet, ReadHeaderTimeout: 5 * time.Second}
	go server.Serve(l)
	defer server.Close()
	raw, err := json.Marshal(switchboard{l.Addr().String(), fleet.Standings(), gateways})
	if err != nil {
		return err
	}
	path := filepath.Join(dir, "units.json")
	if err := os.WriteFile(path+".new", raw, 0o644); err != nil {
		return err
	}
	defer os.Remove(path)
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	a.log().Info("simulated units at work", "units", len(fleet))
	<-ctx.Done()
	return nil
}

// faultWords are the faults that a unit has, as they are typed.
func faultWords(f sim.Faults) string {
	raw, err := json.Marshal(f)
	var by map[string]any
	if err != nil || json.Unmarshal(raw, &by) != nil || len(by) == 0 {
		return "without faults"
	}
	var all []string
	for _, name := range slices.Sorted(maps.Keys(by)) {
		all = append(all, fmt.Sprintf("%s=%v", name, by[name]))
	}
	return strings.Join(all, " ")
}

func setFaults(dir, unit string, words []string) (standing sim.Standing, err error) {
	raw, err := os.ReadFile(filepath.Join(dir, "units.json"))
	var board switchboard
	if err != nil || json.Unmarshal(raw, &board) != nil {
		return standing, core.Fail(core.NotFound, "no simulated units run in %q", dir).Do("Say in which folder they run: --dir FOLDER, or FERRY_SIM; the demo's file env sets it.")
	}
	change := map[string]any{}
	faults := map[string]any{}
	for _, w := range words {
		name, value, _ := strings.Cut(w, "=")
		switch name {
		case "power":
			change["power"] = value == "on"
			if value == "cycle" {
				delete(change, "power")
				change["cycle"] = true
			}
		case "bridge":
			change["bridge"] = value
		case "key":
			change["key"] = value == "on"
		case "supply":
			var volts float64
			if json.Unmarshal([]byte(value), &volts) != nil || volts < 0 || volts > 100 {
				return standing, core.Fail(core.NotUnderstood, "%q: a supply is a number of volts, such as 25.6", w)
			}
			change["supply"] = uint16(volts*10 + 0.5)
		case "hangUp":
			var n int
			if json.Unmarshal([]byte(value), &n) != nil || n < 1 {
				return standing, core.Fail(core.NotUnderstood, "%q: expected a number of messages, such as 40", w)
			}
			change["hangUp"] = n
		case "parity":
			faults[name] = value
		case "swap":
			change["serial"] = value
		case "serial", "revision":
			faults[name] = value
		default:
			var v any
			if json.Unmarshal([]byte(value), &v) != nil {
				return standing, core.Fail(core.NotUnderstood, "%q: the value is a number, true or false", w)
			}
			faults[name] = v
		}
	}
	if len(change) == 0 || len(faults) > 0 {
		change["faults"] = faults
	}
	body, err := json.Marshal(change)
	if err != nil {
		return standing, err
	}
	resp, err := http.Post("http://"+board.Control+"/"+unit, "application/json", strings.NewReader(string(body)))
	if err != nil {
		return standing, err
	}
	defer resp.Body.Close()
	switch resp.StatusCode {
	case http.StatusOK:
	case http.StatusNotFound:
		var names []string
		for _, s := range board.Units {
			names = append(names, s.Name)
		}
		return standing, core.Fail(core.NotFound, "there is no simulated unit %q; there are %s", unit, strings.Join(names, ", "))
	default:
		return standing, core.Fail(core.NotUnderstood, "the simulated unit does not know one of these faults, or not with such a value: %s", strings.Join(words, " ")).Do("`ferry sim set --help` lists them.")
	}
	var all []sim.Standing
	err = json.NewDecoder(resp.Body).Decode(&all)
	for _, s := range all {
		if s.Name == unit {
			standing = s
		}
	}
	return standing, err
}

func (a *app) demoVerb() *cobra.Command {
	o := demo.Options{Dir: "var/demo", Listen: "127.0.0.1:8470", Scale: 1, Out: a.out, Err: a.err}
	v := &cobra.Command{Use: "demo", Short: "The demo's world: database, service, bench, simulated units", Args: cobra.NoArgs, Example: "  make demo",
		RunE: func(*cobra.Command, []string) error {
			return untilStopped(func(ctx context.Context) error { return demo.Run(ctx, o) })
		}}
	v.Flags().StringVar(&o.Dir, "dir", o.Dir, "its folder")
	v.Flags().StringVar(&o.Listen, "listen", o.Listen, "address of the service")
	v.Flags().Float64Var(&o.Scale, "scale", o.Scale, "factor on all times")
	return v
}

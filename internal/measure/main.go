// Command measure prints figures of the whole system at true pace, as ratios in
// one run: NAME VALUE UNIT AIM met|missed, and writes them to a file.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
)

// figure is one line.
type figure struct {
	Name  string  `json:"name"`
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
	Aim   string  `json:"aim"`
	Met   bool    `json:"met"`
}

var figures []figure

// report adds a figure; aim is ">= x", "<= x" or "" for one that has none.
func report(name string, value float64, unit, aim string) {
	f := figure{name, value, unit, aim, true}
	var sign string
	var bound float64
	if n, _ := fmt.Sscanf(aim, "%s %f", &sign, &bound); n == 2 {
		f.Met = sign == ">=" && value >= bound || sign == "<=" && value <= bound
	}
	if aim == "" {
		f.Aim = "none"
	}
	figures = append(figures, f)
	word := "met"
	if !f.Met {
		word = "missed"
	}
	fmt.Printf("%s %.4g %s %s %s\n", f.Name, f.Value, f.Unit, strings.ReplaceAll(f.Aim, " ", ""), word)
}

// stand is what a measured world stands on: it cleans up, and ends the process where
// a test would end.
type stand struct{ cleanups []func() }

func (s *stand) Helper()          {}
func (s *stand) Cleanup(f func()) { s.cleanups = append(s.cleanups, f) }
func (s *stand) Fatal(args ...any) {
	s.end()
	fmt.Fprintln(os.Stderr, args...)
	os.Exit(1)
}
func (s *stand) Fatalf(format string, args ...any) { s.Fatal(fmt.Sprintf(format, args...)) }
func (s *stand) TempDir() string {
	dir, err := os.MkdirTemp("", "ferry-measure-")
	if err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func (s *stand) end() {
	for i := len(s.cleanups) - 1; i >= 0; i-- {
		s.cleanups[i]()
	}
	s.cleanups = nil
}

func main() {
	if len(os.Args) == 3 && os.Args[1] == "units" && os.Getenv("FERRY_MEASURED") != "" {
		n, _ := strconv.Atoi(os.Args[2])
		units(n)
		return
	}
	if os.Getenv("FERRY_MEASURED") != "" {
		measured(os.Args[1:])
		return
	}
	out := flag.String("out", "", "file for the figures, JSON")
	only := flag.String("only", "", "only the parts whose name holds this")
	sizes := flag.String("fleet", "10000,100000,1000000", "how many units, sizes with commas")
	backups := flag.Int("backups", 1000, "how many alike backups")
	flag.Parse()
	os.Setenv("FERRY_TEST_LOG", "1") // what goes wrong inside the service is to be seen
	type part struct {
		name string
		f    func(*stand)
	}
	parts := []part{{"journal", journal}, {"events", events}, {"disk", disk}, {"throughput", throughput}, {"changes", changes}, {"lines", lines}, {"at-a-bench", atABench}, {"protocols", protocols}, {"modules", modules}, {"monitors", monitors}, {"again", again}, {"three-parts", threeParts}, {"hand-over", handOver}, {"watchers", watchers}, {"estimates", estimates}, {"convert", convert}, {"recognise", recognised}, {"search", search}, {"audit", audited}, {"identify-of-many", identified}, {"traces", traces}, {"rehearsals", rehearsals}, {"rehearsal-of-a-run", against}, {"cluster", clustered}}
	parts = append(parts, part{"fleet", func(s *stand) { fleetPages(s, numbers(s, *sizes)...) }})
	parts = append(parts, part{"dumps", func(s *stand) { dumps(s, slices.Max(numbers(s, *sizes))) }})
	for _, f := range fleets() {
		parts = append(parts, part{"backups-" + f.name, func(s *stand) { alike(s, *backups, f) }})
	}
	for _, part := range parts {
		if strings.Contains(part.name, *only) {
			s := &stand{}
			worked, stolen := processors()
			part.f(s)
			s.end()
			if w, st := processors(); w+st > worked+stolen {
				report("stolen-meanwhile-"+part.name, float64(st-stolen)/float64(w+st-worked-stolen), "of the processors' time that was wanted", "")
			}
		}
	}
	if *out != "" {
		raw, err := json.MarshalIndent(figures, "", "  ")
		if err == nil {
			err = os.WriteFile(*out, append(raw, '\n'), 0o644)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

// processors are how long this machine's processors have worked, and for how long they would have if
// whatever else its host does had not taken their time (proc_stat(5)): figures of a part while much
// was stolen say little. None of either where the system does not tell.
func processors() (worked, stolen uint64) {
	raw, err := os.ReadFile("/proc/stat")
	if err != nil {
		return 0, 0
	}
	line, _, _ := strings.Cut(string(raw), "\n")
	for i, x := range strings.Fields(line)[1:] {
		n, err := strconv.ParseUint(x, 10, 64)
		switch {
		case err != nil:
			return 0, 0
		case i == 7:
			stolen = n
		case i < 7 && i != 3 && i != 4: // neither idle nor waiting for a disk
			worked += n
		}
	}
	return worked, stolen
}

func numbers(s *stand, text string) (all []int) {
	for _, x := range strings.Split(text, ",") {
		n, err := strconv.Atoi(x)
		if err != nil {
			s.Fatal(err)
		}
		all = append(all, n)
	}
	return all
}

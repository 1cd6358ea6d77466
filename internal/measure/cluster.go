package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"zealousferry/internal/client"
	"zealousferry/internal/demo"
	"zealousferry/internal/testkit"
	"zealousferry/internal/testkit/database"
)

// clustered is what a service reads and writes in a second over a cluster of three nodes, by one of
// them, against a single server that is set like them. All of it is on this machine, so a
// write of the cluster has the cores of one machine for three.
func clustered(s *stand) {
	scripts := "var/galera/usr/bin"
	if lacks := database.Clustered(scripts); lacks != "" {
		fmt.Printf("# no cluster is here: %s is missing; scripts/need trials installs it\n", lacks)
		return
	}
	const units, hands, rounds, lasts = 400, 8, 3, 4 * time.Second
	ctx := context.Background()
	c := database.NewCluster(s, 3, scripts)
	worlds := map[string]*testkit.World{"one": testkit.NewWorldOn(s, database.NewAs(s, demo.ForTests)).Unbounded(), "three": testkit.NewWorldOn(s, c.Nodes[0]).Unbounded()}
	for _, w := range worlds {
		var csv strings.Builder
		csv.WriteString("model,serial,site\n")
		for i := range units {
			fmt.Fprintf(&csv, "small,C-%05d,\"Gannet Quay, hall %d\"\n", i, i%9)
		}
		if _, err := w.Lead.EnterUnits(ctx, []byte(csv.String())); err != nil {
			s.Fatal(err)
		}
	}
	reads := []string{"/api/units", "/api/today", "/api/units?q=hall", "/api/units/C-%05d", "/api/units/C-%05d/history"}
	rate := func(do func(hand, i int) error) float64 {
		var done atomic.Int64
		var all sync.WaitGroup
		began := time.Now()
		for hand := range hands {
			all.Go(func() {
				for i := 0; time.Since(began) < lasts; i++ {
					if err := do(hand, i); err != nil {
						s.Fatal(err)
					}
					done.Add(1)
				}
			})
		}
		all.Wait()
		return float64(done.Load()) / time.Since(began).Seconds()
	}
	best := map[string]float64{}
	for range rounds {
		for _, name := range []string{"one", "three"} {
			w := worlds[name]
			a := asker{s, w.Base, w.Tokens["lead"]}
			best["read "+name] = max(best["read "+name], rate(func(hand, i int) error {
				path := reads[i%len(reads)]
				if strings.Contains(path, "%") {
					path = fmt.Sprintf(path, rand.IntN(units))
				}
				a.get(path)
				return nil
			}))
			best["write "+name] = max(best["write "+name], rate(func(hand, i int) error {
				return w.Technician.Note(ctx, fmt.Sprintf("C-%05d", (i*hands+hand)%units), client.Noted{Facts: []client.NotedFact{{Name: "revision", Value: []string{"C", "D"}[i%2], Source: "label"}}})
			}))
		}
	}
	fmt.Printf("# a second, %d at once: %.0f pages of one server, %.0f of three; %.0f notes, %.0f\n", hands, best["read one"], best["read three"], best["write one"], best["write three"])
	report("cluster-reads-against-one", best["read three"]/best["read one"], "ratio", ">= 0.9")
	report("cluster-writes-against-one", best["write three"]/best["write one"], "ratio", ">= 0.5")
}

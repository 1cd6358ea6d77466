package cli

import (
	"fmt"
	"runtime/debug"

	"github.com/spf13/cobra"

	"zealousferry/internal/bench"
	"zealousferry/internal/client"
	"zealousferry/internal/store"
)

// built is what a program says of itself.
type built struct {
	Version  string `json:"version"`
	Commit   string `json:"commit,omitempty"`
	At       string `json:"at,omitempty"` // when that commit was made
	Changed  bool   `json:"changed"`      // it was built from more than that commit
	Go       string `json:"go"`
	Schema   int    `json:"schema"`   // of the database
	Protocol int    `json:"protocol"` // between service and benches
	Demo     bool   `json:"demo"`     // it has the demo and simulated units in it
}

func (a *app) whatIsThis() built {
	b := built{Version: bench.Version, Schema: store.Schema, Protocol: client.Protocol, Demo: len(a.demoVerbs()) > 0}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	b.Go = info.GoVersion
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Commit = s.Value
		case "vcs.time":
			b.At = s.Value
		case "vcs.modified":
			b.Changed = s.Value == "true"
		}
	}
	return b
}

func (a *app) versionVerb() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Which version this is, and from which commit it was built", Args: cobra.NoArgs, Example: "  ferry version",
		RunE: func(*cobra.Command, []string) error {
			b := a.whatIsThis()
			return a.show(b, func() {
				from := "not known from which commit"
				if b.Commit != "" {
					from = told("commit %s of %s", b.Commit[:min(12, len(b.Commit))], b.At)
					if b.Changed {
						from = told("commit %s of %s and what was changed since", b.Commit[:min(12, len(b.Commit))], b.At)
					}
				}
				fmt.Fprintf(a.out, "ferry %s, %s\nschema %d, benches' protocol %d, built with %s\n", a.paint(bold, b.Version), from, b.Schema, b.Protocol, b.Go)
			})
		}}
}

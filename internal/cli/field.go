//go:build field

package cli

import "github.com/spf13/cobra"

// demoVerbs: what is installed where units are worked on has no simulated ones.
func (a *app) demoVerbs() []*cobra.Command { return nil }

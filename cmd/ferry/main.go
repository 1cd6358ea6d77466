// Command ferry is Zealous Ferry: service, bench and command line in one.
package main

import (
	"os"

	"zealousferry/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }

// Command clipfence compares granted with used access and narrows it.
package main

import (
	"os"

	"clipfence/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }

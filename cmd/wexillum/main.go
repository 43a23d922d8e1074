// Command wexillum is the service and its client.
package main

import (
	"os"

	"wexillum.example/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }

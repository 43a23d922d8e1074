// Command wexillum is the client. What runs the service it leaves to wexillum-service, which stands beside it.
package main

import (
	"os"

	"wexillum.example/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr, nil)) }

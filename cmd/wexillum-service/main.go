// Command wexillum-service is the service, with everything that the client does, too.
package main

import (
	"os"

	"wexillum.example/internal/cli"
	"wexillum.example/internal/daemon"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr, &daemon.Program))
}

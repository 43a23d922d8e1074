// Command write draws the map of the packages below a directory into a file.
package main

import (
	"fmt"
	"os"

	"wexillum.example/internal/housemap"
)

func main() {
	imports, err := housemap.Imports(os.Args[1])
	if err == nil {
		err = os.WriteFile(os.Args[2], []byte(housemap.SVG(imports)), 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

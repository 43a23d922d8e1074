// Command write writes the reference of the world file from the table by which files are read and written.
package main

import (
	"fmt"
	"os"
	"strings"

	"wexillum.example/internal/worldfile"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: write PAGE")
		os.Exit(2)
	}
	var b strings.Builder
	b.WriteString("# Every field of the world file\n\nThis page is written from the table by which files are read and written. How a file is loaded, and how what leaves room is\nread, is in [the world file](world-file.md). A file begins with `wexillum: 1`; every section may be absent.\n")
	table := func(fields []worldfile.FieldSays) {
		b.WriteString("\n| field | what stands there | |\n|---|---|---|\n")
		for _, f := range fields {
			needed := ""
			if f.Required {
				needed = "needed"
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Name, strings.ReplaceAll(f.Takes, "|", "\\|"), needed)
		}
	}
	for _, policy := range []bool{true, false} {
		title := "Inventory: what there is"
		if policy {
			title = "Policy: what is published"
		}
		fmt.Fprintf(&b, "\n## %s\n", title)
		for _, s := range worldfile.Grammar() {
			if s.Policy != policy {
				continue
			}
			fmt.Fprintf(&b, "\n### `%s`\n\n", s.Name)
			switch {
			case s.List:
				fmt.Fprintf(&b, "A list; an entry is %s.\n", s.Noun)
			case len(s.Fields) > 0:
				b.WriteString("One entry.\n")
			default:
				fmt.Fprintf(&b, "%s.\n", strings.ToUpper(s.Noun[:1])+s.Noun[1:])
			}
			if len(s.Fields) > 0 {
				table(s.Fields)
			}
		}
	}
	b.WriteString("\n## Within entries\n")
	for _, s := range worldfile.Inner() {
		fmt.Fprintf(&b, "\n### %s\n", strings.ToUpper(s.Name[:1])+s.Name[1:])
		table(s.Fields)
	}
	if err := os.WriteFile(os.Args[1], []byte(b.String()), 0o644); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

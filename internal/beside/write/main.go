// Command write puts into each page of docs/systems what its server can hold, from the description that it gives of
// itself.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"wexillum.example/internal/beside/aclcalendar"
	"wexillum.example/internal/beside/davcalendar"
	"wexillum.example/internal/beside/davfiles"
	"wexillum.example/internal/beside/ldapdir"
	"wexillum.example/internal/beside/mailforward"
	"wexillum.example/internal/beside/videorooms"
	"wexillum.example/internal/beside/xmppchat"
	"wexillum.example/internal/core/native"
)

const begin, end = "<!-- what it can hold: written by make generate -->\n", "<!-- end -->\n"

func main() {
	for _, d := range []*native.Dialect{new(davfiles.Server).Describe(),
		(&xmppchat.Server{Config: xmppchat.Config{Rooms: "rooms"}}).Describe(), new(davcalendar.Server).Describe(),
		new(aclcalendar.Server).Describe(), new(ldapdir.Server).Describe(),
		(&mailforward.Server{Config: mailforward.Config{Aliases: "aliases"}}).Describe(), new(videorooms.Server).Describe()} {
		path := filepath.Join(os.Args[1], d.Name+".md")
		b, err := os.ReadFile(path)
		if err == nil {
			before, rest, ok := strings.Cut(string(b), begin)
			_, after, ends := strings.Cut(rest, end)
			if !ok || !ends {
				err = fmt.Errorf("%s has no part that is written", path)
			} else {
				err = os.WriteFile(path, []byte(before+begin+table(d)+end+after), 0o600)
			}
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

var words = map[native.Fidelity]string{native.Exact: "exact", native.Tighter: "tighter", native.ByHand: "by hand", native.None: "nothing"}

func table(d *native.Dialect) string {
	var b strings.Builder
	b.WriteString("\n| rule | where | what | how well | its setting | besides |\n|---|---|---|---|---|---|\n")
	for _, l := range d.Describe() {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s | %s |\n", l.Rule, l.Layer, l.Part, words[l.Fidelity], l.Path, l.Says)
	}
	if len(d.Holdings) > 0 {
		b.WriteString("\n| of our inventory | there | its fields | not kept |\n|---|---|---|---|\n")
		for _, h := range d.Holdings {
			var f []string
			for _, x := range h.Fields {
				f = append(f, x.Name)
			}
			many := h.Kind + "s"
			if h.Kind == "person" {
				many = "people of ours"
			}
			fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", many, h.Name, strings.Join(f, ", "), h.Says)
		}
	}
	fmt.Fprintf(&b, "\nTried from outside: `%s`.\n\n", strings.Join(d.Tries, "`, `"))
	return b.String()
}

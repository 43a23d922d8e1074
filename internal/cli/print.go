package cli

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"

	"wexillum.example/internal/core/sheet"
)

// records prints data as JSON or YAML, or its rows as a table or CSV.
func (a *app) records(data any, columns []string, rows [][]string) error {
	switch a.output {
	case "json":
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(data)
	case "yaml":
		b, err := json.Marshal(data)
		if err != nil {
			return err
		}
		b, err = yaml.JSONToYAML(b)
		if err != nil {
			return err
		}
		_, err = a.out.Write(b)
		return err
	case "csv":
		w := sheet.NewWriter(a.out)
		if err := w.Write(columns); err != nil {
			return err
		}
		for _, r := range rows {
			if err := w.Write(r); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
	a.table(columns, rows)
	return nil
}

// table prints rows in columns that fit the terminal: the widest give way first.
func (a *app) table(columns []string, rows [][]string) {
	widths := make([]int, len(columns))
	for i, c := range columns {
		widths[i] = utf8.RuneCountInString(c)
	}
	for _, r := range rows {
		for i, c := range r {
			widths[i] = max(widths[i], utf8.RuneCountInString(clean(c)))
		}
	}
	hang := false // the last column, where it is a sentence, on lines of its own
	if w := a.width(); w > 0 {
		total, last := 2*(len(widths)-1), len(widths)-1
		for _, x := range widths {
			total += x
		}
		if hang = total > w && len(widths) > 2 && widths[last] > 24 && w-(total-widths[last]) < 40; hang {
			widths = widths[:last]
		}
		for {
			total, widest := 2*(len(widths)-1), 0
			for i, x := range widths {
				total += x
				if x > widths[widest] {
					widest = i
				}
			}
			if total <= w || widths[widest] <= 8 {
				break
			}
			widths[widest] = max(8, widths[widest]-(total-w))
		}
	}
	line := func(cells []string, mark func(string) string) {
		var b strings.Builder
		for i, c := range cells {
			if i == len(widths) {
				break
			}
			c = fit(clean(c), widths[i])
			if i < len(widths)-1 {
				c += strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c)+2)
			}
			b.WriteString(mark(c))
		}
		fmt.Fprintln(a.out, strings.TrimRight(b.String(), " "))
		if last := len(cells) - 1; hang && cells[last] != "" {
			fmt.Fprintln(a.out, "    "+mark(wrap(cells[last], 4, a.width())))
		}
	}
	head := make([]string, len(columns))
	for i, c := range columns {
		head[i] = strings.ToUpper(c)
	}
	if !a.quiet {
		line(head, func(s string) string { return a.colour("1", s) })
	}
	for _, r := range rows {
		line(r, func(s string) string { return s })
	}
}

// clean keeps control characters of names from reaching the terminal.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f || r >= 0x80 && r < 0xa0 {
			return ' '
		}
		return r
	}, s)
}

func fit(s string, n int) string {
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	r := []rune(s)
	return string(r[:n-1]) + "…"
}

// wrap breaks text into lines behind an indent.
func wrap(text string, indent, width int) string {
	if width < 40 {
		width = 100
	}
	var b strings.Builder
	pad := strings.Repeat(" ", indent)
	col := 0
	for _, w := range strings.Fields(clean(text)) {
		n := utf8.RuneCountInString(w)
		switch {
		case col == 0:
		case indent+col+1+n > width:
			b.WriteString("\n" + pad)
			col = 0
		default:
			b.WriteByte(' ')
			col++
		}
		b.WriteString(w)
		col += n
	}
	return b.String()
}

func (a *app) printf(format string, args ...any) { fmt.Fprintf(a.out, format, args...) }

// plainWord is what a shell takes as it stands.
var plainWord = regexp.MustCompile(`^[\w@%+=:,./-]+$`)

// words writes the words of a command that somebody is advised to call, so that a shell takes them as they are meant:
// *@domain is a pattern of file names otherwise, which some shells refuse.
func words(list ...string) string {
	out := make([]string, len(list))
	for i, w := range list {
		if out[i] = w; !plainWord.MatchString(w) {
			out[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}

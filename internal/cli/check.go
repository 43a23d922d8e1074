package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/check"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/sheet"
	"wexillum.example/internal/core/world"
)

func (a *app) check() *cobra.Command {
	var into, bundle, as, column, at string
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Check a list of addresses: can each be invited, and what blocks it",
		Args:  cobra.ExactArgs(1),
		Long: `A list of addresses: for each whether it can be invited, and every cause that
stands in the way, whose side it is on, and what to do first.

FILE is text with an address on a line or several separated by commas, or with
--column a CSV file; - is standard input. Nothing is sent and nothing is changed.
With -o csv or -o json (an object a line) long lists stream.

Exit status 0: all can be invited or hold it already; 3: some cannot.`,
		Example: "  wexillum check volunteers.txt --into space:volunteers-handbook\n  wexillum check people.csv --column mail -o csv > result.csv",
		RunE: func(c *cobra.Command, args []string) error {
			if into != "" && bundle != "" {
				return usage{errors.New("give --into or --bundle, one of them")}
			}
			in, err := a.open(args[0])
			if err != nil {
				return err
			}
			defer in.Close()
			p := &printer{app: a}
			if err := p.begin(); err != nil {
				return err
			}
			if a.world != "" {
				err = a.checkFile(in, into, bundle, as, column, at, p)
			} else {
				err = a.checkRemote(c, in, into, bundle, as, column, at, p)
			}
			if err != nil {
				return err
			}
			return p.end()
		},
	}
	f := c.Flags()
	f.StringVar(&into, "into", "", "the space they are wanted in, as space:volunteers-handbook; the directory where absent")
	f.StringVar(&bundle, "bundle", "", "instead of --into, a bundle that they are meant to get")
	f.StringVar(&as, "as", "", "the person of ours who would invite; an owner of the space or an administrator where absent")
	f.StringVar(&column, "column", "", "the file is CSV and this column holds the addresses")
	f.StringVar(&at, "at", "", "a date, a moment, or days from today as +3d; now where absent")
	_ = c.RegisterFlagCompletionFunc("bundle", a.completion("bundle"))
	_ = c.RegisterFlagCompletionFunc("as", a.completion("person"))
	return c
}

// open opens a file, or standard input for -.
func (a *app) open(name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(a.in), nil
	}
	return os.Open(name)
}

func (a *app) checkRemote(c *cobra.Command, in io.Reader, into, bundle, as, column, at string, p *printer) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	resp, err := r.CheckListWithBody(
		c.Context(),
		&contract.CheckListParams{
			Into:   optional(into),
			Bundle: optional(bundle),
			As:     optional(as),
			Column: optional(column),
			At:     optional(at),
		},
		"text/csv",
		in,
	)
	if err != nil {
		return r.read(resp, err, nil)
	}
	if resp.StatusCode >= 400 {
		return r.read(resp, nil, nil)
	}
	defer resp.Body.Close()
	d := json.NewDecoder(bufio.NewReaderSize(resp.Body, 1<<15))
	for {
		var x contract.CheckFound
		switch err := d.Decode(&x); {
		case errors.Is(err, io.EOF):
			return errors.New("the answer ended before its summary; what was printed may be incomplete")
		case err != nil:
			return fmt.Errorf("the answer broke off: %w", err)
		}
		if x.Summary != nil {
			p.summary = x.Summary
			return nil
		}
		if x.Address != nil {
			if err := p.line(x.Address); err != nil {
				return err
			}
		}
	}
}

func (a *app) checkFile(in io.Reader, into, bundle, as, column, at string, p *printer) error {
	s, now, err := a.offline()
	if err != nil {
		return err
	}
	opts := check.Options{Into: world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}, As: as, Bundle: bundle, At: now}
	if into != "" {
		if opts.Into, err = engine.ParseResource(into); err != nil {
			return err
		}
	}
	if at != "" {
		if opts.At, err = moment.ParseLoose(at, now, s.Zone()); err != nil {
			return usage{fmt.Errorf("--at: %w", err)}
		}
	}
	c, err := check.New(s, opts)
	if err != nil {
		return err
	}
	if err := check.Split(in, column, func(n int, text string) error {
		l := c.Check(n, text)
		x := answer.CheckLine(&l)
		return p.line(&x)
	}); err != nil {
		return err
	}
	sum := answer.CheckSummary(c)
	p.summary = &sum
	return nil
}

// printer prints lines as they are found: CSV and JSON at once, a table at the
// end, where it is short enough to be one.
type printer struct {
	*app
	csv     *sheet.Writer
	rows    [][]string
	n       int
	summary *contract.CheckSummary
}

var checkColumns = []string{"line", "verdict", "address", "kind", "partner", "causes", "side", "next"}

// maxTable is how many lines a table holds; more are counted.
const maxTable = 500

func (p *printer) begin() error {
	if p.output == "csv" {
		p.csv = sheet.NewWriter(p.out)
		return p.csv.Write(append(checkColumns, "text"))
	}
	return nil
}

func (p *printer) line(l *contract.CheckLine) error {
	p.n++
	if p.n%10000 == 0 && p.progress() {
		fmt.Fprintf(p.err, "\r%d addresses", p.n)
	}
	if p.output == "json" || p.output == "yaml" {
		b, err := json.Marshal(l)
		if err != nil {
			return err
		}
		_, err = p.out.Write(append(b, '\n'))
		return err
	}
	var causes, sides []string
	for _, c := range l.Causes {
		if !slices.Contains(causes, c.Code) {
			causes = append(causes, c.Code)
		}
		if len(sides) == 0 || sides[len(sides)-1] != c.Side {
			sides = append(sides, c.Side)
		}
	}
	next := pick(l.Next)
	if next == "" {
		next = pick(l.Reason)
	}
	if len(l.Conditions) > 0 {
		next = strings.TrimSpace(next + " with " + strings.Join(l.Conditions, ", "))
	}
	address := pick(l.Address)
	if address == "" {
		address = l.Text
	}
	row := []string{
		fmt.Sprint(l.Line),
		string(l.Verdict),
		address,
		pick(l.Kind),
		pick(l.Partner),
		strings.Join(causes, " "),
		strings.Join(sides, " "),
		next,
	}
	if p.csv != nil {
		return p.csv.Write(append(row, l.Text))
	}
	if len(p.rows) < maxTable {
		p.rows = append(p.rows, row)
	}
	return nil
}

// progress reports whether somebody watches: the terminal that errors go to.
func (p *printer) progress() bool {
	f, ok := p.err.(*os.File)
	if !ok {
		return false
	}
	st, err := f.Stat()
	return err == nil && st.Mode()&os.ModeCharDevice != 0
}

func (p *printer) end() error {
	if p.n >= 10000 && p.progress() {
		fmt.Fprintln(p.err)
	}
	x := p.summary
	switch p.output {
	case "csv":
		p.csv.Flush()
		if err := p.csv.Error(); err != nil {
			return err
		}
	case "table":
		p.table(checkColumns, p.rows)
		if p.n > len(p.rows) {
			p.say("… and %d more; -o csv prints all of them.", p.n-len(p.rows))
		}
		p.say("")
		var parts []string
		for _, v := range []string{"yes", "no", "already", "duplicate", "own", "malformed"} {
			if n := x.Verdicts[v]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, v))
			}
		}
		p.say("%d addresses into %s, invited by %s: %s.", x.Total, x.Into, x.As, strings.Join(parts, ", "))
		var names []string
		for n := range x.Causes {
			names = append(names, n)
		}
		sort.Slice(names, func(i, j int) bool {
			return x.Causes[names[i]] > x.Causes[names[j]] || x.Causes[names[i]] == x.Causes[names[j]] && names[i] < names[j]
		})
		for _, n := range names {
			p.say("  %4d  %s", x.Causes[n], n)
		}
	}
	if x.Verdicts["no"]+x.Verdicts["malformed"]+x.Verdicts["own"] > 0 {
		return exit(statusNo)
	}
	return nil
}

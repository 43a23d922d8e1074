package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/worldfile"
)

func (a *app) load() *cobra.Command {
	var why, csvOf, scimOf, columns string
	var preview, confirm, restore, older, exact bool
	c := &cobra.Command{
		Use:   "load FILE",
		Short: "Load a world file, all or nothing; - is standard input",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if exact && a.draft == "" && csvOf == "" && scimOf == "" {
				return usage{errors.New("--exact: what the file does not hold goes, so that is weighed first: load it into a draft, which --draft names")}
			}
			text, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			if exact && (csvOf != "" || scimOf != "") {
				return usage{errors.New("--exact is of a world file; a list is taken in line by line")}
			}
			if csvOf != "" || scimOf != "" {
				return a.loadList(c.Context(), r, csvOf, scimOf, columns, why, preview, text)
			}
			p := &contract.LoadParams{Preview: &preview, Confirm: &confirm, Restore: &restore, Older: &older, Exact: &exact}
			if args[0] != "-" {
				p.File = optional(filepath.Base(args[0]))
			}
			if why != "" {
				p.Why = &why
			}
			resp, err := r.LoadWithBody(c.Context(), p, "application/yaml", bytes.NewReader(text))
			var x contract.Loaded
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output == "table" {
				verb := "changed"
				if x.Preview {
					verb = "would change"
				}
				if x.Changed == 0 {
					a.say("Nothing %s: all of it is there already.", verb)
					return nil
				}
				records := "records"
				if x.Changed == 1 {
					records = "record"
				}
				a.say("%d %s %s; revision %d.", x.Changed, records, verb, x.Revision)
				if preview || exact {
					a.edits(x.Edits)
					if n := x.Changed - len(x.Edits); n > 0 {
						a.say("and %d more", n)
					}
				}
				if x.Held != nil {
					for _, h := range *x.Held {
						a.say("  %s", heldText(h))
					}
					if n := *x.HeldTotal - len(*x.Held); n > 0 {
						a.say("  and %d more", n)
					}
				}
				if x.Odd != nil {
					a.say("Taken although this version refuses it; it admits nobody:")
					for _, o := range *x.Odd {
						a.say("  %s", o)
					}
				}
				a.setsGoing(x.Going, x.Waits)
				return nil
			}
			return a.records(
				x,
				[]string{"changed", "revision", "preview"},
				[][]string{{fmt.Sprint(x.Changed), fmt.Sprint(x.Revision), fmt.Sprint(x.Preview)}},
			)
		},
	}
	c.Flags().BoolVar(&exact, "exact", false, "with --draft: policy that the sections of the file do not name goes")
	c.Flags().StringVar(&why, "why", "", "the reason that the journal keeps")
	c.Flags().BoolVar(&preview, "preview", false, "say what would change, and change nothing")
	c.Flags().BoolVar(&confirm, "confirm", false, "although its dates let more records go at once than the brake lets")
	c.Flags().BoolVar(&restore, "restore", false, "it is a dump of this installation: its dates go on as the file has them")
	c.Flags().BoolVar(&older, "older", false, "it is a dump of an earlier version: take what is refused now, and list it")
	c.Flags().StringVar(&csvOf, "csv", "", "the file is CSV of guests, grants, holdings, links, spaces or people")
	c.Flags().StringVar(&scimOf, "scim", "", "the file is a SCIM list response of guests")
	c.Flags().StringVar(&columns, "map", "", "with --csv: which column of the file is which of ours, as mail=address,who=name")
	return c
}

// readFile reads a file; - is standard input.
func (a *app) readFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(a.in)
	}
	return os.ReadFile(name)
}

// edits prints what changes, field by field.
func (a *app) edits(list []contract.DraftEdit) {
	columns, rows := []string{"edit", "field", "was", "becomes"}, [][]string{}
	for _, e := range list {
		for i, c := range e.Changes {
			title := ""
			if i == 0 {
				title = e.Title
			}
			rows = append(rows, []string{title, c.Field, c.Was, c.Now})
		}
	}
	if len(rows) > 0 {
		a.table(columns, rows)
	}
}

// differs compares the policy of an installation with a file.
func (a *app) differs() *cobra.Command {
	return &cobra.Command{
		Use:   "differs FILE",
		Short: "Whether policy is what a file says, and what would have to change",
		Long: `Whether the policy in force is what a file says, in the sections that the file holds, as dump
--policy writes it. Each line is from what is in force to what the file says; with --draft from
what the draft makes. The file may be named with --world too; - is standard input.

Exit status: 0 it is, 3 it is not.`,
		Example: "  wexillum differs policy.yaml",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			file := a.world
			switch {
			case file != "" && len(args) > 0:
				return usage{errors.New("one file is compared; name it once, without --world")}
			case len(args) > 0:
				file = args[0]
			case file == "":
				return usage{errors.New("name the file; - is standard input")}
			}
			text, err := a.readFile(file)
			if err != nil {
				return err
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.DiffersParams{}
			if file != "-" {
				p.File = optional(filepath.Base(file))
			}
			resp, err := r.DiffersWithBody(c.Context(), p, "application/yaml", bytes.NewReader(text))
			var x contract.Differing
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				rows := [][]string{}
				for _, e := range x.Edits {
					for _, ch := range e.Changes {
						rows = append(rows, []string{e.Kind, e.Id, ch.Field, ch.Was, ch.Now})
					}
				}
				if err := a.records(x, []string{"kind", "id", "field", "was", "becomes"}, rows); err != nil {
					return err
				}
			} else if len(x.Edits) == 0 {
				a.say("Policy is what the file says (revision %d).", x.Revision)
			} else {
				a.say("Policy is not what the file says (revision %d):", x.Revision)
				a.edits(x.Edits)
			}
			if len(x.Edits) > 0 {
				return exit(statusNo)
			}
			return nil
		},
	}
}

// loadList takes in a list; what is wrong is told line by line.
func (a *app) loadList(ctx context.Context, r *remote, csvOf, scimOf, columns, why string, preview bool, text []byte) error {
	if csvOf != "" && scimOf != "" {
		return usage{errors.New("a file is CSV or SCIM; give one of --csv and --scim")}
	}
	what, kind, flag := csvOf, "text/csv", "--csv"
	if scimOf != "" {
		what, kind, flag = scimOf, "application/scim+json", "--scim"
	}
	if lists := []string{"guests", "grants", "links", "spaces", "people"}; !slices.Contains(lists, what) {
		return usage{fmt.Errorf("%s %q: write %s", flag, what, strings.Join(lists, ", "))}
	}
	resp, err := r.PutListWithBody(
		ctx,
		what,
		&contract.PutListParams{Preview: &preview, Map: optional(columns), Why: optional(why)},
		kind,
		bytes.NewReader(text),
	)
	var x contract.ListTaken
	if err := r.read(resp, err, &x); err != nil {
		return err
	}
	rows := [][]string{}
	for _, e := range x.Errors {
		rows = append(rows, []string{strconv.Itoa(e.Line), pick(e.Column), pick(e.Value), e.Text})
	}
	if a.output != "table" {
		if err := a.records(x, []string{"line", "column", "value", "error"}, rows); err != nil {
			return err
		}
	} else {
		if x.Ignored != nil && len(*x.Ignored) > 0 {
			a.say("Columns that are none of ours: %s; --map THEIRS=OURS says which they are.", strings.Join(*x.Ignored, ", "))
		}
		if len(rows) > 0 {
			a.table([]string{"line", "column", "value", "error"}, rows)
		} else {
			verb := "taken in"
			if preview {
				verb = "read; nothing was changed. It would be"
			}
			a.say("%d lines %s: %d new, %d changed, %d the same.", x.Lines, verb, x.Added, x.Changed, x.Same)
			a.setsGoing(x.Going, x.Waits)
		}
	}
	if len(x.Errors) > 0 {
		return fmt.Errorf("%d of %d lines are wrong; nothing was taken in", len(x.Errors), x.Lines)
	}
	return nil
}

func (a *app) dump() *cobra.Command {
	var sections []string
	var csvOf, scimOf string
	var policy bool
	c := &cobra.Command{
		Use:   "dump",
		Short: "Write policy and inventory as a world file",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if (csvOf != "" || scimOf != "") && (policy || len(sections) > 0) {
				return usage{errors.New("--csv and --scim write one list; leave --policy and --section out")}
			}
			if csvOf != "" || scimOf != "" {
				p, what := &contract.GetListParams{}, csvOf
				if scimOf != "" {
					f := contract.GetListParamsFormat("scim")
					p.Format, what = &f, scimOf
				}
				resp, err := r.GetList(c.Context(), what, p)
				return r.copy(resp, err, a.out)
			}
			p := &contract.DumpParams{}
			if len(sections) > 0 {
				p.Section = &sections
			}
			if policy {
				p.Policy = &policy
			}
			resp, err := r.Dump(c.Context(), p)
			if a.output != "json" {
				return r.copy(resp, err, a.out)
			}
			var text []byte
			if err := r.read(resp, err, &text); err != nil {
				return err
			}
			if text, err = yaml.YAMLToJSON(text); err != nil {
				return err
			}
			_, err = a.out.Write(text)
			return err
		},
	}
	c.Flags().StringVar(&csvOf, "csv", "", "instead CSV of guests, grants, holdings, links, spaces or people")
	c.Flags().StringVar(&scimOf, "scim", "", "instead a SCIM list response of guests")
	c.Flags().BoolVar(&policy, "policy", false, "policy alone, without what is known of the other side: what is kept in version control")
	c.Flags().StringSliceVar(&sections, "section", nil, "only these sections: "+strings.Join(worldfile.Sections, ", "))
	return c
}

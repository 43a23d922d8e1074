package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/counted"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/report"
)

// view is the world file that is asked offline, at a moment.
func (a *app) view(at string) (*answer.View, error) {
	s, now, err := a.offline()
	if err != nil {
		return nil, err
	}
	when := now
	if at != "" {
		if when, err = moment.ParseLoose(at, now, s.Zone()); err != nil {
			return nil, usage{fmt.Errorf("--at: %w", err)}
		}
	}
	return &answer.View{Snapshot: s, At: when, Recorded: "now"}, nil
}

func never() error { return nil }

// printed writes a report as the output wants it: CSV whole, a table without the
// columns that nobody reads on a terminal.
func (a *app) printed(r *report.Report, data any, columns ...string) error {
	if a.output == "csv" {
		return r.CSV(a.out)
	}
	if a.output != "table" {
		return a.records(data, r.Columns, r.Rows)
	}
	var at []int
	for _, c := range columns {
		for i, have := range r.Columns {
			if have == c {
				at = append(at, i)
			}
		}
	}
	rows := [][]string{}
	for _, row := range r.Rows {
		out := make([]string, len(at))
		for k, i := range at {
			out[k] = row[i]
		}
		if len(rows) == maxTable {
			break
		}
		rows = append(rows, out)
	}
	a.table(columns, rows)
	if len(r.Rows) > len(rows) {
		a.say("… and %d more; -o csv prints all of them.", len(r.Rows)-len(rows))
	}
	return nil
}

// keepReport writes a page that prints into a file.
func (a *app) keepReport(file string, fetch func(form contract.ReportParamsForm) ([]byte, error), offline *report.Report) error {
	if file == "" {
		return nil
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if offline != nil {
		err = offline.HTML(f)
	} else {
		var text []byte
		if text, err = fetch(contract.ReportParamsFormHtml); err == nil {
			_, err = f.Write(text)
		}
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "Written to %s.\n", file)
	return nil
}

func (a *app) fetchReport(
	c *cobra.Command,
	r *remote,
	what string,
	p contract.ReportParams,
) func(contract.ReportParamsForm) ([]byte, error) {
	return func(form contract.ReportParamsForm) ([]byte, error) {
		p.Form = &form
		resp, err := r.Report(c.Context(), what, &p)
		var text []byte
		return text, r.read(resp, err, &text)
	}
}

func (a *app) stated(x *contract.Stated) {
	if d := pick(x.Draft); d != "" {
		a.say("Not in force: this is as the draft %q would make it.", d)
	}
	if x.Recorded == "first" {
		a.say("Nothing was recorded yet at that moment; the first record was asked as of then.")
	}
}

func (a *app) audience() *cobra.Command {
	var at, action, kind, find, file string
	var all, could bool
	c := &cobra.Command{
		Use:     "audience RESOURCE",
		Short:   "Everybody outside who can use a resource: for what, through what, since and until when",
		Args:    cobra.ExactArgs(1),
		Example: "  wexillum audience space:loan-dossier --all\n  wexillum audience person:d.ekwinter --action chat.message\n  wexillum audience folder:loan-valuations --at -30d --report audience.html",
		ValidArgsFunction: func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return a.completion("resource")(c, args, text)
		},
		RunE: func(c *cobra.Command, args []string) error {
			if could {
				if at != "" || file != "" || kind != "" || find != "" {
					return usage{errors.New("--could is asked as things are now, of everybody")}
				}
				return a.couldLines(c, answer.CouldAsked{Resource: args[0], Action: action})
			}
			columns := []string{"party", "kind", "action", "resource", "conditions", "through", "until"}
			if !all {
				columns = []string{"party", "kind", "action", "conditions", "through", "since", "until"}
			}
			if a.world != "" {
				v, err := a.view(at)
				if err != nil {
					return err
				}
				res, err := engine.ParseResource(args[0])
				if err != nil {
					return err
				}
				found, err := v.Audience(res, all, action, answer.Filter{Text: find, Kind: kind}, never)
				if err != nil {
					return err
				}
				lines, err := v.Lines(found, 0, found.Len(), never)
				if err != nil {
					return err
				}
				rep := v.AudienceReport(res, found, lines)
				out := []contract.AudienceLine{}
				for i := range lines {
					x := answer.AudienceLine(&lines[i])
					out = append(out, x)
				}
				return errors.Join(a.keepReport(file, nil, rep), a.audienceLines(rep.Title, out, columns))
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.AudienceParams{Resource: args[0], All: &all, Action: optional(action), Q: optional(find), At: optional(at)}
			if kind != "" {
				k := contract.AudienceParamsKind(kind)
				p.Kind = &k
			}
			lines := []contract.AudienceLine{}
			var x contract.Audience
			for limit := 500; ; {
				p.Limit = &limit
				resp, err := r.Audience(c.Context(), p)
				x = contract.Audience{}
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				lines = append(lines, x.Lines...)
				if x.Next == "" {
					break
				}
				p.Cursor = &x.Next
			}
			a.stated(&x.Stated)
			rp := contract.ReportParams{
				Resource: &args[0],
				All:      &all,
				Action:   optional(action),
				Kind:     optional(kind),
				Q:        optional(find),
				At:       optional(at),
			}
			name := pick(x.Name)
			if name == "" {
				name = x.Resource
			}
			return errors.Join(
				a.keepReport(file, a.fetchReport(c, r, "audience", rp), nil),
				a.audienceLines(
					fmt.Sprintf(
						"Who outside can do what with %s, at %s: %d known, %s",
						name,
						seconds(x.Stated.At),
						x.Parties,
						counted.Of(x.Newcomers, "typical newcomer", "typical newcomers"),
					),
					lines,
					columns,
				),
			)
		},
	}
	f := c.Flags()
	f.BoolVar(&could, "could", false, "who could come to use it without any administrator or keeper; of a space with everything in it")
	f.BoolVar(&all, "all", false, "of a space also everything in it")
	f.StringVar(&action, "action", "", "only this action, or those of a service as chat.*")
	f.StringVar(&kind, "kind", "", "only guest, provisioned, federated, personal or bearer")
	f.StringVar(&find, "find", "", "only parties whose address, name or partner holds this")
	f.StringVar(&at, "at", "", "a date, a moment, or days from today as -30d; the past is asked of what was recorded then")
	f.StringVar(&file, "report", "", "also write a page that prints into this file")
	_ = c.RegisterFlagCompletionFunc(
		"kind",
		cobra.FixedCompletions([]string{"guest", "provisioned", "federated", "personal", "bearer"}, cobra.ShellCompDirectiveNoFileComp),
	)
	return c
}

// audienceLines prints an audience; on a terminal what one party can do through the
// same stands on one line.
func (a *app) audienceLines(title string, lines []contract.AudienceLine, columns []string) error {
	rep := &report.Report{
		Columns: []string{"party", "name", "kind", "partner", "action", "resource", "conditions", "through", "since", "until", "residual"},
	}
	type same struct{ party, resource, conditions, through, since, until string }
	at := map[same]int{}
	for _, l := range lines {
		residual, kind := "", l.Kind
		if l.Residual {
			residual = "yes"
		}
		if l.Newcomer {
			kind += ", typical"
		}
		through := l.Cause.Text
		if l.Residual && a.output == "table" {
			through += " (residual risk)"
		}
		row := []string{
			l.Party,
			pick(l.Name),
			kind,
			pick(l.Partner),
			l.Action,
			l.Resource,
			strings.Join(l.Conditions, ", "),
			through,
			day(pick(l.Since)),
			day(pick(l.Until)),
			residual,
		}
		k := same{l.Party, l.Resource, row[6], row[7], row[8], row[9]}
		if i, ok := at[k]; ok && a.output == "table" {
			rep.Rows[i][4] += ", " + l.Action
			continue
		}
		at[k] = len(rep.Rows)
		rep.Rows = append(rep.Rows, row)
	}
	if a.output == "table" {
		a.say("%s\n", title)
	}
	if a.output == "csv" {
		return a.records(lines, rep.Columns, rep.Rows)
	}
	return a.printed(rep, lines, columns...)
}

// boardOf prints what many reach, service by service.
func (a *app) boardOf(c *cobra.Command, word, find, at, file string) error {
	var rows []contract.BoardRow
	var totals contract.BoardTotals
	title, residual := "", ""
	if a.world != "" {
		v, err := a.view(at)
		if err != nil {
			return err
		}
		all, err := v.Board(word, answer.Filter{Text: find}, never)
		if err != nil {
			return err
		}
		for i := range all {
			x := answer.BoardRow(&all[i])
			rows = append(rows, x)
		}
		totals = answer.BoardTotals(all)
		title, residual = "What "+word+" reaches at "+seconds(v.At.String()), v.ResidualRisk()
		if err := a.keepReport(file, nil, v.BoardReport(word, all)); err != nil {
			return err
		}
	} else {
		r, err := a.remote()
		if err != nil {
			return err
		}
		p := &contract.BoardParams{Who: &word, Q: optional(find), At: optional(at)}
		for limit := 500; ; {
			p.Limit = &limit
			resp, err := r.Board(c.Context(), p)
			var x contract.Board
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows, totals, title = append(rows, x.Rows...), x.Totals, "What "+word+" reaches at "+seconds(x.Stated.At)
			if x.Next == "" {
				a.stated(&x.Stated)
				residual = pick(x.Residual)
				break
			}
			p.Cursor = &x.Next
		}
		if err := a.keepReport(file, a.fetchReport(c, r, "board", contract.ReportParams{Who: &word, Q: optional(find), At: optional(at)}),
			nil); err != nil {
			return err
		}
	}
	columns := []string{"party", "kind", "partner"}
	for s := catalogue.Service(0); s < catalogue.NumServices; s++ {
		columns = append(columns, s.String())
	}
	columns = append(columns, "first ends")
	out := [][]string{}
	for _, b := range rows {
		kind := b.Kind
		if b.Newcomer {
			kind += ", typical"
		}
		row := []string{b.Party, kind, pick(b.Partner)}
		for s := catalogue.Service(0); s < catalogue.NumServices; s++ {
			cell := ""
			if n := b.Granted[s.String()]; n > 0 {
				cell = fmt.Sprint(n)
			}
			if n := b.Wide[s.String()]; n > 0 {
				cell = strings.TrimSpace(fmt.Sprintf("%s +%d", cell, n))
			}
			row = append(row, cell)
		}
		out = append(out, append(row, day(pick(b.Until))))
	}
	if a.output == "csv" {
		columns = []string{"party", "name", "kind", "partner", "typical newcomer"}
		for s := catalogue.Service(0); s < catalogue.NumServices; s++ {
			columns = append(columns, s.String()+" granted", s.String()+" wide")
		}
		columns = append(columns, "first ends")
		out = out[:0]
		for _, b := range rows {
			row := []string{b.Party, pick(b.Name), b.Kind, pick(b.Partner), fmt.Sprint(b.Newcomer)}
			for s := catalogue.Service(0); s < catalogue.NumServices; s++ {
				row = append(row, fmt.Sprint(b.Granted[s.String()]), fmt.Sprint(b.Wide[s.String()]))
			}
			out = append(out, append(row, pick(b.Until)))
		}
	}
	if a.output != "table" {
		return a.records(map[string]any{"rows": rows, "totals": totals}, columns, out)
	}
	a.say(
		"%s: %d known, %s. Granted, and + what needs no role; never added together.\n",
		title,
		totals.Parties,
		counted.Of(totals.Newcomers, "typical newcomer", "typical newcomers"),
	)
	shown := out[:min(len(out), maxTable)]
	a.table(columns, shown)
	if len(out) > len(shown) {
		a.say("… and %d more; -o csv prints all of them.", len(out)-len(shown))
	}
	if residual != "" {
		a.say("\nResidual risk: %s", residual)
	}
	return nil
}

func (a *app) diff() *cobra.Command {
	var at, andAt, file string
	var meantFound bool
	c := &cobra.Command{
		Use:               "diff WHO [WHO]",
		Short:             "Compare what somebody can do on two dates, or what two people can do, with reasons",
		Args:              cobra.RangeArgs(1, 2),
		Example:           "  wexillum diff maren.holtveig@ilvane.example --at -30d --and-at +30d\n  wexillum diff maren.holtveig@ilvane.example edda.nordvane@ilvane.example",
		ValidArgsFunction: a.completion("who"),
		RunE: func(c *cobra.Command, args []string) error {
			and := ""
			if len(args) > 1 {
				and = args[1]
			} else if andAt == "" && at == "" && !meantFound {
				return usage{errors.New("name another party, or other moments with --at and --and-at")}
			}
			if meantFound && (a.world != "" || file != "") {
				return usage{errors.New("--meant-found asks the systems and prints; leave --world and --report away")}
			}
			var x contract.Diff
			if a.world != "" {
				left, err := a.view(at)
				if err != nil {
					return err
				}
				right := left
				if andAt != "" || and == "" {
					if right, err = a.view(andAt); err != nil {
						return err
					}
				}
				who, err := left.Snapshot.WhoNamed(args[0], true)
				if err != nil {
					return err
				}
				other := who
				if and != "" {
					if other, err = right.Snapshot.WhoNamed(and, true); err != nil {
						return err
					}
				}
				lines, err := answer.Differences(left, right, who, other, never)
				if err != nil {
					return err
				}
				for i := range lines {
					l := answer.DiffLine(&lines[i])
					x.Lines = append(x.Lines, l)
				}
				x.Who, x.AndWho, x.Left.At, x.Right.At = who.String(), other.String(), left.At.String(), right.At.String()
				if err := a.keepReport(file, nil, answer.DiffReport(left, right, who, other, lines)); err != nil {
					return err
				}
			} else {
				r, err := a.remote()
				if err != nil {
					return err
				}
				left, right := at, andAt
				if meantFound && (and != "" || left != "" || right != "") {
					return usage{errors.New("--meant-found compares what is meant now with what was found, for one party; leave the other side away")}
				}
				if and == "" && right == "" && !meantFound { // the other side is now
					right = moment.Of(time.Now()).String()
				}
				resp, err := r.Diff(c.Context(), &contract.DiffParams{Who: args[0], AndWho: optional(and), At: optional(left), AndAt: optional(right),
					MeantFound: &meantFound})
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				a.stated(&x.Left)
				if err := a.keepReport(file, a.fetchReport(c, r, "diff",
					contract.ReportParams{Who: &args[0], AndWho: optional(and), At: optional(left), AndAt: optional(right)}), nil); err != nil {
					return err
				}
			}
			rows := [][]string{}
			for _, l := range x.Lines {
				side := func(c *contract.Cause) string {
					if c == nil {
						return "There is no such thing on this side."
					}
					return c.Text
				}
				mark := map[contract.DiffLineChange]string{"gained": "+ gained", "lost": "- lost", "otherwise": "~ otherwise"}[l.Change]
				rows = append(rows, []string{mark, l.Action, resourceText(l.Resource, l.Count), side(l.Was), side(l.Becomes)})
			}
			if a.output != "table" {
				return a.records(x, []string{"change", "action", "resource", "was", "becomes"}, rows)
			}
			if meantFound {
				a.say("What is meant for %s, and what the systems do: + they let through besides, - they refuse besides\n", x.Who)
			} else if x.Who != x.AndWho {
				a.say("What %s may do, and %s may not (-), and the other way round (+), at %s\n", x.Who, x.AndWho, seconds(x.Left.At))
			} else {
				a.say("What %s may do at %s and not at %s (-), and the other way round (+)\n", x.Who, seconds(x.Left.At), seconds(x.Right.At))
			}
			if len(rows) == 0 {
				a.say("Nothing differs.")
				return nil
			}
			a.table([]string{"change", "action", "resource", "first because", "then because"}, rows)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&at, "at", "", "the first moment; now where absent")
	f.BoolVar(&meantFound, "meant-found", false, "what is meant against what the systems hold")
	f.StringVar(&andAt, "and-at", "", "the other moment; now where absent and one party is named")
	f.StringVar(&file, "report", "", "also write a page that prints into this file")
	return c
}

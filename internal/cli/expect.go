package cli

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
)

func (a *app) expect() *cobra.Command {
	c := &cobra.Command{Use: "expect", Short: "What must stay true of access, and whether it is"}
	c.AddCommand(a.expectList(), a.expectShow(), a.expectAdd(), a.expectSet(), a.expectRemove(), a.expectRun(), a.expectProposed())
	return c
}

// standing says how an expectation stands.
func standing(x *contract.Expectation) string {
	switch {
	case x.State == contract.ExpectationStateBroken && ahead(x):
		return "broken from " + day(pick(x.From)) + " on"
	case x.State == contract.ExpectationStateHeld && x.Empty != nil:
		return "held, about nothing"
	}
	return string(x.State)
}

// ahead reports whether a day to come breaks it.
func ahead(x *contract.Expectation) bool {
	return x.From != nil && x.Judged != nil && *x.From > *x.Judged
}

func number(n *int) string {
	if n == nil {
		return ""
	}
	return strconv.Itoa(*n)
}

var expectColumns = []string{"id", "state", "times", "may now", "owner", "what is expected"}

func expectRows(list []contract.Expectation) [][]string {
	rows := [][]string{}
	for i := range list {
		x := &list[i]
		rows = append(rows, []string{x.Id, standing(x), number(x.Count), number(x.May), pick(x.Owner), x.Says})
	}
	return rows
}

func (a *app) expectList() *cobra.Command {
	var state string
	c := &cobra.Command{Use: "list", Short: "What is expected, and how it stands", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.ListExpectationsParams{}
			if state != "" {
				s := contract.ListExpectationsParamsState(state)
				p.State = &s
			}
			resp, err := r.ListExpectations(c.Context(), p)
			var x contract.Expectations
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if len(x.Expectations) == 0 && a.output == "table" && state == "" {
				a.say("Nothing is expected yet. See what might be: wexillum expect proposed")
				return nil
			}
			return a.records(x.Expectations, expectColumns, expectRows(x.Expectations))
		}}
	c.Flags().StringVar(&state, "state", "", "held, broken or unknown")
	return c
}

func (a *app) expectShow() *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "One expectation: who breaks it, since when, through what, and its history",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetExpectation(c.Context(), args[0])
			var x contract.Expectation
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printExpectation(&x)
		}}
}

func (a *app) printExpectation(x *contract.Expectation) error {
	if a.output != "table" {
		return a.records(x, expectColumns, expectRows([]contract.Expectation{*x}))
	}
	mark := map[contract.ExpectationState]string{"held": "▲ held", "broken": "▼ BROKEN", "unknown": "· unknown"}[x.State]
	a.printf("%s  %s\n     %s\n", a.colour("1", mark), x.Says, x.Id)
	line := func(what, says string) {
		if says != "" {
			a.printf("  %-12s %s\n", what, says)
		}
	}
	a.printf("\n")
	line("why", pick(x.Reason))
	line("owner", pick(x.Owner))
	line("unknown", pick(x.Unknown))
	if x.OnlyCould != nil {
		line("holds now", "but without an administrator or keeper it could come to be broken")
	}
	if x.Empty != nil {
		line("about", "nothing that is there: it says nothing of anybody")
	}
	if x.Tell {
		line("told", "its owner, whenever who may changes")
	}
	if ahead(x) {
		line("broken", "from "+day(pick(x.From))+" on, as things stand")
	}
	line("since", day(pick(x.Since)))
	if x.BrokenBy != nil {
		line("broken by", x.BrokenBy.Text)
	}
	line("may now", fmt.Sprintf("%s, with %s times yes", people(x.May), number(x.Answers)))
	if len(x.Examples) > 0 {
		what := "who breaks it"
		if x.OnlyCould != nil {
			what = "who could come to break it"
		}
		if x.Expect.Sort == contract.ExpectSortAlways {
			what = "who may not"
		}
		a.printf("\n%s: %s, %d of them shown\n\n", what, times(x), len(x.Examples))
		rows := [][]string{}
		for i := range x.Examples {
			e := &x.Examples[i]
			name := e.Name
			if e.Newcomer {
				name += " (nobody known yet)"
			}
			about := e.Resource
			if e.Count > 1 {
				about = fmt.Sprintf("%d of %s", e.Count, strings.TrimSuffix(about, ":*"))
			}
			rows = append(rows, []string{name, e.Who, e.Action, about})
		}
		a.table([]string{"name", "who", "action", "about"}, rows)
		if e := &x.Examples[0]; x.OnlyCould != nil && !strings.HasSuffix(e.Resource, ":*") {
			a.say("\nSee how, step by step: wexillum could %s", words(e.Who, e.Action, e.Resource))
		}
	}
	if x.History != nil && len(*x.History) > 0 {
		a.printf("\nhistory\n\n")
		rows := [][]string{}
		for _, h := range *x.History {
			rows = append(rows, []string{day(h.At), string(h.State), number(h.Count), h.Text})
		}
		a.table([]string{"at", "state", "times", "what"}, rows)
	}
	return nil
}

func people(n *int) string {
	if n != nil && *n == 1 {
		return "1 known party"
	}
	return number(n) + " known parties"
}

// times says how often something is broken, and by how many.
func times(x *contract.Expectation) string {
	n, of := "times", "parties"
	if x.Count != nil && *x.Count == 1 {
		n = "time"
	}
	if x.Parties != nil && *x.Parties == 1 {
		of = "party"
	}
	return fmt.Sprintf("%s %s, %s %s", number(x.Count), n, number(x.Parties), of)
}

// expected are the flags that say what is expected.
type expected struct {
	party, action, resource, until, owner, reason, why string
	never, always, tell, could                         bool
	only, conditions                                   []string
	atMost                                             int
}

func (x *expected) flags(a *app, c *cobra.Command, making bool) {
	f := c.Flags()
	start := func(s string) string {
		if making {
			return s
		}
		return ""
	}
	f.StringVar(&x.party, "party", start("everybody"),
		"everybody, an address, partner:ID, domain:NAME, kind:guest|provisioned|federated|personal|bearer or group:ID")
	f.StringVar(&x.action, "action", start("*"), "an action as files.open, a service as files.*, or * for all")
	f.StringVar(&x.resource, "resource", start("*"), "kind:id, of which a space is meant with all in it; or * for all")
	f.BoolVar(&x.never, "never", false, "nobody of them may")
	f.BoolVar(&x.always, "always", false, "everybody of them may")
	f.StringSliceVar(&x.only, "only", nil, "only these may, as partner:ID; several with commas")
	f.StringVar(&x.until, "only-until", "", "the last day on which anybody may, as 2027-03-01 or +30d")
	f.IntVar(&x.atMost, "at-most", 0, "so many may, and nobody whom nobody knows yet")
	f.StringSliceVar(&x.conditions, "condition", nil, "every yes carries these conditions, as sign_in; several with commas")
	f.BoolVar(&x.tell, "tell", false, "mail its owner whenever the answer, the audience or the number changes")
	f.BoolVar(&x.could, "could", false, "it is to hold for what could come to be without an administrator, too")
	f.StringVar(&x.owner, "owner", "", "the person of ours who answers for it; the administrators where nobody is named")
	f.StringVar(&x.reason, "reason", "", "why it is expected")
	whyFlag(c, &x.why)
	_ = c.RegisterFlagCompletionFunc("owner", a.completion("person"))
	_ = c.RegisterFlagCompletionFunc("resource", a.completion("resource"))
}

// said writes what the flags say is expected; nil where they say nothing.
func (x *expected) said(c *cobra.Command) (*contract.Expect, error) {
	var out []contract.Expect
	if x.never {
		out = append(out, contract.Expect{Sort: contract.ExpectSortNever})
	}
	if x.always {
		out = append(out, contract.Expect{Sort: contract.ExpectSortAlways})
	}
	if x.only != nil {
		out = append(out, contract.Expect{Sort: contract.ExpectSortOnly, Only: &x.only})
	}
	if x.until != "" {
		out = append(out, contract.Expect{Sort: contract.ExpectSortOnlyUntil, OnlyUntil: &x.until})
	}
	if c.Flags().Changed("at-most") {
		out = append(out, contract.Expect{Sort: contract.ExpectSortAtMost, AtMost: &x.atMost})
	}
	if x.conditions != nil {
		out = append(out, contract.Expect{Sort: contract.ExpectSortCondition, Condition: &x.conditions})
	}
	switch len(out) {
	case 0:
		return nil, nil
	case 1:
		return &out[0], nil
	}
	return nil,
		usage{errors.New("an expectation says one thing: give one of --never, --always, --only, --only-until, --at-most and --condition; make another one for the other")}
}

func (a *app) expectAdd() *cobra.Command {
	var x expected
	var id string
	var preview bool
	c := &cobra.Command{Use: "add", Short: "Expect something of access", Args: cobra.NoArgs,
		Long:    "Expect something of access. It is judged now and on each of the next 30 days,\nafter every change, and on every draft: one that would break it is not published\nwithout a reason.",
		Example: "  wexillum expect add --action \"files.*\" --resource folder:loan-valuations --only partner:tholemere --owner d.ekwinter --reason \"the lender asked for it\"\n  wexillum expect add --party partner:marrowby --never --preview",
		RunE: func(c *cobra.Command, _ []string) error {
			said, err := x.said(c)
			if err != nil {
				return err
			}
			if said == nil {
				return usage{errors.New("say what is expected: --never, --always, --only, --only-until, --at-most or --condition")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			body := contract.ExpectationChange{Id: optional(id), Party: x.party, Action: x.action, Resource: x.resource, Expect: *said,
				Owner: optional(x.owner), Reason: optional(x.reason), Why: optional(x.why)}
			if x.tell {
				body.Tell = &x.tell
			}
			if x.could {
				body.Could = &x.could
			}
			resp, err := r.AddExpectation(c.Context(), &contract.AddExpectationParams{Preview: &preview}, body)
			var out contract.Expectation
			if err := r.read(resp, err, &out); err != nil {
				return err
			}
			if preview {
				a.say("Nothing is kept. As things stand:")
			}
			return a.printExpectation(&out)
		}}
	x.flags(a, c, true)
	c.Flags().StringVar(&id, "id", "", "what it is called; made of what is expected where it is left out")
	c.Flags().BoolVar(&preview, "preview", false, "judge it and keep nothing")
	return c
}

func (a *app) expectSet() *cobra.Command {
	var x expected
	c := &cobra.Command{Use: "set ID", Short: "Change an expectation; what no flag names stays", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			said, err := x.said(c)
			if err != nil {
				return err
			}
			body := contract.ExpectationPatch{}
			for flag, v := range map[string]any{"party": x.party, "action": x.action, "resource": x.resource, "owner": x.owner, "reason": x.reason,
				"tell": x.tell, "could": x.could} {
				if c.Flags().Changed(flag) {
					body[flag] = v
				}
			}
			if said != nil {
				body["expect"] = said
			}
			if len(body) == 0 {
				return usage{errors.New("nothing is to be otherwise; see wexillum expect set --help")}
			}
			if x.why != "" {
				body["why"] = x.why
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.SetExpectationWithApplicationMergePatchPlusJSONBody(c.Context(), args[0], &contract.SetExpectationParams{}, body)
			var out contract.Expectation
			if err := r.read(resp, err, &out); err != nil {
				return err
			}
			return a.printExpectation(&out)
		}}
	x.flags(a, c, false)
	return c
}

func (a *app) expectRemove() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "remove ID", Short: "Expect something no longer", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if strings.TrimSpace(why) == "" {
				return usage{errors.New("what is expected no longer has a reason: give --why")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.RemoveExpectation(c.Context(), args[0], &contract.RemoveExpectationParams{Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("%s is expected no longer.", args[0])
			return nil
		}}
	whyFlag(c, &why)
	return c
}

func (a *app) expectProposed() *cobra.Command {
	var take []string
	var all bool
	c := &cobra.Command{Use: "proposed", Short: "What might be expected, from what is there: each is so today", Args: cobra.NoArgs,
		Example: "  wexillum expect proposed\n  wexillum expect proposed --take marrowby-reaches-nothing",
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ProposedExpectations(c.Context())
			var x contract.Expectations
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if len(take) == 0 && !all {
				rows := [][]string{}
				for i := range x.Expectations {
					e := &x.Expectations[i]
					rows = append(rows, []string{e.Id, number(e.May), e.Says, pick(e.Reason)})
				}
				return a.records(x.Expectations, []string{"id", "may now", "what might be expected", "because"}, rows)
			}
			for _, id := range take {
				if !slices.ContainsFunc(x.Expectations, func(e contract.Expectation) bool { return e.Id == id }) {
					return usage{fmt.Errorf("--take %q: it is not proposed; see wexillum expect proposed", id)}
				}
			}
			for i := range x.Expectations {
				e := &x.Expectations[i]
				if !all && !slices.Contains(take, e.Id) {
					continue
				}
				why := "proposed, and so today"
				resp, err := r.AddExpectation(c.Context(), &contract.AddExpectationParams{}, contract.ExpectationChange{
					Id: &e.Id, Party: e.Party, Action: e.Action, Resource: e.Resource, Expect: e.Expect, Owner: e.Owner, Reason: e.Reason, Why: &why,
				})
				if err := r.read(resp, err, nil); err != nil {
					return err
				}
				a.say("Expected: %s (%s)", e.Says, e.Id)
			}
			return nil
		}}
	c.Flags().StringSliceVar(&take, "take", nil, "expect these, by their ids")
	c.Flags().BoolVar(&all, "all", false, "expect all of them")
	return c
}

func (a *app) expectRun() *cobra.Command {
	var against, junit string
	c := &cobra.Command{Use: "run [ID]...", Short: "Judge expectations anew, now and on each of the next 30 days",
		Long:    "Judge expectations anew, now and on each of the next 30 days: of the service, of a\ndraft (--draft), of what systems hold (--found), or of a file alone (--world). With\n--against, what the policy of that file breaks already is no fault of the first one.\n\nExit status 0 all hold, 3 one is broken, 1 one is unknown.",
		Example: "  wexillum expect run\n  wexillum expect run --draft \"Open the dossier\"\n  wexillum expect run --world next.yaml --against main.yaml --junit report.xml",
		RunE: func(c *cobra.Command, args []string) error {
			var list []contract.Expectation
			before := map[string]bool{}
			if a.world != "" {
				var err error
				if list, err = a.expectFile(c.Context(), a.world, args, against, before); err != nil {
					return err
				}
			} else {
				if against != "" {
					return usage{errors.New("--against names a file beside --world; of a service, --draft judges what a draft would make")}
				}
				r, err := a.remote()
				if err != nil {
					return err
				}
				body := contract.JudgeExpectationsJSONRequestBody{}
				if len(args) > 0 {
					body.Ids = &args
				}
				resp, err := r.JudgeExpectations(c.Context(), body)
				var x contract.Expectations
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				list = x.Expectations
			}
			if junit != "" {
				if err := writeJUnit(junit, list, before); err != nil {
					return err
				}
			}
			rows := expectRows(list)
			broken, unknown := 0, 0
			for i := range list {
				switch {
				case list[i].State == contract.ExpectationStateBroken && before[list[i].Id]:
					rows[i][1] = "broken already"
				case list[i].State == contract.ExpectationStateBroken:
					broken++
				case list[i].State == contract.ExpectationStateUnknown:
					unknown++
				}
			}
			if err := a.records(list, expectColumns, rows); err != nil {
				return err
			}
			if a.output == "table" {
				for i := range list {
					if x := &list[i]; x.State == contract.ExpectationStateBroken {
						a.printf("\n%s: %s", x.Id, times(x))
						for k := range x.Examples[:min(3, len(x.Examples))] {
							e := &x.Examples[k]
							a.printf("\n  %s (%s): %s, %s", e.Name, e.Who, e.Action, e.Resource)
						}
						a.printf("\n")
					}
				}
			}
			switch {
			case broken > 0:
				return exit(statusNo)
			case unknown > 0:
				return exit(statusFailed)
			}
			return nil
		}}
	c.Flags().StringVar(&against, "against", "", "with --world, a file whose policy is in force: what it breaks already does not count")
	c.Flags().StringVar(&junit, "junit", "", "also write a report for a pipeline (JUnit XML) into this file")
	return c
}

// expectFile judges the expectations of a file.
func (a *app) expectFile(ctx context.Context, file string, ids []string, against string, before map[string]bool) ([]contract.Expectation,
	error) {
	w, now, err := a.fileWorld(file, a.with)
	if err != nil {
		return nil, err
	}
	s := engine.Of(w)
	list := expect.All(w)
	for _, id := range ids {
		if !slices.ContainsFunc(list, func(x *expect.Statement) bool { return x.ID == id }) {
			return nil, usage{fmt.Errorf("there is no expectation %q in %s", id, file)}
		}
	}
	if len(ids) > 0 {
		list = slices.DeleteFunc(list, func(x *expect.Statement) bool { return !slices.Contains(ids, x.ID) })
	}
	out := make([]contract.Expectation, len(list))
	err = expect.Judge(s, list, now, expect.NextDays, ctx.Err, func(i int, j expect.Judged) {
		out[i] = answer.Expectation(s, list[i].Expectation, &j, now)
	})
	if err != nil || against == "" {
		return out, err
	}
	old, _, err := a.fileWorld(against, nil)
	if err != nil {
		return nil, err
	}
	_, was, is, err := answer.Files(old, w, now, "")
	if err != nil {
		return nil, usage{err}
	}
	for i := range list {
		if out[i].State != contract.ExpectationStateBroken {
			continue
		}
		j, err := list[i].Added(was, is, now, ctx.Err)
		if err != nil {
			return nil, err
		}
		if before[list[i].ID] = j.State != expect.Broken; j.State == expect.Broken {
			out[i] = answer.Expectation(s, list[i].Expectation, &j, now)
		}
	}
	return out, nil
}

// JUnit's form, as far as it is agreed upon.
type (
	junitSuite struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string     `xml:"name,attr"`
		Class   string     `xml:"classname,attr"`
		Failure *junitSays `xml:"failure,omitempty"`
		Error   *junitSays `xml:"error,omitempty"`
		Skipped *junitSays `xml:"skipped,omitempty"`
	}
	junitSays struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// writeJUnit writes what was judged as a report that pipelines read.
func writeJUnit(file string, list []contract.Expectation, before map[string]bool) error {
	suite := junitSuite{Name: "expectations", Tests: len(list)}
	for i := range list {
		x := &list[i]
		c := junitCase{Name: x.Says, Class: "expectations." + x.Id}
		switch {
		case x.State == contract.ExpectationStateBroken && before[x.Id]:
			suite.Skipped++
			c.Skipped = &junitSays{Message: "broken before, too"}
		case x.State == contract.ExpectationStateBroken:
			suite.Failures++
			var lines []string
			for k := range x.Examples {
				e := &x.Examples[k]
				lines = append(lines, fmt.Sprintf("%s (%s): %s, %s", e.Name, e.Who, e.Action, e.Resource))
			}
			c.Failure = &junitSays{Message: standing(x) + ": " + times(x), Text: strings.Join(lines, "\n")}
		case x.State == contract.ExpectationStateUnknown:
			suite.Errors++
			c.Error = &junitSays{Message: pick(x.Unknown)}
		}
		suite.Cases = append(suite.Cases, c)
	}
	text, err := xml.MarshalIndent(suite, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append([]byte(xml.Header), append(text, '\n')...), 0o644)
}

package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
)

func (a *app) ask() *cobra.Command {
	var at string
	var with []string
	var all, try bool
	var sup supposed
	var rem remedies
	c := &cobra.Command{
		Use:   "ask WHO ACTION RESOURCE",
		Short: "Ask whether somebody may do something: the decision and every gate",
		Long: `Ask whether somebody may do something: the decision and every gate.

WHO is a name, an address, person:ID, link:ID, or *@domain for a typical newcomer
from there. ACTION is its name or its verb, as invite or open. RESOURCE is a name or
kind:id. Where several fit, they are listed. Some actions need more, as --context address=….

With --would-grant, --would-join, --would-bundle, --would-invite or --would-link,
it lists instead everything that this would open and is not there yet; ACTION and
RESOURCE may then be left out.

Exit status 0 is yes, 3 is no, 2 a question that makes no sense.`,
		Example: "  wexillum ask h.brannoch@oskelund.example --would-invite --would-grant space:docent-course=view\n  wexillum ask maren.holtveig@ilvane.example files.open folder:loan-valuations\n  wexillum ask person:t.wrayburn directory.invite space:docent-course --context address=h.brannoch@oskelund.example",
		Args: func(c *cobra.Command, args []string) error {
			if sup.any() {
				return cobra.MaximumNArgs(3)(c, args)
			}
			return cobra.ExactArgs(3)(c, args)
		},
		RunE: func(c *cobra.Command, args []string) error {
			if sup.any() {
				return a.would(c, &sup, at, all, args)
			}
			q := contract.Question{Subject: args[0], Action: args[1], Resource: args[2]}
			if at != "" {
				q.At = &at
			}
			qc, err := questionContext(with)
			if err != nil {
				return err
			}
			q.Context = qc
			var x contract.Answer
			if a.world != "" {
				if x, err = a.askFile(q); err != nil {
					return err
				}
			} else {
				r, err := a.remote()
				if err != nil {
					return err
				}
				resp, err := r.Ask(c.Context(), q)
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
			}
			no := x.Decision != contract.AnswerDecisionYes
			if rem.take > 0 && no {
				return a.remedy(c, &rem, q)
			}
			if !rem.show || a.output == "table" {
				if err := a.printAnswer(&x, all); err != nil {
					return err
				}
			}
			if rem.show {
				if err := a.remedy(c, &rem, q); err != nil {
					return err
				}
			}
			if try {
				if err := a.try(c, q); err != nil {
					return err
				}
			}
			if no {
				return exit(statusNo)
			}
			return nil
		},
		ValidArgsFunction: func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 2 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return a.completion([]string{"who", "action", "resource"}[len(args)])(c, args, text)
		},
	}
	c.Flags().StringVar(&at, "at", "", "a date, a moment, or days from today as +3d; now where absent")
	c.Flags().StringArrayVar(&with, "context", nil, "address=…, presenter=…, account=record|home|link, keep_copy=yes|no")
	c.Flags().BoolVar(&try, "try", false, "attempt it at the system that carries it, too, and say what came of it")
	sup.flags(c)
	rem.flags(c)
	c.Flags().BoolVarP(&all, "all", "a", false, "also the causes of gates that pass, and every account with its chains")
	return c
}

// try attempts what a question is about at the system that carries it.
func (a *app) try(c *cobra.Command, q contract.Question) error {
	if a.world != "" {
		return usage{errors.New("--try asks a system, which a file alone has not; leave --world away")}
	}
	if q.At != nil {
		return usage{errors.New("--try is tried now; leave --at away")}
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	resp, err := r.Try(c.Context(), q)
	var x contract.Trial
	if err := r.read(resp, err, &x); err != nil {
		return err
	}
	if a.output != "table" {
		return a.records(x, nil, nil)
	}
	a.printf("\n  tried at %s", cmp.Or(pick(x.System), "no system"))
	if f := pick(x.From); f != "" {
		a.printf(" as %s", f)
	}
	a.printf(": %s\n", strings.ReplaceAll(string(x.Outcome), "_", " "))
	a.printf("    it says: %s\n", pick(x.Says))
	switch {
	case x.Contradiction != nil:
		a.printf("    This contradicts what was read there: the settings it leans on are taken for not done.\n")
	case x.Found != nil && (x.Outcome == "admitted" || x.Outcome == "refused"):
		a.printf("    As was read there%s.\n", map[bool]string{true: ", and as is meant",
			false: ", and otherwise than meant"}[(x.Outcome == "admitted") == (x.Meant == "yes")])
	}
	return nil
}

func questionContext(with []string) (*contract.QuestionContext, error) {
	if len(with) == 0 {
		return nil, nil
	}
	out := &contract.QuestionContext{}
	for _, w := range with {
		k, v, ok := splitPair(w)
		switch {
		case !ok:
			return nil, usage{fmt.Errorf("--context %q: write key=value", w)}
		case k == "address":
			out.Address = &v
		case k == "presenter":
			out.Presenter = &v
		case k == "account":
			acc := contract.QuestionContextAccount(v)
			out.Account = &acc
		case k == "keep_copy" && (v == "yes" || v == "no"):
			b := v == "yes"
			out.KeepCopy = &b
		case k == "keep_copy":
			return nil, usage{fmt.Errorf("--context keep_copy=%q: write yes or no", v)}
		default:
			return nil, usage{fmt.Errorf("--context %q: there are address, presenter, account and keep_copy", k)}
		}
	}
	return out, nil
}

func (a *app) askFile(q contract.Question) (x contract.Answer, err error) {
	s, now, err := a.offline()
	if err != nil {
		return x, err
	}
	question := q
	eq, err := answer.Question(&question, s, now, answer.AllNames)
	if err != nil {
		return x, err
	}
	found, err := s.Explain(&eq)
	if err != nil {
		return x, err
	}
	return answer.Of(s, found, 0), nil
}

// The marks of a gate's answer; the words say the same.
var gateMarks = map[contract.GateAnswer]string{contract.Pass: "▲ pass", contract.Refuse: "▼ REFUSE", contract.NotAsked: "· not asked"}

func (a *app) printAnswer(x *contract.Answer, all bool) error {
	if a.output != "table" {
		rows := [][]string{}
		for _, acc := range x.Accounts {
			for _, g := range acc.Gates {
				for _, c := range g.Causes {
					rows = append(
						rows,
						[]string{
							acc.Account,
							string(acc.Decision),
							g.Gate,
							string(g.Answer),
							c.Code,
							string(c.Side),
							pick(c.Who),
							c.Text,
							pick(c.Next),
						},
					)
				}
				if len(g.Causes) == 0 {
					rows = append(rows, []string{acc.Account, string(acc.Decision), g.Gate, string(g.Answer), "", "", "", "", ""})
				}
			}
		}
		return a.records(x, []string{"account", "decision", "gate", "answer", "code", "side", "who", "text", "next"}, rows)
	}
	who := x.Subject
	if n := pick(x.Name); n != "" {
		who = n + " <" + x.Subject + ">"
	}
	what := x.Resource
	if n := pick(x.ResourceName); n != "" {
		what = n + " (" + x.Resource + ")"
	}
	word, may := a.colour("1;31", "NO "), "may not"
	if x.Decision == contract.AnswerDecisionYes {
		word, may = a.colour("1;32", "YES"), "may"
	}
	a.printf("%s  %s, %s, %s %s: %s\n", word, clean(who), x.Kind, may, pick(x.ActionTitle), clean(what))
	if about := pick(x.Address); about != "" {
		a.printf("     about %s\n", clean(about))
	}
	a.printf("     %s at %s, acting with %s", x.Action, seconds(x.At), accountWord(x.Account))
	if x.Settling != nil {
		a.printf("; not yet in the suite")
		if from := pick(x.Settling.From); from != "" {
			a.printf(", expected %s", clock(from))
		}
	}
	if len(x.Conditions) > 0 {
		a.printf(", on condition: %s", strings.Join(x.Conditions, ", "))
	}
	if x.NotLookedAt != nil {
		a.printf("\n     The system has nothing for what this leans on, so that it may be otherwise there: %s",
			strings.Join(*x.NotLookedAt, ", "))
	}
	a.printf("\n\n")
	a.printGates(x.Gates, all)
	if len(x.Accounts) > 1 {
		a.printf("\n")
		for _, acc := range x.Accounts[1:] {
			a.printf("With %s: %s", accountWord(acc.Account), acc.Decision)
			if acc.Decision == contract.AccountAnswerDecisionYes && len(acc.Conditions) > 0 {
				a.printf(" (%s)", strings.Join(acc.Conditions, ", "))
			}
			a.printf("\n")
			if acc.Decision == contract.AccountAnswerDecisionNo || all {
				a.printGates(acc.Gates, all)
			}
		}
	}
	return nil
}

// seconds cuts a moment to what people read.
func seconds(at string) string {
	whole, _, cut := strings.Cut(at, ".")
	if cut {
		return whole + "Z"
	}
	return at
}

func accountWord(acc string) string {
	switch acc {
	case "record":
		return "the record with us"
	case "home":
		return "the home account"
	case "link":
		return "the link"
	}
	return "the own account"
}

func (a *app) printGates(gates []contract.Gate, all bool) {
	for _, g := range gates {
		mark := gateMarks[g.Answer]
		switch g.Answer {
		case contract.Refuse:
			mark = a.colour("31", mark)
		case contract.Pass:
			mark = a.colour("32", mark)
		}
		a.printf("  %-12s %s\n", g.Gate, mark)
		for _, c := range g.Causes {
			if !c.Refuses && !all {
				continue
			}
			whose := string(c.Side)
			if w := pick(c.Who); w != "" {
				whose += ", " + w
			}
			a.printf("  %-12s   %s\n", "", wrap(c.Text+" ["+whose+"]", 17, a.width()))
			if n := pick(c.Next); n != "" {
				a.printf("  %-12s   → %s\n", "", wrap(n, 19, a.width()))
			}
			if c.Chain != nil && (all || c.Refuses) {
				var steps []string
				for _, s := range *c.Chain {
					t := string(s.Layer)
					if w := pick(s.Where); w != "" {
						t += " " + w
					}
					if v := pick(s.Value); v != "" {
						t += " " + v
					} else {
						t += " –"
					}
					if h := pick(s.Held); h != "" {
						t += " (held back: " + h + ")"
					}
					if s.Decides != nil && *s.Decides {
						t += " ◂"
					}
					steps = append(steps, t)
				}
				a.printf("  %-12s     %s: %s\n", "", pick(c.Rule), wrap(strings.Join(steps, " · "), 19, a.width()))
			}
		}
	}
}

// together puts lines of a reach into one where service, resource, decision and
// cause are the same: the actions are listed by their verbs.
func together(lines []contract.ReachLine) (rows [][]string) {
	at := map[string]int{}
	for _, l := range lines {
		verb := strings.TrimPrefix(l.Action, l.Service+".")
		row := []string{
			resourceText(l.Resource, l.Count),
			map[contract.ReachLineDecision]string{contract.ReachLineDecisionYes: "▲ yes", contract.ReachLineDecisionNo: "▼ no"}[l.Decision],
			l.Service + ": " + verb,
			strings.Join(l.Conditions, ", "),
			day(pick(l.Until)),
			l.Cause.Text,
		}
		if l.Residual != nil && *l.Residual {
			row[5] += " (residual risk)"
		}
		key := strings.Join([]string{l.Service, row[0], row[1], row[3], row[4], row[5]}, "\x00")
		if i, ok := at[key]; ok {
			rows[i][2] += ", " + verb
			continue
		}
		at[key] = len(rows)
		rows = append(rows, row)
	}
	return
}

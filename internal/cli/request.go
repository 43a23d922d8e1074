package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

var requestStates = map[contract.RequestState]string{
	"open":      "open",
	"drafted":   "a draft was made",
	"answered":  "answered",
	"refused":   "▼ no",
	"works":     "▲ works",
	"withdrawn": "taken back",
	"lapsed":    "▼ nobody answered in time",
}

func (a *app) request() *cobra.Command {
	c := &cobra.Command{Use: "request", Short: "Send a refused question to somebody who can change it, and hear when it works"}
	show := a.printRequest
	var with []string
	var purpose string
	send := &cobra.Command{
		Use:     "send WHO ACTION RESOURCE",
		Short:   "Send a refused question, with its purpose, to somebody who can change it",
		Args:    cobra.ExactArgs(3),
		Example: "  wexillum request send person:j.penhallow directory.invite space:docent-course --context address=h.brannoch@oskelund.example --purpose \"the spring course\"",
		ValidArgsFunction: func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 2 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return a.completion([]string{"who", "action", "resource"}[len(args)])(c, args, text)
		},
		RunE: func(c *cobra.Command, args []string) error {
			if strings.TrimSpace(purpose) == "" {
				return usage{errors.New("say what it is for: give --purpose")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			q := contract.Question{Subject: args[0], Action: args[1], Resource: args[2]}
			if q.Context, err = questionContext(with); err != nil {
				return err
			}
			resp, err := r.MakeRequest(c.Context(), nil, contract.NewRequest{Question: &q, Purpose: purpose})
			var x contract.Request
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return show(&x)
		},
	}
	send.Flags().StringVar(&purpose, "purpose", "", "what it is for")
	send.Flags().StringArrayVar(&with, "context", nil, "address=…, presenter=…")
	var over bool
	list := &cobra.Command{
		Use:   "list",
		Short: "Requests, the newest first",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.Requests(c.Context(), &contract.RequestsParams{Over: &over})
			var x struct {
				Requests []contract.Request `json:"requests"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, q := range x.Requests {
				rows = append(rows, []string{q.Id, requestStates[q.State], q.By, strings.Join(q.ToNames, ", "), q.Title, q.Purpose})
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("There is no request. From a refused question: wexillum request send WHO ACTION RESOURCE --purpose …")
				return nil
			}
			return a.records(x.Requests, []string{"id", "state", "by", "goes to", "what", "purpose"}, rows)
		},
	}
	list.Flags().BoolVar(&over, "over", false, "those that are over too")
	one := func(use, short string, run func(c *cobra.Command, r *remote, id string) error) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			return run(c, r, args[0])
		}}
	}
	c.AddCommand(send, list, one("show ID", "A request and what became of it", func(c *cobra.Command, r *remote, id string) error {
		resp, err := r.Request(c.Context(), id)
		var x contract.Request
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		return show(&x)
	}))
	for _, x := range []struct {
		use, short string
		refuse     bool
	}{{"answer ID", "Answer a request", false}, {"refuse ID", "Say no to a request, with the reason", true}} {
		var why string
		k := one(x.use, x.short, func(c *cobra.Command, r *remote, id string) error {
			if strings.TrimSpace(why) == "" {
				return usage{errors.New("an answer, and a no too, says why: give --why")}
			}
			resp, err := r.AnswerRequest(c.Context(), id, contract.AnswerRequestJSONRequestBody{Text: why, Refuse: &x.refuse})
			var q contract.Request
			if err := r.read(resp, err, &q); err != nil {
				return err
			}
			return show(&q)
		})
		k.Flags().StringVar(&why, "why", "", "the answer, or the reason")
		c.AddCommand(k)
	}
	var why string
	var preview bool
	var until string
	var less []string
	do := one("do ID", "Make the changes that a request asks for, let somebody in, or approve a bundle",
		func(c *cobra.Command, r *remote, id string) error {
			body := contract.RequestDo{Why: optional(why), Until: optional(until)}
			if len(less) > 0 {
				list, err := lessOf("less", less, false)
				if err != nil {
					return err
				}
				body.Less = &list
			}
			resp, err := r.DoRequest(c.Context(), id, &contract.DoRequestParams{Preview: &preview}, body)
			var x contract.PlacesChanged
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.placesDone(&x)
		})
	do.Flags().BoolVar(&preview, "preview", false, "say who would gain and lose, and change nothing")
	do.Flags().StringVar(&until, "until", "", "of a bundle: an earlier end than was asked for")
	do.Flags().StringArrayVar(&less, "less", nil,
		"of a bundle: RESOURCE, which is not given, or RESOURCE=ROLE for a lower role; again for more")
	whyFlag(do, &why)
	c.AddCommand(&cobra.Command{Use: "hand-over ID PERSON", Short: "Ask somebody else to approve a bundle that is asked for",
		Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.HandOverRequest(c.Context(), args[0], contract.HandOverRequestJSONRequestBody{To: args[1]})
			var x contract.Request
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return show(&x)
		}})
	c.AddCommand(do, one("withdraw ID", "Take back what you asked for", func(c *cobra.Command, r *remote, id string) error {
		resp, err := r.WithdrawRequest(c.Context(), id)
		var x contract.Request
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		return show(&x)
	}))
	var option string
	make := one("draft ID", "Make a draft of the narrowest that would make it a yes", func(c *cobra.Command, r *remote, id string) error {
		resp, err := r.DraftRequest(c.Context(), id, contract.DraftRequestJSONRequestBody{Option: optional(option)})
		var d contract.Draft
		if err := r.read(resp, err, &d); err != nil {
			return err
		}
		return a.printDraft(&d)
	})
	make.Flags().StringVar(&option, "option", "", "id of another set of changes, from ask --remedy -o json")
	c.AddCommand(make)
	return c
}

// printRequest tells a request and what became of it.
func (a *app) printRequest(x *contract.Request) error {
	if a.output != "table" {
		return a.records(
			x,
			[]string{"id", "state", "by", "what", "purpose", "answer"},
			[][]string{{x.Id, string(x.State), x.By, x.Title, x.Purpose, pick(x.Answer)}},
		)
	}
	a.say("%s  %s (%s)", x.Id, x.Title, requestStates[x.State])
	a.say("  asked by  %s, %s: %s", x.By, day(x.Made), x.Purpose)
	a.say("  goes to   %s", strings.Join(x.ToNames, ", "))
	if b := x.Bundle; b != nil {
		for i, q := range b.Asked {
			a.say("  %-8s  %s %s", []string{"says", ""}[min(i, 1)], q, b.Said[i])
		}
		if b.Gives != nil {
			a.say("  gives     %s", gifts(*b.Gives))
		}
		for _, l := range b.Less {
			a.say("  but       %s: %s", l.Resource, cmp.Or(pick(l.Role), "not given"))
		}
		if t := pick(b.Until); t != "" {
			a.say("  until     %s", day(t))
		}
		for i, s := range b.Steps {
			told := strings.Join(s.Who, " or ")
			if s.Given != nil {
				told = fmt.Sprintf("%s, on %s", *s.Given, day(pick(s.At)))
			}
			if s.For != nil {
				told += ", for " + *s.For
			}
			if s.Deciding != nil {
				told += "; now " + strings.Join(*s.Deciding, " or ")
			}
			a.say("  %-8s  %s", []string{"approves", "then"}[min(i, 1)], told)
		}
	}
	if open := x.State == "open" || x.State == "drafted" ||
		x.State == "answered"; x.Question == nil && open && (x.Bundle == nil || x.Bundle.May) {
		a.say("  to do it  wexillum request do %s", x.Id)
	}
	if d := pick(x.Draft); d != "" {
		a.say("  draft     %s", d)
	}
	if t := pick(x.Answer); t != "" {
		a.say("  answer    %s (%s)", t, pick(x.Closer))
	}
	if x.State == "works" {
		a.say("  works     since %s", day(pick(x.Closed)))
	}
	return nil
}

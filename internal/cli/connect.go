package cli

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

func (a *app) partnerConnect() *cobra.Command {
	var way, role string
	var spaces []string
	c := &cobra.Command{Use: "connect ID",
		Short: "How to connect their people for good instead of inviting many: what is left to do, and what becomes of guests",
		Args:  cobra.ExactArgs(1), ValidArgsFunction: a.completion("partner"),
		Example: "  wexillum partner connect ilvane --way membership --space loan-dossier --role view",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			params := &contract.ConnectPartnerParams{Way: way, Role: optional(role)}
			if len(spaces) > 0 {
				params.Space = &spaces
			}
			resp, err := r.ConnectPartner(c.Context(), args[0], params)
			var x contract.Connect
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				rows := [][]string{}
				for i := range x.People {
					p := &x.People[i]
					rows = append(rows, []string{p.Address, pick(p.Name), pick(p.State), strconv.Itoa(p.Roles), string(p.Becomes), p.Text})
				}
				return a.records(&x, []string{"address", "name", "state", "roles", "becomes", "what that means"}, rows)
			}
			a.say("%s, by %s:", x.Name, x.Way)
			for i := range x.Steps {
				s := &x.Steps[i]
				a.say("  %s %d. %s", map[bool]string{true: "done", false: "    "}[s.Done], i+1, wrap(s.Text, 9, a.width()))
				for _, line := range connectCommands(args[0], s) {
					a.say("          %s", line)
				}
			}
			if x.Done {
				a.say("Nothing is left to do.")
			}
			if len(x.People) > 0 {
				a.say("")
				rows := [][]string{}
				for i := range x.People {
					p := &x.People[i]
					rows = append(rows, []string{p.Address, cmp.Or(pick(p.State), "no record"), strconv.Itoa(p.Roles), p.Text})
				}
				a.table([]string{"who is here", "state", "roles", "what becomes of them"}, rows)
			}
			for i := range x.Twins {
				t := &x.Twins[i]
				a.say("Here twice? %s: %s and %s. To make them one, with nothing lost: wexillum guest merge %s %s --reason …", t.Name, t.Fed, t.Guest,
					t.Guest, t.Fed)
			}
			return nil
		}}
	c.Flags().StringVar(&way, "way", "membership", "federation, membership (with the home account) or feed")
	c.Flags().StringSliceVar(&spaces, "space", nil, "of membership, the spaces that they come into")
	c.Flags().StringVar(&role, "role", "view", "of membership, as what: view, contribute or manage")
	_ = c.RegisterFlagCompletionFunc("space", a.completion("space"))
	return c
}

// connectCommands are the commands that a step is made of.
func connectCommands(partner string, s *contract.ConnectStep) (out []string) {
	if s.Done {
		return nil
	}
	keys := ""
	if s.Keys != nil {
		keys = strings.Join(*s.Keys, " ")
	}
	switch s.Do {
	case "open":
		return []string{fmt.Sprintf("wexillum partner open %s %s --why …", partner, keys)}
	case "letter":
		return []string{fmt.Sprintf("wexillum partner sheet %s", partner)}
	case "rule":
		if q := s.Question; q != nil {
			return []string{"wexillum ask " + words(q.Subject, q.Action, q.Resource)}
		}
		return []string{fmt.Sprintf("wexillum rules set directory.feed_in --partner %s --value on --why …", partner)}
	case "feed":
		return []string{fmt.Sprintf("wexillum feed begin %s --why …", partner)}
	case "feed_on":
		return []string{fmt.Sprintf("wexillum feed people %s --waiting, then wexillum feed apply %s --few 3 --why …, then wexillum feed set %s --state on --why …",
			partner, partner, partner)}
	case "try":
		if q := s.Question; q != nil {
			return []string{"wexillum ask " + words(q.Subject, q.Action, q.Resource)}
		}
	}
	if s.Edits == nil {
		return nil
	}
	for _, e := range *s.Edits {
		if e.Do == "add" && e.Fields != nil {
			f := *e.Fields
			out = append(out, "wexillum grant add "+words(fmt.Sprint(f["party"]), fmt.Sprint(f["resource"]), "--role", fmt.Sprint(f["role"]))+" --why …")
		} else if e.Id != nil {
			if p := strings.Fields(*e.Id); len(p) > 1 {
				out = append(out, fmt.Sprintf("wexillum grant end %s %s --why …", p[0], p[1]))
			}
		}
	}
	if n := len(out); n > 5 {
		out = append(out[:5], fmt.Sprintf("… and %d more", n-5))
	}
	return out
}

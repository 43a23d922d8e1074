package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
)

// supposed is the flags of ask that ask about what is not there yet.
type supposed struct {
	grants, groups []string
	bundle, link   string
	invite         bool
}

func (x *supposed) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringArrayVar(&x.grants, "would-grant", nil, "RESOURCE=ROLE: what this grant would open, as space:loan-dossier=contribute")
	f.StringArrayVar(&x.groups, "would-join", nil, "GROUP: what being put into this group would open")
	f.StringVar(&x.bundle, "would-bundle", "", "BUNDLE: what this bundle would open")
	f.BoolVar(&x.invite, "would-invite", false, "what an invitation would open, together with the others")
	f.StringVar(&x.link, "would-link", "", "ITEM=RIGHT: what a link would open that works for whoever holds it, as file:press-kit=view")
}

func (x *supposed) any() bool {
	return len(x.grants)+len(x.groups) > 0 || x.bundle != "" || x.link != "" || x.invite
}

// would lists what would be opened and what would not.
func (a *app) would(c *cobra.Command, x *supposed, at string, all bool, args []string) error {
	body := contract.Supposition{At: optional(at), Bundle: optional(x.bundle)}
	if x.link != "" {
		item, right, ok := splitPair(x.link)
		body.Link = &contract.SupposedLink{Item: item}
		if ok {
			r := contract.SupposedLinkRight(right)
			body.Link.Right = &r
		}
	} else {
		if len(args) == 0 {
			return usage{fmt.Errorf("say who would be given it: an address or *@domain")}
		}
		body.Subject = &args[0]
		args = args[1:]
	}
	if x.invite {
		body.Invite = &x.invite
	}
	if len(x.grants) > 0 {
		gs := []contract.SupposedGrant{}
		for _, g := range x.grants {
			resource, role, ok := splitPair(g)
			if !ok {
				return usage{fmt.Errorf("--would-grant %q: write RESOURCE=ROLE, as space:loan-dossier=contribute", g)}
			}
			gs = append(gs, contract.SupposedGrant{Resource: resource, Role: contract.SupposedGrantRole(role)})
		}
		body.Grants = &gs
	}
	if len(x.groups) > 0 {
		body.Groups = &x.groups
	}
	var out contract.Would
	if a.world != "" {
		s, now, err := a.offline()
		if err != nil {
			return err
		}
		sup := body
		y, at, err := answer.Suppose(&sup, s, now)
		if err != nil {
			return err
		}
		lines, kind, err := s.Would(y, at)
		if err != nil {
			return err
		}
		who := y.Address.String()
		if y.Link != nil {
			who = "whoever holds the link"
		}
		out = answer.Would(who, kind, at, lines, 0)
	} else {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.Would(c.Context(), body)
		if err := r.read(resp, err, &out); err != nil {
			return err
		}
	}
	rows := [][]string{}
	yes := false
	count := map[string]int{}
	for _, l := range out.Lines {
		if len(args) > 0 && l.Action != args[0] || len(args) > 1 && l.Resource != args[1] && !strings.HasSuffix(l.Resource, ":*") {
			continue
		}
		count[string(l.Change)] += l.Count
		yes = yes || l.Change != contract.WouldLineChangeClosed
		if !all && (l.Change == contract.WouldLineChangeOpen || l.Change == contract.WouldLineChangeClosed) {
			continue
		}
		rows = append(
			rows,
			[]string{
				changeWords[l.Change],
				l.Action,
				resourceText(l.Resource, l.Count),
				pick(l.To),
				strings.Join(l.Conditions, ", "),
				l.Text,
			},
		)
	}
	if err := a.records(out, []string{"change", "action", "resource", "to", "conditions", "why"}, rows); err != nil {
		return err
	}
	a.say(
		"\n%d opened, %d open otherwise than now, %d open as now, %d still closed%s.",
		count["opened"],
		count["otherwise"],
		count["open"],
		count["closed"],
		map[bool]string{false: "; all of them with --all", true: ""}[all],
	)
	if len(args) > 0 && !yes {
		return exit(statusNo)
	}
	return nil
}

var changeWords = map[contract.WouldLineChange]string{
	contract.WouldLineChangeOpened:    "+ opened",
	contract.WouldLineChangeOtherwise: "~ otherwise",
	contract.WouldLineChangeOpen:      "= open",
	contract.WouldLineChangeClosed:    "- closed",
}

func resourceText(r string, count int) string {
	if strings.HasSuffix(r, ":*") && count > 1 {
		return fmt.Sprintf("%s (%d)", r, count)
	}
	return r
}

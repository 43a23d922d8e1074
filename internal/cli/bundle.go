package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

func (a *app) bundle() *cobra.Command {
	c := &cobra.Command{Use: "bundle", Short: "Sets of access that people outside ask for, and that are given for a time",
		Long: "Sets of access that people outside ask for, and that are given for a time. What follows\nfrom holding one is what the bundle gives at that moment: changing the bundle changes it\nfor everybody who holds it, and a draft says for whom."}
	c.AddCommand(a.bundleList(), a.bundleShow(), a.bundleAdd(), a.bundleSet(), a.bundleRemove(), a.bundleAsk(), a.bundleEnd())
	return c
}

func gifts(list []contract.Gift) string {
	var out []string
	for _, g := range list {
		out = append(out, g.Name+": "+string(g.Role))
	}
	return strings.Join(out, ", ")
}

// askedBy says whose people may ask for a bundle.
func askedBy(b *contract.Bundle) string {
	out := b.PartnerNames
	if b.Others {
		out = append(append([]string{}, out...), "anybody who may be invited")
	}
	if b.Closed {
		out = append(append([]string{}, out...), "(closed)")
	}
	return strings.Join(out, ", ")
}

func (a *app) bundleList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "Bundles, who may ask for them and how many hold them", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ListBundles(c.Context())
			var x contract.Bundles
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if len(x.Bundles) == 0 && a.output == "table" {
				a.say("There is no bundle. Make one: wexillum bundle add NAME --give space:ID=view --for PARTNER")
				return nil
			}
			rows := [][]string{}
			for i := range x.Bundles {
				b := &x.Bundles[i]
				rows = append(rows, []string{b.Id, b.Name, gifts(b.Gives), askedBy(b), number(&b.Held), number(&b.Asked)})
			}
			return a.records(x.Bundles, []string{"id", "name", "gives", "for", "hold it", "ask for it"}, rows)
		}}
}

func (a *app) bundleShow() *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "A bundle: what it gives, what that opens for whom, and who holds it",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("bundle"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetBundle(c.Context(), args[0])
			var b contract.Bundle
			if err := r.read(resp, err, &b); err != nil {
				return err
			}
			return a.printBundle(&b)
		}}
}

func (a *app) printBundle(b *contract.Bundle) error {
	if a.output != "table" {
		return a.records(b, []string{"id", "name", "gives", "for", "hold it", "ask for it"},
			[][]string{{b.Id, b.Name, gifts(b.Gives), askedBy(b), number(&b.Held), number(&b.Asked)}})
	}
	a.say("%s (%s)", b.Name, b.Id)
	a.say("  gives        %s", gifts(b.Gives))
	a.say("  for          %s", askedBy(b))
	approval := strings.Join(b.Approval, ", then ")
	if approval == "" {
		approval = "keeper"
	}
	a.say("  approved by  %s", approval)
	for i, q := range b.Questions {
		a.say("  %s  %s", []string{"asks       ", "           "}[min(i, 1)], q)
	}
	if b.TermDays != nil {
		a.say("  given for    %s at most, extended %s", counted.Of(*b.TermDays, "day", "days"),
			map[contract.BundleExtend]string{contract.BundleExtendApproved: "with the same approval",
				contract.BundleExtendSilent: "by whoever holds it, without an approval"}[b.Extend])
	}
	if b.ReviewDays != nil {
		a.say("  confirmed    every %s", counted.Of(*b.ReviewDays, "day", "days"))
	}
	if len(b.NotWith) > 0 {
		a.say("  not beside   %s", strings.Join(b.NotWith, ", "))
	}
	if b.Opens != nil && len(*b.Opens) > 0 {
		rows := [][]string{}
		for _, o := range *b.Opens {
			said := pick(o.Shut)
			if o.Closed != nil && said == "" {
				said = "stays closed: " + strings.Join(*o.Closed, ", ")
			}
			rows = append(rows, []string{o.Name, number(&o.Granted), number(&o.Wide), said})
		}
		a.say("")
		a.table([]string{"for a typical person of", "granted actions", "that need no role", "but"}, rows)
	}
	if b.Holdings != nil && len(*b.Holdings) > 0 {
		rows := [][]string{}
		for _, h := range *b.Holdings {
			rows = append(rows, []string{h.Party, day(h.From), day(pick(h.Until)), gifts(h.Gives), pick(h.Sponsor)})
		}
		a.say("")
		a.table([]string{"held by", "from", "until", "which gives", "sponsor"}, rows)
	}
	return nil
}

// bundled are the flags of a bundle.
type bundled struct {
	name, extend, why                   string
	gives, partners, approval, question []string
	notWith                             []string
	others, closed                      bool
	term, review                        int
}

func (x *bundled) flags(a *app, c *cobra.Command) {
	f := c.Flags()
	f.StringArrayVar(&x.gives, "give", nil, "RESOURCE=ROLE that it gives, as space:loan-dossier=view; again for more")
	f.StringSliceVar(&x.partners, "for", nil, "partners whose people may ask for it, by id")
	f.BoolVar(&x.others, "for-others", false, "anybody whose address may be invited may ask for it")
	f.StringSliceVar(&x.approval, "approval", nil,
		"who approves it, in order: sponsor, owner, keeper, administrator or a person's id; a keeper where nobody is named")
	f.StringArrayVar(&x.question, "question", nil, "a question to whoever asks; again for more")
	f.IntVar(&x.term, "term-days", 0, "for how many days it is given at most")
	f.IntVar(&x.review, "review-days", 0, "every how many days what it gives is to be confirmed")
	f.StringSliceVar(&x.notWith, "not-with", nil, "bundles that nobody holds beside it")
	f.StringVar(&x.extend, "extend", "", "approved, or silent: whoever holds it extends it without an approval")
	_ = c.RegisterFlagCompletionFunc("for", a.completion("partner"))
	_ = c.RegisterFlagCompletionFunc("not-with", a.completion("bundle"))
	whyFlag(c, &x.why)
}

// lessOf reads RESOURCE=ROLE, or RESOURCE alone.
func lessOf(flag string, list []string, role bool) ([]contract.BundleLess, error) {
	out := []contract.BundleLess{}
	for _, text := range list {
		resource, as, has := strings.Cut(text, "=")
		if role && !has || !strings.Contains(resource, ":") {
			return nil, usage{fmt.Errorf("--%s %q: write RESOURCE=ROLE, as space:loan-dossier=view", flag, text)}
		}
		out = append(out, contract.BundleLess{Resource: resource, Role: optional(as)})
	}
	return out, nil
}

// fields are those of a bundle that a flag names.
func (x *bundled) fields(c *cobra.Command) (contract.BundlePatch, error) {
	body := contract.BundlePatch{}
	for flag, v := range map[string]struct {
		field string
		value any
	}{"for": {"partners", x.partners}, "for-others": {"others", x.others}, "approval": {"approval", x.approval},
		"question": {"questions", x.question}, "not-with": {"not_with", x.notWith}, "extend": {"extend", x.extend}, "name": {"name", x.name},
		"closed": {"closed", x.closed}} {
		if c.Flags().Changed(flag) {
			body[v.field] = v.value
		}
	}
	for flag, n := range map[string]int{"term-days": x.term, "review-days": x.review} {
		if c.Flags().Changed(flag) {
			body[strings.ReplaceAll(flag, "-", "_")] = n
			if n == 0 {
				body[strings.ReplaceAll(flag, "-", "_")] = nil
			}
		}
	}
	if c.Flags().Changed("give") {
		gives, err := lessOf("give", x.gives, true)
		if err != nil {
			return nil, err
		}
		body["gives"] = gives
	}
	return body, nil
}

func (a *app) bundleAdd() *cobra.Command {
	var x bundled
	var id string
	c := &cobra.Command{Use: "add NAME", Short: "Make a bundle", Args: cobra.ExactArgs(1),
		Example: "  wexillum bundle add \"Crate plans\" --give space:loan-dossier=view --for marrowby --approval owner --question \"Which crate?\" --term-days 60",
		RunE: func(c *cobra.Command, args []string) error {
			gives, err := lessOf("give", x.gives, true)
			if err != nil {
				return err
			}
			if len(gives) == 0 {
				return usage{errors.New("say what it gives: --give RESOURCE=ROLE")}
			}
			body := contract.BundleChange{Id: optional(id), Name: args[0], Gives: gives, Why: optional(x.why)}
			if len(x.partners) > 0 {
				body.Partners = &x.partners
			}
			if x.others {
				body.Others = &x.others
			}
			if len(x.approval) > 0 {
				body.Approval = &x.approval
			}
			if len(x.question) > 0 {
				body.Questions = &x.question
			}
			if len(x.notWith) > 0 {
				body.NotWith = &x.notWith
			}
			if x.term != 0 {
				body.TermDays = &x.term
			}
			if x.review != 0 {
				body.ReviewDays = &x.review
			}
			if x.extend != "" {
				body.Extend = (*contract.BundleChangeExtend)(&x.extend)
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.AddBundle(c.Context(), nil, body)
			var b contract.Bundle
			if err := r.read(resp, err, &b); err != nil {
				return err
			}
			return a.printBundle(&b)
		}}
	x.flags(a, c)
	c.Flags().StringVar(&id, "id", "", "what it is called by; made of its name where it is left out")
	return c
}

func (a *app) bundleSet() *cobra.Command {
	var x bundled
	c := &cobra.Command{Use: "set ID", Short: "Change a bundle, and with it what follows for everybody who holds it; what no flag names stays",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("bundle"),
		Example: "  wexillum bundle set loan-desk --term-days 180 --why \"a year is too long\"\n  wexillum bundle set loan-desk --closed --why \"the loan is complete\"",
		RunE: func(c *cobra.Command, args []string) error {
			body, err := x.fields(c)
			if err != nil {
				return err
			}
			if len(body) == 0 {
				return usage{errors.New("nothing is to be otherwise; see wexillum bundle set --help")}
			}
			if x.why != "" {
				body["why"] = x.why
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.SetBundleWithApplicationMergePatchPlusJSONBody(c.Context(), args[0], &contract.SetBundleParams{}, body)
			var b contract.Bundle
			if err := r.read(resp, err, &b); err != nil {
				return err
			}
			return a.printBundle(&b)
		}}
	x.flags(a, c)
	c.Flags().StringVar(&x.name, "name", "", "what it is called")
	c.Flags().BoolVar(&x.closed, "closed", false, "nobody may ask for it any more; whoever holds it keeps it")
	return c
}

func (a *app) bundleRemove() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "remove ID", Short: "Take away a bundle that nobody ever held; else close it", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("bundle"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.RemoveBundle(c.Context(), args[0], &contract.RemoveBundleParams{Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("There is no bundle %s any more.", args[0])
			return nil
		}}
	whyFlag(c, &why)
	return c
}

func (a *app) bundleAsk() *cobra.Command {
	var answers []string
	var purpose, until, sponsor string
	c := &cobra.Command{Use: "ask ID ADDRESS", Short: "Ask that somebody outside be given a bundle, or longer", Args: cobra.ExactArgs(2),
		ValidArgsFunction: a.completion("bundle"),
		Long:              "Ask that somebody outside be given a bundle, or that what they hold last longer. Those who\napprove it hear of it: see wexillum request show. People outside ask for themselves, at the\ndoor or on their own page.",
		Example:           "  wexillum bundle ask loan-desk sanne.brue@ilvane.example --answer \"The oar of Sandrill\" --purpose \"she packs the second crate\" --until +60d",
		RunE: func(c *cobra.Command, args []string) error {
			if strings.TrimSpace(purpose) == "" {
				return usage{errors.New("say what it is for: give --purpose")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			if answers == nil {
				answers = []string{}
			}
			resp, err := r.MakeRequest(c.Context(), nil, contract.NewRequest{Purpose: purpose,
				Bundle: &contract.AskedBundle{Bundle: args[0], Address: args[1], Answers: &answers, Until: optional(until),
					Sponsor: optional(sponsor)}})
			var x contract.Request
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printRequest(&x)
		}}
	f := c.Flags()
	f.StringArrayVar(&answers, "answer", nil, "the answer to a question of the bundle; again for each, in their order")
	f.StringVar(&purpose, "purpose", "", "what it is for")
	f.StringVar(&until, "until", "", "a date, or days from today as +60d; as long as the bundle is given where it is left out")
	f.StringVar(&sponsor, "sponsor", "", "a person of ours who is to answer for it; you, where it is left out")
	return c
}

func (a *app) bundleEnd() *cobra.Command {
	var why, resource string
	var preview bool
	c := &cobra.Command{Use: "end ID ADDRESS", Short: "End what somebody holds of a bundle, or take one resource out of it",
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.completion("bundle"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndHolding(c.Context(), &contract.EndHoldingParams{Preview: &preview},
				contract.HoldingEnd{Address: args[1], Bundle: args[0], Resource: optional(resource), Why: optional(why)})
			var x contract.PlacesChanged
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.placesDone(&x)
		}}
	c.Flags().StringVar(&resource, "resource", "", "take this out of it alone")
	c.Flags().BoolVar(&preview, "preview", false, "say what would be lost, and change nothing")
	whyFlag(c, &why)
	return c
}

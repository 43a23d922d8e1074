package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

func (a *app) domain() *cobra.Command {
	c := &cobra.Command{Use: "domain", Short: "Manage domains of partners and barred domains; find out which entry decides"}
	var why, partner string
	var sub, lookAlike, preview bool
	add := &cobra.Command{
		Use:   "add DOMAIN --partner ID",
		Short: "Add a domain to a partner",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if partner == "" {
				return usage{errors.New("--partner is needed: whose domain it is")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.AddDomain(
				c.Context(),
				partner,
				&contract.AddDomainParams{Preview: &preview},
				contract.AddDomainJSONRequestBody{Domain: args[0], Subdomains: &sub, LookAlike: &lookAlike, Why: optional(why)},
			)
			var p contract.Partner
			if err := r.read(resp, err, &p); err != nil {
				return err
			}
			return a.weighed(preview, &p, "%s would belong to %s.", args[0], p.Name)
		},
	}
	add.Flags().StringVar(&partner, "partner", "", "the partner it belongs to")
	add.Flags().BoolVar(&sub, "subdomains", false, "with all domains below it")
	add.Flags().BoolVar(&lookAlike, "look-alike", false, "it looks like another domain and is meant all the same")
	_ = add.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	previewFlag(add, &preview)
	whyFlag(add, &why)

	var why2 string
	var preview2 bool
	remove := &cobra.Command{
		Use:               "remove DOMAIN",
		Short:             "Remove a domain from its partner",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("domain"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.TestDomain(c.Context(), &contract.TestDomainParams{Address: args[0]})
			var t contract.DomainTest
			if err := r.read(resp, err, &t); err != nil {
				return err
			}
			if t.Partner == nil || pick(t.Entry) != t.Domain {
				return fmt.Errorf("%s is no partner's domain: %s", t.Domain, t.Text)
			}
			resp, err = r.RemoveDomain(
				c.Context(),
				*t.Partner,
				t.Domain,
				&contract.RemoveDomainParams{Why: optional(why2), Preview: &preview2},
			)
			var p contract.Partner
			if err := r.read(resp, err, &p); err != nil {
				return err
			}
			return a.weighed(preview2, &p, "%s would no longer belong to %s.", t.Domain, p.Name)
		},
	}
	previewFlag(remove, &preview2)
	whyFlag(remove, &why2)

	var reason string
	var barSub bool
	bar := &cobra.Command{
		Use:   "bar DOMAIN|ADDRESS",
		Short: "Bar a domain or an address, so that it never gets in",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			b := contract.Bar{Reason: optional(reason)}
			if strings.Contains(args[0], "@") {
				b.Address = &args[0]
			} else {
				b.Name = &args[0]
				if barSub {
					b.Subdomains = &barSub
				}
			}
			resp, err := r.AddBar(c.Context(), nil, b)
			if err := r.read(resp, err, &b); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(b, []string{"name", "address", "reason"}, [][]string{{pick(b.Name), pick(b.Address), pick(b.Reason)}})
			}
			a.say("Barred: %s%s", pick(b.Name), pick(b.Address))
			return nil
		},
	}
	bar.Flags().StringVar(&reason, "reason", "", "why it is barred")
	bar.Flags().BoolVar(&barSub, "subdomains", false, "with all domains below it")

	var why3 string
	lift := &cobra.Command{
		Use:   "lift DOMAIN|ADDRESS",
		Short: "Lift a bar",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.LiftBar(c.Context(), args[0], &contract.LiftBarParams{Why: optional(why3)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("No longer barred: %s", args[0])
			return nil
		},
	}
	whyFlag(lift, &why3)

	bars := &cobra.Command{
		Use:   "bars",
		Short: "List everything that is barred",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ListBars(c.Context())
			var x struct{ Bars []contract.Bar }
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, b := range x.Bars {
				what := pick(b.Name) + pick(b.Address)
				if b.Subdomains != nil && *b.Subdomains {
					what += " and below"
				}
				rows = append(rows, []string{what, pick(b.Reason)})
			}
			return a.records(x.Bars, []string{"barred", "reason"}, rows)
		},
	}

	test := &cobra.Command{
		Use:   "test ADDRESS…",
		Short: "Which entry decides for an address or domain, and why",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			out, rows := []contract.DomainTest{}, [][]string{}
			for _, arg := range args {
				resp, err := r.TestDomain(c.Context(), &contract.TestDomainParams{Address: arg})
				var t contract.DomainTest
				if err := r.read(resp, err, &t); err != nil {
					return err
				}
				out = append(out, t)
				rows = append(rows, []string{arg, string(t.Verdict), pick(t.Entry), t.Text})
			}
			return a.records(out, []string{"address", "verdict", "entry", "why"}, rows)
		},
	}
	c.AddCommand(add, remove, bar, lift, bars, test, a.domainList(), a.domainImport())
	return c
}

var domainLists = []string{"partner", "barred", "personal"}

func (a *app) domainList() *cobra.Command {
	var partner, form string
	c := &cobra.Command{
		Use:       "list partner|barred|personal",
		Short:     "List the domains of partners, barred domains or private mail domains, in the form that import reads",
		Args:      cobra.ExactArgs(1),
		ValidArgs: domainLists,
		Example:   "  wexillum domain list barred > barred.csv\n  wexillum domain list partner --partner ilvane --form text",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.ListDomainsParams{List: contract.ListDomainsParamsList(args[0]), Partner: optional(partner)}
			if form != "" {
				f := contract.ListDomainsParamsForm(form)
				p.Form = &f
			}
			resp, err := r.ListDomains(c.Context(), p)
			var text []byte
			if err := r.read(resp, err, &text); err != nil {
				return err
			}
			_, err = a.out.Write(text)
			return err
		},
	}
	c.Flags().StringVar(&partner, "partner", "", "only those of this partner")
	c.Flags().StringVar(&form, "form", "", "csv or text")
	_ = c.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	_ = c.RegisterFlagCompletionFunc("form", cobra.FixedCompletions([]string{"csv", "text"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (a *app) domainImport() *cobra.Command {
	var partner, why string
	var replace, onlyGood, preview bool
	c := &cobra.Command{
		Use:       "import partner|barred|personal FILE",
		Short:     "Import a list of domains, with a result for every line",
		Args:      cobra.ExactArgs(2),
		ValidArgs: domainLists,
		Long: `Import a list of domains, with a result for every line.

FILE is CSV where its first line names columns (name, subdomains, look_alike,
partner, reason); else an entry stands on each line, *. before it takes what is
below along, and what stands behind # is the reason of a bar. - is standard input.
With a refused line nothing is written, unless --only-good is said.

Exit status 0: taken, or could be; 3: lines are refused.`,
		Example: "  wexillum domain import barred barred.txt --preview\n  wexillum domain import partner domains.csv --partner ilvane --replace",
		RunE: func(c *cobra.Command, args []string) error {
			in, err := a.open(args[1])
			if err != nil {
				return err
			}
			defer in.Close()
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.ImportDomainsParams{
				List:     contract.ImportDomainsParamsList(args[0]),
				Partner:  optional(partner),
				Replace:  &replace,
				OnlyGood: &onlyGood,
				Preview:  &preview,
				Why:      optional(why),
			}
			resp, err := r.ImportDomainsWithBody(c.Context(), p, "text/csv", in)
			var x contract.DomainsImported
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printImported(&x)
		},
	}
	f := c.Flags()
	f.StringVar(&partner, "partner", "", "whose domains the lines are that name no partner")
	f.BoolVar(&replace, "replace", false, "remove what is kept and stands in no line")
	f.BoolVar(&onlyGood, "only-good", false, "take the lines that can be taken; else all or none")
	f.BoolVar(&preview, "preview", false, "say what would become of every line, and change nothing")
	whyFlag(c, &why)
	_ = c.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	return c
}

// printImported prints the lines that change something or are refused; what stays
// as it is, is counted.
func (a *app) printImported(x *contract.DomainsImported) error {
	rows := [][]string{}
	for _, l := range x.Lines {
		if l.Result == "same" && a.output == "table" || a.output == "table" && len(rows) == maxTable {
			continue
		}
		line, name := "", l.Name
		if l.Line > 0 {
			line = fmt.Sprint(l.Line)
		}
		if l.Subdomains != nil && *l.Subdomains {
			name = "*." + name
		}
		if name == "" {
			name = l.Text
		}
		rows = append(rows, []string{line, string(l.Result), name, pick(l.Partner), pick(l.Cause)})
	}
	if err := a.records(x, []string{"line", "result", "name", "partner", "cause"}, rows); err != nil {
		return err
	}
	var parts []string
	for _, k := range []string{"new", "changed", "removed", "same", "refused"} {
		if n := x.Counts[k]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, k))
		}
	}
	if len(rows) == maxTable {
		a.say("… and more; -o csv prints all of them.")
	}
	done := "Nothing was written."
	switch {
	case x.Written:
		done = "Written."
	case x.Preview:
		done = "A preview; nothing was written."
	case x.Counts["refused"] > 0:
		done = "Nothing was written; mend the refused lines, or add --only-good."
	}
	a.say("%s. That concerns %s. %s", strings.Join(parts, ", "), peopleOf(x.Concerns), done)
	if x.Counts["refused"] > 0 && !x.Written {
		return exit(statusNo)
	}
	return nil
}

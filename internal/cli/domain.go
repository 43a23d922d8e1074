package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/client"
)

func (a *app) domain() *cobra.Command {
	c := &cobra.Command{Use: "domain", Short: "Keep domains: of partners, and barred; find out which entry decides"}
	var why, partner string
	var sub, lookAlike, preview bool
	add := &cobra.Command{Use: "add DOMAIN --partner ID", Short: "Add a domain to a partner", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		if partner == "" {
			return usage{errors.New("--partner is needed: whose domain it is")}
		}
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.AddDomain(c.Context(), partner, &client.AddDomainParams{Preview: &preview}, client.AddDomainJSONRequestBody{Domain: args[0], Subdomains: &sub, LookAlike: &lookAlike, Why: optional(why)})
		var p client.Partner
		if err := r.read(resp, err, &p); err != nil {
			return err
		}
		return a.weighed(preview, &p, "%s would belong to %s.", args[0], p.Name)
	}}
	add.Flags().StringVar(&partner, "partner", "", "the partner it belongs to")
	add.Flags().BoolVar(&sub, "subdomains", false, "with all domains below it")
	add.Flags().BoolVar(&lookAlike, "look-alike", false, "it looks like another domain and is meant all the same")
	_ = add.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	previewFlag(add, &preview)
	whyFlag(add, &why)

	var why2 string
	var preview2 bool
	remove := &cobra.Command{Use: "remove DOMAIN", Short: "Take a domain from its partner", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("domain"), RunE: func(c *cobra.Command, args []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.TestDomain(c.Context(), &client.TestDomainParams{Address: args[0]})
		var t client.DomainTest
		if err := r.read(resp, err, &t); err != nil {
			return err
		}
		if t.Partner == nil || pick(t.Entry) != t.Domain {
			return fmt.Errorf("%s is no partner's domain: %s", t.Domain, t.Text)
		}
		resp, err = r.RemoveDomain(c.Context(), *t.Partner, t.Domain, &client.RemoveDomainParams{Why: optional(why2), Preview: &preview2})
		var p client.Partner
		if err := r.read(resp, err, &p); err != nil {
			return err
		}
		return a.weighed(preview2, &p, "%s would no longer belong to %s.", t.Domain, p.Name)
	}}
	previewFlag(remove, &preview2)
	whyFlag(remove, &why2)

	var reason string
	var barSub bool
	bar := &cobra.Command{Use: "bar DOMAIN|ADDRESS", Short: "Bar a domain or an address: it never gets in", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		b := client.Bar{Reason: optional(reason)}
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
	}}
	bar.Flags().StringVar(&reason, "reason", "", "why it is barred")
	bar.Flags().BoolVar(&barSub, "subdomains", false, "with all domains below it")

	var why3 string
	lift := &cobra.Command{Use: "lift DOMAIN|ADDRESS", Short: "Lift a bar", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.LiftBar(c.Context(), args[0], &client.LiftBarParams{Why: optional(why3)})
		if err := r.read(resp, err, nil); err != nil {
			return err
		}
		a.say("No longer barred: %s", args[0])
		return nil
	}}
	whyFlag(lift, &why3)

	bars := &cobra.Command{Use: "bars", Short: "Everything that is barred", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.ListBars(c.Context())
		var x struct{ Bars []client.Bar }
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
	}}

	test := &cobra.Command{Use: "test ADDRESS…", Short: "Which entry decides for an address or domain, and why", Args: cobra.MinimumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		out, rows := []client.DomainTest{}, [][]string{}
		for _, arg := range args {
			resp, err := r.TestDomain(c.Context(), &client.TestDomainParams{Address: arg})
			var t client.DomainTest
			if err := r.read(resp, err, &t); err != nil {
				return err
			}
			out = append(out, t)
			rows = append(rows, []string{arg, string(t.Verdict), pick(t.Entry), t.Text})
		}
		return a.records(out, []string{"address", "verdict", "entry", "why"}, rows)
	}}
	c.AddCommand(add, remove, bar, lift, bars, test)
	return c
}

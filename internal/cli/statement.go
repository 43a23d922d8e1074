package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

// statement is about the statement of our own side.
func (a *app) statement() *cobra.Command {
	c := &cobra.Command{Use: "statement", Short: "Our signed statement, and the keys that sign it"}
	var audience string
	show := &cobra.Command{
		Use:   "show",
		Short: "Show our statement as a given domain would read it",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.OurStatement(c.Context(), &contract.OurStatementParams{For: optional(audience)})
			var x contract.OurStatement
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printStatement(&x)
		},
	}
	show.Flags().StringVar(&audience, "for", "", "the domain that would ask; else one that nobody listed")
	_ = show.RegisterFlagCompletionFunc("for", a.completion("domain"))
	roll := func(do, short string) *cobra.Command {
		var why string
		k := &cobra.Command{Use: do, Short: short, Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.RollKey(c.Context(), contract.RollKeyJSONRequestBody{Do: contract.RollKeyJSONBodyDo(do), Why: optional(why)})
			var x contract.OurStatement
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printStatement(&x)
		}}
		whyFlag(k, &why)
		return k
	}
	c.AddCommand(
		show,
		roll("announce", "Make the next key; statements say from now on that it will sign"),
		roll(
			"switch",
			"Let the announced key sign",
		),
		roll("replace", "Sign with a new key at once, because the old one is not safe; partners are warned"),
	)
	return c
}

func (a *app) printStatement(x *contract.OurStatement) error {
	rows := [][]string{}
	for _, k := range directions() {
		rows = append(rows, []string{k, x.Stance[k]})
	}
	if a.output != "table" {
		return a.records(x, []string{"direction", "says"}, rows)
	}
	published := "not published; serve with --publish-statement yes"
	switch {
	case x.Published && x.Address != nil:
		published = *x.Address
	case x.Published:
		published = "published; name --public-url to see where"
	}
	a.printf("For %s, from %s, good until %s\n  %s\n\n", x.For, x.Issuer, x.Expires, published)
	if err := a.records(x, []string{"direction", "says"}, rows); err != nil {
		return err
	}
	a.printf("\n")
	keys := [][]string{}
	for _, k := range x.Keys {
		keys = append(keys, []string{k.Key, string(k.State), day(k.Since)})
	}
	a.table([]string{"key", "state", "since"}, keys)
	return nil
}

// partnerStatement is about the statement of a partner.
func (a *app) partnerStatement() *cobra.Command {
	var fetch bool
	var accept, why string
	c := &cobra.Command{
		Use:               "statement ID",
		Short:             "What we know of a partner's signed statement",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		Long:              "What is known of a partner's signed statement: which keys may sign, what was taken,\nand what is wrong with the last one. Where it is published stands in the record:\nwexillum partner set ID --statement https://…",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			var x contract.TheirStatement
			switch {
			case accept != "":
				resp, err := r.AcceptKey(c.Context(), args[0], contract.AcceptKeyJSONRequestBody{Key: accept, Why: optional(why)})
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				resp, err = r.FetchStatement(c.Context(), args[0])
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
			case fetch:
				resp, err := r.FetchStatement(c.Context(), args[0])
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
			default:
				resp, err := r.TheirStatement(c.Context(), args[0])
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
			}
			rows := [][]string{}
			line := func(k, v string) {
				if v != "" {
					rows = append(rows, []string{k, v})
				}
			}
			line("published at", pick(x.Address))
			line("fetched", day(pick(x.Fetched)))
			line("issued", day(pick(x.Issued)))
			line("good until", day(pick(x.Until)))
			line("keys", strings.Join(x.Keys, " "))
			line("not taken", pick(x.Problem))
			line("because", pick(x.Reason))
			line("its key", pick(x.Offered))
			if len(rows) == 0 && a.output == "table" {
				a.say("%s publishes no statement that we know of.", args[0])
				return nil
			}
			if err := a.records(x, []string{"what", "is"}, rows); err != nil {
				return err
			}
			if x.Problem != nil {
				return exit(statusNo)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&fetch, "fetch", false, "fetch it now")
	c.Flags().StringVar(&accept, "accept-key", "", "trust this key, by its thumbprint, as their administrator confirmed it by another way")
	whyFlag(c, &why)
	return c
}

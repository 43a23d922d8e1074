package cli

import (
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
)

func sortStrings(s []string) { sort.Strings(s) }

// whyFlag adds --why to a command.
func whyFlag(c *cobra.Command, why *string) {
	c.Flags().StringVar(why, "why", "", "the reason that the journal keeps")
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func (a *app) rules() *cobra.Command {
	c := &cobra.Command{Use: "rules", Short: "The rules: limit, default, the values set below, and what they mean"}
	list := func(c *cobra.Command, find string) error {
		var rules []contract.Rule
		if a.world != "" {
			s, now, err := a.offline()
			if err != nil {
				return err
			}
			only := catalogue.Find(find)
			if find == "" {
				only = nil
				for i := range catalogue.Rules() {
					only = append(only, &catalogue.Rules()[i])
				}
			}
			rules = answer.Rules(s, only, now, func(catalogue.RuleID) string { return "" })
		} else {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ListRules(c.Context(), &contract.ListRulesParams{Find: optional(find)})
			var x struct{ Rules []contract.Rule }
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rules = x.Rules
		}
		rows := [][]string{}
		for _, r := range rules {
			note := ""
			if r.Exposes {
				note = "looser than advised: " + r.Advised
			}
			if h := pick(r.HeldDefault); h != "" {
				note = "default held back: " + h
			}
			rows = append(rows, []string{r.Name, r.Limit, r.Default, below(r.Below), r.Title, note})
		}
		if len(rows) == 0 && a.output == "table" {
			return fmt.Errorf("no rule matches %q; try one word, as forward, screen, anonymous or presence", find)
		}
		return a.records(rules, []string{"rule", "limit", "default", "set below", "what it is", "note"}, rows)
	}
	c.AddCommand(
		&cobra.Command{
			Use:   "list",
			Short: "All rules",
			Args:  cobra.NoArgs,
			RunE:  func(c *cobra.Command, _ []string) error { return list(c, "") },
		},
	)
	c.AddCommand(
		&cobra.Command{
			Use:   "find WORD…",
			Short: "Find rules by everyday words, such as forward, screen or anonymous link",
			Args:  cobra.MinimumNArgs(1),
			RunE:  func(c *cobra.Command, args []string) error { return list(c, strings.Join(args, " ")) },
		},
	)
	show := &cobra.Command{
		Use:               "show RULE",
		Short:             "Show one rule, what its values mean, and everything set below it",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("rule"),
		RunE: func(c *cobra.Command, args []string) error {
			x, err := a.oneRule(c, args[0])
			if err != nil {
				return err
			}
			if a.output != "table" {
				rows := [][]string{}
				for _, b := range x.Below {
					rows = append(rows, []string{b.Layer, b.Where, b.Value, fmt.Sprint(b.Held)})
				}
				return a.records(x, []string{"layer", "where", "value", "held"}, rows)
			}
			a.printRule(x)
			return nil
		},
	}
	c.AddCommand(show, a.ruleAudience())
	var limit, def, why string
	var held, preview, request bool
	var at place
	var value string
	set := &cobra.Command{
		Use:               "set RULE",
		Short:             "Set the limit and default of a rule, or its value at a partner, space, item or meeting",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("rule"),
		Example:           "  wexillum rules set mail.forward --limit closed --why \"mail stays here\"\n  wexillum rules set spaces.pages --space loan-dossier --value on --why \"the lenders read them\"",
		RunE: func(c *cobra.Command, args []string) error {
			if where := at.where(); where != "" {
				if value == "" || limit != "" || def != "" {
					return usage{errors.New("below the organisation there is one value: give --value, and neither --limit nor --default")}
				}
				if request {
					return a.askValue(c, where, args[0], value, why)
				}
				return a.setValueAt(c, where, args[0], value, held, preview, why)
			}
			if preview {
				return usage{
					errors.New(
						"--preview is of a value at a place; what limit and default would do, a draft weighs: wexillum draft new, then draft impact",
					),
				}
			}
			if value != "" {
				return usage{
					errors.New(
						"--value belongs to a place: name it with --partner, --space, --item or --meeting; the organisation has --limit and --default",
					),
				}
			}
			if limit == "" && def == "" {
				return usage{errors.New("give --limit, --default or both")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			body := contract.RuleChange{Limit: optional(limit), Default: optional(def), Why: optional(why)}
			if held {
				body.Held = &held
			}
			resp, err := r.SetRuleWithApplicationMergePatchPlusJSONBody(c.Context(), args[0], nil, body)
			var x contract.Rule
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(x, []string{"rule", "limit", "default"}, [][]string{{x.Name, x.Limit, x.Default}})
			}
			a.printRule(&x)
			return nil
		},
	}
	set.Flags().StringVar(&limit, "limit", "", "the loosest value that a lower layer may reach")
	set.Flags().StringVar(&def, "default", "", "the value where no lower layer says anything")
	set.Flags().BoolVar(&preview, "preview", false, "with a place: say who would gain and lose, and change nothing")
	set.Flags().BoolVar(&held, "held", false, "give a default or value looser than the limit, held back")
	set.Flags().BoolVar(&request, "request", false, "with a place: do not set it, send it to whoever may, with --why as what it is for")
	set.Flags().StringVar(&value, "value", "", "the value at a partner, space, item or meeting")
	at.flags(a, set)
	whyFlag(set, &why)
	c.AddCommand(set, a.rulesUnset(), a.rulesChoices())
	return c
}

func below(bs []contract.RuleBelow) string {
	count, held := map[string]int{}, 0
	for _, b := range bs {
		count[b.Layer]++
		if b.Held {
			held++
		}
	}
	var out []string
	for _, l := range []string{"partner", "people", "space", "item"} {
		if count[l] > 0 {
			out = append(out, fmt.Sprintf("%d %s", count[l], l))
		}
	}
	if held > 0 {
		out = append(out, fmt.Sprintf("%d held back", held))
	}
	return strings.Join(out, ", ")
}

func (a *app) oneRule(c *cobra.Command, name string) (*contract.Rule, error) {
	if a.world != "" {
		s, now, err := a.offline()
		if err != nil {
			return nil, err
		}
		r, ok := catalogue.RuleByName(name)
		if !ok {
			return nil, usage{fmt.Errorf("there is no rule %q; do you mean %s?", name, catalogue.Nearest(name))}
		}
		return &answer.Rules(s, []*catalogue.Rule{r}, now, func(catalogue.RuleID) string { return "" })[0], nil
	}
	r, err := a.remote()
	if err != nil {
		return nil, err
	}
	resp, err := r.GetRule(c.Context(), name)
	var x contract.Rule
	return &x, r.read(resp, err, &x)
}

func (a *app) printRule(x *contract.Rule) {
	a.printf("%s  %s\n\n", a.colour("1", x.Name), x.Title)
	a.printf("  limit    %s\n  default  %s", x.Limit, x.Default)
	if h := pick(x.HeldDefault); h != "" {
		a.printf("  (held back: %s)", h)
	}
	a.printf("\n  advised  %s: %s\n", x.Advised, x.AdvisedReason)
	where := "nowhere else"
	if len(x.Layers) > 0 {
		where = strings.Join(x.Layers, ", ")
	}
	a.printf("  also set at %s\n\n", where)
	for _, v := range x.Values {
		a.printf("  %-16s %s\n", v.Value, wrap(v.Sentence, 19, a.width()))
	}
	if o := pick(x.Omits); o != "" {
		a.printf("\n  %s\n", wrap(o, 2, a.width()))
	}
	if len(x.Below) > 0 {
		a.printf("\n")
		rows := [][]string{}
		for _, b := range x.Below {
			h := ""
			if b.Held {
				h = "held back"
			}
			rows = append(rows, []string{b.Layer, b.Where, pick(b.Name), b.Value, h})
		}
		a.table([]string{"layer", "where", "name", "value", ""}, rows)
	}
}

func (a *app) account() *cobra.Command {
	c := &cobra.Command{Use: "account", Short: "Accounts that can sign in to administer"}
	c.AddCommand(a.factor(), a.passkey(), a.house())
	c.AddCommand(&cobra.Command{Use: "list", Short: "All accounts", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.ListAccounts(c.Context())
		var x struct{ Accounts []contract.Account }
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		rows := [][]string{}
		for _, acc := range x.Accounts {
			state := "may sign in"
			if acc.Disabled {
				state = "disabled"
			}
			rows = append(rows, []string{acc.Name, string(acc.Role), acc.Person, state})
		}
		return a.records(x.Accounts, []string{"name", "role", "person", "state"}, rows)
	}})
	var role, person, why string
	var disabled, password bool
	show := func(x contract.Account) error {
		if a.output != "table" {
			return a.records(x, []string{"name", "role", "person"}, [][]string{{x.Name, string(x.Role), x.Person}})
		}
		state := ""
		if x.Disabled {
			state = ", and disabled"
		}
		a.say("%s is %s%s.", x.Name, x.Role, state)
		return nil
	}
	makes := &cobra.Command{
		Use:   "make NAME --role ROLE",
		Short: "Make an account; the password is prompted for or read from standard input",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if role == "" {
				return usage{errors.New("--role is needed: administrator, auditor, keeper or member")}
			}
			p, err := a.newPassword()
			if err != nil {
				return err
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			body := contract.NewAccount{Name: args[0], Role: contract.Role(role), Person: optional(person), Password: p, Why: optional(why)}
			resp, err := r.MakeAccount(c.Context(), body)
			var x contract.Account
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return show(x)
		},
	}
	put := &cobra.Command{
		Use:   "set NAME",
		Short: "Change an account: what no flag names stays as it is",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			body := contract.AccountChange{Why: optional(why)}
			set := c.Flags().Changed
			if set("role") {
				x := contract.Role(role)
				body.Role = &x
			}
			if set("person") {
				if person == "" {
					body.Person.SetNull()
				} else {
					body.Person.Set(person)
				}
			}
			if set("disabled") {
				body.Disabled = &disabled
			}
			if !set("role") && !set("person") && !set("disabled") && !password {
				return usage{errors.New("say what is to be otherwise: --role, --person, --disabled or --password")}
			}
			if password {
				p, err := a.newPassword()
				if err != nil {
					return err
				}
				body.Password = &p
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ChangeAccountWithApplicationMergePatchPlusJSONBody(c.Context(), args[0], body)
			var x contract.Account
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return show(x)
		},
	}
	for _, c := range []*cobra.Command{makes, put} {
		c.Flags().StringVar(&role, "role", "", "administrator, auditor, keeper or member")
		c.Flags().StringVar(&person, "person", "", "the person of ours who has the account; needed for a member")
		whyFlag(c, &why)
	}
	put.Flags().BoolVar(&disabled, "disabled", false,
		"nobody signs in with it, and its sessions and tokens end; --disabled=false lets them in again")
	put.Flags().BoolVar(&password, "password", false, "give it a new password, which is prompted for or read from standard input")
	var reason string
	out := &cobra.Command{
		Use:   "sign-out NAME",
		Short: "End all sessions and tokens of an account",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndSessions(c.Context(), args[0], contract.EndSessionsJSONRequestBody{Why: optional(reason)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("%s is signed out everywhere.", args[0])
			return nil
		},
	}
	whyFlag(out, &reason)
	own := &cobra.Command{Use: "password", Short: "Change your own password; all your sessions and tokens end", Args: cobra.NoArgs,
		Long: "Change your own password; every session and token of yours ends.\n\nBoth passwords are asked for, or read from standard input, a line each: the one that\ncounts now, then the new one.",
		RunE: func(c *cobra.Command, _ []string) error {
			old, next, err := a.twoPasswords()
			if err != nil {
				return err
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.SetOwnPassword(c.Context(), contract.SetOwnPasswordJSONRequestBody{Old: old, New: next})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("Your new password counts from now on. Sign in again with: wexillum login")
			return nil
		}}
	c.AddCommand(makes, put, out, own)
	if a.program != nil {
		c.AddCommand(a.program.Accounts(&Terminal{a})...)
	} else {
		c.AddCommand(a.beside("first NAME", About("first")), a.beside("recover NAME", About("recover")))
	}
	return c
}

func (a *app) token() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Tokens of the client, and of services that ask, read or bring guests in"}
	c.AddCommand(
		&cobra.Command{
			Use:   "list",
			Short: "List tokens, without their secrets",
			Args:  cobra.NoArgs,
			RunE: func(c *cobra.Command, _ []string) error {
				r, err := a.remote()
				if err != nil {
					return err
				}
				resp, err := r.ListTokens(c.Context())
				var x struct{ Tokens []contract.Token }
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				rows := [][]string{}
				for _, t := range x.Tokens {
					used := ""
					if t.Used != nil {
						used = t.Used.Format(time.RFC3339) + " from " + pick(t.UsedFrom)
					}
					rows = append(rows, []string{t.Id, t.Name, t.Account, t.Purpose, t.Expires.Format(time.RFC3339), used})
				}
				return a.records(x.Tokens, []string{"id", "name", "account", "purpose", "expires", "used"}, rows)
			},
		},
	)
	var purpose string
	var days int
	make := &cobra.Command{
		Use:   "make NAME --purpose decisions|reading|lists|guests|expectations|metrics",
		Short: "Create a token for a service; it is shown only once",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.MakeServiceToken(
				c.Context(),
				contract.MakeServiceTokenJSONRequestBody{
					Name:    args[0],
					Purpose: contract.MakeServiceTokenJSONBodyPurpose(purpose),
					Days:    days,
				},
			)
			var t contract.NewToken
			if err := r.read(resp, err, &t); err != nil {
				return err
			}
			return a.records(t, []string{"token", "id", "expires"}, [][]string{{t.Token, t.Id, t.Expires.Format(time.RFC3339)}})
		},
	}
	make.Flags().StringVar(&purpose, "purpose", "decisions",
		"decisions (asks as a gateway does), reading (reach, lists, policy, findings, journal), lists (reads lists alone), guests (brings guests in and looks after them), expectations (judges what is expected) or metrics")
	make.Flags().IntVar(&days, "days", 90, "days until it ends, at most 366")
	c.AddCommand(make)
	c.AddCommand(
		&cobra.Command{Use: "end ID", Short: "End a token", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndToken(c.Context(), args[0])
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("Ended.")
			return nil
		}},
	)
	return c
}

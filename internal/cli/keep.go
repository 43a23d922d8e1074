package cli

import (
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/client"
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
	c := &cobra.Command{Use: "rules", Short: "The rules: limit, default, what is set below, and what they mean"}
	list := func(c *cobra.Command, find string) error {
		var rules []client.Rule
		if a.world != "" {
			s, _, err := a.offline()
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
			if rules, err = convert[[]client.Rule](answer.Rules(s, only, func(catalogue.RuleID) string { return "" })); err != nil {
				return err
			}
		} else {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ListRules(c.Context(), &client.ListRulesParams{Find: optional(find)})
			var x struct{ Rules []client.Rule }
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
	c.AddCommand(&cobra.Command{Use: "list", Short: "All rules", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error { return list(c, "") }})
	c.AddCommand(&cobra.Command{Use: "find WORD…", Short: "Rules by everyday words, as forward, screen or anonymous link", Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return list(c, strings.Join(args, " ")) }})
	show := &cobra.Command{Use: "show RULE", Short: "One rule with the meaning of its values and everything set below", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("rule"),
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
		}}
	c.AddCommand(show)
	var limit, def, why string
	var held bool
	var at place
	var value string
	set := &cobra.Command{Use: "set RULE", Short: "Set limit and default of a rule, or its value at a partner, space, item or meeting", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("rule"),
		Example: "  wexillum rules set mail.forward --limit closed --why \"mail stays here\"\n  wexillum rules set spaces.pages --space loan-dossier --value on",
		RunE: func(c *cobra.Command, args []string) error {
			if where := at.where(); where != "" {
				if value == "" || limit != "" || def != "" {
					return usage{errors.New("below the organisation there is one value: give --value, and neither --limit nor --default")}
				}
				return a.setValueAt(c, where, args[0], value, held, why)
			}
			if value != "" {
				return usage{errors.New("--value belongs to a place: name it with --partner, --space, --item or --meeting; the organisation has --limit and --default")}
			}
			if limit == "" && def == "" {
				return usage{errors.New("give --limit, --default or both")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			body := client.RuleChange{Limit: optional(limit), Default: optional(def), Why: optional(why)}
			if held {
				body.Held = &held
			}
			resp, err := r.SetRule(c.Context(), args[0], nil, body)
			var x client.Rule
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(x, []string{"rule", "limit", "default"}, [][]string{{x.Name, x.Limit, x.Default}})
			}
			a.printRule(&x)
			return nil
		}}
	set.Flags().StringVar(&limit, "limit", "", "the loosest value that a lower layer may reach")
	set.Flags().StringVar(&def, "default", "", "the value where no lower layer says anything")
	set.Flags().BoolVar(&held, "held", false, "give a default or value looser than the limit, held back")
	set.Flags().StringVar(&value, "value", "", "the value at a partner, space, item or meeting")
	at.flags(a, set)
	whyFlag(set, &why)
	c.AddCommand(set, a.rulesUnset(), a.rulesChoices())
	return c
}

func below(bs []client.RuleBelow) string {
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

func (a *app) oneRule(c *cobra.Command, name string) (*client.Rule, error) {
	if a.world != "" {
		s, _, err := a.offline()
		if err != nil {
			return nil, err
		}
		r, ok := catalogue.RuleByName(name)
		if !ok {
			return nil, usage{fmt.Errorf("there is no rule %q; do you mean %s?", name, catalogue.Nearest(name))}
		}
		x, err := convert[client.Rule](answer.Rules(s, []*catalogue.Rule{r}, func(catalogue.RuleID) string { return "" })[0])
		return &x, err
	}
	r, err := a.remote()
	if err != nil {
		return nil, err
	}
	resp, err := r.GetRule(c.Context(), name)
	var x client.Rule
	return &x, r.read(resp, err, &x)
}

func (a *app) printRule(x *client.Rule) {
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

func (a *app) printPartner(p *client.Partner) error {
	domains := []string{}
	for _, d := range p.Domains {
		t := d.Name
		if d.Subdomains != nil && *d.Subdomains {
			t += " (and below)"
		}
		domains = append(domains, t)
	}
	if a.output != "table" {
		return a.records(p, []string{"id", "name", "standing", "domains", "guests", "grants", "spaces"}, [][]string{{p.Id, p.Name, string(p.Standing), strings.Join(domains, " "), fmt.Sprint(p.Counts.Guests), fmt.Sprint(p.Counts.Grants), fmt.Sprint(p.Counts.Spaces)}})
	}
	a.printf("%s  %s\n\n", a.colour("1", p.Name), p.Id)
	line := func(k, v string) {
		if v != "" {
			a.printf("  %-9s %s\n", k, wrap(v, 12, a.width()))
		}
	}
	standing := string(p.Standing)
	if s := pick(p.StandingSince); s != "" {
		standing += " since " + s
	}
	line("standing", standing)
	line("domains", strings.Join(domains, ", "))
	line("contact", pick(p.Contact))
	line("owner", pick(p.Owner))
	line("note", pick(p.Note))
	line("concerns", fmt.Sprintf("%d guests, %d grants, %d spaces", p.Counts.Guests, p.Counts.Grants, p.Counts.Spaces))
	for name, v := range p.Rules {
		line("rule", name+": "+v.Value)
	}
	a.printf("\n")
	says := map[string]string{}
	for _, s := range p.Stance {
		says[s.Key] = s.Says
	}
	rows := [][]string{}
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		ours, theirs := "not opened", "unknown"
		if o, ok := p.Opened[k.String()]; ok {
			ours = map[bool]string{true: "opened", false: "closed by name"}[o]
		}
		if s := says[k.String()]; s != "" {
			theirs = s
		}
		if ours != "not opened" || theirs != "unknown" {
			rows = append(rows, []string{k.String(), ours, theirs})
		}
	}
	a.table([]string{"direction", "ours", "theirs"}, rows)
	return nil
}

func (a *app) partner() *cobra.Command {
	c := &cobra.Command{Use: "partner", Short: "Keep partners: who they are, their standing, and what they are opened for"}
	get := func(c *cobra.Command, id string) (*remote, *client.Partner, error) {
		r, err := a.remote()
		if err != nil {
			return nil, nil, err
		}
		resp, err := r.GetPartner(c.Context(), id)
		var p client.Partner
		return r, &p, r.read(resp, err, &p)
	}
	var find string
	list := &cobra.Command{Use: "list", Short: "All partners", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		all := []client.Partner{}
		p := &client.ListPartnersParams{Q: optional(find)}
		for {
			resp, err := r.ListPartners(c.Context(), p)
			var x struct {
				Partners []client.Partner
				Next     string
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			all = append(all, x.Partners...)
			if x.Next == "" {
				break
			}
			p.Cursor = &x.Next
		}
		rows := [][]string{}
		for _, p := range all {
			ds, in, out := []string{}, []string{}, []string{}
			for _, d := range p.Domains {
				ds = append(ds, d.Name)
			}
			for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
				if p.Opened[k.String()] {
					s, dir, _ := strings.Cut(k.String(), ".")
					if dir == "in" {
						in = append(in, s)
					} else {
						out = append(out, s)
					}
				}
			}
			rows = append(rows, []string{p.Id, p.Name, string(p.Standing), strings.Join(ds, " "), strings.Join(in, " "), strings.Join(out, " "), fmt.Sprint(p.Counts.Guests)})
		}
		return a.records(all, []string{"id", "name", "standing", "domains", "open in", "open out", "guests"}, rows)
	}}
	list.Flags().StringVar(&find, "find", "", "only partners whose id, name or domain holds this")
	show := &cobra.Command{Use: "show ID", Short: "One partner with both halves of every direction", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
		_, p, err := get(c, args[0])
		if err != nil {
			return err
		}
		return a.printPartner(p)
	}}
	c.AddCommand(list, show, a.partnerHalves(), a.partnerStance(), a.partnerSheet())

	var name, contact, owner, note, why string
	var domains []string
	var lookAlike bool
	add := &cobra.Command{Use: "add ID", Short: "Add a partner", Args: cobra.ExactArgs(1),
		Example: "  wexillum partner add quayside --name \"Quayside Lamps\" --domain quayside.example --open meetings.in",
		RunE: func(c *cobra.Command, args []string) error {
			if name == "" {
				return usage{errors.New("--name is needed")}
			}
			body := client.PartnerChange{Id: args[0], Name: name, Contact: optional(contact), Owner: optional(owner), Note: optional(note), Why: optional(why)}
			es := []client.DomainEntry{}
			for _, d := range domains {
				e := client.DomainEntry{Name: strings.TrimPrefix(d, "*.")}
				if sub := true; strings.HasPrefix(d, "*.") {
					e.Subdomains = &sub
				}
				if lookAlike {
					e.LookAlike = &lookAlike
				}
				es = append(es, e)
			}
			body.Domains = &es
			open, _ := c.Flags().GetStringSlice("open")
			opened := map[string]bool{}
			for _, k := range open {
				opened[k] = true
			}
			body.Opened = &opened
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.AddPartner(c.Context(), nil, body)
			var p client.Partner
			if err := r.read(resp, err, &p); err != nil {
				return err
			}
			return a.printPartner(&p)
		}}
	f := add.Flags()
	f.StringVar(&name, "name", "", "name of the organisation")
	f.StringSliceVar(&domains, "domain", nil, "a domain of theirs; *.domain takes those below along")
	f.StringSlice("open", nil, "service and direction to open, as chat.in")
	f.StringVar(&contact, "contact", "", "address of their administrator")
	f.StringVar(&owner, "owner", "", "the person of ours who keeps the connection")
	f.StringVar(&note, "note", "", "a note")
	f.BoolVar(&lookAlike, "look-alike", false, "a domain looks like another one and is meant all the same")
	whyFlag(add, &why)
	c.AddCommand(add)

	standing := func(verb, standing, short string) *cobra.Command {
		var why string
		var preview bool
		s := &cobra.Command{Use: verb + " ID", Short: short, Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.SetStanding(c.Context(), args[0], &client.SetStandingParams{Preview: &preview}, client.SetStandingJSONRequestBody{Standing: client.SetStandingJSONBodyStanding(standing), Why: optional(why)})
			var p client.Partner
			if err := r.read(resp, err, &p); err != nil {
				return err
			}
			if preview {
				if a.output == "table" {
					a.say("%s would become %s. That concerns %d guests with %d grants in %d spaces.", p.Name, standing, p.Counts.Guests, p.Counts.Grants, p.Counts.Spaces)
					return nil
				}
			}
			return a.printPartner(&p)
		}}
		s.Flags().BoolVar(&preview, "preview", false, "say whom it concerns, and change nothing")
		whyFlag(s, &why)
		return s
	}
	c.AddCommand(standing("suspend", "suspended", "Suspend a partner: everything stops, nothing is forgotten"),
		standing("resume", "active", "Bring a suspended or ended partner back"),
		standing("end", "ended", "End the connection with a partner"))

	opening := func(verb, short string, value *bool) *cobra.Command {
		var why string
		o := &cobra.Command{Use: verb + " ID KEY…", Short: short, Args: cobra.MinimumNArgs(2), RunE: func(c *cobra.Command, args []string) error {
			r, p, err := get(c, args[0])
			if err != nil {
				return err
			}
			for _, k := range args[1:] {
				if value == nil {
					delete(p.Opened, k)
				} else {
					p.Opened[k] = *value
				}
			}
			st := client.PartnerChangeStanding(p.Standing)
			body := client.PartnerChange{Id: p.Id, Name: p.Name, Domains: &p.Domains, Standing: &st, StandingSince: p.StandingSince, Contact: p.Contact, Owner: p.Owner, Note: p.Note, Opened: &p.Opened, Rules: &p.Rules, Why: optional(why)}
			resp, err := r.SetPartner(c.Context(), p.Id, &client.SetPartnerParams{IfMatch: &p.Etag}, body)
			var q client.Partner
			if err := r.read(resp, err, &q); err != nil {
				return err
			}
			return a.printPartner(&q)
		}, ValidArgsFunction: func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return a.completion("partner")(c, args, text)
			}
			var keys []string
			for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
				keys = append(keys, k.String())
			}
			return keys, cobra.ShellCompDirectiveNoFileComp
		}}
		whyFlag(o, &why)
		return o
	}
	yes, no := true, false
	c.AddCommand(opening("open", "Open a partner for services and directions, as chat.in", &yes),
		opening("close", "Close a partner by name, whatever the level says", &no),
		opening("unset", "Take an opening back, so that the partner counts as not listed", nil))
	return c
}

func (a *app) domain() *cobra.Command {
	c := &cobra.Command{Use: "domain", Short: "Keep domains: of partners, and barred; find out which entry decides"}
	var why, partner string
	var sub, lookAlike bool
	add := &cobra.Command{Use: "add DOMAIN --partner ID", Short: "Add a domain to a partner", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		if partner == "" {
			return usage{errors.New("--partner is needed: whose domain it is")}
		}
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.AddDomain(c.Context(), partner, client.AddDomainJSONRequestBody{Domain: args[0], Subdomains: &sub, LookAlike: &lookAlike, Why: optional(why)})
		var p client.Partner
		if err := r.read(resp, err, &p); err != nil {
			return err
		}
		return a.printPartner(&p)
	}}
	add.Flags().StringVar(&partner, "partner", "", "the partner it belongs to")
	add.Flags().BoolVar(&sub, "subdomains", false, "with all domains below it")
	add.Flags().BoolVar(&lookAlike, "look-alike", false, "it looks like another domain and is meant all the same")
	_ = add.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	whyFlag(add, &why)

	var why2 string
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
		resp, err = r.RemoveDomain(c.Context(), *t.Partner, t.Domain, &client.RemoveDomainParams{Why: optional(why2)})
		var p client.Partner
		if err := r.read(resp, err, &p); err != nil {
			return err
		}
		return a.printPartner(&p)
	}}
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

func (a *app) account() *cobra.Command {
	c := &cobra.Command{Use: "account", Short: "Accounts that may sign in to administer"}
	c.AddCommand(&cobra.Command{Use: "list", Short: "All accounts", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.ListAccounts(c.Context())
		var x struct{ Accounts []client.Account }
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
	var disabled, keep bool
	put := &cobra.Command{Use: "set NAME --role ROLE", Short: "Make or change an account; its password is asked for or read from standard input", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		if role == "" {
			return usage{errors.New("--role is needed: administrator, auditor, keeper or member")}
		}
		body := client.AccountChange{Role: client.Role(role), Person: optional(person), Disabled: &disabled, Why: optional(why)}
		if !keep && !disabled {
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
		resp, err := r.PutAccount(c.Context(), args[0], body)
		var acc client.Account
		if err := r.read(resp, err, &acc); err != nil {
			return err
		}
		if a.output != "table" {
			return a.records(acc, []string{"name", "role", "person"}, [][]string{{acc.Name, string(acc.Role), acc.Person}})
		}
		a.say("%s is %s.", acc.Name, acc.Role)
		return nil
	}}
	put.Flags().StringVar(&role, "role", "", "administrator, auditor, keeper or member")
	put.Flags().StringVar(&person, "person", "", "the person of ours who has the account; needed for a member")
	put.Flags().BoolVar(&disabled, "disabled", false, "the account may not sign in, and its tokens end")
	put.Flags().BoolVar(&keep, "keep-password", false, "leave the password as it is")
	whyFlag(put, &why)
	c.AddCommand(put, a.firstAccount())
	return c
}

func (a *app) token() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Tokens: of the client, and for services that ask for decisions or metrics"}
	c.AddCommand(&cobra.Command{Use: "list", Short: "Tokens without their secrets", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.ListTokens(c.Context())
		var x struct{ Tokens []client.Token }
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		rows := [][]string{}
		for _, t := range x.Tokens {
			rows = append(rows, []string{t.Id, t.Name, t.Account, t.Purpose, t.Expires.Format(time.RFC3339)})
		}
		return a.records(x.Tokens, []string{"id", "name", "account", "purpose", "expires"}, rows)
	}})
	var purpose string
	var days int
	make := &cobra.Command{Use: "make NAME --purpose decisions|metrics", Short: "Make a token for a service; it is shown once", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.MakeServiceToken(c.Context(), client.MakeServiceTokenJSONRequestBody{Name: args[0], Purpose: client.MakeServiceTokenJSONBodyPurpose(purpose), Days: days})
		var t client.NewToken
		if err := r.read(resp, err, &t); err != nil {
			return err
		}
		return a.records(t, []string{"token", "id", "expires"}, [][]string{{t.Token, t.Id, t.Expires.Format(time.RFC3339)}})
	}}
	make.Flags().StringVar(&purpose, "purpose", "decisions", "decisions or metrics")
	make.Flags().IntVar(&days, "days", 90, "days until it ends, at most 366")
	c.AddCommand(make)
	c.AddCommand(&cobra.Command{Use: "end ID", Short: "End a token", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
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
	}})
	return c
}

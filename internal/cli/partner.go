package cli

import (
	"errors"
	"fmt"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/counted"
)

func domainWords(ds []contract.DomainEntry) (out []string) {
	for _, d := range ds {
		t := d.Name
		if d.Subdomains != nil && *d.Subdomains {
			t += " (and below)"
		}
		out = append(out, t)
	}
	return
}

func list(p *[]string) []string {
	if p == nil {
		return nil
	}
	return *p
}

func (a *app) printPartner(p *contract.Partner) error {
	domains := domainWords(p.Domains)
	if a.output != "table" {
		return a.records(
			p,
			[]string{"id", "name", "standing", "domains", "guests", "grants", "spaces"},
			[][]string{
				{
					p.Id,
					p.Name,
					string(p.Standing),
					strings.Join(domains, " "),
					fmt.Sprint(p.Counts.Guests),
					fmt.Sprint(p.Counts.Grants),
					fmt.Sprint(p.Counts.Spaces),
				},
			},
		)
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
	if s := pick(p.StandingReason); s != "" {
		standing += ": " + s
	}
	line("also", strings.Join(list(p.AlsoNamed), ", "))
	line("standing", standing)
	line("domains", strings.Join(domains, ", "))
	line("contact", strings.Join(list(p.Contacts), ", "))
	line("owner", pick(p.Owner))
	line("review", pick(p.Review))
	line("note", pick(p.Note))
	line("statement", pick(p.Statement))
	unverified := ""
	if p.SignInUnverified != nil && *p.SignInUnverified {
		unverified = " (addresses need not be verified)"
	}
	line("sign-in", strings.TrimSpace(pick(p.SignIn)+" "+pick(p.SignInClient)+unverified))
	line("concerns", peopleOf(p.Counts))
	names := make([]string, 0, len(p.Rules))
	for name := range p.Rules {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		line("rule", name+": "+p.Rules[name].Value)
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

func peopleOf(c contract.PartnerCounts) string {
	return counted.Of(c.Guests, "guest", "guests") + " with " + counted.Of(c.Grants, "grant", "grants") + " in " + counted.Of(c.Spaces, "space", "spaces")
}

// weighed prints a partner after a change; of a preview, whom and what the change
// would concern.
func (a *app) weighed(preview bool, p *contract.Partner, what string, args ...any) error {
	if preview && a.output == "table" && p.Concerns != nil {
		a.say("%s That concerns %s.", fmt.Sprintf(what, args...), peopleOf(*p.Concerns))
		return nil
	}
	return a.printPartner(p)
}

func previewFlag(c *cobra.Command, preview *bool) {
	c.Flags().BoolVar(preview, "preview", false, "say whom it concerns, and change nothing")
}

func (a *app) getPartner(c *cobra.Command, id string) (*remote, *contract.Partner, error) {
	r, err := a.remote()
	if err != nil {
		return nil, nil, err
	}
	resp, err := r.GetPartner(c.Context(), id)
	var p contract.Partner
	return r, &p, r.read(resp, err, &p)
}

// changePartner sends what is to be otherwise of a partner; all else stays as it is.
func (a *app) changePartner(c *cobra.Command, id, why string, preview bool, patch map[string]any) (*contract.Partner, error) {
	r, p, err := a.getPartner(c, id)
	if err != nil {
		return nil, err
	}
	if why != "" {
		patch["why"] = why
	}
	resp, err := r.SetPartnerWithApplicationMergePatchPlusJSONBody(
		c.Context(),
		p.Id,
		&contract.SetPartnerParams{IfMatch: &p.Etag, Preview: &preview},
		patch,
	)
	var q contract.Partner
	return &q, r.read(resp, err, &q)
}

// partnerTexts are what is said of a partner in words: the flag, the field of the contract, and
// what it is.
var partnerTexts = []struct {
	flag, field, about string
	many               bool
}{
	{"name", "name", "name of the organisation", false},
	{"also-named", "also_named", "another name it is looked for by", true},
	{"contact", "contacts", "who administers their side", true},
	{"owner", "owner", "the person of ours who keeps the connection", false},
	{"review", "review", "when somebody should look at it again: a date, or days from today as +180d", false},
	{"note", "note", "a note", false},
	{"statement", "statement", "where their signed statement is published", false},
	{"sign-in", "sign_in", "the issuer of their own sign-in (OpenID Connect)", false},
	{"sign-in-client", "sign_in_client", "as whom we are known there", false},
}

const unverifiedFlag = "sign-in-unverified"

func partnerFlags(a *app, c *cobra.Command) {
	f := c.Flags()
	for _, x := range partnerTexts {
		if x.many {
			f.StringSlice(x.flag, nil, x.about)
		} else {
			f.String(x.flag, "", x.about)
		}
	}
	f.Bool(unverifiedFlag, false, "take addresses that their sign-in does not say it verified (email_verified)")
	_ = c.RegisterFlagCompletionFunc("owner", a.completion("person"))
}

// partnerGiven is what was given by those flags; an empty text takes a field away.
func partnerGiven(c *cobra.Command) map[string]any {
	patch, f := map[string]any{}, c.Flags()
	for _, x := range partnerTexts {
		switch {
		case !f.Changed(x.flag):
		case x.many:
			patch[x.field], _ = f.GetStringSlice(x.flag)
		default:
			patch[x.field], _ = f.GetString(x.flag)
		}
	}
	if f.Changed(unverifiedFlag) {
		patch["sign_in_unverified"], _ = f.GetBool(unverifiedFlag)
	}
	return patch
}

func (a *app) partner() *cobra.Command {
	c := &cobra.Command{Use: "partner", Short: "Manage partners: their record, their standing, and what they are open for"}
	c.AddCommand(a.partnerTold())
	show := &cobra.Command{
		Use:               "show ID",
		Short:             "Show one partner, with both sides of every direction",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		RunE: func(c *cobra.Command, args []string) error {
			_, p, err := a.getPartner(c, args[0])
			if err != nil {
				return err
			}
			return a.printPartner(p)
		},
	}
	c.AddCommand(
		a.partnerList(),
		show,
		a.partnerAdd(),
		a.partnerSet(),
		a.partnerMerge(),
		a.partnerSplit(),
		a.partnerHalves(),
		a.partnerStance(),
		a.partnerSheet(),
		a.partnerLetter(),
		a.partnerStatement(),
		a.partnerAdvice(),
		a.partnerConnect(),
		a.partnerPeople(),
	)
	c.AddCommand(a.partnerStanding("suspend", "suspended", "Suspend a partner: everything stops, nothing is forgotten"),
		a.partnerStanding("resume", "active", "Bring a suspended or ended partner back"),
		a.partnerStanding("end", "ended", "End the connection with a partner"))
	yes, no := true, false
	c.AddCommand(a.partnerOpening("open", "Open a partner for services and directions, as chat.in", &yes),
		a.partnerOpening("close", "Close a partner by name, whatever the level says", &no),
		a.partnerOpening("unset", "Take an opening back, so that the partner counts as not listed", nil))
	return c
}

func (a *app) partnerList() *cobra.Command {
	var find string
	c := &cobra.Command{Use: "list", Short: "All partners", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		all := []contract.Partner{}
		p := &contract.ListPartnersParams{Q: optional(find)}
		for {
			resp, err := r.ListPartners(c.Context(), p)
			var x struct {
				Partners []contract.Partner
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
			rows = append(
				rows,
				[]string{
					p.Id,
					p.Name,
					string(p.Standing),
					strings.Join(ds, " "),
					strings.Join(in, " "),
					strings.Join(out, " "),
					fmt.Sprint(p.Counts.Guests),
				},
			)
		}
		return a.records(all, []string{"id", "name", "standing", "domains", "open in", "open out", "guests"}, rows)
	}}
	c.Flags().StringVar(&find, "find", "", "only partners whose id, name or domain holds this")
	return c
}

func (a *app) partnerAdd() *cobra.Command {
	var why string
	var domains, open []string
	var lookAlike, preview bool
	c := &cobra.Command{Use: "add ID", Short: "Add a partner", Args: cobra.ExactArgs(1),
		Example: "  wexillum partner add quayside --name \"Quayside Lamps\" --domain quayside.example --open meetings.in",
		RunE: func(c *cobra.Command, args []string) error {
			body := partnerGiven(c)
			if name, _ := body["name"].(string); name == "" {
				return usage{errors.New("--name is needed")}
			}
			body["id"] = args[0]
			if why != "" {
				body["why"] = why
			}
			es := []contract.DomainEntry{}
			for _, d := range domains {
				e := contract.DomainEntry{Name: strings.TrimPrefix(d, "*.")}
				if sub := true; strings.HasPrefix(d, "*.") {
					e.Subdomains = &sub
				}
				if lookAlike {
					e.LookAlike = &lookAlike
				}
				es = append(es, e)
			}
			body["domains"] = es
			opened := map[string]bool{}
			for _, k := range open {
				opened[k] = true
			}
			body["opened"] = opened
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.AddPartner(c.Context(), &contract.AddPartnerParams{Preview: &preview}, body)
			var p contract.Partner
			if err := r.read(resp, err, &p); err != nil {
				return err
			}
			return a.weighed(preview, &p, "%s would be a partner, with %s.", p.Name, strings.Join(domainWords(p.Domains), ", "))
		}}
	partnerFlags(a, c)
	f := c.Flags()
	f.StringSliceVar(&domains, "domain", nil, "a domain of theirs; *.domain takes those below along")
	f.StringSliceVar(&open, "open", nil, "service and direction to open, as chat.in")
	f.BoolVar(&lookAlike, "look-alike", false, "a domain looks like another one and is meant all the same")
	previewFlag(c, &preview)
	whyFlag(c, &why)
	return c
}

func (a *app) partnerSet() *cobra.Command {
	var why string
	var preview bool
	c := &cobra.Command{
		Use:               "set ID",
		Short:             "Change the record of a partner; an empty text clears a field",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		Example:           "  wexillum partner set ilvane --owner d.ekwinter --review +180d",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.changePartner(c, args[0], why, preview, partnerGiven(c))
			if err != nil {
				return err
			}
			return a.weighed(preview, p, "The record of %s would change; nobody's reach does.", p.Name)
		},
	}
	partnerFlags(a, c)
	previewFlag(c, &preview)
	whyFlag(c, &why)
	return c
}

// rearranged prints what a merge or a split did or would do.
func (a *app) rearranged(x *contract.Rearranged, preview, done string) error {
	if a.output != "table" {
		rows := [][]string{}
		for _, d := range x.Differs {
			rows = append(rows, []string{d.What, d.Was, d.Becomes})
		}
		return a.records(x, []string{"what", "was", "becomes"}, rows)
	}
	verb := done
	if x.Preview {
		verb = preview
	}
	a.say("%s That concerns %s.", verb, peopleOf(x.Concerns))
	if len(x.Named) > 0 {
		a.say("Named there, and followed: %s.", strings.Join(x.Named, ", "))
	}
	if len(x.Differs) > 0 {
		a.say("\nWhat its people find otherwise:")
		rows := [][]string{}
		for _, d := range x.Differs {
			rows = append(rows, []string{d.What, d.Was, d.Becomes})
		}
		a.table([]string{"what", "was", "becomes"}, rows)
	}
	if !x.Preview {
		a.say("")
		return a.printPartner(&x.Partner)
	}
	return nil
}

func (a *app) partnerMerge() *cobra.Command {
	var into, why string
	var preview bool
	c := &cobra.Command{
		Use:               "merge ID --into ID",
		Short:             "Merge two partners; the record of the remaining one applies to everybody",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		RunE: func(c *cobra.Command, args []string) error {
			if into == "" {
				return usage{errors.New("--into is needed: the partner that stays")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.JoinPartners(
				c.Context(),
				args[0],
				&contract.JoinPartnersParams{Preview: &preview},
				contract.JoinPartnersJSONRequestBody{Into: into, Why: optional(why)},
			)
			var x contract.Rearranged
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.rearranged(
				&x,
				fmt.Sprintf("%s would become part of %s.", args[0], x.Partner.Name),
				fmt.Sprintf("%s is part of %s.", args[0], x.Partner.Name),
			)
		},
	}
	c.Flags().StringVar(&into, "into", "", "the partner that stays")
	_ = c.RegisterFlagCompletionFunc("into", a.completion("partner"))
	previewFlag(c, &preview)
	whyFlag(c, &why)
	return c
}

func (a *app) partnerSplit() *cobra.Command {
	var id, name, why string
	var preview bool
	c := &cobra.Command{
		Use:               "split ID DOMAIN… --as ID --name NAME",
		Short:             "Split some domains off into a new partner with the same settings",
		Args:              cobra.MinimumNArgs(2),
		ValidArgsFunction: a.completion("partner"),
		Example:           "  wexillum partner split ilvane '*.lab.ilvane.example' --as ilvane-lab --name \"Ilvane Laboratory\" --preview",
		RunE: func(c *cobra.Command, args []string) error {
			if id == "" || name == "" {
				return usage{errors.New("--as and --name are needed: id and name of the new partner")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.SplitPartner(
				c.Context(),
				args[0],
				&contract.SplitPartnerParams{Preview: &preview},
				contract.SplitPartnerJSONRequestBody{Domains: args[1:], Id: id, Name: name, Why: optional(why)},
			)
			var x contract.Rearranged
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.rearranged(
				&x,
				fmt.Sprintf("%s would be a partner of its own; nobody's reach changes.", name),
				fmt.Sprintf("%s is a partner of its own; nobody's reach changed.", name),
			)
		},
	}
	c.Flags().StringVar(&id, "as", "", "id of the new partner")
	c.Flags().StringVar(&name, "name", "", "name of the new partner")
	previewFlag(c, &preview)
	whyFlag(c, &why)
	return c
}

func (a *app) partnerStanding(verb, standing, short string) *cobra.Command {
	var why string
	var preview bool
	c := &cobra.Command{
		Use:               verb + " ID",
		Short:             short,
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.SetStanding(
				c.Context(),
				args[0],
				&contract.SetStandingParams{Preview: &preview},
				contract.SetStandingJSONRequestBody{Standing: contract.SetStandingJSONBodyStanding(standing), Why: optional(why)},
			)
			var p contract.Partner
			if err := r.read(resp, err, &p); err != nil {
				return err
			}
			return a.weighed(preview, &p, "%s would become %s.", p.Name, standing)
		},
	}
	previewFlag(c, &preview)
	whyFlag(c, &why)
	return c
}

func (a *app) partnerOpening(verb, short string, value *bool) *cobra.Command {
	var why string
	var preview bool
	c := &cobra.Command{
		Use:   verb + " ID KEY…",
		Short: short,
		Args:  cobra.MinimumNArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			opened := map[string]any{}
			for _, k := range args[1:] {
				if opened[k] = nil; value != nil {
					opened[k] = *value
				}
			}
			p, err := a.changePartner(c, args[0], why, preview, map[string]any{"opened": opened})
			if err != nil {
				return err
			}
			return a.weighed(preview, p, "%s would be changed for %s.", p.Name, strings.Join(args[1:], ", "))
		},
		ValidArgsFunction: func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return a.completion("partner")(c, args, text)
			}
			return directions(), cobra.ShellCompDirectiveNoFileComp
		},
	}
	previewFlag(c, &preview)
	whyFlag(c, &why)
	return c
}

// directions lists every service and direction.
func directions() (keys []string) {
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		keys = append(keys, k.String())
	}
	return
}

package cli

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
	"wexillum.example/internal/core/moment"
)

// place is the flags that name where a value is set; at most one of them.
type place struct{ partner, space, item, meeting string }

func (p *place) flags(a *app, c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&p.partner, "partner", "", "at this partner")
	f.StringVar(&p.space, "space", "", "at this space")
	f.StringVar(&p.item, "item", "", "at this item, as folder:loan-valuations")
	f.StringVar(&p.meeting, "meeting", "", "at this meeting")
	c.MarkFlagsMutuallyExclusive("partner", "space", "item", "meeting")
	_ = c.RegisterFlagCompletionFunc("partner", a.completion("partner"))
}

// where returns the place as the service names it, or "" for the organisation.
func (p *place) where() string {
	switch {
	case p.partner != "":
		return "partner:" + strings.TrimPrefix(p.partner, "partner:")
	case p.space != "":
		return "space:" + strings.TrimPrefix(p.space, "space:")
	case p.meeting != "":
		return "meeting:" + strings.TrimPrefix(p.meeting, "meeting:")
	}
	return p.item
}

func (a *app) printValues(x *contract.Values, all bool) error {
	rows := [][]string{}
	for _, v := range x.Rules {
		set := pick(v.Set)
		if set == "" && !all {
			continue
		}
		note := ""
		if v.Held != nil && *v.Held {
			note = "held back"
		}
		var can []string
		for _, o := range v.Choices {
			if o.Can {
				can = append(can, o.Value)
			}
		}
		rows = append(rows, []string{v.Rule, set, v.Value, v.Layer, strings.Join(can, " "), note})
	}
	return a.records(x, []string{"rule", "set here", "counts", "decided by", "may be set", "note"}, rows)
}

func (a *app) getValues(c *cobra.Command, where string) (*remote, *contract.Values, error) {
	r, err := a.remote()
	if err != nil {
		return nil, nil, err
	}
	resp, err := r.Values(c.Context(), where)
	var x contract.Values
	return r, &x, r.read(resp, err, &x)
}

// setValueAt sets a value below the organisation.
func (a *app) setValueAt(c *cobra.Command, where, rule, value string, held, preview bool, why string) error {
	r, x, err := a.getValues(c, where)
	if err != nil {
		return err
	}
	body := contract.ValueChange{Value: value, Why: optional(why)}
	if held {
		body.Held = &held
	}
	was := saysOf(x, rule)
	resp, err := r.SetValue(c.Context(), where, rule, &contract.SetValueParams{IfMatch: &x.Etag, Preview: &preview}, body)
	return a.valueDone(r, resp, err, rule, was)
}

// askValue sends a value below the organisation to whoever may set it.
func (a *app) askValue(c *cobra.Command, where, rule, value, why string) error {
	if strings.TrimSpace(why) == "" {
		return usage{errors.New("say what it is for: give --why")}
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	resp, err := r.MakeRequest(c.Context(), nil, contract.NewRequest{Value: &contract.AskedValue{Where: where, Rule: rule, Value: &value},
		Purpose: why})
	var made contract.Request
	if err := r.read(resp, err, &made); err != nil {
		return err
	}
	return a.printRequest(&made)
}

// saysOf returns what a place itself says of a rule.
func saysOf(x *contract.Values, rule string) string {
	for _, v := range x.Rules {
		if v.Rule == rule {
			return pick(v.Set)
		}
	}
	return ""
}

// tellWeighed tells what a change would do.
func (a *app) tellWeighed(what string, w *contract.ValueWeighed) {
	a.printf("%s: %s, then %s\n\n", what, pick(w.Was), pick(w.Becomes))
	a.tellMoves(w)
}

// tellMoves tells who gains and who loses by a change.
func (a *app) tellMoves(w *contract.ValueWeighed) {
	switch {
	case w.Nothing:
		a.printf("Nothing changes for anybody that is counted.\n")
	default:
		a.printf(
			"  parties   %d gain, %d lose\n  granted   %d gained, %d lost\n  wide      %d gained, %d lost\n",
			w.Parties.Gained,
			w.Parties.Lost,
			w.Granted.Gained,
			w.Granted.Lost,
			w.Wide.Gained,
			w.Wide.Lost,
		)
		if len(w.Newcomers) > 0 {
			a.printf("  newcomers %s\n", strings.Join(w.Newcomers, ", "))
		}
		if w.Lines != nil && len(*w.Lines) > 0 {
			a.printf("\n  %s\n", strings.Join(*w.Lines, "\n  "))
		}
	}
	for _, n := range w.NotCounted {
		a.printf("\nNot counted: %s.\n", n)
	}
}

// valueDone tells what became of a value at a place, or would, and the way back.
func (a *app) valueDone(r *remote, resp *http.Response, err error, rule, was string) error {
	var x contract.Values
	if err := r.read(resp, err, &x); err != nil {
		return err
	}
	if w := x.Weighed; w != nil {
		if a.output != "table" {
			return a.records(
				x,
				[]string{"rule", "was", "becomes", "loosens", "gain", "lose"},
				[][]string{
					{rule, pick(w.Was), pick(w.Becomes), fmt.Sprint(w.Loosens), fmt.Sprint(w.Parties.Gained), fmt.Sprint(w.Parties.Lost)},
				},
			)
		}
		a.tellWeighed(fmt.Sprintf("%s at %s", rule, x.Where), w)
		if w.Loosens {
			a.printf("\nIt lets more through than before: give --why when you set it.\n")
		}
		return nil
	}
	if err := a.printValues(&x, false); err != nil {
		return err
	}
	where := "--" + strings.Replace(x.Where, ":", " ", 1)
	if k, _, _ := strings.Cut(x.Where, ":"); k != "partner" && k != "space" && k != "meeting" {
		where = "--item " + x.Where
	}
	if was == "" {
		fmt.Fprintf(a.err, "Back: wexillum rules unset %s %s\n", rule, where)
	} else {
		fmt.Fprintf(a.err, "Back: wexillum rules set %s --value \"%s\" %s --why \"as it was\"\n", rule, was, where)
	}
	return nil
}

func (a *app) rulesUnset() *cobra.Command {
	var p place
	var why string
	var preview bool
	c := &cobra.Command{
		Use:               "unset RULE",
		Short:             "Remove a value that a partner, space, item or meeting sets",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("rule"),
		RunE: func(c *cobra.Command, args []string) error {
			where := p.where()
			if where == "" {
				return usage{errors.New("say where: --partner, --space, --item or --meeting")}
			}
			r, x, err := a.getValues(c, where)
			if err != nil {
				return err
			}
			was := saysOf(x, args[0])
			resp, err := r.UnsetValue(
				c.Context(),
				where,
				args[0],
				&contract.UnsetValueParams{IfMatch: &x.Etag, Why: optional(why), Preview: &preview},
			)
			return a.valueDone(r, resp, err, args[0], was)
		},
	}
	p.flags(a, c)
	c.Flags().BoolVar(&preview, "preview", false, "say who would gain and lose, and change nothing")
	whyFlag(c, &why)
	return c
}

func (a *app) rulesChoices() *cobra.Command {
	var p place
	var person, party, at string
	c := &cobra.Command{
		Use:               "choices RULE",
		Short:             "Every value of a rule, whether it is available, and what prevents it",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("rule"),
		Example:           "  wexillum rules choices files.bearer_links --item folder:loan-valuations\n  wexillum rules choices meetings.remote_control --person d.ekwinter --towards '*@orrin.example'",
		RunE: func(c *cobra.Command, args []string) error {
			var x contract.Choices
			if a.world != "" {
				y, err := a.choicesFile(args[0], p.where(), person, party, at)
				if err != nil {
					return err
				}
				x = y
			} else {
				r, err := a.remote()
				if err != nil {
					return err
				}
				resp, err := r.Choices(c.Context(), &contract.ChoicesParams{Rule: args[0], Where: optional(p.where()), Person: optional(person),
					Party: optional(party), At: optional(at)})
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
			}
			rows := [][]string{}
			for _, o := range x.Choices {
				can, by := "yes", ""
				if !o.Can {
					can = "no"
					by = pick(o.By)
					if w := pick(o.Where); w != "" {
						by += " " + w
					}
					by += " says " + pick(o.Says) + "; " + pick(o.Who) + " can raise it"
				}
				mark := ""
				if o.Value == x.Value {
					mark = "counts now"
				}
				if o.Advised != nil && *o.Advised {
					mark = strings.TrimPrefix(mark+", advised", ", ")
				}
				rows = append(rows, []string{o.Value, can, by, mark, o.Sentence})
			}
			if a.output == "table" {
				a.printf("%s  %s at %s: %s, decided by %s\n\n", a.colour("1", x.Rule), x.Title, x.Where, x.Value, x.Layer)
			}
			return a.records(x, []string{"value", "available", "stands against it", "", "means"}, rows)
		},
	}
	p.flags(a, c)
	c.Flags().StringVar(&person, "person", "", "for an exception of this person of ours")
	c.Flags().StringVar(&party, "towards", "", "towards this party: an address or *@domain")
	c.Flags().StringVar(&at, "at", "", "a date, a moment, or days from today as +3d; now where absent")
	_ = c.RegisterFlagCompletionFunc("person", a.completion("person"))
	return c
}

func (a *app) choicesFile(rule, where, person, party, when string) (x contract.Choices, err error) {
	s, at, err := a.offline()
	if err != nil {
		return x, err
	}
	if when != "" {
		if at, err = moment.ParseLoose(when, at, s.Zone()); err != nil {
			return x, usage{fmt.Errorf("--at %q: %w", when, err)}
		}
	}
	if a.program == nil {
		return x, a.over()
	}
	if x, err = a.program.Choices(s, rule, where, person, party, at); err != nil {
		return x, usage{err}
	}
	return x, nil
}

func (a *app) space() *cobra.Command {
	c := &cobra.Command{Use: "space", Short: "Spaces: what they set, what they may set, who can reach them"}
	var find string
	list := &cobra.Command{Use: "list", Short: "Spaces", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		var all []contract.SpaceBrief
		rows := [][]string{}
		for next := ""; ; {
			resp, err := r.ListSpaces(c.Context(), &contract.ListSpacesParams{Q: optional(find), Cursor: optional(next)})
			var x struct {
				Spaces []contract.SpaceBrief
				Next   string
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			for _, s := range x.Spaces {
				rows = append(
					rows,
					[]string{
						s.Id,
						s.Kind,
						fmt.Sprint(s.Outside),
						fmt.Sprint(s.Items),
						fmt.Sprint(s.Set),
						strings.Join(s.Owners, " "),
						s.Name,
					},
				)
			}
			all = append(all, x.Spaces...)
			if next = x.Next; next == "" {
				break
			}
		}
		return a.records(all, []string{"id", "kind", "from outside", "items", "rules set", "owners", "name"}, rows)
	}}
	list.Flags().StringVar(&find, "find", "", "a part of the id or the name")
	var all bool
	show := &cobra.Command{
		Use:   "show ID",
		Short: "Show one space: its rules, its items, and who has which role",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetSpace(c.Context(), strings.TrimPrefix(args[0], "space:"))
			var x contract.SpaceView
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, g := range x.Given {
				in := string(g.Decision)
				if in == "none" {
					in = "-"
				}
				rows = append(rows, []string{g.Party, g.Resource, g.Role, string(g.State), day(pick(g.Until)), in, pick(g.Text)})
			}
			columns := []string{"party", "on", "role", "state", "until", "gets in", "why"}
			if a.output != "table" {
				return a.records(x, columns, rows)
			}
			a.printf("%s  %s (%s)\n\n", a.colour("1", x.Name), x.Id, x.Kind)
			names := func(ns []contract.NamedRef) string {
				var out []string
				for _, n := range ns {
					out = append(out, n.Name)
				}
				return strings.Join(out, ", ")
			}
			a.printf("  owners   %s\n  members  %s\n", names(x.Owners), names(x.Members))
			if x.Parties != nil {
				a.printf("  admits   only %s\n", strings.Join(*x.Parties, ", "))
			}
			a.printf("\n")
			if err := a.printValues(&x.Values, all); err != nil {
				return err
			}
			if len(x.Items) > 0 {
				a.printf("\n")
				items := [][]string{}
				for _, it := range x.Items {
					private := ""
					if it.Private {
						private = "private"
					}
					items = append(items, []string{it.Kind + ":" + it.Id, it.Name, private, setValues(it.Rules)})
				}
				a.table([]string{"item", "name", "", "values"}, items)
			}
			if len(rows) > 0 {
				a.printf("\n")
				a.table(columns, rows)
			}
			a.noticed(x.Findings, x.FindingsAt)
			return nil
		},
	}
	show.Flags().BoolVarP(&all, "all", "a", false, "also rules that are not set here")
	c.AddCommand(list, show)
	c.AddCommand(a.spaceEdits()...)
	return c
}

func (a *app) person() *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "Our own people: what is set for them, and who outside can reach them"}
	var find string
	list := &cobra.Command{Use: "list", Short: "People", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		var all []contract.PersonBrief
		rows := [][]string{}
		for next := ""; ; {
			resp, err := r.ListPeople(c.Context(), &contract.ListPeopleParams{Q: optional(find), Cursor: optional(next)})
			var x struct {
				People []contract.PersonBrief
				Next   string
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			for _, p := range x.People {
				rows = append(
					rows,
					[]string{p.Id, p.Name, strings.Join(p.Groups, " "), strings.Join(p.Roles, " "), fmt.Sprint(p.Exceptions)},
				)
			}
			all = append(all, x.People...)
			if next = x.Next; next == "" {
				break
			}
		}
		return a.records(all, []string{"id", "name", "groups", "roles", "exceptions"}, rows)
	}}
	list.Flags().StringVar(&find, "find", "", "a part of the id or the name")
	show := &cobra.Command{
		Use:               "show ID",
		Short:             "Show one person: exceptions, contacts, forwarders, and who outside can reach them",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("person"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetPerson(c.Context(), strings.TrimPrefix(args[0], "person:"))
			var x contract.PersonView
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, v := range x.Reached {
				who := strings.Join(v.Yes, ", ")
				if who == "" {
					who = "nobody"
				}
				rows = append(rows, []string{v.Action, fmt.Sprintf("%d of %d", len(v.Yes), len(v.Yes)+v.No), who})
			}
			columns := []string{"action", "typical newcomers", "who"}
			if a.output != "table" {
				return a.records(x, columns, rows)
			}
			a.printf("%s  %s  %s\n\n", a.colour("1", x.Name), x.Id, pick(x.Address))
			a.printf(
				"  groups   %s\n  roles    %s\n  owns     %s\n\n",
				strings.Join(x.Groups, ", "),
				strings.Join(x.Roles, ", "),
				counted.Of(len(x.Owns), "space", "spaces"),
			)
			if t := pick(x.Left); t != "" {
				a.printf("  left     %s\n\n", day(t))
			}
			a.table(columns, rows)
			if len(x.Exceptions) > 0 {
				a.printf("\n")
				ex := [][]string{}
				for i := range x.Exceptions {
					e := &x.Exceptions[i]
					ex = append(ex, []string{e.Id, stateOf(e), day(pick(e.Until)), towards(e), setValues(e.Rules)})
				}
				a.table([]string{"exception", "state", "until", "towards", "values"}, ex)
			}
			for _, ct := range x.Contacts {
				a.printf("\n  contact  %s, %s", ct.Party, ct.State)
			}
			for _, f := range x.Forwarders {
				a.printf("\n  forwards to %s: %s", f.To, f.Text)
			}
			if len(x.Contacts)+len(x.Forwarders) > 0 {
				a.printf("\n")
			}
			a.noticed(x.Findings, x.FindingsAt)
			return nil
		},
	}
	c.AddCommand(list, show)
	c.AddCommand(a.personEdits()...)
	c.AddCommand(a.personMatrix())
	return c
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (a *app) link() *cobra.Command {
	c := &cobra.Command{Use: "link", Short: "Links that open an item: which of them work, and until when"}
	var state, item, why, who, find string
	list := &cobra.Command{Use: "list", Short: "Links", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		limit := 500
		p := &contract.ListLinksParams{Item: optional(item), Q: optional(find), Limit: &limit}
		if state != "" {
			s := contract.ListLinksParamsState(state)
			p.State = &s
		}
		if who != "" {
			s := contract.ListLinksParamsWho(who)
			p.Who = &s
		}
		all := []contract.Link{}
		for more := true; more; {
			resp, err := r.ListLinks(c.Context(), p)
			var x struct {
				Links []contract.Link
				Next  string
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			all = append(all, x.Links...)
			p.Cursor, more = &x.Next, x.Next != ""
		}
		rows := [][]string{}
		for _, l := range all {
			who := "whoever holds it"
			if l.For != nil {
				who = strings.Join(*l.For, " ")
			}
			right, ends := counts(&l)
			opened := ""
			if l.Opened != nil {
				opened = fmt.Sprint(*l.Opened)
			}
			rows = append(rows, []string{l.Id, yesNo(l.Works), l.Item, who, right, ends, opened, l.Text})
		}
		return a.records(all, []string{"id", "works", "opens", "for", "right", "ends", "opened", "why"}, rows)
	}}
	list.Flags().StringVar(&state, "state", "", "works or dead")
	list.Flags().StringVar(&who, "who", "", "bearer for whoever holds it, or named")
	list.Flags().StringVar(&find, "find", "", "part of an id, an item, an address or whose link it is")
	list.Flags().StringVar(&item, "item", "", "those that open this item, as file:press-kit")
	var ahead bool
	end := &cobra.Command{
		Use:   "end ID",
		Short: "End a link now",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndLink(
				c.Context(),
				strings.TrimPrefix(args[0], "link:"),
				&contract.EndLinkParams{Preview: &ahead},
				contract.WhyOnly{Why: optional(why)},
			)
			if ahead {
				var w contract.ValueWeighed
				if err := r.read(resp, err, &w); err != nil {
					return err
				}
				if a.output != "table" {
					return a.records(w, []string{"link", "lose"}, [][]string{{args[0], fmt.Sprint(w.Parties.Lost)}})
				}
				a.tellWeighed(args[0], &w)
				return nil
			}
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("%s has ended.", args[0])
			return nil
		},
	}
	end.Flags().BoolVar(&ahead, "preview", false, "say who would lose what, and end nothing")
	whyFlag(end, &why)
	c.AddCommand(list, a.makeLink(), a.placeDo("link", "set", "set LINK",
		"Change a link: its right, its end, download, password, whom it names", "  wexillum link set press-kit-link --until +7d --password yes"),
		end)
	return c
}

// counts tells the right and the end of a link as the rules have them, with what it was given
// where that differs.
func counts(l *contract.Link) (right, ends string) {
	right, ends = l.Right, day(pick(l.EffectiveUntil))
	if c := pick(l.EffectiveRight); c != "" && c != l.Right {
		right = c + " (asked " + l.Right + ")"
	}
	if own := day(pick(l.Until)); own != ends && own != "" {
		ends += " (asked " + own + ")"
	}
	return right, ends
}

func (a *app) makeLink() *cobra.Command {
	var id, right, until, by, why, list string
	var bearer, noDownload, password, preview bool
	c := &cobra.Command{
		Use:     "make ITEM [ADDRESS…]",
		Short:   "Make a link to a file or a folder, for named people or for anybody who has it",
		Args:    cobra.MinimumNArgs(1),
		Long:    "Make a link to a file or a folder, for those it names or, with --bearer, for\nwhoever holds it. Nothing is made where nobody could use it: what stands in the\nway is told instead.\n\n--preview tells what it would open and makes nothing.",
		Example: "  wexillum link make file:press-kit --bearer --until +10d --preview\n  wexillum link make folder:loan-lists maren@ilvane.example --right contribute",
		RunE: func(c *cobra.Command, args []string) error {
			addresses, err := a.addresses(args[1:], list)
			if err != nil {
				return err
			}
			if bearer == (strings.TrimSpace(addresses) != "") {
				return usage{errors.New("say whom the link names, or --bearer for whoever holds it, not both")}
			}
			b := contract.LinkAsk{
				Item:     args[0],
				Id:       optional(id),
				For:      optional(addresses),
				Until:    optional(until),
				By:       optional(by),
				Why:      optional(why),
				Bearer:   &bearer,
				Password: &password,
			}
			download := !noDownload
			b.Download = &download
			if right != "" {
				x := contract.LinkAskRight(right)
				b.Right = &x
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.MakeLink(c.Context(), &contract.MakeLinkParams{Preview: &preview}, b)
			var x contract.MadeLink
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.madeLink(&x, preview)
		},
	}
	f := c.Flags()
	f.StringVar(&list, "list", "", "a file of addresses that it names; - is standard input")
	f.BoolVar(&bearer, "bearer", false, "it works for whoever holds it")
	f.StringVar(&right, "right", "", "view, contribute or, for those it names, manage; view unless said")
	f.StringVar(&until, "until", "", "its end: a day, or days from today as +10d; the rules may end it earlier")
	f.BoolVar(&noDownload, "no-download", false, "it opens without download")
	f.BoolVar(&password, "password", false, "a password is asked")
	f.StringVar(&by, "by", "", "the person of ours whose link it is; absent, whoever makes it or an owner of the space")
	f.StringVar(&id, "id", "", "its id; absent, one is drawn")
	f.BoolVar(&preview, "preview", false, "say what it would open, and make nothing")
	whyFlag(c, &why)
	_ = c.RegisterFlagCompletionFunc("by", a.completion("person"))
	return c
}

func (a *app) madeLink(x *contract.MadeLink, preview bool) error {
	var status error
	if !x.Made {
		status = exit(statusNo)
	}
	columns, rows := outcomes(x.Lines, preview)
	if x.Link.Bearer {
		columns, rows = []string{"gate", "side", "because", "next"}, nil
		for _, k := range x.Refused {
			rows = append(rows, []string{k.Gate, k.Side, k.Text, pick(k.Next)})
		}
	}
	if a.output != "table" {
		if err := a.records(x, columns, rows); err != nil {
			return err
		}
		return status
	}
	if x.Made {
		a.opens(x.Opens)
		if t := pick(x.Residual); t != "" {
			a.printf("%s\n\n", t)
		}
	}
	if len(rows) > 0 {
		a.table(columns, rows)
	}
	name := pick(x.Link.ItemName)
	right, ends := counts(&x.Link)
	if strings.Contains(ends, "asked") {
		ends = ", until " + ends
	} else { // told by the link itself
		ends = ""
	}
	switch {
	case !x.Made:
		a.say("No link to %s is made: nobody could use it.", name)
	case preview:
		a.say("Nothing was made. It would be a link of %s to %s, %s%s. %s", pick(x.Link.By), name, right, ends, x.Link.Text)
	default:
		a.say("%s opens %s, %s%s. %s", x.Link.Id, name, right, ends, x.Link.Text)
	}
	return status
}

func (a *app) forwarder() *cobra.Command {
	c := &cobra.Command{Use: "forwarder", Short: "Automatic forwarding of mail to outside, and whether it is allowed"}
	var person, why string
	list := &cobra.Command{Use: "list", Short: "Forwarders", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.ListForwarders(c.Context(), &contract.ListForwardersParams{Person: optional(person)})
		var x struct{ Forwarders []contract.Forwarder }
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		rows := [][]string{}
		for _, f := range x.Forwarders {
			rows = append(rows, []string{f.Person, f.To, yesNo(f.Allowed), yesNo(f.KeepCopy), f.SetBy, f.Text})
		}
		return a.records(x.Forwarders, []string{"person", "to", "allowed", "keeps a copy", "set by", "why"}, rows)
	}}
	list.Flags().StringVar(&person, "person", "", "those of this person of ours")
	_ = list.RegisterFlagCompletionFunc("person", a.completion("person"))
	remove := &cobra.Command{
		Use:   "remove PERSON ADDRESS",
		Short: "Remove a forwarder",
		Args:  cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.RemoveForwarder(c.Context(), args[0], args[1], &contract.RemoveForwarderParams{Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("Mail for %s is not forwarded to %s any more.", args[0], args[1])
			return nil
		},
	}
	whyFlag(remove, &why)
	c.AddCommand(list, a.forwarderAdd(), remove)
	return c
}

// noticed prints what was noticed about something.
func (a *app) noticed(findings []contract.Finding, asOf *string) {
	for _, f := range findings {
		a.printf("\n! %s\n  %s\n", wrap(f.Cause, 2, a.width()), wrap(f.Do, 2, a.width()))
	}
	if asOf != nil {
		a.say("What is noticed is as of %s; something changed since, and is being looked at.", *asOf)
	}
}

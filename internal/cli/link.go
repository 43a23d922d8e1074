package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

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

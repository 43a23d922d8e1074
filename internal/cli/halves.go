package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/client"
)

// jointWords say what two halves come to, and whose turn it is.
var jointWords = map[client.BothHalvesJoint]string{"shut": "shut", "open": "open", "unconfirmed": "open with us, theirs not known", "their_turn": "waits for them", "our_turn": "waits for us"}

// ourWords say what our record says of a partner, and what the policy makes of it
// where that is something else.
func ourWords(h *client.BothHalves) string {
	ours := string(h.Ours)
	switch {
	case h.Because == "by_standing":
		return ours + ", standing closes it"
	case h.Ours == "yes" && !h.Opens:
		return ours + ", level closed"
	case h.Ours == "unset" && h.Opens:
		return ours + ", level any"
	}
	return ours
}

func (a *app) partnerHalves() *cobra.Command {
	var show string
	c := &cobra.Command{Use: "halves [ID]", Short: "Both halves of every service and direction, and whose turn it is", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.completion("partner"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &client.HalvesParams{}
			if len(args) > 0 {
				p.Partner = &args[0]
			}
			if show != "" {
				s := client.HalvesParamsShow(strings.ReplaceAll(show, "-", "_"))
				p.Show = &s
			}
			resp, err := r.Halves(c.Context(), p)
			var x struct{ Halves []client.BothHalves }
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, h := range x.Halves {
				theirs := string(h.Theirs)
				if h.Features != nil {
					theirs += " " + strings.Join(*h.Features, ", ")
				}
				if h.Old {
					theirs += " (admitted too long ago)"
				}
				together := jointWords[h.Joint]
				if h.Both != nil && h.Joint == "open" {
					together += ": " + strings.Join(*h.Both, ", ")
				}
				source := pick(h.Source)
				if by := pick(h.SaidBy); by != "" {
					source += ", " + by
				}
				rows = append(rows, []string{h.Partner, h.Key, ourWords(&h), theirs, together, day(pick(h.AsOf)), source})
			}
			return a.records(x.Halves, []string{"partner", "direction", "ours", "theirs", "together", "as of", "source"}, rows)
		}}
	c.Flags().StringVar(&show, "show", "", "their-turn, our-turn, unconfirmed, mismatch or all")
	_ = c.RegisterFlagCompletionFunc("show", cobra.FixedCompletions([]string{"their-turn", "our-turn", "unconfirmed", "mismatch", "all"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (a *app) partnerStance() *cobra.Command {
	var features []string
	var asOf, until, saidBy, source, why string
	c := &cobra.Command{Use: "stance ID DIRECTION admits|refuses|unknown", Short: "Record what a partner's own side admits or refuses", Args: cobra.ExactArgs(3),
		Example: "  wexillum partner stance oskelund spaces.in admits --why \"their administrator wrote today\"",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			body := client.StanceChange{Says: client.StanceChangeSays(args[2]), AsOf: optional(asOf), Until: optional(until), SaidBy: optional(saidBy), Why: optional(why)}
			if len(features) > 0 {
				body.Features = &features
			}
			if source != "" {
				s := client.StanceChangeSource(source)
				body.Source = &s
			}
			resp, err := r.SetStance(c.Context(), args[0], args[1], body)
			var p client.Partner
			if err := r.read(resp, err, &p); err != nil {
				return err
			}
			return a.printPartner(&p)
		}}
	f := c.Flags()
	f.StringArrayVar(&features, "feature", nil, "only this part: messages, voice or presence")
	f.StringVar(&asOf, "as-of", "", "when they said so: a date or a moment; now where absent")
	f.StringVar(&until, "until", "", "an end after which it does not count any more")
	f.StringVar(&saidBy, "said-by", "", "who of theirs said so")
	f.StringVar(&source, "source", "", "recorded, trial or attempt")
	whyFlag(c, &why)
	return c
}

func (a *app) partnerSheet() *cobra.Command {
	var form string
	c := &cobra.Command{Use: "sheet ID [DIRECTION…]", Short: "A letter to their administrator: what they need to admit, and what not", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completion("partner"),
		Long: "A letter to their administrator: what we want to do together, what they need to\nadmit, for which of our domains, what they need not open, how to try it and how\nto tell us. Without a direction it is about all that waits for them.",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &client.LetterParams{}
			if form != "" {
				f := client.LetterParamsForm(form)
				p.Form = &f
			}
			if len(args) > 1 {
				keys := args[1:]
				p.Key = &keys
			}
			resp, err := r.Letter(c.Context(), args[0], p)
			var text []byte
			if err := r.read(resp, err, &text); err != nil {
				return err
			}
			_, err = a.out.Write(text)
			return err
		}}
	c.Flags().StringVar(&form, "form", "", "markdown, html or text")
	_ = c.RegisterFlagCompletionFunc("form", cobra.FixedCompletions([]string{"markdown", "html", "text"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

// jointWords say what two halves come to, and whose turn it is.
var jointWords = map[contract.BothHalvesJoint]string{
	"shut":        "shut",
	"open":        "open",
	"unconfirmed": "open with us, theirs not known",
	"their_turn":  "waits for them",
	"our_turn":    "waits for us",
}

// ourWords say what our record says of a partner, and what the policy makes of it
// where that is something else.
func ourWords(h *contract.BothHalves) string {
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
	c := &cobra.Command{
		Use:               "halves [ID]",
		Short:             "Both sides of every service and direction, and who has to act next",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completion("partner"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.HalvesParams{}
			if len(args) > 0 {
				p.Partner = &args[0]
			}
			if show != "" {
				s := contract.HalvesParamsShow(strings.ReplaceAll(show, "-", "_"))
				p.Show = &s
			}
			resp, err := r.Halves(c.Context(), p)
			var x struct{ Halves []contract.BothHalves }
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
		},
	}
	c.Flags().StringVar(&show, "show", "", "their-turn, our-turn, unconfirmed, mismatch or all")
	_ = c.RegisterFlagCompletionFunc(
		"show",
		cobra.FixedCompletions([]string{"their-turn", "our-turn", "unconfirmed", "mismatch", "all"}, cobra.ShellCompDirectiveNoFileComp),
	)
	return c
}

func (a *app) partnerStance() *cobra.Command {
	var features []string
	var asOf, until, saidBy, source, why string
	var preview bool
	c := &cobra.Command{
		Use:     "stance ID DIRECTION admits|refuses|unknown|undo",
		Short:   "Record what a partner's own side admits or refuses",
		Args:    cobra.ExactArgs(3),
		Example: "  wexillum partner stance oskelund spaces.in admits --said-by \"their administrator, by mail\"\n  wexillum partner stance oskelund spaces.in undo",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if args[2] == "undo" {
				resp, err := r.UndoStance(c.Context(), args[0], args[1], &contract.UndoStanceParams{Why: optional(why)})
				var p contract.Partner
				if err := r.read(resp, err, &p); err != nil {
					return err
				}
				return a.printPartner(&p)
			}
			body := contract.StanceChange{
				Says:   contract.StanceChangeSays(args[2]),
				AsOf:   optional(asOf),
				Until:  optional(until),
				SaidBy: optional(saidBy),
				Why:    optional(why),
			}
			if len(features) > 0 {
				body.Features = &features
			}
			if source != "" {
				s := contract.StanceChangeSource(source)
				body.Source = &s
			}
			resp, err := r.SetStance(c.Context(), args[0], args[1], &contract.SetStanceParams{Preview: &preview}, body)
			var p contract.Partner
			if err := r.read(resp, err, &p); err != nil {
				return err
			}
			if w := p.Weighed; w != nil && a.output == "table" {
				a.tellWeighed(args[1]+" at "+p.Id, w)
				return nil
			}
			if err := a.printPartner(&p); err != nil || preview {
				return err
			}
			fmt.Fprintf(a.err, "Back: wexillum partner stance %s %s undo\n", args[0], args[1])
			return nil
		},
	}
	f := c.Flags()
	f.StringArrayVar(&features, "feature", nil, "only this part: messages, voice or presence")
	f.BoolVar(&preview, "preview", false, "say who would gain and lose, and record nothing")
	f.StringVar(&asOf, "as-of", "", "when they said so: a date or a moment; now where absent")
	f.StringVar(&until, "until", "", "an end after which it does not count any more")
	f.StringVar(&saidBy, "said-by", "", "who of theirs said so")
	f.StringVar(&source, "source", "", "recorded, trial or attempt")
	whyFlag(c, &why)
	return c
}

func (a *app) partnerSheet() *cobra.Command {
	var form, to, note, why string
	var question, with []string
	var send, keepOnly, again bool
	c := &cobra.Command{
		Use:   "sheet [ID [DIRECTION…]]",
		Short: "Write a letter to their administrator: what they need to allow, and what not",
		ValidArgsFunction: func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return a.completion("partner")(c, args, text)
			}
			return directions(), cobra.ShellCompDirectiveNoFileComp
		},
		Long:    "A letter to their administrator: what we want to do together, what they need to\nadmit, for which of our domains, what they need not open, how to try it and how\nto tell us. Without a direction it is about all that waits for them; with\n--question about what a refused question needs from their side.\n\nWith --send it is kept as sent and mailed to the addresses it goes to, with a copy\nto the partner's owner; with --keep it is kept as sent, and you hand it over\nyourself. It closes when a stance answers it.",
		Example: "  wexillum partner sheet oskelund spaces.in --send\n  wexillum partner sheet --question person:j.penhallow,directory.invite,space:docent-course --context address=h.brannoch@oskelund.example",
		RunE: func(c *cobra.Command, args []string) error {
			if (len(args) == 0) == (len(question) == 0) {
				return usage{errors.New("name a partner, or give --question WHO,ACTION,RESOURCE")}
			}
			body := contract.NewLetter{To: optional(to), Note: optional(note), Why: optional(why)}
			if form != "" {
				f := contract.NewLetterForm(form)
				body.Form = &f
			}
			if len(question) > 0 {
				if len(question) != 3 {
					return usage{errors.New("--question is written as WHO,ACTION,RESOURCE")}
				}
				qc, err := questionContext(with)
				if err != nil {
					return err
				}
				body.Question = &contract.Question{Subject: question[0], Action: question[1], Resource: question[2], Context: qc}
			} else {
				body.Partner = &args[0]
				if keys := args[1:]; len(keys) > 0 {
					body.About = &keys
				}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			preview := !send && !keepOnly
			if send && keepOnly {
				return usage{errors.New("--send mails it, --keep does not; give one of them")}
			}
			if send {
				body.Mail = &send
			}
			if again {
				body.Again = &again
			}
			resp, err := r.SendLetter(c.Context(), &contract.SendLetterParams{Preview: &preview}, body)
			var x contract.Letter
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				return a.letters([]contract.Letter{x}, x)
			}
			a.printf("%s", pick(x.Text))
			if x.Same != nil && preview {
				fmt.Fprintf(a.err, "Open on the same matter: %s.\n", strings.Join(*x.Same, ", "))
			}
			if !preview {
				fmt.Fprintf(a.err, "Kept as %s, to %s.\n", x.Id, nobody(pick(x.To)))
				if x.Mailed != nil {
					fmt.Fprintf(a.err, "In the outbox for %s, as <%s>.\n", strings.Join(*x.Mailed, ", "), pick(x.MessageId))
				} else {
					fmt.Fprintf(a.err, "Not mailed: %s.\n", pick(x.NotMailed))
				}
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&form, "form", "", "markdown, html or text")
	f.BoolVar(&send, "send", false, "keep it as sent, and mail it")
	f.BoolVar(&keepOnly, "keep", false, "keep it as sent, and mail nothing")
	f.BoolVar(&again, "again", false, "although a letter on the same matter is open")
	f.StringVar(&to, "to", "", "whom it is sent to; else who is known to administer their side")
	f.StringVar(&note, "note", "", "a sentence of your own that the letter carries")
	f.StringSliceVar(&question, "question", nil, "a question that their side refuses or has not confirmed: WHO,ACTION,RESOURCE")
	f.StringArrayVar(&with, "context", nil, "with --question: address=… and what else the action needs")
	whyFlag(c, &why)
	_ = c.RegisterFlagCompletionFunc(
		"form",
		cobra.FixedCompletions([]string{"markdown", "html", "text"}, cobra.ShellCompDirectiveNoFileComp),
	)
	return c
}

func nobody(s string) string {
	if s == "" {
		return "nobody known"
	}
	return s
}

// letters prints letters as records.
func (a *app) letters(all []contract.Letter, data any) error {
	rows := [][]string{}
	for _, l := range all {
		rows = append(
			rows,
			[]string{
				l.Id,
				l.Partner,
				strings.Join(l.About, " "),
				day(pick(l.Sent)),
				string(l.State),
				counted.Of(l.Age, "day", "days"),
				pick(l.To),
				pick(l.Said),
			},
		)
	}
	return a.records(data, []string{"letter", "partner", "about", "sent", "state", "age", "to", "said"}, rows)
}

func (a *app) partnerLetter() *cobra.Command {
	c := &cobra.Command{Use: "letter", Short: "Letters to their administrators, and the answers"}
	var partner, state string
	list := &cobra.Command{
		Use:   "list",
		Short: "Letters, the open ones first, with their age",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.ListLettersParams{Partner: optional(partner)}
			if state != "" {
				s := contract.ListLettersParamsState(state)
				p.State = &s
			}
			resp, err := r.ListLetters(c.Context(), p)
			var x struct{ Letters []contract.Letter }
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.letters(x.Letters, x.Letters)
		},
	}
	list.Flags().StringVar(&partner, "partner", "", "only those to this partner")
	list.Flags().StringVar(&state, "state", "", "open, closed or all")
	_ = list.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	var form string
	show := &cobra.Command{
		Use:   "show ID",
		Short: "A letter with its text",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.GetLetterParams{}
			if form != "" {
				f := contract.GetLetterParamsForm(form)
				p.Form = &f
			}
			resp, err := r.GetLetter(c.Context(), args[0], p)
			var l contract.Letter
			if err := r.read(resp, err, &l); err != nil {
				return err
			}
			if a.output != "table" {
				return a.letters([]contract.Letter{l}, l)
			}
			if err := a.letters([]contract.Letter{l}, l); err != nil {
				return err
			}
			a.printf("\n%s", pick(l.Text))
			return nil
		},
	}
	show.Flags().StringVar(&form, "form", "", "markdown, html or text")
	var said, why string
	end := &cobra.Command{
		Use:   "close ID admitted|refused|withdrawn",
		Short: "Close a letter by hand; a recorded stance that answers it closes it automatically",
		Args:  cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.CloseLetter(
				c.Context(),
				args[0],
				contract.CloseLetterJSONRequestBody{
					Answer: contract.CloseLetterJSONBodyAnswer(args[1]),
					Said:   optional(said),
					Why:    optional(why),
				},
			)
			var l contract.Letter
			if err := r.read(resp, err, &l); err != nil {
				return err
			}
			return a.letters([]contract.Letter{l}, l)
		},
	}
	end.Flags().StringVar(&said, "said", "", "what they said")
	whyFlag(end, &why)
	c.AddCommand(list, show, end)
	return c
}

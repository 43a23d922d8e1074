package cli

import (
	"errors"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

func (a *app) wishes() *cobra.Command {
	var grant, refuse bool
	var until, text string
	c := &cobra.Command{
		Use:   "asks [ADDRESS]",
		Short: "Guests who ask for more time; with an address, answer them",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				if grant == refuse {
					return usage{errors.New("say --grant or --refuse")}
				}
				resp, err := r.AnswerWish(
					c.Context(),
					args[0],
					contract.WishAnswer{Grant: grant, Until: optional(until), Text: optional(text)},
				)
				var w contract.Wish
				if err := r.read(resp, err, &w); err != nil {
					return err
				}
				a.say("%s: %s.", w.Address, w.State)
				return nil
			}
			resp, err := r.Wishes(c.Context())
			var x struct {
				Wishes []contract.Wish `json:"wishes"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, w := range x.Wishes {
				rows = append(rows, []string{w.Address, day(w.Made), pick(w.Until), pick(w.Text)})
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("Nobody asks for more time.")
				return nil
			}
			return a.records(x.Wishes, []string{"address", "asked", "until", "because"}, rows)
		},
	}
	f := c.Flags()
	f.BoolVar(&grant, "grant", false, "give more time")
	f.BoolVar(&refuse, "refuse", false, "say no")
	f.StringVar(&until, "until", "", "the new end; absent, what they asked for, or as far as one extension may go")
	f.StringVar(&text, "text", "", "what they read")
	return c
}

func (a *app) offers() *cobra.Command {
	var accept, decline bool
	c := &cobra.Command{
		Use:   "offers [ID]",
		Short: "Guests whose sponsor leaves, offered to a successor; with an id, answer the offer",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				if accept == decline {
					return usage{errors.New("say --accept or --decline")}
				}
				resp, err := r.AnswerOffer(c.Context(), args[0], contract.OfferAnswer{Accept: accept})
				var o contract.Offer
				if err := r.read(resp, err, &o); err != nil {
					return err
				}
				if accept {
					a.say("%s answers for %s of %s from now on.", o.To, answersFor(o), o.From)
				} else {
					a.say("Declined. %s still answers for them; ask somebody else: wexillum guest sponsor-leaves %s --successor PERSON", o.From, o.From)
				}
				return nil
			}
			resp, err := r.Offers(c.Context())
			var x struct {
				Offers []contract.Offer `json:"offers"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, o := range x.Offers {
				rows = append(
					rows,
					[]string{o.Id, o.From, o.To, strconv.Itoa(o.Guests), strconv.Itoa(o.Grants), day(o.Made), pick(o.Reason)},
				)
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("Nothing is offered.")
				return nil
			}
			return a.records(x.Offers, []string{"id", "from", "to", "guests", "grants", "asked", "because"}, rows)
		},
	}
	f := c.Flags()
	f.BoolVar(&accept, "accept", false, "take over")
	f.BoolVar(&decline, "decline", false, "leave them where they are")
	return c
}

func (a *app) outbox() *cobra.Command {
	var to, state string
	var again int64
	c := &cobra.Command{
		Use:   "mail",
		Short: "Mail to guests and sponsors: what was sent, what waits and why",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if again > 0 {
				resp, err := r.SendAgain(c.Context(), again)
				if err := r.read(resp, err, nil); err != nil {
					return err
				}
				a.say("It is tried again.")
				return nil
			}
			resp, err := r.Outbox(c.Context(), &contract.OutboxParams{Recipient: optional(to), State: optional(state)})
			var x struct {
				Messages []contract.OutboxMessage `json:"messages"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, m := range x.Messages {
				rows = append(
					rows,
					[]string{
						strconv.FormatInt(m.Id, 10),
						m.Recipient,
						strings.ReplaceAll(m.Kind, "_", " "),
						m.State,
						day(m.Made),
						dayOr(m.Sent),
						strconv.Itoa(m.Tries),
						pick(m.Error),
					},
				)
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("No mail.")
				return nil
			}
			return a.records(x.Messages, []string{"id", "to", "about", "state", "written", "sent", "tries", "error"}, rows)
		},
	}
	c.Flags().StringVar(&to, "to", "", "only to this address")
	c.Flags().StringVar(&state, "state", "", "waiting, sent or failed")
	c.Flags().Int64Var(&again, "again", 0, "ID: try a message again at once")
	return c
}

func (a *app) leaves() *cobra.Command {
	var at, successor, reason string
	var preview bool
	c := &cobra.Command{
		Use:               "sponsor-leaves PERSON",
		Short:             "Say that a sponsor leaves, and offer their guests to a successor",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("person"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.PersonLeaves(
				c.Context(),
				args[0],
				&contract.PersonLeavesParams{Preview: &preview},
				contract.Leaving{At: optional(at), Successor: optional(successor), Reason: optional(reason)},
			)
			var o contract.Offer
			if err := r.read(resp, err, &o); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(
					o,
					[]string{"id", "from", "to", "guests", "grants"},
					[][]string{{o.Id, o.From, o.To, strconv.Itoa(o.Guests), strconv.Itoa(o.Grants)}},
				)
			}
			switch {
			case preview:
				a.say("Nothing was changed. %s answers for %s.", o.From, answersFor(o))
			case o.To == "":
				a.say("%s leaves and answered for %s. Name a successor, or hand them over one by one.", o.From, answersFor(o))
			default:
				a.say("%s leaves; %s are offered to %s.", o.From, answersFor(o), o.To)
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&at, "at", "", "the last day; absent is now")
	f.StringVar(&successor, "successor", "", "who is asked to take over")
	f.StringVar(&reason, "reason", "", "why")
	f.BoolVar(&preview, "preview", false, "count, and change nothing")
	_ = c.RegisterFlagCompletionFunc("successor", a.completion("person"))
	return c
}

// answersFor says for how much a sponsor answers who leaves.
func answersFor(o contract.Offer) string {
	return counted.Of(o.Guests, "guest", "guests") + " and " + counted.Of(o.Grants, "grant", "grants")
}

package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

func (a *app) review() *cobra.Command {
	c := &cobra.Command{Use: "review", Short: "Ask those who answer for it whether what people outside hold is still needed",
		Long: "Ask those who answer for it whether what people outside hold is still needed. A round fixes\nits lines as it begins: everything that is held of a partner, a space or a bundle, or all.\nEach line goes to its sponsor, else to an owner, else to a keeper. What nobody answers by\nthe last day is as guests.review_silence says."}
	c.AddCommand(a.reviewList(), a.reviewStart(), a.reviewShow(), a.reviewLines(), a.reviewAnswer(), a.reviewEnd())
	return c
}

func stateOfRound(x *contract.Round) string {
	if x.Closed != nil {
		return "over"
	}
	return fmt.Sprintf("%d of %d answered", x.Lines-x.Open, x.Lines)
}

func (a *app) reviewList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "Rounds, the newest first", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.ListReviews(c.Context())
		var x struct {
			Rounds []contract.Round `json:"rounds"`
		}
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		if len(x.Rounds) == 0 && a.output == "table" {
			a.say("There is no round of review. Begin one: wexillum review start NAME --partner ID --until +30d --why …")
			return nil
		}
		rows := [][]string{}
		for i := range x.Rounds {
			v := &x.Rounds[i]
			rows = append(rows, []string{v.Id, v.Name, v.About, stateOfRound(v), strconv.Itoa(v.Mine), day(v.Until)})
		}
		return a.records(x.Rounds, []string{"id", "name", "about", "state", "waits for you", "until"}, rows)
	}}
}

// roundID finds a round by its id or, where one alone is called so, its name.
func (a *app) roundID(c *cobra.Command, r *remote, text string) (string, error) {
	resp, err := r.ListReviews(c.Context())
	var x struct {
		Rounds []contract.Round `json:"rounds"`
	}
	if err := r.read(resp, err, &x); err != nil {
		return "", err
	}
	var ids []string
	for i := range x.Rounds {
		switch v := &x.Rounds[i]; {
		case v.Id == text:
			return text, nil
		case strings.EqualFold(v.Name, text):
			ids = append(ids, v.Id)
		}
	}
	switch len(ids) {
	case 0:
		return text, nil // the service says that there is none
	case 1:
		return ids[0], nil
	}
	return "", usage{fmt.Errorf("several rounds are called %q; write the id of one: %s", text, strings.Join(ids, ", "))}
}

func (a *app) printRound(x *contract.Round) error {
	if a.output != "table" {
		return a.records(x, []string{"id", "name", "about", "state", "until"}, [][]string{{x.Id, x.Name, x.About, stateOfRound(x), day(x.Until)}})
	}
	a.say("%s  %s: %s", x.Id, x.Name, stateOfRound(x))
	a.say("  about     %s", x.About)
	a.say("  begun by  %s, %s: %s", x.By, day(x.Made), x.Why)
	a.say("  until     %s", day(x.Until))
	for _, s := range []string{"open", "kept", "narrowed", "ended", "gone", "silent"} {
		if n := x.States[s]; n > 0 {
			a.say("  %-8s  %d", s, n)
		}
	}
	if x.Closed != nil {
		a.say("  over      since %s; its lines are sealed as %s", day(*x.Closed), pick(x.Digest))
	}
	if e := pick(x.Evidence); e != "" {
		a.say("  record    %s, of who reached what at its end", e)
	}
	if len(x.Waits) > 0 {
		rows := [][]string{}
		for _, w := range x.Waits {
			rows = append(rows, []string{w.Name, strconv.Itoa(w.Lines)})
		}
		a.say("")
		a.table([]string{"waits for", "lines"}, rows)
	}
	return nil
}

func (a *app) reviewStart() *cobra.Command {
	var x contract.RoundBegin
	var partner, space, bundle, state, origin, sponsor, needs, why string
	var preview bool
	c := &cobra.Command{Use: "start NAME", Short: "Begin a round", Args: cobra.ExactArgs(1),
		Example: "  wexillum review start \"Before the loan ends\" --space loan-dossier --until +20d --preview\n  wexillum review start \"Ilvane, autumn\" --partner ilvane --until +30d --why \"the auditor asks\"",
		RunE: func(c *cobra.Command, args []string) error {
			x.Name, x.Partner, x.Space, x.Bundle, x.Why = args[0], optional(partner), optional(space), optional(bundle), optional(why)
			x.State, x.Origin, x.Sponsor, x.Needs = optional(state), optional(origin), optional(sponsor), optional(needs)
			if x.Until == "" {
				return usage{errors.New("say until when they answer: --until +30d")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.BeginReview(c.Context(), &contract.BeginReviewParams{Preview: &preview}, x)
			var out contract.Round
			if err := r.read(resp, err, &out); err != nil {
				return err
			}
			if preview && a.output == "table" {
				a.say("Nothing has begun. It would ask:")
			}
			return a.printRound(&out)
		}}
	f := c.Flags()
	f.StringVar(&partner, "partner", "", "of people of this partner alone")
	f.StringVar(&space, "space", "", "in this space alone, with all that is in it")
	f.StringVar(&bundle, "bundle", "", "what follows from this bundle alone")
	f.StringVar(&state, "state", "", "of records in this state alone: active, invited or suspended")
	f.StringVar(&origin, "origin", "", "of records that came to be so alone: invited, shared, requested, fed or signed_up")
	f.StringVar(&sponsor, "sponsor", "", "of guests of this person alone")
	f.StringVar(&needs, "needs", "",
		"of those that somebody may want to look at: sponsor, grant, seen, terms, time or mail, as guest list has it")
	f.StringVar(&x.Until, "until", "", "the last day to answer: a date, or days from today as +30d")
	f.BoolVar(&preview, "preview", false, "say who would be asked how much, and begin nothing")
	whyFlag(c, &why)
	_ = c.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	_ = c.RegisterFlagCompletionFunc("bundle", a.completion("bundle"))
	_ = c.RegisterFlagCompletionFunc("sponsor", a.completion("person"))
	return c
}

func (a *app) reviewShow() *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "A round, how far it has come, and for whom it waits", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			id, err := a.roundID(c, r, args[0])
			if err != nil {
				return err
			}
			resp, err := r.GetReview(c.Context(), id)
			var x contract.Round
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printRound(&x)
		}}
}

func (a *app) reviewLines() *cobra.Command {
	var state string
	var mine bool
	c := &cobra.Command{Use: "lines ID", Short: "What a round asks, line by line", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			id, err := a.roundID(c, r, args[0])
			if err != nil {
				return err
			}
			params := contract.ReviewLinesParams{Limit: ptrTo(500), Mine: &mine}
			if state != "" {
				params.State = (*contract.ReviewLinesParamsState)(&state)
			}
			all := []contract.ReviewLine{}
			for {
				resp, err := r.ReviewLines(c.Context(), id, &params)
				var x struct {
					Lines []contract.ReviewLine `json:"lines"`
					Next  *int                  `json:"next"`
				}
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				all = append(all, x.Lines...)
				if params.After = x.Next; x.Next == nil {
					break
				}
			}
			rows := [][]string{}
			for i := range all {
				l := &all[i]
				rows = append(rows, []string{strconv.Itoa(l.N), cmp.Or(pick(l.PartyName), l.Party), l.Name, string(l.Role), pick(l.Bundle),
					day(pick(l.Ends)), day(pick(l.LastSeen)), l.ReviewerName, string(l.State), pick(l.By), pick(l.Why)})
			}
			return a.records(all, []string{"line", "who", "on", "role", "bundle", "ends", "last seen", "asked of", "state", "by", "why"}, rows)
		}}
	c.Flags().StringVar(&state, "state", "", "open, kept, narrowed, ended, gone or silent")
	c.Flags().BoolVar(&mine, "mine", false, "what it asks you")
	return c
}

func ptrTo[T any](v T) *T { return &v }

func (a *app) reviewAnswer() *cobra.Command {
	var keep, end, notMine, preview bool
	var narrower, item, to, until, why string
	var lines []int
	c := &cobra.Command{Use: "answer ID", Short: "Answer lines of a round: keep, narrower, end, or somebody else's", Args: cobra.ExactArgs(1),
		Long:    "Answer lines of a round: --keep (--until an earlier day), --narrower ROLE, --item\nRESOURCE in place of the whole space, --end, --hand-over PERSON or --not-mine. Without --line it answers all that wait for you.",
		Example: "  wexillum review answer v412 --end --line 3 --line 7 --why \"the loan is over\" --preview\n  wexillum review answer v412 --keep",
		RunE: func(c *cobra.Command, args []string) error {
			do := []string{}
			for name, is := range map[string]bool{"keep": keep, "end": end, "not_mine": notMine, "narrower": narrower != "" || item != "",
				"hand_over": to != ""} {
				if is {
					do = append(do, name)
				}
			}
			if len(do) != 1 {
				return usage{errors.New("say one of --keep, --narrower ROLE, --item RESOURCE, --end, --hand-over PERSON and --not-mine")}
			}
			body := contract.ReviewAnswer{Do: contract.ReviewAnswerDo(do[0]), Until: optional(until), Role: optional(narrower), Item: optional(item),
				To: optional(to), Why: optional(why)}
			if len(lines) > 0 {
				body.Lines = &lines
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			id, err := a.roundID(c, r, args[0])
			if err != nil {
				return err
			}
			resp, err := r.AnswerReview(c.Context(), id, &contract.AnswerReviewParams{Preview: &preview}, body)
			var x contract.ReviewsDone
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i := range x.Lines {
				l := &x.Lines[i]
				role := string(l.Role)
				if l.Party == "" { // there is no such line
					role = ""
				}
				rows = append(rows, []string{strconv.Itoa(l.N), l.Party, l.Name, role,
					cmp.Or(pick(l.Reason), string(l.State)+map[bool]string{true: ", asked of " + l.ReviewerName}[l.State == "open"])})
			}
			if a.output != "table" {
				return a.records(x, []string{"line", "who", "on", "role", "what became of it"}, rows)
			}
			a.table([]string{"line", "who", "on", "role", "what became of it"}, rows)
			if preview {
				a.say("Nothing is changed yet.")
				if x.Weighed != nil {
					a.tellMoves(x.Weighed)
				}
				return nil
			}
			a.say("%s answered%s.", counted.Of(x.Done, "line", "lines"), map[bool]string{true: fmt.Sprintf(", %d not", x.Refused)}[x.Refused > 0])
			if x.Done == 0 {
				return errors.New("nothing was answered")
			}
			return nil
		}}
	f := c.Flags()
	f.BoolVar(&keep, "keep", false, "it is still needed")
	f.BoolVar(&end, "end", false, "it ends now")
	f.BoolVar(&notMine, "not-mine", false, "somebody else answers for it: the owner, or a keeper, is asked")
	f.StringVar(&narrower, "narrower", "", "a lower role: view or contribute")
	f.StringVar(&item, "item", "", "an item of the space, which they keep in place of all of it")
	f.StringVar(&to, "hand-over", "", "a person of ours who is asked instead")
	f.StringVar(&until, "until", "", "with --keep: an earlier end")
	f.IntSliceVar(&lines, "line", nil, "a line by its number; again for more")
	f.BoolVar(&preview, "preview", false, "say what would be lost, and change nothing")
	whyFlag(c, &why)
	return c
}

func (a *app) reviewEnd() *cobra.Command {
	var why string
	var preview bool
	c := &cobra.Command{Use: "end ID", Short: "End a round before its day; what nobody answered is as at its end", Args: cobra.ExactArgs(1),
		Long: "End a round before its day. Who would lose what, because nobody answered whether they still need it, is told\nfirst; on a terminal it is asked whether to go on.",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			id, err := a.roundID(c, r, args[0])
			if err != nil {
				return err
			}
			end := func(preview bool) (x contract.Round, err error) {
				resp, err := r.EndReview(c.Context(), id, &contract.EndReviewParams{Preview: &preview}, contract.WhyOnly{Why: optional(why)})
				return x, r.read(resp, err, &x)
			}
			if a.output == "table" && why != "" || preview { // without a reason it is refused at once
				x, err := end(true)
				if err != nil {
					return err
				}
				if a.output != "table" {
					return a.printRound(&x)
				}
				a.say("%s: nobody answered %s.", x.Name, counted.Of(x.Open, "line", "lines"))
				if x.Open > 0 {
					says := []string{}
					if *x.Ends > 0 {
						says = append(says, counted.Of(*x.Ends, "role", "roles")+" would end now")
					}
					if n := x.Open - *x.Ends; n > 0 {
						says = append(says, counted.Of(n, "role", "roles")+" would count as reviewed")
					}
					a.say("As guests.review_silence says, %s.", strings.Join(says, ", and "))
					a.tellMoves(x.Weighed)
				}
				if preview {
					a.say("Nothing is changed yet.")
					return nil
				}
				if !a.confirmed("End it?") {
					return errors.New("nothing was changed")
				}
			}
			x, err := end(false)
			if err != nil {
				return err
			}
			return a.printRound(&x)
		}}
	c.Flags().BoolVar(&preview, "preview", false, "say what would be lost, and change nothing")
	whyFlag(c, &why)
	return c
}

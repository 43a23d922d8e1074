package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/moment"
)

func (a *app) feedOut() *cobra.Command {
	c := &cobra.Command{Use: "out", Short: "Keep people of ours in a partner's directory (SCIM 2.0)",
		Long: "Keep people of ours in a partner's directory: who joins here is told there, and who leaves is\nclosed there, by SCIM 2.0 (RFC 7643, RFC 7644). A feed is held at first: what it would do is shown,\nand nothing is sent but by hand. It is about those for whom directory.feed_out is on."}
	c.AddCommand(a.feedOutList(), a.feedOutShow(), a.feedOutBegin(), a.feedOutSet(), a.feedOutLook(), a.feedOutPeople(), a.feedOutSend(),
		a.feedOutLog(), a.feedOutRelease(), a.feedOutEnd())
	return c
}

func feedOutState(f *contract.FeedOut) string {
	switch {
	case f.Shut != nil:
		return "▼ shut"
	case f.Problem != nil:
		return "▼ fails"
	}
	return string(f.State)
}

func (a *app) feedOutList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "Feeds that go to partners, and how they go", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ListFeedsOut(c.Context())
			var x struct {
				Feeds []contract.FeedOut `json:"feeds"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if len(x.Feeds) == 0 && a.output == "table" {
				a.say("Nobody of ours is kept at a partner. Begin: wexillum feed out begin PARTNER --address https://… --key file:PATH --why …")
				return nil
			}
			rows := [][]string{}
			for i := range x.Feeds {
				f := &x.Feeds[i]
				rows = append(rows, []string{f.Partner, f.Name, feedOutState(f), strconv.Itoa(f.Kept), strconv.Itoa(f.Closed), strconv.Itoa(f.Failing),
					whenSaid(f.Ended), nextSaid(f.Next)})
			}
			return a.records(x.Feeds, []string{"partner", "name", "state", "kept there", "closed there", "not taken", "sent last", "sent next"}, rows)
		}}
}

func whenSaid(at *string) string {
	if at == nil {
		return ""
	}
	return day(*at)
}

// nextSaid says when something is done next; what is due already is done at once.
func nextSaid(at *string) string {
	if at == nil {
		return "by hand"
	}
	if m, err := moment.Parse(*at); err == nil && m <= moment.Of(time.Now()) {
		return "at once"
	}
	return day(*at)
}

func didSaid(did map[string]int) string {
	var said []string
	for what, n := range did {
		said = append(said, fmt.Sprintf("%s: %d", sentWords[what], n))
	}
	slices.Sort(said)
	return cmp.Or(strings.Join(said, "; "), "nothing was to be done")
}

// sentWords say what is or was done about somebody at a partner.
var sentWords = map[string]string{"new": "+ comes in", "taken_over": "taken over", "changed": "changes", "closed": "▼ is closed",
	"removed": "▼ is removed", "back": "▲ comes back", "same": "as it is", "left_out": "is left out", "braked": "▼ waits for the brake",
	"refused": "▼ not taken"}

func (a *app) printFeedOut(f *contract.FeedOut) error {
	if a.output != "table" {
		return a.records(f, []string{"partner", "state", "kept there", "not taken"},
			[][]string{{f.Partner, feedOutState(f), strconv.Itoa(f.Kept), strconv.Itoa(f.Failing)}})
	}
	a.say("%s  %s: %s", f.Partner, f.Name, feedOutState(f))
	if f.Shut != nil {
		a.say("  shut      nothing goes there. %s", *f.Shut)
	}
	if f.Off != nil {
		a.say("  off       %s", *f.Off)
		a.say("            wexillum rules set directory.feed_out --partner %s --value on --why …", f.Partner)
	}
	if f.Problem != nil {
		a.say("  problem   %s, since %s", *f.Problem, whenSaid(f.Since))
		a.say("            try the connection: wexillum feed out test %s", f.Partner)
	}
	a.say("  server    %s, token in %s", f.Address, f.Key)
	scope := "all for whom directory.feed_out is on"
	if f.Scope != "all" {
		scope = map[contract.FeedOutScope]string{"groups": "those in ", "people": ""}[f.Scope] + strings.Join(f.Of, ", ") +
			", where directory.feed_out is on for them"
	}
	a.say("  about     %s", scope)
	a.say("  there     %d kept, %d closed", f.Kept, f.Closed)
	if f.Failing > 0 {
		a.say("  not taken %d: wexillum feed out log %s --wrong", f.Failing, f.Partner)
	}
	every := fmt.Sprintf("every %d minutes", f.Every)
	if f.State == "held" {
		every += ", once it is on: wexillum feed out set " + f.Partner + " --state on --why …"
	} else if f.Next != nil {
		every += ", next " + nextSaid(f.Next)
	}
	a.say("  sent      %s", every)
	switch {
	case f.Began == nil:
	case f.Ended == nil:
		a.say("  now       %d of %d, since %s", *f.Done, *f.Total, day(*f.Began))
	default:
		a.say("  last      %s: %s", day(*f.Ended), didSaid(f.Did))
	}
	a.say("  leavers   %s", map[contract.FeedOutLeavers]string{"close": "their account there is closed",
		"remove": "their account there is removed"}[f.Leavers])
	most := "any number"
	if f.Most != nil {
		most = strconv.Itoa(*f.Most)
	}
	a.say("  brake     %d closed within a day, of %s", f.ClosedToday, most)
	if f.Most != nil && f.ClosedToday >= *f.Most {
		a.say("            wexillum feed out release %s --why …", f.Partner)
	}
	return nil
}

func (a *app) feedOutShow() *cobra.Command {
	return &cobra.Command{Use: "show PARTNER", Short: "A feed that goes to a partner: whom it is about, how it goes", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetFeedOut(c.Context(), args[0])
			var f contract.FeedOut
			if err := r.read(resp, err, &f); err != nil {
				return err
			}
			return a.printFeedOut(&f)
		}}
}

// feedOutFlags are what may be said of a feed that goes out.
type feedOutFlags struct {
	address, key, state, scope, leavers string
	of                                  []string
	every, brake                        int
}

func (x *feedOutFlags) register(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&x.address, "address", "", "their server, as https://host/scim/v2")
	f.StringVar(&x.key, "key", "", "where the service finds the token that it wants: file:PATH or env:NAME")
	f.StringVar(&x.state, "state", "", "held (nothing is sent but by hand), or on")
	f.StringVar(&x.scope, "scope", "", "all, groups or people")
	f.StringSliceVar(&x.of, "of", nil, "the groups or people, by their ids")
	f.IntVar(&x.every, "every", 15, "minutes between two rounds")
	f.StringVar(&x.leavers, "leavers", "", "what becomes there of whoever leaves: close, or remove")
	f.IntVar(&x.brake, "brake", 0, "how many accounts it may close in a day; 0 for settings.brake")
}

// said are those that were given, as the contract has them.
func (x *feedOutFlags) said(c *cobra.Command) (out contract.FeedOutChange) {
	given := c.Flags().Changed
	for name, to := range map[string]struct {
		from *string
		into **string
	}{"address": {&x.address, &out.Address}, "key": {&x.key, &out.Key}, "state": {&x.state, &out.State}, "scope": {&x.scope, &out.Scope},
		"leavers": {&x.leavers, &out.Leavers}} {
		if given(name) {
			*to.into = to.from
		}
	}
	if given("of") {
		out.Of = &x.of
	}
	if given("every") {
		out.Every = &x.every
	}
	if given("brake") {
		out.Brake = &x.brake
	}
	return out
}

func (a *app) feedOutBegin() *cobra.Command {
	var x feedOutFlags
	var why string
	c := &cobra.Command{Use: "begin PARTNER", Short: "Begin a feed to a partner, held at first", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		Example:           "  wexillum feed out begin sandrill --address https://people.sandrill.example/scim/v2 --key file:/etc/wexillum/sandrill.token --scope groups --of exhibition --why \"they build the hall together\"",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			s := x.said(c)
			resp, err := r.BeginFeedOut(c.Context(), contract.FeedOutBegin{Partner: args[0], Address: x.address, Key: x.key, State: s.State,
				Scope: s.Scope, Of: s.Of, Every: s.Every, Leavers: s.Leavers, Brake: s.Brake, Why: optional(why)})
			var f contract.FeedOut
			if err := r.read(resp, err, &f); err != nil {
				return err
			}
			if err := a.printFeedOut(&f); err != nil || a.output != "table" {
				return err
			}
			a.say("Try it: wexillum feed out test %s; see what it would do: wexillum feed out people %s", args[0], args[0])
			return nil
		}}
	x.register(c)
	whyFlag(c, &why)
	return c
}

func (a *app) feedOutSet() *cobra.Command {
	var x feedOutFlags
	var why string
	c := &cobra.Command{Use: "set PARTNER", Short: "Change a feed to a partner, or let it on", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		Example:           "  wexillum feed out set ilvane --state on --why \"what it would do is right\"",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			body := x.said(c)
			body.Why = optional(why)
			resp, err := r.SetFeedOutWithApplicationMergePatchPlusJSONBody(c.Context(), args[0], body)
			var f contract.FeedOut
			if err := r.read(resp, err, &f); err != nil {
				return err
			}
			return a.printFeedOut(&f)
		}}
	x.register(c)
	whyFlag(c, &why)
	return c
}

func (a *app) feedOutLook() *cobra.Command {
	return &cobra.Command{Use: "test PARTNER", Short: "Try the connection, and see whom their server keeps of ours; nothing is changed there",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.LookFeedOut(c.Context(), args[0])
			var x contract.FeedLook
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(&x, []string{"well", "problem", "there", "ours"},
					[][]string{{strconv.FormatBool(x.Well), pick(x.Problem), strconv.Itoa(x.There), strconv.Itoa(x.Ours)}})
			}
			if !x.Well {
				a.say("▼ It does not work: %s (after %d ms).", *x.Problem, x.TookMs)
				a.say("%s", pick(x.Advice))
				return nil
			}
			a.say("▲ It works: it answers and takes the token (%d ms).", x.TookMs)
			a.say("  It keeps %d users, %d of them with an address of ours%s.", x.There, x.Ours,
				map[bool]string{true: fmt.Sprintf(" among the %d that were read", x.Read)}[x.Read < x.There])
			if !x.Patch {
				a.say("  It does not change single attributes: users are written whole, and what others wrote there is lost.")
			}
			for _, u := range x.Unkept {
				a.say("  not kept by the feed: %s %s (%s)", u.UserName, pick(u.Name), map[bool]string{true: "in use", false: "closed"}[u.Active])
			}
			for i := range x.Twins {
				t := &x.Twins[i]
				a.say("  there twice? %s: %s by the feed, and %s", t.Name, t.Fed, t.Guest)
			}
			return nil
		}}
}

func (a *app) feedOutPeople() *cobra.Command {
	var all bool
	var after string
	var limit int
	c := &cobra.Command{Use: "people PARTNER", Short: "What sending would do about each person, before anything is sent",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.FeedOutPeople(c.Context(), args[0], &contract.FeedOutPeopleParams{All: &all, After: &after, Limit: &limit})
			var x struct {
				People []contract.FeedOutPerson `json:"people"`
				Counts map[string]int           `json:"counts"`
				Unsure *string                  `json:"unsure"`
				Next   *string                  `json:"next"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i := range x.People {
				p := &x.People[i]
				do := sentWords[string(p.Do)]
				if p.Why != nil {
					do += ": " + *p.Why
				}
				if p.Problem != nil {
					do += " (not taken last: " + *p.Problem + ")"
				}
				rows = append(rows, []string{p.Person, p.Name, pick(p.Address),
					map[contract.FeedOutPersonKept]string{"not": "not there", "tried": "may be there", "kept": "in use", "closed": "closed"}[p.Kept], do})
			}
			if len(rows) > 0 || a.output != "table" {
				if err := a.records(x.People, []string{"person", "name", "address", "there", "what is sent"}, rows); err != nil || a.output != "table" {
					return err
				}
			}
			a.say("%s.", didSaid(x.Counts))
			if x.Unsure != nil {
				a.say("%s", *x.Unsure)
			}
			if x.Next != nil {
				a.say("More: --after %s", *x.Next)
			}
			return nil
		}}
	c.Flags().BoolVar(&all, "all", false, "those too about whom nothing is to be done")
	c.Flags().StringVar(&after, "after", "", "those behind this person")
	c.Flags().IntVar(&limit, "limit", 100, "at most so many, up to 1000")
	return c
}

func (a *app) feedOutSend() *cobra.Command {
	var few int
	var person, why string
	c := &cobra.Command{Use: "send PARTNER", Short: "Send what is due now: a few first, one person, or all", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		Example:           "  wexillum feed out send ilvane --few 3 --why \"to see that it is right\"",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			sum := contract.FeedSent{Done: map[string]int{}}
			for left := few; ; {
				most := feedShare
				if few > 0 {
					most = min(most, left)
				}
				x, err := a.sendShare(c.Context(), r, args[0], most, person, why)
				if err != nil {
					return err
				}
				did := 0
				for what, n := range x.Done {
					sum.Done[what] += n
					did += n
				}
				sum.Refused, sum.Left, sum.Braked, sum.LeftOut, sum.Problem = x.Refused, x.Left, x.Braked, x.LeftOut, x.Problem
				left -= did + x.Refused
				if a.output == "table" && x.Left > 0 && few == 0 {
					_, _ = fmt.Fprintf(os.Stderr, "\r%d left ", x.Left)
				}
				if did == 0 || x.Problem != nil || x.Left <= x.Refused || person != "" || few > 0 && left <= 0 {
					break
				}
			}
			if a.output != "table" {
				return a.records(&sum, []string{"done", "refused", "left", "problem"},
					[][]string{{fmt.Sprint(sum.Done), strconv.Itoa(sum.Refused), strconv.Itoa(sum.Left), pick(sum.Problem)}})
			}
			a.say("%s.", didSaid(sum.Done))
			if sum.Refused > 0 {
				a.say("▼ %d not taken: wexillum feed out log %s --wrong", sum.Refused, args[0])
			}
			if sum.Problem != nil {
				a.say("▼ It was given up: %s. Try the connection: wexillum feed out test %s", *sum.Problem, args[0])
			}
			if sum.Braked > 0 {
				a.say("▼ %d are to be closed and wait for the brake: wexillum feed out release %s --why …", sum.Braked, args[0])
			}
			if sum.LeftOut > 0 {
				a.say("%d in the scope are left out; why, says wexillum feed out people %s", sum.LeftOut, args[0])
			}
			a.say("%d left.", sum.Left)
			return nil
		}}
	c.Flags().IntVar(&few, "few", 0, "about so many first; without it all")
	c.Flags().StringVar(&person, "person", "", "this person of ours alone, though it is not their time")
	_ = c.RegisterFlagCompletionFunc("person", a.completion("person"))
	whyFlag(c, &why)
	return c
}

func (a *app) sendShare(ctx context.Context, r *remote, partner string, most int, person, why string) (x contract.FeedSent, err error) {
	resp, err := r.SendFeedOut(ctx, partner, contract.SendFeedOutJSONRequestBody{Most: &most, Person: optional(person), Why: why})
	return x, r.read(resp, err, &x)
}

func (a *app) feedOutLog() *cobra.Command {
	var wrong bool
	var person string
	var before, limit int
	c := &cobra.Command{Use: "log PARTNER", Short: "What was sent and what came of it, the newest first", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.FeedOutLogParams{Wrong: &wrong, Limit: &limit, Person: optional(person)}
			if before > 0 {
				p.Before = &before
			}
			resp, err := r.FeedOutLog(c.Context(), args[0], p)
			return a.feedLines(r.read, resp, err, sentWords, wrong)
		}}
	c.Flags().BoolVar(&wrong, "wrong", false, "what went wrong alone")
	c.Flags().StringVar(&person, "person", "", "of this person of ours alone")
	c.Flags().IntVar(&before, "before", 0, "those before this one")
	c.Flags().IntVar(&limit, "limit", 100, "at most so many, up to 1000")
	_ = c.RegisterFlagCompletionFunc("person", a.completion("person"))
	return c
}

func (a *app) feedOutRelease() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "release PARTNER", Short: "Let a feed close as many accounts there again as it may in a day",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ReleaseFeedOut(c.Context(), args[0], contract.ReleaseFeedOutJSONRequestBody{Why: why})
			var f contract.FeedOut
			if err := r.read(resp, err, &f); err != nil {
				return err
			}
			return a.printFeedOut(&f)
		}}
	whyFlag(c, &why)
	return c
}

func (a *app) feedOutEnd() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "end PARTNER", Short: "End a feed to a partner; whom it kept stays there as they are", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndFeedOut(c.Context(), args[0], &contract.EndFeedOutParams{Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("Nothing more is sent to %s. Whom it kept stays there as they are; tell their administrator.", args[0])
			return nil
		}}
	whyFlag(c, &why)
	return c
}

package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

func (a *app) feed() *cobra.Command {
	c := &cobra.Command{Use: "feed", Short: "Let a partner keep its people in our directory (SCIM 2.0)",
		Long: "Let a partner keep its people in our directory: their system sends who is there and who left,\nby SCIM 2.0 (RFC 7643, RFC 7644), with a token of its own. A feed is watched at first: whom it\ntells of is kept and shown, and no record is touched until you let it. directory.feed_in has to\nbe on for the partner."}
	c.AddCommand(a.feedList(), a.feedShow(), a.feedBegin(), a.feedSet(), a.feedPeople(), a.feedApply(), a.feedLog(), a.feedTwins(),
		a.feedToken(), a.feedRelease(), a.feedEnd(), a.feedOut())
	return c
}

func feedState(f *contract.Feed) string {
	switch {
	case f.Shut != nil:
		return "▼ shut"
	case f.Most != nil && f.ClosedToday >= *f.Most:
		return "▼ braked"
	}
	return string(f.State)
}

func (a *app) feedList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "Feeds of partners, and how they go", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ListFeeds(c.Context())
			var x struct {
				Feeds []contract.Feed `json:"feeds"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if len(x.Feeds) == 0 && a.output == "table" {
				a.say("No partner keeps its people here. Begin: wexillum feed begin PARTNER --why …")
				return nil
			}
			rows := [][]string{}
			for i := range x.Feeds {
				f := &x.Feeds[i]
				heard := "never"
				if f.Heard != nil {
					heard = day(*f.Heard)
				}
				rows = append(rows, []string{f.Partner, f.Name, feedState(f), strconv.Itoa(f.All), strconv.Itoa(f.Active), strconv.Itoa(f.Waiting),
					strconv.Itoa(f.Wrong), heard})
			}
			return a.records(x.Feeds, []string{"partner", "name", "state", "people", "in use", "wait", "refused lately", "heard last"}, rows)
		}}
}

func (a *app) printFeed(f *contract.Feed) error {
	if a.output != "table" {
		return a.records(f, []string{"partner", "state", "people", "wait"},
			[][]string{{f.Partner, feedState(f), strconv.Itoa(f.All), strconv.Itoa(f.Waiting)}})
	}
	a.say("%s  %s: %s", f.Partner, f.Name, feedState(f))
	if f.Shut != nil {
		a.say("  shut      %s", *f.Shut)
	}
	a.say("  speaks to %s", f.Url)
	a.say("  people    %d, %d of them in use", f.All, f.Active)
	if f.Waiting > 0 {
		a.say("  wait      %d: wexillum feed people %s --waiting, then wexillum feed apply %s --few 3 --why …", f.Waiting, f.Partner, f.Partner)
	}
	a.say("  sponsor   %s", cmp.Or(pick(f.SponsorName), "nobody"))
	a.say("  address   %s", map[contract.FeedAddress]string{"either": "userName where it is an address, else the primary mail",
		"userName": "userName", "emails": "the primary mail"}[f.Address])
	a.say("  name      %s", map[contract.FeedNameFrom]string{"any": "displayName, else the name", "displayName": "displayName",
		"name": "the parts of the name"}[f.NameFrom])
	asked := "everybody is asked before the first use"
	if f.Silent {
		asked = "nobody is asked before the first use: both sides say so"
	} else if f.Consent {
		asked += "; their side skips that, ours does not (directory.consent)"
	}
	a.say("  asked     %s", asked)
	most := "any number"
	if f.Most != nil {
		most = strconv.Itoa(*f.Most)
	}
	a.say("  brake     %d closed within a day, of %s", f.ClosedToday, most)
	if f.Most != nil && f.ClosedToday >= *f.Most {
		a.say("            wexillum feed release %s --why …", f.Partner)
	}
	if f.TokenEnds != nil {
		a.say("  token     until %s", day(*f.TokenEnds))
	}
	if f.Wrong > 0 {
		a.say("  refused   %d of the last hundred: wexillum feed log %s --wrong", f.Wrong, f.Partner)
	}
	return nil
}

func (a *app) feedShow() *cobra.Command {
	return &cobra.Command{Use: "show PARTNER", Short: "A feed: where it speaks to, whom it keeps, how it goes", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetFeed(c.Context(), args[0])
			var f contract.Feed
			if err := r.read(resp, err, &f); err != nil {
				return err
			}
			return a.printFeed(&f)
		}}
}

// feedFlags are what may be said of a feed.
type feedFlags struct {
	sponsor, state, address, name string
	consent                       bool
	brake                         int
}

func (x *feedFlags) register(c *cobra.Command, a *app) {
	f := c.Flags()
	f.StringVar(&x.sponsor, "sponsor", "", "a person of ours who answers for those who come")
	f.StringVar(&x.state, "state", "", "watched, or on")
	f.StringVar(&x.address, "address", "",
		"what of a user is their address: either (userName where it is one, else the primary mail), userName or emails")
	f.StringVar(&x.name, "name", "", "what of a user is their name: any, displayName or name")
	f.BoolVar(&x.consent, "they-skip-asking", false,
		"their side says that it skips the question before the first use; it is skipped where directory.consent is silent, too")
	f.IntVar(&x.brake, "brake", 0, "how many accounts it may close in a day; 0 for settings.brake")
	_ = c.RegisterFlagCompletionFunc("sponsor", a.completion("person"))
}

// said are those that were given, as the contract has them.
func (x *feedFlags) said(c *cobra.Command) (out contract.FeedChange) {
	for name, to := range map[string]struct {
		from *string
		into **string
	}{"sponsor": {&x.sponsor, &out.Sponsor}, "state": {&x.state, &out.State}, "address": {&x.address, &out.Address},
		"name": {&x.name, &out.NameFrom}} {
		if c.Flags().Changed(name) {
			*to.into = to.from
		}
	}
	if c.Flags().Changed("they-skip-asking") {
		out.Consent = &x.consent
	}
	if c.Flags().Changed("brake") {
		out.Brake = &x.brake
	}
	return out
}

func (a *app) feedTokenTold(x *contract.FeedToken) error {
	if a.output != "table" {
		return a.records(x, []string{"partner", "token"}, [][]string{{x.Feed.Partner, x.Token}})
	}
	a.say("Tell their side, over a safe way; the token is shown this once:")
	a.say("")
	a.say("  address  %s", x.Feed.Url)
	a.say("  token    %s", x.Token)
	a.say("")
	if x.Feed.Shut != nil {
		a.say("Nobody comes in yet. %s", *x.Feed.Shut)
	}
	if x.Feed.State == "watched" {
		a.say("It is watched: whom it tells of is shown by wexillum feed people %s, and no record is touched.", x.Feed.Partner)
	}
	return nil
}

func (a *app) feedBegin() *cobra.Command {
	var x feedFlags
	var why string
	c := &cobra.Command{Use: "begin PARTNER", Short: "Begin a feed, and make its token", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		Example:           "  wexillum feed begin sandrill --sponsor s.lindqvane --why \"they come and go every week\"",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			s := x.said(c)
			resp, err := r.BeginFeed(c.Context(), contract.FeedBegin{Partner: args[0], Sponsor: s.Sponsor, State: s.State, Address: s.Address,
				NameFrom: s.NameFrom, Consent: s.Consent, Brake: s.Brake, Why: optional(why)})
			var out contract.FeedToken
			if err := r.read(resp, err, &out); err != nil {
				return err
			}
			return a.feedTokenTold(&out)
		}}
	x.register(c, a)
	whyFlag(c, &why)
	return c
}

func (a *app) feedSet() *cobra.Command {
	var x feedFlags
	var why string
	c := &cobra.Command{Use: "set PARTNER", Short: "Change a feed, or let it on", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		Example:           "  wexillum feed set sandrill --state on --why \"what it would do is right\"",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			body := x.said(c)
			body.Why = optional(why)
			resp, err := r.SetFeedWithApplicationMergePatchPlusJSONBody(c.Context(), args[0], body)
			var f contract.Feed
			if err := r.read(resp, err, &f); err != nil {
				return err
			}
			return a.printFeed(&f)
		}}
	x.register(c, a)
	whyFlag(c, &why)
	return c
}

var fedWords = map[string]string{"new": "+ new", "taken_over": "is here already: taken over", "same": "as it is",
	"changed": "name, language or place change", "closed": "▼ closed: suspended", "back": "▲ comes back", "stays": "stays suspended",
	"nobody": "not in use, nobody here", "refused": "▼ refused", "removed": "▼ taken away", "watched": "watched", "braked": "▼ braked"}

func (a *app) feedPeople() *cobra.Command {
	var waiting bool
	var after, limit int
	c := &cobra.Command{Use: "people PARTNER", Short: "Whom a feed tells of, and what that does to records", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.FeedPeople(c.Context(), args[0], &contract.FeedPeopleParams{Waiting: &waiting, After: &after, Limit: &limit})
			var x struct {
				People []contract.FeedPerson `json:"people"`
				Next   *int                  `json:"next"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if len(x.People) == 0 && a.output == "table" {
				a.say("%s", map[bool]string{true: "Nobody waits.", false: "It has told of nobody yet."}[waiting])
				return nil
			}
			rows := [][]string{}
			for i := range x.People {
				p := &x.People[i]
				did := fedWords[string(p.Would)]
				if p.Applied && p.Would == "same" {
					did = "is here"
				}
				if p.Why != nil {
					did += ": " + *p.Why
				}
				rows = append(rows, []string{cmp.Or(pick(p.Address), p.UserName), pick(p.Name),
					map[bool]string{true: "in use", false: "closed"}[p.Active], did})
			}
			if err := a.records(x.People, []string{"address", "name", "there", "here"}, rows); err != nil {
				return err
			}
			if x.Next != nil && a.output == "table" {
				a.say("More: --after %d", *x.Next)
			}
			return nil
		}}
	c.Flags().BoolVar(&waiting, "waiting", false, "those alone whose records were not touched yet")
	c.Flags().IntVar(&after, "after", 0, "those behind this one, as the last list says")
	c.Flags().IntVar(&limit, "limit", 100, "at most so many, up to 1000")
	return c
}

// feedShare is how many records one request brings in, so that progress is seen and what is interrupted loses nothing.
const feedShare = 500

func (a *app) feedApply() *cobra.Command {
	var few int
	var why string
	c := &cobra.Command{Use: "apply PARTNER", Short: "Bring what a watched feed told of to records: a few first, or all",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("partner"),
		Example: "  wexillum feed apply sandrill --few 3 --why \"to see that it is right\"",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			sum := contract.FeedApplied{Done: map[string]int{}}
			for left := few; ; {
				most := feedShare
				if few > 0 {
					most = min(most, left)
				}
				x, err := a.applyShare(c.Context(), r, args[0], most, why)
				if err != nil {
					return err
				}
				did := x.Refused
				for what, n := range x.Done {
					sum.Done[what] += n
					did += n
				}
				sum.Refused, sum.Left = x.Refused, x.Left
				left -= did
				if a.output == "table" && x.Left > 0 && few == 0 {
					_, _ = fmt.Fprintf(os.Stderr, "\r%d left ", x.Left)
				}
				if did == 0 || x.Left <= x.Refused || few > 0 && left <= 0 {
					break
				}
			}
			if a.output != "table" {
				return a.records(&sum, []string{"done", "refused", "left"},
					[][]string{{fmt.Sprint(sum.Done), strconv.Itoa(sum.Refused), strconv.Itoa(sum.Left)}})
			}
			var said []string
			for what, n := range sum.Done {
				said = append(said, fmt.Sprintf("%s: %d", fedWords[what], n))
			}
			slices.Sort(said)
			a.say("%s", cmp.Or(strings.Join(said, "; "), "Nothing was done"))
			a.say("%d wait%s.", sum.Left, map[bool]string{true: fmt.Sprintf(", %d of them refused: wexillum feed people %s --waiting", sum.Refused,
				args[0])}[sum.Refused > 0])
			return nil
		}}
	c.Flags().IntVar(&few, "few", 0, "so many first; without it all")
	whyFlag(c, &why)
	return c
}

func (a *app) applyShare(ctx context.Context, r *remote, partner string, most int, why string) (x contract.FeedApplied, err error) {
	resp, err := r.ApplyFeed(ctx, partner, contract.ApplyFeedJSONRequestBody{Most: &most, Why: why})
	return x, r.read(resp, err, &x)
}

func (a *app) feedLog() *cobra.Command {
	var wrong bool
	var before, limit int
	c := &cobra.Command{Use: "log PARTNER", Short: "What came of a feed's requests, the newest first", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.FeedLogParams{Wrong: &wrong, Limit: &limit}
			if before > 0 {
				p.Before = &before
			}
			resp, err := r.FeedLog(c.Context(), args[0], p)
			return a.feedLines(r.read, resp, err, fedWords, wrong)
		}}
	c.Flags().BoolVar(&wrong, "wrong", false, "what went wrong alone")
	c.Flags().IntVar(&before, "before", 0, "those before this one")
	c.Flags().IntVar(&limit, "limit", 100, "at most so many, up to 1000")
	return c
}

// feedLines shows what came of requests.
func (a *app) feedLines(read func(*http.Response, error, any) error, resp *http.Response, err error, words map[string]string,
	wrong bool) error {
	var x struct {
		Lines []contract.FeedLine `json:"lines"`
	}
	if err := read(resp, err, &x); err != nil {
		return err
	}
	if len(x.Lines) == 0 && a.output == "table" {
		a.say("%s", map[bool]string{true: "Nothing went wrong.", false: "Nothing came or went yet."}[wrong])
		return nil
	}
	rows := [][]string{}
	for i := range x.Lines {
		l := &x.Lines[i]
		rows = append(rows, []string{strconv.Itoa(l.N), day(l.At), cmp.Or(words[l.What], l.What), pick(l.Address), pick(l.Detail)})
	}
	return a.records(x.Lines, []string{"no", "at", "what", "address", "detail"}, rows)
}

func (a *app) feedTwins() *cobra.Command {
	return &cobra.Command{Use: "twins PARTNER", Short: "Who seems to be here twice: by the feed, and as a guest under another address",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.FeedTwins(c.Context(), args[0])
			var x struct {
				Twins []contract.FeedTwin `json:"twins"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if len(x.Twins) == 0 && a.output == "table" {
				a.say("Nobody seems to be here twice.")
				return nil
			}
			rows := [][]string{}
			for i := range x.Twins {
				t := &x.Twins[i]
				rows = append(rows, []string{t.Name, t.Fed, t.Guest, strings.Join(t.Differs, "; ")})
			}
			if err := a.records(x.Twins, []string{"name", "by the feed", "as a guest", "differ in"}, rows); err != nil {
				return err
			}
			if a.output == "table" {
				a.say("To make one of two, with nothing lost: wexillum guest merge %s %s --reason …", x.Twins[0].Guest, x.Twins[0].Fed)
			}
			return nil
		}}
}

func (a *app) feedToken() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "token PARTNER", Short: "Make a new token for a feed; the one before works no longer", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.RenewFeedToken(c.Context(), args[0], contract.RenewFeedTokenJSONRequestBody{Why: optional(why)})
			var x contract.FeedToken
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.feedTokenTold(&x)
		}}
	whyFlag(c, &why)
	return c
}

func (a *app) feedRelease() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "release PARTNER", Short: "Let a feed close as many accounts again as it may in a day", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ReleaseFeed(c.Context(), args[0], contract.ReleaseFeedJSONRequestBody{Why: why})
			var f contract.Feed
			if err := r.read(resp, err, &f); err != nil {
				return err
			}
			return a.printFeed(&f)
		}}
	whyFlag(c, &why)
	return c
}

func (a *app) feedEnd() *cobra.Command {
	var why string
	var closed bool
	c := &cobra.Command{Use: "end PARTNER", Short: "End a feed: its token works no longer, and whom it alone kept become guests like others",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completion("partner"), RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndFeed(c.Context(), args[0], &contract.EndFeedParams{Why: optional(why), Closed: &closed})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("The feed of %s has ended. Whom it kept: wexillum guest list --partner %s --origin fed", args[0], args[0])
			return nil
		}}
	c.Flags().BoolVar(&closed, "closed", false, "their accounts count as closed: they are suspended, and removed after their grace")
	whyFlag(c, &why)
	return c
}

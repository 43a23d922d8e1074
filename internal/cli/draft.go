package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/operations"
	"wexillum.example/internal/worldfile"
)

const draftHeader = "Wexillum-Draft"

// quickly sends changes of policy. In a draft they become its edits; elsewhere each is
// a draft of one change, whose impact is shown before it is published.
type quickly struct {
	*app
	server, token string
	next          http.RoundTripper
}

// changesPolicy reports whether a request is made a draft of one change where it is in none.
func changesPolicy(r *http.Request) bool {
	op, where := operations.Match(r.Method, r.URL)
	return op != nil && !op.WeighsSelf && op.InDraft(where, r.URL.Query().Get("preview") == "true") == operations.Policy
}

func (q *quickly) RoundTrip(r *http.Request) (*http.Response, error) {
	if own, err := url.Parse(q.server); err != nil || r.URL.Scheme != own.Scheme || r.URL.Host != own.Host { // led on: the token is for its own server alone
		return nil, fmt.Errorf("the service at %s leads on to %s://%s; name that address with --server if it is right", q.server, r.URL.Scheme, r.URL.Host)
	}
	if q.token != "" {
		r.Header.Set("Authorization", "Bearer "+q.token)
	}
	if q.draft != "" && !strings.HasPrefix(r.URL.Path, "/api/v1/drafts") {
		r.Header.Set(draftHeader, q.draft)
	}
	if q.draft != "" || !changesPolicy(r) {
		return q.next.RoundTrip(r)
	}
	ctx := r.Context()
	var d contract.Draft
	if resp, err := q.send(ctx, "POST", "/api/v1/drafts", map[string]bool{"quick": true}, &d); err != nil || resp != nil {
		return resp, err
	}
	drop := func() {
		resp, err := q.send(context.WithoutCancel(ctx), "POST", "/api/v1/drafts/"+d.Id+"/drop", map[string]string{"why": "not published"}, nil)
		if resp != nil {
			_ = resp.Body.Close()
		}
		_ = err // what is left is an open draft, which can be dropped by hand
	}
	why := ""
	if r.GetBody != nil {
		if body, err := r.GetBody(); err == nil {
			var x struct {
				Why string `json:"why"`
			}
			_ = json.NewDecoder(body).Decode(&x)
			why = x.Why
		}
	}
	if t := r.URL.Query().Get("why"); t != "" {
		why = t
	}
	inside := r.Clone(ctx)
	inside.Header.Set(draftHeader, d.Id)
	answer, err := q.next.RoundTrip(inside)
	if err != nil || answer.StatusCode >= 400 {
		drop()
		return answer, err
	}
	body, err := io.ReadAll(answer.Body)
	_ = answer.Body.Close()
	if err != nil {
		drop()
		return nil, err
	}
	answer.Body = io.NopCloser(bytes.NewReader(body))
	if resp, err := q.send(ctx, "GET", "/api/v1/drafts/"+d.Id, nil, &d); err != nil || resp != nil {
		return resp, err
	}
	if len(d.Edits) == 0 {
		drop()
		return answer, nil
	}
	imp, resp, err := q.weigh(ctx, d.Id)
	if err != nil || resp != nil {
		drop()
		return resp, err
	}
	q.brief(q.err, imp)
	if !q.confirmed("Publish this?") {
		drop()
		return nil, errors.New("nothing was changed")
	}
	if why == "" {
		why = d.Name
	}
	if resp, err := q.send(ctx, "POST", "/api/v1/drafts/"+d.Id+"/publish", map[string]string{"why": why, "digest": imp.Digest}, &d); err != nil || resp != nil {
		if resp != nil && resp.StatusCode == http.StatusForbidden {
			if kept, err := q.send(ctx, "POST", "/api/v1/drafts/"+d.Id+"/keep", map[string]string{"why": why}, &d); err != nil || kept != nil {
				return kept, err
			}
			fmt.Fprintf(q.err, "The draft %s (%s) is there for an administrator: wexillum draft publish %s --why …\n", d.Id, d.Name, d.Id)
		}
		return resp, err
	}
	q.published(q.err, &d)
	return answer, nil
}

// published says what became of a wish to publish.
func (a *app) published(w io.Writer, d *contract.Draft) {
	switch d.State {
	case contract.DraftStatePublished:
		fmt.Fprintf(w, "Published as revision %d.\n", pickInt(d.Published))
	case contract.DraftStateWaiting:
		fmt.Fprintf(w, "Not in force yet: somebody else must confirm it, with wexillum draft confirm %s\n", d.Id)
	case contract.DraftStateSet:
		fmt.Fprintf(w, "It will be published at %s.\n", seconds(pick(d.Weighed.PublishAt)))
	}
}

func pickInt(n *int64) int64 {
	if n == nil {
		return 0
	}
	return *n
}

// confirmed asks on a terminal; elsewhere, and with --yes, the answer is yes.
func (a *app) confirmed(question string) bool {
	f, ok := a.in.(*os.File)
	if a.yes || !ok || !term.IsTerminal(int(f.Fd())) {
		return true
	}
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	line, _ := bufio.NewReader(a.in).ReadString('\n')
	line = strings.ToLower(strings.TrimSpace(line))
	return line == "y" || line == "yes"
}

// send makes a request of its own; an answer that is a problem is handed back.
func (q *quickly) send(ctx context.Context, method, path string, body, into any) (*http.Response, error) {
	var in io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		in = bytes.NewReader(text)
	}
	r, err := http.NewRequestWithContext(ctx, method, q.server+path, in)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+q.token)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	resp, err := q.next.RoundTrip(r)
	if err != nil || resp.StatusCode >= 400 {
		return resp, err
	}
	defer resp.Body.Close()
	if into == nil {
		return nil, nil
	}
	return nil, json.NewDecoder(resp.Body).Decode(into)
}

// weigh finds the impact of a draft and shows how far it is on a terminal.
func (q *quickly) weigh(ctx context.Context, id string) (*contract.Impact, *http.Response, error) {
	var imp contract.Impact
	resp, err := q.send(ctx, "GET", "/api/v1/drafts/"+id+"/impact", nil, &imp)
	return &imp, resp, err
}

// moved writes gained, lost and otherwise, the empty ones left out.
func moved(gained, lost, otherwise int) string {
	var parts []string
	for _, x := range []struct {
		n    int
		mark string
	}{{gained, "+"}, {lost, "−"}, {otherwise, "~"}} {
		if x.n > 0 {
			parts = append(parts, x.mark+strconv.Itoa(x.n))
		}
	}
	if len(parts) == 0 {
		return "0"
	}
	return strings.Join(parts, " ")
}

// brief says an impact in a few lines.
func (a *app) brief(w io.Writer, x *contract.Impact) {
	if x.Nothing && x.HeldTotal == 0 && (x.CutOffTotal == nil || *x.CutOffTotal == 0) {
		fmt.Fprintln(w, "Impact: nothing changes for anybody.")
	} else {
		fmt.Fprintf(w, "Impact: %s parties, %s granted actions", moved(x.Parties.Gained, x.Parties.Lost, x.Parties.Otherwise), moved(x.Granted.Gained, x.Granted.Lost, x.Granted.Otherwise))
		pairs := map[contract.WideNumberChange]int{}
		for _, n := range x.Wide {
			pairs[*n.Change] += n.Pairs
		}
		if len(pairs) > 0 {
			fmt.Fprintf(w, ", %s pairs of wide ones", moved(pairs["gained"], pairs["lost"], pairs["otherwise"]))
		}
		fmt.Fprintln(w, " (+ gained, − lost, ~ other conditions).")
		var by []string
		for _, m := range x.Services {
			by = append(by, m.Key+" "+moved(m.Gained, m.Lost, m.Otherwise))
		}
		if len(by) > 0 {
			fmt.Fprintln(w, "  by service: "+strings.Join(by, ", "))
		}
		by = nil
		for _, m := range x.Partners[:min(6, len(x.Partners))] {
			by = append(by, m.Key+" "+moved(m.Gained, m.Lost, m.Otherwise))
		}
		if n := len(x.Partners) - 6; n > 0 {
			by = append(by, fmt.Sprintf("and %d more", n))
		}
		if len(by) > 0 {
			fmt.Fprintln(w, "  by partner: "+strings.Join(by, ", "))
		}
		who := map[string]bool{}
		for _, n := range x.Newcomers {
			if n.Change != "lost" {
				who[n.Who] = true
			}
		}
		if len(who) > 0 {
			fmt.Fprintf(w, "  typical newcomers that would gain: %d\n", len(who))
		}
		if n := len(x.LinksStopped); n > 0 {
			fmt.Fprintf(w, "  links that stop: %s\n", some(x.LinksStopped, 5))
		}
		if n := len(x.LinksStarted); n > 0 {
			fmt.Fprintf(w, "  links that work again: %s\n", some(x.LinksStarted, 5))
		}
		if x.Suspended != nil {
			fmt.Fprintf(w, "  records that are suspended or removed at once: %d\n", *x.Suspended)
		}
		if x.Forwarders != nil {
			var list []string
			for _, f := range *x.Forwarders {
				list = append(list, fmt.Sprintf("%s to %s %s", f.Mailbox, f.To, map[bool]string{true: "starts", false: "stops"}[f.Starts]))
			}
			fmt.Fprintf(w, "  forwarders: %d: %s\n", len(list), some(list, 5))
		}
		if x.Outward != nil {
			var list []string
			for _, m := range *x.Outward {
				list = append(list, fmt.Sprintf("%s %s towards %s (%s; %d of ours)", m.Change, m.Action, m.Name, strings.TrimPrefix(m.Who, "*@"), m.People))
			}
			fmt.Fprintf(w, "  what ours may do elsewhere: %d: %s\n", len(list), some(list, 4))
		}
		if x.Presenters != nil {
			var list []string
			for _, m := range *x.Presenters {
				list = append(list, fmt.Sprintf("%s %s (%d parties)", m.Change, m.Action, m.Parties))
			}
			fmt.Fprintf(w, "  in any meeting that ours present in: %d: %s\n", len(list), some(list, 4))
		}
		if x.CutOffTotal != nil && *x.CutOffTotal > 0 {
			var who []string
			for _, c := range *x.CutOff {
				who = append(who, c.Party+" ("+strings.ReplaceAll(c.Cause, "_", " ")+", "+day(c.Day)[:10]+")")
			}
			fmt.Fprintf(w, "  cut off at once by the dates: %d: %s\n", *x.CutOffTotal, some(who, 5))
		}
		held, released := 0, 0
		for _, h := range x.Held {
			if h.Held {
				held++
			} else {
				released++
			}
		}
		if held > 0 {
			fmt.Fprintf(w, "  values that become held back: %d\n", held)
		}
		if released > 0 {
			fmt.Fprintf(w, "  values that are released: %d\n", released)
		}
	}
	if len(x.Loosens) > 0 {
		fmt.Fprintf(w, "  it loosens %s\n", some(x.Loosens, 3))
	}
	if x.Second {
		fmt.Fprintln(w, "  somebody else must confirm it")
	}
}

func some(list []string, n int) string {
	if len(list) <= n {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:n], ", "), len(list)-n)
}

func (a *app) printImpact(x *contract.Impact) error {
	rows := [][]string{}
	for _, l := range x.Lines {
		mark := map[contract.ImpactLineChange]string{"gained": "+ gained", "lost": "− lost", "otherwise": "~ otherwise"}[l.Change]
		rows = append(rows, []string{mark, l.Who, pick(l.Partner), resourceText(l.Resource, l.Count), strings.Join(l.Actions, ", ")})
	}
	if a.output != "table" {
		return a.records(x, []string{"change", "party", "partner", "resource", "actions"}, rows)
	}
	a.brief(a.out, x)
	for _, n := range x.Newcomers[:min(12, len(x.Newcomers))] {
		a.say("  %s %s, a typical newcomer (%s): %s %s", map[contract.ImpactNewcomerChange]string{"gained": "+", "lost": "−", "otherwise": "~"}[n.Change], n.Who, n.Name, n.Action, resourceText(n.Kind+":*", n.Count))
	}
	for _, h := range x.Held[:min(12, len(x.Held))] {
		what := "is released"
		if h.Held {
			what = "becomes held back"
		}
		a.say("  %s: %s %s %s", h.Where, h.Rule, h.Value, what)
	}
	if len(rows) > 0 {
		a.say("")
		shown := rows[:min(len(rows), maxTable)]
		a.table([]string{"change", "party", "partner", "resource", "actions"}, shown)
		if x.More || len(shown) < len(rows) {
			a.say("… and more; wexillum draft impact --all writes every line as CSV.")
		}
	}
	return nil
}

func (a *app) printDraft(d *contract.Draft) error {
	rows := [][]string{}
	for _, e := range d.Edits {
		for i, c := range e.Changes {
			title := ""
			if i == 0 || a.output != "table" {
				title = e.Title
			}
			rows = append(rows, []string{title, c.Field, c.Was, c.Now, pick(e.By)})
		}
	}
	for _, r := range d.Releases {
		rows = append(rows, []string{"release " + r.Where, r.Rule, r.Value + ", held back", r.Value, ""})
	}
	columns := []string{"edit", "field", "was", "becomes", "by"}
	if a.output != "table" {
		return a.records(d, columns, rows)
	}
	state := string(d.State)
	switch {
	case d.Published != nil:
		state = fmt.Sprintf("published as revision %d", *d.Published)
	case d.State == contract.DraftStateWaiting:
		state = fmt.Sprintf("waiting for somebody else to confirm; %s asked: %s", d.Weighed.By, d.Weighed.Why)
	case d.State == contract.DraftStateSet:
		state = "set to be published at " + seconds(pick(d.Weighed.PublishAt))
	}
	a.say("%s  %s (%s), made by %s on revision %d", d.Id, d.Name, state, d.MadeBy, d.Base)
	if n := pick(d.Note); n != "" {
		a.say("It is open again: %s", n)
	}
	if d.Moved {
		a.say("It is brought up to date with revision %d.", d.Revision)
	}
	if len(d.Loosens) > 0 && d.Published == nil {
		a.say("It loosens %s.", some(d.Loosens, 5))
	}
	if len(rows) == 0 && len(d.Conflicts) == 0 {
		a.say("\nIt changes nothing yet. Change policy in it with --draft %s, as wexillum rules set … --draft %s", d.Id, d.Id)
		return nil
	}
	a.say("")
	if len(rows) > 0 {
		a.table(columns, rows)
	}
	for _, x := range d.Conflicts {
		a.say("\n▼ %s: changed meanwhile in %s", x.Title, strings.Join(x.Fields, ", "))
		for _, c := range x.Mine {
			a.say("    the draft: %s from %q to %q", c.Field, c.Was, c.Now)
		}
		for _, c := range x.Theirs {
			a.say("    in force:  %s from %q to %q", c.Field, c.Was, c.Now)
		}
		a.say("  Decide: wexillum draft keep %s %s %s, or wexillum draft take %s %s %s", d.Id, x.Kind, x.Id, d.Id, x.Kind, x.Id)
	}
	return nil
}

func (a *app) drafts() *cobra.Command {
	c := &cobra.Command{Use: "draft", Short: "Change policy in a draft: edit, review the impact, publish",
		Long: "Change policy in a draft: edit, see its impact, publish.\n\nAny command that changes policy edits a draft where --draft names one, and any\nquestion is answered as the draft would make it."}
	one := func(use, short string, args cobra.PositionalArgs, run func(c *cobra.Command, r *remote, args []string) error) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: args, ValidArgsFunction: a.completeDraft, RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			return run(c, r, args)
		}}
	}
	show := func(r *remote, resp *http.Response, err error) error {
		var d contract.Draft
		if err := r.read(resp, err, &d); err != nil {
			return err
		}
		return a.printDraft(&d)
	}
	var over bool
	list := one("list", "Drafts, the newest first", cobra.NoArgs, func(c *cobra.Command, r *remote, _ []string) error {
		resp, err := r.Drafts(c.Context(), &contract.DraftsParams{Over: &over})
		var x struct {
			Drafts []contract.DraftBrief `json:"drafts"`
		}
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		rows := [][]string{}
		for _, d := range x.Drafts {
			state := string(d.State)
			if p := pick(d.PublishAt); p != "" && d.State == "set" {
				state += " for " + day(p)
			}
			if d.Published != nil {
				state = fmt.Sprintf("revision %d", *d.Published)
			}
			rows = append(rows, []string{d.Id, d.Name, state, strconv.Itoa(d.Edits), d.MadeBy, day(d.Made)})
		}
		if len(rows) == 0 && a.output == "table" {
			a.say("There is no draft. Make one: wexillum draft new \"Open the studio for files\"")
			return nil
		}
		return a.records(x.Drafts, []string{"id", "name", "state", "edits", "made by", "made"}, rows)
	})
	list.Flags().BoolVar(&over, "over", false, "published and dropped ones too")
	c.AddCommand(list)
	c.AddCommand(one("new NAME", "Make a draft on the policy in force", cobra.ExactArgs(1), func(c *cobra.Command, r *remote, args []string) error {
		resp, err := r.MakeDraft(c.Context(), nil, contract.MakeDraftJSONRequestBody{Name: &args[0]})
		return show(r, resp, err)
	}))
	c.AddCommand(one("show DRAFT", "A draft: its edits, and what else has changed meanwhile", cobra.ExactArgs(1), func(c *cobra.Command, r *remote, args []string) error {
		resp, err := r.Draft(c.Context(), args[0])
		return show(r, resp, err)
	}))
	c.AddCommand(a.draftImpact())
	var all bool
	undo := one("undo DRAFT KIND ID", "Take an edit out of a draft", cobra.RangeArgs(1, 3), func(c *cobra.Command, r *remote, args []string) error {
		if all == (len(args) > 1) {
			return usage{errors.New("name an edit by its kind and id, as rule files.given_to; or give --all")}
		}
		body := contract.UndoEditJSONRequestBody{}
		if len(args) > 1 {
			body.Kind = &args[1]
			id := "ours"
			if len(args) > 2 {
				id = args[2]
			}
			body.Id = &id
		}
		resp, err := r.UndoEdit(c.Context(), args[0], nil, body)
		return show(r, resp, err)
	})
	undo.Flags().BoolVar(&all, "all", false, "all edits")
	c.AddCommand(undo)
	for _, x := range []struct{ use, short, keep string }{{"keep", "Keep an edit of something that was changed meanwhile", "draft"}, {"take", "Take what is in force instead of an edit", "live"}} {
		c.AddCommand(one(x.use+" DRAFT KIND ID", x.short, cobra.ExactArgs(3), func(c *cobra.Command, r *remote, args []string) error {
			resp, err := r.SettleEdit(c.Context(), args[0], contract.SettleEditJSONRequestBody{Kind: args[1], Id: args[2], Keep: contract.SettleEditJSONBodyKeep(x.keep)})
			return show(r, resp, err)
		}))
	}
	var why, set string
	publish := one("publish DRAFT", "Show the impact of a draft, and publish it", cobra.ExactArgs(1), func(c *cobra.Command, r *remote, args []string) error {
		if strings.TrimSpace(why) == "" {
			return usage{errors.New("publishing has a reason: give --why")}
		}
		var imp contract.Impact
		resp, err := r.Impact(c.Context(), args[0], &contract.ImpactParams{})
		if err := r.read(resp, err, &imp); err != nil {
			return err
		}
		a.brief(a.err, &imp)
		if !a.confirmed("Publish this?") {
			return errors.New("nothing was changed")
		}
		resp, err = r.PublishDraft(c.Context(), args[0], contract.PublishDraftJSONRequestBody{Why: why, Digest: imp.Digest, At: optional(set)})
		var d contract.Draft
		if err := r.read(resp, err, &d); err != nil {
			return err
		}
		if a.output != "table" {
			return a.printDraft(&d)
		}
		a.published(a.out, &d)
		return nil
	})
	publish.Flags().StringVar(&why, "why", "", "the reason, which the revision keeps")
	publish.Flags().StringVar(&set, "set", "", "publish at this date or moment instead of now")
	c.AddCommand(publish)
	c.AddCommand(one("confirm DRAFT", "Confirm what somebody else asked to publish, exactly as it was weighed", cobra.ExactArgs(1), func(c *cobra.Command, r *remote, args []string) error {
		var d contract.Draft
		resp, err := r.Draft(c.Context(), args[0])
		if err := r.read(resp, err, &d); err != nil {
			return err
		}
		if d.Weighed == nil || d.Weighed.Digest == nil {
			return fmt.Errorf("the draft %s waits for nobody", d.Id)
		}
		var imp contract.Impact
		resp, err = r.Impact(c.Context(), d.Id, &contract.ImpactParams{})
		if err := r.read(resp, err, &imp); err != nil {
			return err
		}
		if a.output == "table" {
			if err := a.printDraft(&d); err != nil {
				return err
			}
		}
		a.brief(a.err, &imp)
		if !a.confirmed("Confirm this?") {
			return errors.New("nothing was changed")
		}
		resp, err = r.ConfirmDraft(c.Context(), d.Id, contract.ConfirmDraftJSONRequestBody{Digest: *d.Weighed.Digest})
		if err := r.read(resp, err, &d); err != nil {
			return err
		}
		a.published(a.out, &d)
		return nil
	}))
	c.AddCommand(one("withdraw DRAFT", "Open a draft again that waits or is set to be published", cobra.ExactArgs(1), func(c *cobra.Command, r *remote, args []string) error {
		resp, err := r.WithdrawDraft(c.Context(), args[0], contract.WhyOnly{})
		return show(r, resp, err)
	}))
	c.AddCommand(one("drop DRAFT", "Give a draft up", cobra.ExactArgs(1), func(c *cobra.Command, r *remote, args []string) error {
		resp, err := r.Draft(c.Context(), args[0])
		var d contract.Draft
		if err := r.read(resp, err, &d); err != nil {
			return err
		}
		resp, err = r.DropDraft(c.Context(), d.Id, contract.WhyOnly{})
		if err := r.read(resp, err, nil); err != nil {
			return err
		}
		a.say("The draft %s is given up. Take it back with: wexillum draft restore %s", d.Name, d.Id)
		return nil
	}))
	c.AddCommand(one("restore ID", "Open a draft again that was given up", cobra.ExactArgs(1), func(c *cobra.Command, r *remote, args []string) error {
		resp, err := r.RestoreDraft(c.Context(), args[0], contract.WhyOnly{})
		return show(r, resp, err)
	}))
	return c
}

func (a *app) completeDraft(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
	r, err := a.remote()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	resp, err := r.Drafts(c.Context(), &contract.DraftsParams{})
	var x struct {
		Drafts []contract.DraftBrief `json:"drafts"`
	}
	if r.read(resp, err, &x) != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, d := range x.Drafts {
		if strings.HasPrefix(d.Id, text) {
			out = append(out, d.Id+"\t"+d.Name)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) draftImpact() *cobra.Command {
	var at, against, file string
	var all bool
	c := &cobra.Command{Use: "impact [DRAFT]", Short: "Show who would gain and who would lose access",
		Long:    "Who would gain and who would lose what if a draft were published, now or at a\nlater moment.\n\nWithout any service, --world names a file and --against another: what changes for\neverybody in the world of the first where its policy takes the place of the other's.",
		Example: "  wexillum draft impact \"Lower the file limit\" --at +30d\n  wexillum draft impact --world next.yaml --against main.yaml",
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: a.completeDraft,
		RunE: func(c *cobra.Command, args []string) error {
			if a.world != "" {
				if against == "" || len(args) > 0 {
					return usage{errors.New("with --world, name the file to compare with in --against, and no draft")}
				}
				return a.impactOfFiles(against, at, file, all)
			}
			if len(args) != 1 || against != "" {
				return usage{errors.New("name a draft; or two files with --world and --against")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			if all {
				resp, err := r.ImpactLines(c.Context(), args[0], &contract.ImpactLinesParams{At: optional(at)})
				if err != nil || resp.StatusCode >= 400 {
					return r.read(resp, err, nil)
				}
				defer resp.Body.Close()
				_, err = io.Copy(a.out, resp.Body)
				return err
			}
			x, err := a.followImpact(c.Context(), r, args[0], at)
			if err != nil {
				return err
			}
			return a.printImpact(x)
		}}
	c.Flags().StringVar(&at, "at", "", "now where absent, or a moment that lies ahead, as +30d")
	c.Flags().BoolVar(&all, "all", false, "write every line as CSV")
	c.Flags().StringVar(&against, "against", "", "a world file whose policy is in force now; with --world")
	c.Flags().StringVar(&file, "report", "", "with --world, also write a page that prints into this file")
	return c
}

// followImpact finds an impact and shows on a terminal how far it is.
func (a *app) followImpact(ctx context.Context, r *remote, id, at string) (*contract.Impact, error) {
	progress := true
	resp, err := r.Impact(ctx, id, &contract.ImpactParams{At: optional(at), Progress: &progress})
	if err != nil || resp.StatusCode >= 400 {
		return nil, r.read(resp, err, nil)
	}
	defer resp.Body.Close()
	f, ok := a.err.(*os.File)
	live := ok && term.IsTerminal(int(f.Fd()))
	in := json.NewDecoder(resp.Body)
	for {
		var x struct {
			Part    float64           `json:"part"`
			Impact  *contract.Impact  `json:"impact"`
			Problem *contract.Problem `json:"problem"`
		}
		if err := in.Decode(&x); err != nil {
			return nil, fmt.Errorf("the service at %s stopped answering: %w", r.server, err)
		}
		switch {
		case x.Problem != nil:
			return nil, &problemError{*x.Problem, r.server}
		case x.Impact != nil:
			if live {
				fmt.Fprint(a.err, "\r\x1b[K")
			}
			return x.Impact, nil
		case live:
			fmt.Fprintf(a.err, "\rweighing … %3.0f %%", x.Part*100)
		}
	}
}

// impactOfFiles weighs the policy of one file against that of another.
func (a *app) impactOfFiles(against, at, file string, all bool) error {
	now := moment.Of(time.Now())
	read := func(name string) (*world.World, error) {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		w, err := worldfile.Read(text, worldfile.Options{File: name, Now: now})
		if err != nil {
			return nil, err
		}
		return world.Merge(&world.World{}, w), nil
	}
	next, err := read(a.world)
	if err != nil {
		return err
	}
	was, err := read(against)
	if err != nil {
		return err
	}
	v, before, after, err := answer.Files(was, next, now, at)
	if err != nil {
		return usage{err}
	}
	if all {
		rep, err := v.ImpactAll(before, after, never)
		if err != nil {
			return err
		}
		return rep.CSV(a.out)
	}
	line, lines, more := answer.Collect()
	imp, err := engine.ImpactOf(before, after, v.At, line, never, nil)
	if err != nil {
		return err
	}
	out := v.Impact(imp, *lines, *more)
	out.Loosens = append(out.Loosens, draft.Loosens(was, next)...)
	if err := a.keepReport(file, nil, v.ImpactReport(fmt.Sprintf("What changes from %s to %s", against, a.world), &out)); err != nil {
		return err
	}
	x := contract.Impact(out)
	return a.printImpact(&x)
}

func (a *app) revision() *cobra.Command {
	c := &cobra.Command{Use: "revision", Short: "Published versions of the policy: what each changed, and how to revert"}
	number := func(text string) (int64, error) {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 {
			return 0, usage{fmt.Errorf("revision %q: write its number", text)}
		}
		return n, nil
	}
	var limit int
	list := &cobra.Command{Use: "list", Short: "Revisions, the newest first", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.Revisions(c.Context(), &contract.RevisionsParams{Limit: &limit})
		var x struct {
			Revisions []contract.Revision `json:"revisions"`
			Next      string              `json:"next"`
		}
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		rows := [][]string{}
		for _, v := range x.Revisions {
			who := v.Who
			if w := pick(v.ConfirmedBy); w != "" {
				who = pick(v.AskedBy) + ", confirmed by " + w
			}
			edits := ""
			if v.Edits != nil {
				edits = strconv.Itoa(*v.Edits)
			}
			rows = append(rows, []string{strconv.FormatInt(v.Number, 10), day(v.At), who, edits, pick(v.DraftName), v.Why})
		}
		return a.records(x.Revisions, []string{"revision", "published", "by", "edits", "draft", "why"}, rows)
	}}
	list.Flags().IntVar(&limit, "limit", 50, "how many, at most 500")
	c.AddCommand(list)
	view := func(c *cobra.Command, to int64, against *int64) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.Revision(c.Context(), to, &contract.RevisionParams{Against: against})
		var x contract.RevisionView
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		rows := [][]string{}
		for _, e := range x.Edits {
			for i, ch := range e.Changes {
				title := e.Title
				if i > 0 && a.output == "table" {
					title = ""
				}
				rows = append(rows, []string{title, ch.Field, ch.Was, ch.Now})
			}
		}
		columns := []string{"change", "field", fmt.Sprintf("revision %d", x.Against), fmt.Sprintf("revision %d", x.Number)}
		if a.output == "table" {
			if v := x.Revision; v != nil && against == nil {
				a.say("Revision %d, published %s by %s: %s\n", v.Number, day(v.At), v.Who, v.Why)
			}
			if len(rows) == 0 {
				a.say("They are the same.")
				return nil
			}
			const most = 200
			a.table(columns, rows[:min(len(rows), most)])
			if len(rows) > most {
				a.say("… and %d more; -o csv prints all of them.", len(rows)-most)
			}
			return nil
		}
		return a.records(x, columns, rows)
	}
	c.AddCommand(&cobra.Command{Use: "show NUMBER", Short: "What a revision changed", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		n, err := number(args[0])
		if err != nil {
			return err
		}
		return view(c, n, nil)
	}})
	c.AddCommand(&cobra.Command{Use: "diff NUMBER NUMBER", Short: "Compare two revisions", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		from, err := number(args[0])
		if err != nil {
			return err
		}
		to, err := number(args[1])
		if err != nil {
			return err
		}
		return view(c, to, &from)
	}})
	var why string
	back := &cobra.Command{Use: "back NUMBER", Short: "Make a draft that reverts to a revision, and see what it would undo", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		n, err := number(args[0])
		if err != nil {
			return err
		}
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.BackTo(c.Context(), n, nil, contract.WhyOnly{Why: optional(why)})
		var d contract.Draft
		if err := r.read(resp, err, &d); err != nil {
			return err
		}
		if err := a.printDraft(&d); err != nil {
			return err
		}
		a.say("\nPublish it with: wexillum draft publish %s --why …", d.Id)
		return nil
	}}
	back.Flags().StringVar(&why, "why", "", "the reason")
	c.AddCommand(back)
	return c
}

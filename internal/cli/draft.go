package cli

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

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
		return &cobra.Command{
			Use:               use,
			Short:             short,
			Args:              args,
			ValidArgsFunction: a.completeDraft,
			RunE: func(c *cobra.Command, args []string) error {
				r, err := a.remote()
				if err != nil {
					return err
				}
				return run(c, r, args)
			},
		}
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
	c.AddCommand(
		one("new NAME", "Make a draft on the policy in force", cobra.ExactArgs(1), func(c *cobra.Command, r *remote, args []string) error {
			resp, err := r.MakeDraft(c.Context(), nil, contract.MakeDraftJSONRequestBody{Name: &args[0]})
			return show(r, resp, err)
		}),
	)
	c.AddCommand(
		one(
			"show DRAFT",
			"A draft: its edits, and what else has changed meanwhile",
			cobra.ExactArgs(1),
			func(c *cobra.Command, r *remote, args []string) error {
				resp, err := r.Draft(c.Context(), args[0])
				return show(r, resp, err)
			},
		),
	)
	c.AddCommand(a.draftImpact())
	var all bool
	undo := one(
		"undo DRAFT KIND ID",
		"Take an edit out of a draft",
		cobra.RangeArgs(1, 3),
		func(c *cobra.Command, r *remote, args []string) error {
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
		},
	)
	undo.Flags().BoolVar(&all, "all", false, "all edits")
	c.AddCommand(undo)
	for _, x := range []struct{ use, short, keep string }{{"keep", "Keep an edit of something that was changed meanwhile", "draft"},
		{"take", "Take what is in force instead of an edit", "live"}} {
		c.AddCommand(one(x.use+" DRAFT KIND ID", x.short, cobra.ExactArgs(3), func(c *cobra.Command, r *remote, args []string) error {
			resp, err := r.SettleEdit(
				c.Context(),
				args[0],
				contract.SettleEditJSONRequestBody{Kind: args[1], Id: args[2], Keep: contract.SettleEditJSONBodyKeep(x.keep)},
			)
			return show(r, resp, err)
		}))
	}
	var why, set string
	publish := one(
		"publish DRAFT",
		"Show the impact of a draft, and publish it",
		cobra.ExactArgs(1),
		func(c *cobra.Command, r *remote, args []string) error {
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
			resp, err = r.PublishDraft(
				c.Context(),
				args[0],
				contract.PublishDraftJSONRequestBody{Why: why, Digest: imp.Digest, At: optional(set), Despite: optional(a.despite)},
			)
			var d contract.Draft
			if err := r.read(resp, err, &d); err != nil {
				return err
			}
			if a.output != "table" {
				return a.printDraft(&d)
			}
			a.published(a.out, &d)
			return nil
		},
	)
	publish.Flags().StringVar(&why, "why", "", "the reason, which the revision keeps")
	publish.Flags().StringVar(&set, "set", "", "publish at this date or moment instead of now")
	c.AddCommand(publish)
	c.AddCommand(
		one(
			"confirm DRAFT",
			"Confirm what somebody else asked to publish, exactly as it was weighed",
			cobra.ExactArgs(1),
			func(c *cobra.Command, r *remote, args []string) error {
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
				if a.output != "table" {
					return a.printDraft(&d)
				}
				a.published(a.out, &d)
				return nil
			},
		),
	)
	c.AddCommand(
		one(
			"withdraw DRAFT",
			"Open a draft again that waits or is set to be published",
			cobra.ExactArgs(1),
			func(c *cobra.Command, r *remote, args []string) error {
				resp, err := r.WithdrawDraft(c.Context(), args[0], contract.WhyOnly{})
				return show(r, resp, err)
			},
		),
	)
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
	c.AddCommand(
		one(
			"restore ID",
			"Open a draft again that was given up",
			cobra.ExactArgs(1),
			func(c *cobra.Command, r *remote, args []string) error {
				resp, err := r.RestoreDraft(c.Context(), args[0], contract.WhyOnly{})
				return show(r, resp, err)
			},
		),
	)
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

package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

// printKinds writes what a system keeps of our inventory.
func (a *app) printKinds(v *contract.SystemView) {
	if len(v.Kinds) == 0 {
		return
	}
	a.printf("\nIt keeps of our inventory:\n")
	rows := [][]string{}
	for _, k := range v.Kinds {
		whose := ""
		if k.Source {
			whose = "made there, too"
		}
		rows = append(rows, []string{string(k.Kind), k.Name, fmt.Sprint(k.Found), fmt.Sprint(k.Confirmed), fmt.Sprint(k.Open),
			fmt.Sprint(k.Differ), fmt.Sprint(k.Drift), fmt.Sprint(k.Unknown - k.Accepted), whose})
	}
	_ = a.records(v, []string{"kind", "there", "found", "as meant", "on their way", "differ", "changed there", "unknown here", ""}, rows)
	if v.Braked > 0 {
		a.printf("  %d wait to be taken away or let in, more than the %d that go in a day unasked: wexillum system record %s release --why ...\n",
			v.Braked, v.Brake, v.Id)
	}
	if e := pick(v.Empty); e != "" {
		a.printf("  It shows no %s any more, and kept some before; nothing is taken for gone: wexillum system record %s empty --why ...\n", e,
			v.Id)
	}
}

// thingText writes an entry in one line.
func thingText(t *contract.Thing) string {
	if t == nil {
		return "not there"
	}
	var out []string
	for _, name := range []string{"name", "owner", "standing", "sponsor", "role", "item", "right", "keep_copy", "set_by", "from", "until",
		"for"} {
		if v := (*t)[name]; v != "" {
			out = append(out, strings.ReplaceAll(name, "_", " ")+" "+v)
		}
	}
	return cmp.Or(strings.Join(out, ", "), "there")
}

// recordName writes what a record is about.
func recordName(r *contract.SystemRecord) string {
	if o := pick(r.Ours); o != "" {
		return o
	}
	if r.Found != nil {
		var out []string
		for _, name := range []string{"address", "id", "resource", "mailbox", "to"} {
			if v := (*r.Found)[name]; v != "" {
				out = append(out, v)
			}
		}
		if len(out) > 0 {
			return strings.Join(out, " ")
		}
	}
	return pick(r.Native)
}

func recordState(r *contract.SystemRecord) string {
	out := map[string]string{
		"unknown": "stands for nothing here", "drift": "changed there", "waiting": "waits to be written", "sent": "is being written",
		"settling":  "written, not yet expected to count",
		"confirmed": "as meant", "differs": "differs", "failed": "failed", "by_hand": "by hand",
	}[string(r.State)]
	if r.Since != nil {
		out += ", found " + clock(*r.Since)
	}
	if r.Accepted != nil {
		out += ", let be until " + day(*r.Accepted)
	}
	if p := pick(r.Problem); p != "" {
		out += ": " + p
	}
	return out
}

func (a *app) systemRecords() *cobra.Command {
	var state, q string
	var limit int
	c := &cobra.Command{
		Use: "records SYSTEM [KIND]", Short: "What a system keeps of our inventory: guests, what they were given, spaces, links, forwarders",
		Long:    "Lists records of one kind that need somebody: what is on its way, differs, was changed there or stands for\nnothing here. --state unknown lists the last alone, --state drift what was changed there, --state confirmed what\nis as meant. Without a kind it counts what the system keeps of each.",
		Example: "  wexillum system records quay guest --state unknown", Args: cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				resp, err := r.System(c.Context(), args[0])
				var v contract.SystemView
				if err := r.read(resp, err, &v); err != nil {
					return err
				}
				if len(v.Kinds) == 0 {
					a.say("%s keeps nothing of our inventory.", v.Name)
				}
				a.printKinds(&v)
				return nil
			}
			p := contract.SystemRecordsParams{Kind: args[1], Q: optional(q), Limit: &limit}
			if state != "" {
				s := contract.SystemRecordsParamsState(state)
				p.State = &s
			}
			resp, err := r.SystemRecords(c.Context(), args[0], &p)
			var x struct {
				Records []contract.SystemRecord `json:"records"`
				Next    *string                 `json:"next,omitempty"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if len(x.Records) == 0 && state == "" && q == "" {
				a.say("Nothing of this kind needs anybody. --state confirmed lists what is as meant.")
			}
			rows := [][]string{}
			for i := range x.Records {
				l := &x.Records[i]
				rows = append(rows, []string{recordName(l), pick(l.Native), thingText(l.Meant), thingText(l.Found), recordState(l), pick(l.By)})
			}
			if err := a.records(x, []string{"record", "its id there", "meant", "found", "state", "by"}, rows); err != nil {
				return err
			}
			if x.Next != nil {
				a.say("There are more; ask for a part of what they are known by with --find, or for more with --limit.")
			}
			return nil
		},
	}
	c.Flags().StringVar(&state, "state", "", "unknown, open, differs, drift or confirmed; absent: all that need somebody")
	c.Flags().StringVar(&q, "find", "", "only those with this in what they are known by")
	c.Flags().IntVar(&limit, "limit", 50, "at most so many, up to 500")
	return c
}

func (a *app) systemRecord() *cobra.Command {
	var b contract.RecordDecision
	var all, confirm, preview bool
	var sponsor, purpose, until, why string
	c := &cobra.Command{
		Use:   "record SYSTEM DO [KIND [RECORD...]]",
		Short: "Take over, end there, put back, take in or let be what a system keeps otherwise than meant",
		Long: `Decides about records of a system, after it was shown who gains and who loses:

  take-over  of what stands for nothing here: it becomes a guest, a grant, a link … of ours
  end-there  of what stands for nothing here: it is taken away there
  put-back   of what was changed there: it is written as it is meant
  take-in    of what was changed there: it counts here, too
  accept     of both: it is let be until a day
  again      of what failed or differs: it is written once more
  release    lets go what waits because it is more than goes in a day
  empty      says that a list is rightly empty that was not`,
		Example: "  wexillum system record quay take-over guest --all --sponsor d.ekwinter --purpose \"the survey\" --why \"they were let in there\"\n  wexillum system record quay put-back grant \"ada@ilvane.example space:dossier\" --why \"it was given\"",
		Args:    cobra.MinimumNArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			b.Do = contract.RecordDecisionDo(strings.ReplaceAll(args[1], "-", "_"))
			if !b.Do.Valid() {
				return usage{fmt.Errorf("%q is nothing that is done with records; write take-over, end-there, put-back, take-in, accept, again, release or empty",
					args[1])}
			}
			if why == "" && !preview {
				return usage{errors.New("say why: give --why, or --preview to see what it would do")}
			}
			if len(args) > 2 {
				kind := contract.RecordDecisionKind(args[2])
				b.Kind = &kind
			}
			if len(args) > 3 {
				keys, err := a.recordKeys(c, r, args[0], args[2], args[3:])
				if err != nil {
					return err
				}
				b.Keys = &keys
			}
			if all {
				b.All = &all
			}
			b.Sponsor, b.Purpose, b.Until, b.Why = optional(sponsor), optional(purpose), optional(until), optional(why)
			if confirm {
				b.Confirm = &confirm
			}
			ask := func(preview bool) (x contract.RecordsDecided, err error) {
				resp, err := r.DecideRecords(c.Context(), args[0], &contract.DecideRecordsParams{Preview: &preview}, b)
				return x, r.read(resp, err, &x)
			}
			x, err := ask(true)
			if err != nil {
				return err
			}
			if a.output == "table" || !preview {
				for i, l := range x.Lines {
					if i == 20 {
						a.say("  … and %d more", len(x.Lines)-20)
						break
					}
					if l.Result == "refused" {
						a.say("  %s: not done: %s", l.Key, l.Says)
					} else {
						a.say("  %s: %s", l.Key, l.Says)
					}
				}
				if x.Weighed != nil && a.output == "table" {
					a.tellMoves(x.Weighed)
				}
				if x.Waits {
					a.say("Dates of the guests that come wait until an administrator releases them.")
				}
			}
			if preview {
				if a.output != "table" {
					return a.records(x, nil, nil)
				}
				return nil
			}
			if x.Done == 0 && len(x.Lines) > 0 {
				return errors.New("nothing can be done of it")
			}
			if !a.yes && !a.confirmed(fmt.Sprintf("Do it with %d?", x.Done)) {
				return errors.New("nothing was changed")
			}
			if x, err = ask(false); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(x, nil, nil)
			}
			a.say("Done with %d, not with %d.", x.Done, x.Refused)
			return nil
		},
	}
	f := c.Flags()
	f.BoolVar(&all, "all", false, "every record of the kind that it fits")
	f.StringVar(&sponsor, "sponsor", "", "of guests taken over: a person of ours who answers for them")
	f.StringVar(&purpose, "purpose", "", "of guests taken over: what they are here for")
	f.StringVar(&until, "until", "", "of what is taken over: its end; with accept: until when")
	f.BoolVar(&confirm, "confirm", false, "that many end at once is meant")
	f.BoolVar(&preview, "preview", false, "only say what would become of it")
	whyFlag(c, &why)
	return c
}

// recordKeys finds the records that are named: by what they are known by here, or by their ids there.
func (a *app) recordKeys(c *cobra.Command, r *remote, system, kind string, names []string) (keys []string, err error) {
	limit := 500
	for _, name := range names {
		found := ""
		for _, state := range []contract.SystemRecordsParamsState{"", "unknown"} { // what is let be stands among the unknown alone
			p := contract.SystemRecordsParams{Kind: kind, Q: &name, Limit: &limit}
			if state != "" {
				p.State = &state
			}
			resp, err := r.SystemRecords(c.Context(), system, &p)
			var x struct {
				Records []contract.SystemRecord `json:"records"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return nil, err
			}
			for i := range x.Records {
				if l := &x.Records[i]; found == "" && (l.Key == name || recordName(l) == name) {
					found = l.Key
				}
			}
		}
		keys = append(keys, cmp.Or(found, name))
	}
	return keys, nil
}

package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/moment"
)

// remedies is what ask --remedy takes besides.
type remedies struct {
	show  bool
	until string
	take  int
	name  string
}

func (m *remedies) flags(c *cobra.Command) {
	f := c.Flags()
	f.BoolVar(&m.show, "remedy", false, "where the answer is no: what would make it a yes, ordered by what else that would open")
	f.StringVar(&m.until, "until", "", "with --remedy, the end that is proposed: a date, +30d (where absent), or none")
	f.IntVar(&m.take, "take", 0, "with --remedy, make a draft of what is policy in the set of this number")
	f.StringVar(&m.name, "name", "", "with --take, the name of the draft")
}

// remedy prints what would make a question a yes.
func (a *app) remedy(c *cobra.Command, m *remedies, q contract.Question) error {
	var x contract.Remedies
	if a.world != "" {
		if m.take > 0 {
			return usage{errors.New("--take makes a draft, which a file alone has not; leave --world away")}
		}
		s, now, err := a.offline()
		if err != nil {
			return err
		}
		question := q
		eq, err := answer.Question(&question, s, now, answer.AllNames)
		if err != nil {
			return err
		}
		until := moment.Never
		if t := m.until; t != "none" {
			if t == "" {
				t = "+30d"
			}
			if until, err = moment.ParseEnd(t, now, s.Zone()); err != nil {
				return usage{fmt.Errorf("--until: %w", err)}
			}
		}
		found, _, err := answer.Remedies(s, &eq, until, true, never)
		if err != nil {
			return err
		}
		x = found
	} else {
		r, err := a.remote()
		if err != nil {
			return err
		}
		counts := true
		resp, err := r.Remedies(c.Context(), contract.RemedyQuestion{Question: q, Until: optional(m.until), Counts: &counts})
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		if m.take > 0 {
			if m.take > len(x.Options) {
				return usage{fmt.Errorf("--take %d: there are %d sets", m.take, len(x.Options))}
			}
			resp, err := r.RemedyDraft(c.Context(), nil, contract.RemedyTaken{Question: q, Until: optional(m.until), Option: x.Options[m.take-1].Id,
				Name: optional(m.name)})
			var d contract.Draft
			if err := r.read(resp, err, &d); err != nil {
				return err
			}
			if err := a.printDraft(&d); err != nil {
				return err
			}
			for _, ch := range x.Options[m.take-1].Changes {
				if !ch.Policy {
					a.say("\nBesides, at its place: %s [%s, %s]", ch.Text, ch.Side, ch.Who)
				}
			}
			a.draftNext(&d)
			return nil
		}
	}
	return a.printRemedies(&x)
}

// draftNext says what to do with a draft that was made.
func (a *app) draftNext(d *contract.Draft) {
	a.say("\nSee its impact with wexillum draft impact %s, publish it with wexillum draft publish %s --why …", d.Id, d.Id)
}

func (a *app) printRemedies(x *contract.Remedies) error {
	rows := [][]string{}
	for i, o := range x.Options {
		for _, ch := range o.Changes {
			row := []string{fmt.Sprint(i + 1), ch.Text, string(ch.Side), ch.Who, "", "", "", "", ""}
			if o.Counts != nil {
				row[4], row[5], row[6], row[7], row[8] = fmt.Sprint(
					o.Counts.Newcomers,
				), fmt.Sprint(
					o.Counts.Parties,
				), fmt.Sprint(
					o.Counts.Granted,
				), fmt.Sprint(
					o.Counts.WidePairs,
				), day(
					pick(o.Counts.Until),
				)
			}
			rows = append(rows, row)
		}
	}
	if a.output != "table" {
		return a.records(x, []string{"set", "change", "side", "who", "newcomers", "parties", "granted", "wide pairs", "until"}, rows)
	}
	if x.Decision == "yes" {
		a.say("\nIt is a yes already.")
		return nil
	}
	if len(x.Options) == 0 {
		a.say("\nNothing that could be changed makes it a yes:")
		for _, h := range x.Hopeless {
			a.say("  with the %s account: %s %s", h.Account, h.Text, h.Next)
		}
		return nil
	}
	a.say("\nWhat would make it a yes, the least open first; each set is complete, and nothing in it can be left out:")
	for i, o := range x.Options {
		a.say("")
		for k, ch := range o.Changes {
			number := "   "
			if k == 0 {
				number = fmt.Sprintf("%2d.", i+1)
			}
			a.printf("%s %s\n", number, wrap(ch.Text+" ["+string(ch.Side)+", "+ch.Who+"]", 4, a.width()))
		}
		if o.Counts != nil {
			var also []string
			add := func(n int, one, many string) {
				switch {
				case n == 1:
					also = append(also, "1 "+one)
				case n > 1:
					also = append(also, fmt.Sprintf("%d %s", n, many))
				}
			}
			add(o.Counts.Newcomers, "typical newcomer", "typical newcomers")
			add(o.Counts.Parties, "known party", "known parties")
			add(o.Counts.Granted, "granted action", "granted actions")
			add(o.Counts.WidePairs, "pair of wide ones", "pairs of wide ones")
			if o.Counts.Outward != nil {
				add(*o.Counts.Outward, "thing our people may do elsewhere", "things our people may do elsewhere")
			}
			opens := "It opens nothing else to anybody who is counted"
			if len(also) > 0 {
				opens = "It opens: " + strings.Join(also, ", ")
			}
			if u := pick(o.Counts.Until); u != "" {
				opens += ", until " + day(u)
			}
			a.say("    %s.", opens)
			if o.Counts.NotCounted != nil {
				a.say("    Not counted: %s.", strings.Join(*o.Counts.NotCounted, "; "))
			}
		}
		for _, ch := range o.Changes {
			if ch.Side == "theirs" && pick(ch.Partner) != "" {
				a.say("    What their administrator has to do: wexillum partner sheet %s", *ch.Partner)
			}
		}
		if len(o.Conditions) > 0 {
			a.say("    Still asked for at the door: %s.", strings.Join(o.Conditions, ", "))
		}
	}
	return nil
}

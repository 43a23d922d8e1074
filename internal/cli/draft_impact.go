package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/engine"
)

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
		fmt.Fprintf(w, "Impact: %s parties, %s granted actions", moved(x.Parties.Gained, x.Parties.Lost, x.Parties.Otherwise),
			moved(x.Granted.Gained, x.Granted.Lost, x.Granted.Otherwise))
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
				list = append(list, fmt.Sprintf("%s %s towards %s (%s; %d of ours)", m.Change, m.Action, m.Name, strings.TrimPrefix(m.Who, "*@"),
					m.People))
			}
			fmt.Fprintf(w, "  what ours may do elsewhere: %d: %s\n", len(list), some(list, 4))
		}
		if x.Presenters != nil {
			var list []string
			for _, m := range *x.Presenters {
				list = append(list, fmt.Sprintf("%s %s (%s)", m.Change, m.Action, counted.Of(m.Parties, "party", "parties")))
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
	if x.Breaks != nil {
		fmt.Fprintln(w, "  breaks what is expected:")
		for i := range *x.Breaks {
			e := &(*x.Breaks)[i]
			when := ""
			if e.From != nil && e.Judged != nil && *e.From > *e.Judged { // moments are written so that they sort
				when = ", from " + (*e.From)[:10] + " on"
			}
			fmt.Fprintf(w, "    %s  %s (%s%s)\n", e.Id, e.Says, times(e), when)
			for k := range e.Examples[:min(2, len(e.Examples))] {
				c := &e.Examples[k]
				fmt.Fprintf(w, "      %s (%s): %s, %s\n", c.Name, c.Who, c.Action, c.Resource)
			}
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
		a.say(
			"  %s %s, a typical newcomer (%s): %s %s",
			map[contract.ImpactNewcomerChange]string{"gained": "+", "lost": "−", "otherwise": "~"}[n.Change],
			n.Who,
			n.Name,
			n.Action,
			resourceText(n.Kind+":*", n.Count),
		)
	}
	for _, h := range x.Held[:min(12, len(x.Held))] {
		a.say("  %s", heldText(h))
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

func (a *app) draftImpact() *cobra.Command {
	var at, against, file string
	var all bool
	var limits most
	c := &cobra.Command{Use: "impact [DRAFT]", Short: "Show who would gain and who would lose access",
		Long:    "Who would gain and who would lose what if a draft were published, now or at a\nlater moment.\n\nWithout any service, --world names a file and --against another: what changes for\neverybody in the world of the first where its policy takes the place of the other's.\n\nWith --max-gained or --max-lost the exit status is 3 where more is gained or lost\nthan that: of granted actions, of pairs of wide ones, of typical newcomers' actions,\nand of what ours may do elsewhere, each counted for itself.",
		Example: "  wexillum draft impact \"Lower the file limit\" --at +30d\n  wexillum draft impact --world next.yaml --against main.yaml --max-gained 0",
		Args:    cobra.MaximumNArgs(1), ValidArgsFunction: a.completeDraft,
		RunE: func(c *cobra.Command, args []string) error {
			for _, name := range []string{"max-gained", "max-lost"} {
				if n, err := c.Flags().GetInt(name); err == nil && n < 0 && c.Flags().Changed(name) {
					return usage{fmt.Errorf("--%s %d: write 0 or more, or leave it out for any number", name, n)}
				}
			}
			if a.world != "" {
				if against == "" || len(args) > 0 {
					return usage{errors.New("with --world, name the file to compare with in --against, and no draft")}
				}
				return a.impactOfFiles(against, at, file, all, &limits)
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
			if err := a.printImpact(x); err != nil {
				return err
			}
			return limits.kept(a, x)
		}}
	c.Flags().IntVar(&limits.gained, "max-gained", -1, "exit with 3 where more is gained; any number where it is left out")
	c.Flags().IntVar(&limits.lost, "max-lost", -1, "the same of what is lost")
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

// most is how much may be gained and lost; below 0 any number.
type most struct{ gained, lost int }

// kept reports whether an impact stays within, and says of what there is more.
func (m *most) kept(a *app, x *contract.Impact) error {
	over := false
	count := func(change string, limit, granted int) {
		if limit < 0 {
			return
		}
		pairs, newcomers, outward := 0, 0, 0
		for _, n := range x.Wide {
			if n.Change != nil && string(*n.Change) == change {
				pairs += n.Pairs
			}
		}
		for _, n := range x.Newcomers {
			if string(n.Change) == change {
				newcomers++
			}
		}
		if x.Outward != nil {
			for _, o := range *x.Outward {
				if string(o.Change) == change {
					outward++
				}
			}
		}
		for _, c := range []struct {
			what string
			n    int
		}{{"granted actions", granted}, {"pairs of wide actions", pairs}, {"actions of typical newcomers", newcomers},
			{"actions of ours elsewhere", outward}} {
			if c.n > limit {
				over = true
				fmt.Fprintf(a.err, "wexillum: %d %s are %s, more than %d\n", c.n, c.what, change, limit)
			}
		}
	}
	count("gained", m.gained, x.Granted.Gained)
	count("lost", m.lost, x.Granted.Lost)
	if over {
		return exit(statusNo)
	}
	return nil
}

// impactOfFiles weighs the policy of one file against that of another.
func (a *app) impactOfFiles(against, at, file string, all bool, limits *most) error {
	next, now, err := a.fileWorld(a.world, a.with)
	if err != nil {
		return err
	}
	was, _, err := a.fileWorld(against, nil)
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
	if err := a.printImpact(&x); err != nil {
		return err
	}
	return limits.kept(a, &x)
}

// heldText says what becomes of a stored value.
func heldText(h contract.HeldChange) string {
	if h.Held {
		return fmt.Sprintf("%s: %s %s becomes held back", h.Where, h.Rule, h.Value)
	}
	return fmt.Sprintf("%s: %s %s is released", h.Where, h.Rule, h.Value)
}

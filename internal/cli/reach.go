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

func (a *app) reach() *cobra.Command {
	var at, only, partner, group, kind, find, file string
	var everybody, numbers, could bool
	c := &cobra.Command{
		Use:     "reach [WHO]",
		Short:   "Each action with yes or no and the cause that decides, for one party; or what many reach, in numbers",
		Args:    cobra.MaximumNArgs(1),
		Example: "  wexillum reach maren.holtveig@ilvane.example --at +90d\n  wexillum reach --partner ilvane\n  wexillum reach --everybody -o csv\n  wexillum reach --numbers",
		RunE: func(c *cobra.Command, args []string) error {
			if numbers {
				if len(args)+len(partner)+len(group)+len(kind)+len(find)+len(file) > 0 {
					return usage{errors.New("--numbers count everybody outside; name nobody")}
				}
				return a.numbers(c, at)
			}
			if only != "" && only != "yes" && only != "no" {
				return usage{fmt.Errorf("--only %q: write yes or no", only)}
			}
			words := []string{}
			for prefix, id := range map[string]string{"partner:": partner, "group:": group, "kind:": kind} {
				if id != "" {
					words = append(words, prefix+id)
				}
			}
			if everybody {
				words = append(words, "everybody")
			}
			if len(words)+len(args) != 1 {
				return usage{errors.New("name one party, or one of --partner, --group, --kind and --everybody")}
			}
			if could {
				if len(args) != 1 || at != "" || file != "" {
					return usage{errors.New("--could is asked for one party, as things are now")}
				}
				return a.couldLines(c, answer.CouldAsked{Who: args[0], All: only == "yes"})
			}
			if len(words) == 1 {
				return a.boardOf(c, words[0], find, at, file)
			}
			var x contract.Reach
			if a.world != "" {
				s, now, err := a.offline()
				if err != nil {
					return err
				}
				who, err := s.WhoNamed(args[0], true)
				if err != nil {
					return err
				}
				when := now
				if at != "" {
					if when, err = moment.ParseLoose(at, now, s.Zone()); err != nil {
						return usage{fmt.Errorf("--at: %w", err)}
					}
				}
				lines, kind, err := s.Reach(who, when)
				if err != nil {
					return err
				}
				first := s.Spells(who, when, lines)
				v := &answer.View{Snapshot: s, At: when, Recorded: "now"}
				if err := a.keepReport(file, nil, v.ReachReport(who, kind, lines)); err != nil {
					return err
				}
				x = answer.Reach(s, who, kind, when, lines, 0)
				if first != moment.Never {
					x.FirstLost = optional(first.String())
				}
			} else {
				r, err := a.remote()
				if err != nil {
					return err
				}
				p := &contract.ReachParams{Who: args[0]}
				if at != "" {
					p.At = &at
				}
				resp, err := r.Reach(c.Context(), p)
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				if err := a.keepReport(file, a.fetchReport(c, r, "reach", contract.ReportParams{Who: &args[0], At: optional(at)}), nil); err != nil {
					return err
				}
			}
			rows := [][]string{}
			kept := x.Lines[:0:0]
			for _, l := range x.Lines {
				if only != "" && string(l.Decision) != only {
					continue
				}
				kept = append(kept, l)
				what := l.Resource
				if l.Count > 1 {
					what = fmt.Sprintf("%s (%d)", l.Resource, l.Count)
				}
				rows = append(
					rows,
					[]string{
						l.Action,
						what,
						string(l.Decision),
						strings.Join(l.Conditions, ", "),
						day(pick(l.Since)),
						day(pick(l.Until)),
						l.Cause.Text,
					},
				)
			}
			x.Lines = kept
			if a.output == "table" {
				name := x.Subject
				if n := pick(x.Name); n != "" {
					name = n + " <" + x.Subject + ">"
				}
				a.printf("%s, %s, at %s\n", clean(name), x.Kind, seconds(x.At))
				if x.Stated != nil {
					a.stated(x.Stated)
				}
				if f := pick(x.FirstLost); f != "" {
					a.printf("First access to end: %s.\n", day(f))
				}
				a.printf("\n")
				a.table([]string{"resource", "", "actions", "conditions", "until", "because"}, together(kept))
				return nil
			}
			return a.records(x, []string{"action", "resource", "decision", "conditions", "since", "until", "because"}, rows)
		},
		ValidArgsFunction: func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return a.completion("who")(c, args, text)
		},
	}
	c.Flags().StringVar(&at, "at", "", "a date, a moment, or days from today as +3d; now where absent")
	f := c.Flags()
	f.BoolVar(&could, "could", false,
		"what they could come to do without any administrator or keeper; with --only yes also what they may already")
	f.StringVar(&partner, "partner", "", "each of a partner's people, and a typical newcomer from each of its domains")
	f.StringVar(&group, "group", "", "the parties in a group")
	f.BoolVar(
		&numbers,
		"numbers",
		false,
		"what everybody outside can do in numbers alone, by kind, partner, space and action, exact at any size",
	)
	f.StringVar(&kind, "kind", "", "everybody of a kind: guest, provisioned, federated, personal or bearer")
	f.BoolVar(&everybody, "everybody", false, "everybody outside")
	f.StringVar(&find, "find", "", "of many only those whose address, name or partner holds this")
	f.StringVar(&file, "report", "", "also write a page that prints into this file")
	_ = c.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	c.Flags().StringVar(&only, "only", "", "only lines that are yes, or no")
	return c
}

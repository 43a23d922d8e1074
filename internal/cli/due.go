package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
)

func (a *app) due() *cobra.Command {
	var within, from, until, partner, what, resource string
	c := &cobra.Command{Use: "due [ADDRESS]", Short: "What ends, when, why, and what happens next", Args: cobra.MaximumNArgs(1),
		Long:    "What ends, when, why, and what follows from it. With --if it is told how the dates of one guest\nwould move; a changed rule is asked in a draft: due ADDRESS --draft NAME.",
		Example: "  wexillum due --within 30d\n  wexillum due maren.holtveig@ilvane.example --if extend --until +90d\n  wexillum due --partner tholemere --until 2027-06-30\n  wexillum due maren.holtveig@ilvane.example --within 730d",
		RunE: func(c *cobra.Command, args []string) error {
			if within != "" && until != "" {
				return usage{fmt.Errorf("--within and --until say the same; give one of them")}
			}
			if within != "" {
				if n, err := strconv.Atoi(strings.TrimSuffix(within, "d")); err != nil || n < 0 || !strings.HasSuffix(within, "d") {
					return usage{fmt.Errorf("--within %q: write days as 30d", within)}
				}
				until = "+" + within
			}
			who := ""
			if len(args) > 0 {
				who = args[0]
			}
			if what != "" {
				return a.dueIf(c, who, what, until, resource)
			}
			var steps []contract.DueStep
			kinds, behind := map[string]int{}, ""
			if a.world != "" {
				found, err := a.dueOfFile(from, until, partner, who)
				if err != nil {
					return err
				}
				for i := range found {
					x := found[i]
					steps = append(steps, x)
					kinds[string(x.Kind)]++
				}
			} else {
				r, err := a.remote()
				if err != nil {
					return err
				}
				p := &contract.DueParams{From: optional(from), Until: optional(until), Partner: optional(partner), Who: optional(who)}
				for limit := 500; ; {
					p.Limit = &limit
					resp, err := r.Due(c.Context(), p)
					var x struct {
						Steps []contract.DueStep `json:"steps"`
						Kinds map[string]int     `json:"kinds"`
						Next  string             `json:"next"`
						Late  string             `json:"behind"`
					}
					if err := r.read(resp, err, &x); err != nil {
						return err
					}
					steps, kinds, behind = append(steps, x.Steps...), x.Kinds, x.Late
					if x.Next == "" {
						break
					}
					p.Cursor = &x.Next
				}
			}
			rows := [][]string{}
			for _, s := range steps {
				what := s.What
				if n := pick(s.ResourceName); n != "" {
					what += ": " + n
				} else if n := pick(s.Resource); n != "" {
					what += ": " + n
				}
				rows = append(rows, []string{day(s.At), s.Party, pick(s.Partner), pick(s.Sponsor), what, s.Because})
			}
			columns := []string{"at", "guest", "partner", "sponsor", "what", "because"}
			if a.output != "table" {
				if steps == nil {
					steps = []contract.DueStep{}
				}
				return a.records(steps, columns, rows)
			}
			if behind != "" {
				a.say("%s\n", behind)
			}
			if len(rows) == 0 {
				a.say("Nothing is due.")
				return nil
			}
			a.say("%s.\n", kindsOf(kinds))
			shown := rows[:min(len(rows), maxTable)]
			a.table(columns, shown)
			if len(shown) < len(rows) {
				a.say("… and %d more; -o csv prints all of them.", len(rows)-len(shown))
			}
			return nil
		}}
	f := c.Flags()
	f.StringVar(&within, "within", "", "in so many days, as 30d; 30d where nothing is said")
	f.StringVar(&from, "from", "", "from a date or moment on; now where absent")
	f.StringVar(&until, "until", "", "up to the end of a date, or a moment")
	f.StringVar(&partner, "partner", "", "only a partner's people")
	f.StringVar(&what, "if", "", "how the dates of ADDRESS would move: "+strings.Join(whatIfs, ", "))
	f.StringVar(&resource, "on", "", "with --if end-grant or confirm: on what, as space:loan-dossier; the first that is in force where absent")
	f.StringVar(&resource, "resource", "", "the same as --on")
	_ = f.MarkHidden("resource")
	_ = c.RegisterFlagCompletionFunc("if", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return whatIfs, cobra.ShellCompDirectiveNoFileComp
	})
	_ = c.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	return c
}

// whatIfs is what may be whatIfs of a guest.
var whatIfs = []string{"extend", "end-grant", "confirm", "suspend", "back", "end", "remove", "suspend-partner", "end-partner"}

// dueIf tells how the dates of a guest would move.
func (a *app) dueIf(c *cobra.Command, who, what, until, resource string) error {
	if who == "" {
		return usage{fmt.Errorf("say of whom: due ADDRESS --if %s", what)}
	}
	if a.world != "" {
		return usage{fmt.Errorf("--if asks the service; leave --world out")}
	}
	if !slices.Contains(whatIfs, what) {
		return usage{fmt.Errorf("--if %q: write %s", what, strings.Join(whatIfs, ", "))}
	}
	do := contract.DueSupposingDo(doNames[what])
	if do == "" { // of the partner
		do = contract.DueSupposingDo(strings.ReplaceAll(what, "-", "_"))
	}
	b := contract.DueSupposing{Address: who, Do: do, Until: optional(until)}
	if what == "extend" {
		yes := true
		b.Grants = &yes
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	if what == "end-grant" || what == "confirm" {
		if resource == "" {
			resp, err := r.Guest(c.Context(), who)
			var g contract.Guest
			if err := r.read(resp, err, &g); err != nil {
				return err
			}
			for i := range g.Grants {
				if x := &g.Grants[i]; resource == "" && x.Live && x.Group == nil {
					resource = x.Resource
				}
			}
		}
		b.Resource = optional(resource)
	}
	resp, err := r.DueSupposing(c.Context(), b)
	var x contract.DueSupposed
	if err := r.read(resp, err, &x); err != nil {
		return err
	}
	rows := [][]string{}
	for _, part := range []struct {
		when  string
		steps []contract.DueStep
	}{{"as it is", x.Was}, {"then", x.Will}} {
		for i := range part.steps {
			s := &part.steps[i]
			name := s.What
			if n := pick(s.ResourceName); n != "" {
				name += ": " + n
			}
			rows = append(rows, []string{part.when, day(s.At), name, s.Because})
		}
	}
	if a.output != "table" {
		return a.records(x, []string{"when", "at", "what", "because"}, rows)
	}
	if t := pick(x.Reason); t != "" {
		a.printf("It cannot be done: %s.\n", strings.TrimSuffix(t, "."))
		return exit(statusNo)
	}
	a.printf("As it is:\n")
	a.dueLines(x.Was)
	if what == "suspend-partner" {
		a.printf("\nThen, too: a suspended partner changes no record. Everything refuses at its own gate, and the dates stay.\n")
		return nil
	}
	on := ""
	if resource != "" {
		on = " " + resource
	}
	a.printf("\nThen (%s%s):\n", what, on)
	if what == "remove" {
		a.printf("  at once: the record goes, with every role that it holds\n")
		return nil
	}
	a.dueLines(x.Will)
	return nil
}

func (a *app) dueLines(steps []contract.DueStep) {
	if len(steps) == 0 {
		a.printf("  Nothing ends by itself.\n")
	}
	a.stepLines(steps)
}

func (a *app) dueOfFile(from, until, partner, who string) ([]contract.DueStep, error) {
	s, now, err := a.offline()
	if err != nil {
		return nil, err
	}
	f := answer.DueFilter{From: now, Partner: partner}
	if from != "" {
		if f.From, err = moment.ParseLoose(from, now, s.Zone()); err != nil {
			return nil, usage{fmt.Errorf("--from: %w", err)}
		}
	}
	if until == "" {
		until = "+30d"
	}
	if f.Until, err = moment.ParseEnd(until, now, s.Zone()); err != nil {
		return nil, usage{fmt.Errorf("--until: %w", err)}
	}
	if err := f.Known(s); err != nil {
		return nil, err
	}
	if who == "" {
		d := answer.DueOver(s, f, moment.Always)
		return answer.DueSteps(s, d.Steps(0, d.Total())), nil
	}
	x, err := addr.Parse(who)
	if err != nil {
		return nil, usage{err}
	}
	q := s.Sequences()
	q.Between(f.From, f.Until)
	all, ok := q.Of(x)
	if !ok {
		return nil, fmt.Errorf("there is no record of %s", x)
	}
	var steps []engine.DueStep
	for i := range all {
		if all[i].At >= f.From && all[i].At < f.Until {
			steps = append(steps, all[i])
		}
	}
	return answer.DueSteps(s, steps), nil
}

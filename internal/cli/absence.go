package cli

import (
	"errors"
	"strconv"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

func (a *app) absence() *cobra.Command {
	c := &cobra.Command{Use: "absence", Short: "Who is away, and who decides for them meanwhile",
		Long: "Who is away, and who decides for them meanwhile: bundles that are asked for and lines of\nreviews. A deputy of a deputy who is away decides; where nobody is left, a keeper does.\nWhoever asks for a bundle is not let in by a deputy whom they named."}
	c.AddCommand(a.absenceList(), a.absenceSet(), a.absenceEnd())
	return c
}

func (a *app) printAbsences(data any, list []contract.Absence) error {
	rows := [][]string{}
	for i := range list {
		x := &list[i]
		state := "to come"
		if x.On {
			state = "away"
		}
		deputy := "a keeper"
		if x.Deputy != nil {
			deputy = pick(x.DeputyName)
		}
		rows = append(rows, []string{x.Person, x.Name, state, deputy, day(x.From), day(x.Until), strconv.Itoa(x.Requests), strconv.Itoa(x.Lines),
			x.Why})
	}
	return a.records(data, []string{"person", "name", "state", "decides meanwhile", "from", "until", "requests", "review lines", "why"}, rows)
}

func (a *app) absenceList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "Who is away or will be", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.ListAbsences(c.Context())
		var x struct {
			Absences []contract.Absence `json:"absences"`
		}
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		if len(x.Absences) == 0 && a.output == "table" {
			a.say("Nobody is said to be away. For yourself: wexillum absence set --until +14d --deputy PERSON --why …")
			return nil
		}
		return a.printAbsences(x.Absences, x.Absences)
	}}
}

func (a *app) absenceSet() *cobra.Command {
	var x contract.AbsenceSet
	var deputy, from, why string
	var preview bool
	c := &cobra.Command{Use: "set [PERSON]", Short: "Say that somebody is away: yourself, or, as a keeper, somebody else",
		Args:    cobra.MaximumNArgs(1),
		Example: "  wexillum absence set o.tidewell --deputy s.lindqvane --until +14d --why \"on leave\"",
		RunE: func(c *cobra.Command, args []string) error {
			if x.Until == "" {
				return usage{errors.New("say until when: --until +14d")}
			}
			if len(args) > 0 {
				x.Person = &args[0]
			}
			x.Deputy, x.From, x.Why = optional(deputy), optional(from), optional(why)
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.SetAbsence(c.Context(), &contract.SetAbsenceParams{Preview: &preview}, x)
			var out contract.Absence
			if err := r.read(resp, err, &out); err != nil {
				return err
			}
			if preview && a.output == "table" {
				a.say("Nothing is changed. It would be:")
			}
			return a.printAbsences(&out, []contract.Absence{out})
		}}
	f := c.Flags()
	f.StringVar(&deputy, "deputy", "", "the person who decides meanwhile; without one, a keeper does")
	f.StringVar(&from, "from", "", "the first day: a date, or days from today as +3d; without it, from now on")
	f.StringVar(&x.Until, "until", "", "the last day: a date, or days from today as +14d")
	f.BoolVar(&preview, "preview", false, "say what waits for them, and change nothing")
	whyFlag(c, &why)
	_ = c.RegisterFlagCompletionFunc("deputy", a.completion("person"))
	return c
}

func (a *app) absenceEnd() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "end PERSON", Short: "Say that somebody is back", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndAbsence(c.Context(), args[0], &contract.EndAbsenceParams{Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("%s decides again.", args[0])
			return nil
		}}
	whyFlag(c, &why)
	return c
}

package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

// stepWords are kinds of steps where they are more than one.
var stepWords = map[string]string{"grant_ends": "grants end", "review_due": "reviews due", "invitation_lapses": "invitations lapse"}

// kindsOf writes counts by kind of step, as 3 suspended, 1 removed.
func kindsOf(kinds map[string]int) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(kinds)) {
		word := strings.ReplaceAll(k, "_", " ")
		if w, ok := stepWords[k]; ok && kinds[k] != 1 {
			word = w
		}
		out = append(out, fmt.Sprintf("%d %s", kinds[k], word))
	}
	if out == nil {
		return "nothing"
	}
	return strings.Join(out, ", ")
}

// goingDays is how many days of what follows are told.
const goingDays = 10

// going tells what dates set going.
func (a *app) going(g *contract.DatesGoing) {
	a.say("  at once     %s", kindsOf(g.AtOnce))
	if len(g.Partners) > 0 {
		a.say("  partners    %s", kindsOf(g.Partners))
	}
	for i, d := range g.Days {
		if i == goingDays {
			a.say("  and %d more days", len(g.Days)-i)
			break
		}
		a.say("  %s  %s", d.Day, kindsOf(d.Kinds))
	}
	a.say("  messages    %d in the first days", g.Mail)
}

// setsGoing tells what the dates of records that came set going, or would.
func (a *app) setsGoing(g *contract.DatesGoing, waits *bool) {
	if g == nil {
		return
	}
	wait := waits != nil && *waits
	if wait {
		a.say("The dates of %s wait, and nothing is mailed about them. If they counted now:", counted.Of(g.Records, "record", "records"))
	} else {
		a.say("The dates of %s set going:", counted.Of(g.Records, "record", "records"))
	}
	a.going(g)
	if wait {
		a.say("Let them count with: wexillum dates release --why …")
	}
}

func (a *app) dates() *cobra.Command {
	var from string
	c := &cobra.Command{Use: "dates", Short: "Dates that wait, what they would start, and what is held back", Args: cobra.NoArgs,
		Long: "In a new installation the dates of records that are loaded wait: nothing is\ncarried out and nothing mailed until an administrator releases them, for all or\nfor a part, steps and mail apart.",
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.Dates(c.Context(), &contract.DatesParams{From: optional(from)})
			var x contract.Dates
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, f := range x.Floors {
				rows = append(rows, []string{f.For, waits(f.From), waits(pick(f.Mail))})
			}
			columns := []string{"for", "steps count from", "mail from"}
			if a.output != "table" {
				return a.records(x, columns, rows)
			}
			if x.Waiting.Records == 0 {
				a.say("No dates wait.")
			} else {
				a.say("The dates of %s wait. If they counted:", counted.Of(x.Waiting.Records, "record", "records"))
				a.going(&x.Waiting)
			}
			if x.MailWaits {
				a.say("Mail about dates waits too.")
			}
			if n := x.Held; n.Records+n.Mail > 0 {
				a.say(
					"Held, because it is more than may go in a day: %s, %s. Let it go with: wexillum dates lift --why …",
					counted.Of(n.Records, "record", "records"),
					counted.Of(n.Mail, "message", "messages"),
				)
			}
			if len(rows) > 0 {
				a.say("")
				a.table(columns, rows)
			}
			return nil
		}}
	c.Flags().StringVar(&from, "from", "", "as if they counted from this day or moment on; now where absent")
	var of, when, why string
	var steps, mail, confirm, preview bool
	release := &cobra.Command{Use: "release", Short: "Let waiting dates count", Args: cobra.NoArgs,
		Example: "  wexillum dates release --preview\n  wexillum dates release --for partner:oskelund --from +14d --why \"they were told\"",
		RunE: func(c *cobra.Command, _ []string) error {
			if !steps && !mail {
				steps, mail = true, true
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ReleaseDates(
				c.Context(),
				&contract.ReleaseDatesParams{Preview: &preview},
				contract.DatesRelease{
					For:     optional(of),
					From:    optional(when),
					Steps:   &steps,
					Mail:    &mail,
					Confirm: &confirm,
					Why:     optional(why),
				},
			)
			var x contract.DatesReleased
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(
					x,
					[]string{"for", "from", "steps", "mail"},
					[][]string{{x.For, x.From, fmt.Sprint(x.Steps), fmt.Sprint(x.Mail)}},
				)
			}
			what, verb := "Everything", "counts"
			if x.For != "" {
				what = x.For
			}
			if preview {
				verb = "would count"
			}
			a.say("%s %s from %s.", what, verb, day(x.From))
			if x.Going != nil {
				a.going(x.Going)
			}
			if b := pick(x.Brake); b != "" && preview {
				a.say("It needs --confirm: %s.", b)
			}
			return nil
		}}
	f := release.Flags()
	f.StringVar(&of, "for", "", "organisation, partner:ID, step:CAUSE, or a guest's address; everything where absent")
	f.StringVar(&when, "from", "", "from this day or moment on; else after the days that guests are told ahead")
	f.BoolVar(&steps, "steps", false, "only that steps are carried out")
	f.BoolVar(&mail, "mail", false, "only that mail about them is sent")
	f.BoolVar(&confirm, "confirm", false, "although it is sooner, or more at once, than the brake lets")
	f.BoolVar(&preview, "preview", false, "say what it would set going, and do nothing")
	whyFlag(release, &why)
	var liftWhy string
	lift := &cobra.Command{
		Use:   "lift",
		Short: "Release steps that were held because there are too many for one day",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.LiftBrake(c.Context(), contract.LiftBrakeJSONRequestBody{Why: liftWhy})
			var x contract.DatesHeld
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(x, []string{"records", "messages"}, [][]string{{fmt.Sprint(x.Records), fmt.Sprint(x.Mail)}})
			}
			a.say("Let go: %s and %s.", counted.Of(x.Records, "record", "records"), counted.Of(x.Mail, "message", "messages"))
			return nil
		},
	}
	whyFlag(lift, &liftWhy)
	c.AddCommand(release, lift)
	return c
}

func waits(moment string) string {
	if moment == "never" {
		return "waits"
	}
	return day(moment)
}

func (a *app) mend() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use:     "mend KIND ID",
		Short:   "Repair a record that cannot be read: rewrite it without forbidden characters",
		Args:    cobra.ExactArgs(2),
		Example: "  wexillum mend letter oskelund-20261120",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.MendRecord(c.Context(), contract.MendRecordJSONRequestBody{Kind: args[0], Id: args[1], Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("%s %s can be read again.", args[0], args[1])
			return nil
		},
	}
	whyFlag(c, &why)
	return c
}

package cli

import (
	"errors"
	"fmt"
	"sort"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

func (a *app) invite() *cobra.Command {
	var b contract.Invitation
	var list, into, role, purpose, text, landing, sponsor, as, until, language, location, licence string
	var preview bool
	c := &cobra.Command{Use: "invite [ADDRESS…]", Short: "Invite one address or a list, with a result for each address",
		Long:    "Invite one address or a list into the directory, a space, a group, or to a single item.\n\n--preview tells what it would open, what is narrower, and what becomes of each\naddress, and sends nothing.",
		Example: "  wexillum guest invite maren@ilvane.example --into space:loan-dossier --role view --purpose \"the loan\" --preview\n  wexillum guest invite --list volunteers.txt --into space:low-water-design --purpose \"helping out\"",
		RunE: func(c *cobra.Command, args []string) error {
			addresses, err := a.addresses(args, list)
			if err != nil {
				return err
			}
			b = contract.Invitation{List: addresses}
			if strings.TrimSpace(b.List) == "" {
				return usage{errors.New("say whom to invite: addresses, or --list FILE")}
			}
			if !preview && strings.TrimSpace(purpose) == "" {
				return usage{errors.New("say what they are invited for: give --purpose")}
			}
			b.Into, b.Purpose, b.Text, b.Landing, b.Sponsor, b.As, b.Until, b.Language, b.Location, b.Licence = optional(
				into,
			), optional(
				purpose,
			), optional(
				text,
			), optional(
				landing,
			), optional(
				sponsor,
			), optional(
				as,
			), optional(
				until,
			), optional(
				language,
			), optional(
				location,
			), optional(
				licence,
			)
			if role != "" {
				x := contract.InvitationRole(role)
				b.Role = &x
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.Invite(c.Context(), &contract.InviteParams{Preview: &preview}, b)
			var x contract.Invited
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.invited(&x, preview)
		}}
	f := c.Flags()
	f.StringVar(&list, "list", "", "a file of addresses, one a line or between commas; - is standard input")
	f.StringVar(&into, "into", "", "directory, space:ID, group:ID, or an item as folder:ID")
	f.StringVar(&role, "role", "", "view, contribute or manage, on a space or an item")
	f.StringVar(&purpose, "purpose", "", "what they are invited for")
	f.StringVar(&text, "text", "", "own words of welcome")
	f.StringVar(&landing, "landing", "", "where they go once they have accepted")
	f.StringVar(&sponsor, "sponsor", "", "the person of ours who answers for them; absent, whoever invites")
	f.StringVar(&as, "as", "", "the person of ours who invites")
	f.StringVar(&until, "until", "", "their end: a day, or days from today as +90d")
	f.StringVar(&language, "language", "", "en or pt")
	f.StringVar(&location, "location", "", "where they are, where a licence needs it")
	f.StringVar(&licence, "licence", "", "none, ours or theirs")
	f.BoolVar(&preview, "preview", false, "say what would become of it, and send nothing")
	_ = c.RegisterFlagCompletionFunc("into", a.completion("resource"))
	_ = c.RegisterFlagCompletionFunc("sponsor", a.completion("person"))
	return c
}

// outcomes are the rows of what became of each address.
func outcomes(lines []contract.InvitedLine, preview bool) (columns []string, rows [][]string) {
	for i := range lines {
		l := &lines[i]
		what := string(l.Check.Verdict)
		if l.Done != nil {
			what = string(*l.Done)
			if preview {
				what = "would be " + what
			}
		}
		why := pick(l.Check.Reason)
		for _, k := range l.Check.Causes {
			why = strings.TrimSpace(why + " " + k.Text)
		}
		who := pick(l.Check.Address)
		if who == "" {
			who = l.Check.Text
		}
		rows = append(rows, []string{strconv.Itoa(l.Check.Line), who, what, why, pick(l.Check.Next)})
	}
	return []string{"line", "address", "outcome", "because", "next"}, rows
}

// opens tells what something would open.
func (a *app) opens(list []contract.InvitationOpens) {
	for i := range list {
		o := &list[i]
		if o.Of == "bearer" {
			a.printf("It would open %s for whoever holds it:\n", counted.Of(o.Opened, "thing", "things"))
		} else {
			a.printf("It would open %s in spaces and %s of things besides for %s (%d like it, %s):\n", counted.Of(o.Opened, "thing", "things"),
				counted.Of(o.Wide, "kind", "kinds"), o.Who, o.Count, o.Of)
		}
		n := 0
		for k := range o.Lines {
			l := &o.Lines[k]
			if l.Change != "opened" && l.Change != "otherwise" {
				continue
			}
			if n++; n > 12 {
				continue
			}
			name := pick(l.Name)
			if name == "" {
				name = l.Resource
			}
			a.printf("  + %-24s %s\n", l.Action, name)
		}
		if n > 12 {
			a.printf("  … and %d more; -o json tells all, and what stays closed.\n", n-12)
		}
		if len(o.Steps) > 0 {
			a.printf("and then:\n")
			a.stepLines(o.Steps)
		}
		a.printf("\n")
	}
}

func (a *app) invited(x *contract.Invited, preview bool) error {
	columns, rows := outcomes(x.Lines, preview)
	var status error
	if x.Counts["invited"]+x.Counts["given"] == 0 {
		status = exit(statusNo)
	}
	if a.output != "table" {
		if err := a.records(x, columns, rows); err != nil {
			return err
		}
		return status
	}
	a.opens(x.Opens)
	for _, n := range x.Narrower {
		a.printf("narrower: %s (%d): --into %s --role %s%s\n", n.Text, n.Opened, n.Into, n.Role, ifText(pick(n.Until), " --until "))
	}
	if t := pick(x.Residual); t != "" {
		a.printf("%s\n", t)
	}
	if x.Mail != nil {
		a.printf("They would read:\n\n  %s\n  %s\n\n", x.Mail.Subject, strings.ReplaceAll(strings.TrimSpace(x.Mail.Text), "\n", "\n  "))
	}
	for _, m := range x.Missing {
		a.printf("missing: %s\n", m)
	}
	if len(x.Opens) > 0 {
		a.printf("\n")
	}
	a.table(columns, rows)
	var said []string
	for k, n := range x.Counts {
		said = append(said, fmt.Sprintf("%d %s", n, k))
	}
	sort.Strings(said)
	word := "In all: "
	if preview {
		word = "Nothing was sent. It would be: "
	}
	a.say("%s%s, as %s, who answers for them: %s.", word, strings.Join(said, ", "), x.As, x.Sponsor)
	return status
}

func ifText(s, before string) string {
	if s == "" {
		return ""
	}
	return before + s
}

var doNames = map[string]contract.GuestChangeDo{
	"extend":       "extend",
	"suspend":      "suspend",
	"back":         "bring_back",
	"end":          "end",
	"remove":       "remove",
	"end-grant":    "end_grant",
	"confirm":      "confirm",
	"hand-over":    "hand_over",
	"set":          "describe",
	"invite-again": "invite_again",
	"remind":       "remind",
}

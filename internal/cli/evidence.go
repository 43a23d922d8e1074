package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
	"wexillum.example/internal/evidence"
)

func (a *app) evidence() *cobra.Command {
	c := &cobra.Command{Use: "evidence", Short: "Records of what somebody outside could do at a moment, signed, for auditors"}
	c.AddCommand(a.evidenceMake(), a.evidenceList(), a.evidenceShow(), a.evidencePlan(), a.evidencePlans(), a.evidenceEnd(), a.evidenceSave(),
		a.evidenceSheet(), a.evidenceVerify(), a.evidenceDiff(), a.evidenceSign())
	return c
}

var evidenceColumns = []string{"record", "of", "about", "parties", "lines", "signed off", "still to sign"}

func evidenceRow(x *contract.Evidence) []string {
	var by []string
	for _, s := range x.SignedOff {
		by = append(by, s.By)
	}
	return []string{x.Id, day(x.At), x.Says, fmt.Sprint(x.Parties), fmt.Sprint(x.Lines), strings.Join(by, ", "), strings.Join(x.Open, ", ")}
}

func (a *app) evidenceMake() *cobra.Command {
	var party, action, resource, at, why string
	var must []string
	c := &cobra.Command{Use: "make", Short: "Make a record of reach: signed, and taken into the journal", Args: cobra.NoArgs,
		Example: "  wexillum evidence make --party partner:ilvane --resource space:loan-dossier --sign-off lantern --why \"the loan ends\"",
		RunE: func(c *cobra.Command, _ []string) error {
			if strings.TrimSpace(why) == "" {
				return usage{errors.New("a record is for something: give --why")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			body := contract.MakeEvidenceJSONRequestBody{Party: optional(party), Action: optional(action), Resource: optional(resource),
				At: optional(at), Why: why}
			if len(must) > 0 {
				body.SignOff = &must
			}
			resp, err := r.MakeEvidence(c.Context(), body)
			var x contract.Evidence
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printEvidence(&x)
		}}
	f := c.Flags()
	f.StringVar(&party, "party", "", "of whom: everybody where it is left out, an address, partner:ID, domain:NAME, kind:KIND or group:ID")
	f.StringVar(&action, "action", "", "an action, a service as files.*, or all where it is left out")
	f.StringVar(&resource, "resource", "", "kind:id, of which a space is meant with all in it; everything where it is left out")
	f.StringVar(&at, "at", "", "a date or a moment of the past; now where it is left out")
	f.StringSliceVar(&must, "sign-off", nil, "accounts that must sign it off; several with commas")
	f.StringVar(&why, "why", "", "what the record is for")
	return c
}

func (a *app) printEvidence(x *contract.Evidence) error {
	if a.output != "table" {
		return a.records(x, evidenceColumns, [][]string{evidenceRow(x)})
	}
	a.printf("%s  %s\n\n", a.colour("1", "Record "+x.Id), x.Says)
	line := func(what, says string) {
		if says != "" {
			a.printf("  %-13s %s\n", what, says)
		}
	}
	line("of", x.At)
	line("made", x.Made+" by "+x.By+": "+x.Why)
	line("policy", fmt.Sprintf("revision %d; change %d of the journal holds the record", x.Revision, x.Change))
	line("digest", x.Digest)
	line("reach", counted.Of(x.Parties, "known party or link", "known parties and links")+", "+
		counted.Of(x.Newcomers, "typical newcomer", "typical newcomers")+", "+counted.Of(x.Lines, "line", "lines"))
	for _, t := range x.Trials {
		line("trials", t.About+": "+t.Says)
	}
	for _, t := range x.Reviews {
		line("review", t.About+": "+t.Says)
	}
	line("not looked at", strings.Join(x.NotLookedAt, "; "))
	for _, s := range x.SignedOff {
		line("signed off", s.By+", "+day(s.At)+"  "+pick(s.Note))
	}
	line("still to sign", strings.Join(x.Open, ", "))
	if len(x.Totals) > 0 {
		a.printf("\n")
		rows := [][]string{}
		for _, t := range x.Totals {
			rows = append(rows, []string{t.Action, fmt.Sprint(t.Parties), fmt.Sprint(t.Pairs)})
		}
		a.table([]string{"action", "parties", "times"}, rows)
	}
	return nil
}

func (a *app) evidenceList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "Records of reach, the newest first", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ListEvidence(c.Context())
			var x struct{ Records []contract.Evidence }
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i := range x.Records {
				rows = append(rows, evidenceRow(&x.Records[i]))
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("There is no record yet. Make one: wexillum evidence make --why \"the year ends\"")
				return nil
			}
			return a.records(x.Records, evidenceColumns, rows)
		}}
}

func (a *app) evidenceShow() *cobra.Command {
	return &cobra.Command{Use: "show RECORD", Short: "What a record states", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetEvidence(c.Context(), args[0])
			var x contract.Evidence
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printEvidence(&x)
		}}
}

func (a *app) evidenceSave() *cobra.Command {
	return &cobra.Command{Use: "save RECORD FILE", Short: "Write a record into a file that can be verified without the service",
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EvidenceArchive(c.Context(), args[0])
			if err != nil || resp.StatusCode >= 400 {
				return r.read(resp, err, nil)
			}
			return a.keepFile(args[1], resp.Body, fmt.Sprintf("The record %s is in %s.", args[0], args[1]))
		}}
}

// evidencePlan has a record made again and again.
func (a *app) evidencePlan() *cobra.Command {
	var body contract.PlanEvidenceJSONRequestBody
	var party, action, resource string
	var must []string
	c := &cobra.Command{Use: "plan", Short: "Have a record of reach made every so many days, the first within a minute", Args: cobra.NoArgs,
		Example: "  wexillum evidence plan --every 90 --party partner:ilvane --sign-off lantern --why \"the lender asks every quarter\"",
		RunE: func(c *cobra.Command, _ []string) error {
			if strings.TrimSpace(body.Why) == "" || body.Every < 1 {
				return usage{errors.New("say how often and what for: give --every, in days, and --why")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			if body.Party, body.Action, body.Resource = optional(party), optional(action), optional(resource); len(must) > 0 {
				body.SignOff = &must
			}
			resp, err := r.PlanEvidence(c.Context(), body)
			var x contract.EvidencePlan
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.records(x, planColumns, [][]string{planRow(&x)})
		}}
	f := c.Flags()
	f.IntVar(&body.Every, "every", 0, "days from one record to the next, 1 to 366")
	f.StringVar(&party, "party", "", "of whom: everybody where it is left out, an address, partner:ID, domain:NAME, kind:KIND or group:ID")
	f.StringVar(&action, "action", "", "an action, a service as files.*, or all where it is left out")
	f.StringVar(&resource, "resource", "", "kind:id, of which a space is meant with all in it; everything where it is left out")
	f.StringSliceVar(&must, "sign-off", nil, "accounts that must sign each off; several with commas")
	f.StringVar(&body.Why, "why", "", "what the records are for")
	return c
}

var planColumns = []string{"plan", "every", "what is recorded", "next", "last", "problem"}

func planRow(x *contract.EvidencePlan) []string {
	return []string{x.Id, counted.Of(x.Every, "day", "days"), x.Says, day(x.Next), pick(x.Last), pick(x.Problem)}
}

func (a *app) evidencePlans() *cobra.Command {
	return &cobra.Command{Use: "plans", Short: "Records that are made again and again, the next first", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ListEvidencePlans(c.Context())
			var x struct {
				Plans []contract.EvidencePlan `json:"plans"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i := range x.Plans {
				rows = append(rows, planRow(&x.Plans[i]))
			}
			return a.records(x.Plans, planColumns, rows)
		}}
}

func (a *app) evidenceEnd() *cobra.Command {
	var why string
	c := &cobra.Command{Use: "end PLAN", Short: "Have no more records made of a plan; those that were made stay", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EndEvidencePlan(c.Context(), args[0], &contract.EndEvidencePlanParams{Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("No more records are made of the plan %s.", args[0])
			return nil
		}}
	c.Flags().StringVar(&why, "why", "", "the reason")
	return c
}

// evidenceSheet writes a record for people, as the name of the file says.
func (a *app) evidenceSheet() *cobra.Command {
	return &cobra.Command{Use: "sheet RECORD FILE", Short: "Write a record for people: FILE.pdf or FILE.html", Args: cobra.ExactArgs(2),
		Example: "  wexillum evidence sheet 2026-11-30-k3v9ab record.pdf",
		RunE: func(c *cobra.Command, args []string) error {
			form := contract.EvidenceSheetParamsForm(strings.TrimPrefix(filepath.Ext(args[1]), "."))
			if form != contract.EvidenceSheetParamsFormPdf && form != contract.EvidenceSheetParamsFormHtml {
				return usage{fmt.Errorf("%q: name a file that ends in .pdf or .html", args[1])}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.EvidenceSheet(c.Context(), args[0], &contract.EvidenceSheetParams{Form: &form})
			if err != nil || resp.StatusCode >= 400 {
				return r.read(resp, err, nil)
			}
			return a.keepFile(args[1], resp.Body, fmt.Sprintf("The sheet of the record %s is in %s.", args[0], args[1]))
		}}
}

// keepFile writes what comes into a new file, and says so.
func (a *app) keepFile(name string, from io.ReadCloser, says string) error {
	defer from.Close()
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, from)
	if err = errors.Join(err, f.Close()); err != nil {
		_ = os.Remove(name)
		return err
	}
	a.say("%s", says)
	return nil
}

// verified says what was verified; not all of it is status 3.
func (a *app) verified(says string, checks []evidence.Check) error {
	ok := true
	rows := [][]string{}
	for _, c := range checks {
		ok = ok && c.OK
		rows = append(rows, []string{map[bool]string{true: "▲ as signed", false: "▼ NOT"}[c.OK], c.What, c.Says})
	}
	if a.output == "table" {
		a.printf("%s\n\n", says)
	}
	if err := a.records(checks, []string{"", "part", "what was found"}, rows); err != nil {
		return err
	}
	if !ok {
		return exit(statusNo)
	}
	return nil
}

func (a *app) evidenceVerify() *cobra.Command {
	var keys []string
	c := &cobra.Command{Use: "verify RECORD|FILE", Short: "Verify a record: of the service, or a file alone", Args: cobra.ExactArgs(1),
		Long:    "Verify a record: every part against what was signed, the names, the signature by the\nkey that was in force, and the journal. A file needs no service; name the thumbprint\nof a key that you know to be theirs with --key.\n\nExit status 3: something is not as it was signed.",
		Example: "  wexillum evidence verify record.zip --key 2Vh…\n  wexillum evidence verify 2026-11-30-k3v9ab",
		RunE: func(c *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err == nil {
				defer f.Close()
				info, err := f.Stat()
				if err != nil {
					return err
				}
				m, checks, err := evidence.Verify(f, info.Size(), keys, nil)
				if err != nil {
					return err
				}
				return a.verified(fmt.Sprintf("Record %s of %s, made %s by %s: %s", m.Record, m.Organisation, m.Made, m.By, m.Says), checks)
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.VerifyEvidence(c.Context(), args[0])
			var x contract.Verified
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			var checks []evidence.Check
			for _, v := range x.Checks {
				checks = append(checks, evidence.Check{What: v.What, OK: v.Ok, Says: v.Says})
			}
			return a.verified("Record "+args[0], checks)
		}}
	c.Flags().StringSliceVar(&keys, "key", nil, "thumbprints (RFC 7638) of keys that are known to be theirs")
	return c
}

func (a *app) evidenceDiff() *cobra.Command {
	return &cobra.Command{Use: "diff RECORD|FILE RECORD|FILE", Short: "What a later record says otherwise, line by line",
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			out := []contract.EvidenceDiffers{}
			var files [2]*evidence.Source
			for i, name := range args {
				f, err := os.Open(name)
				if err != nil {
					continue
				}
				defer f.Close()
				info, err := f.Stat()
				if err != nil {
					return err
				}
				if files[i], _, err = evidence.Opened(f, info.Size()); err != nil {
					return err
				}
			}
			switch {
			case files[0] != nil && files[1] != nil:
				list, err := evidence.Difference(files[0], files[1])
				if err != nil {
					return err
				}
				for _, d := range list {
					out = append(out, contract.EvidenceDiffers{Change: contract.EvidenceDiffersChange(d.Change), Party: d.Party, Action: d.Action,
						Resource: d.Resource, Was: optional(d.Was), Becomes: optional(d.Becomes)})
				}
			case files[0] != nil || files[1] != nil:
				return usage{errors.New("compare two files, or two records of the service")}
			default:
				r, err := a.remote()
				if err != nil {
					return err
				}
				resp, err := r.EvidenceDifference(c.Context(), args[0], &contract.EvidenceDifferenceParams{To: args[1]})
				var x struct{ Lines []contract.EvidenceDiffers }
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				out = x.Lines
			}
			if len(out) == 0 && a.output == "table" {
				a.say("They say the same.")
				return nil
			}
			rows := [][]string{}
			for i := range out {
				d := &out[i]
				mark := map[contract.EvidenceDiffersChange]string{"gained": "+ gained", "lost": "− lost", "otherwise": "~ otherwise"}[d.Change]
				rows = append(rows, []string{mark, d.Party, d.Action, d.Resource, pick(d.Was), pick(d.Becomes)})
			}
			return a.records(out, []string{"change", "party", "action", "about", "was", "becomes"}, rows)
		}}
}

func (a *app) evidenceSign() *cobra.Command {
	var note string
	c := &cobra.Command{Use: "sign RECORD", Short: "Sign a record off: say that you have looked at it; your password is asked for again",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			password, err := a.password()
			if err != nil {
				return err
			}
			resp, err := r.SignOffEvidence(c.Context(), args[0], contract.SignOffEvidenceJSONRequestBody{Password: password, Note: optional(note)})
			var x contract.Evidence
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printEvidence(&x)
		}}
	c.Flags().StringVar(&note, "note", "", "what you have to say of it")
	return c
}

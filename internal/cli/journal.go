package cli

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/event"
)

func (a *app) journal() *cobra.Command {
	var kind, id, who, about string
	var limit int
	c := &cobra.Command{
		Use:   "journal",
		Short: "Who changed what, when, from what to what, and why",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.JournalParams{Limit: &limit}
			for _, f := range []struct {
				v  *string
				at **string
			}{{&kind, &p.Kind}, {&id, &p.Id}, {&who, &p.Who}, {&about, &p.About}} {
				if *f.v != "" {
					*f.at = f.v
				}
			}
			resp, err := r.Journal(c.Context(), p)
			var x struct {
				Entries []contract.JournalEntry `json:"entries"`
				Next    string                  `json:"next"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, e := range x.Entries {
				what := difference(pick(e.Was), pick(e.Now))
				switch e.Kind {
				case "draft":
					what = ofDraft(pick(e.Was), pick(e.Now))
				case "step":
					what = ofStep(pick(e.Now))
				case "system_setting":
					what = ofSetting(pick(e.Was), pick(e.Now))
				case "system_record":
					what = ofRecord(what, pick(e.Was), pick(e.Now))
				case "sign_in":
					what = ofSignIn(pick(e.Now))
				case "sessions":
					what = "signed out everywhere"
				case "noticed":
					what = ofNoticed(pick(e.Was), pick(e.Now))
				}
				rows = append(rows, []string{fmt.Sprint(e.Seq), e.At.Format("2006-01-02 15:04:05"), e.Who, e.Kind, e.Id, what, e.Why})
			}
			return a.records(x.Entries, []string{"no", "at", "who", "kind", "id", "change", "why"}, rows)
		},
	}
	f := c.Flags()
	f.StringVar(&kind, "kind", "", "only this kind: "+strings.Join(event.Kinds, ", "))
	f.StringVar(&id, "id", "", "only what has this id")
	f.StringVar(&who, "who", "", "only what this account did")
	f.StringVar(&about, "about", "", "only what is about a guest's address: record, grants, steps, requests")
	f.IntVar(&limit, "limit", 50, "how many entries, the newest first")
	var kept string
	verify := &cobra.Command{
		Use:   "verify",
		Short: "Check that nothing in the journal was altered, left out or added",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			params := &contract.VerifyJournalParams{}
			var seal *keptSeal
			if kept != "" {
				if seal, err = readSeal(kept); err != nil {
					return err
				}
				params.Seq, params.Seal = &seal.Seq, &seal.Seal
			}
			resp, err := r.VerifyJournal(c.Context(), params)
			var x struct {
				Kept     *bool   `json:"kept,omitempty"`
				Whole    bool    `json:"whole"`
				Entries  int64   `json:"entries"`
				BrokenAt *int64  `json:"broken_at,omitempty"`
				Reason   *string `json:"reason,omitempty"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output == "table" {
				if x.Whole {
					a.say("All %d entries are as they were written.", x.Entries)
				} else {
					a.say("Broken at entry %d: %s. The %d entries before it hold.", *x.BrokenAt, pick(x.Reason), x.Entries)
				}
			} else if err := a.records(x, []string{"whole", "entries", "reason"},
				[][]string{{fmt.Sprint(x.Whole), fmt.Sprint(x.Entries), pick(x.Reason)}}); err != nil {
				return err
			}
			lost := x.Kept != nil && !*x.Kept
			if a.output == "table" && seal != nil {
				at := moment.Of(time.Unix(seal.Issued, 0)).String()
				if lost {
					a.say("▼ It does not have the seal that was kept on %s, of entry %d: what stands before it was written anew since.", day(at), seal.Seq)
				} else {
					a.say("It has the seal that was kept on %s, of entry %d.", day(at), seal.Seq)
				}
			}
			if !x.Whole || lost {
				return exit(statusNo)
			}
			return nil
		},
	}
	verify.Flags().StringVar(&kept, "kept", "", "a file with a seal that was kept elsewhere (journal seal): it has to be in the journal still")
	c.AddCommand(verify, a.journalSeal(), a.journalUndo())
	return c
}

// ofDraft says of a draft what became of it, from what to what; what it changes is told by draft
// show.
func ofDraft(was, now string) string {
	type draft struct {
		Name, State string
		Published   uint64
		Edits       []json.RawMessage
	}
	var a, b draft
	if json.Unmarshal([]byte(now), &b) != nil || was != "" && json.Unmarshal([]byte(was), &a) != nil {
		return "changed"
	}
	if b.Published > 0 {
		b.State = fmt.Sprintf("published as revision %d", b.Published)
	}
	if was == "" {
		return fmt.Sprintf("%s, %s, edits: %d", b.Name, b.State, len(b.Edits))
	}
	from := func(x, y string) string {
		if x == y {
			return y
		}
		return x + " → " + y
	}
	return fmt.Sprintf("%s, %s, edits: %s", b.Name, from(a.State, b.State), from(fmt.Sprint(len(a.Edits)), fmt.Sprint(len(b.Edits))))
}

// ofSignIn says who came in, how and from where, or was refused.
func ofSignIn(doc string) string {
	var m map[string]string
	if json.Unmarshal([]byte(doc), &m) != nil {
		return "signed in"
	}
	out := "was refused"
	if m["result"] == "in" {
		out = "signed in"
	}
	if m["way"] != "" {
		out += ", " + m["way"]
	}
	if m["from"] != "" {
		out += ", from " + m["from"]
	}
	return out
}

// ofSetting says how the setting of a system stood, and how it stands.
func ofSetting(was, now string) string {
	type doc struct {
		State string `json:"state"`
		Drift *struct {
			Found string `json:"found"`
		} `json:"drift"`
	}
	read := func(text string) string {
		var d doc
		switch {
		case text == "" || json.Unmarshal([]byte(text), &d) != nil:
			return ""
		case d.Drift != nil:
			return "changed there"
		}
		return strings.ReplaceAll(d.State, "_", " ")
	}
	a, b := read(was), read(now)
	if a == "" || a == b {
		return b
	}
	return a + " → " + b
}

// ofRecord says how a record of a system is to stand there, or stands now.
func ofRecord(difference, was, now string) string {
	switch {
	case was == "" && now == "":
		return ""
	case now == "":
		return "not there; it was " + whole(was)
	case was == "":
		return "there: " + whole(now)
	case was == now:
		return "let be: " + whole(now)
	}
	return difference
}

// ofNoticed says what a finding that came says, or said before it went.
func ofNoticed(was, now string) string {
	var x struct {
		Cause      string
		Came, Gone int
	}
	switch {
	case now == "" && json.Unmarshal([]byte(was), &x) == nil:
		return "no longer: " + x.Cause
	case json.Unmarshal([]byte(now), &x) != nil:
		return "changed"
	case x.Came+x.Gone > 0:
		return fmt.Sprintf("%d came, %d went", x.Came, x.Gone)
	}
	return "noticed: " + x.Cause
}

// ofStep says what was carried out, and when it was due.
func ofStep(doc string) string {
	var m map[string]string
	if json.Unmarshal([]byte(doc), &m) != nil {
		return "made"
	}
	out := strings.ReplaceAll(m["kind"], "_", " ") + ", due " + m["at"]
	if m["resource"] != "" {
		out += ": " + m["role"] + " on " + m["resource"]
	}
	return out
}

// difference says in short what changed between two docs.
func difference(was, now string) string {
	switch {
	case was == "" && now == "":
		return ""
	case was == "":
		return strings.TrimSuffix("made: "+whole(now), ": ")
	case now == "":
		return strings.TrimSuffix("removed; it was "+whole(was), "; it was ")
	}
	var a, b map[string]any
	if json.Unmarshal([]byte(was), &a) != nil || json.Unmarshal([]byte(now), &b) != nil {
		return "changed"
	}
	var out []string
	keys := map[string]bool{}
	for k := range a {
		keys[k] = true
	}
	for k := range b {
		keys[k] = true
	}
	for k := range keys {
		x, y := flat(a[k]), flat(b[k])
		if x != y {
			out = append(out, fmt.Sprintf("%s: %s → %s", k, x, y))
		}
	}
	sortStrings(out)
	return strings.Join(out, "; ")
}

// whole tells every field of a doc.
func whole(doc string) string {
	var m map[string]any
	if json.Unmarshal([]byte(doc), &m) != nil {
		return ""
	}
	var out []string
	for k, v := range m {
		out = append(out, k+": "+flat(v))
	}
	sortStrings(out)
	return strings.Join(out, "; ")
}

func flat(v any) string {
	if v == nil {
		return "–"
	}
	if s, ok := v.(string); ok {
		return s
	}
	b, _ := json.Marshal(v)
	return string(b)
}

// keptSeal is what a signed seal of the journal says.
type keptSeal struct {
	Issued int64  `json:"iat"`
	Seq    int64  `json:"seq"`
	Seal   string `json:"seal"`
}

// readSeal reads a seal from a file. Whoever kept it vouches for it; whose it is says the signature, which the keys at
// /.well-known/wexillum-keys verify.
func readSeal(path string) (*keptSeal, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	parts := strings.Split(strings.TrimSpace(string(text)), ".")
	x := &keptSeal{}
	if len(parts) == 3 {
		payload, err := base64.RawURLEncoding.DecodeString(parts[1])
		if err == nil && json.Unmarshal(payload, x) == nil && x.Seq > 0 && len(x.Seal) == 64 {
			return x, nil
		}
	}
	return nil, fmt.Errorf("%s holds no seal of the journal; wexillum journal seal > FILE writes one", path)
}

func (a *app) journalSeal() *cobra.Command {
	return &cobra.Command{Use: "seal",
		Short: "The seal of the last entry, signed: kept elsewhere, it shows whether the journal is written anew", Args: cobra.NoArgs,
		Example: "  wexillum journal seal > seal.jws, and later wexillum journal verify --kept seal.jws",
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.JournalSeal(c.Context())
			var x struct {
				Seal string `json:"seal"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(&x, []string{"seal"}, [][]string{{x.Seal}})
			}
			a.printf("%s\n", x.Seal)
			return nil
		}}
}

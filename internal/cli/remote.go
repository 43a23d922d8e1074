package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/client"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// signedIn is what wexillum login keeps, readable by its owner alone.
type signedIn struct {
	Server string `json:"server"`
	Name   string `json:"name"`
	Token  string `json:"token"`
}

func sessionFile() (string, error) {
	if f := os.Getenv("WEXILLUM_SESSION"); f != "" {
		return f, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no place to keep the sign-in: %w; name a file in WEXILLUM_SESSION", err)
	}
	return filepath.Join(dir, "wexillum", "session.json"), nil
}

func readSession() (s signedIn) {
	if f, err := sessionFile(); err == nil {
		if b, err := os.ReadFile(f); err == nil {
			_ = json.Unmarshal(b, &s)
		}
	}
	return
}

// problemError is a problem that the service answered with.
type problemError struct {
	contract.Problem
	server string
}

func (e *problemError) Error() string {
	text := e.Title
	if d := pick(e.Detail); d != "" {
		text += ": " + d
	}
	if e.Errors != nil {
		for _, x := range *e.Errors {
			text += fmt.Sprintf("\n  line %d, column %d: %s", x.Line, x.Column, x.Message)
		}
	}
	switch e.Status {
	case 401:
		text += "\nsign in with: wexillum login --server " + e.server
	case 412:
		text += "\nlook at the present state, then repeat the command"
	case 503:
		text += "\ntry again in a moment"
	}
	return text
}

func (e *problemError) wrongUse() bool { return strings.HasSuffix(e.Type, "/wrong-use") }

// remote is the service behind the client.
type remote struct {
	*client.Client
	server string
}

func (a *app) address() (server, token string) {
	kept := readSession()
	server = a.server
	if server == "" {
		server = os.Getenv("WEXILLUM_SERVER")
	}
	if server == "" {
		server = kept.Server
	}
	if server == "" {
		server = "http://127.0.0.1:8470"
	}
	server = strings.TrimRight(server, "/")
	token = os.Getenv("WEXILLUM_TOKEN")
	if token == "" && kept.Server == server {
		token = kept.Token
	}
	return
}

func (a *app) remote() (*remote, error) {
	server, token := a.address()
	u, err := url.Parse(server)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, usage{fmt.Errorf("--server %q: write an address as https://wexillum.example", server)}
	}
	c, err := client.NewClient(server, client.WithHTTPClient(&http.Client{Timeout: 10 * time.Minute, Transport: &quickly{a, server, token, http.DefaultTransport}}))
	return &remote{c, server}, err
}

// read takes an answer apart: into where all went well, else the problem.
func (r *remote) read(resp *http.Response, err error, into any) error {
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) && !errors.Is(err, context.Canceled) {
			return fmt.Errorf("the service at %s does not answer: %w\nstart it with wexillum serve, or name another with --server", r.server, u.Err)
		}
		return err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return fmt.Errorf("the answer of the service at %s was cut off: %w", r.server, err)
	}
	if resp.StatusCode >= 400 {
		p := &problemError{server: r.server}
		if json.Unmarshal(body, &p.Problem) != nil || p.Title == "" {
			p.Title, p.Status = fmt.Sprintf("the service at %s answered %s", r.server, resp.Status), resp.StatusCode
		}
		return p
	}
	if len(body) == 0 && into != nil && (resp.StatusCode == http.StatusOK || resp.StatusCode == http.StatusCreated) {
		return fmt.Errorf("the service at %s answered %s and nothing else; look whether it was done", r.server, resp.Status)
	}
	if into == nil || len(body) == 0 {
		return nil
	}
	if b, ok := into.(*[]byte); ok {
		*b = body
		return nil
	}
	if err := json.Unmarshal(body, into); err != nil {
		return fmt.Errorf("the service at %s answered something else than expected: %w", r.server, err)
	}
	return nil
}

// offline reads a world file for questions without a service.
func (a *app) offline() (*engine.Snapshot, moment.Moment, error) {
	now := moment.Of(time.Now())
	text, err := os.ReadFile(a.world)
	if err != nil {
		return nil, now, err
	}
	w, err := worldfile.Read(text, worldfile.Options{File: a.world, Now: now})
	if err != nil {
		return nil, now, err
	}
	return engine.Of(world.Merge(&world.World{}, w)), now, nil
}

func (a *app) login() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use:   "login",
		Short: "Sign in and keep a token that ends after twelve hours",
		Long:  "Sign in and keep a token that ends after twelve hours.\n\nThe password is asked for, or read from WEXILLUM_PASSWORD or, where there is no\nterminal, from standard input.",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if name == "" {
				return usage{errors.New("--name is needed: the name of your account")}
			}
			password, err := a.password()
			if err != nil {
				return err
			}
			resp, err := r.MakeToken(c.Context(), contract.MakeTokenJSONRequestBody{Name: name, Password: password})
			var t contract.NewToken
			if err := r.read(resp, err, &t); err != nil {
				return err
			}
			file, err := sessionFile()
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
				return err
			}
			b, err := json.Marshal(signedIn{r.server, name, t.Token})
			if err != nil {
				return err
			}
			if err := writePrivate(file, b); err != nil {
				return err
			}
			a.say("Signed in to %s as %s until %s.", r.server, name, t.Expires.Local().Format("2006-01-02 15:04"))
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "name of the account")
	return c
}

// writePrivate replaces a file by one that only its owner can read.
func writePrivate(file string, b []byte) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".session-*") // made with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if _, err := f.Write(b); err != nil {
		_ = f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return os.Rename(f.Name(), file)
}

func (a *app) password() (string, error) {
	if p := os.Getenv("WEXILLUM_PASSWORD"); p != "" {
		return p, nil
	}
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.err, "Password: ")
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	b, err := io.ReadAll(io.LimitReader(a.in, 1000))
	if err != nil {
		return "", err
	}
	p, _, _ := strings.Cut(string(b), "\n") // what follows is not the password's
	p = strings.TrimRight(p, "\r")
	if p == "" {
		return "", usage{errors.New("a password is needed: type it, or set WEXILLUM_PASSWORD")}
	}
	return p, nil
}

// twoPasswords reads the password that counts now and a new one.
func (a *app) twoPasswords() (old, next string, err error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		ask := func(what string) string {
			fmt.Fprint(a.err, what+": ")
			var b []byte
			if err == nil {
				b, err = term.ReadPassword(int(f.Fd()))
			}
			fmt.Fprintln(a.err)
			return string(b)
		}
		old, next = ask("Your password now"), ask("Your new password")
		if again := ask("Your new password once more"); err == nil && again != next {
			err = usage{errors.New("the two new passwords differ; nothing was changed")}
		}
		return
	}
	b, err := io.ReadAll(io.LimitReader(a.in, 1000))
	if err != nil {
		return "", "", err
	}
	lines := strings.Split(strings.ReplaceAll(string(b), "\r\n", "\n"), "\n")
	if len(lines) < 2 || lines[0] == "" || lines[1] == "" {
		return "", "", usage{errors.New("two lines are needed: the password that counts now, and the new one")}
	}
	return lines[0], lines[1], nil
}

func (a *app) logout() *cobra.Command {
	everywhere := false
	c := &cobra.Command{
		Use:   "logout",
		Short: "End the token that login kept",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			kept := readSession()
			file, err := sessionFile()
			if err != nil {
				return err
			}
			if kept.Token == "" {
				a.say("Nobody is signed in.")
				return nil
			}
			a.server = kept.Server
			r, err := a.remote()
			if err != nil {
				return err
			}
			var list struct{ Tokens []contract.Token }
			if everywhere {
				resp, err := r.EndOwnSessions(c.Context())
				if err := r.read(resp, err, nil); err != nil {
					return err
				}
			} else if resp, err := r.ListTokens(c.Context()); r.read(resp, err, &list) == nil {
				for _, t := range list.Tokens {
					if t.Account == kept.Name && t.Purpose == "client" {
						resp, err := r.EndToken(c.Context(), t.Id)
						_ = r.read(resp, err, nil)
					}
				}
			}
			if err := os.Remove(file); err != nil {
				return err
			}
			if everywhere {
				a.say("Signed out of %s everywhere.", kept.Server)
				return nil
			}
			a.say("Signed out of %s.", kept.Server)
			return nil
		},
	}
	c.Flags().BoolVar(&everywhere, "everywhere", false, "end every session and every token of your account, wherever they are")
	return c
}

// completion asks the service for ids that a text may mean.
func (a *app) completion(kind string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
		r, err := a.remote()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ctx, cancel := context.WithTimeout(c.Context(), 2*time.Second)
		defer cancel()
		p := &contract.CompleteParams{Kind: contract.CompleteParamsKind(kind), Q: &text}
		if kind == "resource" && len(args) > 1 {
			p.Action = &args[1]
		}
		resp, err := r.Complete(ctx, p)
		var list struct{ Items []contract.Suggestion }
		if r.read(resp, err, &list) != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, s := range list.Items {
			if strings.HasPrefix(s.Value, text) {
				out = append(out, s.Value+"\t"+s.Label)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *app) ask() *cobra.Command {
	var at string
	var with []string
	var all bool
	var sup supposed
	var rem remedies
	c := &cobra.Command{
		Use:   "ask WHO ACTION RESOURCE",
		Short: "Ask whether somebody may do something: the decision and every gate",
		Long: `Ask whether somebody may do something: the decision and every gate.

WHO is an address, person:ID, link:ID, or *@domain for a typical newcomer from
there. RESOURCE is kind:id. Some actions need more, as --context address=….

With --would-grant, --would-join, --would-bundle, --would-invite or --would-link,
it lists instead everything that this would open and is not there yet; ACTION and
RESOURCE may then be left out.

Exit status 0 is yes, 3 is no, 2 a question that makes no sense.`,
		Example: "  wexillum ask h.brannoch@oskelund.example --would-invite --would-grant space:docent-course=view\n  wexillum ask maren.holtveig@ilvane.example files.open folder:loan-valuations\n  wexillum ask person:t.wrayburn directory.invite space:docent-course --context address=h.brannoch@oskelund.example",
		Args: func(c *cobra.Command, args []string) error {
			if sup.any() {
				return cobra.MaximumNArgs(3)(c, args)
			}
			return cobra.ExactArgs(3)(c, args)
		},
		RunE: func(c *cobra.Command, args []string) error {
			if sup.any() {
				return a.would(c, &sup, at, all, args)
			}
			q := contract.Question{Subject: args[0], Action: args[1], Resource: args[2]}
			if at != "" {
				q.At = &at
			}
			qc, err := questionContext(with)
			if err != nil {
				return err
			}
			q.Context = qc
			var x contract.Answer
			if a.world != "" {
				if x, err = a.askFile(q); err != nil {
					return err
				}
			} else {
				r, err := a.remote()
				if err != nil {
					return err
				}
				resp, err := r.Ask(c.Context(), q)
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
			}
			no := x.Decision != contract.AnswerDecisionYes
			if rem.take > 0 && no {
				return a.remedy(c, &rem, q)
			}
			if !rem.show || a.output == "table" {
				if err := a.printAnswer(&x, all); err != nil {
					return err
				}
			}
			if rem.show {
				if err := a.remedy(c, &rem, q); err != nil {
					return err
				}
			}
			if no {
				return exit(statusNo)
			}
			return nil
		},
		ValidArgsFunction: func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 2 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return a.completion([]string{"who", "action", "resource"}[len(args)])(c, args, text)
		},
	}
	c.Flags().StringVar(&at, "at", "", "a date, a moment, or days from today as +3d; now where absent")
	c.Flags().StringArrayVar(&with, "context", nil, "address=…, presenter=…, account=record|home|link, keep_copy=yes|no")
	sup.flags(c)
	rem.flags(c)
	c.Flags().BoolVarP(&all, "all", "a", false, "also the causes of gates that pass, and every account with its chains")
	return c
}

func questionContext(with []string) (*contract.QuestionContext, error) {
	if len(with) == 0 {
		return nil, nil
	}
	out := &contract.QuestionContext{}
	for _, w := range with {
		k, v, ok := splitPair(w)
		switch {
		case !ok:
			return nil, usage{fmt.Errorf("--context %q: write key=value", w)}
		case k == "address":
			out.Address = &v
		case k == "presenter":
			out.Presenter = &v
		case k == "account":
			acc := contract.QuestionContextAccount(v)
			out.Account = &acc
		case k == "keep_copy" && (v == "yes" || v == "no"):
			b := v == "yes"
			out.KeepCopy = &b
		case k == "keep_copy":
			return nil, usage{fmt.Errorf("--context keep_copy=%q: write yes or no", v)}
		default:
			return nil, usage{fmt.Errorf("--context %q: there are address, presenter, account and keep_copy", k)}
		}
	}
	return out, nil
}

func (a *app) askFile(q contract.Question) (x contract.Answer, err error) {
	s, now, err := a.offline()
	if err != nil {
		return x, err
	}
	question := q
	eq, err := answer.Question(&question, s, now)
	if err != nil {
		return x, err
	}
	found, err := s.Explain(&eq)
	if err != nil {
		return x, err
	}
	return answer.Of(s, found, 0), nil
}

// The marks of a gate's answer; the words say the same.
var gateMarks = map[contract.GateAnswer]string{contract.Pass: "▲ pass", contract.Refuse: "▼ REFUSE", contract.NotAsked: "· not asked"}

func (a *app) printAnswer(x *contract.Answer, all bool) error {
	if a.output != "table" {
		rows := [][]string{}
		for _, acc := range x.Accounts {
			for _, g := range acc.Gates {
				for _, c := range g.Causes {
					rows = append(rows, []string{acc.Account, string(acc.Decision), g.Gate, string(g.Answer), c.Code, string(c.Side), pick(c.Who), c.Text, pick(c.Next)})
				}
				if len(g.Causes) == 0 {
					rows = append(rows, []string{acc.Account, string(acc.Decision), g.Gate, string(g.Answer), "", "", "", "", ""})
				}
			}
		}
		return a.records(x, []string{"account", "decision", "gate", "answer", "code", "side", "who", "text", "next"}, rows)
	}
	who := x.Subject
	if n := pick(x.Name); n != "" {
		who = n + " <" + x.Subject + ">"
	}
	what := x.Resource
	if n := pick(x.ResourceName); n != "" {
		what = n + " (" + x.Resource + ")"
	}
	word, may := a.colour("1;31", "NO "), "may not"
	if x.Decision == contract.AnswerDecisionYes {
		word, may = a.colour("1;32", "YES"), "may"
	}
	a.printf("%s  %s, %s, %s %s: %s\n", word, clean(who), x.Kind, may, pick(x.ActionTitle), clean(what))
	if about := pick(x.Address); about != "" {
		a.printf("     about %s\n", clean(about))
	}
	a.printf("     %s at %s, acting with %s", x.Action, seconds(x.At), accountWord(x.Account))
	if len(x.Conditions) > 0 {
		a.printf(", on condition: %s", strings.Join(x.Conditions, ", "))
	}
	a.printf("\n\n")
	a.printGates(x.Gates, all)
	if len(x.Accounts) > 1 {
		a.printf("\n")
		for _, acc := range x.Accounts[1:] {
			a.printf("With %s: %s", accountWord(acc.Account), acc.Decision)
			if acc.Decision == contract.AccountAnswerDecisionYes && len(acc.Conditions) > 0 {
				a.printf(" (%s)", strings.Join(acc.Conditions, ", "))
			}
			a.printf("\n")
			if acc.Decision == contract.AccountAnswerDecisionNo || all {
				a.printGates(acc.Gates, all)
			}
		}
	}
	return nil
}

// seconds cuts a moment to what people read.
func seconds(at string) string {
	whole, _, cut := strings.Cut(at, ".")
	if cut {
		return whole + "Z"
	}
	return at
}

func accountWord(acc string) string {
	switch acc {
	case "record":
		return "the record with us"
	case "home":
		return "the home account"
	case "link":
		return "the link"
	}
	return "the own account"
}

func (a *app) printGates(gates []contract.Gate, all bool) {
	for _, g := range gates {
		mark := gateMarks[g.Answer]
		switch g.Answer {
		case contract.Refuse:
			mark = a.colour("31", mark)
		case contract.Pass:
			mark = a.colour("32", mark)
		}
		a.printf("  %-12s %s\n", g.Gate, mark)
		for _, c := range g.Causes {
			if !c.Refuses && !all {
				continue
			}
			whose := string(c.Side)
			if w := pick(c.Who); w != "" {
				whose += ", " + w
			}
			a.printf("  %-12s   %s\n", "", wrap(c.Text+" ["+whose+"]", 17, a.width()))
			if n := pick(c.Next); n != "" {
				a.printf("  %-12s   → %s\n", "", wrap(n, 19, a.width()))
			}
			if c.Chain != nil && (all || c.Refuses) {
				var steps []string
				for _, s := range *c.Chain {
					t := string(s.Layer)
					if w := pick(s.Where); w != "" {
						t += " " + w
					}
					if v := pick(s.Value); v != "" {
						t += " " + v
					} else {
						t += " –"
					}
					if h := pick(s.Held); h != "" {
						t += " (held back: " + h + ")"
					}
					if s.Decides != nil && *s.Decides {
						t += " ◂"
					}
					steps = append(steps, t)
				}
				a.printf("  %-12s     %s: %s\n", "", pick(c.Rule), wrap(strings.Join(steps, " · "), 19, a.width()))
			}
		}
	}
}

// together puts lines of a reach into one where service, resource, decision and
// cause are the same: the actions are listed by their verbs.
func together(lines []contract.ReachLine) (rows [][]string) {
	at := map[string]int{}
	for _, l := range lines {
		verb := strings.TrimPrefix(l.Action, l.Service+".")
		row := []string{resourceText(l.Resource, l.Count), map[contract.ReachLineDecision]string{contract.ReachLineDecisionYes: "▲ yes", contract.ReachLineDecisionNo: "▼ no"}[l.Decision], l.Service + ": " + verb, strings.Join(l.Conditions, ", "), day(pick(l.Until)), l.Cause.Text}
		if l.Residual != nil && *l.Residual {
			row[5] += " (residual risk)"
		}
		key := strings.Join([]string{l.Service, row[0], row[1], row[3], row[4], row[5]}, "\x00")
		if i, ok := at[key]; ok {
			rows[i][2] += ", " + verb
			continue
		}
		at[key] = len(rows)
		rows = append(rows, row)
	}
	return
}

func (a *app) reach() *cobra.Command {
	var at, only, partner, group, kind, find, file string
	var everybody, numbers bool
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
			if len(words) == 1 {
				return a.boardOf(c, words[0], find, at, file)
			}
			var x contract.Reach
			if a.world != "" {
				s, now, err := a.offline()
				if err != nil {
					return err
				}
				who, err := engine.ParseWho(args[0])
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
				rows = append(rows, []string{l.Action, what, string(l.Decision), strings.Join(l.Conditions, ", "), day(pick(l.Since)), day(pick(l.Until)), l.Cause.Text})
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
					a.printf("The first of it is lost at %s.\n", day(f))
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
	f.StringVar(&partner, "partner", "", "each of a partner's people, and a typical newcomer from each of its domains")
	f.StringVar(&group, "group", "", "the parties in a group")
	f.BoolVar(&numbers, "numbers", false, "what everybody outside can do in numbers alone, by kind, partner, space and action, exact at any size")
	f.StringVar(&kind, "kind", "", "everybody of a kind: guest, provisioned, federated, personal or bearer")
	f.BoolVar(&everybody, "everybody", false, "everybody outside")
	f.StringVar(&find, "find", "", "of many only those whose address, name or partner holds this")
	f.StringVar(&file, "report", "", "also write a page that prints into this file")
	_ = c.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	c.Flags().StringVar(&only, "only", "", "only lines that are yes, or no")
	return c
}

func (a *app) load() *cobra.Command {
	var why, csvOf, scimOf, columns string
	var preview, confirm, restore, older bool
	c := &cobra.Command{
		Use:   "load FILE",
		Short: "Load a world file, all or nothing; - is standard input",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var text []byte
			var err error
			if args[0] == "-" {
				text, err = io.ReadAll(a.in)
			} else {
				text, err = os.ReadFile(args[0])
			}
			if err != nil {
				return err
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			if csvOf != "" || scimOf != "" {
				return a.loadList(c.Context(), r, csvOf, scimOf, columns, why, preview, text)
			}
			p := &contract.LoadParams{Preview: &preview, Confirm: &confirm, Restore: &restore, Older: &older}
			if args[0] != "-" {
				p.File = optional(filepath.Base(args[0]))
			}
			if why != "" {
				p.Why = &why
			}
			resp, err := r.LoadWithBody(c.Context(), p, "application/yaml", bytes.NewReader(text))
			var x contract.Loaded
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output == "table" {
				verb := "changed"
				if x.Preview {
					verb = "would change"
				}
				if x.Changed == 0 {
					a.say("Nothing %s: all of it is there already.", verb)
					return nil
				}
				a.say("%d records %s; revision %d.", x.Changed, verb, x.Revision)
				if x.Odd != nil {
					a.say("Taken although this version refuses it; it admits nobody:")
					for _, o := range *x.Odd {
						a.say("  %s", o)
					}
				}
				a.setsGoing(x.Going, x.Waits)
				return nil
			}
			return a.records(x, []string{"changed", "revision", "preview"}, [][]string{{fmt.Sprint(x.Changed), fmt.Sprint(x.Revision), fmt.Sprint(x.Preview)}})
		},
	}
	c.Flags().StringVar(&why, "why", "", "the reason that the journal keeps")
	c.Flags().BoolVar(&preview, "preview", false, "say what would change, and change nothing")
	c.Flags().BoolVar(&confirm, "confirm", false, "although its dates let more records go at once than the brake lets")
	c.Flags().BoolVar(&restore, "restore", false, "it is a dump of this installation: its dates go on as the file has them")
	c.Flags().BoolVar(&older, "older", false, "it is a dump of an earlier version: take what is refused now, and list it")
	c.Flags().StringVar(&csvOf, "csv", "", "the file is CSV of guests, grants, links, spaces or people")
	c.Flags().StringVar(&scimOf, "scim", "", "the file is a SCIM list response of guests")
	c.Flags().StringVar(&columns, "map", "", "with --csv: which column of the file is which of ours, as mail=address,who=name")
	return c
}

// loadList takes in a list; what is wrong is told line by line.
func (a *app) loadList(ctx context.Context, r *remote, csvOf, scimOf, columns, why string, preview bool, text []byte) error {
	if csvOf != "" && scimOf != "" {
		return usage{errors.New("a file is CSV or SCIM; give one of --csv and --scim")}
	}
	what, kind, flag := csvOf, "text/csv", "--csv"
	if scimOf != "" {
		what, kind, flag = scimOf, "application/scim+json", "--scim"
	}
	if lists := []string{"guests", "grants", "links", "spaces", "people"}; !slices.Contains(lists, what) {
		return usage{fmt.Errorf("%s %q: write %s", flag, what, strings.Join(lists, ", "))}
	}
	resp, err := r.PutListWithBody(ctx, what, &contract.PutListParams{Preview: &preview, Map: optional(columns), Why: optional(why)}, kind, bytes.NewReader(text))
	var x contract.ListTaken
	if err := r.read(resp, err, &x); err != nil {
		return err
	}
	rows := [][]string{}
	for _, e := range x.Errors {
		rows = append(rows, []string{strconv.Itoa(e.Line), pick(e.Column), pick(e.Value), e.Text})
	}
	if a.output != "table" {
		if err := a.records(x, []string{"line", "column", "value", "error"}, rows); err != nil {
			return err
		}
	} else {
		if x.Ignored != nil && len(*x.Ignored) > 0 {
			a.say("Columns that are none of ours: %s; --map THEIRS=OURS says which they are.", strings.Join(*x.Ignored, ", "))
		}
		if len(rows) > 0 {
			a.table([]string{"line", "column", "value", "error"}, rows)
		} else {
			verb := "taken in"
			if preview {
				verb = "read; nothing was changed. It would be"
			}
			a.say("%d lines %s: %d new, %d changed, %d the same.", x.Lines, verb, x.Added, x.Changed, x.Same)
			a.setsGoing(x.Going, x.Waits)
		}
	}
	if len(x.Errors) > 0 {
		return fmt.Errorf("%d of %d lines are wrong; nothing was taken in", len(x.Errors), x.Lines)
	}
	return nil
}

func (a *app) dump() *cobra.Command {
	var sections []string
	var csvOf, scimOf string
	c := &cobra.Command{
		Use:   "dump",
		Short: "Write policy and inventory as a world file",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			if csvOf != "" || scimOf != "" {
				p, what := &contract.GetListParams{}, csvOf
				if scimOf != "" {
					f := contract.GetListParamsFormat("scim")
					p.Format, what = &f, scimOf
				}
				resp, err := r.GetList(c.Context(), what, p)
				var text []byte
				if err := r.read(resp, err, &text); err != nil {
					return err
				}
				_, err = a.out.Write(text)
				return err
			}
			p := &contract.DumpParams{}
			if len(sections) > 0 {
				p.Section = &sections
			}
			resp, err := r.Dump(c.Context(), p)
			var text []byte
			if err := r.read(resp, err, &text); err != nil {
				return err
			}
			if a.output == "json" {
				if text, err = yaml.YAMLToJSON(text); err != nil {
					return err
				}
			}
			_, err = a.out.Write(text)
			return err
		},
	}
	c.Flags().StringVar(&csvOf, "csv", "", "instead CSV of guests, grants, links, spaces or people")
	c.Flags().StringVar(&scimOf, "scim", "", "instead a SCIM list response of guests")
	c.Flags().StringSliceVar(&sections, "section", nil, "only these sections: "+strings.Join(worldfile.Sections, ", "))
	return c
}

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
				case "sign_in":
					what = ofSignIn(pick(e.Now))
				case "sessions":
					what = "signed out everywhere"
				}
				rows = append(rows, []string{fmt.Sprint(e.Seq), e.At.Format("2006-01-02 15:04:05"), e.Who, e.Kind, e.Id, what, e.Why})
			}
			return a.records(x, []string{"no", "at", "who", "kind", "id", "change", "why"}, rows)
		},
	}
	f := c.Flags()
	f.StringVar(&kind, "kind", "", "only this kind: rule, partner, bar, guest, grant, account …")
	f.StringVar(&id, "id", "", "only what has this id")
	f.StringVar(&who, "who", "", "only what this account did")
	f.StringVar(&about, "about", "", "only what is about a guest's address: record, grants, steps, requests")
	f.IntVar(&limit, "limit", 50, "how many entries, the newest first")
	verify := &cobra.Command{
		Use:   "verify",
		Short: "Check that nothing in the journal was altered, left out or added",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.VerifyJournal(c.Context())
			var x struct {
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
			} else if err := a.records(x, []string{"whole", "entries", "reason"}, [][]string{{fmt.Sprint(x.Whole), fmt.Sprint(x.Entries), pick(x.Reason)}}); err != nil {
				return err
			}
			if !x.Whole {
				return exit(statusNo)
			}
			return nil
		},
	}
	c.AddCommand(verify)
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

package cli

import (
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

const systemIntro = "The servers that carry the suite: what they hold, what is meant, and where the two differ.\n\nA system that is added is looked at: it is read every few minutes, and nothing is written\nthere. Carried, it is made to hold what is published, with what tightens first."

// numbersOf writes what differs for whom.
func numbersOf(c contract.Counted) string {
	if c == (contract.Counted{}) {
		return "–"
	}
	var out []string
	add := func(n int, one, many string) {
		if n == 1 {
			out = append(out, "1 "+one)
		} else if n > 1 {
			out = append(out, fmt.Sprint(n, " ", many))
		}
	}
	add(c.Granted, "granted action", "granted actions")
	add(c.Wide, "action without a role", "actions without a role")
	add(c.Newcomers, "typical newcomer", "typical newcomers")
	return strings.Join(out, ", ")
}

// settingState says how a setting stands, in words.
func settingState(s *contract.SystemSetting) string {
	switch {
	case !s.There:
		return "not there"
	case s.Drift != nil && s.Drift.Accepted != nil:
		return "changed there, accepted until " + day(*s.Drift.Accepted)
	case s.Drift != nil:
		return "changed there, found " + clock(s.Drift.Since)
	case s.State != nil:
		switch string(*s.State) {
		case "waiting":
			return "waits to be written"
		case "sent":
			return "is being written"
		case "settling":
			if s.Counts != nil {
				return "written, expected to count " + clock(*s.Counts)
			}
			return "written; when it counts is not known"
		case "confirmed":
			return "confirmed " + clock(pick(s.Confirmed))
		case "failed":
			return "failed: " + pick(s.Problem)
		case "by_hand":
			return "to be changed there by hand"
		case "differs":
			if p := pick(s.Problem); p != "" {
				return "differs: " + p
			}
		}
	}
	if s.Found != nil && *s.Found == s.Meant {
		return "as meant"
	}
	return "differs"
}

// clock writes a moment to the minute.
func clock(m string) string {
	return strings.TrimSuffix(strings.Replace(m[:min(len(m), 16)], "T", " ", 1), " ")
}

func (a *app) printSystem(v *contract.SystemView) error {
	if a.output != "table" {
		return a.records(v, nil, nil)
	}
	mode := map[string]string{"look": "looked at: nothing is written there", "carry": "carried: it is made to hold what is meant",
		"paused": "paused: neither read nor written"}[string(v.Mode)]
	a.printf("%s  (%s)\n", v.Name, v.Title)
	a.printf("  %s; read %s, every %d min", mode, cmp.Or(clock(pick(v.Read)), "never"), v.Minutes)
	if v.PutBack == "beyond" {
		a.printf("; what is loosened there is put back by itself")
	}
	a.printf("\n")
	if p := pick(v.Problem); p != "" {
		a.printf("  The last try failed: %s\n", p)
	}
	if v.Many != nil {
		a.printf("  So many of its records stand otherwise that it is not counted who gains and who loses.\n")
	}
	a.printf("  lets through what is refused here   %s\n", numbersOf(v.Beyond))
	a.printf("  refuses what is a yes here          %s\n", numbersOf(v.Short))
	a.printf("  cannot be told for sure             %s\n\n", numbersOf(v.Unsure))
	rows, sets, right := [][]string{}, [][]string{}, 0
	for i := range v.Settings {
		s := &v.Settings[i]
		switch {
		case s.Set == nil:
			rows = append(rows, []string{s.Path, s.RuleTitle, s.Meant, pick(s.Found), settingState(s)})
		case s.State != nil && *s.State == "confirmed" && s.Drift == nil && len(v.Settings) > 40:
			right++
		default:
			sets = append(sets, []string{strings.TrimPrefix(s.Title, "Set of values for "), s.Path, cmp.Or(pick(s.MeantOwn), "none"),
				cmp.Or(pick(s.FoundOwn), "none"), settingState(s)})
		}
	}
	var asks []string
	for _, x := range v.Asks {
		if x.On {
			asks = append(asks, x.RuleTitle)
		} else {
			a.printf("  It does not ask about “%s”, though it could.\n", x.RuleTitle)
		}
	}
	if len(asks) > 0 {
		a.printf("  It asks Wexillum each time, so that what is published counts at once, about: %s.\n", strings.Join(asks, "; "))
	}
	if len(rows) > 0 || len(asks) == 0 {
		if err := a.records(v, []string{"setting", "carries", "meant", "found", "state"}, rows); err != nil {
			return err
		}
	}
	if len(sets) > 0 {
		a.printf("\nSets of values of their own, and what in them differs from the general ones:\n")
		if err := a.records(v, []string{"for", "setting", "meant", "found", "state"}, sets); err != nil {
			return err
		}
	}
	if right > 0 {
		a.printf("  %d more sets are as meant.\n", right)
	}
	a.printKinds(v)
	for _, u := range v.Unread {
		a.printf("  not looked at: %s (%s): %s\n", u.Path, u.Rule, u.Why)
	}
	if len(v.Extra) > 0 {
		var names []string
		for _, e := range v.Extra {
			names = append(names, fmt.Sprintf("%s is %q", e.Path, e.Value))
		}
		a.printf("  It has settings that carry no rule here: %s.\n", strings.Join(names, ", "))
	}
	return nil
}

func (a *app) system() *cobra.Command {
	c := &cobra.Command{Use: "system", Short: "The servers of the suite: what they hold, what is meant, what differs", Long: systemIntro}
	get := func(c *cobra.Command, r *remote, id string) (*contract.SystemView, error) {
		resp, err := r.System(c.Context(), id)
		var v contract.SystemView
		return &v, r.read(resp, err, &v)
	}
	answer := func(r *remote, resp *http.Response, err error) error {
		var v contract.SystemView
		if err := r.read(resp, err, &v); err != nil {
			return err
		}
		return a.printSystem(&v)
	}
	on := func(use, short, long, example string, n int, run func(c *cobra.Command, r *remote, args []string) error) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Long: long, Example: example, Args: cobra.ExactArgs(n),
			RunE: func(c *cobra.Command, args []string) error {
				r, err := a.remote()
				if err != nil {
					return err
				}
				return run(c, r, args)
			}}
	}
	list := on("list", "Every system, and where it differs from what is meant", "", "", 0,
		func(c *cobra.Command, r *remote, _ []string) error {
			resp, err := r.Systems(c.Context())
			var x struct {
				Systems     []contract.SystemView `json:"systems"`
				NotLookedAt []string              `json:"not_looked_at"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i := range x.Systems {
				v := &x.Systems[i]
				state := fmt.Sprintf("%d differ", v.Differ)
				if v.Drift > 0 {
					state += fmt.Sprintf(", %d changed there", v.Drift)
				}
				if v.Open > 0 {
					state += fmt.Sprintf(", %d on their way", v.Open)
				}
				if v.Differ+v.Open == 0 {
					state = "as meant"
				}
				if p := pick(v.Problem); p != "" {
					state = "not reached: " + p
				}
				rows = append(rows, []string{v.Id, strings.Join(v.Services, ", "), string(v.Mode), clock(pick(v.Read)), state, numbersOf(v.Beyond),
					numbersOf(v.Short)})
			}
			if err := a.records(x.Systems, []string{"system", "carries", "mode", "read", "settings", "lets through besides", "refuses besides"},
				rows); err != nil {
				return err
			}
			if a.output == "table" && len(x.NotLookedAt) > 0 {
				a.say("Not looked at: %s.", strings.Join(x.NotLookedAt, ", "))
			}
			return nil
		})
	show := on("show SYSTEM", "A system, setting by setting: what is meant, what was found", "", "  wexillum system show parley", 1,
		func(c *cobra.Command, r *remote, args []string) error {
			v, err := get(c, r, args[0])
			if err != nil {
				return err
			}
			return a.printSystem(v)
		})
	var x contract.NewSystem
	var why string
	var preview bool
	var minutes int
	add := on("add ID", "Add a system: it is reached, read, and from then on looked at", systemIntro,
		"  wexillum system add quay --name \"The harbour's files\" --dialect quay --address https://quay.ours.example --key file:/etc/wexillum/quay.key --why \"the suite is to follow\"", 1,
		func(c *cobra.Command, r *remote, args []string) error {
			x.Id = args[0]
			if x.Name == "" {
				x.Name = args[0]
			}
			if c.Flags().Changed("minutes") {
				x.Minutes = &minutes
			}
			x.Why = optional(why)
			resp, err := r.AddSystem(c.Context(), &contract.AddSystemParams{Preview: &preview}, x)
			return answer(r, resp, err)
		})
	f := add.Flags()
	f.StringVar(&x.Name, "name", "", "what it is called")
	f.StringVar(&x.Dialect, "dialect", "", "what kind of system it is: see wexillum system kinds")
	f.StringVar(&x.Address, "address", "", "its address, as https://quay.ours.example")
	f.StringVar(&x.Key, "key", "", "where its key is, on the service's machine: file:PATH or env:NAME")
	f.IntVar(&minutes, "minutes", 5, "minutes from the end of one reading to the next")
	f.BoolVar(&preview, "preview", false, "read it once and keep nothing")
	for _, name := range []string{"dialect", "address", "key"} {
		_ = add.MarkFlagRequired(name)
	}
	whyFlag(add, &why)
	read := on("read SYSTEM", "Read a system now, and compare", "", "", 1, func(c *cobra.Command, r *remote, args []string) error {
		resp, err := r.ReadSystem(c.Context(), args[0])
		return answer(r, resp, err)
	})
	change := func(c *cobra.Command, r *remote, id string, b contract.SystemChange) error {
		resp, err := r.ChangeSystemWithApplicationMergePatchPlusJSONBody(c.Context(), id, b)
		return answer(r, resp, err)
	}
	carry := on("carry SYSTEM", "Have a system made to hold what is meant, now and from then on",
		"Shows first what it writes there, setting by setting, and which way each goes.", "", 1,
		func(c *cobra.Command, r *remote, args []string) error {
			v, err := get(c, r, args[0])
			if err != nil {
				return err
			}
			if v.Mode != "carry" {
				a.say("Carrying %s writes %d settings and records there:", v.Name, v.Write)
				for i := range v.Settings {
					if s := &v.Settings[i]; s.Found != nil && *s.Found != s.Meant && s.Turn != nil && *s.Turn != "same" {
						hand := ""
						if s.ByHand {
							hand = ", by hand in its own console"
						}
						a.say("  %s: %q becomes %q; this %s%s", s.Path, *s.Found, s.Meant, *s.Turn, hand)
					}
				}
				for _, k := range v.Kinds {
					if k.Differ+k.Drift > 0 {
						a.say("  %s: %d are written; see wexillum system records %s %s", k.Name, k.Differ+k.Drift, v.Id, k.Kind)
					}
				}
				if !a.yes && !a.confirmed("Write them, and what is published from now on?") {
					return errors.New("nothing was changed")
				}
			}
			mode := contract.SystemChangeMode("carry")
			return change(c, r, args[0], contract.SystemChange{Mode: &mode, Digest: &v.Digest, Why: why})
		})
	whyFlag(carry, &why)
	_ = carry.MarkFlagRequired("why")
	mode := func(name, short string) *cobra.Command {
		m := on(name+" SYSTEM", short, "", "", 1, func(c *cobra.Command, r *remote, args []string) error {
			to := contract.SystemChangeMode(map[string]string{"look": "look", "pause": "paused"}[name])
			return change(c, r, args[0], contract.SystemChange{Mode: &to, Why: why})
		})
		whyFlag(m, &why)
		_ = m.MarkFlagRequired("why")
		return m
	}
	var name, address, key, back, nightly string
	var describe bool
	var sources []string
	var brake int
	alter := on("set SYSTEM", "Change what a system is called, where it is, how often it is read, what is put back by itself", "",
		"  wexillum system set parley --put-back beyond --why \"nobody loosens it unasked\"", 1,
		func(c *cobra.Command, r *remote, args []string) error {
			b := contract.SystemChange{Why: why, Name: optional(name), Address: optional(address), Key: optional(key)}
			if c.Flags().Changed("minutes") {
				b.Minutes = &minutes
			}
			if describe {
				b.Describe = &describe
			}
			if nightly != "" {
				if nightly != "yes" && nightly != "no" {
					return usage{fmt.Errorf("--nightly %q: write yes or no", nightly)}
				}
				yes := nightly == "yes"
				b.Nightly = &yes
			}
			if c.Flags().Changed("source") {
				b.Sources = &sources
				if len(sources) == 1 && sources[0] == "none" {
					b.Sources = &[]string{}
				}
			}
			if c.Flags().Changed("brake") {
				b.Brake = &brake
			}
			if back != "" {
				p := contract.SystemChangePutBack(back)
				b.PutBack = &p
			}
			return change(c, r, args[0], b)
		})
	f = alter.Flags()
	f.StringVar(&name, "name", "", "what it is called")
	f.StringVar(&address, "address", "", "its address")
	f.StringVar(&key, "key", "", "where its key is: file:PATH or env:NAME")
	f.IntVar(&minutes, "minutes", 5, "minutes from the end of one reading to the next")
	f.BoolVar(&describe, "describe", false, "take what it says now that it can hold; it is looked at until somebody carries it again")
	f.StringVar(&nightly, "nightly", "", "what can be tried there is tried every night: yes or no")
	f.StringVar(&back, "put-back", "", "what is put back by itself: no, or beyond for what was loosened there")
	f.StringSliceVar(&sources, "source", nil, "kinds of inventory that people make there, so that what is found flows in; none for nothing")
	f.IntVar(&brake, "brake", 200,
		"how many guests, grants and links may be taken away there in a day before somebody is asked; 0 for any number")
	whyFlag(alter, &why)
	_ = alter.MarkFlagRequired("why")
	decide := func(use, short, do string, until *string) *cobra.Command {
		d := on(use+" SYSTEM SETTING", short, "", "", 2, func(c *cobra.Command, r *remote, args []string) error {
			b := contract.DecideSettingJSONRequestBody{Do: contract.DecideSettingJSONBodyDo(do), Why: why}
			if until != nil {
				b.Until = until
			}
			resp, err := r.DecideSetting(c.Context(), args[0], args[1], b)
			return answer(r, resp, err)
		})
		whyFlag(d, &why)
		_ = d.MarkFlagRequired("why")
		return d
	}
	var until string
	accept := decide("accept", "Let a setting be that was changed in a system, until a day", "accept", &until)
	accept.Flags().StringVar(&until, "until", "", "until when: a day, or +7d")
	_ = accept.MarkFlagRequired("until")
	end := on("end SYSTEM", "Take a system away; what it holds stays as it is there", "", "", 1,
		func(c *cobra.Command, r *remote, args []string) error {
			resp, err := r.EndSystem(c.Context(), args[0], &contract.EndSystemParams{Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("It is gone from here; what it holds stays as it is there.")
			return nil
		})
	whyFlag(end, &why)
	_ = end.MarkFlagRequired("why")
	kinds := on("kinds [KIND]", "The kinds of system there are connectors for, and how well each can hold our rules", "", "", 0, nil)
	kinds.Args = cobra.MaximumNArgs(1)
	kinds.RunE = func(c *cobra.Command, args []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.Dialects(c.Context())
		var x struct {
			Dialects []contract.Dialect `json:"dialects"`
		}
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		rows, known := [][]string{}, false
		for _, d := range x.Dialects {
			known = known || len(args) == 1 && args[0] == d.Name
			if d.Described != nil {
				d.Title += ", as this system says of itself"
			}
			n := map[string]int{}
			for _, l := range d.Lines {
				n[string(l.Fidelity)]++
				if len(args) == 1 && args[0] == d.Name {
					rows = append(rows, []string{l.Rule, l.Layer, l.Part, string(l.Fidelity), pick(l.Path), pick(l.Says)})
				}
			}
			if len(args) == 0 {
				rows = append(rows, []string{d.Name, d.Title, strings.Join(d.Services, ", "), fmt.Sprint(n["exact"]), fmt.Sprint(n["tighter"]),
					fmt.Sprint(n["by_hand"]), fmt.Sprint(n["none"])})
			}
		}
		if len(args) == 1 {
			if !known {
				return usage{fmt.Errorf("%q is no kind of system; see wexillum system kinds", args[0])}
			}
			if len(rows) == 0 {
				a.say("What such a system can hold it says itself once it is added: wexillum system kinds SYSTEM. docs/connector.md is about writing one.")
				return nil
			}
			return a.records(x, []string{"rule", "layer", "what", "held", "setting", ""}, rows)
		}
		return a.records(x, []string{"kind", "what it is", "carries", "exact", "tighter", "by hand", "nothing"}, rows)
	}
	var partner string
	record := false
	tries := on("try SYSTEM", "Try from outside everything that can be tried at a system",
		"Attempts each action that can be tried there, once for each typical newcomer, as an address\nthat nobody has, and holds what comes of it against what was read.",
		"  wexillum system try parley --partner ilvane", 1,
		func(c *cobra.Command, r *remote, args []string) error {
			resp, err := r.TrySystem(c.Context(), args[0], contract.TrySystemJSONRequestBody{Partner: optional(partner), Record: &record})
			var x contract.Trials
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i := range x.Trials {
				t := &x.Trials[i]
				note := ""
				switch {
				case t.Contradiction != nil:
					note = "contradicts what was read"
				case t.Theirs != nil:
					note = "at their end"
				case t.Outcome == "admitted" && t.Meant == "no":
					note = "let through, and refused here"
				case t.Outcome == "refused" && t.Meant == "yes":
					note = "refused, and a yes here"
				}
				found := ""
				if t.Found != nil {
					found = string(*t.Found)
				}
				rows = append(rows, []string{cmp.Or(pick(t.Address), t.Subject), t.Action, string(t.Meant), found,
					strings.ReplaceAll(string(t.Outcome), "_", " "), pick(t.Says), note})
			}
			if err := a.records(x, []string{"who", "action", "meant", "found", "tried", "it says", ""}, rows); err != nil {
				return err
			}
			a.say("%d trials, which stand for %d (party, action, resource); %d contradict what was read.", len(x.Trials), x.StandFor,
				x.Contradictions)
			if x.Evidence != nil {
				a.say("Record of reach: wexillum evidence show %s", *x.Evidence)
			}
			if x.Contradictions > 0 {
				return exit(statusNo)
			}
			return nil
		})
	tries.Flags().StringVar(&partner, "partner", "", "only what concerns this partner")
	tries.Flags().BoolVar(&record, "record", false, "make a record of reach at the end")
	sheet := on("sheet SYSTEM", "What is to be changed there by hand: for the administrator of that system",
		"A sheet for whoever has the system's own console: what, from what to what, and how to see\nthat it worked.", "", 1,
		func(c *cobra.Command, r *remote, args []string) error {
			v, err := get(c, r, args[0])
			if err != nil {
				return err
			}
			rows, data := [][]string{}, []map[string]string{}
			for i := range v.Settings {
				s := &v.Settings[i]
				if s.Found == nil || *s.Found == s.Meant || s.Turn != nil && *s.Turn == "same" || v.Mode == "carry" && !s.ByHand {
					continue
				}
				turn := ""
				if s.Turn != nil {
					turn = string(*s.Turn)
				}
				rows = append(rows, []string{s.Title, s.Path, *s.Found, s.Meant, turn, s.RuleTitle})
				data = append(data, map[string]string{"title": s.Title, "setting": s.Path, "from": *s.Found, "to": s.Meant, "turn": turn,
					"rule": s.Rule})
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("Nothing is to be changed in %s by hand.", v.Name)
				return nil
			}
			a.say("To be changed in %s (%s), in its own console:", v.Name, v.Title)
			if err := a.records(data, []string{"there it is called", "setting", "from", "to", "this", "it carries"}, rows); err != nil {
				return err
			}
			a.say("It worked once the next reading says so: wexillum system read %s.", v.Id)
			return nil
		})
	var setting string
	over := on("take-over SYSTEM", "Make a draft of what a system holds otherwise than meant",
		"What a system holds becomes a draft of policy, in its loosest faithful reading; what of it is\nno policy is told. Nothing counts before the draft is published.",
		"  wexillum system take-over parley --setting houses", 1,
		func(c *cobra.Command, r *remote, args []string) error {
			resp, err := r.TakeOver(c.Context(), args[0], contract.TakeOverJSONRequestBody{Setting: optional(setting)})
			var x struct {
				Draft string   `json:"draft"`
				Left  []string `json:"left"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(x, nil, nil)
			}
			a.say("It is the draft %s: wexillum draft show %s, then draft publish %s.", x.Draft, x.Draft, x.Draft)
			if len(x.Left) > 0 {
				a.say("Not taken over:")
				for _, l := range x.Left {
					a.say("  %s", l)
				}
			}
			return nil
		})
	over.Flags().StringVar(&setting, "setting", "", "only this setting, as it is called there")
	c.AddCommand(a.systemConform(), a.systemRecords(), a.systemRecord(), tries, sheet, over, list, show, add, read, carry,
		mode("look", "Only look at a system from now on"), mode("pause", "Neither read nor write a system until it is looked at again"), alter,
		decide("put-back", "Put back a setting that was changed in a system", "put_back", nil), accept,
		decide("again", "Send a setting again that failed or differs", "again", nil), end, kinds)
	return c
}

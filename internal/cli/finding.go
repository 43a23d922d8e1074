package cli

import (
	"errors"
	"fmt"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
)

// findingKind is a kind of findings, with how many there are.
type findingKind struct {
	Kind     string `json:"kind"`
	Open     int    `json:"open"`
	Accepted int    `json:"accepted"`
	Means    string `json:"means"`
	Do       string `json:"do"`
}

func (a *app) finding() *cobra.Command {
	c := &cobra.Command{Use: "finding", Short: "What Wexillum noticed and somebody should decide"}
	var kind, about, state string
	var hints bool
	list := &cobra.Command{
		Use:   "list",
		Short: "Findings, each with its cause and what to do",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.findings(c, kind, about, state, hints)
			if err != nil {
				return err
			}
			rows := [][]string{}
			for _, f := range all {
				note := ""
				switch {
				case f.Gone != nil:
					note = "from " + day(pick(f.Since)) + " to " + day(*f.Gone)
				case f.Since != nil:
					note = "since " + day(*f.Since)
				}
				if f.Accepted != nil {
					note = "accepted until " + day(f.Accepted.Until)
				}
				rows = append(rows, []string{f.Kind, numbers(f.Numbers), note, f.Cause})
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("Nothing was noticed.")
				return nil
			}
			return a.records(all, []string{"kind", "concerns", "", "cause"}, rows)
		},
	}
	f := list.Flags()
	f.StringVar(&kind, "kind", "", "only this kind")
	f.StringVar(&about, "about", "", "only those about this, as space:ID or an address")
	f.StringVar(&state, "state", "open", "open, accepted, all of those, or gone")
	f.BoolVar(&hints, "hints", false, "also what is merely worth knowing")
	kinds := &cobra.Command{
		Use:   "kinds",
		Short: "Kinds of findings, how many there are, and what to do",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.findings(c, "", "", "all", true)
			if err != nil {
				return err
			}
			open, accepted := map[string]int{}, map[string]int{}
			for _, f := range all {
				if f.Accepted != nil {
					accepted[f.Kind]++
				} else {
					open[f.Kind]++
				}
			}
			rows, list := [][]string{}, []findingKind{}
			for _, k := range finding.Kinds() {
				if open[k.Name]+accepted[k.Name] > 0 {
					list = append(list, findingKind{k.Name, open[k.Name], accepted[k.Name], k.Title, k.Do})
					rows = append(rows, []string{k.Name, fmt.Sprint(open[k.Name]), fmt.Sprint(accepted[k.Name]), k.Title + ". " + k.Do})
				}
			}
			return a.records(list, []string{"kind", "open", "accepted", "what it means"}, rows)
		},
	}
	var reason, until string
	accept := &cobra.Command{Use: "accept FINDING", Short: "Accept a finding, with a reason and an end date", Args: cobra.MinimumNArgs(1),
		Example: "  wexillum finding accept forwarder_leaves mailbox:d.ekwinter dayo@homepost.example --reason \"agreed with the board\" --until +90d",
		RunE: func(c *cobra.Command, args []string) error {
			if reason == "" || until == "" {
				return usage{errors.New("--reason and --until are needed: why it may stay, and how long")}
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.AcceptFinding(c.Context(), contract.Acceptance{Id: strings.Join(args, " "), Reason: reason, Until: until})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("Accepted.")
			return nil
		}}
	accept.Flags().StringVar(&reason, "reason", "", "why it may stay as it is")
	accept.Flags().StringVar(&until, "until", "", "a date, a moment, or +90d")
	var why string
	reopen := &cobra.Command{
		Use:   "reopen FINDING",
		Short: "Withdraw an acceptance",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ReopenFinding(c.Context(), &contract.ReopenFindingParams{Id: strings.Join(args, " "), Why: optional(why)})
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("Open again.")
			return nil
		},
	}
	whyFlag(reopen, &why)
	c.AddCommand(list, kinds, accept, reopen)
	return c
}

func numbers(n map[string]int) string {
	var out []string
	for what, x := range n {
		if x > 0 {
			if x == 1 {
				what = map[string]string{"parties": "party", "people": "person", "grants": "grant", "links": "link", "values": "value"}[what]
			}
			out = append(out, fmt.Sprintf("%d %s", x, what))
		}
	}
	sort.Strings(out)
	return strings.Join(out, ", ")
}

func (a *app) findings(c *cobra.Command, kind, about, state string, hints bool) ([]contract.Finding, error) {
	if a.world != "" {
		return a.findingsFile(kind, about, hints)
	}
	r, err := a.remote()
	if err != nil {
		return nil, err
	}
	all := []contract.Finding{}
	for next := ""; ; {
		s := contract.ListFindingsParamsState(state)
		resp, err := r.ListFindings(
			c.Context(),
			&contract.ListFindingsParams{Kind: optional(kind), About: optional(about), State: &s, Hints: &hints, Cursor: optional(next)},
		)
		var x contract.Findings
		if err := r.read(resp, err, &x); err != nil {
			return nil, err
		}
		all = append(all, x.Findings...)
		if next = x.Next; next == "" {
			return all, nil
		}
	}
}

// findingsFile finds in a world file alone, where nothing is accepted.
func (a *app) findingsFile(kind, about string, hints bool) ([]contract.Finding, error) {
	w, now, err := a.fileWorld(a.world, a.with)
	if err != nil {
		return nil, err
	}
	out := []contract.Finding{}
	for _, f := range finding.Find(w, engine.Of(w), now) {
		k, _ := finding.KindByName(f.Kind)
		is := about == ""
		for _, x := range f.About {
			is = is || x == about
		}
		if !is || kind != "" && f.Kind != kind || kind == "" && k.Hint && !hints {
			continue
		}
		x := answer.Finding(&f, nil)
		out = append(out, x)
	}
	return out, nil
}

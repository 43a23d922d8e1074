package service

import (
	"context"

	"wexillum.example/internal/core/domainlist"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// Listed is what became, or would become, of a list of domains.
type Listed struct {
	Lines    []domainlist.Line
	Counts   map[domainlist.Result]int
	Concerns engine.Concerns // those whose address is taken otherwise
	Written  bool
}

// ImportDomains takes a list of domains of partners, of barred or of personal
// ones. With a refused line nothing is written, unless only the good ones are
// wanted. replace removes what is kept and stands in no line.
func (s *Service) ImportDomains(
	ctx context.Context,
	by By,
	kind domainlist.Kind,
	partner string,
	lines []domainlist.Line,
	replace, onlyGood bool,
) (Listed, error) {
	var out Listed
	preview := by.Preview
	weigh := func(now *State) (*world.World, error) {
		next, weighed, err := domainlist.Weigh(now.Policy(), kind, partner, lines, replace)
		if err != nil {
			return nil, &Invalid{"list", string(kind), err.Error()}
		}
		out = Listed{Lines: weighed, Counts: map[domainlist.Result]int{}}
		for _, l := range weighed {
			out.Counts[l.Result]++
		}
		if !preview && out.Counts[domainlist.Refused] > 0 && !onlyGood {
			return now.Policy(), nil
		}
		out.Written = !preview && out.Counts[domainlist.New]+out.Counts[domainlist.Changed]+out.Counts[domainlist.Removed] > 0
		return next, nil
	}
	w, err := s.policy(ctx, by, func(before, after *State) engine.Concerns {
		return engine.Reclassified(before.Snapshot, after.Snapshot)
	}, weigh)
	out.Concerns = w.Concerns
	return out, err
}

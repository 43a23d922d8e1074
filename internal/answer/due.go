package answer

import (
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/phrase"
)

// DueFilter picks what is due.
type DueFilter struct {
	From, Until moment.Moment
	Partner     string // id; empty for all
	Sponsor     string // a person; empty for all
}

// Known reports, as a *engine.WrongUse, a partner or a sponsor that there is not. "-" is the
// sponsor of nobody.
func (f *DueFilter) Known(s *engine.Snapshot) error {
	if _, ok := s.PartnerOf(f.Partner); f.Partner != "" && !ok {
		return &engine.WrongUse{Field: "partner", Value: f.Partner, Reason: "there is no such partner"}
	}
	if f.Sponsor != "" && f.Sponsor != "-" && !s.Has("person", f.Sponsor) {
		return &engine.WrongUse{Field: "sponsor", Value: f.Sponsor, Reason: "there is no such person"}
	}
	return nil
}

// DueOver finds what is due; since is from when on what is due is kept, moment.Always where
// nothing is.
func DueOver(s *engine.Snapshot, f DueFilter, since moment.Moment) *engine.Due {
	keep := keepOf(s, &f)
	if keep == nil && since != moment.Always {
		if d, ok := s.Ahead(f.From, f.Until, since); ok {
			return d
		}
	}
	return s.Scan(f.From, f.Until, keep)
}

// keepOf picks the records that a filter means; nil for all.
func keepOf(s *engine.Snapshot, f *DueFilter) func(uint32) bool {
	if f.Partner == "" && f.Sponsor == "" {
		return nil
	}
	partner, _ := s.PartnerOf(f.Partner)
	sponsor := *f
	return func(i uint32) bool {
		if p, ok := s.PartnerAt(i); sponsor.Partner != "" && (!ok || p != partner) {
			return false
		}
		return sponsor.Sponsor == "" || s.SponsorAt(i, sponsor.Sponsor)
	}
}

// DueSteps writes steps.
func DueSteps(s *engine.Snapshot, steps []engine.DueStep) []contract.DueStep {
	out := make([]contract.DueStep, 0, len(steps))
	for i := range steps {
		st := &steps[i]
		name, sponsor, partner := s.RecordOf(st.Party)
		x := contract.DueStep{
			At:      st.At.String(),
			Party:   st.Address.String(),
			Name:    text(name),
			Partner: text(partner),
			Sponsor: text(sponsor),
			Kind:    contract.DueStepKind(st.Kind.String()),
			What:    phrase.Step("en", st.Kind),
			Cause:   st.Cause.String(),
			Because: phrase.Because("en", &st.Step),
		}
		if st.Resource.ID != "" {
			x.Resource, x.ResourceName, x.Role = text(st.Resource.String()), text(s.NameOf(st.Resource)), text(st.Role.String())
		}
		out = append(out, x)
	}
	return out
}

// DueKinds counts steps by kind.
func DueKinds(n *[dated.NumKinds]int) map[string]int {
	out := map[string]int{}
	for k, c := range n {
		if c > 0 {
			out[dated.Kind(k).String()] = c
		}
	}
	return out
}

// DueWhole finds what is due by looking at every record, so that it is known by day.
func DueWhole(s *engine.Snapshot, f DueFilter) *engine.Due {
	return s.Scan(f.From, f.Until, keepOf(s, &f))
}

package answer

import (
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/remedy"
)

// Remedies finds what would make a question a yes; with counts ordered by what else it
// would open.
func Remedies(
	s *engine.Snapshot,
	q *engine.Question,
	until moment.Moment,
	counts bool,
	stop func() error,
) (contract.Remedies, []remedy.Option, error) {
	out := contract.Remedies{Decision: contract.RemediesDecisionNo, Options: []contract.RemedyOption{}}
	out.Hopeless = out.Hopeless[:0:0]
	options, hopeless, err := remedy.Find(s, remedy.Request{Question: *q, Until: until})
	if err != nil {
		return out, nil, err
	}
	if v, err := s.Decide(q); err == nil && v.Yes {
		out.Decision = contract.RemediesDecisionYes
	}
	var weights []remedy.Counts
	if counts {
		weights = make([]remedy.Counts, len(options))
		for i := range options {
			if weights[i], err = remedy.Weigh(s, &options[i], q.At, stop); err != nil {
				return out, nil, err
			}
		}
		remedy.Order(options, weights)
	}
	for i := range options {
		x := RemedyOption(&options[i])
		if counts {
			c := &weights[i]
			x.Counts = &contract.RemedyCounts{
				Granted:   c.Granted,
				Newcomers: c.Newcomers,
				Parties:   c.Parties,
				Until:     momentText(c.Until),
				WidePairs: c.WidePairs,
			}
			if c.Outward > 0 {
				x.Counts.Outward = &c.Outward
			}
			if len(c.NotCounted) > 0 {
				x.Counts.NotCounted = &c.NotCounted
			}
		}
		out.Options = append(out.Options, x)
	}
	type hope = struct {
		Account string `json:"account"`
		Next    string `json:"next"`
		Text    string `json:"text"`
	}
	out.Hopeless = []hope{}
	for i := range hopeless {
		h := &hopeless[i]
		out.Hopeless = append(out.Hopeless, hope{h.Account.String(), h.Cause.Next(), h.Cause.Text()})
	}
	return out, options, nil
}

// RemedyOption writes one set of changes.
func RemedyOption(o *remedy.Option) contract.RemedyOption {
	out := contract.RemedyOption{
		Id:         o.ID,
		Account:    o.Account.String(),
		Changes:    []contract.RemedyChange{},
		Conditions: o.Conditions.Names(),
	}
	for i := range o.Changes {
		c := &o.Changes[i]
		x := contract.RemedyChange{
			Kind:    string(c.Kind),
			Text:    c.Text(),
			Side:    contract.RemedyChangeSide(c.Side.String()),
			Who:     c.Who,
			Policy:  c.Policy(),
			Partner: text(c.Partner),
		}
		if c.Kind == remedy.Exceptional || c.Kind == remedy.GiveGrant {
			x.Until = momentText(c.Until)
		}
		if c.Resource.ID != "" {
			x.Resource = text(c.Resource.String())
		}
		out.Changes = append(out.Changes, x)
	}
	return out
}

package service

import (
	"context"
	"encoding/json"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// A world file holds what waits for an answer, too: bundles that are asked for, and rounds of review that are not over.

// waiting adds to a world what waits for an answer.
func (s *Service) waiting(ctx context.Context, w *world.World) error {
	if err := s.store.Naming(ctx, "request", `"bundle":{`, func(_ string, doc []byte) error {
		r, err := requestOf(doc)
		if err != nil || r.Bundle == nil || r.over() {
			return err
		}
		x, err := r.inFile()
		w.Requests = append(w.Requests, x)
		return err
	}); err != nil {
		return err
	}
	if err := s.store.Records(ctx, "round", "", func(_ string, doc []byte) error {
		var r Round
		if err := json.Unmarshal(doc, &r); err != nil || r.Closed != "" {
			return err
		}
		x := world.Round{ID: r.ID, Name: r.Name, Partner: r.Partner, Space: r.Space, Bundle: r.Bundle, State: r.State, Origin: r.Origin,
			Sponsor: r.Sponsor, Needs: r.Needs, Why: r.Why, By: r.By, Reminded: orUnset(r.Reminded)}
		var err error
		if x.Until, err = moment.Parse(r.Until); err != nil {
			return err
		}
		x.Made, err = moment.Parse(r.Made)
		w.Rounds = append(w.Rounds, x)
		return err
	}); err != nil {
		return err
	}
	for i := range w.Rounds {
		x := &w.Rounds[i]
		for {
			list, err := s.store.ReviewLines(ctx, x.ID, nil, "", len(x.Lines), 1000)
			if err != nil {
				return err
			}
			for k := range list {
				l := &list[k]
				x.Lines = append(x.Lines, world.RoundLine{Party: l.Party, Resource: l.Resource, Role: l.Role, From: l.From, Bundle: l.Bundle,
					Reviewer: l.Reviewer, State: l.State, By: l.By, At: l.At, Why: l.Why, Until: l.Until, Narrowed: l.Narrowed, Instead: l.Instead})
			}
			if len(list) == 0 {
				break
			}
		}
	}
	return nil
}

func orUnset(n int) catalogue.Value {
	if n == 0 {
		return catalogue.Unset
	}
	return catalogue.Value(n)
}

func orNone(v catalogue.Value) int {
	if v == catalogue.Unset || v == catalogue.NoLimit {
		return 0
	}
	return int(v)
}

// inFile writes a bundle that is asked for as world files have it.
func (r *Request) inFile() (x world.BundleRequest, err error) {
	b := r.Bundle
	a, err := addr.Parse(b.Address)
	if err != nil {
		return x, err
	}
	h := b.holding(a, 0)
	x = world.BundleRequest{ID: r.ID, Bundle: b.Bundle, Address: a, By: r.By, Person: r.Person, Sponsor: b.Sponsor, Language: b.Language,
		Asked: b.Asked, Said: b.Said, Purpose: r.Purpose, Until: h.Until, Less: h.Less, Never: b.Never, Reminded: orUnset(b.Reminded)}
	if x.Made, err = moment.Parse(r.Made); err != nil {
		return x, err
	}
	for _, st := range b.Steps {
		step := world.ApprovalStep{By: st.By, Who: st.Who, Given: st.Given, For: st.For}
		if st.At != "" {
			if step.At, err = moment.Parse(st.At); err != nil {
				return x, err
			}
		}
		x.Steps = append(x.Steps, step)
	}
	return x, nil
}

// requestInFile reads a bundle that is asked for from a world file.
func requestInFile(policy, part *world.World, x *world.BundleRequest) (*Request, error) {
	b := policy.Bundle(x.Bundle)
	if b == nil {
		return nil, &Invalid{"requests", x.ID, "there is no bundle " + x.Bundle}
	}
	held := slices.ContainsFunc(part.Holdings, func(h world.Holding) bool {
		return h.Party == x.Address && h.Bundle == x.Bundle &&
			h.Until > x.Made
	})
	r := &Request{ID: x.ID, By: x.By, Person: x.Person, Purpose: x.Purpose, Made: x.Made.String(), State: RequestOpen,
		Title: titleOf(b, x.Address, held), To: []string{}}
	r.Bundle = &BundleAsked{Bundle: x.Bundle, Address: x.Address.String(), Language: x.Language, Sponsor: x.Sponsor, Asked: x.Asked,
		Said: x.Said, Until: x.Until.String(), Never: x.Never, Reminded: orNone(x.Reminded)}
	for _, l := range x.Less {
		less := Less{Resource: l.Resource.String()}
		if l.Role != catalogue.NoRole {
			less.Role = l.Role.String()
		}
		r.Bundle.Less = append(r.Bundle.Less, less)
	}
	for _, st := range x.Steps {
		step := Approval{By: st.By, Who: st.Who, Given: st.Given, For: st.For}
		if st.At != 0 {
			step.At = st.At.String()
		}
		r.Bundle.Steps = append(r.Bundle.Steps, step)
	}
	step := r.Bundle.step()
	if step == nil || len(step.Who) == 0 || len(x.Asked) != len(x.Said) {
		return nil, &Invalid{"requests", x.ID, "it has an answer to every question and at least one step of approving that nobody took"}
	}
	r.To = step.Who
	return r, nil
}

// putWaiting writes what a file says of requests and rounds. Those that are here already stay as they are: they have gone on.
func putWaiting(t *store.Tx, policy, part *world.World) (wrote int, err error) {
	for i := range part.Requests {
		x := &part.Requests[i]
		if doc, err := t.Record("request", x.ID); err != nil || doc != nil {
			if err != nil {
				return wrote, err
			}
			continue
		}
		r, err := requestInFile(policy, part, x)
		if err != nil {
			return wrote, err
		}
		if err := putRequest(t, r); err != nil {
			return wrote, err
		}
		wrote++
	}
	for i := range part.Rounds {
		x := &part.Rounds[i]
		if doc, err := t.Record("round", x.ID); err != nil || doc != nil {
			if err != nil {
				return wrote, err
			}
			continue
		}
		if len(x.Lines) == 0 || x.Until == 0 {
			return wrote, &Invalid{"rounds", x.ID, "it has an end and at least one line"}
		}
		if err := putJSON(t, "round", x.ID, &Round{ID: x.ID, Name: x.Name, Partner: x.Partner, Space: x.Space, Bundle: x.Bundle,
			RoundRecords: RoundRecords{x.State, x.Origin, x.Sponsor, x.Needs}, Until: x.Until.String(), Why: x.Why, By: x.By, Made: x.Made.String(),
			Lines: len(x.Lines), Reminded: orNone(x.Reminded)}); err != nil {
			return wrote, err
		}
		lines := make([]store.ReviewLine, len(x.Lines))
		for n := range x.Lines {
			l := &x.Lines[n]
			lines[n] = store.ReviewLine{Round: x.ID, N: n + 1, Party: l.Party, Resource: l.Resource, Role: l.Role, From: l.From, Bundle: l.Bundle,
				Reviewer: l.Reviewer, State: l.State, By: l.By, At: l.At, Why: l.Why, Until: l.Until, Narrowed: l.Narrowed, Instead: l.Instead}
		}
		if err := t.AddReviewLines(lines); err != nil {
			return wrote, err
		}
		wrote++
	}
	return wrote, nil
}

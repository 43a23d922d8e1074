package service

import (
	"context"
	"errors"
	"fmt"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// AskedValue is a value of a rule at a place that somebody asks for who may not set it. An empty Value asks that
// the place say nothing of the rule.
type AskedValue struct {
	Where string `json:"where"` // as ParseWhere reads it
	Rule  string `json:"rule"`
	Value string `json:"value,omitempty"`
}

func (v *AskedValue) change() (ValueChange, error) {
	w, err := ParseWhere(v.Where)
	return ValueChange{Where: w, Rule: v.Rule, Value: v.Value}, err
}

// MaySetValue says whether somebody may set values at a place: administrators everywhere, keepers at partners,
// members in their own spaces and meetings.
func (s *State) MaySetValue(who Who, w Where) error {
	return who.SetsValue(s, w.Partner != "", w.Resource)
}

// RequestValue sends a value that somebody may not set to whoever may: the owner of the space or the host of the
// meeting, else an administrator. What nobody could set as it stands, or they may set themselves, is refused.
func (s *Service) RequestValue(ctx context.Context, who Who, v AskedValue, purpose string) (*Request, error) {
	c, err := v.change()
	if err != nil {
		return nil, err
	}
	rule, value, err := c.parse()
	if err != nil {
		return nil, err
	}
	same := func(old *Request) bool { return old.Value != nil && *old.Value == v }
	return s.askFor(ctx, who, purpose, same, func(now *State, _ *store.Tx, r *Request) error {
		if c.Where.Partner == "" && !now.Has(c.Where.Resource.Kind.String(), c.Where.Resource.ID) ||
			c.Where.Partner != "" && !now.Has("partner", c.Where.Partner) {
			return fmt.Errorf("%w: there is no %s", ErrNotFound, c.Where)
		}
		if now.MaySetValue(who, c.Where) == nil {
			return fmt.Errorf("%w: there is nothing to ask for; you may do it yourself", ErrConflict)
		}
		if who.Own() && !now.nearTo(who.Person, c.Where) {
			return fmt.Errorf("%w: members ask about spaces and meetings that they belong to", ErrForbidden)
		}
		if limit, _, _, _ := now.RuleState(rule.ID); value != catalogue.Unset && rule.Scale.Looser(value, limit) {
			return &Invalid{"value", v.Value, fmt.Sprintf("%s: it is looser than the limit, %s, which only an administrator can raise", rule.Name,
				rule.Scale.Format(limit))}
		}
		r.Value, r.Title, r.To = &v, now.valueInWords(rule, value, c.Where), []string{now.whoSets(c.Where)}
		return nil
	})
}

// nearTo reports whether a person of ours belongs to a place, or to the space of a meeting.
func (s *State) nearTo(person string, w Where) bool {
	if w.Partner != "" {
		return false
	}
	if s.BelongsTo(person, w.Resource) {
		return true
	}
	if w.Resource.Kind != catalogue.Meeting {
		return false
	}
	_, space := s.HostOf(w.Resource.ID)
	return space != "" && s.BelongsTo(person, world.Resource{Kind: catalogue.Space, ID: space})
}

// whoSets says who of ours sets values at a place: owner:ID or administrator.
func (s *State) whoSets(w Where) string {
	owner := ""
	switch {
	case w.Partner != "":
	case w.Resource.Kind == catalogue.Meeting:
		owner, _ = s.HostOf(w.Resource.ID)
	case w.Resource.Kind == catalogue.Space:
		owner = s.OwnerOf(w.Resource.ID)
	default:
		owner = s.OwnerOf(s.SpaceOf(w.Resource.ID))
	}
	if owner == "" {
		return "administrator"
	}
	return "owner:" + owner
}

// valueInWords says in a sentence what value is to be set where.
func (s *State) valueInWords(rule *catalogue.Rule, v catalogue.Value, w Where) string {
	name := s.NameOf(w.Resource)
	if w.Partner != "" {
		if p, err := s.Partner(w.Partner); err == nil {
			name = p.Name
		}
	}
	if name == "" {
		name = w.String()
	}
	if v == catalogue.Unset {
		return fmt.Sprintf("That %s say nothing of “%s”", name, rule.Title)
	}
	return fmt.Sprintf("Set “%s” to %s at %s", rule.Title, rule.Scale.Format(v), name)
}

// doValue sets the value that a request asks for, as whoever does it may set it; with preview it is weighed.
func (s *Service) doValue(ctx context.Context, who Who, r *Request, why string, preview bool) (*PlacesChanged, error) {
	c, err := r.Value.change()
	if err != nil {
		return nil, err
	}
	if err := s.State().MaySetValue(who, c.Where); err != nil {
		return nil, err
	}
	out := &PlacesChanged{Lines: []PlaceLine{{PlaceEdit: PlaceEdit{Do: DoSet, Kind: "value", ID: r.Value.Where}, Result: "changed",
		Note: r.Title}}}
	if out.Weighed, err = s.WeighValue(ctx, c); err != nil || preview {
		return out, err
	}
	if err := s.SetValue(ctx, who.Name, why, c); err != nil {
		return nil, err
	}
	_, err = s.onRequest(ctx, who, r.ID, func(r *Request) error {
		r.State, r.Closer, r.Closed, r.Heard = RequestWorks, who.Name, s.Now().String(), false
		return nil
	})
	return out, err
}

// valueDone reports whether a place says of a rule what somebody asked for.
func (s *Service) valueDone(ctx context.Context, v *AskedValue) (bool, error) {
	c, err := v.change()
	if err != nil {
		return false, nil
	}
	rule, value, err := c.parse()
	var bad *Invalid
	if errors.As(err, &bad) || errors.Is(err, ErrNotFound) { // what it asks for can no longer be read
		return false, nil
	}
	if err != nil {
		return false, err
	}
	set, _, err := s.Values(ctx, c.Where)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return saysIn(set, rule.ID) == value, nil
}

// saysIn returns what a list of values says of a rule; Unset for nothing.
func saysIn(set []world.Setting, rule catalogue.RuleID) catalogue.Value {
	for _, x := range set {
		if x.Rule == rule && !x.Held {
			return x.Value
		}
	}
	return catalogue.Unset
}

package api

import (
	"context"
	"encoding/json"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/pattern"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// ChangePlaces makes, changes, closes and removes entries of inventory.
func (s *server) ChangePlaces(ctx context.Context, r apigen.ChangePlacesRequestObject) (apigen.ChangePlacesResponseObject, error) {
	edits, err := editsIn(r.Body.Changes)
	if err != nil {
		return nil, err
	}
	preview := r.Params.Preview != nil && *r.Params.Preview
	x, err := s.Service.EditPlaces(ctx, whoIs(ctx), cause(r.Body.Why), edits, preview)
	if err != nil {
		return nil, err
	}
	return apigen.ChangePlaces200JSONResponse(placesOut(x, preview)), nil
}

func editsIn(list []contract.PlaceEdit) ([]service.PlaceEdit, error) {
	edits := make([]service.PlaceEdit, 0, len(list))
	for _, c := range list {
		e := service.PlaceEdit{Do: string(c.Do), Kind: string(c.Kind), ID: opt(c.Id), Pattern: opt(c.Pattern)}
		if c.Fields != nil {
			var err error
			if e.Fields, err = json.Marshal(*c.Fields); err != nil {
				return nil, err
			}
		}
		edits = append(edits, e)
	}
	return edits, nil
}

func editsOut(list []service.PlaceEdit) ([]contract.PlaceEdit, error) {
	out := make([]contract.PlaceEdit, 0, len(list))
	for _, e := range list {
		c := contract.PlaceEdit{Do: contract.PlaceEditDo(e.Do), Kind: contract.PlaceKind(e.Kind), Id: some(e.ID), Pattern: some(e.Pattern)}
		if len(e.Fields) > 0 {
			fields := map[string]any{}
			if err := json.Unmarshal(e.Fields, &fields); err != nil {
				return nil, err
			}
			c.Fields = &fields
		}
		out = append(out, c)
	}
	return out, nil
}

func placesOut(x *service.PlacesChanged, preview bool) contract.PlacesChanged {
	out := contract.PlacesChanged{Preview: preview, Refused: x.Refused, Lines: []contract.PlaceLine{}}
	for _, l := range x.Lines {
		var ask *contract.Question
		if q := l.Ask; q != nil {
			ask = &contract.Question{Subject: q.Subject.String(), Action: q.Action.String(), Resource: q.Resource.String()}
			if !q.Address.IsZero() {
				ask.Context = &contract.QuestionContext{Address: ptr(q.Address.String())}
			}
		}
		out.Lines = append(out.Lines, contract.PlaceLine{
			Note:   some(l.Note),
			Ask:    ask,
			Do:     l.Do,
			Kind:   l.Kind,
			Id:     l.ID,
			Result: contract.PlaceLineResult(l.Result),
			Field:  some(l.Field),
			Value:  some(l.Value),
			Cause:  some(l.Cause),
		})
	}
	if x.Weighed != nil {
		out.Weighed = ptr(weighedOut(x.Weighed))
	}
	if x.Change > 0 {
		out.Change = ptr(int64(x.Change))
	}
	return out
}

// Patterns lists ready-made kinds of space.
func (s *server) Patterns(ctx context.Context, _ apigen.PatternsRequestObject) (apigen.PatternsResponseObject, error) {
	st := s.state(ctx)
	out := apigen.Patterns200JSONResponse{Patterns: []contract.Pattern{}}
	for i := range pattern.All() {
		p := &pattern.All()[i]
		x := contract.Pattern{
			Name:  p.Name,
			Title: p.Title,
			Says:  p.Says,
			Kind:  world.SpaceKindNames[p.Kind],
			Role:  p.Role.String(),
			Each:  p.Each,
			Rules: []contract.PatternRule{},
		}
		for _, r := range p.Rules {
			rule := r.Rule.Get()
			limit, _, _, _ := st.RuleState(r.Rule)
			x.Rules = append(x.Rules, contract.PatternRule{
				Rule:     rule.Name,
				Value:    rule.Scale.Format(r.Value),
				Sentence: rule.Sentence(r.Value),
				Can:      !rule.Scale.Looser(r.Value, limit),
			})
		}
		x.Items = []struct {
			Kind string `json:"kind"`
			Name string `json:"name"`
		}{}
		for _, it := range p.Items {
			x.Items = append(x.Items, struct {
				Kind string `json:"kind"`
				Name string `json:"name"`
			}{it.Kind.String(), it.Name})
		}
		out.Patterns = append(out.Patterns, x)
	}
	return out, nil
}

// UndoChange takes a change back.
func (s *server) UndoChange(ctx context.Context, r apigen.UndoChangeRequestObject) (apigen.UndoChangeResponseObject, error) {
	preview := r.Params.Preview != nil && *r.Params.Preview
	x, err := s.Service.Undo(ctx, whoIs(ctx), uint64(r.Seq), cause(r.Body.Why), preview)
	if err != nil {
		return nil, err
	}
	return apigen.UndoChange200JSONResponse(placesOut(x, preview)), nil
}

// nameRefs says what the people and spaces that an entry names are called.
func (s *server) nameRefs(ctx context.Context, kind string, x *contract.PlaceEntry) {
	st := s.state(ctx)
	names := map[string]string{}
	note := func(kind catalogue.ResourceKind, id string) {
		if n := st.NameOf(world.Resource{Kind: kind, ID: id}); n != "" {
			names[id] = n
		}
	}
	for field, kind := range map[string]catalogue.ResourceKind{"host": catalogue.Person, "mailbox": catalogue.Person,
		"person": catalogue.Person, "space": catalogue.Space, "owners": catalogue.Person} {
		switch v := x.Fields[field].(type) {
		case string:
			note(kind, v)
		case []any:
			for _, id := range v {
				if id, ok := id.(string); ok {
					note(kind, id)
				}
			}
		}
	}
	if len(names) > 0 {
		x.Names = &names
	}
	if ids, ok := x.Fields["sign_in_lists"].([]any); ok {
		for _, id := range ids {
			if id, ok := id.(string); ok {
				for _, n := range st.Meant("domain_list", id, 1) {
					names[id] = n.Name
				}
			}
		}
	}
	if len(names) > 0 {
		x.Names = &names
	}
	if kind == "group" && whoIs(ctx).SeesMembers() {
		in := []string{}
		for _, id := range st.PeopleIn(x.Id) {
			name := st.NameOf(world.Resource{Kind: catalogue.Person, ID: id})
			if name == "" {
				name = id
			}
			in = append(in, name)
		}
		x.People = &in
	}
}

// ListPlaces lists entries of one kind.
func (s *server) ListPlaces(ctx context.Context, r apigen.ListPlacesRequestObject) (apigen.ListPlacesResponseObject, error) {
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	limit := pageSize(r.Params.Limit, 100)
	list, err := s.Service.Places(ctx, whoIs(ctx), string(r.Kind), opt(r.Params.Q), opt(r.Params.Id), after, limit+1)
	if err != nil {
		return nil, err
	}
	out := apigen.ListPlaces200JSONResponse{Entries: []contract.PlaceEntry{}}
	for i, e := range list {
		if i == limit {
			out.Next = cursor(list[i-1].ID)
			break
		}
		x := contract.PlaceEntry{Id: e.ID}
		if err := json.Unmarshal(e.Doc, &x.Fields); err != nil {
			return nil, err
		}
		s.nameRefs(ctx, string(r.Kind), &x)
		out.Entries = append(out.Entries, x)
	}
	return out, nil
}

package api

import (
	"context"
	"strings"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/may"
)

// Find looks for rules, guests, partners, people, spaces and meetings by everyday words. Of each kind
// come the best few; members find what is theirs.
func (s *server) Find(ctx context.Context, r apigen.FindRequestObject) (apigen.FindResponseObject, error) {
	const ofEach = 5
	st, me := s.state(ctx), whoIs(ctx)
	q := strings.TrimSpace(r.Params.Q)
	out := apigen.Find200JSONResponse{Found: []contract.FoundThing{}}
	add := func(kind, id, name, detail string) {
		if name == "" {
			name = id
		}
		out.Found = append(out.Found, contract.FoundThing{Kind: contract.FoundThingKind(kind), Id: id, Name: name, Detail: some(detail)})
	}
	for _, kind := range []string{"space", "meeting", "person", "partner"} {
		n := 0
		for _, x := range st.Meant(kind, q, 200) {
			if e := me.Finds(kind); e == may.Nothing || e == may.Theirs && !s.Service.Theirs(st, me.Person, kind, x.Value) {
				continue
			}
			if n++; n > ofEach {
				break
			}
			add(kind, x.Value, x.Name, "")
		}
	}
	if me.Finds("guest") == may.Everything {
		for _, x := range st.Find(q, ofEach, "who") {
			if strings.Contains(x.Value, "@") && !strings.HasPrefix(x.Value, "*@") {
				add("guest", x.Value, x.Name, x.Value)
			}
		}
	}
	if me.Finds("rule") == may.Everything {
		for i, rule := range catalogue.FindAny(q) {
			if i == 2*ofEach {
				break
			}
			_, def, _, _ := st.RuleState(rule.ID)
			add("rule", rule.Name, rule.Title, rule.Sentence(def))
		}
	}
	return out, nil
}

package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/sheet"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// mayEdit says whether the caller may set values at a place: administrators
// everywhere, keepers at partners, members in their own spaces and meetings.
func (s *server) mayEdit(ctx context.Context, st *service.State, w service.Where) error {
	switch me := whoIs(ctx); {
	case me.Role == service.Administrator, me.Role == service.Keeper && w.Partner != "":
		return nil
	case me.Role == service.Member && w.Partner == "" && st.OwnedBy(me.Person, w.Resource):
		return nil
	case me.Role == service.Member:
		return fmt.Errorf("%w: members set values in spaces they own and meetings they host", errForbidden)
	}
	return fmt.Errorf("%w: keepers set values at partners; an administrator sets them elsewhere", errForbidden)
}

// maySee keeps a member to own spaces and meetings.
func (s *server) maySee(ctx context.Context, st *service.State, w service.Where) error {
	if me := whoIs(ctx); me.Role == service.Member && (w.Partner != "" || !st.BelongsTo(me.Person, w.Resource)) {
		return fmt.Errorf("%w: members see their own spaces and meetings", errForbidden)
	}
	return nil
}

func (s *server) at(st *service.State, text *string) (moment.Moment, error) {
	now := s.Service.Now()
	if t := opt(text); t != "" {
		at, err := moment.ParseLoose(t, now, st.Zone())
		if err != nil {
			return 0, &engine.WrongUse{Field: "at", Value: t, Reason: err.Error()}
		}
		return at, nil
	}
	return now, nil
}

// context turns a place into what a chain is asked for.
func chainContext(st *service.State, w service.Where, at moment.Moment) (engine.Context, error) {
	c := engine.Context{Resource: engine.NoResource, At: at}
	if w.Partner == "" {
		c.Resource = w.Resource
		return c, nil
	}
	p, err := st.Partner(w.Partner)
	if err == nil && len(p.Domains) > 0 {
		c.Party = "*@" + p.Domains[0].Domain.String()
	}
	return c, err
}

func (s *server) Choices(ctx context.Context, r apigen.ChoicesRequestObject) (apigen.ChoicesResponseObject, error) {
	st := s.state(ctx)
	at, err := s.at(st, r.Params.At)
	if err != nil {
		return nil, err
	}
	if text := opt(r.Params.Where); text != "" {
		w, err := service.ParseWhere(text)
		if err != nil {
			return nil, err
		}
		if err := s.maySee(ctx, st, w); err != nil {
			return nil, err
		}
	} else if whoIs(ctx).Role == service.Member {
		return nil, fmt.Errorf("%w: members see what can be chosen in their own spaces and meetings", errForbidden)
	}
	x, err := st.Choosing(r.Params.Rule, opt(r.Params.Where), opt(r.Params.Person), opt(r.Params.Party), at)
	if err != nil {
		return nil, err
	}
	return apigen.Choices200JSONResponse(answer.Choices(st.Snapshot, x.Chain, x.Layer, x.Where, x.About)), nil
}

// values writes what a place sets and may set.
func (s *server) values(ctx context.Context, st *service.State, w service.Where) (contract.Values, error) {
	set, etag, err := s.Service.Values(ctx, w)
	if err != nil {
		return contract.Values{}, err
	}
	is, layer := w.Layer()
	out := contract.Values{Where: w.String(), Layer: layer.String(), Rules: []contract.ValueRow{}, Etag: etag}
	if w.Partner == "" {
		out.Name = some(st.NameOf(w.Resource))
	} else if p, err := st.Partner(w.Partner); err == nil {
		out.Name = some(p.Name)
	}
	c, err := chainContext(st, w, s.Service.Now())
	if err != nil {
		return out, err
	}
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		var said *world.Setting
		for j := range set {
			if set[j].Rule == r.ID {
				said = &set[j]
			}
		}
		if r.Layers&is == 0 || said == nil && !fits(r, w.Resource) {
			continue
		}
		chain, err := st.ChainOf(r.ID, c)
		if err != nil {
			return out, err
		}
		out.Rules = append(out.Rules, answer.ValueRow(st.Snapshot, chain, layer, said, c.Resource))
	}
	return out, nil
}

// fits keeps from an item or meeting the rules that no action asks about its kind.
func fits(r *catalogue.Rule, x world.Resource) bool {
	if !x.Kind.IsItem() && x.Kind != catalogue.Meeting {
		return true
	}
	by := catalogue.AskedBy(r.ID)
	for _, a := range by {
		if a.Get().Takes(x.Kind) {
			return true
		}
	}
	return by == nil
}

func (s *server) Values(ctx context.Context, r apigen.ValuesRequestObject) (apigen.ValuesResponseObject, error) {
	w, err := service.ParseWhere(r.Where)
	if err != nil {
		return nil, err
	}
	st := s.state(ctx)
	if err := s.maySee(ctx, st, w); err != nil {
		return nil, err
	}
	x, err := s.values(ctx, st, w)
	return apigen.Values200JSONResponse{Body: x, Headers: apigen.Values200ResponseHeaders{ETag: &x.Etag}}, err
}

func weighedOut(x *service.ValueWeighed) contract.ValueWeighed {
	moves := func(m engine.Moves) contract.Moves {
		return contract.Moves{Gained: m.Gained, Lost: m.Lost, Otherwise: m.Otherwise}
	}
	return contract.ValueWeighed{Nothing: x.Nothing(), Loosens: x.Loosens, Was: some(x.Was), Becomes: some(x.Becomes), Parties: moves(x.Parties), Granted: moves(x.Granted), Wide: moves(x.Wide),
		Newcomers: append([]string{}, x.Newcomers...), NotCounted: append([]string{}, x.NotCounted...), Lines: &x.Lines}
}

func (s *server) setValue(ctx context.Context, where, rule, value, why string, held bool, ifMatch string, preview *bool) (contract.Values, error) {
	w, err := service.ParseWhere(where)
	if err != nil {
		return contract.Values{}, err
	}
	if err := s.mayEdit(ctx, s.state(ctx), w); err != nil {
		return contract.Values{}, err
	}
	if held && whoIs(ctx).Role == service.Member {
		return contract.Values{}, &service.Invalid{Field: "held", Value: "true", Reason: "an administrator gives values as held back"}
	}
	c := service.ValueChange{Where: w, Rule: rule, Value: value, Held: held, IfMatch: ifMatch}
	if preview != nil && *preview {
		x, err := s.Service.WeighValue(ctx, c)
		if err != nil {
			return contract.Values{}, err
		}
		out, err := s.values(ctx, s.state(ctx), w)
		out.Weighed = ptr(weighedOut(x))
		return out, err
	}
	if err := s.Service.SetValue(ctx, whoIs(ctx).Name, why, c); err != nil {
		return contract.Values{}, err
	}
	return s.values(ctx, s.state(ctx), w)
}

func (s *server) SetValue(ctx context.Context, r apigen.SetValueRequestObject) (apigen.SetValueResponseObject, error) {
	x, err := s.setValue(ctx, r.Where, r.Rule, r.Body.Value, cause(r.Body.Why), r.Body.Held != nil && *r.Body.Held, opt(r.Params.IfMatch), r.Params.Preview)
	return apigen.SetValue200JSONResponse{Body: x, Headers: apigen.SetValue200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) UnsetValue(ctx context.Context, r apigen.UnsetValueRequestObject) (apigen.UnsetValueResponseObject, error) {
	x, err := s.setValue(ctx, r.Where, r.Rule, "", opt(r.Params.Why), false, opt(r.Params.IfMatch), r.Params.Preview)
	return apigen.UnsetValue200JSONResponse{Body: x, Headers: apigen.UnsetValue200ResponseHeaders{ETag: &x.Etag}}, err
}

// exceptionDoc writes an exception as the file format has it.
func exceptionDoc(c *contract.ExceptionChange) ([]byte, error) {
	rules, err := rulesDoc(c.Rules)
	if err != nil {
		return nil, err
	}
	m := map[string]any{"id": c.Id, "rules": rules}
	for k, v := range map[string]*string{"from": c.From, "until": c.Until, "reason": c.Reason} {
		if opt(v) != "" {
			m[k] = *v
		}
	}
	for k, v := range map[string]*[]string{"people": c.People, "groups": c.Groups, "parties": c.Parties} {
		if v != nil && (len(*v) > 0 || k == "parties") {
			m[k] = *v
		}
	}
	return json.Marshal(m)
}

func (s *server) exception(ctx context.Context, id string) (contract.Exception, error) {
	st := s.state(ctx)
	x, i, err := st.Exception(id)
	if err != nil {
		return contract.Exception{}, err
	}
	return answer.Exception(st.Snapshot, x, i, s.Service.Now(), service.ExceptionEtag(x)), nil
}

func (s *server) ListExceptions(ctx context.Context, r apigen.ListExceptionsRequestObject) (apigen.ListExceptionsResponseObject, error) {
	return apigen.ListExceptions200JSONResponse{Exceptions: s.exceptions(ctx, opt(r.Params.State), opt(r.Params.Person))}, nil
}

func (s *server) exceptions(ctx context.Context, state, person string) []contract.Exception {
	st := s.state(ctx)
	out := []contract.Exception{}
	for i := range st.Policy().Exceptions {
		x := &st.Policy().Exceptions[i]
		if person != "" {
			is := false
			for _, id := range st.People(i) {
				is = is || id == person
			}
			if !is {
				continue
			}
		}
		e := answer.Exception(st.Snapshot, x, i, s.Service.Now(), service.ExceptionEtag(x))
		if state == "" || string(e.State) == state {
			out = append(out, e)
		}
	}
	sort.SliceStable(out, func(i, j int) bool {
		rank := map[contract.ExceptionState]int{contract.ExceptionStateInForce: 0, contract.ExceptionStateAhead: 1, contract.ExceptionStateOver: 2}
		if a, b := rank[out[i].State], rank[out[j].State]; a != b {
			return a < b
		}
		return opt(out[i].Until) < opt(out[j].Until) && out[i].Until != nil
	})
	return out
}

func (s *server) GetException(ctx context.Context, r apigen.GetExceptionRequestObject) (apigen.GetExceptionResponseObject, error) {
	x, err := s.exception(ctx, r.Id)
	return apigen.GetException200JSONResponse{Body: x, Headers: apigen.GetException200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) AddException(ctx context.Context, r apigen.AddExceptionRequestObject) (apigen.AddExceptionResponseObject, error) {
	doc, err := exceptionDoc(r.Body)
	if err != nil {
		return nil, err
	}
	if err := s.Service.PutException(ctx, whoIs(ctx).Name, cause(r.Body.Why), doc, r.Body.Id, true, ""); err != nil {
		return nil, err
	}
	x, err := s.exception(ctx, r.Body.Id)
	return apigen.AddException201JSONResponse{Body: x, Headers: apigen.AddException201ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) SetException(ctx context.Context, r apigen.SetExceptionRequestObject) (apigen.SetExceptionResponseObject, error) {
	if r.Body.Id != r.Id {
		return nil, &service.Invalid{Field: "id", Value: r.Body.Id, Reason: "the address says " + r.Id + "; an id does not change"}
	}
	doc, err := exceptionDoc(r.Body)
	if err != nil {
		return nil, err
	}
	if err := s.Service.PutException(ctx, whoIs(ctx).Name, cause(r.Body.Why), doc, r.Id, false, opt(r.Params.IfMatch)); err != nil {
		return nil, err
	}
	x, err := s.exception(ctx, r.Id)
	return apigen.SetException200JSONResponse{Body: x, Headers: apigen.SetException200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) EndException(ctx context.Context, r apigen.EndExceptionRequestObject) (apigen.EndExceptionResponseObject, error) {
	return apigen.EndException204Response{}, s.Service.EndException(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id, opt(r.Params.IfMatch))
}

func (s *server) ProlongException(ctx context.Context, r apigen.ProlongExceptionRequestObject) (apigen.ProlongExceptionResponseObject, error) {
	if err := s.Service.ProlongException(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id, r.Body.Until, opt(r.Params.IfMatch)); err != nil {
		return nil, err
	}
	x, err := s.exception(ctx, r.Id)
	return apigen.ProlongException200JSONResponse{Body: x, Headers: apigen.ProlongException200ResponseHeaders{ETag: &x.Etag}}, err
}

// The columns of a list of exceptions. Names within a column are separated by
// blanks, values by semicolons: rule=value;rule=value.
var exceptionColumns = []string{"id", "people", "groups", "parties", "rules", "from", "until", "reason"}

const maxImport = 20000

func (s *server) ImportExceptions(ctx context.Context, r apigen.ImportExceptionsRequestObject) (apigen.ImportExceptionsResponseObject, error) {
	rd := sheet.NewReader(r.Body)
	head, err := rd.Read()
	if err != nil {
		return nil, &service.Invalid{Field: "body", Value: "", Reason: "the first line names the columns: " + strings.Join(exceptionColumns, ",")}
	}
	at := map[string]int{}
	for i, h := range head {
		h = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))
		known := false
		for _, c := range exceptionColumns {
			known = known || c == h
		}
		if !known {
			return nil, &service.Invalid{Field: "column", Value: h, Reason: "the columns are " + strings.Join(exceptionColumns, ",")}
		}
		at[h] = i
	}
	for _, need := range []string{"id", "rules"} {
		if _, ok := at[need]; !ok {
			return nil, &service.Invalid{Field: "column", Value: need, Reason: "this column is needed"}
		}
	}
	var docs [][]byte
	var lines []service.ImportLine
	for {
		f, err := rd.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		n, _ := rd.FieldPos(0)
		if err != nil {
			var pe *csv.ParseError
			if errors.As(err, &pe) {
				n = pe.Line
			}
			docs, lines = append(docs, nil), append(lines, service.ImportLine{Line: n, Result: "refused", Cause: err.Error()})
			break // what follows cannot be told apart
		}
		if len(lines) == maxImport {
			return nil, &service.Invalid{Field: "body", Value: "", Reason: fmt.Sprintf("at most %d lines at a time", maxImport)}
		}
		cell := func(name string) string {
			if i, ok := at[name]; ok && i < len(f) {
				return strings.TrimSpace(f[i])
			}
			return ""
		}
		l := service.ImportLine{Line: n, ID: cell("id")}
		doc, err := exceptionRow(cell)
		if err != nil {
			l.Result, l.Cause = "refused", err.Error()
		}
		docs, lines = append(docs, doc), append(lines, l)
	}
	preview := r.Params.Preview != nil && *r.Params.Preview
	written, err := s.Service.ImportExceptions(ctx, whoIs(ctx).Name, opt(r.Params.Why), docs, lines, r.Params.OnlyGood != nil && *r.Params.OnlyGood, preview)
	if err != nil {
		return nil, err
	}
	out := apigen.ImportExceptions200JSONResponse{Lines: []contract.ImportLine{}, Written: written, Preview: preview}
	for _, l := range lines {
		out.Lines = append(out.Lines, contract.ImportLine{Line: l.Line, Id: l.ID, Result: contract.ImportLineResult(l.Result), Cause: some(l.Cause)})
	}
	return out, nil
}

func exceptionRow(cell func(string) string) ([]byte, error) {
	c := contract.ExceptionChange{Id: cell("id"), Rules: map[string]contract.SetValue{}, From: some(cell("from")), Until: some(cell("until")), Reason: some(cell("reason"))}
	if c.Id == "" {
		return nil, &service.Invalid{Field: "id", Value: "", Reason: "every exception has an id"}
	}
	for _, kv := range strings.Split(cell("rules"), ";") {
		k, v, ok := strings.Cut(strings.TrimSpace(kv), "=")
		if !ok {
			return nil, &service.Invalid{Field: "rules", Value: kv, Reason: "write rule=value, several separated by semicolons"}
		}
		c.Rules[strings.TrimSpace(k)] = contract.SetValue{Value: strings.TrimSpace(v)}
	}
	list := func(name string) *[]string {
		if f := strings.Fields(cell(name)); len(f) > 0 {
			return &f
		}
		return nil
	}
	c.People, c.Groups, c.Parties = list("people"), list("groups"), list("parties")
	return exceptionDoc(&c)
}

func (s *server) ListSpaces(ctx context.Context, r apigen.ListSpacesRequestObject) (apigen.ListSpacesResponseObject, error) {
	st := s.state(ctx)
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	q, limit := strings.ToLower(opt(r.Params.Q)), pageSize(r.Params.Limit, 100)
	me := whoIs(ctx)
	out := apigen.ListSpaces200JSONResponse{Spaces: []contract.SpaceBrief{}}
	counts := st.CountsInSpaces(s.Service.Now())
	err = s.Service.Spaces(ctx, func(x *world.Space) error {
		if x.ID <= after || out.Next != "" || q != "" && !strings.Contains(x.ID, q) && !strings.Contains(strings.ToLower(x.Name), q) {
			return nil
		}
		if me.Role == service.Member && !st.BelongsTo(me.Person, world.Resource{Kind: catalogue.Space, ID: x.ID}) {
			return nil
		}
		if len(out.Spaces) == limit {
			out.Next = cursor(out.Spaces[limit-1].Id)
			return nil
		}
		n := counts[x.ID]
		out.Spaces = append(out.Spaces, contract.SpaceBrief{Id: x.ID, Name: x.Name, Kind: world.SpaceKindNames[x.Kind], Owners: append([]string{}, x.Owners...), Items: n.Items, Set: len(x.Rules), Outside: n.Parties})
		return nil
	})
	return out, err
}

func (s *server) person(st *service.State, id string) contract.NamedRef {
	return contract.NamedRef{Id: id, Name: st.NameOf(world.Resource{Kind: catalogue.Person, ID: id})}
}

const maxGiven = 2000

func (s *server) GetSpace(ctx context.Context, r apigen.GetSpaceRequestObject) (apigen.GetSpaceResponseObject, error) {
	st := s.state(ctx)
	w := service.Where{Resource: world.Resource{Kind: catalogue.Space, ID: r.Id}}
	if err := s.maySee(ctx, st, w); err != nil {
		return nil, err
	}
	x, err := s.Service.Space(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	out := apigen.GetSpace200JSONResponse{Id: x.ID, Name: x.Name, Kind: world.SpaceKindNames[x.Kind], Joinable: x.Joinable, HouseLicence: x.HouseLicence, Owners: []contract.NamedRef{}, Members: []contract.NamedRef{},
		Items: []contract.ItemView{}, Meetings: []contract.NamedRef{}, Given: []contract.GivenRole{}, Findings: []contract.Finding{}, Editable: s.mayEdit(ctx, st, w) == nil}
	for _, o := range x.Owners {
		out.Owners = append(out.Owners, s.person(st, o))
	}
	for _, m := range x.Members {
		if m.Group != "" {
			out.Members = append(out.Members, contract.NamedRef{Id: m.String(), Name: st.NameOfGroup(m.Group)})
		} else {
			out.Members = append(out.Members, s.person(st, m.Person))
		}
	}
	if x.Parties != nil {
		parties := []string{}
		for _, p := range x.Parties {
			parties = append(parties, p.String())
		}
		out.Parties = &parties
	}
	about := map[string]bool{w.String(): true}
	for i := range x.Items {
		it := &x.Items[i]
		about[it.Kind.String()+":"+it.ID] = true
		out.Items = append(out.Items, contract.ItemView{Id: it.ID, Kind: it.Kind.String(), Name: it.Name, Private: it.Private, Rules: answer.SetValues(it.Rules)})
	}
	if err := s.Service.Meetings(ctx, func(m *world.Meeting) error {
		if m.Space == x.ID {
			out.Meetings = append(out.Meetings, contract.NamedRef{Id: m.ID, Name: m.Name})
		}
		return nil
	}); err != nil {
		return nil, err
	}
	for i, g := range st.GivenIn(x.ID) {
		if i == maxGiven {
			break
		}
		out.Given = append(out.Given, answer.Given(st.Snapshot, &g, s.Service.Now()))
	}
	if out.Values, err = s.values(ctx, st, w); err != nil {
		return nil, err
	}
	out.Findings, err = s.about(ctx, about)
	return out, err
}

// about lists the open findings about any of some things.
func (s *server) about(ctx context.Context, things map[string]bool) ([]contract.Finding, error) {
	all, err := s.Service.Findings(ctx)
	out := []contract.Finding{}
	for i := range all {
		for _, a := range all[i].About {
			if things[a] && all[i].Accepted == nil {
				out = append(out, answer.Finding(&all[i].Finding, nil))
				break
			}
		}
	}
	return out, err
}

func personRoles(p *world.Person) []string {
	out := []string{}
	for i, n := range world.PersonRoleNames {
		if p.Roles&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return out
}

func (s *server) ListPeople(ctx context.Context, r apigen.ListPeopleRequestObject) (apigen.ListPeopleResponseObject, error) {
	st := s.state(ctx)
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	q, limit := strings.ToLower(opt(r.Params.Q)), pageSize(r.Params.Limit, 100)
	in := map[string]int{}
	now := s.Service.Now()
	for i := range st.Policy().Exceptions {
		if x := &st.Policy().Exceptions[i]; moment.Within(now, x.From, x.Until) {
			for _, id := range st.People(i) {
				in[id]++
			}
		}
	}
	out := apigen.ListPeople200JSONResponse{People: []contract.PersonBrief{}}
	err = s.Service.People(ctx, func(p *world.Person) error {
		if p.ID <= after || out.Next != "" || q != "" && !strings.Contains(p.ID, q) && !strings.Contains(strings.ToLower(p.Name), q) {
			return nil
		}
		if len(out.People) == limit {
			out.Next = cursor(out.People[limit-1].Id)
			return nil
		}
		out.People = append(out.People, contract.PersonBrief{Id: p.ID, Name: p.Name, Address: some(p.Address.String()), Groups: append([]string{}, p.Groups...), Roles: personRoles(p), Exceptions: in[p.ID]})
		return nil
	})
	return out, err
}

func (s *server) GetPerson(ctx context.Context, r apigen.GetPersonRequestObject) (apigen.GetPersonResponseObject, error) {
	st := s.state(ctx)
	if me := whoIs(ctx); me.Role == service.Member && me.Person != r.Id {
		return nil, fmt.Errorf("%w: members see themselves", errForbidden)
	}
	p, err := s.Service.Person(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	now := s.Service.Now()
	out := apigen.GetPerson200JSONResponse{Id: p.ID, Name: p.Name, Address: some(p.Address.String()), Language: some(p.Language), Left: said(p.Left), Groups: append([]string{}, p.Groups...), Roles: personRoles(&p), Owns: []contract.NamedRef{}, Hosts: []contract.NamedRef{},
		Exceptions: s.exceptions(ctx, "", p.ID), Rules: []contract.ValueRow{}, Contacts: []contract.ContactView{}, Forwarders: []contract.Forwarder{}, Reached: answer.ReachedBy(st.Snapshot, p.ID, now)}
	for _, id := range st.SpacesOf(p.ID) {
		out.Owns = append(out.Owns, contract.NamedRef{Id: id, Name: st.NameOf(world.Resource{Kind: catalogue.Space, ID: id})})
	}
	if err := s.Service.Meetings(ctx, func(m *world.Meeting) error {
		if m.Host == p.ID {
			out.Hosts = append(out.Hosts, contract.NamedRef{Id: m.ID, Name: m.Name})
		}
		return nil
	}); err != nil {
		return nil, err
	}
	for i := range catalogue.Rules() {
		rule := &catalogue.Rules()[i]
		if rule.Layers&catalogue.AtPeople == 0 {
			continue
		}
		chain, err := st.ChainOf(rule.ID, engine.Context{Person: p.ID, Resource: engine.NoResource, At: now})
		if err != nil {
			return nil, err
		}
		row := answer.ValueRow(st.Snapshot, chain, engine.PeopleLayer, nil, engine.NoResource)
		if v := chain.Steps[engine.PeopleLayer].Value; v != catalogue.Unset {
			row.Set = some(rule.Scale.Format(v))
		}
		out.Rules = append(out.Rules, row)
	}
	if err := s.Service.Contacts(ctx, p.ID, func(c *world.Contact) error {
		state := contract.ContactViewStateAsked
		if c.Accepted {
			state = contract.ContactViewStateAccepted
		}
		out.Contacts = append(out.Contacts, contract.ContactView{Party: c.Party.String(), State: state})
		return nil
	}); err != nil {
		return nil, err
	}
	if out.Forwarders, err = s.forwarders(ctx, p.ID); err != nil {
		return nil, err
	}
	about := map[string]bool{"person:" + p.ID: true, "mailbox:" + p.ID: true, "calendar:" + p.ID: true}
	for _, x := range out.Exceptions {
		about["exception:"+x.Id] = true
	}
	out.Findings, err = s.about(ctx, about)
	return out, err
}

func (s *server) forwarders(ctx context.Context, person string) ([]contract.Forwarder, error) {
	st, now := s.state(ctx), s.Service.Now()
	act, _ := catalogue.ActionByName("mail.forward")
	out := []contract.Forwarder{}
	err := s.Service.Forwarders(ctx, person, func(f *world.Forwarder) error {
		x := contract.Forwarder{Person: f.Mailbox, Name: some(st.NameOf(world.Resource{Kind: catalogue.Person, ID: f.Mailbox})), To: f.To.String(), KeepCopy: f.KeepCopy, SetBy: f.SetBy, Allowed: true, Text: "It stays at a domain of ours."}
		if !st.Match(f.To).Own {
			a, err := st.Explain(&engine.Question{Subject: engine.Who{Kind: engine.ByPerson, ID: f.Mailbox}, Action: act.ID, Resource: world.Resource{Kind: catalogue.Mailbox, ID: f.Mailbox}, At: now, Address: f.To, DropsCopy: !f.KeepCopy})
			if err != nil {
				return err
			}
			x.Allowed, x.Text = a.Yes(), a.DecidingCause().Text()
		}
		out = append(out, x)
		return nil
	})
	return out, err
}

func (s *server) ListForwarders(ctx context.Context, r apigen.ListForwardersRequestObject) (apigen.ListForwardersResponseObject, error) {
	out, err := s.forwarders(ctx, opt(r.Params.Person))
	return apigen.ListForwarders200JSONResponse{Forwarders: out}, err
}

func (s *server) RemoveForwarder(ctx context.Context, r apigen.RemoveForwarderRequestObject) (apigen.RemoveForwarderResponseObject, error) {
	if me := whoIs(ctx); me.Role == service.Member && me.Person != r.Person {
		return nil, fmt.Errorf("%w: members remove their own forwarders", errForbidden)
	}
	return apigen.RemoveForwarder204Response{}, s.Service.RemoveForwarder(ctx, whoIs(ctx).Name, opt(r.Params.Why), r.Person, r.Address)
}

func (s *server) ListLinks(ctx context.Context, r apigen.ListLinksRequestObject) (apigen.ListLinksResponseObject, error) {
	st, now := s.state(ctx), s.Service.Now()
	me, p := whoIs(ctx), r.Params
	after, err := readCursor(p.Cursor)
	if err != nil {
		return nil, err
	}
	limit := pageSize(p.Limit, 100)
	text := strings.ToLower(strings.TrimSpace(opt(p.Q)))
	out := apigen.ListLinks200JSONResponse{Links: []contract.Link{}}
	err = s.Service.Links(ctx, after, func(l *world.Link) (bool, error) {
		if item := opt(p.Item); item != "" && item != l.Item.String() || me.Role == service.Member && !st.BelongsTo(me.Person, l.Item) {
			return true, nil
		}
		if who := opt(p.Who); who != "" && (who == "bearer") != l.Bearer() || !linkHas(st.Snapshot, l, text) {
			return true, nil
		}
		x, err := linkOf(st.Snapshot, l, now)
		if err != nil {
			return false, err
		}
		if state := opt(p.State); state != "" && (state == "works") != x.Works {
			return true, nil
		}
		if len(out.Links) == limit {
			out.Next = cursor(out.Links[limit-1].Id)
			return false, nil
		}
		out.Links = append(out.Links, x)
		return true, nil
	})
	return out, err
}

// linkHas reports whether a text stands in what is told of a link.
func linkHas(st *engine.Snapshot, l *world.Link, text string) bool {
	has := func(s string) bool { return strings.Contains(strings.ToLower(s), text) }
	for _, a := range l.For {
		if has(a.String()) {
			return true
		}
	}
	return has(l.ID) || has(l.Item.String()) || has(l.By) || has(st.NameOf(l.Item))
}

// linkOf writes a link as a list of links tells it, and whether whoever holds it, or those
// it names, can open its item with it now.
func linkOf(st *engine.Snapshot, l *world.Link, now moment.Moment) (contract.Link, error) {
	x := contract.Link{Id: l.ID, Item: l.Item.String(), ItemName: some(st.NameOf(l.Item)), Bearer: l.Bearer(), Right: l.Right.String(), Created: l.Created.String(), Until: answer.Moment(l.Until), Download: l.Download, Password: l.Password, By: some(l.By)}
	right, until, err := st.LinkCounts(l)
	if err != nil {
		return x, err
	}
	x.EffectiveRight, x.EffectiveUntil = ptr(right.String()), answer.Moment(until)
	act, _ := catalogue.ActionByName("files.open")
	q := engine.Question{Subject: engine.Who{Kind: engine.ByLinkID, ID: l.ID}, Action: act.ID, Resource: l.Item, At: now}
	ask := func() (bool, string, error) {
		a, err := st.Explain(&q)
		var wrong *engine.WrongUse
		if errors.As(err, &wrong) { // on something that links do not open
			return false, err.Error(), nil
		}
		if err != nil {
			return false, "", err
		}
		return a.Yes(), a.DecidingCause().Text(), nil
	}
	if l.Bearer() {
		x.Works, x.Text, err = ask()
		return x, err
	}
	names, opens, no := []string{}, 0, ""
	for _, a := range l.For {
		names = append(names, a.String())
		if !moment.Within(now, l.Created, l.Until) {
			continue
		}
		q.Subject = engine.Who{Address: a}
		yes, text, err := ask()
		if err != nil {
			return x, err
		}
		if yes {
			opens++
		} else if no == "" {
			no = text
		}
	}
	x.For, x.Works = &names, opens > 0
	switch {
	case now >= l.Until:
		x.Text = "It ended."
	case now < l.Created:
		x.Text = "It begins later."
	case opens == len(names):
		x.Text = "Whom it names can open it."
	default:
		x.Text = strings.TrimSpace(fmt.Sprintf("%d of %d whom it names can open it. %s", opens, len(names), no))
	}
	return x, nil
}

func (s *server) MakeLink(ctx context.Context, r apigen.MakeLinkRequestObject) (apigen.MakeLinkResponseObject, error) {
	b := r.Body
	preview := r.Params.Preview != nil && *r.Params.Preview
	x, err := s.Service.MakeLink(ctx, whoIs(ctx), service.LinkAsked{ID: opt(b.Id), Item: b.Item, Bearer: b.Bearer != nil && *b.Bearer, For: opt(b.For), Right: string(opt(b.Right)), Until: opt(b.Until),
		Download: b.Download == nil || *b.Download, Password: b.Password != nil && *b.Password, By: opt(b.By), Why: cause(b.Why)}, preview)
	if err != nil {
		return nil, err
	}
	out := apigen.MakeLink200JSONResponse{Made: x.Made, Refused: answer.CheckCauses(x.Refused), Lines: invitedLines(x.Lines)}
	other := ""
	if x.Link.Bearer() {
		other = "link:" + x.Link.ID
	}
	out.Opens = opens(x.Opens, other)
	if out.Link, err = linkOf(x.After, &x.Link, s.Service.Now()); err != nil {
		return nil, err
	}
	if preview {
		v := &answer.View{Snapshot: x.After, At: s.Service.Now()}
		out.Residual = some(v.ResidualRisk())
	}
	return out, nil
}

func (s *server) EndLink(ctx context.Context, r apigen.EndLinkRequestObject) (apigen.EndLinkResponseObject, error) {
	st, me := s.state(ctx), whoIs(ctx)
	may := func(l *world.Link) error {
		if me.Role == service.Member && l.By != me.Person && !st.OwnedBy(me.Person, l.Item) {
			return fmt.Errorf("%w: members end links they made and links in spaces they own", errForbidden)
		}
		return nil
	}
	if r.Params.Preview != nil && *r.Params.Preview {
		w, err := s.Service.WeighLinkEnd(ctx, r.Id, may)
		if err != nil {
			return nil, err
		}
		return apigen.EndLink200JSONResponse(weighedOut(w)), nil
	}
	return apigen.EndLink204Response{}, s.Service.EndLink(ctx, me.Name, cause(r.Body.Why), r.Id, may)
}

func (s *server) ListFindings(ctx context.Context, r apigen.ListFindingsRequestObject) (apigen.ListFindingsResponseObject, error) {
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	kind := opt(r.Params.Kind)
	if _, ok := finding.KindByName(kind); !ok && kind != "" {
		return nil, &service.Invalid{Field: "kind", Value: kind, Reason: "there is no such kind of finding; those that were noticed stand in kinds"}
	}
	all, err := s.Service.Findings(ctx)
	if err != nil {
		return nil, err
	}
	limit := pageSize(r.Params.Limit, 100)
	state := opt(r.Params.State)
	hints := r.Params.Hints != nil && *r.Params.Hints
	out := apigen.ListFindings200JSONResponse{Findings: []contract.Finding{}, Kinds: []contract.FindingKind{}}
	count := map[string]*contract.FindingKind{}
	started := after == ""
	for i := range all {
		f := &all[i]
		if a := opt(r.Params.About); a != "" {
			is := false
			for _, x := range f.About {
				is = is || x == a
			}
			if !is {
				continue
			}
		}
		k := count[f.Kind]
		if k == nil {
			entry, _ := finding.KindByName(f.Kind)
			k = &contract.FindingKind{Kind: f.Kind, Title: entry.Title, Do: entry.Do, Hint: entry.Hint}
			count[f.Kind] = k
		}
		if f.Accepted != nil {
			k.Accepted++
		} else {
			k.Open++
		}
		entry, _ := finding.KindByName(f.Kind)
		switch {
		case kind != "" && f.Kind != kind, kind == "" && entry.Hint && !hints:
			continue
		case state == "accepted" && f.Accepted == nil, state != "accepted" && state != "all" && f.Accepted != nil:
			continue
		}
		if !started {
			started = f.ID == after
			continue
		}
		if len(out.Findings) == limit {
			if out.Next == "" {
				out.Next = cursor(out.Findings[limit-1].Id)
			}
			continue
		}
		out.Findings = append(out.Findings, answer.Finding(&f.Finding, f.Accepted))
	}
	for _, k := range finding.Kinds() {
		if c := count[k.Name]; c != nil {
			out.Kinds = append(out.Kinds, *c)
		}
	}
	return out, nil
}

func (s *server) AcceptFinding(ctx context.Context, r apigen.AcceptFindingRequestObject) (apigen.AcceptFindingResponseObject, error) {
	return apigen.AcceptFinding204Response{}, s.Service.AcceptFinding(ctx, whoIs(ctx).Name, r.Body.Id, r.Body.Reason, r.Body.Until)
}

func (s *server) ReopenFinding(ctx context.Context, r apigen.ReopenFindingRequestObject) (apigen.ReopenFindingResponseObject, error) {
	return apigen.ReopenFinding204Response{}, s.Service.ReopenFinding(ctx, whoIs(ctx).Name, opt(r.Params.Why), r.Params.Id)
}

func (s *server) Would(ctx context.Context, r apigen.WouldRequestObject) (apigen.WouldResponseObject, error) {
	st := s.state(ctx)
	x, at, err := answer.Suppose(r.Body, st.Snapshot, s.Service.Now())
	if err != nil {
		return nil, err
	}
	if me := whoIs(ctx); me.Role == service.Member {
		own := len(x.Groups) == 0
		for _, g := range x.Grants {
			own = own && st.BelongsTo(me.Person, g.Resource)
		}
		if x.Link != nil {
			own = st.BelongsTo(me.Person, x.Link.Item)
		}
		if !own {
			return nil, fmt.Errorf("%w: members ask about their own spaces", errForbidden)
		}
	}
	lines, kind, err := st.Would(x, at)
	if err != nil {
		return nil, err
	}
	who := x.Address.String()
	if x.Link != nil {
		who = "whoever holds the link"
	}
	return apigen.Would200JSONResponse(answer.Would(who, kind, at, lines, st.Head.Revision)), nil
}
